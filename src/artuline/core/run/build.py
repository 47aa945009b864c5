"""From a scene to the solver: bodies and joints in one order, and the keyed motion at every substep."""

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry.polyhedron import TriangleMesh, triangle_mesh
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, obstacle_motion
from artuline.core.motion.skeleton import Pose, placement, rest_matrices, rigid, skeleton_of
from artuline.core.physics.batches import components
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.scene.assets import AssetStore
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
    Push,
    Scene,
)

TONE_FREQUENCY = 12.0  # Hz at tone 1
STEADY_FREQUENCY = 32.0  # Hz at steadiness 1, of all that is carried: what hangs on a hand turns it, too
RETURN_FREQUENCY = 10.0  # Hz of the pull towards the keys just above handover 0
CALM_RATE = 30.0  # 1/s at calm 1
LIMP_DAMPING = 2.5  # 1/s in every joint: a limp limb is not a frictionless chain


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


@dataclass(frozen=True)
class Slot:
    """A body of the world that belongs to a figure's body."""

    figure: int
    body: int
    bone: int


@dataclass
class Built:
    """A world made from a scene. Bodies: those of the figures (``slots``), then the obstacles.

    The world's joints are those of the figures (``joints``), then the scene's links. ``weight`` (n,): share of gravity that a body feels;
    ``shown`` (n,): share of its physics that is shown; ``springs``: Hz of every joint of a figure that is springy, else 0.
    """

    scene: Scene
    assets: AssetStore
    world: World
    slots: tuple[Slot, ...]
    joints: tuple[tuple[int, Joint], ...]
    pushes: list[tuple[int, Push]]
    weight: Array
    shown: Array
    springs: Array
    #: Changes the keyed pose (F, B) of a figure, by its index, at frames (F,); in place.
    follow: Callable[[int, Array, Pose], None] = field(default=lambda figure, frames, pose: None)

    @property
    def joint_refs(self) -> tuple[JointRef, ...]:
        """Every joint and link of the world."""
        figures = self.scene.figures
        mine = [JointRef(figures[k].id, j.id) for k, j in self.joints]
        return (*mine, *(JointRef(None, x.id) for x in self.scene.links))

    def set_links(self, frame: float) -> None:
        """Let the links of a frame hold: one that begins grips what is there."""
        for k, link in enumerate(self.scene.links, len(self.joints)):
            on = link.acts(frame)
            if on and not self.world.joints["on"][k] and link.kind != "tie":
                self.world.grip(k)
            self.world.joints["on"][k] = on

    @property
    def body_refs(self) -> tuple[BodyRef, ...]:
        """Every body of the world."""
        figures = self.scene.figures
        mine = [BodyRef(figures[s.figure].id, figures[s.figure].bodies[s.body].id) for s in self.slots]
        return (*mine, *(BodyRef(None, o.id) for o in self.scene.obstacles))

    def keyed(self, frames: Array) -> tuple[Array, Array]:
        """Keyed poses of all bodies' frames at scene frames (F,): (F, n, 3), (F, n, 4)."""
        n = len(self.slots) + len(self.scene.obstacles)
        p, q = np.zeros((len(frames), n, 3)), np.zeros((len(frames), n, 4))
        for k, f in enumerate(self.scene.figures):
            mine = [i for i, s in enumerate(self.slots) if s.figure == k]
            if mine:
                # the keys steer, layers with baked results do not
                pose = keyed_pose(self.scene, self.assets, f, frames, layers=False)
                self.follow(k, frames, pose)
                m = skeleton_of(f).global_matrices(pose, placement(f))
                p[:, mine], q[:, mine] = rigid(m[:, [self.slots[i].bone for i in mine]])
        for i, o in enumerate(self.scene.obstacles):
            p[:, len(self.slots) + i], q[:, len(self.slots) + i] = obstacle_motion(o, frames)
        return p, q

    def lanes(self, frames: Array) -> tuple[Array, Array]:
        """Handover and tone of all bodies at frames: (F, n), (F, n)."""
        n = len(self.slots) + len(self.scene.obstacles)
        handover, tone = np.zeros((len(frames), n)), np.zeros((len(frames), n))
        for i, s in enumerate(self.slots):
            f = self.scene.figures[s.figure]
            group = group_of(f, f.bodies[s.body].bone)
            if group is not None:
                handover[:, i] = group.handover.value(frames)
                tone[:, i] = group.tone.value(frames)
        return handover, tone

    def firmness(self, frames: Array) -> tuple[Array, Array]:
        """Steadiness and calm of all bodies at frames: (F, n), (F, n)."""
        n = len(self.slots) + len(self.scene.obstacles)
        steadiness, calm = np.zeros((len(frames), n)), np.zeros((len(frames), n))
        for i, s in enumerate(self.slots):
            f = self.scene.figures[s.figure]
            body = f.bodies[s.body]
            group = group_of(f, body.bone)
            if group is not None:
                steadiness[:, i] = group.steadiness.value(frames) * body.steady
                calm[:, i] = group.calm.value(frames) * body.calm
        return steadiness, calm

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


