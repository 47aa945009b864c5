"""Values over frames: lanes of numbers, of vectors, and keys of places."""

from collections.abc import Sequence
from itertools import pairwise

import numpy as np
from pydantic import model_validator

from artuline.core.scene.values import UPRIGHT, ZERO, Model, Quat, Share, Vec3


class Key(Model):
    """A key of a lane: a value at a frame."""

    frame: float
    value: Share


class Lane(Model):
    """A value 0..1 over time, straight between its keys and held outside them; no keys means ``rest``."""

    keys: tuple[Key, ...] = ()
    rest: Share = 0.0

    @model_validator(mode="after")
    def _sorted(self) -> "Lane":
        frames = [k.frame for k in self.keys]
        if any(b < a for a, b in pairwise(frames)):
            raise ValueError("the keys of a lane must run forward in time")
        return self

    def value(self, frame: float | np.ndarray) -> np.ndarray:
        """The lane at one or many frames (any shape)."""
        if not self.keys:
            return np.full(np.shape(frame), self.rest)
        return np.asarray(np.interp(frame, [k.frame for k in self.keys], [k.value for k in self.keys]))


class VectorKey(Model):
    """A vector at a frame."""

    frame: float
    value: Vec3


class VectorLane(Model):
    """A vector over time, straight between its keys and held outside them."""

    keys: tuple[VectorKey, ...] = ()

    @model_validator(mode="after")
    def _sorted(self) -> "VectorLane":
        frames = [k.frame for k in self.keys]
        if any(b < a for a, b in pairwise(frames)):
            raise ValueError("the keys of a lane must run forward in time")
        return self

    def value(self, frames: np.ndarray, rest: Vec3) -> np.ndarray:
        """The vector at frames (F,): (F, 3); ``rest`` without keys."""
        if not self.keys:
            return np.tile(np.array(rest), (len(frames), 1))
        at, values = [k.frame for k in self.keys], np.array([k.value for k in self.keys])
        return np.stack([np.interp(frames, at, values[:, c]) for c in range(3)], axis=1)


class MotionKey(Model):
    """Where something is at a frame: position (m), rotation."""

    frame: float
    position: Vec3 = ZERO
    rotation: Quat = UPRIGHT


def run_forward(keys: Sequence[MotionKey], whose: str) -> None:
    """Raises ValueError unless keys follow each other in time."""
    if any(b.frame <= a.frame for a, b in pairwise(keys)):
        raise ValueError(f"the keys of {whose} must run forward in time")
