"""Details of Blend: where, when and how strongly physics acts; what is held, and the forces and obstacles."""

import math
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.motion.keyed import obstacle_motion
from artuline.core.motion.poses import pose_frames
from artuline.core.run.forces import gravity_at, wind_at
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Ground, Group, Lane, MotionKey, Obstacle, Push, Scene
from artuline.desk.fields import button, buttons, faint, row, rule, section
from artuline.desk.panels import bodies

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
        d.add(button("Hand over the whole figure", lambda: w.limp(None), icon="human-handsdown"))
    else:
        count = len([b for b in f.bodies if b.bone in f.below(bone)])
        d.add(faint(f"{count} bodies hang from {bone}." if count != 1 else f"One body hangs from {bone}."))
        d.add(button(f"Limp from {bone} down", lambda: w.limp(bone), icon="arm-flex-outline", primary=True))
        if len(bones) > 1:
            d.add(button(f"Only these {len(bones)} bones", w.limp_selected, icon="select-group"))
        d.add(buttons(("Hold", w.hold_selected), ("Push", w.add_push), ("Springy", w.make_springy)))
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
            d.add(button("Remove the pose at this frame", w.unkey_pose, icon="close"))
    for g in f.groups:
        d.add(rule(), section(g.name))
        _group(d, f, g)
    _held(d, f)
    d.add(rule(), section("World"))
    _world(d)
    for o in s.scene.obstacles:
        d.add(rule(), section(f"Obstacle: {o.name}"))
        _obstacle(d, o)
    d.add(
        rule(),
        buttons(("Add a box", partial(w.add_obstacle, "box")), ("Add a ball", partial(w.add_obstacle, "sphere"))),
    )
    d.add(button("Run", w.run, icon="play-box-outline", primary=True, tip="Simulate the range (F5)"))


def _group(d: "Details", f: Figure, g: Group) -> None:
    w = d.window_
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
            ("back on keys at", "end", k3, "Frame at which the figure is exactly on its keys again."),
            ("Ramp in", "ramp_in", k1 - k0, "Frames over which the keys let go."),
            ("Ramp out", "ramp_out", k3 - k2, "Frames over which the figure returns to its keys."),
        ):
            d.number(
                label, value, "", partial(interval, key),
                words="Change the interval", step=0.5, decimals=0, low=0 if "ramp" in key else -1e6, tip=tip,
            )  # fmt: skip
    frame = d.session.frame
    for label, name, tip in FIRMNESS:
        lane: Lane = getattr(g, name)

        def firm(sc: Scene, v: float, name: str = name) -> Scene:
            now = next(x for x in sc.figure(f.id).groups if x.id == g.id)
            return edit.group(
                sc, f.id, g.id, **{name: edit.lane_value(getattr(now, name), float(round(d.session.frame)), v)}
            )

        d.number(label, float(lane.value(frame)), "", firm, words=f"Change the {name}", step=0.005, decimals=2, low=0, high=1,
                 reset=0, tip=tip + (" Keyed: changes the key at this frame." if lane.keys else ""))  # fmt: skip
    d.add(buttons(*((f"Key {name}", partial(w.key_lane, f.id, g.id, name)) for name in ("tone", "steadiness", "calm"))))
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
        d.choice("Copy lanes to", ["…", *others], "…", lambda n: w.copy_lanes(f.id, g.id, n) if n != "…" else None)
    d.add(button("Remove this group", lambda: w.remove_group(f.id, g.id), icon="close"))


