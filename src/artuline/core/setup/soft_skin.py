"""Pieces of a skin for soft parts: which vertices, where they are attached, and which clusters carry them."""

import contextlib
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.geometry.winding import inside as inside_of
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Shape, Soft
from artuline.core.setup.mirror import mirror_plane
from artuline.core.setup.patch_fit import hull_shape
from artuline.core.setup.soft_cells import Cells, Grid, Meeting, cells_of, filled, smooth_shares
from artuline.core.setup.weights import along_surface, fallen_off

WIDEST = 8  # clusters of a vertex, before the figure says how many bones it may have
CORNERS = 24  # of a cluster's hull
ALIKE = 0.01  # share of the figure's size within which a vertex is the counterpart of another


@dataclass(frozen=True, eq=False)
class Skinned:
    """A figure's skin at rest before any bone was added: vertices (V, 3) m, triangles, and the bone (V,) that carries most of each."""

    points: Array
    triangles: np.ndarray
    bone: np.ndarray

    @cached_property
    def welded(self) -> np.ndarray:
        """A number (V,) that vertices at the same place share, where the surface was cut open for sharp edges."""
        size = max(float(np.ptp(self.points, axis=0).max()), 1e-9)
        _, same = np.unique(np.rint(self.points / (1e-6 * size)), axis=0, return_inverse=True)
        return np.asarray(same).reshape(-1)

    @cached_property
    def edges(self) -> np.ndarray:
        """Pairs of vertices that belong together (E, 2): those of triangles, and those at the same place."""
        t = self.triangles
        order = np.argsort(self.welded, kind="stable")
        same = self.welded[order[1:]] == self.welded[order[:-1]]
        stitched = np.stack([order[1:][same], order[:-1][same]], axis=1)
        return np.unique(np.sort(np.concatenate([t[:, :2], t[:, 1:], t[:, ::2], stitched]), axis=1), axis=0)

    @cached_property
    def pieces(self) -> np.ndarray:
        """The piece of the surface (V,) that each vertex is on."""
        a, b = self.edges.T
        n = len(self.points)
        return np.asarray(connected_components(coo_matrix((np.ones(len(a)), (a, b)), shape=(n, n)), directed=False)[1])

    def samples(self, which: np.ndarray, spacing: float) -> tuple[Array, np.ndarray]:
        """Places (S, 3) on the triangles ``which`` no farther apart than about a spacing, and the triangle of each."""
        corners = self.points[self.triangles[which]]
        longest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
        steps = np.clip(np.ceil(longest / spacing).astype(int), 1, 60)
        found, whose = [], []
        for n in np.unique(steps):
            mine = np.flatnonzero(steps == n)
            k, j = np.meshgrid(np.arange(n), np.arange(n), indexing="ij")
            inside = k + j < n
            u, v = (k[inside] + 1.0 / 3.0) / n, (j[inside] + 1.0 / 3.0) / n
            c = corners[mine]
            found.append(
                (c[:, None, 0] + u[:, None] * (c[:, None, 1] - c[:, None, 0]) + v[:, None] * (c[:, None, 2] - c[:, None, 0])).reshape(-1, 3)
            )  # fmt: skip
            whose.append(np.repeat(which[mine], len(u)))
        return np.concatenate(found), np.concatenate(whose)


def skinned(figure: Figure, assets: AssetStore, mirrored: bool = False) -> Skinned:
    """The skin of a figure before any bone was added; ``mirrored``: its mirror image. Raises ArtulineError if it has none."""
    if figure.asset is None:
        raise ArtulineError(f"{figure.name} has no skin", remedy="Choose a figure with skin.")
    mesh = Mesh.from_arrays(assets[figure.plain or figure.asset])
    points = mesh.skin(rest_matrices(figure)[: int(mesh.palette_bone.max()) + 1])
    bone = mesh.bone_weights(len(figure.bones)).argmax(axis=1)
    triangles = mesh.triangles.astype(np.int64)
    if mirrored:
        points = mirror_plane(original(figure)).points(points)
        triangles = triangles[:, ::-1]
    return Skinned(points, triangles, bone)


def original(figure: Figure) -> Figure:
    """The figure with the bones that it came with."""
    added = {n for s in figure.softs for n in s.clusters} | {b.name for b in figure.bones if b.flesh is not None}
    return Figure(
        id=figure.id, name=figure.name, bones=tuple(b for b in figure.bones if b.name not in added), unit=figure.unit,
        position=figure.position, turn=figure.turn, track=figure.track, mirror=tuple(p for p in figure.mirror if not set(p) & added),
    )  # fmt: skip


