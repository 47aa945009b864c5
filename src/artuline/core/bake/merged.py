"""Clip and layers as one clip for delivery: the keys as they are outside of the layers, the layers inside."""

from dataclasses import dataclass

import numpy as np
from scipy.interpolate import CubicHermiteSpline

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import keyed_pose, load_clip
from artuline.core.motion.skeleton import skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Layer, Scene

PARTS = 4  # of a frame, at which what does not go straight is sampled
BENT = 2e-8  # by which a straight way may be off: the errors of all bones of a long chain add up
PIECES = 3  # that a piece of a curve of rotations is divided into where a range cuts it


def merged_clip(scene: Scene, assets: AssetStore, figure: Figure) -> Clip:
    """The figure's motion over the scene's range, starting at time 0.

    Bones with a layer of full weight get cubic curves: the clip sampled on every frame outside of the layer,
    the layer's own keys inside. Everything else is sampled on every frame, and between two where it does not go straight there.
    """
    fine = quarters(scene.start, scene.end)
    pose = keyed_pose(scene, assets, figure, fine)
    spans = _layered(figure, assets)
    channels = []
    index = figure.bone_index
    moving = {(c.bone, c.path) for ref in [figure.active_clip()] if ref for c in load_clip(assets, ref.asset).channels}
    for bone, path in sorted(moving | set(spans), key=lambda k: (index[k[0]], k[1])):
        ruled = spans.get((bone, path))
        values = getattr(pose, path)[:, index[bone]]
        if path == "rotation":
            values = rotation.make_continuous(values)
        # beside keys of a cubic curve rotations go straight from number to number, not along the arc
        kept = bent(values, path == "rotation" and ruled is None)
        frames, values = fine[kept], values[kept]
        if ruled is not None:
            layer, channel = ruled
            channels.append(_joined(scene, layer, channel, frames, values))
        else:
            times = (frames - scene.start) / scene.rate
            channels.append(Channel(bone, path, "LINEAR", times, values))  # type: ignore[arg-type]
    return Clip(tuple(channels))


def quarters(start: float, end: float) -> Array:
    """Frames from one to another, with those a quarter of a frame apart between them."""
    return np.asarray(start + np.arange(round(end - start) * PARTS + 1) / PARTS)


def bent(values: Array, turning: bool) -> np.ndarray:
    """Which rows of values (4 F + 1, D), a quarter of a frame apart, a curve needs that goes straight from one to the next: the frames, and those between two
    frames where it would otherwise be off. Rotations do not flip.
    """
    count = (len(values) - 1) // PARTS
    kept = np.zeros(len(values), bool)
    kept[::PARTS] = True
    a, b = values[:-1:PARTS], values[PARTS::PARTS]
    off = np.zeros(count, bool)
    for k in range(1, PARTS):
        true, u = values[k::PARTS], k / PARTS
        way = rotation.slerp(a, b, np.full(count, u)) if turning else a + u * (b - a)
        off |= np.abs(way - true).max(axis=1) > BENT * (1e-3 + np.abs(true).max(axis=1))
    for k in range(1, PARTS):
        kept[k::PARTS] = off
    return kept


def _layered(figure: Figure, assets: AssetStore) -> dict[tuple[str, str], tuple[Layer, Channel] | None]:
    """The channels of bones that layers move, and the one layer that rules each, if it is alone there, has full weight, and leads no limb of it by a goal."""
    found: dict[tuple[str, str], tuple[Layer, Channel] | None] = {}
    for layer in (x for x in figure.layers if not x.muted):
        clip = load_clip(assets, layer.asset)
        for c in (x for x in clip.channels if x.bone in figure.bone_index):
            alone = (
                (c.bone, c.path) not in found
                and c.interpolation == "CUBICSPLINE"
                and layer.mode == "replace"
                and c.holds is None
            )
            found[c.bone, c.path] = (
                (layer, c) if alone and layer.weight == 1.0 and not (layer.ramp_in or layer.ramp_out) else None
            )
        curves = {c.bone for c in clip.channels}
        for limb in figure.goals:
            if curves & set(limb.curves):
                found |= dict.fromkeys(((b, "rotation") for b in limb.bones), None)
    return found


def _joined(scene: Scene, layer: Layer, channel: Channel, frames: Array, values: Array) -> Channel:
    """Straight pieces outside the layer, its own keys inside; the seam's keys have a slope for each side."""
    first, last = max(frames[0], layer.start), min(frames[-1], layer.end)
    times = (frames - scene.start) / scene.rate
    if last <= first:
        return Channel(channel.bone, channel.path, "LINEAR", times, values)
    at, inner = _part(channel, first / scene.rate, last / scene.rate)
    before, after = np.flatnonzero(frames < first), np.flatnonzero(frames > last)
    slope = np.diff(values, axis=0) * scene.rate / np.diff(frames)[:, None]
    turning = channel.path == "rotation"
    if turning:
        # the same side of the double cover as the samples around it
        near = values[min(int(np.searchsorted(frames, first)), len(values) - 1)]
        inner = inner * (-1.0 if float(inner[0, 1] @ near) < 0.0 else 1.0)
    outside = np.stack([np.concatenate([slope[:1], slope]), values, np.concatenate([slope, slope[-1:]])], axis=1)
    head, tail = outside[before], outside[after]
    if len(head):
        inner[0, 0] = (inner[0, 1] - head[-1, 1]) * scene.rate / (first - frames[before[-1]])
        head[-1, 2] = inner[0, 0]
    if len(tail):
        if turning and float(inner[-1, 1] @ tail[0, 1]) < 0.0:
            tail = -tail
        inner[-1, 2] = (tail[0, 1] - inner[-1, 1]) * scene.rate / (frames[after[0]] - last)
        tail[0, 0] = inner[-1, 2]
    whole = np.concatenate([times[before], at - scene.start / scene.rate, times[after]])
    return Channel(channel.bone, channel.path, "CUBICSPLINE", whole, np.concatenate([head, inner, tail]))


