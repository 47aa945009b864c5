"""How the solver's loops are compiled, and small vector functions on scalars for them."""

import math

from numba import njit

#: All kernels: cached on disk, without the interpreter lock. Products may be fused with sums, but nothing is
#: reordered: the same input gives the same bits on the same machine.
compiled = njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
inlined = compiled


@inlined
def cross(ax, ay, az, bx, by, bz):
    """Vector product."""
    return ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx


@inlined
def turn(qx, qy, qz, qw, vx, vy, vz):
    """Rotate a vector by a unit quaternion."""
    tx = 2.0 * (qy * vz - qz * vy)
    ty = 2.0 * (qz * vx - qx * vz)
    tz = 2.0 * (qx * vy - qy * vx)
    return (
        vx + qw * tx + qy * tz - qz * ty,
        vy + qw * ty + qz * tx - qx * tz,
        vz + qw * tz + qx * ty - qy * tx,
    )


@inlined
def quat_mul(ax, ay, az, aw, bx, by, bz, bw):
    """Hamilton product."""
    return (
        aw * bx + ax * bw + ay * bz - az * by,
        aw * by - ax * bz + ay * bw + az * bx,
        aw * bz + ax * by - ay * bx + az * bw,
        aw * bw - ax * bx - ay * by - az * bz,
    )


@inlined
def log_quat(x, y, z, w):
    """Rotation vector of a unit quaternion, the short way."""
    if w < 0.0:
        x, y, z, w = -x, -y, -z, -w
    s = math.sqrt(x * x + y * y + z * z)
    k = 2.0 * math.atan2(s, w) / s if s > 1e-9 else 2.0
    return x * k, y * k, z * k


@inlined
def small_sincos(x):
    """Sine and cosine; by their series where that is exact to rounding."""
    if abs(x) > 0.3:
        return math.sin(x), math.cos(x)
    s = x * x
    return (
        x * (1.0 - s / 6.0 * (1.0 - s / 20.0 * (1.0 - s / 42.0 * (1.0 - s / 72.0 * (1.0 - s / 110.0))))),
        1.0 - s / 2.0 * (1.0 - s / 12.0 * (1.0 - s / 30.0 * (1.0 - s / 56.0 * (1.0 - s / 90.0)))),
    )


@inlined
def exp_quat(x, y, z):
    """Unit quaternion of a rotation vector."""
    angle = math.sqrt(x * x + y * y + z * z)
    k = math.sin(0.5 * angle) / angle if angle > 1e-9 else 0.5
    return x * k, y * k, z * k, math.cos(0.5 * angle)


@inlined
def swing_twist(x, y, z, w):
    """Split a relative rotation into swing (rotation vector's y, z) and twist about x. Radians."""
    if w < 0.0:
        x, y, z, w = -x, -y, -z, -w
    twist = 2.0 * math.atan2(x, w)
    if twist > math.pi:
        twist -= 2.0 * math.pi
    elif twist < -math.pi:
        twist += 2.0 * math.pi
    s, c = math.sin(0.5 * twist), math.cos(0.5 * twist)
    # q * conj(twist); the x component vanishes by construction
    sy = y * c - z * s
    sz = z * c + y * s
    sw = w * c + x * s
    length = math.sqrt(sy * sy + sz * sz)
    k = 2.0 * math.atan2(length, sw) / length if length > 1e-9 else 2.0
    return sy * k, sz * k, twist


@inlined
def poles(frequency, ratio, h):
    """Softness and bias of a spring row whose discrete poles are the exact ones of the damped oscillator.

    For x'' + 2 z o x' + o^2 x = 0 sampled every h: x[n+1] = t x[n] - d x[n-1], d the product and t the sum of
    the poles. With v1 = (v0 - bias x0) / (1 + 1 / s), s the softness per inverse inertia, the row
    v1 + bias x0 + s l / m = 0 gives that recursion exactly, at any h. Returns 1/s and the bias.
    """
    o = 2.0 * math.pi * frequency
    decay = ratio * o * h
    d = math.exp(-2.0 * decay)
    under = 1.0 - ratio * ratio
    if under > 0.0:
        t = 2.0 * math.exp(-decay) * math.cos(o * math.sqrt(under) * h)
    else:
        root = o * math.sqrt(-under) * h
        t = math.exp(-decay + root) + math.exp(-decay - root)
    if d < 1e-12:
        d = 1e-12
    one = 1.0 - d
    if one < 1e-12:
        return 0.0, 0.0
    return one / d, (1.0 + d - t) / (h * one)
