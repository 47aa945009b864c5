"""A volume divided into clusters: the points of a grid inside of it, whose they are, and where clusters meet."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import connected_components, dijkstra
from scipy.spatial import cKDTree

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.geometry.winding import inside as inside_of

FINE = 5.0  # points of the grid to the size of a cluster
LEAST = 3  # and across the thinnest way of the whole
LEAST_POINTS, MOST_POINTS = 4_000, 12_000
MOST_CLUSTERS = 120
ROUNDS, REFINED = (
    12,
    40,
)  # times that clusters are moved to the middles of what is theirs: along the volume, then as the crow flies
EVEN = 0.02  # how fast they come to be as large as each other
TOUCH = 0.12  # of a cluster's face: what meets in less is not joined, unless it hangs on it
#: Share of its half cluster that lies between what holds it and what is held first: bending falls off along it.
BEFORE = 0.875
ROOT = -1

_STEPS = np.array([(1, 0, 0), (0, 1, 0), (0, 0, 1)])
_AROUND = np.array([(i, j, k) for i in (-1, 0, 1) for j in (-1, 0, 1) for k in (-1, 0, 1) if (i, j, k) > (0, 0, 0)])


@dataclass(frozen=True, eq=False)
class Meeting:
    """Where cluster ``a``, or what holds the whole (``ROOT``), meets ``b``: middle (3,) m, turn (4,) whose x points from a to b and whose y and z are the face's own,
    area m^2, second moments of area about y and z (m^4), and how far apart the middles of the two are, m.
    """

    a: int
    b: int
    place: Array
    turn: Array
    area: float
    about_y: float
    about_z: float
    apart: float


@dataclass(frozen=True, eq=False)
class Cells:
    """Points (N, 3) of a grid, m, of which each stands for ``each`` m^3, and the cluster (N,) that each belongs to; ``near``: pairs of neighbours in the grid (M, 2)."""

    points: Array
    owner: np.ndarray
    each: float
    step: Array
    near: np.ndarray
    meetings: tuple[Meeting, ...]

    @property
    def count(self) -> int:
        """How many clusters there are."""
        return int(self.owner.max()) + 1

    @cached_property
    def volumes(self) -> Array:
        """Of every cluster (K,), m^3."""
        return np.asarray(np.bincount(self.owner, minlength=self.count) * self.each, np.float64)

    @cached_property
    def middles(self) -> Array:
        """Of every cluster (K, 3), m."""
        return middles_of(self.points, self.owner)


def middles_of(points: Array, owner: np.ndarray) -> Array:
    """The means (K, 3) of the points (N, 3) that belong together."""
    size = np.bincount(owner)
    means = [np.bincount(owner, points[:, k]) / size for k in range(3)]
    return np.stack(means, axis=1).astype(np.float64)


@dataclass(frozen=True, eq=False)
class Grid:
    """Points inside of a volume: indices (N, 3) in a grid, places (N, 3) m, and the grid's steps (3,) m."""

    index: np.ndarray
    points: Array
    step: Array

    @property
    def each(self) -> float:
        """What a point stands for, m^3."""
        return float(np.prod(self.step))

    @cached_property
    def lookup(self) -> np.ndarray:
        """The point at every place of the grid with a border around it, -1 where there is none."""
        at = self.index - self.index.min(axis=0) + 1
        found = np.full(at.max(axis=0) + 2, -1)
        found[tuple(at.T)] = np.arange(len(at))
        return found

    def beside(self, way: np.ndarray) -> np.ndarray:
        """The point beside each in a direction (3,) of indices (N,), -1 where there is none."""
        at = self.index - self.index.min(axis=0) + 1 + way
        return np.asarray(self.lookup[tuple(at.T)])

    def kept(self, which: np.ndarray) -> "Grid":
        """Those of the points."""
        return Grid(self.index[which], self.points[which], self.step)

    @cached_property
    def graph(self) -> csr_matrix:
        """Distances between neighbours, those over corner too (N, N)."""
        rows, columns, length = [], [], []
        for way in _AROUND:
            other = self.beside(way)
            here = np.flatnonzero(other >= 0)
            rows.append(here)
            columns.append(other[here])
            length.append(np.full(len(here), np.linalg.norm(way * self.step)))
        a, b, d = np.concatenate(rows), np.concatenate(columns), np.concatenate(length)
        whole = coo_matrix((np.tile(d, 2), (np.append(a, b), np.append(b, a))), shape=(len(self.points),) * 2)
        return whole.tocsr()

    def joined(self) -> np.ndarray:
        """Pairs of points (M, 2) with a face between them."""
        pairs = []
        for way in _STEPS:
            other = self.beside(way)
            here = np.flatnonzero(other >= 0)
            pairs.append(np.stack([here, other[here]], axis=1))
        return np.concatenate(pairs)


