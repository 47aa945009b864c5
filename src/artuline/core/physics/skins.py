"""Skins: surfaces that deform with their bodies, against spheres and capsules.

A skin is divided into patches of a few triangles, each a shape of the body that moves it most. Vertices are blended from their bodies' poses
(linear blend skinning) where they are needed: for a box around a patch once a frame, and for contacts at the start of a substep. What
the surface does besides its body's motion is the contact's ``carry``, between both ends of the substep. It pushes to its front only.
"""

import math

from artuline.core.physics.kernels import compiled, cross, exp_quat, inlined, quat_mul, turn
from artuline.core.physics.points import add_contact
from artuline.core.physics.state import CAPSULE, CONTACTS, SKIN, SKINNED

DEEP = 0.5  # of the radius: a centre that is farther behind a triangle is not its business, but that of the side it came from
LEAN = 0.02  # sine by which a normal may lean out farther than the next triangle lets it
HURRY = 0.8  # share of its way by which a sphere has to come down to a triangle from beside to be stopped by it
RIM = 0.6  # cosine to the normal up to which the rim of a skin pushes
SAME = 0.999  # cosine of normals that push the same way
FACE = 6


@inlined
def _vertex(B, S, G, s, v, ahead):
    """Where vertex v of patch s is, and the share of its weights that is there; ``ahead``: after so many seconds at the velocities of its bodies."""
    row = S[s].first[0] + 3 * v
    x, y, z, whole = 0.0, 0.0, 0.0, 0.0
    for k in range(4):
        w = G[row, 4 + k]
        if w <= 0.0:
            continue
        i = S[s].bones[int(G[row, k])]
        if i < 0:
            continue
        r, c = row + 1 + k // 3, 3 * (k % 3)
        q = B[i].q
        px, py, pz = turn(q[0], q[1], q[2], q[3], G[r, c], G[r, c + 1], G[r, c + 2])
        if ahead > 0.0:
            u = B[i].w
            ex, ey, ez, ew = exp_quat(ahead * u[0], ahead * u[1], ahead * u[2])
            px, py, pz = turn(ex, ey, ez, ew, px, py, pz)
        x += w * (px + B[i].x[0] + ahead * B[i].v[0])
        y += w * (py + B[i].x[1] + ahead * B[i].v[1])
        z += w * (pz + B[i].x[2] + ahead * B[i].v[2])
        whole += w
    if whole > 0.0:
        x, y, z = x / whole, y / whole, z / whole
    return x, y, z, whole


@inlined
def _at(x, q, i, s):
    """The keyed pose of body i at the end of substep s - 1."""
    return x[i, s, 0], x[i, s, 1], x[i, s, 2], q[i, s, 0], q[i, s, 1], q[i, s, 2], q[i, s, 3]


@inlined
def _ahead(B, i, free, keyed_x, keyed_q, dt):
    """Where body i will be in dt: by its keys, or as fast as it is."""
    last = keyed_x.shape[1] - 1
    if not free[i, 0]:
        return _at(keyed_x, keyed_q, i, last)
    v, w, q = B[i].v, B[i].w, B[i].q
    ex, ey, ez, ew = exp_quat(dt * w[0], dt * w[1], dt * w[2])
    ex, ey, ez, ew = quat_mul(ex, ey, ez, ew, q[0], q[1], q[2], q[3])
    return B[i].x[0] + dt * v[0], B[i].x[1] + dt * v[1], B[i].x[2] + dt * v[2], ex, ey, ez, ew


@compiled
def bound_skins(B, S, G, keyed_x, keyed_q, free, dt):
    """Set of every patch where its sphere is on its body, how far it reaches during a frame of dt, and how fast it deforms (``flow``)."""
    for s in range(S.shape[0]):
        if S[s].kind != SKIN:
            continue
        count = S[s].count[2]  # of the vertices of its own triangles
        for k in range(3):
            S[s].position[k] = 0.0
        # in the body's frame, at both ends of the frame
        for v in range(count):
            for e in range(2):
                x, y, z = _relative(B, S, G, s, v, free, keyed_x, keyed_q, dt if e == 1 else 0.0)
                G[SKINNED + v, 3 * e], G[SKINNED + v, 3 * e + 1], G[SKINNED + v, 3 * e + 2] = x, y, z
        for v in range(count):
            for k in range(3):
                S[s].position[k] += G[SKINNED + v, k] / count
        reach, way, p = 0.0, 0.0, S[s].position
        for v in range(count):
            P = G[SKINNED + v]
            reach = max(reach, (P[0] - p[0]) ** 2 + (P[1] - p[1]) ** 2 + (P[2] - p[2]) ** 2)
            way = max(way, (P[3] - P[0]) ** 2 + (P[4] - P[1]) ** 2 + (P[5] - P[2]) ** 2)
        way = 1.5 * math.sqrt(way)
        S[s].reach = math.sqrt(reach) + way + 1e-3
        S[s].flow = way / dt


