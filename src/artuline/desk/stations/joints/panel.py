"""Details of Joints: the limit dial, kind and frame, soft limits, springs and breaking, proposals, links."""

import math
from collections.abc import Callable
from functools import partial

import numpy as np

from artuline.core.scene import edit
from artuline.core.scene.model import AxisRange, Body, Figure, Joint, Link, Scene
from artuline.core.setup.hierarchy import tree_parents
from artuline.core.setup.limits import soft_give
from artuline.core.setup.mirror import mirror_pairs
from artuline.desk.form import Form
from artuline.desk.stations.joints.commands import Commands
from artuline.desk.stations.joints.dial import LimitDial
from artuline.desk.widgets.fields import button, buttons, faint, row, rule, section
from artuline.desk.widgets.label import Label

KINDS = ("ball", "hinge", "fixed", "slide", "axes")
KIND_TIP = (
    "Ball: cone and twist. Hinge: turns about its axis. Fixed: does not move. Slide: moves along its axis. "
    "Axes: each of six axes locked, limited or free."
)
AXES = ("Along x", "Along y", "Along z", "Twist", "Swing about y", "Swing about z")
LINK_TIPS = {
    "tie": "Keeps the two at a distance from each other, between a shortest and a longest",
    "weld": "Holds the two firmly together, as they are now",
    "pin": "Holds a point of the one at the other; they may turn",
}
BREAKS = "0: never. The {} that parts it; a blow counts by its mean over a hundredth of a second."
STATES = ("locked", "limited", "free")


def chosen_joints(d: Form, f: Figure) -> list[Joint]:
    """The joints of the bodies that are selected."""
    bones = d.session.selection.of(f.id)
    ids = {b.id: b.bone for b in f.bodies}
    return [j for j in f.joints if ids[j.child] in bones]


def fill(d: Form, w: Commands, f: Figure) -> None:
    """All joints, or those that are selected."""
    if not f.joints:
        d.add(faint("No joints yet. They are made together with the bodies."))
        d.add(d.act("fit", primary=True))
        return
    chosen = chosen_joints(d, f)
    if not chosen:
        loose = [b for b in f.bodies if b.bone in d.session.selection.of(f.id) and b.id not in f.joint_of]
        if len(loose) == 1:
            _loose(d, w, f, loose[0])
        _all(d, w, f)
        return
    _selected(d, w, f, chosen)


def _loose(d: Form, w: Commands, f: Figure, body: Body) -> None:
    """A body that has no joint: what it may hang on."""
    by_bone = {b.bone: b.id for b in f.bodies if b.id != body.id}
    d.add(section(body.bone), faint("It hangs on nothing: it is the topmost, or the others hang on it."))
    d.choice("Hang it on", ["…", *by_bone], "…", lambda n: w.join_to(body.id, by_bone[n]) if n in by_bone else None,
             "Joins it to another body, at its own origin.")  # fmt: skip


def _all(d: Form, w: Commands, f: Figure) -> None:
    kinds = [f"{sum(j.kind == k for j in f.joints)} {k}" for k in KINDS if any(j.kind == k for j in f.joints)]
    d.add(section("All joints"), row("Joints", Label(f"{len(f.joints)}: {', '.join(kinds)}")))
    d.add(faint("Click a body on the stage to see and set the range of its joint."))
    above = tree_parents(f, f.bodies)
    proposed = [j for j in f.joints if above.get(j.child) != j.parent]
    if proposed:
        d.add(faint(f"{len(proposed)} of them hang otherwise than the skeleton says: where its tree said nothing, by how the skin meets. "
                    "Brass lines show them; click a body and choose “Hangs on” to correct one."))  # fmt: skip
    d.add(d.act("limits", tip="From the clips, from anatomy, or both; shows before and after."))
    _links(d, w, f)
    d.next("Blend", "say where and when physics acts")


