"""How far apart the two ends of links and mounts are shown: what is drawn, which is not where the simulation was while it is blended with keys or rides."""

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.physics.state import LOCKED, TIE
from artuline.core.run.build import Built


class Grips:
    """Where links and mounts take hold, frame by frame: F frames, and the world's joints from ``first`` on, which are those."""

    def __init__(self, built: Built, count: int):
        self.built, self.first = built, len(built.joints)
        m = len(built.world.joints) - self.first
        self.on = np.zeros((count, m), bool)
        self.anchors = np.zeros((count, m, 2, 3))

    def keep(self, row: int) -> None:
        """Note how they hold now."""
        mine = self.built.world.joints[self.first :]
        self.on[row] = mine["on"] & (mine["broken"] < 0)
        self.anchors[row, :, 0], self.anchors[row, :, 1] = mine["anchor_c"], mine["anchor_p"]

    def gaps(self, count: int, poses: dict[str, Pose], roots: dict[str, Array], live: NDArray[np.bool_]) -> Array:
        """How far apart their ends are shown in the first frames (count, m), m; 0 where they do not hold, or give way by what they are; ``live`` (count, n): what physics moves,
        since what two keyed ends do is the keys'.
        """
        found, mine = np.zeros((count, self.on.shape[1])), self.built.world.joints[self.first :]
        if not self.on.any():
            return found
        n = self.built.count
        p, q = np.zeros((count, n, 3)), np.tile(rotation.IDENTITY, (count, n, 1))
        for part in self.built.parts:
            f = part.figure
            p[:, part.rows], q[:, part.rows] = rigid(
                skeleton_of(f).global_matrices(poses[f.id], roots[f.id])[:, part.bones]
            )
        x, r = self.built.world.inner(p, q)
        for k, row in enumerate(mine):
            c, up = int(row["child"]), int(row["parent"])
            if row["spring_frequency"] > 0.0 or (row["kind"] == TIE and row["limit_frequency"] > 0.0):
                continue
            if row["kind"] != TIE and (row["mode"][:3] != LOCKED).any():
                continue
            a = x[:, c] + rotation.rotate(r[:, c], self.anchors[:count, k, 0])
            b = self.anchors[:count, k, 1]
            if up >= 0:
                b = x[:, up] + rotation.rotate(r[:, up], b)
            apart = np.linalg.norm(a - b, axis=1)
            if row["kind"] == TIE:
                apart = np.maximum(np.maximum(apart - row["high"][0], row["low"][0] - apart), 0.0)
            moved = live[:, c] | (live[:, up] if up >= 0 else False)
            found[:, k] = np.where(self.on[:count, k] & moved, apart, 0.0)
        return found
