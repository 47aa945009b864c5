"""Plain scenarios against closed forms and SciPy's integrators, at several substep counts and frame rates."""

import itertools

import numpy as np
from scipy.integrate import solve_ivp

from artuline.core.geometry import rotation
from artuline.core.geometry.polyhedron import triangle_mesh
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.scene.model import Shape
from benchmarks.scenes import X, deckhand, rod, slope

#: Frames in a second, and substeps in a frame.
RATES = ((24, 10), (24, 2), (24, 5), (24, 20), (24, 40), (30, 10), (60, 10), (120, 10))
Z = np.array([0.0, 0.0, 1.0])
G = 9.81


def about(axis, angle):
    return rotation.from_rotation_vector(np.asarray(axis, float) * angle)


def run(world, seconds, fps=24, substeps=10):
    for _ in range(round(seconds * fps)):
        world.step(1.0 / fps, substeps)
        yield world


def run_keyed(world, motion, seconds, fps=24, substeps=10, free=None):
    """Step with body 0 keyed by ``motion(t) -> (place, turn)``, and all others free unless ``free(t)`` says which are."""
    n = len(world.bodies)
    for f in range(round(seconds * fps)):
        x, q = np.zeros((substeps + 1, n, 3)), np.tile(rotation.IDENTITY, (substeps + 1, n, 1))
        now = np.ones((substeps, n), bool)
        for s in range(substeps + 1):
            t = (f + s / substeps) / fps
            x[s, 0], q[s, 0] = motion(t)
            if s < substeps:
                now[s] = [False] + [True] * (n - 1) if free is None else free(t)
        x, q = world.inner(x, q)
        world.step_keyed(1.0 / fps, x, q, now, np.zeros((substeps, n)), np.zeros((substeps, len(world.joints))))
        yield world


# contacts that let go


def tips(degrees, fps=24, substeps=10):
    """Whether a box of 0.2 x 0.6 m falls over on a slope."""
    q = about(Z, -np.radians(degrees))
    up = rotation.rotate(q, np.array([0.0, 1.0, 0.0]))
    slab = BodySpec((Shape(kind="box", half=(10, 0.5, 10)),), rotation=q, friction=2.0, free=False)
    box = BodySpec((Shape(kind="box", half=(0.1, 0.3, 0.1)),), position=0.8 * up, rotation=q, friction=2.0)
    world = World([slab, box])
    return any(rotation.angle_between(w.poses()[1][1], q) > 0.35 for w in run(world, 4.0, fps, substeps))


def tipping_angle(fps=24, substeps=10):
    """The slope at which it does, degrees, within 0.1."""
    low, high = 16.4, 60.0
    while high - low > 0.1:
        middle = 0.5 * (low + high) if high - low < 20.0 else low + 3.2
        low, high = (low, middle) if tips(middle, fps, substeps) else (middle, high)
    return 0.5 * (low + high)


def over_the_edge(fps=24, substeps=10):
    """How far a block whose centre is 5 mm past the edge of a table turns in 2 s, degrees."""
    table = BodySpec((Shape(kind="box", half=(1, 0.5, 1)),), friction=0.6, free=False)
    block = BodySpec((Shape(kind="box", half=(0.2, 0.05, 0.1)),), position=np.array([1.005, 0.55, 0.0]))
    world = World([table, block])
    return max(
        np.degrees(rotation.angle_between(w.poses()[1][1], rotation.IDENTITY)) for w in run(world, 2.0, fps, substeps)
    )


def lift(pull=2.0, fps=24, substeps=10, free=False):
    """How far a box at rest rises within 0.5 s of gravity turned up by ``pull`` m/s^2, or one that rests on nothing, against g t^2 / 2."""
    box = BodySpec((Shape(kind="box", half=(0.2, 0.1, 0.15)),), position=np.array([0.0, 0.1, 0.0]))
    world = World([box], plane=None if free else (0.0, 0.6, 0.0))
    world.gravity *= not free
    for _ in run(world, 1.0, fps, substeps):
        pass
    start = world.poses()[0][0, 1]
    world.gravity = np.array([0.0, pull, 0.0])
    for _ in run(world, 0.5, fps, substeps):
        pass
    return (world.poses()[0][0, 1] - start) / (0.5 * pull * 0.25)


