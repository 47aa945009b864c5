"""A take as it is seen in a scene that was edited since: with the bones that there are now."""

from dataclasses import replace

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.motion.skeleton import Pose, skeleton_of
from artuline.core.run.record import settings_of
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene, TakeRef

KEPT = 8
#: By the take and the bones that its figures have: the take as it is seen, and the bones, which must live as long as their ids are used.
_shown: dict[tuple[object, ...], tuple[Take, tuple[object, ...]]] = {}


def take_in(scene: Scene, assets: AssetStore, ref: TakeRef) -> Take:
    """The take as it is seen in a scene. A bone that came after it is at rest, one that is gone is left out; a figure of which a bone hangs on another one
    than it did, or of which nothing is known, has no poses in it, so that its keys are shown.
    """
    take = assets.decoded(ref.asset, Take.from_arrays)
    bones = tuple(f.bones for f in scene.figures)
    key = (id(take), *map(id, bones))
    if key not in _shown:
        while len(_shown) >= KEPT:
            _shown.pop(next(iter(_shown)))
        _shown[key] = _seen(scene, assets, ref, take), (take, *bones)
    return _shown[key][0]


def changed_bones(scene: Scene, assets: AssetStore, ref: TakeRef) -> list[str]:
    """The figures of a take whose bones are others now than when it was made."""
    before = _bones_then(assets, ref)
    take = assets.decoded(ref.asset, Take.from_arrays)
    return [f.id for f in scene.figures if f.id in take.poses and not _alike(f, before.get(f.id), take.poses[f.id])]


def _bones_then(assets: AssetStore, ref: TakeRef) -> dict[str, Figure]:
    try:
        return {f.id: f for f in settings_of(ref, assets).figures}
    except ArtulineError:
        return {}


def _alike(now: Figure, then: Figure | None, pose: Pose) -> bool:
    if then is None:
        return pose.rotation.shape[1] == len(now.bones)
    return then.bones is now.bones or [(b.name, b.parent) for b in then.bones] == [
        (b.name, b.parent) for b in now.bones
    ]


def _seen(scene: Scene, assets: AssetStore, ref: TakeRef, take: Take) -> Take:
    if not changed_bones(scene, assets, ref):
        return take
    before, poses = _bones_then(assets, ref), dict(take.poses)
    for f in scene.figures:
        pose = poses.get(f.id)
        if pose is None or _alike(f, before.get(f.id), pose):
            continue
        made = _with_bones(f, before[f.id], pose) if f.id in before else None
        if made is None:
            poses.pop(f.id)
        else:
            poses[f.id] = made
    return replace(take, poses=poses)


def _with_bones(now: Figure, then: Figure, pose: Pose) -> Pose | None:
    """Poses (F, B) for the bones that a figure has now; None where a bone that both have hangs on another one."""
    index, rest = then.bone_index, skeleton_of(now).rest
    count = len(pose.rotation)
    parts = [np.repeat(x[None], count, axis=0) for x in (rest.translation, rest.rotation, rest.scale)]
    for i, b in enumerate(now.bones):
        k = index.get(b.name)
        if k is None:
            continue
        if then.bones[k].parent != b.parent:
            return None
        for made, kept in zip(parts, (pose.translation, pose.rotation, pose.scale)):
            made[:, i] = kept[:, k]
    return Pose(*parts)
