"""Drives, damping and friction in joints, world drives and tugs: soft rows with the poles of the oscillator.

A drive is set by a frequency and a damping ratio and scaled by the inertia that it moves, so that one value means
the same for a finger and a torso (Catto 2011, Soft Constraints); its discrete poles are the exact ones.
"""

import math

from artuline.core.physics.graph import add_own
from artuline.core.physics.joint_frames import anchor_place, joint_quat, last_step, relative, turn_speed
from artuline.core.physics.kernels import (
    NO,
    YES,
    bend_strengths,
    compiled,
    cross,
    damper,
    inlined,
    log_quat,
    poles,
    quat_mul,
    turn,
)
from artuline.core.physics.motion import burdened
from artuline.core.physics.state import TIE

STUCK = 1e4  # viscosity of a joint held by friction, against its scale
MOST_TURNS = 4  # times its friction may change in a substep


@inlined
def row_strengths(frequency, ratio, damping, h, last):
    """s, p and e (see ``poles``) of a spring with a damping of its own in 1/s, or of that alone."""
    if frequency > 0.0:
        return poles(frequency, ratio + damping / (4.0 * math.pi * frequency), h, last)
    s, e = damper(damping, 0.5 * (h + last))
    return s, 0.0, e


@compiled
def prepare_drives(B, J, h, ahead):
    """Stiffness and aim of the drives of all joints, and their friction. ``ahead``: seconds until their targets are due."""
    for j in range(J.shape[0]):
        f, damping, friction, ratio = J[j].frequency, J[j].damping, J[j].friction, J[j].ratio
        bends = f == 0.0 and J[j].bend_frequency > 0.0
        if bends:
            f, ratio = J[j].bend_frequency, J[j].bend_ratio
        J[j].driven = J[j].live and (f > 0.0 or damping > 0.0)
        J[j].grip = 0.0
        if not J[j].live:
            continue
        p, c = J[j].parent, J[j].child
        if friction > 0.0:
            J[j].grip = 0.5 * (h + last_step(B, J, j)) * friction
            J[j].hold = STUCK * J[j].scale[1]
            J[j].turns = 0
            x, y, z = turn_speed(B, J, j, YES)
            _choose_way(J, j, x, y, z)
        if not J[j].driven:
            continue
        if bends:
            stiff, push, e = bend_strengths(f, ratio, h, last_step(B, J, j))
        else:
            stiff, push, e = row_strengths(f, ratio, damping, h, last_step(B, J, j))
        qx, qy, qz, qw = joint_quat(B, p, J[j].frame_p, NO)
        K, I = J[j].Kd, J[j].effective
        # R I R^T, column by column
        for a in range(3):
            if bends:
                x, y, z = (
                    J[j].feels[1] if a == 0 else 0.0,
                    J[j].feels[2] if a == 1 else 0.0,
                    J[j].feels[3] if a == 2 else 0.0,
                )
            else:
                x, y, z = I[0, a], I[1, a], I[2, a]
            K[0, a], K[1, a], K[2, a] = turn(qx, qy, qz, qw, x, y, z)
        for a in range(3):
            K[a, 0], K[a, 1], K[a, 2] = turn(qx, qy, qz, qw, K[a, 0], K[a, 1], K[a, 2])
        g0, g1, g2 = 0.0, 0.0, 0.0
        if f > 0.0:
            rx, ry, rz, rw = relative(B, J, j, NO)
            a0, a1 = J[j].target0, J[j].target1
            u0, u1, u2 = 0.0, 0.0, 0.0
            if not bends:
                rx, ry, rz, rw = quat_mul(rx, ry, rz, rw, -a0[0], -a0[1], -a0[2], a0[3])
                ux, uy, uz, uw = quat_mul(a1[0], a1[1], a1[2], a1[3], -a0[0], -a0[1], -a0[2], a0[3])
                u0, u1, u2 = log_quat(ux, uy, uz, uw)
            e0, e1, e2 = log_quat(rx, ry, rz, rw)
            k = (stiff + e) / ahead
            g0, g1, g2 = turn(qx, qy, qz, qw, k * u0 - push * e0, k * u1 - push * e1, k * u2 - push * e2)
        w0, w1, w2 = B[c].w[0], B[c].w[1], B[c].w[2]
        if p >= 0:
            w0, w1, w2 = w0 - B[p].w[0], w1 - B[p].w[1], w2 - B[p].w[2]
        g0, g1, g2 = g0 - e * w0, g1 - e * w1, g2 - e * w2
        m = J[j].aim
        for a in range(3):
            m[a] = K[a, 0] * g0 + K[a, 1] * g1 + K[a, 2] * g2
            K[a, 0], K[a, 1], K[a, 2] = stiff * K[a, 0], stiff * K[a, 1], stiff * K[a, 2]


