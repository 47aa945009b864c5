"""One substep: kick, solve for the impulses along directions at its start, drift (SHAKE with a direct solve).

Constraint impulses act along the directions at the pose where the substep begins, and are iterated until
the joints are closed at the pose where it ends (Ryckaert et al. 1977; Andersen 1983): symplectic, so that
swings keep their height. A substep that turns a body too far, or does not close, is halved.
"""

import math

from artuline.core.physics.collide import find_contacts
from artuline.core.physics.contacts import (
    add_contacts,
    contact_forces,
    contact_work,
    damped_step,
    prepare_contacts,
    remember,
    set_back_contacts,
    update_contacts,
)
from artuline.core.physics.crowds import choose_swept, sweep
from artuline.core.physics.curves import bend_contacts
from artuline.core.physics.drives import (
    add_bodies,
    add_tugs,
    body_forces,
    prepare_drives,
    tug_forces,
    update_friction,
)
from artuline.core.physics.graph import arrange, factor, solve
from artuline.core.physics.joint_solve import add_joints, joint_forces, joint_impulses, joint_work, set_back_joints
from artuline.core.physics.joints import limit_excess, near_limit, prepare_joints, residuals
from artuline.core.physics.kernels import NO, YES, exp_quat, folded, inlined, quat_mul
from artuline.core.physics.motion import drift, fill_lanes, free_velocities, world_inertia
from artuline.core.physics.state import ASKED, CONTACTS, DONE, FACTORED, HALTED, NEAR, PATTERN, SMOOTH, SOLVED, SWEPT

MOST_SET_BACK = 0.008  # radians a body may be turned to set back what is too deep
MOST_TURN = 0.35  # radians a free body may turn in a substep
MOST_TURN_CROWD = 0.9  # in a crowd
CROWD_SETTLED = 1e-2  # m/s: largest correction of a swept contact that counts as none
BENT_AT_MOST = 0.02  # m/s: the same as a substep ends
BENT = 1e-5  # m/s: change of what curves add to the speed of contacts that counts as none
CLOSED = 2e-6  # metres: joints count as closed
CLOSED_ANGLE = 2e-5  # radians
OPEN = 2e-5  # metres: joints count as failed
OPEN_ANGLE = 0.01
WORST_OPEN = 2e-3  # metres: as deep as halving goes, what is still accepted
# relative change of friction forces that counts as none; and after how many passes three times of it does
SETTLED, PATIENCE = 0.04, 3
# share by which the kinetic energy may grow in a substep with contacts, and with joints alone
GAIN, GAIN_JOINTS = 0.1, 0.003
PASSES = 16
MOST_EXACT, FEWER_PASSES = 150, 12  # contacts up to which all are to settle; passes where there are more
DAMPED = 3  # passes after which contacts that do not settle are damped
CROWD_PASSES = 5  # with swept contacts, which are not exact in any case
CROWD_CATCH = 1  # passes in which their other contacts may change
RELEASE = 7  # passes in which contacts and limits may still let go
CATCH = 9  # passes in which they may still begin to push
FASTEST = 1e7  # m/s and rad/s, of all bodies together: more is no solution
SLOWER = 0.1  # share of its speed that is left to what does not close as deep as halving goes
DEEPEST = 6  # halvings


@folded
def _fresh(B, E, J, C, T, K, W, order, h):
    """Assemble the matrix and factor it."""
    add_bodies(B, E, h)
    add_tugs(B, T, W, h)
    add_joints(B, E, J, W)
    add_contacts(B, E, C, K, W)
    factor(B, E, order)
    K[FACTORED] += 1


