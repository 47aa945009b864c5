"""One substep: kick, solve for the impulses along directions at its start, drift (SHAKE with a direct solve).

Constraint impulses act along the directions at the pose where the substep begins, and are iterated until
the joints are closed at the pose where it ends (Ryckaert et al. 1977; Andersen 1983): symplectic, so that
swings keep their height. A substep that turns a body too far, or does not close, is halved.
"""

import math

import numpy as np

from artuline.core.physics.collide import find_contacts
from artuline.core.physics.contacts import (
    add_blocks,
    add_forces,
    prepare_contacts,
    reset_impulses,
    sweep,
    update_contacts,
)
from artuline.core.physics.joints import (
    add_limits,
    effective_inertia,
    limit_excess,
    prepare,
    residuals,
    update_limits,
)
from artuline.core.physics.kernels import compiled, cross, inlined, log_quat, poles, quat_mul, turn
from artuline.core.physics.motion import drift, world_inertia
from artuline.core.physics.tree import factor, factor_roots, solve

MOST_TURN = 0.5  # radians a free body may turn in a substep
CLOSED = 2e-6  # metres: joints count as closed
OPEN = 1e-4  # metres: joints count as failed
WORST_OPEN = 2e-3  # metres: as deep as halving goes, what is still accepted
PASSES = 14
RELEASE = 7  # passes in which contacts and limits may still let go
DEEPEST = 5  # halvings


@compiled
def _blocks(B, C, T, K, h):
    """Mass matrices with everything that acts on one body."""
    for i in range(B.shape[0]):
        if not B[i].free:
            continue
        k = 1.0
        if B[i].goal_frequency > 0.0:
            stiff, _ = poles(B[i].goal_frequency, B[i].goal_ratio, h)
            k = 1.0 + stiff
        for a in range(6):
            for b in range(6):
                B[i].D[a, b] = 0.0
        for a in range(3):
            B[i].D[a, a] = B[i].mass * k
            for b in range(3):
                B[i].D[3 + a, 3 + b] = B[i].M[a, b] * k
    add_blocks(B, C, K)
    for t in range(T.shape[0]):
        i = T[t].body
        if i < 0 or not B[i].free:
            continue
        stiff, _ = poles(T[t].frequency, 1.0, h)
        k = T[t].mass * stiff
        rx, ry, rz = turn(
            B[i].q[0], B[i].q[1], B[i].q[2], B[i].q[3], T[t].point[0], T[t].point[1], T[t].point[2]
        )
        for e in range(3):
            dx, dy, dz = (1.0 if e == 0 else 0.0), (1.0 if e == 1 else 0.0), (1.0 if e == 2 else 0.0)
            tx, ty, tz = cross(rx, ry, rz, dx, dy, dz)
            row = (dx, dy, dz, tx, ty, tz)
            for a in range(6):
                for b in range(a + 1):
                    B[i].D[a, b] += k * row[a] * row[b]


@compiled
def _right_side(B, C, T, K, h, ahead):
    """Right side of the bodies: contacts, world drives, tugs."""
    for i in range(B.shape[0]):
        for k in range(6):
            B[i].f[k] = 0.0
    add_forces(B, C, K)
    for i in range(B.shape[0]):
        if B[i].free and B[i].goal_frequency > 0.0:
            _goal(B, h, ahead, i, True)
    for t in range(T.shape[0]):
        i = T[t].body
        if i < 0 or not B[i].free:
            continue
        rx, ry, rz, k0, k1, k2 = _tug(B, T, h, t, i)
        k0, k1, k2 = k0 - T[t].impulse[0], k1 - T[t].impulse[1], k2 - T[t].impulse[2]
        B[i].f[0] += k0
        B[i].f[1] += k1
        B[i].f[2] += k2
        tx, ty, tz = cross(rx, ry, rz, k0, k1, k2)
        B[i].f[3] += tx
        B[i].f[4] += ty
        B[i].f[5] += tz


@inlined
def _tug(B, T, h, t, i):
    """Arm of a tug and the impulse of its spring at velocities v, w."""
    stiff, bias = poles(T[t].frequency, 1.0, h)
    k = T[t].mass * stiff
    rx, ry, rz = turn(B[i].q[0], B[i].q[1], B[i].q[2], B[i].q[3], T[t].point[0], T[t].point[1], T[t].point[2])
    cx, cy, cz = cross(B[i].tw[0], B[i].tw[1], B[i].tw[2], rx, ry, rz)
    k0 = -k * (B[i].tv[0] + cx + bias * (B[i].x[0] + rx - T[t].goal[0]))
    k1 = -k * (B[i].tv[1] + cy + bias * (B[i].x[1] + ry - T[t].goal[1]))
    k2 = -k * (B[i].tv[2] + cz + bias * (B[i].x[2] + rz - T[t].goal[2]))
    return rx, ry, rz, k0, k1, k2


