"""Free rigid motion: the drift of a substep, which keeps angular momentum exactly.

The rotation is split about the body's principal axes, x y z y x (McLachlan 1993, Explicit Lie-Poisson
integration; Reich 1994): symplectic, second order, exact in |L|.
"""

import math

from artuline.core.physics.kernels import compiled, decay, exp_quat, inlined, quat_mul, short_sincos, turn
from artuline.core.physics.state import LANES

AIR = 1.225  # kg/m^3 at sea level, 15 degrees (ISO 2533)
HIT, HIT_TURN = 0.3, 3.0  # m/s and rad/s: larger changes of velocity in a substep are a hit


@inlined
def _axis_turn(ma, mb, qa, qb, qc, qw, angle):
    """Turn by ``angle`` about a principal axis c: momentum along a and b turns back, the attitude on."""
    s2, c2 = short_sincos(0.5 * angle)
    s, c = 2.0 * s2 * c2, 1.0 - 2.0 * s2 * s2
    return (
        c * ma + s * mb,
        c * mb - s * ma,
        qa * c2 + qb * s2,
        qb * c2 - qa * s2,
        qc * c2 + qw * s2,
        qw * c2 - qc * s2,
    )


@inlined
def _turn_lanes(V, h):
    """Turn the bodies of one record of lanes freely for h."""
    half = 0.5 * h
    for l in range(LANES):
        qx, qy, qz, qw = V.q[0, l], V.q[1, l], V.q[2, l], V.q[3, l]
        a, b, c = V.inertia[0, l], V.inertia[1, l], V.inertia[2, l]
        mx, my, mz = turn(-qx, -qy, -qz, qw, V.w[0, l], V.w[1, l], V.w[2, l])
        mx, my, mz = mx * a, my * b, mz * c
        a, b, c = 1.0 / a, 1.0 / b, 1.0 / c
        my, mz, qy, qz, qx, qw = _axis_turn(my, mz, qy, qz, qx, qw, half * mx * a)
        mz, mx, qz, qx, qy, qw = _axis_turn(mz, mx, qz, qx, qy, qw, half * my * b)
        mx, my, qx, qy, qz, qw = _axis_turn(mx, my, qx, qy, qz, qw, h * mz * c)
        mz, mx, qz, qx, qy, qw = _axis_turn(mz, mx, qz, qx, qy, qw, half * my * b)
        my, mz, qy, qz, qx, qw = _axis_turn(my, mz, qy, qz, qx, qw, half * mx * a)
        V.w1[0, l], V.w1[1, l], V.w1[2, l] = turn(qx, qy, qz, qw, mx * a, my * b, mz * c)
        n = 1.0 / math.sqrt(qx * qx + qy * qy + qz * qz + qw * qw)
        V.q1[0, l], V.q1[1, l], V.q1[2, l], V.q1[3, l] = qx * n, qy * n, qz * n, qw * n


@compiled
def drift(B, V, h):
    """Move every body freely for h, from its pose with its trial velocities, which are taken at that pose.

    Writes the pose x1, q1 and the angular velocity w1 at the end. Bodies that are not free turn about tw. V: lanes for
    all bodies, with their attitudes and moments.
    """
    n = B.shape[0]
    for first in range(0, n, LANES):
        v = V[first // LANES]
        lanes = min(LANES, n - first)
        for l in range(lanes):
            w = B[first + l].tw
            v.w[0, l], v.w[1, l], v.w[2, l] = w[0], w[1], w[2]
        _turn_lanes(v, h)
        for l in range(lanes):
            b = B[first + l]
            for k in range(3):
                b.x1[k] = b.x[k] + h * b.tv[k]
            if b.free:
                for k in range(3):
                    b.w1[k] = v.w1[k, l]
                for k in range(4):
                    b.q1[k] = v.q1[k, l]
            else:
                ex, ey, ez, ew = exp_quat(h * b.tw[0], h * b.tw[1], h * b.tw[2])
                b.q1[0], b.q1[1], b.q1[2], b.q1[3] = quat_mul(ex, ey, ez, ew, b.q[0], b.q[1], b.q[2], b.q[3])
                b.w1[0], b.w1[1], b.w1[2] = b.tw[0], b.tw[1], b.tw[2]


@compiled
def fill_lanes(B, V):
    """Copy what is the same for a whole substep to the lanes."""
    for i in range(B.shape[0]):
        v, l = V[i // LANES], i % LANES
        for k in range(4):
            v.q[k, l] = B[i].q[k]
        for k in range(3):
            v.inertia[k, l] = B[i].inertia[k]


@compiled
def world_inertia(B):
    """Inertia tensors of the bodies in the world's axes, from their principal moments."""
    for i in range(B.shape[0]):
        x, y, z, w = B[i].q[0], B[i].q[1], B[i].q[2], B[i].q[3]
        a, b, c = B[i].inertia[0], B[i].inertia[1], B[i].inertia[2]
        m00, m01, m02 = 1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)
        m10, m11, m12 = 2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)
        m20, m21, m22 = 2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)
        M = B[i].M
        M[0, 0] = m00 * a * m00 + m01 * b * m01 + m02 * c * m02
        M[0, 1] = m00 * a * m10 + m01 * b * m11 + m02 * c * m12
        M[0, 2] = m00 * a * m20 + m01 * b * m21 + m02 * c * m22
        M[1, 1] = m10 * a * m10 + m11 * b * m11 + m12 * c * m12
        M[1, 2] = m10 * a * m20 + m11 * b * m21 + m12 * c * m22
        M[2, 2] = m20 * a * m20 + m21 * b * m21 + m22 * c * m22
        M[1, 0], M[2, 0], M[2, 1] = M[0, 1], M[0, 2], M[1, 2]


