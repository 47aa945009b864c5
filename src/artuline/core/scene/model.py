"""The scene: a tree of frozen models. Metres, kilograms, seconds, radians; Y up; quaternions (x, y, z, w).

An edit makes a new tree that shares what did not change (see ``artuline.core.scene.edit``). A reference to
something that does not exist cannot be built: the validators refuse it.
"""

import hashlib
import math
from collections import Counter
from collections.abc import Iterable
from functools import cached_property
from itertools import pairwise
from typing import Annotated, Literal, NamedTuple, Self

import numpy as np
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from artuline.core.errors import MissingError

FORMAT_VERSION = 2
MOST_FRAME = 1_000_000


def _unit(q: tuple[float, float, float, float]) -> tuple[float, float, float, float]:
    length = math.sqrt(sum(c * c for c in q))
    if not 0.5 < length < 2.0:
        raise ValueError("a rotation must be a unit quaternion")
    # already unit to rounding: keep the bits, so that saving and loading change nothing
    return q if abs(length - 1.0) < 1e-9 else tuple(c / length for c in q)  # type: ignore[return-value]


def _plain(value: object) -> object:
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, tuple):
        return tuple(_plain(v) for v in value) if any(isinstance(v, (np.generic, tuple)) for v in value) else value
    return value


Vec3 = tuple[float, float, float]
Quat = Annotated[tuple[float, float, float, float], AfterValidator(_unit)]
Positive = Annotated[float, Field(gt=0.0)]
NonNegative = Annotated[float, Field(ge=0.0)]
Share = Annotated[float, Field(ge=0.0, le=1.0)]
Id = Annotated[str, Field(min_length=1)]

ZERO: Vec3 = (0.0, 0.0, 0.0)
UPRIGHT: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)


