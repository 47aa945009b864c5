"""Details of Blend: where, when and how strongly physics acts; what is held, and the forces and obstacles."""

from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from artuline.core.motion.poses import pose_frames
from artuline.core.run.build import group_of
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Group, Lane, Push, Scene, Spring
from artuline.desk.fields import button, buttons, faint, row, rule, section, short
from artuline.desk.panels import bodies
from artuline.desk.panels.world import fill_figure, fill_obstacle, fill_world, world_words

if TYPE_CHECKING:
    from artuline.desk.details import Details

FIRMNESS = (
    ("Tone", "tone", "How firmly the keyed pose is held against the parent: 0 is limp, 1 follows the keys."),
    ("Steadiness", "steadiness", "How firmly the keyed place in the world is held: 0 is free, 1 stays there."),
    ("Calm", "calm", "Damping against the keyed motion: takes shaking away."),
)


def fill(d: "Details", f: Figure) -> None:
    """Groups and their lanes, what is held, forces and obstacles."""
    s, w = d.session, d.window_
    if not f.bodies:
        bodies.fill(d, f)
        return
    bones = s.selection.bones if s.selection.figure == f.id else frozenset()
    bone = min(bones, key=lambda b: f.bone_index[b]) if bones else None
    d.add(section("Where"))
    if bone is None:
        d.add(
            faint("Click a bone on the stage to let only it and all below it go limp, or hand over the whole figure.")
        )
        d.add(
            button(
                "Hand over the whole figure",
                lambda: w.limp(None),
                icon="human-handsdown",
                tip="To physics, in the middle of the range",
            )
        )
        limbs = f.limbs()
        if limbs:
            d.choice("Or a limb, from", ["…", *limbs], "…", lambda n: w.limp(n) if n != "…" else None,
                     "Where limbs, neck and tail begin.")  # fmt: skip
    else:
        count = len([b for b in f.bodies if b.bone in f.below(bone)])
        d.add(faint(f"{count} bodies hang from {bone}." if count != 1 else f"One body hangs from {bone}."))
        d.add(
            button(
                f"Limp from {short(bone, 16)} down",
                lambda: w.limp(bone),
                icon="arm-flex-outline",
                primary=True,
                tip=f"Hands {bone} and all below over to physics, in the middle of the range",
            )
        )
        if len(bones) > 1:
            d.add(
                button(
                    f"Only these {len(bones)} bones",
                    w.limp_selected,
                    icon="select-group",
                    tip="Hands just these over, not what hangs on them",
                )
            )
        d.add(
            buttons(
                (
                    "Hold",
                    w.hold_selected,
                    "Holds them where they are from this frame on, at what they touch or in the world",
                ),
                ("Push", w.add_push, "Pushes the first of them at this frame, away from the view"),
                ("Springy", w.make_springy, "Lets them and all below swing about their keys"),
            )
        )
        chosen = [b for b in f.bodies if b.bone in bones]
        for label, field in (("Its share of steadiness", "steady"), ("Its share of calm", "calm")):
            if chosen:

                def share(sc: Scene, v: float, field: str = field) -> Scene:
                    return edit.bodies(sc, f.id, {b.id for b in chosen}, lambda b: b.changed(**{field: v}))

                d.number(label, getattr(chosen[0], field), "", share, words=f"Change {label.lower()}", step=0.01, decimals=2,
                         low=0, high=1, reset=1, tip="Multiplies the group's.")  # fmt: skip
    d.toggle("Pose the keys", w.stage.posing, w.set_posing,
             "Shows the keys, with handles at the chosen bone: turn it, or pull a hand or a foot. Poses steer physics.")  # fmt: skip
    frames = pose_frames(s.scene, s.assets, f)
    if frames:
        d.add(faint("Posed at " + ", ".join(f"{x:g}" for x in frames) + "."))
        if float(round(s.frame)) in frames:
            d.add(button("Remove the pose at this frame", w.unkey_pose, icon="close", tip="Takes this keyed pose away"))
    # several groups may be about a bone: the one that rules it opens
    ruling = {g.id for b in bones if (g := group_of(f, b)) is not None}
    for g in f.groups:
        if d.fold(g.name, _group_words(g), len(f.groups) == 1 or g.id in ruling, about=g.id):
            _group(d, f, g)
    _held(d, f)
    if d.fold(f.name, _figure_words(f), about=f.id):
        fill_figure(d, f)
    if d.fold("World", world_words(s.scene)):
        fill_world(d)
    for o in s.scene.obstacles:
        if d.fold(
            f"Obstacle: {o.name}",
            f"{len(o.keys)} keys" if len(o.keys) > 1 else "still",
            w.stage.obstacle == o.id,
            about=o.id,
        ):
            fill_obstacle(d, o)
    d.add(
        rule(),
        buttons(("Add a box", partial(w.add_obstacle, "box"), "An obstacle beside the figure"),
                ("Add a ball", partial(w.add_obstacle, "sphere"), "An obstacle beside the figure"),
                ("From a file…", w.ask_obstacle, "An obstacle from a mesh: its hull, or all its triangles")),
    )  # fmt: skip
    d.add(button("Run", w.run, icon="play-box-outline", primary=True, tip="Simulate the range (F5)"))


