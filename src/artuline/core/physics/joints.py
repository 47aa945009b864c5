"""Joints and links: rows with directions at the start of a substep and residuals at its predicted end.

A joint measures its child against its parent along six axes of the parent's joint frame, whose x axis is the bone:
the place of the child's anchor, the twist and two swings. An axis is free, locked or limited; the swings
of a ball share one elliptical cone. A row that is locked, or whose limit is struck, is a stiffness k far above the
bodies' own inertia; what remains of its residual is iterated away (method of multipliers: Hestenes 1969).
"""

import math

from artuline.core.physics.joint_frames import (
    anchor_place,
    cone_excess,
    is_pointed,
    is_turning,
    joint_angles,
    joint_quat,
    last_step,
    offset,
    row_inertia,
    turn_speed,
    turns_now,
)
from artuline.core.physics.kernels import (
    NO,
    YES,
    bend_strengths,
    compiled,
    cross,
    inlined,
    poles,
    quat_mul,
    swing_twist,
    turn,
)
from artuline.core.physics.state import (
    CONE,
    LIMITED,
    LOCKED,
    ROWS,
    SWING_Y,
    SWING_Z,
    TIE,
    TWIST,
)

HARD = 1e6  # stiffness of a hard row against the joint's scale
CALM_CLOSING, CALM_TURN = 0.2, 2.0  # m/s and rad/s at which a gap at the start of a substep closes at least
CLOSE = 0.15  # share of such a gap closed in one substep
MOST_CLOSING = 5.0  # m/s or rad/s at which it closes at most
MOST_FLIPS = 2  # times a limit may let go in a substep, so that none goes round in circles
MOST_FAR, FASTER = 2.0, 4.0  # radians of swing up to which slack is told; how much faster its coordinates may change
BOUNCE_SPEED = 0.2  # rad/s or m/s: slower hits on a limit do not bounce
SLOP = 1e-4  # radians or metres beyond a limit that are left alone
TIGHTER, COUNTS = (
    1.5,
    0.2,
)  # times the pull that was thought, and share of an inertia, from which on a pull is noted anew
MORE = 0.2  # s/m: share by which a row that gives way gives more for every m/s that it is short of
RELEASED = 1e-4  # share of a row's strength below which a pull on a limit does not count


@inlined
def beyond(J, j, r, c0, c1, c2, sy, sz, tw):
    """How far a row's coordinate lies beyond the end it is at, signed: for the state of the row."""
    if r == CONE:
        return cone_excess(sy, sz, J[j].high[SWING_Y], J[j].high[SWING_Z])
    c = c0
    if r == 1:
        c = c1
    elif r == 2:
        c = c2
    elif r == TWIST:
        c = tw
    elif r == SWING_Y:
        c = sy
    elif r == SWING_Z:
        c = sz
    if J[j].mode[r] == LOCKED:
        return c
    return c - (J[j].high[r] if J[j].state[r] > 0 else J[j].low[r])


@compiled
def aim_row(B, J, j, r):
    """Direction of row r at the start of the substep, its stiffness, and the part of its gap left for later."""
    d = J[j].dir[r]
    p, c = J[j].parent, J[j].child
    J[j].k[r] = HARD * (J[j].scale[0] if r < 3 else J[j].scale[1])
    if r < 3:
        if J[j].kind == TIE:
            cx, cy, cz = anchor_place(B, c, J[j].anchor_c, NO)
            px, py, pz = anchor_place(B, p, J[j].anchor_p, NO)
            dx, dy, dz = cx - px, cy - py, cz - pz
            n = math.sqrt(dx * dx + dy * dy + dz * dz)
            if n > 1e-9:
                d[0], d[1], d[2] = dx / n, dy / n, dz / n
            else:
                d[0], d[1], d[2] = 0.0, 1.0, 0.0
        else:
            ex, ey, ez = (1.0 if r == 0 else 0.0), (1.0 if r == 1 else 0.0), (1.0 if r == 2 else 0.0)
            if is_pointed(J, j):
                d[0], d[1], d[2] = ex, ey, ez
            else:
                qx, qy, qz, qw = joint_quat(B, p, J[j].frame_p, NO)
                d[0], d[1], d[2] = turn(qx, qy, qz, qw, ex, ey, ez)
        return
    qx, qy, qz, qw = joint_quat(B, p, J[j].frame_p, NO)
    cx, cy, cz, cw = joint_quat(B, c, J[j].frame_c, NO)
    sy, sz, _ = joint_angles(B, J, j, NO)
    _aim_turn(J, j, r, qx, qy, qz, qw, cx, cy, cz, cw, sy, sz)


