"""Left and right: which bones are pairs, and shapes and joints carried over to the other side."""

import re
from dataclasses import dataclass

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import placement, rest_matrices, rigid, skeleton_of
from artuline.core.scene.model import AxisRange, Body, Figure, Joint, Link, LinkEnd, Shape
from artuline.core.setup.own_frame import in_own_frame

_SIDES = (("left", "right"), ("l", "r"))
NEAR = 0.03  # share of the figure's size within which a mirrored place counts as met


def other_side(name: str) -> str | None:
    """The name of the same bone on the other side, if the name tells a side."""
    words = re.findall(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+|[^A-Za-z\d]+", name)
    for one, other in _SIDES:
        for a, b in ((one, other), (other, one)):
            at = [i for i, w in enumerate(words) if w.lower() == a]
            if len(at) == 1:
                word = words[at[0]]
                new = b.upper() if word.isupper() else (b.capitalize() if word[0].isupper() else b)
                return "".join([*words[: at[0]], new, *words[at[0] + 1 :]])
    return None


@dataclass(frozen=True)
class MirrorPlane:
    """The plane in the middle of a figure: unit ``normal`` (3,) and ``offset``, m, along it from the origin."""

    normal: Array
    offset: float

    def side(self, points: Array) -> Array:
        """How far points (..., 3) are on the side that the normal points to, m."""
        return np.asarray(points @ self.normal - self.offset)

    def points(self, points: Array) -> Array:
        """Points (..., 3) on the other side."""
        return np.asarray(points - 2.0 * self.side(points)[..., None] * self.normal)

    def vectors(self, vectors: Array) -> Array:
        """Vectors (..., 3) in the mirror."""
        return np.asarray(vectors - 2.0 * (vectors @ self.normal)[..., None] * self.normal)

    def turns(self, turns: Array) -> Array:
        """Rotations (..., 4) in the mirror: their axes are those of what turns, so that they turn round."""
        return np.concatenate([-self.vectors(turns[..., :3]), turns[..., 3:]], axis=-1)


def mirror_plane(figure: Figure) -> MirrorPlane:
    """The plane about which the rest pose is nearest to symmetric, where the figure stands: across its x or its z axis, or as its named pairs lie. It is
    looked for in the figure's own frame, so that it does not depend on where that stands.
    """
    skeleton = skeleton_of(figure)
    p = skeleton.global_matrices(skeleton.rest)[:, :3, 3]
    best: tuple[float, int, Array, float] | None = None
    for k, normal in enumerate((np.array([1.0, 0.0, 0.0]), np.array([0.0, 0.0, 1.0]), *_by_names(figure, p))):
        along = p @ normal
        place = 0.5 * float(along.min() + along.max())
        reflected = MirrorPlane(normal, place).points(p)
        miss = float(np.linalg.norm(reflected[:, None] - p[None], axis=2).min(axis=1).mean())
        if best is None or miss < best[0] - 1e-9:
            best = miss, k, normal, place
    assert best is not None
    (place,), (turn,) = rigid(placement(figure)[None])
    normal = rotation.rotate(turn, best[2])
    return MirrorPlane(normal, figure.unit * best[3] + float(place @ normal))


def _by_names(figure: Figure, p: Array) -> list[Array]:
    """The direction from right to left as the names tell the sides, if there are any."""
    ways: list[Array] = []
    for i, bone in enumerate(figure.bones):
        other = figure.bone_index.get(other_side(bone.name) or "")
        if other is not None and other > i:
            way = p[i] - p[other]
            ways.append(way if not ways or way @ ways[0] >= 0.0 else -way)
    total = np.sum(ways, axis=0) if ways else np.zeros(3)
    size = float(np.linalg.norm(total))
    return [total / size] if size > 1e-9 else []


def mirror_pairs(figure: Figure) -> dict[str, str]:
    """The counterpart of every bone that has one, both ways round; by hand, by name, else by place in the rest pose."""
    found: dict[str, str] = {}
    taken = {name for pair in figure.mirror for name in pair}
    for a, b in figure.mirror:
        if a != b:
            found[a], found[b] = b, a
    for bone in figure.bones:
        other = other_side(bone.name)
        if bone.name not in taken and other in figure.bone_index and other not in taken:
            found[bone.name] = str(other)
    names = [b.name for b in figure.bones if b.name not in found and b.name not in taken and b.deforms]
    if len(names) > 1:
        plane = mirror_plane(figure)
        p = rest_matrices(figure)[[figure.bone_index[n] for n in names], :3, 3]
        # as large wherever it is turned to
        own = skeleton_of(figure)
        places = own.global_matrices(own.rest)[[figure.bone_index[n] for n in names], :3, 3]
        size = max(figure.unit * float(np.ptp(places, axis=0).max()), 1e-9)
        gap = np.linalg.norm(plane.points(p)[:, None] - p[None], axis=2)
        nearest = gap.argmin(axis=1)
        for i, j in enumerate(nearest):
            off_plane = abs(plane.side(p[i])) > 0.5 * NEAR * size
            if i != j and nearest[j] == i and gap[i, j] < NEAR * size and off_plane:
                found[names[i]] = names[j]
    return found


def _reflect(figure: Figure, place: Array, turn: Array, keep: Array) -> tuple[Array, Array]:
    """A pose on the other side of the figure; ``keep`` (3,) signs of the frame's own axes, with product -1."""
    plane = mirror_plane(figure)
    return plane.points(place), rotation.from_matrix(plane.vectors(rotation.to_matrix(turn).T).T * keep[None])


def _local(place: Array, turn: Array, p: Array, q: Array) -> tuple[Array, Array]:
    back = rotation.conjugate(q)
    return rotation.rotate(back, place - p), rotation.multiply(back, turn)


def mirror_shape(figure: Figure, shape: Shape, bone: str, other: str) -> Shape:
    """A shape of one bone as the same shape of the bone on the other side."""
    p, q = rigid(rest_matrices(figure))
    a, b = figure.bone_index[bone], figure.bone_index[other]
    place = p[a] + rotation.rotate(q[a], np.array(shape.position))
    turn = rotation.multiply(q[a], np.array(shape.rotation))
    keep = np.array([-1.0, 1.0, 1.0])
    place, turn = _local(*_reflect(figure, place, turn, keep), p[b], q[b])
    points = tuple((-x, y, z) for x, y, z in shape.points)
    return shape.changed(position=tuple(place), rotation=tuple(turn), points=points)


def mirror_body(figure: Figure, body: Body, other: Body) -> Body:
    """``other`` with the shapes and values of ``body`` from the other side."""
    shapes = tuple(mirror_shape(figure, s, body.bone, other.bone) for s in body.shapes)
    return body.changed(id=other.id, bone=other.bone, shapes=shapes)


def mirror_joint(figure: Figure, joint: Joint, other: Joint) -> Joint:
    """``other`` with the frames, ranges and values of ``joint`` from the other side.

    The bone's axis is reflected and the frame kept right-handed by its z axis, so that twist and swing about y change their signs.
    """
    p, q = rigid(rest_matrices(figure))
    bones = {b.id: figure.bone_index[b.bone] for b in figure.bodies}
    keep = np.array([1.0, 1.0, -1.0])

    def across(turn: tuple[float, ...], a: int, b: int) -> tuple[float, ...]:
        _, world = _reflect(figure, p[a], rotation.multiply(q[a], np.array(turn)), keep)
        return tuple(rotation.multiply(rotation.conjugate(q[b]), world))

    x, y, z, twist, swing_y, swing_z = joint.axes
    return joint.changed(
        id=other.id,
        parent=other.parent,
        child=other.child,
        frame=across(joint.frame, bones[joint.child], bones[other.child]),
        parent_frame=across(joint.parent_frame, bones[joint.parent], bones[other.parent]),
        twist=(-joint.twist[1], -joint.twist[0]),
        axes=(x, y, _turned(z), _turned(twist), _turned(swing_y), swing_z),
    )


def _turned(r: AxisRange) -> AxisRange:
    return None if r is None else (-r[1], -r[0])


@in_own_frame
def mirror_bodies(figure: Figure, ids: set[str]) -> Figure:
    """Carry the bodies of those ids, and the joints that hold them, over to the bodies on the other side."""
    changed: dict[str, Body] = {}
    for body, other in _twins(figure, ids):
        changed[other.id] = mirror_body(figure, body, other)
    made = figure.changed(bodies=tuple(changed.get(b.id, b) for b in figure.bodies)) if changed else figure
    return mirror_joints(made, ids)


@in_own_frame
def mirror_joints(figure: Figure, ids: set[str]) -> Figure:
    """Carry the joints that hold the bodies of those ids over to the other side."""
    joints: dict[str, Joint] = {}
    for body, other in _twins(figure, ids):
        mine, theirs = figure.joint_of.get(body.id), figure.joint_of.get(other.id)
        if mine is not None and theirs is not None:
            joints[theirs.id] = mirror_joint(figure, mine, theirs)
    return figure.changed(joints=tuple(joints.get(j.id, j) for j in figure.joints)) if joints else figure


def mirror_link(figure: Figure, link: Link) -> Link | None:
    """A link of a figure's bodies as that of the bodies on the other side: what it holds besides, and what is in the middle, stays. None where that is the
    link itself, or nothing of it has a side.
    """
    pairs, plane = mirror_pairs(figure), mirror_plane(figure)
    bodies = {b.id: b for b in figure.bodies}
    p, q = rigid(rest_matrices(figure))

    def over(end: LinkEnd | None) -> LinkEnd | None:
        if end is None or end.figure != figure.id:
            return end
        bone = bodies[end.body].bone
        other = figure.body_of.get(pairs.get(bone, bone))
        if other is None:
            return end
        i, k = figure.bone_index[bone], figure.bone_index[other.bone]
        place = plane.points(p[i] + rotation.rotate(q[i], np.array(end.point)))
        point = rotation.rotate(rotation.conjugate(q[k]), place - p[k])
        return end.changed(body=other.id, point=tuple(float(v) for v in point))

    a, b = over(link.a), over(link.b)
    assert a is not None
    ends = {(x.figure, x.body) if x is not None else None for x in (a, b)}
    if ends == {(x.figure, x.body) if x is not None else None for x in (link.a, link.b)}:
        return None
    return link.changed(a=a, b=b)


def _twins(figure: Figure, ids: set[str]) -> list[tuple[Body, Body]]:
    """Bodies of those ids with the one on the other side, where that is not one of them itself."""
    pairs = mirror_pairs(figure)
    found = []
    for body in figure.bodies:
        other = figure.body_of.get(pairs.get(body.bone, ""))
        if body.id in ids and other is not None and other.id not in ids:
            found.append((body, other))
    return found


def sides_differ(figure: Figure, tolerance: float = 0.02) -> list[tuple[str, str]]:
    """Pairs of bodies whose shapes, masses or joints are not mirror images, to a share of the figure's size."""
    # clusters lie as the volume is divided
    pairs = {a: b for a, b in mirror_pairs(figure).items() if figure.soft_of(a) is None}
    size = max(float(np.ptp(rest_matrices(figure)[:, :3, 3], axis=0).max()), 1e-9)
    found = []
    for body in figure.bodies:
        other = figure.body_of.get(pairs.get(body.bone, ""))
        if other is None or body.bone > other.bone:
            continue
        wanted = mirror_body(figure, body, other)
        same = len(wanted.shapes) == len(other.shapes) and wanted.density == other.density and wanted.mass == other.mass
        for a, b in zip(wanted.shapes, other.shapes):
            same = same and a.kind == b.kind
            sizes = np.abs(np.array([*a.half, a.radius, a.half_length]) - [*b.half, b.radius, b.half_length])
            places = np.linalg.norm(np.array(a.position) - b.position)
            same = same and max(sizes.max(), places) < tolerance * size
        mine, theirs = figure.joint_of.get(body.id), figure.joint_of.get(other.id)
        if mine is not None and theirs is not None:
            same = same and mine.kind == theirs.kind and mine.limited == theirs.limited
        if not same:
            found.append((body.id, other.id))
    return found
