"""Where rays meet shapes, in closed form. Distances along unit rays in metres; infinity for a miss, 0 from inside."""

from collections.abc import Sequence

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Shape


def _between(enter: Array, leave: Array) -> Array:
    """The distance to where a ray enters, of where it enters and leaves (N,)."""
    return np.where((enter <= leave) & (leave >= 0.0), np.maximum(enter, 0.0), np.inf)


def spheres(origins: Array, directions: Array, radii: Array) -> Array:
    """Distance (N,) of one ray each, origins and directions (N, 3), to spheres about 0 of radii (N,)."""
    middle = -np.einsum("ij,ij->i", origins, directions)
    inside = radii**2 - np.einsum("ij,ij->i", origins, origins) + middle**2
    half = np.sqrt(np.maximum(inside, 0.0))
    return np.where(inside >= 0.0, _between(middle - half, middle + half), np.inf)


def capsules(origins: Array, directions: Array, radii: Array, half_lengths: Array) -> Array:
    """Distance (N,) of one ray each to capsules along x: the nearest of the two caps and the cylinder between them."""
    ends = np.zeros_like(origins)
    ends[:, 0] = half_lengths
    caps = np.minimum(spheres(origins - ends, directions, radii), spheres(origins + ends, directions, radii))
    o, d = origins[:, 1:], directions[:, 1:]
    a, b = np.einsum("ij,ij->i", d, d), np.einsum("ij,ij->i", o, d)
    c = np.einsum("ij,ij->i", o, o) - radii**2
    root = b**2 - a * c
    steep = a > 1e-18
    with np.errstate(divide="ignore", invalid="ignore"):
        wide = np.where(steep, np.sqrt(np.maximum(root, 0.0)) / a, np.inf)
        middle = np.where(steep, -b / a, 0.0)
        flat = np.array([(-half_lengths - origins[:, 0]), (half_lengths - origins[:, 0])]) / directions[:, 0]
    # a ray along x is between the walls everywhere or nowhere, one across x between the ends
    inside = np.where(steep, root >= 0.0, c <= 0.0)
    along = np.abs(directions[:, 0]) > 1e-12
    within = np.abs(origins[:, 0]) <= half_lengths
    low = np.where(along, flat.min(axis=0), np.where(within, -np.inf, np.inf))
    high = np.where(along, flat.max(axis=0), np.where(within, np.inf, -np.inf))
    side = _between(np.maximum(middle - wide, low), np.minimum(middle + wide, high))
    return np.minimum(caps, np.where(inside, side, np.inf))


def slabs(origins: Array, directions: Array, planes: Array) -> float:
    """Distance of one ray (3,), (3,) to what lies below all planes (F, 4), outward normal and height: a convex polyhedron."""
    height = planes[:, 3] - planes[:, :3] @ origins
    speed = planes[:, :3] @ directions
    level = np.abs(speed) < 1e-12
    if (height[level] < 0.0).any():
        return float(np.inf)
    t = height[~level] / speed[~level]
    out = speed[~level] > 0.0
    enter, leave = t[~out].max(initial=-np.inf), t[out].min(initial=np.inf)
    return float(_between(np.array(enter), np.array(leave)))


def shapes(origin: Array, direction: Array, of: Sequence[Shape], places: Array, turns: Array) -> Array:
    """Distance (N,) of one ray to shapes whose frames stand at places (N, 3), turned by (N, 4). A mesh is never met here."""
    found = np.full(len(of), np.inf)
    if not len(of):
        return found
    own_p, own_q = np.array([s.position for s in of], float), np.array([s.rotation for s in of], float)
    q = rotation.conjugate(rotation.multiply(turns, own_q))
    o = rotation.rotate(q, origin - (places + rotation.rotate(turns, own_p)))
    d = rotation.rotate(q, np.broadcast_to(direction, o.shape))
    round_ = np.array([s.kind in ("capsule", "sphere") for s in of])
    if round_.any():
        radii = np.array([s.radius for s in of])[round_]
        halves = np.array([s.half_length if s.kind == "capsule" else 0.0 for s in of])[round_]
        found[round_] = capsules(o[round_], d[round_], radii, halves)
    sides = np.concatenate([np.eye(3), -np.eye(3)])
    for i, s in enumerate(of):
        if s.kind == "box":
            found[i] = slabs(o[i], d[i], np.column_stack([sides, [*s.half, *s.half]]))
        elif s.kind == "hull":
            found[i] = slabs(o[i], d[i], hull_of(s.points).planes)
    return found


def triangles(origin: Array, direction: Array, corners: Array) -> tuple[float, int, Array] | None:
    """The nearest of triangles (T, 3, 3) that a ray meets from either side: distance, which, and the share of each corner (3,).

    By the rule of Cramer, after Moller and Trumbore, Fast, Minimum Storage Ray/Triangle Intersection (1997).
    """
    a = corners[:, 1] - corners[:, 0]
    b = corners[:, 2] - corners[:, 0]
    across = np.cross(direction, b)
    size = np.einsum("ij,ij->i", a, across)
    # triangles that are seen from their edge are met by no ray
    flat = np.abs(size) < 1e-18
    size = np.where(flat, 1.0, size)
    away = origin - corners[:, 0]
    turned = np.cross(away, a)
    u, v = np.einsum("ij,ij->i", away, across) / size, turned @ direction / size
    t = np.einsum("ij,ij->i", b, turned) / size
    met = np.flatnonzero((u >= 0.0) & (v >= 0.0) & (u + v <= 1.0) & (t > 0.0) & ~flat)
    if not len(met):
        return None
    i = int(met[np.argmin(t[met])])
    return float(t[i]), i, np.array([1.0 - u[i] - v[i], u[i], v[i]])