@inlined
def _choose_way(J, j, x, y, z):
    """Whether friction holds at this relative velocity, or against which way it rubs. Returns whether that is new."""
    w = J[j].way
    slipped = w[0] * w[0] + w[1] * w[1] + w[2] * w[2] > 0.0
    speed = math.sqrt(x * x + y * y + z * z)
    if J[j].hold * speed <= J[j].grip:
        w[0], w[1], w[2] = 0.0, 0.0, 0.0
        return slipped
    same = slipped and w[0] * x + w[1] * y + w[2] * z > 0.5 * speed
    w[0], w[1], w[2] = x / speed, y / speed, z / speed
    return not same


@compiled
def update_friction(B, J):
    """After a solve: joints that slip where their friction held, or hold where they slipped; whether the matrix changed."""
    changed = False
    for j in range(J.shape[0]):
        if J[j].grip == 0.0 or J[j].turns >= MOST_TURNS:
            continue
        w = J[j].way
        x, y, z = turn_speed(B, J, j, YES)
        if w[0] * w[0] + w[1] * w[1] + w[2] * w[2] > 0.0 and w[0] * x + w[1] * y + w[2] * z <= 0.0:
            # the way turned round: it may come to hold
            x, y, z = 0.0, 0.0, 0.0
        if _choose_way(J, j, x, y, z):
            J[j].turns += 1
            changed = True
    return changed


@inlined
def taut_inertia(B, i, h):
    """What is added to the inertia of body i across its pull, kg m^2; of what is no line, only what its own leaves to be wished."""
    if B[i].taut == 0.0:
        return 0.0
    t = 0.25 * h * h * B[i].taut
    return t if B[i].line else t - max(B[i].inertia[0], B[i].inertia[1], B[i].inertia[2])


@compiled
def add_bodies(B, E, h):
    """Start the matrix: masses and world drives."""
    for i in range(B.shape[0]):
        if not B[i].free:
            continue
        D = B[i].D
        stiff, _, _ = _goal_strengths(B, i, h)
        kick = 0.5 * (h + B[i].last)
        k = burdened(B[i].drag[0] * kick) + stiff
        for a in range(6):
            for b in range(6):
                D[a, b] = 0.0
        M = B[i].M
        D[0, 0] = D[1, 1] = D[2, 2] = B[i].mass * k
        k = burdened(B[i].drag[1] * kick) + stiff
        # only the lower triangle is used
        D[3, 3], D[4, 3], D[4, 4] = M[0, 0] * k, M[1, 0] * k, M[1, 1] * k
        D[5, 3], D[5, 4], D[5, 5] = M[2, 0] * k, M[2, 1] * k, M[2, 2] * k
        t = taut_inertia(B, i, h)
        if t > 0.0:
            # as the trapezoidal rule has it, waves along what is taut are no faster than the substep can follow
            n = B[i].axis
            D[3, 3], D[4, 3], D[4, 4] = (
                D[3, 3] + t * (1.0 - n[0] * n[0]),
                D[4, 3] - t * n[1] * n[0],
                D[4, 4] + t * (1.0 - n[1] * n[1]),
            )
            D[5, 3], D[5, 4], D[5, 5] = (
                D[5, 3] - t * n[2] * n[0],
                D[5, 4] - t * n[2] * n[1],
                D[5, 5] + t * (1.0 - n[2] * n[2]),
            )
        for s in range(B[i].neighbours):
            F = E[B[i].first + s].m
            for a in range(6):
                for b in range(6):
                    F[a, b] = 0.0


