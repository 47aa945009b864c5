"""How soft parts keep their volume: a pressure in each, by how much all that its clusters gave way to each other adds up to."""

from typing import NamedTuple

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.model import Figure, Joint

GRAVITY = 9.81  # m/s^2, of the weight that recipes speak of
WEIGHTS = 3.0  # times which
FASTEST = 0.7  # radians a substep that the pressure may swing by, which is not part of what is solved


class Swelling(NamedTuple):
    """What a joint has to do with the pressure of its part: the number of the part, the pressure over the volume that it lost (Pa/m^3), and the time by which it is damped (s)."""

    part: int
    bulk: float
    time: float


def swelling(figure: Figure, h: float) -> dict[str, Swelling]:
    """By the ids of joints, for substeps of h seconds.

    A solid of Young's modulus E that does not bulge of its own (Poisson's ratio 0), with a pressure of K times the share of its volume that it lost, loses ``s / (E + 3 K)`` of it
    under a load s. A load of three times its weight lies on its mean cross section.
    """
    p, q = rigid(rest_matrices(figure))
    place = {b.id: p[figure.bone_index[b.bone]] for b in figure.bodies}
    turn = {b.id: q[figure.bone_index[b.bone]] for b in figure.bodies}
    mass = {b.id: b.mass or 0.0 for b in figure.bodies}
    found: dict[str, Swelling] = {}
    for k, soft in enumerate(figure.softs):
        # in their order: sums have the same bits every time
        mine = [n for n in soft.clusters if n in mass]
        own = set(mine)
        joints = [j for j in (*figure.joints, *figure.loops) if j.child in own and j.area > 0.0]
        if len(joints) < 2:
            continue
        volume = sum(mass[i] for i in mine) / soft.density
        middles = np.array([place[i] for i in mine])
        tall = float(np.ptp(middles, axis=0).max()) + (volume / len(mine)) ** (1.0 / 3.0)
        load = WEIGHTS * soft.density * GRAVITY * tall
        firm = soft.density * (4.0 * soft.stretch) ** 2
        bulk = max(load / soft.keeps - firm, 0.0) / 3.0 / volume
        if bulk > 0.0:
            swing = float(np.sqrt(bulk * _response(joints, place, turn, mass, mine)))
            if swing * h > FASTEST:
                bulk *= (FASTEST / (swing * h)) ** 2
                swing = FASTEST / h
            time = min(soft.ratio / (np.pi * soft.stretch), 0.5 / swing)
            found |= {j.id: Swelling(k, bulk, time) for j in joints}
    return found


def _response(joints: list[Joint], place: dict, turn: dict, mass: dict, mine: list[str]) -> float:  # type: ignore[type-arg]
    """How fast the volume grows under a pressure of 1 Pa on all faces, m^3/s^2."""
    push = {i: np.zeros(3) for i in mine}
    twist = {i: np.zeros(3) for i in mine}
    for j in joints:
        at = place[j.child] + rotation.rotate(turn[j.child], np.array(j.point))
        normal = rotation.rotate(rotation.multiply(turn[j.child], np.array(j.frame)), np.array([1.0, 0.0, 0.0]))
        for end, sign in ((j.child, 1.0), (j.parent, -1.0)):
            if end in mine:
                push[end] += sign * j.area * normal
                twist[end] += sign * j.area * np.cross(at - place[end], normal)
    total = 0.0
    for i in mine:
        size = float(np.sqrt(max(float(np.mean([j.area for j in joints])), 1e-12)))
        total += float(push[i] @ push[i]) / mass[i] + float(twist[i] @ twist[i]) / (mass[i] * size * size / 6.0)
    return total
