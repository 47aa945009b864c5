"""The solver's front door: plain descriptions in, one ``World`` that steps.

One ``World`` serves the tryout, the takes and the command line. Poses outside are those of the bones that
carry the bodies; inside they are those of the principal axes at the centre of mass.
"""

from dataclasses import dataclass, field

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import mass as mass_properties
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import IDENTITY, Array
from artuline.core.physics.collide import find_contacts
from artuline.core.physics.state import (
    BALL,
    BODY,
    BOX,
    CAPSULE,
    CONTACT,
    CONTACTS,
    FIXED,
    HINGE,
    JOINT,
    PAIR,
    PLANE,
    SHAPE,
    SPHERE,
    TUG,
)
from artuline.core.physics.substep import frame
from artuline.core.scene.model import Shape

KINDS = {"sphere": SPHERE, "capsule": CAPSULE, "box": BOX}
JOINT_KINDS = {"ball": BALL, "hinge": HINGE, "fixed": FIXED}
MOST_RATIO = 1e7


@dataclass
class BodySpec:
    """A body: shapes in its own frame, density (kg/m^3) or mass (kg), pose of its frame in the world.

    ``inertia`` (3,) principal moments (kg m^2) may be given for a body without shapes.
    """

    shapes: tuple[Shape, ...] = ()
    density: float = 1000.0
    mass: float | None = None
    inertia: Array | None = None
    friction: float = 0.6
    restitution: float = 0.0
    position: Array = field(default_factory=lambda: np.zeros(3))
    rotation: Array = field(default_factory=lambda: IDENTITY.copy())
    velocity: Array = field(default_factory=lambda: np.zeros(3))
    spin: Array = field(default_factory=lambda: np.zeros(3))
    free: bool = True


@dataclass
class JointSpec:
    """A joint of body ``child`` to body ``parent`` (-1: the world), at a point given in the child's frame.

    ``frame_c``, ``frame_p``: the joint's rotation in each body's frame. Limits as in the scene's Joint.
    ``frequency`` (Hz) and ``ratio`` set a drive to ``target`` (relative rotation of the joint's frames).
    ``follow``: anchor and target come from the keyed poses. ``damping``: passive, 1/s.
    """

    parent: int
    child: int
    kind: str = "ball"
    anchor: Array = field(default_factory=lambda: np.zeros(3))
    anchor_p: Array | None = None
    frame_c: Array = field(default_factory=lambda: IDENTITY.copy())
    frame_p: Array = field(default_factory=lambda: IDENTITY.copy())
    limits: tuple[float, float, float, float] | None = None
    frequency: float = 0.0
    ratio: float = 1.0
    damping: float = 0.0
    target: Array = field(default_factory=lambda: IDENTITY.copy())
    follow: bool = False


