"""Curves of the document over frames: lanes of numbers, of vectors, and where something is. Few keys, written as text; long ones are clips."""

from collections.abc import Iterable
from functools import cached_property, lru_cache
from itertools import pairwise
from typing import Any, Literal, Self, TypeVar

import numpy as np
from pydantic import model_validator

from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel, smooth_slopes, straighten
from artuline.core.geometry.rotation import Array
from artuline.core.scene.values import UPRIGHT, ZERO, Model, Quat, Share, Vec3

Four = tuple[float, float, float, float]
#: How a curve goes on from a key to the next: straight, with the value held until then, or by the slopes at both.
Piece = Literal["line", "hold", "curve"]


class AnyKey(Model):
    """A key at a frame. ``piece``: how it goes on to the next key; ``slopes`` (a frame) into and out of it count where a piece is a curve; None: smooth ones."""

    frame: float
    value: Any
    piece: Piece = "line"
    slopes: Any = None


class Key(AnyKey):
    """A key of a lane."""

    value: Share
    slopes: tuple[float, float] | None = None


class VectorKey(AnyKey):
    """A key of vectors."""

    value: Vec3
    slopes: tuple[Vec3, Vec3] | None = None


class PlaceKey(VectorKey):
    """A key of a position, m; smooth unless it says otherwise."""

    piece: Piece = "curve"


class TurnKey(AnyKey):
    """A key of a rotation."""

    value: Quat
    slopes: tuple[Four, Four] | None = None
    piece: Piece = "curve"


K = TypeVar("K", Key, VectorKey, PlaceKey, TurnKey)


class Curve(Model):
    """Keys that follow each other in time; held before the first and after the last. Where two are at one frame, it jumps."""

    keys: tuple[AnyKey, ...] = ()

    @model_validator(mode="after")
    def _sorted(self) -> Self:
        if any(b.frame < a.frame for a, b in pairwise(self.keys)):
            raise ValueError("the keys of a lane must run forward in time")
        return self

    @cached_property
    def channel(self) -> Channel:
        """The curve as arrays, cubic, its times and slopes in frames; there must be keys."""
        path = "rotation" if isinstance(self.keys[0], TurnKey) else "value"
        t: Array = np.array([k.frame for k in self.keys])
        v: Array = np.array([k.value for k in self.keys], np.float64).reshape(len(t), -1)
        if path == "rotation":
            v = rotation.make_continuous(v)
        into = smooth_slopes(t, v)
        out = into.copy()
        for i, k in enumerate(self.keys):
            if k.slopes is not None:
                # of the side of the double cover that the value is on
                side = -1.0 if path == "rotation" and float(v[i] @ k.value) < 0.0 else 1.0
                into[i], out[i] = side * np.array(k.slopes[0]), side * np.array(k.slopes[1])
        lines, holds = (np.array([k.piece == kind for k in self.keys]) for kind in ("line", "hold"))
        straighten(t, v, into, out, lines)
        return Channel("", path, "CUBICSPLINE", t, np.stack([into, v, out], axis=1), holds, lines)

    @cached_property
    def straight(self) -> bool:
        """Whether all of it is straight."""
        return all(k.piece == "line" for k in self.keys[:-1])

    @cached_property
    def smooth(self) -> bool:
        """Whether all of it is smooth, with no slope that was set."""
        return all(k.piece == "curve" for k in self.keys[:-1]) and all(k.slopes is None for k in self.keys)


class Lane(Curve):
    """A value 0..1 over time; no keys means ``rest``."""

    keys: tuple[Key, ...] = ()
    rest: Share = 0.0

    def value(self, frame: float | np.ndarray) -> np.ndarray:
        """The lane at one or many frames (any shape)."""
        if not self.keys:
            return np.full(np.shape(frame), self.rest)
        if self.straight:
            return np.asarray(np.interp(frame, [k.frame for k in self.keys], [k.value for k in self.keys]))
        found = self.channel.sample(np.ravel(np.asarray(frame, float)))
        return np.asarray(np.clip(found.reshape(np.shape(frame)), 0.0, 1.0))


