"""Fitting sampled motion with few cubic Hermite keys.

Keys lie on samples and hold their values; slopes are the least squares fit, which couples only neighbours:
one banded system for all dimensions. Keys are added where the error is worst, then those are taken out
again that the bound does not need.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.linalg import solve_banded

from artuline.core.geometry.rotation import Array

ErrorOf = Callable[[Array], Array]


@dataclass(frozen=True)
class Keys:
    """Keys at sample rows (K,), with values (K, D) and slopes into and out of them (K, D) per sample step."""

    rows: np.ndarray
    values: Array
    slope_in: Array
    slope_out: Array

    def evaluate(self, count: int) -> Array:
        """The curve at rows 0 .. count - 1: (count, D)."""
        x = np.arange(count, dtype=float)
        i = np.clip(np.searchsorted(self.rows, x, side="right") - 1, 0, len(self.rows) - 2)
        span = (self.rows[i + 1] - self.rows[i]).astype(float)
        a, b, c, d = _basis((x - self.rows[i]) / span, span)
        v = self.values
        return a * v[i] + b * self.slope_out[i] + c * v[i + 1] + d * self.slope_in[i + 1]


def _basis(u: Array, span: Array) -> tuple[Array, Array, Array, Array]:
    """Hermite basis functions of value, slope out, next value, slope in, as columns."""
    u2, u3 = u * u, u * u * u
    parts = (2 * u3 - 3 * u2 + 1, (u3 - 2 * u2 + u) * span, 3 * u2 - 2 * u3, (u3 - u2) * span)
    return tuple(p[:, None] for p in parts)  # type: ignore[return-value]


def slopes(samples: Array, rows: np.ndarray, corners: frozenset[int]) -> Keys:
    """Keys at ``rows`` with least squares slopes; at ``corners`` (rows) the two slopes are free of each other."""
    count = len(samples)
    free = np.zeros(len(rows), int)
    free[1:] = np.cumsum([2 if int(r) in corners else 1 for r in rows[:-1]])
    into = free.copy()
    out = into + np.array([1 if int(r) in corners else 0 for r in rows])
    size = int(out[-1]) + 1
    x = np.arange(count, dtype=float)
    i = np.clip(np.searchsorted(rows, x, side="right") - 1, 0, len(rows) - 2)
    span = (rows[i + 1] - rows[i]).astype(float)
    a, b, c, d = _basis((x - rows[i]) / span, span)
    left = samples - a * samples[rows[i]] - c * samples[rows[i + 1]]
    p, q = out[i], into[i + 1]
    diagonal = np.bincount(p, b[:, 0] ** 2, size) + np.bincount(q, d[:, 0] ** 2, size)
    beside = np.bincount(np.minimum(p, q), b[:, 0] * d[:, 0], size)
    right = np.zeros((size, samples.shape[1]))
    np.add.at(right, p, b * left)
    np.add.at(right, q, d * left)
    # a slope that no sample sees (neighbouring keys) follows the samples' own difference
    central = np.gradient(samples, axis=0) if count > 2 else np.repeat(samples[1:] - samples[:1], 2, axis=0)
    weight = 1e-6
    for where in (into, out):
        np.add.at(diagonal, where, weight)
        np.add.at(right, where, weight * central[rows])
    banded = np.zeros((3, size))
    banded[0, 1:], banded[1], banded[2, :-1] = beside[:-1], diagonal, beside[:-1]
    solved = solve_banded((1, 1), banded, right)
    return Keys(rows, samples[rows], solved[into], solved[out])


def fit(samples: Array, error_of: ErrorOf, bound: float, corners: frozenset[int] = frozenset()) -> Keys:
    """The fewest keys found that keep the error within a bound.

    samples (F, D); ``error_of(curve (F, D)) -> (F,)`` measures a fitted curve; corners: rows that get a key
    with two slopes. The first and the last row are always keys.
    """
    last = len(samples) - 1
    rows = np.array(sorted({0, last} | {c for c in corners if 0 < c < last}))
    while True:
        keys = slopes(samples, rows, corners)
        error = error_of(keys.evaluate(last + 1))
        if error.max() <= bound or len(rows) > last:
            break
        segment = np.clip(np.searchsorted(rows, np.arange(last + 1), side="right") - 1, 0, len(rows) - 2)
        new = set()
        for s in np.unique(segment[error > bound]):
            inside = np.arange(rows[s] + 1, rows[s + 1])
            if len(inside):
                # not too close to an end: half way is worth more than a sliver
                margin = len(inside) // 6
                core = inside[margin : len(inside) - margin] if margin else inside
                new.add(int(core[np.argmax(error[core])]))
        if not new:
            break
        rows = np.array(sorted(set(rows.tolist()) | new))
    return _thin(samples, keys, error_of, bound, corners)


def _thin(samples: Array, keys: Keys, error_of: ErrorOf, bound: float, corners: frozenset[int]) -> Keys:
    """Take out every key that the bound does not need, the least needed first."""
    tried: set[int] = set()
    while True:
        inner = [int(r) for r in keys.rows[1:-1] if int(r) not in tried]
        if not inner:
            return keys
        for row in inner:
            fewer = slopes(samples, keys.rows[keys.rows != row], corners - {row})
            if error_of(fewer.evaluate(len(samples))).max() <= bound:
                keys = fewer
                break
            tried.add(row)
        else:
            return keys
