"""Weights of a skin: what a bone takes from others, gives back to them, and how far it reaches.

Every edit keeps what the weights of a vertex add up to. A bone takes its share of a vertex from all others by what they have there, and gives it back the same way; where it had all of
it, by what the skin had before any bone was added.
"""

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

from artuline.core.geometry.rotation import Array
from artuline.core.scene.mesh import Mesh

MOST = 4  # bones of a vertex
ALL = 1e-6  # share of a vertex below which others have nothing left
Profile = Literal["smooth", "dome", "linear"]


def with_entry(mesh: Mesh, bone: int, bind: Array, skin: int = 0) -> Mesh:
    """A mesh whose palette has one more entry, for a bone (index) with its inverse bind matrix (4, 4); without weights yet."""
    return Mesh(
        mesh.positions, mesh.normals, mesh.triangles, mesh.material, mesh.slots, mesh.weights,
        np.append(mesh.palette_bone, bone).astype(np.int32), np.concatenate([mesh.palette_bind, bind[None]]),
        np.append(mesh.palette_skin, skin).astype(np.int32),
    )  # fmt: skip


def entry_weights(mesh: Mesh, entry: int) -> Array:
    """What a palette entry has of every vertex (V,)."""
    return np.where(mesh.slots == entry, mesh.weights.astype(float), 0.0).sum(axis=1)


def with_share(mesh: Mesh, plain: Mesh, entry: int, share: Array, most: int = MOST, spared: int | None = None) -> Mesh:
    """A mesh of which a palette entry has these shares (V,), 0 to 1. ``plain``: the same skin before any bone was added, whose palette is the beginning of this one's;
    ``most``: bones of a vertex, the smallest of which give way; ``spared``: an entry that nothing is taken from, as far as it leaves room.
    """
    slots, weights = np.array(mesh.slots), mesh.weights.astype(float)
    before = entry_weights(mesh, entry)
    kept = entry_weights(mesh, spared) if spared is not None else np.zeros(len(share))
    share = np.minimum(share, 1.0 - kept)
    rows = np.flatnonzero((np.abs(share - before) > 1e-9) | ((share > 0.0) & (before == 0.0)))
    if not len(rows):
        return mesh
    width = max(slots.shape[1], most)
    pad = width - slots.shape[1]
    slots, weights = np.pad(slots, ((0, 0), (0, pad))), np.pad(weights, ((0, 0), (0, pad)))
    s, w = slots[rows], weights[rows]
    w[s == entry] = 0.0
    mine = (s == spared) & (w > 0.0) if spared is not None else np.zeros(s.shape, bool)
    lost = np.where(mine, 0.0, w).sum(axis=1) < ALL
    if lost.any():
        # nobody else is left: as it was before any bone was added
        gap = max(width - plain.slots.shape[1], 0)
        old_s, old_w = (
            np.pad(x[rows[lost]], ((0, 0), (0, gap)))[:, :width] for x in (plain.slots, plain.weights.astype(float))
        )
        if spared is not None:
            least, each = np.argmin(old_w, axis=1), np.arange(len(old_s))
            held = kept[rows[lost]]
            old_s[each, least] = np.where(held > 0.0, spared, old_s[each, least])
            old_w[each, least] = np.where(held > 0.0, held, old_w[each, least])
        s[lost], w[lost] = old_s, old_w
    w = _fill(w, s, 1.0 - share[rows], spared)
    # the entry takes the place of the least of them
    order = np.argsort(w, axis=1)
    here = np.arange(len(rows))
    column = order[:, 0]
    s[here, column], w[here, column] = entry, share[rows]
    if width > most:
        gone = np.argsort(w, axis=1)[:, : width - most]
        np.put_along_axis(w, gone, 0.0, axis=1)
    own = s == entry
    w = np.where(own, w, _fill(np.where(own, 0.0, w), s, 1.0 - share[rows], spared))
    # what nobody else can take is the entry's
    w[here, column] = np.maximum(1.0 - np.where(own, 0.0, w).sum(axis=1), 0.0)
    s[w == 0.0] = 0
    slots[rows], weights[rows] = s, w
    return _like(mesh, slots, weights)