@inlined
def _relative(B, S, G, s, v, free, keyed_x, keyed_q, ahead):
    """Vertex v of patch s in the frame of its body, now or at the end of the frame."""
    row, b = S[s].first[0] + 3 * v, S[s].body
    x, y, z = 0.0, 0.0, 0.0
    for k in range(4):
        w = G[row, 4 + k]
        if w <= 0.0:
            continue
        i = S[s].bones[int(G[row, k])]
        r, c = row + 1 + k // 3, 3 * (k % 3)
        if ahead > 0.0:
            ax, ay, az, q0, q1, q2, q3 = _ahead(B, i, free, keyed_x, keyed_q, ahead)
        elif free[i, 0]:
            ax, ay, az, q0, q1, q2, q3 = _here(B, i)
        else:
            ax, ay, az, q0, q1, q2, q3 = _at(keyed_x, keyed_q, i, 0)
        px, py, pz = turn(q0, q1, q2, q3, G[r, c], G[r, c + 1], G[r, c + 2])
        x, y, z = x + w * (px + ax), y + w * (py + ay), z + w * (pz + az)
    if ahead > 0.0:
        ax, ay, az, q0, q1, q2, q3 = _ahead(B, b, free, keyed_x, keyed_q, ahead)
    elif free[b, 0]:
        ax, ay, az, q0, q1, q2, q3 = _here(B, b)
    else:
        ax, ay, az, q0, q1, q2, q3 = _at(keyed_x, keyed_q, b, 0)
    return turn(-q0, -q1, -q2, q3, x - ax, y - ay, z - az)


@inlined
def _here(B, i):
    """The pose of body i."""
    x, q = B[i].x, B[i].q
    return x[0], x[1], x[2], q[0], q[1], q[2], q[3]


@compiled
def shape_skin(B, C, S, K, G, a, b, margin, h):
    """A sphere or capsule a against the triangles of patch b; a capsule as spheres no farther apart than its radius."""
    for v in range(S[b].count[0]):
        x, y, z, whole = _vertex(B, S, G, b, v, 0.0)
        V = G[SKINNED + v]
        V[0], V[1], V[2], V[3] = x, y, z, whole
    radius, half = S[a].extent[0], S[a].extent[1] if S[a].kind == CAPSULE else 0.0
    count = max(math.ceil(2.0 * half / radius), 1)
    at, r = S[a].at, S[a].r
    for n in range(count):
        along = half * ((2.0 * n + 1.0) / count - 1.0)
        x, y, z = at[0] + along * r[0, 0], at[1] + along * r[1, 0], at[2] + along * r[2, 0]
        first = K[CONTACTS]
        # how far it will go by itself in the substep, as the patch's body sees it
        wx, wy, wz = _speed(B, S[a].body, x, y, z)
        ox, oy, oz = _speed(B, S[b].body, x, y, z)
        wx, wy, wz = h * (wx - ox), h * (wy - oy), h * (wz - oz)
        for t in range(S[b].count[1]):
            _sphere_triangle(C, S, K, G, a, b, t, n, x, y, z, wx, wy, wz, radius, margin)
        _thin(C, K, first)
        for i in range(first, K[CONTACTS]):
            _carry(B, C, S, G, b, i, h)


@inlined
def _speed(B, i, x, y, z):
    """Velocity of body i at a place."""
    if i < 0:
        return 0.0, 0.0, 0.0
    v, w, o = B[i].v, B[i].w, B[i].x
    cx, cy, cz = cross(w[0], w[1], w[2], x - o[0], y - o[1], z - o[2])
    return v[0] + cx, v[1] + cy, v[2] + cz


