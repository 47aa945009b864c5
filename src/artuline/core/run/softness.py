"""How a soft part fared in a take: its volume, whether its skin turned inside out, and whether its edge shows."""

from dataclasses import dataclass

import numpy as np

from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import skeleton_of
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Soft

SMALL = 1e-3  # of the mean area of its triangles: those that are smaller have no direction


@dataclass(frozen=True, eq=False)
class Softness:
    """Over frames (F,): the share of its volume that a part has more or less (F,), and how many of its triangles are inside out (F,). At its edge: the largest step in place (m)
    and in direction (radians) from what follows the skeleton alone to what begins to move; ``moved``: the farthest that any of its skin went from where the skeleton alone would have it, m.
    """

    frames: np.ndarray
    swollen: Array
    inverted: np.ndarray
    step: float
    bend: float
    moved: float

    @property
    def lost(self) -> float:
        """The largest share of its volume that it lost."""
        return float(np.maximum(-self.swollen, 0.0).max(initial=0.0))


def softness(figure: Figure, assets: AssetStore, take: Take, soft: Soft) -> Softness:
    """What became of a soft part of a figure in a take."""
    assert figure.asset is not None and figure.plain is not None
    mesh, plain = (Mesh.from_arrays(assets[x]) for x in (figure.asset, figure.plain))
    on = np.asarray(assets[soft.region]["on"], bool)
    triangles = mesh.triangles[on[mesh.triangles].all(axis=1)].astype(np.int64)
    entries = np.isin(mesh.palette_bone, [figure.bone_index[n] for n in soft.clusters])
    share = np.where(entries[mesh.slots], mesh.weights, 0.0).sum(axis=1)
    closed = np.concatenate([triangles, _caps(triangles, len(on))])
    center = len(on)
    skeleton = skeleton_of(figure)
    rest = _with_center(mesh.skin(skeleton.global_matrices(skeleton.rest, take.root(figure, 0))), triangles, center)
    whole = _volume(rest, closed)
    matrices = skeleton.global_matrices(take.poses[figure.id], take.root(figure))
    count = len(take.frames)
    swollen, inverted, step, bend, moved = np.zeros(count), np.zeros(count, int), 0.0, 0.0, 0.0
    edges = _edges(mesh, share)
    beside = _beside(mesh.triangles, share)
    sized = np.linalg.norm(_normals(rest[:-1], triangles), axis=1)
    sized = sized > SMALL * sized.mean()
    for k in range(count):
        points = mesh.skin(matrices[k])
        swollen[k] = _volume(_with_center(points, triangles, center), closed) / whole - 1.0
        inverted[k] = int((_turned(mesh, matrices[k], triangles, points) & sized).sum())
        bare = plain.skin(matrices[k][: int(plain.palette_bone.max()) + 1])
        away = np.linalg.norm(points - bare, axis=1)
        moved = max(moved, float(away.max(initial=0.0)))
        step = max(step, float(away[edges].max(initial=0.0)))
        bend = max(bend, _bent(points, bare, mesh.triangles, beside))
    return Softness(np.asarray(take.frames), swollen, inverted, step, bend, moved)


def _volume(points: Array, triangles: np.ndarray) -> float:
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum()) / 6.0


def _rim(triangles: np.ndarray, count: int) -> np.ndarray:
    """Directed edges (R, 2) of triangles that have none on their other side."""
    edges = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    there = edges[:, 0] * count + edges[:, 1]
    back = edges[:, 1] * count + edges[:, 0]
    return np.asarray(edges[~np.isin(there, back)])


def _caps(triangles: np.ndarray, count: int) -> np.ndarray:
    """Triangles from the rim of a surface to its middle, vertex ``count``."""
    rim = _rim(triangles, count)
    return np.stack([rim[:, 1], rim[:, 0], np.full(len(rim), count)], axis=1).astype(np.int64)


def _with_center(points: Array, triangles: np.ndarray, count: int) -> Array:
    rim = _rim(triangles, count)
    middle = points[rim[:, 0]].mean(axis=0) if len(rim) else points.mean(axis=0)
    return np.concatenate([points, middle[None]])


def _normals(points: Array, triangles: np.ndarray) -> Array:
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return np.asarray(np.cross(b - a, c - a))


def _turned(mesh: Mesh, matrices: Array, triangles: np.ndarray, points: Array) -> np.ndarray:
    """Whether triangles (T,) look the other way than what carries them would turn them to."""
    palette = mesh.palette(matrices)[:, :3, :3]
    heavy = mesh.slots[np.arange(len(mesh.slots)), mesh.weights.argmax(axis=1)]
    # of the vertex that is first; normals of bind space
    bind = _normals(mesh.positions.astype(float), triangles)
    carried = np.einsum("tij,tj->ti", palette[heavy[triangles[:, 0]]], bind)
    return np.asarray(np.einsum("ij,ij->i", carried, _normals(points, triangles)) < 0.0)


def _edges(mesh: Mesh, share: Array) -> np.ndarray:
    """The vertices beyond the edge of a part: those next to what it does not move."""
    e = mesh.edges
    out = np.concatenate(
        [
            e[(share[e[:, 0]] <= 0.0) & (share[e[:, 1]] > 0.0)][:, 1],
            e[(share[e[:, 1]] <= 0.0) & (share[e[:, 0]] > 0.0)][:, 0],
        ]
    )
    return np.unique(out)


def _beside(triangles: np.ndarray, share: Array) -> np.ndarray:
    """Pairs of triangles (N, 2) with an edge between them, of which one does not move by itself at all."""
    t = triangles.astype(np.int64)
    edges = np.sort(np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]]), axis=1)
    whose = np.tile(np.arange(len(t)), 3)
    order = np.lexsort((edges[:, 1], edges[:, 0]))
    same = np.abs(np.diff(edges[order], axis=0)).sum(axis=1) == 0
    pairs = np.stack([whose[order][1:][same], whose[order][:-1][same]], axis=1)
    still: np.ndarray = np.max(share[t], axis=1) <= 0.0
    return np.asarray(pairs[still[pairs[:, 0]] != still[pairs[:, 1]]])


def _bent(points: Array, bare: Array, triangles: np.ndarray, pairs: np.ndarray) -> float:
    """How much more the surface bends at most between triangles (N, 2) than it does without the part, radians."""
    if not len(pairs):
        return 0.0

    def angles(x: Array) -> Array:
        n = _normals(x, triangles[np.unique(pairs)])
        place = np.searchsorted(np.unique(pairs), pairs)
        n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30)
        return np.asarray(np.arccos(np.clip(np.einsum("ij,ij->i", n[place[:, 0]], n[place[:, 1]]), -1.0, 1.0)))

    return float(np.abs(angles(points) - angles(bare)).max())