def _part(channel: Channel, first: float, last: float) -> tuple[Array, Array]:
    """The keys of a cubic curve between two times (s): times (K,), values (K, 3, D). An end that is not on a key gets one with
    the curve's own value and slope there, so that the curve stays what it is; beyond the curve's own ends it is level.
    """
    tiny = 1e-6
    times = channel.times
    inside = times[(times > first + tiny) & (times < last - tiny)]
    at = np.concatenate([[first], inside, [last]])
    if channel.path == "rotation":
        # a piece that is cut is not as long as its unit key would make it: some more keep it on its way
        cut = [not np.any(np.abs(times - t) <= tiny) for t in (first, last)]
        more = [np.linspace(at[0], at[1], PIECES + 1)[1:-1]] * cut[0] + [
            np.linspace(at[-2], at[-1], PIECES + 1)[1:-1]
        ] * cut[1]
        at = np.unique(np.concatenate([at, *more]))
    return at, np.array([_key(channel, t, tiny) for t in at])


def _key(channel: Channel, t: float, tiny: float) -> Array:
    """The key (3, D) of a cubic curve at a time, its own if it has one there."""
    times, keys = channel.times, channel.values
    on = np.flatnonzero(np.abs(times - t) <= tiny)
    if len(on):
        return np.array(keys[on[0]])
    if t <= times[0] or t >= times[-1] or len(times) == 1:
        value, slope = (keys[0, 1] if t <= times[0] else keys[-1, 1]), np.zeros(keys.shape[2])
    else:
        i = int(np.searchsorted(times, t, side="right")) - 1
        piece = CubicHermiteSpline(times[i : i + 2], keys[i : i + 2, 1], [keys[i, 2], keys[i + 1, 0]])
        value, slope = piece(t), piece(t, 1)
    if channel.path == "rotation":
        # the curve runs beside the unit sphere: what is shown is its direction
        length = float(np.linalg.norm(value))
        value = value / length
        slope = slope / length - value * float(value @ slope) / length
    return np.stack([slope, value, slope])


@dataclass(frozen=True)
class Rests:
    """Rest poses around a delivered motion, each with so many frames (``blend``) of a straight way between the two."""

    before: bool = False
    after: bool = False
    blend: int = 1

    @property
    def lead(self) -> int:
        """Frames by which the motion begins later."""
        return self.blend if self.before else 0

    def check(self) -> None:
        """Raises ArtulineError for no frames."""
        if not 1 <= self.blend <= 1000:
            raise ArtulineError("the way to the rest pose takes a frame at least", remedy="Give 1 to 1000 frames.")


def rested(scene: Scene, figure: Figure, clip: Clip, rests: Rests) -> Clip:
    """A clip over the scene's range with the rest pose before its start, which comes later by as much, or after its end, where it stays, or both."""
    rest, length, step = skeleton_of(figure).rest, (scene.end - scene.start) / scene.rate, rests.blend / scene.rate
    channels = []
    for c in clip.channels:
        value = getattr(rest, c.path)[figure.bone_index[c.bone]]
        cubic = c.interpolation == "CUBICSPLINE"
        times, values = np.asarray(c.times, float), np.asarray(c.values, float)
        if rests.before:
            times, values = np.append(0.0, times + step), _ended(c.path, values, value, step, cubic, 0)
        if rests.after:
            times = np.append(times, length + step * (2 if rests.before else 1))
            values = _ended(c.path, values, value, step, cubic, -1)
        holds = c.holds
        if holds is not None:
            holds = np.concatenate([[False] * rests.before, holds, [False] * rests.after])
        channels.append(Channel(c.bone, c.path, c.interpolation, times, values, holds))
    return Clip(tuple(channels))


def _ended(path: str, values: Array, rest: Array, step: float, cubic: bool, end: int) -> Array:
    """Values of keys with one more at an end, straight there, and still beyond."""
    last = values[end, 1] if cubic else values[end]
    if path == "rotation" and float(last @ rest) < 0.0:
        rest = -rest
    if not cubic:
        return np.concatenate([rest[None], values] if end == 0 else [values, rest[None]])
    slope, still = (rest - last if end else last - rest) / step, np.zeros_like(rest)
    if end == 0:
        made = np.concatenate([[[still, rest, slope]], values])
        made[1, 0] = slope
    else:
        made = np.concatenate([values, [[slope, rest, still]]])
        made[-2, 2] = slope
    return np.asarray(made)
