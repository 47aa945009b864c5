"""Joints that break: by the force or the moment that they carry, within the substep in which it is too much."""

import math

from artuline.core.physics.kernels import inlined
from artuline.core.physics.state import BROKEN, ROWS

#: Seconds over which what a joint carries counts together: a blow breaks it by about what it gives within them, at any substep; what lasts by its force.
LASTING = 0.01


@inlined
def _strain(J, j, a, h, e):
    """Component e of what joint j has carried lately with the substep that was solved, N and N m: the point's force first, then the moment."""
    s = 0.0
    if e < 3:
        for r in range(3):
            s += J[j].lam[r] * J[j].dir[r, e]
    else:
        for r in range(3, ROWS):
            if J[j].state[r] != 0:
                s += J[j].lam[r] * J[j].dir[r, e - 3]
    return J[j].strain[e] + a * (s / h - J[j].strain[e])


@inlined
def breaks(J, K, cells, listed, h):
    """Part the joint of a part that carries the most beyond what it bears, if one does: the substep is then tried again without it, and what the others carry
    is less or more.
    """
    a = 1.0 - math.exp(-h / LASTING)
    worst, which = 1.0, -1
    for l in range(listed.shape[0]):
        c = cells[listed[l]]
        for j in range(c[2], c[3]):
            if not J[j].live:
                continue
            for kind in range(2):
                most = J[j].break_force if kind == 0 else J[j].break_torque
                if most > 0.0:
                    s = 0.0
                    for e in range(3 * kind, 3 * kind + 3):
                        s += _strain(J, j, a, h, e) ** 2
                    share = math.sqrt(s) / most
                    if share > worst:
                        worst, which = share, j
    if which < 0:
        return False
    J[which].broken, J[which].live = 0, False
    K[BROKEN] = 1
    return True


@inlined
def note_strain(J, j, h):
    """Keep what joint j has carried lately."""
    if J[j].break_force > 0.0 or J[j].break_torque > 0.0:
        a = 1.0 - math.exp(-h / LASTING)
        for e in range(6):
            J[j].strain[e] = _strain(J, j, a, h, e)
