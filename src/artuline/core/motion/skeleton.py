"""Bones as arrays: parents, rest pose, and forward kinematics over many frames at once."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Bone, Figure


@dataclass(frozen=True)
class Pose:
    """Local bone transforms: translation (..., B, 3), rotation (..., B, 4), scale (..., B, 3)."""

    translation: Array
    rotation: Array
    scale: Array

    def frame(self, i: int) -> "Pose":
        """One frame of a pose over frames."""
        return Pose(self.translation[i], self.rotation[i], self.scale[i])

    def rows(self, rows: slice) -> "Pose":
        """Some frames of a pose over frames, of which it stays one."""
        return Pose(self.translation[rows], self.rotation[rows], self.scale[rows])

    def every(self, step: int) -> "Pose":
        """Every so many frames of a pose over frames."""
        return self.rows(slice(None, None, step))

    def copy(self) -> "Pose":
        """A pose whose arrays may be written to."""
        return Pose(self.translation.copy(), self.rotation.copy(), self.scale.copy())


@dataclass(frozen=True, eq=False)
class Skeleton:
    """Names, parents (index or -1, always before the child) and the rest pose of a figure's bones."""

    names: tuple[str, ...]
    parents: tuple[int, ...]
    rest: Pose

    @property
    def size(self) -> int:
        """How many bones."""
        return len(self.names)

    def rest_over(self, frames: int) -> Pose:
        """The rest pose repeated: writable arrays with a leading axis of ``frames``."""
        return Pose(
            *(np.repeat(a[None], frames, axis=0) for a in (self.rest.translation, self.rest.rotation, self.rest.scale))
        )

    def global_matrices(self, pose: Pose, root: Array | None = None) -> Array:
        """Forward kinematics: pose (..., B) -> matrices (..., B, 4, 4), under the 4x4 ``root`` if given."""
        local = transforms.compose(pose.translation, pose.rotation, pose.scale)
        out = np.empty_like(local)
        for i, p in enumerate(self.parents):
            if p >= 0:
                out[..., i, :, :] = out[..., p, :, :] @ local[..., i, :, :]
            else:
                out[..., i, :, :] = local[..., i, :, :] if root is None else root @ local[..., i, :, :]
        return out


@lru_cache(maxsize=64)
def _of_bones(bones: tuple[Bone, ...]) -> Skeleton:
    index = {b.name: i for i, b in enumerate(bones)}
    rest = Pose(
        np.array([b.translation for b in bones], float).reshape(-1, 3),
        np.array([b.rotation for b in bones], float).reshape(-1, 4),
        np.array([b.scale for b in bones], float).reshape(-1, 3),
    )
    parents = tuple(index[b.parent] if b.parent is not None else -1 for b in bones)
    return Skeleton(tuple(b.name for b in bones), parents, rest)


def under(skeleton: Skeleton, pose: Pose, old: Array, new: Array) -> Pose:
    """The same places of all bones as a pose (F, B) under a root (F, 4, 4), as a pose under another root."""
    made = pose.copy()
    for b, up in enumerate(skeleton.parents):
        if up < 0:
            local = transforms.compose(pose.translation[:, b], pose.rotation[:, b], pose.scale[:, b])
            made.translation[:, b], made.rotation[:, b] = rigid(np.linalg.inv(new) @ old @ local)
    return made


#: By the identity of a tuple of bones, which is kept with what it gives: to compare bones by their values takes longer than a pose.
_KNOWN: dict[int, tuple[tuple[Bone, ...], Skeleton]] = {}
MOST_KNOWN = 1024


def skeleton_of(figure: Figure) -> Skeleton:
    """The arrays of a figure's bones; cached."""
    found = _KNOWN.get(id(figure.bones))
    if found is None:
        if len(_KNOWN) >= MOST_KNOWN:
            _KNOWN.clear()
        found = _KNOWN[id(figure.bones)] = figure.bones, _of_bones(figure.bones)
    return found[1]


def placement(figure: Figure) -> Array:
    """The figure's place in the scene: a 4x4 of unit, turn about Y and position."""
    q = rotation.from_rotation_vector(np.array([0.0, figure.turn, 0.0]))
    return transforms.compose(np.array(figure.position), q, np.full(3, figure.unit))


def rest_matrices(figure: Figure) -> Array:
    """World matrices (B, 4, 4) of the rest pose."""
    s = skeleton_of(figure)
    return s.global_matrices(s.rest, placement(figure))


def matrices_of(figures: Sequence[Figure], poses: Sequence[Pose], roots: Sequence[Array]) -> list[Array]:
    """World matrices (B, 4, 4) of figures in poses (B,) under roots (4, 4): those of one skeleton at once."""
    alike: dict[int, list[int]] = {}
    for k, f in enumerate(figures):
        alike.setdefault(id(skeleton_of(f)), []).append(k)
    found: list[Array] = [np.empty(0)] * len(figures)
    for same in alike.values():
        whole = Pose(
            np.stack([poses[k].translation for k in same]),
            np.stack([poses[k].rotation for k in same]),
            np.stack([poses[k].scale for k in same]),
        )
        for k, m in zip(same, skeleton_of(figures[same[0]]).global_matrices(whole, np.stack([roots[k] for k in same]))):
            found[k] = m
    return found


def rigid(matrices: Array) -> tuple[Array, Array]:
    """Positions (..., 3) and rotations (..., 4) of matrices (..., 4, 4), without their scale."""
    p, q, _ = transforms.decompose(matrices)
    return p, q