@compiled
def _aim_turn(J, j, r, qx, qy, qz, qw, cx, cy, cz, cw, sy, sz):
    """``aim_row`` for a row of the rotations, with the joint's frames on the parent and on the child, and the swing."""
    d = J[j].dir[r]
    J[j].k[r] = HARD * J[j].scale[1]
    ax, ay, az = turn(cx, cy, cz, cw, 1.0, 0.0, 0.0)
    if r == TWIST:
        xx, xy, xz = turn(qx, qy, qz, qw, 1.0, 0.0, 0.0)
        s = 1.0 / (1.0 + max(ax * xx + ay * xy + az * xz, -0.9))
        d[0], d[1], d[2] = s * (ax + xx), s * (ay + xy), s * (az + xz)
        return
    if r != CONE and J[j].mode[SWING_Y] == LOCKED and J[j].mode[SWING_Z] == LOCKED:
        # of a swing that is none, the gradients are the frame's own axes
        d[0], d[1], d[2] = turn(qx, qy, qz, qw, 0.0, 1.0 if r == SWING_Y else 0.0, 1.0 if r == SWING_Z else 0.0)
        return
    length = math.sqrt(sy * sy + sz * sz)
    uy, uz = (sy / length, sz / length) if length > 1e-9 else (1.0, 0.0)
    ux, uy_, uz_ = turn(qx, qy, qz, qw, 0.0, uy, uz)
    tx, ty, tz = cross(ax, ay, az, ux, uy_, uz_)
    stretch = length / math.sin(length) if 1e-6 < length < 3.0 else 1.0
    if r == CONE:
        ly, lz = max(J[j].high[SWING_Y], 1e-4), max(J[j].high[SWING_Z], 1e-4)
        gy, gz = uy / (ly * ly), uz / (lz * lz)
        # gradient of the cone along the swing (1) and across it
        along, t = 1.0, (gz * uy - gy * uz) / (gy * uy + gz * uz) * stretch
    elif r == SWING_Y:
        along, t = uy, -uz * stretch
    else:
        along, t = uz, uy * stretch
    d[0], d[1], d[2] = along * ux + t * tx, along * uy_ + t * ty, along * uz_ + t * tz


@inlined
def _keep(J, j, r, e, h):
    """Set the part of a gap e at the start of the substep that is left for later ones."""
    J[j].keep[r] = 0.0
    if r == CONE or J[j].mode[r] != LOCKED:
        # what lies beyond a limit is set back without giving it speed, see set_back_joints
        if e * J[j].state[r] > 0.0:
            J[j].keep[r] = e
    else:
        # a short substep has no time to close a gap at once without giving it speed
        least = (CALM_CLOSING if r < 3 else CALM_TURN) * h
        if abs(e) > least:
            closed = max(min(CLOSE * abs(e), MOST_CLOSING * h), least)
            J[j].keep[r] = e - closed if e > 0.0 else e + closed


