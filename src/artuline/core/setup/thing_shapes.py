"""Shapes for the parts of a thing: by choice, or what follows each best."""

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import distance, rotation
from artuline.core.geometry.polyhedron import MOST_POINTS
from artuline.core.motion.skeleton import rigid
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Body, Figure, Shape
from artuline.core.setup.concave import convex_parts
from artuline.core.setup.fit import Cancelled, Progress, fit_bodies, never, nothing
from artuline.core.setup.parts import Surface, own_matrices
from artuline.core.setup.patch_fit import FitChoice, hull_shape
from artuline.core.setup.tube import tube_shapes

#: Kinds of shapes of a part: those that keep what is open are the last two.
KINDS = ("best", "capsule", "sphere", "box", "hull", "tube", "hull group")
FULL = 1.0  # things stand on their surface, not below it
PLAIN = 0.02  # share of a part's size by which a plain shape may be off its outline


def shapes_of(
    figure: Figure, assets: AssetStore, bone: str, kind: str = "best", cancelled: Cancelled = never
) -> tuple[Shape, ...]:
    """Shapes of a part in the frame of its bone. "best": capsules along a ring, handle or bail, which keeps its hole; else a capsule, sphere or
    box that has its outline, or its hull. Raises ArtulineError for a part that is none of the kind.
    """
    s, b = Surface.of(figure, assets), figure.bone_index[bone]
    p, q = rigid(own_matrices(figure)[b])
    corners = rotation.rotate(rotation.conjugate(q), s.positions[s.triangles[s.owner == b]] - p)
    if not len(corners):
        raise ArtulineError(f"{bone} has no surface", remedy="Choose a part that has one.")
    if kind in ("best", "tube"):
        found = tube_shapes(corners)
        if found is not None:
            return found
        if kind == "tube":
            raise ArtulineError(
                f"{bone} is no ring, handle or bail", remedy="Choose a hull group: it keeps what is open, too."
            )
    if kind == "hull group":
        flat, index = np.unique(corners.reshape(-1, 3), axis=0, return_inverse=True)
        parts = convex_parts(flat, index.reshape(-1, 3), cancelled, 0.05)
        return tuple(hull_shape(v, FULL, MOST_POINTS) for v in parts)
    if kind == "hull":
        return (hull_shape(corners.reshape(-1, 3), FULL, MOST_POINTS),)
    choice = FitChoice(kind, under=FULL)
    fitted = fit_bodies(figure, assets, bones=set(figure.bone_index), choice=choice, only={bone})[0].shapes
    if kind == "best" and fitted[0].kind != "hull":
        # plainer only where it has the part's own outline: things stand and stack on it
        hull = hull_shape(corners.reshape(-1, 3), FULL, MOST_POINTS)
        off = np.abs(distance.shape(np.array(hull.points), fitted[0])).mean()
        if off > PLAIN * float(np.ptp(corners.reshape(-1, 3), axis=0).max()):
            return (hull,)
    return fitted


def with_shapes(
    figure: Figure,
    assets: AssetStore,
    kinds: dict[str, str],
    progress: Progress = nothing,
    cancelled: Cancelled = never,
) -> Figure:
    """The figure with bodies on some of its parts, each with shapes of a kind; what a body was otherwise stays."""
    made = dict(figure.body_of)
    for done, (bone, kind) in enumerate(kinds.items()):
        progress(done, len(kinds))
        shapes = shapes_of(figure, assets, bone, kind, cancelled)
        old = made.get(bone)
        made[bone] = (
            old.changed(shapes=shapes, by_hand=False)
            if old is not None
            else Body(id=bone, bone=bone, shapes=shapes, density=600.0)
        )
    ordered = tuple(sorted(made.values(), key=lambda x: figure.bone_index[x.bone]))
    return figure.changed(bodies=ordered)