def filled(vertices: Array, triangles: np.ndarray, size: float, bounds: tuple[Array, Array]) -> Grid:
    """The points inside of a surface within bounds (3,), (3,), fine enough for clusters of a size (m). Raises ArtulineError where there is no volume."""
    low, high = bounds
    extent = np.maximum(high - low, 1e-9)
    whole = float(np.prod(extent))
    step = min(size / FINE, float(extent.min()) / LEAST, (whole / LEAST_POINTS) ** (1.0 / 3.0))
    step = max(step, (whole / MOST_POINTS) ** (1.0 / 3.0))
    counts = np.maximum(np.rint(extent / step), 1).astype(int)
    steps = extent / counts
    index = np.stack(np.meshgrid(*(np.arange(n) for n in counts), indexing="ij"), axis=-1).reshape(-1, 3)
    points = low + (index + 0.5) * steps
    inside = inside_of(points, vertices, triangles)
    if inside.sum() < 2:
        raise ArtulineError(
            "there is no volume inside of that skin", remedy="Choose more of it, or one that is closed."
        )
    return Grid(index[inside], points[inside], steps)


def divided(grid: Grid, count: int) -> np.ndarray:
    """The cluster (N,) of every point of a grid: about as large as each other, each in one piece, along the volume (Lloyd 1982, in geodesic distances first)."""
    count = min(max(count, 1), len(grid.points), MOST_CLUSTERS)
    pieces, part = connected_components(grid.graph, directed=False)
    if pieces > count:
        count = pieces
    seeds = _spread(grid, part, count)
    owner = np.zeros(len(grid.points), int)
    for _ in range(ROUNDS):
        _, _, source = dijkstra(grid.graph, directed=False, indices=seeds, min_only=True, return_predecessors=True)
        owner = np.searchsorted(seeds, source)
        middle = middles_of(grid.points, owner)
        away = np.linalg.norm(grid.points - middle[owner], axis=1)
        order = np.lexsort((away, owner))
        new = np.sort(order[np.searchsorted(owner[order], np.arange(count))])
        if np.array_equal(new, seeds):
            break
        seeds = new
    handicap, least = np.zeros(count), (np.inf, owner)
    for _ in range(REFINED):
        size = np.bincount(owner) / len(owner) * count - 1.0
        least = min(least, (float(np.abs(size).max()), owner), key=lambda x: x[0])
        # those that have more than their share come to be farther away, as in a power diagram
        handicap += EVEN * size * (grid.each * len(owner) / count) ** (2.0 / 3.0)
        owner = _nearest_beside(grid, owner, handicap)
    owner = least[1]
    return _in_one_piece(grid, owner)


def _spread(grid: Grid, part: np.ndarray, count: int) -> np.ndarray:
    """Points far from each other (count,), at least one in every piece."""
    first = [int(np.flatnonzero(part == k)[0]) for k in range(int(part.max()) + 1)]
    # the farthest from some point of a piece is at one of its ends
    distance = dijkstra(grid.graph, directed=False, indices=first, min_only=True)
    seeds = []
    for k in range(len(first)):
        mine = np.flatnonzero(part == k)
        seeds.append(int(mine[np.argmax(distance[mine])]))
    distance = dijkstra(grid.graph, directed=False, indices=seeds, min_only=True)
    while len(seeds) < count:
        seeds.append(int(np.argmax(distance)))
        distance = np.minimum(distance, dijkstra(grid.graph, directed=False, indices=seeds[-1]))
    return np.sort(np.array(seeds))


