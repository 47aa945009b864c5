"""Details of Blend that are about the scene as a whole: forces, what figures feel and start with, and obstacles."""

import math
from functools import partial

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.motion.places import places_at
from artuline.core.run.forces import gravity_at, wind_at
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Ground, MotionKey, Scene
from artuline.desk.form import Form
from artuline.desk.stations.blend.forces import Forces
from artuline.desk.widgets.fields import buttons, faint


def fill_figure(d: Form, f: Figure) -> None:
    """What a figure feels, and the speed and spin that it is let go with."""
    what_feels = {"gravity": "gravity", "wind": "the wind"}
    for label, name in (("Feels gravity", "gravity"), ("Feels the wind", "wind")):

        def put(on: bool, name: str = name) -> None:
            d.edit(f"Change what {f.name} feels", lambda sc: edit.figure(sc, f.id, **{name: on}))

        d.toggle(label, getattr(f, name), put, f"Whether {what_feels[name]} acts on its bodies")
    for what, field, unit, scale, tip in (
        ("Speed", "velocity", "m/s", 1.0, "Added when the figure is first let go."),
        ("Spin", "spin", "°/s", math.degrees(1.0), "About its centre of mass, added when the figure is first let go."),
    ):
        for k, axis in enumerate("xyz"):

            def component(sc: Scene, v: float, k: int = k, field: str = field, scale: float = scale) -> Scene:
                values = list(getattr(sc.figure(f.id), field))
                values[k] = v / scale
                return edit.figure(sc, f.id, **{field: tuple(values)})

            d.number(f"{what} {axis}", scale * getattr(f, field)[k], unit, component, words=f"Change the {what.lower()}",
                     step=0.05 * scale, reset=0, tip=tip)  # fmt: skip


def world_words(s: Scene) -> str:
    """The world in a few words."""
    pull = float(np.linalg.norm(s.gravity))
    gravity = "gravity keyed" if s.gravity_lane.keys else f"gravity {pull:.2f}"
    return gravity + (", wind" if any(s.wind) or s.wind_lane.keys else "")


def fill_world(d: Form, w: Forces) -> None:
    """Ground, gravity, wind, substeps, warm-up."""
    s = d.session
    sc, frame = s.scene, float(round(s.frame))
    d.toggle("Ground", sc.ground is not None, lambda on: d.edit("Ground", lambda x: _set_ground(x, on)),
             "A level plane that everything falls on")  # fmt: skip
    _gravity(d, w, sc, frame)
    _wind(d, w, sc, frame)
    d.number("Substeps", sc.substeps, "", lambda x, v: edit.scene(x, substeps=round(v)),
             words="Change substeps", step=0.2, decimals=0, low=1, high=200, reset=10,
             tip="Steps of the simulation in each frame. More is finer and slower.")  # fmt: skip
    d.number("Warm-up", sc.warm_up, "frames", lambda x, v: edit.scene(x, warm_up=round(v)),
             words="Change the warm-up", step=0.5, decimals=0, low=0, high=10000, reset=0,
             tip="Simulated before the first frame, so that what hangs already hangs.")  # fmt: skip
    if sc.warm_up > 0:
        d.toggle("It plays", sc.warm_up_plays, lambda on: d.edit("Change the warm-up", lambda x: edit.scene(x, warm_up_plays=on)),
                 "On: the keys before the first frame play in, so that what swings already swings. Off: its pose is held.")  # fmt: skip
    d.toggle("Closed loop", sc.cycle, lambda on: d.edit("Closed loop", lambda x: edit.scene(x, cycle=on)),
             "Round after round is simulated until two agree, so that the take, and its keys, end as they begin")  # fmt: skip


def _gravity(d: Form, w: Forces, sc: Scene, frame: float) -> None:
    """Strength and direction of gravity at a frame."""
    s = d.session
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
             words="Change gravity", step=0.05, decimals=2, low=0, high=100, reset=9.81, tip="Strength: 9.81 on Earth.")  # fmt: skip
    d.number("Tilted", tilt, "°", lambda x, v: gravity(x, max(strength, 1e-9), v, heading),
             words="Change gravity", step=0.5, low=0, high=180, reset=0, tip="From straight down.")  # fmt: skip
    d.number("Towards", heading, "°", lambda x, v: gravity(x, max(strength, 1e-9), tilt, v),
             words="Change gravity", step=1, low=-180, high=180, reset=0, tip="Of the tilt, about the upright axis; 0 is along z.")  # fmt: skip
    keyed = "keyed" if sc.gravity_lane.keys else "not keyed"
    d.add(
        buttons(
            ("Key gravity", w.key_gravity, "Keys its present strength and direction at this frame"),
            ("Unkey", w.unkey_gravity, "Takes all keys of gravity away"),
        ),
        faint(f"Gravity is {keyed}."),
    )


