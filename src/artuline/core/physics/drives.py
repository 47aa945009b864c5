"""Drives, damping and friction in joints, world drives and tugs: soft rows with the poles of the oscillator.

A drive is set by a frequency and a damping ratio and scaled by the inertia that it moves, so that one value means
the same for a finger and a torso (Catto 2011, Soft Constraints); its discrete poles are the exact ones.
"""

import math

from artuline.core.physics.graph import add_own
from artuline.core.physics.joint_frames import anchor_place, joint_quat, last_step, relative
from artuline.core.physics.kernels import NO, compiled, cross, inlined, log_quat, poles, quat_mul, turn

AT_REST = 1e-3  # rad/s: slower turns hold by friction


@inlined
def _damped(damping, h):
    """Stiffness against the inertia of a damping in 1/s, exact for a single body."""
    d = math.exp(-damping * h)
    return (1.0 - d) / max(d, 1e-12)


@compiled
def prepare_drives(B, J, h, ahead):
    """Stiffness and aim of the drives of all joints. ``ahead``: seconds until their targets are due."""
    for j in range(J.shape[0]):
        f, damping, friction = J[j].frequency, J[j].damping, J[j].friction
        J[j].driven = J[j].live and (f > 0.0 or damping > 0.0 or friction > 0.0)
        if not J[j].driven:
            continue
        stiff, b = 0.0, 0.0
        if f > 0.0:
            stiff, b = poles(f, J[j].ratio + damping / (4.0 * math.pi * f), h, last_step(B, J, j))
        elif damping > 0.0:
            stiff = _damped(damping, 0.5 * (h + last_step(B, J, j)))
        p, c = J[j].parent, J[j].child
        qx, qy, qz, qw = joint_quat(B, p, J[j].frame_p, NO)
        K, I = J[j].Kd, J[j].effective
        # R I R^T, column by column
        for a in range(3):
            tx, ty, tz = turn(qx, qy, qz, qw, I[0, a], I[1, a], I[2, a])
            K[0, a], K[1, a], K[2, a] = stiff * tx, stiff * ty, stiff * tz
        for a in range(3):
            K[a, 0], K[a, 1], K[a, 2] = turn(qx, qy, qz, qw, K[a, 0], K[a, 1], K[a, 2])
        g0, g1, g2 = 0.0, 0.0, 0.0
        if f > 0.0:
            rx, ry, rz, rw = relative(B, J, j, NO)
            a0, a1 = J[j].target0, J[j].target1
            ex, ey, ez, ew = quat_mul(rx, ry, rz, rw, -a0[0], -a0[1], -a0[2], a0[3])
            e0, e1, e2 = log_quat(ex, ey, ez, ew)
            ux, uy, uz, uw = quat_mul(a1[0], a1[1], a1[2], a1[3], -a0[0], -a0[1], -a0[2], a0[3])
            u0, u1, u2 = log_quat(ux, uy, uz, uw)
            g0, g1, g2 = turn(qx, qy, qz, qw, u0 / ahead - b * e0, u1 / ahead - b * e1, u2 / ahead - b * e2)
        m = J[j].aim
        m[0] = K[0, 0] * g0 + K[0, 1] * g1 + K[0, 2] * g2
        m[1] = K[1, 0] * g0 + K[1, 1] * g1 + K[1, 2] * g2
        m[2] = K[2, 0] * g0 + K[2, 1] * g1 + K[2, 2] * g2
        if friction > 0.0:
            w0, w1, w2 = B[c].w[0], B[c].w[1], B[c].w[2]
            if p >= 0:
                w0, w1, w2 = w0 - B[p].w[0], w1 - B[p].w[1], w2 - B[p].w[2]
            k = 0.5 * (h + last_step(B, J, j)) * friction / max(math.sqrt(w0 * w0 + w1 * w1 + w2 * w2), AT_REST)
            for a in range(3):
                K[a, a] += k


@compiled
def add_bodies(B, E, h):
    """Start the matrix: masses and world drives."""
    for i in range(B.shape[0]):
        if not B[i].free:
            continue
        D = B[i].D
        k = 1.0 + _goal_stiffness(B, i, h)
        for a in range(6):
            for b in range(6):
                D[a, b] = 0.0
        M = B[i].M
        D[0, 0] = D[1, 1] = D[2, 2] = B[i].mass * k
        # only the lower triangle is used
        D[3, 3], D[4, 3], D[4, 4] = M[0, 0] * k, M[1, 0] * k, M[1, 1] * k
        D[5, 3], D[5, 4], D[5, 5] = M[2, 0] * k, M[2, 1] * k, M[2, 2] * k
        for s in range(B[i].neighbours):
            F = E[B[i].first + s].m
            for a in range(6):
                for b in range(6):
                    F[a, b] = 0.0


