"""Limits proposed for joints that exist: from what the clips use, from anatomy, or from both."""

import math

import numpy as np
from scipy.integrate import solve_ivp
from scipy.optimize import brentq

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.physics.specs import mass_of
from artuline.core.scene.model import AxisRange, Figure, Joint
from artuline.core.setup.anatomy import FULL_BEND, HINGES, least_range, segment_of
from artuline.core.setup.joints import keyed_limit_excess

MARGIN = math.radians(12.0)
MOST_SWING = math.radians(170.0)
SOURCES = ("clips", "anatomy", "both")


def joint_motion(figure: Figure, joint: Joint, rotations: Array) -> tuple[Array, Array]:
    """Swings (F, 2) and twists (F,) of a joint, radians, for world rotations (F, B, 4) of all bones."""
    bones = {b.id: figure.bone_index[b.bone] for b in figure.bodies}
    p, c = rotations[:, bones[joint.parent]], rotations[:, bones[joint.child]]
    turns = rotation.multiply(rotation.conjugate(p), c)
    relative = rotation.multiply(
        rotation.multiply(rotation.conjugate(np.array(joint.parent_frame)), turns), np.array(joint.frame)
    )
    return rotation.swing_twist(relative)


def joint_trace(figure: Figure, joint: Joint, rotations: Array) -> Array:
    """Swing y, swing z, twist and excess beyond the limits (F, 4), radians, of a joint in world rotations (F, B, 4)."""
    if not len(rotations):
        return np.zeros((0, 4))
    swing, twist = joint_motion(figure, joint, rotations)
    return np.column_stack([swing, twist, keyed_limit_excess(figure, joint, rotations)])


def sweep_turn(joint: Joint, t: float) -> tuple[Array, Array]:
    """Place (3,) and rotation (4,) of the joint's child frame in its parent frame along a way through the whole range.

    ``t`` runs from 0 to 1: out and back along each axis that may move, within its limits; free axes turn by 90 degrees each way.
    """
    ranges = _ranges(joint)
    # an axis whose range leaves its middle out stands at the nearest end while others move
    values = np.array([min(max(0.0, low), high) for low, high in ranges])
    moving = [k for k, r in enumerate(ranges) if r[1] > r[0]]
    if moving:
        at = min(max(t, 0.0), 1.0 - 1e-9) * len(moving)
        axis = moving[int(at)]
        wave = math.sin(2.0 * math.pi * (at % 1.0))
        low, high = ranges[axis]
        values[axis] += wave * ((high - values[axis]) if wave > 0.0 else (values[axis] - low))
    swing = rotation.from_rotation_vector(np.array([0.0, values[4], values[5]]))
    twist = rotation.from_rotation_vector(np.array([values[3], 0.0, 0.0]))
    return values[:3], rotation.multiply(swing, twist)


def _ranges(joint: Joint) -> list[tuple[float, float]]:
    """Ranges of x, y, z, twist, swing y and swing z; a quarter turn, or a decimetre, each way where free."""
    quarter = (-0.5 * math.pi, 0.5 * math.pi)
    none = (0.0, 0.0)
    if joint.kind == "fixed":
        return [none] * 6
    if joint.kind == "slide":
        return [(joint.slide if joint.limited and joint.slide else (-0.1, 0.1)), *[none] * 5]
    if joint.kind == "hinge":
        return [none, none, none, joint.twist if joint.limited else quarter, none, none]
    if joint.kind == "ball":
        if not joint.limited:
            return [none, none, none, quarter, quarter, quarter]
        y, z = joint.swing_y, joint.swing_z
        return [none, none, none, joint.twist, (-y, y), (-z, z)]
    return [
        r if r is not None and (joint.limited or r == none) else (quarter if k > 2 else (-0.1, 0.1))
        for k, r in enumerate(joint.axes)
    ]


def swept_matrices(figure: Figure, joint: Joint, matrices: Array, t: float) -> Array:
    """World matrices (B, 4, 4) with a joint's child, and all below it, somewhere on the way through its range."""
    bones = {b.id: figure.bone_index[b.bone] for b in figure.bodies}
    a, c = bones[joint.parent], bones[joint.child]
    p, q = rigid(matrices)
    place, turn = sweep_turn(joint, t)
    frame = rotation.multiply(q[a], np.array(joint.parent_frame))
    new = rotation.multiply(rotation.multiply(frame, turn), rotation.conjugate(np.array(joint.frame)))
    shift = rotation.rotate(frame, place)
    move = rotation.multiply(new, rotation.conjugate(q[c]))
    delta = np.eye(4)
    delta[:3, :3] = rotation.to_matrix(move)
    delta[:3, 3] = p[c] + shift - delta[:3, :3] @ p[c]
    moved = matrices.copy()
    below = [figure.bone_index[b] for b in figure.below(figure.bones[c].name)]
    moved[below] = delta @ matrices[below]
    return moved


