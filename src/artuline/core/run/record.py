"""Recording a take: the scene's range, frame by frame, with progress and cancel."""

import zlib
from collections.abc import Callable

import numpy as np

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose
from artuline.core.run.build import (
    Built,
    build,
    calm_rate,
    require_bodies,
    return_frequency,
    steady_frequency,
    tone_frequency,
)
from artuline.core.run.forces import add_velocity, gravity_at, set_pushes, wind_at
from artuline.core.run.shown import shown_pose
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene, TakeRef

CHUNK = 16  # frames whose keyed motion is sampled together

Progress = Callable[[int, int], None]


def run(
    scene: Scene,
    assets: AssetStore,
    progress: Progress = lambda done, total: None,
    cancelled: Callable[[], bool] = lambda: False,
    *,
    partial: bool = False,
) -> Take:
    """Simulate the scene's range. ``progress(frames done, frames in all)`` is called after every frame.

    Raises ArtulineError if nothing can be simulated, CancelledError on request; with ``partial``, what is there after
    two frames or more is returned instead.
    """
    require_bodies(scene)
    if scene.end <= scene.start:
        raise ArtulineError(
            f"the range from frame {scene.start} to {scene.end} is empty",
            remedy="Set the end behind the start.",
        )
    built = build(scene, assets)
    frames = np.arange(scene.start, scene.end + 1)
    n, m = len(built.world.bodies), len(built.world.joints)
    count = len(frames)
    position, turn = np.zeros((count, n, 3)), np.zeros((count, n, 4))
    contact, penetration, touch = np.zeros((count, n)), np.zeros((count, n)), np.zeros((count, n, 3))
    separation, excess, used = np.zeros((count, m)), np.zeros((count, m)), np.zeros((count, m))
    kinetic = np.zeros((count, n))
    handover, _ = built.lanes(frames.astype(float))
    was_free = np.zeros(n, bool)
    started: set[int] = set()
    if scene.warm_up > 0:
        still = _Chunk(built, scene.start, 1, held=True)
        for _ in range(scene.warm_up):
            if cancelled():
                raise CancelledError
            was_free = still.step(0, was_free, started)
        built.world.reset_report()
    done = 0
    for first in range(0, count - 1, CHUNK):
        if done and cancelled():
            break
        last = min(first + CHUNK, count - 1)
        chunk = _Chunk(built, frames[first], last - first)
        if first == 0:
            position[0], turn[0] = chunk.p[0], chunk.q[0]
            if was_free.any():
                p, q = built.world.poses()
                position[0, was_free], turn[0, was_free] = p[was_free], q[was_free]
        for k in range(last - first):
            if cancelled():
                if not (partial and done >= 2):
                    raise CancelledError
                break
            was_free = chunk.step(k, was_free, started)
            i = done = first + k + 1
            position[i], turn[i] = built.world.poses()
            b, j = built.world.bodies, built.world.joints
            contact[i], penetration[i], touch[i] = b["contact"], b["penetration"], b["touch"]
            separation[i], excess[i], used[i] = j["separation"], j["excess"], j["used"]
            kinetic[i] = built.world.kinetic()
            built.world.reset_report()
            progress(i, count - 1)
    if done < count - 1:
        frames = frames[: done + 1]
        position, turn, touch, handover = (a[: done + 1] for a in (position, turn, touch, handover))
        contact, penetration, kinetic = (a[: done + 1] for a in (contact, penetration, kinetic))
        separation, excess, used = (a[: done + 1] for a in (separation, excess, used))
    poses = {}
    for k, f in enumerate(scene.figures):
        mine = [i for i, s in enumerate(built.slots) if s.figure == k]
        keyed = keyed_pose(scene, assets, f, frames.astype(float), layers=False)
        bones = np.array([built.slots[i].bone for i in mine], int)
        poses[f.id] = shown_pose(f, keyed, bones, position[:, mine], turn[:, mine], handover[:, mine])
    if not (np.isfinite(position).all() and np.isfinite(turn).all()):
        raise ArtulineError("the simulation lost its numbers", remedy="Report this scene: it should not happen.")
    return Take(
        frames=frames,
        position=position,
        rotation=turn,
        handover=handover,
        contact=contact,
        touch=touch,
        penetration=penetration,
        separation=separation,
        excess=excess,
        used=used,
        kinetic=kinetic,
        poses=poses,
        names=tuple(built.names),
        joint_names=tuple(built.joint_names),
        substeps=(int(built.world.counters[1]), int(built.world.counters[2])),
    )


