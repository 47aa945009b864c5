"""Bodies from skin: which bones get one, and the capsule or box just under the surface."""

from dataclasses import dataclass

import numpy as np
from scipy.optimize import minimize

from artuline.core.errors import ArtulineError
from artuline.core.geometry import distance, rotation
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Body, Figure, Shape
from artuline.core.setup.anatomy import segment_of
from artuline.core.setup.mirror import mirror_pairs, mirror_shape
from artuline.core.setup.skin import LEAST_SHARE, Skin, cached_skin, divide_among, divide_skin, surface_points

UNDER = 0.94  # shapes are this share of the fitted size, so that they lie under the skin


@dataclass(frozen=True)
class FitChoice:
    """What kind of shape, and how large: ``radius``, the share of the skin's distances from the axis that a capsule's radius
    leaves below it; ``under``: share of the fitted size that is kept.
    """

    kind: str = "best"  # best, capsule, sphere, box, hull
    radius: float = 0.45
    under: float = UNDER


BEST = FitChoice()
KINDS = ("best", "capsule", "sphere", "box", "hull", "hull group")


def fit_bodies(
    figure: Figure,
    assets: AssetStore,
    density: float = 1000.0,
    bones: set[str] | None = None,
    choice: FitChoice = BEST,
    least_share: float = LEAST_SHARE,
) -> tuple[Body, ...]:
    """A body for every bone that carries enough skin, or for those named, with a shape of the kind chosen.

    Raises ArtulineError if no bone does.
    """
    skin = cached_skin(figure, assets)
    parts = (
        divide_skin(figure, assets, least_share)
        if bones is None
        else divide_among(figure, skin.mesh, skin.points, bones)
    )
    p, q = rigid(rest_matrices(figure))
    pairs = mirror_pairs(figure)
    bodies: dict[str, Body] = {}
    for b in parts.bones:
        name = figure.bones[b].name
        mine = parts.owner == b
        if not mine.any():
            continue
        if (mine & skin.exposed).sum() >= 12:
            mine &= skin.exposed
        points, area = parts.points[mine], parts.area[mine]
        twin = bodies.get(pairs.get(name, ""))
        if twin is not None:
            # the same on both sides, unless the skin is not
            shape = mirror_shape(figure, twin.shapes[0], twin.bone, name)
            there = (parts.owner == figure.bone_index[twin.bone]) & skin.exposed
            a = figure.bone_index[twin.bone]
            theirs = _misfit(_in_world(twin.shapes[0], p[a], q[a]), parts.points[there], parts.area[there], skin)
            if _misfit(_in_world(shape, p[b], q[b]), points, area, skin) < max(2.5 * theirs, 0.03 * skin.height):
                bodies[name] = Body(id=name, bone=name, shapes=(shape,), density=density)
                continue
        children = [c for c in parts.bones if _kept_parent(figure, parts.bones, c) == b]
        toward = (
            p[children[int(np.argmax([parts.area[parts.owner == c].sum() for c in children]))]] if children else None
        )
        segment = segment_of(name)
        box_weight = 0.8 if segment in ("hand", "foot") else (None if toward is not None or segment else 1.05)
        shape = fit_shape(points, area, p[b], q[b], toward, box_weight, choice, skin)
        bodies[name] = Body(id=name, bone=name, shapes=(shape,), density=density)
    if not bodies:
        raise ArtulineError(f"no bone of {figure.name!r} carries skin", remedy="Check the skin weights.")
    return tuple(bodies.values())


def _in_world(shape: Shape, origin: Array, turn: Array) -> Shape:
    place = origin + rotation.rotate(turn, np.array(shape.position))
    return shape.changed(position=tuple(place), rotation=tuple(rotation.multiply(turn, np.array(shape.rotation))))


