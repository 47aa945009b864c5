"""Winding numbers of points in a surface of triangles: 1 inside, 0 outside, sums where parts overlap; and what is inside, quickly."""

import math

import numpy as np
from numba import njit

import artuline.core.kernel_cache  # noqa: F401  before any kernel is made
from artuline.core.geometry.rotation import Array

LEAF = 12  # triangles that are not divided further
FAR = 3.0  # radii of triangles from their middle, from which they are seen as a dipole
SURE = 0.2  # from a half, within which a winding number that was found so is found again exactly


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


@njit(cache=True, nogil=True, error_model="numpy")
def _by_dipoles(points, corners, first, last, skip, middle, normal, reach, out):  # type: ignore[no-untyped-def]
    """Winding numbers by a tree that is stored in the order of a walk through it: ``skip`` (K,) is the node after all below one."""
    count = len(first)
    for i in range(points.shape[0]):
        total = 0.0
        px, py, pz = points[i, 0], points[i, 1], points[i, 2]
        node = 0
        while node < count:
            x, y, z = middle[node, 0] - px, middle[node, 1] - py, middle[node, 2] - pz
            d2 = x * x + y * y + z * z
            if d2 > FAR * FAR * reach[node] * reach[node]:
                dot = x * normal[node, 0] + y * normal[node, 1] + z * normal[node, 2]
                total += dot / (d2 * math.sqrt(d2))
                node = skip[node]
                continue
            if skip[node] == node + 1:
                for t in range(first[node], last[node]):
                    ax, ay, az = corners[t, 0, 0] - px, corners[t, 0, 1] - py, corners[t, 0, 2] - pz
                    bx, by, bz = corners[t, 1, 0] - px, corners[t, 1, 1] - py, corners[t, 1, 2] - pz
                    cx, cy, cz = corners[t, 2, 0] - px, corners[t, 2, 1] - py, corners[t, 2, 2] - pz
                    a = math.sqrt(ax * ax + ay * ay + az * az)
                    b = math.sqrt(bx * bx + by * by + bz * bz)
                    c = math.sqrt(cx * cx + cy * cy + cz * cz)
                    det = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
                    ab, bc, ca = ax * bx + ay * by + az * bz, bx * cx + by * cy + bz * cz, cx * ax + cy * ay + cz * az
                    total += 2.0 * math.atan2(det, a * b * c + ab * c + bc * a + ca * b)
            node += 1
        out[i] = total / (4.0 * math.pi)


def _tree(corners: Array) -> tuple[np.ndarray, ...]:
    """Triangles (T, 3, 3) in the order of a tree of halves along the longest side: their order, and of every node, in the order of a walk, the
    first and the last of its triangles, the node after all below it, their middle (3,), the sum of their normals' areas (3,), and how far they reach.
    """
    centre = corners.mean(axis=1)
    normal = 0.5 * np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(normal, axis=1)
    order, nodes = np.arange(len(corners)), list[list[float]]()
    # what is left to do: a range, or a node whose halves are done
    left: list[tuple[int, int, int]] = [(0, len(corners), -1)]
    while left:
        a, b, node = left.pop()
        if node >= 0:
            nodes[node][2] = len(nodes)
            continue
        mine = order[a:b]
        weight = area[mine] + 1e-300
        middle = weight @ centre[mine] / weight.sum()
        reach = float(np.sqrt(((corners[mine] - middle) ** 2).sum(axis=2).max()))
        nodes.append([a, b, len(nodes) + 1, *middle, *normal[mine].sum(axis=0), reach])
        if b - a > LEAF:
            axis = int(np.ptp(centre[mine], axis=0).argmax())
            half = (b - a) // 2
            order[a:b] = mine[np.argpartition(centre[mine, axis], half)]
            left += [(0, 0, len(nodes) - 1), (a + half, b, -1), (a, a + half, -1)]
    table = np.array(nodes, float)
    whole = [np.ascontiguousarray(table[:, k], np.int64) for k in range(3)]
    parts = [np.ascontiguousarray(table[:, k]) for k in (slice(3, 6), slice(6, 9), 9)]
    return (order, *whole, *parts)


def inside(points: Array, vertices: Array, triangles: np.ndarray) -> np.ndarray:
    """Whether points (N, 3) have a winding number above a half in triangles (T, 3) over vertices (V, 3).

    Triangles far away count as one dipole (Barill et al. 2018), in time that grows with N log T; where that leaves doubt, it is found exactly.
    """
    points, vertices = np.ascontiguousarray(points, float), np.ascontiguousarray(vertices, float)
    out = np.zeros(len(points))
    if len(triangles):
        corners = vertices[np.asarray(triangles, np.int64)]
        order, first, last, skip, middle, normal, reach = _tree(corners)
        _by_dipoles(points, np.ascontiguousarray(corners[order]), first, last, skip, middle, normal, reach, out)
        doubt = np.flatnonzero(np.abs(out - 0.5) < SURE)
        if len(doubt):
            out[doubt] = winding_numbers(points[doubt], vertices, triangles)
    return out > 0.5