@inlined
def start_speed(B, J, j, r):
    """Speed along row r with the velocities that the substep began with."""
    d = J[j].dir[r]
    p, c = J[j].parent, J[j].child
    if r < 3:
        rc, rp = J[j].rc, J[j].rp
        x, y, z = cross(B[c].w[0], B[c].w[1], B[c].w[2], rc[0], rc[1], rc[2])
        x, y, z = x + B[c].v[0], y + B[c].v[1], z + B[c].v[2]
        if p >= 0:
            a, b, e = cross(B[p].w[0], B[p].w[1], B[p].w[2], rp[0], rp[1], rp[2])
            x, y, z = x - a - B[p].v[0], y - b - B[p].v[1], z - e - B[p].v[2]
    else:
        x, y, z = B[c].w[0], B[c].w[1], B[c].w[2]
        if p >= 0:
            x, y, z = x - B[p].w[0], y - B[p].w[1], z - B[p].w[2]
    return d[0] * x + d[1] * y + d[2] * z


@inlined
def _pull(J, j, e, f0, f1, f2):
    """N m by which a force at joint j turns its child (e = 0) or parent (1) back, per radian: of what pulls it along its arm."""
    r, sign = J[j].rc if e == 0 else J[j].rp, 1.0 if e == 0 else -1.0
    return max(sign * (f0 * r[0] + f1 * r[1] + f2 * r[2]), 0.0)


@inlined
def _tauten(B, J, j):
    """Add how tight joint j is to how taut its bodies are."""
    for e in range(2):
        i = J[j].child if e == 0 else J[j].parent
        if i >= 0 and J[j].tight[e] > 0.0:
            r = J[j].rc if e == 0 else J[j].rp
            size = math.sqrt(r[0] * r[0] + r[1] * r[1] + r[2] * r[2])
            B[i].taut += J[j].tight[e]
            B[i].axis[0], B[i].axis[1], B[i].axis[2] = r[0] / size, r[1] / size, r[2] / size


@compiled
def tighten(B, J, h):
    """After a solve: whether joints pull far more than the matrix was made for, which is noted then."""
    more = False
    for j in range(J.shape[0]):
        if not J[j].live:
            continue
        f0, f1, f2 = 0.0, 0.0, 0.0
        for r in range(3):
            if J[j].state[r] != 0 and J[j].soft[r] == 0:
                s, d = J[j].lam[r] / h, J[j].dir[r]
                f0, f1, f2 = f0 + s * d[0], f1 + s * d[1], f2 + s * d[2]
        for e in range(2):
            i = J[j].child if e == 0 else J[j].parent
            if i >= 0 and B[i].free and B[i].line:
                heavy = max(B[i].inertia[0], B[i].inertia[1], B[i].inertia[2]) / (h * h)
                pull = _pull(J, j, e, f0, f1, f2)
                # of what is light against its pull
                if pull > max(TIGHTER * J[j].tight[e], COUNTS * heavy):
                    J[j].tight[e] = pull
                    more = True
    if more:
        for j in range(J.shape[0]):
            B[J[j].child].taut = 0.0
            if J[j].parent >= 0:
                B[J[j].parent].taut = 0.0
        for j in range(J.shape[0]):
            if J[j].live:
                _tauten(B, J, j)
    return more


