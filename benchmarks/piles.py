"""Piles of ragdolls: cost a body, on one core and two, and against MuJoCo at equal steps and at its usual ones."""

import math
import re
import time

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.physics import island_runs
from artuline.core.run.build import build
from artuline.core.scene.model import Scene
from benchmarks.outside import mjcf
from benchmarks.scenes import FRAME, deckhand

SECONDS = 3.0
MIDDLE = np.array([0.0, 1.0, 0.0])  # of a figure that stands
LONGEST = 12.0  # s that are waited for rest
STILL = 0.01  # m/s of every body
LOST = 100.0  # m/s or rad/s: a motion that has been lost


def places(count, seed=1):
    """Figures lying flat, turned about the upright axis, in layers of a fifth of them."""
    random = np.random.default_rng(seed)
    layer = math.ceil(count / 5)
    side = math.ceil(math.sqrt(layer))
    places = []
    for k in range(count):
        n, m = divmod(k, layer)
        if m == 0:
            shift = random.uniform(-0.5, 0.5, 2)
        places.append((2.0 * (m % side) + shift[0], 0.4 + 0.35 * n - 1.0, 2.0 * (m // side) + shift[1]))
    flat = rotation.from_rotation_vector(np.array([np.pi / 2, 0.0, 0.0]))
    about = rotation.from_rotation_vector(np.outer(random.uniform(-3, 3, count), [0.0, 1.0, 0.0]))
    return np.array(places), rotation.multiply(about, flat)


def pile(count):
    """The world of so many deckhands, and the names of its bodies that collide within a figure."""
    _, figure, assets = deckhand()
    world = build(
        Scene(figures=tuple(figure.changed(id=f"f{k}", name=f"Hand {k}") for k in range(count))), assets
    ).world
    n, b = len(world.bodies) // count, world.bodies
    for k, (p, q) in enumerate(zip(*places(count))):
        mine = slice(k * n, (k + 1) * n)
        b["x"][mine] = rotation.rotate(q, b["x"][mine] - MIDDLE) + MIDDLE + p
        b["q"][mine] = rotation.multiply(q, b["q"][mine])
    b["free"] = True
    return world, figure


def run(count, threads, seconds=SECONDS):
    """Seconds that a pile takes, its slowest frame, and the world in the end."""
    island_runs.threads = threads
    world, _ = pile(count)
    world.step(FRAME, 10)
    frames = []
    for _ in range(round(seconds / FRAME) - 1):
        began = time.perf_counter()
        world.step(FRAME, 10)
        frames.append(time.perf_counter() - began)
    return sum(frames), max(frames), world


def theirs(count, dt):
    """The same pile as a MuJoCo model, with room for it, the same pairs of bodies, and some inertia at the joints, without which it is lost at once."""
    import mujoco

    world, figure = pile(1)
    head, rest = mjcf(figure, 0.0, dt).split("<body ", 1)
    body = "<body " + rest.rsplit("</worldbody>", 1)[0].replace('damping="0.5"', 'damping="0.5" armature="0.01"')
    head = head.replace('"/><worldbody>', '" integrator="implicitfast"/><size memory="2G"/><worldbody>')
    joint = {j.child: j for j in figure.joints}
    order: list[str] = []

    def walk(name):
        order.append(name)
        for child, j in joint.items():
            if j.parent == name:
                walk(child)

    walk(next(b.id for b in figure.bodies if b.id not in joint))
    mine = sorted(figure.bodies, key=lambda b: figure.bone_index[b.bone])
    place = {b.id: k for k, b in enumerate(mine)}
    n, apart = len(mine), world.apart
    lists = [set(apart[apart[1 + i] : apart[2 + i]].tolist()) for i in range(n)]
    numbers = iter(range(count * n))
    bodies = re.sub("<body ", lambda _: f'<body name="b{next(numbers)}" ', body * count)
    off = [(a, b) for a in range(n) for b in range(a) if place[order[b]] in lists[place[order[a]]]]
    excluded = "".join(f'<exclude body1="b{k * n + a}" body2="b{k * n + b}"/>' for k in range(count) for a, b in off)
    model = mujoco.MjModel.from_xml_string(f"{head}{bodies}</worldbody><contact>{excluded}</contact></mujoco>")
    data = mujoco.MjData(model)
    size = model.nq // count
    for k, (p, q) in enumerate(zip(*places(count))):
        root = data.qpos[k * size : k * size + 7]
        root[:3] = rotation.rotate(q, root[:3] - MIDDLE) + MIDDLE + p
        root[[4, 5, 6, 3]] = rotation.multiply(q, root[[4, 5, 6, 3]])
    return mujoco, model, data


def run_theirs(count, dt, most=SECONDS):
    """Seconds that MuJoCo takes, and how far it came before its motion was lost."""
    mujoco, model, data = theirs(count, dt)
    began = time.perf_counter()
    while data.time < most and abs(data.qvel).max() < LOST:
        mujoco.mj_step(model, data)
    return time.perf_counter() - began, min(data.time, most)


def still_after(world):
    """The time, s, at which a pile that ran for a while has come to rest; None if it takes too long."""
    for k in range(round((LONGEST - SECONDS) / FRAME)):
        if np.linalg.norm(world.bodies["v"], axis=1).max() < STILL:
            return SECONDS + k * FRAME
        world.step(FRAME, 10)
    return None


def piles():
    per_body = {}
    for count in (1, 10, 30, 100):
        took, worst, world = run(count, 1)
        per_body[count] = took / len(world.bodies)
        both, _, other_world = run(count, 2)
        yield (
            f"{count} ragdolls: cost against real time",
            f"{took / SECONDS:.2f}, worst frame {worst / FRAME:.1f}",
            "shown",
            True,
        )
        if count > 1:
            yield f"{count} ragdolls: two cores against one", f"{took / both:.2f} x", "at least 1.6", took / both >= 1.6
            yield (
                f"{count} ragdolls: cost a body against one's",
                f"{per_body[count] / per_body[1]:.2f}",
                "below 1.3",
                per_body[count] < 1.3 * per_body[1],
            )
        same = all(world.bodies[n].tobytes() == other_world.bodies[n].tobytes() for n in ("x", "q", "v", "w"))
        yield f"{count} ragdolls: bits on one core and two", "the same" if same else "others", "the same", same
        worst_values = (1000 * world.bodies["penetration"].max(), 1000 * world.joints["separation"].max())
        yield f"{count} ragdolls: pressed in, joints apart", "{:.1f}, {:.2f} mm".format(*worst_values), "shown", True
        rest = still_after(other_world)
        yield (
            f"{count} ragdolls: all below {1000 * STILL:.0f} mm/s after",
            f"{rest:.1f} s" if rest else f"not in {LONGEST:.0f} s",
            "shown",
            True,
        )
        for dt, most in ((1.0 / 240.0, 0.5), (0.002, 0.25)):
            try:
                other, reached = run_theirs(count, dt)
            except ImportError:
                yield "MuJoCo is not installed: pip install -e '.[bench]'", "-", "a half", False
                return
            mine = run(count, 2, reached)[0] if reached < SECONDS else min(took, both)
            text = f"{mine / other:.2f} ({mine:.2f} : {other:.2f} s" + (
                f", lost at {reached:.2f} s)" if reached < SECONDS else ")"
            )
            yield (
                f"{count} ragdolls against MuJoCo at {1000 * dt:.2g} ms",
                text,
                f"at most {most}",
                mine / other <= most,
            )


def flight():
    """Ragdolls that fall past each other: nothing touches."""
    costs: dict[tuple[int, int], float] = {}
    # by turns, the best of each: other work on the machine comes and goes
    for count, threads in [(1, 1), (100, 1), (100, 2)] * 4:
        island_runs.threads = threads
        world, _ = pile(count)
        world.bodies["x"][:, 1] += 50.0
        world.bodies["x"][:, 1] += 2.0 * (np.arange(len(world.bodies)) // 17)
        world.step(FRAME, 10)
        began = time.perf_counter()
        for _ in range(24):
            world.step(FRAME, 10)
        took = (time.perf_counter() - began) / len(world.bodies)
        costs[count, threads] = min(took, costs.get((count, threads), np.inf))
    growth = costs[100, 1] / costs[1, 1]
    yield "100 ragdolls in flight: cost a body against one's", f"{growth:.2f}", "below 1.3", growth < 1.3
    speed = costs[100, 1] / costs[100, 2]
    yield "100 ragdolls in flight: two cores against one", f"{speed:.2f} x", "at least 1.6", speed >= 1.6


MEASUREMENTS = {"piles": piles, "flight": flight}
