"""Two boxes: the separating axis test with face clipping.

Sources: Gottschalk et al. 1996, OBBTree; Gregorius 2015, Robust Contact Creation for Physics Simulations.
"""

import math

import numpy as np

from artuline.core.physics.kernels import compiled, inlined
from artuline.core.physics.points import add_contact, clamp
from artuline.core.physics.state import POLYGON, SIMPLEX, WITNESS

MOST_CORNERS = 16
EDGES = np.int64(100)  # feature: two edges that cross


@compiled
def box_box(C, S, K, G, a, b, margin):
    """Two boxes: separating axes, then the incident face clipped against the reference face. G: scratch."""
    ha, hb = S[a].extent, S[b].extent
    R, A, t = G[SIMPLEX : SIMPLEX + 3], G[POLYGON : POLYGON + 3], G[SIMPLEX + 3]
    for i in range(3):
        t[i] = 0.0
        for k in range(3):
            t[i] += S[a].r[k, i] * (S[b].at[k] - S[a].at[k])
        for j in range(3):
            s = 0.0
            for k in range(3):
                s += S[a].r[k, i] * S[b].r[k, j]
            R[i, j] = s
            A[i, j] = abs(s)
    best, kind = -1e300, -1
    for i in range(3):
        s = abs(t[i]) - ha[i] - (A[i, 0] * hb[0] + A[i, 1] * hb[1] + A[i, 2] * hb[2])
        if s > margin:
            return
        if s > best:
            best, kind = s, i
    for j in range(3):
        s = abs(t[0] * R[0, j] + t[1] * R[1, j] + t[2] * R[2, j])
        s -= hb[j] + A[0, j] * ha[0] + A[1, j] * ha[1] + A[2, j] * ha[2]
        if s > margin:
            return
        if s > best + 1e-5:
            best, kind = s, 3 + j
    n = G[WITNESS]
    edge = best + 1e-3 * (ha[0] + hb[0])
    for i in range(3):
        i1, i2 = (i + 1) % 3, (i + 2) % 3
        for j in range(3):
            j1, j2 = (j + 1) % 3, (j + 2) % 3
            length = math.sqrt(max(1.0 - R[i, j] * R[i, j], 0.0))
            if length < 1e-3:
                continue
            s = abs(t[i2] * R[i1, j] - t[i1] * R[i2, j])
            s -= ha[i1] * A[i2, j] + ha[i2] * A[i1, j] + hb[j1] * A[i, j2] + hb[j2] * A[i, j1]
            s /= length
            if s > margin:
                return
            if s > edge:
                edge, kind = s, 6 + 3 * i + j
    if kind >= 6:
        _edge_contact(C, S, K, G, a, b, ha, hb, (kind - 6) // 3, (kind - 6) % 3, edge)
        return
    first = kind < 3
    ref, inc = (a, b) if first else (b, a)
    hr, hi = (ha, hb) if first else (hb, ha)
    axis = kind if first else kind - 3
    side = 0.0
    for k in range(3):
        side += S[ref].r[k, axis] * (S[inc].at[k] - S[ref].at[k])
    sign = 1.0 if side >= 0.0 else -1.0
    for k in range(3):
        n[k] = sign * S[ref].r[k, axis]
    # the face of the other box that looks most against n
    most, face, face_sign = 0.0, 0, 1.0
    for j in range(3):
        d = n[0] * S[inc].r[0, j] + n[1] * S[inc].r[1, j] + n[2] * S[inc].r[2, j]
        if abs(d) > most:
            most, face = abs(d), j
            face_sign = -1.0 if d > 0.0 else 1.0
    f1, f2 = (face + 1) % 3, (face + 2) % 3
    poly, other = G[POLYGON : POLYGON + MOST_CORNERS], G[POLYGON + MOST_CORNERS : POLYGON + 2 * MOST_CORNERS]
    count = 4
    for c in range(4):
        s1 = hi[f1] if c == 0 or c == 3 else -hi[f1]
        s2 = hi[f2] if c < 2 else -hi[f2]
        for k in range(3):
            poly[c, k] = (
                S[inc].at[k]
                + face_sign * hi[face] * S[inc].r[k, face]
                + s1 * S[inc].r[k, f1]
                + s2 * S[inc].r[k, f2]
                - S[ref].at[k]
            )
    for cut in range(4):
        u = (axis + 1 + cut // 2) % 3
        s = 1.0 if cut % 2 == 0 else -1.0
        new = 0
        for c in range(count):
            e = (c + 1) % count
            dc = s * (poly[c, 0] * S[ref].r[0, u] + poly[c, 1] * S[ref].r[1, u] + poly[c, 2] * S[ref].r[2, u]) - hr[u]
            de = s * (poly[e, 0] * S[ref].r[0, u] + poly[e, 1] * S[ref].r[1, u] + poly[e, 2] * S[ref].r[2, u]) - hr[u]
            if dc <= 0.0:
                for k in range(3):
                    other[new, k] = poly[c, k]
                new += 1
            if dc * de < 0.0:
                w = dc / (dc - de)
                for k in range(3):
                    other[new, k] = poly[c, k] + w * (poly[e, k] - poly[c, k])
                new += 1
        count = new
        poly, other = other, poly
    flip = -1.0 if first else 1.0
    for c in range(count):
        gap = poly[c, 0] * n[0] + poly[c, 1] * n[1] + poly[c, 2] * n[2] - hr[axis]
        if gap < margin:
            k = -0.5 * gap
            add_contact(
                C, K, a, b, flip * n[0], flip * n[1], flip * n[2],
                poly[c, 0] + S[ref].at[0] + k * n[0], poly[c, 1] + S[ref].at[1] + k * n[1], poly[c, 2] + S[ref].at[2] + k * n[2],
                gap, c,
            )  # fmt: skip


@inlined
def _edge_contact(C, S, K, G, a, b, ha, hb, i, j, gap):
    """Contact of edge i of box a with edge j of box b."""
    n, p, q = G[WITNESS], G[WITNESS + 1], G[WITNESS + 2]
    for k in range(3):
        k1, k2 = (k + 1) % 3, (k + 2) % 3
        n[k] = S[a].r[k1, i] * S[b].r[k2, j] - S[a].r[k2, i] * S[b].r[k1, j]
    length = math.sqrt(n[0] * n[0] + n[1] * n[1] + n[2] * n[2])
    side = 0.0
    for k in range(3):
        side += n[k] * (S[a].at[k] - S[b].at[k])
    if side < 0.0:
        length = -length
    for k in range(3):
        n[k] /= length
        p[k], q[k] = S[a].at[k], S[b].at[k]
    for e in range(3):
        da = n[0] * S[a].r[0, e] + n[1] * S[a].r[1, e] + n[2] * S[a].r[2, e]
        db = n[0] * S[b].r[0, e] + n[1] * S[b].r[1, e] + n[2] * S[b].r[2, e]
        for k in range(3):
            if e != i:
                p[k] -= (ha[e] if da > 0.0 else -ha[e]) * S[a].r[k, e]
            if e != j:
                q[k] += (hb[e] if db > 0.0 else -hb[e]) * S[b].r[k, e]
    uv, uw, vw = 0.0, 0.0, 0.0
    for k in range(3):
        uv += S[a].r[k, i] * S[b].r[k, j]
        uw += S[a].r[k, i] * (p[k] - q[k])
        vw += S[b].r[k, j] * (p[k] - q[k])
    s = clamp((uv * vw - uw) / max(1.0 - uv * uv, 1e-9), -ha[i], ha[i])
    t = clamp(vw + s * uv, -hb[j], hb[j])
    add_contact(
        C, K, a, b, n[0], n[1], n[2],
        0.5 * (p[0] + s * S[a].r[0, i] + q[0] + t * S[b].r[0, j]),
        0.5 * (p[1] + s * S[a].r[1, i] + q[1] + t * S[b].r[1, j]),
        0.5 * (p[2] + s * S[a].r[2, i] + q[2] + t * S[b].r[2, j]),
        gap, EDGES,
    )  # fmt: skip
