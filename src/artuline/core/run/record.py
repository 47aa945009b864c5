"""Recording a take: the scene's range, frame by frame, with progress and cancel."""

import time
import zlib
from collections.abc import Callable

import numpy as np

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, leads, riding_root, root_at
from artuline.core.motion.places import own_root
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of, under
from artuline.core.physics.state import ASKED, DONE, HALTED
from artuline.core.run.build import Built, Ride, build, require_bodies
from artuline.core.run.cycle import MOST_ROUNDS, agree, apart, close, require_round, travels
from artuline.core.run.gaps import Grips
from artuline.core.run.planting import plant_feet
from artuline.core.run.prepare import ensure_kernels
from artuline.core.run.returns import Return, begin, coming, put
from artuline.core.run.rules import Given, Rules
from artuline.core.run.shown import shown_pose
from artuline.core.run.stepper import Chunk, Stepper
from artuline.core.run.take import UNKNOWN, Take
from artuline.core.scene import edit
from artuline.core.scene.alike import scene_of, text_of
from artuline.core.scene.assets import Arrays, AssetStore
from artuline.core.scene.group import SHORTEST_RETURN
from artuline.core.scene.model import Figure, Group, Scene, TakeRef

WATCH_SECONDS = 0.04  # between two frames that are handed to who watches
WATCH_SHARE = 8.0  # times as long as looking takes until it is done again
MOST_SETTINGS = 64 * 2**20  # bytes of a scene's text
MOST_VALUES = 300_000_000  # numbers that a take may hold
PARTED = 5e-4  # m by which a joint of a strand is open
CHUNK = 16  # frames whose keyed motion is sampled together

Progress = Callable[[int, int], None]
Watch = Callable[[int, dict[str, Pose]], None]


def run(
    scene: Scene,
    assets: AssetStore,
    progress: Progress = lambda done, total: None,
    cancelled: Callable[[], bool] = lambda: False,
    *,
    partial: bool = False,
    watch: Watch | None = None,
) -> Take:
    """Simulate the scene's range. ``progress(frames done, frames in all)`` is called after every frame, and ``watch(frame, poses)``
    now and then with the shown local pose (1, B) of every figure by its id.

    Raises ArtulineError if nothing can be simulated, CancelledError on request; with ``partial``, what is there after
    two frames or more is returned instead.
    """
    require_bodies(scene)
    if scene.end <= scene.start:
        raise ArtulineError(
            f"the range from frame {scene.start} to {scene.end} is empty",
            remedy="Set the end behind the start.",
        )
    size = sum(20 * len(f.bodies) + 10 * len(f.bones) for f in scene.figures)
    if size * (scene.end - scene.start) > MOST_VALUES:
        most = MOST_VALUES // size
        raise ArtulineError(
            f"a take of {scene.end - scene.start} frames would not fit into memory",
            remedy=f"Shorten the range to {most} frames at most.",
        )
    # compiled here they would give other bits than loaded
    ensure_kernels(cancelled=cancelled)
    if scene.cycle:
        require_round(scene, assets)
    built = build(scene, assets)
    recording = _Recording(built, progress, cancelled, partial, watch)
    if scene.warm_up > 0:
        _warm_up(recording.stepper, cancelled)
    if not scene.cycle:
        return recording.played()
    way, before = travels(built), None
    while True:
        rec = recording.round()
        rounds = recording.rounds + 1
        now = rec.p, rec.q
        apart_ = apart(before, now) if before is not None else (np.inf, np.inf)
        if recording.stopped:
            # a part of a round is no loop
            return rec.take(recording.done + 1)
        if agree(*apart_) or rounds == MOST_ROUNDS:
            break
        before = now
        recording.back(way)
    if agree(*apart_):
        close(rec.p, rec.q, way, np.asarray((rec.handover > 0.0).any(axis=0)))
    return rec.take(recording.done + 1, cycle=(rounds, *apart_))


