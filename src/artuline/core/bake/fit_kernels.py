"""Compiled parts of the fit of cubic Hermite keys: the banded least squares, and the search for keys that can go.

The unknowns of a key stand together: slope in, value, and slope out where it differs; a piece of the curve couples four neighbours, so that
the normal equations have three diagonals beside the main one.
"""

import math

from artuline.core.physics.kernels import compiled, inlined

FIRM = 1e6  # weight of what is given: pinned values, level slopes
FAINT = 1e-6  # weight that draws slopes which no sample sees to the samples' own
TURNS = 3  # times the weights of a fit are set anew before it is given up
BAND = 4
NEAR = 4  # keys on each side of one that is taken out, whose values and slopes follow
PLACES = 1  # rows to each side of the middle at which one key is tried for two

# what a row of the samples is
FREE, CORNER, PINNED, LEVEL = 0, 1, 2, 3


@inlined
def _basis(u, span):
    u2 = u * u
    u3 = u2 * u
    return 2.0 * u3 - 3.0 * u2 + 1.0, (u3 - 2.0 * u2 + u) * span, 3.0 * u2 - 2.0 * u3, (u3 - u2) * span


@compiled
def solve_keys(samples, rows, count, kinds, weights, values, into, out, A, R):
    """Least squares keys at ``rows[:count]`` into values, into and out (K, D); A (3 F, 4) and R (3 F, D): scratch.

    kinds (F,): FREE, CORNER (two slopes, and its value is the sample's), PINNED (its value is the sample's), LEVEL (that, with no slope). The first and the last row are
    pinned. weights (F,) of the samples.
    """
    _solve(samples, rows, count, kinds, weights, False, False, values, into, out, A, R)


@compiled
def _solve(samples, rows, count, kinds, weights, left, right, values, into, out, A, R):
    """The same, of a part of the keys: ``left``, ``right``: whether the first and the last one stay as they are, with the slopes that they have."""
    frames, width = samples.shape
    size = 0
    for k in range(count):
        held = (left and k == 0) or (right and k == count - 1)
        size += 3 if kinds[rows[k]] == CORNER and not held else 2
    for i in range(size):
        for b in range(BAND):
            A[i, b] = 0.0
        for d in range(width):
            R[i, d] = 0.0
    at = 0
    for k in range(count):
        r = rows[k]
        kind = kinds[r]
        if (left and k == 0) or (right and k == count - 1):
            A[at, 0] += FIRM
            A[at + 1, 0] += FIRM
            for d in range(width):
                R[at, d] += FIRM * (out[k, d] if k == 0 else into[k, d])
                R[at + 1, d] += FIRM * values[k, d]
            at += 2
            continue
        corner = kind == CORNER
        # what is given, or hardly seen
        low, high = max(r - 1, 0), min(r + 1, frames - 1)
        if kind != FREE or k == 0 or k == count - 1:
            A[at + 1, 0] += FIRM
            for d in range(width):
                R[at + 1, d] += FIRM * samples[r, d]
        firm = FIRM if kind == LEVEL else FAINT
        for s in range(2 if corner else 1):
            n = at + 2 * s
            A[n, 0] += firm
            if kind != LEVEL:
                one, other = (low, high) if not corner else ((low, r) if s == 0 else (r, high))
                for d in range(width):
                    R[n, d] += firm * (samples[other, d] - samples[one, d]) / max(other - one, 1)
        at += 3 if corner else 2
    at = 0
    for k in range(count - 1):
        r, e = rows[k], rows[k + 1]
        span = float(e - r)
        corner = kinds[r] == CORNER and not (left and k == 0)
        # value and slope of this key, then of the next
        v, m = at + 1, at + 2 if corner else at
        at += 3 if corner else 2
        w, n = at + 1, at
        for f in range(r, e + (1 if k == count - 2 else 0)):
            a, b, c, q = _basis((f - r) / span, span)
            g = weights[f]
            # each pair of unknowns once, in the row of the lower one
            A[v, 0] += g * a * a
            A[m, 0] += g * b * b
            A[min(v, m), 1] += g * a * b
            A[w, 0] += g * c * c
            A[n, 0] += g * q * q
            A[n, 1] += g * c * q
            A[v, w - v] += g * a * c
            A[v, n - v] += g * a * q
            A[m, w - m] += g * b * c
            A[m, n - m] += g * b * q
            for d in range(width):
                s = g * samples[f, d]
                R[v, d] += a * s
                R[m, d] += b * s
                R[w, d] += c * s
                R[n, d] += q * s
    _cholesky(A, R, size, width)
    at = 0
    for k in range(count):
        if (left and k == 0) or (right and k == count - 1):
            at += 2
            continue
        corner = kinds[rows[k]] == CORNER
        pinned = kinds[rows[k]] != FREE or k == 0 or k == count - 1
        for d in range(width):
            into[k, d] = R[at, d]
            # to the last bit, however much the weights of the samples lean
            values[k, d] = samples[rows[k], d] if pinned else R[at + 1, d]
            out[k, d] = R[at + 2, d] if corner else R[at, d]
        at += 3 if corner else 2


