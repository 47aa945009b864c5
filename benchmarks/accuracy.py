"""Accuracy against closed forms: each measurement yields (what, value, wanted, kept)."""

from itertools import pairwise

import numpy as np
from scipy.special import ellipk

from artuline.core.geometry import rotation
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Shape
from benchmarks.scenes import FRAME, X, chain, deckhand, pendulum, rod, slope, stretch

BALL = Shape(kind="sphere", radius=0.1)


def swing():
    """Period and amplitude of a rod at 60 degrees over 10 s."""
    length, angle = 0.5, np.radians(60.0)
    world = pendulum(length)
    step = FRAME / 10
    t, crossings, peaks = 0.0, [], []
    last = None
    for _ in range(round(10.0 / step)):
        world.step(step, 1)
        t += step
        p = world.poses()[0][0]
        a = np.arctan2(p[0], -p[1])
        if last is not None and last < 0.0 <= a:
            crossings.append(t - step * a / (a - last))
        peaks.append(abs(a))
        last = a
    period = np.diff(crossings).mean()
    exact = 4.0 * np.sqrt(2.0 * length / 3.0 / 9.81) * ellipk(np.sin(angle / 2) ** 2)
    error = 100.0 * (period / exact - 1.0)
    tail = 100.0 * max(peaks[-round(1.5 / step) :]) / angle
    yield "period, 10 substeps", f"{error:+.4f} %", "within 0.05 %", abs(error) <= 0.05
    yield "amplitude after 10 s", f"{tail:.3f} %", "99.5 to 100.5 %", 99.5 <= tail <= 100.5


def response(frequency, ratio, mass, substeps=10):
    """Worst distance of a drive's step response from the damped oscillator's, as a share of the step."""
    spec = rod(0.4, mass)
    target = rotation.from_rotation_vector(np.array([0.0, 0.0, 0.5]))
    joint = JointSpec(-1, 0, anchor=-X * 0.2, frequency=frequency, ratio=ratio, target=target)
    world = World([spec], [joint], gravity=(0, 0, 0), contacts=False)
    worst, o = 0.0, 2 * np.pi * frequency
    h = FRAME / substeps
    steps = min(round(2.0 / frequency / h), 960)
    for n in range(1, steps + 1):
        world.step(h, 1)
        t = n * h
        q = world.poses()[1][0]
        x = 1.0 - 2.0 * np.arctan2(q[2], q[3]) / 0.5
        worst = max(worst, abs(x - oscillator(o, ratio, t)))
    return worst


def oscillator(o, z, t):
    """Free response from 1 at rest of x'' + 2 z o x' + o^2 x = 0."""
    if z < 1.0:
        d = o * np.sqrt(1 - z * z)
        return np.exp(-z * o * t) * (np.cos(d * t) + z * o / d * np.sin(d * t))
    if z == 1.0:
        return np.exp(-o * t) * (1 + o * t)
    d = o * np.sqrt(z * z - 1)
    a, b = -z * o + d, -z * o - d
    return (b * np.exp(a * t) - a * np.exp(b * t)) / (b - a)


def drive():
    for mass in (0.01, 1.0, 100.0):
        worst = max(response(f, z, mass) for f in (0.5, 1, 2, 4, 8) for z in (0.2, 0.5, 1.0, 2.0))
        yield (
            f"step response, {mass:g} kg, 0.5 to 8 Hz",
            f"{100 * worst:.2f} %",
            "within 3 % of the step",
            worst <= 0.03,
        )


def hanging():
    for links, ratio, bound, energy_bound in ((10, 100, 0.02, 2.0), (40, 20, 0.05, 3.0)):
        for substeps in (10, 20):
            world = chain(links, ratio)
            start, weight = world.energy(), 0.1 * ratio * 9.81 * links * 0.1
            worst, energy = 0.0, [0.0]
            for _ in range(48):
                world.step(FRAME, substeps)
                worst = max(worst, stretch(world, links))
                energy.append((world.energy() - start) / weight)
            worst *= 100
            low, high = 100 * min(energy), 100 * max(energy)
            name = f"{links} links, tip {ratio}, {substeps} substeps"
            yield f"{name}: stretch", f"{worst:.5f} %", f"below {bound} %", worst < bound
            kept = max(-low, high) <= energy_bound
            yield f"{name}: energy", f"{low:+.2f} {high:+.2f} %", f"within {energy_bound:g} %", kept
    worst, energy = 0.0, []
    for k in range(8):
        # a whip: starts that differ by next to nothing end differently
        length = 0.1 * (1.0 + 1e-9 * k)
        world = chain(10, 1000, length)
        start, weight = world.energy(), 100 * 9.81
        for _ in range(48):
            world.step(FRAME, 10)
            worst = max(worst, stretch(world, 10, length))
            energy.append((world.energy() - start) / weight)
    calm = max(energy) < 0.05 and worst < 0.001
    yield (
        "10 links, tip 1000, worst of 8: stretch, energy",
        f"{100 * worst:.4f} % {100 * max(energy):+.1f} %",
        "bounded",
        calm,
    )