@inlined
def _goal_stiffness(B, i, h):
    f, damping = B[i].goal_frequency, B[i].goal_damping
    if f > 0.0:
        stiff, _ = poles(f, B[i].goal_ratio + damping / (4.0 * math.pi * f), h, B[i].last)
        return stiff
    return _damped(damping, 0.5 * (h + B[i].last)) if damping > 0.0 else 0.0


@compiled
def body_forces(B, h, ahead):
    """Start the right side: inertia against the free velocities, and world drives."""
    for i in range(B.shape[0]):
        if not B[i].free:
            continue
        f, M = B[i].f, B[i].M
        a0, a1, a2 = B[i].fw[0] - B[i].tw[0], B[i].fw[1] - B[i].tw[1], B[i].fw[2] - B[i].tw[2]
        for k in range(3):
            f[k] = B[i].mass * (B[i].fv[k] - B[i].tv[k])
            f[3 + k] = M[k, 0] * a0 + M[k, 1] * a1 + M[k, 2] * a2
        if B[i].goal_frequency > 0.0 or B[i].goal_damping > 0.0:
            _goal(B, h, ahead, i)


@inlined
def _goal(B, h, ahead, i):
    """World drive of body i at its trial velocity."""
    stiff, bias = _goal_stiffness(B, i, h), 0.0
    if B[i].goal_frequency > 0.0:
        ratio = B[i].goal_ratio + B[i].goal_damping / (4.0 * math.pi * B[i].goal_frequency)
        stiff, bias = poles(B[i].goal_frequency, ratio, h, B[i].last)
    g, n, M = B[i].goal_q0, B[i].goal_q1, B[i].M
    ex, ey, ez, ew = quat_mul(B[i].q[0], B[i].q[1], B[i].q[2], B[i].q[3], -g[0], -g[1], -g[2], g[3])
    e0, e1, e2 = log_quat(ex, ey, ez, ew)
    ux, uy, uz, uw = quat_mul(n[0], n[1], n[2], n[3], -g[0], -g[1], -g[2], g[3])
    u0, u1, u2 = log_quat(ux, uy, uz, uw)
    a0 = B[i].tw[0] - u0 / ahead + bias * e0
    a1 = B[i].tw[1] - u1 / ahead + bias * e1
    a2 = B[i].tw[2] - u2 / ahead + bias * e2
    for k in range(3):
        u = (B[i].goal_x1[k] - B[i].goal_x0[k]) / ahead
        B[i].f[k] -= B[i].mass * stiff * (B[i].tv[k] - u + bias * (B[i].x[k] - B[i].goal_x0[k]))
        B[i].f[3 + k] -= stiff * (M[k, 0] * a0 + M[k, 1] * a1 + M[k, 2] * a2)


@compiled
def add_tugs(B, T, W, h):
    """Add the tugs' stiffness to the matrix, and set their arms. W: scratch."""
    for t in range(T.shape[0]):
        i = T[t].body
        if i < 0 or not B[i].free:
            continue
        stiff, _ = poles(T[t].frequency, 1.0, h, B[i].last)
        rx, ry, rz = anchor_place(B, i, T[t].point, NO)
        r = T[t].arm
        r[0], r[1], r[2] = rx - B[i].x[0], ry - B[i].x[1], rz - B[i].x[2]
        for a in range(3):
            for b in range(3):
                W[2, a, b] = T[t].mass * stiff if a == b else 0.0
        add_own(B, i, W[2], r, W[0], W[1])


@compiled
def tug_forces(B, T, h):
    """Add the tugs' impulses at the trial velocities to the right side."""
    for t in range(T.shape[0]):
        i = T[t].body
        if i < 0 or not B[i].free:
            continue
        stiff, bias = poles(T[t].frequency, 1.0, h, B[i].last)
        k, r = T[t].mass * stiff, T[t].arm
        cx, cy, cz = cross(B[i].tw[0], B[i].tw[1], B[i].tw[2], r[0], r[1], r[2])
        k0 = -k * (B[i].tv[0] + cx + bias * (B[i].x[0] + r[0] - T[t].goal[0]))
        k1 = -k * (B[i].tv[1] + cy + bias * (B[i].x[1] + r[1] - T[t].goal[1]))
        k2 = -k * (B[i].tv[2] + cz + bias * (B[i].x[2] + r[2] - T[t].goal[2]))
        tx, ty, tz = cross(r[0], r[1], r[2], k0, k1, k2)
        f = B[i].f
        f[0], f[1], f[2] = f[0] + k0, f[1] + k1, f[2] + k2
        f[3], f[4], f[5] = f[3] + tx, f[4] + ty, f[5] + tz


