"""The solver's front door: plain descriptions in, one ``World`` that steps.

One ``World`` serves the tryout, the takes and the command line. Poses outside are those of the bones that
carry the bodies; inside they are those of the principal axes at the centre of mass.
"""

from collections.abc import Mapping, Sequence

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.polyhedron import TriangleMesh, hull_of
from artuline.core.geometry.rotation import IDENTITY, Array
from artuline.core.physics.batches import Given, components, make_parts
from artuline.core.physics.collide import LEAST_SPEED, find_contacts, find_near
from artuline.core.physics.graph import arrange
from artuline.core.physics.island_runs import MOST_IN_PLACE, IslandRunner
from artuline.core.physics.joints import HARD
from artuline.core.physics.patches import SkinSpec, patches_of
from artuline.core.physics.solids import fill_solids, most_contacts
from artuline.core.physics.specs import (
    MOST_LOAD,
    TREE_KINDS,
    BodySpec,
    JointSpec,
    body_mass,
    check_bodies,
    check_joints,
    check_surface,
    drag_area,
    fill_joint,
    shape_mass,
)
from artuline.core.physics.state import (
    BLOCK,
    BODY,
    BOX,
    CAPSULE,
    CONTACT,
    CONTACTS,
    COUNTERS,
    FULL,
    HULL,
    JOINT,
    LANE,
    LANES,
    MEMORY,
    MESH,
    MOST_NEIGHBOURS,
    NEAR,
    PAIR,
    PLANE,
    SHAPE,
    SPHERE,
    TUG,
)
from artuline.core.scene.model import Shape

__all__ = ["BodySpec", "JointSpec", "SkinSpec", "World", "shape_mass"]