class World:
    """Bodies, joints and contacts that move in time."""

    def __init__(
        self,
        bodies: list[BodySpec],
        joints: list[JointSpec] = (),  # type: ignore[assignment]
        *,
        plane: tuple[float, float, float] | None = None,
        off: set[tuple[int, int]] = frozenset(),  # type: ignore[assignment]
        gravity: tuple[float, float, float] = (0.0, -9.81, 0.0),
        contacts: bool = True,
    ):
        """Plane: height (m), friction and restitution of a level ground. ``off``: pairs of bodies that do not
        collide; joined bodies never do. Raises ArtulineError for numbers that no motion can come from.
        """
        joints = list(joints)
        n = len(bodies)
        self.gravity = np.array(gravity, float)
        self._check(bodies, joints)
        self.local_p = np.zeros((n, 3))
        self.local_q = np.tile(IDENTITY, (n, 1))
        masses, inertias = np.ones(n), np.ones((n, 3))
        for i, b in enumerate(bodies):
            masses[i], self.local_p[i], self.local_q[i], inertias[i] = _mass_of(b, i)
        free = np.array([b.free for b in bodies], bool)
        x, q = transforms.rigid_multiply(
            np.array([b.position for b in bodies]).reshape(n, 3),
            np.array([b.rotation for b in bodies]).reshape(n, 4),
            self.local_p,
            self.local_q,
        )
        spin = np.array([b.spin for b in bodies]).reshape(n, 3)
        arms = rotation.rotate(np.array([b.rotation for b in bodies]).reshape(n, 4), self.local_p)
        v = np.array([b.velocity for b in bodies]).reshape(n, 3) + np.cross(spin, arms)
        self.bodies = np.zeros(n, BODY)
        made = self.bodies
        made["x"], made["q"], made["v"], made["w"] = x, q, v, spin
        made["mass"], made["inertia"], made["free"] = masses, inertias, free
        made["goal_x0"] = made["goal_x1"] = x
        made["goal_q0"] = made["goal_q1"] = q
        made["goal_ratio"] = 1.0
        self.order = _tree_order(joints, n)
        self.joints = self._joints([joints[k] for k in self.order])
        self.follow = np.array([joints[k].follow for k in self.order], bool)
        self.shapes = self._shapes(bodies, plane)
        self.pairs = self._pairs(joints, off) if contacts else np.zeros(0, PAIR)
        self.contacts = np.zeros(max(64, min(12 * len(self.pairs), 4096)), CONTACT)
        self.tugs = np.zeros(1, TUG)
        self.tugs["body"], self.tugs["frequency"], self.tugs["mass"] = -1, 1.0, 1.0
        self.counters = np.zeros(4, np.int64)

    @staticmethod
    def _check(bodies: list[BodySpec], joints: list[JointSpec]) -> None:
        for i, b in enumerate(bodies):
            values = np.concatenate([b.position, b.rotation, b.velocity, b.spin])
            if not np.isfinite(values).all():
                raise ArtulineError(f"body {i} has a pose or velocity that is not a number")
            if b.mass is not None and not (0.0 < b.mass < np.inf):
                raise ArtulineError(f"body {i} has the mass {b.mass}", remedy="Give it a mass above zero.")
        seen = set()
        for j in joints:
            if j.child in seen:
                raise ArtulineError(f"body {j.child} has more than one joint to a parent")
            seen.add(j.child)

    def _joints(self, joints: list[JointSpec]) -> np.ndarray:
        made = np.zeros(len(joints), JOINT)
        b = self.bodies
        b["of_joint"] = -1
        for k, j in enumerate(joints):
            row = made[k]
            b["of_joint"][j.child] = k
            inverse_c = rotation.conjugate(self.local_q[j.child])
            row["anchor_c"] = rotation.rotate(inverse_c, j.anchor - self.local_p[j.child])
            row["frame_c"] = rotation.multiply(inverse_c, j.frame_c)
            place = b["x"][j.child] + rotation.rotate(b["q"][j.child], row["anchor_c"])
            if j.parent >= 0:
                inverse_p = rotation.conjugate(self.local_q[j.parent])
                row["frame_p"] = rotation.multiply(inverse_p, j.frame_p)
                if j.anchor_p is None:
                    back = rotation.conjugate(b["q"][j.parent])
                    row["anchor_p"] = rotation.rotate(back, place - b["x"][j.parent])
                else:
                    row["anchor_p"] = rotation.rotate(inverse_p, j.anchor_p - self.local_p[j.parent])
            else:
                row["frame_p"] = j.frame_p
                row["anchor_p"] = place if j.anchor_p is None else j.anchor_p
            row["limits"] = j.limits if j.limits is not None else (np.pi, np.pi, -np.pi, np.pi)
            row["limited"] = j.limits is not None
            row["kind"], row["parent"], row["child"] = JOINT_KINDS[j.kind], j.parent, j.child
            row["frequency"], row["ratio"], row["damping"] = j.frequency, j.ratio, j.damping
            row["target0"] = row["target1"] = j.target
        return made

    def _shapes(self, bodies: list[BodySpec], plane: tuple[float, float, float] | None) -> np.ndarray:
        made = np.zeros(sum(len(b.shapes) for b in bodies) + (plane is not None), SHAPE)
        k = 0
        for i, b in enumerate(bodies):
            for s in b.shapes:
                row = made[k]
                row["position"], row["rotation"] = transforms.rigid_relative(
                    self.local_p[i], self.local_q[i], np.array(s.position), np.array(s.rotation)
                )
                row["body"], row["kind"] = i, KINDS[s.kind]
                row["extent"], row["reach"] = _size(s)
                row["friction"], row["restitution"] = b.friction, b.restitution
                k += 1
        if plane is not None:
            row = made[k]
            row["position"], row["rotation"] = (0.0, plane[0], 0.0), IDENTITY
            row["body"], row["kind"] = -1, PLANE
            row["friction"], row["restitution"] = plane[1:]
        return made

    def _pairs(self, joints: list[JointSpec], off: set[tuple[int, int]]) -> np.ndarray:
        body, kind = self.shapes["body"], self.shapes["kind"]
        apart = {frozenset(p) for p in off} | {frozenset((j.parent, j.child)) for j in joints}
        found = [
            (a, b) if kind[a] <= kind[b] else (b, a)
            for a in range(len(body))
            for b in range(a + 1, len(body))
            if body[a] != body[b] and frozenset((int(body[a]), int(body[b]))) not in apart
        ]
        made = np.zeros(len(found), PAIR)
        if found:
            made["a"], made["b"] = np.array(found).T
        return made

    # poses

    def poses(self) -> tuple[Array, Array]:
        """Positions (n, 3) and rotations (n, 4) of the bodies' own frames."""
        return self._outer(self.bodies["x"], self.bodies["q"])

    def _outer(self, x: Array, q: Array) -> tuple[Array, Array]:
        return transforms.rigid_multiply(x, q, *transforms.rigid_inverse(self.local_p, self.local_q))

    def inner(self, positions: Array, rotations: Array) -> tuple[Array, Array]:
        """Poses of the bodies' frames (..., n, 3), (..., n, 4) as poses of their principal axes."""
        return transforms.rigid_multiply(positions, rotations, self.local_p, self.local_q)

    # time

    def step(self, dt: float, substeps: int = 1) -> None:
        """Advance by dt seconds; bodies that are not free keep their velocity."""
        b = self.bodies
        n, m = len(b), len(self.joints)
        times = (np.arange(substeps + 1) * (dt / substeps))[:, None, None]
        x = b["x"] + times * b["v"]
        q = rotation.multiply(rotation.from_rotation_vector(times * b["w"]), b["q"])
        free = np.repeat(b["free"][None], substeps, 0)
        drive = np.repeat(self.joints["frequency"][None], substeps, 0)
        self.step_keyed(dt, x, q, free, np.zeros((substeps, n)), drive, follow=np.zeros(m, bool))

    def step_keyed(
        self,
        dt: float,
        x: Array,
        q: Array,
        free: np.ndarray,
        goal: Array,
        drive: Array,
        follow: np.ndarray | None = None,
    ) -> None:
        """Advance by dt seconds over k substeps with the keyed motion given at every one.

        x (k + 1, n, 3), q (k + 1, n, 4): keyed poses of the principal axes; free (k, n) bool; goal (k, n):
        world drive in Hz; drive (k, m): joint drive in Hz, joints in ``self.order``.
        """
        frame(
            self.bodies, self.joints, self.shapes, self.pairs, self.contacts, self.tugs, self.counters, self.gravity,
            dt / len(free), np.ascontiguousarray(x), np.ascontiguousarray(q), np.ascontiguousarray(free),
            np.ascontiguousarray(goal), np.ascontiguousarray(drive), self.follow if follow is None else follow,
        )  # fmt: skip

    def overlaps(self) -> list[tuple[int, int, float]]:
        """Bodies whose shapes overlap now, among those that may collide: (a, b, gap in metres below zero)."""
        find_contacts(self.bodies, self.shapes, self.pairs, self.contacts, self.counters, 0.0)
        found = self.contacts[: self.counters[CONTACTS]]
        body = self.shapes["body"]
        return [
            (int(body[c["shapes"][0]]), int(body[c["shapes"][1]]), float(c["gap"]))
            for c in found
            if c["gap"] < 0.0
        ]

    def reset_report(self) -> None:
        """Start new worst values and sums."""
        for name in ("penetration", "contact"):
            self.bodies[name] = 0.0
        for name in ("separation", "excess"):
            self.joints[name] = 0.0

    def energy(self) -> float:
        """Kinetic plus potential energy of the free bodies, joules; potential 0 at the origin."""
        b = self.bodies
        spin = rotation.rotate(rotation.conjugate(b["q"]), b["w"])
        kinetic = 0.5 * b["mass"] * np.sum(b["v"] ** 2, axis=1) + 0.5 * np.sum(b["inertia"] * spin**2, axis=1)
        return float(np.sum((kinetic - b["mass"] * (b["x"] @ self.gravity))[b["free"]]))

    def momentum(self) -> tuple[Array, Array]:
        """Linear and angular momentum (about the origin) of the free bodies."""
        b = self.bodies
        spin = rotation.rotate(b["q"], b["inertia"] * rotation.rotate(rotation.conjugate(b["q"]), b["w"]))
        linear = b["mass"][:, None] * b["v"]
        return linear[b["free"]].sum(axis=0), (spin + np.cross(b["x"], linear))[b["free"]].sum(axis=0)


