"""Signed distances of points from primitives; negative inside. Points (N, 3) in the shape's frame, metres."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Shape


def capsule(points: Array, radius: float, half_length: float) -> Array:
    """Distance (N,) from a capsule along x."""
    x = points[:, 0]
    gap = points.copy()
    gap[:, 0] = x - np.clip(x, -half_length, half_length)
    return np.linalg.norm(gap, axis=1) - radius


def box(points: Array, half: Array) -> Array:
    """Distance (N,) from a box with half extents (3,)."""
    d = np.abs(points) - half
    return np.linalg.norm(np.maximum(d, 0.0), axis=1) + np.minimum(d.max(axis=1), 0.0)


def shape(points: Array, s: Shape) -> Array:
    """Distance (N,) from a shape; points in the frame that carries the shape. Outside of a hull's edges: no more than that."""
    local = rotation.rotate(rotation.conjugate(s.rotation), points - np.array(s.position))
    if s.kind == "hull":
        planes = hull_of(s.points).planes
        return np.asarray((local @ planes[:, :3].T - planes[:, 3]).max(axis=1))
    if s.kind == "box":
        return box(local, np.array(s.half))
    return capsule(local, s.radius, s.half_length if s.kind == "capsule" else 0.0)
