"""The live tryout: let go and watch, on the spot, nothing recorded."""

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.skeleton import Pose, skeleton_of
from artuline.core.run.build import require_bodies, tone_frequency
from artuline.core.run.forces import gravity_at, wind_at
from artuline.core.run.live import LiveWorld
from artuline.core.run.shown import shown_pose
from artuline.core.run.stepper import Standing, Stepper, start_keyed
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene

RATE = 48.0
STEP = 1.0 / RATE
SUBSTEPS = 5


class Tryout(LiveWorld):
    """All bodies of a scene let go at a frame, with the velocity of their keys. Obstacles that nothing hands over stand still."""

    def __init__(self, scene: Scene, assets: AssetStore, frame: float):
        """Raises ArtulineError if no figure has bodies."""
        require_bodies(scene)
        self.step_time = STEP
        super().__init__(scene, assets, frame)
        if scene.ground is None:
            self.set_ground(False)
        world = self.built.world
        h = 1.0 / (scene.rate * scene.substeps)
        # nothing is known of what was before the scene
        row = 1 if frame - 1.0 / scene.substeps >= scene.start else 0
        p, q = self.built.keyed(frame + (np.arange(3) - row) / scene.substeps)
        x, r = world.inner(p, rotation.make_continuous(q))
        start_keyed(world.bodies, np.ones(len(world.bodies), bool), x, r, h, row)
        self._free = self.built.loose
        self._stepper = Stepper(self.built)
        self._stepper.free = self._free.copy()
        # let go with the velocity of their keys, and with no other
        self._stepper.started = set(range(len(self.built.parts)))
        self.built.set_links(frame)
        world.bodies["v"][~self._free] = 0.0
        world.bodies["w"][~self._free] = 0.0
        self._x, self._r = x[row], r[row]
        self._keyed = [keyed_pose(scene, assets, f, np.array([frame]), layers=False) for f in scene.figures]
        now = np.array([frame])
        self._gravity = gravity_at(scene, now)[0]
        world.gravity[:], world.wind[:] = self._gravity, wind_at(scene, now)[0]
        self._matrices = []
        for f, pose in zip(scene.figures, self._keyed):
            world_ = skeleton_of(f).global_matrices(pose.frame(0), root_at(scene, assets, f, now)[0])
            up = skeleton_of(f).parents
            inverse = np.linalg.inv(world_)
            # of a bone in its parent, for those that carry no body
            local = np.array([inverse[u] @ m if u >= 0 else m for u, m in zip(up, world_)])
            self._matrices.append((world_, local))
        self.tone = 0.0

    def free(self) -> NDArray[np.bool_]:
        """Which bodies are let go (n,)."""
        return self._free

    def hold(self, figure: int, bones: frozenset[str]) -> None:
        """Keep the bodies on these bones of a figure on their keys; all others are free."""
        part, b = self.built.parts[figure], self.built.world.bodies
        kept = part.on(bones)
        self._free[part.rows] = not part.figure.stays
        self._free[kept] = False
        self._x[kept], self._r[kept] = b["x"][kept], b["q"][kept]
        b["v"][~self._free] = 0.0
        b["w"][~self._free] = 0.0

    def handovers(self) -> list[Array]:
        """All of every figure is free."""
        return [np.ones(len(f.bones)) for f in self.scene.figures]

    def keyed_matrices(self) -> list[Array]:
        """World bone matrices (B, 4, 4) of every figure at the frame where the tryout began."""
        return [keyed for keyed, _ in self._matrices]

    def local_poses(self) -> list[Pose]:
        """The local pose (1, B) of every figure now."""
        p, q = self.built.world.poses()
        now = np.array([self.frame])
        shown = []
        for part, pose in zip(self.built.parts, self._keyed):
            rows = part.rows
            if len(rows):
                pose = shown_pose(
                    part.figure,
                    root_at(self.scene, self.built.assets, part.figure, now),
                    pose,
                    part.bones,
                    p[None, rows],
                    q[None, rows],
                    np.ones((1, len(rows))),
                )
            shown.append(pose)
        return shown

    def step(self) -> None:
        """One small step."""
        world, springs = self.built.world, self.built.springs
        drive = np.zeros(len(world.joints))
        drive[: len(springs)] = np.where(springs > 0.0, springs, float(tone_frequency(np.array(self.tone))))
        world.reset_report()
        course = Standing(self.built, self.frame, RATE, SUBSTEPS, self._x, self._r, self._free, drive)
        self._stepper.step(course, 0)
        self.time += STEP
        self.steps_done += 1

    def matrices(self) -> list[Array]:
        """World bone matrices (B, 4, 4) of every figure now."""
        p, q = self.built.world.poses()
        turned = rotation.to_matrix(q)
        shown = []
        for part, (keyed, local) in zip(self.built.parts, self._matrices):
            made = keyed.copy()
            body = dict(zip(part.bones.tolist(), part.rows.tolist()))
            for b, up in enumerate(skeleton_of(part.figure).parents):
                if b in body:
                    i = body[b]
                    made[b, :3, :3] = turned[i] * np.linalg.norm(keyed[b, :3, :3], axis=0)
                    made[b, :3, 3] = p[i]
                elif up >= 0:
                    made[b] = made[up] @ local[b]
            shown.append(made)
        return shown