def build(scene: Scene, assets: AssetStore) -> Built:
    """Make the world of a scene, posed by its keys at the first frame. Raises ArtulineError."""
    specs: list[BodySpec] = []
    joints: list[JointSpec] = []
    slots: list[Slot] = []
    links: list[tuple[int, Joint]] = []
    weight: list[float] = []
    shown: list[float] = []
    springs: list[float] = []
    ghosts: list[int] = []
    off: set[tuple[int, int]] = set()
    apart: dict[tuple[str, str], int] = {}
    windy = any(scene.wind) or bool(scene.wind_lane.keys)
    index_of: dict[tuple[str | None, str], int] = {}
    for k, f in enumerate(scene.figures):
        first = len(specs)
        p, q = rigid(rest_matrices(f))
        order = sorted(range(len(f.bodies)), key=lambda i: f.bone_index[f.bodies[i].bone])
        index = {f.bodies[i].id: first + n for n, i in enumerate(order)}
        groups = {b.id: group_of(f, b.bone) for b in f.bodies}
        springs_of = {name: g.spring if g is not None else None for name, g in groups.items()}
        for i in order:
            body, bone = f.bodies[i], f.bone_index[f.bodies[i].bone]
            slots.append(Slot(k, i, bone))
            spring = springs_of[body.id]
            weight.append((spring.gravity if spring else 1.0) if f.gravity else 0.0)
            shown.append(spring.shown if spring else 1.0)
            if spring is not None and not spring.collides:
                ghosts.append(len(specs))
            inertia = None if body.shapes else np.full(3, 1e-3 * (body.mass or 1.0))
            specs.append(
                BodySpec(
                    shapes=body.shapes, density=body.density, mass=body.mass, inertia=inertia,
                    friction=body.friction, restitution=body.restitution, position=p[bone], rotation=q[bone],
                    drag=(body.drag, body.spin_drag), group=_apart(apart, f.id, body),
                    area=None if windy and f.wind else (0.0, 0.0, 0.0),
                )
            )  # fmt: skip
        for j in f.joints:
            links.append((k, j))
            spring = springs_of[j.child]
            springs.append(spring.frequency if spring else 0.0)
            joints.append(
                JointSpec(
                    parent=index[j.parent], child=index[j.child], kind=j.kind,
                    frame_c=np.array(j.frame), frame_p=np.array(j.parent_frame),
                    limits=(j.swing_y, j.swing_z, *j.twist) if j.limited else None,
                    axes=_axes(j), follow=True, friction=j.friction, bounce=j.bounce,
                    limit_frequency=j.limit_frequency, limit_ratio=j.limit_ratio, break_impulse=j.break_impulse,
                    spring_frequency=j.spring_frequency, spring_ratio=j.spring_ratio,
                    damping=0.0 if spring else LIMP_DAMPING, ratio=spring.ratio if spring else 1.0,
                )
            )  # fmt: skip
        index_of |= {(f.id, name): i for name, i in index.items()}
        off |= {(index[a], index[b]) for a, b in f.pairs_off}
        if not f.self_collision:
            ids = list(index.values())
            off |= {(a, b) for a in ids for b in ids if a < b}
    for o in scene.obstacles:
        p0, q0 = obstacle_motion(o, np.array([scene.start]))
        index_of[None, o.id] = len(specs)
        specs.append(
            BodySpec((o.shape,), mass=1.0, friction=o.friction, restitution=o.restitution,
                     position=p0[0], rotation=q0[0], free=False)
        )  # fmt: skip
    off |= {(index_of[a.figure, a.body], index_of[b.figure, b.body]) for a, b in scene.pairs_off}
    figures = len(joints)
    joints += [_link(scene, index_of, x) for x in scene.links]
    g = scene.ground
    plane = (g.height, g.friction, g.restitution) if g is not None else None
    meshes = {s: mesh_solid(assets, s) for o in scene.obstacles if (s := o.shape.asset) is not None}
    world = World(specs, joints, plane=plane, off=off, gravity=scene.gravity, wind=scene.wind, meshes=meshes)
    if ghosts:
        world.set_silent(np.isin(world.shapes["body"], ghosts), True)
    mine = [k for k in world.order if k < figures]
    pushes = [(index_of[p.figure, p.body], p) for p in scene.pushes]
    rest = [1.0] * len(scene.obstacles)
    return Built(
        scene, assets, world, tuple(slots), tuple(links[k] for k in mine), pushes,
        np.array([*weight, *rest]), np.array([*shown, *rest]), np.array([springs[k] for k in mine]),
    )  # fmt: skip


def mesh_solid(assets: AssetStore, key: str) -> TriangleMesh:
    """The triangles of an asset (vertices (V, 3) in metres, triangles (T, 3)), ready for contacts."""
    arrays = assets[key]
    if "vertices" not in arrays or "triangles" not in arrays:
        raise ArtulineError(f"the data {key} of an obstacle is no mesh")
    return triangle_mesh(arrays["vertices"], arrays["triangles"])


def _apart(known: dict[tuple[str, str], int], figure: str, body: Body) -> int:
    """The number of the group of bodies that do not collide, -1 for none."""
    return known.setdefault((figure, body.apart), len(known)) if body.apart else -1


def _link(scene: Scene, index: dict[tuple[str | None, str], int], link: Link) -> JointSpec:
    """The solver's link, off until ``Built.set_links`` lets it hold."""
    low, high = link.lengths
    return JointSpec(
        parent=index[link.b.figure, link.b.body] if link.b else -1,
        child=index[link.a.figure, link.a.body],
        kind=link.kind,
        anchor=np.array(link.a.point),
        anchor_p=np.array(link.b.point if link.b else ZERO) if link.kind == "tie" else None,
        lengths=(low, np.inf if high is None else high),
        limit_frequency=link.frequency if link.kind == "tie" else 0.0,
        spring_frequency=link.frequency if link.kind == "pin" else 0.0,
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
    """Raise ArtulineError unless some figure has bodies."""
    if not any(f.bodies for f in scene.figures):
        raise ArtulineError("no figure has bodies", remedy="Fit bodies first.")
