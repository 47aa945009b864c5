"""Contact points between primitives: plane, sphere, capsule, box. A sphere is a capsule of no length.

Normals point from shape b to shape a; a gap below zero is a penetration. Boxes meet by the separating axis
test with face clipping (Gottschalk et al. 1996; Gregorius, Robust Contact Creation, 2015).
"""

import math

import numpy as np

from artuline.core.physics.kernels import compiled, inlined, quat_mul, turn
from artuline.core.physics.state import BOX, CAPSULE, PLANE


@compiled
def place_shapes(B, S):
    """World position and rotation matrix of every shape."""
    for s in range(S.shape[0]):
        b = S[s].body
        px, py, pz = S[s].position[0], S[s].position[1], S[s].position[2]
        x, y, z, w = S[s].rotation[0], S[s].rotation[1], S[s].rotation[2], S[s].rotation[3]
        if b >= 0:
            bx, by, bz, bw = B[b].q[0], B[b].q[1], B[b].q[2], B[b].q[3]
            px, py, pz = turn(bx, by, bz, bw, px, py, pz)
            px, py, pz = px + B[b].x[0], py + B[b].x[1], pz + B[b].x[2]
            x, y, z, w = quat_mul(bx, by, bz, bw, x, y, z, w)
        S[s].at[0], S[s].at[1], S[s].at[2] = px, py, pz
        r = S[s].r
        r[0, 0], r[0, 1], r[0, 2] = 1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)
        r[1, 0], r[1, 1], r[1, 2] = 2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)
        r[2, 0], r[2, 1], r[2, 2] = 2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)


@inlined
def _add(C, K, a, b, nx, ny, nz, px, py, pz, gap):
    """Store a contact of shapes a and b at the point midway between the surfaces."""
    i = K[0]
    if i >= C.shape[0]:
        return
    C[i].shapes[0], C[i].shapes[1] = a, b
    C[i].normal[0], C[i].normal[1], C[i].normal[2] = nx, ny, nz
    C[i].point[0], C[i].point[1], C[i].point[2] = px, py, pz
    C[i].gap = gap
    K[0] = i + 1


@inlined
def _round_plane(C, S, K, a, b, margin):
    """Sphere or capsule on a plane: the ends of its axis."""
    nx, ny, nz = S[b].r[0, 1], S[b].r[1, 1], S[b].r[2, 1]
    radius = S[a].extent[0]
    half = S[a].extent[1] if S[a].kind == CAPSULE else 0.0
    ends = 2 if half > 0.0 else 1
    for e in range(ends):
        s = half if e == 0 else -half
        cx, cy, cz = (
            S[a].at[0] + s * S[a].r[0, 0],
            S[a].at[1] + s * S[a].r[1, 0],
            S[a].at[2] + s * S[a].r[2, 0],
        )
        d = (cx - S[b].at[0]) * nx + (cy - S[b].at[1]) * ny + (cz - S[b].at[2]) * nz
        gap = d - radius
        if gap < margin:
            k = radius + 0.5 * gap
            _add(C, K, a, b, nx, ny, nz, cx - k * nx, cy - k * ny, cz - k * nz, gap)


@inlined
def _box_plane(C, S, K, a, b, margin):
    """Box on a plane: its corners."""
    nx, ny, nz = S[b].r[0, 1], S[b].r[1, 1], S[b].r[2, 1]
    for corner in range(8):
        sx = S[a].extent[0] if corner & 1 else -S[a].extent[0]
        sy = S[a].extent[1] if corner & 2 else -S[a].extent[1]
        sz = S[a].extent[2] if corner & 4 else -S[a].extent[2]
        cx = S[a].at[0] + S[a].r[0, 0] * sx + S[a].r[0, 1] * sy + S[a].r[0, 2] * sz
        cy = S[a].at[1] + S[a].r[1, 0] * sx + S[a].r[1, 1] * sy + S[a].r[1, 2] * sz
        cz = S[a].at[2] + S[a].r[2, 0] * sx + S[a].r[2, 1] * sy + S[a].r[2, 2] * sz
        gap = (cx - S[b].at[0]) * nx + (cy - S[b].at[1]) * ny + (cz - S[b].at[2]) * nz
        if gap < margin:
            k = 0.5 * gap
            _add(C, K, a, b, nx, ny, nz, cx - k * nx, cy - k * ny, cz - k * nz, gap)


