"""Plain descriptions of bodies and joints, and the mass that shapes give."""

from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import mass as mass_properties
from artuline.core.geometry import rotation
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.geometry.rotation import IDENTITY, Array
from artuline.core.physics.state import AXES, BALL, FIXED, FREE, HINGE, LIMITED, LOCKED, PIN, SLIDE, TIE, WELD
from artuline.core.scene.model import Shape

JOINT_KINDS = {
    "ball": BALL, "hinge": HINGE, "fixed": FIXED, "slide": SLIDE, "axes": AXES, "tie": TIE, "weld": WELD, "pin": PIN,
}  # fmt: skip
#: Times its own mass that a body may carry before it swings as the part of a taut line does.
MOST_LOAD = 1500.0
TREE_KINDS = ("ball", "hinge", "fixed", "slide", "axes")

#: None: free; (0, 0): locked; otherwise the range, metres or radians.
Range = tuple[float, float] | None


#: Drag coefficient of a ball, a long cylinder across the stream, a block on its face, and what lies between.
DRAG_COEFFICIENT = {"sphere": 0.47, "capsule": 1.1, "box": 1.1, "hull": 1.0}


@dataclass
class BodySpec:
    """A body: shapes in its own frame, density (kg/m^3) or mass (kg), pose of its frame in the world.

    ``inertia`` (3,) principal moments (kg m^2) may be given for a body without shapes. ``drag``: of the linear
    and the angular velocity, 1/s. ``rolling``: share of their radius at which what round shapes are pushed with resists rolling. ``airy``: the air resists it, by its
    shapes and the ``drag_coefficient``; None: that of each shape (see ``drag_area``).
    """

    shapes: tuple[Shape, ...] = ()
    density: float = 1000.0
    mass: float | None = None
    inertia: Array | None = None
    friction: float = 0.6
    rolling: float = 0.0
    restitution: float = 0.0
    drag: tuple[float, float] = (0.0, 0.0)
    airy: bool = False
    drag_coefficient: float | None = None
    position: Array = field(default_factory=lambda: np.zeros(3))
    rotation: Array = field(default_factory=lambda: IDENTITY.copy())
    velocity: Array = field(default_factory=lambda: np.zeros(3))
    spin: Array = field(default_factory=lambda: np.zeros(3))
    free: bool = True
    drapes: bool = False  # touches the skin of bodies that have one, not their shapes
    group: int = -1  # bodies of the same group do not collide; -1: no group
    key: str = (
        ""  # of two shapes of a kind, which is looked at from which: the same whatever order bodies are listed in
    )