@folded
def _iterate(B, E, J, C, T, K, W, order, h, ahead, fresh, damped):
    """One solve at the trial velocities; ``damped``: of which as much is taken as calms the contacts. Returns that share."""
    body_forces(B, h, ahead)
    tug_forces(B, T, h)
    joint_forces(B, J)
    contact_forces(B, C, K, fresh)
    if damped:
        for i in range(B.shape[0]):
            for k in range(6):
                B[i].g[k] = B[i].f[k]
    solve(B, E, order)
    K[SOLVED] += 1
    share = damped_step(B, C, K) if damped else 1.0
    if share == 1.0:
        joint_impulses(B, J)
    for i in range(B.shape[0]):
        if B[i].free:
            for k in range(3):
                B[i].tv[k] += share * B[i].f[k]
                B[i].tw[k] += share * B[i].f[3 + k]
    return share


@folded
def attempt(B, E, J, V, S, P, C, O, T, K, G, W, A, order, gravity, wind, h, ahead, last):
    """Try one substep of length h; on success B holds its end. ``last``: accept whatever comes.

    ``ahead``: seconds until the targets are due. Returns whether it was accepted.
    """
    most = MOST_TURN_CROWD if K[SWEPT] > 0 else MOST_TURN
    if not last and _turns_too_far(B, h, NO, most):
        return False
    world_inertia(B)
    fill_lanes(B, V)
    free_velocities(B, gravity, wind, h)
    prepare_joints(B, J, h)
    prepare_drives(B, J, h, ahead)
    find_contacts(B, S, P, C, K, G, h)
    prepare_contacts(B, S, P, C, O, K, h)
    if K[SMOOTH] > 0:
        for i in range(K[CONTACTS]):
            C[i].friction = 0.0
    K[SWEPT] = 0
    pattern = pattern_of(B, J, C, K)
    if pattern != K[PATTERN]:
        K[PATTERN] = pattern
        for swept in range(2):
            if swept == 1:
                K[PATTERN] = 0
                choose_swept(B, C, K, h)
            if arrange(B, J, C, A, K[CONTACTS], order, swept == 0):
                break
    crowd = K[SWEPT] > 0
    exact = not crowd and K[CONTACTS] <= MOST_EXACT
    passes = CROWD_PASSES if crowd else (PASSES if exact else FEWER_PASSES)
    catching, releasing = (CROWD_CATCH, CROWD_CATCH) if crowd else (CATCH, RELEASE)
    worst, angle, unsettled, moved, bent = 0.0, 0.0, 0.0, 0.0, 0.0
    struck, restless, switched = False, False, False
    for p in range(-1, passes):
        # the first time round, only what is to be closed
        first = p < 0
        catch, release = p < catching, p < releasing
        if not first:
            fresh = p == 0 or struck or switched
            if fresh:
                _fresh(B, E, J, C, T, K, W, order, h)
            if crowd:
                moved = sweep(B, C, K, h)
            damped = p >= DAMPED and exact
            share = _iterate(B, E, J, C, T, K, W, order, h, ahead, fresh, damped and fresh)
            struck, restless, unsettled = update_contacts(B, C, K, catch, release, fresh, damped)
            if share < 1.0:
                struck, restless = True, True
        drift(B, V, h)
        bent = 0.0 if crowd else bend_contacts(B, C, K, h, first)
        worst, angle, switched = residuals(B, J, h, catch, release, first)
        if not first and catch:
            switched = update_friction(B, J) or switched
        still = unsettled < (SETTLED if p < PATIENCE else 3.0 * SETTLED)
        settled = still and moved < CROWD_SETTLED and (bent < BENT or crowd) and not struck and not switched
        if not first and settled and worst < CLOSED and angle < CLOSED_ANGLE:
            break
    if not _bounded(B):
        worst = math.inf
    if (restless or bent > BENT_AT_MOST) and exact and not last:
        # some contact still begins or ceases to push, or comes down farther than was thought
        return False
    if not crowd and gains(B, J, C, K, restless):
        if K[CONTACTS] > 0 and K[SMOOTH] == 0:
            # friction goes by a push that is estimated: once again without it
            K[SMOOTH] = 1
            return False
        if not last:
            return False
        if K[CONTACTS] > 0:
            _calm(B)
    sound = worst <= (WORST_OPEN if crowd else OPEN) and angle <= OPEN_ANGLE  # false for numbers that are none
    if not sound:
        if not last:
            return False
        if crowd and worst <= 10.0 * WORST_OPEN and angle <= 0.1:
            _calm(B)
            K[HALTED] += 1
        elif not (worst <= WORST_OPEN and angle <= 0.1):
            _freeze(B)
            K[HALTED] += 1
            return True
    if not last and _turns_too_far(B, h, YES, MOST_TURN_CROWD if crowd else MOST_TURN):
        return False
    set_back(B, E, J, C, K, order, h)
    accept(B, J, P, C, O, K, h, last)
    return True