@inlined
def _points(C, K, a, b, ra, rb, ax, ay, az, bx, by, bz, margin):
    """Contact between two spheres around given points."""
    dx, dy, dz = ax - bx, ay - by, az - bz
    d = math.sqrt(dx * dx + dy * dy + dz * dz)
    gap = d - ra - rb
    if gap >= margin:
        return
    if d > 1e-9:
        dx, dy, dz = dx / d, dy / d, dz / d
    else:
        dx, dy, dz = 0.0, 1.0, 0.0
    k = rb + 0.5 * gap
    _add(C, K, a, b, dx, dy, dz, bx + k * dx, by + k * dy, bz + k * dz, gap)


@inlined
def _clamp(v, lo, hi):
    return min(max(v, lo), hi)


@inlined
def _round_round(C, S, K, a, b, margin):
    """Two capsules: their closest points, or both ends of the overlap when nearly parallel."""
    ha = S[a].extent[1] if S[a].kind == CAPSULE else 0.0
    hb = S[b].extent[1] if S[b].kind == CAPSULE else 0.0
    ra, rb = S[a].extent[0], S[b].extent[0]
    ux, uy, uz = S[a].r[0, 0], S[a].r[1, 0], S[a].r[2, 0]
    vx, vy, vz = S[b].r[0, 0], S[b].r[1, 0], S[b].r[2, 0]
    wx, wy, wz = S[a].at[0] - S[b].at[0], S[a].at[1] - S[b].at[1], S[a].at[2] - S[b].at[2]
    uv = ux * vx + uy * vy + uz * vz
    uw = ux * wx + uy * wy + uz * wz
    vw = vx * wx + vy * wy + vz * wz
    if ha > 0.0 and hb > 0.0 and 1.0 - uv * uv < 2e-3:
        # the stretch of a's axis that lies beside b's
        k = 1.0 if uv > 0.0 else -1.0
        lo, hi = max(-ha, -uw - hb), min(ha, -uw + hb)
        if hi - lo > 1e-3 * ha:
            for e in range(2):
                s = lo if e == 0 else hi
                t = _clamp(vw + s * k, -hb, hb)
                _points(
                    C, K, a, b, ra, rb,
                    S[a].at[0] + s * ux, S[a].at[1] + s * uy, S[a].at[2] + s * uz,
                    S[b].at[0] + t * vx, S[b].at[1] + t * vy, S[b].at[2] + t * vz, margin,
                )  # fmt: skip
            return
    det = 1.0 - uv * uv
    s = _clamp((uv * vw - uw) / det, -ha, ha) if det > 1e-9 else 0.0
    t = _clamp(vw + s * uv, -hb, hb)
    s = _clamp(t * uv - uw, -ha, ha)
    _points(
        C, K, a, b, ra, rb,
        S[a].at[0] + s * ux, S[a].at[1] + s * uy, S[a].at[2] + s * uz,
        S[b].at[0] + t * vx, S[b].at[1] + t * vy, S[b].at[2] + t * vz, margin,
    )  # fmt: skip


@inlined
def _outside(px, py, pz, hx, hy, hz):
    """Squared distance of a point from a box at the origin."""
    dx, dy, dz = max(abs(px) - hx, 0.0), max(abs(py) - hy, 0.0), max(abs(pz) - hz, 0.0)
    return dx * dx + dy * dy + dz * dz


@inlined
def _to_world(S, b, vx, vy, vz):
    return (
        S[b].r[0, 0] * vx + S[b].r[0, 1] * vy + S[b].r[0, 2] * vz,
        S[b].r[1, 0] * vx + S[b].r[1, 1] * vy + S[b].r[1, 2] * vz,
        S[b].r[2, 0] * vx + S[b].r[2, 1] * vy + S[b].r[2, 2] * vz,
    )