@dataclass
class JointSpec:
    """A joint or link of body ``child`` to body ``parent`` (-1: the world), at a point given in the child's frame.

    ``frame_c``, ``frame_p``: the joint's rotation in each body's frame; x is the bone, or the hinge's or slide's axis.
    ``limits``: half swings y and z, twist from and to (ball); the last two for a hinge. ``axes``: for the
    kind axes, and for a pin that has some, the ranges of x, y, z, twist, swing y and swing z; for a slide, the range along x alone may be given.
    ``lengths``: least and most of a tie. ``frequency`` (Hz) and ``ratio`` set a drive to ``target`` (relative
    rotation of the joint's frames). ``follow``: anchor and target come from the keyed poses. ``damping``: passive,
    1/s. ``friction``: N m. ``limit_frequency`` (Hz): soft limits. ``bounce``: share of the speed that a limit gives
    back. ``spring_frequency`` (Hz): pull of the linear axes to their middles. ``break_force`` (N), ``break_torque`` (N m): 0: never.
    ``bend_frequency`` (Hz): the frames are pulled together while there is no drive, tuned for the inertias of ``feels`` (kg, kg m^2 about x and
    across), which needs to be given then; its mass is that for which linear springs are tuned. ``across``: the inertia about z where it is another than about y, else 0. ``swells``: the number of the
    part whose volume it has to do with by its ``area`` (m^2) across x; ``bulk``: the pressure in it for every m^3 lost (Pa), ``bulk_time``: that by which it is damped (s).
    """

    parent: int
    child: int
    kind: str = "ball"
    anchor: Array = field(default_factory=lambda: np.zeros(3))
    anchor_p: Array | None = None
    frame_c: Array = field(default_factory=lambda: IDENTITY.copy())
    frame_p: Array | None = None
    limits: tuple[float, float, float, float] | None = None
    axes: tuple[Range, ...] = ()
    lengths: tuple[float, float] = (0.0, np.inf)
    frequency: float = 0.0
    ratio: float = 1.0
    damping: float = 0.0
    friction: float = 0.0
    limit_frequency: float = 0.0
    limit_ratio: float = 1.0
    bounce: float = 0.0
    spring_frequency: float = 0.0
    spring_ratio: float = 1.0
    break_force: float = 0.0
    break_torque: float = 0.0
    bend_frequency: float = 0.0
    bend_ratio: float = 1.0
    feels: tuple[float, float, float] = (0.0, 0.0, 0.0)
    across: float = 0.0
    swells: int = -1
    area: float = 0.0
    bulk: float = 0.0
    bulk_time: float = 0.0
    target: Array = field(default_factory=lambda: IDENTITY.copy())
    follow: bool = False
    on: bool = True

    def ranges(self) -> tuple[Range, ...]:
        """The ranges of x, y, z, twist, swing y, swing z that the kind and its limits mean."""
        closed = (0.0, 0.0)
        point: tuple[Range, ...] = (closed, closed, closed)
        limits = self.limits
        if self.kind in ("fixed", "weld"):
            return (*point, closed, closed, closed)
        if self.kind == "hinge":
            return (*point, limits[2:] if limits else None, closed, closed)
        if self.kind == "ball":
            if limits is None:
                return (*point, None, None, None)
            return (*point, limits[2:], (-limits[0], limits[0]), (-limits[1], limits[1]))
        if self.kind == "slide":
            return (self.axes[0] if self.axes else None, closed, closed, closed, closed, closed)
        if self.kind == "pin" and len(self.axes) == 6:
            return self.axes
        if self.kind == "pin":
            # one with a spring gives way
            return (*(point if self.spring_frequency == 0.0 else (None,) * 3), None, None, None)
        if self.kind == "tie":
            return (self.lengths, None, None, None, None, None)
        if len(self.axes) != 6:
            raise ArtulineError("a joint set per axis needs six ranges", remedy="Give x, y, z, twist and two swings.")
        return self.axes


def check_surface(what: str, friction: float, restitution: float) -> None:
    """Raises ArtulineError unless a surface can rub and give back."""
    if not 0.0 <= friction < np.inf:
        raise ArtulineError(f"{what} has the friction {friction}", remedy="Give it zero or more.")
    if not 0.0 <= restitution <= 1.0:
        raise ArtulineError(f"{what} has the restitution {restitution}", remedy="Give it 0 to 1.")


def _is_turn(q: Array) -> bool:
    """Whether four numbers are a unit quaternion."""
    return np.shape(q) == (4,) and abs(float(np.linalg.norm(q)) - 1.0) < 1e-3  # false for what is no number


def check_bodies(bodies: list[BodySpec]) -> None:
    """Raises ArtulineError for a body whose numbers no motion can come from."""
    for i, b in enumerate(bodies):
        values = np.concatenate([b.position, b.rotation, b.velocity, b.spin])
        if not np.isfinite(values).all():
            raise ArtulineError(f"body {i} has a pose or velocity that is not a number")
        if not _is_turn(b.rotation):
            raise ArtulineError(
                f"body {i} has the rotation {np.asarray(b.rotation).tolist()}", remedy="Give a unit quaternion."
            )
        check_surface(f"body {i}", b.friction, b.restitution)
        for name, pair in (("drag", b.drag), ("drag coefficient", (b.drag_coefficient or 0.0,))):
            if not all(0.0 <= v < np.inf for v in pair):
                raise ArtulineError(f"body {i} has the {name} {tuple(pair)}", remedy="Give zero or more.")


