"""Poses as keys on a layer of their own, above the clip; and two-boned limbs that reach for a place."""

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Channel, Clip
from artuline.core.motion.keyed import keyed_pose, load_clip
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
    skeleton = skeleton_of(figure)
    c = figure.bone_index[bone]
    b = skeleton.parents[c]
    a = skeleton.parents[b] if b >= 0 else -1
    if a < 0:
        raise ArtulineError(f"{bone} has no limb of two bones above it", remedy="Choose a hand, a foot, or the like.")
    p, q = rigid(skeleton.global_matrices(pose.frame(0), root))
    up = skeleton.parents[a]
    above = q[up] if up >= 0 else rigid(root[None])[1][0]
    along = rotation.rotate(rotation.conjugate(q[[a, b]]), p[[b, c]] - p[[a, b]])
    made = pose.copy()
    made.rotation[0, [a, b]] = bent(above, p[a], along, pose.rotation[0, [a, b]], goal)
    lower = rotation.multiply(rotation.multiply(above, made.rotation[0, a]), made.rotation[0, b])
    made.rotation[0, c] = rotation.multiply(rotation.conjugate(lower), q[c])
    return made


def bent(above: Array, place: Array, along: Array, turns: Array, goal: Array) -> Array:
    """Local rotations (2, 4) of a limb's two bones with which its end comes to ``goal`` (3,), or as near as it can.

    above (4,): rotation of what carries the limb; place (3,): where it begins; along (2, 3): the way along each bone in its own
    frame; turns (2, 4): the rotations so far, whose plane of bending is kept. By the law of cosines, then by the shortest turn.
    """
    q_a = rotation.multiply(above, turns[0])
    q_b = rotation.multiply(q_a, turns[1])
    upper, lower, way = rotation.rotate(q_a, along[0]), rotation.rotate(q_b, along[1]), goal - place
    long, short = float(np.linalg.norm(upper)), float(np.linalg.norm(lower))
    far = float(np.clip(np.linalg.norm(way), abs(long - short) + 1e-6, long + short - 1e-6))
    side = np.cross(upper, lower)
    if np.linalg.norm(side) < 1e-9 * long * short:
        side = np.cross(upper, [0.0, 0.0, 1.0] if abs(upper[2]) < 0.9 * long else [1.0, 0.0, 0.0])
    side /= np.linalg.norm(side)
    # open or close the middle joint until the ends are as far apart as they should be
    now = np.arctan2(np.cross(upper, lower) @ side, upper @ lower)
    wanted = np.pi - np.arccos(np.clip((long**2 + short**2 - far**2) / (2.0 * long * short), -1.0, 1.0))
    bend = rotation.from_rotation_vector(side * (wanted - now))
    # then turn the whole limb towards the goal
    aim = rotation.align(_unit(upper + rotation.rotate(bend, lower)), _unit(way))
    new_a, new_b = rotation.multiply(aim, q_a), rotation.multiply(aim, rotation.multiply(bend, q_b))
    made = np.stack(
        [rotation.multiply(rotation.conjugate(above), new_a), rotation.multiply(rotation.conjugate(new_a), new_b)]
    )
    return np.asarray(rotation.normalize(made))


def _unit(v: Array) -> Array:
    return v / max(float(np.linalg.norm(v)), 1e-12)
