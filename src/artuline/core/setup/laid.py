"""Lines laid on skins: what of them would be under the surface comes up to it."""

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from artuline.core.geometry.distance import on_triangles
from artuline.core.geometry.rotation import Array
from artuline.core.geometry.winding import inside as inside_of
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Scene, StrandPoint
from artuline.core.setup.lines import FINE, line_through

NEAR = 24  # triangles that are looked at around a point
STEP = 8  # of the points of a fine line: every how many become points of the recipe
PASSES, MOST = 3, 60  # times that a line is laid, and points from which on it is not laid again
MOST_POINTS = 150
SPACING = 3.0  # gaps that points lie apart at least
SHALLOW = 0.5  # share of its radius by which a part may begin under a skin
GRASP = 0.07  # metres around where a bone holds it within which a line stays as it was drawn


def posed_skin(scene: Scene, assets: AssetStore, figure: Figure, frame: float) -> tuple[Array, NDArray[np.int32]]:
    """A figure's skin at a frame: vertices (V, 3) m, triangles (T, 3)."""
    assert figure.asset is not None
    mesh = assets.decoded(figure.asset, Mesh.from_arrays)
    return mesh.skin(keyed_matrices(scene, assets, figure, np.array([frame]))[0]), mesh.triangles


def signed_distance(
    points: Array, vertices: Array, triangles: NDArray[np.int32]
) -> tuple[Array, Array, NDArray[np.int64]]:
    """How far points (N, 3) lie outside of a surface (N,), below zero inside, the places on it nearest to them (N, 3), and on which triangles (N,)."""
    corners = vertices[triangles]
    _, near = cKDTree(corners.mean(axis=1), balanced_tree=False).query(points, min(NEAR, len(triangles)))
    near = near.reshape(len(points), -1)
    a, b, c = (corners[near][:, :, k] for k in range(3))
    places = on_triangles(points[:, None], a, b, c)
    gaps = np.linalg.norm(places - points[:, None], axis=2)
    best = gaps.argmin(axis=1)
    rows = np.arange(len(points))
    inside = inside_of(points, vertices, triangles)
    return np.where(inside, -1.0, 1.0) * gaps[rows, best], places[rows, best], near[rows, best]


def lifted(points: Array, skins: list[tuple[Array, NDArray[np.int32]]], gap: float) -> tuple[Array, Array]:
    """Points (N, 3) no nearer than a gap (m) to any skin, and which had to be moved (N,)."""
    made, moved = points.copy(), np.zeros(len(points), bool)
    for vertices, triangles in skins:
        low, high = vertices.min(axis=0) - gap, vertices.max(axis=0) + gap
        rows = np.flatnonzero(((made >= low) & (made <= high)).all(axis=1))
        if not len(rows):
            continue
        distance, place, _ = signed_distance(made[rows], vertices, triangles)
        under = distance < 0.98 * gap
        way = np.sign(distance)[:, None] * (made[rows] - place)
        size = np.linalg.norm(way, axis=1, keepdims=True)
        way = np.where(size > 1e-9, way / np.maximum(size, 1e-9), [0.0, 1.0, 0.0])
        made[rows[under]] = (place + gap * way)[under]
        moved[rows[under]] = True
    return made, moved


def laid(
    scene: Scene,
    assets: AssetStore,
    points: tuple[StrandPoint, ...],
    frame: float,
    gap: float,
    *,
    closed: bool = False,
    curved: bool = True,
    apart: float = SPACING,
) -> tuple[StrandPoint, ...]:
    """The points of a recipe, with more between them where the line would run through a figure's skin: there it lies on it, a gap (m) above; ``apart``: how many gaps points lie apart at least."""
    skins = [
        posed_skin(scene, assets, f, frame)
        for f in scene.cast
        if f.asset is not None and f.bodies and f.made is None and not f.prop
    ]
    if not skins:
        return points
    for _ in range(PASSES):
        line = line_through(np.array([p.position for p in points]), closed=closed, curved=curved)
        made, moved = lifted(line, skins, gap)
        held = np.array([p.position for p in points if p.hold == "mounted"]).reshape(-1, 3)
        if len(held):
            # what holds it may close around it
            beside = np.linalg.norm(line[:, None] - held, axis=2).min(axis=1) < GRASP
            made[beside], moved[beside] = line[beside], False
        if not moved.any() or len(line) != FINE * (len(points) - (not closed)) + 1 or len(points) > MOST:
            break
        found: list[StrandPoint] = []
        for k, point in enumerate(points):
            here = k * FINE
            found.append(point if point.hold != "free" else StrandPoint(position=tuple(made[min(here, len(made) - 1)])))
            for i in range(here + STEP, min(here + FINE, len(line) - 1), STEP):
                # a span that is free of the skin stays as it was drawn
                if moved[max(i - STEP, here + 1) : i + STEP].any():
                    found.append(StrandPoint(position=tuple(made[i])))
        if len(found) > MOST_POINTS:
            break
        same, points = len(found) == len(points), tuple(found)
        if same:
            break
    return _thinned(points, apart * gap)


def _thinned(points: tuple[StrandPoint, ...], spacing: float) -> tuple[StrandPoint, ...]:
    """The points without free ones nearer than a spacing (m) to the one before or to one that is held."""
    held = [np.array(p.position) for p in points if p.hold != "free"]
    found: list[StrandPoint] = []
    for k, p in enumerate(points):
        at = np.array(p.position)
        beside = [*held, *(np.array(x.position) for x in found[-1:])]
        if k in (0, len(points) - 1) or p.hold != "free" or all(np.linalg.norm(at - x) >= spacing for x in beside):
            found.append(p)
    return tuple(found)


def parts_inside(scene: Scene, assets: AssetStore, strand: Figure, skin: Figure) -> list[str]:
    """The parts of a strand whose middle is too deep inside of a figure's skin when it begins, but those that are held there."""
    recipe = strand.made
    assert recipe is not None
    matrices = keyed_matrices(scene, assets, strand, np.array([float(scene.start)]))[0]
    middles = np.array([[*b.shapes[0].position, 1.0] for b in strand.bodies if b.shapes])
    at = np.einsum("nij,nj->ni", matrices[[strand.bone_index[b.bone] for b in strand.bodies if b.shapes]], middles)[
        :, :3
    ]
    vertices, triangles = posed_skin(scene, assets, skin, float(scene.start))
    near = ((at >= vertices.min(axis=0)) & (at <= vertices.max(axis=0))).all(axis=1)
    inside = np.zeros(len(at), bool)
    if near.any():
        # a little below the surface it comes up by itself
        inside[near] = signed_distance(at[near], vertices, triangles)[0] < -SHALLOW * recipe.reach
    held = {m.part for m in strand.mounts}
    names = [b.bone for b in strand.bodies if b.shapes]
    beside = {n for k, n in enumerate(names) if held & set(names[max(k - 1, 0) : k + 2])}
    return [n for n, i in zip(names, inside.tolist(), strict=True) if i and n not in beside]
