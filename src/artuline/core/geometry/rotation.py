"""Unit quaternions ``(x, y, z, w)`` as plain arrays of shape (..., 4).

All functions broadcast over leading axes and work in float64. A rotation vector is axis times angle, radians.
"""

import numpy as np
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]

IDENTITY: Array = np.array([0.0, 0.0, 0.0, 1.0])


def multiply(a: ArrayLike, b: ArrayLike) -> Array:
    """Hamilton product: the rotation ``b`` followed by ``a``. (..., 4), (..., 4) -> (..., 4)."""
    a, b = np.asarray(a, float), np.asarray(b, float)
    ax, ay, az, aw = a[..., 0], a[..., 1], a[..., 2], a[..., 3]
    bx, by, bz, bw = b[..., 0], b[..., 1], b[..., 2], b[..., 3]
    out = np.empty(np.broadcast(a, b).shape)
    out[..., 0] = aw * bx + ax * bw + ay * bz - az * by
    out[..., 1] = aw * by - ax * bz + ay * bw + az * bx
    out[..., 2] = aw * bz + ax * by - ay * bx + az * bw
    out[..., 3] = aw * bw - ax * bx - ay * by - az * bz
    return out


def cross(a: Array, b: Array) -> Array:
    """Cross product (..., 3), (..., 3) -> (..., 3): that of NumPy, which takes ten times as long for a few."""
    out = np.empty(np.broadcast(a, b).shape)
    out[..., 0] = a[..., 1] * b[..., 2] - a[..., 2] * b[..., 1]
    out[..., 1] = a[..., 2] * b[..., 0] - a[..., 0] * b[..., 2]
    out[..., 2] = a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]
    return out


def conjugate(q: ArrayLike) -> Array:
    """The inverse of a unit quaternion. (..., 4) -> (..., 4)."""
    return np.asarray(q, float) * np.array([-1.0, -1.0, -1.0, 1.0])


def normalize(q: ArrayLike) -> Array:
    """Scale to unit length; a zero quaternion becomes the identity. (..., 4) -> (..., 4)."""
    q = np.asarray(q, float)
    length = np.linalg.norm(q, axis=-1, keepdims=True)
    return np.where(length > 1e-12, q / np.where(length > 1e-12, length, 1.0), IDENTITY)


def rotate(q: ArrayLike, v: ArrayLike) -> Array:
    """Turn vectors by quaternions. (..., 4), (..., 3) -> (..., 3)."""
    q, v = np.asarray(q, float), np.asarray(v, float)
    u, w = q[..., :3], q[..., 3:]
    t = 2.0 * cross(u, v)
    return v + w * t + cross(u, t)


def from_rotation_vector(r: ArrayLike) -> Array:
    """Exponential map. (..., 3) radians -> (..., 4)."""
    r = np.asarray(r, float)
    angle = np.linalg.norm(r, axis=-1, keepdims=True)
    scale = 0.5 * np.sinc(angle / (2.0 * np.pi))
    return np.concatenate([r * scale, np.cos(0.5 * angle)], axis=-1)


def to_rotation_vector(q: ArrayLike) -> Array:
    """Logarithm, the short way round. (..., 4) -> (..., 3) radians, length at most pi."""
    q = np.asarray(q, float)
    q = np.where(q[..., 3:] < 0.0, -q, q)
    sine = np.linalg.norm(q[..., :3], axis=-1, keepdims=True)
    angle = 2.0 * np.arctan2(sine, q[..., 3:])
    return q[..., :3] * np.where(sine > 1e-12, angle / np.where(sine > 1e-12, sine, 1.0), 2.0)


def angle_between(a: ArrayLike, b: ArrayLike) -> Array:
    """Angle in radians of the rotation from ``a`` to ``b``. (..., 4), (..., 4) -> (...)."""
    return np.linalg.norm(to_rotation_vector(multiply(b, conjugate(a))), axis=-1)


def slerp(a: ArrayLike, b: ArrayLike, t: ArrayLike) -> Array:
    """Spherical linear interpolation the short way round. t broadcasts against the leading axes."""
    a, b = np.asarray(a, float), np.asarray(b, float)
    step = to_rotation_vector(multiply(b, conjugate(a)))
    return multiply(from_rotation_vector(step * np.asarray(t, float)[..., None]), a)


