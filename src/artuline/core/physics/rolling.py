"""Rolling resistance at contacts: as friction, a viscosity between the bodies' rotations, whose torque is at most the push at a lever."""

import math

from artuline.core.physics.kernels import inlined

WRONG_ROLL = 0.06  # of the hardest push at the lever: by how much a torque may be wrong before the matrix is made anew


@inlined
def rolling_speed(B, C, i):
    """How fast body a of contact i rolls on b, at the trial velocities: the part of its spin across the normal; and its length."""
    n, w = C[i].normal, B[C[i].a].tw
    x, y, z = w[0], w[1], w[2]
    if C[i].b >= 0:
        w = B[C[i].b].tw
        x, y, z = x - w[0], y - w[1], z - w[2]
    along = n[0] * x + n[1] * y + n[2] * z
    x, y, z = x - along * n[0], y - along * n[1], z - along * n[2]
    return x, y, z, math.sqrt(x * x + y * y + z * z)


@inlined
def resist(C, i, spin):
    """Set the viscosity that stands for the rolling resistance of contact i at a spin."""
    most, stiff = C[i].rolling * C[i].hold, C[i].stiffness * C[i].rolling ** 2
    C[i].turning = stiff if most >= stiff * spin else most / spin


@inlined
def resist_anew(B, C, i, heavy):
    """After a solve: whether the rolling resistance of contact i is far from what it may be, and was set anew."""
    c = C[i]
    spin = rolling_speed(B, C, i)[3]
    most, stiff, t = c.rolling * c.hold, c.stiffness * c.rolling**2, c.turning
    slight = WRONG_ROLL * heavy * c.rolling
    if t >= stiff:
        if stiff * spin > 1.3 * most + slight:
            # what was held rolls off: about as fast as the rest of the torque makes it
            resist(C, i, spin + (stiff * spin - most) / (c.mass * max(c.radius, c.rolling) ** 2))
    elif abs(min(most / max(spin, 1e-12), stiff) - t) * spin > slight:
        resist(C, i, spin)
    return c.turning < 0.6 * t or c.turning > 1.8 * t


@inlined
def add_resistance(B, C, i, linear):
    """Add a contact's rolling resistance, at the trial velocities, to the right side."""
    x, y, z, spin = rolling_speed(B, C, i)
    t, stiff = C[i].turning, C[i].stiffness * C[i].rolling ** 2
    if not linear and t < stiff:
        t = min(C[i].rolling * C[i].hold / max(spin, 1e-12), stiff)
    f = B[C[i].a].f
    f[3], f[4], f[5] = f[3] - t * x, f[4] - t * y, f[5] - t * z
    if C[i].b >= 0 and B[C[i].b].free:
        f = B[C[i].b].f
        f[3], f[4], f[5] = f[3] + t * x, f[4] + t * y, f[5] + t * z
