"""Joint rows: directions at the start of a substep, residuals at its predicted end.

Rows of a joint, in this order: three of the point, the locked rotations, the drive, the limits that are
struck. Rotations are split into swing and twist in the parent's joint frame, whose x axis is the bone.
"""

import math

import numpy as np

from artuline.core.physics.kernels import (
    compiled,
    cross,
    inlined,
    log_quat,
    poles,
    quat_mul,
    swing_twist,
    turn,
)
from artuline.core.physics.state import BALL, FIXED, HINGE

POINT, LOCK, SOFT, SWING, TWIST = 0, 1, 2, 3, 4
LIMIT_SOFTNESS = 1e-4  # of the inverse inertia: iterated away, but limits that contradict stay solvable
KEEP_POINT = 1e-3  # metres: a larger gap at the start of a substep closes over several, not at once
KEEP_ANGLE = 0.01  # radians, the same
MOST_FLIPS = 3  # times a limit may let go in a substep, so that none goes round in circles
CLOSE = 0.15  # share of such a gap closed in one substep


@inlined
def _joint_quat(B, body, frame, end):
    """World rotation of a joint's frame on one of its bodies, at the substep's start or predicted end."""
    if body < 0:
        return frame[0], frame[1], frame[2], frame[3]
    q = B[body].q1 if end else B[body].q
    return quat_mul(q[0], q[1], q[2], q[3], frame[0], frame[1], frame[2], frame[3])


@inlined
def _anchor(B, body, anchor, end):
    """World place of a joint's anchor on a body, and its arm from the centre of mass."""
    if body < 0:
        return anchor[0], anchor[1], anchor[2], 0.0, 0.0, 0.0
    q = B[body].q1 if end else B[body].q
    x = B[body].x1 if end else B[body].x
    rx, ry, rz = turn(q[0], q[1], q[2], q[3], anchor[0], anchor[1], anchor[2])
    return x[0] + rx, x[1] + ry, x[2] + rz, rx, ry, rz


@inlined
def cone_excess(sy, sz, ly, lz):
    """How far a swing lies outside an elliptical cone, along its own direction (negative inside). Radians."""
    length = math.sqrt(sy * sy + sz * sz)
    if length < 1e-9:
        return -min(ly, lz)
    ly, lz = max(ly, 1e-4), max(lz, 1e-4)
    share = math.sqrt((sy / ly) ** 2 + (sz / lz) ** 2)
    return length - length / share


@compiled
def joint_angles(B, J, j, end):
    """Swing y, swing z, twist of joint j at the substep's start or predicted end; radians."""
    px, py, pz, pw = _joint_quat(B, J[j].parent, J[j].frame_p, end)
    cx, cy, cz, cw = _joint_quat(B, J[j].child, J[j].frame_c, end)
    rx, ry, rz, rw = quat_mul(-px, -py, -pz, pw, cx, cy, cz, cw)
    return swing_twist(rx, ry, rz, rw)


@inlined
def _angular(J, j, r, ax, ay, az, kind):
    """Fill row r of joint j with a rotation about a world axis."""
    for k in range(3):
        J[j].Jp[r, k] = 0.0
        J[j].Jc[r, k] = 0.0
    J[j].Jc[r, 3], J[j].Jc[r, 4], J[j].Jc[r, 5] = ax, ay, az
    J[j].Jp[r, 3], J[j].Jp[r, 4], J[j].Jp[r, 5] = -ax, -ay, -az
    J[j].row_kind[r] = kind
    J[j].bias[r] = 0.0
    J[j].keep[r] = 0.0
    J[j].impulse[r] = 0.0
    for k in range(9):
        J[j].G[r, k] = 0.0
        J[j].G[k, r] = 0.0


