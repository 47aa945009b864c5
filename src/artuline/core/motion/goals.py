"""Limbs led by goals: where the end is to be, how it is turned, and where the middle looks. All in the figure's own frame (file units).

The limb is bent about one axis of its upper bone until its ends are as far apart as root and goal are (the law of cosines about a fixed axis), turned
towards the goal, and about the line between root and goal until its middle looks where it should. What the lower bone's own keys say of its turn is kept.
"""

from dataclasses import dataclass

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import Pose, Skeleton, rigid, skeleton_of
from artuline.core.scene.model import Figure, Limb

#: Share of the limb's length within which its own bend counts more than the goal: near straight a hair's breadth of distance is degrees of bend.
NEAR = 0.003
#: Share of the limb's length at which the place that the middle looks at is drawn from it.
OUT = 0.5
#: How far a limb bends the wrong way, at most, and still counts as meant to (radians, and times what its keys bend).
WRONG_WAY = (np.radians(3.0), 3.0)


@dataclass(frozen=True)
class Goals:
    """Of one limb over frames: places (F, 3) and turns (F, 4) of its end, and places (F, 3) that its middle looks at."""

    place: Array
    turn: Array
    direction: Array


@dataclass(frozen=True)
class Led:
    """A limb as indices: its upper and lower bone, its end, and what the bones that bend hang on (-1: nothing); axis (3,)."""

    upper: int
    lower: int
    end: int
    axis: Array
    over: tuple[int, int, int]


def led(figure: Figure, limb: Limb) -> Led:
    """A limb of a figure as indices."""
    a, b, c = (figure.bone_index[n] for n in limb.bones)
    parents = [figure.bones[i].parent for i in (a, b, c)]
    over = tuple(figure.bone_index[p] if p is not None else -1 for p in parents)
    axis = np.array(limb.axis)
    return Led(a, b, c, axis / np.linalg.norm(axis), over)  # type: ignore[arg-type]


def goals_of(skeleton: Skeleton, limb: Led, pose: Pose) -> Goals:
    """The goals with which a limb is led to where it is in a pose (F, B)."""
    p, q = rigid(skeleton.global_matrices(pose))
    a, e, h = p[:, limb.upper], p[:, limb.lower], p[:, limb.end]
    n = rotation.rotate(q[:, limb.upper], limb.axis)
    x = _unit(h - a)
    n = _unit(n - _dot(n, x) * x)
    length = np.linalg.norm(e - a, axis=1) + np.linalg.norm(h - e, axis=1)
    # in the plane that the limb would bend in about its axis alone
    return Goals(h, q[:, limb.end], e - _dot(e - a, n) * n + OUT * length[:, None] * np.cross(x, n))


def lead(skeleton: Skeleton, limb: Led, pose: Pose, goals: Goals) -> None:
    """Turn a limb's three bones in a pose (F, B), in place, so that it follows its goals, or comes as near as it reaches."""
    p, q = rigid(skeleton.global_matrices(pose))
    a, e, h = p[:, limb.upper], p[:, limb.lower], p[:, limb.end]
    n = rotation.rotate(q[:, limb.upper], limb.axis)
    u, v, way = e - a, h - e, goals.place - a
    bend = rotation.from_rotation_vector(n * _bend(u, v, n, np.linalg.norm(way, axis=1))[:, None])
    x, now = _unit(way), _unit(u + rotation.rotate(bend, v))
    turn = _towards(now, x)
    n = rotation.rotate(turn, n)
    n = _unit(n - _dot(n, x) * x)
    look = goals.direction - a
    look = look - _dot(look, x) * x
    clear = np.linalg.norm(look, axis=1) > 1e-6 * np.linalg.norm(u, axis=1)
    wanted = np.where(clear[:, None], np.cross(_unit(look), x), n)
    roll = np.arctan2(np.sum(np.cross(n, wanted) * x, axis=1), np.sum(n * wanted, axis=1))
    turn = rotation.multiply(rotation.from_rotation_vector(x * roll[:, None]), turn)
    upper = rotation.multiply(turn, q[:, limb.upper])
    lower = rotation.multiply(turn, rotation.multiply(bend, q[:, limb.lower]))
    # what hangs between two of the bones is carried along
    between = rotation.multiply(turn, q[:, limb.over[1]])
    beyond = rotation.multiply(turn, rotation.multiply(bend, q[:, limb.over[2]]))
    above = q[:, limb.over[0]] if limb.over[0] >= 0 else np.broadcast_to(rotation.IDENTITY, upper.shape)
    for bone, over, made in (
        (limb.upper, above, upper),
        (limb.lower, between, lower),
        (limb.end, beyond, goals.turn),
    ):
        pose.rotation[:, bone] = rotation.normalize(rotation.multiply(rotation.conjugate(over), made))


