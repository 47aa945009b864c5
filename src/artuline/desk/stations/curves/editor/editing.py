"""What the editor of keys works on: a layer's curves, which are shown, which keys are picked, and the edits of them."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QObject, Signal

from artuline.core.bake import layer_keys
from artuline.core.bake.layer_keys import Name
from artuline.core.geometry.euler import Order
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Channel
from artuline.core.motion.goals import curve_of
from artuline.core.motion.keys import Curves, channel_of, curves_of, drawn, order_of
from artuline.core.scene.model import Figure, Layer, Scene
from artuline.desk.desk import Desk

FINE, COARSE = 0.25, 1.0  # frames between two points of a line, and where many are drawn
MANY = 120  # curves

#: What an edit makes of a channel's curves and its picked keys (K, 3): new curves, and which rows their keys were.
Edit = Callable[[Curves, np.ndarray], tuple[Curves, np.ndarray]]


@dataclass(frozen=True)
class PathWords:
    """How a kind of curve is called, and its unit."""

    words: str
    unit: str


PATHS = {"rotation": PathWords("turn", "°"), "translation": PathWords("place", "cm"), "scale": PathWords("scale", "")}
AXES = "xyz"


class Editing(QObject):
    """Belongs to the station; knows no widgets. ``picked``: by channel, which keys (K, 3)."""

    #: Curves have changed, or others are shown.
    changed = Signal()
    picked_changed = Signal()

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.session = desk, desk.session
        self.picked: dict[Name, np.ndarray] = {}
        self.chosen: frozenset[tuple[str, str, int]] = frozenset()  # bone, path, axis that were chosen in the tree
        self.copied: dict[Name, Channel] = {}
        self._layer: dict[str, str] = {}
        self._known: dict[int, tuple[Channel, Order, Curves]] = {}
        self._drawn: dict[tuple[int, float], tuple[Channel, Array, Array]] = {}
        self._channels: tuple[str, dict[Name, Channel]] = ("", {})
        for signal in (self.session.scene_changed, self.session.previewed, self.session.selection_changed):
            signal.connect(self._follow)
        self.session.leaving.connect(self._leave)

    def _leave(self) -> None:
        self.picked, self.chosen, self._layer = {}, frozenset(), {}
        self._known, self._drawn, self._channels = {}, {}, ("", {})

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

    def layer(self) -> Layer | None:
        """The layer that is edited: the one that was chosen, else the topmost of baked keys."""
        f = self.figure()
        baked = [x for x in f.layers if x.kind == "baked"] if f is not None else []
        if f is None or not baked:
            return None
        return next((x for x in baked if x.id == self._layer.get(f.id)), baked[-1])

    def set_layer(self, layer: str) -> None:
        """Edit another layer of the present figure."""
        f = self.figure()
        if f is not None:
            self._layer[f.id] = layer
            self.picked = {}
            self.changed.emit()

    def channels(self) -> dict[Name, Channel]:
        """All channels of the layer, in the order of the bones."""
        layer, f = self.layer(), self.figure()
        if layer is None or f is None:
            return {}
        if self._channels[0] != layer.asset:
            found = layer_keys.layer_channels(self.session.assets, layer)
            old = self._channels[1]
            # what is the same stays the same object, so that its line need not be made anew
            found = {n: old[n] if n in old and _same(old[n], c) else c for n, c in found.items()}
            place = {name: k for k, name in enumerate(f.curve_names)}
            self._channels = layer.asset, dict(sorted(found.items(), key=lambda i: (place[i[0][0]], i[0][1])))
        return self._channels[1]

    def shown(self) -> dict[Name, Channel]:
        """The channels that are drawn: those chosen in the tree, else those of the chosen bones, else all."""
        channels = self.channels()
        if self.chosen:
            names = {(b, p) for b, p, _ in self.chosen}
            found = {n: c for n, c in channels.items() if n in names}
            if found:
                return found
        bones, f = self.session.chosen(), self.figure()
        found = {n: c for n, c in channels.items() if f is not None and f.curve_names.get(n[0]) in bones}
        return found or channels

    def axes(self, name: Name) -> tuple[int, ...]:
        """Which of a channel's three curves are drawn."""
        axes = tuple(sorted(a for b, p, a in self.chosen if (b, p) == name))
        return axes or (0, 1, 2)

    def scale(self, path: str) -> float:
        """What the values of a kind of curves are drawn by: places in centimetres."""
        f = self.figure()
        return 100.0 * f.unit if path == "translation" and f is not None else 1.0

    def order(self, name: Name) -> Order:
        """The order in which a channel of rotations is turned."""
        f, channel = self.figure(), self.channels()[name]
        assert f is not None
        return self._entry(channel, f.bones[f.bone_index[f.curve_names[name[0]]]].order)[1]

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
            # of the same whole turns as the keys
            if channel.path == "rotation":
                values = values + 360.0 * np.round((self.curves(name).values[0] - values[0]) / 360.0)
            known = self._drawn[id(channel), step] = channel, frames, values
        return known[1], known[2]

    def behind(self, name: Name) -> tuple[Array, Array] | None:
        """The same of the take, as far as it is there: what the keys were fitted to."""
        f, take, rate = self.figure(), self.session.take(), self.session.scene.rate
        if f is None or take is None or f.id not in take.poses or name[0] not in f.curve_names:
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
        """Pick keys (K, 3) by channel; ``add``: besides those that are picked."""
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
        found = np.zeros((len(self.channels()[name].times), 3), bool)
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
        """Put channels into the layer, as one edit."""
        change = self.change(channels)
        if change is None or not self.session.edit(words, change):
            return False
        self.pick(self.picked if picks is None else picks)
        return True

    def change(self, channels: Mapping[Name, Channel]) -> Callable[[Scene], Scene] | None:
        """The change of the scene that puts channels into the layer."""
        f, layer, assets = self.figure(), self.layer(), self.session.assets
        if f is None or layer is None:
            return None
        return lambda s: layer_keys.with_channels(s, assets, f.id, layer.id, channels)

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
    return alike and np.array_equal(a.holds if a.holds is not None else [], b.holds if b.holds is not None else [])
