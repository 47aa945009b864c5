"""One world taken for another while it goes on: bodies keep their places and velocities, or have those of their mirror images."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.run.build import Built, Ride
from artuline.core.setup.reflected import turned

ROUNDS = 400  # in which a strand finds back to its length
OF_BODIES = ("x", "q", "v", "w")


@dataclass(frozen=True, eq=False)
class Mirror:
    """A mirror in the world: a reflection (4, 4), what it does to the frames of bodies (across an axis of their own), and the figures that go through it."""

    across: Array
    axis: int
    figures: frozenset[str]

    def places(self, p: Array) -> Array:
        """Places (..., 3) in the mirror."""
        return np.asarray(p @ self.across[:3, :3].T + self.across[:3, 3])

    def ways(self, v: Array) -> Array:
        """Directions and velocities (..., 3)."""
        return np.asarray(v @ self.across[:3, :3].T)

    def spins(self, w: Array) -> Array:
        """Spins (..., 3)."""
        return -self.ways(w)

    def turns(self, q: Array) -> Array:
        """Rotations (..., 4) of the frames of bodies: reflected on both sides."""
        signs = np.diag([-1.0, 1.0, 1.0] if self.axis == 0 else [1.0, 1.0, -1.0])
        outer = self.across[:3, :3] @ signs
        return rotation.multiply(rotation.from_matrix(outer), turned(self.axis, q))


def rows_between(old: Built, new: Built) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The rows of the bodies that both have: in the old one and in the new one."""
    place = {ref: i for i, ref in enumerate(old.body_refs)}
    pairs = [(place[ref], i) for i, ref in enumerate(new.body_refs) if ref in place]
    found = np.array(pairs, np.int64).reshape(-1, 2)
    return found[:, 0], found[:, 1]


def carry(old: Built, new: Built, mirror: Mirror | None) -> None:
    """Put the bodies of a new world where those of an old one are, and as fast, or where a mirror has them."""
    a, b = rows_between(old, new)
    p, q = old.world.poses()
    v, w = old.world.bodies["v"].copy(), old.world.bodies["w"].copy()
    if mirror is not None:
        mine = np.zeros(old.count, bool)
        for part in old.parts:
            mine[part.rows] = part.figure.id in mirror.figures
        p[mine], q[mine], v[mine], w[mine] = (
            mirror.places(p[mine]),
            mirror.turns(q[mine]),
            mirror.ways(v[mine]),
            mirror.spins(w[mine]),
        )
        for part in old.parts:
            if part.figure.id not in mirror.figures and part.figure.made is not None:
                _rehang(old, [r for r in old.rides if old.parts[r.figure] is part and r.held], part.rows, p, q, mirror)
    places, turns = new.world.poses()
    places[b], turns[b] = p[a], q[a]
    bodies = new.world.bodies
    bodies["x"], bodies["q"] = new.world.inner(places, turns)
    bodies["v"][b], bodies["w"][b] = v[a], w[a]
    bodies["last"] = 0.0
    old_tug, new_tug = old.world.tugs[0], new.world.tugs[0]
    place = dict(zip(a.tolist(), b.tolist()))
    if int(old_tug["body"]) in place and mirror is None:
        new_tug["body"] = place[int(old_tug["body"])]
        for name in ("point", "goal", "frequency", "mass"):
            new_tug[name] = old_tug[name]


def _rehang(old: Built, rides: list[Ride], rows: NDArray[np.int64], p: Array, q: Array, mirror: Mirror) -> None:
    """Bring a strand that goes not into the mirror to where those have gone that hold it: its held ends over, what is between evenly; in place."""
    held = {}
    for r in rides:
        k = int(np.flatnonzero(rows == r.part)[0])
        at = p[r.part] + rotation.rotate(q[r.part], np.array(r.mount.point))
        held[k] = mirror.places(at) - at if r.mount.figure in mirror.figures else np.zeros(3)
    if not any(np.any(m) for m in held.values()):
        return
    mine = p[rows]
    length = np.linalg.norm(np.diff(mine, axis=0), axis=1)
    if len(held) == 1:
        # its free end stays where it lies
        held[0 if next(iter(held)) > len(rows) // 2 else len(rows) - 1] = np.zeros(3)
    at = sorted(held)
    shift = np.stack([np.interp(np.arange(len(rows)), at, [held[k][c] for k in at]) for c in range(3)], axis=1)
    moved, fixed = mine + shift, np.zeros(len(rows), bool)
    fixed[at] = True
    weight = np.where(fixed, 0.0, 1.0)
    for _ in range(ROUNDS):
        way = np.diff(moved, axis=0)
        size = np.linalg.norm(way, axis=1)
        share = weight[:-1] + weight[1:]
        off = ((size - length) / np.maximum(size, 1e-12) / np.maximum(share, 1.0))[:, None] * way
        moved[:-1] += 0.5 * weight[:-1, None] * off
        moved[1:] -= 0.5 * weight[1:, None] * off
        if np.abs(size - length).max() < 1e-4 * length.mean():
            break
    before, after = np.diff(mine, axis=0), np.diff(moved, axis=0)
    for k, row in enumerate(rows):
        s = min(k, len(before) - 1)
        q[row] = rotation.normalize(rotation.multiply(rotation.align(before[s], after[s]), q[row]))
    p[rows] = moved
