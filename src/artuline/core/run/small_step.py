"""What a steered world is made of from step to step: what is limp, what leads it over one small step, and bones that bodies carry."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import skeleton_of
from artuline.core.scene.model import Figure

ARRIVES = 0.8  # periods of the drive to the keys in the time that is left
FIRMEST = 20.0  # Hz


@dataclass
class Limp:
    """Bodies (rows) that were handed over: ``left`` seconds until they come back, None: once they lie still; ``ramp`` seconds on the way back."""

    rows: NDArray[np.int64]
    left: float | None
    ramp: float
    whole: int | None = None
    still: float = 0.0
    passed: float = 0.0
    back: float = -1.0

    @property
    def share(self) -> float:
        """How much they are handed over."""
        return 1.0 if self.back < 0.0 else max(1.0 - self.back / self.ramp, 0.0)

    @property
    def goal(self) -> float:
        """The frequency (Hz) of the drive to the keys on the way back: the nearer the end, the firmer, so that nothing is left to be jumped then."""
        return 0.0 if self.back < 0.0 else min(ARRIVES / max(self.ramp - self.back, 1e-9), FIRMEST)


@dataclass
class SmallStep:
    """What steers the world over one small step."""

    first: float
    rate: float
    k: int
    lead: int
    x: Array
    r: Array
    free: NDArray[np.bool_]
    goal: Array
    calm: Array
    drive: Array
    gravity: Array
    wind: Array
    pushes: bool


def chosen_rows(rows: NDArray[np.int64], like: Array) -> NDArray[np.bool_]:
    """Which of as many rows as there are in ``like`` are some rows: (n, 1)."""
    found = np.zeros((len(like), 1), bool)
    found[rows] = True
    return found


def carried(figure: Figure, keyed: Array, body: dict[int, int], p: Array, turned: Array) -> Array:
    """Keyed matrices (B, 4, 4) with those bones that have a free body (bone -> row) where it is, and those below carried along."""
    made, moved = keyed.copy(), set[int]()
    for b, up in enumerate(skeleton_of(figure).parents):
        if b in body:
            i = body[b]
            made[b, :3, :3] = turned[i] * np.linalg.norm(keyed[b, :3, :3], axis=0)
            made[b, :3, 3] = p[i]
            moved.add(b)
        elif up in moved:
            made[b] = made[up] @ np.linalg.inv(keyed[up]) @ keyed[b]
            moved.add(b)
    return made
