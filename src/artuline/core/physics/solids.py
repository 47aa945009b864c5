"""Vertices, faces and edges of shapes as rows of one array, for the contact search of hulls and meshes."""

from collections.abc import Mapping, Sequence

import numpy as np

from artuline.core.geometry.polyhedron import Polyhedron, TriangleMesh, box_hull, hull_of
from artuline.core.physics.state import HULL, HULL_COLUMNS, HULLS, MESH, TRIANGLE
from artuline.core.scene.model import Shape


def fill_solids(rows: np.ndarray, shapes: Sequence[Shape], meshes: Mapping[str, TriangleMesh]) -> np.ndarray:
    """Make the array and note in the shapes' records (S,) where each one's part begins.

    Vertices are rows of three; faces of normal, height, first corner and number of corners; edges of two vertices and two
    faces; corners of a vertex. Of a mesh: triangles of three vertices, three ridges and the normal, and the nodes of its tree. Rows before
    ``HULLS`` are scratch. Empty but for those where nothing is a hull or a mesh.
    """
    blocks: list[np.ndarray] = [np.zeros((HULLS, HULL_COLUMNS))]
    scratch = blocks[0]
    scratch[TRIANGLE + 3, 4:6] = TRIANGLE + 4, 3
    scratch[TRIANGLE + 4 : TRIANGLE + 7, 0] = 0, 1, 2
    scratch[TRIANGLE + 7 : TRIANGLE + 10, :2] = (0, 1), (1, 2), (2, 0)
    scratch[TRIANGLE + 7 : TRIANGLE + 10, 2:4] = -1
    size = HULLS

    def add(block: np.ndarray) -> int:
        nonlocal size
        padded = np.zeros((len(block), HULL_COLUMNS))
        padded[:, : block.shape[1]] = block
        blocks.append(padded)
        size += len(block)
        return size - len(block)

    if any(s.kind in ("hull", "mesh") for s in shapes):
        known: dict[Shape, tuple[list[int], list[int]]] = {}
        for row, s in zip(rows, shapes):
            key = s.changed(position=(0.0, 0.0, 0.0), rotation=(0.0, 0.0, 0.0, 1.0), margin=0.0)
            if key not in known:
                known[key] = _add(add, s, meshes)
            row["first"], row["count"] = known[key]
    if (rows["kind"] == MESH).any():
        triangle = rows[-1]
        triangle["kind"], triangle["body"] = HULL, -1
        triangle["first"] = TRIANGLE, TRIANGLE + 3, TRIANGLE + 7
        triangle["count"] = 3, 1, 3
    return np.concatenate(blocks)


def _add(add, s: Shape, meshes: Mapping[str, TriangleMesh]) -> tuple[list[int], list[int]]:  # type: ignore[no-untyped-def]
    if s.kind == "mesh":
        mesh = meshes[str(s.asset)]
        rows = np.column_stack([mesh.triangles, mesh.ridges, mesh.normals])
        return [add(mesh.vertices), add(rows), add(mesh.nodes)], [len(mesh.vertices), len(rows), len(mesh.nodes)]
    if s.kind in ("box", "hull"):
        hull = box_hull(np.array(s.half)) if s.kind == "box" else hull_of(s.points)
        return _add_hull(add, hull)
    half = s.half_length if s.kind == "capsule" else 0.0
    ends = np.array([[half, 0.0, 0.0], [-half, 0.0, 0.0]] if half else [[0.0, 0.0, 0.0]])
    edges = np.array([[0, 1, -1, -1]]) if half else np.zeros((0, 4))
    return [add(ends), 0, add(edges)], [len(ends), 0, len(edges)]


def _add_hull(add, hull: Polyhedron) -> tuple[list[int], list[int]]:  # type: ignore[no-untyped-def]
    vertices, edges = add(hull.vertices), add(hull.edges)
    corners = add(np.array([[i] for loop in hull.loops for i in loop]))
    starts = corners + np.cumsum([0] + [len(loop) for loop in hull.loops[:-1]])
    faces = add(np.column_stack([hull.planes, starts, [len(loop) for loop in hull.loops]]))
    return [vertices, faces, edges], [len(hull.vertices), len(hull.planes), len(hull.edges)]


def most_contacts(rows: np.ndarray) -> int:
    """Contacts that a pair may have: more with a mesh."""
    return 256 if (rows["kind"] == MESH).any() else 12
