"""Strands that are held at two places, and how far these may be apart."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.run.build import Built


@dataclass(frozen=True, eq=False)
class Leash:
    """A strand between two places that it is held at: the figures and bodies (rows) that hold it, where on these (in their principal axes), and its length between, m."""

    figures: tuple[str, str]
    ends: tuple[int, int]
    points: tuple[Array, Array]
    length: float


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
            found.append(Leash((ra.mount.figure, rb.mount.figure), (a, b), (points[0], points[1]), s1 - s0))
    return tuple(found)
