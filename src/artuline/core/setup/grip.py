"""How a hand holds a thing: the palm of a hand from its skeleton, the grip of a handle from its geometry, and the mount that joins them."""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Group, Lane, Mount, Scene
from artuline.core.setup.anatomy import segment_of
from artuline.core.setup.hinge import bodies_below, hinge_of, round_axis
from artuline.core.setup.parts import Surface, own_matrices
from artuline.core.setup.tube import middle_line

Way = Literal["handle", "palm", "hip"]
#: How a thing is carried, in words.
WAYS: dict[Way, tuple[str, str]] = {
    "handle": ("The hand holds the handle", "The handle is fixed to the hand, and what hangs on it swings"),
    "palm": ("It hangs in the palm", "Handle and body both swing, about a point in the palm"),
    "hip": ("It rides at the hip", "The thing goes with the hips, and the hand reaches for it"),
}
PALM = 0.45  # share of the way from the wrist to the fingers at which a handle lies
DEEP = 0.18  # share of that way by which it lies in front of the palm
FARTHEST = 0.12  # share of a handle's reach from its hinge that is gripped


@dataclass(frozen=True, eq=False)
class Grip:
    """A place (3,), and the unit axis (3,) of what is held there, in the frame of a bone (m)."""

    point: Array
    axis: Array


def palm_of(figure: Figure, bone: str) -> Grip:
    """Where a bone holds a handle: in a hand across the fingers, from the way to the fingers and to the thumb; else at the middle of the bone."""
    m = rest_matrices(figure)
    p, q = rigid(m)
    b = figure.bone_index[bone]
    below = [i for i, x in enumerate(figure.bones) if x.parent == bone]
    thumbs = [i for i in below if "thumb" in figure.bones[i].name.lower()]
    fingers = [i for i in below if i not in thumbs]
    back = rotation.conjugate(q[b])
    if not fingers:
        up = figure.bones[b].parent
        way = p[b] - p[figure.bone_index[up]] if up is not None else np.array([0.0, -0.1, 0.0])
        along = _unit(way)
        length = 0.35 * float(np.linalg.norm(way)) if up is not None and segment_of(bone) == "hand" else 0.0
        axis = np.cross(along, [0.0, 0.0, 1.0] if abs(along[2]) < 0.9 else [1.0, 0.0, 0.0])
        return Grip(rotation.rotate(back, along * length), rotation.rotate(back, _unit(np.cross(axis, along))))
    way = p[fingers].mean(axis=0) - p[b]
    along = _unit(way)
    if not thumbs:
        across = np.array([0.0, 0.0, 1.0]) if abs(along[2]) < 0.9 else np.array([1.0, 0.0, 0.0])
    else:
        across = p[thumbs].mean(axis=0) - p[b]
    axis = _unit(across - along * float(across @ along))
    # the palm looks down, or to the body
    normal = np.cross(along, axis)
    middle = p.mean(axis=0)
    inward = np.array([0.0, -1.0, 0.0]) + 0.5 * _unit((middle - p[b]) * [1.0, 0.0, 1.0])
    normal = normal if float(normal @ inward) >= 0.0 else -normal
    length = float(np.linalg.norm(way))
    return Grip(rotation.rotate(back, PALM * way + DEEP * length * normal), rotation.rotate(back, axis))


def grip_of(figure: Figure, assets: AssetStore, part: str) -> Grip:
    """Where a part is held: a handle that turns about a hinge at its far side along the hinge's axis; a ring at its top; a stick at its
    middle, along it.
    """
    s, b = Surface.of(figure, assets), figure.bone_index[part]
    origin, turn = rigid(own_matrices(figure)[b])

    def local(point: Array, axis: Array) -> Grip:
        back = rotation.conjugate(turn)
        return Grip(rotation.rotate(back, point - origin), rotation.rotate(back, _unit(axis)))

    corners = s.positions[s.triangles[s.owner == b]]
    if not len(corners):
        raise ArtulineError(f"{part} has no surface to hold", remedy="Choose a part that has one.")
    points = corners.reshape(-1, 3)
    body = figure.body_of.get(part)
    mine = [j for j in figure.joints if body is not None and body.id in (j.parent, j.child)]
    line = middle_line(corners)
    if mine:
        hinge = hinge_of(figure, mine[0])
        away = points - hinge.pivot
        away = away - np.outer(away @ hinge.axis, hinge.axis)
        far = np.linalg.norm(away, axis=1)
        if far.max() > 1e-6:
            top = points[far >= (1.0 - FARTHEST) * far.max()].mean(axis=0)
            # a rope is held along itself
            axis = hinge.axis if mine[0].kind == "hinge" else top - hinge.pivot
            return local(_nearest(line[0], top) if line is not None else top, axis)
    if line is not None:
        k = int(np.argmax(line[0][:, 1]))
        return local(line[0][k], line[0][(k + 1) % len(line[0])] - line[0][k - 1])
    centre = 0.5 * (points.min(axis=0) + points.max(axis=0))
    along = round_axis(points)
    long = np.linalg.svd(points - points.mean(axis=0), full_matrices=False)[2][0]
    return local(centre, long if along is None else along)