@inlined
def burdened(x):
    """Times its mass that a body has against an impulse in air that takes the share ``1 - exp(-x)`` of its speed in the substep.

    A steady force and that of the air have the exact solution then, and forces that bear each other leave it at rest.
    """
    return x / (1.0 - decay(x)) if x > 1e-6 else 1.0 + 0.5 * x


@compiled
def free_velocities(B, gravity, wind, h):
    """Velocities at the end of the substep with no impulse yet: gravity, drag, wind, forces from outside.

    The air pushes on each principal side of a body by its drag area and the speed of the air through it: along the
    stream as drag, and across it, as lift, where a side stands askew. Also sets the trial velocities to those that are likely
    at the end: the impulses of the substep before go on, unless they were those of a hit.
    """
    for i in range(B.shape[0]):
        b = B[i]
        b.taut = 0.0
        for k in range(3):
            b.fv[k] = b.v[k]
            b.fw[k] = b.w[k]
        if b.free:
            # from the middle of the last substep to the middle of this one
            kick = 0.5 * (h + b.last)
            for k in range(3):
                b.fv[k] += kick * (gravity[k] + b.push[k] / b.mass)
            qx, qy, qz, qw = b.q[0], b.q[1], b.q[2], b.q[3]
            t0, t1, t2 = turn(-qx, -qy, -qz, qw, b.push[3], b.push[4], b.push[5])
            # what pushes at a point turns on with the body
            m = b.lever
            _, x1, x2 = turn(-qx, -qy, -qz, qw, m[0, 0], m[0, 1], m[0, 2])
            y0, _, y2 = turn(-qx, -qy, -qz, qw, m[1, 0], m[1, 1], m[1, 2])
            z0, z1, _ = turn(-qx, -qy, -qz, qw, m[2, 0], m[2, 1], m[2, 2])
            t0, t1, t2 = t0 + y2 - z1, t1 + z0 - x2, t2 + x1 - y0
            w0, w1, w2 = turn(qx, qy, qz, qw, t0 / b.inertia[0], t1 / b.inertia[1], t2 / b.inertia[2])
            b.fw[0] += kick * w0
            b.fw[1] += kick * w1
            b.fw[2] += kick * w2
            if b.area[0] + b.area[1] + b.area[2] > 0.0:
                u0, u1, u2 = turn(-qx, -qy, -qz, qw, wind[0] - b.fv[0], wind[1] - b.fv[1], wind[2] - b.fv[2])
                s = 0.5 * AIR * kick / b.mass
                # by the speed at the end, of which the square slows it: never beyond the air's, and what falls comes to its terminal speed
                speed = math.sqrt(u0 * u0 + u1 * u1 + u2 * u2)
                felt = (u0 * u0 * b.area[0] + u1 * u1 * b.area[1] + u2 * u2 * b.area[2]) / max(speed, 1e-12)
                s *= 2.0 * speed / (1.0 + math.sqrt(1.0 + 4.0 * s * felt))
                a0 = u0 * s * b.area[0] / (1.0 + s * b.area[0])
                a1 = u1 * s * b.area[1] / (1.0 + s * b.area[1])
                a2 = u2 * s * b.area[2] / (1.0 + s * b.area[2])
                a0, a1, a2 = turn(qx, qy, qz, qw, a0, a1, a2)
                b.fv[0] += a0
                b.fv[1] += a1
                b.fv[2] += a2
            # what the air takes of a speed; of a force that other forces bear it takes nothing (see ``burdened``)
            slow, calm = burdened(b.drag[0] * kick), burdened(b.drag[1] * kick)
            for k in range(3):
                b.fv[k] += b.v[k] * (decay(b.drag[0] * kick) - 1.0) + (b.fv[k] - b.v[k]) * (1.0 / slow - 1.0)
                b.fw[k] += b.w[k] * (decay(b.drag[1] * kick) - 1.0) + (b.fw[k] - b.w[k]) * (1.0 / calm - 1.0)
        u = b.pull
        steady = b.free and (u[0] * u[0] + u[1] * u[1] + u[2] * u[2]) * h * h < HIT * HIT
        steady = steady and (u[3] * u[3] + u[4] * u[4] + u[5] * u[5]) * h * h < HIT_TURN * HIT_TURN
        for k in range(3):
            b.tv[k] = b.fv[k] + (h * u[k] if steady else 0.0)
            b.tw[k] = b.fw[k] + (h * u[3 + k] if steady else 0.0)
