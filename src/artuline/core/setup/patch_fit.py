"""One shape for one part of a skin: the capsule, sphere, box or hull whose surface follows it best.

Least squares of the signed distances of the skin from the shape's surface (Eberly, Least Squares Fitting of Data, for the idea), with what
stands out of the skin as a whole counted beside it, over place, rotation and size at once; from several starts.
"""

from dataclasses import dataclass, replace

import numpy as np
from scipy.optimize import least_squares

from artuline.core.errors import ArtulineError
from artuline.core.geometry import distance, rotation
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Shape
from artuline.core.setup.skin import Skin, surface_points

UNDER = 0.94  # a hull is this share of the skin's size, so that it lies under it
BELOW = 0.003  # share of the figure's height that other shapes lie below the skin
NEAR_SKIN = 0.012  # share of the figure's height within which skin counts as held by a shape
ENOUGH = 0.75  # share of the skin that a shape must hold, if a hull would hold more
STANDS_OUT = 0.08  # share of its size by which a shape may stand out of the skin
OUTSIDE = 1.6  # how much more standing out counts than lying below
FLAT_OUTSIDE = 2.5  # the same for parts that lie on things: a sole that stands out lifts the figure
MOST_POINTS = 220
PLAIN_RADIUS = 0.45


@dataclass(frozen=True)
class FitChoice:
    """What kind of shape, and how large: ``radius``, the share of the skin that lies nearer to a capsule's axis than its surface does;
    ``PLAIN_RADIUS`` leaves the size to the fit. ``under``: share of a hull's size that is kept.
    """

    kind: str = "best"  # best, capsule, sphere, box, hull
    radius: float = PLAIN_RADIUS
    under: float = UNDER


BEST = FitChoice()
KINDS = ("best", "capsule", "sphere", "box", "hull", "hull group")


@dataclass(frozen=True)
class Patch:
    """Skin points (N, 3) of one bone in the world with the area of each (N,), the skin that they are a part of, and how much more standing
    out of it counts than lying below.
    """

    points: Array
    area: Array
    skin: Skin
    outside: float = OUTSIDE

    def thinned(self) -> "Patch":
        """The same with few points."""
        step = len(self.points) // MOST_POINTS + 1
        return Patch(self.points[::step], self.area[::step], self.skin, self.outside)


@dataclass(frozen=True)
class Rated:
    """A shape in the world, how far it is from the skin (m, root of the mean square with what stands out), and the share of skin it holds."""

    shape: Shape
    error: float
    inside: float
    proud: float


def fit_patch(patch: Patch, along: Array | None, choice: FitChoice = BEST, flat: bool = False) -> Shape:
    """The best shape for a patch of skin, in the world; ``along`` (3,): the way from the bone's origin to the next one, if there is one;
    ``flat``: the part is one that stands or lies on its side, such as a foot, so that a box is as good as a rounded shape.

    Raises ArtulineError if the skin is flat and a hull is wanted.
    """
    if choice.kind == "hull":
        return hull_shape(patch.points, choice.under)
    thin = replace(patch.thinned(), outside=FLAT_OUTSIDE if flat else OUTSIDE)
    kinds = ("capsule", "sphere", "box") if choice.kind == "best" else (choice.kind,)
    found = [refined(start, thin) for kind in kinds for start in _starts(thin, kind, along)]
    # plainer shapes first, unless another is clearly better
    weight = {"capsule": 1.0, "sphere": 1.0, "box": 0.9 if flat else 1.15}
    best = min(found, key=lambda r: r.error * weight[r.shape.kind])
    shape = best.shape
    if choice.kind == "best" and (best.inside < ENOUGH or best.proud > STANDS_OUT * extent(shape)):
        try:
            hull = rate(hull_shape(patch.points, choice.under), thin)
        except ArtulineError:
            hull = None
        stands = hull is not None and hull.proud <= max(best.proud, STANDS_OUT * extent(hull.shape))
        if hull is not None and stands and hull.inside > best.inside + 0.1:
            return hull.shape
    if choice.radius != PLAIN_RADIUS and shape.kind in ("capsule", "sphere"):
        reach = distance.shape(patch.points, shape) + shape.radius
        shape = shape.changed(radius=max(weighted_quantile(reach, patch.area, choice.radius), 1e-4))
    return shape


def extent(shape: Shape) -> float:
    """Longest side of a shape, m."""
    points = np.ptp(np.array(shape.points), axis=0).max() if shape.points else 0.0
    return float(max(2.0 * (shape.radius + shape.half_length), 2.0 * max(shape.half), points))


def rate(shape: Shape, patch: Patch) -> Rated:
    """How a shape in the world follows a patch."""
    w = patch.area / patch.area.sum()
    gap = distance.shape(patch.points, shape)
    out = np.maximum(patch.skin.outside(surface_points(shape, 64)), 0.0)
    inside = float(w[gap < NEAR_SKIN * patch.skin.height].sum())
    return Rated(
        shape,
        float(np.sqrt(w @ gap**2 + patch.outside**2 * (out @ out) / len(out))),
        inside,
        float(np.percentile(out, 95.0)),
    )


