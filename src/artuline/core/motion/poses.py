"""Poses as keys on a layer of their own, above the clip."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.motion.clip import Channel, Clip
from artuline.core.motion.keyed import keyed_pose, load_clip
from artuline.core.motion.skeleton import Pose
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Layer, Scene

LAYER = "poses"
RAMP = 12  # frames from the clip into a pose, and out of it


def key_pose(scene: Scene, assets: AssetStore, figure_id: str, frame: int, pose: Pose) -> Scene:
    """The scene with a local pose (1, B) of a figure keyed at a frame, on the layer "poses".

    Around its keys the layer takes ``RAMP`` frames from what lies below it and back. A key at the same frame is replaced.
    """
    figure = scene.figure(figure_id)
    old = next((x for x in figure.layers if x.name == LAYER), None)
    keys: dict[float, dict[tuple[str, str], np.ndarray]] = {}
    if old is not None:
        for c in load_clip(assets, old.asset).channels:
            for t, v in zip(c.times, c.values):
                keys.setdefault(float(np.round(t * scene.rate, 6)), {})[c.bone, c.path] = v
        # the first and the last stand for what lies below
        for end in (min(keys), max(keys)):
            keys.pop(end, None)
    now = pose.frame(0)
    keys[float(frame)] = {}
    for i, bone in enumerate(figure.bones):
        keys[float(frame)][bone.name, "rotation"] = now.rotation[i]
        if bone.parent is None or np.abs(now.translation[i] - bone.translation).max() > 1e-6:
            keys[float(frame)][bone.name, "translation"] = now.translation[i]
    start, end = min(keys) - RAMP, max(keys) + RAMP
    bare = figure.changed(layers=tuple(x for x in figure.layers if x.name != LAYER))
    below = keyed_pose(scene, assets, bare, np.array([start, end]), layers=False)
    paths = sorted({k for values in keys.values() for k in values})
    channels = []
    for name, path in paths:
        i = figure.bone_index[name]
        at = [start, *sorted(f for f in keys if (name, path) in keys[f]), end]
        edges = getattr(below, path)[:, i]
        values = np.array([edges[0], *(keys[f][name, path] for f in at[1:-1]), edges[1]])
        if path == "rotation":
            values = rotation.make_continuous(values)
        channels.append(Channel(name, path, "LINEAR", np.array(at) / scene.rate, values))  # type: ignore[arg-type]
    asset = assets.add(Clip(tuple(channels)).to_arrays())
    layer = Layer(id=old.id if old else edit.fresh_id(LAYER, {x.id for x in figure.layers}), name=LAYER, asset=asset,
                  start=round(start), end=round(end), steers=True)  # fmt: skip
    kept = tuple(layer if x.name == LAYER else x for x in figure.layers)
    return edit.figure(scene, figure_id, layers=kept if old is not None else (layer, *kept))