class _Recording:
    """Plays the range of a scene, once or round after round, and keeps what there is."""

    def __init__(
        self, built: Built, progress: Progress, cancelled: Callable[[], bool], partial: bool, watch: Watch | None
    ):
        self.built, self.stepper, self.rules = built, Stepper(built), Rules(built)
        self.progress, self.cancelled, self.partial, self.watch = progress, cancelled, partial, watch
        self.frames = np.arange(built.scene.start, built.scene.end + 1)
        self.done, self.rounds, self.stopped = 0, 0, False
        self._seen, self._pause = 0.0, WATCH_SECONDS

    def played(self) -> Take:
        """Once, as a take."""
        return self.round().take(self.done + 1)

    def back(self, way: Array) -> None:
        """What goes on begins the next round where it began this one, way (n, 3) back."""
        self.rounds += 1
        self.built.world.bodies["x"][self.stepper.free] -= way[self.stepper.free]
        self.built.world.reset_report()

    def round(self) -> "_Record":
        """The range once."""
        rec, returning, count = _Record(self.built, self.frames), coming(self.built.scene), len(self.frames)
        self.done, first = 0, 0
        while first < count - 1 and not self.stopped:
            while returning and returning[0][0] <= self.frames[first]:
                rec.begin_return(*returning.pop(0))
            last = min(first + CHUNK, count - 1)
            if returning:
                last = min(last, returning[0][0] - int(self.frames[0]))
            self._chunk(rec, first, last)
            first = last
        return rec

    def _chunk(self, rec: "_Record", first: int, last: int) -> None:
        """Some frames whose keyed motion is sampled together."""
        chunk = Chunk(self.built, self.frames[first], last - first)
        for given in self.rules.given.values():
            chunk.give(self.built.parts[given.figure].rows, 0, given.rule.tone)
        free, world = self.stepper.free, self.built.world
        if first == 0:
            rec.p[0], rec.q[0] = chunk.p[chunk.lead], chunk.q[chunk.lead]
            if free.any():
                p, q = world.poses()
                rec.p[0, free], rec.q[0, free] = p[free], q[free]
        for k in range(last - first):
            if self.cancelled():
                if not (self.partial and self.done >= 2):
                    raise CancelledError
                self.stopped = True
                return
            if self.rules:
                # what is on its keys is where it begins the frame
                keyed, at = ~self.stepper.free, chunk.lead + k * chunk.k
                world.bodies["x"][keyed], world.bodies["q"][keyed] = chunk.x[at][keyed], chunk.r[at][keyed]
            for given in self.rules.look(float(self.frames[first + k])) if self.rules else ():
                chunk.give(self.built.parts[given.figure].rows, k, given.rule.tone)
                rec.give(given, first + k)
            self.stepper.step(chunk, k)
            self.done = first + k + 1
            rec.keep(self.done)
            # how many rounds there will be is not known: at least one more than there were
            count = len(self.frames) - 1
            more = 2 if self.built.scene.cycle and self.rounds > 0 else 1
            self.progress(self.rounds * count + self.done, (self.rounds + more) * count)
            self._show(rec)

    def _show(self, rec: "_Record") -> None:
        """Hand what there is to who watches, which takes a small share of the work only."""
        if self.watch is None or time.perf_counter() - self._seen <= self._pause:
            return
        began = time.perf_counter()
        frame = int(self.frames[self.done])
        self.watch(frame, {f.id: rec.watched(n, self.done) for n, f in rec.figures() if not f.stays})
        self._seen = time.perf_counter()
        self._pause = max(WATCH_SECONDS, WATCH_SHARE * (self._seen - began))


def _warm_up(stepper: Stepper, cancelled: Callable[[], bool]) -> None:
    """Simulate the frames before the first."""
    built = stepper.built
    scene = built.scene
    still = Chunk(built, scene.start, 1, held=True) if not scene.warm_up_plays else None
    for i in range(scene.warm_up):
        if cancelled():
            raise CancelledError
        k = i % CHUNK
        if still is None and k == 0:
            plays = Chunk(built, scene.start - scene.warm_up + i, min(CHUNK, scene.warm_up - i), lanes_at=scene.start)
        stepper.step(still or plays, 0 if still is not None else k)
    built.world.reset_report()


