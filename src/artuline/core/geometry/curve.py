"""Curves over time: keys, slopes, and how each goes on to the next. One type for bones, lanes, tracks, and forces.

Interpolations are those of glTF 2.0 (section 3.11 and appendix C); single keys of a cubic curve may hold their value, or go straight to the next.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array

Interpolation = Literal["LINEAR", "STEP", "CUBICSPLINE"]


def at_once(times: Array) -> Array:
    """How far apart, s, two times may be and still be the same: what single precision leaves of them, as most files have them."""
    return np.asarray(2.0**-22 * np.abs(times) + 1e-9)


@dataclass(frozen=True, eq=False)
class Channel:
    """One curve: of a ``path`` (what it moves) of a ``bone``, or of whatever else has that name.

    times (K,) seconds, increasing; where two are the same, the curve jumps. values (K, D), or (K, 3, D) for CUBICSPLINE: in-tangent, value,
    out-tangent, tangents per second. D is 4 for the path "rotation" (x, y, z, w), 3 for all others of bones. holds (K,): whether the value of a key of a cubic
    curve stays until the next; lines (K,): whether it goes straight to it.
    """

    bone: str
    path: str
    interpolation: Interpolation
    times: Array
    values: Array
    holds: np.ndarray | None = None
    lines: np.ndarray | None = None

    def sample(self, times: Array) -> Array:
        """Values at times (F,) -> (F, D); held before the first key and after the last."""
        values, at = self.values[..., None, :], np.asarray(times, float)
        return sample_together(self.path, self.interpolation, self.times, values, at, self.holds, self.lines)[:, 0]


def sample_together(
    path: str,
    interpolation: Interpolation,
    keys: Array,
    values: Array,
    times: Array,
    holds: np.ndarray | None = None,
    lines: np.ndarray | None = None,
) -> Array:
    """C curves with the same keys (K,) at times (F,) -> (F, C, D); values (K, C, D), or (K, 3, C, D) for CUBICSPLINE."""

    def finish(value: Array) -> Array:
        return rotation.normalize(value) if path == "rotation" else value

    def straight(a: Array, b: Array, u: Array) -> Array:
        return rotation.slerp(a, b, u[..., 0]) if path == "rotation" else a + (b - a) * u

    # a key acts from its frame on, whatever the last digits of both are
    near = np.clip(np.searchsorted(keys, times), 0, len(keys) - 1)
    times = np.where(np.abs(keys[near] - times) <= at_once(times), np.maximum(keys[near], times), times)
    t = np.clip(times, keys[0], keys[-1])
    i = np.clip(np.searchsorted(keys, times, side="right") - 1, 0, max(len(keys) - 2, 0))
    if len(keys) == 1:
        only = values[0, 1] if interpolation == "CUBICSPLINE" else values[0]
        return finish(np.repeat(only[None], len(t), axis=0))
    if interpolation == "STEP":
        return finish(values[np.where(t >= keys[-1], len(keys) - 1, i)])
    span = (keys[i + 1] - keys[i])[:, None, None]
    # of two first or last keys at once, the first counts before them, the second after
    u = np.where(span > 0.0, (t - keys[i])[:, None, None] / np.where(span > 0.0, span, 1.0), 0.0)
    u = np.where((times >= keys[-1])[:, None, None], 1.0, u)
    if interpolation == "LINEAR":
        return straight(values[i], values[i + 1], u)
    a, b = values[i, 1], values[i + 1, 1]
    out, into = values[i, 2] * span, values[i + 1, 0] * span
    if holds is not None:
        u = np.where((holds[i] & (t < keys[i + 1]))[:, None, None], 0.0, u)
    u2, u3 = u * u, u * u * u
    found = finish((2 * u3 - 3 * u2 + 1) * a + (u3 - 2 * u2 + u) * out + (3 * u2 - 2 * u3) * b + (u3 - u2) * into)
    if lines is not None:
        found = np.where((lines[i] & ~(False if holds is None else holds[i]))[:, None, None], straight(a, b, u), found)
    return found


def smooth_slopes(times: Array, values: Array) -> Array:
    """Slopes (K, D) of a curve through keys (K,), (K, D): central ones, and none at the ends, so that a motion starts and stops softly."""
    slopes = np.zeros_like(values)
    span = times[2:] - times[:-2]
    slopes[1:-1] = (values[2:] - values[:-2]) / np.where(span > 0.0, span, np.inf)[:, None]
    return slopes


def straighten(t: Array, v: Array, into: Array, out: Array, lines: np.ndarray) -> None:
    """Put the slopes (K, D) of a curve through keys (K,), (K, D) at both ends of the pieces that are ``lines`` (K,) to those of the straight line between; in place."""
    span = np.diff(t)
    slope = np.diff(v, axis=0) / np.where(span > 0.0, span, np.inf)[:, None]
    on = lines[:-1]
    out[:-1][on], into[1:][on] = slope[on], slope[on]