def letting_go():
    for fps, substeps in RATES:
        angle = tipping_angle(fps, substeps)
        right = np.degrees(np.arctan(0.2 / 0.6))
        yield (
            f"box tips, {fps} fps, {substeps} substeps",
            f"{angle:.2f} deg",
            f"{right:.2f} within 0.2",
            abs(angle - right) < 0.2,
        )
    turned = min(over_the_edge(*r) for r in RATES)
    yield "block over an edge, least of all rates", f"{turned:.0f} deg", "tips", turned > 45.0
    worst = max(abs(lift(p, *r) / lift(p, *r, free=True) - 1.0) for r in RATES for p in (0.5, 2.0, 9.81))
    yield (
        "gravity turned up after rest, against a free body, worst of all rates",
        f"{100 * worst:.2f} %",
        "within 1 %",
        worst < 0.01,
    )
    worst = max(abs(lift(p, 24, 10) - 1.0) for p in (0.5, 2.0, 9.81))
    yield "the same against g t^2 / 2, 10 substeps", f"{100 * worst:.2f} %", "within 1 %", worst < 0.01


# a capsule on a mesh


def grid(size=4.0, step=0.25, height=lambda x, z: 0.0 * x, skew=0.3):
    """A mesh of two triangles a cell, facing up."""
    n = round(size / step)
    at = (np.arange(n + 1) - 0.5 * n) * step
    x, z = np.meshgrid(at, at, indexing="ij")
    x = x + skew * step * (np.arange(n + 1) % 2)
    points = np.stack([x, height(x, z), z], axis=-1).reshape(-1, 3)
    faces = []
    for i in range(n):
        for j in range(n):
            a, b, c, d = i * (n + 1) + j, i * (n + 1) + j + 1, (i + 1) * (n + 1) + j, (i + 1) * (n + 1) + j + 1
            faces += [(a, b, c), (b, d, c)]
    return triangle_mesh(points, np.array(faces))


def slide(yaw, heading, ground="plane", friction=0.4, fps=24, substeps=10):
    """A capsule that lies along ``yaw`` and slides towards ``heading`` at 2 m/s: the way it makes, and its highest hop, metres."""
    capsule = BodySpec(
        (Shape(kind="capsule", radius=0.05, half_length=0.15),), position=np.array([0.0, 0.05, 0.0]), rotation=about([0, 1, 0], yaw),
        friction=friction, velocity=2.0 * np.array([np.cos(heading), 0.0, np.sin(heading)]),
    )  # fmt: skip
    if ground == "plane":
        world = World([capsule], plane=(0.0, friction, 0.0))
    else:
        wave = 0.0 if ground == "flat" else 4e-4
        mesh = grid(height=lambda x, z: wave * np.sin(5.0 * x) * np.cos(4.0 * z))
        floor = BodySpec((Shape(kind="mesh", asset="floor"),), friction=friction, free=False)
        capsule.position = capsule.position + np.array([0.0, wave, 0.0])
        world = World([capsule, floor], meshes={"floor": mesh})
    hop = max(w.poses()[0][0, 1] for w in run(world, 1.5, fps, substeps)) - 0.05
    way = world.poses()[0][0] - capsule.position
    return float(np.hypot(way[0], way[2])), float(hop)


HEADINGS = tuple(itertools.product((0.0, 0.5, 1.2, np.pi / 2), (0.1, 0.8, 1.9, 3.0)))


def meshes():
    for ground in ("flat", "wavy"):
        away, hop = 0.0, 0.0
        for fps, substeps in ((24, 10), (24, 2), (24, 5), (24, 40), (60, 10)):
            for yaw, heading in HEADINGS:
                plane, _ = slide(yaw, heading, "plane", fps=fps, substeps=substeps)
                way, high = slide(yaw, heading, ground, fps=fps, substeps=substeps)
                away, hop = max(away, abs(way / plane - 1.0)), max(hop, high)
        yield f"capsule over a {ground} mesh: way against a plane's", f"{100 * away:.2f} %", "within 1 %", away < 0.01
        yield f"capsule over a {ground} mesh: hop", f"{1000 * hop:.2f} mm", "below 1 mm", hop < 1e-3


# friction on curved motion


