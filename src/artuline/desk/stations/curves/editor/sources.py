"""What the editor of keys may work on: a layer of a figure, one of its clips, or its lanes and place with those of the world."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Protocol

from artuline.core.bake import layer_keys
from artuline.core.bake.lane_keys import (
    GRAVITY,
    GROUP_LANES,
    PLACE,
    TURN,
    WIND,
    lane_channels,
    lanes_of,
    with_lane_channels,
)
from artuline.core.bake.layer_keys import Name
from artuline.core.geometry.curve import Channel
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import load_clip
from artuline.core.motion.keys import cubic
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Layer, Scene

LANES = "lanes"
Channels = Mapping[Name, Channel]


@dataclass(frozen=True)
class PathWords:
    """How a kind of curve is called, its unit, and what its values are drawn by."""

    words: str
    unit: str
    scale: float = 1.0


PATHS = {
    "rotation": PathWords("turn", "°"), "translation": PathWords("place", "cm", 100.0), "scale": PathWords("scale", ""),
    "gravity": PathWords("gravity", "m/s²"), "wind": PathWords("wind", "m/s"), **{kind: PathWords(kind, "") for kind in GROUP_LANES},
}  # fmt: skip


class Source(Protocol):
    """Curves of a scene. ``id`` tells sources of one figure apart."""

    @property
    def figure(self) -> str:
        """Whose it is."""

    @property
    def id(self) -> str:
        """Which of its figure's it is."""

    def stamp(self, scene: Scene) -> object:
        """Changes when its curves do."""

    def channels(self, scene: Scene, assets: AssetStore) -> dict[Name, Channel]:
        """All of them, cubic, in seconds of the scene, in the order in which they are shown."""

    def put(self, assets: AssetStore, changed: Channels) -> Callable[[Scene], Scene]:
        """The change of a scene that puts other channels in their place."""


def _in_order(figure: Figure, found: Channels) -> dict[Name, Channel]:
    place = {name: k for k, name in enumerate(figure.curve_names)}
    return dict(sorted(found.items(), key=lambda i: (place[i[0][0]], i[0][1])))


@dataclass(frozen=True)
class LayerSource:
    """The keys of a layer."""

    figure: str
    layer: str

    @property
    def id(self) -> str:
        """Which of its figure's it is."""
        return f"layer {self.layer}"

    def _layer(self, scene: Scene) -> Layer:
        return layer_keys.layer_of(scene.figure(self.figure), self.layer)

    def stamp(self, scene: Scene) -> object:
        """Changes when its curves do."""
        return self._layer(scene).asset

    def channels(self, scene: Scene, assets: AssetStore) -> dict[Name, Channel]:
        """All of them."""
        return _in_order(scene.figure(self.figure), layer_keys.layer_channels(assets, self._layer(scene)))

    def put(self, assets: AssetStore, changed: Channels) -> Callable[[Scene], Scene]:
        """The change of a scene."""
        return lambda s: layer_keys.with_channels(s, assets, self.figure, self.layer, changed)


@dataclass(frozen=True)
class ClipSource:
    """The keys of a clip, where the figure plays it."""

    figure: str
    clip: str

    @property
    def id(self) -> str:
        """Which of its figure's it is."""
        return f"clip {self.clip}"

    def stamp(self, scene: Scene) -> object:
        """Changes when its curves do."""
        f = scene.figure(self.figure)
        return next(c.asset for c in f.clips if c.name == self.clip), f.clip_start, scene.rate

    def channels(self, scene: Scene, assets: AssetStore) -> dict[Name, Channel]:
        """All of them."""
        f = scene.figure(self.figure)
        clip = load_clip(assets, next(c.asset for c in f.clips if c.name == self.clip))
        begin = f.clip_start / scene.rate
        return _in_order(f, {(c.bone, c.path): replace(cubic(c), times=c.times + begin) for c in clip.channels})

    def put(self, assets: AssetStore, changed: Channels) -> Callable[[Scene], Scene]:
        """The change of a scene: the clip has no other length than before."""

        def change(s: Scene) -> Scene:
            f = s.figure(self.figure)
            ref = next(c for c in f.clips if c.name == self.clip)
            begin = f.clip_start / s.rate
            kept = {(c.bone, c.path): c for c in load_clip(assets, ref.asset).channels}
            kept |= {n: replace(c, times=c.times - begin) for n, c in changed.items()}
            asset = assets.add(Clip(tuple(kept[k] for k in sorted(kept))).to_arrays())
            clips = tuple(c.changed(asset=asset) if c.name == self.clip else c for c in f.clips)
            return edit.figure(s, self.figure, clips=clips)

        return change


@dataclass(frozen=True)
class LaneSource:
    """The lanes of a figure's groups, its place, gravity and wind, as far as they have keys."""

    figure: str
    id: str = LANES

    def stamp(self, scene: Scene) -> object:
        """Changes when its curves do."""
        return lanes_of(scene, scene.figure(self.figure)), scene.rate

    def channels(self, scene: Scene, assets: AssetStore) -> dict[Name, Channel]:
        """All of them."""
        return lane_channels(scene, scene.figure(self.figure))

    def put(self, assets: AssetStore, changed: Channels) -> Callable[[Scene], Scene]:
        """The change of a scene."""
        return lambda s: with_lane_channels(s, self.figure, changed)


def sources_of(scene: Scene, figure: Figure | None, obstacle: Figure | None) -> list[tuple[str, Source]]:
    """What there is to edit, with words for it: of the present figure, and the place of an obstacle in hand."""
    found: list[tuple[str, Source]] = []
    if figure is not None:
        found += [(x.name, LayerSource(figure.id, x.id)) for x in figure.layers if x.kind == "baked"]
    whose = obstacle or figure
    if whose is not None and lanes_of(scene, whose):
        found.append(("Place and world" if whose.obstacle else "Lanes and place", LaneSource(whose.id)))
    if figure is not None and figure.clip is not None:
        found.append((f"Clip {figure.clip}", ClipSource(figure.id, figure.clip)))
    return found


def words_of(name: Name, figure: Figure | None) -> str:
    """How a curve is called in the list."""
    owner, path = name
    words = PATHS[path].words
    if name in (PLACE, TURN, GRAVITY, WIND):
        return words
    group = next((g.name for g in figure.groups if g.id == owner), None) if path in GROUP_LANES and figure else None
    if group is not None:
        return f"{words}: {group}"
    return owner if path == "rotation" else f"{owner} {words}"
