"""What the rows of joints add to the solve, and what it makes of their impulses."""

import math

from artuline.core.physics.graph import add_joined, add_point, add_turn
from artuline.core.physics.joint_frames import is_pointed, point_speed, push_pair, turn_speed, turns_now
from artuline.core.physics.joints import CLOSE, MOST_CLOSING, SLOP
from artuline.core.physics.kernels import NO, YES, compiled, cross, inlined
from artuline.core.physics.state import CONE, LOCKED, ROWS, TIE

#: Of the tightness of a joint times the square of a substep: what it is slowed by, and calmed.
SLOWED, CALMED = 1.0, 0.15
CALMED_OTHERS = 0.6  # the same of what is no line, whose parts are few


@inlined
def row_speed(B, J, j, r, trial):
    """Speed along a row."""
    if r < 3:
        x, y, z = point_speed(B, J, j, trial)
    else:
        x, y, z = turn_speed(B, J, j, trial)
    d = J[j].dir[r]
    return d[0] * x + d[1] * y + d[2] * z


@inlined
def calming(B, J, j, h):
    """kg m^2 by which what swings to and fro between taut bodies faster than the substep can follow is slowed, and calmed.

    They stand against a change of the bodies' spins against each other, so that waves longer than the bodies are feel next to nothing of it.
    """
    c, p = J[j].child, J[j].parent
    tight = J[j].tight[0] + J[j].tight[1]
    if tight == 0.0 or p < 0 or not B[c].free or not B[p].free:
        return 0.0
    k = h * h * tight
    if B[c].line and B[p].line:
        return (SLOWED + CALMED) * k
    a, b = B[c].inertia, B[p].inertia
    return max((SLOWED + CALMED_OTHERS) * k - max(a[0], a[1], a[2], b[0], b[1], b[2]), 0.0)


@compiled
def add_joints(B, E, J, W, h):
    """Add all active rows to the matrix, D of the bodies and E. W (4, 3, 3): scratch."""
    X, Y = W[0], W[1]
    for j in range(J.shape[0]):
        if not J[j].live:
            continue
        if is_pointed(J, j):
            add_joined(B, E, J[j].child, J[j].parent, J[j].k[0], J[j].rc, J[j].rp)
        else:
            K, any_row = W[2], False
            for a in range(3):
                K[a, 0], K[a, 1], K[a, 2] = 0.0, 0.0, 0.0
            spring = J[j].spring_frequency > 0.0
            for r in range(3):
                k = J[j].k[r] if J[j].state[r] != 0 else 0.0
                if spring and J[j].mode[r] != LOCKED:
                    k += J[j].spring_k[r]
                if k != 0.0:
                    any_row = True
                    _add_row(K, k, J[j].dir[r])
            if any_row:
                add_point(B, E, J[j].child, J[j].parent, K, J[j].rc, J[j].rp, X, Y)
        turns = turns_now(J, j)
        calm = calming(B, J, j, h)
        if not (turns or J[j].driven or J[j].grip > 0.0 or calm > 0.0):
            continue
        K = W[3]
        for a in range(3):
            for b in range(3):
                K[a, b] = J[j].Kd[a, b] if J[j].driven else 0.0
            K[a, a] += calm
        if J[j].grip > 0.0:
            _add_friction(B, J, j, K)
        if turns:
            for r in range(3, ROWS):
                if J[j].state[r] != 0:
                    _add_row(K, J[j].k[r], J[j].dir[r])
        add_turn(B, E, J[j].child, J[j].parent, K)


@inlined
def _add_friction(B, J, j, K):
    """Add what friction in joint j answers to a change of its relative velocity."""
    w = J[j].way
    k = J[j].hold
    if w[0] * w[0] + w[1] * w[1] + w[2] * w[2] > 0.0:
        # while it slips, only across its way
        x, y, z = turn_speed(B, J, j, YES)
        k = min(k, J[j].grip / max(math.sqrt(x * x + y * y + z * z), 1e-12))
    for a in range(3):
        for b in range(3):
            K[a, b] += k * ((1.0 if a == b else 0.0) - w[a] * w[b])


@inlined
def _friction(J, j, x, y, z):
    """Impulse of friction in joint j at a relative velocity."""
    w, g = J[j].way, J[j].grip
    if w[0] * w[0] + w[1] * w[1] + w[2] * w[2] == 0.0:
        k = J[j].hold
        return -k * x, -k * y, -k * z
    along = w[0] * x + w[1] * y + w[2] * z
    if along <= 0.0:
        return -g * w[0], -g * w[1], -g * w[2]
    k = g / math.sqrt(x * x + y * y + z * z)
    return -k * x, -k * y, -k * z


