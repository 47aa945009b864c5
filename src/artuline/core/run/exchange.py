"""One world taken for another while it goes on: bodies keep their places and velocities, or have those of their mirror images."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_banded

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.run.build import Built, Ride
from artuline.core.setup.reflected import turned

ROUNDS = 60  # in which a strand finds back to its length
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
                _rehang(
                    old, [r for r in old.rides if old.parts[r.figure] is part and r.held], part.rows, p, q, v, mirror
                )
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


def as_long(places: Array, length: Array, fixed: NDArray[np.bool_]) -> Array:
    """Ends of parts (N + 1, 3), some of them ``fixed`` (N + 1,), moved as little as makes every part as long (N,) as it is, by Newton's method with the
    least change; as near to it as their way allows.
    """
    weight = np.where(fixed, 0.0, 1.0)
    for _ in range(ROUNDS):
        steps = np.diff(places, axis=0)
        size = np.linalg.norm(steps, axis=1)
        off = size - length
        if np.abs(off).max() < 1e-6 * length.mean():
            break
        unit = steps / np.maximum(size, 1e-12)[:, None]
        # how much each length answers to a pull along each part: of its own two ends, and of those that it shares
        band = np.zeros((3, len(off)))
        band[1] = weight[:-1] + weight[1:] + 1e-6
        band[0, 1:] = band[2, :-1] = -weight[1:-1] * (unit[1:] * unit[:-1]).sum(axis=1)
        pull = np.clip(solve_banded((1, 1), band, off), -length, length)[:, None] * unit
        places = places.copy()
        places[:-1] += weight[:-1, None] * pull
        places[1:] -= weight[1:, None] * pull
    return places


def _rehang(
    old: Built, rides: list[Ride], rows: NDArray[np.int64], p: Array, q: Array, v: Array, mirror: Mirror
) -> None:
    """Bring a strand that goes not into the mirror to where those have gone that hold it: its held ends over, what is between evenly; in place."""
    step = np.linalg.norm(np.diff(p[rows], axis=0), axis=1)
    last = p[rows[-1]] + rotation.rotate(q[rows[-1]], np.array([step[-1], 0.0, 0.0]))
    before = np.concatenate([p[rows], last[None]])
    length = np.append(step, step[-1])
    shift, speed = {}, {}
    for r in rides:
        k = int(np.flatnonzero(rows == r.part)[0])
        end = min(k + round(r.mount.point[0] / length[k]), len(rows))
        gone = r.mount.figure in mirror.figures
        shift[end] = mirror.places(before[end]) - before[end] if gone else np.zeros(3)
        speed[end] = mirror.ways(v[r.part]) - v[r.part] if gone else np.zeros(3)
    if not any(np.any(m) for m in shift.values()):
        return
    if len(shift) == 1:
        # its free end stays where it lies
        free = 0 if next(iter(shift)) > len(rows) // 2 else len(rows)
        shift[free] = speed[free] = np.zeros(3)
    at = sorted(shift)
    ends = np.arange(len(before))
    moved = before + np.stack([np.interp(ends, at, [shift[k][c] for k in at]) for c in range(3)], axis=1)
    v[rows] += np.stack([np.interp(ends[:-1] + 0.5, at, [speed[k][c] for k in at]) for c in range(3)], axis=1)
    moved = as_long(moved, length, np.isin(ends, at))
    for k, row in enumerate(rows):
        turn = rotation.align(before[k + 1] - before[k], moved[k + 1] - moved[k])
        q[row] = rotation.normalize(rotation.multiply(turn, q[row]))
    p[rows] = moved[:-1]
