"""The keyed motion of a scene: clips with their layers on top, and obstacles, at any frames."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.places import root_at
from artuline.core.motion.skeleton import Pose, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Layer, Scene


def clip_times(scene: Scene, figure: Figure, frames: Array) -> Array:
    """Clip time in seconds at scene frames, wrapped if the clip loops."""
    ref = figure.active_clip()
    t = (np.asarray(frames, float) - figure.clip_start) / scene.rate
    if ref is None:
        return np.zeros_like(t)
    if ref.loop and ref.duration > 0:
        return np.mod(t, ref.duration)
    return np.clip(t, 0.0, ref.duration)


def clip_pose(scene: Scene, assets: AssetStore, figure: Figure, frames: Array) -> Pose:
    """Local pose of the clip alone at frames (F,); a looping clip that travels keeps travelling."""
    frames = np.atleast_1d(np.asarray(frames, float))
    skeleton = skeleton_of(figure)
    ref = figure.active_clip()
    if ref is None:
        return skeleton.rest_over(len(frames))
    clip = load_clip(assets, ref.asset)
    pose = clip.sample(skeleton, clip_times(scene, figure, frames))
    if ref.loop and ref.duration > 0:
        _travel(scene, figure, clip, ref.duration, frames, pose)
    return pose


def _travel(scene: Scene, figure: Figure, clip: Clip, duration: float, frames: Array, pose: Pose) -> None:
    """Add the distance that each whole round of a loop covers to the bones that travel.

    Only the topmost bone with a translation curve counts, and only if its ends differ by more than one
    per cent of the curve's size, so that a loop that stays in place does so exactly.
    """
    skeleton = skeleton_of(figure)
    moving = [c for c in clip.channels if c.path == "translation"]
    if not moving:
        return
    index = figure.bone_index
    top = min(moving, key=lambda c: index[c.bone])
    ends = top.sample(np.array([0.0, duration]))
    step = ends[1] - ends[0]
    reach = np.ptp(top.sample(np.linspace(0.0, duration, 16)), axis=0).max()
    if np.linalg.norm(step) <= max(0.5 * reach, 1e-9):
        return
    rounds = np.floor((frames - figure.clip_start) / scene.rate / duration)
    pose.translation[:, skeleton.names.index(top.bone)] += rounds[:, None] * step


def keyed_pose(scene: Scene, assets: AssetStore, figure: Figure, frames: Array, *, layers: bool = True) -> Pose:
    """Local pose at frames (F,): the clip with all its layers, or with those that steer physics only."""
    frames = np.atleast_1d(np.asarray(frames, float))
    pose = clip_pose(scene, assets, figure, frames)
    for layer in figure.layers:
        if layers or layer.steers:
            apply_layer(scene, assets, figure, layer, frames, pose)
    return pose


def apply_layer(scene: Scene, assets: AssetStore, figure: Figure, layer: Layer, frames: Array, pose: Pose) -> None:
    """Blend a layer over a pose on the frames where it applies."""
    inside = np.flatnonzero((frames >= layer.start) & (frames <= layer.end))
    if not len(inside) or layer.weight == 0.0 or layer.muted:
        return
    index = figure.bone_index
    times = frames[inside] / scene.rate
    for c in load_clip(assets, layer.asset).channels:
        values = getattr(pose, c.path)
        own, seconds = inside, times
        if layer.steers:
            # a bone of a keyed pose follows it from its own ramp in to its own ramp out
            mine = (times >= c.times[0] - 1e-9) & (times <= c.times[-1] + 1e-9)
            own, seconds = inside[mine], times[mine]
        at = (own, index[c.bone])
        new = c.sample(seconds)
        if layer.mode == "add":
            new = _added(c.path, values[at], new)
        if layer.weight < 1.0:
            old = values[at]
            share = np.full(len(own), layer.weight)
            new = rotation.slerp(old, new, share) if c.path == "rotation" else old + (new - old) * layer.weight
        values[at] = new


def _added(path: str, below: Array, values: Array) -> Array:
    """What lies below (F, D), with the values of a layer added to it."""
    if path == "rotation":
        return rotation.normalize(rotation.multiply(below, values))
    return below * values if path == "scale" else below + values


def keyed_matrices(scene: Scene, assets: AssetStore, figure: Figure, frames: Array, *, layers: bool = True) -> Array:
    """World matrices (F, B, 4, 4) of the keyed motion."""
    pose = keyed_pose(scene, assets, figure, frames, layers=layers)
    return skeleton_of(figure).global_matrices(pose, root_at(figure, np.atleast_1d(np.asarray(frames, float))))


def load_clip(assets: AssetStore, key: str) -> Clip:
    """A clip from the asset store; decoded once per content."""
    return assets.decoded(key, Clip.from_arrays)
