"""The substeps of a frame: bodies on their keys, bodies let go, the list of near pairs, breaking."""

from artuline.core.physics.collide import find_near, still_near
from artuline.core.physics.drives import effective_inertia
from artuline.core.physics.kernels import NO, YES, compiled, inlined, log_quat, quat_mul, turn
from artuline.core.physics.motion import world_inertia
from artuline.core.physics.substep import advance


@compiled
def frame(
    B, E, J, V, S, P, Q, H, X, row, C, O, T, K, G, W, A, order, parts, gravity, wind, h,
    keyed_x, keyed_q, free, goal, drive, follow, trace,
):  # fmt: skip
    """All substeps of a frame, with the keyed motion given at every substep.

    keyed_x (n, k + 1, 3), keyed_q (n, k + 1, 4): keyed poses; free (n, k): when bodies are simulated;
    goal (n, k, 2): world drive in Hz and damping in 1/s; drive (m, k): joint drive in Hz; gravity, wind (k, 3);
    follow (m,): whether a joint's anchor on the parent and its drive's target come from the keyed poses; trace (n, k, 3): filled with the places
    at the ends of the substeps, or without any row; parts: as in ``advance``. A body that becomes free starts with the velocity of its keys.
    """
    n, m, count = B.shape[0], J.shape[0], gravity.shape[0]
    for j in range(m):
        J[j].load[0], J[j].load[1], J[j].load[2] = 0.0, 0.0, 0.0
    for s in range(count):
        for i in range(n):
            B[i].free = free[i, s]
            B[i].goal_frequency, B[i].goal_damping = goal[i, s, 0], goal[i, s, 1]
            for k in range(3):
                B[i].goal_x0[k], B[i].goal_x1[k] = keyed_x[i, s, k], keyed_x[i, s + 1, k]
            for k in range(4):
                B[i].goal_q0[k], B[i].goal_q1[k] = keyed_q[i, s, k], keyed_q[i, s + 1, k]
            if not B[i].free or B[i].keyed > 0:
                follow_keys(B, i, keyed_x[i], keyed_q[i], s, h)
        for j in range(m):
            J[j].frequency = drive[j, s]
            if follow[j]:
                _keyed_relative(J, keyed_x, keyed_q, s + 1, j, J[j].target1, YES)
                _keyed_relative(J, keyed_x, keyed_q, s, j, J[j].target0, NO)
        if s == 0:
            world_inertia(B)
            effective_inertia(B, J, A, W)
        if s == 0 or not still_near(B):
            find_near(B, S, P, Q, H, X, K, row, h * (count - s))
        if s == 0:
            for i in range(n):
                B[i].strayed, B[i].allowed = False, B[i].fastest
                for k in range(3):
                    B[i].began[k] = B[i].listed[k]
        advance(B, E, J, V, S, P, C, O, T, K, G, W, A, order, parts, gravity[s], wind[s], h)
        if trace.shape[0] > 0:
            _follow_trace(B, trace, s)
    for i in range(n):
        if not B[i].free:
            for k in range(3):
                B[i].x[k] = keyed_x[i, count, k]
            for k in range(4):
                B[i].q[k] = keyed_q[i, count, k]


@inlined
def _follow_trace(B, trace, s):
    """Note where the bodies are after substep s, and whether they move as the frame's first list of near pairs took them to."""
    for i in range(B.shape[0]):
        v, l = B[i].v, B[i].began
        gone = (v[0] - l[0]) ** 2 + (v[1] - l[1]) ** 2 + (v[2] - l[2]) ** 2
        B[i].strayed = B[i].strayed or not gone < B[i].allowed * B[i].allowed
        for k in range(3):
            trace[i, s, k] = B[i].x[k]


@inlined
def _chord(x, q, s, h):
    """Mean velocity and spin that take a body from its keyed pose at s to the next."""
    ex, ey, ez, ew = quat_mul(q[s + 1, 0], q[s + 1, 1], q[s + 1, 2], q[s + 1, 3], -q[s, 0], -q[s, 1], -q[s, 2], q[s, 3])
    r0, r1, r2 = log_quat(ex, ey, ez, ew)
    k = 1.0 / h
    return k * (x[s + 1, 0] - x[s, 0]), k * (x[s + 1, 1] - x[s, 1]), k * (x[s + 1, 2] - x[s, 2]), k * r0, k * r1, k * r2


@inlined
def follow_keys(B, i, x, q, s, h):
    """Put body i on its keys x (k + 1, 3), q (k + 1, 4), with their mean velocity; or let it go, with their velocity at this moment.

    That is the slope of the curve through the poses at two substeps before and two after it (central differences of fourth order; of third
    with one after it), so that what follows curved keys leaves along their tangent, and between two straight lines with the mean of both.
    """
    b = B[i]
    new = _chord(x, q, s, h)
    b.last = 0.0
    if b.free:
        after = new
        f, n, o, p = 0.0, 0.5, 0.5, 0.0
        if b.keyed > 1 and s + 2 < x.shape[0]:
            after = _chord(x, q, s + 1, h)
            f, n, o, p = -1 / 12, 7 / 12, 7 / 12, -1 / 12
        elif b.keyed > 1:
            n, o, p = 1 / 3, 5 / 6, -1 / 6
        for k in range(3):
            b.v[k] = f * after[k] + n * new[k] + o * b.v[k] + p * b.chord[k]
            b.w[k] = f * after[3 + k] + n * new[3 + k] + o * b.w[k] + p * b.chord[3 + k]
        b.keyed = 0
        return
    b.keyed = min(b.keyed + 1, 2)
    for k in range(3):
        b.chord[k], b.chord[3 + k] = b.v[k], b.w[k]
        b.x[k], b.v[k], b.w[k] = x[s, k], new[k], new[3 + k]
    for k in range(4):
        b.q[k] = q[s, k]


@inlined
def _keyed_relative(J, keyed_x, keyed_q, s, j, target, anchor):
    """Set a target to the keyed rotation of the child's frame in the parent's; and the anchor to the child's."""
    p, c = J[j].parent, J[j].child
    f, q = J[j].frame_c, keyed_q[c, s]
    cx, cy, cz, cw = quat_mul(q[0], q[1], q[2], q[3], f[0], f[1], f[2], f[3])
    g = J[j].frame_p
    px, py, pz, pw = g[0], g[1], g[2], g[3]
    if p >= 0:
        r = keyed_q[p, s]
        px, py, pz, pw = quat_mul(r[0], r[1], r[2], r[3], px, py, pz, pw)
    target[0], target[1], target[2], target[3] = quat_mul(-px, -py, -pz, pw, cx, cy, cz, cw)
    if anchor and p >= 0:
        a, x, y, r = J[j].anchor_c, keyed_x[c, s], keyed_x[p, s], keyed_q[p, s]
        ax, ay, az = turn(q[0], q[1], q[2], q[3], a[0], a[1], a[2])
        ax, ay, az = ax + x[0] - y[0], ay + x[1] - y[1], az + x[2] - y[2]
        J[j].anchor_p[0], J[j].anchor_p[1], J[j].anchor_p[2] = turn(-r[0], -r[1], -r[2], r[3], ax, ay, az)
