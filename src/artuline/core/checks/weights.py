"""Weights of the skin: what does not add up, what nobody carries, added bones without skin, and specks of weight."""

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from artuline.core.checks.finding import Finding, Fix
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Bone, Figure
from artuline.core.setup.added import entry_of, regrown
from artuline.core.setup.weights import entry_weights

OFF = 1e-3  # by which weights may miss 1
NOTHING = 0.02  # weight below which a bone carries nothing
PART = 0.1  # weight from which a vertex belongs to a bone's part of the skin
SPECK = 0.08  # share of that part which a speck beside it is at most


def check_weights(f: Figure, assets: AssetStore) -> list[Finding]:
    """Everything about the weights of a figure's skin."""
    if f.asset is None:
        return []
    mesh = assets.decoded(f.asset, Mesh.from_arrays)
    total = mesh.weights.sum(axis=1)
    found = []
    bare, off = total < 1e-6, np.abs(total - 1.0) > OFF
    if bare.any():
        found.append(
            Finding(2, f"{int(bare.sum())} vertices of {f.name} have no weight: they stay behind.", f.id,
                    fix_label="Carry them like their neighbours", fix=_mended(f, assets, bare))
        )  # fmt: skip
    if (off & ~bare).any():
        found.append(
            Finding(2, f"The weights of {int((off & ~bare).sum())} vertices of {f.name} do not add up to 1.", f.id,
                    fix_label="Make them add up", fix=_mended(f, assets, np.zeros(len(total), bool)))
        )  # fmt: skip
    for b in (b for b in f.bones if b.flesh is not None):
        found += _bone(f, assets, mesh, b)
    return found


def _bone(f: Figure, assets: AssetStore, mesh: Mesh, b: Bone) -> list[Finding]:
    share = entry_weights(mesh, entry_of(f, mesh, b.name))
    if share.max(initial=0.0) < NOTHING:
        assert b.flesh is not None
        # what was painted away comes back; what reaches nothing reaches farther
        wider = b.flesh if b.flesh.painted else b.flesh.changed(radius=2.0 * b.flesh.radius, strength=1.0)
        return [
            Finding(2, f"{b.name} carries no skin, so nothing is seen of it.", f.id, b.name, fix_label="Let it reach the skin",
                    fix=lambda s: regrown(s, assets, f.id, b.name, flesh=wider))
        ]  # fmt: skip
    inside = np.flatnonzero(share > PART)
    if not len(inside):
        return []
    place = np.full(len(share), -1)
    place[inside] = np.arange(len(inside))
    edges = place[mesh.edges]
    edges = edges[(edges >= 0).all(axis=1)]
    graph = coo_matrix((np.ones(len(edges)), (edges[:, 0], edges[:, 1])), shape=(len(inside),) * 2)
    count, which = connected_components(graph, directed=False)
    weight = np.bincount(which, share[inside], count)
    specks = np.flatnonzero(weight < SPECK * weight.max())
    if not len(specks):
        return []
    left = share.copy()
    left[inside[np.isin(which, specks)]] = 0.0
    return [
        Finding(1, f"{b.name} also carries {len(specks)} specks of skin that nothing joins to its own.", f.id, b.name, fix_label="Give them back",
                fix=lambda s: regrown(s, assets, f.id, b.name, share=left))
    ]  # fmt: skip


def _mended(f: Figure, assets: AssetStore, bare: NDArray[np.bool_]) -> Fix:
    """Weights that add up, and where there are none, those of the nearest vertex that has some."""

    def fix(s):  # type: ignore[no-untyped-def]
        changed: dict[str, object] = {}
        for name in ("asset", "plain"):
            key = getattr(s.figure(f.id), name)
            if key is not None:
                mesh = Mesh.from_arrays(assets[key])
                slots, weights = np.array(mesh.slots), mesh.weights.astype(float)
                if bare.any():
                    near = np.flatnonzero(~bare)[cKDTree(mesh.positions[~bare]).query(mesh.positions[bare])[1]]
                    slots[bare], weights[bare] = slots[near], weights[near]
                weights = (weights / np.maximum(weights.sum(axis=1, keepdims=True), 1e-12)).astype(np.float32)
                arrays = mesh.to_arrays() | {"slots": slots, "weights": weights}
                changed[name] = assets.add(arrays)
        return edit.figure(s, f.id, **changed)

    return fix
