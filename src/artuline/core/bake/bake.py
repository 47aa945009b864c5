"""A take becomes keys on the bones: fitted, on a layer above the clip, with the error measured in space."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from artuline.core.bake.hermite import Keys, fit
from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Channel, Clip
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.skeleton import Pose, Skeleton, skeleton_of, under
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Layer, Scene

ROUNDS = 12


@dataclass(frozen=True)
class Baked:
    """Fitted curves in scene time, and what was reached.

    ``keys``: number of keys by (bone, path); frames: how many were fitted; degrees: worst angle of a bone
    against the take; millimetres: worst distance by end bone.
    """

    clip: Clip
    start: int
    end: int
    frames: int
    keys: dict[tuple[str, str], int]
    degrees: float
    millimetres: dict[str, float]

    def summary(self) -> str:
        """One line of figures."""
        counts = list(self.keys.values())
        worst = max(self.millimetres.items(), key=lambda i: i[1], default=("", 0.0))
        return (
            f"{np.mean(counts):.1f} keys per channel ({max(counts)} at most) for {self.frames} frames on "
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
    degrees: float = 1.0,
    millimetres: float = 10.0,
    progress: Callable[[int, int], None] = lambda done, total: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Baked:
    """Fit the take's motion of one figure within an error in degrees per bone and millimetres at the limbs' ends.

    Raises ArtulineError if physics never moved the figure, CancelledError on request.
    """
    if degrees <= 0 or millimetres <= 0:
        raise ArtulineError("the error bounds must be above zero", remedy="Give degrees and millimetres.")
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
    first, last = max(int(live[0]) - 1, 0), min(int(live[-1]) + 1, len(take.frames) - 1)
    window = slice(first, last + 1)
    part = Pose(pose.translation[window], pose.rotation[window], pose.scale[window])
    keyed = keyed_pose(scene, assets, figure, take.frames[window].astype(float), layers=False)
    turned = np.flatnonzero(rotation.angle_between(keyed.rotation, part.rotation).max(axis=0) > 1e-6)
    moved = np.flatnonzero(np.abs(keyed.translation - part.translation).max(axis=(0, 2)) > 1e-9)
    fitter = _Fitter(skeleton, root[window], part, turned, moved, _corners(take, window))
    total = len(turned) + len(moved)
    fitter.fit_all(degrees, millimetres, lambda k: progress(k, total), cancelled)
    start = int(take.frames[first])
    rate = scene.rate
    channels = [_channel(skeleton.names[b], path, keys, start, rate) for (b, path), keys in sorted(fitter.keys.items())]
    angle, distance = fitter.errors()
    return Baked(
        clip=Clip(tuple(channels)),
        start=start,
        end=int(take.frames[last]),
        frames=last - first + 1,
        keys={(skeleton.names[b], path): len(k.rows) for (b, path), k in fitter.keys.items()},
        degrees=float(np.degrees(angle)),
        millimetres={skeleton.names[b]: 1000.0 * float(distance[:, i].max()) for i, b in enumerate(fitter.ends)},
    )


class _Fitter:
    def __init__(
        self,
        skeleton: Skeleton,
        root: Array,
        pose: Pose,
        turned: np.ndarray,
        moved: np.ndarray,
        corners: np.ndarray,
    ):
        self.skeleton, self.root, self.pose = skeleton, root, pose
        self.turned, self.moved, self.hits = turned, moved, corners
        self.samples = {(int(b), "rotation"): rotation.make_continuous(pose.rotation[:, b]) for b in turned}
        self.samples |= {(int(b), "translation"): pose.translation[:, b] for b in moved}
        self.keys: dict[tuple[int, str], Keys] = {}
        self.ends = self._ends()
        self.target = self._places(pose)

    def _ends(self) -> list[int]:
        """The bones at the ends of the limbs below what was baked."""
        baked = set(self.turned.tolist()) | set(self.moved.tolist())
        parents = self.skeleton.parents
        below = set(baked)
        for b, up in enumerate(parents):
            if up in below:
                below.add(b)
        return [b for b in sorted(below) if not any(p == b for p in parents)]

    def _places(self, pose: Pose) -> Array:
        return self.skeleton.global_matrices(pose, self.root)[:, self.ends][..., :3, 3]

    def _chain(self, end: int) -> list[tuple[int, str]]:
        found, b = [], end
        while b >= 0:
            found += [k for k in self.samples if k[0] == b]
            b = self.skeleton.parents[b]
        return found

    def fit_all(
        self,
        degrees: float,
        millimetres: float,
        progress: Callable[[int], None],
        cancelled: Callable[[], bool],
    ) -> None:
        """Fit every channel, then tighten those whose errors add up too far at an end."""
        unit = float(np.linalg.norm(self.root[0, :3, 0]))
        bound = {
            key: np.radians(degrees) if key[1] == "rotation" else 0.5e-3 * millimetres / unit for key in self.samples
        }
        todo = list(self.samples)
        for _ in range(ROUNDS):
            for key in todo:
                if cancelled():
                    raise CancelledError
                self.keys[key] = self._fit(key, bound[key])
                progress(len(self.keys))
            _, distance = self.errors()
            bad = distance.max(axis=0) > 1e-3 * millimetres
            todo = sorted({k for i in np.flatnonzero(bad) for k in self._chain(self.ends[i])})
            if not todo:
                return
            for key in todo:
                bound[key] *= 0.7

    def _fit(self, key: tuple[int, str], bound: float) -> Keys:
        samples = self.samples[key]
        corners = self._sharp(samples)
        if key[1] == "translation":
            return fit(samples, lambda curve: np.linalg.norm(curve - samples, axis=1), bound, corners)
        return fit(samples, lambda curve: _angle(curve, samples), bound, corners)

    def _sharp(self, samples: Array) -> frozenset[int]:
        """Hits at which this channel really changes its speed at once."""
        if len(samples) < 5 or not len(self.hits):
            return frozenset()
        jerk = np.linalg.norm(np.diff(samples, 2, axis=0), axis=1)
        level = 5.0 * np.median(jerk) + 1e-9
        return frozenset(int(h) for h in self.hits if 1 <= h < len(samples) - 1 and jerk[h - 1] > level)

    def fitted(self) -> Pose:
        """The pose that the keys give, on every frame."""
        out = self.pose.copy()
        for (b, path), keys in self.keys.items():
            curve = keys.evaluate(len(self.pose.rotation))
            if path == "rotation":
                out.rotation[:, b] = rotation.normalize(curve)
            else:
                out.translation[:, b] = curve
        return out

    def errors(self) -> tuple[float, Array]:
        """Worst angle (radians) of a bone, and distances (F, ends) in metres."""
        now = self.fitted()
        angle = rotation.angle_between(self.pose.rotation[:, self.turned], now.rotation[:, self.turned])
        return float(angle.max(initial=0.0)), np.linalg.norm(self._places(now) - self.target, axis=2)


def _angle(curve: Array, samples: Array) -> Array:
    """Angles between a fitted curve of quaternion components and unit samples, radians (F,)."""
    length = np.linalg.norm(curve, axis=1)
    cosine = np.abs(np.sum(curve * samples, axis=1)) / np.maximum(length, 1e-12)
    sine = np.linalg.norm(curve / np.maximum(length, 1e-12)[:, None] - samples, axis=1)
    return np.where(cosine > 0.99, 2.0 * sine, 2.0 * np.arccos(np.clip(cosine, 0.0, 1.0)))


def _corners(take: Take, window: slice) -> np.ndarray:
    """Rows of the window on which a contact sets in hard."""
    contact = take.contact[window]
    onset = np.diff(contact, axis=0, prepend=contact[:1])
    # impulse against a mass of a limb: the weight of the body is not stored in a take, so compare with itself
    level = max(float(np.median(contact[contact > 0])) * 3.0, 1e-6) if (contact > 0).any() else np.inf
    return np.flatnonzero((onset > level).any(axis=1))


def _channel(bone: str, path: str, keys: Keys, start: int, rate: float) -> Channel:
    values = np.stack([keys.slope_in * rate, keys.values, keys.slope_out * rate], axis=1)
    return Channel(bone, path, "CUBICSPLINE", (start + keys.rows) / rate, values)  # type: ignore[arg-type]


def add_layer(
    scene: Scene, assets: AssetStore, figure_id: str, baked: Baked, name: str, of: str | None = None
) -> Scene:
    """The scene with baked keys as the figure's topmost layer; ``of``: the take's id, of which earlier bakes give way."""
    figure = scene.figure(figure_id)
    kept = tuple(layer for layer in figure.layers if of is None or layer.of != of)
    layer = Layer(
        id=edit.fresh_id("layer", {layer.id for layer in kept}),
        name=name,
        of=of,
        asset=assets.add(baked.clip.to_arrays()),
        start=baked.start,
        end=baked.end,
    )
    return edit.figure(scene, figure_id, layers=(*kept, layer))