@inlined
def _sphere_triangle(C, S, K, G, a, b, t, n, x, y, z, wx, wy, wz, radius, margin):
    """The contact of a sphere about a place, that goes by w, with triangle t of patch b, if there is one; n: which of the shape's spheres."""
    T = G[S[b].first[1] + t]
    i0, i1, i2 = SKINNED + int(T[0]), SKINNED + int(T[1]), SKINNED + int(T[2])
    if G[i0, 3] <= 0.0 or G[i1, 3] <= 0.0 or G[i2, 3] <= 0.0:
        return
    ux, uy, uz = G[i1, 0] - G[i0, 0], G[i1, 1] - G[i0, 1], G[i1, 2] - G[i0, 2]
    vx, vy, vz = G[i2, 0] - G[i0, 0], G[i2, 1] - G[i0, 1], G[i2, 2] - G[i0, 2]
    nx, ny, nz = cross(ux, uy, uz, vx, vy, vz)
    size = math.sqrt(nx * nx + ny * ny + nz * nz)
    if size < 1e-14:
        return
    nx, ny, nz = nx / size, ny / size, nz / size
    px, py, pz = x - G[i0, 0], y - G[i0, 1], z - G[i0, 2]
    above = nx * px + ny * py + nz * pz
    if above > radius + margin or above < -DEEP * radius:
        return
    s, q, where = _closest(ux, uy, uz, vx, vy, vz, px, py, pz)
    cx, cy, cz = s * ux + q * vx, s * uy + q * vy, s * uz + q * vz
    mx, my, mz, gap = nx, ny, nz, above - radius
    if where != FACE:
        dx, dy, dz = px - cx, py - cy, pz - cz
        d = math.sqrt(dx * dx + dy * dy + dz * dz)
        if above <= 0.0 or d > radius + margin or d < 1e-9:
            return
        mx, my, mz, gap = dx / d, dy / d, dz / d, d - radius
        if not _stands_out(G, T, where, mx, my, mz, nx, ny, nz):
            if not _comes_down(ux, uy, uz, vx, vy, vz, px, py, pz, wx, wy, wz, nx, ny, nz, above - radius):
                return
            mx, my, mz, gap = nx, ny, nz, above - radius
    add_contact(C, K, a, b, mx, my, mz, G[i0, 0] + cx, G[i0, 1] + cy, G[i0, 2] + cz, gap, 4096 * n + t)


@inlined
def _closest(ux, uy, uz, vx, vy, vz, px, py, pz):
    """The point s u + q v of a triangle with the sides u and v nearest to p, all from its first corner, and whether that is a corner (0 to 2),
    on a side (3 to 5) or within (6). (Ericson 2005, Real-Time Collision Detection, 5.1.5.)
    """
    d1, d2 = ux * px + uy * py + uz * pz, vx * px + vy * py + vz * pz
    if d1 <= 0.0 and d2 <= 0.0:
        return 0.0, 0.0, 0
    bx, by, bz = px - ux, py - uy, pz - uz
    d3, d4 = ux * bx + uy * by + uz * bz, vx * bx + vy * by + vz * bz
    if d3 >= 0.0 and d4 <= d3:
        return 1.0, 0.0, 1
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        return d1 / (d1 - d3), 0.0, 3
    cx, cy, cz = px - vx, py - vy, pz - vz
    d5, d6 = ux * cx + uy * cy + uz * cz, vx * cx + vy * cy + vz * cz
    if d6 >= 0.0 and d5 <= d6:
        return 0.0, 1.0, 2
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        return 0.0, d2 / (d2 - d6), 5
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return 1.0 - w, w, 4
    k = 1.0 / (va + vb + vc)
    return vb * k, vc * k, FACE


@inlined
def _comes_down(ux, uy, uz, vx, vy, vz, px, py, pz, wx, wy, wz, nx, ny, nz, gap):
    """Whether a sphere at p, a gap above the plane of a triangle, comes down on the triangle on its way w, from beside it: in a hollow, or over the
    edge of two that lie in a plane, nothing else would stop it.
    """
    down = -(wx * nx + wy * ny + wz * nz)
    if gap <= 0.0 or down <= gap * HURRY:
        return False
    t = gap / down
    _, _, where = _closest(ux, uy, uz, vx, vy, vz, px + t * wx, py + t * wy, pz + t * wz)
    return where == FACE