@inlined
def pattern_of(B, J, C, K):
    """A number of what is coupled with what: the order of elimination stays as long as it is the same (FNV-1a)."""
    s = 1469598103934665603
    for i in range(B.shape[0]):
        s = (s ^ (1 if B[i].free else 0)) * 1099511628211
    for j in range(J.shape[0]):
        s = (s ^ (1 if J[j].live else 0)) * 1099511628211
    for i in range(K[CONTACTS]):
        if C[i].b >= 0 and B[C[i].b].free:
            s = (s ^ (C[i].a * 65536 + C[i].b + 1)) * 1099511628211
    return s | 1


@inlined
def set_back(B, E, J, C, K, order, h):
    """Move what is too deep or beyond a limit back a little, by the factors at hand, without giving it speed."""
    for i in range(B.shape[0]):
        for k in range(6):
            B[i].f[k] = 0.0
    deep = set_back_contacts(B, C, K, h)
    if not (set_back_joints(B, J, h) or deep):
        return
    solve(B, E, order)
    K[SOLVED] += 1
    # joints hold to first order only: a light body may not be turned far
    most = 0.0
    for i in range(B.shape[0]):
        if B[i].free:
            most = max(most, B[i].f[3] ** 2 + B[i].f[4] ** 2 + B[i].f[5] ** 2)
    h *= min(1.0, MOST_SET_BACK / max(h * math.sqrt(most), 1e-12))
    for i in range(B.shape[0]):
        if B[i].free:
            f, q = B[i].f, B[i].q1
            ex, ey, ez, ew = exp_quat(h * f[3], h * f[4], h * f[5])
            q[0], q[1], q[2], q[3] = quat_mul(ex, ey, ez, ew, q[0], q[1], q[2], q[3])
            for k in range(3):
                B[i].x1[k] += h * f[k]


@inlined
def _turns_too_far(B, h, end, most):
    for i in range(B.shape[0]):
        if B[i].free:
            w = B[i].w1 if end else B[i].w
            if not (w[0] ** 2 + w[1] ** 2 + w[2] ** 2) * h * h < most * most:
                return True
    return False


@inlined
def _bounded(B):
    """Whether the trial velocities are numbers that a motion can have."""
    most = 0.0
    for i in range(B.shape[0]):
        if B[i].free:
            for k in range(3):
                most += abs(B[i].tv[k]) + abs(B[i].tw[k])
    return most < FASTEST  # false for numbers that are none


@inlined
def _calm(B):
    """Take at least half of the speed of everything, where contacts do not agree, and all of the energy that was gained."""
    before, after = 1e-12, 1e-12
    for i in range(B.shape[0]):
        if B[i].free:
            before += _kinetic(B, i, B[i].fv, B[i].fw)
            after += _kinetic(B, i, B[i].tv, B[i].tw)
    k = 0.5 * min(1.0, math.sqrt(before / after))
    for i in range(B.shape[0]):
        if B[i].free:
            for a in range(3):
                B[i].tv[a], B[i].w1[a] = k * B[i].tv[a], k * B[i].w1[a]