@inlined
def _goal(B, h, ahead, i, to_f):
    """World drive of body i: the impulse at velocities v, w, added to f or stored."""
    stiff, bias = poles(B[i].goal_frequency, B[i].goal_ratio, h)
    g = B[i].goal_q0
    ex, ey, ez, ew = quat_mul(B[i].q[0], B[i].q[1], B[i].q[2], B[i].q[3], -g[0], -g[1], -g[2], g[3])
    e0, e1, e2 = log_quat(ex, ey, ez, ew)
    n = B[i].goal_q1
    ux, uy, uz, uw = quat_mul(n[0], n[1], n[2], n[3], -g[0], -g[1], -g[2], g[3])
    u0, u1, u2 = log_quat(ux, uy, uz, uw)
    a0, a1, a2 = (
        B[i].tw[0] - u0 / ahead + bias * e0,
        B[i].tw[1] - u1 / ahead + bias * e1,
        B[i].tw[2] - u2 / ahead + bias * e2,
    )
    for k in range(3):
        u = (B[i].goal_x1[k] - B[i].goal_x0[k]) / ahead
        p = -B[i].mass * stiff * (B[i].tv[k] - u + bias * (B[i].x[k] - B[i].goal_x0[k]))
        t = -stiff * (B[i].M[k, 0] * a0 + B[i].M[k, 1] * a1 + B[i].M[k, 2] * a2)
        if to_f:
            B[i].f[k] += p - B[i].drive_impulse[k]
            B[i].f[3 + k] += t - B[i].drive_impulse[3 + k]
        else:
            B[i].drive_impulse[k] = p
            B[i].drive_impulse[3 + k] = t


@compiled
def _restart(B, J, C, T, K, gravity, h):
    """Velocities before any impulse of this substep."""
    for i in range(B.shape[0]):
        for k in range(3):
            B[i].tv[k] = B[i].v[k] + (h * gravity[k] if B[i].free else 0.0)
            B[i].tw[k] = B[i].w[k]
        for k in range(6):
            B[i].drive_impulse[k] = 0.0
    for j in range(J.shape[0]):
        for r in range(J[j].rows):
            J[j].impulse[r] = 0.0
    for t in range(T.shape[0]):
        for k in range(3):
            T[t].impulse[k] = 0.0
    reset_impulses(B, C, K)


@compiled
def attempt(B, J, S, P, C, T, K, gravity, h, ahead, last):
    """Try one substep of length h; on success B holds its end. ``last``: accept whatever comes.

    ``ahead``: seconds until the targets are due. Returns whether it was accepted.
    """
    n, m = B.shape[0], J.shape[0]
    if not last:
        for i in range(n):
            if B[i].free:
                s = B[i].w[0] ** 2 + B[i].w[1] ** 2 + B[i].w[2] ** 2
                if s * h * h > MOST_TURN * MOST_TURN:
                    return False
    world_inertia(B)
    prepare(B, J, h, ahead)
    add_limits(B, J)
    find_contacts(B, S, P, C, K, h)
    _restart(B, J, C, T, K, gravity, h)
    prepare_contacts(B, S, P, C, K, h)
    for j in range(m):
        J[j].flips[0], J[j].flips[1] = 0, 0
    swept = False
    for i in range(K[0]):
        if C[i].b >= 0 and B[C[i].b].free:
            swept = True
    fresh = True
    worst, angle = 0.0, 0.0
    for p in range(PASSES):
        if fresh:
            _blocks(B, C, T, K, h)
            factor(B, J)
            factor_roots(B)
            K[3] += 1
            fresh = False
            if p > 0:
                _restart(B, J, C, T, K, gravity, h)
        moved = sweep(B, C, K, 2) if swept else 0.0
        drift(B, h)
        residuals(B, J, h)
        _right_side(B, C, T, K, h, ahead)
        solve(B, J)
        for i in range(n):
            if B[i].free:
                for k in range(3):
                    B[i].tv[k] += B[i].f[k]
                    B[i].tw[k] += B[i].f[3 + k]
        for j in range(m):
            for r in range(J[j].rows):
                J[j].impulse[r] += J[j].dl[r]
        for i in range(n):
            if B[i].free and B[i].goal_frequency > 0.0:
                _goal(B, h, ahead, i, False)
        for t in range(T.shape[0]):
            i = T[t].body
            if i >= 0 and B[i].free:
                _, _, _, T[t].impulse[0], T[t].impulse[1], T[t].impulse[2] = _tug(B, T, h, t, i)
        catch, release = p < PASSES - 3, p < RELEASE
        changed, slide = update_contacts(B, C, K, catch, release)
        drift(B, h)
        if catch and update_limits(B, J, release):
            prepare(B, J, h, ahead)
            add_limits(B, J)
            changed = True
        if changed:
            fresh = True
            continue
        worst, angle = residuals(B, J, h)
        if worst < CLOSED and angle < 1e-4 and slide < 0.02 and moved < 2e-3:
            break
    sound = worst <= OPEN and angle <= 0.01  # false for numbers that are none
    if not sound:
        if not last:
            return False
        if not (worst <= WORST_OPEN and angle <= 0.1):
            _freeze(B)
            return True
    if not last:
        for i in range(n):
            if B[i].free:
                s = B[i].w1[0] ** 2 + B[i].w1[1] ** 2 + B[i].w1[2] ** 2
                if not s * h * h < MOST_TURN * MOST_TURN:
                    return False
    _accept(B, J, P, C, K, h, last)
    return True