@compiled
def prepare(B, J, h, ahead):
    """Point, lock and drive rows of all joints at the pose at the start; limits are added by ``add_limits``.

    ``ahead``: seconds until the drives' targets are due.
    """
    axes = np.zeros((3, 3))
    for j in range(J.shape[0]):
        p, c = J[j].parent, J[j].child
        c_free = B[c].free
        if not (c_free or (p >= 0 and B[p].free)):
            J[j].rows = 0
            continue
        pax, pay, paz, prx, pry, prz = _anchor(B, p, J[j].anchor_p, False)
        cax, cay, caz, crx, cry, crz = _anchor(B, c, J[j].anchor_c, False)
        for r in range(3):
            ex, ey, ez = (1.0 if r == 0 else 0.0), (1.0 if r == 1 else 0.0), (1.0 if r == 2 else 0.0)
            _angular(J, j, r, 0.0, 0.0, 0.0, POINT)
            J[j].Jc[r, r] = 1.0
            J[j].Jp[r, r] = -1.0
            J[j].Jc[r, 3], J[j].Jc[r, 4], J[j].Jc[r, 5] = cross(crx, cry, crz, ex, ey, ez)
            tx, ty, tz = cross(prx, pry, prz, ex, ey, ez)
            J[j].Jp[r, 3], J[j].Jp[r, 4], J[j].Jp[r, 5] = -tx, -ty, -tz
            if not c_free:
                # a keyed child has no mass to factor: a little softness, iterated away
                J[j].G[r, r] = 1e-5 / B[p].mass
        dx, dy, dz = cax - pax, cay - pay, caz - paz
        if dx * dx + dy * dy + dz * dz > KEEP_POINT * KEEP_POINT:
            J[j].keep[0], J[j].keep[1], J[j].keep[2] = dx * (1 - CLOSE), dy * (1 - CLOSE), dz * (1 - CLOSE)
        n = 3
        px, py, pz, pw = _joint_quat(B, p, J[j].frame_p, False)
        cx, cy, cz, cw = _joint_quat(B, c, J[j].frame_c, False)
        rx, ry, rz, rw = quat_mul(-px, -py, -pz, pw, cx, cy, cz, cw)
        for k in range(3):
            axes[k, 0], axes[k, 1], axes[k, 2] = turn(
                px, py, pz, pw, (1.0 if k == 0 else 0.0), (1.0 if k == 1 else 0.0), (1.0 if k == 2 else 0.0)
            )
        if J[j].kind != BALL:
            sy, sz, tw = swing_twist(rx, ry, rz, rw)
            for k in range(1, 3):
                _angular(J, j, n, axes[k, 0], axes[k, 1], axes[k, 2], LOCK + 10 * k)
                s = sy if k == 1 else sz
                if abs(s) > KEEP_ANGLE:
                    J[j].keep[n] = s * (1 - CLOSE)
                if not c_free:
                    J[j].G[n, n] = 1e-5 / B[p].inertia[0]
                n += 1
            if J[j].kind == FIXED:
                _angular(J, j, n, axes[0, 0], axes[0, 1], axes[0, 2], LOCK)
                if abs(tw) > KEEP_ANGLE:
                    J[j].keep[n] = tw * (1 - CLOSE)
                if not c_free:
                    J[j].G[n, n] = 1e-5 / B[p].inertia[0]
                n += 1
        if J[j].kind != FIXED and (J[j].frequency > 0.0 or J[j].damping > 0.0):
            n = _drive(J, j, n, rx, ry, rz, rw, axes, h, ahead)
        J[j].rows = n


@inlined
def _drive(J, j, n, rx, ry, rz, rw, axes, h, ahead):
    """Rows of a drive towards the keyed relative pose and its velocity."""
    f = J[j].frequency
    if f > 0.0:
        stiff, b = poles(f, J[j].ratio + J[j].damping / (4.0 * math.pi * f), h)
    else:
        d = math.exp(-J[j].damping * h)
        stiff, b = (1.0 - d) / d, 0.0
    a0, a1 = J[j].target0, J[j].target1
    ex, ey, ez, ew = quat_mul(rx, ry, rz, rw, -a0[0], -a0[1], -a0[2], a0[3])
    e0, e1, e2 = log_quat(ex, ey, ez, ew)
    ux, uy, uz, uw = quat_mul(a1[0], a1[1], a1[2], a1[3], -a0[0], -a0[1], -a0[2], a0[3])
    u0, u1, u2 = log_quat(ux, uy, uz, uw)
    first, last = 0, 3
    if J[j].kind == HINGE:
        last = 1
    start = n
    for k in range(first, last):
        _angular(J, j, n, axes[k, 0], axes[k, 1], axes[k, 2], SOFT)
        e = e0 if k == 0 else (e1 if k == 1 else e2)
        u = u0 if k == 0 else (u1 if k == 1 else u2)
        J[j].bias[n] = b * e - (u / ahead if f > 0.0 else 0.0)
        n += 1
    if J[j].kind == HINGE:
        J[j].G[start, start] = J[j].softness[0, 0] / stiff
    else:
        for k in range(3):
            for i in range(3):
                J[j].G[start + k, start + i] = J[j].softness[k, i] / stiff
    return n