@inlined
def _round_box(C, S, K, a, b, margin):
    """Capsule or sphere against a box: the nearest point of the axis, and its ends where they lie close."""
    hx, hy, hz = S[b].extent[0], S[b].extent[1], S[b].extent[2]
    radius = S[a].extent[0]
    half = S[a].extent[1] if S[a].kind == CAPSULE else 0.0
    wx, wy, wz = S[a].at[0] - S[b].at[0], S[a].at[1] - S[b].at[1], S[a].at[2] - S[b].at[2]
    ux, uy, uz = S[a].r[0, 0], S[a].r[1, 0], S[a].r[2, 0]
    cx = S[b].r[0, 0] * wx + S[b].r[1, 0] * wy + S[b].r[2, 0] * wz
    cy = S[b].r[0, 1] * wx + S[b].r[1, 1] * wy + S[b].r[2, 1] * wz
    cz = S[b].r[0, 2] * wx + S[b].r[1, 2] * wy + S[b].r[2, 2] * wz
    dx = S[b].r[0, 0] * ux + S[b].r[1, 0] * uy + S[b].r[2, 0] * uz
    dy = S[b].r[0, 1] * ux + S[b].r[1, 1] * uy + S[b].r[2, 1] * uz
    dz = S[b].r[0, 2] * ux + S[b].r[1, 2] * uy + S[b].r[2, 2] * uz
    # the squared distance is convex along the axis: golden section
    lo, hi = -half, half
    if half > 0.0:
        g = 0.6180339887498949
        s0, s1 = hi - g * (hi - lo), lo + g * (hi - lo)
        f0 = _outside(cx + s0 * dx, cy + s0 * dy, cz + s0 * dz, hx, hy, hz)
        f1 = _outside(cx + s1 * dx, cy + s1 * dy, cz + s1 * dz, hx, hy, hz)
        for _ in range(28):
            if f0 <= f1:
                hi, s1, f1 = s1, s0, f0
                s0 = hi - g * (hi - lo)
                f0 = _outside(cx + s0 * dx, cy + s0 * dy, cz + s0 * dz, hx, hy, hz)
            else:
                lo, s0, f0 = s0, s1, f1
                s1 = lo + g * (hi - lo)
                f1 = _outside(cx + s1 * dx, cy + s1 * dy, cz + s1 * dz, hx, hy, hz)
    near = 0.5 * (lo + hi)
    px, py, pz = cx + near * dx, cy + near * dy, cz + near * dz
    qx, qy, qz = _clamp(px, -hx, hx), _clamp(py, -hy, hy), _clamp(pz, -hz, hz)
    ex, ey, ez = px - qx, py - qy, pz - qz
    d = math.sqrt(ex * ex + ey * ey + ez * ez)
    if d - radius >= margin:
        return
    if d > 1e-7:
        nx, ny, nz = ex / d, ey / d, ez / d
        gap = d - radius
        k = 0.5 * gap
        wx, wy, wz = _to_world(S, b, qx + k * nx, qy + k * ny, qz + k * nz)
        mx, my, mz = _to_world(S, b, nx, ny, nz)
        _add(C, K, a, b, mx, my, mz, wx + S[b].at[0], wy + S[b].at[1], wz + S[b].at[2], gap)
        flat = max(abs(nx), abs(ny), abs(nz)) > 0.999
    else:
        # the axis is inside: leave by the face that needs the shortest way for the whole axis
        best, nx, ny, nz = 1e300, 0.0, 1.0, 0.0
        for face in range(6):
            sign = 1.0 if face % 2 == 0 else -1.0
            k = face // 2
            c = cx if k == 0 else (cy if k == 1 else cz)
            e = dx if k == 0 else (dy if k == 1 else dz)
            h = hx if k == 0 else (hy if k == 1 else hz)
            depth = h - sign * c + abs(e) * half
            if depth < best:
                best = depth
                nx, ny, nz = (
                    sign * (1.0 if k == 0 else 0.0),
                    sign * (1.0 if k == 1 else 0.0),
                    sign * (1.0 if k == 2 else 0.0),
                )
        flat = True
    if half <= 0.0 and d > 1e-7:
        return
    if flat:
        mx, my, mz = _to_world(S, b, nx, ny, nz)
        face = abs(nx) * hx + abs(ny) * hy + abs(nz) * hz
        for e in range(2 if half > 0.0 else 1):
            s = half if e == 0 else -half
            if d > 1e-7 and abs(s - near) < 0.2 * half:
                continue
            px, py, pz = cx + s * dx, cy + s * dy, cz + s * dz
            out = max(
                (abs(px) - hx) * (1.0 - abs(nx)),
                (abs(py) - hy) * (1.0 - abs(ny)),
                (abs(pz) - hz) * (1.0 - abs(nz)),
            )
            gap = px * nx + py * ny + pz * nz - face - radius
            if gap < margin and (out <= 0.0 or d <= 1e-7):
                k = -radius - 0.5 * gap
                wx, wy, wz = _to_world(S, b, px + k * nx, py + k * ny, pz + k * nz)
                _add(C, K, a, b, mx, my, mz, wx + S[b].at[0], wy + S[b].at[1], wz + S[b].at[2], gap)


