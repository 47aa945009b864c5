"""From body poses to bone poses: what the figure shows, between its keys and the simulation."""

import numpy as np

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import Pose, placement, rigid, skeleton_of
from artuline.core.scene.model import Figure


def smooth_step(h: Array) -> Array:
    """3 h^2 - 2 h^3."""
    return h * h * (3.0 - 2.0 * h)


def shown_pose(
    figure: Figure, keyed: Pose, bones: np.ndarray, p: Array, q: Array, handover: Array, shares: Array | None = None
) -> Pose:
    """Local pose over frames (F, B) of a figure whose bodies were simulated.

    bones (n,): bone of each body; p (F, n, 3), q (F, n, 4): simulated poses of those bones; handover (F, n);
    ``shares`` (n,): how much of each body's physics is shown.
    Rotations are blended in the parent's frame, so that the skeleton stays whole. Only the topmost simulated
    bones take their place from the simulation: all others keep their distance to the parent.
    """
    skeleton = skeleton_of(figure)
    shown = keyed.copy()
    body = {int(b): i for i, b in enumerate(bones)}
    root = placement(figure)
    simulated = np.empty((len(handover), skeleton.size, 4, 4))
    carried = np.zeros((len(handover), skeleton.size), bool)
    for b, up in enumerate(skeleton.parents):
        above = simulated[:, up] if up >= 0 else np.repeat(root[None], len(handover), 0)
        up_carried = carried[:, up] if up >= 0 else np.zeros(len(handover), bool)
        local = Pose(keyed.translation[:, b], keyed.rotation[:, b].copy(), keyed.scale[:, b])
        if b in body:
            i = body[b]
            live = handover[:, i] > 0.0
            if live.any():
                above_q = rigid(above)[1]
                new = rotation.multiply(rotation.conjugate(above_q), q[:, i])
                share = smooth_step(np.clip(handover[:, i], 0.0, 1.0)) * (1.0 if shares is None else shares[i])
                blended = rotation.slerp(keyed.rotation[:, b], new, share)
                shown.rotation[live, b] = blended[live]
                local.rotation[live] = new[live]
                top = live & ~up_carried
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
