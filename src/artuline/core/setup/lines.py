"""Lines through points: smooth or straight, with slack, divided into parts of one length, and as they hang."""

from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.optimize import brentq, minimize, root

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import IDENTITY, Array
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.scene.model import Shape

FINE = 48  # points of a line between two that it runs through
LEAST_SPAN = 1e-6  # metres between points that count as two
SETTLE_STEPS, SETTLE_SPEED, SETTLE_AIR = 240, 2e-4, 3.0  # steps of 1/24 s, m/s, 1/s that the air takes meanwhile


def line_through(points: Array, *, closed: bool = False, curved: bool = True) -> Array:
    """A fine line (M, 3) through points (K, 3); a closed one ends where it begins."""
    p = np.concatenate([points, points[:1]]) if closed else np.asarray(points, float)
    span = np.linalg.norm(np.diff(p, axis=0), axis=1)
    keep = np.concatenate([[True], span > LEAST_SPAN])
    p, span = p[keep], span[span > LEAST_SPAN]
    if len(p) < 2:
        return np.repeat(p[:1], 2, axis=0)
    t = np.concatenate([[0.0], np.cumsum(span)])
    fine = np.concatenate([*(np.linspace(a, b, FINE, endpoint=False) for a, b in pairwise(t)), [t[-1]]])
    if not curved or len(p) < 3:
        return np.stack([np.interp(fine, t, p[:, k]) for k in range(3)], axis=1)
    found: Array = CubicSpline(t, p, bc_type="periodic" if closed and np.array_equal(p[0], p[-1]) else "natural")(fine)
    return found


def length_of(line: Array) -> float:
    """Length of a line (M, 3)."""
    return float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum())


def with_slack(line: Array, spans: int, slack: float) -> Array:
    """The line, of ``spans`` of as many points, longer by a share, since each of its spans sags down, or aside where it is upright."""
    if slack <= 0.0:
        return line
    share = np.arange(len(line)) / (len(line) - 1) * spans
    bow = 4.0 * (share % 1.0) * (1.0 - share % 1.0)
    ways = np.zeros_like(line)
    for k in range(spans):
        mine = (share >= k) & (share <= k + 1)
        along = line[mine][-1] - line[mine][0]
        upright = abs(along[1]) > 0.95 * np.linalg.norm(along)
        ways[mine] = [1.0, 0.0, 0.0] if upright else [0.0, -1.0, 0.0]
    wanted = (1.0 + slack) * length_of(line)
    most = 4.0 * wanted
    sag = brentq(lambda s: length_of(line + s * bow[:, None] * ways) - wanted, 0.0, most)
    return line + sag * bow[:, None] * ways


def divided(line: Array, count: int) -> Array:
    """The ends (count + 1, 3) of parts of a line, of equal length from end to end."""
    at = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    step = np.full(count, at[-1] / count)
    for _ in range(60):
        t = np.concatenate([[0.0], np.cumsum(step)])
        t *= at[-1] / max(t[-1], 1e-300)
        ends = np.stack([np.interp(t, at, line[:, k]) for k in range(3)], axis=1)
        chord = np.linalg.norm(np.diff(ends, axis=0), axis=1)
        if np.ptp(chord) < 1e-9 * max(at[-1], 1e-300):
            break
        step *= chord.mean() / np.maximum(chord, 1e-300)
    return ends


def along(ends: Array) -> Array:
    """Rotations (N, 4) whose x axes run along the parts between ends (N + 1, 3), turned as little as can be from one to the next (parallel
    transport: Bishop 1975).
    """
    ways = np.diff(ends, axis=0)
    length = np.linalg.norm(ways, axis=1, keepdims=True)
    ways = np.where(length > 1e-12, ways / np.maximum(length, 1e-12), [1.0, 0.0, 0.0])
    turns = [rotation.align(np.array([1.0, 0.0, 0.0]), ways[0])]
    for a, b in pairwise(ways):
        turns.append(rotation.normalize(rotation.multiply(rotation.align(a, b), turns[-1])))
    return np.array(turns)