def propose_limits(
    figure: Figure, joint: Joint, rotations: Array, source: str = "both", margin: float = MARGIN
) -> Joint:
    """The joint with proposed ranges, its frames and kind as they are.

    ``rotations`` (F, B, 4): all poses of the clips. ``margin``: radians around what they use. From clips: the
    smallest range that holds every frame; the swings are an ellipse. Both: what either asks for.
    """
    if joint.kind in ("fixed", "slide"):
        return joint
    swing, twist = joint_motion(figure, joint, rotations)
    bone = next(b.bone for b in figure.bodies if b.id == joint.child)
    least_swing, least_twist = least_range(bone)
    reach, lo, hi = np.zeros(2), math.inf, -math.inf
    clips, anatomy = source in ("clips", "both") and len(twist) > 0, source in ("anatomy", "both")
    if clips:
        lo, hi = float(twist.min()) - margin, float(twist.max()) + margin
        reach = _ellipse(swing) + margin
    if anatomy and joint.kind == "hinge" and segment_of(bone) in HINGES:
        # a knee or an elbow bends one way from straight, which is where its range ends nearest to none
        a, b = joint.twist
        straight = a if abs(a) < abs(b) else b
        a, b = (straight - FULL_BEND, straight) if abs(a) > abs(b) else (straight, straight + FULL_BEND)
        lo, hi = min(lo, a), max(hi, b)
    elif anatomy:
        lo, hi = min(lo, -least_twist), max(hi, least_twist)
        reach = np.maximum(reach, least_swing)
    if not clips and not anatomy:
        return joint
    lo, hi = max(lo, -math.pi), min(hi, math.pi)
    if joint.kind == "hinge":
        return joint.changed(twist=(lo, hi), limited=True)
    reach = np.minimum(reach, MOST_SWING)
    if joint.kind == "axes":
        ranges: list[AxisRange] = list(joint.axes)
        wanted = ((lo, hi), (-reach[0], reach[0]), (-reach[1], reach[1]))
        if clips and not anatomy:
            wanted = ((lo, hi), _span(swing[:, 0], margin), _span(swing[:, 1], margin))
        for k, r in enumerate(wanted):
            if ranges[3 + k] != (0.0, 0.0):
                ranges[3 + k] = (float(r[0]), float(r[1]))
        return joint.changed(axes=tuple(ranges), limited=True)
    return joint.changed(swing_y=float(reach[0]), swing_z=float(reach[1]), twist=(lo, hi), limited=True)


def _span(values: Array, margin: float) -> tuple[float, float]:
    return float(values.min()) - margin, float(values.max()) + margin


def _ellipse(swing: Array) -> Array:
    """Half axes of an upright ellipse about the origin that holds points (F, 2), grown no more than they need."""
    reach = np.maximum(np.abs(swing).max(axis=0), math.radians(0.5))
    return reach * max(1.0, float(np.sqrt(((swing / reach) ** 2).sum(axis=1)).max()))


def range_text(joint: Joint) -> str:
    """A joint's range in short words, degrees."""

    def span(r: AxisRange, scale: float = 180.0 / math.pi, unit: str = "°") -> str:
        return (
            "free"
            if r is None
            else ("locked" if r == (0.0, 0.0) else f"{scale * r[0]:.0f} to {scale * r[1]:.0f}{unit}")
        )

    return _range_words(joint, span).replace("-", "−")


def _range_words(joint: Joint, span) -> str:  # type: ignore[no-untyped-def]
    if joint.kind == "fixed":
        return "fixed"
    if not joint.limited:
        return "free"
    if joint.kind == "slide":
        return span(joint.slide, 1000.0, " mm")
    if joint.kind == "hinge":
        return span(joint.twist)
    if joint.kind == "axes":
        return ", ".join(span(r) for r in joint.axes[3:])
    return f"±{math.degrees(joint.swing_y):.0f}°, ±{math.degrees(joint.swing_z):.0f}°, {span(joint.twist)}"


def soft_give(figure: Figure, joint: Joint, gravity: float) -> tuple[float, float]:
    """By how many radians a soft limit gives at worst under what hangs on its joint: at rest, and when that has fallen through the joint's range onto it.

    ``gravity``: m/s^2. What hangs there is taken as one rigid body that lies level at the limit, on a damped spring of the limit's frequency and ratio; it comes
    there with the speed of a fall through the range.
    """
    bones = {b.id: b for b in figure.bodies}
    p, q = rigid(rest_matrices(figure))
    at = figure.bone_index[bones[joint.child].bone]
    pivot = p[at] + rotation.rotate(q[at], np.array(joint.point))
    below: set[str] = {joint.child}
    while more := {j.child for j in figure.joints if j.parent in below} - below:
        below |= more
    inertia, moment = 0.0, np.zeros(3)
    for body in (bones[b] for b in below):
        b = figure.bone_index[body.bone]
        mass, centre, _, moments = mass_of(body.shapes, body.mass, body.density)
        away = p[b] + rotation.rotate(q[b], centre) - pivot
        # of a body that swings, whichever way: its largest
        inertia += mass * float(away @ away) + float(moments.max())
        moment += mass * away
    w = 2.0 * math.pi * joint.limit_frequency
    arm = float(np.linalg.norm(moment))
    ranges = [hi - lo for lo, hi in _ranges(joint)[3:]]
    speed = math.sqrt(2.0 * gravity * arm / max(inertia, 1e-12) * (1.0 - math.cos(min(max(ranges), math.pi))))
    pull = gravity * arm / max(inertia, 1e-12)
    rest = float(brentq(lambda x: w * w * x - pull * math.cos(x), 0.0, 0.5 * math.pi))

    def motion(_: float, y: Array) -> list[float]:
        return [y[1], pull * math.cos(y[0]) - w * w * y[0] - 2.0 * joint.limit_ratio * w * y[1]]

    swing = solve_ivp(motion, (0.0, 1.5 / joint.limit_frequency), [0.0, speed], max_step=0.02 / joint.limit_frequency)
    return rest, float(swing.y[0].max())
