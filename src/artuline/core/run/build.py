"""From a scene to the solver: bodies and joints in one order, and the keyed motion at every substep."""

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from artuline.core.errors import ArtulineError
from artuline.core.geometry.polyhedron import TriangleMesh, triangle_mesh
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import Lead, keyed_pose, root_at
from artuline.core.motion.places import places_at
from artuline.core.motion.skeleton import Pose, rest_matrices, rigid, skeleton_of
from artuline.core.physics.batches import components
from artuline.core.physics.patches import INFLUENCES, SkinSpec
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.run.carried import Carriage, Held
from artuline.core.run.swelling import Swelling, swelling
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import (
    ZERO,
    AxisRange,
    Body,
    BodyRef,
    Figure,
    Group,
    Joint,
    JointRef,
    Link,
    Mount,
    Push,
    Scene,
    Spring,
)

TONE_FREQUENCY = 12.0  # Hz at tone 1
STEADY_FREQUENCY = 32.0  # Hz at steadiness 1, of all that is carried: what hangs on a hand turns it, too
RETURN_FREQUENCY = 10.0  # Hz of the pull towards the keys just above handover 0
GRIP_DAMPING = 0.8  # 1/s of what swings in a palm: skin on wood
WITHIN = 0.001  # m by which what takes hold of another may be within it and still push it
CALM_RATE = 30.0  # 1/s at calm 1


#: What joints that close a loop are in the solver.
CLOSING = {"ball": "pin", "axes": "pin", "fixed": "weld"}


def _top(above: dict[str, str], body: str) -> str:
    """The topmost body over one, by the joints so far."""
    while body in above:
        body = above[body]
    return body


def tone_frequency(tone: Array) -> Array:
    """Drive frequency in Hz for a tone 0..1; finer steps near limp."""
    return TONE_FREQUENCY * np.asarray(tone, float) ** 1.5


def steady_frequency(steadiness: Array, mass: Array, carried: Array) -> Array:
    """World drive in Hz of bodies (..., n) for a steadiness 0..1; at 1 a body holds all that hangs together with it.

    ``mass`` (n,) of the bodies, ``carried`` (n,) of all that each hangs together with: a drive is tuned for its body's own mass.
    """
    return STEADY_FREQUENCY * np.asarray(steadiness, float) ** 1.5 * np.sqrt(carried / mass)


def steady_damping(frequency: Array, mass: Array, carried: Array) -> Array:
    """Damping in 1/s beside the drives of ``steady_frequency``, which alone are critical for the bodies' own mass: for what they carry."""
    return 4.0 * np.pi * frequency * (np.sqrt(carried / mass) - 1.0)


def calm_rate(calm: Array) -> Array:
    """Damping against the keyed velocity, 1/s, for a calm 0..1."""
    return CALM_RATE * np.asarray(calm, float) ** 2


def return_frequency(handover: Array) -> Array:
    """World drive in Hz for a handover strictly between 0 and 1; 0 at the ends."""
    h = np.asarray(handover, float)
    return np.where((h > 0.0) & (h < 1.0), RETURN_FREQUENCY * (1.0 - h) ** 2, 0.0)


@dataclass(frozen=True, eq=False)
class Part:
    """A figure in a world: the ``rows`` (n,) of its bodies, these bodies in that order, and the index of the bone of each (n,)."""

    figure: Figure
    rows: NDArray[np.int64]
    bodies: tuple[Body, ...]
    bones: NDArray[np.int64]

    def row(self, body: Body) -> int:
        """The row of one of its bodies."""
        return int(self.rows[self.bodies.index(body)])

    def on(self, bones: Collection[str]) -> NDArray[np.int64]:
        """Rows of the bodies on these bones."""
        return self.rows[[b.bone in bones for b in self.bodies]]


@dataclass(frozen=True)
class Ride:
    """A mount in a world: the index of the figure that rides, the row of the part that is held, -1 without a body, and the row of the body that holds it, -1
    if no body does.
    """

    figure: int
    mount: Mount
    part: int
    holder: int

    @property
    def held(self) -> bool:
        """Whether physics holds it: both ends have a body."""
        return self.part >= 0 and self.holder >= 0


