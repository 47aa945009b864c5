"""Meshes from files of any format that has them, as the shapes of obstacles."""

from pathlib import Path
from typing import Literal

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry.polyhedron import MOST_POINTS, triangle_mesh
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Shape
from artuline.core.setup.patch_fit import hull_shape
from artuline.formats.all import format_of
from artuline.formats.checked import reading

MOST_TRIANGLES = 200_000
LARGEST = 1000.0  # metres
REMEDY = "Export it again, or choose another file."


def read_mesh(path: Path) -> tuple[np.ndarray, np.ndarray]:
    """All triangles of a file as one mesh: vertices (V, 3), triangles (T, 3). Only that file is read, and of glTF the buffers beside it.

    Raises ArtulineError for a file that is missing, damaged or empty.
    """
    read = format_of(path, "read_mesh").read_mesh
    assert read is not None
    with reading(path, REMEDY):
        vertices, triangles = read(path)
        if triangles.ndim != 2 or not len(triangles):
            raise ArtulineError("the file has no triangles", place=str(path), remedy=REMEDY)
        if vertices.ndim != 2 or vertices.shape[1] != 3 or not np.isfinite(vertices).all():
            raise ArtulineError("the file has places that are not numbers", place=str(path), remedy=REMEDY)
        if triangles.min() < 0 or triangles.max() >= len(vertices):
            raise ArtulineError("the file has triangles without vertices", place=str(path), remedy=REMEDY)
    return vertices, triangles


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
