"""Joints between bodies and their nearest ancestors, with limits from what the clips really use."""

import math

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.gaits import forward_of
from artuline.core.motion.keyed import load_clip
from artuline.core.motion.skeleton import placement, rest_matrices, rigid, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Body, Figure, Joint
from artuline.core.setup.anatomy import FULL_BEND, least_range
from artuline.core.setup.hierarchy import body_parents
from artuline.core.setup.roles import hinge_roles

MARGIN = math.radians(12.0)
MOST_SWING = math.radians(150.0)
STRAIGHT_MARGIN = math.radians(3.0)


def clip_rotations(figure: Figure, assets: AssetStore) -> Array:
    """World rotations (F, B, 4) of all bones over all clips, at the clips' own rates; F is 0 without clips."""
    skeleton = skeleton_of(figure)
    found = [np.zeros((0, skeleton.size, 4))]
    for ref in figure.clips:
        frames = max(2, min(2000, round(ref.duration * ref.rate) + 1))
        pose = load_clip(assets, ref.asset).sample(skeleton, np.linspace(0.0, ref.duration, frames))
        found.append(rigid(skeleton.global_matrices(pose, placement(figure)))[1])
    return np.concatenate(found)


def joint_pose(figure: Figure, joint: Joint, matrices: Array) -> tuple[Array, float, float] | None:
    """Swing (2,), twist and place along x of a joint of a figure whose bones stand at matrices (B, 4, 4), radians and metres; None if
    one of its bodies is not there.
    """
    bones = {b.id: figure.bone_index[b.bone] for b in figure.bodies}
    if joint.parent not in bones or joint.child not in bones:
        return None
    a, c = bones[joint.parent], bones[joint.child]
    p, q = rigid(matrices)
    frame = rotation.multiply(q[a], np.array(joint.parent_frame))
    now = rotation.multiply(q[c], np.array(joint.frame))
    swing, twist = rotation.swing_twist(rotation.multiply(rotation.conjugate(frame), now)[None])
    along = 0.0
    if joint.kind == "slide":
        rest, turned = rigid(rest_matrices(figure))
        own = rotation.rotate(rotation.conjugate(turned[a]), rest[c] - rest[a])
        along = float(rotation.rotate(rotation.conjugate(frame), p[c] - p[a] - rotation.rotate(q[a], own))[0])
    return swing[0], float(twist[0]), along


def propose_joints(figure: Figure, assets: AssetStore, bodies: tuple[Body, ...]) -> tuple[Joint, ...]:
    """A joint for every body but the topmost: at the bone's origin, along the bone, to the body above by the skeleton or, where that
    says nothing, by the skin.
    """
    parents = body_parents(figure, assets, bodies)
    by_id = {b.id: b for b in bodies}
    motion = clip_rotations(figure, assets)
    rest_p, rest_q = rigid(rest_matrices(figure))
    roles = hinge_roles(figure, bodies, parents)
    joints = []
    for body in bodies:
        if body.id not in parents:
            continue
        parent = by_id[parents[body.id]]
        c, p = figure.bone_index[body.bone], figure.bone_index[parent.bone]
        along = _direction(figure, bodies, body, parents, rest_p, rest_q)
        up = _direction(figure, bodies, parent, parents, rest_p, rest_q)
        frame = rotation.multiply(rotation.conjugate(rest_q[c]), rotation.align(np.array([1.0, 0, 0]), along))
        turns = rotation.multiply(rotation.conjugate(motion[:, p]), motion[:, c])
        if not len(turns):
            turns = rotation.multiply(rotation.conjugate(rest_q[p]), rest_q[c])[None]
        axis = None
        if body.id in roles:
            axis = _hinge_axis(rotation.multiply(turns, frame))
            if axis is None and roles[body.id] and _still(turns):
                axis = _bending_axis(figure, body, parent, bodies, parents, (rest_p, rest_q), turns, frame)
        joint = Joint(id=body.id, parent=parent.id, child=body.id, frame=tuple(frame))
        if axis is not None:
            bend = (
                rotation.rotate(rotation.conjugate(rest_q[p]), up),
                rotation.rotate(rotation.conjugate(rest_q[c]), along),
            )
            joints.append(_hinge(joint, turns, frame, axis, bend, roles[body.id]))
        else:
            joints.append(_ball(joint, turns, frame, body.bone))
    return tuple(joints)