@inlined
def _add_row(K, k, d):
    """Add a stiffness k along a direction d to a block."""
    x, y, z = d[0], d[1], d[2]
    a, b, c = k * x, k * y, k * z
    K[0, 0], K[0, 1], K[0, 2] = K[0, 0] + a * x, K[0, 1] + a * y, K[0, 2] + a * z
    K[1, 0], K[1, 1], K[1, 2] = K[1, 0] + b * x, K[1, 1] + b * y, K[1, 2] + b * z
    K[2, 0], K[2, 1], K[2, 2] = K[2, 0] + c * x, K[2, 1] + c * y, K[2, 2] + c * z


@compiled
def joint_forces(B, J, h):
    """Add the impulses of all rows, at the trial velocities, to the right side."""
    for j in range(J.shape[0]):
        if not J[j].live:
            continue
        p, c = J[j].parent, J[j].child
        l0, l1, l2, a0, a1, a2 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        first, last = 0, ROWS if turns_now(J, j) else 3
        if is_pointed(J, j):
            # three hard rows along the world's axes
            m, e, k, first = J[j].lam, J[j].res, J[j].k[0], 3
            l0, l1, l2 = m[0] - k * e[0], m[1] - k * e[1], m[2] - k * e[2]
        for r in range(first, last):
            if r < 3 and J[j].spring_frequency > 0.0 and J[j].mode[r] != LOCKED:
                s = J[j].spring_aim[r] - J[j].spring_k[r] * row_speed(B, J, j, r, YES)
                d = J[j].dir[r]
                l0, l1, l2 = l0 + s * d[0], l1 + s * d[1], l2 + s * d[2]
            if J[j].state[r] == 0:
                continue
            if J[j].soft[r] != 0:
                s = -J[j].k[r] * (row_speed(B, J, j, r, YES) - J[j].wanted[r])
                J[j].lam[r] = s
            else:
                s = J[j].lam[r] - J[j].k[r] * J[j].res[r]
            d = J[j].dir[r]
            if r < 3:
                l0, l1, l2 = l0 + s * d[0], l1 + s * d[1], l2 + s * d[2]
            else:
                a0, a1, a2 = a0 + s * d[0], a1 + s * d[1], a2 + s * d[2]
        if J[j].driven:
            x, y, z = turn_speed(B, J, j, YES)
            m, K = J[j].aim, J[j].Kd
            a0 += m[0] - K[0, 0] * x - K[0, 1] * y - K[0, 2] * z
            a1 += m[1] - K[1, 0] * x - K[1, 1] * y - K[1, 2] * z
            a2 += m[2] - K[2, 0] * x - K[2, 1] * y - K[2, 2] * z
        calm = calming(B, J, j, h)
        if calm > 0.0:
            x, y, z = turn_speed(B, J, j, YES)
            u, w = B[c].w, B[p].w
            s = SLOWED / (SLOWED + (CALMED if B[c].line and B[p].line else CALMED_OTHERS))
            x, y, z = x - s * (u[0] - w[0]), y - s * (u[1] - w[1]), z - s * (u[2] - w[2])
            a0, a1, a2 = a0 - calm * x, a1 - calm * y, a2 - calm * z
        if J[j].grip > 0.0:
            x, y, z = turn_speed(B, J, j, YES)
            x, y, z = _friction(J, j, x, y, z)
            a0, a1, a2 = a0 + x, a1 + y, a2 + z
        push_pair(B, c, p, l0, l1, l2, a0, a1, a2, J[j].rc, J[j].rp)


@compiled
def joint_impulses(B, J):
    """After a solve: what the hard rows' impulses have become."""
    for j in range(J.shape[0]):
        if not J[j].live:
            continue
        x, y, z = point_speed(B, J, j, NO)
        if is_pointed(J, j):
            if J[j].yields[0] == 0:
                m, e, k = J[j].lam, J[j].res, J[j].k[0]
                m[0], m[1], m[2] = m[0] - k * (e[0] + x), m[1] - k * (e[1] + y), m[2] - k * (e[2] + z)
        else:
            for r in range(3):
                if J[j].state[r] != 0 and J[j].soft[r] == 0 and J[j].yields[r] == 0:
                    d = J[j].dir[r]
                    J[j].lam[r] -= J[j].k[r] * (J[j].res[r] + d[0] * x + d[1] * y + d[2] * z)
        if turns_now(J, j):
            x, y, z = turn_speed(B, J, j, NO)
            for r in range(3, ROWS):
                if J[j].state[r] != 0 and J[j].soft[r] == 0 and J[j].yields[r] == 0:
                    d = J[j].dir[r]
                    J[j].lam[r] -= J[j].k[r] * (J[j].res[r] + d[0] * x + d[1] * y + d[2] * z)


