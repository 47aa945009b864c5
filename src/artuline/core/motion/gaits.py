"""What a clip does with the feet: how far it goes in a round, when each foot stands, and the same motion on the spot."""

from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import load_clip
from artuline.core.motion.skeleton import Pose, rest_matrices, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import ClipRef, Figure, Shape, Track
from artuline.core.setup.anatomy import segment_of

RATE = 60.0  # samples of a clip in a second
FEWEST, MOST = 16, 1200  # samples
LEG_BEGINS = ("thigh", "upper arm")
LIFTED = 0.03  # of a leg's length above its lowest: what is lower may stand
SLOW = 0.35  # share of the speed at which it goes, at which a foot that stands may move; of a leg's length a second at least
LEAST_WAY = 0.08  # of a leg's length that a round goes, or it is one on the spot
GAP = 0.05  # of a round by which a foot that stands may be interrupted


@dataclass(frozen=True)
class Foot:
    """A foot and the two bones that bend to bring it somewhere (indices, from the body outwards; others may be between), and points of its sole: by bone (K,) and place in its frame (K, 3), file units."""

    bones: tuple[int, int, int]
    carriers: NDArray[np.int64]
    points: Array

    def sole(self, matrices: Array) -> Array:
        """Places (..., K, 3) of its sole's points, by the matrices (..., B, 4, 4) of all bones."""
        m = matrices[..., self.carriers, :, :]
        return np.asarray((m[..., :3, :3] @ self.points[:, :, None])[..., 0] + m[..., :3, 3])


@dataclass(frozen=True, eq=False)
class Stride:
    """A clip as steps, sampled at N + 1 even times: its first and its last are the same moment of a round if it is one.

    ``way`` (3,): how far it goes in all, m in the figure's own frame; ``speed`` m/s that its feet ask for. ``pose``: (N + 1, B) with the
    way taken out. ``stands`` (N + 1, feet): when each foot stands; ``swing``: the share that is done of its way through the air. ``steps``: how often a foot stands anew, on average.
    """

    clip: str
    duration: float
    way: Array
    speed: float
    forward: Array
    pose: Pose
    stands: NDArray[np.bool_]
    swing: Array
    steps: int


def feet_of(figure: Figure) -> tuple[Foot, ...]:
    """The feet of a figure, by the names of its bones: the upper one of those that are called so, on a leg from the thigh down, or of two bones."""
    return _feet(figure.bones, figure.bodies, figure.unit)


@lru_cache(maxsize=32)
def _feet(bones: tuple[object, ...], bodies: tuple[object, ...], unit: float) -> tuple[Foot, ...]:
    figure = Figure(id="of", name="of", bones=bones, bodies=bodies, unit=unit)  # type: ignore[arg-type]
    found, rest = [], rest_matrices(figure)
    for bone in figure.bones:
        above = figure.above(bone.name)
        if segment_of(bone.name) != "foot" or len(above) < 2 or any(segment_of(b) == "foot" for b in above):
            continue
        first = next((b for b in above[1:] if segment_of(b) in LEG_BEGINS), above[1])
        below = figure.below(bone.name)
        carriers, points = [], []
        for name in sorted(below, key=figure.bone_index.__getitem__):
            mine = [p for s in (figure.body_of[name].shapes if name in figure.body_of else ()) for p in _corners(s)]
            lowest = _lowest(rest[figure.bone_index[name]], np.array(mine) / unit) if mine else np.zeros((1, 3))
            points.append(lowest)
            carriers += [figure.bone_index[name]] * len(lowest)
        if not any(name in figure.body_of for name in below):
            # without bodies: where its bones are, as low as the lowest
            low = min(float(rest[c, 1, 3]) for c in carriers)
            for k, c in enumerate(carriers):
                place = rest[c, :3, 3].copy()
                place[1] = low
                points[k] = (np.linalg.inv(rest[c]) @ np.append(place, 1.0))[None, :3]
        a, b, c = (figure.bone_index[n] for n in (first, above[0], bone.name))
        found.append(Foot((a, b, c), np.array(carriers), np.concatenate(points)))
    return tuple(found)