@compiled
def add_limits(B, J):
    """Rows for the limits that are marked active; call after ``prepare``. Directions at the start."""
    for j in range(J.shape[0]):
        if not J[j].limited or J[j].rows == 0 or J[j].kind == FIXED:
            continue
        n = 3 + (2 if J[j].kind == HINGE else 0)
        if J[j].frequency > 0.0 or J[j].damping > 0.0:
            n += 1 if J[j].kind == HINGE else 3
        p, c = J[j].parent, J[j].child
        if J[j].active[0] != 0 or J[j].active[1] != 0:
            sy, sz, tw = joint_angles(B, J, j, False)
            px, py, pz, pw = _joint_quat(B, p, J[j].frame_p, False)
            xx, xy, xz = turn(px, py, pz, pw, 1.0, 0.0, 0.0)
            cx, cy, cz, cw = _joint_quat(B, c, J[j].frame_c, False)
            ax, ay, az = turn(cx, cy, cz, cw, 1.0, 0.0, 0.0)
            if J[j].active[0] != 0:
                length = math.sqrt(sy * sy + sz * sz)
                uy, uz = (sy / length, sz / length) if length > 1e-9 else (1.0, 0.0)
                ly, lz = max(J[j].limits[0], 1e-4), max(J[j].limits[1], 1e-4)
                gy, gz = uy / (ly * ly), uz / (lz * lz)
                # gradient of the cone along the swing (1) and across it
                along = gy * uy + gz * uz
                across = (gz * uy - gy * uz) / along
                ux, uy_, uz_ = turn(px, py, pz, pw, 0.0, uy, uz)
                tx, ty, tz = cross(ax, ay, az, ux, uy_, uz_)
                t = across * (length / math.sin(length) if 1e-6 < length < 3.0 else 1.0)
                _angular(J, j, n, ux + t * tx, uy_ + t * ty, uz_ + t * tz, SWING)
                e = cone_excess(sy, sz, J[j].limits[0], J[j].limits[1])
                J[j].keep[n] = e * (1 - CLOSE) if e > KEEP_ANGLE else 0.0
                J[j].G[n, n] = LIMIT_SOFTNESS / (B[c].inertia[0] if B[c].free else B[p].inertia[0])
                n += 1
            if J[j].active[1] != 0:
                s = 1.0 / (1.0 + max(ax * xx + ay * xy + az * xz, -0.9))
                _angular(J, j, n, s * (ax + xx), s * (ay + xy), s * (az + xz), TWIST)
                e = tw - J[j].limits[3] if J[j].active[1] > 0 else J[j].limits[2] - tw
                w = e * (1 - CLOSE) if e > KEEP_ANGLE else 0.0
                J[j].keep[n] = w if J[j].active[1] > 0 else -w
                J[j].G[n, n] = LIMIT_SOFTNESS / (B[c].inertia[0] if B[c].free else B[p].inertia[0])
                n += 1
        J[j].rows = n


