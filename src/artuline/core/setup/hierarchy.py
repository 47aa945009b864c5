"""Which body hangs on which: by the skeleton's tree, and where that says nothing, by how the skin hangs together.

Figures whose bones all hang from one node have no tree to follow. There the parts of the skin that meet along the longest seams belong together
(a maximum spanning tree, Kruskal 1956), names with numbers that follow each other help, and the root is the body from which on every bone begins
where its part meets the one it hangs on.
"""

import re

import numpy as np
from scipy.spatial import cKDTree

from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Body, Figure
from artuline.core.setup.skin import SkinParts, cached_skin, divide_among

APART = 0.05  # share of a seam's weight that parts have which only lie beside each other
ALIKE = 1.5  # how much more likely parts are joined whose names have numbers that follow each other


def tree_parents(figure: Figure, bodies: tuple[Body, ...]) -> dict[str, str]:
    """The body on the nearest ancestor bone that has one, by the ids of bodies that have such."""
    by_bone = {b.bone: b.id for b in bodies}
    found = {}
    for b in bodies:
        up = figure.bones[figure.bone_index[b.bone]].parent
        while up is not None and up not in by_bone:
            up = figure.bones[figure.bone_index[up]].parent
        if up is not None:
            found[b.id] = by_bone[up]
    return found


def body_parents(figure: Figure, assets: AssetStore, bodies: tuple[Body, ...]) -> dict[str, str]:
    """What every body but one hangs on, by ids: the skeleton's tree, with its loose ends joined where the skin meets."""
    parents = tree_parents(figure, bodies)
    roots = [b.id for b in bodies if b.id not in parents]
    if len(roots) < 2 or figure.asset is None:
        return parents
    skin = cached_skin(figure, assets)
    parts = divide_among(figure, skin.mesh, skin.points, {b.bone for b in bodies})
    weight, meet = _seams(figure, bodies, parts, skin.mesh.triangles)
    home = {b.id: _root_of(b.id, parents) for b in bodies}
    edges = _spanning(bodies, weight, home)
    origins = rest_matrices(figure)[[figure.bone_index[b.bone] for b in bodies], :3, 3]
    return parents | _rooted(bodies, roots, edges, home, origins, meet)


def _root_of(body: str, parents: dict[str, str]) -> str:
    while body in parents:
        body = parents[body]
    return body


def _seams(figure: Figure, bodies: tuple[Body, ...], parts: SkinParts, triangles: np.ndarray) -> tuple[Array, Array]:
    """How much the parts of two bodies belong together (n, n), and where they meet (n, n, 3), m."""
    n = len(bodies)
    index = {figure.bone_index[b.bone]: i for i, b in enumerate(bodies)}
    owner = np.array([index.get(int(o), -1) for o in parts.owner])
    weight, meet = np.zeros((n, n)), np.zeros((n, n, 3))
    ends = np.concatenate([triangles[:, :2], triangles[:, 1:], triangles[:, ::2]])
    a, b = owner[ends[:, 0]], owner[ends[:, 1]]
    across = (a != b) & (a >= 0) & (b >= 0)
    length = np.linalg.norm(parts.points[ends[across, 0]] - parts.points[ends[across, 1]], axis=1)
    middle = 0.5 * (parts.points[ends[across, 0]] + parts.points[ends[across, 1]])
    for i, k in ((a[across], b[across]), (b[across], a[across])):
        np.add.at(weight, (i, k), length)
        np.add.at(meet, (i, k), length[:, None] * middle)
    meet /= np.maximum(weight, 1e-30)[..., None]
    size = float(np.ptp(parts.points, axis=0).max())
    seam = float(np.median(weight[weight > 0.0])) if (weight > 0.0).any() else size
    trees = [cKDTree(parts.points[owner == i]) if (owner == i).any() else None for i in range(n)]
    for i in range(n):
        for k in range(i + 1, n):
            one, other = trees[i], trees[k]
            if weight[i, k] == 0.0 and one is not None and other is not None:
                # separate shells: the nearer, the likelier
                away, at = one.query(other.data)
                j = int(np.argmin(away))
                weight[i, k] = weight[k, i] = APART * seam / (1.0 + float(away[j]) / (0.02 * size))
                meet[i, k] = meet[k, i] = 0.5 * (one.data[at[j]] + other.data[j])
    for i in range(n):
        for k in range(n):
            if _follow(bodies[i].bone, bodies[k].bone):
                weight[i, k] *= ALIKE
    return weight, meet


def _follow(a: str, b: str) -> bool:
    """Whether two names are the same but for one number, and the numbers are neighbours."""
    x, y = (re.split(r"(\d+)", name) for name in (a, b))
    if len(x) != len(y):
        return False
    off = [(p, q) for p, q in zip(x, y) if p != q]
    return len(off) == 1 and off[0][0].isdigit() and off[0][1].isdigit() and abs(int(off[0][0]) - int(off[0][1])) == 1


def _spanning(bodies: tuple[Body, ...], weight: Array, home: dict[str, str]) -> list[tuple[int, int]]:
    """Pairs of bodies that join the trees into one, the heaviest first."""
    group = [home[b.id] for b in bodies]
    n = len(bodies)
    pairs = sorted(((i, k) for i in range(n) for k in range(i + 1, n)), key=lambda p: -weight[p])
    found = []
    for i, k in pairs:
        one, other = group[i], group[k]
        if one != other:
            found.append((i, k))
            group = [one if g == other else g for g in group]
    return found


def _rooted(
    bodies: tuple[Body, ...],
    roots: list[str],
    edges: list[tuple[int, int]],
    home: dict[str, str],
    origins: Array,
    meet: Array,
) -> dict[str, str]:
    """What the roots of the trees hang on, with the tree at the top from which on bones begin where parts meet."""
    ids = [b.id for b in bodies]
    best: tuple[float, dict[str, str]] = (np.inf, {})
    for top in roots:
        found: dict[str, str] = {}
        cost, todo, seen = 0.0, [top], {top}
        while todo:
            now = todo.pop()
            for i, k in edges:
                for a, b in ((i, k), (k, i)):
                    if home[ids[a]] == now and home[ids[b]] not in seen:
                        root = home[ids[b]]
                        seen.add(root)
                        todo.append(root)
                        # a tree hangs by its root; the part that meets is it, or lies below it
                        found[root] = ids[a]
                        cost += float(np.linalg.norm(origins[ids.index(root)] - meet[a, b]))
        if cost < best[0]:
            best = cost, found
    return best[1]