@compiled
def prepare_joints(B, J, h):
    """Arms, directions and first states of all rows, at the pose and the velocities at the start."""
    for j in range(J.shape[0]):
        p, c = J[j].parent, J[j].child
        J[j].live = J[j].on and J[j].broken < 0 and (B[c].free or (p >= 0 and B[p].free))
        if not J[j].live:
            continue
        ax, ay, az = anchor_place(B, c, J[j].anchor_c, NO)
        for k in range(3):
            a = ax if k == 0 else (ay if k == 1 else az)
            J[j].rc[k] = a - B[c].x[k]
            J[j].rp[k] = a - B[p].x[k] if p >= 0 else 0.0
        for e in range(2):
            i = c if e == 0 else p
            pull = _pull(J, j, e, J[j].pulled[0], J[j].pulled[1], J[j].pulled[2])
            # what is no line swings slowly enough, unless a load hangs on it: a hit is none
            J[j].tight[e] = pull if i >= 0 and B[i].line else min(pull, J[j].pulling[e])
            J[j].pulling[e] = pull
        _tauten(B, J, j)
        pointed = is_pointed(J, j)
        if pointed:
            J[j].k[0] = HARD * J[j].scale[0]
            px, py, pz = anchor_place(B, p, J[j].anchor_p, NO)
            c0, c1, c2 = ax - px, ay - py, az - pz
        else:
            c0, c1, c2 = offset(B, J, j, NO)
        sy, sz, tw = 0.0, 0.0, 0.0
        turning = is_turning(J, j)
        qx, qy, qz, qw = 0.0, 0.0, 0.0, 1.0
        cx, cy, cz, cw = 0.0, 0.0, 0.0, 1.0
        if turning:
            qx, qy, qz, qw = joint_quat(B, p, J[j].frame_p, NO)
            cx, cy, cz, cw = joint_quat(B, c, J[j].frame_c, NO)
            rx, ry, rz, rw = quat_mul(-qx, -qy, -qz, qw, cx, cy, cz, cw)
            sy, sz, tw = swing_twist(rx, ry, rz, rw)
        if J[j].spring_frequency > 0.0:
            _springs(B, J, j, c0, c1, c2, h)
        _use(J, j, sy, sz, tw)
        for r in range(ROWS):
            J[j].lam[r] = 0.0
            J[j].flips[r] = 0
            J[j].yields[r] = 0
            J[j].soft[r] = 0
            J[j].wanted[r] = 0.0
            if r > 2 and not turning:
                continue
            if r < CONE and J[j].mode[r] == LOCKED:
                J[j].state[r] = 1
                if r > 2:
                    _aim_turn(J, j, r, qx, qy, qz, qw, cx, cy, cz, cw, sy, sz)
                elif not pointed:
                    aim_row(B, J, j, r)
                _keep(J, j, r, beyond(J, j, r, c0, c1, c2, sy, sz, tw), h)
            elif J[j].limit_frequency > 0.0:
                _soft_limit(B, J, j, r, c0, c1, c2, sy, sz, tw, h)
            elif J[j].state[r] != 0:
                e = beyond(J, j, r, c0, c1, c2, sy, sz, tw) * J[j].state[r]
                if e < -1e-3:
                    J[j].state[r] = 0
                else:
                    if r > 2:
                        _aim_turn(J, j, r, qx, qy, qz, qw, cx, cy, cz, cw, sy, sz)
                    else:
                        aim_row(B, J, j, r)
                    _keep(J, j, r, e * J[j].state[r], h)


@inlined
def _use(J, j, sy, sz, tw):
    """Note the share of the limits in use, and how far the joint may turn before it can meet one."""
    m = J[j].mode
    J[j].slack = 0.0
    used, slack = 0.0, 1e9
    for r in range(TWIST, ROWS):
        if not limited_row(J, j, r):
            continue
        if r == CONE:
            ly, lz = max(J[j].high[SWING_Y], 1e-4), max(J[j].high[SWING_Z], 1e-4)
            share = math.sqrt((sy / ly) ** 2 + (sz / lz) ** 2)
            slack = min(slack, min(ly, lz) * (1.0 - share))
            used = max(used, share)
        else:
            c = tw if r == TWIST else (sy if r == SWING_Y else sz)
            slack = min(slack, J[j].high[r] - c, c - J[j].low[r])
            middle, half = 0.5 * (J[j].low[r] + J[j].high[r]), 0.5 * (J[j].high[r] - J[j].low[r])
            used = max(used, abs(c - middle) / max(half, 1e-4))
    J[j].used = max(J[j].used, used)
    locked = m[3] == LOCKED or m[4] == LOCKED or m[5] == LOCKED
    linear = m[0] == LIMITED or m[1] == LIMITED or m[2] == LIMITED
    if not locked and not linear and J[j].limit_frequency == 0.0 and sy * sy + sz * sz < MOST_FAR * MOST_FAR:
        J[j].slack = max(slack, 0.0)


