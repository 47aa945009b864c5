"""One substep: kick, solve for the impulses along directions at its start, drift (SHAKE with a direct solve).

Constraint impulses act along the directions at the pose where the substep begins, and are iterated until
the joints are closed at the pose where it ends (Ryckaert et al. 1977; Andersen 1983): symplectic, so that
swings keep their height. A substep that turns a body too far, or does not close, is halved.
"""

import math

from artuline.core.physics.breaking import breaks
from artuline.core.physics.collide import find_contacts
from artuline.core.physics.contacts import (
    add_contacts,
    between_free,
    contact_forces,
    damped_step,
    prepare_contacts,
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
from artuline.core.physics.joint_solve import add_joints, joint_forces, joint_impulses
from artuline.core.physics.joints import give_way, prepare_joints, residuals, swell, tighten
from artuline.core.physics.kernels import NO, YES, folded, inlined
from artuline.core.physics.motion import drift, fill_lanes, free_velocities, world_inertia
from artuline.core.physics.outcome import MOST_TURN, accept, bounded, calm, freeze, gains, set_back, turns_too_far
from artuline.core.physics.parts import clear_counters, find_parts, one_part
from artuline.core.physics.state import (
    ASKED,
    BROKEN,
    CONTACTS,
    DONE,
    FACTORED,
    FULL,
    HALF,
    HALTED,
    MOST_NEIGHBOURS,
    NEAR,
    PATTERN,
    SMOOTH,
    SOLVED,
    SWEPT,
)

MOST_TURN_CROWD = 0.9  # in a crowd
CROWD_SETTLED = 1e-2  # m/s: largest correction of a swept contact that counts as none
BENT_AT_MOST = 0.02  # m/s: the same as a substep ends
BENT = 1e-5  # m/s: change of what curves add to the speed of contacts that counts as none
CLOSED = 2e-6  # metres: joints count as closed
CLOSED_ANGLE = 2e-5  # radians
CROWD_CLOSED, CROWD_CLOSED_ANGLE = 5e-5, 5e-4  # the same in a crowd
OPEN = 2e-5  # metres: joints count as failed
OPEN_MANY = 2e-4  # the same where there are many contacts
OPEN_ANGLE = 0.01
WORST_OPEN = 2e-3  # metres: as deep as halving goes, what is still accepted
# relative change of friction forces that counts as none; and after how many passes three times of it does
SETTLED, PATIENCE = 0.04, 3
PASSES = 16
MOST_EXACT, FEWER_PASSES = 60, 9  # contacts up to which all are to settle; passes where there are more
FEW = 20  # contacts between free bodies that do not make a heap of a line, however many it has with what is keyed
FEWER_CATCH = 3  # of these, passes in which contacts may begin and cease to push
MOST_FACTORED = 120  # contacts of a part up to which those between free bodies are factored
DAMPED = 3  # passes after which contacts that do not settle are damped
CROWD_PASSES = 5  # with swept contacts, which are not exact in any case
CROWD_CATCH = 1  # passes in which their other contacts may change
RELEASE = 7  # passes in which contacts and limits may still let go
CATCH = 9  # passes in which they may still begin to push
DEEPEST = 6  # halvings
#: Times what stops all bodies of a part, and times their weight, that a joint gives at most: what is asked for more contradicts itself.
LEVERS, LEVER_WEIGHTS = 4.0, 200.0
JAMMED = 0.5  # share of that which a contact gives at most: what is jammed is pressed in before its joints give way


@folded
def _fresh(B, E, J, C, T, K, W, cells, listed, order, h):
    """Assemble the matrix and factor it."""
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        add_bodies(B[c[0] : c[1]], E, h)
    add_tugs(B, T, W, h)
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        add_joints(B, E, J[c[2] : c[3]], W, h)
    add_contacts(B, E, C, K, W)
    factor(B, E, order)
    K[FACTORED] += 1


@folded
def _iterate(B, E, J, C, T, K, W, cells, listed, order, h, ahead, fresh, damped):
    """One solve at the trial velocities; ``damped``: of which as much is taken as calms the contacts. Returns that share."""
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        body_forces(B[c[0] : c[1]], h, ahead)
    tug_forces(B, T, h)
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        joint_forces(B, J[c[2] : c[3]], h)
    contact_forces(B, C, K, fresh)
    if damped:
        for n in range(order.shape[0]):
            b = B[order[n]]
            for k in range(6):
                b.g[k] = b.f[k]
    solve(B, E, order)
    K[SOLVED] += 1
    share = damped_step(B, C, K, order) if damped else 1.0
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        if share == 1.0:
            joint_impulses(B, J[c[2] : c[3]])
        for i in range(c[0], c[1]):
            if B[i].free:
                for k in range(3):
                    B[i].tv[k] += share * B[i].f[k]
                    B[i].tw[k] += share * B[i].f[3 + k]
    return share


@folded
def _crowd_pass(B, E, J, V, C, T, K, W, cells, listed, order, h, ahead, fresh, catch, release, most, jam):
    """One pass where contacts are swept, which leave every cell for itself: as little as can be is done with all of them in turn, which
    do not fit the cache together. Returns what the contacts' and the joints' updates do, and the largest correction of a swept contact.
    """
    moved = sweep(B, C, K, h)
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        b, j = B[c[0] : c[1]], J[c[2] : c[3]]
        if fresh:
            add_bodies(b, E, h)
            add_joints(B, E, j, W, h)
        body_forces(b, h, ahead)
        joint_forces(B, j, h)
    if fresh:
        add_tugs(B, T, W, h)
        add_contacts(B, E, C, K, W)
        K[FACTORED] += 1
    tug_forces(B, T, h)
    contact_forces(B, C, K, fresh)
    K[SOLVED] += 1
    worst, angle, switched, first = 0.0, 0.0, False, 0
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        own = order[first : first + c[1] - c[0]]
        first += c[1] - c[0]
        if fresh:
            factor(B, E, own)
        solve(B, E, own)
        joint_impulses(B, J[c[2] : c[3]])
        for i in range(c[0], c[1]):
            if B[i].free:
                for k in range(3):
                    B[i].tv[k] += B[i].f[k]
                    B[i].tw[k] += B[i].f[3 + k]
        drift(B[c[0] : c[1]], V[c[4] :], h)
        open_, turned, changed = _close(B, J, cells, listed[l : l + 1], h, catch, release, NO, most)
        if worst == worst and not open_ <= worst:
            worst = open_
        if angle == angle and not turned <= angle:
            angle = turned
        switched = switched or changed
    struck, restless, unsettled = update_contacts(B, C, K, catch, release, fresh, False, jam)
    return struck, restless, unsettled, worst, angle, switched, moved


@inlined
def _prepare(B, J, V, cells, listed, gravity, wind, h, ahead):
    """What bodies and joints begin a substep with."""
    # those on their keys move along
    c = cells[cells.shape[0] - 1]
    b = B[c[0] : c[1]]
    fill_lanes(b, V[c[4] :])
    free_velocities(b, gravity, wind, h)
    for i in range(c[0], c[1]):
        # no solve changes their velocity
        for k in range(6):
            B[i].f[k] = 0.0
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        b = B[c[0] : c[1]]
        world_inertia(b)
        fill_lanes(b, V[c[4] :])
        free_velocities(b, gravity, wind, h)
        prepare_joints(B, J[c[2] : c[3]], h)
        prepare_drives(B, J[c[2] : c[3]], h, ahead)
    swell(B, J, cells, listed, h)


@inlined
def _drift(B, V, cells, listed, h, keyed):
    """Move the bodies of a part, and with ``keyed`` those on their keys."""
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        drift(B[c[0] : c[1]], V[c[4] :], h)
    if keyed:
        c = cells[cells.shape[0] - 1]
        drift(B[c[0] : c[1]], V[c[4] :], h)


@inlined
def _close(B, J, cells, listed, h, catch, release, first, most):
    """``residuals`` of a part's joints, and new friction."""
    worst, angle, switched = 0.0, 0.0, False
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        open_, turned, changed = residuals(B, J[c[2] : c[3]], h, catch, release, first)
        # what is no number stays
        if worst == worst and not open_ <= worst:
            worst = open_
        if angle == angle and not turned <= angle:
            angle = turned
        switched = switched or changed
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        if not first and catch:
            switched = update_friction(B, J[c[2] : c[3]]) or switched
            switched = tighten(B, J[c[2] : c[3]], h) or switched
            switched = give_way(J[c[2] : c[3]], h, most) or switched
    return worst, angle, switched


@folded
def _pattern(B, J, C, K, A, cells, listed, mine, order, first_block, h):
    """Set the order of elimination, unless the same is coupled as before; contacts that it cannot take in are swept."""
    K[SWEPT] = 0
    pattern = pattern_of(B, J, C, K, cells, listed)
    if pattern == K[PATTERN]:
        return
    K[PATTERN] = pattern
    for swept in range(1 if K[CONTACTS] > MOST_FACTORED and between_free(B, C, K) > FEW else 0, 2):
        if swept == 1:
            K[PATTERN] = 0
            choose_swept(B, C, K, h)
            # cell by cell
            n = 0
            for l in range(listed.shape[0]):
                c = cells[listed[l]]
                e = n + c[1] - c[0]
                arrange(
                    B, J, C, A, 0, cells, listed[l : l + 1], mine[n:e], order[n:e], first_block + MOST_NEIGHBOURS * n, False
                )  # fmt: skip
                n = e
        elif arrange(B, J, C, A, K[CONTACTS], cells, listed, mine, order, first_block, True):
            break


@folded
def attempt(
    B, E, J, V, P, C, O, T, K, W, A, cells, listed, mine, near, order, first_block, base, h, ahead, most, jam, last
):  # fmt: skip
    """Try one substep of length h of a part, whose contacts C are found; on success B holds its end. ``most``, ``jam``: N s that a row of a joint, and a
    contact, give at most; ``last``: accept whatever comes.

    ``ahead``: seconds until the targets are due. Returns whether it was accepted.
    """
    if K[SMOOTH] > 0:
        for i in range(K[CONTACTS]):
            C[i].friction, C[i].rolling = 0.0, 0.0
    _pattern(B, J, C, K, A, cells, listed, mine, order, first_block, h)
    crowd = K[SWEPT] > 0
    exact = not crowd and (K[CONTACTS] <= MOST_EXACT or between_free(B, C, K) <= FEW)
    passes = CROWD_PASSES if crowd else (PASSES if exact else FEWER_PASSES)
    catching, releasing = (
        (CROWD_CATCH, CROWD_CATCH) if crowd else ((CATCH, RELEASE) if exact else (FEWER_CATCH, FEWER_CATCH))
    )
    worst, angle, unsettled, moved, bent = 0.0, 0.0, 0.0, 0.0, 0.0
    struck, restless, switched = False, False, False
    for p in range(-1, passes):
        # the first time round, only what is to be closed
        first = p < 0
        catch, release = p < catching, p < releasing
        if not first:
            fresh = p == 0 or struck or switched
            if crowd:
                struck, restless, unsettled, worst, angle, switched, moved = _crowd_pass(
                    B, E, J, V, C, T, K, W, cells, listed, order, h, ahead, fresh, catch, release, most, jam
                )  # fmt: skip
                still = unsettled < (SETTLED if p < PATIENCE else 3.0 * SETTLED) and moved < CROWD_SETTLED
                if still and not struck and not switched and worst < CROWD_CLOSED and angle < CROWD_CLOSED_ANGLE:
                    break
                continue
            if fresh:
                _fresh(B, E, J, C, T, K, W, cells, listed, order, h)
            damped = p >= DAMPED and exact
            share = _iterate(B, E, J, C, T, K, W, cells, listed, order, h, ahead, fresh, damped and fresh)
            struck, restless, unsettled = update_contacts(B, C, K, catch, release, fresh, damped, jam)
            if share < 1.0:
                struck, restless = True, True
        _drift(B, V, cells, listed, h, first)
        bent = 0.0 if crowd else bend_contacts(B, C, K, h, first)
        worst, angle, switched = _close(B, J, cells, listed, h, catch, release, first, most)
        still = unsettled < (SETTLED if p < PATIENCE else 3.0 * SETTLED)
        settled = still and bent < BENT and not struck and not switched
        if not first and settled and worst < CLOSED and angle < CLOSED_ANGLE:
            break
    if not bounded(B, order):
        worst = math.inf
    if (restless or bent > BENT_AT_MOST) and exact and not last:
        # some contact still begins or ceases to push, or comes down farther than was thought
        return False
    if not crowd and gains(B, J, C, K, cells, listed, order, restless, most < math.inf):
        if K[CONTACTS] > 0 and K[SMOOTH] == 0:
            # friction goes by a push that is estimated: once again without it
            K[SMOOTH] = 1
            return False
        if not last:
            return False
        if K[CONTACTS] > 0:
            calm(B, order)
    sound = (
        worst <= (WORST_OPEN if crowd else (OPEN if exact else OPEN_MANY)) and angle <= OPEN_ANGLE
    )  # false for numbers that are none
    if not sound:
        if not last:
            return False
        if crowd and worst <= 10.0 * WORST_OPEN and angle <= 0.1:
            calm(B, order)
            K[HALTED] += 1
        elif not (worst <= WORST_OPEN and angle <= 0.1):
            freeze(B, order)
            K[HALTED] += 1
            return True
    if not last and turns_too_far(B, order, h, YES, MOST_TURN_CROWD if crowd else MOST_TURN):
        return False
    if breaks(J, K, cells, listed, h):
        return False
    set_back(B, E, J, C, K, cells, listed, order, h)
    accept(B, J, P, C, O, K, cells, listed, order, near, base, h, last)
    return True


@inlined
def pattern_of(B, J, C, K, cells, listed):
    """A number of what is coupled with what: the order of elimination stays as long as it is the same (FNV-1a)."""
    s = 1469598103934665603
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        for i in range(c[0], c[1]):
            s = (s ^ (1 if B[i].free else 0)) * 1099511628211
        for j in range(c[2], c[3]):
            s = (s ^ (1 if J[j].live else 0)) * 1099511628211
    for i in range(K[CONTACTS]):
        if C[i].b >= 0 and B[C[i].b].free:
            s = (s ^ (C[i].a * 65536 + C[i].b + 1)) * 1099511628211
    return s | 1


@inlined
def _put_back_keyed(B, cells):
    """Bodies on their keys are where they were at the start of the substep: every part moves them along for itself."""
    c = cells[cells.shape[0] - 1]
    for i in range(c[0], c[1]):
        b = B[i]
        for k in range(3):
            b.x[k] = b.goal_x0[k]
        for k in range(4):
            b.q[k] = b.goal_q0[k]


@inlined
def may_contradict(B, J, cells, listed):
    """Whether the joints of a part can ask for what cannot be: those of one of its trees close a ring, or hold it at two places."""
    for l in range(listed.shape[0]):
        c, spare = cells[listed[l]], 0
        for i in range(c[0], c[1]):
            spare -= 1 if B[i].free else 0
        for j in range(c[2], c[3]):
            spare += 1 if J[j].live else 0
        if spare > 0:
            return True
    return False


@inlined
def _most_impulses(B, mine, keyed, gravity, h):
    """Impulses that contacts of bodies can hardly exceed in a substep together: twice what stops all at the fastest one's speed, and twice their
    weight's and what pushes from outside; and that joints can hardly exceed, which have levers.
    """
    mass, most, force = 0.0, 0.0, 0.0
    for n in range(mine.shape[0]):
        b = B[mine[n]]
        if b.free:
            v, w = b.v, b.w
            spin = math.sqrt(w[0] ** 2 + w[1] ** 2 + w[2] ** 2) * max(b.reach, 0.0)
            most = max(most, math.sqrt(v[0] ** 2 + v[1] ** 2 + v[2] ** 2) + spin)
            mass += b.mass
            f = b.push
            force += math.sqrt(f[0] ** 2 + f[1] ** 2 + f[2] ** 2)
    fastest = most
    for i in range(keyed[0], keyed[1]):
        v = B[i].v
        fastest = max(fastest, math.sqrt(v[0] ** 2 + v[1] ** 2 + v[2] ** 2))
    pull = math.sqrt(gravity[0] ** 2 + gravity[1] ** 2 + gravity[2] ** 2)
    return (
        2.0 * mass * (most + h * pull) + 2.0 * h * force,
        mass * (LEVERS * fastest + LEVER_WEIGHTS * h * max(pull, 9.81)) + LEVER_WEIGHTS * h * force,
    )


@folded
def advance(B, E, J, V, S, P, C, O, T, K, G, W, A, order, parts, gravity, wind, h):
    """One substep of length h, of which each part is halved as often as needed. Poses of bodies that are not free are moved along.

    O has two halves: what was remembered, and what is.
    """
    cells, part_of, up, listed, mine, near, starts, KP, found = parts
    whole = 1 << DEEPEST
    K[ASKED] += 1
    for k in range(K[NEAR]):
        near[k] = k
    one = cells.shape[0] == 2
    find_contacts(B, S, P, near[: K[NEAR]], C if one else found, K, G, part_of, -1, h)
    if one:
        count = one_part(K, cells, part_of, listed, mine, near, starts)
    else:
        count = find_parts(B, S, P, found, C, K, KP, cells, part_of, up, listed, mine, near, starts)
    memory = (1 - K[HALF]) * (O.shape[0] // 2)
    top, halvings, swept = K[CONTACTS], 1, 0
    for p in range(count):
        f, l = starts[p], starts[p + 1]
        my_cells, my_bodies, my_pairs = listed[f[0] : l[0]], mine[f[1] : l[1]], near[f[3] : l[3]]
        my_order, k = order[f[1] : l[1]], KP[p]
        clear_counters(k)
        if p > 0:
            _put_back_keyed(B, cells)
        at, tried = f[2], False
        k[CONTACTS] = l[2] - f[2]
        done, size = 0, whole
        while done < whole:
            part = h * size / whole
            ahead = h * (whole - done) / whole
            last = size == 1
            accepted = False
            if last or not turns_too_far(B, my_bodies, part, NO, MOST_TURN_CROWD if k[SWEPT] > 0 else MOST_TURN):
                if tried or size < whole:
                    # behind the contacts of all parts
                    at = top
                    find_contacts(B, S, P, my_pairs, C[at:], k, G, part_of, p, part)
                tried = True
                _prepare(B, J, V, cells, my_cells, gravity, wind, part, ahead)
                most, pull = _most_impulses(B, my_bodies, cells[cells.shape[0] - 1], gravity, part)
                prepare_contacts(B, S, P, C[at:], O, k, part, most)
                jam = JAMMED * pull
                if not may_contradict(B, J, cells, my_cells):
                    pull = math.inf
                accepted = attempt(
                    B, E, J, V, P, C[at:], O, T, k, W, A, cells, my_cells, my_bodies, my_pairs, my_order,
                    f[1] * MOST_NEIGHBOURS, memory + at, part, ahead, pull, jam, last,
                )  # fmt: skip
            if accepted:
                k[DONE] += 1
                k[SMOOTH] = 0
                done += size
                _shift_targets(B, J, cells, my_cells, size / (whole - done + size))
                if size < whole and done % (2 * size) == 0:
                    size *= 2
            elif k[BROKEN] == 1:
                # once more without what broke
                k[BROKEN] = 0
            elif k[SMOOTH] == 1:
                k[SMOOTH] = 2
            else:
                k[SMOOTH] = 0
                size //= 2
        if at == top:
            top += k[CONTACTS]
        halvings = max(halvings, k[DONE])
        swept += k[SWEPT]
        K[FACTORED] += k[FACTORED]
        K[SOLVED] += k[SOLVED]
        K[HALTED] += k[HALTED]
        K[FULL] += k[FULL]
    K[DONE] += halvings
    K[SWEPT] = swept
    K[HALF] = 1 - K[HALF]


@inlined
def _shift_targets(B, J, cells, listed, share):
    """After a part of a substep, the targets' start is that much closer to their end."""
    if share >= 1.0:
        return
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        for i in range(c[0], c[1]):
            for k in range(3):
                B[i].goal_x0[k] += share * (B[i].goal_x1[k] - B[i].goal_x0[k])
            _nudge(B[i].goal_q0, B[i].goal_q1, share)
        for j in range(c[2], c[3]):
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
