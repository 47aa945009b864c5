"""Details of Blend: where, when and how strongly physics acts; what is held, and the forces and obstacles."""

from functools import partial

from artuline.core.motion.poses import pose_frames
from artuline.core.run.build import group_of
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Group, Lane, Scene, Spring
from artuline.desk.bare_bones import fill_bare
from artuline.desk.form import Form
from artuline.desk.stations.blend import rules
from artuline.desk.stations.blend.commands import Commands
from artuline.desk.stations.blend.held import fill_held
from artuline.desk.stations.blend.world import fill_figure, fill_obstacle, fill_world, world_words
from artuline.desk.widgets.fields import button, buttons, faint, row, rule, section, short
from artuline.desk.widgets.label import Label

FIRMNESS = (
    ("Tone", "tone", "How firmly the keyed pose is held against the parent: 0 is limp, 1 follows the keys."),
    ("Steadiness", "steadiness", "How firmly the keyed place in the world is held: 0 is free, 1 stays there."),
    ("Calm", "calm", "Damping against the keyed motion: takes shaking away."),
)


def fill(d: Form, w: Commands, f: Figure) -> None:
    """Groups and their lanes, what is held, forces and obstacles."""
    s = d.session
    if not f.bodies:
        d.add(
            faint("Physics needs bodies: one action gives every bone that carries enough skin a shape, and joins them.")
        )
        d.add(d.act("fit", primary=True))
        d.add(d.act("put setup", "Put a setup on it…", tip="From a file, or one that ships."))
        return
    o = s.obstacle()
    if o is not None:
        _obstacle(d, w, o)
        if o.stays:
            _around(d, w, f)
            return
    bones = s.selection.of(f.id)
    if o is None:
        _where(d, w, f, bones)
        _poses(d, w, f)
    # several groups may be about a bone: the one that rules it opens
    ruling = {g.id for b in bones if (g := group_of(f, b)) is not None}
    for g in f.groups:
        if d.fold(g.name, _group_words(g), len(f.groups) == 1 or g.id in ruling, about=g.id):
            _group(d, w, f, g)
    rules.fill(d, f)
    fill_held(d, w, f)
    _around(d, w, f)
    d.add(d.act("run", primary=True))


def _obstacle(d: Form, w: Commands, o: Figure) -> None:
    """What stands in the way: its place and surface, and that it may fall, too."""
    d.add(section(o.name))
    fill_obstacle(d, w.forces, o)
    if o.solids:
        d.add(faint("It stays on its keys: physics moves convex shapes, and this one is a mesh."))
    elif o.stays:
        d.add(button("Hand it over", partial(w.let_go, o.id), icon="human-handsdown",
                     tip="It stands on its keys, then falls: to physics, in the middle of the range"))  # fmt: skip


def _where(d: Form, w: Commands, f: Figure, bones: frozenset[str]) -> None:
    """What may be handed over, held or pushed now."""
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
        bare = {b for b in bones if b not in f.body_of}
        if bare and f.bodies:
            fill_bare(d, f, bare)
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
                    w.holds.hold_selected,
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


def _poses(d: Form, w: Commands, f: Figure) -> None:
    """Keys by hand."""
    s = d.session
    d.toggle("Pose the keys", w.posing, w.set_posing,
             "Shows the keys, with handles at the chosen bone: turn it, or pull a hand or a foot. Poses steer physics.")  # fmt: skip
    frames = pose_frames(s.scene, s.assets, f)
    if frames:
        d.add(faint("Posed at " + ", ".join(f"{x:g}" for x in frames) + "."))
        if float(round(s.frame)) in frames:
            d.add(button("Remove the pose at this frame", w.unkey_pose, icon="close", tip="Takes this keyed pose away"))


def _around(d: Form, w: Commands, f: Figure) -> None:
    """What the figure feels, the world and its obstacles."""
    s = d.session
    o = s.obstacle()
    if (o is None or not o.stays) and d.fold(f.name, _figure_words(f), about=f.id):
        fill_figure(d, f)
    if d.fold("World", world_words(s.scene)):
        fill_world(d, w.forces)
    d.add(rule(), section("Obstacles"))
    for x in s.scene.obstacles:
        keys = f"{len(x.track.frames)} keys" if len(x.track.frames) > 1 else "still"
        d.add(row(x.name, Label("in hand" if x is o else keys if x.stays else "handed over"),
                  button("Show", partial(w.forces.take_obstacle, x.id), name=f"Show {x.name}",
                         tip="Takes it in hand: its place, its keys, its surface")))  # fmt: skip
    d.add(
        buttons(("Add a box", partial(w.forces.add_obstacle, "box"), "An obstacle beside the figure"),
                ("Add a ball", partial(w.forces.add_obstacle, "sphere"), "An obstacle beside the figure"),
                ("From a file…", w.forces.ask_obstacle, "An obstacle from a mesh: its hull, or all its triangles")),
    )  # fmt: skip


def _group_words(g: Group) -> str:
    """A group in a few words."""
    frames = [k.frame for k in g.handover.keys]
    when = f"{frames[0]:g} to {frames[-1]:g}" if frames else "always"
    return (
        ("muted, " if g.muted else "")
        + ("springy, " if g.spring else "")
        + ("in the world, " if g.in_world else "")
        + when
    )


def _figure_words(f: Figure) -> str:
    """What is not as usual with a figure, in a few words."""
    found = [w for w, on in (("no gravity", not f.gravity), ("no wind", not f.wind), ("with a speed", any(f.velocity)),
                             ("with a spin", any(f.spin))) if on]  # fmt: skip
    return ", ".join(found)


def _spring(d: Form, w: Commands, f: Figure, g: Group, spring: Spring) -> None:
    """How a springy group swings."""

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


def _returns(d: Form, w: Commands, f: Figure, g: Group) -> None:
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


def _interval(d: Form, f: Figure, g: Group) -> None:
    """When a group is handed over, as four numbers; nothing for a lane of another form."""
    if len(g.handover.keys) != 4:
        return
    k0, k1, k2, k3 = (k.frame for k in g.handover.keys)

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
    if g.acting(d.session.scene.rate) != g.handover:
        d.add(
            faint(f"It comes back over {g.shortest_return * d.session.scene.rate:.3g} frames: in less it would jump.")
        )


def _firmness(d: Form, w: Commands, f: Figure, g: Group) -> None:
    """The lanes besides handover at the present frame, and their keys."""
    frame = d.session.frame
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
    d.add(d.act("edit lanes"))


def _group(d: Form, w: Commands, f: Figure, g: Group) -> None:
    if g.spring is not None:
        _spring(d, w, f, g, g.spring)
    _interval(d, f, g)
    keys = g.handover.keys
    if (
        g.spring is None
        and any(k.value == 1.0 for k in keys[:-1])
        and keys[-1].value == 0.0
        and keys[-1].frame <= d.session.scene.end
    ):
        _returns(d, w, f, g)
    _firmness(d, w, f, g)
    if not g.begins_at(None):
        d.toggle("Held in the world", g.in_world, lambda on: d.edit("Hold in the world", lambda sc: edit.group(sc, f.id, g.id, in_world=on)),
                 "While it is on its keys and what it hangs on is physical: on, it stays where its keys are and holds the body; off, it is carried in its keyed pose")  # fmt: skip
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