@inlined
def far(B, J, j, h):
    """Whether joint j turns too little within h, at the trial velocities, to meet a limit.

    Coordinates of swing and twist change no more than ``FASTER`` times as fast as the joint turns up to ``MOST_FAR``.
    """
    if J[j].slack <= 0.0 or turns_now(J, j):
        return False
    x, y, z = turn_speed(B, J, j, YES)
    return FASTER * FASTER * (x * x + y * y + z * z) * h * h < J[j].slack * J[j].slack


@inlined
def _springs(B, J, j, c0, c1, c2, h):
    """The pull of the free and the limited places to their middles."""
    if J[j].feels[0] > 0.0:
        stiff, push, slow = bend_strengths(J[j].spring_frequency, J[j].spring_ratio, h, last_step(B, J, j))
    else:
        stiff, push, slow = poles(J[j].spring_frequency, J[j].spring_ratio, h, last_step(B, J, j))
    for r in range(3):
        if J[j].mode[r] == LOCKED:
            continue
        aim_row(B, J, j, r)
        c = c0 if r == 0 else (c1 if r == 1 else c2)
        if J[j].mode[r] == LIMITED:
            c -= 0.5 * (J[j].low[r] + J[j].high[r])
        J[j].spring_k[r] = stiff * J[j].feel
        speed = start_speed(B, J, j, r)
        J[j].spring_aim[r] = -J[j].feel * (push * c + slow * speed)
        if r == 0:
            J[j].opened = J[j].area * (c + J[j].bulk_time * speed)


@inlined
def swell(B, J, cells, listed, h):
    """The pressure of soft parts: what all meetings of the clusters of one let through adds up to the volume that it lost, which pushes on every one of them."""
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        for j in range(c[2], c[3]):
            J[j].swelled = False
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        for j in range(c[2], c[3]):
            if J[j].bulk > 0.0 and J[j].live and not J[j].swelled:
                _press(B, J, cells, listed, J[j].swells, J[j].bulk, h)


@inlined
def _press(B, J, cells, listed, part, bulk, h):
    """Let the pressure of one part push."""
    grown = 0.0
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        for j in range(c[2], c[3]):
            if J[j].bulk > 0.0 and J[j].swells == part and J[j].live:
                grown += J[j].opened
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        for j in range(c[2], c[3]):
            if J[j].bulk > 0.0 and J[j].swells == part and J[j].live:
                J[j].swelled = True
                J[j].spring_aim[0] -= bulk * grown * J[j].area * 0.5 * (h + last_step(B, J, j))


@inlined
def limited_row(J, j, r):
    """Whether row r of a joint is a limit."""
    if r == CONE:
        return J[j].cone
    return J[j].mode[r] == LIMITED and not (J[j].cone and r >= SWING_Y)


@inlined
def _soft_limit(B, J, j, r, c0, c1, c2, sy, sz, tw, h):
    """A limit with give: a damped spring while the coordinate is beyond it."""
    J[j].state[r] = 0
    if not limited_row(J, j, r):
        return
    J[j].state[r] = 1
    e = beyond(J, j, r, c0, c1, c2, sy, sz, tw)
    if e <= 0.0 and r != CONE:
        J[j].state[r] = -1
        e = beyond(J, j, r, c0, c1, c2, sy, sz, tw)
    if e * J[j].state[r] <= 0.0:
        J[j].state[r] = 0
        return
    aim_row(B, J, j, r)
    stiff, push, slow = poles(J[j].limit_frequency, J[j].limit_ratio, h, last_step(B, J, j))
    J[j].soft[r] = 1
    J[j].k[r] = stiff * (J[j].feel if r < 3 else row_inertia(B, J, j, J[j].dir[r]))
    J[j].wanted[r] = -(push * e + slow * start_speed(B, J, j, r)) / max(stiff, 1e-12)