class Model(BaseModel):
    """Base of all document models: frozen, strict about unknown fields, no NaN."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False, ignored_types=(cached_property,))

    @model_validator(mode="before")
    @classmethod
    def _numbers_of_python(cls, values: object) -> object:
        """A NumPy scalar is a float to pydantic and stays what it is: it prints, divides and saves differently."""
        return {n: _plain(v) for n, v in values.items()} if isinstance(values, dict) else values

    def changed(self, **values: object) -> Self:
        """A validated copy with some fields replaced."""
        return type(self).model_validate({**{n: getattr(self, n) for n in type(self).model_fields}, **values})


class Bone(Model):
    """A node of the skeleton with its rest pose relative to its parent (file units, scale without unit)."""

    name: Id
    parent: str | None = None
    translation: Vec3 = ZERO
    rotation: Quat = UPRIGHT
    scale: Vec3 = (1.0, 1.0, 1.0)
    deforms: bool = False


class Material(Model):
    """A flat surface colour, linear RGB 0..1."""

    name: str = ""
    color: Vec3 = (0.6, 0.6, 0.6)


class ClipRef(Model):
    """A clip of keyed motion; its curves are the asset. Duration in seconds, rate in frames per second."""

    name: Id
    asset: Id
    duration: NonNegative
    rate: Positive = 24.0
    loop: bool = False


class Shape(Model):
    """A collision shape in the frame of its bone (metres). A capsule's axis is x.

    ``radius``: sphere and capsule. ``half_length``: capsule, without the caps. ``half``: box half extents.
    ``points``: of a convex hull. ``asset``: the triangles of a mesh, for obstacles only. ``margin``: thickness that
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

    ``drag``, ``spin_drag``: the share of its velocity and of its spin that the air takes, 1/s. Bodies whose
    ``apart`` is the same word, and not empty, do not collide. ``by_hand``: its shapes were edited, so that fitting again keeps them.
    ``steady`` and ``calm`` multiply the group's steadiness and calm.
    """

    id: Id
    bone: Id
    shapes: tuple[Shape, ...] = ()
    density: Positive = 1000.0
    mass: Positive | None = None
    friction: NonNegative = 0.6
    restitution: Share = 0.05
    drag: NonNegative = 0.0
    spin_drag: NonNegative = 0.0
    apart: str = ""
    by_hand: bool = False
    steady: Share = 1.0
    calm: Share = 1.0

    @model_validator(mode="after")
    def _solid(self) -> "Body":
        if any(s.kind == "mesh" for s in self.shapes):
            raise ValueError(
                f"body {self.id!r} has a triangle mesh, which cannot be moved by physics; use convex hulls"
            )
        return self


#: A range of an axis in metres or radians; (0, 0) is locked, None is free.
AxisRange = tuple[float, float] | None


class Joint(Model):
    """Joins a body to its parent body. The frames' x axis is the bone's direction, or the hinge's axis.

    ``frame``: the joint's rotation in the child bone's frame; ``parent_frame``: in the parent bone's frame.
    Limits are taken in the parent frame: ``swing_y`` and ``swing_z`` are half angles of an elliptical
    cone, ``twist`` is a range about x, in radians. A hinge turns about x within ``twist``. A slide moves
    along x within ``slide`` (m). The kind axes has a range for each of x, y, z (m), twist and the two swings (radians).
    ``tone`` multiplies the group's tone. ``limit_frequency`` (Hz, 0: hard) and ``limit_ratio`` make limits soft;
    ``bounce`` is the share of its speed that a struck limit gives back; ``friction`` is a torque in N m;
    ``spring_frequency`` (Hz) and ``spring_ratio`` pull places that are not locked back to their middle; ``break_impulse``
    parts the joint when it carries more within a frame (N s, 0: never).
    """

    id: Id
    parent: Id
    child: Id
    kind: Literal["ball", "hinge", "fixed", "slide", "axes"] = "ball"
    frame: Quat = UPRIGHT
    parent_frame: Quat = UPRIGHT
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
    spring_frequency: NonNegative = 0.0
    spring_ratio: NonNegative = 1.0
    break_impulse: NonNegative = 0.0

    @model_validator(mode="after")
    def _ordered(self) -> "Joint":
        lo, hi = self.twist
        if not -math.pi <= lo <= hi <= math.pi:
            raise ValueError("the twist range must run from low to high within half a turn each way")
        if any(r is not None and r[0] > r[1] for r in (self.slide, *self.axes)):
            raise ValueError("a range must run from low to high")
        return self


class Key(Model):
    """A key of a lane: a value at a frame."""

    frame: float
    value: Share


class Lane(Model):
    """A value 0..1 over time, straight between its keys and held outside them; no keys means ``rest``."""

    keys: tuple[Key, ...] = ()
    rest: Share = 0.0

    @model_validator(mode="after")
    def _sorted(self) -> "Lane":
        frames = [k.frame for k in self.keys]
        if any(b < a for a, b in pairwise(frames)):
            raise ValueError("the keys of a lane must run forward in time")
        return self

    def value(self, frame: float | np.ndarray) -> np.ndarray:
        """The lane at one or many frames (any shape)."""
        if not self.keys:
            return np.full(np.shape(frame), self.rest)
        return np.asarray(np.interp(frame, [k.frame for k in self.keys], [k.value for k in self.keys]))


class Spring(Model):
    """Makes a group springy: its joints swing about their keys at ``frequency`` (Hz) with a damping ``ratio``, whatever its tone is.

    ``shown``: share of the swing that is shown; ``gravity``: share of gravity that its bodies feel; ``collides``: whether they touch anything.
    """

    frequency: Positive = 3.0
    ratio: NonNegative = 0.2
    shown: Share = 1.0
    gravity: Share = 0.0
    collides: bool = False


class Group(Model):
    """A set of bodies handed over together: those on ``bones``, else ``start_bone`` and all below it, or the whole figure if None.

    ``handover``: 0 on the keys, 1 physics. ``tone``: how firmly the pose is held against the parent; ``steadiness``: how firmly
    the keyed place in the world; ``calm``: damping against the keyed motion. ``solo``: other groups that are not solo are off.
    ``returns``: what it comes back to when its handover falls from 1: its keys, the pose that it had then, or another clip of the figure
    (``clip``) that starts there, where the body is. ``planted``: a foot that stands on the way back stays there until it steps.
    """

    id: Id
    name: Id
    start_bone: str | None = None
    bones: tuple[str, ...] = ()
    handover: Lane = Lane()
    tone: Lane = Lane()
    steadiness: Lane = Lane()
    calm: Lane = Lane()
    muted: bool = False
    solo: bool = False
    spring: Spring | None = None
    returns: Literal["keys", "pose", "clip"] = "keys"
    clip: str | None = None
    planted: bool = True


class Layer(Model):
    """Keys above a figure's clip; the asset holds curves in scene time. Applies from ``start`` to ``end``.

    ``steers``: part of what physics follows, as keyed poses are; baked results are not.
    """

    id: Id
    name: Id
    asset: Id
    start: int
    end: int
    weight: Share = 1.0
    steers: bool = False


class Figure(Model):
    """Anything articulated: bones, mesh, clips, bodies, joints, groups.

    ``unit``: metres per file unit. ``position`` (m) and ``turn`` (radians about Y) place it in the scene.
    ``clip_start``: the scene frame at which the clip begins. ``asset``: the mesh arrays, if any.
    ``mirror``: pairs of bones on both sides that were set by hand, a bone with itself for one in the middle.
    ``velocity`` (m/s) and ``spin`` (rad/s, about its centre of mass) are added when its bodies are first handed over.
    ``gravity``, ``wind``: whether its bodies feel them.
    """

    id: Id
    name: Id
    source: str = ""
    bones: tuple[Bone, ...]
    materials: tuple[Material, ...] = ()
    asset: str | None = None
    unit: Positive = 1.0
    position: Vec3 = ZERO
    turn: float = 0.0
    clips: tuple[ClipRef, ...] = ()
    clip: str | None = None
    clip_start: float = 0.0
    bodies: tuple[Body, ...] = ()
    joints: tuple[Joint, ...] = ()
    groups: tuple[Group, ...] = ()
    layers: tuple[Layer, ...] = ()
    pairs_off: tuple[tuple[str, str], ...] = ()
    self_collision: bool = True
    velocity: Vec3 = ZERO
    spin: Vec3 = ZERO
    gravity: bool = True
    wind: bool = True
    mirror: tuple[tuple[str, str], ...] = ()

    @cached_property
    def bone_index(self) -> dict[str, int]:
        """Index of each bone by name."""
        return {b.name: i for i, b in enumerate(self.bones)}

    @cached_property
    def body_of(self) -> dict[str, Body]:
        """The body of each bone that has one."""
        return {b.bone: b for b in self.bodies}

    @cached_property
    def joint_of(self) -> dict[str, Joint]:
        """The joint of each body (by child body id) that has one."""
        return {j.child: j for j in self.joints}

    def active_clip(self) -> ClipRef | None:
        """The clip that plays, or None."""
        return next((c for c in self.clips if c.name == self.clip), None)

    def below(self, bone: str | None) -> set[str]:
        """Names of ``bone``, of all bones below it, and of what hangs on their bodies by joints; all bones for None."""
        if bone is None:
            return set(self.bone_index)
        found, todo = {bone}, [bone]
        while todo:
            for name in self._beneath.get(todo.pop(), ()):
                if name not in found:
                    found.add(name)
                    todo.append(name)
        return found

    @cached_property
    def _beneath(self) -> dict[str, list[str]]:
        """The bones right below each, by the skeleton and by joints."""
        carried: dict[str, list[str]] = {}
        for b in self.bones:
            if b.parent is not None:
                carried.setdefault(b.parent, []).append(b.name)
        bone = {b.id: b.bone for b in self.bodies}
        for j in self.joints:
            carried.setdefault(bone[j.parent], []).append(bone[j.child])
        return carried

    def limbs(self) -> list[str]:
        """The bones with a body at which the tree of bodies branches: where limbs, the neck and the tail begin."""
        above: dict[str, list[str]] = {}
        for joint in self.joints:
            above.setdefault(joint.parent, []).append(joint.child)
        bone = {b.id: b.bone for b in self.bodies}
        found = [bone[child] for children in above.values() if len(children) > 1 for child in children]
        return sorted(found, key=lambda b: self.bone_index[b])

    def ruled(self, group: Group) -> set[str]:
        """Names of the bones that a group is about."""
        return set(group.bones) if group.bones else self.below(group.start_bone)

    @model_validator(mode="after")
    def _consistent(self) -> "Figure":
        seen: set[str] = set()
        for b in self.bones:
            if b.name in seen:
                raise ValueError(f"bone name {b.name!r} appears twice in figure {self.name!r}")
            if b.parent is not None and b.parent not in seen:
                raise ValueError(f"bone {b.name!r} comes before its parent {b.parent!r} or the parent is missing")
            seen.add(b.name)
        _unique(f"figure {self.name!r}", (b.id for b in self.bodies), "body")
        _unique(f"figure {self.name!r}", (b.bone for b in self.bodies), "body on bone")
        _unique(f"figure {self.name!r}", (j.child for j in self.joints), "joint of body")
        _unique(f"figure {self.name!r}", (c.name for c in self.clips), "clip")
        for body in self.bodies:
            _known(body.bone, seen, f"body {body.id!r}", "bone")
        ids = {b.id for b in self.bodies}
        for joint in self.joints:
            _known(joint.parent, ids, f"joint {joint.id!r}", "body")
            _known(joint.child, ids, f"joint {joint.id!r}", "body")
            if joint.parent == joint.child:
                raise ValueError(f"joint {joint.id!r} joins a body to itself")
        for pair in self.pairs_off:
            for end in pair:
                _known(end, ids, "a pair that does not collide", "body")
        for pair in self.mirror:
            for end in pair:
                _known(end, seen, "a mirror pair", "bone")
        for group in self.groups:
            for name in (*group.bones, *([group.start_bone] if group.start_bone is not None else [])):
                _known(name, seen, f"group {group.name!r}", "bone")
            if group.returns == "clip" or group.clip is not None:
                _known(group.clip or "", {c.name for c in self.clips}, f"group {group.name!r}", "clip")
        if self.clip is not None:
            _known(self.clip, {c.name for c in self.clips}, f"figure {self.name!r}", "clip")
        return self


class MotionKey(Model):
    """Where an obstacle is at a frame: position (m), rotation."""

    frame: float
    position: Vec3 = ZERO
    rotation: Quat = UPRIGHT


class Obstacle(Model):
    """A keyed shape that figures collide with; smooth between its keys, still outside them."""

    id: Id
    name: Id
    shape: Shape
    keys: Annotated[tuple[MotionKey, ...], Field(min_length=1)]
    color: Vec3 = (0.42, 0.33, 0.22)
    friction: NonNegative = 0.6
    restitution: Share = 0.1

    @model_validator(mode="after")
    def _forward(self) -> "Obstacle":
        frames = [k.frame for k in self.keys]
        if any(b <= a for a, b in pairwise(frames)):
            raise ValueError(f"the keys of obstacle {self.name!r} must run forward in time")
        return self


class BodyRef(NamedTuple):
    """A body by what never changes: its figure's id (None: an obstacle) and its own."""

    figure: str | None
    body: str


