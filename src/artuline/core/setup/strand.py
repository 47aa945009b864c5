"""Strands from their recipes: bones, bodies, joints and mesh along a line, and what holds them."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.skeleton import rigid
from artuline.core.physics.world import JointSpec
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.edit import Names
from artuline.core.scene.model import (
    UPRIGHT,
    Body,
    Bone,
    Figure,
    Group,
    Joint,
    Lane,
    Link,
    LinkEnd,
    Material,
    Model,
    Mount,
    Scene,
    Shape,
    Strand,
    StrandPoint,
)
from artuline.core.setup.cord import bead_mesh, cord_mesh
from artuline.core.setup.lines import along, divided, hanging, length_of, line_through, settled, with_slack

CANTILEVER = (
    3.5160  # angular frequency of a rod held at one end, in units of sqrt(EI / (mass per metre)) / length^2 (Rayleigh)
)
TAPER = 0.65  # share of its thickness that a tail loses to its end
LIMP = 0.3  # of the frequency with which it would swing as a pendulum: what bends more softly hangs as a chain
LEAST_LENGTH = 1e-3  # metres


@dataclass(frozen=True, eq=False)
class StrandLine:
    """Where a strand runs: the ends of its parts (N + 1, 3) m, the rotation of each (N, 4), and at which end each of its points is (K,)."""

    ends: Array
    turns: Array
    at: tuple[int, ...]

    @property
    def length(self) -> float:
        """Length of all parts, m."""
        return length_of(self.ends)


def course_of(strand: Strand, gravity: tuple[float, float, float] = (0.0, -9.81, 0.0)) -> StrandLine:
    """Where a strand runs as it is drawn, or as it hangs. Raises ArtulineError for one without length."""
    points = np.array([p.position for p in strand.points])
    line = line_through(points, closed=strand.closed, curved=strand.curved)
    if length_of(line) < LEAST_LENGTH:
        raise ArtulineError("the strand has no length", remedy="Draw its points apart.")
    spans = max(round((len(line) - 1) / 48), 1)
    drawn = with_slack(line, spans, strand.slack)
    ends = divided(drawn, strand.count)
    at = _nearest(ends, points, strand.closed)
    if strand.hangs and any(gravity):
        ends = _hung(strand, ends, at, np.array(gravity))
    return StrandLine(ends, along(ends), at)


def _hung(strand: Strand, ends: Array, at: tuple[int, ...], gravity: Array) -> Array:
    """The ends (N + 1, 3) of the parts of a strand that hangs from the start."""
    held = {k: strand.firm for k, p in zip(at, strand.points, strict=True) if p.hold != "free"}
    length, pull = length_of(ends), float(np.linalg.norm(gravity))
    for k, p in zip(at, strand.points, strict=True):
        if k in held:
            ends[k] = p.position
    step = length / strand.count
    found = hanging(ends, sorted(held), strand.closed, step, gravity / pull)
    if held and (
        (strand.firm and strand.bend > 0.0) or strand.bend / length**2 > LIMP * np.sqrt(pull / length) / (2.0 * np.pi)
    ):
        spring = springs(strand, length, 1.0 / length)
        joint = JointSpec(0, 1, bend_frequency=spring.frequency, feels=(0.0, spring.twist, spring.bend))
        found = settled(found, held, strand.closed, step, joint, gravity)
        if strand.closed:
            found[-1] = found[0]
    return found


def _nearest(ends: Array, points: Array, closed: bool) -> tuple[int, ...]:
    """The end of a part nearest to each point, forward along the line."""
    found, first = [], 0
    for k, p in enumerate(points):
        last = len(ends) if k or closed else 1
        if k == len(points) - 1 and not closed:
            found.append(len(ends) - 1)
            break
        first = min(first, last - 1)
        found.append(first + int(np.argmin(np.linalg.norm(ends[first:last] - p, axis=1))))
        first = found[-1]
    return tuple(found)


@dataclass(frozen=True)
class Springs:
    """What the joints of a strand are tuned for: Hz, kg, kg m^2 about the line and across."""

    frequency: float
    stretch: float
    twist: float
    bend: float


def springs(strand: Strand, length: float, weight: float) -> Springs:
    """Springs of every joint of a strand of a length (m) and weight (kg/m), which make it as firm at any number of parts.

    A rod of bending stiffness EI held at one end swings at ``3.516 / (2 pi) sqrt(EI / weight) / L^2``, one of lengthwise stiffness EA at
    ``sqrt(EA / weight) / (4 L)``; the recipe says both for a metre. Joints a part's length apart have EI and EA over that length.
    """
    step = length / strand.count
    frequency = strand.bend or strand.twist
    one = weight / (CANTILEVER**2 * step)
    share = {n: max((getattr(strand, n) / frequency) ** 2, 1e-9) if frequency else 0.0 for n in ("bend", "twist")}
    stretch = weight * 16.0 / (4.0 * np.pi**2 * step) if strand.stretch else 0.0
    return Springs(frequency, stretch, one * share["twist"], one * share["bend"])


def part_names(strand: Strand) -> list[str]:
    """The names of its bones."""
    return [f"{strand.kind}_{i + 1}" for i in range(strand.count)]


def thickness(strand: Strand) -> Array:
    """The share of its thickness that every part (N,) has."""
    share: Array = 1.0 - TAPER * np.arange(strand.count) / (strand.count - 1) * (strand.kind == "tail")
    return share


def bare(strand: Strand, id_: str, name: str, course: StrandLine) -> Figure:
    """The figure of a strand without mesh and without what holds it: it is free from the first frame on."""
    names, step = part_names(strand), course.length / strand.count
    lengths = np.linalg.norm(np.diff(course.ends, axis=0), axis=1)
    local = [course.turns[0]] + [
        rotation.multiply(rotation.conjugate(a), b) for a, b in zip(course.turns[:-1], course.turns[1:], strict=True)
    ]
    bones = tuple(
        Bone(
            name=n, parent=names[i - 1] if i else None, deforms=True, rotation=tuple(rotation.normalize(local[i])),
            translation=tuple(course.ends[0]) if i == 0 else (float(lengths[i - 1]), 0.0, 0.0),
        )
        for i, n in enumerate(names)
    )  # fmt: skip
    thick = thickness(strand)
    bodies = tuple(
        Body(
            id=n, bone=n, shapes=(_shape(strand, float(lengths[i]), strand.reach * float(thick[i])),),
            mass=strand.weight * step, friction=strand.friction, rolling=strand.rolling, drag=strand.air, spin_drag=strand.air,
        )
        for i, n in enumerate(names)
    )  # fmt: skip
    near = 1 + int(np.ceil(2.0 * strand.reach / step)) if strand.kind != "beads" else 1
    count = strand.count
    off = {
        (names[min(i, j)], names[max(i, j)])
        for i in range(count)
        for j in ((i + k) % count if strand.closed else i + k for k in range(2, near + 1))
        if j < count and i != j
    }
    return Figure(
        id=id_, name=name, bones=bones, materials=(Material(name=strand.kind, color=strand.color),), bodies=bodies,
        joints=_joints(strand, names, course), pairs_off=tuple(sorted(off)), made=strand,
        groups=(Group(id="loose", name="whole figure", handover=Lane(rest=1.0)),),
    )  # fmt: skip


def _shape(strand: Strand, length: float, radius: float) -> Shape:
    middle = (0.5 * length, 0.0, 0.0)
    if strand.kind == "beads":
        return Shape(kind="sphere", radius=radius, position=middle)
    return Shape(kind="capsule", radius=radius, half_length=0.5 * length, position=middle)


def _joints(strand: Strand, names: list[str], course: StrandLine) -> tuple[Joint, ...]:
    spring = springs(strand, course.length, strand.weight)
    free = None
    ways: dict[str, Any] = {"kind": "ball", "limited": False}
    if strand.stretch:
        ways = {"kind": "axes", "axes": (free, (0.0, 0.0), (0.0, 0.0), free, free, free)}
    made = []
    for i in range(1, strand.count + strand.closed):
        child, parent = i % strand.count, i - 1
        turn = rotation.multiply(rotation.conjugate(course.turns[parent]), course.turns[child])
        frame, parent_frame = np.array(UPRIGHT), np.array(UPRIGHT)
        if strand.rest == "drawn":
            parent_frame = rotation.normalize(turn)
        elif child == 0:
            # round the loop its parts have come to be turned about it
            angle = float(rotation.swing_twist(turn)[1])
            frame = rotation.from_rotation_vector(np.array([-angle, 0.0, 0.0]))
        # of what is held by its direction, the first joint stands for what bends within the part that is held, too
        held = (i == 1 and strand.points[0].hold != "free") or (
            i == strand.count - 1 and strand.points[-1].hold != "free"
        )
        soft = 2.0 / 3.0 if strand.firm and not strand.closed and held else 1.0
        made.append(
            Joint(
                id=f"{names[child]} to {names[parent]}", parent=names[parent], child=names[child], **ways,
                frame=tuple(frame), parent_frame=tuple(parent_frame), damping=0.0,
                bend_frequency=spring.frequency, bend_ratio=strand.ratio, feels=(spring.stretch, soft * spring.twist, soft * spring.bend),
                spring_frequency=strand.stretch, spring_ratio=strand.ratio,
            )
        )  # fmt: skip
    return tuple(made)


def with_mesh(figure: Figure, assets: AssetStore) -> Figure:
    """The strand drawn as one smooth cord, or as beads on a string."""
    strand = figure.made
    assert strand is not None
    make = bead_mesh if strand.kind == "beads" else cord_mesh
    mesh = make(figure, strand.radius * thickness(strand), strand.closed)
    return figure.changed(asset=assets.add(mesh.to_arrays()))


def _hold_id(k: int) -> str:
    return f"hold {k + 1}"


def _at_end(figure: Figure, course: StrandLine, k: int) -> tuple[str, Array]:
    """The part that has a point of the recipe, and where in the frame of its bone (3,)."""
    end = course.at[k]
    part = min(end, len(figure.bones) - 1)
    length = float(np.linalg.norm(course.ends[part + 1] - course.ends[part]))
    return figure.bones[part].name, np.array([length if end > part else 0.0, 0.0, 0.0])


def _held(scene: Scene, assets: AssetStore, figure: Figure, course: StrandLine) -> Scene:
    """The scene with a strand's mounts and pins made from its recipe; others that it has stay."""
    strand = figure.made
    assert strand is not None
    mounts, links = [], []
    for k, point in enumerate(strand.points):
        if point.hold == "free":
            continue
        part, at = _at_end(figure, course, k)
        if point.hold == "pinned":
            links.append(
                Link(
                    id=f"{figure.id} {_hold_id(k)}", name=f"{figure.name}: point {k + 1}", kind="weld" if strand.firm else "pin",
                    a=LinkEnd(figure=figure.id, body=part, point=tuple(at)), start=point.start, stop=point.stop,
                )
            )  # fmt: skip
            continue
        i = figure.bone_index[part]
        holder = scene.figure(point.figure)
        matrices = keyed_matrices(scene, assets, holder, np.array([strand.frame]))[0]
        pb, qb = rigid(matrices[holder.bone_index[point.bone]])
        place, turn = transforms.rigid_relative(pb, qb, course.ends[i], course.turns[i])
        mounts.append(
            Mount(
                id=_hold_id(k), part=part, figure=point.figure, bone=point.bone, position=tuple(place), rotation=tuple(turn),
                point=tuple(at), hold="fixed" if strand.firm else "swings", start=point.start, stop=point.stop,
            )
        )  # fmt: skip
    # the first leads, where there are several
    mine = {_hold_id(k) for k in range(200)}
    kept = tuple(m for m in figure.mounts if m.id not in mine and m.part in figure.bone_index)
    there = {f"{figure.id} {m}" for m in mine}
    made = edit.figure(scene, figure.id, mounts=(*kept, *reversed(mounts)))
    return edit.scene(made, links=(*(x for x in made.links if x.id not in there), *links))