def _corners(shape: Shape) -> list[Array]:
    """Points on a shape, in its bone's frame, m."""
    if shape.kind == "hull":
        local = np.array(shape.points)
    elif shape.kind == "box":
        local = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) * shape.half
    else:
        ball = shape.radius * np.array(
            [
                [0, 1, 0],
                [0, -1, 0],
                [0, 0, 1],
                [0, 0, -1],
                [0.7, 0.7, 0],
                [0.7, -0.7, 0],
                [-0.7, 0.7, 0],
                [-0.7, -0.7, 0],
            ]
        )
        ends = (-shape.half_length, shape.half_length) if shape.kind == "capsule" else (0.0,)
        local = np.concatenate([ball + np.array([x, 0.0, 0.0]) for x in ends])
    return list(rotation.rotate(np.array(shape.rotation), local) + np.array(shape.position))


def _lowest(matrix: Array, points: Array) -> Array:
    """Those of some points (K, 3) that are lowest in the rest pose, at most four far from each other."""
    place = points @ matrix[:3, :3].T + matrix[:3, 3]
    size = float(np.ptp(place, axis=0).max())
    low = np.flatnonzero(place[:, 1] < place[:, 1].min() + 0.15 * size)
    found = [int(low[np.argmin(place[low, 1])])]
    while len(found) < min(4, len(low)):
        gap = np.linalg.norm(place[low][:, None] - place[found][None], axis=2).min(axis=1)
        if gap.max() < 0.1 * size:
            break
        found.append(int(low[np.argmax(gap)]))
    return points[found]


def forward_of(figure: Figure) -> Array:
    """Where a figure faces at rest (3,), level, in its own frame: where its toes are, or its nose, or along z."""
    rest = rest_matrices(figure.changed(position=(0.0, 0.0, 0.0), turn=0.0, track=Track()))
    children: dict[int, list[int]] = {}
    for i, up in enumerate(skeleton_of(figure).parents):
        children.setdefault(up, []).append(i)
    ways = []
    for foot in feet_of(figure):
        end = foot.bones[2]
        tips = [rest[i, :3, 3] for i in children.get(end, [])] or [*foot.sole(rest)]
        ways.append((np.mean(tips, axis=0) - rest[end, :3, 3]) * [1.0, 0.0, 1.0])
    way = np.sum(ways, axis=0) if ways else np.zeros(3)
    size = float(np.linalg.norm(way))
    return way / size if size > 1e-4 * max(figure.unit, 1e-9) else np.array([0.0, 0.0, 1.0])


def stride_of(figure: Figure, assets: AssetStore, ref: ClipRef) -> Stride:
    """A clip of a figure as steps. Raises ArtulineError if its data is damaged."""
    skeleton, clip = skeleton_of(figure), load_clip(assets, ref.asset)
    count = int(np.clip(np.ceil(ref.duration * RATE), FEWEST, MOST))
    times = np.linspace(0.0, ref.duration, count + 1)
    pose = clip.sample(skeleton, times)
    pose = Pose(pose.translation, rotation.make_continuous(pose.rotation), pose.scale)
    unit = np.diag([figure.unit, figure.unit, figure.unit, 1.0])
    feet, duration = feet_of(figure), max(ref.duration, 1e-6)
    moving = [
        figure.bone_index[c.bone] for c in clip.channels if c.path == "translation" and c.bone in figure.bone_index
    ]
    top = min(moving, default=-1)
    matrices = skeleton.global_matrices(pose, unit)
    leg = _leg(figure, feet)
    way = np.zeros(3)
    if top >= 0:
        way = (matrices[-1, top, :3, 3] - matrices[0, top, :3, 3]) * [1.0, 0.0, 1.0]
        if np.linalg.norm(way) < LEAST_WAY * leg:
            way = np.zeros(3)
        else:
            up = skeleton.parents[top]
            # the way in the frame of what carries the bone that travels, which does not turn
            carried = matrices[0, up] if up >= 0 else unit
            local = np.linalg.solve(carried[:3, :3], way)
            pose.translation[:, top] -= (times / duration)[:, None] * local
            matrices[:, :, :3, 3] -= (times / duration)[:, None, None] * way
    stands, speed, forward = _standing(feet, matrices, way / duration, duration, leg)
    if not np.linalg.norm(forward):
        forward = forward_of(figure)
    landings = (stands[1:] & ~stands[:-1]).sum(axis=0) + (stands[0] & ~stands[-2]) if len(feet) else np.zeros(0)
    steps = max(int(np.round(landings.mean())), 1) if len(landings) else 1
    return Stride(ref.name, duration, way, speed, forward, pose, stands, _swings(stands), steps)