@compiled
def effective_inertia(B, J, A, W):
    """Fill ``J.effective``: the inertia that a drive feels with all below it rigid.

    The composite of the joint's subtree about the anchor, in series with the rest of what hangs together,
    which counts as infinite where it is held by something keyed. ``J.feel``: the same for the mass. A, W, and D and f
    of the bodies are scratch: what hangs on a body has the mass f[3], its centre at f[:3], and the inertia D[:3, :3]; A (n, 2 at
    least): its root, and whether that is held. The bodies' world inertia must be set.
    """
    for i in range(B.shape[0]):
        free = B[i].free
        B[i].f[3] = B[i].mass if free else 0.0
        A[i, 0], A[i, 1] = i, 0
        for a in range(3):
            B[i].f[a] = B[i].x[a]
            for b in range(3):
                B[i].D[a, b] = B[i].M[a, b] if free else 0.0
    for j in range(J.shape[0]):
        p, c = J[j].parent, J[j].child
        if B[c].of_joint != j:
            continue
        if p >= 0 and B[p].free:
            A[c, 0], A[c, 1] = A[p, 0], A[p, 1]
        else:
            A[c, 1] = 1
    for j in range(J.shape[0] - 1, -1, -1):
        p, c = J[j].parent, J[j].child
        if B[c].of_joint == j and p >= 0 and B[p].free and B[c].f[3] > 0.0:
            _merge(B, p, c)
    inertia, rest = W[0], W[1]
    for j in range(J.shape[0]):
        p, c = J[j].parent, J[j].child
        if not B[c].free:
            # a keyed child drives its parent
            if p >= 0 and B[p].free:
                J[j].feel = B[p].mass
                for a in range(3):
                    for b in range(3):
                        J[j].effective[a, b] = B[p].inertia[0] if a == b else 0.0
            continue
        ax, ay, az = anchor_place(B, c, J[j].anchor_c, NO)
        mass = B[c].f[3]
        J[j].feel = mass
        _about(B, c, ax, ay, az, inertia)
        t = A[c, 0]
        if p >= 0 and B[p].free and A[c, 1] == 0 and B[c].of_joint == j:
            whole = B[t].f[3]
            left = whole - mass
            if left > 1e-9 * whole:
                J[j].feel = mass * left / whole
                _about(B, t, ax, ay, az, rest)
                for a in range(3):
                    for b in range(3):
                        rest[a, b] -= inertia[a, b]
                    rest[a, a] += 1e-9 * whole
                _invert(inertia)
                _invert(rest)
                for a in range(3):
                    for b in range(3):
                        inertia[a, b] += rest[a, b]
                _invert(inertia)
        qx, qy, qz, qw = joint_quat(B, p, J[j].frame_p, NO)
        E = J[j].effective
        for a in range(3):
            E[0, a], E[1, a], E[2, a] = turn(-qx, -qy, -qz, qw, inertia[0, a], inertia[1, a], inertia[2, a])
        for a in range(3):
            E[a, 0], E[a, 1], E[a, 2] = turn(-qx, -qy, -qz, qw, E[a, 0], E[a, 1], E[a, 2])


@inlined
def _invert(m):
    """Invert a symmetric 3 x 3 matrix in place."""
    a, b, c, d, e, f = m[0, 0], m[0, 1], m[0, 2], m[1, 1], m[1, 2], m[2, 2]
    k0, k1, k2 = d * f - e * e, c * e - b * f, b * e - c * d
    s = 1.0 / (a * k0 + b * k1 + c * k2)
    m[0, 0], m[1, 1], m[2, 2] = s * k0, s * (a * f - c * c), s * (a * d - b * b)
    m[0, 1], m[0, 2], m[1, 2] = s * k1, s * k2, s * (b * c - a * e)
    m[1, 0], m[2, 0], m[2, 1] = m[0, 1], m[0, 2], m[1, 2]


@inlined
def _merge(B, p, c):
    """Add what hangs on body c to what hangs on body p."""
    u, v = B[p].f, B[c].f
    total = u[3] + v[3]
    k = u[3] * v[3] / total
    square = 0.0
    for a in range(3):
        square += (v[a] - u[a]) ** 2
    for a in range(3):
        for b in range(3):
            d = (v[a] - u[a]) * (v[b] - u[b])
            B[p].D[a, b] += B[c].D[a, b] + k * ((square if a == b else 0.0) - d)
    for a in range(3):
        u[a] += (v[a] - u[a]) * v[3] / total
    u[3] = total


@inlined
def _about(B, i, ax, ay, az, out):
    """Inertia of what hangs on body i about a point."""
    f = B[i].f
    d0, d1, d2 = f[0] - ax, f[1] - ay, f[2] - az
    square = d0 * d0 + d1 * d1 + d2 * d2
    for a in range(3):
        da = d0 if a == 0 else (d1 if a == 1 else d2)
        for b in range(3):
            db = d0 if b == 0 else (d1 if b == 1 else d2)
            out[a, b] = B[i].D[a, b] + f[3] * ((square if a == b else 0.0) - da * db)