def _nearest(line: Array, place: Array) -> Array:
    """The point (3,) of a line of segments (N, 3) that is nearest to a place."""
    a, b = line[:-1], line[1:]
    t = np.clip(((place - a) * (b - a)).sum(axis=1) / np.maximum(((b - a) ** 2).sum(axis=1), 1e-30), 0.0, 1.0)
    found = a + t[:, None] * (b - a)
    best: Array = found[np.argmin(np.linalg.norm(found - place, axis=1))]
    return best


def held_at(
    scene: Scene, assets: AssetStore, prop: Figure, part: str, holder: Figure, bone: str, frame: float
) -> tuple[Array, Array, Array]:
    """Position (3,) and rotation (4,) of a part in the frame of a bone that grips it, and the place of the grip in the part (3,): the axis of
    the handle along that of the palm, and the rest of the thing hanging down at that frame.
    """
    palm, grip = palm_of(holder, bone), grip_of(prop, assets, part)
    facing = rigid(keyed_matrices(scene, assets, holder, np.array([frame]))[0, holder.bone_index[bone]])[1]
    down = rotation.rotate(rotation.conjugate(facing), np.array([0.0, -1.0, 0.0]))
    best: tuple[float, Array] | None = None
    for sign in (1.0, -1.0):
        turn = rotation.align(grip.axis, sign * palm.axis)
        hangs = rotation.rotate(turn, _rest_of(prop, assets, part) - grip.point)
        across = hangs - palm.axis * float(hangs @ palm.axis)
        wanted = down - palm.axis * float(down @ palm.axis)
        if min(np.linalg.norm(across), np.linalg.norm(wanted)) > 1e-6:
            angle = np.arctan2(np.cross(across, wanted) @ palm.axis, across @ wanted)
            turn = rotation.multiply(rotation.from_rotation_vector(angle * palm.axis), turn)
        # of the two ways round, the one that turns the thing less from how it stands
        now = rotation.multiply(facing, turn)
        score = float(abs(now[3]))
        if best is None or score > best[0]:
            best = score, turn
    assert best is not None
    return palm.point - rotation.rotate(best[1], grip.point), best[1], grip.point


def _rest_of(prop: Figure, assets: AssetStore, part: str) -> Array:
    """The middle of what hangs on a part, else of the part itself, in its frame (3,)."""
    s, below = Surface.of(prop, assets), {b.bone for b in bodies_below(prop, part)} or {part}
    owners = [prop.bone_index[b] for b in below]
    origin, turn = rigid(own_matrices(prop)[prop.bone_index[part]])
    points = s.positions[np.unique(s.triangles[np.isin(s.owner, owners)])]
    middle = 0.5 * (points.min(axis=0) + points.max(axis=0))
    return rotation.rotate(rotation.conjugate(turn), middle - origin)


def as_it_is(
    scene: Scene, assets: AssetStore, prop: Figure, part: str, holder: Figure, bone: str, frame: float
) -> tuple[Array, Array]:
    """Position (3,) and rotation (4,) of a part in the frame of a bone, as the keys have them at a frame."""
    at = np.array([frame])
    p, q = rigid(keyed_matrices(scene, assets, prop, at)[0, prop.bone_index[part]])
    pb, qb = rigid(keyed_matrices(scene, assets, holder, at)[0, holder.bone_index[bone]])
    return transforms.rigid_relative(pb, qb, p, q)


def held_part(prop: Figure, assets: AssetStore) -> str:
    """The part that a hand would take: of those that are tubes, rings or bails the topmost, else the topmost."""
    s = Surface.of(prop, assets)
    best: tuple[bool, float, str] | None = None
    for i, b in enumerate(prop.bones):
        corners = s.positions[s.triangles[s.owner == i]]
        if len(corners):
            found = middle_line(corners) is not None, float(corners[..., 1].max()), b.name
            best = found if best is None or found > best else best
    if best is None:
        raise ArtulineError(f"{prop.name} has no surface to hold", remedy="Choose a thing with a mesh.")
    return best[2]


