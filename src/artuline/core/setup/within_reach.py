"""What is within reach of a body: which other body is nearest, and where."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from artuline.core.geometry import distance, rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import triangles_of
from artuline.core.scene.model import Body, BodyRef, Figure, LinkEnd, Scene
from artuline.core.setup.patch_fit import extent

REACH = 0.085  # of a figure's size: a hand's breadth and a half
MOST_KNOWN = 4096  # bodies whose extent is remembered
FEW = 64  # triangles about a place that are looked at, those with the nearest middles


@dataclass(frozen=True)
class Near:
    """A body, the place on it (3,) that is nearest, and how far off that is, m; below zero within it."""

    body: BodyRef
    place: Array
    gap: float


def reach_of(figure: Figure) -> float:
    """How far off what a body of a figure holds may be, m."""
    matrices = rest_matrices(figure)
    points = matrices[:, :3, 3]
    size = float(np.ptp(points, axis=0).max(initial=0.0)) if len(points) else 0.0
    return REACH * max(size, *(2.0 * extent(s) for b in figure.bodies for s in b.shapes), 0.0)


def middle_of(body: Body) -> Array:
    """The middle of a body's shapes (3,), in the frame of its bone."""
    return np.mean([s.position for s in body.shapes], axis=0) if body.shapes else np.zeros(3)


def place_of(scene: Scene, matrices: Sequence[Array], end: LinkEnd) -> Array:
    """Where the point of a link's end is (3,), with the figures' bones at matrices (B, 4, 4)."""
    index = next(i for i, f in enumerate(scene.figures) if f.id == end.figure)
    figure = scene.figures[index]
    bone = next(b.bone for b in figure.bodies if b.id == end.body)
    p, q = rigid(matrices[index][[figure.bone_index[bone]]])
    return np.asarray(p[0] + rotation.rotate(q[0], np.array(end.point)))


def near_bodies(
    scene: Scene, assets: AssetStore, matrices: Sequence[Array], figure: str, place: Array, most: float
) -> list[Near]:
    """The bodies of other figures within ``most`` m of a place (3,), the nearest first; the figures' bones are at matrices (B, 4, 4)."""
    found = []
    for other, pose in zip(scene.figures, matrices):
        if other.id == figure or len(pose) != len(other.bones):
            continue
        # of a crowd, only who may be within reach
        away = np.linalg.norm(pose[:, :3, 3] - place, axis=1)
        near = [b for b in other.bodies if away[other.bone_index[b.bone]] < most + _around(assets, b)]
        found += [near_one(assets, other, pose, body, place, most) for body in near]
    return sorted((x for x in found if x is not None), key=lambda x: x.gap)


#: How far a body's shapes go from its bone, m, by the shapes, which are kept so that their ids stay theirs.
_extents: dict[int, tuple[object, float]] = {}


def _around(assets: AssetStore, body: Body) -> float:
    known = _extents.get(id(body.shapes))
    if known is None:
        while len(_extents) > MOST_KNOWN:
            _extents.pop(next(iter(_extents)))
        sizes = []
        for s in body.shapes:
            corners = triangles_of(assets, s.asset) if s.asset is not None else np.array(s.points).reshape(-1, 3)
            sizes.append(float(np.linalg.norm(corners, axis=-1).max(initial=0.0)) if corners.size else extent(s))
        most = max((float(np.linalg.norm(s.position)) + size for s, size in zip(body.shapes, sizes)), default=0.0)
        known = _extents[id(body.shapes)] = body.shapes, most
    return known[1]


def near_one(
    assets: AssetStore, figure: Figure, matrices: Array, body: Body, place: Array, most: float = np.inf
) -> Near | None:
    """Where a body is nearest to a place (3,), with its figure's bones at matrices (B, 4, 4); None if that is not within ``most`` m."""
    b = figure.bone_index[body.bone]
    (p,), (q,) = rigid(matrices[b][None])
    local = rotation.rotate(rotation.conjugate(q), place - p)
    best: tuple[float, Array] | None = None
    for s in body.shapes:
        if s.kind == "mesh" and s.asset is not None:
            triangles = triangles_of(assets, s.asset)
            middle = rotation.rotate(rotation.conjugate(np.array(s.rotation)), local - np.array(s.position))
            away = ((triangles.mean(axis=1) - middle) ** 2).sum(axis=1)
            few = triangles[np.argpartition(away, min(FEW, len(away)) - 1)[:FEW]]
            at = distance.on_surface(local, s, few)
            gap = float(np.linalg.norm(local - at))
        else:
            gap = float(distance.shape(local[None], s)[0])
            if gap > most:
                continue
            at = distance.on_surface(local, s)
            gap = float(np.copysign(np.linalg.norm(local - at), gap))
        if best is None or gap < best[0]:
            best = gap, at
    if best is None or best[0] > most:
        return None
    return Near(BodyRef(figure.id, body.id), p + rotation.rotate(q, best[1]), best[0])
