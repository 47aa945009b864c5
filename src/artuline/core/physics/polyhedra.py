"""Contact points of convex hulls and triangle meshes with everything else.

Apart, the nearest points tell the normal (``gjk``); where cores overlap, the separating axis with the least depth does.
Where a face is part of it, the other's face, edge or vertex is clipped against it. A mesh is a set of triangles that push to their
front; edges between faces in one plane, or that meet in a hollow, push along the faces only, so that nothing
catches on them. Sources: Gregorius 2013, The Separating Axis Test between Convex Polyhedra; Gregorius 2015,
Robust Contact Creation for Physics Simulations.
"""

import math

import numpy as np

from artuline.core.physics.gjk import FAR, NEAR_BY, gjk, support, vertex
from artuline.core.physics.kernels import NO, YES, ZERO, compiled, inlined
from artuline.core.physics.points import add_contact, clamp
from artuline.core.physics.state import CONTACTS, POLYGON, SIMPLEX, TRIANGLE, WITNESS

FLAT = 0.9986  # cosine up to which a face is taken for the contact's plane
LEAN = 1e-3  # by which a normal may lean out farther than to the next face
ON = 1e-7  # metres outside of a face that count as on it
SAME_WAY, SAME_PLACE = 0.9998, 1e-4  # cosine and metres up to which contacts with a mesh count as the same
MOST_CORNERS = 16
EDGES, POINTS = np.int64(300), np.int64(301)  # features: two edges that cross, the nearest points


@inlined
def _radius(S, s):
    """Radius around a shape's core: of a sphere or capsule, which have no faces."""
    return S[s].extent[0] if S[s].count[1] == 0 else 0.0


@inlined
def _normal(S, G, s, f):
    """World normal of face f of a shape."""
    n, r = G[S[s].first[1] + f], S[s].r
    return (
        r[0, 0] * n[0] + r[0, 1] * n[1] + r[0, 2] * n[2],
        r[1, 0] * n[0] + r[1, 1] * n[1] + r[1, 2] * n[2],
        r[2, 0] * n[0] + r[2, 1] * n[1] + r[2, 2] * n[2],
    )


@compiled
def hull_plane(C, S, K, G, a, b, margin):
    """Hull on a plane: its vertices, the lowest of all and those farthest out in four directions."""
    nx, ny, nz = S[b].r[0, 1], S[b].r[1, 1], S[b].r[2, 1]
    P = G[POLYGON : POLYGON + 2 * MOST_CORNERS]
    count = ZERO
    for i in range(S[a].count[0]):
        x, y, z = vertex(S, G, a, i)
        gap = (x - S[b].at[0]) * nx + (y - S[b].at[1]) * ny + (z - S[b].at[2]) * nz
        if gap < margin:
            if count == 2 * MOST_CORNERS:
                # crowded: the highest goes
                high = 0
                for c in range(1, count):
                    if P[c, 3] > P[high, 3]:
                        high = c
                if gap >= P[high, 3]:
                    continue
                P[high, 0], P[high, 1], P[high, 2], P[high, 3], P[high, 4] = x, y, z, gap, i
                continue
            P[count, 0], P[count, 1], P[count, 2], P[count, 3], P[count, 4] = x, y, z, gap, i
            count += 1
    _emit(C, K, a, b, P, count, nx, ny, nz, 1.0, 0.0)