@compiled
def residuals(B, J, h):
    """Residual of every row at the trial velocities and the predicted pose, as a velocity.

    Returns the worst point residual (metres) and the worst angle (radians) of hard rows.
    """
    worst, worst_angle = 0.0, 0.0
    for j in range(J.shape[0]):
        n = J[j].rows
        if n == 0:
            continue
        p, c = J[j].parent, J[j].child
        pax, pay, paz, _, _, _ = _anchor(B, p, J[j].anchor_p, True)
        cax, cay, caz, _, _, _ = _anchor(B, c, J[j].anchor_c, True)
        d0, d1, d2 = cax - pax - J[j].keep[0], cay - pay - J[j].keep[1], caz - paz - J[j].keep[2]
        J[j].res[0], J[j].res[1], J[j].res[2] = d0 / h, d1 / h, d2 / h
        worst = max(worst, d0 * d0 + d1 * d1 + d2 * d2)
        if n == 3:
            continue
        sy, sz, tw = joint_angles(B, J, j, True)
        for r in range(3, n):
            kind = J[j].row_kind[r]
            if kind == SOFT:
                s = J[j].bias[r]
                for k in range(3, 6):
                    s += J[j].Jc[r, k] * B[c].tw[k - 3]
                    if p >= 0:
                        s += J[j].Jp[r, k] * B[p].tw[k - 3]
                for k in range(3, n):
                    s += J[j].G[r, k] * J[j].impulse[k]
                J[j].res[r] = s
                continue
            if kind == SWING:
                e = cone_excess(sy, sz, J[j].limits[0], J[j].limits[1])
            elif kind == TWIST:
                e = tw - J[j].limits[3] if J[j].active[1] > 0 else tw - J[j].limits[2]
            elif kind == LOCK + 10:
                e = sy
            elif kind == LOCK + 20:
                e = sz
            else:
                e = tw
            e -= J[j].keep[r]
            J[j].res[r] = e / h
            worst_angle = max(worst_angle, abs(e))
    return math.sqrt(worst), worst_angle


@compiled
def update_limits(B, J, release):
    """Switch limits on where the predicted pose breaks them, with ``release`` off where they
    would pull. True if any changed.
    """
    changed = False
    for j in range(J.shape[0]):
        if not J[j].limited or J[j].rows == 0 or J[j].kind == FIXED:
            continue
        swing, twist = 0, 0
        for r in range(3, J[j].rows):
            if J[j].row_kind[r] == SWING:
                swing = 1 if J[j].impulse[r] <= 0.0 else -1
            elif J[j].row_kind[r] == TWIST:
                twist = 1 if J[j].impulse[r] * J[j].active[1] <= 0.0 else -1
        sy, sz, tw = joint_angles(B, J, j, True)
        if J[j].kind == BALL:
            if swing == 0 and cone_excess(sy, sz, J[j].limits[0], J[j].limits[1]) > 1e-7:
                J[j].active[0] = 1
                changed = True
            elif release and swing == -1 and J[j].flips[0] < MOST_FLIPS:
                J[j].active[0] = 0
                J[j].flips[0] += 1
                changed = True
        if twist == 0:
            side = 1 if tw > J[j].limits[3] + 1e-7 else (-1 if tw < J[j].limits[2] - 1e-7 else 0)
            if side != 0:
                J[j].active[1] = side
                changed = True
        elif release and twist == -1 and J[j].flips[1] < MOST_FLIPS:
            J[j].active[1] = 0
            J[j].flips[1] += 1
            changed = True
    return changed


@compiled
def limit_excess(B, J, j):
    """How far joint j is beyond its limits, radians; 0 inside."""
    if not J[j].limited or J[j].kind == FIXED:
        return 0.0
    sy, sz, tw = joint_angles(B, J, j, False)
    e = max(tw - J[j].limits[3], J[j].limits[2] - tw, 0.0)
    if J[j].kind == BALL:
        e = max(e, cone_excess(sy, sz, J[j].limits[0], J[j].limits[1]))
    return e


