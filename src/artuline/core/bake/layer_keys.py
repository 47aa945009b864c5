"""Edits of the keys of a layer: pure, from scene to scene."""

from collections.abc import Mapping

import numpy as np

from artuline.core.bake.hermite import Wish, fit
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import load_clip
from artuline.core.motion.keys import cubic
from artuline.core.motion.skeleton import placement, rest_matrices, rigid, skeleton_of
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Layer, Scene
from artuline.core.setup.mirror import mirror_pairs, mirror_plane

Name = tuple[str, str]  # of a channel: bone and path


def layer_of(figure: Figure, layer: str) -> Layer:
    """A layer by its id. Raises ArtulineError if it is gone."""
    found = next((x for x in figure.layers if x.id == layer), None)
    if found is None:
        raise ArtulineError(f"{figure.name} has no layer {layer!r} any more")
    return found


def layer_channels(assets: AssetStore, layer: Layer) -> dict[Name, Channel]:
    """The channels of a layer, as cubic ones."""
    return {(c.bone, c.path): cubic(c) for c in load_clip(assets, layer.asset).channels}


def with_channels(
    scene: Scene, assets: AssetStore, figure_id: str, layer_id: str, changed: Mapping[Name, Channel]
) -> Scene:
    """The scene with some channels of a layer replaced, or added; the layer is there for as long as its keys are."""
    figure = scene.figure(figure_id)
    layer = layer_of(figure, layer_id)
    kept = {(c.bone, c.path): c for c in load_clip(assets, layer.asset).channels} | dict(changed)
    unknown = [bone for bone, _ in kept if bone not in figure.curve_names]
    if unknown:
        raise ArtulineError(f"{figure.name} has no bone {unknown[0]!r}")
    times = np.concatenate([c.times for c in kept.values()])
    first, last = int(np.floor(times.min() * scene.rate + 1e-6)), int(np.ceil(times.max() * scene.rate - 1e-6))
    asset = assets.add(Clip(tuple(kept[k] for k in sorted(kept))).to_arrays())
    before = layer.baked or (layer.asset if layer.kind == "baked" else None)
    return _put(scene, figure, layer, asset=asset, start=first, end=last, baked=before)


def _put(scene: Scene, figure: Figure, layer: Layer, **values: object) -> Scene:
    return edit.figure(scene, figure.id, layers=edit.replace(figure.layers, layer.id, lambda x: x.changed(**values)))


def thinned(channel: Channel, rate: float, bound: float, corners: bool = True) -> Channel:
    """A cubic channel with as few keys on whole frames as keep it within a bound of what it is: degrees for rotations, else its own unit. Keys with two slopes stay so."""
    times = np.asarray(channel.times, float)
    first, last = round(times[0] * rate), round(times[-1] * rate)
    if last - first < 2:
        return channel
    frames = np.arange(first, last + 1)
    turning = channel.path == "rotation"
    samples = channel.sample(frames / rate)
    if turning:
        samples = rotation.make_continuous(samples)
    broken = np.linalg.norm(channel.values[:, 0] - channel.values[:, 2], axis=1) > 1e-3 * (
        1.0 + np.linalg.norm(channel.values[:, 0], axis=1)
    )
    at = frozenset(round(t * rate) - first for t in times[broken]) if corners else frozenset()
    keys = fit(samples, Wish(np.radians(bound) if turning else bound, turning, at))
    values = np.stack([keys.slope_in * rate, keys.values, keys.slope_out * rate], axis=1)
    return Channel(channel.bone, channel.path, "CUBICSPLINE", (first + keys.rows) / rate, values)


