"""BVH in: a skeleton without skin and its motion, or the motion alone onto a figure that is there."""

import re
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.euler import ORDERS, Order, from_angles
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.frame_grid import RATES, on_frames
from artuline.core.motion.skeleton import rest_matrices, rigid, skeleton_of
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Bone, ClipRef, Figure, Material, Scene
from artuline.core.setup.sticks import STICKS, stick_mesh
from artuline.core.setup.tilt import Z_UP
from artuline.core.setup.units import likely_unit, unit_name
from artuline.formats.bvh_names import POSITIONS, ROTATIONS, SUFFIX
from artuline.formats.checked import Cancelled, reading, sound
from artuline.formats.files import read_plain
from artuline.formats.format import Format, Imported

MOST_BYTES = 512 * 2**20
MOST_JOINTS, MOST_FRAMES, MOST_DEPTH = 2000, 500_000, 200
MOST = 1e9  # that a number may be
REMEDY = "Export the file again, or choose another one."


@dataclass(eq=False)
class Joint:
    """A joint of the file: its offset from its parent, its channels, and the order of those that turn it. An end site has none."""

    name: str
    parent: int
    offset: Array = field(default_factory=lambda: np.zeros(3))
    channels: list[str] = field(default_factory=list)
    site: bool = False

    @property
    def order(self) -> Order | None:
        """The order in which it turns, if it turns about all three axes."""
        word = "".join(c[0].lower() for c in self.channels if c in ROTATIONS)
        return next((o for o in ORDERS if o == word), None)


@dataclass(frozen=True, eq=False)
class Motion:
    """Joints, and on every frame (F) their shifts (F, J, 3) in file units and turns (F, J, 4), local to their parents; seconds of a frame."""

    joints: list[Joint]
    shifts: Array
    turns: Array
    frame_time: float

    @property
    def rate(self) -> float:
        """Frames a second, as in use or whole where it is nearly so."""
        rate = 1.0 / self.frame_time
        # of those whose frame is as long as the file says, with the digits that it has
        digits = len(f"{self.frame_time:.9f}".rstrip("0").partition(".")[2])
        likely = [
            r for r in (*RATES, float(max(round(rate), 1))) if abs(1.0 / r - self.frame_time) <= 0.51 * 10.0**-digits
        ]
        return min(likely, key=lambda r: (r % 1.0 > 0.0, abs(r - rate)), default=rate)

    @property
    def stated(self) -> float | None:
        """That rate, if it is one to work at: not that of poses seconds apart."""
        return self.rate if RATES[0] <= self.rate <= RATES[-1] else None


class _Words:
    """The words of the file with the lines they stand in."""

    def __init__(self, path: Path, text: str):
        self.path = path
        # remarks that people put in; the lines keep their numbers
        self.lines = ["" if x.lstrip().startswith(("#", "//")) else x for x in text.splitlines()]
        self.line = 0
        self._rest: list[str] = []

    def fail(self, what: str, line: int | None = None) -> ArtulineError:
        return ArtulineError(what, place=f"{self.path.name}, line {self.line if line is None else line}", remedy=REMEDY)

    def more(self) -> bool:
        while not self._rest and self.line < len(self.lines):
            self._rest = self.lines[self.line].split()
            self.line += 1
        return bool(self._rest)

    def next(self) -> str:
        if not self.more():
            raise self.fail("the file ends too early", len(self.lines))
        return self._rest.pop(0)

    def rest_of_line(self) -> str:
        words, self._rest = self._rest, []
        found = " ".join(words)
        if found.endswith("{"):
            # the bracket beside the name
            found, self._rest = found[:-1].rstrip(), ["{"]
        return found

    def number(self) -> float:
        word = self.next()
        try:
            found = float(_with_point(word))
        except ValueError:
            raise self.fail(f"{word[:40]!r} is not a number") from None
        if not abs(found) < MOST:
            raise self.fail(f"{word[:40]!r} is out of bounds")
        return found

    def expect(self, *words: str) -> str:
        word = self.next()
        head, colon, rest = word.partition(":")
        if colon and rest:
            # a number right behind the colon
            word, self._rest = head + colon, [rest, *self._rest]
        if word.upper() not in words:
            raise self.fail(f"{word[:40]!r} stands where {' or '.join(words)} should")
        return word.upper()


def _with_point(word: str) -> str:
    """A number with the point that it has a comma for, or without the comma that parts it from the next."""
    return word.rstrip(",;") if "." in word else word.rstrip(",;").replace(",", ".")