def add_strand(scene: Scene, assets: AssetStore, strand: Strand, name: str = "") -> tuple[Scene, str]:
    """The scene with a strand more, and its id. Raises ArtulineError for what cannot be."""
    names = Names(f.id for f in scene.figures)
    id_ = names.fresh(name or strand.kind)
    course = course_of(strand, scene.gravity)
    figure = with_mesh(bare(strand, id_, id_, course), assets)
    made = edit.add_figure(scene, figure)
    return _held(made, assets, figure, course), id_


Edits = dict[tuple[str, str], dict[str, Any]]


def edits_by_hand(scene: Scene, figure: Figure) -> Edits:
    """What was changed of bodies and joints since the recipe made them: the fields by ("bodies" or "joints", id)."""
    assert figure.made is not None
    fresh = bare(figure.made, figure.id, figure.name, course_of(figure.made, scene.gravity))
    found: Edits = {}
    for kind in ("bodies", "joints"):
        was: dict[str, Model] = {x.id: x for x in getattr(fresh, kind)}
        for x in getattr(figure, kind):
            old = was.get(x.id)
            if old is not None and old != x:
                found[kind, x.id] = {
                    n: getattr(x, n) for n in type(x).model_fields if not same_value(getattr(x, n), getattr(old, n))
                }
    return {k: v for k, v in found.items() if v}