def _bend(u: Array, v: Array, n: Array, far: Array) -> Array:
    """Angles (F,) by which lower bones v (F, 3) turn about axes n (F, 3) until they end as far from where upper bones u (F, 3) begin."""
    along = _dot(v, n) * n
    across = v - along
    # |u + turned v|^2 = far^2: a cos t + b sin t = c
    a = np.sum(u * across, axis=1)
    b = np.sum(u * np.cross(n, across), axis=1)
    size = np.maximum(np.hypot(a, b), 1e-30)
    straight = np.arctan2(b, a)
    length = np.linalg.norm(u, axis=1) + np.linalg.norm(v, axis=1)
    now = np.linalg.norm(u + v, axis=1)
    off = far - now
    # close to where its keys have it, it stays as bent as they say
    off = off**3 / (off**2 + (NEAR * length) ** 2 + 1e-300)
    c = 0.5 * ((now + off) ** 2 - np.sum(u * u, axis=1) - np.sum(v * v, axis=1)) - np.sum(u * along, axis=1)
    open_ = np.arccos(np.clip(c / size, -1.0, 1.0))
    # straight is at t = straight; it bends towards greater t, unless its keys bend it a little the other way
    wrong = (straight > 0.0) & (open_ < np.maximum(WRONG_WAY[0], WRONG_WAY[1] * straight))
    found: Array = straight + np.where(wrong, -open_, open_)
    return found


def follow(
    skeleton: Skeleton,
    limb: Led,
    pose: Pose,
    given: tuple[Array | None, Array | None, Array | None],
    adds: bool = False,
) -> None:
    """Lead a limb of a pose (F, B), in place, by places (F, 3) and turns (F, 4) of its goal and places (F, 3) that its middle looks at; what is None stays as it
    is. ``adds``: they are added to what is there.
    """
    there = goals_of(skeleton, limb, pose)
    values = [
        old if new is None else (added(path, old, new) if adds else new)
        for path, old, new in zip(("translation", "rotation", "translation"), (there.place, there.turn, there.direction), given)
    ]  # fmt: skip
    lead(skeleton, limb, pose, Goals(*values))


def curve_of(figure: Figure, pose: Pose, name: tuple[str, str]) -> Array:
    """What a curve of a figure, of a bone or of a limb, would have to be (F, D) for a pose (F, B)."""
    if name[0] in figure.bone_index:
        found: Array = getattr(pose, name[1])[:, figure.bone_index[name[0]]]
        return found
    limb = next(x for x in figure.goals if name[0] in x.curves)
    goals = goals_of(skeleton_of(figure), led(figure, limb), pose)
    return goals.direction if name[0] == limb.direction else goals.turn if name[1] == "rotation" else goals.place


def added(path: str, below: Array, values: Array) -> Array:
    """What lies below (F, D), with values added to it."""
    if path == "rotation":
        return rotation.normalize(rotation.multiply(below, values))
    return below * values if path == "scale" else below + values


def _dot(a: Array, b: Array) -> Array:
    return np.sum(a * b, axis=-1, keepdims=True)


def _unit(v: Array) -> Array:
    return np.asarray(v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), 1e-12))


def _towards(a: Array, b: Array) -> Array:
    """Rotations (F, 4) that turn directions a (F, 3) into b (F, 3), the shortest way."""
    w = 1.0 + np.sum(a * b, axis=1)
    q = np.concatenate([np.cross(a, b), w[:, None]], axis=1)
    behind = w < 1e-9
    if behind.any():
        # half a turn about any axis across
        side = np.cross(a[behind], np.eye(3)[np.argmin(np.abs(a[behind]), axis=1)])
        q[behind] = np.concatenate([_unit(side), np.zeros((len(side), 1))], axis=1)
    return np.asarray(rotation.normalize(q))
