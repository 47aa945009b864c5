"""Keys for a whole pose over time: every channel within its angle, and the ends of the limbs within their distance."""

import os
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from artuline.core.bake.hermite import Keys, Wish, calmed, fit, smooth
from artuline.core.errors import CancelledError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.goals import Goals, Led, goals_of, lead
from artuline.core.motion.skeleton import Pose, Skeleton
from artuline.core.scene.model import Figure, Shape

ROUNDS, POLISH_BEFORE = 40, 20  # times that channels are fitted anew for the places of the ends
SHARE = 0.7  # of what a place may be off that channels are fitted anew for
SHARED = 6  # times that two channels take over each other's rows
ABOUT = 2  # frames around one with too great an error at which its channels are held closer

JOLT = 2.0  # bounds by which a speed changes in a frame at a hit that is kept sharp

#: A channel: a bone's index, and "rotation" or "translation"; the goals and directions of limbs are counted after the bones.
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
    """Fits the channels ``turned`` and ``moved`` (bone indices) of a pose over frames (F, B), with the figure's root (F, 4, 4). Of ``limbs`` the goal and the
    direction are fitted instead of the turns of the upper bone and of the end. ``fine``: rows to a frame; of 2, every second row is what is smooth between two frames, and
    no key lies there.
    """

    def __init__(
        self, skeleton: Skeleton, root: Array, pose: Pose, turned: Sequence[int], moved: Sequence[int], hits: np.ndarray,
        points: Sequence[Point], step: int = 1, origin: int = 0, limbs: Sequence[Led] = (), fine: int = 1,
    ):  # fmt: skip
        self.fine = fine
        if fine > 1:
            at = np.arange((len(root) - 1) * fine + 1) / fine
            pose, root = between(pose, hits, at), _straight(root, at)
            hits, step, origin = hits * fine, step * fine, origin * fine
        self.skeleton, self.root, self.pose = skeleton, root, pose
        self.hits, self.points, self.step, self.origin = hits, list(points), step, origin
        self.limbs, self.turned = tuple(limbs), list(turned)
        led_bones = {b for w in self.limbs for b in (w.upper, w.end)}
        self.samples: dict[ChannelKey, Array] = {
            (int(b), "rotation"): rotation.make_continuous(pose.rotation[:, b]) for b in turned if b not in led_bones
        }
        self.samples |= {(int(b), "translation"): np.ascontiguousarray(pose.translation[:, b]) for b in moved}
        for i, limb in enumerate(self.limbs):
            goals = goals_of(skeleton, limb, pose)
            self.samples[self.goal(i), "translation"] = goals.place
            self.samples[self.goal(i), "rotation"] = rotation.make_continuous(goals.turn)
            self.samples[self.goal(i) + 1, "translation"] = goals.direction
        self.corners: dict[ChannelKey, frozenset[int]] = {}
        self.keys: dict[ChannelKey, Keys] = {}
        self._now = pose.copy()
        self._curves: dict[ChannelKey, Array] = dict(self.samples)
        self.target = self.places(pose)
        self.chains = [self._chain(b) for b, _ in self.points]
        self.bends = [self._bent_by(i) for i in range(len(self.limbs))]

    def goal(self, limb: int) -> int:
        """What counts as the bone of a limb's goal; that of its direction is the next."""
        return self.skeleton.size + 2 * limb

    def _chain(self, end: int) -> list[ChannelKey]:
        """The channels that move what a bone carries, from it on upwards."""
        found, b = [], end
        while b >= 0:
            found += [k for k in ((b, "rotation"), (b, "translation")) if k in self.samples]
            for i, limb in enumerate(self.limbs):
                g = self.goal(i)
                if b == limb.end:
                    # the goal leads it, whatever carries the limb
                    return [*found, (g, "rotation"), (g, "translation")]
                if b == limb.upper:
                    found += [(g, "translation"), (g + 1, "translation")]
            b = self.skeleton.parents[b]
        return found

    def _bent_by(self, limb: int) -> list[ChannelKey]:
        """The channels that the turns of a limb's bones come from."""
        which = self.limbs[limb]
        return [*self._chain(which.lower), (self.goal(limb), "rotation")]

    def places(self, pose: Pose) -> Array:
        """Where the points are (F, P, 3)."""
        return self._places(pose, self.root)

    def _places(self, pose: Pose, root: Array) -> Array:
        m = self.skeleton.global_matrices(pose, root)[:, [b for b, _ in self.points]]
        offsets = np.array([o for _, o in self.points]).reshape(-1, 3)
        return np.asarray(np.einsum("fpij,pj->fpi", m[..., :3, :3], offsets) + m[..., :3, 3])

    def fit_all(
        self,
        degrees: float,
        millimetres: float,
        progress: Callable[[int], None],
        cancelled: Callable[[], bool],
        shared: bool = False,
    ) -> None:
        """Fit every channel, then those anew, around the frames where it is, whose errors add up too far at an end. ``shared``: turn and place of a bone
        have keys at the same rows.
        """
        frames = len(self.pose.rotation)
        unit = float(np.linalg.norm(self.root[0, :3, 0]))
        most = {k: np.radians(degrees) if k[1] == "rotation" else 0.5e-3 * millimetres / unit for k in self.samples}
        for i, limb in enumerate(self.limbs):
            # what the middle looks at turns the limb about its root
            far = float(np.median(np.linalg.norm(self._reach(limb), axis=1)))
            most[self.goal(i) + 1, "translation"] = 0.5 * np.radians(degrees) * far
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
            self._stand()
            # keys are added until the ends are where they should be; that at last some are too many is seen once more
            polish = False
            changed = set(self._tighten(bounds, 1e-3 * millimetres, unit))
            changed |= self._tighten_limbs(bounds, np.radians(degrees))
            if changed:
                todo, grown = sorted(changed), grown | changed
            elif grown and round_ < POLISH_BEFORE:
                todo, polish, grown = sorted(grown), True, set()
            else:
                break
        if shared:
            self._share(bounds)
            for _ in range(ROUNDS):
                # what was fitted anew errs otherwise, which may add up to more at an end
                changed = set(self._tighten(bounds, 1e-3 * millimetres, unit))
                changed |= self._tighten_limbs(bounds, np.radians(degrees))
                if not changed or cancelled():
                    break
                for k in sorted(changed):
                    self._fit(k, bounds[k], False)
                self._share(bounds)
        if self.fine == 1:
            self._calm(bounds, 1e-3 * millimetres, np.radians(degrees))

    def _share(self, bounds: dict[ChannelKey, Array]) -> None:
        """Give turn and place of a bone keys at the rows of both; where that needs more keys, both get them."""
        for b in {b for b, path in self.keys if path == "translation" and (b, "rotation") in self.keys}:
            both = (b, "rotation"), (b, "translation")
            for _ in range(SHARED):
                rows = np.union1d(*(self.keys[k].rows for k in both))
                for k in both:
                    if len(rows) > len(self.keys[k].rows):
                        self._keep(k, fit(self.samples[k], self._wish(k, bounds[k]), rows))
                if len(self.keys[both[0]].rows) == len(self.keys[both[1]].rows):
                    break
        self._stand()

    def _calm(self, bounds: dict[ChannelKey, Array], most: float, turn: float) -> None:
        """Let curves mind what lies between the rows, but for those by which an end would be too far off then."""
        keys, curves = dict(self.keys), dict(self._curves)
        for k, before in keys.items():
            self._keep(k, calmed(before, self.samples[k], self._wish(k, bounds[k])))
        self._stand()
        for _ in range(ROUNDS):
            bad = {k for p in np.flatnonzero((self.distances() > most).any(axis=0)) for k in self.chains[p]}
            bad |= {k for i in np.flatnonzero(self._limb_angles().max(axis=0) > turn) for k in self.bends[i]}
            bad = {k for k in bad if self.keys[k] is not keys[k]}
            if not bad:
                return
            for k in bad:
                self.keys[k], self._curves[k] = keys[k], curves[k]
            self._stand()

    def _wish(self, key: ChannelKey, bounds: Array) -> Wish:
        return Wish(
            bounds,
            key[1] == "rotation",
            self.corners[key],
            step=self.step,
            origin=self.origin,
            fine=self.fine,
            calm=False,
        )

    def _fit(self, key: ChannelKey, bounds: Array, polish: bool) -> None:
        self._keep(key, fit(self.samples[key], self._wish(key, bounds), None if polish else self.keys[key].rows))

    def _keep(self, key: ChannelKey, keys: Keys) -> None:
        self.keys[key] = keys
        curve = keys.evaluate(len(self.pose.rotation))
        self._curves[key] = rotation.normalize(curve) if key[1] == "rotation" else curve

    def _stand(self) -> None:
        """The pose that the curves give now, with the limbs led."""
        # a limb is led from how its bones stand without
        self._now = self.pose.copy()
        self._put(self._now, self._curves)

    def _put(self, pose: Pose, curves: Mapping[ChannelKey, Array]) -> None:
        for (b, path), values in curves.items():
            if b < self.skeleton.size:
                getattr(pose, path)[:, b] = values
        for i, limb in enumerate(self.limbs):
            g = self.goal(i)
            goals = Goals(curves[g, "translation"], curves[g, "rotation"], curves[g + 1, "translation"])
            lead(self.skeleton, limb, pose, goals)

    def _error(self, key: ChannelKey) -> Array:
        """How far a channel is off (F,): radians, or the figure's unit."""
        a, b = self.samples[key], self._curves[key]
        return rotation.angle_between(a, b) if key[1] == "rotation" else np.asarray(np.linalg.norm(a - b, axis=1))

    def _tighten(self, bounds: dict[ChannelKey, Array], most: float, unit: float) -> list[ChannelKey]:
        """Lower the bounds of channels around the frames where an end is too far off, by what they have a part in; which these are."""
        distance = self.distances()
        if distance.max(initial=0.0) <= most:
            return []
        now = self.skeleton.global_matrices(self._now, self.root)[..., :3, 3]
        wrong = np.flatnonzero((distance > most).any(axis=0))
        concerned = dict.fromkeys(k for p in wrong for k in self.chains[p])
        error = {k: self._error(k) * (1.0 if k[1] == "rotation" else unit) for k in concerned}
        # what a channel turns, it turns about here
        pivot = {
            k: now[:, self.limbs[(k[0] - self.skeleton.size) // 2].end if k[0] >= self.skeleton.size else k[0]] for k in concerned
        }  # fmt: skip
        changed: set[ChannelKey] = set()
        for p in wrong:
            chain, bad = self.chains[p], np.flatnonzero(distance[:, p] > most)
            if not chain:
                continue
            part = np.array([
                error[k][bad] * (np.linalg.norm(self.target[bad, p] - pivot[k][bad], axis=1) if k[1] == "rotation" else 1.0)
                for k in chain
            ])  # fmt: skip
            share = SHARE * most / distance[bad, p]
            # those with the greatest parts first: they get by with the fewest new keys
            large = part >= 0.6 * part.max(axis=0)
            for c, k in enumerate(chain):
                for f, s in zip(bad[large[c]], share[large[c]]):
                    around = slice(max(f - ABOUT * self.fine, 0), f + ABOUT * self.fine + 1)
                    wanted = s * error[k][f] / (1.0 if k[1] == "rotation" else unit)
                    bounds[k][around] = np.minimum(bounds[k][around], max(wanted, 1e-7))
                    changed.add(k)
        return sorted(changed)

    def _tighten_limbs(self, bounds: dict[ChannelKey, Array], most: float) -> set[ChannelKey]:
        """Lower the bounds of the channels that bend a limb around the frames where one of its bones is turned too far."""
        changed: set[ChannelKey] = set()
        for limb, keys, angles in zip(self.limbs, self.bends, self._limb_angles().T):
            bad = np.flatnonzero(angles > most)
            if not len(bad):
                continue
            length = np.linalg.norm(self._reach(limb), axis=1)
            part = np.array([self._error(k)[bad] / (1.0 if k[1] == "rotation" else length[bad]) for k in keys])
            large = part >= 0.6 * part.max(axis=0)
            for c, k in enumerate(keys):
                for f, s in zip(bad[large[c]], SHARE * most / angles[bad[large[c]]]):
                    around = slice(max(f - ABOUT * self.fine, 0), f + ABOUT * self.fine + 1)
                    bounds[k][around] = np.minimum(bounds[k][around], max(s * self._error(k)[f], 1e-7))
                    changed.add(k)
        return changed

    def _limb_angles(self) -> Array:
        """The worst angle (F, L) of the three bones of each limb."""
        bones = np.array([[x.upper, x.lower, x.end] for x in self.limbs], int).reshape(-1, 3)
        found: Array = rotation.angle_between(self.pose.rotation[:, bones], self._now.rotation[:, bones])
        return found.max(axis=2, initial=0.0)

    def _reach(self, limb: Led) -> Array:
        """From where a limb begins to where its middle looks (F, 3), in the figure's unit."""
        i = self.limbs.index(limb)
        return self.samples[self.goal(i) + 1, "translation"] - self.samples[self.goal(i), "translation"]

    def _sharp(self, samples: Array, bound: float) -> frozenset[int]:
        """Hits at which this channel changes its speed at once, by more in a frame than what may be off anyway."""
        if len(samples) < 5 or not len(self.hits):
            return frozenset()
        jerk = np.linalg.norm(np.diff(samples, 2, axis=0), axis=1)
        level = max(5.0 * np.median(jerk), JOLT * bound) + 1e-9
        inside = self.hits[(self.hits >= 1) & (self.hits < len(samples) - 1)]
        return frozenset(int(h) for h in inside if jerk[h - 1] > level)

    def fitted(self, at: Array) -> Pose:
        """The pose that the keys give at rows (N,), between them too; what has no keys as it was."""
        out = between(self.pose, self.hits, at)
        curves = {k: keys.evaluate(at) for k, keys in self.keys.items()}
        self._put(out, {k: rotation.normalize(c) if k[1] == "rotation" else c for k, c in curves.items()})
        return out

    @property
    def shown(self) -> Pose:
        """The pose that the keys give on the rows."""
        return self._now

    def angles(self) -> Array:
        """Angles (F, channels that turn) of the bones against the samples, radians."""
        found: Array = rotation.angle_between(self.pose.rotation[:, self.turned], self._now.rotation[:, self.turned])
        return found

    def distances(self) -> Array:
        """Distances (F, P) of the points from where they should be, metres."""
        return np.asarray(np.linalg.norm(self.places(self._now) - self.target, axis=2))

    def between(self, places: int) -> float:
        """The worst distance of a point, m, at so many places between every two rows, from where it is on smooth ways through the rows, which are straight beside hits."""
        worst, count = 0.0, len(self.pose.rotation)
        if count < 2:
            return worst
        for t in (np.arange(places) + 1.0) / (places + 1.0):
            at = np.arange(count - 1) + t
            root = _straight(self.root, at)
            a, b = (self._places(x, root) for x in (self.fitted(at), between(self.pose, self.hits, at)))
            worst = max(worst, float(np.linalg.norm(a - b, axis=2).max(initial=0.0)))
        return worst


def between(pose: Pose, hits: np.ndarray, at: Array) -> Pose:
    """A pose over rows (F, B) at rows (N,), between them too: on smooth ways, straight beside rows at which something hits."""
    count, bones = pose.rotation.shape[:2]
    sharp = np.zeros(count, bool)
    sharp[hits] = True
    place = smooth(pose.translation.reshape(count, -1), sharp, False).evaluate(at)
    turn = smooth(rotation.make_continuous(pose.rotation).reshape(count, -1), sharp, False).evaluate(at)
    low = np.clip(np.floor(at).astype(int), 0, count - 1)
    return Pose(place.reshape(-1, bones, 3), rotation.normalize(turn.reshape(-1, bones, 4)), pose.scale[low])


def _straight(root: Array, at: Array) -> Array:
    """A root (F, 4, 4) at rows (N,), straight between them."""
    low = np.clip(np.floor(at).astype(int), 0, max(len(root) - 2, 0))
    share = (at - low)[:, None, None]
    return np.asarray(root[low] + (root[np.minimum(low + 1, len(root) - 1)] - root[low]) * share)
