"""What a figure comes back to after physics, if not to its keys: the pose that it had, or another clip that starts there."""

from dataclasses import dataclass

import numpy as np

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import clip_pose, root_at
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.run.build import group_of
from artuline.core.run.shown import smooth_step
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Group, Lane, Scene

UP = np.array([0.0, 1.0, 0.0])


@dataclass(frozen=True, eq=False)
class Return:
    """From ``frame`` on, some bones (indices) follow ``pose`` (1, B), which becomes the motion of ``clip``, if any, by the frame ``end``."""

    bones: np.ndarray
    frame: float
    end: float
    pose: Pose
    clip: Figure | None
    place: Array  # 4x4: from where the clip has its figure to where it is


def falls(lane: Lane) -> list[tuple[int, float]]:
    """Where a lane leaves 1 and comes to 0: the whole frame from which on it falls, and the frame at which it is 0."""
    found = []
    for i in range(len(lane.keys) - 1):
        a, b = lane.keys[i], lane.keys[i + 1]
        if a.value == 1.0 and b.value < 1.0:
            end = next((k.frame for k in lane.keys[i + 1 :] if k.value == 0.0), None)
            if end is not None:
                found.append((int(np.ceil(b.frame if a.piece == "hold" else a.frame)), end))
    return found


def coming(scene: Scene) -> list[tuple[int, int, Group, float]]:
    """All returns to something else than the keys in the order of time: the frame, the figure's index, the group, the end."""
    found = [
        (frame, k, g, end)
        for k, f in enumerate(scene.figures)
        for g in f.groups
        if g.returns != "keys" and any(group_of(f, b.bone) is g for b in f.bodies)
        for frame, end in falls(g.acting(scene.rate))
        if scene.start < frame < scene.end
    ]
    return sorted(found, key=lambda x: x[:2])


def begin(scene: Scene, assets: AssetStore, figure: Figure, group: Group, frame: int, end: float, pose: Pose) -> Return:
    """The return of a group that starts at a frame from a pose (1, B)."""
    names = {b for b in figure.ruled(group) if group_of(figure, b) in (group, None)}
    bones = np.array(sorted(figure.bone_index[b] for b in names), int)
    clip, place = None, np.eye(4)
    if group.returns == "clip":
        clip = figure.changed(clip=group.clip, clip_start=float(frame))
        if any(skeleton_of(figure).parents[b] < 0 for b in bones):
            place = _here(scene, assets, figure, clip, frame, pose)
    return Return(bones, float(frame), max(end, frame + 1.0), pose, clip, place)


def _here(scene: Scene, assets: AssetStore, figure: Figure, clip: Figure, frame: int, pose: Pose) -> Array:
    """A turn about Y and a level move that bring the clip's start to where the figure's topmost body is."""
    skeleton, root = skeleton_of(figure), root_at(scene, assets, figure, np.array([float(frame)]))[0]
    top = min((figure.bone_index[b.bone] for b in figure.bodies), default=0)
    (p, q), (p0, q0) = (
        rigid(skeleton.global_matrices(x.frame(0), root)[top])
        for x in (pose, clip_pose(scene, assets, clip, np.array([float(frame)])))
    )
    # a body that lies has no heading of its own but that of the turn from how it stands to how it lies, about Y
    turn = rotation.multiply(q, rotation.conjugate(q0))
    turn = np.array([0.0, turn[1], 0.0, turn[3]])
    turn = rotation.normalize(turn) if np.linalg.norm(turn) > 1e-6 else np.array([0.0, 0.0, 0.0, 1.0])
    move = (p - rotation.rotate(turn, p0)) * (1.0 - UP)
    made: Array = transforms.compose(move, turn, np.ones(3))
    return made


def put(
    scene: Scene,
    assets: AssetStore,
    figure: Figure,
    returns: list[Return],
    frames: Array,
    pose: Pose,
    at_once: bool = False,
) -> None:
    """Let a keyed pose (F, B) of a figure follow its returns; in place. ``at_once``: a clip without its passage from the pose."""
    skeleton = skeleton_of(figure)
    for r in returns:
        rows = np.flatnonzero(frames >= r.frame - 1e-9)
        if not len(rows):
            continue
        at = np.ix_(rows, r.bones)
        start_q, start_p = r.pose.rotation[:, r.bones], r.pose.translation[:, r.bones]
        if r.clip is None:
            pose.rotation[at], pose.translation[at] = start_q, start_p
            continue
        # the way round is that of the whole passage, whatever frames are asked for
        whole = np.arange(r.frame, int(np.ceil(r.end)) + 1, dtype=float)
        times = np.union1d(whole, frames[rows])
        asked, says = np.searchsorted(times, frames[rows]), np.isin(times, whole)
        goal = clip_pose(scene, assets, r.clip, times)
        root = root_at(scene, assets, figure, times)
        carry = np.linalg.inv(root) @ r.place @ root
        for b in r.bones:
            if skeleton.parents[b] < 0:
                m = carry @ transforms.compose(goal.translation[:, b], goal.rotation[:, b], goal.scale[:, b])
                goal.translation[:, b], goal.rotation[:, b] = rigid(m)
        passage = np.ones(len(times)) if at_once else (times - r.frame) / (r.end - r.frame)
        share = smooth_step(np.clip(passage, 0.0, 1.0))
        for k, b in enumerate(r.bones):
            start = np.broadcast_to(start_q[0, k], (len(times), 4))
            pose.rotation[rows, b] = rotation.blend_over_time(start, goal.rotation[:, b], share, says)[asked]
        at_goal = goal.translation[np.ix_(asked, r.bones)]
        pose.translation[at] = start_p + share[asked, None, None] * (at_goal - start_p)
