"""Loads on ropes, by every kind of connection, free and over posts, against closed forms: how they swing, pull and fall."""

import numpy as np

from artuline.core.physics.state import HALTED
from artuline.core.run.build import build
from artuline.core.run.stepper import Chunk, Stepper
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import (
    Group,
    Lane,
    Link,
    LinkEnd,
    MotionKey,
    Mount,
    Scene,
    Shape,
    Strand,
    StrandPoint,
    obstacle,
)
from artuline.core.setup.strand import add_strand, course_of

G = 9.81
BALL = 0.05  # m, radius of the loads
REACH = 0.006  # m, half the thickness of the ropes


def rope(points, **values):
    fields = {"bend": 0.0, "twist": 0.0, "air": 0.0, "curved": False, "friction": 0.0, "radius": REACH, "reach": REACH}
    return Strand(points=tuple(points), **(fields | values))


def load(id_, mass, place, radius=BALL):
    """A ball that is free from the first frame on, touching nothing of what it hangs on."""
    made = obstacle(
        id_, Shape(kind="sphere", radius=radius), (MotionKey(frame=0, position=tuple(float(v) for v in place)),)
    )
    body = made.bodies[0].changed(mass=mass, friction=0.0)
    return made.changed(bodies=(body,), groups=(Group(id="free", name="whole figure", handover=Lane(rest=1.0)),))


def hang(scene, assets, strand, ball, kind, end):
    """A load hung on an end (0: first, -1: last) of a strand by one kind of connection, at the load's middle."""
    figure = scene.figure(strand)
    body = figure.bodies[end]
    course = course_of(figure.made, scene.gravity)
    step = course.length / figure.made.count
    at = (0.0, 0.0, 0.0) if end == 0 else (step, 0.0, 0.0)
    if kind == "mount":
        mount = Mount(id=f"hook {end}", part=body.bone, figure=ball, bone=ball, point=at, hold="swings",
                      rotation=tuple(float(v) for v in course.turns[end]))  # fmt: skip
        mounts = (mount, *figure.mounts)
        return edit.figure(scene, strand, mounts=mounts)
    if kind == "ride":
        # the other way round: the load rides on the rope
        mount = Mount(id=f"hook {end}", part=ball, figure=strand, bone=body.bone, position=at, hold="swings",
                      rotation=tuple(float(v) for v in course.turns[end] * np.array([-1.0, -1.0, -1.0, 1.0])))  # fmt: skip
        return edit.figure(scene, ball, mounts=(mount,))
    ends = {"a": LinkEnd(figure=ball, body=ball), "b": LinkEnd(figure=strand, body=body.id, point=at)}
    values = {"lengths": (0.0, 0.0)} if kind == "tie" else {}
    return edit.scene(
        scene, links=(*scene.links, Link(id=f"hook {end}", name=f"hook {end}", kind=kind, **ends, **values))
    )


def watch(scene, assets, seconds, look):
    """Run a scene and note ``look(world, rows)`` after every frame; also how many substeps stood still."""
    built = build(scene, assets)
    stepper, seen, frames = Stepper(built), [], int(seconds * scene.rate)
    rows = {f.id: part.rows for f, part in zip(scene.figures, built.parts)}
    for first in range(0, frames, 16):
        chunk = Chunk(built, first, min(16, frames - first))
        for k in range(min(16, frames - first)):
            stepper.step(chunk, k)
            seen.append(look(built.world, rows))
    return np.array(seen), int(built.world.counters[HALTED]), built