@dataclass
class Built:
    """A world made from a scene: a part for every figure.

    The world's joints are those of the figures (``joints``), then the scene's links, then the mounts that physics holds. ``weight`` (n,): share of gravity that a body feels;
    ``shown`` (n,): share of its physics that is shown; ``springs``: Hz of every joint of a figure that is springy, else 0.
    """

    scene: Scene
    assets: AssetStore
    world: World
    parts: tuple[Part, ...]
    joints: tuple[tuple[int, Joint], ...]
    pushes: list[tuple[int, Push]]
    weight: Array
    shown: Array
    springs: Array
    rides: tuple[Ride, ...] = ()
    #: Shapes that never touch anything.
    ghosts: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, bool))
    #: Changes the keyed pose (F, B) of a figure, by its index, at frames (F,); in place.
    follow: Callable[[int, Array, Pose], None] = field(default=lambda figure, frames, pose: None)
    #: What leads figures instead of their keys.
    lead: Lead | None = None

    @property
    def count(self) -> int:
        """How many bodies there are."""
        return len(self.world.bodies)

    @property
    def loose(self) -> NDArray[np.bool_]:
        """Which bodies may be let go (n,)."""
        found = np.zeros(self.count, bool)
        for part in self.parts:
            found[part.rows] = not part.figure.stays or part.figure.carried
        return found

    @property
    def joint_refs(self) -> tuple[JointRef, ...]:
        """Every joint, link and mount of the world."""
        mine = [JointRef(self.parts[k].figure.id, j.id) for k, j in self.joints]
        rides = [JointRef(self.parts[r.figure].figure.id, r.mount.id) for r in self.rides if r.held]
        return (*mine, *(JointRef(None, x.id) for x in self.scene.links), *rides)

    def set_links(self, frame: float, free: NDArray[np.bool_] | None = None) -> None:
        """Let the links and mounts of a frame hold: one that begins grips what is there; where both ends are still on their keys (``free`` (n,): those that are
        not), it goes along with them, and holds what there is when one is handed over.
        """
        j = self.world.joints
        loose = np.ones(self.count + 1, bool) if free is None else np.append(free, False)
        for k, link in enumerate(self._held, len(self.joints)):
            on, grips = link.acts(frame), not (isinstance(link, Link) and link.kind == "tie")
            if on and not j["on"][k] and (link.holds_together if isinstance(link, Link) else not link.collides):
                self._pass_within(int(j["child"][k]), int(j["parent"][k]))
            if on and grips and (not j["on"][k] or not (loose[j["child"][k]] or loose[j["parent"][k]])):
                self.world.grip(k)
            j["on"][k] = on

    @cached_property
    def _held(self) -> tuple[Link | Mount, ...]:
        """The links and mounts that are joints of the world, after the figures' own."""
        return (*self.scene.links, *(r.mount for r in self.rides if r.held))

    def _pass_within(self, a: int, b: int) -> None:
        """Let what is within each other of the figures of two bodies pass where one takes hold of the other: it would push them apart. A strand that lies
        about what holds it is to come up instead.
        """
        one, other = (next(p for p in self.parts if row in p.rows) for row in (a, b))
        if one.figure.made is not None or other.figure.made is not None:
            return
        mine, theirs = one.rows, other.rows
        self.world.let_pass(
            {
                (x, y)
                for x, y, gap in self.world.overlaps(np.ones(self.count, bool))
                if gap < -WITHIN and ((x in mine and y in theirs) or (y in mine and x in theirs)) and x != y
            }
        )

    def end_links(self, frame: float) -> None:
        """Let go what does not hold any more at a frame."""
        for k, link in enumerate(self._held, len(self.joints)):
            self.world.joints["on"][k] &= link.acts(frame)

    def set_present(self, frame: float, leaping: NDArray[np.bool_] | None = None) -> None:
        """Let what has not entered yet by a frame touch nothing, nor what is ``leaping`` (n,) within it."""
        away = np.zeros(self.count, bool) if leaping is None else leaping.copy()
        for p in self.parts:
            if p.figure.enters is not None and frame < p.figure.enters:
                away[p.rows] = True
        if (away != self._away).any():
            shapes = self.world.shapes
            gone = np.append(away, False)[shapes["body"]] | self.ghosts
            self.world.set_silent(shapes["silent"] != gone, gone[shapes["silent"] != gone])
        self._away = away

    def pose(self, figure: Figure, frames: Array) -> Pose:
        """The local pose (F, B) of a figure that physics follows: its keys, layers with baked results left out, and its returns."""
        pose = keyed_pose(self.scene, self.assets, figure, frames, layers=False, lead=self.lead)
        self.follow(self._index[figure.id], frames, pose)
        return pose

    @cached_property
    def _away(self) -> NDArray[np.bool_]:
        """Which bodies (n,) touch nothing now."""
        return np.zeros(self.count, bool)

    @cached_property
    def _index(self) -> dict[str, int]:
        return {part.figure.id: k for k, part in enumerate(self.parts)}

    @property
    def body_refs(self) -> tuple[BodyRef, ...]:
        """Every body of the world."""
        return tuple(BodyRef(part.figure.id, b.id) for part in self.parts for b in part.bodies)

    def keyed(self, frames: Array) -> tuple[Array, Array]:
        """Keyed poses of all bodies' frames at scene frames (F,): (F, n, 3), (F, n, 4)."""
        p, q = np.zeros((len(frames), self.count, 3)), np.zeros((len(frames), self.count, 4))
        for part in self.parts:
            if part.figure.obstacle and part.figure.is_its_root and not part.figure.mounts:
                # no way through matrices, which would round it
                p[:, part.rows[0]], q[:, part.rows[0]] = places_at(part.figure.track, frames)
            elif len(part.rows):
                root = root_at(self.scene, self.assets, part.figure, frames, self.pose, self.lead)
                m = skeleton_of(part.figure).global_matrices(self.pose(part.figure, frames), root)
                p[:, part.rows], q[:, part.rows] = rigid(m[:, part.bones])
        return p, q

    def lanes(self, frames: Array) -> tuple[Array, Array]:
        """Handover and tone of all bodies at frames: (F, n), (F, n)."""
        handover = self._over(frames, lambda b, g: g.acting(self.scene.rate).value(frames))
        return self.riding_along(handover, frames), self._over(frames, lambda b, g: g.tone.value(frames))

    def riding_along(self, handover: Array, frames: Array) -> Array:
        """A handover of all bodies at frames (F, n) with what rides; in place."""
        # what rides goes limp with what it rides on; without a body there it cannot be let go
        for r in sorted(self.rides, key=lambda r: self._depth[r.figure]):
            on = np.array([r.mount.acts(f) for f in frames])
            if r.part >= 0:
                with_it = np.maximum(handover[:, r.part], handover[:, r.holder]) if r.holder >= 0 else 0.0
                handover[:, r.part] = np.where(on, with_it, handover[:, r.part])
        return handover

    @cached_property
    def carriage(self) -> Carriage:
        """What hangs on what."""
        in_world = np.zeros(self.count, bool)
        for part in self.parts:
            for row, body in zip(part.rows, part.bodies):
                group = group_of(part.figure, body.bone)
                in_world[row] = group is not None and group.in_world
        moving = [
            k
            for k in sorted(range(len(self.parts)), key=self._depth.__getitem__)
            if not self.parts[k].figure.stays or self.parts[k].figure.carried
        ]
        joints = [(int(j["parent"]), int(j["child"])) for _, j in zip(self.joints, self.world.joints)]
        held = [Held(r.figure, r.holder, r.mount.acts) for r in self.rides if r.held]
        return Carriage([p.rows for p in self.parts], moving, joints, held, in_world)

    @cached_property
    def _depth(self) -> dict[int, int]:
        """The place of every figure, by its index, in the order in which they ride on each other."""
        return {self._index[f.id]: i for i, f in enumerate(self.scene.in_order)}

    def firmness(self, frames: Array) -> tuple[Array, Array]:
        """Steadiness and calm of all bodies at frames: (F, n), (F, n)."""
        return self._over(frames, lambda b, g: g.steadiness.value(frames) * b.steady), self._over(
            frames, lambda b, g: g.calm.value(frames) * b.calm
        )

    def _over(self, frames: Array, value: Callable[[Body, Group], Array]) -> Array:
        """A value of every body's group (F, n); 0 without a group."""
        found = np.zeros((len(frames), self.count))
        for part in self.parts:
            for row, body in zip(part.rows, part.bodies):
                group = group_of(part.figure, body.bone)
                if group is not None:
                    found[:, row] = value(body, group)
        return found

    def carried(self) -> Array:
        """Mass of all that each body hangs together with by joints (n,), kg."""
        mass = self.world.bodies["mass"]
        group = components(self.world.joints["parent"], self.world.joints["child"], len(mass))
        total: Array = np.bincount(group, mass, len(mass))[group]
        return total


