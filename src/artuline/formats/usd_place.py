"""Where a skeleton of USD stands: the whole chain of transforms above it, at every time, as the figure's place, in its topmost bones, or as a bone of its own."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.scene.edit import Names
from artuline.core.scene.model import Bone, Figure

EVEN = 1e-5  # share by which a scale may differ between axes and still be one
STILL = 1e-9

_UP = np.eye(4)
_UP[:3, :3] = rotation.to_matrix(rotation.from_rotation_vector(np.array([-0.5 * np.pi, 0.0, 0.0])))


@dataclass(frozen=True, eq=False)
class Chain:
    """What carries a skeleton, y upwards: its matrix at rest (4, 4), and over time codes (T,) (T, 4, 4), none where it stands still."""

    rest: Array
    codes: Array
    moving: Array
    z_up: bool

    @property
    def size(self) -> float:
        """By how much it enlarges what it carries, if it does so evenly."""
        return float(np.cbrt(abs(np.linalg.det(self.rest[:3, :3]))))

    @property
    def even(self) -> bool:
        """Whether it turns, moves and enlarges, and nothing else."""
        for m in (self.rest, *self.moving):
            square = m[:3, :3].T @ m[:3, :3]
            mean = np.trace(square) / 3.0
            if np.abs(square - mean * np.eye(3)).max() > EVEN * mean or np.linalg.det(m[:3, :3]) <= 0.0:
                return False
        return True


def chain_of(stage: Any, prim: Any, every: float, z_up: bool, most: int) -> Chain:
    """All transforms from the world down to a prim, at ``every`` so many time codes where one of them is animated. Raises ValueError for matrices that cannot be used."""
    from pxr import Usd, UsdGeom

    codes: set[float] = set()
    above = prim
    while above and not above.IsPseudoRoot():
        if above.IsA(UsdGeom.Xformable):
            codes |= set(UsdGeom.Xformable(above).GetTimeSamples())
            if UsdGeom.Xformable(above).GetResetXformStack():
                break
        above = above.GetParent()

    def at(code: Any) -> Array:
        m = np.array(UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(code), float).T
        if not np.isfinite(m).all() or np.abs(m).max() > 1e9 or abs(np.linalg.det(m[:3, :3])) < 1e-18:
            raise ValueError("a transform above its skeleton cannot be used")
        return _UP @ m if z_up else m

    times = np.array(sorted(codes), float)
    rest = at(Usd.TimeCode.EarliestTime())
    if len(times) > 1:
        if (times[-1] - times[0]) / every > most:
            raise ValueError(f"its transforms run over more than {most} frames")
        # turns are stated as angles: a whole one is seen only in between
        times = np.unique(
            np.concatenate([times, np.arange(np.ceil(times[0] / every), times[-1] / every + 1e-9) * every])
        )
    moving = np.array([at(t) for t in times.tolist()]).reshape(-1, 4, 4)
    if len(times) < 2 or np.abs(moving - moving[0]).max() <= STILL * max(1.0, float(np.abs(moving).max())):
        return Chain(rest if not len(times) else moving[0], np.zeros(0), np.zeros((0, 4, 4)), z_up)
    return Chain(rest, times, moving, z_up)


@dataclass(frozen=True, eq=False)
class Placed:
    """A figure that stands where its file has it. ``before`` (4, 4): what is taken off the chain by the figure's own place. ``bone``: whose curves the chain has, if
    it could not be put into the topmost bones.
    """

    figure: Figure
    chain: Chain
    before: Array
    bone: str | None
    notes: tuple[str, ...] = ()

    def carried(self, codes: Array) -> Array:
        """What carries the topmost bones at time codes (T,): (T, 4, 4)."""
        if self.bone is not None:
            return np.broadcast_to(np.eye(4), (len(codes), 4, 4))
        return np.asarray(self.before @ self._at(codes))

    def _at(self, codes: Array) -> Array:
        chain = self.chain
        if not len(chain.codes):
            return np.broadcast_to(chain.rest, (len(codes), 4, 4))
        where = np.clip(np.searchsorted(chain.codes, codes), 0, len(chain.codes) - 1)
        return np.asarray(chain.moving[where])

    def moves(self, codes: Array) -> tuple[Array, Array, Array] | None:
        """Places, turns and scales of the bone that has the chain's curves; None where there is none, or it stands still."""
        if self.bone is None or not len(self.chain.codes):
            return None
        return split(self._at(codes))


def split(m: Array) -> tuple[Array, Array, Array]:
    """Matrices (F, 4, 4) as places (F, 3), turns (F, 4) without jumps, and scales (F, 3)."""
    t, q, s = transforms.decompose(m)
    return t, rotation.make_continuous(rotation.normalize(q)), s


def place(figure: Figure, chain: Chain, name: str, tops: list[int]) -> Placed:
    """Put a figure whose bones are as of its skeleton alone to where a chain of transforms has it; ``tops``: its topmost bones."""
    unit = figure.unit
    if not chain.even:
        bone = Names(b.name for b in figure.bones).fresh(name or "place")
        t, q, s = transforms.decompose(chain.rest)
        above = Bone(name=bone, translation=tuple(t), rotation=tuple(rotation.normalize(q)), scale=tuple(s))
        bones = (above, *(b.changed(parent=bone) if b.parent is None else b for b in figure.bones))
        notes = [f"What stands above its skeleton is scaled unevenly: it is kept as the bone {bone!r}."]
        if np.abs(transforms.compose(t, q, s) - chain.rest).max() > 1e-4 * np.abs(chain.rest).max():
            notes.append("It is sheared there; the shear is left out.")
        return Placed(figure.changed(bones=bones), chain, np.eye(4), bone, tuple(notes))
    size = chain.size
    before = np.diag([1.0 / size, 1.0 / size, 1.0 / size, 1.0])
    figure = figure.changed(unit=unit * size)
    upright = chain.rest[:3, :3] @ (_UP[:3, :3].T if chain.z_up else np.eye(3)) / size
    if not len(chain.codes) and abs(upright[1, 1] - 1.0) < 1e-9:
        # it stands, and is turned about the upright: that is the figure's own place
        own = np.eye(4)
        own[:3, :3], own[:3, 3] = size * upright, chain.rest[:3, 3]
        before = np.array(np.linalg.inv(own))
        x, y, z = (float(v) for v in unit * chain.rest[:3, 3])
        figure = figure.changed(position=(x, y, z), turn=float(np.arctan2(upright[0, 2], upright[2, 2])))
    made = Placed(figure, chain, before, None)
    top = np.asarray(before @ chain.rest)
    made_bones = list(figure.bones)
    for i in tops:
        b = made_bones[i]
        m = top @ transforms.compose(np.array(b.translation), np.array(b.rotation), np.array(b.scale))
        t, q, s = transforms.decompose(m)
        made_bones[i] = b.changed(translation=tuple(t), rotation=tuple(rotation.normalize(q)), scale=tuple(s))
    said = ("What moves it from above its skeleton is in its topmost bone.",) if len(chain.codes) else ()
    return replace(made, figure=figure.changed(bones=tuple(made_bones)), notes=said)