PLATFORMS = {
    "turning": lambda t: (np.zeros(3), about([0, 1, 0], 2.0 * t)),
    "swinging": lambda t: (np.array([0.1 * np.sin(3.0 * t), 0.0, 0.0]), about([0, 1, 0], 0.8 * np.sin(2.5 * t))),
    "rolling": lambda t: (np.array([0.0, 0.05 * np.sin(1.5 * t), 0.0]), about([1, 0, 0.4], 0.15 * np.sin(2.0 * t))),
}


def creep(name, fps=24, substeps=10):
    """Speed at which a box that stands on a platform creeps over it, m/s, from 1 s to 3 s."""
    motion = PLATFORMS[name]
    slab = BodySpec((Shape(kind="box", half=(2, 0.5, 2)),), friction=1.0, free=False)
    local = np.array([0.5, 0.6, 0.2])
    p, q = motion(0.0)
    later = motion(1e-6)
    speed = (rotation.rotate(later[1], local) + later[0] - rotation.rotate(q, local) - p) / 1e-6
    spin = rotation.to_rotation_vector(rotation.multiply(later[1], rotation.conjugate(q))) / 1e-6
    box = BodySpec((Shape(kind="box", half=(0.1, 0.1, 0.1)),), position=p + rotation.rotate(q, local), rotation=q,
                   friction=1.0, velocity=speed, spin=spin)  # fmt: skip
    world = World([slab, box])
    seen = []
    for w in run_keyed(world, motion, 3.0, fps, substeps):
        x, r = w.poses()
        seen.append(rotation.rotate(rotation.conjugate(r[0]), x[1] - x[0]))
    return float(np.linalg.norm(seen[-1] - seen[fps])) / 2.0


def platforms():
    for name in PLATFORMS:
        worst = max(creep(name, *r) for r in RATES)
        yield (
            f"box on a {name} platform, worst of all rates",
            f"{1000 * worst:.3f} mm/s",
            "below 0.1 mm/s",
            worst < 1e-4,
        )


def pinched(share, mass, pad, friction, fps=24, substeps=10, seconds=2.0):
    """Speed at which an upright stick slips down between two pads of ``pad`` kg that press on it, m/s; its weight is ``share`` of what their friction bears."""
    upright = tuple(float(v) for v in rotation.align([1.0, 0.0, 0.0], [0.0, 1.0, 0.0]))
    stick = Shape(kind="capsule", radius=0.02, half_length=0.3, rotation=upright)
    block = Shape(kind="box", half=(0.03, 0.05, 0.05))
    specs = [BodySpec((stick,), mass=mass, friction=friction)]
    specs += [BodySpec((block,), mass=pad, friction=friction, position=side * 0.05 * X) for side in (-1.0, 1.0)]
    world = World(specs, [JointSpec(-1, k, "slide", anchor=np.zeros(3)) for k in (1, 2)])
    press = mass * 9.81 / (2.0 * friction * share)
    world.bodies["push"][1, 0], world.bodies["push"][2, 0] = press, -press
    seen = []
    for _ in range(int(fps * seconds)):
        world.step(1.0 / fps, substeps)
        seen.append(world.poses()[0][0][1])
    return abs(seen[-1] - seen[fps - 1]) / (seconds - 1.0)


def let_slide(share, friction=0.4, fps=24, substeps=10):
    """How far a box on a slope comes in the third second after it was put there at rest, of what Coulomb's law says, m; its weight is ``share`` of the cone."""
    angle = np.arctan(friction * share)
    world, _ = slope(np.degrees(angle), friction)
    for _ in range(2 * fps):
        world.step(1.0 / fps, substeps)
    before = world.poses()[0][1].copy()
    for _ in range(fps):
        world.step(1.0 / fps, substeps)
    way = 2.5 * 9.81 * (np.sin(angle) - friction * np.cos(angle))
    return float(np.linalg.norm(world.poses()[0][1] - before)), max(way, 0.0)