def read_motion(path: Path | str) -> Motion:
    """All of a file. Raises ArtulineError with the line for what cannot be read."""
    path = Path(path)
    data = read_plain(path, MOST_BYTES)
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    w = _Words(path, text)
    w.expect("HIERARCHY")
    joints: list[Joint] = []
    while w.expect("ROOT", "MOTION") == "ROOT":
        _joint(w, joints, -1, 0)
    if not joints:
        raise w.fail("the file has no ROOT")
    w.expect("FRAMES:")
    count = w.number()
    if not (count == int(count) and 1 <= count <= MOST_FRAMES):
        raise w.fail(f"{count:g} frames are none that can be read")
    w.expect("FRAME")
    w.expect("TIME:")
    seconds = w.number()
    if not 1e-5 <= seconds <= 60.0:
        raise w.fail(f"a frame cannot last {seconds:g} seconds")
    return _values(w, joints, int(count), seconds)


def _joint(w: _Words, joints: list[Joint], parent: int, depth: int) -> None:
    """A joint with all that hangs on it."""
    name = w.rest_of_line()
    if depth > MOST_DEPTH or len(joints) >= MOST_JOINTS:
        raise w.fail(f"there are more than {MOST_JOINTS} joints, or {MOST_DEPTH} below each other")
    if not name:
        raise w.fail("a joint has no name")
    w.expect("{")
    me = Joint(name, parent)
    joints.append(me)
    index = len(joints) - 1
    while True:
        word = w.expect("OFFSET", "CHANNELS", "JOINT", "END", "}")
        if word == "}":
            return
        if word == "OFFSET":
            me.offset = np.array([w.number() for _ in range(3)])
        elif word == "CHANNELS":
            _channels(w, me)
        elif word == "JOINT":
            _joint(w, joints, index, depth + 1)
        else:
            w.expect("SITE")
            w.expect("{")
            w.expect("OFFSET")
            joints.append(Joint(f"{name} end", index, np.array([w.number() for _ in range(3)]), site=True))
            w.expect("}")


def _channels(w: _Words, me: Joint) -> None:
    count = w.number()
    if not (count == int(count) and 0 <= count <= 6):
        raise w.fail(f"a joint cannot have {count:g} channels")
    known = {c.lower(): c for c in (*POSITIONS, *ROTATIONS)}
    for _ in range(int(count)):
        word = w.next()
        if word.lower() not in known:
            raise w.fail(f"{word[:40]!r} is no channel", w.line)
        me.channels.append(known[word.lower()])
    if len(set(me.channels)) != len(me.channels):
        raise w.fail(f"{me.name!r} has a channel twice")


def _values(w: _Words, joints: list[Joint], frames: int, seconds: float) -> Motion:
    width = sum(len(j.channels) for j in joints)
    start = w.line
    lines = [(k + 1, x) for k, x in enumerate(w.lines[start:], start) if x.strip()]
    if len(lines) < frames:
        raise w.fail(f"there are {len(lines)} lines of motion for {frames} frames", len(w.lines))
    table = np.empty((frames, width))
    for i, (number, text) in enumerate(lines[:frames]):
        words = text.split() if "," not in text else [_with_point(x) for x in text.split()]
        if len(words) != width:
            raise w.fail(f"there are {len(words)} numbers for {width} channels", number)
        try:
            table[i] = np.array(words, float)
        except ValueError:
            bad = next(x for x in words if not re.fullmatch(r"[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?", x))
            raise w.fail(f"{bad[:40]!r} is not a number", number) from None
    bad_rows = np.flatnonzero(~(np.abs(table) < MOST).all(axis=1))
    if len(bad_rows):
        raise w.fail("a number is out of bounds", lines[int(bad_rows[0])][0])
    shifts, turns = np.empty((frames, len(joints), 3)), np.zeros((frames, len(joints), 4))
    at = 0
    for b, j in enumerate(joints):
        shifts[:, b], turns[:, b] = j.offset, rotation.IDENTITY
        order = ""
        angles = np.zeros((frames, 3))
        for c in j.channels:
            axis = "XYZ".index(c[0])
            if c in POSITIONS:
                shifts[:, b, axis] = table[:, at]
            else:
                angles[:, axis] = np.radians(table[:, at])
                order += "xyz"[axis]
            at += 1
        if order:
            # what is not turned about is turned about last, by nothing
            whole = order + "".join(a for a in "xyz" if a not in order)
            turns[:, b] = from_angles(angles, next(o for o in ORDERS if o == whole))
    return Motion(joints, shifts, rotation.make_continuous(turns), seconds)


