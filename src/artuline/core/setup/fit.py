"""Bodies from skin: which bones get one, and the capsule or box just under the surface."""

from dataclasses import dataclass

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import distance, rotation
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Body, Figure, Shape
from artuline.core.setup.anatomy import segment_of

LEAST_SHARE = 0.012  # of the skin's area; bones that carry less are merged into their parent
UNDER = 0.94  # shapes are this share of the fitted size, so that they lie under the skin


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
    """Give every vertex to one bone, and merge bones that carry too little into their parents.

    Raises ArtulineError if the figure has no mesh.
    """
    mesh, points = _skin_of(figure, assets)
    skeleton = skeleton_of(figure)
    area = vertex_area(points, mesh.triangles)
    owner = mesh.bone_weights(skeleton.size).argmax(axis=1)
    share = np.bincount(owner, area, skeleton.size) / max(float(area.sum()), 1e-30)
    kept = []
    for b in range(skeleton.size - 1, -1, -1):
        up = skeleton.parents[b]
        if share[b] == 0.0:
            continue
        if share[b] < least_share and up >= 0 and figure.bones[up].deforms:
            owner[owner == b] = up
            share[up] += share[b]
        else:
            kept.append(b)
    return SkinParts(points, area, owner, tuple(sorted(kept)))


def _skin_of(figure: Figure, assets: AssetStore) -> tuple[Mesh, Array]:
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


@dataclass(frozen=True)
class FitChoice:
    """What kind of shape, and how large: ``radius``, the share of the skin's distances from the axis that a capsule's radius
    leaves below it; ``under``: share of the fitted size that is kept.
    """

    kind: str = "best"  # best, capsule, sphere, box, hull
    radius: float = 0.45
    under: float = UNDER


KINDS = ("best", "capsule", "sphere", "box", "hull", "hull group")


def fit_bodies(
    figure: Figure,
    assets: AssetStore,
    density: float = 1000.0,
    bones: set[str] | None = None,
    choice: FitChoice = FitChoice(),
    least_share: float = LEAST_SHARE,
) -> tuple[Body, ...]:
    """A body for every bone that carries enough skin, or for those named, with a shape of the kind chosen.

    Raises ArtulineError if no bone does.
    """
    if bones is None:
        parts = divide_skin(figure, assets, least_share)
    else:
        parts = divide_among(figure, *_skin_of(figure, assets), bones)
    p, q = rigid(rest_matrices(figure))
    bodies = []
    for b in parts.bones:
        name = figure.bones[b].name
        mine = parts.owner == b
        if not mine.any():
            continue
        children = [c for c in parts.bones if _kept_parent(figure, parts.bones, c) == b]
        toward = (
            p[children[int(np.argmax([parts.area[parts.owner == c].sum() for c in children]))]] if children else None
        )
        segment = segment_of(name)
        box_weight = 0.8 if segment in ("hand", "foot") else (None if toward is not None or segment else 1.05)
        shape = fit_shape(parts.points[mine], parts.area[mine], p[b], q[b], toward, box_weight, choice)
        bodies.append(Body(id=name, bone=name, shapes=(shape,), density=density))
    if not bodies:
        raise ArtulineError(f"no bone of {figure.name!r} carries skin", remedy="Check the skin weights.")
    return tuple(bodies)


def _kept_parent(figure: Figure, bones: tuple[int, ...], b: int) -> int:
    parents = skeleton_of(figure).parents
    up = parents[b]
    while up >= 0 and up not in bones:
        up = parents[up]
    return up


def fit_shape(
    points: Array,
    area: Array,
    origin: Array,
    turn: Array,
    toward: Array | None,
    box_weight: float | None = 1.05,
    choice: FitChoice = FitChoice(),
) -> Shape:
    """The best of several capsules and boxes for skin points (N, 3), in the bone's frame; or the kind chosen.

    Capsules lie along the bone (from ``origin`` to ``toward``) or along a principal axis; boxes along
    the world's axes or the principal ones. The best has the least mean distance of the skin from its
    surface, weighted by ``area``; that of a box counts ``box_weight`` times, None: no boxes.
    """
    weight = area / area.sum()
    centre = weight @ points
    spread = np.einsum("n,ni,nj->ij", weight, points - centre, points - centre)
    principal = np.linalg.eigh(spread)[1][:, ::-1].T
    if choice.kind == "hull":
        return _placed(hull_shape(points, choice.under), origin, turn)
    if choice.kind == "sphere":
        return _placed(_sphere(points, weight, centre, choice), origin, turn)
    best: tuple[float, Shape] | None = None
    if choice.kind == "box":
        box_weight = 1.0
    along = toward - origin if toward is not None else None
    axes = [(a, 1.0) for a in principal]
    if along is not None and np.linalg.norm(along) > 1e-6:
        axes.insert(0, (along / np.linalg.norm(along), 0.8))
    for axis, bonus in axes if choice.kind != "box" else []:
        score, shape = _capsule(points, weight, centre, axis, choice)
        if best is None or score * bonus < best[0]:
            best = score * bonus, shape
    if box_weight is not None and choice.kind != "capsule":
        frame = principal.copy()
        frame[2] = np.cross(frame[0], frame[1])
        for frame_ in (np.eye(3), frame):
            score, shape = _box(points, weight, frame_, choice)
            if best is None or score * box_weight < best[0]:
                best = score * box_weight, shape
    assert best is not None
    return _placed(best[1], origin, turn)


