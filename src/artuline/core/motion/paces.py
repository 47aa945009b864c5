"""A figure's clips as one motion of speed and phase: between two that it has, a mixture whose feet step at the same time."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.gaits import Stride
from artuline.core.motion.skeleton import Pose

BINS = 96  # of a step's phase, by which clips are laid over each other
SLOWEST = 0.55  # share of the slowest gait's steps a second that are made at least, while it goes at all


@dataclass(frozen=True, eq=False)
class Pace:
    """A stride that is played so that it goes at ``speed``, m/s; ``shift``: of its phase against the others', in steps."""

    stride: Stride
    speed: float
    shift: float

    @property
    def length(self) -> float:
        """How far a step of every foot goes, m."""
        return self.stride.speed * self.stride.duration / self.stride.steps

    @property
    def rate(self) -> float:
        """Steps of every foot in a second."""
        return self.speed / self.length if self.length > 0.0 else 0.0

    def at(self, phase: float) -> tuple[int, int, float]:
        """The samples beside a phase (in steps) of what goes on and on, and the share of the second."""
        return _beside(self.stride, (phase + self.shift) / self.stride.steps % 1.0)


def _beside(stride: Stride, share: float) -> tuple[int, int, float]:
    count = len(stride.stands) - 1
    i = min(int(share * count), count - 1)
    return i, i + 1, share * count - i


def sampled(stride: Stride, share: float) -> Pose:
    """The pose (B,) of a stride at a share of its duration."""
    i, j, t = _beside(stride, min(max(share, 0.0), 1.0))
    return between(stride.pose.frame(i), stride.pose.frame(j), t)


def between(a: Pose, b: Pose, t: float) -> Pose:
    """A share of the way from one pose (B,) to another."""
    if t <= 0.0:
        return a
    sign = np.where((a.rotation * b.rotation).sum(axis=-1, keepdims=True) < 0.0, -1.0, 1.0)
    turned = a.rotation + t * (sign * b.rotation - a.rotation)
    # by the chord, which for what is near is the arc
    wide = (a.rotation * b.rotation * sign).sum(axis=-1) < 0.9
    q = turned / np.linalg.norm(turned, axis=-1, keepdims=True)
    if wide.any():
        q[wide] = rotation.slerp(a.rotation[wide], b.rotation[wide], t)
    return Pose(a.translation + t * (b.translation - a.translation), q, a.scale + t * (b.scale - a.scale))


class Paces:
    """The strides of a figure by their speeds, the slowest first; one that stands, if there is one, goes on by time."""

    def __init__(self, strides: Sequence[Stride], speeds: Sequence[float]):
        order = sorted(range(len(strides)), key=lambda k: speeds[k])
        self.standing = next((strides[k] for k in order if speeds[k] == 0.0), None)
        going = [k for k in order if speeds[k] > 0.0 and strides[k].speed > 0.0]
        self.moving = tuple(
            Pace(strides[k], speeds[k], _shift(strides[k], strides[going[0]]) if n else 0.0)
            for n, k in enumerate(going)
        )
        #: The strides, the one that stands first.
        self.fastest = self.moving[-1].speed if self.moving else 0.0

    def mix(self, speed: float) -> tuple[list[tuple[Pace, float]], float, float]:
        """The gaits that a speed is made of with their shares, the share of standing, and steps a second."""
        moving = self.moving
        if not moving or speed <= 0.0:
            return ([(moving[0], 0.0)] if moving else []), 1.0, 0.0
        if speed <= moving[0].speed:
            first = moving[0]
            share = speed / first.speed
            rate = first.rate * max(np.sqrt(share), SLOWEST)
            near = min(speed / (rate * first.length), 1.0)
            return [(first, near)], 1.0 - near, rate
        for a, b in pairwise(moving):
            if speed < b.speed:
                # length times steps a second, each between those of the two
                long, quick = b.length - a.length, b.rate - a.rate
                square, linear, rest = long * quick, a.length * quick + a.rate * long, a.speed - speed
                t = _root(square, linear, rest)
                return [(a, 1.0 - t), (b, t)], 0.0, a.rate + t * quick
        last = moving[-1]
        return [(last, 1.0)], 0.0, speed / last.length

    def pose(self, speed: float, phase: float, time: float) -> tuple[Pose, Array]:
        """The pose (B,) at a speed, at a phase in steps and a time in which it stood, and of each foot the share of the way through
        the air that is done, 0 while it stands (feet,).
        """
        shares, still, _ = self.mix(speed)
        found: Pose | None = None
        swings, weight = np.zeros(0), 0.0
        flying = swings
        for pace, share in shares:
            i, j, t = pace.at(phase)
            one = between(pace.stride.pose.frame(i), pace.stride.pose.frame(j), t)
            swing = pace.stride.swing[j if t > 0.5 else i]
            part = 1.0 if found is None else share / max(weight + share, 1e-12)
            if found is None:
                found, swings, flying = one, np.zeros(len(swing)), np.zeros(len(swing))
            elif share > 0.0:
                found = between(found, one, part)
            flying = flying + share * (swing > 0.0)
            swings, weight = swings + share * swing, weight + share
        stands = 2.0 * flying <= weight
        swings = np.where(stands, 0.0, swings / np.maximum(flying, 1e-12))
        if self.standing is not None:
            rest = sampled(self.standing, time / max(self.standing.duration, 1e-6) % 1.0)
            if found is None:
                found, swings = rest, np.zeros(self.standing.stands.shape[1])
            else:
                found = between(rest, found, 1.0 - still)
        assert found is not None
        return found, swings if speed > 0.0 else np.zeros_like(swings)


def _root(square: float, linear: float, rest: float) -> float:
    """The root between 0 and 1 of a polynomial of the second degree that rises there."""
    if abs(square) < 1e-12:
        return float(np.clip(-rest / max(linear, 1e-12), 0.0, 1.0))
    part = np.sqrt(max(linear * linear - 4.0 * square * rest, 0.0))
    roots = np.array([(-linear + part) / (2.0 * square), (-linear - part) / (2.0 * square)])
    return float(np.clip(roots[np.argmin(np.abs(roots - 0.5))], 0.0, 1.0))


def _pattern(stride: Stride) -> Array:
    """How often each foot stands at every phase of a step (BINS, feet), over all steps of a clip."""
    share = (np.arange(stride.steps * BINS) + 0.5) / (stride.steps * BINS)
    rows = np.minimum((share * (len(stride.stands) - 1)).astype(int), len(stride.stands) - 2)
    return np.asarray(stride.stands[rows].reshape(stride.steps, BINS, -1).mean(axis=0))


def _shift(stride: Stride, other: Stride) -> float:
    """The phase, in steps, by which a stride has to be ahead so that its feet stand when those of another do, as far as they can."""
    mine, theirs = _pattern(stride), _pattern(other)
    if not mine.size or not theirs.size:
        return 0.0
    mine, theirs = mine - mine.mean(axis=0), theirs - theirs.mean(axis=0)
    alike = [float((np.roll(mine, -k, axis=0) * theirs).sum()) for k in range(BINS)]
    return float(np.argmax(alike)) / BINS