def _selected(d: Form, w: Commands, f: Figure, chosen: list[Joint]) -> None:
    w, first, many = w, chosen[0], {j.id for j in chosen}
    bone = {b.id: b.bone for b in f.bodies}
    d.add(section(bone[first.child] if len(chosen) == 1 else f"{len(chosen)} joints, as {bone[first.child]}"))
    if any(bone[j.child] in mirror_pairs(f) for j in chosen):
        d.toggle(
            "Both sides at once", d.desk.sides.both, d.desk.sides.set_both, tip="Edits are mirrored to the other side."
        )
    d.choice(
        "Kind",
        KINDS,
        first.kind,
        lambda k: _edit(d, w, f, many, "Change the kind", kind=k, **_range_for(first, k)),
        KIND_TIP,
    )
    if first.kind != "fixed":
        d.toggle("Limited", first.limited, lambda on: _edit(d, w, f, many, "Limit the joint", limited=on),
                 "Off: it may turn, or slide, without end")  # fmt: skip
        d.add(LimitDial(w, f.id, first.id, many))
        if first.limited:
            _ranges(d, w, f, many, first)
        d.add(buttons(("Sweep", w.sweep, "Moves the joint once through its range on the stage"),
                      ("From clips", partial(w.limits_from, "clips", many), "Takes the range that the clips use, and a margin"),
                      ("Anatomy", partial(w.limits_from, "anatomy", many), "Takes the usual range of such a part of a body")))  # fmt: skip
        _feel(d, w, f, many, first)
    d.add(rule(), section("Frame"))
    if len(chosen) == 1:
        names = [bone[b.id] for b in f.bodies if b.id != first.child]
        by_bone = {b.bone: b.id for b in f.bodies}
        d.choice("Hangs on", names, bone[first.parent], lambda n: w.hang_on(first.child, by_bone[n]),
                 "Another body to hang on; the rest pose becomes the middle of its range.")  # fmt: skip
        d.add(
            buttons(
                ("Turn 90°", partial(w.turn_joint, 90.0), "Turns the frame a quarter about the bone, with its range"),
                (
                    "Flip",
                    partial(w.turn_joint, 180.0),
                    "Turns the frame half round: for a bone whose axis points the other way",
                ),
                ("Next axis", w.cycle_joint, "Makes the next axis of the frame the joint's own"),
            )
        )
    d.add(rule(), section("Carry over"))
    d.add(
        buttons(
            ("Copy", w.copy_joint, "Remembers this joint's kind, range and feel"),
            ("Paste", w.paste_joint, "Gives the chosen joints the copied kind, range and feel"),
            ("To the other side", partial(d.desk.act, "other side"), "Carries body and joint over to the other side"),
        )
    )
    _links(d, w, f)


def _edit(d: Form, w: Commands, f: Figure, ids: set[str], words: str, **values: object) -> None:
    d.edit(words, lambda sc: _apply(d, w, f, ids, sc, lambda j: values))


def _apply(
    d: Form, w: Commands, f: Figure, ids: set[str], sc: Scene, change: Callable[[Joint], dict[str, object]]
) -> Scene:
    done = edit.joints(sc, f.id, ids, lambda j: j.changed(**change(j)))
    return w.desk.sides.joints(done, f.id, ids)


def _range_for(j: Joint, kind: str) -> dict[str, object]:
    """Ranges for another kind that allow about the same."""
    if kind == "axes" and j.kind in ("ball", "hinge"):
        locked = (0.0, 0.0)
        y = (-j.swing_y, j.swing_y) if j.kind == "ball" else locked
        z = (-j.swing_z, j.swing_z) if j.kind == "ball" else locked
        return {"axes": (locked, locked, locked, j.twist, y, z)}
    if kind == "ball" and j.kind == "hinge":
        return {"swing_y": math.radians(20.0), "swing_z": math.radians(20.0)}
    return {}


def _angle(d: Form, w: Commands, f: Figure, ids: set[str], label: str, value: float, change: Callable[[Joint, float], dict[str, object]],
    low: float, high: float,
) -> None:  # fmt: skip
    d.number(label, math.degrees(value), "°", lambda sc, v: _apply(d, w, f, ids, sc, lambda j: change(j, math.radians(v))),
             words=f"Change {label.lower()}", step=0.5, low=low, high=high, tip="End of its range.")  # fmt: skip