@lru_cache(1024)
def falling_softly(lane: Lane, shortest: float) -> Lane:
    """The lane as it acts where it must not fall from 1 to 0 in less than ``shortest`` frames: where it falls faster it begins to fall earlier, and is where it
    was by the same frame. The lane itself if it never does.
    """
    keys = lane.keys
    if not lane.straight:
        # a curve as straight pieces of a quarter of a frame
        ends = np.array([k.frame for k in keys])
        at = np.unique(np.concatenate([np.arange(a, b, 0.25) for a, b in pairwise(ends)] + [ends]))
        # what is held until a key jumps there
        jumps = [(b.frame, a.value) for a, b in pairwise(keys) if a.piece == "hold" and a.value != b.value]
        points = sorted(
            [*zip(at.tolist(), lane.value(at).tolist()), *jumps], key=lambda x: (x[0], (x[0], x[1]) not in jumps)
        )
    else:
        points = [(k.frame, k.value) for k in keys]
    found, late = points[-1:], False
    for (f, v), (f1, v1) in reversed(list(pairwise(points))):
        end, low = found[-1] if late else (f1, v1)
        most = low + (end - f) / shortest
        if v <= most + 1e-12:
            if late and f1 > f:
                # where it met the line that falls as fast as it may
                rise = (v1 - v) / (f1 - f)
                met = (low + end / shortest - v + rise * f) / (rise + 1.0 / shortest)
                found.append((met, v + rise * (met - f)))
            late = False
            found.append((f, v))
        else:
            late = True
            found.append((f, most))
    if late:
        f, low = found[-1]
        found += [(f - (points[0][1] - low) * shortest, points[0][1])]
    if not late and found == points[::-1]:
        return lane
    # where lines meet at a key, rounding may put them past it
    frames = np.minimum.accumulate([f for f, _ in found])
    found = list(zip(frames.tolist(), (v for _, v in found)))
    return Lane(keys=tuple(Key(frame=f, value=min(max(v, 0.0), 1.0)) for f, v in reversed(found)), rest=lane.rest)


class VectorLane(Curve):
    """A vector over time."""

    keys: tuple[VectorKey, ...] = ()

    def value(self, frames: np.ndarray, rest: Vec3) -> np.ndarray:
        """The vector at frames (F,): (F, 3); ``rest`` without keys."""
        if not self.keys:
            return np.tile(np.array(rest), (len(frames), 1))
        if not self.straight:
            return self.channel.sample(frames)
        at, values = [k.frame for k in self.keys], np.array([k.value for k in self.keys])
        return np.stack([np.interp(frames, at, values[:, c]) for c in range(3)], axis=1)


class PlaceLane(Curve):
    """A position over time, m."""

    keys: tuple[PlaceKey, ...] = ()


class TurnLane(Curve):
    """A rotation over time."""

    keys: tuple[TurnKey, ...] = ()


class MotionKey(Model):
    """Where something is at a frame: position (m), rotation."""

    frame: float
    position: Vec3 = ZERO
    rotation: Quat = UPRIGHT


class Track(Model):
    """Where something is over frames: position and rotation, each with keys of its own."""

    position: PlaceLane = PlaceLane()
    rotation: TurnLane = TurnLane()

    @model_validator(mode="after")
    def _forward(self) -> Self:
        for curve in (self.position, self.rotation):
            if any(b.frame == a.frame for a, b in pairwise(curve.keys)):
                raise ValueError("the keys of a track must run forward in time")
        if bool(self.position.keys) != bool(self.rotation.keys):
            raise ValueError("a track must have keys for both position and rotation, or none")
        return self

    @staticmethod
    def of(keys: Iterable[MotionKey]) -> "Track":
        """A track with both at every key, smooth between them."""
        found = tuple(keys)
        return Track(
            position=PlaceLane(keys=tuple(PlaceKey(frame=k.frame, value=k.position) for k in found)),
            rotation=TurnLane(keys=tuple(TurnKey(frame=k.frame, value=k.rotation) for k in found)),
        )

    @cached_property
    def frames(self) -> tuple[float, ...]:
        """The frames of all keys, each once."""
        return tuple(sorted({k.frame for k in (*self.position.keys, *self.rotation.keys)}))

    def keyed(self, key: MotionKey) -> "Track":
        """The track with a key of both at a frame; one that is there already is replaced."""
        return Track(
            position=PlaceLane(keys=with_key(self.position.keys, PlaceKey(frame=key.frame, value=key.position))),
            rotation=TurnLane(keys=with_key(self.rotation.keys, TurnKey(frame=key.frame, value=key.rotation))),
        )

    def moved(self, frame: float, to: float) -> "Track":
        """The track with its keys of a frame at another, which lies between the neighbours."""
        return self._each(lambda k: k.changed(frame=to) if k.frame == frame else k)

    def without(self, frame: float) -> "Track":
        """The track without its keys of a frame; of each curve one key stays."""
        return self._each(lambda k: None if k.frame == frame else k)

    def _each(self, change) -> "Track":  # type: ignore[no-untyped-def]
        def curve(c):  # type: ignore[no-untyped-def]
            kept = tuple(k for k in map(change, c.keys) if k is not None)
            return c.changed(keys=kept) if kept else c

        return Track(position=curve(self.position), rotation=curve(self.rotation))


def with_key(keys: tuple[K, ...], new: K) -> tuple[K, ...]:
    """Keys with one more, which takes the place of one at its frame; the curve goes on from it as it did there before."""
    before = next((k for k in reversed(keys) if k.frame <= new.frame), None)
    if before is not None:
        new = new.changed(piece=before.piece, slopes=before.slopes if before.frame == new.frame else None)
    kept = [k for k in keys if k.frame != new.frame]
    kept.append(new)
    return tuple(sorted(kept, key=lambda k: k.frame))