def check_joints(joints: list[JointSpec], count: int) -> None:
    """Raises ArtulineError for a joint that joins nothing among ``count`` bodies, or whose numbers are none."""
    for j in joints:
        for end in (j.parent, j.child):
            if not -1 <= end < count or j.child < 0:
                raise ArtulineError(f"a joint refers to body {end}, which does not exist")
        if j.parent == j.child:
            raise ArtulineError(f"a joint joins body {j.child} to itself")
        for name in ("anchor", "anchor_p"):
            value = getattr(j, name)
            if value is not None and not np.isfinite(value).all():
                raise ArtulineError(f"the joint of body {j.child} has an anchor that is not a number")
        for name in ("frame_c", "frame_p", "target"):
            value = getattr(j, name)
            if value is not None and not _is_turn(value):
                words = name.replace("_c", "").replace("_p", "")
                raise ArtulineError(
                    f"the joint of body {j.child} has the {words} {np.asarray(value).tolist()}",
                    remedy="Give a unit quaternion.",
                )
        if not 0.0 <= j.bounce <= 1.0:
            raise ArtulineError(f"the joint of body {j.child} has the bounce {j.bounce}", remedy="Give it 0 to 1.")


def fill_joint(row: np.void, j: JointSpec) -> None:
    """Write kind, ranges and strengths of a joint into its record. Raises ArtulineError for what cannot be."""
    row["kind"], row["parent"], row["child"] = JOINT_KINDS[j.kind], j.parent, j.child
    for k, limits in enumerate(j.ranges()):
        if limits is None:
            row["mode"][k] = FREE
            continue
        low, high = limits
        if not low <= high:
            raise ArtulineError(f"the joint of body {j.child} has a range from {low:g} to {high:g}")
        row["low"][k], row["high"][k] = max(low, -1e9), min(high, 1e9)
        row["mode"][k] = LOCKED if low == high == 0.0 else LIMITED
    if j.kind == "ball" and j.limits is not None:
        row["cone"] = True
        row["mode"][4:] = LIMITED
    for name in (
        "frequency", "ratio", "damping", "friction", "limit_frequency", "limit_ratio", "bounce",
        "bend_frequency", "bend_ratio",
        "spring_frequency", "spring_ratio", "break_force", "break_torque",
    ):  # fmt: skip
        value = float(getattr(j, name))
        if not (np.isfinite(value) and value >= 0.0):
            raise ArtulineError(f"the joint of body {j.child} has the {name.replace('_', ' ')} {value}")
        row[name] = value
    if min(j.feels) < 0.0 or not np.isfinite(j.feels).all() or (j.bend_frequency > 0.0 and min(j.feels[1:]) == 0.0):
        raise ArtulineError(
            f"the joint of body {j.child} has springs for {j.feels}", remedy="Give inertias above zero."
        )
    row["feels"] = (*j.feels, j.across or j.feels[2])
    row["swells"], row["area"], row["bulk"], row["bulk_time"] = j.swells, j.area, j.bulk, j.bulk_time
    row["target0"] = row["target1"] = j.target
    row["broken"], row["on"] = -1, j.on


def shape_mass(shape: Shape) -> tuple[float, Array]:
    """Volume (m^3) and principal inertia per unit mass (3,) of a shape; of a mesh, none."""
    if shape.kind == "box":
        return mass_properties.box(np.array(shape.half))
    if shape.kind == "sphere":
        return mass_properties.sphere(shape.radius)
    if shape.kind == "hull":
        hull = hull_of(shape.points)
        return hull.volume, hull.moments
    if shape.kind == "mesh":
        return 0.0, np.ones(3)
    return mass_properties.capsule(shape.radius, shape.half_length)


def mass_frame(shape: Shape) -> tuple[Array, Array]:
    """Centre of mass (3,) of a shape and rotation (4,) of its principal axes, in the frame that carries it."""
    place, turn = np.array(shape.position), np.array(shape.rotation)
    if shape.kind != "hull":
        return place, turn
    hull = hull_of(shape.points)
    return place + rotation.rotate(turn, hull.centre), rotation.multiply(turn, hull.axes)