class JointRef(NamedTuple):
    """A joint by its figure's id and its own; a link of the scene has no figure."""

    figure: str | None
    joint: str


class LinkEnd(Model):
    """What a link holds on to: a body of a figure, or an obstacle (``figure`` None); at a point in its frame (m)."""

    figure: Id | None = None
    body: Id
    point: Vec3 = ZERO


class Link(Model):
    """Ties bodies together outside of the joints' trees; ``b`` None is the world.

    A tie keeps the distance of the two points between ``lengths`` (m; the last None: no upper end), softly at
    ``frequency`` (Hz) above 0. A pin holds the point of ``a`` where it is on ``b`` when the link begins, a weld
    its rotation too, so that both grip without a jump; a pin with a ``frequency`` gives way softly. Acts from frame ``start`` on until ``stop``; None: always.
    """

    id: Id
    name: Id
    kind: Literal["tie", "weld", "pin"] = "pin"
    a: LinkEnd
    b: LinkEnd | None = None
    lengths: tuple[NonNegative, NonNegative | None] = (0.0, None)
    frequency: NonNegative = 0.0
    start: float | None = None
    stop: float | None = None

    def acts(self, frame: float) -> bool:
        """Whether the link holds in the frame that begins here."""
        return (self.start is None or frame >= self.start) and (self.stop is None or frame < self.stop)

    @model_validator(mode="after")
    def _ordered(self) -> "Link":
        low, high = self.lengths
        if high is not None and low > high:
            raise ValueError(f"the lengths of {self.name!r} must run from short to long")
        return self