def upright(motion: Motion) -> Array:
    """The rotation (4,) that sets a skeleton up whose file has z upwards: when it is taller along z than along y."""
    p = np.zeros((len(motion.joints), 3))
    for b, j in enumerate(motion.joints):
        p[b] = j.offset + (p[j.parent] if j.parent >= 0 else 0.0)
    size = np.ptp(p, axis=0)
    return Z_UP if size[2] > 1.3 * size[1] else rotation.IDENTITY.copy()


def read_figure(path: Path | str, assets: AssetStore, cancelled: Cancelled = lambda: False) -> Imported:
    """A figure without skin, with its motion as a clip. Raises ArtulineError with file, line and remedy; then nothing was added."""
    path = Path(path)
    with reading(path, REMEDY):
        return _figure_of(path, read_motion(path), assets)


def _figure_of(path: Path, motion: Motion, assets: AssetStore) -> Imported:
    up = upright(motion)
    notes: list[str] = []
    names = edit.Names()
    bones, called = [], []
    for j in motion.joints:
        name = names.fresh(j.name)
        called.append(name)
        offset = rotation.rotate(up, j.offset) if j.parent < 0 else j.offset
        q = up if j.parent < 0 else rotation.IDENTITY
        bones.append(
            Bone(
                name=name,
                parent=called[j.parent] if j.parent >= 0 else None,
                translation=tuple(offset),
                rotation=tuple(q),
                deforms=not j.site,
                order=j.order,
            )
        )
    stem = path.stem or "figure"
    figure = Figure(id=stem, name=stem, source=path.name, bones=tuple(bones))
    size = float(np.ptp(rest_matrices(figure)[:, :3, 3], axis=0).max())
    unit = likely_unit(size)
    if unit != 1.0:
        notes.append(f"The figure measures {size:.4g} file units; read as {unit_name(unit)}.")
    if not np.allclose(up, rotation.IDENTITY):
        notes.append("It is taller along z than along y: read with z upwards. Cast can tip it.")
    times = np.arange(len(motion.turns)) / motion.rate
    channels = []
    for b, j in enumerate(motion.joints):
        turns, shifts = motion.turns[:, b], motion.shifts[:, b]
        if j.parent < 0:
            turns, shifts = rotation.multiply(up, turns), rotation.rotate(up, shifts)
        if any(c in ROTATIONS for c in j.channels):
            channels.append(Channel(called[b], "rotation", "LINEAR", times, rotation.make_continuous(turns)))
        if any(c in POSITIONS for c in j.channels):
            channels.append(Channel(called[b], "translation", "LINEAR", times, shifts))
    refs: tuple[ClipRef, ...] = ()
    if channels and len(times) > 1:
        clip, rate, words = on_frames(Clip(tuple(channels)), motion.stated)
        if words:
            notes.append(f"Of its motion: {words}.")
        refs = (ClipRef(name=stem, asset=assets.add(clip.to_arrays()), duration=float(times[-1]), rate=rate),)
    mesh = stick_mesh(figure)
    if mesh is not None:
        figure = figure.changed(asset=assets.add(mesh.to_arrays()), materials=(Material(name="sticks", color=STICKS),))
    notes.append("The file holds a skeleton and its motion: sticks stand for the skin.")
    figure = figure.changed(unit=unit, clips=refs, clip=refs[0].name if refs else None)
    return Imported(sound(figure, assets, path, REMEDY), tuple(notes))


@dataclass(frozen=True)
class Onto:
    """A scene with a motion from a file as a clip of a figure; bones of the figure by the joint that moves each, and joints that move none."""

    scene: Scene
    mapped: dict[str, str]
    left: tuple[str, ...]


def plain(name: str) -> str:
    """A name by which joints and bones are compared: small letters and figures after the last colon."""
    return re.sub(r"[^a-z0-9]", "", name.rsplit(":", 1)[-1].lower())


def proposed(motion: Motion, figure: Figure) -> dict[str, str]:
    """Bones by the joint that is called like them."""
    by = {plain(b.name): b.name for b in figure.bones}
    return {j.name: by[plain(j.name)] for j in motion.joints if not j.site and plain(j.name) in by}


