"""The skin of bodies, divided into patches that are shapes of their own."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.physics.state import HULL_COLUMNS, HULLS, PATCH_BONES, SHAPE, SKIN, SKINNED

MOST_TRIANGLES = 16  # of a patch
INFLUENCES = 4  # bodies that a vertex may follow
Ints = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class SkinSpec:
    """A surface that deforms with bodies: their numbers (K,); ``positions`` (V, 3) m in the world, as they stand at first; ``slots`` (V, 4) into
    these bodies with ``weights`` (V, 4) that add up to one; ``triangles`` (T, 3), facing outward.
    """

    bodies: Sequence[int]
    positions: Array
    slots: Ints
    weights: Array
    triangles: Ints
    friction: float = 0.6
    restitution: float = 0.0


def welded(positions: Array, triangles: Ints) -> tuple[Ints, Ints]:
    """Which vertices to keep (W,), and the triangles (T, 3) among those, where vertices at the same place are one and triangles without area go."""
    size = max(float(np.ptp(positions, axis=0).max()), 1e-12)
    _, first, index = np.unique(
        np.round(positions / (1e-6 * size)).astype(np.int64), axis=0, return_index=True, return_inverse=True
    )
    t = index.reshape(-1)[triangles]
    t = t[(t[:, 0] != t[:, 1]) & (t[:, 1] != t[:, 2]) & (t[:, 2] != t[:, 0])]
    return first.astype(np.int64), t.astype(np.int64)


def opposite(triangles: Ints) -> Ints:
    """The corner (T, 3) that the next triangle has across each side, -1 at a rim or where more than two meet."""
    count = len(triangles)
    a, b, c = triangles, np.roll(triangles, -1, axis=1), np.roll(triangles, -2, axis=1)
    low, high = np.minimum(a, b).ravel(), np.maximum(a, b).ravel()
    order = np.lexsort((high, low))
    same = (low[order][1:] == low[order][:-1]) & (high[order][1:] == high[order][:-1])
    start = np.flatnonzero(np.concatenate([[True], ~same]))
    many = np.diff(np.append(start, 3 * count))
    found = np.full(3 * count, -1)
    first = start[many == 2]
    one, two = order[first], order[first + 1]
    found[one], found[two] = c.ravel()[two], c.ravel()[one]
    return found.reshape(count, 3)


def _pieces(middles: Array, rows: Ints) -> list[Ints]:
    """Triangles halved across where they lie apart most until few are left together."""
    if len(rows) <= MOST_TRIANGLES:
        return [rows]
    axis = int(np.argmax(np.ptp(middles[rows], axis=0)))
    rows = rows[np.argsort(middles[rows, axis], kind="stable")]
    half = len(rows) // 2
    return _pieces(middles, rows[:half]) + _pieces(middles, rows[half:])


def patches_of(skin: SkinSpec, x: Array, q: Array, first: int) -> tuple[np.ndarray, Array]:
    """The shapes of a skin's patches, and the rows that their vertices and triangles are, from row ``first`` on. x (K, 3), q (K, 4): poses of
    the principal axes of its bodies as they stand at first.

    A vertex has three rows: four places among the patch's bodies with their weights, then its place in the frame of each of them. A
    triangle has its three corners and those that lie across its sides, -1 for none. The vertices of its own triangles come first.
    """
    keep, triangles = welded(skin.positions, skin.triangles)
    positions, slots, weights = skin.positions[keep], skin.slots[keep], skin.weights[keep]
    local = rotation.rotate(rotation.conjugate(q[slots]), positions[:, None] - x[slots])  # (W, 4, 3)
    across = opposite(triangles)
    count = len(skin.bodies)
    share = np.zeros((len(positions), count))
    for k in range(INFLUENCES):
        np.add.at(share, (np.arange(len(positions)), slots[:, k]), weights[:, k])
    main = share[triangles].sum(axis=1).argmax(axis=1)
    middles = positions[triangles].mean(axis=1)
    rows, blocks, size = [], [], first
    for b in range(count):
        for piece in _pieces(middles, np.flatnonzero(main == b)) if (main == b).any() else ():
            own = np.unique(triangles[piece])
            beyond = np.setdiff1d(across[piece][across[piece] >= 0], own)[: HULLS - SKINNED - len(own)]
            vertices = np.concatenate([own, beyond])
            used = np.argsort(-share[vertices].sum(axis=0), kind="stable")[:PATCH_BONES]
            used = used[share[vertices][:, used].sum(axis=0) > 0.0]
            place = np.full(count, -1)
            place[used] = np.arange(len(used))
            data = np.zeros((3 * len(vertices) + len(piece), HULL_COLUMNS))
            at = place[slots[vertices]]
            w = np.where(at >= 0, weights[vertices], 0.0)
            data[: 3 * len(vertices) : 3, :4] = np.maximum(at, 0)
            data[: 3 * len(vertices) : 3, 4:8] = w / np.maximum(w.sum(axis=1, keepdims=True), 1e-12)
            data[1 : 3 * len(vertices) : 3, :9] = local[vertices][:, :3].reshape(-1, 9)
            data[2 : 3 * len(vertices) : 3, :3] = local[vertices][:, 3]
            number = np.full(len(positions) + 1, -1)
            number[vertices] = np.arange(len(vertices))
            data[3 * len(vertices) :, :3] = number[triangles[piece]]
            data[3 * len(vertices) :, 3:6] = number[across[piece]]
            row = np.zeros(1, SHAPE)
            row["kind"], row["body"], row["rotation"] = SKIN, skin.bodies[b], (0.0, 0.0, 0.0, 1.0)
            row["thin"] = np.inf  # a surface
            row["friction"], row["restitution"] = skin.friction, skin.restitution
            row["first"] = size, size + 3 * len(vertices), 0
            row["count"] = len(vertices), len(piece), len(own)
            row["bones"] = -1
            row["bones"][0, : len(used)] = np.asarray(skin.bodies)[used]
            middle = local_middle(positions[own], x[b], q[b])
            row["position"], row["reach"] = (
                middle,
                np.linalg.norm(rotation.rotate(rotation.conjugate(q[b]), positions[own] - x[b]) - middle, axis=1).max(),
            )
            rows.append(row)
            blocks.append(data)
            size += len(data)
    return np.concatenate(rows), np.concatenate(blocks)


def local_middle(points: Array, x: Array, q: Array) -> Array:
    """The mean (3,) of points (N, 3) in a frame."""
    mean: Array = rotation.rotate(rotation.conjugate(q), points - x).mean(axis=0)
    return mean


def skin_mates(shapes: np.ndarray) -> dict[int, Ints]:
    """By the body that patches of skin are on, the other bodies that move them."""
    found: dict[int, Ints] = {}
    skins = shapes[shapes["kind"] == SKIN]
    for b in np.unique(skins["body"]).tolist():
        bones = np.unique(skins["bones"][skins["body"] == b])
        found[b] = bones[(bones >= 0) & (bones != b)]
    return found
