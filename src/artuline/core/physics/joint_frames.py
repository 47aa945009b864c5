"""Where a joint's anchors and frames are, how fast they move, and what an impulse at one does."""

import math

from artuline.core.physics.kernels import NO, compiled, cross, inlined, quat_mul, swing_twist, turn
from artuline.core.physics.state import FREE, LOCKED, TIE


@inlined
def joint_quat(B, body, frame, end):
    """World rotation of a joint's frame on one of its bodies, at the substep's start or predicted end."""
    if body < 0:
        return frame[0], frame[1], frame[2], frame[3]
    q = B[body].q1 if end else B[body].q
    return quat_mul(q[0], q[1], q[2], q[3], frame[0], frame[1], frame[2], frame[3])


@inlined
def anchor_place(B, body, anchor, end):
    """World place of a joint's anchor on a body."""
    if body < 0:
        return anchor[0], anchor[1], anchor[2]
    q = B[body].q1 if end else B[body].q
    x = B[body].x1 if end else B[body].x
    rx, ry, rz = turn(q[0], q[1], q[2], q[3], anchor[0], anchor[1], anchor[2])
    return x[0] + rx, x[1] + ry, x[2] + rz


@compiled
def cone_excess(sy, sz, ly, lz):
    """How far a swing lies outside an elliptical cone, along its own direction (negative inside). Radians."""
    length = math.sqrt(sy * sy + sz * sz)
    ly, lz = max(ly, 1e-4), max(lz, 1e-4)
    if length < 1e-9:
        return -min(ly, lz)
    share = math.sqrt((sy / ly) ** 2 + (sz / lz) ** 2)
    return length - length / share


@compiled
def relative(B, J, j, end):
    """Rotation of the child's joint frame in the parent's."""
    px, py, pz, pw = joint_quat(B, J[j].parent, J[j].frame_p, end)
    cx, cy, cz, cw = joint_quat(B, J[j].child, J[j].frame_c, end)
    return quat_mul(-px, -py, -pz, pw, cx, cy, cz, cw)


@compiled
def joint_angles(B, J, j, end):
    """Swing y, swing z, twist of joint j at the substep's start or predicted end; radians."""
    rx, ry, rz, rw = relative(B, J, j, end)
    return swing_twist(rx, ry, rz, rw)


@compiled
def offset(B, J, j, end):
    """Place of the child's anchor against the parent's, in the world and (unless all are locked) in its frame."""
    p = J[j].parent
    cx, cy, cz = anchor_place(B, J[j].child, J[j].anchor_c, end)
    px, py, pz = anchor_place(B, p, J[j].anchor_p, end)
    dx, dy, dz = cx - px, cy - py, cz - pz
    if J[j].kind == TIE:
        return math.sqrt(dx * dx + dy * dy + dz * dz), 0.0, 0.0
    if is_pointed(J, j):
        return dx, dy, dz
    qx, qy, qz, qw = joint_quat(B, p, J[j].frame_p, end)
    return turn(-qx, -qy, -qz, qw, dx, dy, dz)


@inlined
def last_step(B, J, j):
    """Length of the substep before for a joint's bodies."""
    c, p = J[j].child, J[j].parent
    return B[c].last if B[c].free else (B[p].last if p >= 0 else 0.0)


@inlined
def is_pointed(J, j):
    """Whether the anchors coincide: then the rows of the place are along the world's axes."""
    m = J[j].mode
    return m[0] == LOCKED and m[1] == LOCKED and m[2] == LOCKED


@inlined
def is_turning(J, j):
    """Whether any of a joint's rotations is locked or limited."""
    m = J[j].mode
    return m[3] != FREE or m[4] != FREE or m[5] != FREE


@inlined
def turns_now(J, j):
    """Whether a row of a joint's rotations is active."""
    s = J[j].state
    return s[3] != 0 or s[4] != 0 or s[5] != 0 or s[6] != 0


@inlined
def point_speed(B, J, j, trial):
    """Velocity of the child's anchor against the parent: of the trial, or of the last solve."""
    p, c = J[j].parent, J[j].child
    rc, rp = J[j].rc, J[j].rp
    if trial:
        v, w = B[c].tv, B[c].tw
        x, y, z = cross(w[0], w[1], w[2], rc[0], rc[1], rc[2])
        x, y, z = x + v[0], y + v[1], z + v[2]
        if p >= 0:
            v, w = B[p].tv, B[p].tw
            a, b, d = cross(w[0], w[1], w[2], rp[0], rp[1], rp[2])
            x, y, z = x - a - v[0], y - b - v[1], z - d - v[2]
        return x, y, z
    f = B[c].f
    x, y, z = cross(f[3], f[4], f[5], rc[0], rc[1], rc[2])
    x, y, z = x + f[0], y + f[1], z + f[2]
    if p >= 0:
        f = B[p].f
        a, b, d = cross(f[3], f[4], f[5], rp[0], rp[1], rp[2])
        x, y, z = x - a - f[0], y - b - f[1], z - d - f[2]
    return x, y, z


@inlined
def turn_speed(B, J, j, trial):
    """Angular velocity of the child against the parent."""
    p, c = J[j].parent, J[j].child
    if trial:
        w = B[c].tw
        x, y, z = w[0], w[1], w[2]
        if p >= 0:
            w = B[p].tw
            x, y, z = x - w[0], y - w[1], z - w[2]
        return x, y, z
    f = B[c].f
    x, y, z = f[3], f[4], f[5]
    if p >= 0:
        f = B[p].f
        x, y, z = x - f[3], y - f[4], z - f[5]
    return x, y, z


@inlined
def row_inertia(B, J, j, d):
    """Effective inertia of a joint about a world direction."""
    qx, qy, qz, qw = joint_quat(B, J[j].parent, J[j].frame_p, NO)
    x, y, z = turn(-qx, -qy, -qz, qw, d[0], d[1], d[2])
    I = J[j].effective
    return (
        x * (I[0, 0] * x + I[0, 1] * y + I[0, 2] * z)
        + y * (I[1, 0] * x + I[1, 1] * y + I[1, 2] * z)
        + z * (I[2, 0] * x + I[2, 1] * y + I[2, 2] * z)
    )


@inlined
def push_pair(B, c, p, l0, l1, l2, a0, a1, a2, rc, rp):
    """An impulse at a point and a turn on body c, and their opposites on body p."""
    if B[c].free:
        f = B[c].f
        x, y, z = cross(rc[0], rc[1], rc[2], l0, l1, l2)
        f[0], f[1], f[2] = f[0] + l0, f[1] + l1, f[2] + l2
        f[3], f[4], f[5] = f[3] + x + a0, f[4] + y + a1, f[5] + z + a2
    if p >= 0 and B[p].free:
        f = B[p].f
        x, y, z = cross(rp[0], rp[1], rp[2], l0, l1, l2)
        f[0], f[1], f[2] = f[0] - l0, f[1] - l1, f[2] - l2
        f[3], f[4], f[5] = f[3] - x - a0, f[4] - y - a1, f[5] - z - a2
