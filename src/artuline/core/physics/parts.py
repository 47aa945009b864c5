"""Parts of an island: what touches nothing else within a substep is solved, and halved, by itself.

An island's bodies lie tree by tree of its joints (``cells``: first and one behind the last body, first and one behind the last joint, first
record of lanes); those on their keys are the last cell. A part is some cells, joined by contacts.
"""

from artuline.core.physics.kernels import compiled, inlined
from artuline.core.physics.state import CONTACTS, COUNTERS, NEAR, PATTERN, SWEPT

# Columns of the starts of parts
CELL, BODIES, CONTACT, PAIRS = range(4)
CELL_COLUMNS = 5


@inlined
def root(up, i):
    """The root of i in a forest of disjoint sets, whose ways are shortened meanwhile."""
    while up[i] != i:
        up[i] = up[up[i]]
        i = up[i]
    return i


@inlined
def unite(up, i, j):
    """The lower of two roots becomes the root of both."""
    i, j = root(up, i), root(up, j)
    up[max(i, j)] = min(i, j)


@inlined
def cell_of(B, S, s):
    """The cell of the body of shape s; negative for the world and what is on its keys."""
    return B[S[s].body].cell if S[s].body >= 0 else -1


@inlined
def _number(B, S, C, K, part_of, up):
    """Number the parts: part_of (cells,), and whether that is what it was. Returns how many and that."""
    cells = part_of.shape[0]
    for c in range(cells):
        up[c] = c
    for i in range(K[CONTACTS]):
        a, b = cell_of(B, S, C[i].shapes[0]), cell_of(B, S, C[i].shapes[1])
        if a >= 0 and b >= 0:
            unite(up, a, b)
    parts, same = 0, True
    for c in range(cells):
        r = root(up, c)
        number = part_of[r] if r < c else parts
        if r == c:
            parts += 1
        same = same and part_of[c] == number
        part_of[c] = number
    return parts, same


@compiled
def find_parts(B, S, P, found, C, K, KP, cells, part_of, up, listed, mine, near, starts):
    """Sort cells, bodies, contacts and near pairs by parts; returns how many parts there are.

    found: the contacts, copied to C in their order; listed (cells,), mine (n,), near (pairs,): cells, bodies and pairs; starts (cells + 1, 4):
    where each part's begin; KP: its counters. What is remembered of pairs that lie in no part is forgotten.
    """
    parts, same = _number(B, S, found, K, part_of, up)
    for p in range(parts + 1):
        for k in range(4):
            starts[p, k] = 0
    for c in range(part_of.shape[0]):
        starts[part_of[c] + 1, CELL] += 1
        starts[part_of[c] + 1, BODIES] += cells[c, 1] - cells[c, 0]
        if not same:
            KP[c, PATTERN], KP[c, SWEPT] = 0, 0
    for i in range(K[CONTACTS]):
        starts[_part(B, S, part_of, found[i].shapes[0], found[i].shapes[1]) + 1, CONTACT] += 1
    for k in range(K[NEAR]):
        p = _part(B, S, part_of, P[k].a, P[k].b)
        if p >= 0:
            starts[p + 1, PAIRS] += 1
        else:
            P[k].olds = 0
            P[k].incoming[0] = 0.0
    for p in range(parts):
        for k in range(4):
            starts[p + 1, k] += starts[p, k]
    # each start moves on to the next part's while it is filled
    for c in range(part_of.shape[0]):
        f = starts[part_of[c]]
        listed[f[CELL]] = c
        f[CELL] += 1
        for i in range(cells[c, 0], cells[c, 1]):
            mine[f[BODIES]] = i
            f[BODIES] += 1
    for i in range(K[CONTACTS]):
        f = starts[_part(B, S, part_of, found[i].shapes[0], found[i].shapes[1])]
        C[f[CONTACT]] = found[i]
        f[CONTACT] += 1
    for k in range(K[NEAR]):
        p = _part(B, S, part_of, P[k].a, P[k].b)
        if p >= 0:
            near[starts[p, PAIRS]] = k
            starts[p, PAIRS] += 1
    for p in range(parts, 0, -1):
        for k in range(4):
            starts[p, k] = starts[p - 1, k]
    for k in range(4):
        starts[0, k] = 0
    return parts


@inlined
def _part(B, S, part_of, s, t):
    """The part of a pair of shapes; -1 for none, or two."""
    a, b = cell_of(B, S, s), cell_of(B, S, t)
    p, q = part_of[a] if a >= 0 else -1, part_of[b] if b >= 0 else -1
    return max(p, q) if p < 0 or q < 0 or p == q else -1


@compiled
def one_part(K, cells, part_of, listed, mine, near, starts):
    """``find_parts`` where there is but one cell."""
    for k in range(4):
        starts[0, k] = 0
    listed[0], part_of[0] = 0, 0
    starts[1, CELL], starts[1, BODIES], starts[1, CONTACT], starts[1, PAIRS] = 1, cells[0, 1], K[CONTACTS], K[NEAR]
    for i in range(cells[0, 1]):
        mine[i] = i
    for k in range(K[NEAR]):
        near[k] = k
    return 1


@inlined
def clear_counters(K):
    """Start a part's counters; those of the pattern and of swept contacts stay."""
    for k in range(COUNTERS):
        if k != PATTERN and k != SWEPT:
            K[k] = 0