def _nearest_beside(grid: Grid, owner: np.ndarray, handicap: Array) -> np.ndarray:
    """Every point with the nearest of the clusters that it or one beside it belongs to; ``handicap`` (K,), m^2, is added to the squares of their distances."""
    middle = middles_of(grid.points, owner)

    def distance(which: np.ndarray, whose: np.ndarray) -> Array:
        return np.asarray(np.sum((grid.points[which] - middle[whose]) ** 2, axis=1) + handicap[whose])

    best, found = distance(np.arange(len(owner)), owner), owner.copy()
    for way in np.concatenate([_AROUND, -_AROUND]):
        other = grid.beside(way)
        here = np.flatnonzero(other >= 0)
        theirs = owner[other[here]]
        away = distance(here, theirs)
        nearer = away < best[here] - 1e-12
        best[here[nearer]], found[here[nearer]] = away[nearer], theirs[nearer]
    # none is left without points
    return found if len(np.unique(found)) == len(middle) else owner


def _in_one_piece(grid: Grid, owner: np.ndarray) -> np.ndarray:
    """Splinters of clusters go to those around them."""
    joined = grid.joined()
    for _ in range(4):
        same = joined[owner[joined[:, 0]] == owner[joined[:, 1]]]
        count, part = connected_components(
            coo_matrix((np.ones(len(same)), (same[:, 0], same[:, 1])), shape=(len(owner),) * 2), directed=False
        )
        size = np.bincount(part)
        # the largest part of every cluster stays
        whose = np.zeros(count, int)
        whose[part] = owner
        largest = np.zeros(int(owner.max()) + 1, int)
        for k in np.argsort(size):
            largest[whose[k]] = k
        stray = part != largest[owner]
        if not stray.any():
            break
        for a, b in (joined.T, joined[:, ::-1].T):
            moves = stray[a] & ~stray[b]
            owner = owner.copy()
            owner[a[moves]] = owner[b[moves]]
    return owner


def _moments(places: Array, each: Array, normal: Array, step: Array) -> tuple[Array, Array, float, float, float]:
    """Middle (3,), turn (4,), area, and moments about y and z of a face, from the middles (F, 3) of those of the grid that make it up, and their areas (F,)."""
    total = float(each.sum())
    middle = each @ places / total
    flat = places - middle
    flat -= np.outer(flat @ normal, normal)
    # a grid's face by itself has moments too
    own = np.diag(step**2) / 12.0
    spread = (flat * each[:, None]).T @ flat / total + own
    plane = np.eye(3) - np.outer(normal, normal)
    values, axes = np.linalg.eigh(plane @ spread @ plane)
    # the least is the normal's own; y is the wide way
    y = axes[:, 2]
    y = y - normal * (y @ normal)
    y /= np.linalg.norm(y)
    turn = rotation.from_matrix(np.stack([normal, y, np.cross(normal, y)], axis=1))
    return middle, turn, total, float(values[1]), float(values[2])


def meetings(grid: Grid, owner: np.ndarray, held: np.ndarray) -> tuple[Meeting, ...]:
    """Where clusters (N,) meet each other, and what holds them: ``held`` (N, 3, 2), whether the face of a point towards lower and higher indices of an axis is held."""
    middle = middles_of(grid.points, owner)
    a: list[np.ndarray] = []
    b: list[np.ndarray] = []
    place: list[Array] = []
    normal: list[Array] = []
    area = np.prod(grid.step) / grid.step
    for k, way in enumerate(_STEPS):
        other = grid.beside(way)
        here = np.flatnonzero((other >= 0) & (owner != owner[other]))
        a.append(owner[here])
        b.append(owner[other[here]])
        place.append(grid.points[here] + 0.5 * way * grid.step)
        normal.append(np.tile(way * area[k], (len(here), 1)))
        for side, sign in ((0, 1.0), (1, -1.0)):
            at = np.flatnonzero(held[:, k, side])
            a.append(np.full(len(at), ROOT))
            b.append(owner[at])
            place.append(grid.points[at] - 0.5 * sign * way * grid.step)
            # from what holds it inwards
            normal.append(np.tile(sign * way * area[k], (len(at), 1)))
    first, second = np.concatenate(a), np.concatenate(b)
    places, normals = np.concatenate(place), np.concatenate(normal)
    swapped = (first > second) & (first != ROOT)
    first[swapped], second[swapped] = second[swapped], first[swapped]
    normals[swapped] *= -1.0
    found = []
    for key in np.unique(np.stack([first, second], axis=1), axis=0):
        mine = np.flatnonzero((first == key[0]) & (second == key[1]))
        whole = normals[mine].sum(axis=0)
        size = float(np.linalg.norm(whole))
        if size < 1e-12:
            continue
        way = whole / size
        each = np.abs(normals[mine] @ way)
        middle_of, turn, _, low, high = _moments(places[mine], each, way, grid.step)
        i, j = int(key[0]), int(key[1])
        if i == ROOT:
            apart = BEFORE * max(float((middle[j] - middle_of) @ way), 0.5 * float(grid.step.min()))
        else:
            apart = max(float((middle[j] - middle[i]) @ way), float(grid.step.min()))
        # bending about y goes with how far it reaches along z, the narrow way
        found.append(Meeting(i, j, middle_of, turn, size, size * low, size * high, apart))
    return tuple(found)


