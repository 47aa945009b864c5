"""The keys of a channel as curves that can be edited: three numbers each, rotations as angles in degrees; quaternions inside."""

from dataclasses import dataclass, replace

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel, straighten
from artuline.core.geometry.euler import Order, best_order, both_angles, from_angles, to_angles
from artuline.core.geometry.rotation import Array

TINY = 1e-4  # seconds and radians over which a slope is taken across the change of description
JUMP = 5e-4  # seconds: what is shorter jumps, and gives its ends no slope
SAME = 1e-6  # seconds: keys closer than that are one


@dataclass(frozen=True, eq=False)
class Curves:
    """The curves of a channel that have their keys in common: times (K,) seconds; values, slopes into and out of the keys (K, D), in degrees for rotations, per
    second; holds (K,): whether a value stays until the next key; lines (K,): whether it goes straight to it, wherever both are put.
    """

    times: Array
    values: Array
    into: Array
    out: Array
    holds: np.ndarray
    lines: np.ndarray

    def at(self, rows: np.ndarray) -> "Curves":
        """Some of the keys."""
        return Curves(*(x[rows] for x in (self.times, self.values, self.into, self.out, self.holds, self.lines)))


def cubic(channel: Channel) -> Channel:
    """A channel with cubic keys: itself, or the same motion with straight pieces, or with values that hold."""
    if channel.interpolation == "CUBICSPLINE":
        return channel
    times, values = np.asarray(channel.times, float), np.asarray(channel.values, float)
    holds = np.ones(len(times), bool) if channel.interpolation == "STEP" else None
    slope = np.zeros((max(len(times) - 1, 0), values.shape[1]))
    if holds is None and len(times) > 1:
        span = np.diff(times)[:, None]
        slope = np.diff(values, axis=0) / span
        if channel.path == "rotation":
            values = rotation.make_continuous(values)
            slope = np.diff(values, axis=0) / span
    into, out = np.concatenate([slope[:1], slope]), np.concatenate([slope, slope[-1:]])
    if not len(slope):
        into = out = np.zeros_like(values)
    return Channel(channel.bone, channel.path, "CUBICSPLINE", times, np.stack([into, values, out], axis=1), holds)


def order_of(channel: Channel, chosen: Order | None = None) -> Order:
    """The order of a channel of rotations: the chosen one, else the one that stays farthest from gimbal lock."""
    if channel.path != "rotation" or chosen is not None:
        return chosen or "xyz"
    times = np.asarray(channel.times, float)
    return best_order(channel.sample(np.linspace(times[0], times[-1], min(max(2 * len(times), 24), 200))))


def curves_of(channel: Channel, order: Order, scale: float = 1.0) -> Curves:
    """The curves of a cubic channel; ``scale``: of those that are no rotations, for another unit."""
    times, keys = np.asarray(channel.times, float), np.asarray(channel.values, float)
    holds, lines = (
        np.zeros(len(times), bool) if x is None else np.asarray(x, bool) for x in (channel.holds, channel.lines)
    )
    into, values, out = keys[:, 0], keys[:, 1], keys[:, 2]
    if channel.path != "rotation":
        return Curves(times, scale * values, scale * into, scale * out, holds, lines)
    # of the branch that the motion takes, not only of the keys
    fine = np.unique(np.concatenate([times, np.linspace(times[0], times[-1], 4 * len(times))]))
    at = np.searchsorted(fine, times)
    angles = to_angles(channel.sample(fine), order)[at]

    def turned(slope: Array) -> Array:
        both = [_near(angles, rotation.normalize(values + x * TINY * slope), order) for x in (-1.0, 1.0)]
        return (both[1] - both[0]) / (2.0 * TINY)

    return Curves(times, np.degrees(angles), np.degrees(turned(into)), np.degrees(turned(out)), holds, lines)


def _near(angles: Array, q: Array, order: Order) -> Array:
    """The angles (K, 3) of rotations (K, 4) that are nearest to others."""
    both = both_angles(q, order)
    both += 2.0 * np.pi * np.round((angles - both) / (2.0 * np.pi))
    nearest = np.argmin(np.abs(both - angles).sum(axis=2), axis=0)
    return np.asarray(both[nearest, np.arange(len(q))])


