"""The lanes of a figure and of the world, and where it is, as channels whose keys are edited as those of clips are, and back."""

from collections.abc import Mapping
from dataclasses import replace
from typing import TypeVar

import numpy as np

from artuline.core.bake.layer_keys import Name
from artuline.core.geometry.curve import Channel, smooth_slopes, straighten
from artuline.core.geometry.rotation import Array
from artuline.core.scene import edit
from artuline.core.scene.lanes import AnyKey, Curve, Lane, PlaceLane, Track, TurnLane, VectorLane
from artuline.core.scene.model import Figure, Scene

GROUP_LANES = ("handover", "tone", "steadiness", "calm")
#: What belongs to no group: where the figure is, and what the world does to all.
PLACE, TURN, GRAVITY, WIND = ("", "translation"), ("", "rotation"), ("", "gravity"), ("", "wind")
JUMP = 1e-3  # frames that a jump takes, so that its two keys can be told apart; less than any substep
SAME = 1e-6  # of values, slopes and frames

L = TypeVar("L", Lane, VectorLane, PlaceLane, TurnLane)


def lanes_of(scene: Scene, figure: Figure) -> dict[Name, Curve]:
    """All curves with keys: of every group by its id and kind, and those without a group."""
    found: dict[Name, Curve] = {(g.id, kind): getattr(g, kind) for g in figure.groups for kind in GROUP_LANES}
    found |= {PLACE: figure.track.position, TURN: figure.track.rotation}
    found |= {GRAVITY: scene.gravity_lane, WIND: scene.wind_lane}
    return {name: curve for name, curve in found.items() if curve.keys}


def lane_channels(scene: Scene, figure: Figure) -> dict[Name, Channel]:
    """The same as cubic channels in seconds of the scene; what jumps takes a thousandth of a frame."""
    return {name: _channel(curve, name, scene.rate) for name, curve in lanes_of(scene, figure).items()}


def _channel(curve: Curve, name: Name, rate: float) -> Channel:
    c = curve.channel
    times, values = c.times.copy(), c.values.copy()
    for i in range(len(times) - 1, 0, -1):
        times[i - 1] = min(times[i - 1], times[i] - JUMP)
    assert c.lines is not None
    straighten(times, values[:, 1], values[:, 0], values[:, 2], c.lines)
    values[:, [0, 2]] *= rate
    return replace(c, bone=name[0], path=name[1], times=times / rate, values=values)


def with_lane_channels(scene: Scene, figure_id: str, changed: Mapping[Name, Channel]) -> Scene:
    """The scene with some of these curves replaced. Shares stay within 0 and 1. Raises ArtulineError if a group is gone."""
    track = scene.figure(figure_id).track
    for name, channel in changed.items():
        if name == GRAVITY:
            scene = edit.scene(scene, gravity_lane=_lane(scene.gravity_lane, channel, scene.rate))
        elif name == WIND:
            scene = edit.scene(scene, wind_lane=_lane(scene.wind_lane, channel, scene.rate))
        elif name == PLACE:
            track = Track(position=_lane(track.position, channel, scene.rate), rotation=track.rotation)
        elif name == TURN:
            track = Track(position=track.position, rotation=_lane(track.rotation, channel, scene.rate))
        else:
            before = next(g for g in scene.figure(figure_id).groups if g.id == name[0])
            lane = _lane(getattr(before, name[1]), channel, scene.rate)
            scene = edit.group(scene, figure_id, name[0], **{name[1]: lane})
    return scene if track == scene.figure(figure_id).track else edit.figure(scene, figure_id, track=track)


def _lane(before: L, channel: Channel, rate: float) -> L:
    """A curve of the document that has other keys; those that are what they were stay so to the last bit."""
    t = np.round(np.asarray(channel.times, float) * rate, 9)
    t = np.where(np.abs(t - np.round(t)) < SAME, np.round(t), t)
    into, v, out = channel.values[:, 0] / rate, np.array(channel.values[:, 1]), channel.values[:, 2] / rate
    if isinstance(before, Lane):
        v = np.clip(v, 0.0, 1.0)
    if not isinstance(before, (PlaceLane, TurnLane)):
        for i in range(len(t) - 1, 0, -1):
            t[i - 1] = t[i] if t[i] - t[i - 1] < JUMP + SAME else t[i - 1]
    pieces = _pieces(channel, t, v, into, out)
    smooth = smooth_slopes(t, v)
    one = v.shape[1] == 1
    kind = type(before).model_fields["keys"].annotation.__args__[0]  # type: ignore[union-attr]
    keys = []
    spans = _spans(t)
    for i, piece in enumerate(pieces):
        curved = piece == "curve" and i + 1 < len(t), i > 0 and pieces[i - 1] == "curve"
        share = SAME / spans[i]
        free = (not curved[0] or _near(out[i], smooth[i], share)) and (
            not curved[1] or _near(into[i], smooth[i], share)
        )
        slopes = None if free else (_plain(into[i], one), _plain(out[i], one))
        new = kind(frame=t[i], value=_plain(v[i], one), piece=piece, slopes=slopes)
        keys.append(next((k for k in before.keys if _alike(new, k)), new))
    return before.changed(keys=tuple(keys))


def _pieces(channel: Channel, t: Array, v: Array, into: Array, out: Array) -> list[str]:
    """How each key goes on to the next; two curved ends that are those of a straight line are one, unless they are as smooth ones would be."""
    lines, holds = (np.zeros(len(t), bool) if x is None else x for x in (channel.lines, channel.holds))
    smooth, spans, found = smooth_slopes(t, v), _spans(t), []
    for i in range(len(t)):
        piece = "hold" if holds[i] else "line" if lines[i] else "curve"
        if piece == "curve" and i + 1 < len(t) and channel.path != "rotation" and t[i + 1] > t[i]:
            chord = (v[i + 1] - v[i]) / (t[i + 1] - t[i])
            a, b = SAME / spans[i], SAME / spans[i + 1]
            is_line = _near(out[i], chord, a) and _near(into[i + 1], chord, b)
            is_smooth = _near(out[i], smooth[i], a) and _near(into[i + 1], smooth[i + 1], b)
            piece = "line" if is_line and not is_smooth else piece
        found.append(piece)
    return found


def _spans(t: Array) -> Array:
    """Frames over which the slopes at each key act at most, 1 at least: the farther, the less they may be off."""
    far = np.diff(t, prepend=t[0], append=t[-1])
    return np.maximum(np.maximum(far[:-1], far[1:]), 1.0)


def _near(a: Array, b: Array, share: float = SAME) -> bool:
    return bool(np.abs(a - b).max() <= share * (1.0 + np.abs(b).max()))


def _plain(x: Array, one: bool) -> float | tuple[float, ...]:
    return float(x[0]) if one else tuple(float(c) for c in x)


def _alike(a: AnyKey, b: AnyKey) -> bool:
    """Whether keys are the same but for rounding; of rotations, on either side of the double cover."""
    if a.frame != b.frame or a.piece != b.piece or (a.slopes is None) != (b.slopes is None):
        return False
    one, other = np.atleast_1d(a.value), np.atleast_1d(b.value)
    side = -1.0 if len(one) == 4 and float(one @ other) < 0.0 else 1.0
    pairs = [(one, other), *(zip(a.slopes, b.slopes) if a.slopes is not None else ())]
    return all(_near(np.atleast_1d(x), side * np.atleast_1d(y), 1e-9) for x, y in pairs)