def _group_words(g: Group) -> str:
    """A group in a few words."""
    frames = [k.frame for k in g.handover.keys]
    when = f"{frames[0]:g} to {frames[-1]:g}" if frames else "always"
    return ("muted, " if g.muted else "") + ("springy, " if g.spring else "") + when


def _figure_words(f: Figure) -> str:
    """What is not as usual with a figure, in a few words."""
    found = [w for w, on in (("no gravity", not f.gravity), ("no wind", not f.wind), ("with a speed", any(f.velocity)),
                             ("with a spin", any(f.spin))) if on]  # fmt: skip
    return ", ".join(found)


def _spring(d: "Details", f: Figure, g: Group, spring: Spring) -> None:
    """How a springy group swings."""
    w = d.window_

    def put(sc: Scene, **values: object) -> Scene:
        return edit.group(sc, f.id, g.id, spring=spring.changed(**values))

    for label, name, unit, step, decimals, high, reset, tip in (
        ("Frequency", "frequency", "Hz", 0.02, 2, 50.0, 3.0, "How often it swings in a second."),
        ("Damping", "ratio", "", 0.005, 2, 5.0, 0.2, "0 swings on for ever, 1 returns without swinging over."),
        ("Share shown", "shown", "", 0.005, 2, 1.0, 1.0, "How much of the swing is seen."),
        (
            "Share of gravity",
            "gravity",
            "",
            0.005,
            2,
            1.0,
            0.0,
            "0 keeps the keyed pose, 1 hangs with its whole weight.",
        ),
    ):

        def change(sc: Scene, v: float, name: str = name) -> Scene:
            return put(sc, **{name: v})

        d.number(label, getattr(spring, name), unit, change, words=f"Change the {label.lower()}", step=step, decimals=decimals,
                 low=0.05 if name == "frequency" else 0, high=high, reset=reset, tip=tip)  # fmt: skip
    beat = w.rhythm_of(f, g)
    if beat is not None:
        d.add(faint(f"The keys move at {beat:.1f} a second here: a frequency near it swings most."))
        d.add(
            button(
                f"Swing at {beat:.1f} Hz",
                lambda: d.edit("Swing with the keys", lambda sc: put(sc, frequency=beat)),
                tip="Makes it swing in the rhythm of the keys",
            )
        )
    d.toggle("Collides", spring.collides, lambda on: d.edit("Collide", lambda sc: put(sc, collides=on)),
             "Off: passes through everything, which is calmer for ears and straps.")  # fmt: skip
    d.add(
        button(
            "Not springy",
            lambda: d.edit("Not springy", lambda sc: edit.group(sc, f.id, g.id, spring=None)),
            tip="Its joints are ruled by tone again",
        )
    )


def _returns(d: "Details", f: Figure, g: Group) -> None:
    """What a group comes back to."""
    words = {"keys": "its keys", "pose": "the pose it has then"} | {c.name: f"the clip {c.name}" for c in f.clips}

    def choose(text: str) -> None:
        name = next(k for k, v in words.items() if v == text)
        values = {"returns": name, "clip": None} if name in ("keys", "pose") else {"returns": "clip", "clip": name}
        d.edit("Change what it comes back to", lambda sc: edit.group(sc, f.id, g.id, **values))

    d.choice("Comes back to", list(words.values()), words[(g.clip or "keys") if g.returns == "clip" else g.returns], choose,
             "When the ramp out begins. Another clip starts where the body is.")  # fmt: skip
    d.toggle("Feet step", g.planted, lambda on: d.edit("Feet step", lambda sc: edit.group(sc, f.id, g.id, planted=on)),
             "On the way back a foot on the ground stays there, then steps to where it is going.")  # fmt: skip