def _held(d: "Details", f: Figure) -> None:
    """Pins, welds and ties with their frames; pushes."""
    s, w = d.session, d.window_
    mine = [x for x in s.scene.links if f.id in (x.a.figure, x.b.figure if x.b else None)]
    if mine:
        d.add(rule(), section("Held"))
    for link in mine:
        ends = f"{link.a.body} – {link.b.body if link.b else 'world'}"
        d.add(row(f"{link.kind}: {ends}", button("Remove", partial(w.remove_link, link.id), name=f"Remove {link.id}")))

        def put(sc: Scene, v: float, field: str, link_id: str = link.id) -> Scene:
            return edit.scene(
                sc, links=edit.replace(sc.links, link_id, lambda x: x.changed(**{field: float(round(v))}))
            )

        start, stop = link.start if link.start is not None else s.scene.start, link.stop
        d.number(
            "Holds from", start, "", partial(put, field="start"), words="Change when it holds", step=0.5, decimals=0
        )
        d.number("until", stop if stop is not None else s.scene.end + 1, "", partial(put, field="stop"),
                 words="Change when it holds", step=0.5, decimals=0)  # fmt: skip
    pushes = [p for p in s.scene.pushes if p.figure == f.id]
    for p in pushes:
        d.add(rule(), section(f"Push on {p.body}"))
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
    )
    d.number(
        "Spread over",
        p.frames,
        "frames",
        lambda sc, v: put(sc, frames=max(v, 0.1)),
        words="Change the push",
        step=0.1,
        low=0.1,
    )
    for k, axis in enumerate("xyz"):

        def component(sc: Scene, v: float, k: int = k) -> Scene:
            impulse = list(p.impulse)
            impulse[k] = v
            return put(sc, impulse=tuple(impulse))

        d.number(f"Impulse {axis}", p.impulse[k], "N s", component, words="Change the push", step=0.2, reset=0)
    mass = next((bodies.body_mass(b) for b in f.bodies if b.id == p.body), 1.0)
    change = float(np.linalg.norm(p.impulse)) / max(mass, 1e-9)
    d.add(faint(f"Changes the speed of {p.body} alone by {change:.1f} m/s."))
    d.add(button("Remove this push", partial(w.remove_push, p.id), icon="close"))


def _world(d: "Details") -> None:
    s, w = d.session, d.window_
    sc, frame = s.scene, float(round(s.frame))
    d.toggle("Ground", sc.ground is not None, lambda on: d.edit("Ground", lambda x: _set_ground(x, on)))
    now = gravity_at(sc, np.array([frame]))[0]
    strength = float(np.linalg.norm(now))
    tilt = math.degrees(math.acos(min(max(-now[1] / strength, -1.0), 1.0))) if strength > 0 else 0.0
    heading = math.degrees(math.atan2(now[0], now[2]))

    def gravity(x: Scene, strength: float, tilt: float, heading: float) -> Scene:
        t, h = math.radians(tilt), math.radians(heading)
        value = (strength * math.sin(t) * math.sin(h), -strength * math.cos(t), strength * math.sin(t) * math.cos(h))
        if x.gravity_lane.keys:
            return edit.scene(x, gravity_lane=edit.vector_at(x.gravity_lane, float(round(s.frame)), value))
        return edit.scene(x, gravity=value)

    d.number("Gravity", strength, "m/s²", lambda x, v: gravity(x, v, tilt, heading),
             words="Change gravity", step=0.05, decimals=2, low=0, high=100, reset=9.81)  # fmt: skip
    d.number("Tilted", tilt, "°", lambda x, v: gravity(x, max(strength, 1e-9), v, heading),
             words="Change gravity", step=0.5, low=0, high=180, reset=0, tip="From straight down.")  # fmt: skip
    d.number("Towards", heading, "°", lambda x, v: gravity(x, max(strength, 1e-9), tilt, v),
             words="Change gravity", step=1, low=-180, high=180, reset=0, tip="Of the tilt, about the upright axis; 0 is along z.")  # fmt: skip
    keyed = "keyed" if sc.gravity_lane.keys else "not keyed"
    d.add(buttons(("Key gravity", w.key_gravity), ("Unkey", w.unkey_gravity)), faint(f"Gravity is {keyed}."))
    blow = wind_at(edit.scene(sc, gusts=type(sc.gusts)()), np.array([frame]))[0]
    speed, toward = float(np.hypot(blow[0], blow[2])), math.degrees(math.atan2(blow[0], blow[2]))

    def wind(x: Scene, speed: float, toward: float) -> Scene:
        value = (speed * math.sin(math.radians(toward)), 0.0, speed * math.cos(math.radians(toward)))
        if x.wind_lane.keys:
            return edit.scene(x, wind_lane=edit.vector_at(x.wind_lane, float(round(s.frame)), value))
        return edit.scene(x, wind=value)

    d.number(
        "Wind",
        speed,
        "m/s",
        lambda x, v: wind(x, v, toward),
        words="Change the wind",
        step=0.1,
        low=0,
        high=100,
        reset=0,
    )
    if speed > 0.0:
        d.number(
            "Blows towards",
            toward,
            "°",
            lambda x, v: wind(x, speed, v),
            words="Change the wind",
            step=1,
            low=-180,
            high=180,
        )
        d.add(buttons(("Key wind", w.key_wind), ("Unkey wind", w.unkey_wind)))
        d.number("Gusts", sc.gusts.strength, "", lambda x, v: edit.scene(x, gusts=x.gusts.changed(strength=v)),
                 words="Change the gusts", step=0.01, decimals=2, low=0, high=3, reset=0, tip="Share of the speed that varies.")  # fmt: skip
        d.number("Gusts a second", sc.gusts.rate, "", lambda x, v: edit.scene(x, gusts=x.gusts.changed(rate=v)),
                 words="Change the gusts", step=0.01, decimals=2, low=0.01, high=20, reset=0.5)  # fmt: skip
        d.number("Chance", sc.gusts.seed, "", lambda x, v: edit.scene(x, gusts=x.gusts.changed(seed=round(v))),
                 words="Change the gusts", step=0.1, decimals=0, low=0, high=9999, tip="Another number, other gusts.")  # fmt: skip
    d.number("Substeps", sc.substeps, "", lambda x, v: edit.scene(x, substeps=round(v)),
             words="Change substeps", step=0.2, decimals=0, low=1, high=200, reset=10,
             tip="Steps of the simulation in each frame. More is finer and slower.")  # fmt: skip
    d.number("Warm-up", sc.warm_up, "frames", lambda x, v: edit.scene(x, warm_up=round(v)),
             words="Change the warm-up", step=0.5, decimals=0, low=0, high=10000, reset=0,
             tip="Simulated before the first frame with its pose held, so that what hangs already hangs.")  # fmt: skip