def pendulum(kind, mass, count=20, weight=0.1, length=2.0, rate=24, substeps=10, tilt=0.1, seconds=6.0):
    """Period and pull at the top of a load on a rope, against a rod with a ball; as shares."""
    way = np.array([np.sin(tilt), -np.cos(tilt), 0.0])
    top = np.array([0.0, 4.0, 0.0])
    strand = rope(
        (StrandPoint(position=tuple(top), hold="pinned"), StrandPoint(position=tuple(top + length * way))),
        count=count, weight=weight,
    )  # fmt: skip
    assets = AssetStore()
    scene, id_ = add_strand(Scene(ground=None, rate=rate, substeps=substeps, end=int(seconds * rate)), assets, strand)
    if kind == "joint":
        last = scene.figure(id_).bodies[-1]
        half = length / count / 2
        ball = Shape(kind="sphere", radius=BALL, position=(2 * half, 0.0, 0.0))
        scene = edit.bodies(scene, id_, {last.id}, lambda b: b.changed(shapes=(ball,), mass=mass))
    else:
        scene = edit.add_figure(scene, load("ball", mass, top + length * way))
        scene = hang(scene, assets, id_, "ball", kind, -1)

    def look(world, rows):
        at = world.bodies["x"][rows["ball"][0] if "ball" in rows else rows[id_][-1]]
        k = np.flatnonzero(world.joints["parent"] == -1)[0]
        return [*at, *(world.joints["load"][k] * rate)]

    seen, halted, _ = watch(scene, assets, seconds, look)
    x = seen[:, 0]
    # zero crossings
    k = np.flatnonzero((x[:-1] * x[1:]) < 0)
    at = (k - x[k] / (x[k + 1] - x[k])) / rate
    # a load that is the last part takes that part's place
    rod = weight * length * (1.0 - 1.0 / count if kind == "joint" else 1.0)
    inertia = rod * length**2 / 3 + mass * (length**2 + 0.4 * BALL**2 * (kind in ("joint", "weld")))
    wanted = 2 * np.pi * np.sqrt(inertia / ((0.5 * rod + mass) * G * length)) * (1 + tilt**2 / 16)
    period = 2 * np.diff(at).mean() if len(at) > 2 else np.nan
    pull = np.linalg.norm(seen[:, 3:6], axis=1)[4:].mean()
    # mean over the swing: m g (1 + tilt^2 / 4) or so; with the rope's weight
    mean = (mass + rod) * G * (1 + tilt**2 / 4)
    return period / wanted - 1, pull / mean - 1, halted, np.ptp(x)


def _around(radius, count, reach=REACH):
    """Radius at which the joints of a line lie that goes over a post, a little outside of it."""
    parts = np.pi * radius / ((2.4 + np.pi * radius) / count)
    return (radius + reach) / np.cos(0.5 * np.pi / parts) + 1e-4


def _step(radius, count, reach=REACH):
    return (2.4 + np.pi * _around(radius, count, reach)) / count


def atwood(kind, m1, m2, count=60, weight=0.2, radius=0.1, rate=24, substeps=10, seconds=0.6, friction=0.0):
    """Acceleration of two loads over a smooth post, against (m2 - m1 + w (l2 - l1)) g / (m1 + m2 + rope), as a share."""
    r = _around(radius, count)
    angles = np.linspace(np.pi, 0.0, 25)
    arc = np.stack([r * np.cos(angles), 3.0 + r * np.sin(angles), 0 * angles], axis=1)
    # a little outside of the post, so that nothing is pressed in as it begins
    pts = [(-r, 1.8, 0.0), *map(tuple, arc), (r, 1.8, 0.0)]
    points = [StrandPoint(position=tuple(float(v) for v in p)) for p in pts]
    strand = rope(points, count=count, weight=weight, friction=friction)
    assets = AssetStore()
    scene, id_ = add_strand(Scene(ground=None, rate=rate, substeps=substeps, end=int(seconds * rate)), assets, strand)
    post = obstacle("post", Shape(kind="capsule", radius=radius, half_length=1.0, rotation=(0.0, -np.sqrt(0.5), 0.0, np.sqrt(0.5))),
                    (MotionKey(frame=0, position=(0.0, 3.0, 0.0)),), friction=friction)  # fmt: skip
    scene = edit.add_figure(scene, post)
    course = course_of(strand)
    if kind == "joint":
        step = course.length / count
        for k, m in ((0, m1), (-1, m2)):
            b = scene.figure(id_).bodies[k]
            shape = Shape(kind="sphere", radius=0.02, position=(0.0 if k == 0 else step, 0.0, 0.0))
            scene = edit.bodies(scene, id_, {b.id}, lambda b, s=shape, m=m: b.changed(shapes=(s,), mass=m))
    else:
        for n, k, m in (("one", 0, m1), ("two", -1, m2)):
            scene = edit.add_figure(scene, load(n, m, course.ends[k], 0.004))
            scene = hang(scene, assets, id_, n, kind, k)

    def look(world, rows):
        i = rows["two"][0] if "two" in rows else rows[id_][-1]
        return [world.bodies["x"][i, 1], world.bodies["v"][i, 1]]

    seen, halted, _ = watch(scene, assets, seconds, look)
    total = m1 + m2 + strand.weight * course.length
    if kind == "joint":
        total -= 2 * strand.weight * course.length / count
    # x'' = (m2 - m1) g / total + 2 w g x / total: a hanging line runs ever faster
    k = 2 * strand.weight * G / total
    t = np.arange(1, len(seen) + 1) / rate
    drive = (m2 - m1) * G / total
    speed = drive / np.sqrt(k) * np.sinh(np.sqrt(k) * t)
    v = -seen[:, 1]
    early = int(0.1 * rate)
    return (v[-1] - v[early]) / (speed[-1] - speed[early]) - 1, halted