def _fall(height):
    """Worst gap, excess (radians) and penetration of a fall, and mean speed at 4 s and at 8 s."""
    world, _, _ = deckhand(height)
    apart, excess, deep, touched, speeds = 0.0, 0.0, 0.0, False, []
    for frame in range(192):
        world.step(FRAME, 10)
        apart = max(apart, world.joints["separation"].max())
        excess = max(excess, world.joints["excess"].max())
        if touched:
            deep = max(deep, world.bodies["penetration"].max())
        touched = touched or world.bodies["contact"].max() > 0.0
        world.reset_report()
        if frame in (95, 191):
            speeds.append(np.linalg.norm(world.bodies["v"], axis=1).mean())
    return apart, excess, deep, *speeds


def drop():
    falls = np.array([_fall(height) for height in np.linspace(1.9, 2.1, 9)])
    apart, excess, deep = falls[:, :3].max(axis=0)
    first, moving = np.median(falls[:, 3]), (falls[:, 3:] > 1e-3).sum(axis=0)
    yield "worst joint separation of nine falls", f"{1000 * apart:.3f} mm", "below 0.5 mm", apart < 5e-4
    yield "worst limit excess", f"{np.degrees(excess):.3f} deg", "below 1 deg", np.degrees(excess) < 1.0
    yield "worst penetration after first contact", f"{1000 * deep:.2f} mm", "below 2 mm", deep < 2e-3
    yield "mean speed at 4 s, median", f"{1000 * first:.3f} mm/s", "below 1 mm/s", first < 1e-3
    yield "falls with 1 mm/s or more at 4 s, at 8 s", f"{moving[0]}, {moving[1]} of 9", "shown", True


def sliding():
    world, _ = slope(20.0, 0.4)
    for _ in range(24):
        world.step(FRAME, 10)
    p = world.poses()[0][1].copy()
    for _ in range(72):
        world.step(FRAME, 10)
    crept = np.linalg.norm(world.poses()[0][1] - p)
    yield "creep in 3 s at 20 deg, friction 0.4", f"{1e6 * crept:.2f} um", "sticks", crept < 1e-5
    for degrees, friction in ((30.0, 0.4), (25.0, 0.3), (40.0, 0.1)):
        world, along = slope(degrees, friction)
        speeds = []
        for _ in range(24):
            world.step(FRAME, 10)
            speeds.append(world.bodies["v"][1] @ along)
        a = np.polyfit(np.arange(12, 24) * FRAME, speeds[12:], 1)[0]
        exact = 9.81 * (np.sin(np.radians(degrees)) - friction * np.cos(np.radians(degrees)))
        error = 100 * (a / exact - 1)
        yield (
            f"acceleration at {degrees:g} deg, friction {friction}",
            f"{error:+.2f} %",
            "within 2 %",
            abs(error) <= 2,
        )


def bounce():
    for e in (0.2, 0.5, 0.9):
        ball = BodySpec((BALL,), position=np.array([0.0, 1.1, 0.0]), restitution=e)
        world = World([ball], plane=(0.0, 0.5, 0.0))
        hit, top = False, 0.0
        for _ in range(24 * 10 * 2):
            world.step(FRAME / 10, 1)
            v = world.bodies["v"][0][1]
            hit = hit or v > 0.0
            if hit:
                top = max(top, world.poses()[0][0][1] - 0.1)
                if v < 0.0:
                    break
        error = 100 * (top / e**2 - 1)
        yield f"height for restitution {e}", f"{error:+.2f} %", "within 3 %", abs(error) <= 3


def tumbling():
    body = BodySpec((Shape(kind="box", half=(0.3, 0.2, 0.1)),), spin=np.array([0.01, 5.0, 0.01]))
    world = World([body], gravity=(0, 0, 0))
    _, start = world.momentum()
    energy = world.energy()
    worst_l, worst_e = 0.0, 0.0
    for _ in range(480):
        world.step(FRAME, 10)
        worst_l = max(worst_l, np.linalg.norm(world.momentum()[1] - start) / np.linalg.norm(start))
        worst_e = max(worst_e, abs(world.energy() / energy - 1))
    yield "angular momentum over 20 s", f"{100 * worst_l:.2e} %", "within 0.1 %", worst_l <= 1e-3
    yield "energy over 20 s", f"{100 * worst_e:.3f} %", "within 0.5 %", worst_e <= 5e-3


def resting():
    box = Shape(kind="box", half=(0.2, 0.1, 0.2))
    bodies = [BodySpec((box,), position=np.array([0.01 * i, 0.1 + 0.2 * i, 0.0]), restitution=0.0) for i in range(5)]
    world = World(bodies, plane=(0.0, 0.6, 0.0))
    for _ in range(72):
        world.step(FRAME, 10)
    speed = np.linalg.norm(world.bodies["v"], axis=1).mean()
    yield "stack of 5 boxes, mean speed after 3 s", f"{1000 * speed:.4f} mm/s", "below 1 mm/s", speed < 1e-3


