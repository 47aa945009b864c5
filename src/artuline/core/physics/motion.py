"""Free rigid motion: the drift of a substep, which keeps angular momentum exactly.

The rotation is split about the body's principal axes, x y z y x (McLachlan 1993, Explicit Lie-Poisson
integration; Reich 1994): symplectic, second order, exact in |L|.
"""

import math

from artuline.core.physics.kernels import compiled, exp_quat, inlined, quat_mul, turn


@inlined
def _axis_turn(mx, my, mz, qx, qy, qz, qw, axis, angle):
    """Turn by ``angle`` about a principal axis: momentum in the body frame turns back, the attitude on."""
    s2, c2 = math.sin(0.5 * angle), math.cos(0.5 * angle)
    s, c = 2.0 * s2 * c2, 1.0 - 2.0 * s2 * s2
    if axis == 0:
        my, mz = c * my + s * mz, c * mz - s * my
        qx, qy, qz, qw = qx * c2 + qw * s2, qy * c2 + qz * s2, qz * c2 - qy * s2, qw * c2 - qx * s2
    elif axis == 1:
        mz, mx = c * mz + s * mx, c * mx - s * mz
        qx, qy, qz, qw = qx * c2 - qz * s2, qy * c2 + qw * s2, qz * c2 + qx * s2, qw * c2 - qy * s2
    else:
        mx, my = c * mx + s * my, c * my - s * mx
        qx, qy, qz, qw = qx * c2 + qy * s2, qy * c2 - qx * s2, qz * c2 + qw * s2, qw * c2 - qz * s2
    return mx, my, mz, qx, qy, qz, qw


@compiled
def drift(B, h):
    """Move every body freely for h, from its pose with its trial velocities, which are taken at that pose.

    Writes the pose x1, q1 and the angular velocity w1 at the end. Bodies that are not free turn about tw.
    """
    for i in range(B.shape[0]):
        b = B[i]
        for k in range(3):
            b.x1[k] = b.x[k] + h * b.tv[k]
        qx, qy, qz, qw = b.q[0], b.q[1], b.q[2], b.q[3]
        if not b.free:
            ex, ey, ez, ew = exp_quat(h * b.tw[0], h * b.tw[1], h * b.tw[2])
            qx, qy, qz, qw = quat_mul(ex, ey, ez, ew, qx, qy, qz, qw)
            b.w1[0], b.w1[1], b.w1[2] = b.tw[0], b.tw[1], b.tw[2]
        else:
            i0, i1, i2 = b.inertia[0], b.inertia[1], b.inertia[2]
            mx, my, mz = turn(-qx, -qy, -qz, qw, b.tw[0], b.tw[1], b.tw[2])
            mx, my, mz = mx * i0, my * i1, mz * i2
            half = 0.5 * h
            mx, my, mz, qx, qy, qz, qw = _axis_turn(mx, my, mz, qx, qy, qz, qw, 0, half * mx / i0)
            mx, my, mz, qx, qy, qz, qw = _axis_turn(mx, my, mz, qx, qy, qz, qw, 1, half * my / i1)
            mx, my, mz, qx, qy, qz, qw = _axis_turn(mx, my, mz, qx, qy, qz, qw, 2, h * mz / i2)
            mx, my, mz, qx, qy, qz, qw = _axis_turn(mx, my, mz, qx, qy, qz, qw, 1, half * my / i1)
            mx, my, mz, qx, qy, qz, qw = _axis_turn(mx, my, mz, qx, qy, qz, qw, 0, half * mx / i0)
            b.w1[0], b.w1[1], b.w1[2] = turn(qx, qy, qz, qw, mx / i0, my / i1, mz / i2)
        n = 1.0 / math.sqrt(qx * qx + qy * qy + qz * qz + qw * qw)
        b.q1[0], b.q1[1], b.q1[2], b.q1[3] = qx * n, qy * n, qz * n, qw * n


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