def region_of_bones(figure: Figure, assets: AssetStore, bones: frozenset[str]) -> np.ndarray:
    """The vertices (V,) of which most is carried by some bones."""
    found: np.ndarray = np.isin(skinned(figure, assets).bone, [figure.bone_index[b] for b in bones])
    return found


def region_piece(figure: Figure, assets: AssetStore, place: Array) -> np.ndarray:
    """The vertices (V,) of the piece of skin, joined to nothing else, that is nearest to a place (3,) at rest, m."""
    skin = skinned(figure, assets)
    at = int(np.argmin(np.linalg.norm(skin.points - place, axis=1)))
    found: np.ndarray = skin.pieces == skin.pieces[at]
    return found


def region_in_box(figure: Figure, assets: AssetStore, low: Array, high: Array) -> np.ndarray:
    """The vertices (V,) at rest within a box between two corners (3,), m."""
    points = skinned(figure, assets).points
    return np.asarray(np.all((points >= np.minimum(low, high)) & (points <= np.maximum(low, high)), axis=1))


def facing_the_rest(figure: Figure, assets: AssetStore, region: np.ndarray, within: float) -> np.ndarray | None:
    """The vertices (V,) of a piece of its own that lie within a distance (m) of the rest of the skin, or in it; None if it is cut from it, or there is no rest."""
    skin = skinned(figure, assets)
    if region.all() or _is_cut(skin, region):
        return None
    rest = np.flatnonzero(~(region[skin.triangles].any(axis=1)))
    places, _ = skin.samples(rest, max(0.5 * within, 1e-4))
    away, _ = cKDTree(places).query(skin.points[region])
    mine = np.flatnonzero(region)
    inside = inside_of(skin.points[mine], skin.points, skin.triangles[rest])
    root = np.zeros(len(region), bool)
    root[mine[(away <= within) | inside]] = True
    return root if root.any() else None


def _is_cut(skin: Skinned, region: np.ndarray) -> bool:
    """Whether triangles lead out of a region."""
    parts = region[skin.triangles].sum(axis=1)
    return bool(np.any((parts > 0) & (parts < 3)))


@dataclass(frozen=True, eq=False)
class Division:
    """A region divided: its cells, for every cluster (K,) the bone that carries most of it and that which carries what holds it, the share (V,) that is soft, and the clusters (V, 8) with
    their shares of that (V, 8); ``hulls``: about the middle of every cluster, along the world's axes, a convex hull around it, or None where it is
    as flat as a sheet.
    """

    cells: Cells
    carried: np.ndarray
    holder: np.ndarray
    soft: Array
    slots: np.ndarray
    shares: Array
    hulls: tuple[Shape | None, ...]


def divide(figure: Figure, assets: AssetStore, soft: Soft) -> Division:
    """The clusters of a soft part, from its recipe. Raises ArtulineError where there is no volume."""
    region = np.asarray(assets[soft.region]["on"], bool)
    root = np.asarray(assets[soft.root]["on"], bool) if soft.root is not None else None
    skin = skinned(figure, assets, soft.mirrored)
    grid, held = _grid(skin, region, root, soft.count)
    cells = cells_of(grid, soft.count, held)
    share = _soft_share(skin, region, root, soft.fall)
    mine = np.flatnonzero(region)
    slots, shares = np.zeros((len(region), WIDEST), int), np.zeros((len(region), WIDEST))
    slots[mine], shares[mine] = smooth_shares(cells, skin.points[mine], WIDEST)
    # a vertex lies in the cluster of what is inside next to it
    whose = np.full(len(region), -1)
    whose[mine] = cells.owner[cKDTree(cells.points).query(skin.points[mine])[1]]
    carried, holder = np.zeros(cells.count, int), np.zeros(cells.count, int)
    nearest = skin.bone[mine][cKDTree(skin.points[mine]).query(cells.middles)[1]]
    outside = np.flatnonzero(~region) if root is None else np.flatnonzero(root)
    tree = cKDTree(skin.points[outside]) if len(outside) else None
    hulls = []
    for k in range(cells.count):
        own = skin.bone[whose == k]
        carried[k] = np.bincount(own).argmax() if len(own) else nearest[k]
        holder[k] = carried[k]
        hulls.append(np.concatenate([skin.points[whose == k], cells.points[cells.owner == k]]))
    for m in cells.meetings:
        if m.a < 0 and tree is not None:
            holder[m.b] = skin.bone[outside[tree.query(m.place)[1]]]
    if soft.mirrored:
        cells, hulls = _back(figure, cells, hulls)
    shapes = tuple(_hull(h - m) for h, m in zip(hulls, cells.middles, strict=True))
    return Division(cells, carried, holder, share, slots, shares, shapes)


