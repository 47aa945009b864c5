"""Fitting sampled motion with few cubic Hermite keys.

Keys lie on samples; their values and slopes are the least squares fit, which couples only neighbours: one banded system for all dimensions, whose weights lean
on where the bound is missed (Lawson 1961, Contributions to the Theory of Linear Least Maximum Approximation). Keys are added where the error is worst, then
those are taken out again that the bound does not need.
"""

from dataclasses import dataclass

import numpy as np

from artuline.core.bake.fit_kernels import BAND, CORNER, FREE, LEVEL, PINNED, find_rests, measure, search, solve_keys
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array

STILL = 0.05  # of the bound: samples that stay within are a rest
REST = 12  # rows that a rest takes at least
ATTEMPTS, POLISHED = 14, 3  # times that a rotation is fitted anew for its unit keys; those that look for the fewest
BESIDE = (
    1.0,
    0.3,
    0.1,
    0.03,
    0.01,
    1e-3,
    1e-4,
)  # weights of what lies between samples, in the order in which they are tried
SWING = 0.15  # share of a step that a curve may be off half way through it and still keep one slope
SHARP = 1e-4  # m, or radians: bounds below are not reached by floating point


@dataclass(frozen=True)
class Keys:
    """Keys at sample rows (K,), with values (K, D) and slopes into and out of them (K, D) per sample step."""

    rows: np.ndarray
    values: Array
    slope_in: Array
    slope_out: Array

    def evaluate(self, at: int | Array) -> Array:
        """The curve at rows 0 .. at - 1, or at rows (N,) of any kind: (N, D)."""
        x = np.arange(at, dtype=float) if isinstance(at, int) else np.asarray(at, float)
        i = np.clip(np.searchsorted(self.rows, x, side="right") - 1, 0, len(self.rows) - 2)
        span = (self.rows[i + 1] - self.rows[i]).astype(float)
        u = (x - self.rows[i]) / span
        u2, u3 = u * u, u * u * u
        v = self.values
        parts = ((2 * u3 - 3 * u2 + 1), (u3 - 2 * u2 + u) * span, 3 * u2 - 2 * u3, (u3 - u2) * span)
        a, b, c, d = (p[:, None] for p in parts)
        return np.asarray(a * v[i] + b * self.slope_out[i] + c * v[i + 1] + d * self.slope_in[i + 1])


@dataclass(frozen=True, eq=False)
class Wish:
    """What a fit has to keep. ``bounds``: the error that is allowed, one for all rows or for each (F,), metres or, where it is ``turning``, radians.

    ``corners``: rows at which the speed changes at once; ``musts``: rows that get a key in any case, with the sample's value. ``step``: keys
    only on every so many rows, counted from ``origin``. ``rests``: long rests become two keys without slopes. ``fine``: rows to a frame.
    ``calm``: curves mind what lies between the rows.
    """

    bounds: float | Array
    turning: bool = False
    corners: frozenset[int] = frozenset()
    musts: frozenset[int] = frozenset()
    step: int = 1
    origin: int = 0
    rests: bool = True
    fine: int = 1
    calm: bool = True


def kinds_of(samples: Array, wish: Wish) -> np.ndarray:
    """What every row is to the fit (F,), as of ``fit_kernels.solve_keys``."""
    count = len(samples)
    kinds = np.full(count, FREE, np.int64)
    for rows, kind in ((wish.musts, PINNED), (wish.corners, CORNER)):
        kinds[[r for r in rows if 0 < r < count - 1]] = kind
    if wish.rests:
        for first, last in rests(samples, STILL * float(np.min(wish.bounds)), REST * wish.fine):
            # keys lie where there may be some: a rest begins at the first such row, and ends at the last
            first = first if first == 0 else first + (-(first + wish.origin)) % wish.step
            last = last if last == count - 1 else last - (last + wish.origin) % wish.step
            if last <= first:
                continue
            # between the two it does not move, whatever happens around
            kinds[first + 1 : last] = FREE
            for end in (first, last):
                kinds[end] = kinds[end] if kinds[end] == CORNER else LEVEL
    return kinds


def rests(samples: Array, within: float, least: int = REST) -> list[tuple[int, int]]:
    """First and last rows of the stretches, ``least`` rows or longer, in which no sample is farther than ``within`` from the first."""
    ends = np.zeros((len(samples), 2), np.int64)
    count = find_rests(np.ascontiguousarray(samples, float), within, least, ends)
    return [(int(a), int(b)) for a, b in ends[:count]]


