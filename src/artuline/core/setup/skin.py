"""The skin of the rest pose: divided among bones, and how far things stand out of it."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.geometry.rotation import Array
from artuline.core.geometry.winding import inside
from artuline.core.motion.skeleton import rest_matrices, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Shape
from artuline.core.setup.coverage import LEAST_SHARE, covered

DIRECTIONS = 96


@dataclass(frozen=True)
class SkinParts:
    """The rest pose's skin divided among the bones that carry bodies.

    points (V, 3) m, area (V,) m^2, owner (V,) bone index; bones: chosen bones, parents first.
    """

    points: Array
    area: Array
    owner: np.ndarray
    bones: tuple[int, ...]


def divide_skin(figure: Figure, assets: AssetStore, least_share: float = LEAST_SHARE) -> SkinParts:
    """Give every vertex to one of the bones that are to carry bodies (``covered``). Raises ArtulineError if the figure has no mesh."""
    mesh, points = skin_of(figure, assets)
    count = skeleton_of(figure).size
    area = vertex_area(points, mesh.triangles)
    owner = mesh.bone_weights(count).argmax(axis=1)
    share = np.bincount(owner, area, count) / max(float(area.sum()), 1e-30)
    return divide_among(figure, mesh, points, covered(figure, share, least_share))


def skin_of(figure: Figure, assets: AssetStore) -> tuple[Mesh, Array]:
    """A figure's mesh and its vertices in the rest pose (V, 3), m. Raises ArtulineError if it has none."""
    if figure.asset is None:
        raise ArtulineError(f"figure {figure.name!r} has no mesh", remedy="Choose a figure with skin.")
    mesh = Mesh.from_arrays(assets[figure.asset])
    return mesh, mesh.skin(rest_matrices(figure))


def divide_among(figure: Figure, mesh: Mesh, points: Array, bones: set[str]) -> SkinParts:
    """Give every vertex to one of the bones named: to its own, else to the nearest one above it, else to the nearest below."""
    skeleton = skeleton_of(figure)
    kept = tuple(sorted(figure.bone_index[b] for b in bones))
    goes = np.full(skeleton.size, -1)
    for b in range(skeleton.size):
        goes[b] = b if b in kept else (goes[skeleton.parents[b]] if skeleton.parents[b] >= 0 else -1)
    for b in range(skeleton.size - 1, -1, -1):
        up = skeleton.parents[b]
        if up >= 0 and goes[up] < 0 and goes[b] >= 0:
            goes[up] = goes[b]
    owner = goes[mesh.bone_weights(skeleton.size).argmax(axis=1)]
    return SkinParts(points, vertex_area(points, mesh.triangles), owner, kept)


def skin_normals(points: Array, triangles: np.ndarray) -> Array:
    """Unit normals of the vertices (V, 3), weighted by area."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    n = np.zeros_like(points)
    for k in range(3):
        np.add.at(n, triangles[:, k], np.cross(b - a, c - a))
    return n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30)


def vertex_area(points: Array, triangles: np.ndarray) -> Array:
    """A third of the area of the triangles around each vertex (V,)."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 6.0
    return np.bincount(triangles.reshape(-1), np.repeat(area, 3), len(points)).astype(float)


def surface_points(shape: Shape, count: int = DIRECTIONS) -> Array:
    """Points spread over the surface of a shape (count, 3), in the frame that carries it."""
    k = np.arange(count) + 0.5
    z, t = 1.0 - 2.0 * k / count, np.pi * (1.0 + 5.0**0.5) * k
    d = np.stack([np.sqrt(1.0 - z * z) * np.cos(t), np.sqrt(1.0 - z * z) * np.sin(t), z], axis=1)
    if shape.kind == "box":
        p = d / np.abs(d).max(axis=1, keepdims=True) * np.array(shape.half)
    elif shape.kind == "hull":
        hull = hull_of(shape.points)
        with np.errstate(divide="ignore"):
            reach = (hull.planes[:, 3] - hull.planes[:, :3] @ hull.centre) / (d @ hull.planes[:, :3].T)
        p = hull.centre + d * np.where(reach > 0.0, reach, np.inf).min(axis=1)[:, None]
    else:
        p = d * shape.radius
        p[:, 0] += np.sign(d[:, 0]) * (shape.half_length if shape.kind == "capsule" else 0.0)
        if shape.kind == "capsule":
            # along the cylinder too
            side = d.copy()
            side[:, 0] = 0.0
            side *= shape.radius / np.maximum(np.linalg.norm(side, axis=1, keepdims=True), 1e-12)
            side[:, 0] = np.linspace(-1.0, 1.0, count) * shape.half_length
            p = np.concatenate([p[::2], side[::2]])
    return np.array(shape.position) + rotation.rotate(np.array(shape.rotation), p)


class Skin:
    """A figure's skin in its rest pose, ready for measuring and fitting; raises ArtulineError without a mesh.

    points, normals (V, 3); exposed (V,): whether a vertex is seen from outside, not hidden in another part of the skin;
    share (B,): of its area that each bone carries.
    """

    def __init__(self, figure: Figure, assets: AssetStore):
        self.key = figure.asset
        self.mesh, self.points = skin_of(figure, assets)
        self.normals = skin_normals(self.points, self.mesh.triangles)
        self.height = float(np.ptp(self.points, axis=0).max())
        self.exposed = self._exposed()
        count = skeleton_of(figure).size
        area, owner = vertex_area(self.points, self.mesh.triangles), self.mesh.bone_weights(count).argmax(axis=1)
        self.share: Array = np.bincount(owner, area, count) / max(float(area.sum()), 1e-30)
        self.outer = np.flatnonzero(self.exposed)
        self.tree = cKDTree(self.points[self.outer])

    def _exposed(self) -> np.ndarray:
        """Those with no other part of the skin right above them."""
        # other weights, or a bone more, leave it as it is
        key = np.round(self.points, 5).tobytes(), self.mesh.triangles.tobytes()
        found = _exposed.get(key)
        if found is None:
            above = self.points + 0.012 * self.height * self.normals
            found = ~inside(above, self.points, self.mesh.triangles)
            found = found if found.any() else np.ones(len(above), bool)
            while len(_exposed) > 7:
                _exposed.pop(next(iter(_exposed)))
            _exposed[key] = found
        return found

    def outside(self, points: Array) -> Array:
        """How far points (N, 3) in the world lie outside of the skin, m; negative inside."""
        away, at = self.tree.query(points)
        at = self.outer[at]
        sign = np.einsum("ij,ij->i", points - self.points[at], self.normals[at])
        return np.where(sign >= 0.0, away, -away)

    def holds(self, points: Array) -> np.ndarray:
        """Whether points (N, 3) in the world lie within the skin (N,), by its winding number: exact, and slower than ``outside``."""
        return inside(points, self.points, self.mesh.triangles)


_skins: dict[object, Skin] = {}
_exposed: dict[object, np.ndarray] = {}


def cached_skin(figure: Figure, assets: AssetStore) -> Skin:
    """The skin of a figure; made once for its mesh, bones, unit and place. Raises ArtulineError without a mesh."""
    key = (figure.asset, figure.unit, figure.position, figure.turn, figure.bones)
    found = _skins.get(key)
    if found is None:
        found = Skin(figure, assets)
        while len(_skins) > 7:
            _skins.pop(next(iter(_skins)))
        _skins[key] = found
    return found