@inlined
def _freeze(B):
    """The last resort: stand still for this part of the substep rather than lose the numbers."""
    for i in range(B.shape[0]):
        if B[i].free:
            for a in range(3):
                B[i].v[a], B[i].w[a] = 0.0, 0.0


@inlined
def _accept(B, J, P, C, K, h, last):
    """Make the predicted pose the pose, and note the worst values."""
    for i in range(B.shape[0]):
        s = B[i].w1[0] ** 2 + B[i].w1[1] ** 2 + B[i].w1[2] ** 2
        k = 1.0
        if last and B[i].free and s * h * h > MOST_TURN * MOST_TURN:
            # as deep as halving goes: lose energy rather than gain it
            k = MOST_TURN / (h * math.sqrt(s))
        for a in range(3):
            B[i].x[a] = B[i].x1[a]
            B[i].v[a] = B[i].tv[a]
            B[i].w[a] = B[i].w1[a] * k
        for a in range(4):
            B[i].q[a] = B[i].q1[a]
    for k in range(P.shape[0]):
        P[k].incoming[0] = P[k].incoming[1]
    for c in range(K[0]):
        if C[c].gap < 0.0:
            a = C[c].a
            B[a].penetration = max(B[a].penetration, -C[c].gap)
        if C[c].impulse[0] > 0.0:
            B[C[c].a].contact += C[c].impulse[0]
            if C[c].b >= 0:
                B[C[c].b].contact += C[c].impulse[0]
    for j in range(J.shape[0]):
        if J[j].rows == 0:
            continue
        s = 0.0
        for k in range(3):
            s += (J[j].res[k] * h + J[j].keep[k]) ** 2
        J[j].separation = max(J[j].separation, math.sqrt(s))
        J[j].excess = max(J[j].excess, limit_excess(B, J, j))


@compiled
def advance(B, J, S, P, C, T, K, gravity, h):
    """One substep of length h, halved as often as needed. Poses of bodies that are not free are moved along."""
    whole = 1 << DEEPEST
    done, size = 0, whole
    K[1] += 1
    while done < whole:
        part = h * size / whole
        if attempt(B, J, S, P, C, T, K, gravity, part, h * (whole - done) / whole, size == 1):
            K[2] += 1
            done += size
            _shift_targets(B, J, size / (whole - done + size))
            if size < whole and done % (2 * size) == 0:
                size *= 2
        else:
            size //= 2
    return


@compiled
def _shift_targets(B, J, share):
    """After a part of a substep, the targets' start is that much closer to their end."""
    if share >= 1.0:
        return
    for i in range(B.shape[0]):
        for k in range(3):
            B[i].goal_x0[k] += share * (B[i].goal_x1[k] - B[i].goal_x0[k])
        _nudge(B[i].goal_q0, B[i].goal_q1, share)
    for j in range(J.shape[0]):
        _nudge(J[j].target0, J[j].target1, share)


