"""The skinned surface of a figure, as arrays in the asset store, and its skinning."""

from dataclasses import dataclass, fields
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry.rotation import Array
from artuline.core.scene.arrays import Checked
from artuline.core.scene.assets import Arrays, AssetStore


@dataclass(frozen=True, eq=False)
class Mesh:
    """A surface bound to bones through a palette, so that several skins fit in one mesh.

    positions, normals (V, 3) in bind space; triangles (T, 3); material (T,) index into the figure's
    materials; slots (V, K) palette entries with weights (V, K) that add up to 1; palette_bone (P,) bone
    index; palette_bind (P, 4, 4) inverse bind matrix; palette_skin (P,) which skin of the file it came from.
    """

    positions: NDArray[np.float32]
    normals: NDArray[np.float32]
    triangles: NDArray[np.int32]
    material: NDArray[np.int32]
    slots: NDArray[np.int32]
    weights: NDArray[np.float32]
    palette_bone: NDArray[np.int32]
    palette_bind: NDArray[np.float64]
    palette_skin: NDArray[np.int32]

    @cached_property
    def edges(self) -> np.ndarray:
        """Pairs of vertices (E, 2) that triangles have between them, each once."""
        t = self.triangles
        return np.unique(np.sort(np.concatenate([t[:, :2], t[:, 1:], t[:, ::2]]), axis=1), axis=0)

    def to_arrays(self) -> dict[str, np.ndarray]:
        """As named arrays for the asset store."""
        return {f.name: getattr(self, f.name) for f in fields(self)}

    @staticmethod
    def from_arrays(arrays: Arrays) -> "Mesh":
        """The inverse of ``to_arrays``."""
        return Mesh(**arrays)

    @staticmethod
    def check(arrays: Arrays, bones: int, materials: int, what: str) -> None:
        """Raises ArtulineError unless arrays make a mesh for so many bones and materials."""
        c = Checked(arrays, what)
        c.take("positions", ("V", 3), low=-1e12, high=1e12)
        c.take("normals", ("V", 3))
        count = c.lengths["V"]
        c.take("triangles", ("T", 3), "i", low=0, high=count - 1)
        c.take("material", ("T",), "i", low=0, high=max(materials, 1) - 1)
        c.take("palette_bone", ("P",), "i", low=0, high=bones - 1)
        c.take("palette_bind", ("P", 4, 4))
        c.take("palette_skin", ("P",), "i")
        c.take("slots", ("V", "K"), "i", low=0, high=c.lengths["P"] - 1)
        c.take("weights", ("V", "K"), low=-1e-6, high=1.0 + 1e-4)
        if not count or not c.lengths["T"]:
            raise c.fail("it has no triangles")
        extra = set(arrays) - {f.name for f in fields(Mesh)}
        if extra:
            raise c.fail(f"{min(extra)!r} is not known")

    def palette(self, matrices: Array) -> Array:
        """Skinning matrices (..., P, 4, 4) from bone matrices (..., B, 4, 4)."""
        return matrices[..., self.palette_bone, :, :] @ self.palette_bind

    def skin(self, matrices: Array) -> Array:
        """Vertex positions (V, 3) for bone matrices (B, 4, 4), by linear blend skinning."""
        palette = self.palette(matrices)[:, :3, :]
        out = np.zeros((len(self.positions), 3))
        for k in range(self.slots.shape[1]):
            m = palette[self.slots[:, k]]
            moved = np.einsum("vij,vj->vi", m[:, :, :3], self.positions) + m[:, :, 3]
            out += self.weights[:, k, None] * moved
        return out

    def bone_weights(self, bones: int) -> Array:
        """Weight of every bone on every vertex: (V, B)."""
        out = np.zeros((len(self.positions), bones))
        rows = np.arange(len(self.positions))
        for k in range(self.slots.shape[1]):
            np.add.at(out, (rows, self.palette_bone[self.slots[:, k]]), self.weights[:, k])
        return out


def triangles_of(assets: AssetStore, key: str) -> Array:
    """The corners (T, 3, 3), m, of the triangles that a shape refers to by its asset."""
    arrays = assets[key]
    corners: Array = arrays["vertices"][arrays["triangles"]]
    return corners
