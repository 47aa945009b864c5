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
    """A figure that stands where its file has it. ``before`` (4, 4): what is taken off the chain by the figure's own place and size. ``bone``: whose curves the chain has, above
    all others, if it could not be put into the topmost ones.
    """

    figure: Figure
    chain: Chain
    before: Array
    bone: str | None
    notes: tuple[str, ...] = ()

    @property
    def carried(self) -> Array:
        """What carries the topmost bones of the skeleton (4, 4)."""
        return np.eye(4) if self.bone is not None else np.asarray(self.before @ self.chain.rest)

    def moves(self, codes: Array) -> tuple[Array, Array, Array] | None:
        """Places, turns and scales of the chain's bone at time codes (T,); None where there is none, or it stands still."""
        if self.bone is None or not len(self.chain.codes):
            return None
        where = np.clip(np.searchsorted(self.chain.codes, codes), 0, len(self.chain.codes) - 1)
        return split(self.before @ self.chain.moving[where])


def split(m: Array) -> tuple[Array, Array, Array]:
    """Matrices (F, 4, 4) as places (F, 3), turns (F, 4) without jumps, and scales (F, 3)."""
    t, q, s = transforms.decompose(m)
    return t, rotation.make_continuous(rotation.normalize(q)), s


def place(figure: Figure, chain: Chain, name: str, tops: list[int]) -> Placed:
    """Put a figure whose bones are as of its skeleton alone to where a chain of transforms has it; ``tops``: its topmost bones."""
    unit, size = figure.unit, chain.size
    if not chain.even:
        return _with_bone(figure, chain, np.eye(4), name, "is scaled unevenly")
    before = np.diag([1.0 / size, 1.0 / size, 1.0 / size, 1.0])
    figure = figure.changed(unit=unit * size)
    if len(chain.codes):
        # its curves stay apart from those of the skeleton, whose keys may be few
        return _with_bone(figure, chain, before, name, "moves")
    upright = chain.rest[:3, :3] @ (_UP[:3, :3].T if chain.z_up else np.eye(3)) / size
    if abs(upright[1, 1] - 1.0) < 1e-9:
        # it stands, and is turned about the upright: that is the figure's own place
        own = np.eye(4)
        own[:3, :3], own[:3, 3] = size * upright, chain.rest[:3, 3]
        before = np.array(np.linalg.inv(own))
        x, y, z = (float(v) for v in unit * chain.rest[:3, 3])
        figure = figure.changed(position=(x, y, z), turn=float(np.arctan2(upright[0, 2], upright[2, 2])))
    made = Placed(figure, chain, before, None)
    bones = list(figure.bones)
    for i in tops:
        b = bones[i]
        own = transforms.compose(np.array(b.translation), np.array(b.rotation), np.array(b.scale))
        bones[i] = _bone(b, made.carried @ own)
    return replace(made, figure=figure.changed(bones=tuple(bones)))


def _bone(bone: Bone, m: Array) -> Bone:
    t, q, s = transforms.decompose(m)
    return bone.changed(translation=tuple(t), rotation=tuple(rotation.normalize(q)), scale=tuple(s))


def _with_bone(figure: Figure, chain: Chain, before: Array, name: str, why: str) -> Placed:
    """The figure with one more bone above all others, which stands and moves as the chain does."""
    m = before @ chain.rest
    above = _bone(Bone(name=Names(b.name for b in figure.bones).fresh(name or "place")), m)
    bones = (above, *(b.changed(parent=above.name) if b.parent is None else b for b in figure.bones))
    notes = [f"What stands above its skeleton {why}: it is kept as the bone {above.name!r}."]
    sheared = (x for x in (m, *(before @ y for y in chain.moving[:: max(len(chain.moving) // 50, 1)])))
    if any(np.abs(transforms.compose(*transforms.decompose(x)) - x).max() > 1e-4 * np.abs(x).max() for x in sheared):
        notes.append("It is sheared there; the shear is left out.")
    return Placed(figure.changed(bones=bones), chain, before, above.name, tuple(notes))
