"""Strands that are held at two places, and how far these may be apart."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.run.build import Built
from artuline.core.run.pilot import Pilot
from artuline.core.scene.model import Scene

NEAR = 0.01  # m within which a strand lies on something
TORN = 0.005  # m by which it is longer than it is
# shares of its length at which a line between two that hold it on their keys begins to hold them back, and does
TAUT = (0.8, 0.97)
MOST_BACK = 0.06  # m that such a line draws one back in a step because it is torn
STEEPEST = 0.25  # level share of its direction that it is drawn by at least


@dataclass(frozen=True, eq=False)
class Leash:
    """A strand between two places that it is held at: the figures and bodies (rows) that hold it, where on these (in their principal axes), its length
    between, m, and the bodies (rows) that it is made of from the one to the other.
    """

    figures: tuple[str, str]
    ends: tuple[int, int]
    points: tuple[Array, Array]
    length: float
    between: NDArray[np.int64]

    def held_at(self, x: Array, r: Array) -> tuple[Array, Array]:
        """The places (3,) of its ends, with bodies at x (n, 3), r (n, 4)."""
        a, b = (x[i] + rotation.rotate(r[i], p) for i, p in zip(self.ends, self.points))
        return a, b

    def taut(self, built: Built, keyed: NDArray[np.bool_]) -> tuple[float, float, Array, Array]:
        """How long it has to be at least, m: from end to end by what on its keys (n,) it lies on, such as a post that it is wound about; how much longer
        than it is it was torn; and the directions (3,) in which it draws its two ends.
        """
        bodies, place = built.world.bodies, {int(r): k for k, r in enumerate(self.between)}
        a, b = self.held_at(bodies["x"], bodies["q"])
        mine = np.zeros(len(bodies), bool)
        mine[self.between] = True
        # the part of the way that each body which it touches is at
        on: dict[int, int] = {}
        row = built.world.shapes["body"]
        for c in built.world.contacts_now(NEAR, free=mine):
            for one, other in (row[c["shapes"]], row[c["shapes"]][::-1]):
                if int(one) in place and other >= 0 and keyed[other]:
                    on[place[int(one)]] = int(other)
        order = sorted(on)
        way = np.concatenate([a[None], bodies["x"][self.between[order]], b[None]])
        holder = [self.ends[0], *(on[k] for k in order), self.ends[1]]
        figure = [next((p.figure.id for p in built.parts if h in p.rows), "") for h in holder]
        length = float(np.linalg.norm(np.diff(way, axis=0), axis=1).sum())
        along = np.concatenate([a[None], bodies["x"][self.between], b[None]])
        torn = float(np.linalg.norm(np.diff(along, axis=0), axis=1).sum())
        leaves = []
        for points, whose in ((way, figure), (way[::-1], figure[::-1])):
            k = next((k for k, w in enumerate(whose) if w != whose[0]), len(whose) - 1)
            out = points[k] - points[k - 1]
            leaves.append(out / max(float(np.linalg.norm(out)), 1e-9))
        return length, torn - self.length if torn > self.length + TORN else 0.0, leaves[0], leaves[1]


def between_two(scene: Scene) -> frozenset[str]:
    """The figures that are strands, and that two others hold or more."""
    return frozenset(
        f.id
        for f in scene.figures
        if f.made is not None and not f.made.closed and len({m.figure for m in f.mounts}) > 1
    )


def leashes(built: Built) -> tuple[Leash, ...]:
    """The strands of a world that are held at two places or more."""
    found = []
    for k, part in enumerate(built.parts):
        rides = [r for r in built.rides if r.figure == k and r.held]
        if part.figure.made is None or part.figure.made.closed or len(rides) < 2:
            continue
        rest = rest_matrices(part.figure)[part.bones, :3, 3]
        step = float(np.linalg.norm(np.diff(rest, axis=0), axis=1).mean())
        at = sorted(
            (int(np.flatnonzero(part.rows == r.part)[0]) * step + r.mount.point[0], r.holder, i, r)
            for i, r in enumerate(rides)
        )
        for (s0, a, _, ra), (s1, b, _, rb) in pairwise(at):
            points = []
            for ride in (ra, rb):
                held = transforms.compose(np.array(ride.mount.position), np.array(ride.mount.rotation), np.ones(3))
                place = held[:3, 3] + held[:3, :3] @ np.array(ride.mount.point)
                # from the frame of the bone that it rides on to that of the body that carries this
                f = built.scene.figure(ride.mount.figure)
                bones, body = rest_matrices(f), f.carrier(ride.mount.bone)
                assert body is not None
                (p, q), (p0, q0) = rigid(bones[f.bone_index[ride.mount.bone]]), rigid(bones[f.bone_index[body.bone]])
                outer = rotation.rotate(rotation.conjugate(q0), p + rotation.rotate(q, place) - p0)
                points.append(
                    rotation.rotate(
                        rotation.conjugate(built.world.local_q[ride.holder]), outer - built.world.local_p[ride.holder]
                    )
                )
            first, last = (int(np.flatnonzero(part.rows == ride.part)[0]) for ride in (ra, rb))
            found.append(
                Leash(
                    (ra.mount.figure, rb.mount.figure), (a, b), (points[0], points[1]), s1 - s0,
                    part.rows[first : last + 1],
                )
            )  # fmt: skip
    return tuple(found)


def hold_back(
    lines: Sequence[Leash], pilots: Mapping[str, Pilot], built: Built, share: Array, x: Array, r: Array
) -> bool:
    """Let no one who is steered go further than the lines that he holds, with bodies handed over by ``share`` (n,) and their keys at x (n, 3), r (n, 4) next;
    whether someone was drawn to another place.
    """
    found, bodies = False, built.world.bodies
    for pilot in pilots.values():
        pilot.drawn = np.zeros(3), 0.0
    for line in lines:
        if share[line.ends[0]] > 0.0 or share[line.ends[1]] > 0.0:
            continue
        a, b = line.held_at(x, r)
        # where its ends are to be next, besides what it lies on where everything is
        need, torn, *leaves = line.taut(built, share <= 0.0)
        a0, b0 = line.held_at(bodies["x"], bodies["q"])
        need += float((a0 - a) @ leaves[0]) + float((b0 - b) @ leaves[1])
        taut = 1.0 if torn else (need / line.length - TAUT[0]) / (TAUT[1] - TAUT[0])
        if taut <= 0.0:
            continue
        more = max(need - TAUT[1] * line.length, min(torn, MOST_BACK), 0.0)
        movers = [(leaves[k], pilots[f]) for k, f in enumerate(line.figures) if f in pilots]
        for way, pilot in movers:
            across = way * [1.0, 0.0, 1.0]
            level = max(float(np.linalg.norm(across)), STEEPEST)
            pilot.drawn = across / level, min(taut, 1.0)
            if more > 0.0:
                pilot.pulled(more / level / len(movers))
                found = True
    return found
