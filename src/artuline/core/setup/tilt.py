"""Another axis upwards: a figure with all its motion, tipped by a quarter turn about its x axis."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import load_clip
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene

#: From z upwards to y upwards.
Z_UP = rotation.from_rotation_vector(np.array([-0.5 * np.pi, 0.0, 0.0]))


def tipped(scene: Scene, assets: AssetStore, figure_id: str, turn: Array = Z_UP) -> Scene:
    """The scene with a figure turned (4,) about the origin of its file: its topmost bones at rest, and whatever moves them."""
    figure = scene.figure(figure_id)
    tops = {b.name for b in figure.bones if b.parent is None} | {n for x in figure.goals for n in x.curves}
    bones = tuple(
        b.changed(
            translation=tuple(rotation.rotate(turn, np.array(b.translation))),
            rotation=tuple(rotation.normalize(rotation.multiply(turn, np.array(b.rotation)))),
        )
        if b.parent is None else b
        for b in figure.bones
    )  # fmt: skip

    def turned(asset: str, adds: bool = False) -> str:
        return assets.add(
            Clip(
                tuple(_turned(c, turn, adds) if c.bone in tops else c for c in load_clip(assets, asset).channels)
            ).to_arrays()
        )

    clips = tuple(c.changed(asset=turned(c.asset)) for c in figure.clips)
    layers = tuple(
        x.changed(asset=turned(x.asset, x.mode == "add"), baked=turned(x.baked, x.mode == "add") if x.baked else None)
        for x in figure.layers
    )
    return edit.figure(scene, figure_id, bones=bones, clips=clips, layers=layers)


def _turned(c: Channel, turn: Array, adds: bool) -> Channel:
    """A channel of a topmost bone, turned. Of a layer that adds, rotations are in the bone's own frame and stay."""
    if c.path == "translation":
        values = rotation.rotate(turn, np.asarray(c.values, float))
    elif c.path == "rotation" and not adds:
        values = rotation.multiply(turn, np.asarray(c.values, float))
    else:
        return c
    return Channel(c.bone, c.path, c.interpolation, c.times, values, c.holds)


def lies(figure: Figure, rest: Array) -> bool:
    """Whether a figure whose bones rest at places (B, 3) is longer from front to back than it is tall and wide: as if another axis were upwards."""
    size = np.ptp(rest, axis=0)
    return len(figure.bones) > 1 and bool(size[2] > 1.6 * size[1] and size[2] > size[0])
