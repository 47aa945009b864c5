"""How the solver's loops are compiled, and small vector functions on scalars for them."""

import math
from typing import Any

from numba import njit

#: No kernel makes arrays, so none counts references to them: the locked counting took a third of a substep.
_FLAGS: dict[str, Any] = {"nogil": True, "error_model": "numpy", "fastmath": {"contract"}, "_nrt": False}

#: All kernels: cached on disk, without the interpreter lock. Products may be fused with sums, but nothing is
#: reordered: the same input gives the same bits on the same machine.
compiled = njit(cache=True, no_cfunc_wrapper=True, **_FLAGS)

#: Those that only other kernels call: compiled in half the time, without an entrance from Python.
inlined = njit(cache=True, no_cfunc_wrapper=True, no_cpython_wrapper=True, **_FLAGS)

#: Those with one caller, which become part of it before it is compiled.
folded = njit(inline="always", **_FLAGS)


S3, S5, S7, S9, S11 = 1 / 6, 1 / 20, 1 / 42, 1 / 72, 1 / 110
C4, C6, C8, C10 = 1 / 12, 1 / 30, 1 / 56, 1 / 90


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


@compiled
def small_sincos(x):
    """Sine and cosine; by their series where that is exact to rounding."""
    if abs(x) > 0.3:
        return math.sin(x), math.cos(x)
    s = x * x
    return (
        x * (1.0 - s * S3 * (1.0 - s * S5 * (1.0 - s * S7 * (1.0 - s * S9 * (1.0 - s * S11))))),
        1.0 - 0.5 * s * (1.0 - s * C4 * (1.0 - s * C6 * (1.0 - s * C8 * (1.0 - s * C10)))),
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
    length = math.sqrt(x * x + w * w)
    s, c = (x / length, w / length) if length > 1e-9 else (0.0, 1.0)
    # q * conj(twist); the x component vanishes by construction
    sy = y * c - z * s
    sz = z * c + y * s
    sw = w * c + x * s
    length = math.sqrt(sy * sy + sz * sz)
    k = 2.0 * math.atan2(length, sw) / length if length > 1e-9 else 2.0
    return sy * k, sz * k, twist


@inlined
def _response(o, ratio, t):
    """Where x'' + 2 z o x' + o^2 x = 0 takes a unit of x and a unit of x' in a time t, which may be negative."""
    under = 1.0 - ratio * ratio
    decay = math.exp(-ratio * o * t)
    if under > 1e-8:
        d = o * math.sqrt(under)
        s, c = math.sin(d * t) / d, math.cos(d * t)
    elif under < -1e-8:
        d = o * math.sqrt(-under)
        up, down = math.exp(d * t), math.exp(-d * t)
        s, c = 0.5 * (up - down) / d, 0.5 * (up + down)
    else:
        s, c = t, 1.0
    return decay * (c + ratio * o * s), decay * s


@compiled
def poles(frequency, ratio, h, last):
    """Softness and bias of a spring row that follows the damped oscillator exactly, at any step.

    The velocity of a substep is the mean one that takes x[n] to x[n+1]; that of the substep before, of length
    ``last``, took x[n-1] to x[n], and 0 means that it is the velocity at x[n]. With v1 = (v0 - s b x0) / (1 + s), s the
    stiffness against the inertia and b the bias, x[n+1] is what the oscillator through x[n-1] and x[n] has. Returns s, b.
    """
    o = 2.0 * math.pi * frequency
    a, b = _response(o, ratio, h)
    if last > 0.0:
        back_a, back_b = _response(o, ratio, -last)
        q = b / back_b
        alpha, beta = -q * last / h, (a - q * back_a + q - 1.0) / h
    else:
        alpha, beta = b / h, (a - 1.0) / h
    alpha = min(max(alpha, 1e-9), 1.0 - 1e-12)
    s = 1.0 / alpha - 1.0
    return s, -beta / (alpha * s)