def wrapped(friction, radius, count, reach=REACH):
    """By what power of e the pull of a line of parts grows over half of a post.

    Euler and Eytelwein for a line that has a thickness and is made of stiff parts: the friction acts at the post's surface, the pull at the
    line's middle, from joint to joint, so that each part, turned by t, has (T2 - T1) R = friction r (T1 + T2) sin(t / 2).
    """
    half = np.arctan(0.5 * _step(radius, count, reach) / (radius + reach))
    return np.pi / half * np.arctanh(friction * radius / (radius + reach) * np.sin(half) * np.cos(half))


def capstan(mu, radius, count, substeps, m1=4.0, share=1.2, weight=0.1):
    """The friction by which a line slides over half of a post, as a share of the closed form: of two loads of which one is heavier than it can hold."""
    power = wrapped(mu, radius, count)
    m2 = share * m1 * np.exp(power)
    off, halted = atwood(
        "pin", m1, m2, count=count, radius=radius, substeps=substeps, weight=weight, friction=mu, seconds=0.5
    )
    # what was measured against no friction: the acceleration
    a = (1.0 + off) * (m2 - m1) * G / (m1 + m2 + weight * (2.4 + np.pi * radius))
    hanging = weight * 1.2  # on each side
    pulls = (m2 + hanging) * (G - a) / ((m1 + hanging) * (G + a))
    return float(np.log(pulls) / power - 1.0), halted


KINDS = ("joint", "pin", "weld", "mount", "ride", "tie")


def hung():
    for kind in KINDS:
        for ratio in (10, 100, 1000, 10000, 100000):
            runs = [pendulum(kind, 0.01 * ratio, substeps=s) for s in (4, 10, 40)]
            period, pull, halted = (max((r[k] for r in runs), key=abs) for k in range(3))
            good = abs(period) < 0.02 and abs(pull) < 0.02 and halted == 0
            what = f"by a {kind}, {ratio} times a part, 4 to 40 substeps"
            yield what, f"period {100 * period:+.2f} %, pull {100 * pull:+.2f} %, stood still {halted}", "2 %; 0", good


def over_a_post():
    for kind in KINDS:
        for ratio in (1000, 10000, 100000):
            for substeps in (10, 40):
                off, halted = atwood(kind, 0.002 * ratio, 0.003 * ratio, count=120, weight=0.05, substeps=substeps)
                what = f"by a {kind}, about {ratio} times a part, {substeps} substeps: acceleration"
                yield what, f"{100 * off:+.2f} %, stood still {halted}", "2 %; 0", abs(off) < 0.02 and halted == 0


def sliding():
    for mu in (0.3, 0.5):
        for radius in (0.05, 0.1, 0.2):
            found = [capstan(mu, radius, count, substeps) for count in (60, 120, 240) for substeps in (4, 10, 40)]
            off = max((x[0] for x in found), key=abs)
            usual = np.median([x[0] for x in found])
            halted = sum(x[1] for x in found)
            what = f"friction {mu}, radius {radius} m, 3 numbers of parts and of substeps"
            said = f"median {100 * usual:+.1f} %, worst {100 * off:+.1f} %, stood still {halted}"
            yield what, said, "3 %; 0", abs(off) < 0.03 and halted == 0


MEASUREMENTS = {"loads on ropes": hung, "loads over a post": over_a_post, "sliding capstan": sliding}