def worth(found: tuple[Meeting, ...], count: int, size: float) -> tuple[Meeting, ...]:
    """The meetings that are joined: all but slivers, without which everything hangs together as well."""
    order = sorted(range(len(found)), key=lambda k: -found[k].area)
    above = np.arange(count + 1)

    def top(i: int) -> int:
        while above[i] != i:
            i = int(above[i])
        return i

    kept = []
    for k in order:
        m = found[k]
        a, b = top(m.a + 1), top(m.b + 1)
        if a != b or m.area > TOUCH * size * size:
            kept.append(k)
            above[b] = a
    return tuple(found[k] for k in sorted(kept))


def cells_of(grid: Grid, count: int, held: np.ndarray) -> Cells:
    """A grid divided into about so many clusters, with their meetings; ``held`` as for ``meetings``."""
    owner = divided(grid, count)
    size = float((grid.each * len(grid.points) / (int(owner.max()) + 1)) ** (1.0 / 3.0))
    found = worth(meetings(grid, owner, held), int(owner.max()) + 1, size)
    return Cells(grid.points, owner, grid.each, grid.step, grid.joined(), found)


def smooth_shares(cells: Cells, at: Array, most: int) -> tuple[np.ndarray, Array]:
    """Which clusters (V, most) carry places (V, 3), and by how much (V, most), adding up to 1: what is a cluster's spreads over the volume until neighbours blend."""
    n, k = len(cells.points), cells.count
    share = np.zeros((n, k))
    share[np.arange(n), cells.owner] = 1.0
    a, b = cells.near.T
    near = coo_matrix((np.ones(2 * len(a)), (np.append(a, b), np.append(b, a))), shape=(n, n)).tocsr()
    # what stays where a neighbour is missing
    lazy = near + coo_matrix((7.0 - np.asarray(near.sum(axis=1)).ravel(), (np.arange(n), np.arange(n))), shape=(n, n))
    size = float(np.mean(cells.volumes) ** (1.0 / 3.0))
    # a round spreads by 2/7 of a step's square on each axis; in the end about a third of a cluster
    rounds = max(round((0.33 * size / float(cells.step.mean())) ** 2 * 3.5), 1)
    for _ in range(rounds):
        share = lazy @ share / 7.0
    tree = cKDTree(cells.points)
    many = min(12, n)
    away, which = tree.query(at, k=many)
    away, which = away.reshape(len(at), many), which.reshape(len(at), many)
    reach = np.maximum(away[:, :1], 0.0) + float(cells.step.max())
    lean = np.exp(-((away / reach) ** 2) * 2.0)
    mixed = np.einsum("vm,vmk->vk", lean / lean.sum(axis=1, keepdims=True), share[which])
    return tapered(mixed, most)


def tapered(share: Array, most: int) -> tuple[np.ndarray, Array]:
    """The largest of shares (V, K) as indices (V, most) and values (V, most) that add up to 1. What is left out takes its share from all, so that nothing jumps where another
    comes in.
    """
    k = share.shape[1]
    order = np.argsort(-share, axis=1, kind="stable")
    top = order[:, : min(most, k)]
    values = np.take_along_axis(share, top, axis=1)
    if k > most:
        values = values - np.take_along_axis(share, order[:, most : most + 1], axis=1)
    values = np.maximum(values, 0.0)
    total = values.sum(axis=1, keepdims=True)
    # all the same: the first
    values = np.where(total > 1e-12, values / np.maximum(total, 1e-300), np.eye(1, values.shape[1]))
    pad = most - top.shape[1]
    return np.pad(top, ((0, 0), (0, max(pad, 0)))), np.pad(values, ((0, 0), (0, max(pad, 0))))
