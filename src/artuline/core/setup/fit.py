"""Bodies from skin: which bones get one, and the shape just under the surface."""

from collections.abc import Callable

import numpy as np

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Body, Figure, Shape
from artuline.core.setup.anatomy import segment_of
from artuline.core.setup.coverage import LEAST_SHARE
from artuline.core.setup.mirror import mirror_pairs, mirror_shape
from artuline.core.setup.patch_fit import BEST, FitChoice, Patch, fit_patch, rate
from artuline.core.setup.skin import SkinParts, cached_skin, divide_among, divide_skin, surface_points

Progress = Callable[[int, int], None]
Cancelled = Callable[[], bool]
STANDS = 0.01  # share of the figure's height above its lowest point within which a part stands on the ground
LEAST_POINTS = 12  # of exposed skin, below which hidden skin counts too


def nothing(done: int, total: int) -> None:
    """Progress that nobody looks at."""


def never() -> bool:
    """Work that nobody cancels."""
    return False


def fit_bodies(
    figure: Figure,
    assets: AssetStore,
    density: float = 1000.0,
    bones: set[str] | None = None,
    choice: FitChoice = BEST,
    least_share: float = LEAST_SHARE,
    progress: Progress = nothing,
    cancelled: Cancelled = never,
    only: set[str] | None = None,
) -> tuple[Body, ...]:
    """A body for every bone that carries enough skin, or for those named, with a shape of the kind chosen; of those named, ``only`` some
    are fitted, while the skin is divided among all.

    Raises ArtulineError if no bone carries skin, CancelledError on request.
    """
    skin = cached_skin(figure, assets)
    if bones is None:
        parts = divide_skin(figure, assets, least_share)
    else:
        parts = divide_among(figure, skin.mesh, skin.points, bones)
    p, q = rigid(rest_matrices(figure))
    pairs = mirror_pairs(figure)
    bodies: dict[str, Body] = {}
    patches: dict[str, Patch] = {}
    wanted = [b for b in parts.bones if only is None or figure.bones[b].name in only]
    for done, b in enumerate(wanted):
        if cancelled():
            raise CancelledError
        progress(done, len(wanted))
        name = figure.bones[b].name
        mine = parts.owner == b
        if not mine.any():
            continue
        if (mine & skin.exposed).sum() >= LEAST_POINTS:
            mine &= skin.exposed
        patch = patches[name] = Patch(parts.points[mine], parts.area[mine], skin)
        shape = None
        twin = bodies.get(pairs.get(name, ""))
        if twin is not None:
            # the same on both sides, unless the skin is not
            mirrored = mirror_shape(figure, twin.shapes[0], twin.bone, name)
            a = figure.bone_index[twin.bone]
            theirs = rate(_in_world(twin.shapes[0], p[a], q[a]), patches[twin.bone].thinned())
            ours = rate(_in_world(mirrored, p[b], q[b]), patch.thinned())
            if ours.error < max(2.0 * theirs.error, 0.01 * skin.height):
                shape = mirrored
        if shape is None:
            toward = _toward(figure, parts, b, p)
            flat = segment_of(name) == "foot"
            found = fit_patch(patch, None if toward is None else toward - p[b], choice, flat)
            shape = _placed(_standing(found, patch) if flat else found, p[b], q[b])
        bodies[name] = Body(id=name, bone=name, shapes=(shape,), density=density)
    if not bodies:
        raise ArtulineError(f"no bone of {figure.name!r} carries skin", remedy="Check the skin weights.")
    return tuple(bodies.values())


def _standing(shape: Shape, patch: Patch) -> Shape:
    """A shape in the world moved up until it stands on what its skin stands on, if that is the figure's lowest."""
    floor = float(patch.skin.points[:, 1].min())
    if patch.points[:, 1].min() > floor + STANDS * patch.skin.height:
        return shape
    deep = floor - float(surface_points(shape, 384)[:, 1].min())
    x, y, z = shape.position
    return shape.changed(position=(x, y + deep, z)) if deep > 0.0 else shape


def _toward(figure: Figure, parts: SkinParts, b: int, p: Array) -> Array | None:
    """Where the bone leads to (3,): the origin of the bone below it that carries most skin; None at an end."""
    children = [c for c in parts.bones if _kept_parent(figure, parts.bones, c) == b]
    if not children:
        return None
    shares = [parts.area[parts.owner == c].sum() for c in children]
    found: Array = p[children[int(np.argmax(shares))]]
    return found


def _kept_parent(figure: Figure, bones: tuple[int, ...], b: int) -> int:
    parents = skeleton_of(figure).parents
    up = parents[b]
    while up >= 0 and up not in bones:
        up = parents[up]
    return up


def _in_world(shape: Shape, origin: Array, turn: Array) -> Shape:
    place = origin + rotation.rotate(turn, np.array(shape.position))
    return shape.changed(position=tuple(place), rotation=tuple(rotation.multiply(turn, np.array(shape.rotation))))


def _placed(shape: Shape, origin: Array, turn: Array) -> Shape:
    """A shape in the world as one in the frame of a bone."""
    back = rotation.conjugate(turn)
    place = rotation.rotate(back, np.array(shape.position) - origin)
    facing = rotation.multiply(back, np.array(shape.rotation))
    return shape.changed(position=tuple(place), rotation=tuple(facing))