def held_by_friction():
    for share in (0.5, 0.75, 0.9, 0.98):
        for name, values in (
            ("0.5 kg between pads of 0.2", (0.5, 0.2, 0.5)),
            ("3 kg between pads of 0.05", (3.0, 0.05, 0.3)),
        ):
            worst = max(pinched(share, *values, substeps=s) for s in (4, 10, 40))
            what = f"stick of {name} kg at {100 * share:.0f} % of the cone, 4, 10, 40 substeps"
            yield what, f"{1000 * worst:.4f} mm/s", "below 0.05", worst < 5e-5
        worst = max(let_slide(share, substeps=s)[0] for s in (4, 10, 40))
        yield (
            f"box on a slope at {100 * share:.0f} % of the cone, the same",
            f"{1000 * worst:.4f} mm/s",
            "below 0.05",
            worst < 5e-5,
        )
    for share in (1.05, 1.1, 1.5):
        found = [let_slide(share, substeps=s) for s in (4, 10, 40)]
        off = max((way / exact - 1.0 for way, exact in found), key=abs)
        yield (
            f"box on a slope at {100 * share:.0f} % of the cone, way against Coulomb's",
            f"{100 * off:+.1f} %",
            "within 5 %",
            abs(off) < 0.05,
        )


# joints


def rubbed(friction=1.0, seconds=0.5, fps=24, substeps=10):
    """Angle of a hinged rod let go level against joint friction after some time, and the equation's; degrees."""
    frame = rotation.align(X, Z)
    joint = JointSpec(-1, 0, "hinge", anchor=-X * 0.2, frame_c=frame, frame_p=frame, friction=friction)
    world = World([rod(0.4, 1.0, 1e-3, position=X * 0.2)], [joint], contacts=False)
    inertia = 0.4**2 / 3.0
    for _ in run(world, seconds, fps, substeps):
        pass

    def equation(t, y):
        return [y[1], (-G * 0.2 * np.cos(y[0]) - friction * np.tanh(y[1] * 1e6)) / inertia]

    stop = lambda t, y: y[1] + 1e-9 if t > 0.05 else -1.0  # noqa: E731
    stop.terminal = True
    exact = solve_ivp(equation, (0.0, seconds), [0.0, -1e-9], rtol=1e-10, atol=1e-12, events=stop, method="LSODA").y[
        0, -1
    ]
    q = world.poses()[1][0]
    ours = 2.0 * np.arctan2(q[2], q[3])
    return np.degrees(ours), np.degrees(exact)


def rope(damping=2.5, fps=24, substeps=10, links=20):
    """How far the two halves of a rope that hangs from both ends, let go as an arc of a circle, swing apart within 2 s, metres."""
    length, around = 0.1, np.pi * 0.9
    radius = length / 2 / np.sin(around / links / 2)
    t = np.pi / 2 + around / 2 - around * np.arange(links + 1) / links
    knots = radius * np.stack([np.cos(t), -np.sin(t), 0 * t], axis=-1)
    bodies, joints = [], []
    for i in range(links):
        turned = rotation.align(X, (knots[i + 1] - knots[i]) / length)
        bodies.append(rod(length, 0.1, position=0.5 * (knots[i] + knots[i + 1]), rotation=turned))
        joints.append(JointSpec(i - 1, i, anchor=-X * length / 2, damping=damping))
    joints.append(JointSpec(-1, links - 1, "pin", anchor=X * length / 2))
    world = World(bodies, joints, contacts=False)
    worst = 0.0
    for w in run(world, 2.0, fps, substeps):
        x = w.poses()[0]
        worst = max(worst, np.abs(x[:, 1] - x[::-1, 1]).max(), np.abs(x[:, 0] + x[::-1, 0]).max())
    return float(worst)


SAGS = ("drive", "spring", "limit", "world drive")


