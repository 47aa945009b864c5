"""Pure edits: each takes a scene and returns a new one that shares what did not change."""

from collections.abc import Callable, Iterable
from typing import TypeVar

from artuline.core.errors import MissingError
from artuline.core.scene.lanes import with_key
from artuline.core.scene.model import (
    Body,
    Figure,
    Group,
    Joint,
    Key,
    Lane,
    LinkEnd,
    Model,
    MotionKey,
    Scene,
    Spring,
    Track,
    VectorKey,
    VectorLane,
)

T = TypeVar("T", bound=Model)


def replace(items: tuple[T, ...], id_: str, change: Callable[[T], T]) -> tuple[T, ...]:
    """The tuple with the item of that id changed; MissingError if there is none."""
    if all(i.id != id_ for i in items):  # type: ignore[attr-defined]
        raise MissingError(f"{id_!r} is not there any more")
    return tuple(change(i) if i.id == id_ else i for i in items)  # type: ignore[attr-defined]


def scene(s: Scene, **values: object) -> Scene:
    """A scene with fields replaced."""
    return s.changed(**values)


def figure(s: Scene, figure_id: str, **values: object) -> Scene:
    """Replace fields of one figure."""
    return map_figure(s, figure_id, lambda f: f.changed(**values))


def map_figure(s: Scene, figure_id: str, change: Callable[[Figure], Figure]) -> Scene:
    """Change one figure by a function."""
    return scene(s, figures=replace(s.figures, figure_id, change))


def bodies(s: Scene, figure_id: str, ids: set[str], change: Callable[[Body], Body]) -> Scene:
    """Change several bodies of a figure by a function."""
    f = s.figure(figure_id)
    return figure(s, figure_id, bodies=tuple(change(b) if b.id in ids else b for b in f.bodies))


def ragdoll(s: Scene, new: Figure) -> Scene:
    """The scene with a figure's bodies, joints and filters replaced by those of ``new``; what was tied to, pushed or kept
    apart from bodies that are gone goes with them.
    """
    return pruned(
        s,
        figures=replace(
            s.figures,
            new.id,
            lambda f: f.changed(
                bodies=new.bodies,
                joints=new.joints,
                loops=new.loops,
                pairs_off=new.pairs_off,
                self_collision=new.self_collision,
            ),
        ),
    )


def pruned(s: Scene, **values: object) -> Scene:
    """The scene with figures replaced, without whatever refers to a body that is not there any more:
    links, mounts, pushes, pairs that do not collide, whom a figure follows and which one it is like.
    """
    figures: tuple[Figure, ...] = values.get("figures", s.figures)  # type: ignore[assignment]
    known = {(f.id, b.id) for f in figures for b in f.bodies}
    bones = {(f.id, b.name) for f in figures for b in f.bones}
    ids = {f.id for f in figures}

    def mounted(f: Figure) -> Figure:
        kept = tuple(
            m for m in f.mounts if (m.figure, m.bone) in bones and (m.reach is None or (m.figure, m.reach) in bones)
        )
        made = f if kept == f.mounts else f.changed(mounts=kept)
        if made.steering is not None and made.steering.follows is not None and made.steering.follows not in ids:
            made = made.changed(steering=made.steering.changed(follows=None))
        if made.like is not None and made.like not in ids:
            made = made.changed(like=None)
        return made

    values["figures"] = tuple(mounted(f) for f in figures)

    def there(*ends: LinkEnd | None) -> bool:
        return all(e is None or (e.figure, e.body) in known for e in ends)

    kept: dict[str, object] = {
        "links": tuple(x for x in s.links if there(x.a, x.b)),
        "pushes": tuple(p for p in s.pushes if (p.figure, p.body) in known),
        "pairs_off": tuple(p for p in s.pairs_off if there(*p)),
        "rules": tuple(r for r in s.rules if r.figure in ids),
    }
    return s.changed(**(kept | values))


def without_figure(s: Scene, figure_id: str) -> Scene:
    """The scene without a figure, and without what refers to it."""
    s.figure(figure_id)
    return pruned(s, figures=tuple(f for f in s.figures if f.id != figure_id))


def joints(s: Scene, figure_id: str, ids: set[str], change: Callable[[Joint], Joint]) -> Scene:
    """Change several joints of a figure by a function; ids are joint ids."""
    f = s.figure(figure_id)
    return figure(s, figure_id, joints=tuple(change(j) if j.id in ids else j for j in f.joints))


def group(s: Scene, figure_id: str, group_id: str, **values: object) -> Scene:
    """Replace fields of one group."""
    f = s.figure(figure_id)
    changed = replace(f.groups, group_id, lambda g: g.changed(**values))
    return figure(s, figure_id, groups=changed)


def without_link(s: Scene, link_id: str) -> Scene:
    """Take a tie, weld or pin away."""
    return scene(s, links=tuple(x for x in s.links if x.id != link_id))


def begin_group(s: Scene, figure_id: str, group_id: str, bone: str) -> Scene:
    """Let a group begin at another bone, and be called after it."""
    return group(s, figure_id, group_id, start_bone=bone, name=f"from {bone} down")