def _ranges(d: Form, w: Commands, f: Figure, many: set[str], j: Joint) -> None:
    if j.kind == "ball":
        _angle(d, w, f, many, "Swing about y", j.swing_y, lambda j, v: {"swing_y": v}, 0, 170)
        _angle(d, w, f, many, "Swing about z", j.swing_z, lambda j, v: {"swing_z": v}, 0, 170)
    if j.kind in ("ball", "hinge"):
        words = ("Twist from", "Twist to") if j.kind == "ball" else ("Turns from", "Turns to")
        _angle(d, w, f, many, words[0], j.twist[0], lambda j, v: {"twist": (v, max(v, j.twist[1]))}, -180, 180)
        _angle(d, w, f, many, words[1], j.twist[1], lambda j, v: {"twist": (min(v, j.twist[0]), v)}, -180, 180)
    if j.kind == "slide":
        low, high = j.slide or (-0.05, 0.05)
        for label, k in (("Slides from", 0), ("Slides to", 1)):

            def change(j: Joint, v: float, k: int = k) -> dict[str, object]:
                a, b = j.slide or (-0.05, 0.05)
                return {"slide": (v, max(v, b)) if k == 0 else (min(v, a), v)}

            def slid(sc: Scene, v: float, change: Callable[[Joint, float], dict[str, object]] = change) -> Scene:
                return _apply(d, w, f, many, sc, lambda j: change(j, v / 1000.0))

            d.number(
                label,
                1000.0 * (low, high)[k],
                "mm",
                slid,
                words=f"Change {label.lower()}",
                step=0.5,
                low=-1e4,
                high=1e4,
                tip="End of its range.",
            )
    if j.kind == "axes":
        for axis in range(6):
            _axis(d, w, f, many, j, axis)


def _axis(d: Form, w: Commands, f: Figure, many: set[str], j: Joint, axis: int) -> None:
    """One of six axes: locked, limited or free, and its range."""
    name, r = AXES[axis], j.axes[axis]
    state = "free" if r is None else ("locked" if r == (0.0, 0.0) else "limited")

    def put(value: AxisRange, j: Joint) -> dict[str, object]:
        ranges = list(j.axes)
        ranges[axis] = value
        return {"axes": tuple(ranges)}

    wide: AxisRange = (-0.01, 0.01) if axis < 3 else (-math.radians(20.0), math.radians(20.0))
    values: dict[str, AxisRange] = {"locked": (0.0, 0.0), "limited": wide, "free": None}
    d.choice(name, STATES, state,
             lambda k: d.edit(f"Change {name.lower()}", lambda sc: _apply(d, w, f, many, sc, partial(put, values[k]))),
             "Locked: does not move. Limited: within a range. Free: without end.")  # fmt: skip
    if r is None or state == "locked":
        return
    scale, unit = (1000.0, "mm") if axis < 3 else (180.0 / math.pi, "°")
    for label, k in (("from", 0), ("to", 1)):

        def change(sc: Scene, v: float, k: int = k) -> Scene:
            def span(j: Joint) -> dict[str, object]:
                a, b = j.axes[axis] or wide  # type: ignore[misc]
                new = v / scale
                return put((new, max(new, b)) if k == 0 else (min(new, a), new), j)

            return _apply(d, w, f, many, sc, span)

        d.number(
            f"{name} {label}",
            scale * r[k],
            unit,
            change,
            words=f"Change {name.lower()}",
            step=0.5,
            low=-1e4,
            high=1e4,
            tip="End of its range.",
        )