def _sizes(shape: Shape) -> Array:
    if shape.kind == "box":
        return np.array(shape.half)
    return np.array([shape.radius] if shape.kind == "sphere" else [shape.radius, shape.half_length])


def refined(start: Shape, patch: Patch) -> Rated:
    """A shape moved, turned and sized until it follows the patch best."""
    scale = float(max(_sizes(start).max(), 1e-4))
    q0, p0, s0 = np.array(start.rotation), np.array(start.position), np.maximum(_sizes(start), 1e-3 * scale)
    w = np.sqrt(patch.area / patch.area.sum())
    below = BELOW * patch.skin.height
    turns = 0 if start.kind == "sphere" else 3

    def made(x: Array) -> Shape:
        q = rotation.multiply(rotation.from_rotation_vector(x[3 : 3 + turns]), q0) if turns else q0
        size = s0 * np.exp(np.clip(x[3 + turns :], -2.0, 2.0))
        values: dict[str, object] = {"position": tuple(p0 + scale * x[:3]), "rotation": tuple(q)}
        if start.kind == "box":
            values["half"] = tuple(size)
        else:
            values["radius"] = float(size[0])
            values["half_length"] = float(size[1]) if start.kind == "capsule" else 0.0
        return start.model_copy(update=values)

    def residuals(x: Array) -> Array:
        shape = made(x)
        gap = distance.shape(patch.points, shape) - below
        out = np.maximum(patch.skin.outside(surface_points(shape, 48)), 0.0)
        return np.concatenate([w * gap, patch.outside * out / np.sqrt(len(out))]) / patch.skin.height

    count = 3 + turns + len(s0)
    found = least_squares(residuals, np.zeros(count), method="trf", diff_step=2e-3, max_nfev=14, ftol=1e-4, xtol=1e-3)
    best = Shape.model_validate(made(found.x).model_dump())
    if best.kind == "capsule" and best.half_length < 0.05 * best.radius:
        best = best.changed(kind="sphere", half_length=0.0)
    return rate(best, patch)


def _starts(patch: Patch, kind: str, along: Array | None) -> list[Shape]:
    """Rough shapes of a kind: along the bone and along the patch's own axes."""
    w = patch.area / patch.area.sum()
    centre = w @ patch.points
    spread = np.einsum("n,ni,nj->ij", w, patch.points - centre, patch.points - centre)
    own = np.linalg.eigh(spread)[1][:, ::-1].T
    own[2] = np.cross(own[0], own[1])
    if kind == "sphere":
        middle = 0.5 * (0.5 * (patch.points.min(axis=0) + patch.points.max(axis=0)) + centre)
        away = np.linalg.norm(patch.points - middle, axis=1)
        return [Shape(kind="sphere", position=tuple(middle), radius=max(float(w @ away), 1e-4))]
    length = float(np.linalg.norm(along)) if along is not None else 0.0
    axes = [own[0]] if along is None or length < 1e-6 else [along / length, own[0]]
    if kind == "capsule":
        return [_capsule(patch, w, centre, a) for a in axes[:2]]
    frames = [own]
    if along is not None and length > 1e-6:
        x = along / length
        y = own[1] - (own[1] @ x) * x
        if np.linalg.norm(y) > 1e-6:
            y /= np.linalg.norm(y)
            frames.append(np.stack([x, y, np.cross(x, y)]))
    return [_box(patch, w, f) for f in frames]


def _capsule(patch: Patch, w: Array, centre: Array, axis: Array) -> Shape:
    turn = rotation.align(np.array([1.0, 0.0, 0.0]), axis)
    local = rotation.rotate(rotation.conjugate(turn), patch.points - centre)
    lo, hi = (weighted_quantile(local[:, 0], w, s) for s in (0.03, 0.97))
    ring = local[:, 1:]
    mid = np.array([0.5 * (ring[:, k].min() + ring[:, k].max()) for k in range(2)])
    mid = 0.5 * mid + 0.5 * (w @ ring)
    radius = max(min(weighted_quantile(np.linalg.norm(ring - mid, axis=1), w, 0.5), 0.75 * (hi - lo)), 1e-4)
    offset = rotation.rotate(turn, np.array([0.5 * (lo + hi), mid[0], mid[1]]))
    half = max(0.5 * (hi - lo) - radius, 0.15 * radius)
    return Shape(kind="capsule", position=tuple(centre + offset), rotation=tuple(turn), radius=radius, half_length=half)


def _box(patch: Patch, w: Array, frame: Array) -> Shape:
    local = patch.points @ frame.T
    lo = np.array([weighted_quantile(local[:, k], w, 0.04) for k in range(3)])
    hi = np.array([weighted_quantile(local[:, k], w, 0.96) for k in range(3)])
    half = np.maximum(0.5 * (hi - lo), 1e-4)
    return Shape(
        kind="box",
        position=tuple(0.5 * (lo + hi) @ frame),
        rotation=tuple(rotation.from_matrix(frame.T)),
        half=tuple(half),
    )


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


def weighted_quantile(values: Array, weight: Array, share: float) -> float:
    """The value below which a share of the weight lies."""
    order = np.argsort(values)
    total = np.cumsum(weight[order])
    return float(np.interp(share * total[-1], total, values[order]))