@compiled
def joint_work(B, J):
    """Work of the hard rows' impulses in the substep, on the mean of the free and the trial velocities; J. Without what closes gaps, whose speed the
    rows take again as they close.
    """
    work = 0.0
    for j in range(J.shape[0]):
        if not J[j].live:
            continue
        p, c, rc, rp = J[j].parent, J[j].child, J[j].rc, J[j].rp
        l0, l1, l2, a0, a1, a2 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for r in range(ROWS):
            if J[j].state[r] == 0 or J[j].soft[r] != 0:
                continue
            s = J[j].lam[r]
            if J[j].keep[r] != 0.0 and r < CONE and J[j].mode[r] == LOCKED:
                # a wide gap, which closes for several substeps
                work -= 0.5 * s * _closing(B, J, j, r)
            if r < 3 and is_pointed(J, j):
                l0, l1, l2 = l0 + (s if r == 0 else 0.0), l1 + (s if r == 1 else 0.0), l2 + (s if r == 2 else 0.0)
            elif r < 3:
                d = J[j].dir[r]
                l0, l1, l2 = l0 + s * d[0], l1 + s * d[1], l2 + s * d[2]
            else:
                d = J[j].dir[r]
                a0, a1, a2 = a0 + s * d[0], a1 + s * d[1], a2 + s * d[2]
        work += _work(B, c, l0, l1, l2, a0, a1, a2, rc)
        if p >= 0:
            work -= _work(B, p, l0, l1, l2, a0, a1, a2, rp)
    return work


@inlined
def _closing(B, J, j, r):
    """The trial speed along a locked row."""
    if r < 3 and is_pointed(J, j):
        x, y, z = point_speed(B, J, j, YES)
        return x if r == 0 else (y if r == 1 else z)
    return row_speed(B, J, j, r, YES)


@inlined
def _work(B, i, l0, l1, l2, a0, a1, a2, r):
    """Work of an impulse at an arm, and of a turn, on body i."""
    t, u = B[i].tv, B[i].tw
    v, w = (B[i].fv, B[i].fw) if B[i].free else (t, u)
    m0, m1, m2 = 0.5 * (v[0] + t[0]), 0.5 * (v[1] + t[1]), 0.5 * (v[2] + t[2])
    w0, w1, w2 = 0.5 * (w[0] + u[0]), 0.5 * (w[1] + u[1]), 0.5 * (w[2] + u[2])
    x, y, z = cross(w0, w1, w2, r[0], r[1], r[2])
    return l0 * (m0 + x) + l1 * (m1 + y) + l2 * (m2 + z) + a0 * w0 + a1 * w1 + a2 * w2


@compiled
def set_back_joints(B, J, h):
    """Add to the right side what sets joints that are beyond a hard limit back; True if any is."""
    found = False
    for j in range(J.shape[0]):
        if not J[j].live:
            continue
        p, c = J[j].parent, J[j].child
        for r in range(ROWS):
            if J[j].state[r] == 0 or J[j].soft[r] != 0 or (r < CONE and J[j].mode[r] == LOCKED):
                continue
            e = J[j].res[r] * h + J[j].keep[r]
            if e * J[j].state[r] < SLOP:
                continue
            found = True
            s = -J[j].k[r] * min(CLOSE * abs(e) / h, MOST_CLOSING) * J[j].state[r]
            d, rc, rp = J[j].dir[r], J[j].rc, J[j].rp
            if r < 3:
                push_pair(B, c, p, s * d[0], s * d[1], s * d[2], 0.0, 0.0, 0.0, rc, rp)
            else:
                push_pair(B, c, p, 0.0, 0.0, 0.0, s * d[0], s * d[1], s * d[2], rc, rp)
    return found


@inlined
def straight_share(B, J, h):
    """Share of a set-back, of which the bodies' ``f`` are the velocities, that closes what is beyond the length of a tie most.

    A tie is straight to first order only: what moves across it by p lengthens it by p^2 / 2 L, so that two that contradict each other along a line
    would be closed by a leap out of it. Of a share s the length changes by s u + s^2 p^2 / 2 L, which is least at -u L / p^2.
    """
    share = 1.0
    for j in range(J.shape[0]):
        if not J[j].live or J[j].kind != TIE or J[j].state[0] <= 0 or J[j].soft[0] != 0:
            continue
        x, y, z = point_speed(B, J, j, NO)
        d = J[j].dir[0]
        along = d[0] * x + d[1] * y + d[2] * z
        if along >= 0:
            continue  # what others lengthen is not closed by less of them
        length = J[j].high[0] + J[j].keep[0]
        across = (x * x + y * y + z * z - along * along) * h
        if across * share > -along * length:
            share = -along * length / across
    return share
