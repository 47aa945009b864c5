"""Winding numbers of points in a surface of triangles: 1 inside, 0 outside, sums where parts overlap."""

import math

import numpy as np
from numba import njit

from artuline.core.geometry.rotation import Array


@njit(cache=True, nogil=True, error_model="numpy")
def _solid_angles(points, vertices, triangles, out):  # type: ignore[no-untyped-def]
    for i in range(points.shape[0]):
        total = 0.0
        px, py, pz = points[i, 0], points[i, 1], points[i, 2]
        for t in range(triangles.shape[0]):
            u, v, w = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            ax, ay, az = vertices[u, 0] - px, vertices[u, 1] - py, vertices[u, 2] - pz
            bx, by, bz = vertices[v, 0] - px, vertices[v, 1] - py, vertices[v, 2] - pz
            cx, cy, cz = vertices[w, 0] - px, vertices[w, 1] - py, vertices[w, 2] - pz
            a = math.sqrt(ax * ax + ay * ay + az * az)
            b = math.sqrt(bx * bx + by * by + bz * bz)
            c = math.sqrt(cx * cx + cy * cy + cz * cz)
            det = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
            ab, bc, ca = ax * bx + ay * by + az * bz, bx * cx + by * cy + bz * cz, cx * ax + cy * ay + cz * az
            total += math.atan2(det, a * b * c + ab * c + bc * a + ca * b)
        out[i] = total / (2.0 * math.pi)


def winding_numbers(points: Array, vertices: Array, triangles: np.ndarray) -> Array:
    """Winding number (N,) of points (N, 3) in triangles (T, 3) over vertices (V, 3), which need not be closed.

    By exact solid angles (van Oosterom & Strackee 1983; Jacobson et al. 2013).
    """
    out = np.zeros(len(points))
    _solid_angles(
        np.ascontiguousarray(points, float), np.ascontiguousarray(vertices, float),
        np.ascontiguousarray(triangles, np.int64), out,
    )  # fmt: skip
    return out