class _Record:
    """What is kept of every frame while a take is made."""

    def __init__(self, built: Built, frames: np.ndarray):
        self.built, self.frames = built, frames
        count, self.n, m = len(frames), len(built.world.bodies), len(built.world.joints)
        n = self.n
        self.p, self.q = np.zeros((count, n, 3)), np.zeros((count, n, 4))
        self.of_bodies: dict[str, np.ndarray] = {
            "contact": np.zeros((count, n)),
            "penetration": np.zeros((count, n)),
            "into": np.full((count, n), UNKNOWN, np.int32),
            "touch": np.zeros((count, n, 3)),
        }
        self.of_joints = {name: np.zeros((count, m)) for name in ("separation", "excess", "used")}
        self.grips = Grips(built, count)
        self.kinetic = np.zeros((count, n))
        self.held: list[int] = []
        #: How holders are shown, by figure and rows, while no more is recorded.
        self._holders: dict[tuple[int, int, int], Array] = {}
        self._halted = 0
        self.handover, _ = built.lanes(frames.astype(float))
        self._seen = built.carriage.seen(self.handover, frames.astype(float), SHORTEST_RETURN * built.scene.rate)
        self.returns: dict[int, list[Return]] = {}
        self.given: list[Given] = []
        built.follow = self._follow

    def figures(self) -> list[tuple[int, Figure]]:
        return list(enumerate(self.built.scene.figures))

    def _follow(self, figure: int, frames: Array, pose: Pose, at_once: bool = False) -> None:
        found = self.returns.get(figure)
        if found:
            put(self.built.scene, self.built.assets, self.built.scene.figures[figure], found, frames, pose, at_once)

    def give(self, given: Given, row: int) -> None:
        """A figure is handed over for good from a row on."""
        self.handover[row:, self.built.parts[given.figure].rows] = 1.0
        self.handover[row:] = self.built.riding_along(self.handover[row:].copy(), self.frames[row:].astype(float))
        self._seen = self.built.carriage.seen(
            self.handover, self.frames.astype(float), SHORTEST_RETURN * self.built.scene.rate
        )
        self.given.append(given)

    def begin_return(self, frame: int, figure: int, group: Group, end: float) -> None:
        """From a frame that is recorded on, a group returns to something else than its keys."""
        scene, row = self.built.scene, frame - int(self.frames[0])
        pose = self.shown(figure, slice(row, row + 1))
        made = begin(scene, self.built.assets, scene.figures[figure], group, frame, end, pose)
        self.returns.setdefault(figure, []).append(made)

    def keep(self, i: int) -> None:
        """Keep the world as it is now as row i."""
        self._holders.clear()
        world = self.built.world
        self.p[i], self.q[i] = world.poses()
        for kept, rows in ((self.of_bodies, world.bodies), (self.of_joints, world.joints)):
            for name, values in kept.items():
                values[i] = rows[name]
        self.of_bodies["into"][i, world.bodies["penetration"] <= 0.0] = UNKNOWN
        self.kinetic[i] = world.kinetic()
        self.grips.keep(i)
        halted = int(world.counters[HALTED])
        if halted > self._halted:
            self._halted = halted
            self.held.append(int(self.frames[i]))
        world.reset_report()

    def _keyed(self, figure: int, rows: slice, at_once: bool = False) -> Pose:
        f, frames = self.built.scene.figures[figure], self.frames[rows].astype(float)
        pose = keyed_pose(self.built.scene, self.built.assets, f, frames, layers=False)
        self._follow(figure, frames, pose, at_once)
        return pose

    def watched(self, figure: int, row: int) -> Pose:
        """The shown local pose (1, B) of a figure at a row, under its keyed root."""
        rows = slice(row, row + 1)
        f, pose = self.built.parts[figure].figure, self.shown(figure, rows)
        if not f.mounts:
            return pose
        keyed = root_at(self.built.scene, self.built.assets, f, self.frames[rows].astype(float))
        return under(skeleton_of(f), pose, self.root(figure, rows), keyed)

    def root(self, figure: int, rows: slice) -> Array:
        """What the shown pose of a figure at rows is under (F, 4, 4): where it rides, on what is shown of its holder."""
        f, frames = self.built.parts[figure].figure, self.frames[rows].astype(float)
        if not f.mounts:
            return own_root(f, frames)
        found, which = root_at(self.built.scene, self.built.assets, f, frames, self.built.pose), leads(f, frames)[0]
        for k, ride in enumerate(self._rides(figure)):
            on = np.flatnonzero((which == k) & np.array([ride.mount.acts(x) for x in frames]))
            if len(on):
                holder, bones = self._holder(ride, rows)
                bone = bones[on, holder.bone_index[ride.mount.bone]]
                found[on] = riding_root(self.built.scene, self.built.assets, f, ride.mount, frames[on], bone)
        return found

    def _rides(self, figure: int) -> list[Ride]:
        return [r for r in self.built.rides if r.figure == figure]

    def _holder(self, ride: Ride, rows: slice) -> tuple[Figure, Array]:
        """What a figure rides on, and the matrices (F, B, 4, 4) in which it is shown."""
        h = next(i for i, f in self.figures() if f.id == ride.mount.figure)
        holder, key = self.built.parts[h].figure, (h, rows.start, rows.stop)
        if key not in self._holders:
            pose = self.shown(h, rows, planted=True)
            self._holders[key] = skeleton_of(holder).global_matrices(pose, self.root(h, rows))
        return holder, self._holders[key]

    def _places(self, figure: int, rows: slice) -> tuple[Array, Array]:
        """Where the bodies of a figure were (F, n, 3), (F, n, 4). What rides goes with what is shown of its holder, which may not be where that was."""
        part, frames = self.built.parts[figure], self.frames[rows].astype(float)
        p, q = self.p[rows][:, part.rows], self.q[rows][:, part.rows]
        for ride in (r for r in self._rides(figure) if r.held):
            on = np.flatnonzero([ride.mount.acts(x) for x in frames])
            if not len(on):
                continue
            holder, bones = self._holder(ride, rows)
            carrier = holder.carrier(ride.mount.bone)
            assert carrier is not None
            at, facing = rigid(bones[on, holder.bone_index[carrier.bone]])
            turn = rotation.multiply(facing, rotation.conjugate(self.q[rows][on, ride.holder]))
            k = int(np.flatnonzero(part.rows == ride.part)[0])
            arm = np.broadcast_to(ride.mount.point, (len(on), 3))
            grip = p[on, k] + rotation.rotate(q[on, k], arm)
            new = at + rotation.rotate(turn, grip - self.p[rows][on, ride.holder])
            if ride.mount.hold == "fixed":
                q[on, k] = rotation.multiply(turn, q[on, k])
            p[on] += (new - rotation.rotate(q[on, k], arm) - p[on, k])[:, None]
        return p, q

    def shown(self, figure: int, rows: slice, *, planted: bool = False) -> Pose:
        """The shown local pose of a figure at rows."""
        part = self.built.parts[figure]
        f, mine, bones = part.figure, part.rows, part.bones
        root = self.root(figure, rows)
        keyed, handover = self._keyed(figure, rows), self._seen[rows][:, mine]
        places = self._places(figure, rows)
        pose = shown_pose(f, root, keyed, bones, *places, handover, self.built.shown[mine], self._parted(figure))
        if planted:
            goal = self._keyed(figure, rows, at_once=True)
            plant_feet(self.built.scene, f, root, pose, goal, dict(zip(bones.tolist(), handover.T)))
        return pose

    def _parted(self, figure: int) -> frozenset[int]:
        """The bones of a strand whose joints gave way by more than can be overlooked: they are shown where they were."""
        f = self.built.parts[figure].figure
        if f.made is None:
            return frozenset()
        bone = {b.id: f.bone_index[b.bone] for b in f.bodies}
        open_ = self.of_joints["separation"][:, : len(self.built.joints)].max(axis=0) > PARTED
        return frozenset(
            bone[j.child] for (k, j), gone in zip(self.built.joints, open_.tolist()) if k == figure and gone
        )

    def take(self, count: int, cycle: tuple[int, float, float] | None = None) -> Take:
        """The first ``count`` frames as a take; ``cycle``: rounds, and degrees and mm by which the last two differed."""
        rows, world = slice(0, count), self.built.world
        if not (np.isfinite(self.p[rows]).all() and np.isfinite(self.q[rows]).all()):
            raise ArtulineError("the simulation lost its numbers", remedy="Report this scene: it should not happen.")
        poses = {f.id: self.shown(k, rows, planted=True) for k, f in self.figures()}
        roots = {f.id: self.root(k, rows) for k, f in self.figures()}
        open_ = self.of_joints["separation"][rows, self.grips.first :]
        np.maximum(open_, self.grips.gaps(count, poses, roots, self.handover[rows] > 0.0), out=open_)
        return Take(
            frames=self.frames[rows],
            position=self.p[rows],
            rotation=self.q[rows],
            handover=self.handover[rows],
            **{name: values[rows] for name, values in (self.of_bodies | self.of_joints).items()},
            kinetic=self.kinetic[rows],
            poses=poses,
            roots={f.id: roots[f.id] for _, f in self.figures() if f.mounts},
            bodies=self.built.body_refs,
            joints=self.built.joint_refs,
            substeps=(int(world.counters[ASKED]), int(world.counters[DONE])),
            held=tuple(f for f in self.held if f <= self.frames[count - 1]),
            given=tuple(g.said(self.built) for g in self.given),
            cycle=cycle,
        )


def keep_settings(scene: Scene, assets: AssetStore) -> str:
    """Store the scene without its takes, as text; returns the asset."""
    text = text_of(edit.scene(scene, takes=(), take=None))
    return assets.add({"scene": np.frombuffer(zlib.compress(text.encode(), 1), np.uint8)})


def settings_of(ref: TakeRef, assets: AssetStore) -> Scene:
    """The scene that made a take. Raises ArtulineError if it was not kept."""
    if ref.scene is None:
        raise ArtulineError(f"{ref.name} has no settings kept with it", remedy="Run again.")
    try:
        return assets.decoded(ref.scene, _settings)
    except (KeyError, ValueError, RecursionError, zlib.error) as error:
        raise ArtulineError(f"the settings of {ref.name} are damaged", remedy="Run again.") from error


def _settings(arrays: Arrays) -> Scene:
    unfold = zlib.decompressobj()
    text = unfold.decompress(bytes(arrays["scene"]), MOST_SETTINGS)
    if unfold.unconsumed_tail:
        raise ValueError("too large")
    return scene_of(text)


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