def _group(d: "Details", f: Figure, g: Group) -> None:
    w = d.window_
    if g.spring is not None:
        _spring(d, f, g, g.spring)
    keys = g.handover.keys
    if len(keys) == 4:
        k0, k1, k2, k3 = (k.frame for k in keys)

        def interval(key: str, sc: Scene, v: float) -> Scene:
            values = {"start": k0, "end": k3, "ramp_in": k1 - k0, "ramp_out": k3 - k2} | {key: float(round(v))}
            if values["end"] < values["start"]:
                values["start"], values["end"] = values["end"], values["start"]
            return edit.group(sc, f.id, g.id, handover=edit.interval_lane(**values))

        for label, key, value, tip in (
            ("Physics from", "start", k0, "First frame that physics moves."),
            ("Back on keys at", "end", k3, "Frame at which the figure is exactly on its keys again."),
            ("Ramp in", "ramp_in", k1 - k0, "Frames over which the keys let go."),
            ("Ramp out", "ramp_out", k3 - k2, "Frames over which the figure returns to its keys."),
        ):
            d.number(
                label, value, "", partial(interval, key),
                words="Change the interval", step=0.5, decimals=0, low=0 if "ramp" in key else -1e6, tip=tip,
            )  # fmt: skip
    frame = d.session.frame
    if (
        g.spring is None
        and any(k.value == 1.0 for k in keys[:-1])
        and keys[-1].value == 0.0
        and keys[-1].frame <= d.session.scene.end
    ):
        _returns(d, f, g)
    firm_lanes = FIRMNESS if g.spring is None else FIRMNESS[1:]
    for label, name, tip in firm_lanes:
        lane: Lane = getattr(g, name)

        def firm(sc: Scene, v: float, name: str = name) -> Scene:
            now = next(x for x in sc.figure(f.id).groups if x.id == g.id)
            return edit.group(
                sc, f.id, g.id, **{name: edit.lane_value(getattr(now, name), float(round(d.session.frame)), v)}
            )

        d.number(label, float(lane.value(frame)), "", firm, words=f"Change the {name}", step=0.005, decimals=2, low=0, high=1,
                 reset=0, tip=tip + (" Keyed: changes the key at this frame." if lane.keys else ""))  # fmt: skip
    d.add(
        buttons(
            *(
                (f"Key {name}", partial(w.key_lane, f.id, g.id, name), f"Keys the present {name} at this frame")
                for _, name, _ in firm_lanes
            )
        )
    )
    if g.spring is None:
        d.add(button("Make it springy", lambda: d.edit("Make springy", lambda sc: edit.group(sc, f.id, g.id, spring=Spring())),
                     tip="Its joints swing about their keys at a frequency of their own."))  # fmt: skip
    if g.start_bone is not None and not g.bones:
        names = [b.bone for b in f.bodies]
        d.choice("Begins at", names, g.start_bone, lambda n: w.begin_group_at(f.id, g.id, n),
                 "The bone from which on this group goes limp.")  # fmt: skip
    d.toggle("Muted", g.muted, lambda on: d.edit("Mute the group", lambda sc: edit.group(sc, f.id, g.id, muted=on)),
             "Off for now: the bones stay on their keys.")  # fmt: skip
    if len(f.groups) > 1:
        d.toggle("Solo", g.solo, lambda on: d.edit("Solo", lambda sc: edit.group(sc, f.id, g.id, solo=on)),
                 "Only this one acts, and others that are solo.")  # fmt: skip
        others = [x.name for x in f.groups if x.id != g.id]
        d.choice("Copy lanes to", ["…", *others], "…", lambda n: w.copy_lanes(f.id, g.id, n) if n != "…" else None,
                 "Gives another group all four lanes of this one.")  # fmt: skip
    d.add(
        button(
            "Remove this group", lambda: w.remove_group(f.id, g.id), icon="close", tip="Its bones stay on their keys"
        )
    )


