"""Rotations as three angles, turned about x, y and z in an order of their own; for curves and for files that hold nothing else."""

import warnings
from typing import Literal, get_args

import numpy as np
from scipy.spatial.transform import Rotation

from artuline.core.geometry.rotation import Array

#: The axes in the order in which they are turned about, each the one that the turns before have left (intrinsic).
Order = Literal["xyz", "xzy", "yxz", "yzx", "zxy", "zyx"]
ORDERS: tuple[Order, ...] = get_args(Order)


def both_angles(q: Array, order: Order) -> Array:
    """The two solutions (2, F, 3) of rotations (F, 4) as angles about x, y and z, radians, without whole turns."""
    axes = ["xyz".index(a) for a in order]
    with warnings.catch_warnings():
        # in gimbal lock one of the angles is set to zero
        warnings.simplefilter("ignore", UserWarning)
        found = Rotation.from_quat(np.asarray(q, float)).as_euler(order.upper())
    out = np.empty((2, *found.shape))
    out[0][:, axes] = found
    out[1][:, axes] = found * [1.0, -1.0, 1.0] + np.pi
    return out


def to_angles(q: Array, order: Order) -> Array:
    """Unit quaternions over time (F, 4) as angles about x, y and z (F, 3), radians, that never jump: of the two solutions, and of all whole
    turns, the one nearest to the frame before.
    """
    both = both_angles(q, order)
    found = np.unwrap(both[0], axis=0)
    if np.abs(np.diff(found, axis=0)).max(initial=0.0) > 0.5 * np.pi:
        # it passed through a lock, where the outer angles jump by half a turn
        for i in range(1, len(found)):
            here = both[:, i] + 2.0 * np.pi * np.round((found[i - 1] - both[:, i]) / (2.0 * np.pi))
            found[i] = here[np.argmin(np.abs(here - found[i - 1]).sum(axis=1))]
    return np.asarray(found)


def from_angles(angles: Array, order: Order) -> Array:
    """Angles about x, y and z (..., 3), radians, as unit quaternions (..., 4)."""
    angles = np.asarray(angles, float)
    axes = ["xyz".index(a) for a in order]
    turned = Rotation.from_euler(order.upper(), angles[..., axes].reshape(-1, 3)).as_quat()
    return np.asarray(turned.reshape(*angles.shape[:-1], 4))


def distance_from_lock(q: Array, order: Order) -> float:
    """How near the angles of rotations (F, 4) come to gimbal lock: the least angle, radians, that the middle one is from a quarter turn."""
    middle = to_angles(q, order)[:, "xyz".index(order[1])]
    return float(np.abs(np.mod(middle, np.pi) - 0.5 * np.pi).min())


def best_order(q: Array) -> Order:
    """The order that stays farthest from gimbal lock over rotations (F, 4); the first of those that are alike."""
    found = [(round(distance_from_lock(q, o), 3), -i) for i, o in enumerate(ORDERS)]
    return ORDERS[-max(found)[1]]