@inlined
def _goal_strengths(B, i, h):
    """s, p and e of the world drive of body i."""
    if B[i].goal_frequency > 0.0 or B[i].goal_damping > 0.0:
        return row_strengths(B[i].goal_frequency, B[i].goal_ratio, B[i].goal_damping, h, B[i].last)
    return 0.0, 0.0, 0.0


@compiled
def body_forces(B, h, ahead):
    """Start the right side: inertia against the free velocities, and world drives."""
    for i in range(B.shape[0]):
        if not B[i].free:
            continue
        f, M, kick = B[i].f, B[i].M, 0.5 * (h + B[i].last)
        slow, calm = burdened(B[i].drag[0] * kick), burdened(B[i].drag[1] * kick)
        a0, a1, a2 = B[i].fw[0] - B[i].tw[0], B[i].fw[1] - B[i].tw[1], B[i].fw[2] - B[i].tw[2]
        for k in range(3):
            f[k] = slow * B[i].mass * (B[i].fv[k] - B[i].tv[k])
            f[3 + k] = calm * (M[k, 0] * a0 + M[k, 1] * a1 + M[k, 2] * a2)
        t = taut_inertia(B, i, h)
        if t > 0.0:
            n = B[i].axis
            along = n[0] * a0 + n[1] * a1 + n[2] * a2
            f[3], f[4], f[5] = (
                f[3] + t * (a0 - along * n[0]),
                f[4] + t * (a1 - along * n[1]),
                f[5] + t * (a2 - along * n[2]),
            )
        if B[i].goal_frequency > 0.0 or B[i].goal_damping > 0.0:
            _goal(B, h, ahead, i)


@inlined
def _goal(B, h, ahead, i):
    """World drive of body i at its trial velocity."""
    stiff, push, e = _goal_strengths(B, i, h)
    g, n, M = B[i].goal_q0, B[i].goal_q1, B[i].M
    ex, ey, ez, ew = quat_mul(B[i].q[0], B[i].q[1], B[i].q[2], B[i].q[3], -g[0], -g[1], -g[2], g[3])
    e0, e1, e2 = log_quat(ex, ey, ez, ew)
    ux, uy, uz, uw = quat_mul(n[0], n[1], n[2], n[3], -g[0], -g[1], -g[2], g[3])
    u0, u1, u2 = log_quat(ux, uy, uz, uw)
    u0, u1, u2 = u0 / ahead, u1 / ahead, u2 / ahead
    w, o = B[i].tw, B[i].w
    a0 = stiff * (w[0] - u0) + push * e0 + e * (o[0] - u0)
    a1 = stiff * (w[1] - u1) + push * e1 + e * (o[1] - u1)
    a2 = stiff * (w[2] - u2) + push * e2 + e * (o[2] - u2)
    for k in range(3):
        u = (B[i].goal_x1[k] - B[i].goal_x0[k]) / ahead
        along = stiff * (B[i].tv[k] - u) + push * (B[i].x[k] - B[i].goal_x0[k]) + e * (B[i].v[k] - u)
        B[i].f[k] -= B[i].mass * along
        B[i].f[3 + k] -= M[k, 0] * a0 + M[k, 1] * a1 + M[k, 2] * a2


