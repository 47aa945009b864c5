"""The way of a bone through space as its keys make it, and keys that follow when a place of it is moved."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from artuline.core.bake.layer_keys import Name
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.goals import curve_of
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.keys import inserted
from artuline.core.motion.poses import reached
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Limb, Scene

SAME = 1e-5  # seconds


def movers(figure: Figure, bone: str, channels: dict[Name, Channel]) -> tuple[Name, ...]:
    """The channels whose keys move a bone's place: its goal, if it is led by one; its own, where it is moved; else the turns of the two bones above it. Empty if the keys do not rule them."""
    led = next((x for x in figure.goals if x.end == bone), None)
    if led is not None and (led.goal, "translation") in channels:
        return ((led.goal, "translation"),)
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
    if names[0][0] not in figure.bone_index:
        return goal_keyed(scene, assets, figure, channels, names[0], frame, goal)
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


@dataclass(frozen=True)
class LedNow:
    """A limb that a layer leads, as it is at a frame, in the world: where its goal is (3,) and how it is turned (4,), where its middle is and looks (3,)."""

    limb: Limb
    goal: Array
    turn: Array
    middle: Array
    direction: Array


def led_now(
    scene: Scene, assets: AssetStore, figure: Figure, channels: Mapping[Name, Channel], frame: float
) -> list[LedNow]:
    """The limbs of a figure that a layer's channels lead, at a frame."""
    names = {n for n, _ in channels}
    limbs = [x for x in figure.goals if names & set(x.curves)]
    if not limbs:
        return []
    at = np.array([float(frame)])
    root, pose = root_at(scene, assets, figure, at)[0], keyed_pose(scene, assets, figure, at)
    places = skeleton_of(figure).global_matrices(pose, root[None])[0]
    facing, found = rigid(root[None])[1][0], []
    for limb in limbs:
        there = {
            n: channels[n].sample(at / scene.rate)[0] if n in channels else curve_of(figure, pose, n)[0]
            for n in ((limb.goal, "translation"), (limb.goal, "rotation"), (limb.direction, "translation"))
        }
        goal, turn, look = there.values()
        spots = transforms.apply(root, np.array([goal, look]))
        middle = places[figure.bone_index[limb.lower], :3, 3]
        found.append(LedNow(limb, spots[0], rotation.multiply(facing, turn), middle, spots[1]))
    return found


def goal_keyed(
    scene: Scene, assets: AssetStore, figure: Figure, channels: Mapping[Name, Channel], name: Name, frame: float, value: Array
) -> dict[Name, Channel]:  # fmt: skip
    """A curve of a limb with a key at a frame at which it is at a place (3,), or turned (4,), in the world. Raises ArtulineError if the layer does not have it."""
    if name not in channels:
        raise ArtulineError(f"the layer has no keys of {name[0]}", remedy="Bake onto goals first.")
    at = np.array([float(frame)])
    root = root_at(scene, assets, figure, at)[0]
    if name[1] == "rotation":
        local = rotation.multiply(rotation.conjugate(rigid(root[None])[1][0]), value)
    else:
        local = transforms.apply(np.linalg.inv(root), value[None])[0]
    seconds = float(frame) / scene.rate
    return {name: _keyed(channels[name], seconds, local, channels[name].sample(at / scene.rate)[0])}


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