class Ground(Model):
    """A level plane at a height (m)."""

    height: float = 0.0
    friction: NonNegative = 0.7
    restitution: Share = 0.1


class VectorKey(Model):
    """A vector at a frame."""

    frame: float
    value: Vec3


class VectorLane(Model):
    """A vector over time, straight between its keys and held outside them."""

    keys: tuple[VectorKey, ...] = ()

    @model_validator(mode="after")
    def _sorted(self) -> "VectorLane":
        frames = [k.frame for k in self.keys]
        if any(b < a for a, b in pairwise(frames)):
            raise ValueError("the keys of a lane must run forward in time")
        return self

    def value(self, frames: np.ndarray, rest: Vec3) -> np.ndarray:
        """The vector at frames (F,): (F, 3); ``rest`` without keys."""
        if not self.keys:
            return np.tile(np.array(rest), (len(frames), 1))
        at, values = [k.frame for k in self.keys], np.array([k.value for k in self.keys])
        return np.stack([np.interp(frames, at, values[:, c]) for c in range(3)], axis=1)


class Gusts(Model):
    """Gusts of the wind: its speed varies by ``strength`` (share of it) about ``rate`` times a second, by chance from ``seed``."""

    strength: NonNegative = 0.0
    rate: Positive = 0.5
    seed: NonNegative = 0


