"""What the editor of keys works on: which curves, which of them are shown, which keys are picked, and the edits of them."""

from collections.abc import Callable, Mapping

import numpy as np
from PySide6.QtCore import QObject, Signal

from artuline.core.bake.layer_keys import Name
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.euler import Order
from artuline.core.geometry.rotation import Array
from artuline.core.motion.goals import curve_of
from artuline.core.motion.keys import Curves, channel_of, curves_of, drawn, order_of
from artuline.core.scene.model import Figure, Layer, Scene
from artuline.desk.desk import Desk
from artuline.desk.stations.curves.editor.sources import PATHS, LaneSource, LayerSource, Source, sources_of

FINE, COARSE = 0.25, 1.0  # frames between two points of a line, and where many are drawn
MANY = 120  # curves

#: What an edit makes of a channel's curves and its picked keys (K, 3): new curves, and which rows their keys were.
Edit = Callable[[Curves, np.ndarray], tuple[Curves, np.ndarray]]


AXES = "xyz"
#: In what the curves of lanes of one number are told apart from each other, as the axes of others are.
SLOTS = {"handover": 0, "tone": 1, "calm": 2, "steadiness": 3}


class Editing(QObject):
    """Belongs to the station; knows no widgets. ``picked``: by channel, which keys (K, D)."""

    #: Curves have changed, or others are shown.
    changed = Signal()
    picked_changed = Signal()

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.session = desk, desk.session
        self.picked: dict[Name, np.ndarray] = {}
        self.chosen: frozenset[tuple[str, str, int]] = frozenset()  # bone, path, axis that were chosen in the tree
        self.copied: dict[Name, Channel] = {}
        self._source: dict[str, str] = {}
        self._known: dict[int, tuple[Channel, Order, Curves]] = {}
        self._drawn: dict[tuple[int, float], tuple[Channel, Array, Array]] = {}
        self._channels: tuple[object, dict[Name, Channel]] = (None, {})
        for signal in (self.session.scene_changed, self.session.previewed, self.session.selection_changed):
            signal.connect(self._follow)
        self.session.leaving.connect(self._leave)

    def _leave(self) -> None:
        self.picked, self.chosen, self._source = {}, frozenset(), {}
        self._known, self._drawn, self._channels = {}, {}, (None, {})

    def _follow(self) -> None:
        """Picks of keys that are gone are gone."""
        channels = self.channels()
        kept = {n: p for n, p in self.picked.items() if n in channels and len(p) == len(channels[n].times)}
        if len(kept) != len(self.picked):
            self.picked = kept
        self.changed.emit()

    # what is there

    def figure(self) -> Figure | None:
        """The present figure."""
        return self.session.figure()

    def sources(self) -> list[tuple[str, Source]]:
        """What there is to edit, with words for it; the topmost layer first."""
        found = sources_of(self.session.scene, self.figure(), self.session.obstacle())
        layers = [x for x in found if isinstance(x[1], LayerSource)]
        return [*reversed(layers), *(x for x in found if x not in layers)]

    def source(self) -> Source | None:
        """What is edited: what was chosen, else the first there is; the place of an obstacle in hand before all."""
        f, obstacle, found = self.figure(), self.session.obstacle(), [x for _, x in self.sources()]
        if obstacle is not None:
            return next((x for x in found if x.figure == obstacle.id), None)
        chosen = self._source.get(f.id) if f is not None else None
        return next((x for x in found if x.id == chosen), next(iter(found), None))

    def set_source(self, source: str) -> None:
        """Edit something else of the present figure."""
        f = self.figure()
        if f is not None:
            self._source[f.id] = source
            self.picked, self.chosen = {}, frozenset()
            self.changed.emit()

    def layer(self) -> Layer | None:
        """The layer that is edited, if one is; else the topmost of baked keys."""
        f, source = self.figure(), self.source()
        baked = [x for x in f.layers if x.kind == "baked"] if f is not None else []
        edited = source.layer if isinstance(source, LayerSource) else None
        return next((x for x in baked if x.id == edited), baked[-1] if baked else None)

    def on_layer(self) -> bool:
        """Whether the curves of a layer are edited."""
        return isinstance(self.source(), LayerSource)

    def on_lanes(self) -> bool:
        """Whether lanes and places are edited, and no curves of bones."""
        return isinstance(self.source(), LaneSource)

    def set_layer(self, layer: str) -> None:
        """Edit another layer of the present figure."""
        f = self.figure()
        if f is not None:
            self.set_source(LayerSource(f.id, layer).id)

    def channels(self) -> dict[Name, Channel]:
        """All channels of what is edited, in the order of the bones."""
        source, scene = self.source(), self.session.scene
        if source is None:
            return {}
        stamp = source, source.stamp(scene)
        if self._channels[0] != stamp:
            found = source.channels(scene, self.session.assets)
            old = self._channels[1]
            # what is the same stays the same object, so that its line need not be made anew
            self._channels = stamp, {n: old[n] if n in old and _same(old[n], c) else c for n, c in found.items()}
        return self._channels[1]

    def shown(self) -> dict[Name, Channel]:
        """The channels that are drawn: those chosen in the tree, else those of the chosen bones, else all."""
        channels = self.channels()
        if self.chosen:
            names = {(b, p) for b, p, _ in self.chosen}
            found = {n: c for n, c in channels.items() if n in names}
            if found:
                return found
        if self.on_lanes():
            # of one thing, since units differ
            first = next(iter(channels), ("", ""))[0]
            return {n: c for n, c in channels.items() if n[0] == first}
        bones, f = self.session.chosen(), self.figure()
        found = {n: c for n, c in channels.items() if f is not None and f.curve_names.get(n[0]) in bones}
        return found or channels

    def width(self, name: Name) -> int:
        """How many curves a channel has: of one number, or of three."""
        return 1 if name[1] in SLOTS else 3

    def slot(self, name: Name, axis: int) -> int:
        """By which of the kinds of lines one of a channel's curves is drawn."""
        return axis + SLOTS.get(name[1], 0)

    def axes(self, name: Name) -> tuple[int, ...]:
        """Which of a channel's curves are drawn."""
        axes = tuple(sorted(a for b, p, a in self.chosen if (b, p) == name))
        return axes or tuple(range(self.width(name)))

    def scale(self, path: str) -> float:
        """What the values of a kind of curves are drawn by: places in centimetres."""
        f = self.figure()
        unit = f.unit if path == "translation" and f is not None and not self.on_lanes() else 1.0
        return PATHS[path].scale * unit

    def order(self, name: Name) -> Order:
        """The order in which a channel of rotations is turned."""
        f, channel = self.figure(), self.channels()[name]
        about = f.curve_names.get(name[0]) if f is not None else None
        return self._entry(channel, f.bones[f.bone_index[about]].order if f is not None and about else None)[1]

    def _entry(self, channel: Channel, chosen: Order | None) -> tuple[Channel, Order, Curves]:
        entry = self._known.get(id(channel))
        if entry is None or (chosen is not None and entry[1] != chosen):
            before = next(
                (e for e in self._known.values() if (e[0].bone, e[0].path) == (channel.bone, channel.path)), None
            )
            # while keys move, the angles stay of the kind that they were
            order = chosen or (before[1] if before is not None and before[0].path == "rotation" else order_of(channel))
            if len(self._known) > 4096:
                self._known.clear()
                self._drawn.clear()
            entry = self._known[id(channel)] = channel, order, curves_of(channel, order, self.scale(channel.path))
        return entry

    def curves(self, name: Name) -> Curves:
        """A channel's curves."""
        self.order(name)
        return self._known[id(self.channels()[name])][2]

    def line(self, name: Name, many: bool) -> tuple[Array, Array]:
        """Frames (N,) and values (N, 3) of a channel's curves as they are drawn."""
        channel, rate, step = self.channels()[name], self.session.scene.rate, COARSE if many else FINE
        known = self._drawn.get((id(channel), step))
        if known is None or known[0] is not channel:
            first, last = channel.times[0] * rate, channel.times[-1] * rate
            frames = np.union1d(np.arange(first, last + 1e-6, step), channel.times * rate)
            values = drawn(channel, self.order(name), frames / rate, self.scale(channel.path))
            if name[1] in SLOTS:
                # what acts, however far slopes lead beyond
                values = np.clip(values, 0.0, 1.0)
            # of the same whole turns as the keys
            if channel.path == "rotation":
                values = values + 360.0 * np.round((self.curves(name).values[0] - values[0]) / 360.0)
            known = self._drawn[id(channel), step] = channel, frames, values
        return known[1], known[2]

    def behind(self, name: Name) -> tuple[Array, Array] | None:
        """The same of the take, as far as it is there: what the keys were fitted to."""
        f, take, rate = self.figure(), self.session.take(), self.session.scene.rate
        if f is None or take is None or f.id not in take.poses or name[0] not in f.curve_names or not self.on_layer():
            return None
        channel = self.channels()[name]
        inside = (take.frames >= channel.times[0] * rate - 1e-6) & (take.frames <= channel.times[-1] * rate + 1e-6)
        if not inside.any():
            return None
        values = curve_of(f, take.poses[f.id], name)[inside]
        made = Channel(name[0], channel.path, "LINEAR", take.frames[inside] / rate, values)
        seen = drawn(made, self.order(name), made.times, self.scale(channel.path))
        if channel.path == "rotation":
            seen = seen + 360.0 * np.round((self.curves(name).values[0] - seen[0]) / 360.0)
        return take.frames[inside].astype(float), seen

    # picking

    def pick(self, picked: Mapping[Name, np.ndarray], add: bool = False) -> None:
        """Pick keys (K, D) by channel; ``add``: besides those that are picked."""
        made = {n: np.array(p) for n, p in picked.items() if p.any()}
        if add:
            for n, p in self.picked.items():
                made[n] = made[n] | p if n in made else p
        self.picked = made
        self.picked_changed.emit()

    def pick_all(self) -> None:
        """Pick all keys that are shown."""
        self.pick({n: self._all(n) for n in self.shown()})

    def _all(self, name: Name) -> np.ndarray:
        found = np.zeros((len(self.channels()[name].times), self.width(name)), bool)
        found[:, list(self.axes(name))] = True
        return found

    def count(self) -> int:
        """How many values of keys are picked."""
        return int(sum(p.sum() for p in self.picked.values()))

    def span(self) -> tuple[float, float, float, float] | None:
        """First and last frame, least and greatest value of what is picked."""
        rate = self.session.scene.rate
        frames, values = [], []
        for n, p in self.picked.items():
            c = self.curves(n)
            frames.append(c.times[p.any(axis=1)] * rate)
            values.append(c.values[p])
        if not frames:
            return None
        f, v = np.concatenate(frames), np.concatenate(values)
        return float(f.min()), float(f.max()), float(v.min()), float(v.max())

    # edits

    def made(
        self, edit: Edit, picked: Mapping[Name, np.ndarray] | None = None, before: Mapping[Name, Channel] | None = None
    ) -> tuple[dict[Name, Channel], dict[Name, np.ndarray]]:
        """What an edit makes of channels whose keys are picked, and which keys are then picked; ``before``: of what they were."""
        channels, picks = {}, {}
        for n, p in (self.picked if picked is None else picked).items():
            old, order = self.channels()[n] if before is None else before[n], self.order(n)
            scale = self.scale(old.path)
            new, rows = edit(curves_of(old, order, scale), p)
            channels[n], picks[n] = channel_of(old, new, order, scale), p[rows]
        return channels, picks

    def put(self, words: str, channels: Mapping[Name, Channel], picks: Mapping[Name, np.ndarray] | None = None) -> bool:
        """Put channels in, as one edit."""
        change = self.change(channels)
        if change is None or not self.session.edit(words, change):
            return False
        self.pick(self.picked if picks is None else picks)
        return True

    def change(self, channels: Mapping[Name, Channel]) -> Callable[[Scene], Scene] | None:
        """The change of the scene that puts channels in."""
        source = self.source()
        return source.put(self.session.assets, channels) if source is not None else None

    def apply(self, words: str, edit: Edit) -> bool:
        """Edit the picked keys; False if there are none, or it cannot be done."""
        if not self.picked:
            return False
        channels, picks = self.made(edit)
        return self.put(words, channels, picks)


def _same(a: Channel, b: Channel) -> bool:
    alike = (
        a.interpolation == b.interpolation and np.array_equal(a.times, b.times) and np.array_equal(a.values, b.values)
    )
    return alike and all(
        np.array_equal(x if x is not None else [], y if y is not None else [])
        for x, y in ((a.holds, b.holds), (a.lines, b.lines))
    )