def channel_of(channel: Channel, curves: Curves, order: Order, scale: float = 1.0) -> Channel:
    """The cubic channel that has other curves than ``channel``; keys that stay what they are stay so to the last bit."""
    holds = curves.holds if curves.holds.any() else None
    lines = None if channel.lines is None else curves.lines
    if channel.path != "rotation":
        into, out = curves.into.copy(), curves.out.copy()
        straighten(curves.times, curves.values, into, out, curves.lines)
        values = np.stack([into, curves.values, out], axis=1) / scale
        return Channel(channel.bone, channel.path, "CUBICSPLINE", curves.times, values, holds, lines)
    angles = np.radians(curves.values)
    q = from_angles(angles, order)

    def turned(slope: Array) -> Array:
        step = np.radians(slope) * TINY
        a, b = from_angles(angles - step, order), from_angles(angles + step, order)
        a, b = (x * np.where(np.sum(x * q, axis=1) < 0.0, -1.0, 1.0)[:, None] for x in (a, b))
        return np.asarray((b - a) / (2.0 * TINY))

    keys = np.stack([turned(curves.into), q, turned(curves.out)], axis=1)
    flips = np.cumsum(np.sum(q[1:] * q[:-1], axis=1) < 0.0)
    # an angle that goes round further than half a turn between two keys takes the long way, which quaternions do not
    keys[1:] *= np.where(flips % 2 == 1, -1.0, 1.0)[:, None, None]
    before = curves_of(channel, order)
    at = np.clip(np.searchsorted(before.times, curves.times - SAME), 0, len(before.times) - 1)
    same = np.abs(before.times[at] - curves.times) < SAME
    for now, then in ((curves.values, before.values), (curves.into, before.into), (curves.out, before.out)):
        same &= np.abs(now - then[at]).max(axis=1) < 1e-7 * (1.0 + np.abs(now).max(axis=1))
    old = np.asarray(channel.values, float)[at[same]]
    # on the side of the double cover that the new ones are on
    sides = np.where(np.sum(old[:, 1] * keys[same, 1], axis=1) < 0.0, -1.0, 1.0)
    keys[same] = old * sides[:, None, None]
    if len(keys) and same.any() and sides[0] < 0.0:
        keys = -keys
    return Channel(channel.bone, channel.path, "CUBICSPLINE", curves.times, keys, holds, lines)


def drawn(channel: Channel, order: Order, times: Array, scale: float = 1.0) -> Array:
    """What the curves of a channel are at times (F,): (F, 3), degrees for rotations, others by a scale."""
    values = channel.sample(times)
    return np.degrees(to_angles(values, order)) if channel.path == "rotation" else scale * values


def sample(curves: Curves, times: Array) -> Array:
    """The cubic curves themselves at times (F,): (F, 3); level beyond their ends."""
    keys = Channel(
        "",
        "translation",
        "CUBICSPLINE",
        curves.times,
        np.stack([curves.into, curves.values, curves.out], axis=1),
        curves.holds,
        curves.lines,
    )
    return keys.sample(times)


def sorted_keys(curves: Curves, moved: np.ndarray) -> tuple[Curves, np.ndarray]:
    """Keys in the order of their times; where several came to one time, those that ``moved`` (K,) stay. Also which row each of the new ones was."""
    rank = np.lexsort((~moved, np.round(curves.times / SAME)))
    times = curves.times[rank]
    first = np.concatenate([[True], np.diff(times) > SAME])
    rows = rank[first]
    return curves.at(rows), rows


def moved(curves: Curves, picked: np.ndarray, seconds: float, by: Array | float) -> tuple[Curves, np.ndarray]:
    """Keys moved in time, and by values: picked (K, 3), by (3,) or a number. Returns also the rows as of ``sorted_keys``."""
    any_ = np.asarray(picked.any(axis=1))
    return sorted_keys(
        replace(curves, times=curves.times + seconds * any_, values=curves.values + picked * np.asarray(by)), any_
    )


def scaled(
    curves: Curves, picked: np.ndarray, time: tuple[float, float], value: tuple[float, float]
) -> tuple[Curves, np.ndarray]:
    """Keys scaled in time and value, each a pivot and a factor; slopes go along. Returns also the rows as of ``sorted_keys``."""
    any_ = np.asarray(picked.any(axis=1))
    pivot, factor = time
    factor = factor if abs(factor) > 1e-6 else 1e-6
    times = np.where(any_, pivot + (curves.times - pivot) * factor, curves.times)
    values = np.where(picked, value[0] + (curves.values - value[0]) * value[1], curves.values)
    steep = np.where(picked, value[1], 1.0) / np.where(any_, factor, 1.0)[:, None]
    into, out, lines = curves.into * steep, curves.out * steep, curves.lines
    if factor < 0.0:
        into, out = np.where(any_[:, None], out, into), np.where(any_[:, None], into, out)
        # of two keys that change their order, the other one is the first of the piece between
        lines = np.where(any_, np.concatenate([lines[:1], lines[:-1]]), lines)
    return sorted_keys(Curves(times, values, into, out, curves.holds, lines), any_)