@compiled
def _box_box(C, S, K, a, b, margin):
    """Two boxes: separating axes, then the incident face clipped against the reference face."""
    ha, hb = S[a].extent, S[b].extent
    R, A, t = np.empty((3, 3)), np.empty((3, 3)), np.empty(3)
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
    n = np.zeros(3)
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
        _edge_contact(C, S, K, a, b, ha, hb, (kind - 6) // 3, (kind - 6) % 3, edge, n)
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
    poly, other = np.empty((16, 3)), np.empty((16, 3))
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
            dc = (
                s * (poly[c, 0] * S[ref].r[0, u] + poly[c, 1] * S[ref].r[1, u] + poly[c, 2] * S[ref].r[2, u])
                - hr[u]
            )
            de = (
                s * (poly[e, 0] * S[ref].r[0, u] + poly[e, 1] * S[ref].r[1, u] + poly[e, 2] * S[ref].r[2, u])
                - hr[u]
            )
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
            _add(
                C, K, a, b, flip * n[0], flip * n[1], flip * n[2],
                poly[c, 0] + S[ref].at[0] + k * n[0], poly[c, 1] + S[ref].at[1] + k * n[1], poly[c, 2] + S[ref].at[2] + k * n[2],
                gap,
            )  # fmt: skip


@inlined
def _edge_contact(C, S, K, a, b, ha, hb, i, j, gap, n):
    """Contact of edge i of box a with edge j of box b."""
    for k in range(3):
        k1, k2 = (k + 1) % 3, (k + 2) % 3
        n[k] = S[a].r[k1, i] * S[b].r[k2, j] - S[a].r[k2, i] * S[b].r[k1, j]
    length = math.sqrt(n[0] * n[0] + n[1] * n[1] + n[2] * n[2])
    side = 0.0
    for k in range(3):
        side += n[k] * (S[a].at[k] - S[b].at[k])
    if side < 0.0:
        length = -length
    p, q = np.empty(3), np.empty(3)
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
    s = _clamp((uv * vw - uw) / max(1.0 - uv * uv, 1e-9), -ha[i], ha[i])
    t = _clamp(vw + s * uv, -hb[j], hb[j])
    _add(
        C, K, a, b, n[0], n[1], n[2],
        0.5 * (p[0] + s * S[a].r[0, i] + q[0] + t * S[b].r[0, j]),
        0.5 * (p[1] + s * S[a].r[1, i] + q[1] + t * S[b].r[1, j]),
        0.5 * (p[2] + s * S[a].r[2, i] + q[2] + t * S[b].r[2, j]),
        gap,
    )  # fmt: skip


@inlined
def _speed(B, S, s):
    """Bound on how fast any point of a shape moves."""
    b = S[s].body
    if b < 0:
        return 0.0
    v = math.sqrt(B[b].v[0] ** 2 + B[b].v[1] ** 2 + B[b].v[2] ** 2)
    w = math.sqrt(B[b].w[0] ** 2 + B[b].w[1] ** 2 + B[b].w[2] ** 2)
    arm = math.sqrt(S[s].position[0] ** 2 + S[s].position[1] ** 2 + S[s].position[2] ** 2) + S[s].reach
    return v + w * arm


@compiled
def find_contacts(B, S, P, C, K, h):
    """Fill C with all contacts closer than what can close within h."""
    K[0] = 0
    place_shapes(B, S)
    for k in range(P.shape[0]):
        a, b = P[k].a, P[k].b
        ba, bb = S[a].body, S[b].body
        if not ((ba >= 0 and B[ba].free) or (bb >= 0 and B[bb].free)):
            continue
        margin = h * (_speed(B, S, a) + _speed(B, S, b)) + 0.002
        dx, dy, dz = S[a].at[0] - S[b].at[0], S[a].at[1] - S[b].at[1], S[a].at[2] - S[b].at[2]
        if S[b].kind == PLANE:
            d = dx * S[b].r[0, 1] + dy * S[b].r[1, 1] + dz * S[b].r[2, 1]
            if d > S[a].reach + margin:
                continue
            first = K[0]
            if S[a].kind == BOX:
                _box_plane(C, S, K, a, b, margin)
            else:
                _round_plane(C, S, K, a, b, margin)
            for i in range(first, K[0]):
                C[i].pair = k
            continue
        far = S[a].reach + S[b].reach + margin
        if dx * dx + dy * dy + dz * dz > far * far:
            continue
        first = K[0]
        if S[a].kind == BOX:
            _box_box(C, S, K, a, b, margin)
        elif S[b].kind == BOX:
            _round_box(C, S, K, a, b, margin)
        else:
            _round_round(C, S, K, a, b, margin)
        for i in range(first, K[0]):
            C[i].pair = k