@inlined
def _emit(C, K, a, b, P, count, nx, ny, nz, sign, radius):
    """Contacts at up to four of the points P (place, gap, feature): the deepest and those that spread farthest.

    The normal (nx, ny, nz) belongs to the face that they lie above; ``sign`` turns it so that it points from b to a.
    """
    if count == 0:
        return
    chosen = 0
    i0, i1, i2, i3 = 0, -1, -1, -1
    for c in range(1, count):
        if P[c, 3] < P[i0, 3]:
            i0 = c
    chosen = 1
    if count > 1:
        most = 1e-10
        for c in range(count):
            d = (P[c, 0] - P[i0, 0]) ** 2 + (P[c, 1] - P[i0, 1]) ** 2 + (P[c, 2] - P[i0, 2]) ** 2
            if d > most:
                most, i1 = d, c
        if i1 >= 0:
            chosen = 2
            low, high = -1e-9, 1e-9
            ex, ey, ez = P[i1, 0] - P[i0, 0], P[i1, 1] - P[i0, 1], P[i1, 2] - P[i0, 2]
            for c in range(count):
                x, y, z = P[c, 0] - P[i0, 0], P[c, 1] - P[i0, 1], P[c, 2] - P[i0, 2]
                d = nx * (ey * z - ez * y) + ny * (ez * x - ex * z) + nz * (ex * y - ey * x)
                if d > high:
                    high, i2 = d, c
                if d < low:
                    low, i3 = d, c
    for e in range(4):
        c = i0 if e == 0 else (i1 if e == 1 else (i2 if e == 2 else i3))
        if c < 0 or (e == 1 and chosen < 2):
            continue
        gap = P[c, 3]
        k = -radius - 0.5 * (gap)
        add_contact(
            C, K, a, b, sign * nx, sign * ny, sign * nz,
            P[c, 0] + k * nx, P[c, 1] + k * ny, P[c, 2] + k * nz, gap, int(P[c, 4]),
        )  # fmt: skip