@inlined
def _freeze(B):
    """The last resort: stand still for this part of the substep, and go on with a little less speed, rather than lose the numbers."""
    for i in range(B.shape[0]):
        if B[i].free:
            for a in range(3):
                B[i].v[a], B[i].w[a] = SLOWER * B[i].v[a], SLOWER * B[i].w[a]


@inlined
def accept(B, J, P, C, O, K, h, last):
    """Make the predicted pose the pose, and note the worst values."""
    for i in range(B.shape[0]):
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
    for k in range(K[NEAR]):
        P[k].incoming[0] = P[k].incoming[1]
        P[k].incoming[1] = 0.0
        P[k].olds = 0
    remember(P, C, O, K, h)
    for c in range(K[CONTACTS]):
        a, b = C[c].a, C[c].b
        if C[c].gap < 0.0:
            B[a].penetration = max(B[a].penetration, -C[c].gap)
        if C[c].push > 0.0:
            _note(B, a, C, c)
            if b >= 0:
                _note(B, b, C, c)
    for j in range(J.shape[0]):
        if not J[j].live:
            continue
        s = 0.0
        for k in range(3):
            if J[j].state[k] != 0 and J[j].soft[k] == 0 and J[j].mode[k] == 1:
                s += (J[j].res[k] * h + J[j].keep[k]) ** 2
            for a in range(3):
                J[j].load[a] += J[j].lam[k] * J[j].dir[k, a]
        J[j].separation = max(J[j].separation, math.sqrt(s))
        if near_limit(J, j):
            J[j].excess = max(J[j].excess, limit_excess(B, J, j))


@inlined
def _note(B, i, C, c):
    """Add a contact to what its body i has felt since the last reset."""
    push = C[c].push
    B[i].contact += push
    if push > B[i].strongest:
        B[i].strongest = push
        for k in range(3):
            B[i].touch[k] = C[c].point[k]


@folded
def advance(B, E, J, V, S, P, C, O, T, K, G, W, A, order, gravity, wind, h):
    """One substep of length h, halved as often as needed. Poses of bodies that are not free are moved along."""
    whole = 1 << DEEPEST
    done, size = 0, whole
    K[ASKED] += 1
    while done < whole:
        part = h * size / whole
        ahead = h * (whole - done) / whole
        if attempt(B, E, J, V, S, P, C, O, T, K, G, W, A, order, gravity, wind, part, ahead, size == 1):
            K[DONE] += 1
            K[SMOOTH] = 0
            done += size
            _shift_targets(B, J, size / (whole - done + size))
            if size < whole and done % (2 * size) == 0:
                size *= 2
        elif K[SMOOTH] == 1:
            K[SMOOTH] = 2
        else:
            K[SMOOTH] = 0
            size //= 2


@inlined
def gains(B, J, C, K, restless):
    """Whether contacts and joints give the bodies energy, by more than what rounding and the closing of gaps explain.

    The work of an impulse is that on the mean of the relative velocities before and after it, which holds for keyed bodies too.
    ``restless``: contacts had not settled, so that what they gave is not what they would give now.
    """
    before, after = 0.0, 0.0
    for i in range(B.shape[0]):
        if B[i].free:
            before += _kinetic(B, i, B[i].fv, B[i].fw)
            after += _kinetic(B, i, B[i].tv, B[i].tw)
    share = GAIN if K[CONTACTS] > 0 else GAIN_JOINTS
    if after < (1.0 + share) * before + 1e-9:
        return False
    return restless or contact_work(B, C, K) + joint_work(B, J) > 0.5 * share * after


@inlined
def _kinetic(B, i, v, w):
    M = B[i].M
    turning = 0.0
    for k in range(3):
        turning += w[k] * (M[k, 0] * w[0] + M[k, 1] * w[1] + M[k, 2] * w[2])
    return 0.5 * (B[i].mass * (v[0] * v[0] + v[1] * v[1] + v[2] * v[2]) + turning)


@inlined
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