def blend_over_time(a: ArrayLike, b: ArrayLike, t: Array, says: np.ndarray | None = None) -> Array:
    """From rotations a (F, 4) to b (F, 4) by shares t (F,), one way round for as long as a share is between 0 and 1: the short way would change sides where the
    two are half a turn apart, and what it makes would jump. It is the short way round for most of that time, of which only ``says`` (F,) counts.
    """
    step = multiply(b, conjugate(a))
    within = (t > 0.0) & (t < 1.0)
    ends = np.flatnonzero(np.diff(np.concatenate([[False], within, [False]]).astype(int)))
    for first, last in zip(ends[::2], ends[1::2]):
        run = make_continuous(step[first:last])
        short = run[:, 3] if says is None else run[says[first:last], 3]
        step[first:last] = run * (1.0 if short.sum() >= 0.0 else -1.0)
    v, w = step[:, :3], step[:, 3]
    w = np.where(within, w, np.abs(w))
    v = np.where(within[:, None] | (step[:, 3:] >= 0.0), v, -v)
    size = np.linalg.norm(v, axis=1)
    angle = 2.0 * np.arctan2(size, w)
    turn = np.where(size[:, None] > 1e-12, v / np.maximum(size, 1e-12)[:, None], np.array([1.0, 0.0, 0.0]))
    return multiply(from_rotation_vector(turn * (angle * t)[:, None]), np.asarray(a, float))


def from_matrix(m: ArrayLike) -> Array:
    """Rotation matrices (..., 3, 3) -> quaternions (..., 4). (F. L. Markley, Unit Quaternion from Rotation Matrix, 2008)"""
    m = np.asarray(m, float)
    xx, xy, xz = m[..., 0, 0], m[..., 0, 1], m[..., 0, 2]
    yx, yy, yz = m[..., 1, 0], m[..., 1, 1], m[..., 1, 2]
    zx, zy, zz = m[..., 2, 0], m[..., 2, 1], m[..., 2, 2]
    # four times the quaternion by each of its own numbers: the largest is divided by
    outer = np.empty((*m.shape[:-2], 4, 4))
    outer[..., 0, 0], outer[..., 1, 1] = 1 + xx - yy - zz, 1 - xx + yy - zz
    outer[..., 2, 2], outer[..., 3, 3] = 1 - xx - yy + zz, 1 + xx + yy + zz
    for i, j, value in (
        (0, 1, xy + yx),
        (0, 2, xz + zx),
        (0, 3, zy - yz),
        (1, 2, yz + zy),
        (1, 3, xz - zx),
        (2, 3, yx - xy),
    ):
        outer[..., i, j] = outer[..., j, i] = value
    largest = np.argmax(np.diagonal(outer, axis1=-2, axis2=-1), axis=-1)
    return normalize(np.take_along_axis(outer, largest[..., None, None], axis=-2)[..., 0, :])


def to_matrix(q: ArrayLike) -> Array:
    """Quaternions (..., 4) -> rotation matrices (..., 3, 3)."""
    q = np.asarray(q, float)
    x, y, z, w = q[..., 0], q[..., 1], q[..., 2], q[..., 3]
    out = np.empty((*q.shape[:-1], 3, 3))
    out[..., 0, 0], out[..., 0, 1], out[..., 0, 2] = 1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)
    out[..., 1, 0], out[..., 1, 1], out[..., 1, 2] = 2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)
    out[..., 2, 0], out[..., 2, 1], out[..., 2, 2] = 2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)
    return out


def align(a: ArrayLike, b: ArrayLike) -> Array:
    """Smallest rotation that turns direction ``a`` into direction ``b``. (3,), (3,) -> (4,)."""
    u, v = np.array(a, float), np.array(b, float)
    u, v = u / np.linalg.norm(u), v / np.linalg.norm(v)
    w = 1.0 + float(u @ v)
    if w < 1e-9:
        side = np.eye(3)[int(np.argmin(np.abs(u)))]
        axis = np.cross(u, side)
        # half a turn about any axis across, then the little that is missing
        return multiply(align(-u, v), np.append(axis / np.linalg.norm(axis), 0.0))
    return normalize(np.append(cross(u, v), w))


def make_continuous(q: ArrayLike) -> Array:
    """Choose signs along the first axis so that neighbours never flip. (F, ..., 4) -> (F, ..., 4)."""
    q = np.array(q, float)
    flips = np.sum(q[1:] * q[:-1], axis=-1) < 0.0
    signs = np.where(np.cumsum(flips, axis=0) % 2 == 1, -1.0, 1.0)
    q[1:] *= signs[..., None]
    return q


def swing_twist(q: ArrayLike) -> tuple[Array, Array]:
    """Split ``q = swing * twist`` with the twist about x.

    Returns the swing as a rotation vector's (y, z) components (..., 2), and the twist angle (...), in
    radians, each in [-pi, pi].
    """
    q = np.asarray(q, float)
    twist = 2.0 * np.arctan2(q[..., 0], q[..., 3])
    twist = np.where(twist > np.pi, twist - 2 * np.pi, np.where(twist < -np.pi, twist + 2 * np.pi, twist))
    half = np.zeros_like(q)
    half[..., 0], half[..., 3] = np.sin(0.5 * twist), np.cos(0.5 * twist)
    swing = to_rotation_vector(multiply(q, conjugate(half)))
    return swing[..., 1:], twist