def _fill(w: Array, s: NDArray[np.int32], room: Array, spared: int | None) -> Array:
    """Weights (N, K) scaled so that they fill a room (N,); those of a spared entry stay as they are."""
    mine = s == spared if spared is not None else np.zeros(s.shape, bool)
    free = np.where(mine, 0.0, w)
    total = free.sum(axis=1)
    left = np.maximum(room - np.where(mine & (w > 0.0), w, 0.0).sum(axis=1), 0.0)
    scale = np.where(total > 0.0, left / np.maximum(total, 1e-300), 0.0)
    return np.where(mine, w, free * scale[:, None])


def _like(mesh: Mesh, slots: NDArray[np.int32], weights: Array) -> Mesh:
    used = max(int((weights > 0.0).sum(axis=1).max(initial=1)), MOST)
    if slots.shape[1] > used:
        # columns that nobody needs any more
        order = np.argsort(-weights, axis=1, kind="stable")[:, :used]
        slots, weights = np.take_along_axis(slots, order, axis=1), np.take_along_axis(weights, order, axis=1)
    single = weights.astype(np.float32)
    # of single precision, they add up to 1 as nearly as it can
    single /= single.sum(axis=1, keepdims=True)
    return Mesh(
        mesh.positions, mesh.normals, mesh.triangles, mesh.material, slots.astype(np.int32), single, mesh.palette_bone, mesh.palette_bind, mesh.palette_skin
    )  # fmt: skip


def with_shares(
    mesh: Mesh, plain: Mesh, entries: NDArray[np.int64], shares: Array, part: Array, most: int = MOST
) -> Mesh:
    """A mesh of which several palette entries (V, K) have, by their shares (V, K) that add up to 1, a part of every vertex (V,). What others had of it shrinks to the rest;
    ``plain`` and ``most`` as for ``with_share``. Whoever is left out where there are too many takes his share from all, so that nothing jumps where another comes in.
    """
    rows = np.flatnonzero(part > 0.0)
    if not len(rows):
        return mesh
    slots, weights = mesh.slots[rows], mesh.weights[rows].astype(float)
    mine = np.isin(slots, np.unique(entries[rows])) & (weights > 0.0)
    weights = np.where(mine, 0.0, weights)
    total = weights.sum(axis=1)
    weights *= ((1.0 - part[rows]) / np.maximum(total, 1e-300))[:, None]
    alone = (total < ALL) & (part[rows] < 1.0)
    candidates = np.concatenate([slots, entries[rows], plain.slots[rows]], axis=1)
    values = np.concatenate(
        [np.where(alone[:, None], 0.0, weights), part[rows, None] * shares[rows], np.where(alone[:, None], (1.0 - part[rows])[:, None] * plain.weights[rows], 0.0)], axis=1
    )  # fmt: skip
    width = max(most, plain.slots.shape[1])
    chosen, top = _strongest(candidates, values, width)
    pad = max(width - mesh.slots.shape[1], 0)
    all_slots, all_weights = (
        np.pad(mesh.slots, ((0, 0), (0, pad))),
        np.pad(mesh.weights.astype(float), ((0, 0), (0, pad))),
    )
    extra = all_slots.shape[1] - width
    all_slots[rows] = np.pad(chosen, ((0, 0), (0, extra)))
    all_weights[rows] = np.pad(top, ((0, 0), (0, extra)))
    return _like(mesh, all_slots, all_weights)


def _strongest(slots: NDArray[np.int64], weights: Array, most: int) -> tuple[NDArray[np.int64], Array]:
    """The strongest of weights (N, K) and their slots, as (N, most), adding up to 1; what is left out takes its share from all."""
    order = np.argsort(-weights, axis=1, kind="stable")
    top = np.take_along_axis(weights, order[:, :most], axis=1)
    if weights.shape[1] > most:
        top = np.maximum(top - np.take_along_axis(weights, order[:, most : most + 1], axis=1), 0.0)
    total = top.sum(axis=1, keepdims=True)
    top = np.where(total > 1e-9, top / np.maximum(total, 1e-300), np.eye(1, top.shape[1]))
    return np.where(top > 0.0, np.take_along_axis(slots, order[:, :most], axis=1), 0), top


