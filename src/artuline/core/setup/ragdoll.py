"""Bodies, joints and filters together: set up in one action, added to, taken away, fitted again."""

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.edit import fresh_id, map_figure
from artuline.core.scene.model import Body, Figure, Joint, Scene
from artuline.core.setup.coverage import LEAST_SHARE
from artuline.core.setup.fit import Cancelled, Progress, fit_bodies, never, nothing
from artuline.core.setup.joints import propose_joints
from artuline.core.setup.materials import balanced
from artuline.core.setup.mirror import mirror_pairs
from artuline.core.setup.overlaps import resting_overlaps
from artuline.core.setup.own_frame import in_own_frame
from artuline.core.setup.patch_fit import BEST, FitChoice
from artuline.core.setup.soft import around_softs

NEAR = (
    0.012  # share of the figure's size: bodies two joints apart that lie so near at rest would stop each other at once
)


@in_own_frame
def set_up(
    figure: Figure,
    assets: AssetStore,
    density: float = 1000.0,
    choice: FitChoice = BEST,
    least_share: float = LEAST_SHARE,
    progress: Progress = nothing,
    cancelled: Cancelled = never,
) -> Figure:
    """The figure with bodies under its skin, joints with limits, and resting overlaps that do not collide.

    Where the shapes alone would make light bodies carry heavy ones, or the whole far from what it would weigh, masses are balanced.
    Soft parts are made anew on them. Raises CancelledError on request.
    """
    if figure.softs:
        return around_softs(
            figure, assets, lambda f: set_up(f, assets, density, choice, least_share, progress, cancelled)
        )
    bodies = fit_bodies(figure, assets, density, None, choice, least_share, progress, cancelled)
    bare = figure.changed(bodies=bodies, joints=(), pairs_off=())
    made = _filtered(bare.changed(joints=propose_joints(bare, assets, bodies)))
    return made.changed(bodies=balanced(made, assets))


def set_up_in_scene(scene: Scene, figure_id: str, assets: AssetStore) -> Scene:
    """``set_up`` as a scene edit."""
    return map_figure(scene, figure_id, lambda f: set_up(f, assets))


def _filtered(figure: Figure) -> Figure:
    """With all pairs that overlap at rest left out of collisions, besides those that already are; and of those two joints apart, such as
    the two thighs, all that nearly do.
    """
    known = {frozenset(p) for p in figure.pairs_off}
    around: dict[str, set[str]] = {}
    for j in figure.joints:
        around.setdefault(j.parent, set()).add(j.child)
        around.setdefault(j.child, set()).add(j.parent)
    size = float(np.ptp(rest_matrices(figure)[:, :3, 3], axis=0).max())
    pairs = mirror_pairs(figure)
    touching = {frozenset((a, b)) for a, b, _ in resting_overlaps(figure)}
    other = {b.id: figure.body_of[o].id for b in figure.bodies if (o := pairs.get(b.bone)) in figure.body_of}
    more: dict[frozenset[str], tuple[str, str]] = {}
    for a, b, _ in resting_overlaps(figure, NEAR * size):
        if frozenset((a, b)) in touching or around.get(a, set()) & around.get(b, set()):
            # on both sides alike
            for x, y in ((a, b), (other.get(a, a), other.get(b, b))):
                if frozenset((x, y)) not in known and x != y:
                    more.setdefault(frozenset((x, y)), (x, y))
    return figure.changed(pairs_off=(*figure.pairs_off, *more.values()))


@in_own_frame
def with_bodies(figure: Figure, assets: AssetStore, bodies: tuple[Body, ...]) -> Figure:
    """The figure with other bodies: joints between the same bodies stay, others are proposed; filters of what is gone go."""
    ordered = tuple(sorted(bodies, key=lambda b: figure.bone_index[b.bone]))
    ids = {b.id for b in ordered}
    kept = {(j.parent, j.child): j for j in figure.joints if j.parent in ids and j.child in ids}
    pairs = tuple(p for p in figure.pairs_off if set(p) <= ids)
    loops = tuple(j for j in figure.loops if {j.parent, j.child} <= ids)
    bare = figure.changed(bodies=ordered, joints=(), loops=loops, pairs_off=pairs)
    joints = tuple(kept.get((j.parent, j.child), j) for j in propose_joints(bare, assets, ordered))
    children = {j.child for j in joints}
    # joints whose parent was chosen by hand
    by_hand = {j.child: j for (_, child), j in kept.items() if child in children}
    return _filtered(bare.changed(joints=tuple(by_hand.get(j.child, j) for j in joints)))