def reversed_keys(curves: Curves, picked: np.ndarray) -> tuple[Curves, np.ndarray]:
    """The picked keys backwards, in the time that they take."""
    any_ = np.asarray(picked.any(axis=1))
    if not any_.any():
        return curves, np.arange(len(curves.times))
    t = curves.times[any_]
    return scaled(
        curves, np.repeat(any_[:, None], curves.values.shape[1], axis=1), (0.5 * float(t[0] + t[-1]), -1.0), (0.0, 1.0)
    )


def inserted(channel: Channel, time: float) -> Channel:
    """A cubic channel with one more key, which does not change its shape (subdivision of a cubic; of rotations, but for the length that their curve has there)."""
    times, keys = np.asarray(channel.times, float), np.asarray(channel.values, float)
    if np.abs(times - time).min() <= SAME:
        return channel
    at = int(np.searchsorted(times, time))
    holds = np.zeros(len(times), bool) if channel.holds is None else channel.holds
    inside = 0 < at < len(times)
    if not inside or holds[at - 1]:
        value = keys[0, 1] if at == 0 else keys[at - 1, 1]
        slope = np.zeros_like(value)
    else:
        span = times[at] - times[at - 1]
        u = (time - times[at - 1]) / span
        a, b, out, into = keys[at - 1, 1], keys[at, 1], keys[at - 1, 2] * span, keys[at, 0] * span
        value = (
            (2 * u**3 - 3 * u**2 + 1) * a
            + (u**3 - 2 * u**2 + u) * out
            + (3 * u**2 - 2 * u**3) * b
            + (u**3 - u**2) * into
        )
        slope = ((6 * u**2 - 6 * u) * (a - b) + (3 * u**2 - 4 * u + 1) * out + (3 * u**2 - 2 * u) * into) / span
        if channel.path == "rotation":
            length = float(np.linalg.norm(value))
            value = value / length
            slope = slope / length - value * float(value @ slope) / length
    new = np.insert(keys, at, np.stack([slope, value, slope]), axis=0)
    # it is level before the first key and after the last, whatever their slopes there were
    if at == 0:
        new[1, 0] = 0.0
    if at == len(times):
        new[at - 1, 2] = 0.0
    held = np.insert(holds, at, bool(inside and holds[at - 1]))
    lines = None
    if channel.lines is not None:
        lines = np.insert(channel.lines, at, channel.lines[max(at - 1, 0)])
    return Channel(
        channel.bone, channel.path, "CUBICSPLINE", np.insert(times, at, time), new, held if held.any() else None, lines
    )


def deleted(curves: Curves, gone: np.ndarray) -> Curves:
    """The curves without some keys (K,), at least one of which stays; the slopes beside every gap are those of the least squares there, and in the pieces next to it."""
    kept = np.flatnonzero(~gone)
    if not len(kept):
        kept = np.array([0])
    left = curves.at(kept)
    into, out = left.into.copy(), left.out.copy()
    for i in range(len(kept) - 1):
        if kept[i + 1] == kept[i] + 1 or left.holds[i]:
            continue
        # unknown: the slopes at both ends of the gap; those that were smooth stay so
        smooth = [bool(np.allclose(left.into[k], left.out[k], rtol=1e-3, atol=1e-6)) for k in (i, i + 1)]
        low = max(i - 1, 0) if smooth[0] else i
        high = min(i + 2, len(kept) - 1) if smooth[1] else i + 1
        t = np.linspace(left.times[low], left.times[high], 40 * (high - low))
        rows, right = np.zeros((len(t), 2)), sample(curves, t)
        for k in range(low, high):
            span = left.times[k + 1] - left.times[k]
            mine = (t >= left.times[k]) & ((t < left.times[k + 1]) if k + 1 < high else (t <= left.times[k + 1]))
            u = ((t[mine] - left.times[k]) / span)[:, None]
            parts = 2 * u**3 - 3 * u**2 + 1, (u**3 - 2 * u**2 + u) * span, 3 * u**2 - 2 * u**3, (u**3 - u**2) * span
            right[mine] -= parts[0] * left.values[k] + parts[2] * left.values[k + 1]
            for part, key, given in ((parts[1], k, out[k]), (parts[3], k + 1, into[k + 1])):
                if key in (i, i + 1):
                    rows[mine, key - i] += part[:, 0]
                else:
                    right[mine] -= part * given
        found = np.linalg.lstsq(rows, right, rcond=None)[0]
        out[i], into[i + 1] = found[0], found[1]
        if smooth[0]:
            into[i] = found[0]
        if smooth[1]:
            out[i + 1] = found[1]
    return replace(left, into=into, out=out)


