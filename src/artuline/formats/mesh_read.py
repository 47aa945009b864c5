"""Meshes from files (OBJ, STL, PLY, OFF, glTF) as the shapes of obstacles."""

from pathlib import Path
from typing import Literal, cast

import numpy as np
import trimesh

from artuline.core.errors import ArtulineError
from artuline.core.geometry.polyhedron import MOST_POINTS, triangle_mesh
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Shape
from artuline.core.setup.fit import hull_shape

KINDS = (".obj", ".stl", ".ply", ".off", ".glb", ".gltf")
MOST_TRIANGLES = 200_000
LARGEST = 1000.0  # metres


def read_shape(path: Path | str, assets: AssetStore, kind: Literal["hull", "mesh"]) -> tuple[Shape, np.ndarray]:
    """The shape of an obstacle from a file, about its middle: its convex hull, or all its triangles; and where the middle is (3,).

    Files of meshes state no unit: their numbers are taken as metres. Raises ArtulineError for a file that is missing, damaged,
    empty, flat or far too large.
    """
    path = Path(path)
    if path.suffix.lower() not in KINDS:
        raise ArtulineError(f"{path.name} is not a mesh", remedy=f"Choose one of: {', '.join(KINDS)}.")
    if not path.is_file():
        raise ArtulineError(f"{path} is not there", remedy="Choose a file that exists.")
    try:
        mesh = cast(trimesh.Trimesh, trimesh.load(path, force="mesh", process=True))
        vertices, triangles = np.array(mesh.vertices, np.float64), np.array(mesh.faces, np.int64)
    except Exception as error:  # the readers raise whatever their formats' libraries do
        raise ArtulineError(f"{path.name} cannot be read as a mesh ({type(error).__name__}: {error})") from error
    if not len(triangles) or not np.isfinite(vertices).all():
        raise ArtulineError(f"{path.name} has no triangles, or places that are not numbers", remedy="Export it again.")
    if len(triangles) > MOST_TRIANGLES:
        raise ArtulineError(
            f"{path.name} has {len(triangles)} triangles", remedy=f"Reduce it to {MOST_TRIANGLES} at most."
        )
    size = np.ptp(vertices, axis=0)
    if size.max() > LARGEST or size.max() < 1e-3:
        raise ArtulineError(f"{path.name} is {size.max():.3g} m in size", remedy="Scale it to metres first.")
    middle = (vertices.min(axis=0) + vertices.max(axis=0)) / 2.0
    local = vertices - middle
    if kind == "hull":
        return hull_shape(local, 1.0, MOST_POINTS), middle
    triangle_mesh(local, triangles)  # raises for what cannot be collided with
    return Shape(kind="mesh", asset=assets.add({"vertices": local, "triangles": triangles})), middle
