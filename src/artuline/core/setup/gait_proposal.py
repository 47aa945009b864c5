"""Which of a figure's clips are gaits, proposed from how they move and what they are called."""

import re
from collections import deque

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.gaits import Stride, forward_of, stride_of
from artuline.core.motion.skeleton import rest_matrices, rigid, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure
from artuline.core.scene.steering import Gait, Steering

STANDS = ("stand", "idle", "rest", "wait", "breathe")
GOES = (
    "walk",
    "run",
    "jog",
    "trot",
    "canter",
    "gallop",
    "sprint",
    "creep",
    "sneak",
    "stride",
    "march",
    "pace",
    "amble",
    "crawl",
)
RISES = ("rise", "getup", "standup", "recover")
FORWARD = np.cos(np.radians(40.0))  # a gait goes where the figure faces, or near it
UPRIGHT = np.cos(np.radians(40.0))  # of a trunk that stands
STILL = 0.06  # m/s


def _says(name: str, words: tuple[str, ...]) -> bool:
    plain = re.sub(r"[^a-z]+", "", name.lower())
    return any(w in plain for w in words)


#: What was proposed lately, since it is asked for at every look.
_KNOWN: deque[tuple[tuple[object, ...], Steering]] = deque(maxlen=16)


def propose_steering(figure: Figure, assets: AssetStore) -> Steering:
    """One clip that stands, those that go round and forward by their speeds, and those that begin lying and end standing.

    Raises ArtulineError if there is none to go with.
    """
    # all that it depends on: clips are known by their content
    key = figure.bones, figure.clips, figure.bodies, figure.unit, figure.turn
    for known, made in list(_KNOWN):
        if known == key:
            return made
    made = _proposed(figure, assets)
    _KNOWN.appendleft((key, made))
    return made


def _proposed(figure: Figure, assets: AssetStore) -> Steering:
    forward, gaits, rises = forward_of(figure), [], []
    still: list[tuple[int, str]] = []
    for ref in figure.clips:
        stride = stride_of(figure, assets, ref)
        if _lies_first(figure, stride) or _says(ref.name, RISES):
            rises.append(ref.name)
        elif stride.speed > STILL and stride.forward @ forward > FORWARD and (ref.loop or _says(ref.name, GOES)):
            gaits.append(Gait(clip=ref.name, speed=round(stride.speed, 2)))
        elif stride.speed <= STILL and not np.linalg.norm(stride.way):
            still.append((0 if _says(ref.name, STANDS) else 1, ref.name))
    if not gaits:
        raise ArtulineError(
            f"{figure.name} has no clip to go with",
            remedy="Open clips for it: one that walks in a loop, and one that stands.",
        )
    # two of one speed are no two paces
    apart: list[Gait] = []
    for g in sorted(gaits, key=lambda g: g.speed):
        if not apart or g.speed > 1.1 * apart[-1].speed:
            apart.append(g)
    stands = [Gait(clip=name, speed=0.0) for _, name in sorted(still, key=lambda x: x[0])[:1]]
    return Steering(gaits=(*stands, *apart), rises=tuple(rises))


def _trunk(figure: Figure) -> int:
    """The bone by which it is told whether a figure stands or lies: the topmost with a body, or the topmost."""
    return min((figure.bone_index[b.bone] for b in figure.bodies), default=0)


def _lies_first(figure: Figure, stride: Stride) -> bool:
    """Whether a clip begins with the trunk far from where it ends, which is as at rest."""
    trunk, skeleton = _trunk(figure), skeleton_of(figure)
    unit = np.diag([figure.unit, figure.unit, figure.unit, 1.0])
    rest = rigid(rest_matrices(figure))[1][trunk]

    def up(k: int) -> Array:
        q = rigid(skeleton.global_matrices(stride.pose.frame(k), unit))[1][trunk]
        return np.asarray(rotation.rotate(rotation.multiply(q, rotation.conjugate(rest)), np.array([0.0, 1.0, 0.0])))

    return float(up(0)[1]) < UPRIGHT <= float(up(-1)[1])
