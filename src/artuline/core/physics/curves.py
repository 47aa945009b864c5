"""Relative velocities at contacts where bodies move on curves: those between the poses at both ends of the substep."""

import math

from artuline.core.physics.contacts import across, relative_speed, rub
from artuline.core.physics.kernels import YES, compiled, cross, inlined, log_quat, quat_mul, turn
from artuline.core.physics.state import CONTACTS, INACTIVE

FAST_TURN = 0.02  # radians in a substep from which on the curve of a turn counts on the ground


@inlined
def _bend_on_world(B, C, i, h, first):
    """``bend_contacts`` on the ground: what a body that turns fast comes down by, or goes up. Returns the change squared, 0 at first."""
    c, a = C[i], C[i].a
    w, e, n = B[a].tw, C[i].bend, C[i].normal
    old = n[0] * e[0] + n[1] * e[1] + n[2] * e[2]
    new = 0.0
    if (w[0] * w[0] + w[1] * w[1] + w[2] * w[2]) * h * h > FAST_TURN * FAST_TURN:
        # of the point of the core over the contact, which what rolls keeps
        k = c.radius + 0.5 * c.gap
        rx, ry, rz = c.ra[0] + k * n[0], c.ra[1] + k * n[1], c.ra[2] + k * n[2]
        q, p = B[a].q1, B[a].q
        x, y, z, s = quat_mul(q[0], q[1], q[2], q[3], -p[0], -p[1], -p[2], p[3])
        dx, dy, dz = turn(x, y, z, s, rx, ry, rz)
        wx, wy, wz = cross(w[0], w[1], w[2], rx, ry, rz)
        k = 1.0 / h
        new = n[0] * (k * (dx - rx) - wx) + n[1] * (k * (dy - ry) - wy) + n[2] * (k * (dz - rz) - wz)
    e[0], e[1], e[2] = new * n[0], new * n[1], new * n[2]
    # a tenth: how far a hit comes down need not be as exact as what a platform carries
    return 0.0 if first or c.state == INACTIVE else 0.01 * (new - old) ** 2


@compiled
def bend_contacts(B, C, K, h, first):
    """What the curve of the motion adds to the relative velocities: they are those between the poses at both ends.

    Measured by body b, whose motion is taken out: what rides on it does not slide, and what rolls on it rolls. ``first``: before
    any solve, friction goes by it. Returns the largest change since the last time on what is keyed, m/s.
    """
    most = 0.0
    for i in range(K[CONTACTS]):
        b = C[i].b
        e = C[i].bend
        if b < 0:
            most = max(most, _bend_on_world(B, C, i, h, first))
            continue
        w = B[b].tw
        if (w[0] * w[0] + w[1] * w[1] + w[2] * w[2]) * h * h < 1e-12:
            e[0], e[1], e[2] = 0.0, 0.0, 0.0
            continue
        a, r = C[i].a, C[i].ra
        q, p = B[b].q1, B[b].q
        bx, by, bz, bw = quat_mul(q[0], q[1], q[2], q[3], -p[0], -p[1], -p[2], p[3])
        q, p = B[a].q1, B[a].q
        ax, ay, az, aw = quat_mul(q[0], q[1], q[2], q[3], -p[0], -p[1], -p[2], p[3])
        ax, ay, az, aw = quat_mul(-bx, -by, -bz, bw, ax, ay, az, aw)
        wx, wy, wz = log_quat(ax, ay, az, aw)
        cx, cy, cz = cross(wx, wy, wz, r[0], r[1], r[2])
        x, y = B[a].x1, B[b].x1
        dx, dy, dz = turn(-bx, -by, -bz, bw, x[0] - y[0], x[1] - y[1], x[2] - y[2])
        x, y = B[a].x, B[b].x
        k = 1.0 / h
        ux, uy, uz = relative_speed(B, C, i, YES)
        s = C[i].carry
        dx = k * (dx - x[0] + y[0] + cx) + s[0] - ux
        dy = k * (dy - x[1] + y[1] + cy) + s[1] - uy
        dz = k * (dz - x[2] + y[2] + cz) + s[2] - uz
        e[0], e[1], e[2] = e[0] + dx, e[1] + dy, e[2] + dz
        if not B[b].free:
            most = max(most, dx * dx + dy * dy + dz * dz)
        if first and not C[i].slow:
            # of what rides on a turning body the likely velocity is no better than what it slid by before
            rub(C, i, min(across(C[i].normal, ux + dx, uy + dy, uz + dz), C[i].slid))
    return math.sqrt(most)
