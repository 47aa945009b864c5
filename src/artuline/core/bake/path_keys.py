"""The way of a bone through space as its keys make it, and keys that follow when a place of it is moved."""

import numpy as np

from artuline.core.bake.layer_keys import Name
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Channel
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.keys import inserted
from artuline.core.motion.poses import reached
from artuline.core.motion.skeleton import skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene

SAME = 1e-5  # seconds


def movers(figure: Figure, bone: str, channels: dict[Name, Channel]) -> tuple[Name, ...]:
    """The channels whose keys move a bone's place: its own, where it is moved; else the turns of the two bones above it. Empty if the keys do not rule them."""
    if (bone, "translation") in channels:
        return ((bone, "translation"),)
    limb = figure.limb_of(bone)
    names = tuple((b, "rotation") for b in limb[:2])
    return names if len(limb) == 3 and all(n in channels for n in names) else ()


def path_frames(channels: dict[Name, Channel], names: tuple[Name, ...], rate: float) -> Array:
    """The frames at which the channels of a path have keys."""
    if not names:
        return np.zeros(0)
    return np.unique(np.round(np.concatenate([channels[n].times for n in names]) * rate, 4))


def path(scene: Scene, assets: AssetStore, figure: Figure, bone: str, frames: Array) -> Array:
    """Where a bone's origin is at frames (F,) with all layers: (F, 3)."""
    if not len(frames):
        return np.zeros((0, 3))
    m = skeleton_of(figure).global_matrices(
        keyed_pose(scene, assets, figure, frames), root_at(scene, assets, figure, frames)
    )
    return np.asarray(m[:, figure.bone_index[bone], :3, 3])


def placed(
    scene: Scene,
    assets: AssetStore,
    figure: Figure,
    bone: str,
    channels: dict[Name, Channel],
    frame: float,
    goal: Array,
) -> dict[Name, Channel]:
    """The channels with which a bone's origin is at ``goal`` (3,) at a frame, or as near as its limb reaches: a key at that frame, with the slopes that the
    curves had. Raises ArtulineError if no keys of the layer move it.
    """
    names = movers(figure, bone, channels)
    if not names:
        raise ArtulineError(f"the layer has no keys that move {bone}", remedy="Choose a hand, a foot, or the hips.")
    at = np.array([float(frame)])
    root = root_at(scene, assets, figure, at)[0]
    pose = keyed_pose(scene, assets, figure, at)
    b = figure.bone_index[bone]
    skeleton = skeleton_of(figure)
    if names[0][1] == "translation":
        up = skeleton.parents[b]
        above = skeleton.global_matrices(pose.frame(0), root)[up] if up >= 0 else root
        values = {names[0]: transforms.apply(np.linalg.inv(above), goal[None])[0]}
    else:
        made = reached(figure, root, pose, bone, goal)
        values = {n: made.rotation[0, figure.bone_index[n[0]]] for n in names}
    seconds = float(frame) / scene.rate
    return {
        n: _keyed(channels[n], seconds, v, getattr(pose, n[1])[0, figure.bone_index[n[0]]]) for n, v in values.items()
    }


def _keyed(channel: Channel, seconds: float, value: Array, shown: Array) -> Channel:
    """A channel whose key at a time, made if there is none, is changed by what turns or moves what is shown there into a value."""
    made = inserted(channel, seconds)
    i = int(np.argmin(np.abs(made.times - seconds)))
    keys = np.array(made.values)
    if channel.path == "rotation":
        turn = rotation.multiply(rotation.conjugate(shown), value)
        keys[i] = rotation.multiply(keys[i], turn)
        side = i - 1 if i else min(1, len(keys) - 1)
        if float(keys[i, 1] @ keys[side, 1]) < 0.0:
            keys[i] = -keys[i]
    else:
        keys[i, 1] += value - shown
    return Channel(made.bone, made.path, made.interpolation, made.times, keys, made.holds)