def group_of(figure: Figure, bone: str) -> Group | None:
    """The group that rules a bone: the one with the fewest bones, the later of equals."""
    found, size = None, 0
    solo = any(g.solo for g in figure.groups)
    for g in figure.groups:
        below = figure.ruled(g)
        if not g.muted and (g.solo or not solo) and bone in below and (found is None or len(below) <= size):
            found, size = g, len(below)
    return found


@dataclass
class _Making:
    """What a world is made from, as far as it is gathered. ``index``: the rows of bodies by figure and id."""

    windy: bool
    specs: list[BodySpec] = field(default_factory=list)
    joints: list[JointSpec] = field(default_factory=list)
    owners: list[tuple[int, Joint]] = field(default_factory=list)
    springs: list[float] = field(default_factory=list)
    weight: list[float] = field(default_factory=list)
    shown: list[float] = field(default_factory=list)
    ghosts: list[int] = field(default_factory=list)
    off: set[tuple[int, int]] = field(default_factory=set)
    apart: dict[tuple[str, str], int] = field(default_factory=dict)
    index: dict[tuple[str, str], int] = field(default_factory=dict)
    h: float = 1.0 / 240.0

    def figure(self, k: int, f: Figure) -> Part:
        """Add a figure: its bodies in the order of their bones, its joints and what does not collide in it."""
        first = len(self.specs)
        p, q = rigid(rest_matrices(f))
        ordered = sorted(f.bodies, key=lambda b: f.bone_index[b.bone])
        springs = {b.id: g.spring if (g := group_of(f, b.bone)) is not None else None for b in f.bodies}
        for body in ordered:
            bone, spring = f.bone_index[body.bone], springs[body.id]
            self.index[f.id, body.id] = len(self.specs)
            self.weight.append((spring.gravity if spring else 1.0) * body.gravity if f.gravity else 0.0)
            self.shown.append(spring.shown if spring else 1.0)
            if spring is not None and not spring.collides:
                self.ghosts.append(len(self.specs))
            self.specs.append(self._body(f, body, p[bone], q[bone]))
        above: dict[str, str] = {}
        pressed = swelling(f, self.h) if f.softs else {}
        for j in f.joints:
            self.owners.append((k, j))
            spring = springs[j.child]
            self.springs.append(spring.frequency if spring else 0.0)
            made = _joint(j, self.index[f.id, j.parent], self.index[f.id, j.child], spring, pressed.get(j.id), 1000 * k)
            if _top(above, j.parent) == j.child:
                # it closes a loop, which the solver takes for a link
                made.kind, made.axes = CLOSING.get(j.kind, made.kind), ()
            else:
                above[j.child] = j.parent
            self.joints.append(made)
        for j in f.loops:
            self.owners.append((k, j))
            self.springs.append(0.0)
            made = _joint(j, self.index[f.id, j.parent], self.index[f.id, j.child], None, pressed.get(j.id), 1000 * k)
            made.kind = CLOSING.get(j.kind, made.kind)
            self.joints.append(made)
        self.off |= {(self.index[f.id, a], self.index[f.id, b]) for a, b in f.pairs_off}
        rows = np.arange(first, len(self.specs))
        if not f.self_collision:
            self.off |= {(a, b) for a in rows.tolist() for b in rows.tolist() if a < b}
        return Part(f, rows, tuple(ordered), np.array([f.bone_index[b.bone] for b in ordered], np.int64))

    def _body(self, f: Figure, body: Body, p: Array, q: Array) -> BodySpec:
        # the number of its group of bodies that do not collide, -1 for none
        apart = self.apart.setdefault((f.id, body.apart), len(self.apart)) if body.apart else -1
        # what is never let go has no mass that counts: a knot to it is as firm as what hangs on it needs
        fixed = f.stays and (not f.carried or any(s.kind == "mesh" for s in body.shapes))
        return BodySpec(
            shapes=body.shapes, density=body.density, mass=1.0 if fixed else body.mass, free=not fixed,
            inertia=None if body.shapes else np.full(3, 1e-3 * (body.mass or 1.0)),
            friction=body.friction, rolling=body.rolling, restitution=body.restitution, position=p, rotation=q,
            drag=(body.drag, body.spin_drag), group=apart, drapes=f.made is not None, key=f.id,
            airy=f.wind and (self.windy or body.drag_coefficient is not None), drag_coefficient=body.drag_coefficient,
        )  # fmt: skip

    def joined(self, row: int) -> list[tuple[int, int]]:
        """The rows that a body is joined to."""
        ends = [(j.parent, j.child) for j in self.joints]
        return [(b, a) for a, b in ends if a == row] + [(a, b) for a, b in ends if b == row]