def _size(shape: Shape) -> tuple[Array, float]:
    if shape.kind == "box":
        return np.array(shape.half), float(np.linalg.norm(shape.half))
    half = shape.half_length if shape.kind == "capsule" else 0.0
    return np.array([shape.radius, half, 0.0]), shape.radius + half


def shape_mass(shape: Shape) -> tuple[float, Array]:
    """Volume (m^3) and principal inertia per unit mass (3,) of a shape in its own frame."""
    if shape.kind == "box":
        return mass_properties.box(np.array(shape.half))
    if shape.kind == "sphere":
        return mass_properties.sphere(shape.radius)
    return mass_properties.capsule(shape.radius, shape.half_length)


def _mass_of(b: BodySpec, i: int) -> tuple[float, Array, Array, Array]:
    """Mass, centre, rotation of the principal axes and principal moments of a body."""
    if not b.shapes:
        if b.mass is None or b.inertia is None:
            if b.free:
                raise ArtulineError(
                    f"body {i} has no shape, so its mass is unknown", remedy="Give it a shape or a mass."
                )
            return 1.0, np.zeros(3), IDENTITY, np.ones(3)
        return float(b.mass), np.zeros(3), IDENTITY, np.asarray(b.inertia, float)
    parts = [shape_mass(s) for s in b.shapes]
    volumes = np.array([p[0] for p in parts])
    total = float(volumes.sum()) * b.density if b.mass is None else b.mass
    masses = volumes / volumes.sum() * total
    mass, centre, tensor = mass_properties.combine(
        masses,
        np.array([s.position for s in b.shapes]),
        np.array([s.rotation for s in b.shapes]),
        masses[:, None] * np.array([p[1] for p in parts]),
    )
    moments, axes = np.linalg.eigh(tensor)
    if np.linalg.det(axes) < 0:
        axes[:, 0] *= -1.0
    return mass, centre, rotation.from_matrix(axes), np.maximum(moments, 1e-12)


def _tree_order(joints: list[JointSpec], n: int) -> list[int]:
    """Joint indices with every body's own joint before those of its children."""
    children: dict[int, list[int]] = {}
    for k, j in enumerate(joints):
        children.setdefault(j.parent, []).append(k)
    with_parent = {j.child for j in joints}
    order: list[int] = []
    stack = [i for i in range(n - 1, -1, -1) if i not in with_parent] + [-1]
    while stack:
        for k in children.get(stack.pop(), []):
            order.append(k)
            stack.append(joints[k].child)
    if len(order) != len(joints):
        raise ArtulineError("joints form a closed loop", remedy="Join every body to one parent only.")
    return order
