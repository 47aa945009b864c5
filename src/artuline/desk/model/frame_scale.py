"""Frames and pixels: where a frame lies on a row, and what of many frames is worth drawing."""

from dataclasses import dataclass

import numpy as np

from artuline.core.geometry.rotation import Array

STEPS = (1, 2, 5)


@dataclass(frozen=True)
class FrameScale:
    """The frames from ``start`` to ``end`` over pixels from ``left`` on, ``width`` wide."""

    start: int
    end: int
    left: float
    width: float

    @property
    def pixels(self) -> float:
        """Pixels of a frame."""
        return self.width / max(self.end - self.start, 1)

    def x(self, frame: float) -> float:
        """Pixel of a frame."""
        return self.left + (frame - self.start) * self.pixels

    def frame(self, x: float) -> float:
        """Frame of a pixel."""
        return self.start + (x - self.left) / max(self.pixels, 1e-12)

    def ticks(self, apart: float, fewest: int = 1) -> list[int]:
        """Frames that are round numbers from the start on, at least so many pixels apart."""
        step = fewest
        power = 1
        while step * self.pixels < apart:
            step = next((n * power for n in STEPS if n * power > step), 10 * power)
            if step >= 10 * power:
                power *= 10
        return list(range(self.start, self.end + 1, step))

    def seen(self, times: Array, first: float = 0.0, every: float = 0.0) -> Array:
        """Pixels (N,) at which there is one of the times (K,) in frames, which begin at ``first`` and come again ``every`` so many frames
        (0: once). The work does not grow with the range.
        """
        if not len(times):
            return np.zeros(0)
        x = np.arange(self.left - 0.5, self.left + self.width + 1.0)
        frames = self.start + (x - self.left) / max(self.pixels, 1e-12) - first
        frames[-1] = self.end - first + 1e-6
        frames[0] = self.start - first - 1e-6
        times = np.sort(times)
        if every > 0.0:
            rounds = np.floor(frames / every)
            inside = times[times < times[0] + every - 1e-6] if len(times) > 1 else times
            count = np.where(
                rounds < 0, 0, rounds * len(inside) + np.searchsorted(inside, frames - rounds * every, side="right")
            )
        else:
            count = np.searchsorted(times, frames, side="right")
        at = np.flatnonzero(np.diff(count) > 0)
        if self.pixels >= 3.0 and len(at) < 400:
            # few enough to stand exactly where they are
            exact = [self.x(round(self.frame(float(x[i]) + 0.5))) for i in at]
            return np.array(exact)
        return x[at] + 0.5

    def highest(self, frames: Array, values: Array) -> tuple[Array, Array]:
        """Pixels (N,) and the highest value (N,) in each, of values over frames (F,)."""
        if not len(frames):
            return np.zeros(0), np.zeros(0)
        columns = np.floor((frames - self.start) * self.pixels).astype(np.int64)
        starts = np.flatnonzero(np.diff(columns, prepend=columns[0] - 1))
        return self.left + columns[starts].astype(float), np.maximum.reduceat(values, starts)