def tangents(curves: Curves, picked: np.ndarray, kind: str) -> Curves:
    """The slopes of picked keys (K, 3) by kind: smooth, flat, linear, stepped (whole keys hold), or joined (one slope for both sides)."""
    t, v = curves.times, curves.values
    into, out, holds, lines = curves.into.copy(), curves.out.copy(), curves.holds.copy(), curves.lines.copy()
    any_ = np.asarray(picked.any(axis=1))
    holds[any_] = kind == "stepped"
    lines[any_ | np.append(any_[1:], False)] = False
    if kind == "stepped":
        return replace(curves, holds=holds)
    straight = np.diff(v, axis=0) / np.diff(t)[:, None] if len(t) > 1 else np.zeros((0, v.shape[1]))
    before, after = np.concatenate([straight[:1], straight]), np.concatenate([straight, straight[-1:]])
    if not len(straight):
        before = after = np.zeros_like(v)
    if kind == "flat":
        new_in = new_out = np.zeros_like(v)
    elif kind == "linear":
        new_in, new_out = before, after
    elif kind == "joined":
        new_in = new_out = 0.5 * (into + out)
    else:
        # the parabola through the neighbours: each side counts by how near it is
        span = np.concatenate([[1.0], np.diff(t), [1.0]]) if len(t) > 1 else np.ones(2)
        jumps = span < JUMP
        before = np.where(jumps[:-1, None], after, before)
        after = np.where(jumps[1:, None], before, after)
        a, b = span[:-1, None], span[1:, None]
        new_in = new_out = (before * b + after * a) / (a + b)
    return replace(
        curves, into=np.where(picked, new_in, into), out=np.where(picked, new_out, out), holds=holds, lines=lines
    )


def with_slope(curves: Curves, row: int, axis: int, sides: tuple[bool, bool], slope: float) -> Curves:
    """The curves with another slope of one value, into and out of its key as ``sides`` say."""
    into, out, lines = curves.into.copy(), curves.out.copy(), curves.lines.copy()
    if sides[0]:
        into[row, axis], lines[max(row - 1, 0)] = slope, False
    if sides[1]:
        out[row, axis], lines[row] = slope, False
    return replace(curves, into=into, out=out, lines=lines)


def smoothed(curves: Curves, picked: np.ndarray, share: float = 0.5) -> Curves:
    """Picked values drawn by a share to the straight line between their neighbours, with smooth slopes."""
    if len(curves.times) < 3:
        return curves
    t, v = curves.times, curves.values
    u = ((t[1:-1] - t[:-2]) / (t[2:] - t[:-2]))[:, None]
    between = v[:-2] + (v[2:] - v[:-2]) * u
    new = v.copy()
    new[1:-1] = np.where(picked[1:-1], v[1:-1] + share * (between - v[1:-1]), v[1:-1])
    return tangents(replace(curves, values=new), picked, "smooth")


def flattened(curves: Curves, picked: np.ndarray) -> Curves:
    """Picked keys at the mean of their values, level."""
    count = np.maximum(picked.sum(axis=0), 1)
    mean = (curves.values * picked).sum(axis=0) / count
    return tangents(replace(curves, values=np.where(picked, mean, curves.values)), picked, "flat")


def looped(curves: Curves) -> Curves:
    """Curves that end as they begin: what they differ by is spread over all keys, and the slopes at both ends are one."""
    t = curves.times
    if len(t) < 2:
        return curves
    share = ((t - t[0]) / (t[-1] - t[0]))[:, None]
    off, span = curves.values[-1] - curves.values[0], t[-1] - t[0]
    into, out = curves.into - off / span, curves.out - off / span
    both = 0.5 * (out[0] + into[-1])
    out[0] = into[0] = into[-1] = out[-1] = both
    return replace(curves, values=curves.values - share * off, into=into, out=out)