@compiled
def _face_contacts(C, S, K, G, a, b, ref, face, margin):
    """Clip what the other shape turns to a face against the face; how many contacts came of it."""
    inc = b if ref == a else a
    nx, ny, nz = _normal(S, G, ref, face)
    row = G[S[ref].first[1] + face]
    start, corners = int(row[4]), int(row[5])
    height = row[3] + nx * S[ref].at[0] + ny * S[ref].at[1] + nz * S[ref].at[2]
    radius = _radius(S, inc)
    P, O = G[POLYGON : POLYGON + MOST_CORNERS], G[POLYGON + MOST_CORNERS : POLYGON + 2 * MOST_CORNERS]
    count = 0
    if S[inc].count[1] == 0:
        for i in range(S[inc].count[0]):
            P[i, 0], P[i, 1], P[i, 2] = vertex(S, G, inc, i)
            P[i, 4] = i
            count += 1
    else:
        best, most = 0, 1e300
        for f in range(S[inc].count[1]):
            fx, fy, fz = _normal(S, G, inc, f)
            d = nx * fx + ny * fy + nz * fz
            if d < most:
                best, most = f, d
        other = G[S[inc].first[1] + best]
        count = min(int(other[5]), MOST_CORNERS // 2)
        for i in range(count):
            # of a face with many corners, some
            v = int(G[int(other[4]) + i * int(other[5]) // count, 0])
            P[i, 0], P[i, 1], P[i, 2] = vertex(S, G, inc, v)
            P[i, 4] = v
    for c in range(corners):
        x0, y0, z0 = vertex(S, G, ref, int(G[start + c, 0]))
        x1, y1, z1 = vertex(S, G, ref, int(G[start + (c + 1) % corners, 0]))
        ex, ey, ez = x1 - x0, y1 - y0, z1 - z0
        # outwards from the face, which runs round its normal
        sx, sy, sz = ey * nz - ez * ny, ez * nx - ex * nz, ex * ny - ey * nx
        o = sx * x0 + sy * y0 + sz * z0
        # what lies on the border of two faces belongs to both
        on = ON * math.sqrt(sx * sx + sy * sy + sz * sz)
        new = 0
        for i in range(count):
            j = (i + 1) % count
            di = sx * P[i, 0] + sy * P[i, 1] + sz * P[i, 2] - o
            dj = sx * P[j, 0] + sy * P[j, 1] + sz * P[j, 2] - o
            if di <= on and new < MOST_CORNERS:
                for k in range(5):
                    O[new, k] = P[i, k]
                new += 1
            if di * dj < 0.0 and new < MOST_CORNERS and not (count == 2 and i == 1):
                w = di / (di - dj)
                for k in range(3):
                    O[new, k] = P[i, k] + w * (P[j, k] - P[i, k])
                O[new, 4] = 64 + c
                new += 1
        P, O = O, P
        count = new
        if count == 0:
            return 0
    kept = ZERO
    for i in range(count):
        gap = nx * P[i, 0] + ny * P[i, 1] + nz * P[i, 2] - height - radius
        if gap < margin:
            for k in range(3):
                P[kept, k] = P[i, k]
            P[kept, 3], P[kept, 4] = gap, P[i, 4] + (0 if ref == a else 128)
            kept += 1
    _emit(C, K, a, b, P, kept, nx, ny, nz, 1.0 if ref == b else -1.0, radius)
    return kept


@compiled
def _flattest(S, G, s, dx, dy, dz):
    """The face of a shape that looks most along a direction, and the cosine."""
    best, most = -1, -2.0
    for f in range(S[s].count[1]):
        nx, ny, nz = _normal(S, G, s, f)
        d = nx * dx + ny * dy + nz * dz
        if d > most:
            best, most = f, d
    return best, most


@compiled
def _deepest_face(S, G, s, o, faces):
    """The face of s that shape o reaches least far behind (or stands farthest off), and that height."""
    best, most = -1, -1e300
    for f in range(faces):
        nx, ny, nz = _normal(S, G, s, f)
        x, y, z = vertex(S, G, o, support(S, G, o, -nx, -ny, -nz))
        d = nx * (x - S[s].at[0]) + ny * (y - S[s].at[1]) + nz * (z - S[s].at[2]) - G[S[s].first[1] + f, 3]
        if d > most:
            best, most = f, d
    return best, most - _radius(S, o)


@inlined
def _edge(S, G, s, e):
    """Ends of edge e of a shape."""
    row = G[S[s].first[2] + e]
    ax, ay, az = vertex(S, G, s, int(row[0]))
    bx, by, bz = vertex(S, G, s, int(row[1]))
    return ax, ay, az, bx, by, bz


@compiled
def _deepest_edges(S, G, a, b, best, one_sided, tx, ty, tz):
    """The pair of edges whose common normal keeps a and b apart most, if more than ``best``: edges and height.

    ``one_sided``: only along normals that look to the side of (tx, ty, tz).
    """
    ka, kb = -1, -1
    mx, my, mz, ox, oy, oz = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    ra, rb = _radius(S, a), _radius(S, b)
    solid = S[a].count[1] > 2 and S[b].count[1] > 2
    for i in range(S[a].count[2]):
        px, py, pz, qx, qy, qz = _edge(S, G, a, i)
        ux, uy, uz = qx - px, qy - py, qz - pz
        for j in range(S[b].count[2]):
            rx, ry, rz, sx, sy, sz = _edge(S, G, b, j)
            vx, vy, vz = sx - rx, sy - ry, sz - rz
            if solid:
                # the arcs of the two edges on the sphere of normals must cross
                fa, fb = G[S[a].first[2] + i], G[S[b].first[2] + j]
                a0, a1, a2 = _normal(S, G, a, int(fa[2]))
                b0, b1, b2 = _normal(S, G, a, int(fa[3]))
                c0, c1, c2 = _normal(S, G, b, int(fb[2]))
                d0, d1, d2 = _normal(S, G, b, int(fb[3]))
                cba = c0 * ux + c1 * uy + c2 * uz
                dba = d0 * ux + d1 * uy + d2 * uz
                adc = a0 * vx + a1 * vy + a2 * vz
                bdc = b0 * vx + b1 * vy + b2 * vz
                if cba * dba >= 0.0 or adc * bdc >= 0.0:
                    continue
                mx, my, mz, ox, oy, oz = a0 + b0, a1 + b1, a2 + b2, c0 + d0, c1 + d1, c2 + d2
            nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
            l = math.sqrt(nx * nx + ny * ny + nz * nz)
            if l * l <= 1e-6 * (ux * ux + uy * uy + uz * uz) * (vx * vx + vy * vy + vz * vz):
                continue
            nx, ny, nz = nx / l, ny / l, nz / l
            if solid:
                away = nx * ox + ny * oy + nz * oz
                if away * (nx * mx + ny * my + nz * mz) >= 0.0:
                    continue
            elif one_sided:
                away = nx * tx + ny * ty + nz * tz
            else:
                away = nx * (S[a].at[0] - S[b].at[0]) + ny * (S[a].at[1] - S[b].at[1]) + nz * (S[a].at[2] - S[b].at[2])
            if away < 0.0:
                nx, ny, nz = -nx, -ny, -nz
            if solid:
                d = nx * (px - rx) + ny * (py - ry) + nz * (pz - rz)
            else:
                x, y, z = vertex(S, G, a, support(S, G, a, -nx, -ny, -nz))
                e, f, g = vertex(S, G, b, support(S, G, b, nx, ny, nz))
                d = nx * (x - e) + ny * (y - f) + nz * (z - g)
            d -= ra + rb
            if d > best:
                best, ka, kb = d, i, j
                G[WITNESS + 2, 0], G[WITNESS + 2, 1], G[WITNESS + 2, 2] = nx, ny, nz
    return ka, kb, best


@inlined
def _edge_contact(C, S, K, G, a, b, i, j, gap):
    """Contact where edge i of a crosses edge j of b; the normal is in the rows WITNESS."""
    px, py, pz, qx, qy, qz = _edge(S, G, a, i)
    rx, ry, rz, sx, sy, sz = _edge(S, G, b, j)
    ux, uy, uz, vx, vy, vz = qx - px, qy - py, qz - pz, sx - rx, sy - ry, sz - rz
    wx, wy, wz = px - rx, py - ry, pz - rz
    uu, vv, uv = ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz, ux * vx + uy * vy + uz * vz
    uw, vw = ux * wx + uy * wy + uz * wz, vx * wx + vy * wy + vz * wz
    s = clamp((uv * vw - vv * uw) / max(uu * vv - uv * uv, 1e-30), 0.0, 1.0)
    t = clamp((vw + s * uv) / vv, 0.0, 1.0)
    nx, ny, nz = G[WITNESS + 2, 0], G[WITNESS + 2, 1], G[WITNESS + 2, 2]
    k, l = -0.5 * _radius(S, a), 0.5 * _radius(S, b)
    add_contact(
        C, K, a, b, nx, ny, nz,
        0.5 * (px + s * ux + rx + t * vx) + (k + l) * nx,
        0.5 * (py + s * uy + ry + t * vy) + (k + l) * ny,
        0.5 * (pz + s * uz + rz + t * vz) + (k + l) * nz,
        gap, EDGES,
    )  # fmt: skip


@compiled
def convex(C, S, K, G, a, b, margin):
    """Any two convex shapes, one of them at least a hull."""
    ra, rb = _radius(S, a), _radius(S, b)
    how, d, _ = gjk(S, G, a, b, margin + ra + rb)
    if how == FAR:
        return
    if how == NEAR_BY and d > 1e-5:
        nx, ny, nz = G[WITNESS + 2, 0], G[WITNESS + 2, 1], G[WITNESS + 2, 2]
        fa, ca = _flattest(S, G, a, -nx, -ny, -nz)
        fb, cb = _flattest(S, G, b, nx, ny, nz)
        if max(ca, cb) > FLAT:
            ref, face = (a, fa) if ca > cb + 1e-6 else (b, fb)
            px, py, pz = G[WITNESS, 0], G[WITNESS, 1], G[WITNESS, 2]
            qx, qy, qz = G[WITNESS + 1, 0], G[WITNESS + 1, 1], G[WITNESS + 1, 2]
            if _face_contacts(C, S, K, G, a, b, ref, face, margin) > 0:
                return
            G[WITNESS, 0], G[WITNESS, 1], G[WITNESS, 2] = px, py, pz
            G[WITNESS + 1, 0], G[WITNESS + 1, 1], G[WITNESS + 1, 2] = qx, qy, qz
        _nearest(C, K, G, a, b, nx, ny, nz, d, ra, rb)
        return
    fa, da = _deepest_face(S, G, a, b, S[a].count[1])
    fb, db = _deepest_face(S, G, b, a, S[b].count[1])
    da, db = da - ra, db - rb
    best = max(da, db)
    ea, eb, de = _deepest_edges(S, G, a, b, best + 1e-3 * abs(best) + 1e-5, NO, 0.0, 0.0, 0.0)
    if ea >= 0:
        _edge_contact(C, S, K, G, a, b, ea, eb, de)
    elif da > db + 1e-5:
        _face_contacts(C, S, K, G, a, b, a, fa, margin)
    else:
        _face_contacts(C, S, K, G, a, b, b, fb, margin)


@inlined
def _nearest(C, K, G, a, b, nx, ny, nz, d, ra, rb):
    """Contact at the nearest points."""
    P = G[WITNESS : WITNESS + 2]
    k = 0.5 * (rb - ra)
    gap = d - ra - rb
    add_contact(
        C, K, a, b, nx, ny, nz,
        0.5 * (P[0, 0] + P[1, 0]) + k * nx, 0.5 * (P[0, 1] + P[1, 1]) + k * ny, 0.5 * (P[0, 2] + P[1, 2]) + k * nz,
        gap, POINTS,
    )  # fmt: skip


@compiled
def shape_mesh(C, S, K, G, a, b, margin):
    """A convex shape against all triangles of a mesh that it may reach, found by the mesh's tree of boxes."""
    tri = S.shape[0] - 1  # kept free for the triangle in hand
    T = S[tri]
    for k in range(3):
        T.at[k] = S[b].at[k]
        for l in range(3):
            T.r[k, l] = S[b].r[k, l]
    wx, wy, wz = S[a].at[0] - S[b].at[0], S[a].at[1] - S[b].at[1], S[a].at[2] - S[b].at[2]
    r = S[b].r
    cx = r[0, 0] * wx + r[1, 0] * wy + r[2, 0] * wz
    cy = r[0, 1] * wx + r[1, 1] * wy + r[2, 1] * wz
    cz = r[0, 2] * wx + r[1, 2] * wy + r[2, 2] * wz
    reach = S[a].reach + margin
    first, node, end, before = S[b].first[2], 0, S[b].count[2], K[CONTACTS]
    while node < end:
        N = G[first + node]
        dx = max(N[0] - cx, cx - N[3], 0.0)
        dy = max(N[1] - cy, cy - N[4], 0.0)
        dz = max(N[2] - cz, cz - N[5], 0.0)
        if dx * dx + dy * dy + dz * dz > reach * reach:
            node = int(N[6])
            continue
        if N[7] >= 0.0:
            began = K[CONTACTS]
            _triangle_contacts(C, S, K, G, a, b, tri, int(N[7]), margin)
            for c in range(began, K[CONTACTS]):
                C[c].shapes[1] = b
                C[c].feature += 512 * int(N[7])
        node += 1
    _thin_out(C, K, before)


@inlined
def _thin_out(C, K, first):
    """Of the contacts from ``first`` on, keep up to four of those that push the same way: the deepest and those that spread farthest."""
    end = K[CONTACTS]
    if end - first < 3:
        return
    for i in range(first, end):
        # 0: not yet looked at, 1: in this group, 2: kept
        C[i].turns = 0
    while True:
        seed = -1
        for i in range(first, end):
            if C[i].turns == 0 and (seed < 0 or C[i].gap < C[seed].gap):
                seed = i
        if seed < 0:
            break
        n, p = C[seed].normal, C[seed].point
        far, most = -1, -1.0
        for i in range(first, end):
            m = C[i].normal
            if C[i].turns == 0 and n[0] * m[0] + n[1] * m[1] + n[2] * m[2] > SAME_WAY:
                C[i].turns = 1
                d = (C[i].point[0] - p[0]) ** 2 + (C[i].point[1] - p[1]) ** 2 + (C[i].point[2] - p[2]) ** 2
                if d > most:
                    far, most = i, d
        C[seed].turns = 2
        if most > SAME_PLACE * SAME_PLACE:
            C[far].turns = 2
            ex, ey, ez = C[far].point[0] - p[0], C[far].point[1] - p[1], C[far].point[2] - p[2]
            # on either side of the line between the two
            left, right, low, high = -1, -1, -SAME_PLACE * math.sqrt(most), SAME_PLACE * math.sqrt(most)
            for i in range(first, end):
                if C[i].turns == 1:
                    x, y, z = C[i].point[0] - p[0], C[i].point[1] - p[1], C[i].point[2] - p[2]
                    d = n[0] * (ey * z - ez * y) + n[1] * (ez * x - ex * z) + n[2] * (ex * y - ey * x)
                    if d > high:
                        left, high = i, d
                    if d < low:
                        right, low = i, d
            if left >= 0:
                C[left].turns = 2
            if right >= 0:
                C[right].turns = 2
            if left < 0 and right < 0:
                # in a line: its other end
                other, most = -1, SAME_PLACE * math.sqrt(most)
                for i in range(first, end):
                    if C[i].turns == 1:
                        d = -(ex * (C[i].point[0] - p[0]) + ey * (C[i].point[1] - p[1]) + ez * (C[i].point[2] - p[2]))
                        if d > most:
                            other, most = i, d
                if other >= 0:
                    C[other].turns = 2
        for i in range(first, end):
            if C[i].turns == 1:
                C[i].turns = 3
    kept = first
    for i in range(first, end):
        if C[i].turns == 2:
            if kept < i:
                _move(C, i, kept)
            kept += 1
    K[CONTACTS] = kept


@inlined
def _move(C, i, k):
    """Put what is found of contact i into row k."""
    for a in range(3):
        C[k].point[a], C[k].normal[a] = C[i].point[a], C[i].normal[a]
    C[k].gap, C[k].feature = C[i].gap, C[i].feature
    C[k].shapes[0], C[k].shapes[1] = C[i].shapes[0], C[i].shapes[1]


@inlined
def _triangle_contacts(C, S, K, G, a, b, tri, t, margin):
    """A convex shape against one triangle, made a flat hull in the rows TRIANGLE of G."""
    row = G[S[b].first[1] + t]
    for i in range(3):
        v = G[S[b].first[0] + int(row[i])]
        for k in range(3):
            G[TRIANGLE + i, k] = v[k]
    F = G[TRIANGLE + 3]
    F[0], F[1], F[2] = row[6], row[7], row[8]
    F[3] = row[6] * G[TRIANGLE, 0] + row[7] * G[TRIANGLE, 1] + row[8] * G[TRIANGLE, 2]
    nx, ny, nz = _normal(S, G, tri, ZERO)
    x, y, z = vertex(S, G, tri, ZERO)
    above = nx * (S[a].at[0] - x) + ny * (S[a].at[1] - y) + nz * (S[a].at[2] - z)
    ra = _radius(S, a)
    if above < -S[a].reach:
        return
    how, d, count = gjk(S, G, a, tri, margin + ra)
    if how == FAR:
        return
    if how == NEAR_BY and d > 1e-5:
        mx, my, mz = G[WITNESS + 2, 0], G[WITNESS + 2, 1], G[WITNESS + 2, 2]
        facing = mx * nx + my * ny + mz * nz
        if facing > FLAT:
            pushes = _edge_pushes(S, G, tri, row, count, mx, my, mz, nx, ny, nz)
            px, py, pz = G[WITNESS, 0], G[WITNESS, 1], G[WITNESS, 2]
            qx, qy, qz = G[WITNESS + 1, 0], G[WITNESS + 1, 1], G[WITNESS + 1, 2]
            if _face_contacts(C, S, K, G, a, tri, tri, ZERO, margin) == 0 and pushes:
                G[WITNESS, 0], G[WITNESS, 1], G[WITNESS, 2] = px, py, pz
                G[WITNESS + 1, 0], G[WITNESS + 1, 1], G[WITNESS + 1, 2] = qx, qy, qz
                _nearest(C, K, G, a, tri, mx, my, mz, d, ra, 0.0)
            return
        if facing < -0.01 or not _edge_pushes(S, G, tri, row, count, mx, my, mz, nx, ny, nz):
            return
        fa, ca = _flattest(S, G, a, -mx, -my, -mz)
        if ca > FLAT and _face_contacts(C, S, K, G, a, tri, a, fa, margin) > 0:
            return
        # a face's contacts use the rows of the nearest points' neighbours only
        _nearest(C, K, G, a, tri, mx, my, mz, d, ra, 0.0)
        return
    _, dt = _deepest_face(S, G, tri, a, S[tri].count[1])
    fa, da = _deepest_face(S, G, a, tri, S[a].count[1])
    da -= ra
    if fa >= 0 and da > 0.8 * dt + 1e-3:
        fx, fy, fz = _normal(S, G, a, fa)
        if fx * nx + fy * ny + fz * nz < -0.5:
            _face_contacts(C, S, K, G, a, tri, a, fa, margin)
            return
    if _face_contacts(C, S, K, G, a, tri, tri, ZERO, margin) == 0 and -dt < S[a].reach:
        ea, eb, de = _deepest_edges(S, G, a, tri, -S[a].reach, YES, nx, ny, nz)
        mx, my, mz = G[WITNESS + 2, 0], G[WITNESS + 2, 1], G[WITNESS + 2, 2]
        if ea >= 0 and _leans(S, G, tri, row, eb, mx, my, mz, nx, ny, nz):
            _edge_contact(C, S, K, G, a, tri, ea, eb, de)


@inlined
def _leans(S, G, tri, row, e, mx, my, mz, nx, ny, nz):
    """Whether a normal m leans out over edge e of a triangle with the normal n no farther than the next face lets it."""
    most = row[3 + e]
    if most <= 0.0:
        return False
    ax, ay, az = vertex(S, G, tri, e)
    bx, by, bz = vertex(S, G, tri, (e + 1) % 3)
    ux, uy, uz = bx - ax, by - ay, bz - az
    sx, sy, sz = uy * nz - uz * ny, uz * nx - ux * nz, ux * ny - uy * nx
    return mx * sx + my * sy + mz * sz <= (most + LEAN) * math.sqrt(ux * ux + uy * uy + uz * uz)


@inlined
def _edge_pushes(S, G, tri, row, count, mx, my, mz, nx, ny, nz):
    """Whether the edge or corner of a triangle that is nearest pushes by itself, along m: one that stands out, or the mesh's rim."""
    Q = G[SIMPLEX : SIMPLEX + 4]
    used = 0
    for i in range(count):
        used |= 1 << int(Q[i, 4])
    if used == 7:
        return True
    for e in range(3):
        pair = (1 << e) | (1 << ((e + 1) % 3))
        if used == pair:
            return _leans(S, G, tri, row, e, mx, my, mz, nx, ny, nz)
    # a corner: one of its edges must stand out
    for e in range(3):
        if used == (1 << e):
            f = (e + 2) % 3
            one = _leans(S, G, tri, row, e, mx, my, mz, nx, ny, nz)
            two = _leans(S, G, tri, row, f, mx, my, mz, nx, ny, nz)
            return (one and (two or row[3 + f] <= 0.0)) or (two and row[3 + e] <= 0.0)
    return True