KINDS = {"sphere": SPHERE, "capsule": CAPSULE, "box": BOX, "hull": HULL, "mesh": MESH}
MOST_CONTACTS = 8192
MOST_RATIO = 1e4  # of the mass that rows are scaled by to that of the lighter body


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
        wind: tuple[float, float, float] = (0.0, 0.0, 0.0),
        contacts: bool = True,
        meshes: Mapping[str, TriangleMesh] | None = None,
        skins: Sequence[SkinSpec] = (),
    ):
        """Plane: height (m), friction and restitution of a level ground. ``off``: pairs of bodies that do not
        collide; joined bodies never do. ``meshes``: what shapes of the kind mesh refer to by their assets. ``skins``: surfaces that
        deform with bodies, for shapes that drape.
        Raises ArtulineError for numbers that no motion can come from.
        """
        joints = list(joints)
        n = len(bodies)
        self.gravity, self.wind = np.array(gravity, float), np.array(wind, float)
        check_bodies(bodies)
        check_joints(joints, len(bodies))
        for name, value in (("gravity", self.gravity), ("wind", self.wind)):
            if value.shape != (3,) or not np.isfinite(value).all():
                raise ArtulineError(f"the {name} is {value.tolist()}", remedy="Give three numbers.")
        if plane is not None and not np.isfinite(plane[0]):
            raise ArtulineError(f"the ground lies at {plane[0]}", remedy="Give its height in metres.")
        if plane is not None:
            check_surface("the ground", plane[1], plane[2])
        self.local_p = np.zeros((n, 3))
        self.local_q = np.tile(IDENTITY, (n, 1))
        masses, inertias = np.ones(n), np.ones((n, 3))
        for i, b in enumerate(bodies):
            masses[i], self.local_p[i], self.local_q[i], inertias[i] = body_mass(b, i)
        turns = np.array([b.rotation for b in bodies]).reshape(n, 4)
        places = np.array([b.position for b in bodies]).reshape(n, 3)
        x, q = transforms.rigid_multiply(places, turns, self.local_p, self.local_q)
        spin = np.array([b.spin for b in bodies]).reshape(n, 3)
        v = np.array([b.velocity for b in bodies]).reshape(n, 3)
        self.bodies = np.zeros(n, BODY)
        made = self.bodies
        made["x"], made["q"], made["w"] = x, q, spin
        made["v"] = v + np.cross(spin, rotation.rotate(turns, self.local_p))
        made["mass"], made["inertia"], made["free"] = masses, inertias, [b.free for b in bodies]
        made["drag"] = np.array([b.drag for b in bodies]).reshape(n, 2)
        for i, b in enumerate(bodies):
            if b.airy:
                made["area"][i] = drag_area(b.shapes, self.local_q[i], b.drag_coefficient)
        made["goal_x0"] = made["goal_x1"] = x
        made["goal_q0"] = made["goal_q1"] = q
        made["goal_ratio"] = 1.0
        made["id"], made["group"] = np.arange(n), [b.group for b in bodies]
        self.order = _tree_order(joints, n)
        made["line"] = [b.drapes for b in bodies]
        made["line"] |= self._carry([joints[k] for k in self.order])
        self.joints = self._joints([joints[k] for k in self.order])
        self.elimination = np.arange(n)
        self.blocks = np.zeros(n * MOST_NEIGHBOURS, BLOCK)
        self.lanes = np.ones(-(-n // LANES), LANE)
        self.coupled = np.zeros((n, MOST_NEIGHBOURS + 1), np.int64)
        self.follow = np.array([joints[k].follow for k in self.order], bool)
        self.meshes = meshes or {}
        self.shapes = self._shapes(bodies, plane)
        self.hulls = fill_solids(self.shapes, [s for b in bodies for s in b.shapes], self.meshes)
        self._add_skins(skins)
        self.row = np.arange(len(self.shapes))
        self.shapes["id"], self.shapes["silent"] = self.row, not contacts
        self.shapes["rank"] = _ranks([bodies[i].key if i >= 0 else "" for i in self.shapes["body"]])
        if (self.shapes["kind"] == MESH).any():
            self.shapes["silent"][-1] = True  # the triangle in hand
        self.measure_reach()
        self._specs, self._off = joints, set(off)
        self.apart = apart_of(joints, off, n)
        most = len(self.shapes) * (len(self.shapes) - 1) // 2
        in_place = min(most, MOST_IN_PLACE * (MOST_IN_PLACE - 1) // 2) + 1
        room = max(64, min(most_contacts(self.shapes) * in_place, MOST_CONTACTS))
        self.contacts = np.zeros(room, CONTACT)
        self.spare, self.slots = np.zeros(in_place, PAIR), np.full(1 << (2 * in_place).bit_length(), -1)
        self.pairs, self.memory = self.spare.copy(), np.zeros(2 * room, MEMORY)
        # all of it is one cell
        self.parts = make_parts(1, n, in_place, room)
        self.parts[0][:] = [0, n, 0, len(joints), 0], [n, n, len(joints), len(joints), len(self.lanes)]
        self._refuse_thicket()
        self.tugs = np.zeros(1, TUG)
        self.tugs["body"], self.tugs["frequency"], self.tugs["mass"] = -1, 1.0, 1.0
        self.counters = np.zeros(COUNTERS, np.int64)
        self.scratch = np.zeros((4, 3, 3))
        self.islands = IslandRunner(self)
        self.room: dict[int, list[np.ndarray]] = {}  # for the inputs of ``step``, by the number of substeps

    def _refuse_thicket(self) -> None:
        """Raises ArtulineError where so many joints lead from body to body that what hangs together has no room in the factors."""
        if len(self.joints) <= len(self.bodies):
            return
        b, j, n = self.bodies.copy(), self.joints.copy(), len(self.bodies)
        b["free"], j["live"] = True, j["on"]
        one = np.arange(n)
        if not arrange(b, j, self.contacts, self.coupled, 0, self.parts[0], one[:1], one, one.copy(), 0, False):
            raise ArtulineError(
                "too many bodies are joined to each other crosswise", remedy="Divide soft parts into fewer clusters."
            )

    def _carry(self, joints: list[JointSpec]) -> np.ndarray:
        """Which bodies carry so much more than they weigh that they swing as the parts of a taut line do (n,): by joints, and by what is linked to them."""
        mass, n = self.bodies["mass"], len(self.bodies)
        tree = [j for j in joints if j.kind in TREE_KINDS and j.parent >= 0]
        group = components(np.array([j.parent for j in tree], int), np.array([j.child for j in tree], int), n)
        total = np.bincount(group, mass, n)
        below = np.zeros(n)
        for j in joints:
            if j.kind not in TREE_KINDS and j.parent >= 0 and group[j.parent] != group[j.child]:
                below[j.parent] += total[group[j.child]]
                below[j.child] += total[group[j.parent]]
        for j in reversed(tree):
            below[j.parent] += below[j.child] + mass[j.child]
        return np.asarray(below > MOST_LOAD * mass)

    def _joints(self, joints: list[JointSpec]) -> np.ndarray:
        made = np.zeros(len(joints), JOINT)
        b = self.bodies
        b["of_joint"] = -1
        group = components(np.array([j.parent for j in joints]), np.array([j.child for j in joints]), len(b))
        total = np.bincount(group, b["mass"], len(b))
        for k, j in enumerate(joints):
            row = made[k]
            fill_joint(row, j)
            if j.kind in TREE_KINDS and b["of_joint"][j.child] < 0:
                b["of_joint"][j.child] = k
            inverse_c = rotation.conjugate(self.local_q[j.child])
            row["anchor_c"] = rotation.rotate(inverse_c, j.anchor - self.local_p[j.child])
            row["frame_c"] = rotation.multiply(inverse_c, j.frame_c)
            place = b["x"][j.child] + rotation.rotate(b["q"][j.child], row["anchor_c"])
            facing = rotation.multiply(b["q"][j.child], row["frame_c"])
            ends = [j.child] if j.parent < 0 else [j.child, j.parent]
            if j.parent >= 0:
                inverse_p = rotation.conjugate(self.local_q[j.parent])
                back = rotation.conjugate(b["q"][j.parent])
                row["frame_p"] = (
                    rotation.multiply(back, facing) if j.frame_p is None else rotation.multiply(inverse_p, j.frame_p)
                )
                if j.anchor_p is None:
                    row["anchor_p"] = rotation.rotate(back, place - b["x"][j.parent])
                else:
                    row["anchor_p"] = rotation.rotate(inverse_p, j.anchor_p - self.local_p[j.parent])
            else:
                row["frame_p"] = facing if j.frame_p is None else j.frame_p
                row["anchor_p"] = place if j.anchor_p is None else j.anchor_p
            # of all that hangs together, as far as the lighter body's numbers bear it
            mass = min(total[group[j.child]], MOST_RATIO * min(float(b["mass"][i]) for i in ends))
            lever = max(float(b["inertia"][i].max() / b["mass"][i]) for i in ends)
            row["scale"] = mass, mass * lever
            # rows of a point never turn
            row["dir"][:3], row["k"][:3] = np.eye(3), HARD * mass
        return made

    def _add_skins(self, skins: Sequence[SkinSpec]) -> None:
        """Shapes for the patches of all skins, before those of the world, and their data."""
        if not skins:
            return
        for skin in skins:
            x, q = self.bodies["x"][list(skin.bodies)], self.bodies["q"][list(skin.bodies)]
            rows, data = patches_of(skin, x, q, len(self.hulls))
            self.shapes["skinned"] |= np.isin(self.shapes["body"], skin.bodies)
            self.hulls = np.concatenate([self.hulls, data])
            self.shapes = np.concatenate([self.shapes, rows])
        # body by body, those of the world last
        body = self.shapes["body"]
        self.shapes = self.shapes[np.argsort(np.where(body < 0, len(self.bodies), body), kind="stable")]

    def _shapes(self, bodies: list[BodySpec], plane: tuple[float, float, float] | None) -> np.ndarray:
        # one more for the triangle in hand, if there are meshes
        meshes = any(s.kind == "mesh" for b in bodies for s in b.shapes)
        made = np.zeros(sum(len(b.shapes) for b in bodies) + (plane is not None) + meshes, SHAPE)
        made["bones"] = -1
        k = 0
        for i, b in enumerate(bodies):
            for s in b.shapes:
                row = made[k]
                row["position"], row["rotation"] = transforms.rigid_relative(
                    self.local_p[i], self.local_q[i], np.array(s.position), np.array(s.rotation)
                )
                row["body"], row["kind"] = i, KINDS[s.kind]
                row["extent"], row["reach"] = _size(s, self.meshes)
                row["margin"], row["drapes"] = s.margin, b.drapes
                row["thin"] = s.margin + _half_thickness(s)
                row["friction"], row["restitution"] = b.friction, b.restitution
                row["rolling"] = b.rolling * row["extent"][0] if row["kind"] <= CAPSULE else 0.0
                k += 1
        if plane is not None:
            row = made[k]
            row["position"], row["rotation"] = (0.0, plane[0], 0.0), IDENTITY
            row["body"], row["kind"], row["thin"] = -1, PLANE, np.inf
            row["friction"], row["restitution"] = plane[1:]
        return made

    def measure_reach(self) -> None:
        """Note how far from its centre of mass every body reaches with what touches; -1: nothing does."""
        reach, s = np.full(len(self.bodies), -1.0), self.shapes
        loud = ~s["silent"] & (s["body"] >= 0)
        np.maximum.at(
            reach, s["body"][loud], np.linalg.norm(s["position"][loud], axis=1) + s["reach"][loud] + s["margin"][loud]
        )
        self.bodies["reach"] = reach

    def set_silent(self, shapes: np.ndarray, silent: bool | np.ndarray) -> None:
        """Let these shapes touch nothing, or all that they may."""
        self.shapes["silent"][shapes] = silent
        self.measure_reach()
        self.bodies["rest"] = 0.0

    def hold_pairs(self, pairs: np.ndarray, memory: np.ndarray) -> None:
        """Remember these pairs (k,) of shapes, and what is known of their contacts."""
        if len(pairs) > len(self.pairs):
            self.pairs = np.zeros(2 * len(pairs), PAIR)
        if 2 * len(memory) > len(self.memory):
            self.memory = np.zeros(4 * len(memory), MEMORY)
        self.pairs[: len(pairs)], self.memory[: len(memory)] = pairs, memory
        self.counters[NEAR] = len(pairs)

    # poses

    def poses(self) -> tuple[Array, Array]:
        """Positions (n, 3) and rotations (n, 4) of the bodies' own frames."""
        return self._outer(self.bodies["x"], self.bodies["q"])

    def outer_pose(self, i: int) -> tuple[Array, Array]:
        """Position (3,) and rotation (4,) of the own frame of body i."""
        inverse = transforms.rigid_inverse(self.local_p[i], self.local_q[i])
        return transforms.rigid_multiply(self.bodies["x"][i], self.bodies["q"][i], *inverse)

    def _outer(self, x: Array, q: Array) -> tuple[Array, Array]:
        return transforms.rigid_multiply(x, q, *transforms.rigid_inverse(self.local_p, self.local_q))

    def inner(self, positions: Array, rotations: Array) -> tuple[Array, Array]:
        """Poses of the bodies' frames (..., n, 3), (..., n, 4) as poses of their principal axes."""
        return transforms.rigid_multiply(positions, rotations, self.local_p, self.local_q)

    def grip(self, k: int) -> None:
        """Let joint or link k hold its bodies as they are to each other now."""
        row, b = self.joints[k], self.bodies
        c, p = int(row["child"]), int(row["parent"])
        place = b["x"][c] + rotation.rotate(b["q"][c], row["anchor_c"])
        facing = rotation.multiply(b["q"][c], row["frame_c"])
        if p >= 0:
            back = rotation.conjugate(b["q"][p])
            place, facing = rotation.rotate(back, place - b["x"][p]), rotation.multiply(back, facing)
        row["anchor_p"], row["frame_p"] = place, facing

    # time

    def step(self, dt: float, substeps: int = 1) -> None:
        """Advance by dt seconds; bodies that are not free keep their velocity. Raises ArtulineError for a time that is none."""
        if substeps < 1 or substeps != int(substeps):
            raise ArtulineError(f"a step of {substeps} substeps", remedy="Take one or more.")
        b = self.bodies
        if substeps not in self.room:
            n, m = len(b), len(self.joints)
            shapes = [(n, substeps + 1, 3), (n, substeps + 1, 4), (substeps, 3), (substeps, 3), (n, substeps)]
            shapes += [(n, substeps, 2), (m, substeps), (m,)]
            kinds = float, float, float, float, bool, float, float, bool
            self.room[substeps] = [np.zeros(shape, kind) for shape, kind in zip(shapes, kinds, strict=True)]
            self.room[substeps][1][:] = IDENTITY
        x, q, pull, air, free, goal, drive, follow = self.room[substeps]
        pull[:], air[:] = self.gravity, self.wind
        free[:], drive[:] = b["free"][:, None], self.joints["frequency"][:, None]
        # the keyed poses of free bodies matter to drives only, and there are none here
        if np.count_nonzero(b["free"]) < len(b) or b["keyed"].any():
            x[:], q[:] = b["x"][:, None], b["q"][:, None]
            moved = (~b["free"] | (b["keyed"] > 0)) & (np.any(b["v"] != 0.0, axis=1) | np.any(b["w"] != 0.0, axis=1))
            times = (np.arange(substeps + 1) * (dt / substeps))[None, :, None]
            x[moved] += times * b["v"][moved, None]
            q[moved] = rotation.multiply(
                rotation.from_rotation_vector(times * b["w"][moved, None]), b["q"][moved, None]
            )
        self._advance(dt, x, q, pull, air, free, goal, drive, follow)

    def step_keyed(
        self,
        dt: float,
        x: Array,
        q: Array,
        free: np.ndarray,
        goal: Array,
        drive: Array,
        *,
        calm: Array | None = None,
        gravity: Array | None = None,
        wind: Array | None = None,
        follow: np.ndarray | None = None,
    ) -> None:
        """Advance by dt seconds over k substeps with the keyed motion given at every one.

        x (k + 1, n, 3), q (k + 1, n, 4): keyed poses of the principal axes; free (k, n) bool; goal (k, n):
        world drive in Hz; drive (k, m): joint drive in Hz, joints in ``self.order``; calm (k, n): damping
        against the keyed velocity, 1/s; gravity, wind (k, 3), the world's own if None.
        """
        if not len(free):
            raise ArtulineError("a step of 0 substeps", remedy="Take one or more.")
        for name, value in (("keyed pose", x), ("keyed pose", q), ("world drive", goal), ("joint drive", drive)):
            if not np.isfinite(value).all():
                raise ArtulineError(f"a {name} is not a number")
        both = np.zeros((*goal.shape, 2))
        both[..., 0] = goal
        if calm is not None:
            both[..., 1] = calm
        k = len(free)
        pull, air = np.empty((k, 3)), np.empty((k, 3))
        pull[:], air[:] = self.gravity if gravity is None else gravity, self.wind if wind is None else wind
        # body by body
        x, q, free, both, drive = (
            np.ascontiguousarray(np.swapaxes(v, 0, 1)) for v in (x, q, free, both, np.asarray(drive, float))
        )
        self._advance(dt, x, q, pull, air, free, both, drive, self.follow if follow is None else follow)

    def _advance(
        self, dt: float, x: Array, q: Array, gravity: Array, wind: Array, free: np.ndarray, goal: Array, drive: Array,
        follow: np.ndarray,
    ) -> None:  # fmt: skip
        if not 0.0 < dt < np.inf:
            raise ArtulineError(f"a step of {dt} seconds", remedy="Take a time above zero.")
        if not (np.isfinite(gravity).all() and np.isfinite(wind).all()):
            raise ArtulineError("gravity or wind is not a number")
        self.islands.run(Given(x, q, free, goal, drive, follow, gravity, wind, dt))

    def contacts_now(self, reach: float = 0.0, free: np.ndarray | None = None) -> np.ndarray:
        """Contacts of all shapes that are closer than ``reach`` (m), as they are now; ``free`` (n,): the bodies that count as free."""
        b, s = self.bodies.copy(), self.shapes.copy()
        if free is not None:
            b["free"] = free
        # a second in which everything may come closer by half of it
        b["v"], b["w"] = 0.0, 0.0
        size, counters = max(256, 8 * len(s)), np.zeros(COUNTERS, np.int64)
        while True:
            pairs, spare, slots = np.zeros(size, PAIR), np.zeros(size, PAIR), np.full(1 << (2 * size).bit_length(), -1)
            counters[:] = 0
            find_near(b, s, pairs, spare, slots, self.apart, counters, self.row.copy(), reach / LEAST_SPEED)
            found = np.zeros(most_contacts(s) * max(int(counters[NEAR]), 1), CONTACT)
            b["v"][:, 0] = 0.5 * reach
            near = np.arange(counters[NEAR])
            find_contacts(b, s, pairs, near, found, counters, self.hulls, self.parts[1], -1, 1.0)
            if not counters[FULL]:
                return found[: counters[CONTACTS]]
            size *= 2

    def overlaps(self, free: np.ndarray | None = None) -> list[tuple[int, int, float]]:
        """Bodies whose shapes overlap now, among those that may collide if these are ``free`` (n,): (a, b, gap in metres below zero)."""
        body = self.shapes["body"]
        return [
            (int(body[c["shapes"][0]]), int(body[c["shapes"][1]]), float(c["gap"]))
            for c in self.contacts_now(free=free) if c["gap"] < 0.0
        ]  # fmt: skip

    def let_pass(self, pairs: set[tuple[int, int]]) -> None:
        """Let some more pairs of bodies (-1: the world) not collide from now on."""
        if pairs <= self._off:
            return
        self._off |= pairs
        self.apart = apart_of(self._specs, self._off, len(self.bodies))
        self.bodies["rest"] = 0.0

    def reset_report(self) -> None:
        """Start new worst values and sums."""
        for name in ("penetration", "contact", "strongest", "before"):
            self.bodies[name] = 0.0
        for name in ("separation", "excess", "used"):
            self.joints[name] = 0.0

    def kinetic(self) -> Array:
        """Kinetic energy of every body (n,), joules."""
        b = self.bodies
        spin = rotation.rotate(rotation.conjugate(b["q"]), b["w"])
        return 0.5 * b["mass"] * np.sum(b["v"] ** 2, axis=1) + 0.5 * np.sum(b["inertia"] * spin**2, axis=1)

    def energy(self) -> float:
        """Kinetic plus potential energy of the free bodies, joules; potential 0 at the origin."""
        b = self.bodies
        return float(np.sum((self.kinetic() - b["mass"] * (b["x"] @ self.gravity))[b["free"]]))

    def momentum(self) -> tuple[Array, Array]:
        """Linear and angular momentum (about the origin) of the free bodies."""
        b = self.bodies
        spin = rotation.rotate(b["q"], b["inertia"] * rotation.rotate(rotation.conjugate(b["q"]), b["w"]))
        linear = b["mass"][:, None] * b["v"]
        return linear[b["free"]].sum(axis=0), (spin + np.cross(b["x"], linear))[b["free"]].sum(axis=0)


def _size(shape: Shape, meshes: Mapping[str, TriangleMesh]) -> tuple[Array, float]:
    """What a record holds of a shape's size, and the radius of its bounding sphere."""
    if shape.kind == "hull":
        return np.zeros(3), float(np.linalg.norm(hull_of(shape.points).vertices, axis=1).max())
    if shape.kind == "mesh":
        return np.zeros(3), float(np.linalg.norm(meshes[str(shape.asset)].vertices, axis=1).max())
    if shape.kind == "box":
        return np.array(shape.half), float(np.linalg.norm(shape.half))
    half = shape.half_length if shape.kind == "capsule" else 0.0
    return np.array([shape.radius, half, 0.0]), shape.radius + half


def _half_thickness(shape: Shape) -> float:
    """Half of the least width of a shape, m: of a hull that along its principal axes; infinite of a mesh, which is a surface."""
    if shape.kind == "mesh":
        return float("inf")
    if shape.kind == "hull":
        corners = hull_of(shape.points).vertices
        _, axes = np.linalg.eigh(np.cov(corners.T))
        return 0.5 * float(np.ptp(corners @ axes, axis=0).min())
    return float(min(shape.half)) if shape.kind == "box" else shape.radius


def apart_of(joints: list[JointSpec], off: set[tuple[int, int]], n: int) -> np.ndarray:
    """Which of n bodies do not collide with which: n, where each one's list begins (n + 2,), and the lists; the world is n.

    Those joined do not, nor those of ``off``. Body -1 is the world.
    """
    found = {(a % (n + 1), b % (n + 1)) for a, b in off}
    found |= {(j.parent % (n + 1), j.child) for j in joints if j.kind != "tie"}
    found |= {(b, a) for a, b in found}
    rows = np.array(sorted(found), int).reshape(-1, 2)
    first = 3 + n + np.searchsorted(rows[:, 0], np.arange(n + 2))
    return np.concatenate([[n], first, rows[:, 1]]).astype(np.int64)


def _tree_order(joints: list[JointSpec], n: int) -> list[int]:
    """Joint indices with every body's own joint before those of its children; links last."""
    children: dict[int, list[int]] = {}
    with_parent: set[int] = set()
    for k, j in enumerate(joints):
        if j.kind in TREE_KINDS:
            if j.child in with_parent:
                raise ArtulineError(
                    f"body {j.child} has more than one joint to a parent",
                    remedy="Use a weld or a pin for the second.",
                )
            with_parent.add(j.child)
            children.setdefault(j.parent, []).append(k)
    order: list[int] = []
    stack = [i for i in range(n - 1, -1, -1) if i not in with_parent] + [-1]
    while stack:
        for k in children.get(stack.pop(), []):
            order.append(k)
            stack.append(joints[k].child)
    links = [k for k, j in enumerate(joints) if j.kind not in TREE_KINDS]
    if len(order) + len(links) != len(joints):
        raise ArtulineError("joints form a closed loop", remedy="Close it by a weld or a pin.")
    return order + links


def _ranks(keys: Sequence[str]) -> np.ndarray:
    """Place of each key among all, sorted; equal ones stay in their order."""
    ranks = np.empty(len(keys), np.int64)
    ranks[np.argsort(np.array(keys, dtype=object), kind="stable")] = np.arange(len(keys))
    return ranks
