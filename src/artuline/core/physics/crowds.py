"""Contacts of crowds, which would fill the factors up: swept between the solves (alternating directions)."""

import math

from artuline.core.physics.contacts import SLOP, both_free, inverse_mass, relative_speed
from artuline.core.physics.kernels import YES, compiled
from artuline.core.physics.state import CONTACTS, INACTIVE, PUSHING, SWEPT

CROWD_WEIGHT = 1.5  # mass that a swept contact sees, against that at its point
CROWD_PUSH, CROWD_SPEED = 0.05, 0.2  # the same of swept contacts, as a share and m/s of their speed


@compiled
def choose_swept(B, C, K, h):
    """Leave the contacts between free bodies to the sweeps, with what they carried in the substep before."""
    K[SWEPT] = 0
    for i in range(K[CONTACTS]):
        c = C[i]
        if not both_free(B, C, i):
            continue
        c.swept = True
        K[SWEPT] += 1
        n = c.normal
        c.weight[0] = CROWD_WEIGHT / inverse_mass(B, c.a, c.ra, n)
        c.weight[1] = CROWD_WEIGHT / inverse_mass(B, c.b, c.rb, n)
        for k in range(3):
            c.impulse[k] = h * c.impulse[k] if c.old else 0.0
        along = c.impulse[0] * n[0] + c.impulse[1] * n[1] + c.impulse[2] * n[2]
        if along <= 0.0:
            c.impulse[0], c.impulse[1], c.impulse[2] = 0.0, 0.0, 0.0


@compiled
def sweep(B, C, K, h):
    """Project the impulses of the swept contacts, at the trial velocities, on what pushes and rubs no harder than that.

    Alternating directions (Boyd et al. 2011, Distributed Optimization; Tasora, Mangoni & Benatti 2021, Solving
    Variational Inequalities and Cone Complementarity Problems): each contact sees its bodies as if they had the masses
    ``weight``, and the direct solve, whose matrix has these masses added, answers. It converges whatever the weights are, with
    factors that have no more blocks than those of the joints. Returns the largest correction, m/s.
    """
    worst = 0.0
    for i in range(K[CONTACTS]):
        c = C[i]
        if not c.swept:
            continue
        n = c.normal
        ux, uy, uz = relative_speed(B, C, i, YES)
        weight = c.weight[0] * c.weight[1] / (c.weight[0] + c.weight[1])
        target = c.target
        depth = -c.gap - SLOP
        if depth > 0.0:
            target = max(target, min(CROWD_PUSH * depth / h, CROWD_SPEED))
        x = c.impulse[0] + weight * (target * n[0] - ux)
        y = c.impulse[1] + weight * (target * n[1] - uy)
        z = c.impulse[2] + weight * (target * n[2] - uz)
        push = max(x * n[0] + y * n[1] + z * n[2], 0.0)
        along = x * n[0] + y * n[1] + z * n[2]
        x, y, z = x - along * n[0], y - along * n[1], z - along * n[2]
        size, most = math.sqrt(x * x + y * y + z * z), c.friction * push
        s = most / size if size > most else 1.0
        x, y, z = push * n[0] + s * x, push * n[1] + s * y, push * n[2] + s * z
        dx, dy, dz = x - c.impulse[0], y - c.impulse[1], z - c.impulse[2]
        worst = max(worst, math.sqrt(dx * dx + dy * dy + dz * dz) / weight)
        c.applied[0], c.applied[1], c.applied[2] = x + dx, y + dy, z + dz
        c.impulse[0], c.impulse[1], c.impulse[2] = x, y, z
        c.push = push
        c.state = PUSHING if push > 0.0 else INACTIVE
    return worst
