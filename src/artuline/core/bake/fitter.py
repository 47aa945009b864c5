"""Keys for a whole pose over time: every channel within its angle, and the ends of the limbs within their distance."""

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from artuline.core.bake.hermite import Keys, Wish, fit
from artuline.core.errors import CancelledError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import Pose, Skeleton
from artuline.core.scene.model import Figure, Shape

ROUNDS, POLISH_BEFORE = 40, 20  # times that channels are fitted anew for the places of the ends
SHARE = 0.7  # of what a place may be off that channels are fitted anew for
ABOUT = 2  # frames around one with too great an error at which its channels are held closer

JOLT = 2.0  # bounds by which a speed changes in a frame at a hit that is kept sharp

#: A channel: a bone's index, and "rotation" or "translation".
ChannelKey = tuple[int, str]
#: A point that is watched: a bone's index, and the place in its frame (3,).
Point = tuple[int, Array]


def watched(figure: Figure, bones: set[int]) -> list[Point]:
    """The points at the ends of the limbs below some bones: the origins of the last bones, and the far ends of the shapes of bodies that end there."""
    parents = [figure.bone_index[b.parent] if b.parent is not None else -1 for b in figure.bones]
    below = set(bones)
    for b, up in enumerate(parents):
        if up in below:
            below.add(b)
    found: list[Point] = []
    for b in sorted(below):
        if b in parents:
            continue
        found.append((b, np.zeros(3)))
        body = figure.body_of.get(figure.bones[b].name)
        far = [_far_end(s) for s in body.shapes] if body is not None else []
        if far:
            # shapes are in metres, bones in the file's unit
            found.append((b, max(far, key=lambda x: float(x @ x)) / figure.unit))
    return found


def _far_end(shape: Shape) -> Array:
    """The point of a shape's core that is farthest from its bone's origin (3,)."""
    at, turn = np.array(shape.position), np.array(shape.rotation)
    if shape.kind == "capsule":
        corners = np.array([[shape.half_length, 0.0, 0.0], [-shape.half_length, 0.0, 0.0]])
    elif shape.kind == "box":
        corners = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) * np.array(shape.half)
    elif shape.kind == "hull":
        corners = np.array(shape.points)
    else:
        corners = np.zeros((1, 3))
    ends = at + rotation.rotate(turn, corners)
    return np.asarray(ends[np.argmax(np.linalg.norm(ends, axis=1))])


