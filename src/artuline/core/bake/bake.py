"""A take becomes keys on the bones: fitted, on a layer above the clip, with the error measured in space."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from artuline.core.bake.fitter import Fitter, watched
from artuline.core.bake.hermite import Keys
from artuline.core.bake.mapping import carried_above, led_limbs
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.goals import curve_of
from artuline.core.motion.keyed import keyed_pose, load_clip, root_at
from artuline.core.motion.skeleton import Pose, skeleton_of, under
from artuline.core.run.cycle import agree
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Layer, Scene

BETWEEN = 3  # places between two frames at which a bake is measured too


@dataclass(frozen=True)
class BakeWish:
    """How a take becomes keys: within so many ``degrees`` a channel and ``millimetres`` at the limbs' ends, whichever is tighter. ``bones``: only these;
    ``start``, ``end``: only these frames; ``step``: keys on every so many frames; ``ramp``: frames over which the layer comes in and goes out where
    the take goes on beyond it. ``goals``: limbs that the figure has goals for are led by them. ``between``: the error is
    kept half way between the frames too, against smooth ways through them. ``shared``: turn and place of a bone, or of
    a goal, have keys at the same times.
    """

    degrees: float = 1.0
    millimetres: float = 10.0
    bones: frozenset[str] | None = None
    start: int | None = None
    end: int | None = None
    step: int = 1
    ramp: int = 0
    goals: bool = True
    between: bool = True
    shared: bool = False

    def check(self) -> None:
        """Raises ArtulineError for what nothing can be fitted by."""
        if not (0 < self.degrees < np.inf and 0 < self.millimetres < np.inf):
            raise ArtulineError("the error bounds must be above zero", remedy="Give degrees and millimetres.")
        if self.step < 1 or self.ramp < 0:
            raise ArtulineError(
                "keys lie on every frame, or on every so many", remedy="Give 1, 2 or more, and a ramp of 0 or more."
            )
        if self.start is not None and self.end is not None and self.end <= self.start:
            raise ArtulineError(f"the range from {self.start} to {self.end} is empty", remedy="End it after it begins.")


@dataclass(frozen=True)
class Worst:
    """Where a bake is farthest from its take: at a bone, on a frame."""

    bone: str
    frame: int
    amount: float


@dataclass(frozen=True)
class Baked:
    """Fitted curves in scene time, and what was reached.

    ``keys``: number of keys by (bone, path); frames: how many were fitted; degrees: worst angle of a bone
    against the take; millimetres: worst distance by end bone; between (mm): the same between the frames, against smooth ways there. ``turned`` and ``off``:
    where the worst of both is. ``ramps``: frames in which the layer comes in and goes out. ``errors``: by bone with a body, how far it
    is turned in its parent (degrees) and off in the world (mm) at most, whatever its motion was baked onto.
    """

    clip: Clip
    start: int
    end: int
    frames: int
    keys: dict[tuple[str, str], int]
    degrees: float
    millimetres: dict[str, float]
    between: float = 0.0
    turned: Worst | None = None
    off: Worst | None = None
    ramps: tuple[int, int] = (0, 0)
    errors: Mapping[str, tuple[float, float]] = field(default_factory=dict)

    @property
    def share(self) -> float:
        """Keys against one on every frame."""
        return float(np.mean(list(self.keys.values()))) / max(self.frames, 1)

    def summary(self) -> str:
        """One line of figures."""
        counts = list(self.keys.values())
        worst = max(self.millimetres.items(), key=lambda i: i[1], default=("", 0.0))
        return (
            f"{np.mean(counts):.1f} keys per channel ({max(counts)} at most, {100 * self.share:.0f} % of one a frame) for {self.frames} frames on "
            f"{len(counts)} channels; error {self.degrees:.2f}° and {worst[1]:.1f} mm ({worst[0]})"
        )


def moved(take: Take, figure: str) -> bool:
    """Whether physics moves a figure in a take."""
    mine = [k for k, ref in enumerate(take.bodies) if ref.figure == figure]
    return bool(mine) and bool((take.handover[:, mine] > 0.0).any())


def bake_figure(
    scene: Scene,
    assets: AssetStore,
    figure: Figure,
    take: Take,
    wish: BakeWish | None = None,
    progress: Callable[[int, int], None] = lambda done, total: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Baked:
    """Fit the take's motion of one figure, or of some bones and frames of it, with few keys.

    Raises ArtulineError if physics never moved it there, CancelledError on request.
    """
    wish = wish or BakeWish()
    source = baking(scene, assets, figure, take, wish)
    fitter = source.fitter
    total = len(fitter.samples)
    fitter.fit_all(wish.degrees, wish.millimetres, lambda k: progress(k, total), cancelled, wish.shared)
    return source.result()


def baking(scene: Scene, assets: AssetStore, figure: Figure, take: Take, wish: BakeWish) -> "Baking":
    """What is to be fitted of a take. Raises ArtulineError if physics never moves it."""
    wish.check()
    skeleton = skeleton_of(figure)
    pose, root = take.poses.get(figure.id), root_at(scene, assets, figure, take.frames.astype(float))
    if pose is not None and figure.id in take.roots:
        # layers lie on the keys, which may ride elsewhere than what was shown
        pose = under(skeleton, pose, take.root(figure), root)
    mine = np.array([ref.figure == figure.id for ref in take.bodies])
    live = np.flatnonzero((take.handover[:, mine] > 0.0).any(axis=1)) if mine.any() else np.zeros(0, int)
    if pose is not None and len(live):
        # what returned to something else than its keys stays off them; where it is handed over it is still on them
        keys = keyed_pose(scene, assets, figure, take.frames.astype(float), layers=False)
        off = rotation.angle_between(keys.rotation, pose.rotation).max(axis=1) > 1e-6
        off |= np.abs(keys.translation - pose.translation).max(axis=(1, 2)) > 1e-9
        live = np.union1d(live, np.flatnonzero(off))
        if off.any():
            live = live[live >= np.flatnonzero(off)[0]]
    if pose is None or not len(live):
        raise ArtulineError(
            f"physics never moves {figure.name!r} in this take",
            remedy="Hand it over on an interval and run again.",
        )
    whole = first, last = max(int(live[0]) - 1, 0), min(int(live[-1]) + 1, len(take.frames) - 1)
    if wish.start is not None:
        first = max(first, int(np.searchsorted(take.frames, wish.start)))
    if wish.end is not None:
        last = min(last, int(np.searchsorted(take.frames, wish.end, side="right")) - 1)
    if last <= first:
        raise ArtulineError(
            f"physics does not move {figure.name!r} between the frames {wish.start} and {wish.end}",
            remedy=f"Choose frames between {take.frames[whole[0]]} and {take.frames[whole[1]]}.",
        )
    window = slice(first, last + 1)
    part = Pose(pose.translation[window], pose.rotation[window], pose.scale[window])
    keyed = keyed_pose(scene, assets, figure, take.frames[window].astype(float), layers=False)
    true, part = part, carried_above(figure, part, keyed)
    turned = rotation.angle_between(keyed.rotation, part.rotation).max(axis=0) > 1e-6
    shifted = np.abs(keyed.translation - part.translation).max(axis=(0, 2)) > 1e-9
    limbs = led_limbs(figure, skeleton.names, turned | shifted, wish.bones) if wish.goals else ()
    if wish.bones is not None:
        mine = np.array([n in wish.bones for n in skeleton.names])
        for limb in limbs:
            mine[[limb.upper, limb.lower, limb.end]] = True
        turned, shifted = turned & mine, shifted & mine
    if not (turned.any() or shifted.any()):
        raise ArtulineError(
            "physics moves none of the bones that take keys", remedy="Choose others, or none for all of them."
        )
    for limb in limbs:
        turned[[limb.upper, limb.end]] = True
    which, ways = np.flatnonzero(turned).tolist(), np.flatnonzero(shifted).tolist()
    fitter = Fitter(
        skeleton,
        root[window],
        part,
        which,
        ways,
        _corners(take, window),
        [*watched(figure, {*which, *ways}), *((limb.lower, np.zeros(3)) for limb in limbs)],
        wish.step,
        int(take.frames[first]),
        limbs,
        2 if wish.between else 1,
    )
    ramps = (wish.ramp if first > whole[0] else 0, wish.ramp if last < whole[1] else 0)
    ends = {skeleton.names[limb.end] for limb in limbs}
    curves = tuple(n for limb in figure.goals if limb.end in ends for n in limb.curves)
    closed = take.cycle is not None and agree(*take.cycle[1:]) and last - first == len(take.frames) - 1
    bones = tuple(b.bone for b in figure.bodies)
    return Baking(fitter, take.frames[window], scene.rate, ramps, curves, true, bones, closed)


@dataclass(eq=False)
class Baking:
    """A bake at work: its fitter, the frames (F,) that it fits, their rate, the ramps of its layer, the names of the curves of limbs that it leads, and the
    pose of the take (F, B) with the bones that are compared with it. ``cycle``: it is a closed loop, whose curves end as they begin.
    """

    fitter: Fitter
    frames: np.ndarray
    rate: float
    ramps: tuple[int, int]
    curves: tuple[str, ...] = ()
    pose: Pose | None = None
    bones: tuple[str, ...] = ()
    cycle: bool = False

    def result(self) -> Baked:
        """What the keys are by now, and how far they are from the take, on the frames and between them."""
        fitter, frames = self.fitter, self.frames
        names = [*fitter.skeleton.names, *self.curves]
        start = int(frames[0])
        fine = fitter.fine
        channels = [_channel(names[b], path, k, start, self.rate, fine) for (b, path), k in sorted(fitter.keys.items())]
        if self.cycle:
            channels = [_round(c, self.rate) for c in channels]
        angles, distance = np.degrees(fitter.angles()), 1000.0 * fitter.distances()
        found: dict[str, float] = {}
        for i, (b, _) in enumerate(fitter.points):
            found[names[b]] = max(found.get(names[b], 0.0), float(distance[:, i].max()))
        bones = fitter.turned
        return Baked(
            clip=Clip(tuple(channels)), start=start, end=int(frames[-1]), frames=len(frames),
            keys={(names[b], path): len(k.rows) for (b, path), k in fitter.keys.items()},
            degrees=float(angles.max(initial=0.0)), millimetres=found, between=1000.0 * fitter.between(BETWEEN if fine == 1 else 1),
            turned=_worst(angles[::fine], [names[b] for b in bones], frames),
            off=_worst(distance[::fine], [names[b] for b, _ in fitter.points], frames), ramps=self.ramps,
            errors=self._errors(),
        )  # fmt: skip

    def _errors(self) -> dict[str, tuple[float, float]]:
        if self.pose is None:
            return {}
        skeleton, fine = self.fitter.skeleton, self.fitter.fine
        root, shown = self.fitter.root[::fine], self.fitter.shown.every(fine)
        which = [skeleton.names.index(b) for b in self.bones]
        now, then = (skeleton.global_matrices(x, root)[:, which, :3, 3] for x in (shown, self.pose))
        turns = rotation.angle_between(shown.rotation[:, which], self.pose.rotation[:, which])
        turned, off = np.degrees(turns).max(axis=0), 1000.0 * np.linalg.norm(now - then, axis=2).max(axis=0)
        return {b: (float(t), float(o)) for b, t, o in zip(self.bones, turned, off)}


def _worst(amounts: Array, names: list[str], frames: np.ndarray) -> Worst | None:
    if not amounts.size:
        return None
    f, i = np.unravel_index(int(np.argmax(amounts)), amounts.shape)
    return Worst(names[int(i)], int(frames[f]), float(amounts[f, i]))


def _corners(take: Take, window: slice) -> np.ndarray:
    """Rows of the window on which a contact sets in hard."""
    contact = take.contact[window]
    onset = np.diff(contact, axis=0, prepend=contact[:1])
    # impulse against a mass of a limb: the weight of the body is not stored in a take, so compare with itself
    level = max(float(np.median(contact[contact > 0])) * 3.0, 1e-6) if (contact > 0).any() else np.inf
    return np.flatnonzero((onset > level).any(axis=1))


def _channel(bone: str, path: str, keys: Keys, start: int, rate: float, fine: int) -> Channel:
    """A channel of keys whose rows are frames, or parts of them."""
    values = np.stack([keys.slope_in * rate * fine, keys.values, keys.slope_out * rate * fine], axis=1)
    return Channel(bone, path, "CUBICSPLINE", (start + keys.rows / fine) / rate, values)  # type: ignore[arg-type]


def _round(channel: Channel, rate: float) -> Channel:
    """A cubic curve of a closed loop: it ends as it begins, value and slope; what travels goes on as it began.

    Keys a frame from both ends keep the rest of it as it is.
    """
    times = channel.times
    if len(times) < 2 or times[-1] - times[0] < 2.5 / rate:
        return channel
    channel = _split(_split(channel, times[0] + 1.0 / rate), times[-1] - 1.0 / rate)
    values = channel.values.copy()
    first, last = values[0, 1], values[-1, 1]
    side = -1.0 if channel.path == "rotation" and first @ last < 0.0 else 1.0
    if channel.path == "rotation" or np.abs(last - first).max() < 1e-3 * max(np.ptp(values[:, 1], axis=0).max(), 1e-9):
        values[-1, 1] = side * first
    # as steep as from a frame before the seam to a frame after it
    slope = 0.5 * rate * ((values[1, 1] - first) + side * (last - values[-2, 1]))
    values[0, [0, 2]], values[-1, [0, 2]] = slope, side * slope
    return replace(channel, values=values)


def _split(channel: Channel, time: float) -> Channel:
    """A cubic curve with one more key, that does not change it."""
    times, values = channel.times, channel.values
    if np.abs(times - time).min() < 1e-9:
        return channel
    k = int(np.searchsorted(times, time))
    span = times[k] - times[k - 1]
    u, a, b = (time - times[k - 1]) / span, values[k - 1], values[k]
    out, into = a[2] * span, b[0] * span
    rise = b[1] - a[1]
    value = a[1] + u * (out + u * (3.0 * rise - 2.0 * out - into + u * (out + into - 2.0 * rise)))
    slope = (out + u * (2.0 * (3.0 * rise - 2.0 * out - into) + 3.0 * u * (out + into - 2.0 * rise))) / span
    if channel.path == "rotation":
        length = np.linalg.norm(value)
        value, slope = value / length, slope / length
    key = np.stack([slope, value, slope])
    return replace(channel, times=np.insert(times, k, time), values=np.insert(values, k, key, axis=0))


def add_layer(
    scene: Scene,
    assets: AssetStore,
    figure_id: str,
    baked: Baked,
    name: str,
    of: str | None = None,
    mode: str = "replace",
) -> Scene:
    """The scene with baked keys as the figure's topmost layer; ``of``: the take's id, of which earlier bakes give way that have nothing besides; one that
    was edited by hand since stays, muted. ``mode`` add: what the keys add to all that lies below.
    """
    figure = scene.figure(figure_id)
    older = {x.id for x in figure.layers if of is not None and x.of == of and _within(assets, figure, x, baked)}
    kept = tuple(
        x.changed(muted=True) if x.id in older else x for x in figure.layers if x.id not in older or x.baked is not None
    )
    clip = baked.clip if mode == "replace" else added_to(scene, assets, figure.changed(layers=kept), baked.clip)
    layer = Layer(
        id=edit.fresh_id("layer", {layer.id for layer in kept}), name=name, of=of, asset=assets.add(clip.to_arrays()),
        start=baked.start, end=baked.end, ramp_in=baked.ramps[0], ramp_out=baked.ramps[1], mode=mode,
    )  # fmt: skip
    return edit.figure(scene, figure_id, layers=(*kept, layer))


def _within(assets: AssetStore, figure: Figure, layer: Layer, baked: Baked) -> bool:
    """Whether a bake covers all that a layer has: a limb by its goal too, or by its bones."""
    mine, covered = {(c.bone, c.path) for c in load_clip(assets, layer.asset).channels}, set(baked.keys)
    for limb in figure.goals:
        goal = {(limb.goal, "translation"), (limb.goal, "rotation"), (limb.direction, "translation")}
        bones = {(b, "rotation") for b in limb.bones}
        if goal <= covered or bones <= covered:
            covered |= goal | bones
    return baked.start <= layer.start and layer.end <= baked.end and mine <= covered


def added_to(scene: Scene, assets: AssetStore, figure: Figure, clip: Clip) -> Clip:
    """A clip in scene time as what it adds to a figure's keys, and to where its limbs are by them, on every frame."""
    channels, index = [], figure.bone_index
    bones = Clip(tuple(x for x in clip.channels if x.bone in index))
    for c in clip.channels:
        frames = np.arange(round(c.times[0] * scene.rate), round(c.times[-1] * scene.rate) + 1, dtype=float)
        pose = keyed_pose(scene, assets, figure, frames)
        if c.bone not in index:
            # the keys of bones are there before a limb is led
            bones.apply(skeleton_of(figure), frames / scene.rate, pose)
        below = curve_of(figure, pose, (c.bone, c.path))
        now = c.sample(frames / scene.rate)
        if c.path == "rotation":
            more = rotation.make_continuous(rotation.multiply(rotation.conjugate(below), now))
        else:
            more = now / below if c.path == "scale" else now - below
        channels.append(Channel(c.bone, c.path, "LINEAR", frames / scene.rate, more))
    return Clip(tuple(channels))
