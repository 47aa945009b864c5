"""Convex hulls with whole faces, and triangle meshes with a tree of boxes: what the contact search works on."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array

MOST_POINTS = 64


@dataclass(frozen=True, eq=False)
class Polyhedron:
    """A convex hull: vertices (V, 3); planes (F, 4), outward normal and height; ``loops``: each face's vertices in order
    around its normal; edges (E, 4): two vertices, two faces; triangles (T, 3); volume (m^3), centre (3,), principal moments
    per unit mass (3,) and their rotation (4,).
    """

    vertices: Array
    planes: Array
    loops: tuple[tuple[int, ...], ...]
    edges: np.ndarray
    triangles: np.ndarray
    volume: float
    centre: Array
    moments: Array
    axes: Array


@lru_cache(maxsize=4096)
def hull_of(points: tuple[tuple[float, float, float], ...]) -> Polyhedron:
    """The convex hull of points (N, 3). Raises ArtulineError for points that lie in one plane."""
    p = np.array(points, float).reshape(-1, 3)
    centre, size = p.mean(axis=0), float(np.ptp(p, axis=0).max(initial=0.0))
    # imported here for the sake of a fast start
    from scipy.spatial import ConvexHull, QhullError

    try:
        q = ConvexHull((p - centre) / max(size, 1e-12))
    except (QhullError, ValueError) as error:
        raise ArtulineError(
            f"the {len(p)} points of a convex hull have no volume",
            remedy="Give it four points or more that do not lie in one plane.",
        ) from error
    normals = q.equations[:, :3]
    # triangles of one plane, joined over their common edges, are one face
    face_of = np.full(len(normals), -1)
    faces = 0
    for t in range(len(normals)):
        if face_of[t] >= 0:
            continue
        stack = [t]
        face_of[t] = faces
        while stack:
            for o in q.neighbors[stack.pop()]:
                flat = normals[o] @ normals[t] > 1.0 - 1e-8 and abs(q.equations[o, 3] - q.equations[t, 3]) < 1e-6
                if face_of[o] < 0 and flat:
                    face_of[o] = faces
                    stack.append(int(o))
        faces += 1
    simplices = q.simplices.copy()
    a, b, c = (p[simplices[:, k]] for k in range(3))
    wrong = np.einsum("ij,ij->i", np.cross(b - a, c - a), normals) < 0.0
    simplices[wrong] = simplices[wrong][:, ::-1]
    sides: dict[tuple[int, int], int] = {}
    following: list[dict[int, int]] = [{} for _ in range(faces)]
    directed = {(int(s[k]), int(s[(k + 1) % 3])): int(face_of[t]) for t, s in enumerate(simplices) for k in range(3)}
    edges = []
    for (i, j), f in directed.items():
        other = directed[j, i]
        if other != f:
            following[f][i] = j
            sides[i, j] = f
            if i < j:
                edges.append((i, j, f, other))
    loops = []
    for nexts in following:
        start = next(iter(nexts))
        loop, at = [start], nexts[start]
        while at != start:
            loop.append(at)
            at = nexts[at]
        loops.append(loop)
    used = sorted({i for loop in loops for i in loop})
    renumber = {old: new for new, old in enumerate(used)}
    vertices = p[used]
    planes = np.zeros((faces, 4))
    for f, loop in enumerate(loops):
        n = normals[face_of == f].mean(axis=0)
        planes[f, :3] = n / np.linalg.norm(n)
        planes[f, 3] = (p[loop] @ planes[f, :3]).max()
    # imported here: it takes longer than all the rest of a start without hulls
    from trimesh.triangles import mass_properties

    about = mass_properties(p[simplices])
    moments, axes = np.linalg.eigh(np.array(about["inertia"]) / about["mass"])
    if np.linalg.det(axes) < 0.0:
        axes[:, 0] *= -1.0
    return Polyhedron(
        vertices=vertices,
        planes=planes,
        loops=tuple(tuple(renumber[i] for i in loop) for loop in loops),
        edges=np.array([(renumber[i], renumber[j], f, g) for i, j, f, g in edges]),
        triangles=np.array([[renumber[loop[0]], renumber[loop[k]], renumber[loop[k + 1]]]
                            for loop in loops for k in range(1, len(loop) - 1)]),
        volume=float(about["mass"]),
        centre=np.array(about["center_mass"]),
        moments=np.maximum(moments, 1e-9 * moments.max()),
        axes=rotation.from_matrix(axes),
    )  # fmt: skip


def box_hull(half: Array) -> Polyhedron:
    """A box with half extents (3,) as a hull."""
    signs = [(x, y, z) for x in (-1.0, 1.0) for y in (-1.0, 1.0) for z in (-1.0, 1.0)]
    return hull_of(tuple(tuple(float(s * h) for s, h in zip(corner, half)) for corner in signs))  # type: ignore[misc]


RIM = 2.0  # of an edge over which a normal may lean out as far as it likes


@dataclass(frozen=True, eq=False)
class TriangleMesh:
    """Triangles with what contacts need: vertices (V, 3); triangles (T, 3); ridges (T, 3): how far a normal may lean out over
    the edge from each corner to the next: the sine of the angle to the next face, 0 if the edge lies in a plane or a hollow, RIM
    where it is sharp or a border; normals (T, 3). nodes (N, 8): boxes of a tree in depth-first order, low and high corner, the node to go on with where a box is missed, and the triangle of a leaf or -1.
    """

    vertices: Array
    triangles: np.ndarray
    ridges: np.ndarray
    normals: Array
    nodes: Array


def triangle_mesh(vertices: Array, triangles: np.ndarray) -> TriangleMesh:
    """Prepare a mesh for contacts: welded, without triangles that have no area. Raises ArtulineError if none is left."""
    vertices, triangles = np.asarray(vertices, float), np.asarray(triangles)
    if not np.isfinite(vertices).all() or (triangles.size and triangles.max() >= len(vertices)):
        raise ArtulineError("a mesh has vertices that are not numbers, or triangles without vertices")
    from trimesh import Trimesh

    mesh = Trimesh(vertices, triangles, process=True, validate=False)
    mesh.merge_vertices(merge_norm=True, merge_tex=True)
    mesh.update_faces(mesh.nondegenerate_faces())
    if not len(mesh.faces):
        raise ArtulineError("a mesh has no triangle with an area", remedy="Choose a mesh with faces.")
    v, t, n = np.array(mesh.vertices), np.array(mesh.faces), np.array(mesh.face_normals)
    ridges = np.full((len(t), 3), RIM)
    sides: dict[tuple[int, int], tuple[int, int]] = {}
    for i, tri in enumerate(t):
        for k in range(3):
            sides[int(tri[k]), int(tri[(k + 1) % 3])] = (i, k)
    for (a, b), (i, k) in sides.items():
        if (b, a) in sides:
            j, _ = sides[b, a]
            far = v[t[j]].mean(axis=0) - v[a]
            along = v[b] - v[a]
            lean = np.cross(along / np.linalg.norm(along), n[i]) @ n[j]
            if n[i] @ far >= -1e-3 * np.linalg.norm(far):
                ridges[i, k] = 0.0
            elif n[i] @ n[j] > 0.0:
                ridges[i, k] = max(lean, 1e-6)
    return TriangleMesh(v, t, ridges, n, _tree(v[t]))


def _tree(corners: Array) -> Array:
    """Boxes around triangles (T, 3, 3), halved along their longest side; see ``TriangleMesh.nodes``."""
    low, high = corners.min(axis=1), corners.max(axis=1)
    middle = 0.5 * (low + high)
    nodes: list[list[float]] = []

    def add(members: np.ndarray) -> None:
        row = [*low[members].min(axis=0), *high[members].max(axis=0), 0.0, -1.0]
        at = len(nodes)
        nodes.append(row)
        if len(members) == 1:
            row[7] = float(members[0])
        else:
            axis = int(np.ptp(middle[members], axis=0).argmax())
            order = members[np.argsort(middle[members, axis], kind="stable")]
            add(order[: len(order) // 2])
            add(order[len(order) // 2 :])
        nodes[at][6] = float(len(nodes))

    add(np.arange(len(corners)))
    return np.array(nodes)