def sag(kind, frequency, ratio=1.0, fps=24, substeps=10):
    """How far a spring gives under a steady load once at rest, as a share of what it should."""
    o = 2.0 * np.pi * frequency
    frame = rotation.align(X, Z)
    seconds = max(2.0, 6.0 / frequency)
    if kind in ("drive", "limit"):
        inertia, least = 0.4**2 / 3.0, 0.02
        # a load that keeps its arm: a torque from outside
        torque = least * inertia * o * o
        more = {"frequency": frequency, "ratio": ratio}
        if kind == "limit":
            more = {"limits": (0, 0, -0.3, 0.3), "limit_frequency": frequency, "limit_ratio": ratio}
            least += 0.3
        joint = JointSpec(-1, 0, "hinge", anchor=-X * 0.2, frame_c=frame, frame_p=frame, **more)
        world = World([rod(0.4, 1.0, 1e-3, position=X * 0.2)], [joint], gravity=(0, 0, 0), contacts=False)
        world.bodies["push"][0, 5] = torque
        for _ in run(world, seconds, fps, substeps):
            pass
        q = world.poses()[1][0]
        angle = 2.0 * np.arctan2(q[2], q[3])
        return angle / least if kind == "drive" else (angle - 0.3) / (least - 0.3)
    least = G / (o * o)
    body = rod(0.4, 1.0)
    if kind == "spring":
        down = rotation.align(X, np.array([0.0, 1.0, 0.0]))
        joint = JointSpec(
            -1, 0, "slide", frame_c=down, frame_p=down, axes=(None,), spring_frequency=frequency, spring_ratio=ratio
        )
        world = World([body], [joint], contacts=False)
        for _ in run(world, seconds, fps, substeps):
            pass
    else:
        world = World([body], contacts=False)
        world.bodies["goal_ratio"] = ratio
        still = np.zeros((substeps + 1, 1, 3)), np.tile(rotation.IDENTITY, (substeps + 1, 1, 1))
        for _ in range(round(seconds * fps)):
            world.step_keyed(
                1.0 / fps,
                *still,
                np.ones((substeps, 1), bool),
                np.full((substeps, 1), frequency),
                np.zeros((substeps, 0)),
            )
    return -world.poses()[0][0, 1] / least


def arm(tone_hz=4.0, fps=24, substeps=10):
    """A driven arm of three links under its weight: torque at each joint against what its spring should give, worst share away."""
    frame = rotation.align(X, Z)
    bodies = [rod(0.3, m, position=X * (0.15 + 0.3 * i)) for i, m in enumerate((2.0, 1.5, 0.5))]
    joints = [
        JointSpec(i - 1, i, "hinge", anchor=-X * 0.15, frame_c=frame, frame_p=frame, frequency=tone_hz)
        for i in range(3)
    ]
    world = World(bodies, joints, contacts=False)
    for _ in run(world, 4.0, fps, substeps):
        pass
    x, q = world.poses()
    total = 2.0 * np.arctan2(q[:, 2], q[:, 3])
    own = np.diff(total, prepend=0.0)
    mass = np.array([2.0, 1.5, 0.5])
    worst = 0.0
    for k in range(3):
        anchor = x[k] - rotation.rotate(q[k], X * 0.15)
        torque = -G * np.sum(mass[k:] * (x[k:, 0] - anchor[0]))
        # the joint frame's x is the hinge
        stiff = world.joints["effective"][k][0, 0] * (2.0 * np.pi * tone_hz) ** 2
        worst = max(worst, abs(stiff * own[k] / torque - 1.0))
    return worst


def joints():
    worst = max(abs(a - b) for a, b in (rubbed(1.0, 0.5, *r) for r in RATES))
    yield "joint friction, hinged rod, worst of all rates", f"{worst:.3f} deg", "within 0.5 deg", worst < 0.5
    errors = [abs(np.subtract(*rubbed(1.0, 0.375, 24, s))) for s in (4, 8, 16, 32)]
    order = float(np.log2(errors[0] / max(errors[-1], 1e-12)) / 3.0)
    yield "joint friction: order in the substep", f"{order:.2f}", "second", order > 1.7
    worst = max(rope(2.5, *r) for r in RATES)
    yield (
        "damped rope held at both ends, worst of all rates",
        f"{1000 * worst:.3f} mm",
        "symmetric within 1 mm",
        worst < 1e-3,
    )


def loads():
    for kind in SAGS:
        worst = max(abs(sag(kind, f, z, *r) - 1.0) for f in (2.0, 4.0, 8.0, 16.0) for z in (0.3, 1.0) for r in RATES)
        yield f"sag of a {kind}, 2 to 16 Hz, worst of all rates", f"{100 * worst:.3f} %", "within 1 %", worst < 0.01
    worst = max(arm(f, *r) for f in (2.0, 4.0, 8.0) for r in RATES)
    yield "arm under its weight, worst of all rates", f"{100 * worst:.3f} %", "within 1 %", worst < 0.01