def put_motion(
    scene: Scene,
    assets: AssetStore,
    figure_id: str,
    path: Path | str,
    mapping: dict[str, str] | None = None,
    name: str | None = None,
) -> Onto:
    """The scene with the motion of a file as the playing clip of a figure: every bone turns against its rest pose as its joint does against the pose of all
    zeros, in the world; places are scaled by the height of the highest moved bone. ``mapping``: bones by joints, by their names if None.

    Raises ArtulineError if nothing is called alike.
    """
    path, figure = Path(path), scene.figure(figure_id)
    motion = read_motion(path)
    mapped = proposed(motion, figure) if mapping is None else mapping
    unknown = [b for b in mapped.values() if b not in figure.bone_index]
    if unknown:
        raise ArtulineError(f"{figure.name} has no bone {unknown[0]!r}")
    if not mapped:
        raise ArtulineError(
            f"no joint of {path.name} is called like a bone of {figure.name}",
            remedy=f"Say which is which: {motion.joints[0].name}=BONE.",
        )
    up = upright(motion)
    turned, placed, rest_place = _in_world(motion, up)
    skeleton = skeleton_of(figure)
    p0, q0 = rigid(rest_matrices(figure.changed(unit=1.0, position=(0.0, 0.0, 0.0), turn=0.0)))
    joint_of = {b: next(i for i, j in enumerate(motion.joints) if j.name == n) for n, b in mapped.items()}
    frames, times = len(turned), np.arange(len(turned)) / motion.rate
    world = np.empty((frames, skeleton.size, 4))
    channels = []
    top = next((b for b in skeleton.names if b in joint_of), None)
    for b, bone in enumerate(skeleton.names):
        above = skeleton.parents[b]
        carried = world[:, above] if above >= 0 else np.repeat(rotation.IDENTITY[None], frames, axis=0)
        if bone not in joint_of:
            world[:, b] = rotation.multiply(carried, skeleton.rest.rotation[b])
            continue
        world[:, b] = rotation.multiply(turned[:, joint_of[bone]], q0[b])
        local = rotation.make_continuous(rotation.multiply(rotation.conjugate(carried), world[:, b]))
        channels.append(Channel(bone, "rotation", "LINEAR", times, local))
        if bone == top:
            j = joint_of[bone]
            # from the lowest of what both have
            floor = float(rest_place[list(joint_of.values()), 1].min())
            own_floor = float(p0[[figure.bone_index[x] for x in joint_of], 1].min())
            high, mine = float(rest_place[j, 1]) - floor, float(p0[b, 1]) - own_floor
            scale = mine / high if high > 1e-6 and mine > 1e-6 else 1.0
            at = (placed[:, j] - [0.0, floor, 0.0]) * scale + [0.0, own_floor, 0.0]
            if above >= 0:
                back = transforms.rigid_inverse(p0[above], q0[above])
                at = back[0] + rotation.rotate(back[1], at)
            channels.append(Channel(bone, "translation", "LINEAR", times, at))
    clip_name = edit.fresh_id(name or path.stem or "motion", {c.name for c in figure.clips})
    clip, rate, _ = on_frames(Clip(tuple(channels)), motion.stated)
    ref = ClipRef(name=clip_name, asset=assets.add(clip.to_arrays()), duration=float(times[-1]), rate=rate)
    made = edit.figure(scene, figure_id, clips=(*figure.clips, ref), clip=clip_name)
    left = tuple(j.name for j in motion.joints if not j.site and j.name not in mapped)
    return Onto(made, dict(mapped), left)


def _in_world(motion: Motion, up: Array) -> tuple[Array, Array, Array]:
    """Rotations (F, J, 4) and places (F, J, 3) of the joints in the world, y upwards, and their places where all is zero (J, 3)."""
    count = len(motion.joints)
    q, p = np.empty_like(motion.turns), np.empty_like(motion.shifts)
    rest = np.zeros((count, 3))
    for b, j in enumerate(motion.joints):
        if j.parent < 0:
            q[:, b], p[:, b], rest[b] = motion.turns[:, b], motion.shifts[:, b], j.offset
        else:
            q[:, b] = rotation.multiply(q[:, j.parent], motion.turns[:, b])
            p[:, b] = p[:, j.parent] + rotation.rotate(q[:, j.parent], motion.shifts[:, b])
            rest[b] = rest[j.parent] + j.offset
    turned = rotation.multiply(rotation.multiply(up, q), rotation.conjugate(up))
    return turned, rotation.rotate(up, p), rotation.rotate(up, rest)


FORMAT = Format("BVH", (SUFFIX,), read_figure=read_figure)
