"""A figure: anything articulated, with its bones, clips, layers, bodies, joints and groups."""

import math
from functools import cached_property
from typing import Annotated, Literal

from pydantic import Field, model_validator

from artuline.core.scene.body import Body, Joint, Shape
from artuline.core.scene.flesh import Flesh
from artuline.core.scene.group import Group
from artuline.core.scene.lanes import MotionKey, Track
from artuline.core.scene.limb import Elsewhere, Limb
from artuline.core.scene.mount import Mount
from artuline.core.scene.soft import Soft
from artuline.core.scene.steering import Steering
from artuline.core.scene.strand import Strand
from artuline.core.scene.values import (
    UPRIGHT,
    ZERO,
    Id,
    Model,
    NonNegative,
    Positive,
    Quat,
    Rate,
    Share,
    Vec3,
    known,
    unique,
)

FARTHEST = 1e9  # m from the figure's place, and times as large as its file has it


class Bone(Model):
    """A node of the skeleton with its rest pose relative to its parent (file units, scale without unit).

    ``order``: in which its curves show rotations as angles; None: the one that stays farthest from gimbal lock.
    ``flesh``: it was added to the skeleton, and carries a part of the skin.
    """

    name: Id
    parent: str | None = None
    translation: Vec3 = ZERO
    rotation: Quat = UPRIGHT
    scale: Vec3 = (1.0, 1.0, 1.0)
    deforms: bool = False
    order: Literal["xyz", "xzy", "yxz", "yzx", "zxy", "zyx"] | None = None
    flesh: Flesh | None = None


class Material(Model):
    """A flat surface colour, linear RGB 0..1."""

    name: str = ""
    color: Vec3 = (0.6, 0.6, 0.6)


class ClipRef(Model):
    """A clip of keyed motion; its curves are the asset. Duration in seconds, rate in frames per second."""

    name: Id
    asset: Id
    duration: NonNegative
    rate: Rate = 24.0
    loop: bool = False


class Layer(Model):
    """Keys above a figure's clip and the layers before it; the asset holds curves in scene time. Applies from ``start`` to ``end``.

    ``kind``: poses that were keyed by hand steer physics, baked results do not. ``mode``: takes the place of what lies below, or adds to it
    (translations are added, rotations turned in the bone's own frame, scales multiplied). ``of``: the take that it was baked from. ``ramp_in``,
    ``ramp_out``: frames in which it comes in after its start, and goes out before its end. ``leads``: baked keys that were edited steer physics too. ``baked``:
    the curves before they were edited.
    """

    id: Id
    name: Id
    asset: Id
    start: int
    end: int
    weight: Share = 1.0
    kind: Literal["baked", "posed"] = "baked"
    mode: Literal["replace", "add"] = "replace"
    muted: bool = False
    of: str | None = None
    leads: bool = False
    baked: str | None = None
    ramp_in: Annotated[int, Field(ge=0, le=10000)] = 0
    ramp_out: Annotated[int, Field(ge=0, le=10000)] = 0

    @property
    def steers(self) -> bool:
        """Whether physics follows it."""
        return (self.kind == "posed" or self.leads) and not self.muted


