"""Surfaces of glTF 2.0: primitives as arrays, with their skin weights."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from artuline.core.geometry import transforms
from artuline.formats.checked import Part
from artuline.formats.gltf_container import Container, open_container

MOST_VERTICES = 3_000_000
DEEPEST = 1000  # nodes above each other
MOST_WEIGHTS = 8  # sets of four joints a vertex
TRIANGLES, STRIP, FAN = 4, 5, 6  # how the vertices of a primitive make triangles


@dataclass
class Primitive:
    """positions, normals (V, 3); triangles (T, 3); material index; slots and weights (V, K) into the palette."""

    positions: np.ndarray
    normals: np.ndarray
    triangles: np.ndarray
    material: int
    slots: np.ndarray
    weights: np.ndarray


class Surfaces:
    """Reads primitives of one file, and keeps count of what they hold together."""

    def __init__(self, container: Container, notes: list[str]):
        self.c, self.notes, self._vertices = container, notes, 0

    def primitive(self, primitive: Part, start: int, size: int, plain: int) -> Primitive | None:
        """One primitive, or None if it is not made of triangles. ``start``, ``size``: its skin's part of the palette; a ``size`` of 0
        means that it has no skin and follows entry ``start``. ``plain``: the material of what has none.
        """
        where = primitive.where
        mode = primitive.whole("mode", 4)
        if mode not in (TRIANGLES, STRIP, FAN):
            self.notes.append(f"{where} is not made of triangles (mode {mode}); it is left out.")
            return None
        if "targets" in primitive:
            self.notes.append(f"{where} has morph targets; they are left out.")
        attributes = primitive.part("attributes")
        if "POSITION" not in attributes:
            self.notes.append(f"{where} has no positions; it is left out.")
            return None
        positions = self.c.accessor(attributes, "POSITION", ("VEC3",)).astype(float)
        n = len(positions)
        self._vertices += n
        if self._vertices > MOST_VERTICES:
            raise self.c.fail(f"the file has more than {MOST_VERTICES} vertices", "Reduce its meshes.")
        if "indices" in primitive:
            indices = self.c.accessor(primitive, "indices", ("SCALAR",)).astype(np.int64)
        else:
            indices = np.arange(n)
        if mode == TRIANGLES and len(indices) % 3:
            raise primitive.fail(f"has {len(indices)} indices, which is not a multiple of 3")
        if len(indices) and not 0 <= int(indices.min()) <= int(indices.max()) < n:
            raise primitive.fail(f"points at vertex {int(indices.max())} of {n}")
        triangles = corners_of(indices, mode)
        if "NORMAL" in attributes:
            normals = self.c.accessor(attributes, "NORMAL", ("VEC3",)).astype(float)
        else:
            normals = vertex_normals(positions, triangles)
        slots, weights = self._weights(attributes, where, n, start, size)
        if len(normals) != n:
            raise primitive.fail(f"has {len(normals)} normals for {n} positions")
        material = (
            primitive.index("material", self.c.items("materials"), "materials") if "material" in primitive else plain
        )
        return Primitive(positions, normals, triangles, material, slots, weights)

    def _weights(self, attributes: Part, where: str, n: int, start: int, size: int) -> tuple[np.ndarray, np.ndarray]:
        if size == 0:
            return np.full((n, 1), start), np.ones((n, 1))
        slots, weights = [], []
        k = 0
        while f"JOINTS_{k}" in attributes and f"WEIGHTS_{k}" in attributes:
            if k >= MOST_WEIGHTS:
                raise self.c.fail(f"{where} has more than {4 * MOST_WEIGHTS} joints a vertex")
            slots.append(self.c.accessor(attributes, f"JOINTS_{k}", ("VEC4",)).astype(np.int64))
            w = self.c.accessor(attributes, f"WEIGHTS_{k}", ("VEC4",))
            if w.dtype.kind in "iu":
                # a writer that forgot the normalised flag: weights are shares in any case
                w = w / np.iinfo(w.dtype).max
            weights.append(np.maximum(w.astype(float), 0.0))
            k += 1
        if not slots:
            raise self.c.fail(f"{where} has a skin but no joints and weights (JOINTS_0, WEIGHTS_0)")
        if any(len(x) != n for x in (*slots, *weights)):
            raise self.c.fail(f"{where} has {len(slots[0])} joints and {len(weights[0])} weights for {n} positions")
        s, w = np.concatenate(slots, axis=1), np.concatenate(weights, axis=1)
        s = np.where(w > 0, s, 0)
        if not 0 <= int(s.min()) <= int(s.max()) < size:
            raise self.c.fail(f"{where}.JOINTS points at joint {int(s.max())} of {size}")
        total = w.sum(axis=1, keepdims=True)
        empty = total[:, 0] <= 1e-6
        if empty.any():
            self.notes.append(f"{where}: {int(empty.sum())} vertices have no weight; they follow the first joint.")
            w[empty, 0] = 1.0
            total = w.sum(axis=1, keepdims=True)
        return s + start, w / total


def corners_of(indices: np.ndarray, mode: int) -> np.ndarray:
    """Triangles (T, 3) of a row of vertices, in the order in which glTF has them (section 3.7.2.1); without those of a strip or fan that have no area."""
    if mode == TRIANGLES:
        return indices.reshape(-1, 3)
    i = np.arange(max(len(indices) - 2, 0))
    if mode == STRIP:
        found = np.stack([indices[i], indices[i + 1 + i % 2], indices[i + 2 - i % 2]], axis=1)
    else:
        found = np.stack([indices[i + 1], indices[i + 2], np.broadcast_to(indices[:1], len(i))], axis=1)
    a, b, c = found.T
    return np.asarray(found[(a != b) & (b != c) & (c != a)])


def vertex_normals(positions: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Area-weighted vertex normals (V, 3)."""
    a, b, c = (positions[triangles[:, k]] for k in range(3))
    face = np.cross(b - a, c - a)
    out = np.zeros_like(positions)
    for k in range(3):
        np.add.at(out, triangles[:, k], face)
    length = np.linalg.norm(out, axis=1, keepdims=True)
    return np.where(length > 0, out / np.where(length > 0, length, 1.0), [0.0, 1.0, 0.0])