class _Chunk:
    """Keyed motion and lanes of some frames at every substep; ``held``: of the first frame only, standing still."""

    def __init__(self, built: Built, first: int, frames: int, held: bool = False):
        scene = built.scene
        self.built, self.k = built, scene.substeps
        times = first + np.arange(frames * self.k + 1) / self.k * (0.0 if held else 1.0)
        self.p, self.q = built.keyed(times)
        self.q = rotation.make_continuous(self.q)
        self.x, self.r = built.world.inner(self.p, self.q)
        middle = times[:-1] + (0.0 if held else 0.5 / self.k)
        self.handover, self.tone = built.lanes(middle)
        self.free = self.handover > 0.0
        steadiness, calm = built.firmness(middle)
        mass, carried = built.world.bodies["mass"], built.carried()
        self.goal = np.maximum(return_frequency(self.handover), steady_frequency(steadiness, mass, carried))
        self.calm = calm_rate(calm)
        own = np.array([j.tone for _, j in built.joints])
        child = built.world.joints["child"][: len(own)]
        self.drive = np.zeros((len(middle), len(built.world.joints)))
        self.drive[:, : len(own)] = tone_frequency(self.tone[:, child] * own)
        self.first = first
        # a substep begins with the kick of the time around its start
        self.gravity, self.wind = gravity_at(scene, times[:-1]), wind_at(scene, times[:-1])

    def step(self, frame: int, was_free: np.ndarray, started: set[int]) -> np.ndarray:
        """Advance one frame; returns which bodies are free at its end. ``started``: figures that have been free."""
        a, b = frame * self.k, (frame + 1) * self.k
        world, h = self.built.world, 1.0 / (self.built.scene.rate * self.k)
        start_keyed(world.bodies, ~was_free, self.x[a : a + 2], self.r[a : a + 2], h)
        self.built.set_links(self.first + frame)
        set_pushes(world, self.built.pushes, self.first + frame, self.built.scene.rate, self.k)
        self._start(self.free[a], started)
        if not self.free[a:b].any():
            world.bodies["x"], world.bodies["q"] = self.x[b], self.r[b]
            world.bodies["free"] = False
            return self.free[b - 1]
        world.step_keyed(
            1.0 / self.built.scene.rate,
            self.x[a : b + 1],
            self.r[a : b + 1],
            self.free[a:b],
            self.goal[a:b],
            self.drive[a:b],
            calm=self.calm[a:b],
            gravity=self.gravity[a:b],
            wind=self.wind[a:b],
        )
        return self.free[b - 1]

    def _start(self, free: np.ndarray, started: set[int]) -> None:
        """Give figures that are handed over for the first time their own velocity and spin."""
        for k, f in enumerate(self.built.scene.figures):
            mine = np.array([i for i, s in enumerate(self.built.slots) if s.figure == k and free[i]], int)
            if k not in started and len(mine):
                started.add(k)
                add_velocity(self.built.world.bodies, mine, np.array(f.velocity), np.array(f.spin))


def start_keyed(bodies: np.ndarray, keyed: np.ndarray, x: Array, q: Array, h: float) -> None:
    """Put keyed bodies on their keys, with the keys' velocity; x (2, n, 3), q (2, n, 4) a time h apart."""
    bodies["x"][keyed], bodies["q"][keyed] = x[0][keyed], q[0][keyed]
    bodies["v"][keyed] = (x[1] - x[0])[keyed] / h
    turn = rotation.to_rotation_vector(rotation.multiply(q[1], rotation.conjugate(q[0])))
    bodies["w"][keyed] = turn[keyed] / h


def keep_settings(scene: Scene, assets: AssetStore) -> str:
    """Store the scene without its takes, as text; returns the asset."""
    text = edit.scene(scene, takes=(), take=None).model_dump_json()
    return assets.add({"scene": np.frombuffer(zlib.compress(text.encode(), 1), np.uint8)})


def settings_of(ref: TakeRef, assets: AssetStore) -> Scene:
    """The scene that made a take. Raises ArtulineError if it was not kept."""
    if ref.scene is None:
        raise ArtulineError(f"{ref.name} has no settings kept with it", remedy="Run again.")
    try:
        return Scene.model_validate_json(zlib.decompress(bytes(assets[ref.scene]["scene"])))
    except (KeyError, ValueError, zlib.error) as error:
        raise ArtulineError(f"the settings of {ref.name} are damaged ({error})") from error


def back_to_settings(scene: Scene, assets: AssetStore, take: str) -> Scene:
    """The scene as it was when a take was made, with all takes that there are now. Raises ArtulineError."""
    ref = next(t for t in scene.takes if t.id == take)
    return edit.scene(settings_of(ref, assets), takes=scene.takes, take=scene.take)


def keep_take(scene: Scene, assets: AssetStore, take: Take, settings: str) -> Scene:
    """The scene with the take added as its current one. ``settings``: fingerprint of the scene that made it."""
    taken = {t.id for t in scene.takes}
    number = len(scene.takes) + 1
    while f"take {number}" in taken:
        number += 1
    name = f"take {number}"
    cut = int(take.frames[-1]) < scene.end
    ref = TakeRef(
        id=name,
        name=f"{name} (to frame {int(take.frames[-1])})" if cut else name,
        asset=assets.add(take.to_arrays()),
        settings=settings,
        start=int(take.frames[0]),
        end=int(take.frames[-1]),
        scene=keep_settings(scene, assets),
    )
    return edit.scene(scene, takes=(*scene.takes, ref), take=name)