def drag_area(shapes: tuple[Shape, ...], turn: Array, coefficient: float | None = None) -> Array:
    """Drag coefficient times the area that the air meets, of shapes along the axes of a frame turned by ``turn`` (4,), m^2 (3,); shapes that hide each other
    count each. Where no coefficient is given each shape has that of its kind (Hoerner, Fluid-Dynamic Drag, 1965); a mesh has none.
    """
    total = np.zeros(3)
    for s in shapes:
        axes = rotation.rotate(rotation.conjugate(np.array(s.rotation)), rotation.rotate(turn, np.eye(3)))
        own = DRAG_COEFFICIENT.get(s.kind, 1.0) if coefficient is None else coefficient
        if s.kind == "box":
            x, y, z = s.half
            total += own * np.abs(axes) @ (4.0 * np.array([y * z, z * x, x * y]))
        elif s.kind == "hull":
            hull = hull_of(s.points)
            a, b, c = (hull.vertices[hull.triangles[:, k]] for k in range(3))
            total += own * 0.25 * np.abs(axes @ np.cross(b - a, c - a).T).sum(axis=1)
        elif s.kind != "mesh":
            half = s.half_length if s.kind == "capsule" else 0.0
            across = np.sqrt(np.maximum(1.0 - axes[:, 0] ** 2, 0.0))
            round_ = DRAG_COEFFICIENT["sphere"] if coefficient is None else coefficient
            total += round_ * np.pi * s.radius**2 + own * 4.0 * s.radius * half * across
    return total


def body_mass(b: BodySpec, i: int) -> tuple[float, Array, Array, Array]:
    """Mass, centre, rotation of the principal axes and principal moments of a body."""
    for name, value in (("mass", b.mass), ("density", b.density)):
        if value is not None and not 0.0 < value < np.inf:
            raise ArtulineError(f"body {i} has the {name} {value}", remedy=f"Give it a {name} above zero.")
    if not b.shapes:
        if b.mass is None or b.inertia is None:
            if b.free:
                raise ArtulineError(
                    f"body {i} has no shape, so its mass is unknown", remedy="Give it a shape or a mass."
                )
            return 1.0, np.zeros(3), IDENTITY, np.ones(3)
        inertia = np.asarray(b.inertia, float)
        if not (np.isfinite(inertia).all() and (inertia > 0.0).all()):
            raise ArtulineError(f"body {i} has the inertia {inertia.tolist()}", remedy="Give three moments above zero.")
        return float(b.mass), np.zeros(3), IDENTITY, inertia
    mass, centre, axes, moments = mass_of(tuple(b.shapes), b.mass, b.density)
    if not np.isfinite(moments).all():
        raise ArtulineError(f"body {i} is too large or too heavy for numbers", remedy="Make it smaller or lighter.")
    return mass, centre, axes, moments


@lru_cache(maxsize=4096)
def mass_of(shapes: tuple[Shape, ...], mass: float | None, density: float) -> tuple[float, Array, Array, Array]:
    """What ``body_mass`` says of a body with shapes; moments that are not finite where it is beyond numbers."""
    parts = [shape_mass(s) for s in shapes]
    volumes = np.array([p[0] for p in parts])
    total = float(volumes.sum()) * density if mass is None else mass
    if not volumes.sum() > 0.0:
        return 1.0, np.zeros(3), IDENTITY, np.ones(3)
    masses = volumes / volumes.sum() * total
    frames = [mass_frame(s) for s in shapes]
    whole, centre, tensor = mass_properties.combine(
        masses,
        np.array([f[0] for f in frames]),
        np.array([f[1] for f in frames]),
        masses[:, None] * np.array([p[1] for p in parts]),
    )
    if not np.isfinite(tensor).all():
        return whole, centre, IDENTITY, np.full(3, np.inf)
    moments, axes = np.linalg.eigh(tensor)
    if np.linalg.det(axes) < 0:
        axes[:, 0] *= -1.0
    return whole, centre, rotation.from_matrix(axes), np.maximum(moments, 1e-7 * moments.max())
