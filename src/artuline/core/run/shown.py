"""From body poses to bone poses: what the figure shows, between its keys and the simulation."""

import numpy as np

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.scene.model import ZERO, Figure


def smooth_step(h: Array) -> Array:
    """3 h^2 - 2 h^3."""
    return h * h * (3.0 - 2.0 * h)


def loose_bones(figure: Figure) -> frozenset[int]:
    """Bones whose body may change its place in the frame of the bone above: its joint is elsewhere than the bone's origin, frees a linear axis or can break, hangs
    on another body than the nearest above, or is not there.
    """
    found = set()
    for body in figure.bodies:
        joint = figure.joint_of.get(body.id)
        above = figure.bones[figure.bone_index[body.bone]].parent
        while above is not None and above not in figure.body_of:
            above = figure.bones[figure.bone_index[above]].parent
        holder = figure.body_of[above].id if above is not None else None
        firm = (
            joint is not None
            and joint.parent == holder
            and joint.break_force == joint.break_torque == 0.0
            and joint.point == ZERO
            and joint.kind != "slide"
            and not (joint.kind == "axes" and any(r != (0.0, 0.0) for r in joint.axes[:3]))
        )
        if not firm:
            found.add(figure.bone_index[body.bone])
    return frozenset(found)


def shown_pose(
    figure: Figure,
    root: Array,
    keyed: Pose,
    bones: np.ndarray,
    p: Array,
    q: Array,
    handover: Array,
    shares: Array | None = None,
    parted: frozenset[int] = frozenset(),
) -> Pose:
    """Local pose over frames (F, B) of a figure whose bodies were simulated.

    root (F, 4, 4): of the figure; bones (n,): bone of each body; p (F, n, 3), q (F, n, 4): simulated poses of those bones; handover (F, n);
    ``shares`` (n,): how much of each body's physics is shown; ``parted``: bones that are shown where they were besides those that are loose.
    Rotations are blended in the parent's frame, so that the skeleton stays whole. Only bones that physics may move against
    the one that carries them take their place from the simulation (``loose_bones``, and the topmost simulated ones): all others
    keep their distance to the parent.
    """
    loose = loose_bones(figure) | parted
    skeleton = skeleton_of(figure)
    shown = keyed.copy()
    body = {int(b): i for i, b in enumerate(bones)}
    simulated = np.empty((len(handover), skeleton.size, 4, 4))
    carried = np.zeros((len(handover), skeleton.size), bool)
    for b, up in enumerate(skeleton.parents):
        above = simulated[:, up] if up >= 0 else root
        up_carried = carried[:, up] if up >= 0 else np.zeros(len(handover), bool)
        local = Pose(keyed.translation[:, b], keyed.rotation[:, b].copy(), keyed.scale[:, b])
        if b in body:
            i = body[b]
            live = handover[:, i] > 0.0
            if live.any():
                above_q = rigid(above)[1]
                new = rotation.multiply(rotation.conjugate(above_q), q[:, i])
                share = smooth_step(np.clip(handover[:, i], 0.0, 1.0)) * (1.0 if shares is None else shares[i])
                blended = rotation.blend_over_time(keyed.rotation[:, b], new, np.where(live, share, 0.0))
                shown.rotation[live, b] = blended[live]
                local.rotation[live] = new[live]
                top = live & (~up_carried | (b in loose))
                if top.any():
                    inverse = np.linalg.inv(above[top])
                    place = np.einsum("fij,fj->fi", inverse[:, :3, :3], p[top, i]) + inverse[:, :3, 3]
                    old = keyed.translation[top, b]
                    shown.translation[top, b] = old + share[top, None] * (place - old)
                    moved = local.translation.copy()
                    moved[top] = place
                    local = Pose(moved, local.rotation, local.scale)
                carried[:, b] = live | up_carried
            else:
                carried[:, b] = up_carried
        else:
            carried[:, b] = up_carried
        simulated[:, b] = above @ transforms.compose(local.translation, local.rotation, local.scale)
    return shown