def _held(d: "Details", f: Figure) -> None:
    """Pins, welds and ties with their frames; pushes."""
    s, w = d.session, d.window_
    mine = [x for x in s.scene.links if f.id in (x.a.figure, x.b.figure if x.b else None)]
    if mine and not d.fold("Held", f"{len(mine)}", True):
        mine = []
    for link in mine:
        ends = f"{link.a.body} – {link.b.body if link.b else 'world'}"
        d.add(
            row(
                f"{link.kind}: {ends}",
                button("Remove", partial(w.remove_link, link.id), name=f"Remove {link.id}", tip="Lets go for good"),
            )
        )

        def put(sc: Scene, v: float, field: str, link_id: str = link.id) -> Scene:
            return edit.scene(
                sc, links=edit.replace(sc.links, link_id, lambda x: x.changed(**{field: float(round(v))}))
            )

        start, stop = link.start if link.start is not None else s.scene.start, link.stop
        d.number(
            "Holds from",
            start,
            "",
            partial(put, field="start"),
            words="Change when it holds",
            step=0.5,
            decimals=0,
            tip="First frame that it holds.",
        )
        d.number("until", stop if stop is not None else s.scene.end + 1, "", partial(put, field="stop"),
                 words="Change when it holds", step=0.5, decimals=0, tip="First frame that it holds no more.")  # fmt: skip
        if link.kind == "pin":

            def give(sc: Scene, v: float, link_id: str = link.id) -> Scene:
                return edit.scene(sc, links=edit.replace(sc.links, link_id, lambda x: x.changed(frequency=v)))

            d.number("Gives way at", link.frequency, "Hz", give, words="Change how it gives", step=0.05, low=0, high=50, reset=0,
                     tip="0 is rigid. Above, it holds like a spring of this rate.")  # fmt: skip
    pushes = [p for p in s.scene.pushes if p.figure == f.id]
    bones = s.selection.bones if s.selection.figure == f.id else frozenset()
    chosen = {b.id for b in f.bodies if b.bone in bones}
    for p in pushes:
        if d.fold(f"Push on {p.body}", f"frame {p.start:g}", len(pushes) == 1 or p.body in chosen, about=p.id):
            _push(d, f, p)


def _push(d: "Details", f: Figure, p: Push) -> None:
    w = d.window_

    def put(sc: Scene, **values: object) -> Scene:
        return edit.scene(sc, pushes=edit.replace(sc.pushes, p.id, lambda x: x.changed(**values)))

    d.number(
        "At frame",
        p.start,
        "",
        lambda sc, v: put(sc, start=float(round(v))),
        words="Change the push",
        step=0.5,
        decimals=0,
        tip="When it begins.",
    )
    d.number(
        "Spread over",
        p.frames,
        "frames",
        lambda sc, v: put(sc, frames=max(v, 0.1)),
        words="Change the push",
        step=0.1,
        low=0.1,
        tip="The same impulse over a longer time is softer.",
    )
    for k, axis in enumerate("xyz"):

        def component(sc: Scene, v: float, k: int = k) -> Scene:
            impulse = list(p.impulse)
            impulse[k] = v
            return put(sc, impulse=tuple(impulse))

        d.number(
            f"Impulse {axis}",
            p.impulse[k],
            "N s",
            component,
            words="Change the push",
            step=0.2,
            reset=0,
            tip="Mass times the change of speed.",
        )
    d.number("Scatter", p.scatter, "", lambda sc, v: put(sc, scatter=v), words="Change the push", step=0.01, decimals=2, low=0, high=3,
             reset=0, tip="Share of its strength by which it varies by chance.")  # fmt: skip
    if p.scatter > 0.0:
        d.number("Chance", p.seed, "", lambda sc, v: put(sc, seed=round(v)), words="Change the push", step=0.1, decimals=0, low=0,
                 high=9999, tip="Another number, another push: a bracket of it shows what may happen.")  # fmt: skip
    mass = next((bodies.body_mass(b) for b in f.bodies if b.id == p.body), 1.0)
    change = float(np.linalg.norm(p.impulse)) / max(mass, 1e-9)
    d.add(faint(f"Changes the speed of {p.body} alone by {change:.1f} m/s."))
    d.add(button("Remove this push", partial(w.remove_push, p.id), icon="close", tip="Takes it away"))
