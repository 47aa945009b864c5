"""Joints as open formats have them, six axes with ranges and drives, and as ours."""

import math
from dataclasses import dataclass
from typing import Any

from artuline.core.scene.body import AxisRange
from artuline.core.scene.model import Joint

HALF_TURN = math.pi
LOCKED = (0.0, 0.0)


@dataclass(frozen=True)
class Drive:
    """What pulls an axis (0 to 2 along, 3 to 5 about x, y, z) to its middle, per unit of mass or inertia: 1/s^2 and 1/s."""

    axis: int
    stiffness: float
    damping: float


def ranges_of(j: Joint) -> list[AxisRange]:
    """The ranges of a joint's six axes, metres and radians: along x, y, z, then about them."""
    linear: list[AxisRange] = [LOCKED] * 3
    angular: list[AxisRange] = [LOCKED] * 3
    if j.kind == "axes":
        linear, angular = list(j.axes[:3]), list(j.axes[3:])
    elif j.kind == "slide":
        linear[0] = j.slide if j.limited else None
    elif j.kind == "hinge":
        angular[0] = j.twist if j.limited else None
    elif j.kind == "ball":
        angular = [j.twist, (-j.swing_y, j.swing_y), (-j.swing_z, j.swing_z)] if j.limited else [None] * 3
    return linear + angular


def drives_of(j: Joint) -> list[Drive]:
    """What springs of a joint do: those of places on the axes that give way, those of turns on all that do. Tone is none: it holds a pose that is keyed."""
    found = []
    for axis, r in enumerate(ranges_of(j)):
        f, ratio = (j.spring_frequency, j.spring_ratio) if axis < 3 else (j.bend_frequency, j.bend_ratio)
        if r != LOCKED and f > 0.0:
            turn = 2.0 * math.pi * f
            found.append(Drive(axis, turn**2, 2.0 * ratio * turn))
    return found


def joint_of(ranges: list[AxisRange], drives: list[Drive], common: dict[str, Any]) -> Joint:
    """The joint with these ranges of its six axes, of the plainest kind that has them, and with the springs of its places. ``common``: all else."""
    for d in drives:
        if d.axis < 3 and ranges[d.axis] != LOCKED and d.stiffness > 0.0:
            turn = math.sqrt(d.stiffness)
            common = common | {"spring_frequency": turn / (2.0 * math.pi), "spring_ratio": 0.5 * d.damping / turn}
            break
    place, turn_ = ranges[:3], ranges[3:]
    if place == [LOCKED] * 3:
        if turn_ == [LOCKED] * 3:
            return Joint(kind="fixed", **common)
        if turn_ == [None] * 3:
            return Joint(kind="ball", limited=False, **common)
        if turn_[1:] == [LOCKED] * 2:
            given = {"twist": turn_[0]} if turn_[0] else {}
            return Joint(kind="hinge", limited=turn_[0] is not None, **(common | given))
        even = all(r is not None and abs(r[0] + r[1]) < 1e-9 and r[1] <= math.radians(170.0) for r in turn_[1:])
        if turn_[0] is not None and even and max(abs(x) for x in turn_[0]) <= HALF_TURN:
            return Joint(kind="ball", twist=turn_[0], swing_y=turn_[1][1], swing_z=turn_[2][1], **common)  # type: ignore[index]
    return Joint(kind="axes", axes=tuple(ranges), **common)