def bullet():
    ok, closest = True, np.inf
    for k in range(40):
        plate = BodySpec((Shape(kind="box", half=(0.001, 0.5, 0.5)),), free=False)
        ball = BodySpec(
            (Shape(kind="sphere", radius=0.01),), position=np.array([-1.0 - 0.013 * k, 0.007 * k, 0.0]),
            velocity=np.array([60.0, 0.0, 0.0]),
        )  # fmt: skip
        world = World([plate, ball], gravity=(0, 0, 0))
        for _ in range(6):
            world.step(FRAME, 10)
        x = world.poses()[0][1][0]
        ok, closest = ok and x < -0.01, min(closest, -x)
    yield "2 cm ball at 60 m/s against a 2 mm plate", f"nearest {1000 * closest:.1f} mm", "never through", ok


def refinement():
    def end(substeps):
        world = chain(3, 5, length=0.2)
        for _ in range(12):
            world.step(FRAME, substeps)
        return world.poses()[0]

    finest = end(320)
    errors = [np.abs(end(n) - finest).max() for n in (10, 20, 40, 80)]
    ratios = [a / b for a, b in pairwise(errors)]
    text = " ".join(f"{r:.1f}" for r in ratios)
    yield "error falls, 10 to 80 substeps, by", text, "2 or more each", min(ratios) >= 2.0


def following():
    from artuline.core.run.record import run
    from artuline.core.scene import edit
    from artuline.core.scene.model import Scene

    _, figure, assets = deckhand()
    figure = figure.changed(clip="walk")
    scene = Scene(figures=(figure,), end=48, ground=None)
    scene = edit.hand_over(scene, figure.id, "upper_arm_l", 4, 60, 0, 0, tone=1.0)
    take = run(scene, assets)
    free = take.handover
    bare = edit.hand_over(scene.changed(figures=(figure,)), figure.id, "upper_arm_l", 400, 460)
    keyed = run(bare, assets)
    i = [r.body for r in take.bodies].index("hand_l")
    live = slice(10, 47)
    moved, wanted = take.position[live, i], keyed.position[live, i]
    velocity = np.gradient(keyed.position[:, i], FRAME, axis=0)[live]
    # the time by which the hand is behind, fitted over the walk
    lag = -np.sum((moved - wanted) * velocity) / np.sum(velocity**2)
    assert free[live, i].min() == 1.0
    away = np.linalg.norm(moved - wanted, axis=1).max()
    bound = FRAME / 10
    yield (
        "lag at the wrist, tone 1",
        f"{1000 * lag:+.2f} ms",
        f"below {1000 * bound:.2f} ms",
        abs(lag) < bound,
    )
    yield "distance at the wrist, tone 1", f"{1000 * away:.1f} mm", "shown", True


def seams():
    """Of the demo scenes: pose and speed where physics takes over and where it ends, and the worst of the take."""
    from artuline.core.motion.keyed import keyed_pose
    from artuline.core.run.measures import summary
    from artuline.core.run.record import run
    from artuline.demo.scenes import DEMOS, demo_scene

    for name in DEMOS:
        assets = AssetStore()
        scene = demo_scene(name, assets)
        take = run(scene, assets)
        f = scene.figures[0]
        keyed = keyed_pose(scene, assets, f, take.frames.astype(float), layers=False).rotation
        shown = take.poses[f.id].rotation
        live = np.flatnonzero((take.handover > 0).any(axis=1))
        parts = []
        for words, at, step in (("in", int(live[0]), 1), ("out", min(live[-1] + 1, len(shown) - 1), -1)):
            if words == "out" and at == len(shown) - 1:
                continue
            pose = np.degrees(rotation.angle_between(shown[at], keyed[at])).max()
            a = rotation.multiply(rotation.conjugate(shown[at]), shown[at + step])
            b = rotation.multiply(rotation.conjugate(keyed[at]), keyed[at + step])
            speed = np.degrees(rotation.angle_between(a, b)).max() * scene.rate
            parts.append(f"{words}: {pose:.2g} deg, {speed:.0f} deg/s")
        row = summary(scene, assets, take)
        parts.append(
            f"pressed in {row['Pressed in']:.2f} mm, beyond limits {row['Beyond a limit']:.2f} deg, foot {row['Foot slides']:.0f} mm"
        )
        yield f"{name}: {'; '.join(parts)}", "", "shown", True


MEASUREMENTS = {
    "seams": seams,
    "pendulum": swing, "drive": drive, "following": following, "chain": hanging, "drop": drop, "slope": sliding,
    "bounce": bounce, "tumbling": tumbling, "resting": resting, "bullet": bullet, "refinement": refinement,
}  # fmt: skip
