"""Signed distances of points from primitives, negative inside, and the places on their surfaces that are nearest. Points (N, 3) in the shape's frame, metres."""

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


def on_triangles(p: Array, a: Array, b: Array, c: Array) -> Array:
    """The places on triangles a, b, c (N, K, 3) nearest to points (N, 1, 3): within, or on the nearest side."""
    u, v, w = b - a, c - a, p - a
    uu, uv, vv = (u * u).sum(-1), (u * v).sum(-1), (v * v).sum(-1)
    wu, wv = (w * u).sum(-1), (w * v).sum(-1)
    whole = np.maximum(uu * vv - uv * uv, 1e-30)
    s, t = (vv * wu - uv * wv) / whole, (uu * wv - uv * wu) / whole
    within = a + s[..., None] * u + t[..., None] * v
    found, best = within, np.where((s >= 0) & (t >= 0) & (s + t <= 1), np.linalg.norm(within - p, axis=-1), np.inf)
    for start, end in ((a, b), (b, c), (c, a)):
        way = end - start
        k = np.clip(((p - start) * way).sum(-1) / np.maximum((way * way).sum(-1), 1e-30), 0.0, 1.0)
        place = start + k[..., None] * way
        gap = np.linalg.norm(place - p, axis=-1)
        found, best = np.where((gap < best)[..., None], place, found), np.minimum(gap, best)
    return found


def on_surface(point: Array, s: Shape, triangles: Array | None = None) -> Array:
    """The place on a shape's surface (3,) nearest to a point (3,), in the frame that carries the shape. ``triangles`` (T, 3, 3): those of a mesh."""
    turn, middle = np.array(s.rotation), np.array(s.position)
    local = rotation.rotate(rotation.conjugate(turn), point - middle)
    if s.kind == "box":
        half = np.array(s.half)
        place = np.clip(local, -half, half)
        if (place == local).all():
            side = int((half - np.abs(local)).argmin())
            place[side] = np.copysign(half[side], local[side])
    elif s.kind in ("hull", "mesh"):
        if s.kind == "hull":
            hull = hull_of(s.points)
            triangles = hull.vertices[hull.triangles]
        assert triangles is not None
        found = on_triangles(local[None, None], *(triangles[None, :, k] for k in range(3)))[0]
        place = found[np.linalg.norm(found - local, axis=1).argmin()]
    else:
        half_length = s.half_length if s.kind == "capsule" else 0.0
        core = np.array([np.clip(local[0], -half_length, half_length), 0.0, 0.0])
        way = local - core
        gap = float(np.linalg.norm(way))
        place = core + s.radius * (way / gap if gap > 1e-12 else np.array([0.0, 1.0, 0.0]))
    return middle + rotation.rotate(turn, place)
