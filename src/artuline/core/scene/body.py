"""Rigid bodies with their collision shapes, and the joints between them."""

import math
from typing import Annotated, Literal

from pydantic import Field, model_validator

from artuline.core.scene.values import UPRIGHT, ZERO, Id, Model, NonNegative, Positive, Quat, Share, Vec3


class Shape(Model):
    """A collision shape in the frame of its bone (metres). A capsule's axis is x.

    ``radius``: sphere and capsule. ``half_length``: capsule, without the caps. ``half``: box half extents.
    ``points``: of a convex hull. ``asset``: the triangles of a mesh, which physics cannot move. ``margin``: thickness that
    collisions add on all sides.
    """

    kind: Literal["capsule", "sphere", "box", "hull", "mesh"]
    position: Vec3 = ZERO
    rotation: Quat = UPRIGHT
    radius: NonNegative = 0.0
    half_length: NonNegative = 0.0
    half: Vec3 = ZERO
    points: Annotated[tuple[Vec3, ...], Field(max_length=64)] = ()
    asset: str | None = None
    margin: NonNegative = 0.0

    @model_validator(mode="after")
    def _has_size(self) -> "Shape":
        if self.kind == "box":
            if min(self.half) <= 0.0:
                raise ValueError("a box needs three half extents above zero")
        elif self.kind == "hull":
            if len(self.points) < 4:
                raise ValueError("a convex hull needs four points or more")
        elif self.kind == "mesh":
            if self.asset is None:
                raise ValueError("a mesh needs an asset with its triangles")
        elif self.radius <= 0.0:
            raise ValueError(f"a {self.kind} needs a radius above zero")
        return self


class Body(Model):
    """A rigid body that carries a bone. Density in kg/m^3; a given mass in kg overrides it.

    ``drag``, ``spin_drag``: the share of its velocity and of its spin that the air takes, 1/s. ``drag_coefficient``: of its
    shapes against the air, in any scene; None: by the kind of each, where there is wind. ``rolling``: the share of its radius at which what
    a round shape lies on pushes while it rolls, so that it comes to rest: what gives a little lies on more than a point. Bodies whose
    ``apart`` is the same word, and not empty, do not collide. ``by_hand``: its shapes were edited, so that fitting again keeps them.
    ``steady`` and ``calm`` multiply the group's steadiness and calm. ``gravity``: share of gravity that it feels.
    """

    id: Id
    bone: Id
    shapes: tuple[Shape, ...] = ()
    density: Positive = 1000.0
    mass: Positive | None = None
    friction: NonNegative = 0.6
    rolling: Share = 0.0
    restitution: Share = 0.05
    drag: NonNegative = 0.0
    spin_drag: NonNegative = 0.0
    drag_coefficient: NonNegative | None = None
    apart: str = ""
    by_hand: bool = False
    steady: Share = 1.0
    calm: Share = 1.0
    gravity: Share = 1.0


#: A range of an axis in metres or radians; (0, 0) is locked, None is free.
AxisRange = tuple[float, float] | None


class Joint(Model):
    """Joins a body to its parent body. The frames' x axis is the bone's direction, or the hinge's axis.

    ``frame``: the joint's rotation in the child bone's frame; ``parent_frame``: in the parent bone's frame. ``point``: where it is, in the child bone's frame (m).
    Limits are taken in the parent frame: ``swing_y`` and ``swing_z`` are half angles of an elliptical
    cone, ``twist`` is a range about x, in radians. A hinge turns about x within ``twist``. A slide moves
    along x within ``slide`` (m). The kind axes has a range for each of x, y, z (m), twist and the two swings (radians).
    ``tone`` multiplies the group's tone. ``limit_frequency`` (Hz, 0: hard) and ``limit_ratio`` make limits soft;
    ``bounce`` is the share of its speed that a struck limit gives back; ``friction`` is a torque in N m; ``damping``, 1/s, takes speed from what no spring or tone holds;
    ``spring_frequency`` (Hz) and ``spring_ratio`` pull places that are not locked back to their middle; ``break_force`` (N)
    and ``break_torque`` (N m) part the joint when it carries more (0: never; a blow counts by its mean over a hundredth of a second). ``bend_frequency`` (Hz, 0: none) and ``bend_ratio`` pull the frames
    together, where no tone holds the joint, tuned for ``feels``: kg, and kg m^2 about x and across, whatever hangs on it; the
    mass is that for which the springs of linear axes are tuned (zeros: for what hangs on it). ``across`` (kg m^2, 0: the same) is what it feels about z
    where that is not what it feels about y. ``area``: m^2 of the face across x that it stands for in a soft part.
    """

    id: Id
    parent: Id
    child: Id
    kind: Literal["ball", "hinge", "fixed", "slide", "axes"] = "ball"
    frame: Quat = UPRIGHT
    parent_frame: Quat = UPRIGHT
    point: Vec3 = ZERO
    swing_y: Annotated[float, Field(ge=0.0, le=math.radians(170.0) + 1e-9)] = math.radians(45.0)
    swing_z: Annotated[float, Field(ge=0.0, le=math.radians(170.0) + 1e-9)] = math.radians(45.0)
    twist: tuple[float, float] = (-math.radians(30.0), math.radians(30.0))
    limited: bool = True
    tone: Share = 1.0
    slide: AxisRange = (-0.05, 0.05)
    axes: tuple[AxisRange, AxisRange, AxisRange, AxisRange, AxisRange, AxisRange] = ((0.0, 0.0),) * 6
    limit_frequency: NonNegative = 0.0
    limit_ratio: NonNegative = 1.0
    bounce: Share = 0.0
    friction: NonNegative = 0.0
    damping: NonNegative = 2.5
    spring_frequency: NonNegative = 0.0
    spring_ratio: NonNegative = 1.0
    break_force: NonNegative = 0.0
    break_torque: NonNegative = 0.0
    bend_frequency: NonNegative = 0.0
    bend_ratio: NonNegative = 1.0
    feels: tuple[NonNegative, NonNegative, NonNegative] = (0.0, 0.0, 0.0)
    across: NonNegative = 0.0
    area: NonNegative = 0.0

    @model_validator(mode="after")
    def _ordered(self) -> "Joint":
        lo, hi = self.twist
        if not -math.pi <= lo <= hi <= math.pi:
            raise ValueError("the twist range must run from low to high within half a turn each way")
        if any(r is not None and r[0] > r[1] for r in (self.slide, *self.axes)):
            raise ValueError("a range must run from low to high")
        if self.bend_frequency > 0.0 and min(self.feels[1:]) == 0.0:
            raise ValueError("a joint that bends back needs to know for which inertias")
        return self