@compiled
def residuals(B, J, h, catch, release, first):
    """Residuals of all rows at the predicted pose; limits that are struck are switched on, those that would pull off.

    ``first``: before any solve, when nothing is switched. Returns the worst gap (metres), the worst angle
    (radians) and whether any row was switched.
    """
    worst, angle, changed = 0.0, 0.0, False
    for j in range(J.shape[0]):
        if not J[j].live:
            continue
        c0, c1, c2 = offset(B, J, j, YES)
        sy, sz, tw = 0.0, 0.0, 0.0
        rows, row, gap = ROWS, 0, 0.0
        if is_pointed(J, j):
            e, keep, row = J[j].res, J[j].keep, 3
            x, y, z = c0 - keep[0], c1 - keep[1], c2 - keep[2]
            e[0], e[1], e[2] = x / h, y / h, z / h
            gap = 0.0 if J[j].yields[0] != 0 else x * x + y * y + z * z
        if not is_turning(J, j) or (first and not turns_now(J, j)) or far(B, J, j, h):
            rows = 3
        else:
            sy, sz, tw = joint_angles(B, J, j, YES)
        for r in range(row, rows):
            if J[j].state[r] != 0:
                if J[j].soft[r] == 1:
                    # a soft limit pushes or does nothing
                    if release and not first and J[j].lam[r] * J[j].state[r] > 0.0:
                        J[j].state[r] = 0
                        changed = True
                    continue
                if J[j].soft[r] == 2:
                    continue
                e = beyond(J, j, r, c0, c1, c2, sy, sz, tw) - J[j].keep[r]
                locked = r < CONE and J[j].mode[r] == LOCKED
                pulls = J[j].lam[r] * J[j].state[r] > RELEASED * h * J[j].k[r] / HARD
                if pulls and not locked and not first and release and J[j].flips[r] < MOST_FLIPS:
                    J[j].state[r] = 0
                    J[j].lam[r] = 0.0
                    J[j].flips[r] += 1
                    changed = True
                    continue
                J[j].res[r] = e / h
                if J[j].yields[r] != 0:
                    continue
                if r < 3:
                    gap += e * e
                elif J[j].lam[r] * J[j].state[r] <= 0.0 or locked or e * J[j].state[r] > 0.0:
                    angle = max(angle, abs(e))
            elif not first and J[j].limit_frequency == 0.0 and limited_row(J, j, r):
                if catch:
                    changed = _catch(B, J, j, r, c0, c1, c2, sy, sz, tw, h) or changed
                elif r > 2:
                    angle = max(angle, _missed(B, J, j, r, sy, sz, tw))
        worst = max(worst, gap)
    return math.sqrt(worst), angle, changed


@compiled
def give_way(J, h, most):
    """Let rows that are asked for more than an impulse ``most`` give that much and no more: joints that contradict each other share what is missing.

    As friction does, what gives way stands in the matrix as a viscosity, the impulse over the speed that is left (Kacanov's iteration). Returns
    whether the matrix changed.
    """
    changed = False
    for j in range(J.shape[0]):
        if not J[j].live:
            continue
        first = 0
        if is_pointed(J, j):
            first = 3
            m, e = J[j].lam, J[j].res
            pull = math.sqrt(m[0] * m[0] + m[1] * m[1] + m[2] * m[2])
            left = math.sqrt(e[0] * e[0] + e[1] * e[1] + e[2] * e[2])
            changed = _give_way(J, j, 0, pull, left, h, most, HARD * J[j].scale[0]) or changed
            if J[j].yields[0] != 0:
                m[0], m[1], m[2] = 0.0, 0.0, 0.0
        lever = math.sqrt(J[j].scale[1] / J[j].scale[0])
        for r in range(first, ROWS):
            # what pushes only is not to pull
            pushes = r == CONE or J[j].mode[r] != LOCKED
            if J[j].state[r] != 0 and J[j].soft[r] == 0 and not (pushes and J[j].res[r] * J[j].state[r] < 0.0):
                limit, hard = (most, HARD * J[j].scale[0]) if r < 3 else (most * lever, HARD * J[j].scale[1])
                changed = _give_way(J, j, r, abs(J[j].lam[r]), abs(J[j].res[r]), h, limit, hard) or changed
                if J[j].yields[r] != 0:
                    J[j].lam[r] = 0.0
    return changed