def _placed(shape: Shape, origin: Array, turn: Array) -> Shape:
    """A shape in the world as one in the frame of a bone."""
    back = rotation.conjugate(turn)
    place = rotation.rotate(back, np.array(shape.position) - origin)
    facing = rotation.multiply(back, np.array(shape.rotation))
    return shape.changed(position=tuple(place), rotation=tuple(facing))


def hull_shape(points: Array, under: float = UNDER, most: int = 32) -> Shape:
    """A convex hull of few points around points (N, 3), at their middle, a little smaller than they are.

    Raises ArtulineError if they lie in one plane.
    """
    k = np.arange(4 * most) + 0.5
    z, t = 1.0 - k / (2.0 * most), np.pi * (1.0 + 5.0**0.5) * k
    directions = np.stack([np.sqrt(1.0 - z * z) * np.cos(t), np.sqrt(1.0 - z * z) * np.sin(t), z], axis=1)
    outer = np.unique((points @ directions.T).argmax(axis=0))
    if len(outer) > most:
        # those that most directions meet
        hits = np.bincount((points @ directions.T).argmax(axis=0), minlength=len(points))
        outer = np.sort(np.argsort(-hits, kind="stable")[:most])
    middle = points[outer].mean(axis=0)
    corners = (points[outer] - middle) * under
    hull = hull_of(tuple(map(tuple, corners.tolist())))
    return Shape(kind="hull", position=tuple(middle), points=tuple(map(tuple, hull.vertices.tolist())))


def _sphere(points: Array, weight: Array, centre: Array, choice: FitChoice) -> Shape:
    low, high = points.min(axis=0), points.max(axis=0)
    middle = 0.5 * (0.5 * (low + high) + centre)
    away = np.linalg.norm(points - middle, axis=1)
    radius = choice.under * _weighted_quantile(away, weight, choice.radius)
    return Shape(kind="sphere", position=tuple(middle), radius=max(radius, 1e-4))


def _weighted_quantile(values: Array, weight: Array, share: float) -> float:
    order = np.argsort(values)
    total = np.cumsum(weight[order])
    return float(np.interp(share * total[-1], total, values[order]))


def _capsule(points: Array, weight: Array, centre: Array, axis: Array, choice: FitChoice) -> tuple[float, Shape]:
    turn = rotation.align(np.array([1.0, 0.0, 0.0]), axis)
    local = rotation.rotate(rotation.conjugate(turn), points - centre)
    lo, hi = (_weighted_quantile(local[:, 0], weight, s) for s in (0.03, 0.97))
    middle = (local[:, 0] > lo + 0.15 * (hi - lo)) & (local[:, 0] < hi - 0.15 * (hi - lo))
    if middle.sum() < 6:
        middle[:] = True
    ring, w = local[middle, 1:], weight[middle]
    mid = np.array([0.5 * (ring[:, k].min() + ring[:, k].max()) for k in range(2)])
    mid = 0.5 * mid + 0.5 * (w @ ring) / w.sum()
    radius = choice.under * _weighted_quantile(np.linalg.norm(ring - mid, axis=1), w, choice.radius)
    radius = max(min(radius, 0.75 * (hi - lo)), 1e-4)
    half = max(0.5 * (hi - lo) - radius, 0.0)
    offset = rotation.rotate(turn, np.array([0.5 * (lo + hi), mid[0], mid[1]]))
    kind = "capsule" if half > 0.15 * radius or choice.kind == "capsule" else "sphere"
    shape = Shape(
        kind=kind,
        position=tuple(centre + offset),
        rotation=tuple(turn),
        radius=radius,
        half_length=max(half, 1e-4) if kind == "capsule" else 0.0,
    )
    return float(weight @ np.abs(distance.shape(points, shape))), shape


def _box(points: Array, weight: Array, frame: Array, choice: FitChoice) -> tuple[float, Shape]:
    local = points @ frame.T
    lo = np.array([_weighted_quantile(local[:, k], weight, 0.03) for k in range(3)])
    hi = np.array([_weighted_quantile(local[:, k], weight, 0.97) for k in range(3)])
    half = np.maximum(0.5 * choice.under * (hi - lo), 1e-4)
    turn = rotation.from_matrix(frame.T)
    shape = Shape(kind="box", position=tuple(0.5 * (lo + hi) @ frame), rotation=tuple(turn), half=tuple(half))
    return float(weight @ np.abs(distance.shape(points, shape))), shape