def build(scene: Scene, assets: AssetStore, apart: Sequence[tuple[BodyRef, BodyRef]] = ()) -> Built:
    """Make the world of a scene, posed by its keys at the first frame; besides those that its figures and it say, some pairs of bodies do not touch each
    other. Raises ArtulineError.
    """
    made = _Making(windy=any(scene.wind) or bool(scene.wind_lane.keys), h=1.0 / (scene.rate * scene.substeps))
    parts = tuple(made.figure(k, f) for k, f in enumerate(scene.figures))
    for pairs in (scene.pairs_off, apart):
        made.off |= {(made.index[a.figure, a.body], made.index[b.figure, b.body]) for a, b in pairs}
    rides = _rides(scene, parts)
    for r in rides:
        if r.held and not r.mount.collides:
            made.off |= _apart(made, parts, r)
    for x in scene.links:
        if x.holds_together:
            made.off |= _held_apart(made, x)
    links = [_link(made.index, x) for x in scene.links] + [_hold(r) for r in rides if r.held]
    g = scene.ground
    plane = (g.height, g.friction, g.restitution) if g is not None else None
    meshes = {s: mesh_solid(assets, s) for f in scene.figures for s in f.solids}
    skins = [skin_of(assets, p) for p in parts if p.figure.skin and p.figure.asset and len(p.rows)]
    world = World(
        made.specs, [*made.joints, *links], plane=plane, off=made.off, gravity=scene.gravity, wind=scene.wind, meshes=meshes, skins=skins,
    )  # fmt: skip
    ghosts = np.isin(world.shapes["body"], made.ghosts) | world.shapes["silent"]
    if made.ghosts:
        world.set_silent(ghosts, True)
    # the world has its joints in an order of its own, the links last
    order = [k for k in world.order if k < len(made.joints)]
    pushes = [(made.index[p.figure, p.body], p) for p in scene.pushes]
    return Built(
        scene, assets, world, parts, tuple(made.owners[k] for k in order), pushes,
        np.array(made.weight), np.array(made.shown), np.array([made.springs[k] for k in order]), rides, ghosts,
    )  # fmt: skip


