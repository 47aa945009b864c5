"""What a steered world is made of from step to step: what is limp, what leads it over one small step, and bones that bodies carry."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import Pose, skeleton_of
from artuline.core.run.build import Built, Part
from artuline.core.scene.model import Figure

ARRIVES = 0.8  # periods of the drive to the keys in the time that is left
FIRMEST = 20.0  # Hz


@dataclass
class Limp:
    """Bodies (rows) that were handed over: ``left`` seconds until they come back, None: once they lie still; ``ramp`` seconds on the way back."""

    rows: NDArray[np.int64]
    left: float | None
    ramp: float
    whole: int | None = None
    still: float = 0.0
    passed: float = 0.0
    back: float = -1.0

    @property
    def share(self) -> float:
        """How much they are handed over."""
        return 1.0 if self.back < 0.0 else max(1.0 - self.back / self.ramp, 0.0)

    @property
    def goal(self) -> float:
        """The frequency (Hz) of the drive to the keys on the way back: the nearer the end, the firmer, so that nothing is left to be jumped then."""
        return 0.0 if self.back < 0.0 else min(ARRIVES / max(self.ramp - self.back, 1e-9), FIRMEST)


@dataclass
class SmallStep:
    """What steers the world over one small step."""

    first: float
    rate: float
    k: int
    lead: int
    x: Array
    r: Array
    free: NDArray[np.bool_]
    goal: Array
    calm: Array
    drive: Array
    gravity: Array
    wind: Array
    pushes: bool
    left: Array | None = None
    leaps: NDArray[np.bool_] | None = None
    ends: NDArray[np.bool_] = field(init=False)

    def __post_init__(self) -> None:
        self.ends = self.free[-1:]


def carried(figure: Figure, keyed: Array, body: dict[int, int], p: Array, turned: Array) -> Array:
    """Keyed matrices (B, 4, 4) with those bones that have a free body (bone -> row) where it is, and those below carried along."""
    made, moved = keyed.copy(), set[int]()
    for b, up in enumerate(skeleton_of(figure).parents):
        if b in body:
            i = body[b]
            made[b, :3, :3] = turned[i] * np.linalg.norm(keyed[b, :3, :3], axis=0)
            made[b, :3, 3] = p[i]
            moved.add(b)
        elif up in moved:
            made[b] = made[up] @ np.linalg.inv(keyed[up]) @ keyed[b]
            moved.add(b)
    return made


def bone_shares(part: Part, share: Array) -> Array:
    """How much each bone of a figure is shown as physics moves it (B,), with its bodies' shares (n,) of all: as the body that carries it."""
    made, row = np.zeros(len(part.figure.bones)), dict(zip(part.bones.tolist(), part.rows.tolist()))
    for b, up in enumerate(skeleton_of(part.figure).parents):
        made[b] = share[row[b]] if b in row else made[up] if up >= 0 else 0.0
    return made


def live_matrices(
    built: Built, share: Array, keyed: Sequence[Array], shown: Callable[[int], tuple[Pose, Array]]
) -> list[Array]:
    """World bone matrices (B, 4, 4) of every figure: on its keys, as its bodies carry it, or, while these come and go, as it is ``shown``: by its
    index, the local pose (1, B) and the root (1, 4, 4).
    """
    p, q = built.world.poses()
    turned, found = rotation.to_matrix(q), []
    for k, part in enumerate(built.parts):
        mine = share[part.rows]
        if not mine.any():
            found.append(keyed[k])
        elif ((mine > 0.0) & (mine < 1.0)).any() or (built.shown[part.rows] < 1.0).any():
            pose, root = shown(k)
            found.append(skeleton_of(part.figure).global_matrices(pose, root)[0])
        else:
            rows = dict(zip(part.bones[mine > 0.0].tolist(), part.rows[mine > 0.0].tolist()))
            found.append(carried(part.figure, keyed[k], rows, p, turned))
    return found
