"""A skin with fewer triangles, for what is far away."""

import numpy as np

from artuline.core.scene.mesh import Mesh


def coarser(mesh: Mesh, share: float) -> Mesh:
    """A mesh whose vertices are brought together in cells as large as a ``share`` of its size, those of one bone and one material at a time, without the
    triangles that are left without area (Rossignac & Borrel 1993). Bones, weights and materials stay those of the vertex nearest to the middle of each cell.
    """
    p = mesh.positions.astype(float)
    size = float(np.ptp(p, axis=0).max())
    if size <= 0.0 or not len(mesh.triangles):
        return mesh
    cell = np.floor((p - p.min(axis=0)) / (share * size)).astype(np.int64)
    strongest = mesh.slots[np.arange(len(p)), mesh.weights.argmax(axis=1)].astype(np.int64)
    material = np.zeros(len(p), np.int64)
    material[mesh.triangles.ravel()] = np.repeat(mesh.material, 3)
    _, group = np.unique(np.column_stack([cell, strongest, material]), axis=0, return_inverse=True)
    group = group.ravel()
    count = np.bincount(group)
    middle = np.stack([np.bincount(group, p[:, k]) / count for k in range(3)], axis=1)
    away = np.linalg.norm(p - middle[group], axis=1)
    order = np.lexsort((away, group))
    first = order[np.searchsorted(group[order], np.arange(len(count)))]
    triangles = group[mesh.triangles]
    whole = (
        (triangles[:, 0] != triangles[:, 1])
        & (triangles[:, 1] != triangles[:, 2])
        & (triangles[:, 2] != triangles[:, 0])
    )
    kept = np.sort(triangles[whole], axis=1)
    _, once = np.unique(kept, axis=0, return_index=True)
    rows = np.flatnonzero(whole)[np.sort(once)]
    if not len(rows):
        return mesh
    normals = np.stack([np.bincount(group, mesh.normals[:, k]) for k in range(3)], axis=1)
    normals = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
    return Mesh(
        mesh.positions[first], normals.astype(mesh.normals.dtype), triangles[rows].astype(mesh.triangles.dtype), mesh.material[rows],
        mesh.slots[first], mesh.weights[first], mesh.palette_bone, mesh.palette_bind, mesh.palette_skin,
    )  # fmt: skip