@compiled
def effective_inertia(B, J, mass, centre, tensor):
    """Fill ``J.softness``: the inverse inertia that a drive feels with all below it rigid.

    The composite of the joint's subtree about the anchor, in series with the rest of what hangs together,
    which counts as infinite where it is held by something keyed. mass (n,), centre (n, 3), tensor (n, 3, 3)
    are scratch. The bodies' world inertia must be set.
    """
    n, m = B.shape[0], J.shape[0]
    root = np.empty(n, np.int64)
    held = np.zeros(n, np.bool_)
    for i in range(n):
        mass[i] = B[i].mass if B[i].free else 0.0
        root[i] = i
        for a in range(3):
            centre[i, a] = B[i].x[a]
            for b in range(3):
                tensor[i, a, b] = B[i].M[a, b] if B[i].free else 0.0
    for j in range(m):
        p, c = J[j].parent, J[j].child
        if p >= 0 and B[p].free:
            root[c] = root[p]
        else:
            held[c] = True
    for j in range(m - 1, -1, -1):
        p, c = J[j].parent, J[j].child
        if p >= 0 and B[p].free and mass[c] > 0.0:
            _merge(mass, centre, tensor, p, c)
    about_sub, about_rest = np.empty((3, 3)), np.empty((3, 3))
    for j in range(m):
        p, c = J[j].parent, J[j].child
        if not B[c].free:
            continue
        ax, ay, az, _, _, _ = _anchor(B, c, J[j].anchor_c, False)
        _about(mass[c], centre, tensor, c, ax, ay, az, about_sub)
        inverse = np.linalg.inv(about_sub)
        if p >= 0 and B[p].free and not held[root[c]]:
            t = root[c]
            left = mass[t] - mass[c]
            if left > 1e-9 * mass[t]:
                _about(mass[t], centre, tensor, t, ax, ay, az, about_rest)
                about_rest -= about_sub
                for k in range(3):
                    about_rest[k, k] += 1e-9 * mass[t]
                inverse += np.linalg.inv(about_rest)
        px, py, pz, pw = _joint_quat(B, p, J[j].frame_p, False)
        for k in range(3):
            kx, ky, kz = turn(
                px, py, pz, pw, (1.0 if k == 0 else 0.0), (1.0 if k == 1 else 0.0), (1.0 if k == 2 else 0.0)
            )
            for i in range(3):
                ix, iy, iz = turn(
                    px,
                    py,
                    pz,
                    pw,
                    (1.0 if i == 0 else 0.0),
                    (1.0 if i == 1 else 0.0),
                    (1.0 if i == 2 else 0.0),
                )
                J[j].softness[k, i] = (
                    kx * (inverse[0, 0] * ix + inverse[0, 1] * iy + inverse[0, 2] * iz)
                    + ky * (inverse[1, 0] * ix + inverse[1, 1] * iy + inverse[1, 2] * iz)
                    + kz * (inverse[2, 0] * ix + inverse[2, 1] * iy + inverse[2, 2] * iz)
                )
        if J[j].kind == HINGE:
            # about a fixed axis the other rotations are locked: the plain moment, not the inverse's element
            s = 0.0
            xx, xy, xz = turn(px, py, pz, pw, 1.0, 0.0, 0.0)
            t = np.linalg.inv(inverse)
            s = (
                xx * (t[0, 0] * xx + t[0, 1] * xy + t[0, 2] * xz)
                + xy * (t[1, 0] * xx + t[1, 1] * xy + t[1, 2] * xz)
                + xz * (t[2, 0] * xx + t[2, 1] * xy + t[2, 2] * xz)
            )
            J[j].softness[0, 0] = 1.0 / s


@inlined
def _merge(mass, centre, tensor, p, c):
    """Add composite c to composite p."""
    total = mass[p] + mass[c]
    d0, d1, d2 = centre[c, 0] - centre[p, 0], centre[c, 1] - centre[p, 1], centre[c, 2] - centre[p, 2]
    k = mass[p] * mass[c] / total
    square = d0 * d0 + d1 * d1 + d2 * d2
    for a in range(3):
        da = d0 if a == 0 else (d1 if a == 1 else d2)
        for b in range(3):
            db = d0 if b == 0 else (d1 if b == 1 else d2)
            tensor[p, a, b] += tensor[c, a, b] + k * ((square if a == b else 0.0) - da * db)
    s = mass[c] / total
    centre[p, 0] += d0 * s
    centre[p, 1] += d1 * s
    centre[p, 2] += d2 * s
    mass[p] = total


@inlined
def _about(mass, centre, tensor, i, ax, ay, az, out):
    """Composite inertia of i about a point."""
    d0, d1, d2 = centre[i, 0] - ax, centre[i, 1] - ay, centre[i, 2] - az
    square = d0 * d0 + d1 * d1 + d2 * d2
    for a in range(3):
        da = d0 if a == 0 else (d1 if a == 1 else d2)
        for b in range(3):
            db = d0 if b == 0 else (d1 if b == 1 else d2)
            out[a, b] = tensor[i, a, b] + mass * ((square if a == b else 0.0) - da * db)