def _direction(
    figure: Figure, bodies: tuple[Body, ...], body: Body, parents: dict[str, str], p: Array, q: Array
) -> Array:
    """Unit direction of the bone that carries a body: to its child bodies' middle, else along its shape."""
    b = figure.bone_index[body.bone]
    children = [figure.bone_index[o.bone] for o in bodies if parents.get(o.id) == body.id]
    if len(children) == 1:
        d = p[children[0]] - p[b]
    elif body.shapes:
        d = rotation.rotate(q[b], np.array(body.shapes[0].position))
    else:
        d = rotation.rotate(q[b], np.array([1.0, 0.0, 0.0]))
    length = np.linalg.norm(d)
    return d / length if length > 1e-6 else rotation.rotate(q[b], np.array([1.0, 0.0, 0.0]))


def _mean(turns: Array) -> Array:
    """Mean of rotations (N, 4): the main eigenvector of their scatter (Markley et al. 2007)."""
    return np.linalg.eigh(turns.T @ turns)[1][:, -1]


def _hinge_axis(turns: Array) -> Array | None:
    """The axis, in the joint's mean frame, about which nearly all motion happens; None if there is none."""
    steps = rotation.to_rotation_vector(rotation.multiply(rotation.conjugate(_mean(turns)), turns))
    values, axes = np.linalg.eigh(steps.T @ steps / len(steps))
    axis = axes[:, 2]
    if _still(turns) or values[2] < 0.93 * values.sum():
        return None
    off = np.abs(steps - np.outer(steps @ axis, axis)).max()
    return axis if off < math.radians(8.0) else None


def _still(turns: Array) -> bool:
    """Whether rotations (N, 4) hardly differ."""
    return bool(rotation.angle_between(turns, np.broadcast_to(_mean(turns), turns.shape)).max() < math.radians(7.5))


def _bending_axis(
    figure: Figure,
    body: Body,
    parent: Body,
    bodies: tuple[Body, ...],
    parents: dict[str, str],
    rest: tuple[Array, Array],
    turns: Array,
    frame: Array,
) -> Array | None:
    """The axis of a knee or an elbow, in the joint's mean frame, where no clip tells it: across the plane in which the rest pose is bent; straight limbs bend
    in the plane in which the figure faces.
    """  # fmt: skip
    p, q = rest
    along, up = (_direction(figure, bodies, x, parents, p, q) for x in (body, parent))
    across = np.cross(up, along)
    if np.linalg.norm(across) < math.sin(math.radians(4.0)):
        ways = (forward_of(figure), np.array([0.0, 1.0, 0.0]))
        across = max((np.cross(along, w) for w in ways), key=lambda v: round(float(np.linalg.norm(v)), 1))
    mean = rotation.multiply(q[figure.bone_index[parent.bone]], _mean(rotation.multiply(turns, frame)))
    across = rotation.rotate(rotation.conjugate(mean), across)
    return np.asarray(across / np.linalg.norm(across))


