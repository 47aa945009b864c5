"""Feet on the way back to the keys: one that stands stays where it is until it steps to where it is going."""

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.poses import reached
from artuline.core.motion.skeleton import Pose, placement, rigid, skeleton_of
from artuline.core.run.build import group_of
from artuline.core.run.shown import smooth_step
from artuline.core.scene.model import Body, Figure, Scene
from artuline.core.setup.anatomy import segment_of

NEAR = 0.03  # metres above the ground that a foot may be and still stand
FADE = 2.0  # frames in which the speed of a foot that is to stand dies away
LEAST = 0.01  # metres that a foot has to go, or it need not step
STEPS = (0.08, 0.92)  # the part of the way back in which feet step, one after the other
HURRY = 3.0  # how many times faster than evenly in time feet may step to keep up with the body
LIFT = (0.25, 0.12)  # share of a step's length that the foot is lifted, and at most, m


def lowest(body: Body, p: Array, q: Array) -> Array:
    """Height (F,) of a body's lowest point, its bone at p (F, 3), q (F, 4)."""
    found = []
    for s in body.shapes:
        turn = rotation.multiply(q, np.array(s.rotation))
        y = (p + rotation.rotate(q, np.broadcast_to(s.position, p.shape)))[:, 1]
        up = rotation.to_matrix(turn)[:, 1]  # the world's upright in the shape's frame
        if s.kind == "hull":
            found.append(y + (np.array(s.points) @ up.T).min(axis=0))
        elif s.kind == "box":
            found.append(y - np.abs(up) @ np.array(s.half))
        else:
            found.append(y - np.abs(up[:, 0]) * (s.half_length if s.kind == "capsule" else 0.0) - s.radius)
    return np.min(found, axis=0) if found else p[:, 1]


def ways_back(handover: Array) -> list[tuple[int, int]]:
    """The rows (F,) from the last one at 1 to the first one at 0, each time that a handover falls."""
    found, start = [], None
    for i in range(1, len(handover)):
        if handover[i - 1] >= 1.0 and handover[i] < 1.0:
            start = i - 1
        if start is not None and handover[i] > handover[i - 1]:
            start = None
        if start is not None and handover[i] <= 0.0:
            found.append((start, i))
            start = None
    return found


def plant_feet(scene: Scene, figure: Figure, pose: Pose, keyed: Pose, handover: dict[int, Array]) -> None:
    """Keep standing feet of a shown pose (F, B) in their place while it returns to the keyed one; in place.

    ``handover``: by bone index, of bones with a body, over the frames (F,).
    """
    if scene.ground is None:
        return
    skeleton, root = skeleton_of(figure), placement(figure)
    feet: dict[tuple[int, int], list[Body]] = {}
    for body in figure.bodies:
        b, group = figure.bone_index[body.bone], group_of(figure, body.bone)
        up = skeleton.parents[b]
        if segment_of(body.bone) != "foot" or up < 0 or skeleton.parents[up] < 0 or group is None or not group.planted:
            continue
        if any(segment_of(figure.bones[a].name) == "foot" for a in _above(skeleton.parents, b)):
            continue
        for way in ways_back(handover[b]):
            feet.setdefault(way, []).append(body)
    for (first, last), bodies in feet.items():
        rows = slice(first, last + 1)
        now, goal = (skeleton.global_matrices(_rows(x, rows), root) for x in (pose, keyed))
        top = min(figure.bone_index[b.bone] for b in figure.bodies)
        share = _progress(now[:, top, :3, 3], goal[:, top, :3, 3])
        ways = []
        for body in bodies:
            b = figure.bone_index[body.bone]
            p, q = rigid(now[:, b])
            end, turn = rigid(goal[:, b])
            far = float(np.linalg.norm((end[-1] - p[0])[[0, 2]]))
            if far < LEAST:
                continue
            clear = lowest(body, p, q) - scene.ground.height
            here = p.copy()
            here[:, 1] -= np.minimum(clear, 0.0)
            if clear[0] < NEAR:
                # it stands: what speed it has dies away, and the sole stays as near to the ground as it is
                before = rigid(skeleton.global_matrices(pose.frame(max(first - 1, 0)), root)[b])[0]
                slide = FADE * (1.0 - np.exp(-np.arange(len(p)) / FADE))
                here[:, [0, 2]] = p[0, [0, 2]] + slide[:, None] * (p[0] - before)[[0, 2]]
                here[:, 1] = p[:, 1] - clear + max(clear[0], 0.0)
            ways.append((far, body, here, q, end, turn))
        ways.sort(key=lambda x: -x[0])
        for k, (far, body, here, q, end, turn) in enumerate(ways):
            length = (STEPS[1] - STEPS[0]) / len(ways)
            u = smooth_step(np.clip((share - STEPS[0] - k * length) / length, 0.0, 1.0))
            path, facing = here + u[:, None] * (end - here), rotation.slerp(q, turn, u)
            path[:, 1] += min(LIFT[0] * far, LIFT[1]) * np.sin(np.pi * u)
            # the sole goes no deeper than its keys have it
            deep = np.minimum(lowest(body, end, turn) - scene.ground.height, 0.0)
            path[:, 1] += np.maximum(deep - (lowest(body, path, facing) - scene.ground.height), 0.0)
            _follow(figure, pose, body.bone, path, facing, first)


def _progress(now: Array, goal: Array) -> Array:
    """How much of the way back is done at each of its frames (F,), by the place of the topmost body or by time: what is more, within limits."""
    gap = np.linalg.norm(now - goal, axis=1)
    time = np.linspace(0.0, 1.0, len(gap))
    if gap[0] < 5.0 * LEAST:
        return time
    done = np.maximum.accumulate(1.0 - gap / gap[0])
    for i in range(1, len(done)):
        done[i] = max(min(done[i], done[i - 1] + HURRY * time[1]), time[i])
    return np.asarray(done)


def _above(parents: tuple[int, ...], bone: int) -> list[int]:
    found = []
    while parents[bone] >= 0:
        bone = parents[bone]
        found.append(bone)
    return found


def _rows(pose: Pose, rows: slice) -> Pose:
    return Pose(pose.translation[rows], pose.rotation[rows], pose.scale[rows])


def _follow(figure: Figure, pose: Pose, bone: str, path: Array, facing: Array, first: int) -> None:
    """Let a limb's end follow a path (N, 3) and face as given (N, 4) from a row of a pose on, the first and the last left as they are;
    in place.
    """
    skeleton, root, b = skeleton_of(figure), placement(figure), figure.bone_index[bone]
    for i in range(1, len(path) - 1):
        row = slice(first + i, first + i + 1)
        try:
            made = reached(figure, _rows(pose, row), bone, path[i])
        except ArtulineError:
            return
        above = rigid(skeleton.global_matrices(made.frame(0), root)[skeleton.parents[b]])[1]
        made.rotation[0, b] = rotation.multiply(rotation.conjugate(above), facing[i])
        pose.rotation[row] = made.rotation