def _rides(scene: Scene, parts: tuple[Part, ...]) -> tuple[Ride, ...]:
    """Every mount of a scene."""
    by_id, found = {part.figure.id: part for part in parts}, []
    for k, part in enumerate(parts):
        for m in part.figure.mounts:
            holder = by_id[m.figure]
            carrier = holder.figure.carrier(m.bone)
            rows = [
                p.row(b) if b is not None else -1
                for p, b in ((part, part.figure.body_of.get(m.part)), (holder, carrier))
            ]
            found.append(Ride(k, m, *rows))
    return tuple(found)


def _apart(made: "_Making", parts: tuple[Part, ...], r: Ride) -> set[tuple[int, int]]:
    """The pairs of bodies that do not touch each other where one rides on the other."""
    near = {r.holder} | {a for a, b in made.joined(r.holder)}
    mine = parts[r.figure].rows.tolist()
    if parts[r.figure].figure.made is not None:
        # what a strand hangs on does not touch the parts beside the one that is held
        beside = {r.part} | {a for a, b in made.joined(r.part)}
        return {(a, b) for a in beside for b in near if a != b}
    return {(a, r.holder) for a in mine} | {(r.part, b) for b in near}


def _held_apart(made: "_Making", link: Link) -> set[tuple[int, int]]:
    """The pairs of bodies that do not touch each other where a link holds two together: each with the other and what is joined to that."""
    assert link.b is not None
    a, b = (made.index[end.figure, end.body] for end in (link.a, link.b))
    pairs = {(x, b) for x, _ in made.joined(a)} | {(a, y) for y, _ in made.joined(b)} | {(a, b)}
    return {(x, y) for x, y in pairs if x != y}


def _hold(r: Ride) -> JointSpec:
    """The solver's link of a mount, off until ``Built.set_links`` lets it hold."""
    kind: Literal["weld", "pin"] = "weld" if r.mount.hold == "fixed" else "pin"
    return JointSpec(
        parent=r.holder, child=r.part, kind=kind, anchor=np.array(r.mount.point), on=False, damping=GRIP_DAMPING
    )