def same_value(a: object, b: object) -> bool:
    """Whether two values are the same but for rounding."""
    if isinstance(a, float) and isinstance(b, float):
        return abs(a - b) <= 1e-9 * max(abs(a), abs(b), 1e-9)
    if isinstance(a, tuple) and isinstance(b, tuple):
        return len(a) == len(b) and all(same_value(x, y) for x, y in zip(a, b, strict=True))
    if isinstance(a, Model) and isinstance(b, Model):
        return type(a) is type(b) and all(same_value(getattr(a, n), getattr(b, n)) for n in type(a).model_fields)
    return a == b


def lost_edits(scene: Scene, figure_id: str, strand: Strand) -> list[str]:
    """Words for the edits by hand that go with parts that a new recipe does not have."""
    figure, names = scene.figure(figure_id), set(part_names(strand))
    found = edits_by_hand(scene, figure)
    return [id_ for kind, id_ in found if (id_ if kind == "bodies" else id_.split(" to ")[0]) not in names]


def remade(scene: Scene, assets: AssetStore, figure_id: str, strand: Strand) -> Scene:
    """The scene with a strand made anew by another recipe. What was changed by hand of parts that are still there stays, and so do its groups,
    its name and what was set for the whole. Raises ArtulineError for what cannot be.
    """
    old = scene.figure(figure_id)
    kept = edits_by_hand(scene, old)
    course = course_of(strand, scene.gravity)
    new = bare(strand, old.id, old.name, course)
    for kind in ("bodies", "joints"):
        new = new.changed(**{kind: tuple(x.changed(**kept.get((kind, x.id), {})) for x in getattr(new, kind))})
    there = set(new.bone_index)
    groups = tuple(
        g.changed(bones=tuple(b for b in g.bones if b in there))
        for g in old.groups
        if (g.start_bone is None or g.start_bone in there) and (not g.bones or any(b in there for b in g.bones))
    )
    new = with_mesh(new, assets).changed(
        groups=groups or new.groups, mounts=tuple(m for m in old.mounts if m.part in there), enters=old.enters,
        gravity=old.gravity, wind=old.wind, velocity=old.velocity, spin=old.spin, self_collision=old.self_collision,
    )  # fmt: skip
    made = edit.pruned(scene, figures=edit.replace(scene.figures, figure_id, lambda f: new))
    return _held(made, assets, made.figure(figure_id), course)


def point_at(position: Array, on: tuple[str, str] | None) -> StrandPoint:
    """A point of a recipe where something was clicked: mounted on a bone (figure, bone), or free."""
    if on is not None:
        return StrandPoint(position=tuple(position), hold="mounted", figure=on[0], bone=on[1])
    return StrandPoint(position=tuple(position))
