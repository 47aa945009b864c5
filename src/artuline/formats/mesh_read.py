"""Meshes from files (OBJ, STL, PLY, OFF, glTF) as the shapes of obstacles."""

import io
from pathlib import Path
from typing import Literal, cast

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import transforms
from artuline.core.geometry.polyhedron import MOST_POINTS, triangle_mesh
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Shape
from artuline.core.setup.patch_fit import hull_shape
from artuline.formats.checked import Part, reading
from artuline.formats.files import read_plain
from artuline.formats.gltf_container import open_container
from artuline.formats.gltf_mesh import Surfaces

KINDS = (".obj", ".stl", ".ply", ".off", ".glb", ".gltf")
MOST_TRIANGLES = 200_000
MOST_BYTES = 256 * 2**20
LARGEST = 1000.0  # metres
DEEPEST = 1000  # nodes above each other
REMEDY = "Export it again, or choose another file."


def read_mesh(path: Path) -> tuple[np.ndarray, np.ndarray]:
    """All triangles of a file as one mesh: vertices (V, 3), triangles (T, 3). Only that file is read, and of glTF the buffers beside it.

    Raises ArtulineError for a file that is missing, damaged or empty.
    """
    if path.suffix.lower() not in KINDS:
        raise ArtulineError(f"{path.name} is not a mesh", remedy=f"Choose one of: {', '.join(KINDS)}.")
    with reading(path, REMEDY):
        if path.suffix.lower() in (".glb", ".gltf"):
            vertices, triangles = _of_nodes(path)
        else:
            import trimesh

            data = io.BytesIO(read_plain(path, MOST_BYTES))
            found = trimesh.load(
                data, file_type=path.suffix.lower()[1:], force="mesh", process=True, skip_materials=True
            )
            mesh = cast(trimesh.Trimesh, found)
            vertices, triangles = np.array(mesh.vertices, np.float64), np.array(mesh.faces, np.int64)
        if triangles.ndim != 2 or not len(triangles):
            raise ArtulineError("the file has no triangles", place=str(path), remedy=REMEDY)
        if vertices.ndim != 2 or vertices.shape[1] != 3 or not np.isfinite(vertices).all():
            raise ArtulineError("the file has places that are not numbers", place=str(path), remedy=REMEDY)
        if triangles.min() < 0 or triangles.max() >= len(vertices):
            raise ArtulineError("the file has triangles without vertices", place=str(path), remedy=REMEDY)
    return vertices, triangles


def _of_nodes(path: Path) -> tuple[np.ndarray, np.ndarray]:
    """The meshes of a glTF file where its nodes put them."""
    c = open_container(path)
    nodes = c.items("nodes")
    surfaces = Surfaces(c, [])
    child_of = {child for node in nodes for child in node.indices("children", nodes, "nodes")}
    todo = [(i, np.eye(4), 0) for i in range(len(nodes)) if i not in child_of]
    vertices: list[np.ndarray] = []
    triangles: list[np.ndarray] = []
    total = 0
    while todo:
        i, above, depth = todo.pop()
        if depth > DEEPEST:
            raise c.fail("its nodes lie too deep in each other")
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


def read_shape(path: Path | str, assets: AssetStore, kind: Literal["hull", "mesh"]) -> tuple[Shape, np.ndarray]:
    """The shape of an obstacle from a file, about its middle: its convex hull, or all its triangles; and where the middle is (3,).

    Files of meshes state no unit: their numbers are taken as metres. Raises ArtulineError for a file that is missing, damaged,
    empty, flat or far too large.
    """
    path = Path(path)
    vertices, triangles = read_mesh(path)

    def fail(problem: str, remedy: str) -> ArtulineError:
        return ArtulineError(problem, place=str(path), remedy=remedy)

    if len(triangles) > MOST_TRIANGLES:
        raise fail(f"the file has {len(triangles)} triangles", f"Reduce it to {MOST_TRIANGLES} at most.")
    size = float(np.ptp(vertices, axis=0).max())
    if not 1e-3 <= size <= LARGEST:
        raise fail(f"it is {size:.3g} m in size", "Scale it to metres first.")
    middle = (vertices.min(axis=0) + vertices.max(axis=0)) / 2.0
    local = vertices - middle
    try:
        if kind == "hull":
            return hull_shape(local, 1.0, MOST_POINTS), middle
        triangle_mesh(local, triangles)  # raises for what cannot be collided with
    except ArtulineError as error:
        raise fail(error.problem, error.remedy or REMEDY) from error
    return Shape(kind="mesh", asset=assets.add({"vertices": local, "triangles": triangles})), middle
