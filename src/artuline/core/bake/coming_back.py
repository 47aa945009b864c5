"""Keys that were changed elsewhere come back onto their figure, as a layer."""

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry.curve import Channel
from artuline.core.motion.clip import Clip
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Layer, Scene


def come_back(scene: Scene, assets: AssetStore, figure_id: str, clip: Clip, name: str) -> tuple[Scene, tuple[str, ...]]:
    """The scene with a clip that begins at the scene's start as a figure's topmost layer, and the bones that the figure does not have, whose keys are left out.

    Raises ArtulineError if it has none of them.
    """
    figure = scene.figure(figure_id)
    kept = [c for c in clip.channels if c.bone in figure.curve_names]
    missing = tuple(sorted({c.bone for c in clip.channels} - set(figure.curve_names)))
    if not kept:
        raise ArtulineError(
            f"{figure.name} has none of the bones that the keys are of",
            remedy=f"Choose the figure that has {missing[0]}." if missing else "Choose a file with keys.",
        )
    shift = scene.start / scene.rate
    channels = [Channel(c.bone, c.path, c.interpolation, np.asarray(c.times) + shift, c.values, c.holds) for c in kept]
    first = min(float(c.times[0]) for c in channels) * scene.rate
    last = max(float(c.times[-1]) for c in channels) * scene.rate
    layer = Layer(
        id=edit.fresh_id("layer", {x.id for x in figure.layers}), name=name, asset=assets.add(Clip(tuple(channels)).to_arrays()),
        start=int(np.floor(first + 1e-6)), end=int(np.ceil(last - 1e-6)),
    )  # fmt: skip
    return edit.figure(scene, figure_id, layers=(*figure.layers, layer)), missing