def fresh_id(stem: str, taken: set[str]) -> str:
    """``stem``, or the stem with the first free number behind it."""
    return Names(taken).fresh(stem)


class Names:
    """Names that are taken; a fresh one is found in constant time, however many are alike."""

    def __init__(self, taken: Iterable[str] = ()):
        self._taken = set(taken)
        self._next: dict[str, int] = {}

    def fresh(self, stem: str) -> str:
        """``stem``, or the stem with the first free number behind it; it is taken from now on."""
        name, n = stem, self._next.get(stem, 2)
        while name in self._taken:
            name, n = f"{stem} {n}", n + 1
        self._next[stem] = n
        self._taken.add(name)
        return name


def usual_interval(s: Scene) -> tuple[float, float]:
    """First and last frame of an interval of physics where none is given: the middle of the range, with room to come back."""
    third = (s.end - s.start) // 3
    return float(s.start + third), float(s.end - third // 2)


def usual_ramp(start: float, end: float) -> float:
    """Frames over which an interval comes back to the keys: half a second of film, a third of a short one."""
    return min(12.0, (end - start) / 3.0)


def interval_lane(start: float, end: float, ramp_in: float, ramp_out: float) -> Lane:
    """Handover 0 up to ``start``, 1 after the ramp, back to 0 at ``end``. Frames."""
    ramp_in, ramp_out = max(ramp_in, 0.0), max(ramp_out, 0.0)
    top_a = min(start + ramp_in, end)
    top_b = max(end - ramp_out, top_a)
    frames = [(start, 0.0), (top_a, 1.0), (top_b, 1.0), (end, 0.0)]
    return Lane(keys=tuple(Key(frame=f, value=v) for f, v in frames))


def keyed_lane(lane: Lane, frame: float, value: float) -> Lane:
    """The lane with a key at a frame; one that is there already is replaced."""
    return Lane(keys=with_key(lane.keys, Key(frame=frame, value=value)), rest=lane.rest)


def lane_value(lane: Lane, frame: float, value: float) -> Lane:
    """The lane with another value at a frame: a key where it has keys, else throughout."""
    return keyed_lane(lane, frame, value) if lane.keys else Lane(rest=value)


def springy(s: Scene, figure_id: str, bone: str, spring: Spring) -> Scene:
    """The scene with a springy group for a bone and all below: through the whole range and past it, so that it does not end on its keys within the last frame;
    a group that is there and is handed over at any time keeps its lane.
    """
    f = s.figure(figure_id)
    same = next((g for g in f.groups if g.begins_at(bone)), None)
    if same is not None:
        acts = any(k.value > 0.0 for k in same.handover.keys) or (not same.handover.keys and same.handover.rest > 0.0)
        return group(s, figure_id, same.id, spring=spring, handover=same.handover if acts else Lane(rest=1.0))
    new = Group(
        id=fresh_id("group", {g.id for g in f.groups}), name=f"from {bone} down", start_bone=bone, handover=Lane(rest=1.0), spring=spring,
    )  # fmt: skip
    return figure(s, figure_id, groups=(*f.groups, new))


def vector_at(lane: VectorLane, frame: float, value: tuple[float, float, float]) -> VectorLane:
    """The vector lane with a key at a frame."""
    return VectorLane(keys=with_key(lane.keys, VectorKey(frame=frame, value=value)))


def motion_key(s: Scene, figure_id: str, key: MotionKey) -> Scene:
    """The scene with a figure's place keyed at a frame."""
    return figure(s, figure_id, track=s.figure(figure_id).track.keyed(key))


def place(s: Scene, figure_id: str, key: MotionKey) -> Scene:
    """Key a figure's place; one with a single key stands still and is moved as a whole."""
    track = s.figure(figure_id).track
    if len(track.frames) == 1:
        return figure(s, figure_id, track=Track.of((key.changed(frame=track.frames[0]),)))
    return motion_key(s, figure_id, key)


def add_figure(s: Scene, new: Figure) -> Scene:
    """Add a figure."""
    return scene(s, figures=(*s.figures, new))


def hand_over(
    s: Scene,
    figure_id: str,
    start_bone: str | None,
    start: float,
    end: float,
    ramp_in: float = 0.0,
    ramp_out: float = 12.0,
    tone: float = 0.0,
) -> Scene:
    """Add a group for ``start_bone`` and all below (or change the one there is) and give it an interval."""
    f = s.figure(figure_id)
    lane = interval_lane(start, end, ramp_in, ramp_out)
    same = next((g for g in f.groups if g.begins_at(start_bone)), None)
    if same is not None:
        return group(s, figure_id, same.id, handover=lane, tone=Lane(rest=tone))
    new = Group(
        id=fresh_id("group", {g.id for g in f.groups}),
        name=f"from {start_bone} down" if start_bone else "whole figure",
        start_bone=start_bone,
        handover=lane,
        tone=Lane(rest=tone),
    )
    return figure(s, figure_id, groups=(*f.groups, new))