def chain(start: Array, end: Array | None, count: int, length: float, down: Array) -> Array:
    """The ends (count + 1, 3) of parts of a length that hang between two places, or from one, as a chain without friction: along every part
    points the mean of the forces at its ends. ``down`` (3,): a unit vector.
    """
    if end is None:
        return np.asarray(start + length * np.arange(count + 1)[:, None] * down)
    way = end - start
    height = -float(way @ down)
    level = way + height * down
    across = float(np.linalg.norm(level))
    if float(np.linalg.norm(way)) >= count * length * (1.0 - 1e-9):
        return np.asarray(start + np.linspace(0.0, 1.0, count + 1)[:, None] * way)
    side = (
        level / across
        if across > 1e-9 * length
        else np.cross(down, [0.0, 0.0, 1.0] if abs(down[2]) < 0.9 else [1.0, 0, 0])
    )
    goal = np.array([max(across / length, 1e-6), height / length])
    # the parts on either side of one that bears nothing hang upright: within its reach of where they end, it bears
    lowest = round(0.5 * (count - 1 - goal[1]))
    if 0 <= lowest < count and np.hypot(goal[0], goal[1] - (count - 1 - 2 * lowest)) < 1.0:
        unit = _propped(goal, lowest, count)
    else:
        unit = _pulled(goal, count)
    steps = length * (unit[:, :1] * side - unit[:, 1:] * down)
    places = np.concatenate([[start], start + np.cumsum(steps, axis=0)])
    # what the search left open
    return np.asarray(places + np.linspace(0.0, 1.0, count + 1)[:, None] * (end - places[-1]))


def _pulled(goal: Array, count: int) -> Array:
    """Ways (count, 2), aside and up, of parts that hang between two places ``goal`` (2,) part lengths apart, all of them pulled."""
    weights = np.arange(count) + 0.5

    # the tension at the start, in weights of a part, is where this convex function is least
    def energy(t: Array) -> tuple[float, Array]:
        pull = np.stack([np.full(count, t[0]), t[1] + weights], axis=1)
        size = np.sqrt((pull**2).sum(axis=1) + 1e-18)
        return float(size.sum() - goal @ t), (pull / size[:, None]).sum(axis=0) - goal

    def curvature(t: Array) -> Array:
        pull = np.stack([np.full(count, t[0]), t[1] + weights], axis=1)
        size = np.sqrt((pull**2).sum(axis=1) + 1e-18)
        unit = pull / size[:, None]
        return np.asarray(((np.eye(2) - unit[:, :, None] * unit[:, None, :]) / size[:, None, None]).sum(axis=0))

    found = minimize(
        energy,
        np.array([0.3 * count, -0.5 * count]),
        jac=True,
        hess=curvature,
        method="trust-exact",
        options={"gtol": 1e-10, "maxiter": 400, "max_trust_radius": 1e6, "initial_trust_radius": 0.3 * count},
    ).x
    pull = np.stack([np.full(count, found[0]), found[1] + weights], axis=1)
    return pull / np.linalg.norm(pull, axis=1, keepdims=True)