def mounted(
    scene: Scene, assets: AssetStore, prop_id: str, holder_id: str, bone: str, frame: float, way: Way = "handle",
    part: str | None = None, *, as_it_lies: bool = False,
) -> Scene:  # fmt: skip
    """The scene with a thing held from a frame on, the first time from the start, in one of three ways; another mount that acts then ends
    there, and what swings is handed over.

    ``as_it_lies``: where it is to the bone at that frame, instead of in its grip. Raises ArtulineError for what has no part to hold.
    """
    prop, holder = scene.figure(prop_id), scene.figure(holder_id)
    if prop_id == holder_id:
        raise ArtulineError(f"{prop.name} cannot hold itself", remedy="Click a bone of another figure.")
    before = next((m for m in reversed(prop.mounts) if m.acts(frame)), None)
    part = part or (before.part if before is not None else held_part(prop, assets))
    if as_it_lies:
        position, turn = as_it_is(scene, assets, prop, part, holder, bone, frame)
        point = grip_of(prop, assets, part).point
    else:
        position, turn, point = held_at(scene, assets, prop, part, holder, bone, frame)
    values: dict[str, object] = {"bone": bone, "position": tuple(position), "rotation": tuple(turn)}
    if way == "hip":
        hips = _hips(holder)
        pb, qb = rigid(keyed_matrices(scene, assets, holder, np.array([frame]))[0])
        hand, hip = holder.bone_index[bone], holder.bone_index[hips]
        at = transforms.rigid_multiply(pb[hand], qb[hand], position, turn)
        p, q = transforms.rigid_relative(pb[hip], qb[hip], *at)
        back = transforms.rigid_relative(position, turn, np.zeros(3), rotation.IDENTITY)
        values = {"bone": hips, "position": tuple(p), "rotation": tuple(q), "reach": bone,
                  "reach_position": tuple(back[0]), "reach_rotation": tuple(back[1])}  # fmt: skip
    # what is held for the first time is so from the start, unless it is taken up as it lies there
    start = None if not prop.mounts and (frame <= scene.start or not as_it_lies) else frame
    name = edit.fresh_id("mount", {*(m.id for m in prop.mounts), *(j.id for j in prop.joints)})
    new = Mount(id=name, part=part, figure=holder_id, point=tuple(point), hold="swings" if way == "palm" else "fixed",
                start=start, **values)  # fmt: skip
    ended = tuple(
        m.changed(stop=frame) if m.acts(frame) and (m.start is None or m.start < frame) else m for m in prop.mounts
    )
    kept = tuple(m for m in ended if m.start is None or m.start < frame or (m.stop is not None and m.stop <= frame))
    made = edit.figure(scene, prop_id, mounts=(*kept, new))
    return swinging(made, prop_id, part, way)


def swinging(scene: Scene, prop_id: str, part: str, way: Way) -> Scene:
    """The scene with what swings of a thing handed over for the whole range: what hangs on the held part, or all of it."""
    prop = scene.figure(prop_id)
    others = tuple(g for g in prop.groups if g.id != "swings")
    bones = tuple(b.bone for b in bodies_below(prop, part)) if way != "palm" else tuple(b.bone for b in prop.bodies)
    if not bones:
        return edit.figure(scene, prop_id, groups=others)
    return edit.figure(
        scene, prop_id, groups=(*others, Group(id="swings", name="what swings", bones=bones, handover=Lane(rest=1.0)))
    )


def let_go(scene: Scene, prop_id: str, frame: float) -> Scene:
    """The scene with a thing let go at a frame, and all of it handed over from then on. Raises ArtulineError if nothing holds it then."""
    prop = scene.figure(prop_id)
    if not any(m.acts(frame) for m in prop.mounts):
        raise ArtulineError(
            f"nothing holds {prop.name} at frame {frame:g}", remedy="Go to a frame at which it is held."
        )
    if any(m.acts(frame) and m.start is not None and m.start >= frame for m in prop.mounts):
        raise ArtulineError(f"{prop.name} is only taken up at frame {frame:g}", remedy="Go to a later frame.")
    mounts = tuple(m.changed(stop=frame) if m.acts(frame) else m for m in prop.mounts)
    made = edit.figure(scene, prop_id, mounts=mounts)
    others = tuple(g for g in prop.groups if g.id != "let go")
    swing = {b for g in others if g.id == "swings" for b in g.bones}
    bones = tuple(b.bone for b in prop.bodies if b.bone not in swing)
    if not bones:
        return edit.figure(made, prop_id, groups=others)
    lane = edit.interval_lane(frame, scene.end + 1000.0, 0.0, 0.0)
    return edit.figure(made, prop_id, groups=(*others, Group(id="let go", name="let go", bones=bones, handover=lane)))


def _hips(holder: Figure) -> str:
    """The bone that a thing rides on at the hip: the pelvis, else the topmost body."""
    for b in holder.bones:
        if segment_of(b.name) == "pelvis":
            return b.name
    top = min((holder.bone_index[b.bone] for b in holder.bodies), default=0)
    return holder.bones[top].name


def _unit(v: Array) -> Array:
    return np.asarray(v / max(float(np.linalg.norm(v)), 1e-30))
