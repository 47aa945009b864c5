"""How well shapes follow the skin, as figures."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from artuline.core.geometry import distance, rotation
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Body, Figure, Shape
from artuline.core.setup.fit import SkinParts, divide_among, skin_normals

NEAR_SKIN = 0.012  # share of the figure's height within which skin counts as held by a shape
_DIRECTIONS = 96


@dataclass(frozen=True)
class BodyFit:
    """How a body's shapes lie in the skin of their bone.

    ``inside``: share of the skin's area that lies in a shape or right above it (``NEAR_SKIN``); ``proud``: how far the
    shapes stand out of the skin, m (95th percentile of their surface); ``overlap``: deepest overlap with another
    body that is not joined to it, m. ``grade``: 0 good to 1 bad, by which they are listed.
    """

    body: str
    inside: float
    proud: float
    overlap: float
    grade: float


def surface_points(shape: Shape, count: int = _DIRECTIONS) -> Array:
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


def body_distance(body: Body, points: Array) -> Array:
    """Signed distance (N,) of points (N, 3), in the bone's frame, from the nearest shape of a body."""
    if not body.shapes:
        return np.full(len(points), np.inf)
    return np.min([distance.shape(points, s) for s in body.shapes], axis=0)


class Skin:
    """A figure's skin in its rest pose, ready for measuring and fitting; raises ArtulineError without a mesh."""

    def __init__(self, figure: Figure, assets: AssetStore):
        self.key = figure.asset
        self.mesh = Mesh.from_arrays(assets[figure.asset or ""])
        self.points = self.mesh.skin(rest_matrices(figure))
        self.normals = skin_normals(self.points, self.mesh.triangles)
        self.tree = cKDTree(self.points)
        self.height = float(np.ptp(self.points, axis=0).max())

    def outside(self, points: Array) -> Array:
        """How far points (N, 3) in the world lie outside of the skin, m; negative inside."""
        away, at = self.tree.query(points)
        sign = np.einsum("ij,ij->i", points - self.points[at], self.normals[at])
        return np.where(sign >= 0.0, away, -away)


def measure(figure: Figure, skin: Skin, overlaps: dict[str, float]) -> list[BodyFit]:
    """The fit of every body with a shape, the worst first. ``overlaps``: deepest overlap of each body, m."""
    parts: SkinParts = divide_among(figure, skin.mesh, skin.points, {b.bone for b in figure.bodies})
    p, q = rigid(rest_matrices(figure))
    found = []
    for body in figure.bodies:
        if not body.shapes:
            continue
        b = figure.bone_index[body.bone]
        mine = parts.owner == b
        inside = 0.0
        if mine.any():
            local = rotation.rotate(rotation.conjugate(q[b]), parts.points[mine] - p[b])
            held = body_distance(body, local) < NEAR_SKIN * skin.height
            inside = float(parts.area[mine][held].sum() / max(parts.area[mine].sum(), 1e-30))
        surface = np.concatenate([surface_points(s) for s in body.shapes])
        if len(body.shapes) > 1:
            # not what lies inside of another shape of the body
            surface = surface[body_distance(body, surface) > -1e-3]
        out = skin.outside(p[b] + rotation.rotate(q[b], surface)) if len(surface) else np.zeros(1)
        proud = max(float(np.percentile(out, 95.0)), 0.0)
        overlap = overlaps.get(body.id, 0.0)
        grade = (1.0 - inside) + 8.0 * proud / skin.height + 2.0 * overlap / skin.height
        found.append(BodyFit(body.id, inside, proud, overlap, float(min(grade, 1.0))))
    return sorted(found, key=lambda f: -f.grade)
