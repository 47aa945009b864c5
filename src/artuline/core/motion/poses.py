"""Poses as keys on a layer of their own, above the clip; and two-boned limbs that reach for a place."""

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import keyed_pose, load_clip
from artuline.core.motion.limbs import bend_limb, limb_bones
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Layer, Scene

LAYER = "poses"
RAMP = 12  # frames from the clip into a pose, and out of it

#: By bone and path: the value at every keyed frame.
_Keys = dict[tuple[str, str], dict[float, np.ndarray]]


def _read(scene: Scene, assets: AssetStore, layer: Layer | None) -> _Keys:
    """The keys of the layer of poses, without the ends of its ramps."""
    found: _Keys = {}
    for c in load_clip(assets, layer.asset).channels if layer is not None else ():
        frames = [float(np.round(t * scene.rate, 6)) for t in c.times]
        found[c.bone, c.path] = dict(zip(frames[1:-1], c.values[1:-1]))
    return found


def pose_frames(scene: Scene, assets: AssetStore, figure: Figure) -> list[float]:
    """The frames at which a figure has keyed poses."""
    return sorted({f for values in _read(scene, assets, figure.poses).values() for f in values})


def key_pose(
    scene: Scene, assets: AssetStore, figure_id: str, frame: int, pose: Pose, bones: set[str] | None = None
) -> Scene:
    """The scene with a local pose (1, B) of a figure keyed at a frame, on the layer "poses": all bones, or some.

    Each bone takes ``RAMP`` frames from what lies below the layer into its first key, and back after its last. A key at the same
    frame is replaced.
    """
    figure = scene.figure(figure_id)
    keys = _read(scene, assets, figure.poses)
    now = pose.frame(0)
    for i, bone in enumerate(figure.bones):
        if bones is not None and bone.name not in bones:
            continue
        keys.setdefault((bone.name, "rotation"), {})[float(frame)] = now.rotation[i]
        if bone.parent is None or np.abs(now.translation[i] - bone.translation).max() > 1e-6:
            keys.setdefault((bone.name, "translation"), {})[float(frame)] = now.translation[i]
    return _written(scene, assets, figure, keys)


def unkey_pose(scene: Scene, assets: AssetStore, figure_id: str, frame: int) -> Scene:
    """The scene without the keyed pose at a frame. Raises ArtulineError if there is none."""
    figure = scene.figure(figure_id)
    keys = _read(scene, assets, figure.poses)
    if not any(float(frame) in values for values in keys.values()):
        raise ArtulineError(f"{figure.name} has no pose keyed at frame {frame}")
    left = {k: {f: v for f, v in values.items() if f != frame} for k, values in keys.items()}
    return _written(scene, assets, figure, {k: v for k, v in left.items() if v})


def _written(scene: Scene, assets: AssetStore, figure: Figure, keys: _Keys) -> Scene:
    """The scene with the layer of poses made of these keys; without it if there are none."""
    old = figure.poses
    others = tuple(x for x in figure.layers if x.kind != "posed")
    if not keys:
        return edit.figure(scene, figure.id, layers=others)
    ends = {k: (min(values) - RAMP, max(values) + RAMP) for k, values in keys.items()}
    frames = np.array(sorted({f for pair in ends.values() for f in pair}))
    below = keyed_pose(scene, assets, figure.changed(layers=others), frames, layers=False)
    channels = []
    for (name, path), values in sorted(keys.items()):
        i, (start, end) = figure.bone_index[name], ends[name, path]
        edges = getattr(below, path)[np.searchsorted(frames, [start, end]), i]
        at = [start, *sorted(values), end]
        curve = np.array([edges[0], *(values[f] for f in at[1:-1]), edges[1]])
        if path == "rotation":
            curve = rotation.make_continuous(curve)
        channels.append(Channel(name, path, "LINEAR", np.array(at) / scene.rate, curve))  # type: ignore[arg-type]
    asset = assets.add(Clip(tuple(channels)).to_arrays())
    layer = Layer(
        id=old.id if old else edit.fresh_id(LAYER, {x.id for x in others}), name=LAYER, asset=asset,
        start=round(frames[0]), end=round(frames[-1]), kind="posed",
    )  # fmt: skip
    return edit.figure(scene, figure.id, layers=(layer, *others))


def turned(figure: Figure, root: Array, pose: Pose, bone: str, turn: Array) -> Pose:
    """A pose (1, B) of a figure with its root at (4, 4), with a bone turned in the world by a rotation (4,); all below goes along."""
    skeleton, i = skeleton_of(figure), figure.bone_index[bone]
    q = rigid(skeleton.global_matrices(pose.frame(0), root))[1]
    made = pose.copy()
    made.rotation[0, i] = _local(figure, root, q, i, rotation.multiply(turn, q[i]))
    return made


def _local(figure: Figure, root: Array, q: Array, i: int, world: Array) -> Array:
    """A bone's rotation in its parent, for one in the world; q (B, 4) of all bones."""
    up = skeleton_of(figure).parents[i]
    above = q[up] if up >= 0 else rigid(root[None])[1][0]
    return rotation.normalize(rotation.multiply(rotation.conjugate(above), world))


def reached(figure: Figure, root: Array, pose: Pose, bone: str, goal: Array) -> Pose:
    """A pose (1, B) of a figure with its root at (4, 4), in which a bone's origin comes to a place in the world (3,), or as near as it can, by turning the two bones above.

    The limb keeps the plane that it bends in; the bone keeps its rotation in the world. Raises ArtulineError if there are not two bones above.
    """
    c = figure.bone_index[bone]
    limb_bones(figure, bone)
    _, q = rigid(skeleton_of(figure).global_matrices(pose.frame(0), root))
    made = pose.copy()
    bend_limb(figure, root[None], made, np.array([0]), bone, goal[None], q[None, c])
    return made