def skin_of(assets: AssetStore, part: Part) -> SkinSpec:
    """The surface of a figure as its bodies move it: bones without one go with the body that carries them."""
    f = part.figure
    assert f.asset is not None
    mesh = assets.decoded(f.asset, Mesh.from_arrays)
    place = {b.id: i for i, b in enumerate(part.bodies)}
    by_bone = mesh.bone_weights(len(f.bones))
    share = np.zeros((len(mesh.positions), len(part.bodies)))
    for i, bone in enumerate(f.bones):
        carrier = f.carrier(bone.name)
        share[:, place[carrier.id] if carrier is not None else 0] += by_bone[:, i]
    most = min(INFLUENCES, len(part.bodies))
    slots = np.zeros((len(share), INFLUENCES), np.int64)
    weights = np.zeros((len(share), INFLUENCES))
    slots[:, :most] = np.argsort(-share, axis=1, kind="stable")[:, :most]
    weights[:, :most] = np.take_along_axis(share, slots[:, :most], axis=1)
    weights /= np.maximum(weights.sum(axis=1, keepdims=True), 1e-12)
    return SkinSpec(
        part.rows.tolist(), mesh.skin(rest_matrices(f)), slots, weights, mesh.triangles.astype(np.int64), part.bodies[0].friction
    )  # fmt: skip


def mesh_solid(assets: AssetStore, key: str) -> TriangleMesh:
    """The triangles of an asset (vertices (V, 3) in metres, triangles (T, 3)), ready for contacts."""
    arrays = assets[key]
    if "vertices" not in arrays or "triangles" not in arrays:
        raise ArtulineError(f"the data {key} of an obstacle is no mesh")
    return triangle_mesh(arrays["vertices"], arrays["triangles"])


def _joint(
    j: Joint, parent: int, child: int, spring: Spring | None, pressed: Swelling | None = None, first: int = 0
) -> JointSpec:
    """The solver's joint between two rows; the parts of the figure that swell count from ``first`` on."""
    part, bulk, time = pressed or (0, 0.0, 0.0)
    return JointSpec(
        parent=parent, child=child, kind=j.kind, anchor=np.array(j.point), frame_c=np.array(j.frame), frame_p=np.array(j.parent_frame),
        limits=(j.swing_y, j.swing_z, *j.twist) if j.limited else None,
        axes=_axes(j), follow=True, friction=j.friction, bounce=j.bounce,
        limit_frequency=j.limit_frequency, limit_ratio=j.limit_ratio, break_force=j.break_force, break_torque=j.break_torque,
        spring_frequency=j.spring_frequency, spring_ratio=j.spring_ratio,
        damping=0.0 if spring else j.damping, ratio=spring.ratio if spring else 1.0,
        bend_frequency=j.bend_frequency, bend_ratio=j.bend_ratio, feels=j.feels, across=j.across,
        swells=first + part, area=j.area, bulk=bulk, bulk_time=time,
    )  # fmt: skip


def _link(index: dict[tuple[str, str], int], link: Link) -> JointSpec:
    """The solver's link, off until ``Built.set_links`` lets it hold."""
    low, high = link.lengths
    # a tie without length is a pin: there is no way along which to measure
    kind: Literal["tie", "pin", "weld"] = (
        "pin" if link.kind == "tie" and high is not None and high <= 0.0 else link.kind
    )
    return JointSpec(
        parent=index[link.b.figure, link.b.body] if link.b else -1,
        child=index[link.a.figure, link.a.body],
        kind=kind,
        anchor=np.array(link.a.point),
        anchor_p=np.array(link.b.point if link.b else ZERO) if link.kind == "tie" else None,
        lengths=(low, np.inf if high is None else high),
        limit_frequency=link.frequency if kind == "tie" else 0.0,
        spring_frequency=link.frequency if kind == "pin" else 0.0,
        on=False,
    )


def _axes(joint: Joint) -> tuple[AxisRange, ...]:
    """The ranges of a slide or of a joint set per axis; free of limits if it has none."""
    if joint.kind == "slide":
        return (joint.slide if joint.limited else None,)
    if joint.kind == "axes":
        return joint.axes if joint.limited else tuple(r if r == (0.0, 0.0) else None for r in joint.axes)
    return ()


def require_bodies(scene: Scene) -> None:
    """Raise ArtulineError unless some figure has bodies, besides obstacles that only stand."""
    if not any(f.bodies and not f.stays for f in scene.figures):
        raise ArtulineError("no figure has bodies", remedy="Fit bodies first.")