@in_own_frame
def add_bodies(
    figure: Figure,
    assets: AssetStore,
    bones: set[str],
    choice: FitChoice = BEST,
    progress: Progress = nothing,
    cancelled: Cancelled = never,
) -> Figure:
    """Bodies for bones that have none yet, fitted to their own skin; the bodies above them are not changed.

    Raises ArtulineError if none of the bones carries skin.
    """
    new = bones - set(figure.body_of)
    if not new:
        raise ArtulineError("all of these bones have bodies")
    both = new | set(figure.body_of)
    fitted = fit_bodies(figure, assets, 1000.0, both, choice, LEAST_SHARE, progress, cancelled, only=new)
    made = [b for b in fitted if b.bone in new]
    if not made:
        raise ArtulineError(f"no skin belongs to {', '.join(sorted(new)[:3])}", remedy="Choose bones that carry skin.")
    return with_bodies(figure, assets, (*figure.bodies, *made))


def remove_bodies(figure: Figure, assets: AssetStore, ids: set[str]) -> Figure:
    """The figure without some bodies; what hung on them hangs on the next body above."""
    return with_bodies(figure, assets, tuple(b for b in figure.bodies if b.id not in ids))


@in_own_frame
def fit_again(
    figure: Figure,
    assets: AssetStore,
    bones: set[str],
    choice: FitChoice = BEST,
    keep_by_hand: bool = True,
    progress: Progress = nothing,
    cancelled: Cancelled = never,
) -> Figure:
    """The figure with the shapes of some bodies fitted again; those edited by hand stay unless told otherwise."""
    wanted = {b.bone for b in figure.bodies if b.bone in bones and not (keep_by_hand and b.by_hand)}
    if not wanted:
        return figure
    all_ = set(figure.body_of)
    fitted = fit_bodies(figure, assets, 1000.0, all_, choice, LEAST_SHARE, progress, cancelled, only=wanted)
    made = {b.bone: b for b in fitted}
    bodies = tuple(
        b.changed(shapes=made[b.bone].shapes, by_hand=False) if b.bone in wanted and b.bone in made else b
        for b in figure.bodies
    )
    return _filtered(figure.changed(bodies=bodies))


def join(figure: Figure, child: str, parent: str) -> Figure:
    """The figure with a ball joint of a body that has none, to another body; both ids. The rest pose is the middle of its range.

    Raises ArtulineError if that closes a ring.
    """
    body = next(b for b in figure.bodies if b.id == child)
    q = rigid(rest_matrices(figure))[1]
    along = np.array(body.shapes[0].position) if body.shapes else np.array([1.0, 0.0, 0.0])
    along = along / np.linalg.norm(along) if np.linalg.norm(along) > 1e-6 else np.array([1.0, 0.0, 0.0])
    frame = tuple(rotation.align(np.array([1.0, 0.0, 0.0]), along))
    other = next(b for b in figure.bodies if b.id == parent)
    world = rotation.multiply(q[figure.bone_index[body.bone]], np.array(frame))
    there = tuple(rotation.multiply(rotation.conjugate(q[figure.bone_index[other.bone]]), world))
    made = Joint(
        id=fresh_id(child, {j.id for j in figure.joints}), parent=parent, child=child, frame=frame, parent_frame=there
    )
    _refuse_ring(figure, child, parent)
    return figure.changed(joints=(*figure.joints, made))


def _refuse_ring(figure: Figure, child: str, parent: str) -> None:
    above = {j.child: j.parent for j in figure.joints}
    up: str | None = parent
    while up is not None:
        if up == child:
            raise ArtulineError(f"{parent!r} hangs on {child!r} itself", remedy="Choose a body that does not.")
        up = above.get(up)


def swap_parent(figure: Figure, child: str, parent: str) -> Figure:
    """The figure with the joint of a body hung on another body; both ids. The rest pose is the middle of its range.

    Raises ArtulineError if that closes a ring.
    """
    _refuse_ring(figure, child, parent)
    _, q = rigid(rest_matrices(figure))
    bones = {b.id: figure.bone_index[b.bone] for b in figure.bodies}
    joint = figure.joint_of[child]
    world = rotation.multiply(q[bones[child]], np.array(joint.frame))
    frame = tuple(rotation.multiply(rotation.conjugate(q[bones[parent]]), world))
    changed = joint.changed(parent=parent, parent_frame=frame)
    return figure.changed(joints=tuple(changed if j.child == child else j for j in figure.joints))


def turn_frame(figure: Figure, child: str, turn: tuple[float, float, float, float]) -> Figure:
    """The figure with the frame of a body's joint turned, about its own axes, on both sides; ranges keep their numbers."""
    joint = figure.joint_of[child]
    changed = joint.changed(
        frame=tuple(rotation.multiply(np.array(joint.frame), np.array(turn))),
        parent_frame=tuple(rotation.multiply(np.array(joint.parent_frame), np.array(turn))),
    )
    return figure.changed(joints=tuple(changed if j.child == child else j for j in figure.joints))