def _misfit(shape: Shape, points: Array, area: Array, skin: Skin) -> float:
    """Mean distance of the skin from a shape in the world, m, with what stands out of the skin counted threefold."""
    away = np.abs(distance.shape(points, shape))
    proud = np.maximum(skin.outside(surface_points(shape, 48)), 0.0)
    return float(area @ away / area.sum() + 3.0 * proud.mean() + 0.3 * proud.max())


def _refined(shape: Shape, points: Array, area: Array, skin: Skin) -> Shape:
    """The shape moved and sized until it follows the skin best (simplex search)."""
    if len(points) > 200:
        step = len(points) // 200 + 1
        points, area = points[::step], area[::step]
    turn = np.array(shape.rotation)
    size = float(max(shape.radius, *shape.half, 1e-4))

    def made(x: Array) -> Shape:
        place = tuple(np.array(shape.position) + rotation.rotate(turn, size * x[:3]))
        grown = np.exp(np.clip(x[3:], -1.5, 1.5))
        if shape.kind == "box":
            return shape.changed(position=place, half=tuple(np.array(shape.half) * grown))
        if shape.kind == "sphere":
            return shape.changed(position=place, radius=shape.radius * grown[0])
        return shape.changed(position=place, radius=shape.radius * grown[0], half_length=shape.half_length * grown[1])

    count = 3 + {"box": 3, "sphere": 1, "capsule": 2}[shape.kind]
    start = np.zeros((count + 1, count))
    start[1:] = 0.12 * np.eye(count)
    found = minimize(
        lambda x: _misfit(made(x), points, area, skin), np.zeros(count), method="Nelder-Mead",
        options={"maxfev": 26 * count, "xatol": 5e-3, "fatol": 1e-5 * skin.height, "initial_simplex": start},
    )  # fmt: skip
    best = made(found.x)
    if best.kind == "capsule" and best.half_length < 0.05 * best.radius:
        return best.changed(kind="sphere", half_length=0.0)
    return best


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
    choice: FitChoice = BEST,
    skin: Skin | None = None,
) -> Shape:
    """The best of several capsules and boxes for skin points (N, 3), in the bone's frame; or the kind chosen.

    Capsules lie along the bone (from ``origin`` to ``toward``) or along a principal axis; boxes along
    the world's axes or the principal ones. The best has the least mean distance of the skin from its
    surface, weighted by ``area``; that of a box counts ``box_weight`` times, None: no boxes. With the whole ``skin`` the candidates
    are moved and sized so that they do not stand out of it.
    """
    weight = area / area.sum()
    centre = weight @ points
    spread = np.einsum("n,ni,nj->ij", weight, points - centre, points - centre)
    principal = np.linalg.eigh(spread)[1][:, ::-1].T
    if choice.kind == "hull":
        return _placed(hull_shape(points, choice.under), origin, turn)
    if choice.kind == "sphere":
        ball = _sphere(points, weight, centre, choice)
        return _placed(_refined(ball, points, area, skin) if skin is not None else ball, origin, turn)
    best: tuple[float, Shape] | None = None
    if choice.kind == "box":
        box_weight = 1.0
    along = toward - origin if toward is not None else None
    axes = [(a, 1.0) for a in principal]
    if along is not None and np.linalg.norm(along) > 1e-6:
        axes.insert(0, (along / np.linalg.norm(along), 0.8))
    for axis, bonus in axes if choice.kind != "box" else []:
        score, shape = _capsule(points, weight, centre, axis, choice)
        if skin is not None:
            score = _misfit(shape, points, area, skin)
        if best is None or score * bonus < best[0]:
            best = score * bonus, shape
    if box_weight is not None and choice.kind != "capsule":
        frame = principal.copy()
        frame[2] = np.cross(frame[0], frame[1])
        for frame_ in (np.eye(3), frame):
            score, shape = _box(points, weight, frame_, choice)
            if skin is not None:
                score = _misfit(shape, points, area, skin)
            if best is None or score * box_weight < best[0]:
                best = score * box_weight, shape
    assert best is not None
    shape = best[1] if skin is None else _refined(best[1], points, area, skin)
    return _placed(shape, origin, turn)


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