class Figure(Model):
    """Anything articulated: bones, mesh, clips, bodies, joints, groups.

    ``unit``: metres per file unit. ``position`` (m) and ``turn`` (radians about Y) place it in the scene; a ``track`` moves it
    over frames instead; while one of its ``mounts`` acts, it rides on another figure, and
    after the last of them it stays where that left it, unless it has a track.
    ``clip_start``: the scene frame at which the clip begins. ``asset``: the mesh arrays, if any.
    ``mirror``: pairs of bones on both sides that were set by hand, a bone with itself for one in the middle.
    ``velocity`` (m/s) and ``spin`` (rad/s, about its centre of mass) are added when its bodies are first handed over.
    ``gravity``, ``wind``: whether its bodies feel them. ``obstacle``: it stands in the way of others, seen as the shapes of its body
    where it has no mesh, until a group hands it over. ``prop``: a thing of rigid parts, every one a bone; only for who works on it. ``made``: the recipe that bones, bodies, joints
    and mesh come from. ``skin``: strands touch its surface as it deforms, not the shapes of its bodies. ``enters``: the frame from which on it is there.
    ``goals``: limbs that a layer may lead; ``elsewhere``: bones whose body's motion is baked onto the nearest bone above that takes keys, or onto nothing.
    ``plain``: the mesh arrays before any bone was added. ``influences``: bones that a vertex has at most, once bones were added. ``softs``: its soft parts; ``loops``: joints that close rings, which carry nothing. ``steering``: how it goes when it is steered; None: as proposed.
    ``like``: the figure that it was set many times from, with which it shares all that was not changed on its own, ``size`` times as large.
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
    track: Track = Track()
    mounts: tuple[Mount, ...] = ()
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
    obstacle: bool = False
    prop: bool = False
    made: Strand | None = None
    skin: bool = False
    enters: float | None = None
    goals: tuple[Limb, ...] = ()
    elsewhere: tuple[tuple[str, Elsewhere], ...] = ()
    plain: str | None = None
    influences: Literal[4, 8] = 4
    softs: tuple[Soft, ...] = ()
    loops: tuple[Joint, ...] = ()
    steering: Steering | None = None
    like: Id | None = None
    size: Positive = 1.0
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

    @property
    def stays(self) -> bool:
        """Whether physics never moves it: an obstacle that no group hands over."""
        return self.obstacle and not self.groups

    @property
    def carried(self) -> bool:
        """Whether it has no group of its own, and is let go with what it rides on."""
        return self.stays and bool(self.mounts)

    @property
    def is_its_root(self) -> bool:
        """Whether it is one bone with a body that is where its track is."""
        one = len(self.bones) == 1 and self.bones[0].translation == ZERO and self.bones[0].rotation == UPRIGHT
        return (
            one
            and bool(self.track.frames)
            and len(self.bodies) == 1
            and self.clip is None
            and not any(x.steers for x in self.layers)
        )

    @property
    def solids(self) -> set[str]:
        """The assets with the triangles of shapes."""
        return {s.asset for b in self.bodies for s in b.shapes if s.asset is not None}

    def active_clip(self) -> ClipRef | None:
        """The clip that plays, or None."""
        return next((c for c in self.clips if c.name == self.clip), None)

    @property
    def poses(self) -> Layer | None:
        """The layer of poses that were keyed by hand, or None."""
        return next((x for x in self.layers if x.kind == "posed"), None)

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

    def limb_of(self, end: str) -> tuple[str, ...]:
        """A bone with the two above it that bend to bring it somewhere: root, middle, end; fewer where the skeleton ends."""
        found = [end]
        while len(found) < 3 and (up := self.bones[self.bone_index[found[0]]].parent) is not None:
            found.insert(0, up)
        return tuple(found)

    def above(self, bone: str) -> list[str]:
        """The bones above one, the nearest first."""
        found, at = [], self.bones[self.bone_index[bone]].parent
        while at is not None:
            found.append(at)
            at = self.bones[self.bone_index[at]].parent
        return found

    @cached_property
    def curve_names(self) -> dict[str, str]:
        """Whatever may have curves in a layer, in order, and the bone that each is about: bones themselves, then goals and directions of limbs."""
        found = {b.name: b.name for b in self.bones}
        for limb in self.goals:
            found |= {limb.goal: limb.end, limb.direction: limb.lower}
        return found

    def limb_at(self, bone: str) -> Limb | None:
        """The limb that a bone is one of the three of, or None."""
        return next((x for x in self.goals if bone in x.bones), None)

    def carrier(self, bone: str) -> Body | None:
        """The body that carries a bone: its own, or that of the nearest bone above it; None if there is none."""
        at: str | None = bone
        while at is not None:
            if at in self.body_of:
                return self.body_of[at]
            at = self.bones[self.bone_index[at]].parent
        return None

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
        self._fits_the_world()
        unique(f"figure {self.name!r}", (b.id for b in self.bodies), "body")
        unique(f"figure {self.name!r}", (b.bone for b in self.bodies), "body on bone")
        unique(f"figure {self.name!r}", (j.child for j in self.joints), "joint of body")
        unique(f"figure {self.name!r}", (c.name for c in self.clips), "clip")
        for body in self.bodies:
            known(body.bone, seen, f"body {body.id!r}", "bone")
        ids = {b.id for b in self.bodies}
        unique(f"figure {self.name!r}", (j.id for j in (*self.joints, *self.loops)), "joint")
        for joint in (*self.joints, *self.loops):
            known(joint.parent, ids, f"joint {joint.id!r}", "body")
            known(joint.child, ids, f"joint {joint.id!r}", "body")
            if joint.parent == joint.child:
                raise ValueError(f"joint {joint.id!r} joins a body to itself")
        for pair in self.pairs_off:
            for end in pair:
                known(end, ids, "a pair that does not collide", "body")
        for pair in self.mirror:
            for end in pair:
                known(end, seen, "a mirror pair", "bone")
        self._meshes_stay()
        unique(f"figure {self.name!r}", [*(m.id for m in self.mounts), *(j.id for j in self.joints)], "joint or mount")
        for mount in self.mounts:
            known(mount.part, seen, f"mount {mount.id!r}", "bone")
        for group in self.groups:
            for name in (*group.bones, *([group.start_bone] if group.start_bone is not None else [])):
                known(name, seen, f"group {group.name!r}", "bone")
            if group.returns == "clip" or group.clip is not None:
                known(group.clip or "", {c.name for c in self.clips}, f"group {group.name!r}", "clip")
        if self.steering is not None:
            for name in (*(g.clip for g in self.steering.gaits), *self.steering.rises):
                known(name, {c.name for c in self.clips}, f"how figure {self.name!r} goes", "clip")
            unique(f"how figure {self.name!r} goes", (g.clip for g in self.steering.gaits), "clip")
        self._limbs_are_there()
        self._softs_are_there()
        if self.clip is not None:
            known(self.clip, {c.name for c in self.clips}, f"figure {self.name!r}", "clip")
        return self

    def _fits_the_world(self) -> None:
        """Raises ValueError if scales or lengths along the bones multiply and add up to what cannot be computed with."""
        reach: dict[str | None, tuple[float, float]] = {None: (self.unit, math.hypot(*self.position))}
        for b in self.bones:
            size, far = reach[b.parent]
            here = size * max(map(abs, b.scale)), far + size * math.hypot(*b.translation)
            if not (here[0] < FARTHEST and here[1] < FARTHEST):
                raise ValueError(f"bone {b.name!r} of figure {self.name!r} lies too far away, or is scaled too much")
            reach[b.name] = here

    def _limbs_are_there(self) -> None:
        """Raises ValueError if a limb that is led is none of this figure's, or shares bones with another."""
        taken: set[str] = set()
        for limb in self.goals:
            for name in limb.bones:
                known(name, self.bone_index, f"the limb of {limb.end!r}", "bone")
            above = self.above(limb.end)
            if limb.lower not in above or limb.upper not in self.above(limb.lower):
                raise ValueError(
                    f"{limb.upper!r}, {limb.lower!r} and {limb.end!r} are no limb: each hangs on the one before"
                )
            mine = {limb.end, *above[: above.index(limb.upper) + 1]}
            if mine & taken:
                raise ValueError(f"the limb of {limb.end!r} shares the bone {min(mine & taken)!r} with another limb")
            taken |= mine
            for name in limb.curves:
                if name in self.bone_index:
                    raise ValueError(f"a bone is called {name!r}, as the curves of a limb are")
        for name, _ in self.elsewhere:
            known(name, self.bone_index, "what is baked elsewhere", "bone")

    def _softs_are_there(self) -> None:
        """Raises ValueError if a soft part lacks what it hangs on, or one of its clusters."""
        unique(f"figure {self.name!r}", (x.id for x in self.softs), "soft part")
        for soft in self.softs:
            for name in (soft.bone, *soft.clusters):
                known(name, self.bone_index, f"soft part {soft.id!r}", "bone")
        if self.softs and self.plain is None:
            raise ValueError(f"figure {self.name!r} has soft parts, and no skin from before")

    def soft_of(self, bone: str) -> Soft | None:
        """The soft part that a bone is a cluster of, or None."""
        return next((x for x in self.softs if bone in x.clusters), None)

    def _meshes_stay(self) -> None:
        """Raises ValueError if physics would have to move a triangle mesh, which encloses nothing."""
        for body in self.bodies:
            if any(s.kind == "mesh" for s in body.shapes) and (self.joints or not self.stays):
                raise ValueError(
                    f"body {body.id!r} has a triangle mesh, which cannot be moved by physics; use convex hulls"
                )


def obstacle(
    id_: str,
    shape: Shape,
    keys: tuple[MotionKey, ...],
    *,
    color: Vec3 = (0.42, 0.33, 0.22),
    friction: float = 0.6,
    restitution: float = 0.1,
) -> Figure:
    """A figure of one bone that stands in the way of others, on its keys until a group hands it over."""
    return Figure(
        id=id_,
        name=id_,
        bones=(Bone(name=id_),),
        bodies=(Body(id=id_, bone=id_, shapes=(shape,), friction=friction, restitution=restitution),),
        materials=(Material(color=color),),
        track=Track.of(keys),
        obstacle=True,
    )
