"""What bodies do on their keys from step to step, at every substep, without a jump in their velocity."""

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array


class KeyPath:
    """The keyed poses of bodies, x (n, 3) and r (n, 4), at the last steps, and how far they move and turn in one then (n, 3), (n, 3); ``substeps`` of a step."""

    def __init__(self, x: Array, r: Array, substeps: int):
        self.substeps = substeps
        self._past = [(x, r)] * 2
        self.speed = np.zeros_like(x), np.zeros_like(x)
        self._rows = np.repeat(x[None], 2, 0), np.repeat(r[None], 2, 0)

    def resume(self, rows: NDArray[np.int64], x: Array, r: Array, way: Array, turn: Array) -> None:
        """Some bodies (rows) go on from poses x (k, 3), r (k, 4), as if they had moved and turned so far in the last step (k, 3), (k, 3)."""
        for part, k in ((1.0, 0), (0.0, 1)):
            px, pr = (a.copy() for a in self._past[k])
            px[rows] = x - part * way
            pr[rows] = rotation.multiply(rotation.from_rotation_vector(-part * turn), r)
            self._past[k] = px, pr
        for part, px, pr in zip((2.0, 1.0), *self._rows):
            px[rows] = x - part / self.substeps * way
            pr[rows] = rotation.multiply(rotation.from_rotation_vector(-part / self.substeps * turn), r)
        for speed, new in zip(self.speed, (way, turn)):
            speed[rows] = new

    def onward(self, x: Array, r: Array) -> tuple[Array, Array]:
        """A step further, to x (n, 3), r (n, 4): poses (k + 3, n, 3), (k + 3, n, 4) at the two substeps before its beginning, there, and at every one of its k."""
        k = self.substeps
        (x0, r0), (x_, r_) = self._past[-1], self._past[-2]
        turn = rotation.to_rotation_vector(rotation.multiply(r, rotation.conjugate(r0)))
        before = rotation.to_rotation_vector(rotation.multiply(r_, rotation.conjugate(r0)))
        # velocities at the end that are exact for an even acceleration, times the step
        ends = 1.5 * x - 2.0 * x0 + 0.5 * x_, 1.5 * turn + 0.5 * before
        u = (np.arange(1, k + 1) / k)[:, None, None]
        a, b, c = u * u * (3.0 - 2.0 * u), u * (1.0 - u) ** 2, u * u * (u - 1.0)
        places = x0 + a * (x - x0) + b * self.speed[0] + c * ends[0]
        turns = rotation.multiply(rotation.from_rotation_vector(a * turn + b * self.speed[1] + c * ends[1]), r0[None])
        whole = np.concatenate([self._rows[0], x0[None], places]), np.concatenate([self._rows[1], r0[None], turns])
        self._past, self.speed = [self._past[-1], (x, r)], ends
        self._rows = whole[0][-3:-1].copy(), whole[1][-3:-1].copy()
        return whole
