"""4x4 transforms as arrays: composing, splitting, and rigid inverses. Column vectors, metres."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array


def compose(translation: Array, rotation_: Array, scale: Array) -> Array:
    """Translation, rotation and scale (..., 3), (..., 4), (..., 3) -> matrices (..., 4, 4)."""
    m = np.zeros((*np.broadcast_shapes(translation.shape[:-1], rotation_.shape[:-1]), 4, 4))
    m[..., :3, :3] = rotation.to_matrix(rotation_) * scale[..., None, :]
    m[..., :3, 3] = translation
    m[..., 3, 3] = 1.0
    return m


def decompose(m: Array) -> tuple[Array, Array, Array]:
    """Matrices (..., 4, 4) -> translation (..., 3), rotation (..., 4), scale (..., 3).

    A mirrored matrix gets a negative x scale. Shear is dropped: the rotation is built from the columns by
    Gram-Schmidt.
    """
    m = np.asarray(m, float)
    linear = m[..., :3, :3]
    scale = np.linalg.norm(linear, axis=-2)
    mirrored = np.linalg.det(linear) < 0.0
    safe = np.where(scale > 1e-12, scale, 1.0)
    x = linear[..., :, 0] / safe[..., 0, None] * np.where(mirrored, -1.0, 1.0)[..., None]
    x = np.where(scale[..., 0, None] > 1e-12, x, np.array([1.0, 0.0, 0.0]))
    y = linear[..., :, 1] / safe[..., 1, None]
    y = y - np.sum(x * y, axis=-1, keepdims=True) * x
    length = np.linalg.norm(y, axis=-1, keepdims=True)
    fallback = rotation.cross(np.where(np.abs(x[..., 2:]) < 0.9, [0.0, 0.0, 1.0], [0.0, 1.0, 0.0]), x)
    y = np.where(length > 1e-9, y, fallback)
    y = y / np.linalg.norm(y, axis=-1, keepdims=True)
    z = rotation.cross(x, y)
    q = rotation.from_matrix(np.stack([x, y, z], axis=-1))
    scale = np.concatenate([np.where(mirrored, -1.0, 1.0)[..., None] * scale[..., :1], scale[..., 1:]], -1)
    return m[..., :3, 3].copy(), q, scale


def apply(m: Array, points: Array) -> Array:
    """Transform points: (..., 4, 4), (..., 3) -> (..., 3)."""
    return np.einsum("...ij,...j->...i", m[..., :3, :3], points) + m[..., :3, 3]


def rigid_multiply(pa: Array, qa: Array, pb: Array, qb: Array) -> tuple[Array, Array]:
    """Compose rigid transforms ``a * b`` given as positions (..., 3) and quaternions (..., 4)."""
    return pa + rotation.rotate(qa, pb), rotation.multiply(qa, qb)


def rigid_inverse(p: Array, q: Array) -> tuple[Array, Array]:
    """Invert rigid transforms (..., 3), (..., 4)."""
    inverse = rotation.conjugate(q)
    return -rotation.rotate(inverse, p), inverse


def rigid_relative(pa: Array, qa: Array, pb: Array, qb: Array) -> tuple[Array, Array]:
    """Express ``b`` in the frame of ``a``: ``a^-1 * b``."""
    return rigid_multiply(*rigid_inverse(pa, qa), pb, qb)