@compiled
def add_tugs(B, T, W, h):
    """Add the tugs' stiffness to the matrix, and set their arms. W: scratch."""
    for t in range(T.shape[0]):
        i = T[t].body
        if i < 0 or not B[i].free:
            continue
        stiff, _, _ = poles(T[t].frequency, 1.0, h, B[i].last)
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
        stiff, push, e = poles(T[t].frequency, 1.0, h, B[i].last)
        k, r = T[t].mass, T[t].arm
        w, o = B[i].tw, B[i].w
        cx, cy, cz = cross(w[0], w[1], w[2], r[0], r[1], r[2])
        ox, oy, oz = cross(o[0], o[1], o[2], r[0], r[1], r[2])
        x, v, g = B[i].x, B[i].v, T[t].goal
        k0 = -k * (stiff * (B[i].tv[0] + cx) + push * (x[0] + r[0] - g[0]) + e * (v[0] + ox))
        k1 = -k * (stiff * (B[i].tv[1] + cy) + push * (x[1] + r[1] - g[1]) + e * (v[1] + oy))
        k2 = -k * (stiff * (B[i].tv[2] + cz) + push * (x[2] + r[2] - g[2]) + e * (v[2] + oz))
        tx, ty, tz = cross(r[0], r[1], r[2], k0, k1, k2)
        f = B[i].f
        f[0], f[1], f[2] = f[0] + k0, f[1] + k1, f[2] + k2
        f[3], f[4], f[5] = f[3] + tx, f[4] + ty, f[5] + tz


# columns of the scratch of ``effective_inertia``
UP, BY, LOOP, COUNT, QUEUE, TOP, HELD = range(7)
GROUND, NONE = -1, -2


@inlined
def _root(A, i):
    """The topmost body over i, or i."""
    while A[i, UP] >= 0:
        i = A[i, UP]
    return i


@inlined
def _turn_round(A, i):
    """Make body i, in a tree that nothing holds, its root."""
    up, by, child = A[i, UP], A[i, BY], i
    A[i, UP], A[i, BY] = NONE, -1
    while up >= 0:
        next_up, next_by = A[up, UP], A[up, BY]
        A[up, UP], A[up, BY] = child, by
        child, up, by = up, next_up, next_by


@inlined
def _mark_loop(A, a, b):
    """Mark the way from body a to body b (-1: what holds it) through their tree, or trees that are both held."""
    i = a
    while i >= 0:
        A[i, COUNT] = -1
        i = A[i, UP]
    while b >= 0 and A[b, COUNT] != -1:
        A[b, LOOP] = 1
        b = A[b, UP]
    i = a
    while i >= 0:
        A[i, COUNT] = 0
        if i == b:
            # here the two ways meet
            a = -1
        if a >= 0:
            A[i, LOOP] = 1
        i = A[i, UP]


@inlined
def _hang(B, J, A, j):
    """Add joint j to the trees in A; False where it closes a loop."""
    c, p = J[j].child, J[j].parent
    if not B[c].free:
        c, p = p, c
    ground = p < 0 or not B[p].free
    if A[c, UP] == NONE and A[c, COUNT] == 0:
        # a body that nothing else hangs on or holds yet
        A[c, UP], A[c, BY] = GROUND if ground else p, j
        if not ground:
            A[p, COUNT] += 1
        return True
    rc = _root(A, c)
    held = A[rc, UP] == GROUND
    if ground:
        if held:
            return False
        _turn_round(A, c)
        A[c, UP], A[c, BY] = GROUND, j
        return True
    rp = _root(A, p)
    if rc == rp or (held and A[rp, UP] == GROUND):
        return False
    if held:
        c, p = p, c
    _turn_round(A, c)
    A[c, UP], A[c, BY] = p, j
    A[p, COUNT] += 1
    return True