def read_nodes(path: Path) -> tuple[np.ndarray, np.ndarray]:
    """All meshes of a glTF file where its nodes put them: vertices (V, 3), triangles (T, 3). Raises ArtulineError."""
    c = open_container(path)
    nodes = c.items("nodes")
    surfaces = Surfaces(c, [])
    child_of = {child for node in nodes for child in node.indices("children", nodes, "nodes")}
    todo = [(i, np.eye(4), 0) for i in range(len(nodes)) if i not in child_of]
    seen: set[int] = set()
    vertices: list[np.ndarray] = []
    triangles: list[np.ndarray] = []
    total = 0
    while todo:
        i, above, depth = todo.pop()
        if depth > DEEPEST:
            raise c.fail("its nodes lie too deep in each other")
        if i in seen:
            raise c.fail(f"nodes[{i}] has two parents")
        seen.add(i)
        here = above @ _matrix(nodes[i])
        if "mesh" in nodes[i]:
            for primitive in c.item("meshes", nodes[i], "mesh").parts("primitives"):
                part = surfaces.primitive(primitive, 0, 0, 0)
                if part is not None:
                    triangles.append(part.triangles + total)
                    vertices.append(part.positions @ here[:3, :3].T + here[:3, 3])
                    total += len(part.positions)
        todo += [(child, here, depth + 1) for child in nodes[i].indices("children", nodes, "nodes")]
    if not vertices:
        return np.zeros((0, 3)), np.zeros((0, 3), np.int64)
    return np.concatenate(vertices), np.concatenate(triangles)


def _matrix(node: Part) -> np.ndarray:
    if "matrix" in node:
        return node.floats("matrix", 16, ()).reshape(4, 4).T
    q = node.floats("rotation", 4, (0.0, 0.0, 0.0, 1.0))
    if not 0.5 < np.linalg.norm(q) < 2.0:
        raise node.fail("has a rotation that is not a unit quaternion")
    return transforms.compose(
        node.floats("translation", 3, (0.0,) * 3), q / np.linalg.norm(q), node.floats("scale", 3, (1.0,) * 3)
    )
