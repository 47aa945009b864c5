"""How the solver's loops are compiled, and small vector functions on scalars for them."""

import math
from typing import Any

import numpy as np
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


#: Constants as arguments of kernels: of plain ones, numba compiles a kernel for every value.
NO, YES, ZERO = np.bool_(False), np.bool_(True), np.int64(0)

MOST_PHASE = 2.0  # radians that an undamped spring may swing in a substep
LEAST_DAMPED = 0.1  # of a substep: the time by which a spring between light parts is damped at least
GONE = 30.0  # and after which nothing is left of its motion

# Series of the tangent
T3, T5, T7, T9, T11 = 1 / 3, 2 / 15, 17 / 315, 62 / 2835, 1382 / 155925
# Rational approximation of the arctangent up to 0.66, relative error 2e-16 (S. Moshier, Methods and Programs for Mathematical Functions, 1989)
ATAN_P = (
    -8.750608600031904122785e-1,
    -1.615753718733365076637e1,
    -7.500855792314704667340e1,
    -1.228866684490136173410e2,
    -6.485021904942025371773e1,
)
ATAN_Q = (
    2.485846490142306297962e1,
    1.650270098316988542046e2,
    4.328810604912902668951e2,
    4.853903996359136964868e2,
    1.945506571482613964425e2,
)


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
def solve_symmetric(M, x, y, z):
    """Solve M u = (x, y, z) for a symmetric 3 x 3 matrix."""
    a, b, c, e, f, g = M[0, 0], M[0, 1], M[0, 2], M[1, 1], M[1, 2], M[2, 2]
    k0, k1, k2 = e * g - f * f, c * f - b * g, b * f - c * e
    s = 1.0 / (a * k0 + b * k1 + c * k2)
    k = b * c - a * f
    return (
        s * (k0 * x + k1 * y + k2 * z),
        s * (k1 * x + (a * g - c * c) * y + k * z),
        s * (k2 * x + k * y + (a * e - b * b) * z),
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
    k = 2.0 * angle_of(s, w) / s if s > 1e-9 else 2.0
    return x * k, y * k, z * k


@inlined
def short_sincos(x):
    """Sine and cosine of an angle no larger than about 1, from the tangent of its half: whatever that is, a rotation.

    Within 1e-13 up to 0.2, within 1e-6 up to 1; without a branch.
    """
    y = 0.5 * x
    z = y * y
    # short chains of dependent products
    t = y + y * z * ((T3 + z * T5) + z * z * ((T7 + z * T9) + z * z * T11))
    k = 1.0 / (1.0 + t * t)
    return 2.0 * t * k, (1.0 - t * t) * k


@inlined
def decay(x):
    """exp(-x), x not below zero; by its series where that is exact to rounding."""
    if x > 3e-3:
        return math.exp(-x)
    return 1.0 - x * (1.0 - x * (1 / 2 - x * (1 / 6 - x * (1 / 24 - x * (1 / 120)))))


@compiled
def angle_of(s, c):
    """Angle whose sine and cosine are in the ratio of s to c, c not below zero; radians, to rounding."""
    t = abs(s)
    base, x = 0.0, 0.0
    if t > 2.414213562373095 * c:
        base, x = 0.5 * math.pi, -c / max(t, 1e-300)
    elif t > 0.66 * c:
        base, x = 0.25 * math.pi, (t - c) / (t + c)
    else:
        x = t / max(c, 1e-300)
    z = x * x
    p = ATAN_P[4] + z * (ATAN_P[3] + z * (ATAN_P[2] + z * (ATAN_P[1] + z * ATAN_P[0])))
    q = ATAN_Q[4] + z * (ATAN_Q[3] + z * (ATAN_Q[2] + z * (ATAN_Q[1] + z * (ATAN_Q[0] + z))))
    a = base + (x + x * z * p / q)
    return a if s >= 0.0 else -a


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
    twist = 2.0 * angle_of(x, w)
    length = math.sqrt(x * x + w * w)
    s, c = (x / length, w / length) if length > 1e-9 else (0.0, 1.0)
    # q * conj(twist); the x component vanishes by construction
    sy = y * c - z * s
    sz = z * c + y * s
    sw = w * c + x * s
    length = math.sqrt(sy * sy + sz * sz)
    k = 2.0 * angle_of(length, sw) / length if length > 1e-9 else 2.0
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
    """Strengths of a spring row that follows the damped oscillator exactly, at any step, under any constant force.

    The velocity of a substep is the mean one that takes x[n] to x[n+1]; that of the substep before, of length
    ``last``, took x[n-1] to x[n], and 0 means that it is the velocity at x[n]. For the impulse -(s v1 + p x[n] + e v0)
    on a unit of inertia, x[n+1] is what the oscillator through x[n-1] and x[n] has; see docs/solver.md. Returns s, p, e.
    """
    o = 2.0 * math.pi * frequency
    p = o * o * 0.5 * (h + last)
    # what is faster than the steps can follow comes to rest in one, without a swing
    phase = o * max(h, last)
    if phase > MOST_PHASE:
        o *= min(1.0, GONE / phase)
        phase = min(phase, GONE)
        ratio = min(max(ratio, math.sqrt(1.0 - (MOST_PHASE / phase) ** 2)), 10.0 * GONE / phase)
    a, b = _response(o, ratio, h)
    if last > 0.0:
        back_a, back_b = _response(o, ratio, -last)
        q = b / back_b
        alpha, beta = -q * last / h, (a - q * back_a + q - 1.0) / h
    else:
        alpha, beta = b / h, (a - 1.0) / h
    # what a constant force is weakened by, so that it comes to rest where the spring says
    gamma = min(max(-beta / p, 1e-9), 1.0 - 1e-12) if p > 0.0 else 1.0
    return 1.0 / gamma - 1.0, p, 1.0 - alpha / gamma


@compiled
def damper(damping, k):
    """Strengths s and e of a row that damps by ``damping`` 1/s over k seconds, exact for one body under any constant force."""
    x = damping * k
    alpha = decay(x)
    gamma = (1.0 - alpha) / x if x > 1e-6 else 1.0 - 0.5 * x
    return 1.0 / gamma - 1.0, 1.0 - alpha / gamma


@inlined
def bend_strengths(frequency, ratio, h, last):
    """s, p and e of a spring between parts that are far lighter than what it is tuned for: many of them bend together, and what each would
    do by itself is faster than any substep.

    The spring is taken where it is on the way, ``x + b1 h v1 - b0 last v0``. What is too fast for the substep loses the share ``1 - r`` of its
    motion in it, with ``b1 = 1 / (1 + r)^2`` and ``b0 = r^2 b1``; slow motion is damped by ``(1 - r) / (1 + r)`` of the substep as a time
    (the high-frequency dissipation of Chung & Hulbert 1993, for leapfrog). So r is chosen to give the damping that is wanted.
    """
    o = 2.0 * math.pi * frequency
    push = o * o * 0.5 * (h + last)
    time = max(2.0 * ratio / o, LEAST_DAMPED * h)
    if time >= h:
        return push * time, push, 0.0
    r = (h - time) / (h + time)
    b = 1.0 / ((1.0 + r) * (1.0 + r))
    return push * b * h, push, -push * r * r * b * last