@inlined
def _nudge(q0, q1, share):
    """Turn q0 a share of the way to q1 (small steps: normalised interpolation)."""
    d = q0[0] * q1[0] + q0[1] * q1[1] + q0[2] * q1[2] + q0[3] * q1[3]
    s = share if d >= 0.0 else -share
    n = 0.0
    for k in range(4):
        q0[k] += s * q1[k] - share * q0[k]
        n += q0[k] * q0[k]
    n = 1.0 / math.sqrt(n)
    for k in range(4):
        q0[k] *= n


@compiled
def frame(B, J, S, P, C, T, K, gravity, h, keyed_x, keyed_q, free, goal, drive, follow):
    """All substeps of a frame, with the keyed motion given at every substep.

    keyed_x (k + 1, n, 3), keyed_q (k + 1, n, 4): keyed poses; free (k, n): which bodies are simulated;
    goal (k, n): world drive in Hz; drive (k, m): joint drive in Hz; follow (m,): whether a joint's anchor on
    the parent and its drive's target come from the keyed poses. A body that becomes free starts with the
    velocity of its keys.
    """
    n, m = B.shape[0], J.shape[0]
    mass, centre, tensor = np.empty(n), np.empty((n, 3)), np.empty((n, 3, 3))
    any_drive = False
    for j in range(m):
        any_drive = any_drive or J[j].damping > 0.0
        for s in range(free.shape[0]):
            any_drive = any_drive or drive[s, j] > 0.0
    for s in range(free.shape[0]):
        for i in range(n):
            B[i].free = free[s, i]
            B[i].goal_frequency = goal[s, i]
            for k in range(3):
                B[i].goal_x0[k], B[i].goal_x1[k] = keyed_x[s, i, k], keyed_x[s + 1, i, k]
            for k in range(4):
                B[i].goal_q0[k], B[i].goal_q1[k] = keyed_q[s, i, k], keyed_q[s + 1, i, k]
            if not B[i].free:
                a, b = keyed_q[s, i], keyed_q[s + 1, i]
                ex, ey, ez, ew = quat_mul(b[0], b[1], b[2], b[3], -a[0], -a[1], -a[2], a[3])
                r0, r1, r2 = log_quat(ex, ey, ez, ew)
                B[i].w[0], B[i].w[1], B[i].w[2] = r0 / h, r1 / h, r2 / h
                for k in range(3):
                    B[i].x[k] = keyed_x[s, i, k]
                    B[i].v[k] = (keyed_x[s + 1, i, k] - keyed_x[s, i, k]) / h
                for k in range(4):
                    B[i].q[k] = keyed_q[s, i, k]
        for j in range(m):
            J[j].frequency = drive[s, j]
            if follow[j]:
                _keyed_relative(J, keyed_x[s + 1], keyed_q[s + 1], j, J[j].target1, True)
                _keyed_relative(J, keyed_x[s], keyed_q[s], j, J[j].target0, False)
        if s == 0 and any_drive:
            world_inertia(B)
            effective_inertia(B, J, mass, centre, tensor)
        advance(B, J, S, P, C, T, K, gravity, h)
    last = free.shape[0]
    for i in range(n):
        if not B[i].free:
            for k in range(3):
                B[i].x[k] = keyed_x[last, i, k]
            for k in range(4):
                B[i].q[k] = keyed_q[last, i, k]


@inlined
def _keyed_relative(J, x, q, j, target, anchor):
    """Relative rotation of a joint in a keyed pose, and the child's anchor seen from the parent."""
    p, c = J[j].parent, J[j].child
    f, g = J[j].frame_c, J[j].frame_p
    cx, cy, cz, cw = quat_mul(q[c, 0], q[c, 1], q[c, 2], q[c, 3], f[0], f[1], f[2], f[3])
    px, py, pz, pw = g[0], g[1], g[2], g[3]
    if p >= 0:
        px, py, pz, pw = quat_mul(q[p, 0], q[p, 1], q[p, 2], q[p, 3], px, py, pz, pw)
    target[0], target[1], target[2], target[3] = quat_mul(-px, -py, -pz, pw, cx, cy, cz, cw)
    if anchor and p >= 0:
        a = J[j].anchor_c
        ax, ay, az = turn(q[c, 0], q[c, 1], q[c, 2], q[c, 3], a[0], a[1], a[2])
        ax, ay, az = ax + x[c, 0] - x[p, 0], ay + x[c, 1] - x[p, 1], az + x[c, 2] - x[p, 2]
        J[j].anchor_p[0], J[j].anchor_p[1], J[j].anchor_p[2] = turn(
            -q[p, 0], -q[p, 1], -q[p, 2], q[p, 3], ax, ay, az
        )
