"""Contact points of spheres and capsules, and of anything on a plane. A sphere is a capsule of no length."""

import math

import numpy as np

from artuline.core.physics.kernels import compiled, inlined
from artuline.core.physics.points import add_contact, clamp
from artuline.core.physics.state import CAPSULE

MIDDLE = np.int64(2)  # feature: a place along the axis; 0 and 1 are its ends


@compiled
def round_plane(C, S, K, a, b, margin):
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
            add_contact(C, K, a, b, nx, ny, nz, cx - k * nx, cy - k * ny, cz - k * nz, gap, e)


@compiled
def box_plane(C, S, K, a, b, margin):
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
            add_contact(C, K, a, b, nx, ny, nz, cx - k * nx, cy - k * ny, cz - k * nz, gap, corner)


@inlined
def _points(C, K, a, b, ra, rb, ax, ay, az, bx, by, bz, margin, feature):
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
    add_contact(C, K, a, b, dx, dy, dz, bx + k * dx, by + k * dy, bz + k * dz, gap, feature)


@compiled
def round_round(C, S, K, a, b, margin):
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
                t = clamp(vw + s * k, -hb, hb)
                _points(
                    C, K, a, b, ra, rb,
                    S[a].at[0] + s * ux, S[a].at[1] + s * uy, S[a].at[2] + s * uz,
                    S[b].at[0] + t * vx, S[b].at[1] + t * vy, S[b].at[2] + t * vz, margin, e,
                )  # fmt: skip
            return
    det = 1.0 - uv * uv
    s = clamp((uv * vw - uw) / det, -ha, ha) if det > 1e-9 else 0.0
    t = clamp(vw + s * uv, -hb, hb)
    s = clamp(t * uv - uw, -ha, ha)
    _points(
        C, K, a, b, ra, rb,
        S[a].at[0] + s * ux, S[a].at[1] + s * uy, S[a].at[2] + s * uz,
        S[b].at[0] + t * vx, S[b].at[1] + t * vy, S[b].at[2] + t * vz, margin, MIDDLE,
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


@compiled
def round_box(C, S, K, a, b, margin):
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
    qx, qy, qz = clamp(px, -hx, hx), clamp(py, -hy, hy), clamp(pz, -hz, hz)
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
        add_contact(C, K, a, b, mx, my, mz, wx + S[b].at[0], wy + S[b].at[1], wz + S[b].at[2], gap, MIDDLE)
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
        lo, hi = -half, half
        if d > 1e-7:
            # the stretch of the axis that lies above the face
            for k in range(3):
                n = nx if k == 0 else (ny if k == 1 else nz)
                if abs(n) > 0.5:
                    continue
                c, u, w = (cx, dx, hx) if k == 0 else ((cy, dy, hy) if k == 1 else (cz, dz, hz))
                if abs(u) > 1e-9:
                    lo, hi = max(lo, min((-w - c) / u, (w - c) / u)), min(hi, max((-w - c) / u, (w - c) / u))
                elif abs(c) > w:
                    hi = lo - 1.0
        for e in range(2 if half > 0.0 and hi >= lo else (1 if half == 0.0 else 0)):
            s = hi if e == 0 else lo
            if d > 1e-7 and abs(s - near) < 0.2 * half:
                continue
            px, py, pz = cx + s * dx, cy + s * dy, cz + s * dz
            gap = px * nx + py * ny + pz * nz - face - radius
            if gap < margin:
                k = -radius - 0.5 * gap
                wx, wy, wz = _to_world(S, b, px + k * nx, py + k * ny, pz + k * nz)
                add_contact(C, K, a, b, mx, my, mz, wx + S[b].at[0], wy + S[b].at[1], wz + S[b].at[2], gap, e)