def fit(samples: Array, wish: Wish, start: np.ndarray | None = None) -> Keys:
    """The fewest keys found that keep the error of samples (F, D), F of 2 or more, within its bounds. Rotations are unit quaternions that do not flip.

    The first and the last row are always keys, with the samples' values. ``start``: rows that are keys to begin with; then keys are only added.
    """
    samples = np.ascontiguousarray(samples, float)
    count, width = samples.shape
    kinds = kinds_of(samples, wish)
    allowed = (np.arange(count) + wish.origin) % wish.step == 0
    bounds = np.maximum(np.broadcast_to(np.asarray(wish.bounds, float), (count,)), SHARP * 1e-8)
    bounds = np.ascontiguousarray(bounds)
    values, into, out = np.zeros((3, count, width))
    rows, part = np.zeros((2, count), np.int64)
    few = np.zeros((3, count, width))
    band, right, weights, errors = (
        np.zeros((3 * count, BAND)),
        np.zeros((3 * count, width)),
        np.ones(count),
        np.zeros(count),
    )
    first, tighter = np.zeros(count, bool), bounds.copy()
    if start is not None:
        first[start] = True
    for attempt in range(ATTEMPTS):
        polish = start is None and attempt < POLISHED
        n = search(samples, kinds, allowed, tighter, wish.turning, polish, rows, part, first.copy(),
                   values, into, out, few, band, right, weights, errors)  # fmt: skip
        if not wish.turning:
            break
        # a key of a rotation is a rotation: its way to there changes the curve a little
        length = np.linalg.norm(values[:n], axis=1, keepdims=True)
        values[:n], into[:n], out[:n] = values[:n] / length, into[:n] / length, out[:n] / length
        measure(samples, rows, n, values, into, out, True, errors)
        share = errors / bounds
        if share.max() <= 1.0 or n >= allowed.sum():
            break
        if attempt < POLISHED:
            tighter *= 0.95 / share.max()
        else:
            # where that does not help, there are keys
            first[rows[:n]] = True
            first[(share > 1.0) & allowed] = True
    keys = Keys(rows[:n].copy(), values[:n].copy(), into[:n].copy(), out[:n].copy())
    return keys if wish.fine > 1 or count < 3 or not wish.calm else calmed(keys, samples, wish)


def smooth(samples: Array, sharp: np.ndarray, turning: bool) -> Keys:
    """A key on every sample (F, D), whose curve is smooth (Catmull and Rom 1974), but straight on both sides of what is sharp (F,): what may be thought to lie between."""
    samples = rotation.make_continuous(samples) if turning else np.asarray(samples, float)
    steps = np.diff(samples, axis=0)
    slope = np.concatenate([steps[:1], 0.5 * (steps[1:] + steps[:-1]), steps[-1:]])
    into, out = slope.copy(), slope.copy()
    for f in np.flatnonzero(sharp):
        if f > 0:
            out[f - 1] = into[f] = steps[f - 1]
        if f < len(steps):
            out[f] = into[f + 1] = steps[f]
    return Keys(np.arange(len(samples)), samples, into, out)


def calmed(keys: Keys, samples: Array, wish: Wish) -> Keys:
    """The same keys with values and slopes that mind what lies between the samples too, as far as the bounds allow: where keys are close, no sample sees their
    slopes. Where the curve still swings out between keys on neighbouring rows, they get slopes of their own there.
    """
    count, width = samples.shape
    kinds, turning, bounds = kinds_of(samples, wish), wish.turning, np.broadcast_to(wish.bounds, (count,))
    halves = smooth(samples, np.isin(kinds, (CORNER, LEVEL)), turning).evaluate(np.arange(count - 1) + 0.5)
    double = np.zeros((2 * count - 1, width))
    double[::2], double[1::2] = samples, halves
    rows, n = 2 * keys.rows, len(keys.rows)
    sorts = np.full(len(double), FREE, np.int64)
    sorts[::2] = kinds
    values, into, out = np.zeros((3, n, width))
    band, right, errors = np.zeros((3 * len(double), BAND)), np.zeros((3 * len(double), width)), np.zeros(count)
    lean = np.ones(len(double))
    for share in BESIDE:
        lean[1::2] = share
        solve_keys(double, rows, n, sorts, lean, values, into, out, band, right)
        made = Keys(keys.rows, values.copy(), 2.0 * into, 2.0 * out)
        if turning:
            length = np.linalg.norm(values, axis=1, keepdims=True)
            made = Keys(keys.rows, values / length, made.slope_in / length, made.slope_out / length)
        measure(samples, keys.rows, n, made.values, made.slope_in, made.slope_out, turning, errors)
        if (errors <= bounds).all():
            keys = made
            break
    close = keys.rows[:-1][np.diff(keys.rows) == 1]
    off = keys.evaluate(close + 0.5) - halves[close]
    step = np.linalg.norm(samples[close + 1] - samples[close], axis=1)
    size = np.linalg.norm(off, axis=1) - SWING * step
    parted = np.flatnonzero(size > 0.5 * (bounds[close] + bounds[close + 1]) * (0.5 if turning else 1.0))
    if len(parted):
        # the least change of both slopes that leads the curve through the place half way
        at = np.searchsorted(keys.rows, close[parted])
        keys.slope_out[at] -= 4.0 * off[parted]
        keys.slope_in[at + 1] += 4.0 * off[parted]
    return keys


def slopes(samples: Array, rows: np.ndarray, kinds: np.ndarray) -> Keys:
    """Least squares keys at ``rows`` (K,) for samples (F, D); kinds (F,) as of ``fit_kernels.solve_keys``."""
    samples = np.ascontiguousarray(samples, float)
    count, width = samples.shape
    values, into, out = np.zeros((3, count, width))
    band, right = np.zeros((3 * count, BAND)), np.zeros((3 * count, width))
    at = np.zeros(count, np.int64)
    at[: len(rows)] = rows
    solve_keys(samples, at, len(rows), kinds, np.ones(count), values, into, out, band, right)
    n = len(rows)
    return Keys(np.asarray(rows).copy(), values[:n].copy(), into[:n].copy(), out[:n].copy())
