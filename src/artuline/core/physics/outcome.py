"""What becomes of a substep that has been solved: whether it gains energy, what is set back, calmed or stopped, and what is kept."""

import math

from artuline.core.physics.breaking import note_strain
from artuline.core.physics.contacts import contact_work, remember, set_back_contacts
from artuline.core.physics.graph import solve
from artuline.core.physics.joint_frames import is_pointed
from artuline.core.physics.joint_solve import joint_work, set_back_joints, straight_share
from artuline.core.physics.joints import limit_excess, near_limit
from artuline.core.physics.kernels import exp_quat, inlined, quat_mul
from artuline.core.physics.state import CONTACTS, ROWS, SOLVED

MOST_SET_BACK = 0.008  # radians a body may be turned to set back what is too deep
MOST_TURN = 0.35  # radians a free body may turn in a substep
# share by which the kinetic energy may grow in a substep with contacts, and with joints alone
GAIN, GAIN_JOINTS = 0.1, 0.003
UNSEEN = 0.02  # m/s by which gaps of rings may close
YIELDED = 0.15  # m/s of what gives way, which loses half of it at once
FASTEST = 1e7  # m/s and rad/s, of all bodies together: more is no solution
YIELDING = 0.5  # share of their speed that is left to bodies whose joints give way
SLOWER = 0.1  # share of its speed that is left to what does not close as deep as halving goes


@inlined
def set_back(B, E, J, C, K, cells, listed, order, h):
    """Move what is too deep or beyond a limit back a little, by the factors at hand, without giving it speed."""
    for n in range(order.shape[0]):
        for k in range(6):
            B[order[n]].f[k] = 0.0
    found = set_back_contacts(B, C, K, h)
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        found = set_back_joints(B, J[c[2] : c[3]], h) or found
    if not found:
        return
    solve(B, E, order)
    K[SOLVED] += 1
    # joints hold to first order only: a light body may not be turned far
    most = 0.0
    for n in range(order.shape[0]):
        i = order[n]
        if B[i].free:
            most = max(most, B[i].f[3] ** 2 + B[i].f[4] ** 2 + B[i].f[5] ** 2)
    h *= min(1.0, MOST_SET_BACK / max(h * math.sqrt(most), 1e-12))
    share = 1.0
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        share = min(share, straight_share(B, J[c[2] : c[3]], h))
    h *= share
    for n in range(order.shape[0]):
        i = order[n]
        if B[i].free:
            f, q = B[i].f, B[i].q1
            ex, ey, ez, ew = exp_quat(h * f[3], h * f[4], h * f[5])
            q[0], q[1], q[2], q[3] = quat_mul(ex, ey, ez, ew, q[0], q[1], q[2], q[3])
            for k in range(3):
                B[i].x1[k] += h * f[k]


@inlined
def turns_too_far(B, mine, h, end, most):
    """Whether a free body of ``mine`` turns by more than ``most`` radians in h, as it does at the substep's start or at its end."""
    for n in range(mine.shape[0]):
        i = mine[n]
        if B[i].free:
            w = B[i].w1 if end else B[i].w
            if not (w[0] ** 2 + w[1] ** 2 + w[2] ** 2) * h * h < most * most:
                return True
    return False


@inlined
def bounded(B, mine):
    """Whether the trial velocities are numbers that a motion can have."""
    most = 0.0
    for n in range(mine.shape[0]):
        i = mine[n]
        if B[i].free:
            for k in range(3):
                most += abs(B[i].tv[k]) + abs(B[i].tw[k])
    return most < FASTEST  # false for numbers that are none


@inlined
def calm(B, mine):
    """Take at least half of the speed of everything, where contacts do not agree, and all of the energy that was gained."""
    before, after = 1e-12, 1e-12
    for n in range(mine.shape[0]):
        i = mine[n]
        if B[i].free:
            before += _kinetic(B, i, B[i].fv, B[i].fw)
            after += _kinetic(B, i, B[i].tv, B[i].tw)
    k = 0.5 * min(1.0, math.sqrt(before / after))
    for n in range(mine.shape[0]):
        i = mine[n]
        if B[i].free:
            for a in range(3):
                B[i].tv[a], B[i].w1[a] = k * B[i].tv[a], k * B[i].w1[a]


@inlined
def freeze(B, mine):
    """The last resort: stand still for this part of the substep, and go on with a little less speed, rather than lose the numbers."""
    for n in range(mine.shape[0]):
        i = mine[n]
        if B[i].free:
            for a in range(3):
                B[i].v[a], B[i].w[a] = SLOWER * B[i].v[a], SLOWER * B[i].w[a]


@inlined
def _accept_body(B, i, h, last):
    """Make the predicted pose of body i the pose."""
    s = B[i].w1[0] ** 2 + B[i].w1[1] ** 2 + B[i].w1[2] ** 2
    k = 1.0
    if last and B[i].free and s * h * h > MOST_TURN * MOST_TURN:
        # as deep as halving goes: lose energy rather than gain it
        k = MOST_TURN / (h * math.sqrt(s))
    for a in range(3):
        B[i].pull[a] = (B[i].tv[a] - B[i].fv[a]) / h
        B[i].pull[3 + a] = (B[i].tw[a] - B[i].fw[a]) / h
        B[i].was[a], B[i].was[3 + a] = B[i].v[a], B[i].w[a]
        B[i].x[a] = B[i].x1[a]
        B[i].v[a] = B[i].tv[a]
        B[i].w[a] = B[i].w1[a] * k
    for a in range(4):
        B[i].q[a] = B[i].q1[a]
    B[i].last = h if B[i].free else 0.0


