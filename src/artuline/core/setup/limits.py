"""Limits proposed for joints that exist: from what the clips use, from anatomy, or from both."""

import math

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import AxisRange, Figure, Joint
from artuline.core.setup.anatomy import FULL_BEND, HINGES, least_range, segment_of

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
