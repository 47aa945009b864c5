"""Surfaces of plain bodies: turned about an axis, swept along a line."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array

ROUND = 28  # sides of what is turned

Surface = tuple[Array, np.ndarray]


def revolved(profile: list[tuple[float, float]], sides: int = ROUND) -> Surface:
    """A profile of (radius, height) turned about y: vertices (V, 3), triangles (T, 3); closed at the ends that lie on the axis."""
    angle = np.arange(sides) * 2.0 * np.pi / sides
    ring = np.stack([np.cos(angle), np.zeros(sides), np.sin(angle)], axis=1)
    points = np.concatenate([r * ring + [0.0, y, 0.0] for r, y in profile])
    triangles = []
    for k in range(len(profile) - 1):
        a, b = k * sides + np.arange(sides), k * sides + (np.arange(sides) + 1) % sides
        triangles += [np.stack([a, a + sides, b], axis=1), np.stack([b, a + sides, b + sides], axis=1)]
    made = np.concatenate(triangles)
    corners = points[made]
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    return points, made[area > 1e-14]


def swept(line: Array, radius: float, sides: int = 10, closed: bool = False) -> Surface:
    """A tube along a line (N, 3), in a plane or not; its ends are closed."""
    ahead = np.roll(line, -1, axis=0) - np.roll(line, 1, axis=0)
    if not closed:
        ahead[0], ahead[-1] = line[1] - line[0], line[-1] - line[-2]
    ahead /= np.linalg.norm(ahead, axis=1, keepdims=True)
    side = np.cross(ahead[0], [0.0, 0.0, 1.0] if abs(ahead[0, 2]) < 0.9 else [1.0, 0.0, 0.0])
    rings = []
    angle = np.arange(sides) * 2.0 * np.pi / sides
    for k, way in enumerate(ahead):
        if k:
            side = rotation.rotate(rotation.align(ahead[k - 1], way), side)
        side = side - way * (side @ way)
        side /= np.linalg.norm(side)
        up = np.cross(way, side)
        rings.append(line[k] + radius * (np.cos(angle)[:, None] * side + np.sin(angle)[:, None] * up))
    points, n, count = np.concatenate(rings), sides, len(line)
    triangles = []
    for k in range(count if closed else count - 1):
        a = k * n + np.arange(n)
        b = k * n + (np.arange(n) + 1) % n
        c, d = ((a + n) % (n * count), (b + n) % (n * count))
        triangles += [np.stack([a, b, c], axis=1), np.stack([b, d, c], axis=1)]
    if not closed:
        points = np.concatenate([points, line[[0, -1]]])
        for middle, first, flip in ((len(points) - 2, 0, True), (len(points) - 1, (count - 1) * n, False)):
            a, b = first + np.arange(n), first + (np.arange(n) + 1) % n
            m = np.full(n, middle)
            triangles.append(np.stack([m, b, a] if flip else [m, a, b], axis=1))
    return points, np.concatenate(triangles)


def circle(radius: float, height: float = 0.0, sides: int = ROUND) -> Array:
    """Points (N, 3) of a circle about y."""
    a = np.arange(sides) * 2.0 * np.pi / sides
    return np.stack([radius * np.cos(a), np.full(sides, height), radius * np.sin(a)], axis=1)


def slab(half: tuple[float, float, float] = (0.1, 0.08, 0.06)) -> Surface:
    """A box: vertices (8, 3), triangles (12, 3)."""
    points = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) * half
    sides = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    return points, np.array([t for a, b, c, d in sides for t in ((a, b, c), (a, c, d))])


def rounded(radius: float = 0.09, steps: int = 12) -> Surface:
    """A ball."""
    turn = np.linspace(-np.pi / 2.0, np.pi / 2.0, steps + 1)
    profile = [(float(radius * np.cos(a)), float(radius * np.sin(a))) for a in turn]
    profile[0], profile[-1] = (0.0, -radius), (0.0, radius)
    return revolved(profile)


def rod(radius: float = 0.015, length: float = 0.4) -> Surface:
    """A round rod that stands."""
    half = length / 2.0
    return revolved([(0.0, -half), (radius, -half), (radius, half), (0.0, half)])


def ring(radius: float = 0.09, thickness: float = 0.012) -> Surface:
    """A ring that lies."""
    return swept(circle(radius), thickness, 12, closed=True)
