"""Volume and inertia of the primitives, closed form. The long axis of a capsule is x. SI units."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array


def sphere(radius: float) -> tuple[float, Array]:
    """Volume (m^3) and inertia per unit mass (3,) (m^2) of a solid sphere."""
    return 4.0 / 3.0 * np.pi * radius**3, np.full(3, 0.4 * radius**2)


def box(half: Array) -> tuple[float, Array]:
    """Volume and inertia per unit mass of a solid box with half extents (3,)."""
    square = np.asarray(half, float) ** 2
    return float(8.0 * np.prod(half)), (np.sum(square) - square) / 3.0


def capsule(radius: float, half_length: float) -> tuple[float, Array]:
    """Volume and inertia per unit mass of a solid capsule along x; ``half_length`` is without the caps."""
    cylinder = np.pi * radius**2 * 2.0 * half_length
    caps = 4.0 / 3.0 * np.pi * radius**3
    volume = cylinder + caps
    along = (cylinder * 0.5 + caps * 0.4) * radius**2
    across = cylinder * (radius**2 / 4.0 + half_length**2 / 3.0) + caps * (
        0.4 * radius**2 + half_length**2 + 0.75 * radius * half_length
    )
    return float(volume), np.array([along, across, across]) / volume


def combine(masses: Array, centres: Array, rotations: Array, inertias: Array) -> tuple[float, Array, Array]:
    """Join parts into one rigid body by the parallel axis theorem.

    masses (N,), centres (N, 3), rotations (N, 4), inertias (N, 3) principal, each in the part's own frame.
    Returns the mass, the centre of mass (3,) and the inertia tensor (3, 3) about it.
    """
    mass = float(np.sum(masses))
    centre = np.einsum("n,ni->i", masses, centres) / mass
    tensor = np.zeros((3, 3))
    for m, c, q, i in zip(masses, centres, rotations, inertias):
        r = rotation.to_matrix(q)
        d = c - centre
        tensor += r @ np.diag(i) @ r.T + m * (d @ d * np.eye(3) - np.outer(d, d))
    return mass, centre, tensor