def _wind(d: Form, w: Forces, sc: Scene, frame: float) -> None:
    """Strength and direction of the wind at a frame, and its gusts."""
    s = d.session
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
        tip="Its speed; the air then resists what moves.",
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
            tip="About the upright axis; 0 is along z.",
        )
        d.add(
            buttons(
                ("Key wind", w.key_wind, "Keys its present strength and direction at this frame"),
                ("Unkey wind", w.unkey_wind, "Takes all keys of the wind away"),
            )
        )
        d.number("Gusts", sc.gusts.strength, "", lambda x, v: edit.scene(x, gusts=x.gusts.changed(strength=v)),
                 words="Change the gusts", step=0.01, decimals=2, low=0, high=3, reset=0, tip="Share of the speed that varies.")  # fmt: skip
        d.number("Gusts a second", sc.gusts.rate, "", lambda x, v: edit.scene(x, gusts=x.gusts.changed(rate=v)),
                 words="Change the gusts", step=0.01, decimals=2, low=0.01, high=20, reset=0.5, tip="How often the wind swells.")  # fmt: skip
        d.number("Chance", sc.gusts.seed, "", lambda x, v: edit.scene(x, gusts=x.gusts.changed(seed=round(v))),
                 words="Change the gusts", step=0.1, decimals=0, low=0, high=9999, tip="Another number, other gusts.")  # fmt: skip


def fill_obstacle(d: Form, w: Forces, o: Figure) -> None:
    """Place at this frame, keys, speed and surface."""
    s = d.session
    frame = float(round(s.frame))
    p, q = places_at(o.track, np.array([frame, frame + 0.01]))
    speed = float(np.linalg.norm(p[1] - p[0])) * s.scene.rate / 0.01
    d.add(faint(f"Moves at {speed:.1f} m/s here; {len(o.track.frames)} keys."))

    def place(sc: Scene, v: float, k: int) -> Scene:
        new = p[0].copy()
        new[k] = v
        return edit.place(sc, o.id, MotionKey(frame=frame, position=tuple(new), rotation=tuple(q[0])))

    for k, axis in enumerate("xyz"):
        d.number(f"{o.name} {axis}", p[0][k], "m", partial(place, k=k), words=f"Move {o.name}", step=0.01, decimals=2,
                 tip="Its place at this frame: a key, if it moves.")  # fmt: skip
    for k, axis in enumerate("xyz"):

        def turned(sc: Scene, v: float, k: int = k) -> Scene:
            step = np.zeros(3)
            step[k] = math.radians(v)
            new = rotation.multiply(rotation.from_rotation_vector(step), q[0])
            return edit.place(sc, o.id, MotionKey(frame=frame, position=tuple(p[0]), rotation=tuple(new)))

        d.number(f"Turn {o.name} about {axis}", 0.0, "°", turned, words=f"Turn {o.name}", step=0.5, reset=None,
                 tip="Turns it by so much from how it is.")  # fmt: skip
    ids = {b.id for b in o.bodies}
    d.number(f"{o.name} friction", o.bodies[0].friction, "",
             lambda sc, v: edit.bodies(sc, o.id, ids, lambda b: b.changed(friction=v)), words="Change friction",
             step=0.01, decimals=2, low=0, high=5, reset=0.6, tip="How hard it is to slide along it.")  # fmt: skip
    d.add(buttons(("Key here", partial(w.key_obstacle, o.id), "Keys its place at this frame"),
                  ("At speed", partial(w.arrive_at_speed, o.id), "Lets it come to the key nearest to this frame without slowing down"),
                  ("Remove", partial(w.remove_obstacle, o.id), "Takes it out of the scene, with what refers to it")))  # fmt: skip
    d.add(d.act("edit lanes"))


def _set_ground(s: Scene, on: bool) -> Scene:
    return edit.scene(s, ground=Ground() if on else None)
