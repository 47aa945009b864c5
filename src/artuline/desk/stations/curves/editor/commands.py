"""What can be done to keys: every one an action."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial

import numpy as np

from artuline.core.bake import layer_keys
from artuline.core.bake.layer_keys import Name
from artuline.core.geometry.curve import Channel
from artuline.core.motion.keys import (
    Curves,
    deleted,
    flattened,
    looped,
    moved,
    reversed_keys,
    smoothed,
    tangents,
)
from artuline.core.scene import edit
from artuline.desk.desk import Desk
from artuline.desk.model.actions import Action
from artuline.desk.stations.curves.editor.editing import Edit, Editing

MENU = "&Keys"
PATHS_OF_BONES = ("translation", "rotation", "scale")
TANGENTS = (
    ("smooth", "Smooth tangents", "chart-bell-curve-cumulative", "Slopes that pass smoothly through the picked keys"),
    ("flat", "Level tangents", "minus", "Slopes of zero at the picked keys"),
    ("linear", "Straight tangents", "vector-line", "Straight ways to the keys on both sides"),
    ("stepped", "Hold the value", "stairs", "The value of the picked keys stays until the next key"),
    ("joined", "Join the tangents", "link-variant", "One slope on both sides of the picked keys; drag a handle with Shift to part them"),
)  # fmt: skip


class KeyCommands:
    """Acts on the picked keys, or on all that are shown where none are picked."""

    def __init__(self, desk: Desk, editing: Editing, insert: Callable[[float], None]):
        self.desk, self.editing, self._insert = desk, editing, insert
        self.bound = 0.5

    def actions(self) -> Sequence[Action]:
        """For the menu Keys."""
        picked, some, bones = self._needs_picked, self._needs_layer, self._needs_bones

        def act(
            id_: str,
            words: str,
            do: Callable[[], object],
            keys: str,
            icon: str,
            tip: str,
            why: Callable[[], str],
            line: bool = False,
        ) -> Action:
            return Action(f"keys {id_}", words, do, keys, icon, MENU, tip, why, line=line)

        return (
            act("insert", "Insert keys", lambda: self._insert(self.desk.session.frame), "Alt+I", "plus",
                "Puts keys at the present frame into the curves that are shown; no shape changes", some),
            act("delete", "Delete keys", self.delete, "Alt+Del", "close", "Removes the picked keys and keeps the shape as well as it can", picked),
            act("all", "Pick all keys", self.editing.pick_all, "Alt+A", "select-all", "Picks every key that is shown", some),
            *(act(kind, words, partial(self.tangents, kind, words), "", icon, tip, picked, line=kind == "smooth") for kind, words, icon, tip in TANGENTS),
            act("smoothen", "Smooth the values", self.smoothen, "Alt+S", "blur", "Draws the picked values closer to their neighbours", picked, True),
            act("thin", "Thin out", self.thin, "Alt+T", "filter-outline", "Takes keys out of the shown curves, within the error that is set", bones),
            act("flatten", "Flatten", self.flatten, "", "format-vertical-align-center", "Puts the picked keys to their mean, level", picked),
            act("reverse", "Reverse", self.reverse, "", "swap-horizontal", "Turns the picked keys round in time", picked),
            act("loop", "Match the ends", self.loop, "", "repeat", "Lets the shown curves end as they begin, value and slope", some),
            act("copy", "Copy keys", self.copy, "Alt+C", "content-copy", "Remembers the picked keys", picked, True),
            act("paste", "Paste keys", self.paste, "Alt+V", "content-paste", "Puts the copied keys in at the present frame: on the chosen bone, or where they came from", self._needs_copy),
            act("mirror", "Mirror to the other side", self.mirror, "Alt+M", "reflect-horizontal", "Puts the shown curves, reflected, onto the bones of the other side", bones),
            act("back", "Back to the bake", self.back, "", "history", "The curves of the layer as they were before they were edited", self._needs_bake, True),
        )  # fmt: skip

    def _needs_layer(self) -> str:
        return "" if self.editing.channels() else "there are no keys yet: bake a take, or key a lane or a place."

    def _needs_bones(self) -> str:
        return self._needs_layer() or ("this is for curves of bones." if self.editing.on_lanes() else "")

    def _needs_picked(self) -> str:
        return self._needs_layer() or ("" if self.editing.picked else "pick keys in the curves first.")

    def _needs_copy(self) -> str:
        return self._needs_layer() or ("" if self.editing.copied else "copy keys first.")

    def _needs_bake(self) -> str:
        layer = self.editing.layer() if self.editing.on_layer() else None
        return self._needs_layer() or (
            "" if layer is not None and layer.baked else "it is for baked keys that were edited."
        )

    def _same(self, change: Callable[[Curves, np.ndarray], Curves]) -> Edit:
        return lambda c, p: (change(c, p), np.arange(len(c.times)))

    def delete(self) -> None:
        """Remove the picked keys; the curves keep a key at least."""

        def gone(c: Curves, p: np.ndarray) -> tuple[Curves, np.ndarray]:
            rows = np.array(p.any(axis=1))
            if rows.all():
                rows[0] = False
            return deleted(c, rows), np.flatnonzero(~rows)

        channels, _ = self.editing.made(gone)
        self.editing.put("Delete keys", channels, {})

    def tangents(self, kind: str, words: str) -> None:
        """Set the slopes of the picked keys."""
        self.editing.apply(words, self._same(lambda c, p: tangents(c, p, kind)))

    def smoothen(self) -> None:
        """Smooth the picked values a little."""
        self.editing.apply("Smooth the values", self._same(smoothed))

    def flatten(self) -> None:
        """Put the picked keys to their mean."""
        self.editing.apply("Flatten keys", self._same(flattened))

    def reverse(self) -> None:
        """Turn the picked keys round in time."""
        self.editing.apply("Reverse keys", reversed_keys)

    def loop(self) -> None:
        """Let the shown curves end as they begin."""
        shown = {n: np.ones((len(c.times), self.editing.width(n)), bool) for n, c in self.editing.shown().items()}
        channels, _ = self.editing.made(self._same(lambda c, p: looped(c)), shown)
        self.editing.put("Match the ends", channels)

    def thin(self) -> None:
        """Take keys out of the shown curves."""
        rate, before = self.desk.session.scene.rate, self.editing.shown()
        f = self.editing.figure()
        unit = f.unit if f is not None else 1.0
        channels = {
            n: layer_keys.thinned(c, rate, self.bound if c.path == "rotation" else 0.002 * self.bound / unit) for n, c in before.items()
        }  # fmt: skip
        if self.editing.put("Thin out", channels, {}):
            was, now = (sum(len(c.times) for c in x.values()) for x in (before, channels))
            self.desk.tell(f"{was} keys became {now}, within {self.bound:g}°.")

    def copy(self) -> None:
        """Remember the picked keys."""
        found = {}
        for n, p in self.editing.picked.items():
            c, rows = self.editing.channels()[n], np.flatnonzero(p.any(axis=1))
            held = c.holds[rows] if c.holds is not None else None
            found[n] = Channel(
                c.bone,
                c.path,
                c.interpolation,
                c.times[rows],
                c.values[rows],
                held,
                c.lines[rows] if c.lines is not None else None,
            )
        self.editing.copied = found
        self.desk.tell(f"{sum(len(c.times) for c in found.values())} keys of {len(found)} curves are copied.")
        self.desk.actions.refresh()

    def paste(self) -> None:
        """Put the copied keys in at the present frame."""
        copied, there = self.editing.copied, self.editing.channels()
        bones = self.desk.session.chosen()
        sources = {b for b, _ in copied}
        f = self.editing.figure()
        if f is None:
            return
        rate, frame = self.desk.session.scene.rate, round(self.desk.session.frame)
        first = min(float(c.times[0]) for c in copied.values())
        channels: dict[Name, Channel] = {}
        for (bone, path), c in copied.items():
            # keys of one bone go onto the chosen ones
            for target in bones if len(sources) == 1 and bones and not self.editing.on_lanes() else {bone}:
                # a lane that is there, or a bone, which may come to have keys by this
                if (
                    (target, path) in there
                    if self.editing.on_lanes()
                    else target in f.curve_names and path in PATHS_OF_BONES
                ):
                    at = frame + (float(c.times[0]) - first) * rate
                    channels[target, path] = layer_keys.pasted(c, rate, there.get((target, path)), target, at)
        if not channels:
            self.desk.fault(
                "Nothing here is what the keys are of: choose a bone to put them on, or what they were copied from."
            )
            return
        self.editing.put("Paste keys", channels, {})

    def mirror(self) -> None:
        """Put the shown curves onto the other side."""
        f = self.editing.figure()
        if f is not None:
            self.editing.put("Mirror the curves", layer_keys.mirrored(f, self.editing.shown()), {})

    def back(self) -> None:
        """The curves of the layer as they were baked."""
        f, layer = self.editing.figure(), self.editing.layer()
        if f is None or layer is None or layer.baked is None:
            return
        clip = layer_keys.layer_channels(self.desk.session.assets, layer.changed(asset=layer.baked))
        rate = self.desk.session.scene.rate
        first = min(c.times[0] for c in clip.values()) * rate
        last = max(c.times[-1] for c in clip.values()) * rate
        kept = layer.changed(asset=layer.baked, baked=None, start=round(first), end=round(last))
        self.desk.session.edit(
            "Back to the bake",
            lambda s: edit.figure(s, f.id, layers=edit.replace(s.figure(f.id).layers, layer.id, lambda _: kept)),
        )

    def set_frame(self, frame: float) -> None:
        """Put the picked keys, the first of them, to a frame."""
        span, rate = self.editing.span(), self.desk.session.scene.rate
        if span is not None:
            self.editing.apply("Move keys", lambda c, p: moved(c, p, (frame - span[0]) / rate, 0.0))

    def set_value(self, value: float) -> None:
        """Give the picked keys a value."""

        def put(c: Curves, p: np.ndarray) -> Curves:
            return replace(c, values=np.where(p, value, c.values))

        self.editing.apply("Set the value of keys", self._same(put))

    def shift_value(self, by: float) -> None:
        """Raise or lower the picked keys."""
        self.editing.apply("Offset keys", lambda c, p: moved(c, p, 0.0, by))