class Push(Model):
    """A push on a body from frame ``start`` on, spread over ``frames``: impulse (N s) at a point of the body (m, its
    bone's frame), and an impulse of rotation (N m s); both along the world's axes. ``scatter``: share of the impulse's strength by which
    it varies, in strength and direction, by chance from ``seed``.
    """

    id: Id
    figure: Id
    body: Id
    start: float
    frames: Positive = 1.0
    impulse: Vec3 = ZERO
    turn: Vec3 = ZERO
    point: Vec3 = ZERO
    scatter: NonNegative = 0.0
    seed: NonNegative = 0


class TakeRef(Model):
    """A recorded simulation; ``settings`` is the fingerprint of the scene that made it, ``scene`` the asset with its text."""

    id: Id
    name: Id
    asset: Id
    settings: str
    start: int
    end: int
    scene: str | None = None


class Scene(Model):
    """The whole document. ``rate`` in frames per second; ``start`` and ``end`` are frames, inclusive.

    ``gravity`` in m/s^2, ``wind`` in m/s, both over time where their lanes have keys. ``warm_up``: frames simulated
    before the first with its keyed pose held, or with the keys before it playing (``warm_up_plays``). The air resists only in scenes
    with wind. ``pairs_off``: bodies of
    different figures, or obstacles, that do not collide.
    """

    version: int = FORMAT_VERSION
    name: str = "Untitled"
    rate: Annotated[float, Field(gt=0.0, le=1000.0)] = 24.0
    start: Annotated[int, Field(ge=-MOST_FRAME, le=MOST_FRAME)] = 0
    end: Annotated[int, Field(ge=-MOST_FRAME, le=MOST_FRAME)] = 100
    substeps: Annotated[int, Field(ge=1, le=1000)] = 10
    gravity: Vec3 = (0.0, -9.81, 0.0)
    gravity_lane: VectorLane = VectorLane()
    wind: Vec3 = ZERO
    wind_lane: VectorLane = VectorLane()
    gusts: Gusts = Gusts()
    pushes: tuple[Push, ...] = ()
    pairs_off: tuple[tuple[LinkEnd, LinkEnd], ...] = ()
    ground: Ground | None = Ground()
    warm_up: Annotated[int, Field(ge=0, le=10000)] = 0
    warm_up_plays: bool = False
    figures: tuple[Figure, ...] = ()
    obstacles: tuple[Obstacle, ...] = ()
    links: tuple[Link, ...] = ()
    takes: tuple[TakeRef, ...] = ()
    take: str | None = None

    @model_validator(mode="after")
    def _consistent(self) -> "Scene":
        _unique("the scene", (f.id for f in self.figures), "figure")
        _unique("the scene", (o.id for o in self.obstacles), "obstacle")
        _unique("the scene", (t.id for t in self.takes), "take")
        _unique("the scene", (x.id for x in self.links), "link")
        bodies = {(f.id, b.id) for f in self.figures for b in f.bodies} | {(None, o.id) for o in self.obstacles}
        _unique("the scene", (p.id for p in self.pushes), "push")
        for push in self.pushes:
            if (push.figure, push.body) not in bodies:
                raise ValueError(f"push {push.id!r} refers to the body {push.body!r}, which does not exist")
        for a, b in self.pairs_off:
            if not {(a.figure, a.body), (b.figure, b.body)} <= bodies:
                raise ValueError(
                    f"a pair that does not collide refers to a body that does not exist: {a.body!r}, {b.body!r}"
                )
        for link in self.links:
            for end in (link.a, link.b):
                if end is not None and (end.figure, end.body) not in bodies:
                    raise ValueError(f"link {link.name!r} refers to the body {end.body!r}, which does not exist")
        if self.take is not None:
            _known(self.take, {t.id for t in self.takes}, "the scene", "take")
        return self

    def figure(self, id_: str) -> Figure:
        """The figure with this id; MissingError if there is none."""
        for f in self.figures:
            if f.id == id_:
                return f
        raise MissingError(f"the figure {id_!r} is not in the scene any more")

    def words(self, ref: BodyRef | JointRef) -> str:
        """A readable name of a body, obstacle, joint or link; with the figure's where there are several. For people only."""
        owner = next((f for f in self.figures if f.id == ref.figure), None)
        if owner is not None:
            return f"{owner.name}: {ref[1]}" if len(self.figures) > 1 else ref[1]
        others: tuple[Obstacle | Link, ...] = (*self.obstacles, *self.links)
        return next((o.name for o in others if o.id == ref[1]), ref[1])

    def body_of_joint(self, ref: JointRef) -> BodyRef | None:
        """The body that a joint holds, or that a link begins at; None where it is gone."""
        if ref.figure is None:
            link = next((x for x in self.links if x.id == ref.joint), None)
            return BodyRef(link.a.figure, link.a.body) if link is not None else None
        owner = next((f for f in self.figures if f.id == ref.figure), None)
        joint = next((j for j in owner.joints if j.id == ref.joint), None) if owner is not None else None
        return BodyRef(ref.figure, joint.child) if joint is not None else None

    def active_take(self) -> TakeRef | None:
        """The take that is shown, or None."""
        return next((t for t in self.takes if t.id == self.take), None)

    def assets(self) -> set[str]:
        """Hashes of every asset the scene needs."""
        found = {t.asset for t in self.takes} | {t.scene for t in self.takes if t.scene is not None}
        for f in self.figures:
            found |= {c.asset for c in f.clips} | {layer.asset for layer in f.layers}
            if f.asset:
                found.add(f.asset)
        return found | {o.shape.asset for o in self.obstacles if o.shape.asset is not None}

    def settings_fingerprint(self) -> str:
        """Hash of everything that changes the simulated motion, and of nothing else."""
        return self._fingerprint

    @cached_property
    def _fingerprint(self) -> str:
        quiet_figure = {"name", "source", "materials", "asset", "layers", "mirror"}
        text = self.model_dump_json(
            exclude={
                "version": True,
                "name": True,
                "takes": True,
                "take": True,
                "figures": {"__all__": quiet_figure},
                "obstacles": {"__all__": {"name", "color"}},
                "links": {"__all__": {"name"}},
            }
        )
        text += "".join(x.model_dump_json() for f in self.figures for x in f.layers if x.steers)
        return hashlib.sha256(text.encode()).hexdigest()[:32]


def _unique(where: str, names: Iterable[str], what: str) -> None:
    repeated = [n for n, count in Counter(names).items() if count > 1]
    if repeated:
        raise ValueError(f"{where} has more than one {what} {repeated[0]!r}")


def _known(name: str, known: Iterable[str], where: str, what: str) -> None:
    if name not in known:
        raise ValueError(f"{where} refers to the {what} {name!r}, which does not exist")