def _obstacle(d: "Details", o: Obstacle) -> None:
    """Place at this frame, keys, speed and surface."""
    s, w = d.session, d.window_
    frame = float(round(s.frame))
    p, q = obstacle_motion(o, np.array([frame, frame + 0.01]))
    speed = float(np.linalg.norm(p[1] - p[0])) * s.scene.rate / 0.01
    d.add(faint(f"Moves at {speed:.1f} m/s here; {len(o.keys)} keys."))

    def place(sc: Scene, v: float, k: int) -> Scene:
        new = p[0].copy()
        new[k] = v
        return _keyed(sc, o, MotionKey(frame=frame, position=tuple(new), rotation=tuple(q[0])))

    for k, axis in enumerate("xyz"):
        d.number(f"{o.name} {axis}", p[0][k], "m", partial(place, k=k), words=f"Move {o.name}", step=0.01, decimals=2)
    for k, axis in enumerate("xyz"):

        def turned(sc: Scene, v: float, k: int = k) -> Scene:
            step = np.zeros(3)
            step[k] = math.radians(v)
            new = rotation.multiply(rotation.from_rotation_vector(step), q[0])
            return _keyed(sc, o, MotionKey(frame=frame, position=tuple(p[0]), rotation=tuple(new)))

        d.number(f"Turn {o.name} about {axis}", 0.0, "°", turned, words=f"Turn {o.name}", step=0.5, reset=None)
    d.number(f"{o.name} friction", o.friction, "", lambda sc, v: edit.obstacle(sc, o.id, friction=v),
             words="Change friction", step=0.01, decimals=2, low=0, high=5, reset=0.6)  # fmt: skip
    d.add(buttons(("Key here", partial(w.key_obstacle, o.id)), ("At speed", partial(w.arrive_at_speed, o.id)),
                  ("Remove", partial(w.remove_obstacle, o.id))))  # fmt: skip


def _keyed(sc: Scene, o: Obstacle, key: MotionKey) -> Scene:
    """Move an obstacle that stands still as a whole; else key its place at the frame."""
    if len(o.keys) == 1:
        return edit.obstacle(sc, o.id, keys=(key.changed(frame=o.keys[0].frame),))
    return edit.motion_key(sc, o.id, key)


def _set_ground(s: Scene, on: bool) -> Scene:
    return edit.scene(s, ground=Ground() if on else None)