@inlined
def _accept_joint(B, J, j, h):
    """Note the worst values of joint j."""
    s = 0.0
    J[j].pulled[0], J[j].pulled[1], J[j].pulled[2] = 0.0, 0.0, 0.0
    pointed, yields = is_pointed(J, j), False
    for k in range(ROWS):
        yields = yields or J[j].yields[k] != 0
    if yields:
        # between what contradicts itself nothing is to gather speed
        for e in range(2):
            i = J[j].child if e == 0 else J[j].parent
            if i >= 0 and B[i].free:
                for a in range(3):
                    B[i].v[a], B[i].w[a] = YIELDING * B[i].v[a], YIELDING * B[i].w[a]
    for k in range(3):
        if J[j].yields[0 if pointed else k] != 0:
            J[j].lam[k] = -J[j].k[0 if pointed else k] * J[j].res[k]
        if J[j].state[k] != 0 and J[j].soft[k] == 0 and J[j].mode[k] == 1:
            s += (J[j].res[k] * h + J[j].keep[k]) ** 2
        for a in range(3):
            J[j].load[a] += J[j].lam[k] * J[j].dir[k, a]
            J[j].pulled[a] += J[j].lam[k] * J[j].dir[k, a] / h
    note_strain(J, j, h)
    J[j].separation = max(J[j].separation, math.sqrt(s))
    if near_limit(J, j):
        J[j].excess = max(J[j].excess, limit_excess(B, J, j))


@inlined
def accept(B, J, P, C, O, K, cells, listed, order, near, base, h, last):
    """Make the predicted pose the pose, and note the worst values."""
    for n in range(order.shape[0]):
        _accept_body(B, order[n], h, last)
    c = cells[cells.shape[0] - 1]
    for i in range(c[0], c[1]):
        _accept_body(B, i, h, last)
    for n in range(near.shape[0]):
        p = P[near[n]]
        p.incoming[0] = p.incoming[1]
        p.incoming[1] = 0.0
        p.olds = 0
    remember(P, C, O, K, base, h)
    for c in range(K[CONTACTS]):
        a, b = C[c].a, C[c].b
        if -C[c].gap > B[a].penetration:
            B[a].penetration = -C[c].gap
            B[a].into = B[b].id if b >= 0 else -1
        if C[c].push > 0.0:
            _note(B, a, C, c)
            if b >= 0:
                _note(B, b, C, c)
    for l in range(listed.shape[0]):
        for j in range(cells[listed[l], 2], cells[listed[l], 3]):
            if J[j].live:
                _accept_joint(B, J, j, h)


@inlined
def _note(B, i, C, c):
    """Add a contact to what its body i has felt since the last reset."""
    push = C[c].push
    B[i].contact += push
    if push > B[i].strongest:
        B[i].strongest = push
        for k in range(3):
            B[i].touch[k] = C[c].point[k]


@inlined
def gains(B, J, C, K, cells, listed, order, restless, rings):
    """Whether contacts and joints give the bodies energy, by more than what rounding and the closing of gaps explain.

    The work of an impulse is that on the mean of the relative velocities before and after it, which holds for keyed bodies too.
    ``restless``: contacts had not settled, so that what they gave is not what they would give now; ``rings``: more is held than can move, so that
    what closes one gap opens another, by speeds that nobody sees.
    """
    before, after = 0.0, 0.0
    for n in range(order.shape[0]):
        i = order[n]
        if B[i].free:
            before += _kinetic(B, i, B[i].fv, B[i].fw)
            after += _kinetic(B, i, B[i].tv, B[i].tw)
    share = GAIN if K[CONTACTS] > 0 else GAIN_JOINTS
    spare = 1e-9
    if rings:
        speed = UNSEEN
        for l in range(listed.shape[0]):
            for j in range(cells[listed[l], 2], cells[listed[l], 3]):
                for r in range(ROWS):
                    if J[j].live and J[j].yields[r] != 0:
                        speed = YIELDED
        for n in range(order.shape[0]):
            spare += 0.5 * B[order[n]].mass * speed * speed
    if after < (1.0 + share) * before + spare:
        return False
    if restless:
        return True
    work = contact_work(B, C, K)
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        work += joint_work(B, J[c[2] : c[3]])
    return work > 0.5 * share * after


@inlined
def _kinetic(B, i, v, w):
    M = B[i].M
    turning = 0.0
    for k in range(3):
        turning += w[k] * (M[k, 0] * w[0] + M[k, 1] * w[1] + M[k, 2] * w[2])
    return 0.5 * (B[i].mass * (v[0] * v[0] + v[1] * v[1] + v[2] * v[2]) + turning)