@inlined
def _leans(G, T, e, mx, my, mz, nx, ny, nz):
    """How the direction m stands to side e of a triangle with the normal n: 1, it leans out no farther than the next triangle lets it;
    0, it leans out farther; -1, the side lies in a hollow, or flat.
    """
    i, j = SKINNED + int(T[e]), SKINNED + int(T[(e + 1) % 3])
    if T[3 + e] < 0.0:
        return 1 if mx * nx + my * ny + mz * nz > RIM else 0
    o = SKINNED + int(T[3 + e])
    if G[o, 3] <= 0.0:
        return 0
    ex, ey, ez = G[j, 0] - G[i, 0], G[j, 1] - G[i, 1], G[j, 2] - G[i, 2]
    sx, sy, sz = cross(ex, ey, ez, nx, ny, nz)
    # the next triangle runs along the side the other way
    ox, oy, oz = G[o, 0] - G[i, 0], G[o, 1] - G[i, 1], G[o, 2] - G[i, 2]
    kx, ky, kz = cross(ox, oy, oz, ex, ey, ez)
    k = math.sqrt(kx * kx + ky * ky + kz * kz)
    size = math.sqrt(sx * sx + sy * sy + sz * sz)
    if k < 1e-14 or size < 1e-14:
        return 0
    most = (kx * sx + ky * sy + kz * sz) / (k * size)
    if most <= 1e-6:
        return -1
    return 1 if (mx * sx + my * sy + mz * sz) / size <= most + LEAN else 0


@inlined
def _stands_out(G, T, where, mx, my, mz, nx, ny, nz):
    """Whether a side (3 to 5) or corner (0 to 2) of a triangle pushes by itself, along m: over one that stands out."""
    if where >= 3:
        return _leans(G, T, where - 3, mx, my, mz, nx, ny, nz) == 1
    one = _leans(G, T, where, mx, my, mz, nx, ny, nz)
    two = _leans(G, T, (where + 2) % 3, mx, my, mz, nx, ny, nz)
    return (one == 1 and two != 0) or (two == 1 and one == -1)


@inlined
def _thin(C, K, first):
    """Of the contacts of one sphere, keep the nearest of those that push the same way."""
    kept = first
    for i in range(first, K[CONTACTS]):
        c, same = C[i], -1
        for k in range(first, kept):
            m = C[k].normal
            if m[0] * c.normal[0] + m[1] * c.normal[1] + m[2] * c.normal[2] > SAME:
                same = k
        if same >= 0 and C[same].gap <= c.gap:
            continue
        to = same if same >= 0 else kept
        if to != i:
            for k in range(3):
                C[to].point[k], C[to].normal[k] = c.point[k], c.normal[k]
            C[to].gap, C[to].feature = c.gap, c.feature
            C[to].shapes[0], C[to].shapes[1] = c.shapes[0], c.shapes[1]
        if same < 0:
            kept += 1
    K[CONTACTS] = kept


@inlined
def _carry(B, C, S, G, s, i, h):
    """Set what the surface moves at contact i besides the motion of its body, between both ends of the substep; as seen from the other side."""
    c = C[i]
    T = G[S[s].first[1] + c.feature % 4096]
    i0, i1, i2 = int(T[0]), int(T[1]), int(T[2])
    # shares of the corners at the point
    V, X, Y, p = G[SKINNED + i0], G[SKINNED + i1], G[SKINNED + i2], c.point
    ux, uy, uz = X[0] - V[0], X[1] - V[1], X[2] - V[2]
    vx, vy, vz = Y[0] - V[0], Y[1] - V[1], Y[2] - V[2]
    px, py, pz = p[0] - V[0], p[1] - V[1], p[2] - V[2]
    uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
    pu, pv = px * ux + py * uy + pz * uz, px * vx + py * vy + pz * vz
    k = 1.0 / (uu * vv - uv * uv)
    one, two = k * (vv * pu - uv * pv), k * (uu * pv - uv * pu)
    ax, ay, az = 0.0, 0.0, 0.0
    for n in range(3):
        v = i0 if n == 0 else (i1 if n == 1 else i2)
        share = 1.0 - one - two if n == 0 else (one if n == 1 else two)
        x, y, z, _ = _vertex(B, S, G, s, v, h)
        V = G[SKINNED + v]
        ax, ay, az = ax + share * (x - V[0]), ay + share * (y - V[1]), az + share * (z - V[2])
    b = S[s].body
    w, o = B[b].w, B[b].x
    rx, ry, rz = p[0] - o[0], p[1] - o[1], p[2] - o[2]
    ex, ey, ez, ew = exp_quat(h * w[0], h * w[1], h * w[2])
    bx, by, bz = turn(ex, ey, ez, ew, rx, ry, rz)
    v = B[b].v
    bx, by, bz = bx - rx + h * v[0], by - ry + h * v[1], bz - rz + h * v[2]
    c.carry[0], c.carry[1], c.carry[2] = (bx - ax) / h, (by - ay) / h, (bz - az) / h