def _feel(d: Form, w: Commands, f: Figure, many: set[str], j: Joint) -> None:
    """What the kind can use: soft limits, bounce, friction, spring back, breaking, tone."""

    def number(
        label: str, field: str, unit: str, high: float, reset: float, tip: str, step: float = 0.05, decimals: int = 2
    ) -> None:
        d.number(label, getattr(j, field), unit, lambda sc, v: _apply(d, w, f, many, sc, lambda j: {field: v}),
                 words=f"Change {label.lower()}", step=step, decimals=decimals, low=0, high=high, reset=reset, tip=tip)  # fmt: skip

    d.add(rule(), section("Feel"))
    if j.limited:
        number(
            "Soft limit", "limit_frequency", "Hz", 60, 0.0, "0: hard. Above: the limit gives, and returns at this rate."
        )
        if j.limit_frequency > 0.0:
            number("Its damping", "limit_ratio", "", 5, 1.0, "1 returns without swinging over.")
            rest, fallen = np.degrees(soft_give(f, j, float(np.linalg.norm(d.session.scene.gravity))))
            d.add(faint(f"Gives {rest:.0f}° under what hangs on it, {fallen:.0f}° where that falls onto it"))
        else:
            number("Bounce", "bounce", "", 1, 0.0, "Share of its speed that a struck limit gives back.")
    linear = j.kind == "slide" or (j.kind == "axes" and any(r != (0.0, 0.0) for r in j.axes[:3]))
    if linear:
        number(
            "Spring back",
            "spring_frequency",
            "Hz",
            60,
            0.0,
            "Pulls places that may move back to the middle; flesh has 2 to 6.",
        )
        if j.spring_frequency > 0.0:
            number("Its damping", "spring_ratio", "", 5, 1.0, "1 returns without swinging over.")
    if j.kind != "slide":
        number("Friction", "friction", "N m", 1e5, 0.0, "Torque that holds it where it is.", 0.02)
    number("Damping", "damping", "1/s", 100, 2.5, "How soon it stops to swing where no tone or spring holds it.", 0.02)
    number("Breaks at", "break_force", "N", 1e8, 0.0, BREAKS.format("force"), 5.0, 0)
    if j.kind != "ball" or j.limited:
        number("Breaks when bent", "break_torque", "N m", 1e8, 0.0, BREAKS.format("moment"), 1.0, 1)
    if j.kind in ("ball", "hinge", "axes"):
        number(
            "Share of tone", "tone", "", 1, 1.0, "Multiplies the group's tone: how firmly it follows the keys.", 0.01
        )


def _links(d: Form, w: Commands, f: Figure) -> None:
    """Ties, welds and pins outside of the tree."""
    s = d.session
    d.add(rule(), section("Ties, welds, pins"))
    mine = [x for x in s.scene.links if f.id in (x.a.figure, x.b.figure if x.b else None)]
    for link in mine:
        ends = f"{link.a.body} – {link.b.body if link.b else 'world'}"
        d.add(
            row(
                f"{link.kind}: {ends}",
                button("Remove", partial(w.remove_link, link.id), name=f"Remove {link.id}", tip="Takes this link away"),
            )
        )
        if link.kind == "tie":
            _tie(d, w, link)
    bones = s.selection.of(f.id)
    count = len([b for b in f.bodies if b.bone in bones])
    if count == 2:
        d.add(buttons(*((k.capitalize(), partial(w.add_link, k), tip) for k, tip in LINK_TIPS.items())))
    elif count == 1:
        d.add(
            buttons(
                ("Pin to the world", partial(w.add_link, "pin"), "Holds its place in the world; it may turn"),
                ("Weld to the world", partial(w.add_link, "weld"), "Holds its place and its rotation in the world"),
            )
        )
    else:
        d.add(faint("Select two bodies to tie, weld or pin them; one to hold it in the world."))


def _tie(d: Form, w: Commands, link: Link) -> None:
    low, high = link.lengths

    def put(sc: Scene, **values: object) -> Scene:
        return edit.scene(sc, links=edit.replace(sc.links, link.id, lambda x: x.changed(**values)))

    d.number("At least", 100.0 * low, "cm", lambda sc, v: put(sc, lengths=(v / 100.0, None if high is None else max(high, v / 100.0))),
             words="Change the tie", step=0.2, low=0, high=1e5, tip="The shortest distance of the two points.")  # fmt: skip
    d.number("At most", 100.0 * (high if high is not None else 1000.0), "cm",
             lambda sc, v: put(sc, lengths=(min(low, v / 100.0), v / 100.0)), words="Change the tie", step=0.2, low=0, high=1e5, tip="The longest distance of the two points.")  # fmt: skip
    d.number("Give", link.frequency, "Hz", lambda sc, v: put(sc, frequency=v), words="Change the tie", step=0.05, low=0, high=60,
             reset=0, tip="0: hard. Above: it gives like a spring of this rate.")  # fmt: skip