@inlined
def _give_way(J, j, r, pull, left, h, most, hard):
    """``give_way`` for a row with an impulse ``pull`` and a residual ``left``, m/s or rad/s."""
    if J[j].yields[r] == 0 and pull <= most:
        return False
    # a little more where more is missing, so that it is shared evenly
    k = min(most * (1.0 / max(left, 1e-12) + MORE), hard)
    if J[j].yields[r] != 0 and 0.6 * k < J[j].k[r] < 1.6 * k:
        return False
    J[j].yields[r] = 1
    J[j].k[r] = k
    return True


@inlined
def _catch(B, J, j, r, c0, c1, c2, sy, sz, tw, h):
    """Switch a limit on if the predicted pose breaks it."""
    least = 1e-7
    for side in range(2):
        if r == CONE and side == 1:
            break
        J[j].state[r] = 1 if side == 0 else -1
        e = beyond(J, j, r, c0, c1, c2, sy, sz, tw)
        if e * J[j].state[r] > least:
            start0, start1, start2 = offset(B, J, j, NO)
            y0, z0, t0 = joint_angles(B, J, j, NO)
            e0 = beyond(J, j, r, start0, start1, start2, y0, z0, t0)
            if e * J[j].state[r] <= min(e0 * J[j].state[r], SLOP) + least:
                # it was a little beyond the limit already, which is left alone
                break
            aim_row(B, J, j, r)
            _keep(J, j, r, e0, h)
            J[j].lam[r] = 0.0
            J[j].res[r] = (e - J[j].keep[r]) / h
            if J[j].bounce > 0.0:
                _bounce(B, J, j, r)
            return True
    J[j].state[r] = 0
    return False


@inlined
def _missed(B, J, j, r, sy, sz, tw):
    """How much farther than at the start the predicted pose is beyond a limit that is not on, radians."""
    y0, z0, t0 = joint_angles(B, J, j, NO)
    e, e0 = 0.0, 0.0
    for side in range(1 if r == CONE else 2):
        J[j].state[r] = 1 if side == 0 else -1
        e = max(e, beyond(J, j, r, 0.0, 0.0, 0.0, sy, sz, tw) * J[j].state[r])
        e0 = max(e0, beyond(J, j, r, 0.0, 0.0, 0.0, y0, z0, t0) * J[j].state[r])
    J[j].state[r] = 0
    return e - e0


@inlined
def _bounce(B, J, j, r):
    """A limit that is struck sends the joint back with a share of its speed."""
    s = start_speed(B, J, j, r)
    if s * J[j].state[r] > BOUNCE_SPEED:
        J[j].soft[r] = 2
        J[j].wanted[r] = -J[j].bounce * s


@inlined
def near_limit(J, j):
    """Whether joint j may be beyond a limit: it began at one, or has struck one."""
    s, m = J[j].state, J[j].mode
    struck = s[CONE] != 0
    for r in range(3, 6):
        struck = struck or (s[r] != 0 and m[r] != LOCKED)
    return struck or J[j].slack <= 0.0


@compiled
def limit_excess(B, J, j):
    """How far joint j is beyond its limits, radians; 0 inside."""
    sy, sz, tw = 0.0, 0.0, 0.0
    if is_turning(J, j):
        sy, sz, tw = joint_angles(B, J, j, NO)
    excess = 0.0
    for r in range(TWIST, ROWS):
        if not limited_row(J, j, r):
            continue
        if r == CONE:
            excess = max(excess, cone_excess(sy, sz, J[j].high[SWING_Y], J[j].high[SWING_Z]))
        else:
            c = tw if r == TWIST else (sy if r == SWING_Y else sz)
            excess = max(excess, c - J[j].high[r], J[j].low[r] - c)
    return excess