# releases


KEYS = {
    "steady": lambda t: (np.array([1.0 * t, 2.0 * t, -0.5 * t]), about([0, 1, 0.0], 3.0 * t)),
    "curved": lambda t: (
        np.array([0.5 * np.cos(3.0 * t), 0.5 * np.sin(3.0 * t), 0.2 * t * t]),
        about([0, 1, 0], 1.5 * t + 0.8 * t * t),
    ),
}


def release(name, fps=24, substeps=10, at=0.5):
    """How far a body let go from keys is off its parabola after 1 s, metres; and how wrong its spin is, as a share."""
    motion = KEYS[name]
    world = World([BodySpec((Shape(kind="sphere", radius=0.1),))], contacts=False)
    for _ in run_keyed(world, motion, 1.0 + at, fps, substeps, free=lambda t: [t > at - 1e-9]):
        pass
    d = 1e-5
    (p, q), (a, r), (b, s) = motion(at), motion(at - d), motion(at + d)
    speed = (b - a) / (2 * d)
    spin = rotation.to_rotation_vector(rotation.multiply(s, rotation.conjugate(r))) / (2 * d)
    exact = p + speed + np.array([0.0, -0.5 * G, 0.0])
    off = np.linalg.norm(world.poses()[0][0] - exact)
    turned = rotation.angle_between(world.poses()[1][0], rotation.multiply(rotation.from_rotation_vector(spin), q))
    return float(off), float(turned)


def releases():
    for name in KEYS:
        found = [release(name, *r) for r in RATES if r != (24, 2)]
        off, turned = max(f[0] for f in found), max(f[1] for f in found)
        yield f"release from {name} keys: off after 1 s", f"{1000 * off:.5f} mm", "below 0.01 mm", off < 1e-5
        yield (
            f"release from {name} keys: turned away after 1 s",
            f"{np.degrees(turned):.5f} deg",
            "below 0.01",
            np.degrees(turned) < 0.01,
        )


# hits


def cradle(gap=0.0, fps=24, substeps=10, balls=5, lifted=34.4):
    """How high the last ball of a cradle rises, degrees, after the first fell from ``lifted``."""
    length, radius = 0.5, 0.05
    frame = rotation.align(X, Z)
    bodies, joints = [], []
    for i in range(balls):
        top = np.array([i * (2 * radius + gap), 0.0, 0.0])
        angle = -np.radians(lifted) if i == 0 else 0.0
        q = about(Z, angle)
        place = top + rotation.rotate(q, np.array([0.0, -length, 0.0]))
        bodies.append(
            BodySpec(
                (Shape(kind="sphere", radius=radius),),
                mass=1.0,
                position=place,
                rotation=q,
                restitution=1.0,
                friction=0.0,
            )
        )
        joints.append(JointSpec(-1, i, "hinge", anchor=np.array([0.0, length, 0.0]), frame_c=frame, frame_p=frame))
    world = World(bodies, joints)
    highest = 0.0
    for w in run(world, 0.9, fps, substeps):
        q = w.poses()[1][-1]
        highest = max(highest, np.degrees(2.0 * np.arctan2(q[2], q[3])))
    return highest


def dominoes(fps=24, substeps=10, count=24, spacing=0.05):
    """Speed of the wave along a row of dominoes, m/s, between the sixth and the last but four."""
    half = (0.0075, 0.06, 0.03)
    bodies = [
        BodySpec(
            (Shape(kind="box", half=half),), position=np.array([spacing * i, half[1], 0.0]), friction=0.4, density=600.0
        )
        for i in range(count)
    ]
    bodies[0].spin = np.array([0.0, 0.0, -3.0])
    bodies[0].velocity = np.array([3.0 * half[1], 0.0, 0.0])
    world = World(bodies, plane=(0.0, 0.6, 0.0))
    fell = np.full(count, np.nan)
    last = np.zeros(count)
    for n, w in enumerate(run(world, 3.0, fps * substeps, 1)):
        q = w.poses()[1]
        angle = -2.0 * np.arctan2(q[:, 2], q[:, 3])
        new = np.isnan(fell) & (angle > 0.1)
        fell[new] = (n + (0.1 - last[new]) / (angle[new] - last[new])) / (fps * substeps)
        last = angle
        if not np.isnan(fell[count - 4]):
            break
    return spacing * (count - 4 - 6) / (fell[count - 4] - fell[6])