def _hull(places: Array) -> Shape | None:
    with contextlib.suppress(ArtulineError):
        return hull_shape(places, 1.0, CORNERS)
    return None


def _back(figure: Figure, cells: Cells, hulls: list[Array]) -> tuple[Cells, list[Array]]:
    """Cells of a mirror image where they are."""
    plane = mirror_plane(original(figure))

    def over(m: Meeting) -> Meeting:
        turned = plane.vectors(rotation.to_matrix(m.turn).T).T.copy()
        # its frame stays right-handed: z turns round
        turned[:, 2] *= -1.0
        return replace(m, place=plane.points(m.place), turn=rotation.from_matrix(turned))

    made = replace(cells, points=plane.points(cells.points), meetings=tuple(over(m) for m in cells.meetings))
    return made, [plane.points(h) for h in hulls]


def _grid(skin: Skinned, region: np.ndarray, root: np.ndarray | None, count: int) -> tuple[Grid, np.ndarray]:
    """The grid inside of a region, and which of its faces (N, 3, 2) are held."""
    own = np.flatnonzero(region[skin.triangles].all(axis=1))
    if not len(own):
        raise ArtulineError("no part of the skin was chosen", remedy="Choose more of it.")
    inside = skin.points[region]
    low, high = inside.min(axis=0), inside.max(axis=0)
    cut = _is_cut(skin, region)
    size = float(np.prod(np.maximum(high - low, 1e-6)) / count) ** (1.0 / 3.0)
    if cut:
        pad = 0.6 * size
        grid = filled(skin.points, skin.triangles, size, (low - pad, high + pad))
        places, whose = skin.samples(np.arange(len(skin.triangles)), max(float(grid.step.mean()), 1e-4))
        nearest = whose[cKDTree(places).query(grid.points)[1]]
        mine = np.asarray(region[skin.triangles].sum(axis=1) >= 2)[nearest]
        if mine.sum() < 2:
            raise ArtulineError("there is no volume inside of that skin", remedy="Choose more of it.")
        whole, grid = grid, grid.kept(mine)
        held = np.zeros((len(grid.points), 3, 2), bool)
        for k in range(3):
            for side, sign in ((0, -1), (1, 1)):
                way = np.zeros(3, int)
                way[k] = sign
                beside = whole.beside(way)[mine]
                held[:, k, side] = (beside >= 0) & ~mine[beside]
    else:
        # fine enough for as many as are wanted of what the box holds
        grid = filled(skin.points, skin.triangles[own], size, (low, high))
        exact = (grid.each * len(grid.points) / count) ** (1.0 / 3.0)
        if exact < 0.8 * size:
            grid = filled(skin.points, skin.triangles[own], exact, (low, high))
        held = np.zeros((len(grid.points), 3, 2), bool)
    if root is not None and root.any():
        held |= _held_at(skin, own, root, grid)
    return grid, held


def _held_at(skin: Skinned, own: np.ndarray, root: np.ndarray, grid: Grid) -> np.ndarray:
    """Which outer faces (N, 3, 2) of a grid lie next to the triangles of a root."""
    places, whose = skin.samples(own, max(0.5 * float(grid.step.min()), 1e-4))
    tree, at_root = cKDTree(places), root[skin.triangles].all(axis=1)
    held = np.zeros((len(grid.points), 3, 2), bool)
    for k in range(3):
        for side, sign in ((0, -1), (1, 1)):
            way = np.zeros(3, int)
            way[k] = sign
            free = np.flatnonzero(grid.beside(way) < 0)
            nearest = tree.query(grid.points[free] + 0.5 * way * grid.step)[1]
            held[free, k, side] = at_root[whose[nearest]]
    return held


def _soft_share(skin: Skinned, region: np.ndarray, root: np.ndarray | None, fall: float) -> Array:
    """How much of every vertex (V,) is soft: nothing where it is attached, all from ``fall`` (m) on along the skin."""
    share = region.astype(float)
    fixed = ~region if root is None else root
    if root is None and not _is_cut(skin, region):
        return share
    if not fixed.any() or fall <= 0.0:
        share[fixed] = 0.0
        return share
    away = along_surface(skin.points, skin.edges, np.flatnonzero(fixed), fall)
    # vertices at the same place are as far
    least = np.full(int(skin.welded.max()) + 1, np.inf)
    np.minimum.at(least, skin.welded, away)
    return np.where(region, 1.0 - fallen_off(least[skin.welded], fall, "smooth"), 0.0)
