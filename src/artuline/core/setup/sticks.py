"""A mesh for a skeleton that has none: a spindle along every bone, so that it can be seen, picked and given bodies."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid, skeleton_of
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure
from artuline.core.setup.surfaces import revolved

STICKS = (0.55, 0.47, 0.34)  # their colour
SIDES = 10
THICK = 0.16  # radius of a spindle against its length
THICKEST = 0.045  # against the size of the whole figure
PROFILE = ((0.0, 0.0), (0.55, 0.06), (1.0, 0.2), (0.85, 0.7), (0.5, 0.94), (0.0, 1.0))  # how thick, along the bone


def stick_mesh(figure: Figure) -> Mesh | None:
    """Spindles from every bone to those below it, each carried by its bone alone; in file units. None if all bones are at one place."""
    plain = figure.changed(unit=1.0, position=(0.0, 0.0, 0.0), turn=0.0)
    matrices = rest_matrices(plain)
    p, _ = rigid(matrices)
    parents = skeleton_of(plain).parents
    size = float(np.ptp(p, axis=0).max())
    shape, faces = revolved(list(PROFILE), SIDES)
    shape, faces = np.asarray(shape), np.asarray(faces)
    places: list[Array] = []
    owners: list[int] = []
    for b, up in enumerate(parents):
        way = p[b] - p[up] if up >= 0 else np.zeros(3)
        length = float(np.linalg.norm(way))
        if length < 1e-4 * max(size, 1e-9):
            continue
        thick = min(THICK * length, THICKEST * size)
        turn = rotation.align(np.array([0.0, 1.0, 0.0]), way / length)
        places.append(p[up] + rotation.rotate(turn, shape * [thick, length, thick]))
        owners.append(up)
    if not places:
        return None
    count, n = len(shape), len(places)
    positions = np.concatenate(places)
    triangles = (faces[None] + count * np.arange(n)[:, None, None]).reshape(-1, 3)
    bones = len(parents)
    return Mesh(
        positions=positions.astype(np.float32), normals=_normals(positions, triangles).astype(np.float32), triangles=triangles.astype(np.int32),
        material=np.zeros(len(triangles), np.int32), slots=np.repeat(np.array(owners), count)[:, None].astype(np.int32),
        weights=np.ones((n * count, 1), np.float32), palette_bone=np.arange(bones, dtype=np.int32),
        palette_bind=np.linalg.inv(matrices).astype(np.float64), palette_skin=np.zeros(bones, np.int32),
    )  # fmt: skip


def _normals(positions: Array, triangles: np.ndarray) -> Array:
    a, b, c = (positions[triangles[:, k]] for k in range(3))
    face = np.cross(b - a, c - a)
    found = np.zeros_like(positions)
    for k in range(3):
        np.add.at(found, triangles[:, k], face)
    return found / np.maximum(np.linalg.norm(found, axis=1, keepdims=True), 1e-12)