def _leg(figure: Figure, feet: tuple[Foot, ...]) -> float:
    """Mean length of the legs, m."""
    rest = rest_matrices(figure)[:, :3, 3]
    lengths = [
        np.linalg.norm(rest[b] - rest[a]) + np.linalg.norm(rest[c] - rest[b]) for a, b, c in (f.bones for f in feet)
    ]
    return float(np.mean(lengths)) if lengths else 0.5 * max(float(np.ptp(rest[:, 1])), 1e-6)


def _standing(
    feet: tuple[Foot, ...], matrices: Array, travel: Array, duration: float, leg: float
) -> tuple[NDArray[np.bool_], float, Array]:
    """When feet stand (N + 1, feet), the speed (m/s) and the direction (3,) at which they ask to go: those of a clip that travels,
    or, where it goes on the spot, against which standing feet move. matrices (N + 1, B, 4, 4): on the spot.
    """
    count = len(matrices)
    stands = np.ones((count, len(feet)), bool)
    speed = float(np.linalg.norm(travel))
    if not feet:
        return stands, speed, travel / max(speed, 1e-12)
    soles = [f.sole(matrices) for f in feet]
    step = duration / (count - 1)
    low = [s[..., 1].min(axis=1) for s in soles]
    # the point that touches, whichever is lowest, and how it moves
    moves = []
    for s, h in zip(soles, low):
        point = s[np.arange(count), s[..., 1].argmin(axis=1)]
        velocity = np.gradient(s, step, axis=0)
        moves.append(
            np.take_along_axis(velocity, s[..., 1].argmin(axis=1)[:, None, None], axis=1)[:, 0] * [1.0, 0.0, 1.0]
        )
        assert len(point) == len(h)
    near = np.stack([h < h.min() + LIFTED * leg for h in low], axis=1)
    if speed == 0.0:
        backward = np.concatenate([m[n] for m, n in zip(moves, near.T)])
        travel = -np.median(backward, axis=0)
        speed = float(np.linalg.norm(travel))
        if speed < 0.1 * leg:
            travel, speed = np.zeros(3), 0.0
    most = max(SLOW * speed, 0.25 * leg)
    for k, (m, n) in enumerate(zip(moves, near.T)):
        stands[:, k] = _whole(n & (np.linalg.norm(m + travel, axis=1) < most), max(int(GAP * count), 1))
    return stands, speed, travel / max(speed, 1e-12)


def _swings(stands: NDArray[np.bool_]) -> Array:
    """The share (N + 1, feet) that is done of each stretch in which a foot does not stand, going round; 0 while it stands."""
    count = len(stands) - 1
    made = np.zeros(stands.shape)
    for k, on in enumerate(stands[:-1].T):
        if on.all() or not on.any():
            continue
        first = int(np.flatnonzero(on & ~np.roll(on, -1))[0]) + 1
        turned = np.roll(on, -first)
        edges = np.flatnonzero(np.diff(np.concatenate([[True], turned, [True]]).astype(int)))
        for a, b in zip(edges[::2], edges[1::2]):
            made[(np.arange(a, b) + first) % count, k] = (np.arange(a, b) - a + 0.5) / (b - a)
    made[-1] = made[0]
    return made


def _whole(on: NDArray[np.bool_], gap: int) -> NDArray[np.bool_]:
    """Without interruptions of a few samples, nor so few on their own; going round."""
    if on.all() or not on.any():
        return on
    body = on[:-1].copy()
    first = int(np.flatnonzero(body & ~np.roll(body, 1))[0]) if (body & ~np.roll(body, 1)).any() else 0
    turned = np.roll(body, -first)
    for value in (False, True):
        edges = np.flatnonzero(np.diff(np.concatenate([[not turned[0]], turned, [not turned[-1]]]).astype(int)))
        for a, b in pairwise(edges):
            if turned[a] == value and b - a <= gap and a > 0 and b < len(turned):
                turned[a:b] = not value
    made = np.roll(turned, first)
    return np.append(made, made[0])