def hits():
    for gap in (0.0, 1e-3, 1e-2):
        heights = [cradle(gap, *r) for r in RATES]
        away = max(abs(h - 34.4) for h in heights)
        yield (
            f"cradle, gaps of {1000 * gap:g} mm: last ball",
            f"{min(heights):.1f} to {max(heights):.1f} deg",
            "34.4 within 1",
            away < 1.0,
        )
    speeds = [dominoes(24, s) for s in (5, 10, 20, 40)]
    words = " ".join(f"{s:.2f}" for s in speeds)
    spread = max(speeds) / min(speeds) - 1.0
    yield "row of dominoes, 5 10 20 40 substeps", f"{words} m/s", "steady within 10 %", spread < 0.1


def random_rests(count, seconds=8.0, seed=0):
    """Mean speeds, m/s, of deckhands some time after they fell from random heights, turned and spun at random."""
    random = np.random.default_rng(seed)
    speeds = []
    for _ in range(count):
        world, _, _ = deckhand(0.0)
        b = world.bodies
        q = rotation.normalize(random.normal(size=4))
        middle = np.average(b["x"], axis=0, weights=b["mass"])
        b["x"] = middle + rotation.rotate(q, b["x"] - middle) + np.array([0.0, random.uniform(0.5, 2.5), 0.0])
        b["q"] = rotation.multiply(q, b["q"])
        spin = random.normal(size=3)
        b["v"] = random.normal(size=3) + np.cross(spin, b["x"] - b["x"].mean(axis=0))
        b["w"] = spin
        for _ in run(world, seconds):
            pass
        speeds.append(float(np.linalg.norm(b["v"], axis=1).mean()))
    return np.array(speeds)


def rests():
    speeds = random_rests(240)
    moving = float(np.mean(speeds > 1e-3))
    yield "deckhand, 240 random starts: above 1 mm/s at 8 s", f"{100 * moving:.1f} %", "below 2 %", moving < 0.02


def rolls(share, slope, speed=0.0, radius=0.1, seconds=1.0, fps=24, substeps=10):
    """How far a ball with rolling resistance comes on a slope (radians, downwards) that it rolls down at a speed, m."""
    start, spin = np.array([0.0, radius, 0.0]), np.array([0.0, 0.0, -speed / radius])
    ball = BodySpec((Shape(kind="sphere", radius=radius),), friction=0.9, rolling=share, position=start,
                    velocity=speed * np.array([1.0, 0.0, 0.0]), spin=spin)  # fmt: skip
    pull = (9.81 * np.sin(slope), -9.81 * np.cos(slope), 0.0)
    world = World([ball], plane=(0.0, 0.9, 0.0), gravity=pull)
    return max(float(w.poses()[0][0, 0]) for w in run(world, seconds, fps, substeps))


def rolling():
    for radius in (0.01, 0.1, 1.0):
        slow = rolls(0.1, 0.0, 2.0, radius) / (2.0 - 0.5 * 5.0 / 7.0 * 0.981)
        slope = np.arctan(0.2)
        down = rolls(0.1, slope, 0.0, radius) / (0.5 * 5.0 / 7.0 * 9.81 * (np.sin(slope) - 0.1 * np.cos(slope)))
        off = 100.0 * max(abs(slow - 1.0), abs(down - 1.0))
        yield (
            f"resistance 0.1, radius {radius} m: way on the level, down a slope of 0.2",
            f"{off:.2f} %",
            "1 %",
            off < 1.0,
        )
        rest = 1e3 * rolls(0.1, np.arctan(0.095), 0.0, radius, 3.0)
        yield f"the same: way in 3 s on a slope of 0.095, radius {radius} m", f"{rest:.3f} mm", "0.1 mm", rest < 0.1


MEASUREMENTS = {
    "letting go": letting_go,
    "meshes": meshes,
    "platforms": platforms,
    "held by friction": held_by_friction,
    "rolling": rolling,
    "joints": joints,
    "loads": loads,
    "releases": releases,
    "hits": hits,
    "random rests": rests,
}