@inlined
def _cholesky(A, R, size, width):
    """Solve a symmetric positive definite system in place; A (size, 4): a row's main diagonal and the three to its right."""
    for i in range(size):
        pivot = 1.0 / A[i, 0]
        for b in range(1, BAND):
            if i + b >= size:
                break
            w = A[i, b] * pivot
            for c in range(b, BAND):
                if i + c < size:
                    A[i + b, c - b] -= w * A[i, c]
            for d in range(width):
                R[i + b, d] -= w * R[i, d]
    for i in range(size - 1, -1, -1):
        for d in range(width):
            s = R[i, d]
            for b in range(1, BAND):
                if i + b < size:
                    s -= A[i, b] * R[i + b, d]
            R[i, d] = s / A[i, 0]


@compiled
def measure(samples, rows, count, values, into, out, turning, errors):
    """How far the curve of some keys is from every sample (F,): an angle in radians where ``turning``, else a distance."""
    width = samples.shape[1]
    for k in range(count - 1):
        r, e = rows[k], rows[k + 1]
        span = float(e - r)
        for f in range(r, e + (1 if k == count - 2 else 0)):
            a, b, c, q = _basis((f - r) / span, span)
            off, length = 0.0, 0.0
            for d in range(width):
                x = a * values[k, d] + b * out[k, d] + c * values[k + 1, d] + q * into[k + 1, d]
                off += (x - samples[f, d]) ** 2
                length += x * x
            if turning:
                # the sine of half the angle, which a tiny one does not lose
                off = max(off - (math.sqrt(length) - 1.0) ** 2, 0.0) / max(math.sqrt(length), 1e-12)
                half = min(0.5 * math.sqrt(off), 1.0)
                errors[f] = 4.0 * math.asin(half)
            else:
                errors[f] = math.sqrt(off)


@compiled
def _fits(
    samples, rows, count, left, right, kinds, bounds, turning, values, into, out, A, R, weights, errors, tries
):  # fmt: skip
    """Whether keys at some rows hold the bounds, with weights that lean on where they do not (Lawson 1961); left, right: as of ``_solve``."""
    low, high = rows[0], rows[count - 1] + 1
    for f in range(low, high):
        weights[f] = 1.0
    for _turn in range(tries):
        _solve(samples, rows, count, kinds, weights, left, right, values, into, out, A, R)
        measure(samples, rows, count, values, into, out, turning, errors)
        worst = 0.0
        for f in range(low, high):
            worst = max(worst, errors[f] / bounds[f])
        if worst <= 1.0:
            return True
        if worst > 3.0:
            return False
        for f in range(low, high):
            weights[f] = min(weights[f] * (0.25 + (errors[f] / bounds[f]) ** 2), 1e3)
    return False


@compiled
def _without(
    samples, rows, count, gone, place, kinds, bounds, turning, values, into, out, part, few, A, R, weights, errors
):  # fmt: skip
    """Take a key out, or, where ``place`` is one, move it there and take the next one out, if those around it can still hold the bounds; the new count.

    Only ``NEAR`` keys on each side change. part (F,) and few (3, F, D): scratch.
    """
    width = samples.shape[1]
    after = gone + 1 if place < 0 else gone + 2
    start, stop = max(gone - NEAR, 0), min(after + NEAR, count)
    m = 0
    for j in range(start, stop):
        if gone <= j < after:
            if place < 0 or j > gone:
                continue
            part[m] = place
        else:
            part[m] = rows[j]
        for d in range(width):
            few[0, m, d], few[1, m, d], few[2, m, d] = values[j, d], into[j, d], out[j, d]
        m += 1
    left, right = start > 0, stop < count
    if not _fits(
        samples, part, m, left, right, kinds, bounds, turning, few[0], few[1], few[2], A, R, weights, errors, TURNS
    ):
        return count
    for j in range(m):
        rows[start + j] = part[j]
        for d in range(width):
            values[start + j, d], into[start + j, d], out[start + j, d] = few[0, j, d], few[1, j, d], few[2, j, d]
    for j in range(stop, count):
        rows[j - 1] = rows[j]
        for d in range(width):
            values[j - 1, d], into[j - 1, d], out[j - 1, d] = values[j, d], into[j, d], out[j, d]
    return count - 1