def _hinge(joint: Joint, turns: Array, frame: Array, axis: Array, bend: tuple[Array, Array], knee: bool) -> Joint:
    """A hinge about ``axis``; a knee or an elbow opens to straight and closes to a full bend."""
    side = rotation.align(np.array([1.0, 0.0, 0.0]), axis)
    frame_c = rotation.multiply(frame, side)
    frame_p = rotation.multiply(_mean(rotation.multiply(turns, frame)), side)
    _, angles = rotation.swing_twist(_relative(frame_p, turns, frame_c))
    lo, hi = float(angles.min()) - MARGIN, float(angles.max()) + MARGIN
    if knee:
        up, along = bend
        tries = np.radians(np.arange(-170.0, 171.0, 1.0))
        spins = rotation.from_rotation_vector(tries[:, None] * np.array([1.0, 0.0, 0.0]))
        whole = rotation.multiply(rotation.multiply(frame_p, spins), rotation.conjugate(frame_c))
        cosine = rotation.rotate(whole, along) @ up
        straight = float(tries[int(np.argmax(cosine))])
        middle = 0.5 * (lo + hi)
        if middle > straight:
            lo, hi = min(straight - STRAIGHT_MARGIN, lo + MARGIN), max(hi, straight + FULL_BEND)
        else:
            lo, hi = min(lo, straight - FULL_BEND), max(straight + STRAIGHT_MARGIN, hi - MARGIN)
    limit = math.radians(179.0)
    return joint.changed(
        kind="hinge",
        frame=tuple(frame_c),
        parent_frame=tuple(frame_p),
        twist=(max(lo, -limit), min(hi, limit)),
        swing_y=0.0,
        swing_z=0.0,
    )


def _relative(frame_p: Array, turns: Array, frame_c: Array) -> Array:
    return rotation.multiply(rotation.multiply(rotation.conjugate(frame_p), turns), frame_c)


def _ball(joint: Joint, turns: Array, frame: Array, bone: str) -> Joint:
    """A ball joint, its frame centred on the motion, limits just outside of it."""
    frame_p = _mean(rotation.multiply(turns, frame))
    swing, twist = rotation.swing_twist(_relative(frame_p, turns, frame))
    least_swing, least_twist = least_range(bone)
    reach = np.maximum(np.abs(swing).max(axis=0), 1e-3)
    # the ellipse through the extremes, grown until it holds every frame
    reach = reach * max(1.0, float(np.sqrt(((swing / reach) ** 2).sum(axis=1)).max()))
    y, z = np.clip(np.maximum(reach + MARGIN, least_swing), 0.0, MOST_SWING)
    lo = min(float(twist.min()) - MARGIN, -least_twist)
    hi = max(float(twist.max()) + MARGIN, least_twist)
    return joint.changed(
        frame=tuple(frame),
        parent_frame=tuple(frame_p),
        swing_y=float(y),
        swing_z=float(z),
        twist=(max(lo, -math.pi), min(hi, math.pi)),
    )


def keyed_limit_excess(figure: Figure, joint: Joint, rotations: Array) -> Array:
    """How far world rotations (F, B, 4) take a joint beyond its limits: (F,) radians, 0 inside."""
    bones = {b.id: figure.bone_index[b.bone] for b in figure.bodies}
    p, c = bones[joint.parent], bones[joint.child]
    turns = rotation.multiply(rotation.conjugate(rotations[:, p]), rotations[:, c])
    swing, twist = rotation.swing_twist(_relative(np.array(joint.parent_frame), turns, np.array(joint.frame)))
    excess = np.maximum(np.maximum(twist - joint.twist[1], joint.twist[0] - twist), 0.0)
    if joint.kind == "ball":
        limits = np.maximum([joint.swing_y, joint.swing_z], 1e-4)
        length = np.linalg.norm(swing, axis=1)
        share = np.linalg.norm(swing / limits, axis=1)
        outside = np.where(share > 1.0, length - length / np.maximum(share, 1e-12), 0.0)
        excess = np.maximum(excess, outside)
    if joint.kind == "axes":
        excess = np.zeros(len(rotations))
        for values, limits in zip((twist, swing[:, 0], swing[:, 1]), joint.axes[3:]):
            if limits is not None and limits != (0.0, 0.0):
                excess = np.maximum(excess, np.maximum(values - limits[1], limits[0] - values))
    return excess if joint.limited and joint.kind not in ("fixed", "slide") else np.zeros(len(rotations))