class Fitter:
    """Fits the channels ``turned`` and ``moved`` (bone indices) of a pose over frames (F, B), with the figure's root (F, 4, 4)."""

    def __init__(
        self, skeleton: Skeleton, root: Array, pose: Pose, turned: Sequence[int], moved: Sequence[int], hits: np.ndarray,
        points: Sequence[Point], step: int = 1, origin: int = 0,
    ):  # fmt: skip
        self.skeleton, self.root, self.pose = skeleton, root, pose
        self.hits, self.points, self.step, self.origin = hits, list(points), step, origin
        self.samples: dict[ChannelKey, Array] = {
            (int(b), "rotation"): rotation.make_continuous(pose.rotation[:, b]) for b in turned
        }
        self.samples |= {(int(b), "translation"): pose.translation[:, b] for b in moved}
        self.corners: dict[ChannelKey, frozenset[int]] = {}
        self.keys: dict[ChannelKey, Keys] = {}
        self._now = pose.copy()
        self.target = self.places(pose)
        self.chains = [self._chain(b) for b, _ in self.points]

    def _chain(self, end: int) -> list[ChannelKey]:
        found, b = [], end
        while b >= 0:
            found += [k for k in ((b, "rotation"), (b, "translation")) if k in self.samples]
            b = self.skeleton.parents[b]
        return found

    def places(self, pose: Pose) -> Array:
        """Where the points are (F, P, 3)."""
        return self._places(pose, self.root)

    def _places(self, pose: Pose, root: Array) -> Array:
        m = self.skeleton.global_matrices(pose, root)[:, [b for b, _ in self.points]]
        offsets = np.array([o for _, o in self.points]).reshape(-1, 3)
        return np.asarray(np.einsum("fpij,pj->fpi", m[..., :3, :3], offsets) + m[..., :3, 3])

    def fit_all(
        self, degrees: float, millimetres: float, progress: Callable[[int], None], cancelled: Callable[[], bool]
    ) -> None:
        """Fit every channel, then those anew, around the frames where it is, whose errors add up too far at an end."""
        frames = len(self.pose.rotation)
        unit = float(np.linalg.norm(self.root[0, :3, 0]))
        most = {k: np.radians(degrees) if k[1] == "rotation" else 0.5e-3 * millimetres / unit for k in self.samples}
        bounds = {k: np.full(frames, most[k]) for k in self.samples}
        self.corners = {
            k: self._sharp(x, most[k] * (0.5 if k[1] == "rotation" else 1.0)) for k, x in self.samples.items()
        }
        todo, polish = list(self.samples), True
        grown: set[ChannelKey] = set()
        for round_ in range(ROUNDS):
            # the compiled search holds no lock
            with ThreadPoolExecutor(max_workers=os.cpu_count()) as pool:
                for _done in pool.map(
                    lambda key, whole=polish: None if cancelled() else self._fit(key, bounds[key], whole), todo
                ):
                    progress(len(self.keys))
            if cancelled():
                raise CancelledError
            # keys are added until the ends are where they should be; that at last some are too many is seen once more
            polish = False
            changed = set(self._tighten(bounds, 1e-3 * millimetres, unit))
            if changed:
                todo, grown = sorted(changed), grown | changed
            elif grown and round_ < POLISH_BEFORE:
                todo, polish, grown = sorted(grown), True, set()
            else:
                return

    def _fit(self, key: ChannelKey, bounds: Array, polish: bool) -> None:
        wish = Wish(bounds, key[1] == "rotation", self.corners[key], step=self.step, origin=self.origin)
        keys = self.keys[key] = fit(self.samples[key], wish, None if polish else self.keys[key].rows)
        curve = keys.evaluate(len(bounds))
        if key[1] == "rotation":
            self._now.rotation[:, key[0]] = rotation.normalize(curve)
        else:
            self._now.translation[:, key[0]] = curve

    def _tighten(self, bounds: dict[ChannelKey, Array], most: float, unit: float) -> list[ChannelKey]:
        """Lower the bounds of channels around the frames where an end is too far off, by what they have a part in; which these are."""
        distance = self.distances()
        if distance.max(initial=0.0) <= most:
            return []
        now = self.skeleton.global_matrices(self._now, self.root)[..., :3, 3]
        error = {
            k: rotation.angle_between(self.pose.rotation[:, k[0]], self._now.rotation[:, k[0]]) if k[1] == "rotation"
            else unit * np.linalg.norm(self.pose.translation[:, k[0]] - self._now.translation[:, k[0]], axis=1)
            for k in self.samples
        }  # fmt: skip
        changed: set[ChannelKey] = set()
        for p, chain in enumerate(self.chains):
            bad = np.flatnonzero(distance[:, p] > most)
            if not len(bad) or not chain:
                continue
            part = np.array([
                error[k][bad] * (np.linalg.norm(self.target[bad, p] - now[bad, k[0]], axis=1) if k[1] == "rotation" else 1.0)
                for k in chain
            ])  # fmt: skip
            share = SHARE * most / distance[bad, p]
            # those with the greatest parts first: they get by with the fewest new keys
            large = part >= 0.6 * part.max(axis=0)
            for c, k in enumerate(chain):
                for f, s in zip(bad[large[c]], share[large[c]]):
                    around = slice(max(f - ABOUT, 0), f + ABOUT + 1)
                    wanted = s * error[k][f] / (1.0 if k[1] == "rotation" else unit)
                    bounds[k][around] = np.minimum(bounds[k][around], max(wanted, 1e-7))
                    changed.add(k)
        return sorted(changed)

    def _sharp(self, samples: Array, bound: float) -> frozenset[int]:
        """Hits at which this channel changes its speed at once, by more in a frame than what may be off anyway."""
        if len(samples) < 5 or not len(self.hits):
            return frozenset()
        jerk = np.linalg.norm(np.diff(samples, 2, axis=0), axis=1)
        level = max(5.0 * np.median(jerk), JOLT * bound) + 1e-9
        inside = self.hits[(self.hits >= 1) & (self.hits < len(samples) - 1)]
        return frozenset(int(h) for h in inside if jerk[h - 1] > level)

    def fitted(self, at: Array) -> Pose:
        """The pose that the keys give at rows (N,), between them too; what has no keys as it was, straight between the rows."""
        low = np.clip(np.floor(at).astype(int), 0, len(self.pose.rotation) - 2)
        share = at - low
        out = Pose(
            self.pose.translation[low] + (self.pose.translation[low + 1] - self.pose.translation[low]) * share[:, None, None],
            rotation.slerp(self.pose.rotation[low], self.pose.rotation[low + 1], np.broadcast_to(share[:, None], self.pose.rotation[low].shape[:2])),
            self.pose.scale[low],
        )  # fmt: skip
        for (b, path), keys in self.keys.items():
            curve = keys.evaluate(at)
            if path == "rotation":
                out.rotation[:, b] = rotation.normalize(curve)
            else:
                out.translation[:, b] = curve
        return out

    def angles(self) -> Array:
        """Angles (F, channels that turn) of the bones against the samples, radians."""
        turned = [b for b, path in self.samples if path == "rotation"]
        found: Array = rotation.angle_between(self.pose.rotation[:, turned], self._now.rotation[:, turned])
        return found

    def distances(self) -> Array:
        """Distances (F, P) of the points from where they should be, metres."""
        return np.asarray(np.linalg.norm(self.places(self._now) - self.target, axis=2))

    def between(self, places: int) -> float:
        """The worst distance of a point, m, at so many places between every two frames, from the straight way between where it is on them."""
        worst, count = 0.0, len(self.pose.rotation)
        if count < 2:
            return worst
        for t in (np.arange(places) + 1.0) / (places + 1.0):
            at = np.arange(count - 1) + t
            fitted = self.fitted(at)
            root = self.root[:-1] + (self.root[1:] - self.root[:-1]) * t
            true = Pose(
                self.pose.translation[:-1] + np.diff(self.pose.translation, axis=0) * t,
                rotation.slerp(self.pose.rotation[:-1], self.pose.rotation[1:], np.full(self.pose.rotation[1:].shape[:2], t)),
                self.pose.scale[:-1],
            )  # fmt: skip
            worst = max(
                worst,
                float(np.linalg.norm(self._places(fitted, root) - self._places(true, root), axis=2).max(initial=0.0)),
            )
        return worst
