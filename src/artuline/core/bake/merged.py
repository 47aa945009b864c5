"""Clip and layers as one clip for delivery: the keys as they are outside of the layers, the layers inside."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Channel, Clip
from artuline.core.motion.keyed import keyed_pose, load_clip
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Layer, Scene


def merged_clip(scene: Scene, assets: AssetStore, figure: Figure) -> Clip:
    """The figure's motion over the scene's range, starting at time 0.

    Bones with a layer of full weight get cubic curves: the clip sampled on every frame outside of the layer,
    the layer's own keys inside. Everything else is sampled on every frame.
    """
    frames = np.arange(scene.start, scene.end + 1, dtype=float)
    pose = keyed_pose(scene, assets, figure, frames)
    times = (frames - scene.start) / scene.rate
    spans = _layered(figure, assets)
    channels = []
    index = figure.bone_index
    moving = {(c.bone, c.path) for ref in [figure.active_clip()] if ref for c in load_clip(assets, ref.asset).channels}
    for bone, path in sorted(moving | set(spans), key=lambda k: (index[k[0]], k[1])):
        values = getattr(pose, path)[:, index[bone]]
        if path == "rotation":
            values = rotation.make_continuous(values)
        if (bone, path) in spans:
            layer, channel = spans[bone, path]
            channels.append(_joined(scene, layer, channel, frames, values))
        else:
            channels.append(Channel(bone, path, "LINEAR", times, values))  # type: ignore[arg-type]
    return Clip(tuple(channels))


def _layered(figure: Figure, assets: AssetStore) -> dict[tuple[str, str], tuple[Layer, Channel]]:
    """The one layer that rules a channel, if it is alone there and has full weight."""
    found: dict[tuple[str, str], tuple[Layer, Channel] | None] = {}
    for layer in figure.layers:
        for c in load_clip(assets, layer.asset).channels:
            alone = (c.bone, c.path) not in found and layer.weight == 1.0 and c.interpolation == "CUBICSPLINE"
            found[c.bone, c.path] = (layer, c) if alone else None
    return {key: value for key, value in found.items() if value is not None}


def _joined(scene: Scene, layer: Layer, channel: Channel, frames: Array, values: Array) -> Channel:
    """Straight pieces outside the layer, its own keys inside; the seam's keys have a slope for each side."""
    rate = scene.rate
    slope = np.diff(values, axis=0) * rate
    before, after = frames <= layer.start, frames >= layer.end
    rows: list[tuple[float, Array, Array, Array]] = []
    for i in map(int, np.flatnonzero(before)):
        rows.append((frames[i], slope[max(i - 1, 0)], values[i], slope[min(i, len(slope) - 1)]))
    inner = [(t * rate, *v) for t, v in zip(channel.times, channel.values)]
    inner = [k for k in inner if frames[0] - 1e-6 <= k[0] <= frames[-1] + 1e-6]
    sign = 1.0
    if rows and inner:
        if channel.path == "rotation" and float(rows[-1][2] @ inner[0][2]) < 0:
            sign = -1.0
        first = inner.pop(0)
        rows[-1] = (rows[-1][0], rows[-1][1], rows[-1][2], sign * first[3])
    rows += [(f, sign * a, sign * b, sign * c) for f, a, b, c in inner]
    for n, i in enumerate(map(int, np.flatnonzero(after))):
        into, out = slope[max(i - 1, 0)], slope[min(i, len(slope) - 1)]
        flip = 1.0
        if channel.path == "rotation" and rows and float(rows[-1][2] @ values[i]) < 0:
            flip = -1.0
        if n == 0 and rows and abs(rows[-1][0] - frames[i]) < 1e-6:
            rows[-1] = (rows[-1][0], rows[-1][1], rows[-1][2], flip * out)
        else:
            rows.append((frames[i], flip * into, flip * values[i], flip * out))
    times = np.array([(r[0] - scene.start) / rate for r in rows])
    return Channel(channel.bone, channel.path, "CUBICSPLINE", times, np.array([r[1:] for r in rows]))