def limited(mesh: Mesh, most: int) -> Mesh:
    """A mesh of which no vertex has more bones than that."""
    if mesh.slots.shape[1] <= most:
        return mesh
    slots, weights = mesh.slots.copy(), mesh.weights.astype(float)
    many = np.flatnonzero((weights > 0.0).sum(axis=1) > most)
    fewer, top = _strongest(slots[many].astype(np.int64), weights[many], most)
    pad = slots.shape[1] - most
    slots[many], weights[many] = np.pad(fewer, ((0, 0), (0, pad))), np.pad(top, ((0, 0), (0, pad)))
    return _like(mesh, slots, weights)


def without_entries(mesh: Mesh, plain: Mesh, entries: NDArray[np.int64]) -> Mesh:
    """A mesh without some palette entries, whose weights go back to the others of each vertex, or to what the skin had before any bone was added; later entries move up."""
    kept = ~np.isin(np.arange(len(mesh.palette_bone)), entries)
    weights = np.where(kept[mesh.slots], mesh.weights.astype(float), 0.0)
    slots, total = np.array(mesh.slots), weights.sum(axis=1)
    lost = total < ALL
    if lost.any():
        wide = max(slots.shape[1], plain.slots.shape[1])
        slots, weights = (np.pad(x, ((0, 0), (0, wide - x.shape[1]))) for x in (slots, weights))
        old = [np.pad(x, ((0, 0), (0, wide - x.shape[1]))) for x in (plain.slots, plain.weights.astype(float))]
        slots[lost], weights[lost] = old[0][lost], old[1][lost]
        total = weights.sum(axis=1)
    weights /= total[:, None]
    index = np.cumsum(kept) - 1
    slots = np.where(weights > 0.0, index[slots], 0).astype(np.int32)
    bare = Mesh(
        mesh.positions, mesh.normals, mesh.triangles, mesh.material, mesh.slots, mesh.weights, mesh.palette_bone[kept], mesh.palette_bind[kept], mesh.palette_skin[kept]
    )  # fmt: skip
    return _like(bare, slots, weights)


def along_surface(points: Array, edges: np.ndarray, seeds: np.ndarray, reach: float) -> Array:
    """Distances (V,), m, along the edges of a skin (E, 2) from seeds, infinite beyond ``reach`` (Dijkstra 1959)."""
    a, b = edges[:, 0], edges[:, 1]
    length = np.maximum(np.linalg.norm(points[a] - points[b], axis=1), 1e-12)
    graph = coo_matrix((length, (a, b)), shape=(len(points), len(points))).tocsr()
    return np.asarray(dijkstra(graph, directed=False, indices=seeds, min_only=True, limit=reach))


def to_segment(points: Array, start: Array, end: Array) -> Array:
    """Distances (V,) of points (V, 3) from a segment between two places (3,)."""
    way = end - start
    t = np.clip((points - start) @ way / max(float(way @ way), 1e-18), 0.0, 1.0)
    return np.asarray(np.linalg.norm(points - start - t[:, None] * way, axis=1))


def fallen_off(distance: Array, radius: float, profile: Profile) -> Array:
    """Shares (V,) of 1 at no distance and 0 from a radius on: smooth at both ends, a dome that falls late, or linear."""
    t = np.clip(1.0 - distance / radius, 0.0, 1.0)
    if profile == "linear":
        return t
    if profile == "dome":
        return np.asarray(np.sqrt(np.clip(1.0 - (1.0 - t) ** 2, 0.0, 1.0)) * np.clip(4.0 * t, 0.0, 1.0))
    return np.asarray(t * t * (3.0 - 2.0 * t))


def smoothed_share(share: Array, edges: np.ndarray, amount: Array) -> Array:
    """Shares (V,) drawn to the mean of their neighbours along edges (E, 2) by an amount (V,), 0 to 1."""
    total, count = np.zeros(len(share)), np.zeros(len(share))
    for a, b in ((edges[:, 0], edges[:, 1]), (edges[:, 1], edges[:, 0])):
        total += np.bincount(a, share[b], len(share))
        count += np.bincount(a, minlength=len(share))
    mean = np.where(count > 0, total / np.maximum(count, 1), share)
    return np.asarray(share + amount * (mean - share))
