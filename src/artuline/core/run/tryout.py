"""The live tryout: let go and watch, on the spot, nothing recorded."""

import math
import time

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.skeleton import Pose, skeleton_of
from artuline.core.physics.state import PLANE
from artuline.core.run.build import build, require_bodies, tone_frequency
from artuline.core.run.forces import add_velocity, gravity_at, wind_at
from artuline.core.run.shown import shown_pose
from artuline.core.run.stepper import Standing, Stepper, start_keyed
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Ground, Scene

RATE = 48.0
STEP = 1.0 / RATE
SUBSTEPS = 5
TUG_FREQUENCY = 2.5


class Tryout:
    """All bodies of a scene let go at a frame, with the velocity of their keys. Obstacles that nothing hands over stand still."""

    def __init__(self, scene: Scene, assets: AssetStore, frame: float):
        """Raises ArtulineError if no figure has bodies."""
        require_bodies(scene)
        self.scene, self.frame = scene, frame
        # a ground to be switched on, where the scene has none
        self.built = build(scene if scene.ground is not None else edit.scene(scene, ground=Ground()), assets)
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
        self._left = 0.0
        self.tone = 0.0
        self.time = 0.0

    def set_gravity(self, on: bool, tilt: float = 0.0, heading: float = 0.0) -> None:
        """Gravity of the scene, or none; tilted from straight down (radians) towards a heading about Y."""
        strength = float(np.linalg.norm(self._gravity))
        if strength == 0.0:
            strength = 9.81
        down = np.array([np.sin(tilt) * np.sin(heading), -np.cos(tilt), np.sin(tilt) * np.cos(heading)])
        self.built.world.gravity[:] = 0.0 if not on else (self._gravity if tilt == 0.0 else strength * down)

    def set_ground(self, on: bool) -> None:
        """The scene's ground (or one at the lowest obstacle or at 0 if it has none), or no ground."""
        world = self.built.world
        world.set_silent(world.shapes["kind"] == PLANE, not on)

    def hold(self, figure: int, bones: frozenset[str]) -> None:
        """Keep the bodies on these bones of a figure on their keys; all others are free."""
        part, b = self.built.parts[figure], self.built.world.bodies
        kept = part.on(bones)
        self._free[part.rows] = not part.figure.stays
        self._free[kept] = False
        self._x[kept], self._r[kept] = b["x"][kept], b["q"][kept]
        b["v"][~self._free] = 0.0
        b["w"][~self._free] = 0.0

    def _chosen(self, figure: int | None, bones: frozenset[str]) -> np.ndarray:
        """Free bodies on bones of a figure; all free bodies for none."""
        if not bones:
            return np.flatnonzero(self._free)
        mine = self.built.parts[figure].on(bones) if figure is not None else np.zeros(0, np.int64)
        return mine[self._free[mine]]

    def push(self, figure: int | None, bones: frozenset[str], velocity: Array) -> None:
        """Add a velocity (3,), m/s, to the bodies on these bones, or to all."""
        which = self._chosen(figure, bones)
        if len(which):
            add_velocity(self.built.world.bodies, which, np.asarray(velocity, float), np.zeros(3))

    def spin(self, figure: int | None, bones: frozenset[str], rate: float) -> None:
        """Add a spin about the upright axis through their centre of mass, rad/s, to the bodies on these bones, or to all."""
        which = self._chosen(figure, bones)
        if len(which):
            add_velocity(self.built.world.bodies, which, np.zeros(3), np.array([0.0, rate, 0.0]))

    def keyed_matrices(self) -> list[Array]:
        """World bone matrices (B, 4, 4) of every figure at the frame where the tryout began."""
        return [keyed for keyed, _ in self._matrices]

    def touches(self) -> Array:
        """Places where something touches now (N, 3)."""
        b = self.built.world.bodies
        return np.array(b["touch"][b["strongest"] > 0.0])

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

    def advance(self, seconds: float, most: float = math.inf) -> None:
        """Advance by a time, in whole small steps; the rest is kept for the next call.

        ``most``: seconds of work after which what is left is dropped: what is too much for this machine runs slower,
        and the caller is not kept.
        """
        self._left += min(seconds, 0.25)
        end = time.perf_counter() + most
        while self._left >= STEP:
            self._left -= STEP
            self.step()
            if time.perf_counter() > end:
                self._left = 0.0

    def step(self) -> None:
        """One small step."""
        world, springs = self.built.world, self.built.springs
        drive = np.zeros(len(world.joints))
        drive[: len(springs)] = np.where(springs > 0.0, springs, float(tone_frequency(np.array(self.tone))))
        world.reset_report()
        course = Standing(self.built, self.frame, RATE, SUBSTEPS, self._x, self._r, self._free, drive)
        self._stepper.step(course, 0)
        self.time += STEP

    def tug(self, figure: int, bone: str, place: Array) -> bool:
        """Take hold of a body at a place in the world (3,). False if the bone carries no body."""
        found = self.built.parts[figure].on({bone})
        if not len(found):
            return False
        b, t = self.built.world.bodies[found[0]], self.built.world.tugs[0]
        t["body"] = found[0]
        t["point"] = rotation.rotate(rotation.conjugate(b["q"]), place - b["x"])
        t["goal"] = place
        t["frequency"] = TUG_FREQUENCY
        t["mass"] = 0.6 * float(self.built.world.bodies["mass"][self._free].sum())
        return True

    def move_tug(self, place: Array) -> None:
        """Where the held point is pulled to."""
        self.built.world.tugs[0]["goal"] = place

    def let_go(self) -> None:
        """End the tug."""
        self.built.world.tugs[0]["body"] = -1

    def tug_line(self) -> Array | None:
        """From the held point to where it is pulled (2, 3); None without a tug."""
        t = self.built.world.tugs[0]
        if t["body"] < 0:
            return None
        b = self.built.world.bodies[t["body"]]
        return np.stack([b["x"] + rotation.rotate(b["q"], t["point"]), t["goal"]])

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