@compiled
def search(
    samples, kinds, allowed, bounds, turning, polish, rows, part, is_key, values, into, out, few, A, R, weights, errors
):
    """Few keys that hold the bounds (F,): how many, with their rows, values and slopes.

    allowed (F,): where there may be keys. Keys are added where the error is worst, then those are taken out that are not needed. kinds (F,) as of
    ``solve_keys``: rows that are not FREE are keys in any case. is_key (F,): where there are keys to begin
    with. polish: whether keys that are not needed are taken out. The rest is as of ``solve_keys``, or scratch: part (F,), few (3, F, D), weights and errors (F,).
    """
    frames = samples.shape[0]
    is_key[0], is_key[frames - 1] = True, True
    for f in range(frames):
        if kinds[f] != FREE:
            is_key[f] = True
    while True:
        count = 0
        for f in range(frames):
            if is_key[f]:
                rows[count] = f
                count += 1
        if _fits(
            samples, rows, count, False, False, kinds, bounds, turning, values, into, out, A, R, weights, errors, TURNS
        ):
            break
        more = False
        for k in range(count - 1):
            r, e = rows[k], rows[k + 1]
            worst, best, place = 0.0, -1.0, -1
            for f in range(r, e + 1):
                worst = max(worst, errors[f] / bounds[f])
            if worst <= 1.0:
                continue
            # not too close to an end: half way is worth more than a sliver
            margin = (e - r - 1) // 6
            for f in range(r + 1 + margin, e - margin):
                if allowed[f] and errors[f] / bounds[f] > best:
                    best, place = errors[f] / bounds[f], f
            if place < 0:
                for f in range(r + 1, e):
                    if allowed[f] and errors[f] / bounds[f] > best:
                        best, place = errors[f] / bounds[f], f
            if place >= 0:
                is_key[place] = True
                more = True
        if not more:
            break
    if not polish:
        return count
    # every key that the bounds do not need goes; those on every second row first, so that what is left is even
    for start in range(3):
        k = 1 + start % 2
        while k < count - 1:
            if kinds[rows[k]] == FREE:
                before = count
                count = _without(
                    samples, rows, count, k, -1, kinds, bounds, turning, values, into, out, part, few, A, R, weights, errors
                )  # fmt: skip
                if count < before:
                    if start == 0:
                        k += 1
                    continue
            k += 2 if start == 0 else 1
    # one key for two, at some place between them
    k = 1
    while k < count - 2:
        before = count
        if kinds[rows[k]] == FREE and kinds[rows[k + 1]] == FREE:
            low, high = rows[k], rows[k + 1]
            middle = (low + high) // 2
            for t in range(2 * PLACES + 1):
                place = middle + (t + 1) // 2 * (1 if t % 2 == 1 else -1)
                if place < low or place > high or not allowed[place]:
                    continue
                count = _without(
                    samples, rows, count, k, place, kinds, bounds, turning, values, into, out, part, few, A, R, weights, errors
                )  # fmt: skip
                if count < before:
                    break
        k = max(k - 1, 1) if count < before else k + 1
    # all of them at once, if that holds the bounds too
    if _fits(
        samples, rows, count, False, False, kinds, bounds, turning, few[0], few[1], few[2], A, R, weights, errors, TURNS
    ):
        for k in range(count):
            for d in range(samples.shape[1]):
                values[k, d], into[k, d], out[k, d] = few[0, k, d], few[1, k, d], few[2, k, d]
    return count


@compiled
def find_rests(samples, within, least, ends):
    """First and last rows, into ends (F, 2), of stretches of ``least`` rows or more in which no value is farther than ``within`` from the first; how many."""
    frames, width = samples.shape
    count, first = 0, 0
    while first < frames - 1:
        last, still = first, True
        while still and last + 1 < frames:
            for d in range(width):
                if abs(samples[last + 1, d] - samples[first, d]) > within:
                    still = False
            if still:
                last += 1
        if last - first + 1 >= least:
            ends[count, 0], ends[count, 1] = first, last
            count += 1
            first = last
        else:
            first += 1
    return count
