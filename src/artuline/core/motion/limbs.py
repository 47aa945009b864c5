"""Limbs of two bones and an end: bent so that the end comes to a place."""

import numpy as np
from numpy.typing import NDArray

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.scene.model import Figure


def limb_bones(figure: Figure, end: str) -> tuple[int, int, int]:
    """Indices of a limb's two bones and of its end. Raises ArtulineError if there are not two bones above."""
    found = figure.limb_of(end)
    if len(found) < 3:
        raise ArtulineError(f"{end} has no limb of two bones above it", remedy="Choose a hand, a foot, or the like.")
    a, b, c = (figure.bone_index[name] for name in found)
    return a, b, c


def bend_limb(
    figure: Figure, root: Array, pose: Pose, rows: NDArray[np.int64], end: str, places: Array, turns: Array
) -> None:
    """Bend a limb on some rows of a pose (F, B), in place, so that its end comes to ``places`` (N, 3), or as near as it can, turned as
    ``turns`` (N, 4), in the world; root (N, 4, 4) of the figure. The limb keeps the plane that it bends in.
    """
    skeleton = skeleton_of(figure)
    a, b, c = limb_bones(figure, end)
    now = Pose(pose.translation[rows], pose.rotation[rows], pose.scale[rows])
    p, q = rigid(skeleton.global_matrices(now, root))
    up = skeleton.parents[a]
    above = q[:, up] if up >= 0 else rigid(root)[1]
    along = rotation.rotate(rotation.conjugate(q[:, [a, b]]), p[:, [b, c]] - p[:, [a, b]])
    for i, row in enumerate(rows):
        pose.rotation[row, [a, b]] = bent(above[i], p[i, a], along[i], pose.rotation[row, [a, b]], places[i])
    lower = rotation.multiply(rotation.multiply(above, pose.rotation[rows, a]), pose.rotation[rows, b])
    pose.rotation[rows, c] = rotation.normalize(rotation.multiply(rotation.conjugate(lower), turns))


def bent(above: Array, place: Array, along: Array, turns: Array, goal: Array) -> Array:
    """Local rotations (..., 2, 4) of a limb's two bones with which its end comes to ``goal`` (..., 3), or as near as it can.

    above (..., 4): rotation of what carries the limb; place (..., 3): where it begins; along (..., 2, 3): the way along each bone in its own
    frame; turns (..., 2, 4): the rotations so far, whose plane of bending is kept. By the law of cosines, then by the shortest turn.
    """
    q_a = rotation.multiply(above, turns[..., 0, :])
    q_b = rotation.multiply(q_a, turns[..., 1, :])
    upper, lower = rotation.rotate(q_a, along[..., 0, :]), rotation.rotate(q_b, along[..., 1, :])
    way = goal - place
    long, short = _length(upper), _length(lower)
    far = np.clip(_length(way), np.abs(long - short) + 1e-6, long + short - 1e-6)
    side = rotation.cross(upper, lower)
    straight = _length(side) < 1e-9 * long * short
    if straight.any():
        other = np.where(np.abs(upper[..., 2:]) < 0.9 * long, [0.0, 0.0, 1.0], [1.0, 0.0, 0.0])
        side = np.where(straight, rotation.cross(upper, other), side)
    side = side / _length(side)
    # open or close the middle joint until the ends are as far apart as they should be
    now = np.arctan2(_dot(rotation.cross(upper, lower), side), _dot(upper, lower))
    wanted = np.pi - np.arccos(np.clip((long**2 + short**2 - far**2) / (2.0 * long * short), -1.0, 1.0))
    bend = rotation.from_rotation_vector(side * (wanted - now))
    # then turn the whole limb towards the goal
    aim = _aligned(_unit(upper + rotation.rotate(bend, lower)), _unit(way))
    new_a, new_b = rotation.multiply(aim, q_a), rotation.multiply(aim, rotation.multiply(bend, q_b))
    made = np.empty_like(turns)
    made[..., 0, :] = rotation.multiply(rotation.conjugate(above), new_a)
    made[..., 1, :] = rotation.multiply(rotation.conjugate(new_a), new_b)
    return np.asarray(rotation.normalize(made))


def _dot(a: Array, b: Array) -> Array:
    return np.asarray((a * b).sum(axis=-1, keepdims=True))


def _length(v: Array) -> Array:
    return np.sqrt(_dot(v, v))


def _unit(v: Array) -> Array:
    return v / np.maximum(_length(v), 1e-12)


def _aligned(u: Array, v: Array) -> Array:
    """The smallest rotations (..., 4) that turn unit vectors into others (..., 3)."""
    w = 1.0 + _dot(u, v)
    found = rotation.normalize(np.concatenate([rotation.cross(u, v), w], axis=-1))
    against = (w < 1e-9)[..., 0]
    if against.any():
        rows = zip(np.atleast_2d(u[against]), np.atleast_2d(v[against]))
        found[against] = np.array([rotation.align(a, b) for a, b in rows]).reshape(found[against].shape)
    return found