@compiled
def effective_inertia(B, J, A, W):
    """Fill ``J.effective``: the inertia that a drive feels with all that hangs on either side rigid.

    What lies on one side of the joint, about its anchor, in series with what lies on the other, which counts as infinite where
    something holds it. Where both sides are held, or hang together, the joint cannot turn by itself, and feels the two bodies
    that it joins, with what hangs on them alone. ``J.feel``: the same for the mass. A (n, 7 at least), W, and D and f
    of the bodies are scratch: what hangs on a body has the mass f[3], its centre at f[:3], and the inertia D[:3, :3].
    The bodies' world inertia must be set.
    """
    n = B.shape[0]
    for i in range(n):
        free = B[i].free
        B[i].f[3] = B[i].mass if free else 0.0
        A[i, UP], A[i, BY], A[i, LOOP], A[i, COUNT] = NONE, -1, 0, 0
        for a in range(3):
            B[i].f[a] = B[i].x[a]
            for b in range(3):
                B[i].D[a, b] = B[i].M[a, b] if free else 0.0
    for j in range(J.shape[0]):
        p, c = J[j].parent, J[j].child
        J[j].live = J[j].on and J[j].broken < 0 and (B[c].free or (p >= 0 and B[p].free))
        # a tie holds nothing until it is taut
        J[j].looped = J[j].live and J[j].kind != TIE and not _hang(B, J, A, j)
    for j in range(J.shape[0]):
        if J[j].looped:
            p, c = J[j].parent, J[j].child
            _mark_loop(A, c if B[c].free else -1, p if p >= 0 and B[p].free else -1)
    last = _leaves_first(B, A)
    for k in range(last):
        i = A[k, QUEUE]
        if A[i, UP] >= 0 and A[i, LOOP] == 0:
            _merge(B, A[i, UP], i)
    for k in range(last - 1, -1, -1):
        i = A[k, QUEUE]
        up = A[i, UP]
        A[i, HELD] = A[up, HELD] if up >= 0 else (1 if up == GROUND else 0)
        A[i, TOP] = i if up < 0 or A[i, LOOP] == 1 else A[up, TOP]
    for j in range(J.shape[0]):
        if J[j].live:
            _feel(B, J, A, W, j)


@inlined
def _leaves_first(B, A):
    """Fill the column QUEUE with the free bodies, each before what it hangs on; how many they are."""
    n, last = B.shape[0], 0
    for i in range(n):
        A[i, COUNT] = 0
    for i in range(n):
        if B[i].free and A[i, UP] >= 0:
            A[A[i, UP], COUNT] += 1
    for i in range(n):
        if B[i].free and A[i, COUNT] == 0:
            A[last, QUEUE] = i
            last += 1
    k = 0
    while k < last:
        up = A[A[k, QUEUE], UP]
        k += 1
        if up >= 0:
            A[up, COUNT] -= 1
            if A[up, COUNT] == 0:
                A[last, QUEUE] = up
                last += 1
    return last


@inlined
def _feel(B, J, A, W, j):
    """Set what joint j feels, from what hangs on every body."""
    p, c = J[j].parent, J[j].child
    inertia, rest = W[0], W[1]
    ax, ay, az = anchor_place(B, c, J[j].anchor_c, NO)
    x = c if B[c].free else p  # the lower of the two, then the other
    y = p if B[c].free else c
    if y >= 0 and A[y, BY] == j:
        x, y = y, x
    mass = B[x].f[3]
    _about(B, x, ax, ay, az, inertia)
    J[j].feel = mass
    other = -1
    if A[x, BY] == j and A[x, LOOP] == 0:
        # it turns by itself
        r = A[x, TOP]
        whole = B[r].f[3]
        left = whole - mass
        if A[r, HELD] == 0 and left > 1e-9 * whole:
            other = r
            _about(B, r, ax, ay, az, rest)
            for a in range(3):
                for b in range(3):
                    rest[a, b] -= inertia[a, b]
                rest[a, a] += 1e-9 * whole
            J[j].feel = mass * left / whole
    elif y >= 0 and B[y].free:
        other = y
        left = B[y].f[3]
        _about(B, y, ax, ay, az, rest)
        J[j].feel = mass * left / (mass + left)
    if J[j].feels[0] > 0.0:
        J[j].feel = J[j].feels[0]
    if other >= 0:
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
