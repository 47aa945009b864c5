"""Rings, handles and bails: thin and bent, they keep their hole as a chain of capsules along their middle line."""

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Shape

LEAST, MOST = 12, 28  # pieces of a whole turn
THIN = 0.45  # share of the bend's radius that a tube is thick at most
OPEN = 0.35  # share of the bend's radius within which nothing is: the hole


def surface_samples(corners: Array, spacing: float) -> Array:
    """Points (N, 3) on triangles (T, 3, 3), no farther apart than about a spacing; the same each time."""
    found = []
    longest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
    for steps in (1, 2, 4, 8, 16, 32):
        low = 0.0 if steps == 1 else 0.5 * steps * spacing
        here = corners[(longest > low) & ((longest <= steps * spacing) | (steps == 32))]
        n = steps + 1
        u, v = (x.ravel() for x in np.meshgrid(np.arange(n + 1) / n, np.arange(n + 1) / n))
        inside = u + v <= 1.0 + 1e-9
        share = np.stack([1.0 - u - v, u, v], axis=1)[inside]
        found.append((share @ here).reshape(-1, 3) if len(here) else np.zeros((0, 3)))
    # evenly, however the surface is divided: one in every small cube
    points = np.concatenate(found)
    return points[np.sort(np.unique(np.floor(points / (0.7 * spacing)), axis=0, return_index=True)[1])]


def circle_through(points: Array) -> tuple[Array, float]:
    """Centre (2,) and radius of the circle nearest to points (N, 2), by algebraic least squares (Kasa 1976)."""
    a = np.column_stack([2.0 * points, np.ones(len(points))])
    x, y, c = np.linalg.lstsq(a, (points**2).sum(axis=1), rcond=None)[0]
    return np.array([x, y]), float(np.sqrt(max(c + x * x + y * y, 1e-30)))


def middle_line(corners: Array) -> tuple[Array, Array, bool] | None:
    """The middle line (N, 3) of a thin bent part with triangles (T, 3, 3), its thickness (N,) as a radius, and whether it is closed; None if
    it is no such part.
    """
    size = float(np.ptp(corners.reshape(-1, 3), axis=0).max())
    points = surface_samples(corners, 0.03 * size)
    centre = points.mean(axis=0)
    axes = np.linalg.svd(points - centre, full_matrices=False)[2]
    flat = (points - centre) @ axes[:2].T
    middle, radius = circle_through(flat)
    away = flat - middle
    if radius > 3.0 * size:
        return None
    angle = np.arctan2(away[:, 1], away[:, 0])
    thick = float(np.sqrt(np.mean((np.linalg.norm(away, axis=1) - radius) ** 2 + ((points - centre) @ axes[2]) ** 2)))
    count = int(np.clip(2.0 * np.pi * radius / max(2.0 * thick, 1e-9), LEAST, MOST))
    place = np.floor((angle + np.pi) / (2.0 * np.pi) * count).astype(int) % count
    full = np.bincount(place, minlength=count) > 3
    closed = bool(full.all())
    if not closed:
        # begin behind the widest gap
        gap = max(range(count), key=lambda i: _run(full, i))
        order = [(gap + k) % count for k in range(count)]
        order = [i for i in order if full[i]]
    else:
        order = list(range(count))
    if len(order) < 4:
        return None
    line = np.array([points[place == i].mean(axis=0) for i in order])
    gaps = _distances(points, np.concatenate([line, line[:1]]) if closed else line)
    thickness = np.array([gaps[place == i].mean() for i in order])
    if not closed:
        # the last pieces reach beyond the line
        thickness[[0, -1]] = thickness[[1, -2]]
    if np.linalg.norm(away, axis=1).min() < OPEN * radius or thickness.max() > THIN * radius:
        return None
    return line, thickness, closed


def _run(full: NDArray[np.bool_], i: int) -> int:
    """How many empty places there are before one."""
    n = 0
    while n < len(full) and full[i] and not full[(i - 1 - n) % len(full)]:
        n += 1
    return n


def _distances(points: Array, line: Array) -> Array:
    """Distance (N,) of points to a line of segments."""
    best = np.full(len(points), np.inf)
    for a, b in pairwise(line):
        d = b - a
        t = np.clip((points - a) @ d / max(float(d @ d), 1e-30), 0.0, 1.0)
        best = np.minimum(best, np.linalg.norm(points - a - t[:, None] * d, axis=1))
    return best


def tube_shapes(corners: Array) -> tuple[Shape, ...] | None:
    """Capsules along the middle line of a ring, handle or bail, from its triangles (T, 3, 3), in their frame; None if it is no such part."""
    found = middle_line(corners)
    if found is None:
        return None
    line, thickness, closed = found
    if not closed:
        # the ends reach as far as the surface does
        flat = corners.reshape(-1, 3)
        for end, inner in ((0, 1), (-1, -2)):
            step = line[end] - line[inner]
            way = step / np.linalg.norm(step)
            near = flat[np.linalg.norm(flat - line[end], axis=1) < np.linalg.norm(step)]
            if len(near):
                line[end] = line[end] + way * max(float(((near - line[end]) @ way).max()) - thickness[end], 0.0)
    shapes = []
    for k in range(len(line) if closed else len(line) - 1):
        n = (k + 1) % len(line)
        a, b, radius = line[k], line[n], float(0.5 * (thickness[k] + thickness[n]))
        way = b - a
        length = float(np.linalg.norm(way))
        if length > 1e-9:
            turn = rotation.align(np.array([1.0, 0.0, 0.0]), way / length)
            shapes.append(
                Shape(
                    kind="capsule",
                    radius=radius,
                    half_length=0.5 * length,
                    position=tuple(0.5 * (a + b)),
                    rotation=tuple(turn),
                )
            )
    return tuple(shapes)