def _propped(goal: Array, lowest: int, count: int) -> Array:
    """Ways (count, 2), aside and up, of parts that hang between two places ``goal`` (2,) part lengths apart, so close together that the
    ``lowest`` part, which would bear nothing, props them asunder: the one that is pressed, where all others are pulled.
    """
    from_lowest = np.arange(count) - float(lowest)
    others = from_lowest != 0.0

    def ways(x: Array) -> Array:
        pull = np.stack([np.full(count, -x[0] * np.cos(x[1])), x[0] * np.sin(x[1]) + from_lowest], axis=1)
        unit = np.empty_like(pull)
        unit[others] = pull[others] / np.linalg.norm(pull[others], axis=1, keepdims=True)
        unit[lowest] = np.cos(x[1]), -np.sin(x[1])
        return unit

    aside, up = goal[0], goal[1] - np.sign(from_lowest).sum()
    # how hard it presses, in weights of a part, and how it leans: where the ends are nearly above each other, the first of these is far off
    lean = -np.arctan2(up, max(aside, 1e-9))
    starts = [(0.5 * (1.0 - np.hypot(aside, up)), lean), (0.5, 0.5 * lean), (0.5, 0.0), (0.2, 0.8 * lean)]
    found = [root(lambda x: ways(x).sum(axis=0) - goal, np.array(x), tol=1e-13).x for x in starts]
    return ways(min(found, key=lambda x: float(np.abs(ways(x).sum(axis=0) - goal).max())))


def hanging(ends: Array, held: Sequence[int], closed: bool, length: float, down: Array) -> Array:
    """The ends (N + 1, 3) of parts of equal length that hang at rest by those ends that are ``held``, touching nothing and without stiffness.
    Where nothing holds it, as it was. ``length``: of a part, m; ``down`` (3,): a unit vector.
    """
    if not held:
        return ends
    count, found = len(ends) - 1, ends.copy()
    stops = sorted(set(held))
    if closed:
        stops = [*stops, stops[0] + count]
    elif stops[0] > 0:
        found[: stops[0] + 1] = chain(ends[stops[0]], None, stops[0], length, down)[::-1]
    for a, b in pairwise(stops):
        rows = np.arange(a, b + 1) % count if closed else np.arange(a, b + 1)
        found[rows] = chain(ends[a % count if closed else a], ends[b % count if closed else b], b - a, length, down)
    if closed:
        found[-1] = found[0]
    elif stops[-1] < count:
        found[stops[-1] :] = chain(ends[stops[-1]], None, count - stops[-1], length, down)
    return found


def settled(ends: Array, held: dict[int, bool], closed: bool, length: float, joint: JointSpec, gravity: Array) -> Array:
    """The ends (N + 1, 3) of parts that hang at rest with the springs of a ``joint`` between two, beginning as they are without. ``held``:
    the ends that are held, and whether their direction is, too.
    """
    count = len(ends) - 1
    turns, places = along(ends), ends[:-1]
    # a heavier line hangs no differently: of a kilogram in all, with springs for that
    ball = Shape(kind="sphere", radius=0.3 * length, position=(0.5 * length, 0.0, 0.0))
    bodies = [BodySpec((ball,), mass=1.0 / count, position=p, rotation=q, drag=(SETTLE_AIR, SETTLE_AIR))
              for p, q in zip(places, turns, strict=True)]  # fmt: skip
    springs: dict[str, Any] = {
        "bend_frequency": joint.bend_frequency,
        "bend_ratio": 1.0,
        "feels": joint.feels,
        "frame_p": IDENTITY,
    }
    tip = np.array([length, 0.0, 0.0])
    joints = [JointSpec(i - 1, i, anchor=np.zeros(3), anchor_p=tip, **springs) for i in range(1, count)]
    if closed:
        joints.append(JointSpec(count - 1, 0, "pin", anchor=np.zeros(3), anchor_p=tip, **springs))
    for end, firm in held.items():
        part, at = min(end, count - 1), tip if end == count else np.zeros(3)
        joints.append(
            JointSpec(-1, part, "weld" if firm else "pin", anchor=at, anchor_p=ends[end], frame_p=turns[part])
        )
    world = World(bodies, joints, gravity=tuple(gravity), contacts=False)
    for _ in range(SETTLE_STEPS):
        world.step(1 / 24, 2)
        if np.abs(world.bodies["v"]).max() < SETTLE_SPEED:
            break
    p, q = world.poses()
    return np.concatenate([p, (p[-1] + rotation.rotate(q[-1], tip))[None]])