def mirrored(figure: Figure, channels: Mapping[Name, Channel]) -> dict[Name, Channel]:
    """Channels of some bones as those of the bones on the other side, reflected in the middle of the figure; bones in the middle keep theirs, reflected.

    The turn against the rest pose, seen in the frame of the figure, is reflected.
    """
    pairs, plane = mirror_pairs(figure), mirror_plane(figure)
    skeleton = skeleton_of(figure)
    q = rigid(rest_matrices(figure))[1]
    found: dict[Name, Channel] = {}

    facing = rigid(placement(figure))[1]
    limbs = {name: limb for limb in figure.goals for name in limb.curves}
    by_end = {limb.end: limb for limb in figure.goals}
    resting = rigid(skeleton.global_matrices(skeleton.rest))

    def above(b: int) -> Array:
        up = skeleton.parents[b]
        return q[up] if up >= 0 else facing

    def rest_of(name: str) -> tuple[Array, Array, Array]:
        """What curves are in, and where they rest there: the frame of the parent; of the figure for those of a limb."""
        if name not in limbs:
            i = figure.bone_index[name]
            return above(i), skeleton.rest.translation[i], skeleton.rest.rotation[i]
        limb = limbs[name]
        i = figure.bone_index[limb.end if name == limb.goal else limb.lower]
        return facing, resting[0][i], resting[1][i]

    for (bone, path), c in channels.items():
        other = pairs.get(bone, bone)
        if bone in limbs:
            mate = by_end.get(pairs.get(limbs[bone].end, limbs[bone].end))
            if mate is None:
                continue
            other = mate.goal if bone == limbs[bone].goal else mate.direction
        (pa, base_a, rest_a), (pb, base_b, rest_b) = rest_of(bone), rest_of(other)
        values = np.asarray(c.values, float)
        if path == "rotation":
            # linear in the quaternion, so that slopes go the same way as values
            turned = rotation.multiply(pa, rotation.multiply(values, rotation.conjugate(rest_a)))
            world = plane.turns(rotation.multiply(turned, rotation.conjugate(pa)))
            values = rotation.multiply(rotation.multiply(rotation.conjugate(pb), rotation.multiply(world, pb)), rest_b)
        elif path == "translation":
            off = values.copy()
            off[:, 1] -= base_a
            off = rotation.rotate(rotation.conjugate(pb), plane.vectors(rotation.rotate(pa, off)))
            off[:, 1] += base_b
            values = off
        found[other, path] = Channel(other, c.path, c.interpolation, c.times, values, c.holds)
    return found


def pasted(channel: Channel, rate: float, into: Channel | None, bone: str, at: float) -> Channel:
    """Copied keys of a cubic channel, of a bone that may be another, beginning at a frame, over those that are there meanwhile."""
    times = np.asarray(channel.times, float)
    times = times - times[0] + at / rate
    values, holds, lines = np.asarray(channel.values, float), channel.holds, channel.lines
    if into is not None:
        old = cubic(into)
        outside = (old.times < times[0] - 1e-6) | (old.times > times[-1] + 1e-6)
        more = old.values[outside]
        if channel.path == "rotation" and len(more):
            more = more * np.where(np.sum(more[:, 1] * values[0, 1], axis=1) < 0.0, -1.0, 1.0)[:, None, None]
        held = [np.zeros(len(x.times), bool) if x.holds is None else x.holds for x in (channel, old)]
        at_ = np.concatenate([times, old.times[outside]])
        rank = np.argsort(at_)
        times, values = at_[rank], np.concatenate([values, more])[rank]
        both = np.concatenate([held[0], held[1][outside]])[rank]
        holds = both if both.any() else None
        if old.lines is not None:
            mine = np.zeros(len(channel.times), bool) if lines is None else lines
            lines = np.concatenate([mine, old.lines[outside]])[rank]
    return Channel(bone, channel.path, "CUBICSPLINE", times, values, holds, lines)


def stacked(scene: Scene, figure_id: str, layer_id: str, up: bool) -> Scene:
    """The scene with a layer one place higher or lower among its figure's."""
    layers = list(scene.figure(figure_id).layers)
    i = next(i for i, x in enumerate(layers) if x.id == layer_of(scene.figure(figure_id), layer_id).id)
    j = i + (1 if up else -1)
    if 0 <= j < len(layers):
        layers[i], layers[j] = layers[j], layers[i]
    return edit.figure(scene, figure_id, layers=tuple(layers))


def alone(scene: Scene, figure_id: str, layer_id: str) -> Scene:
    """The scene with only one of a figure's baked layers heard; with all of them, if it is already the only one."""
    figure = scene.figure(figure_id)
    layer_of(figure, layer_id)
    others = [x for x in figure.layers if x.id != layer_id and x.kind == "baked"]
    back = bool(others) and all(x.muted for x in others)
    return edit.figure(
        scene, figure_id,
        layers=tuple(
            x.changed(muted=False) if x.id == layer_id else (x.changed(muted=not back) if x.kind == "baked" else x) for x in figure.layers
        ),
    )  # fmt: skip
