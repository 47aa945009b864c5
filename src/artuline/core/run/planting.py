"""Feet on the way back to the keys: one that stands stays where it is until it steps to where it is going."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.limbs import bent
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.run.build import group_of
from artuline.core.run.shown import smooth_step
from artuline.core.scene.model import Body, Figure, Scene
from artuline.core.setup.anatomy import segment_of

NEAR = 0.03  # metres above the ground that a foot may be and still stand
FADE = 0.08  # s in which the speed of a foot that is to stand dies away
LEAST = 0.01  # metres that a foot has to go, or it need not step
STEPS = (0.08, 0.92)  # the part of the way back in which feet step, one after the other
FASTEST = np.radians(1440.0)  # a second, that a limb turns
HURRY = 3.0  # how many times faster than evenly in time feet may step to keep up with the body
STRETCHED = 0.97  # share of its length to which a limb opens while its foot stands
SHORTEST = 0.16  # s of a step; on a way back that has no time for one no foot is planted
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


def plant_feet(scene: Scene, figure: Figure, root: Array, pose: Pose, keyed: Pose, handover: dict[int, Array]) -> None:
    """Keep standing feet of a shown pose (F, B) in their place while it returns to the keyed one; in place.

    root (F, 4, 4): of the figure. ``handover``: by bone index, of bones with a body, over the frames (F,).
    """
    if scene.ground is None:
        return
    skeleton = skeleton_of(figure)
    feet: dict[tuple[int, int], list[Body]] = {}
    for body in figure.bodies:
        b, group = figure.bone_index[body.bone], group_of(figure, body.bone)
        up = skeleton.parents[b]
        if segment_of(body.bone) != "foot" or up < 0 or skeleton.parents[up] < 0:
            continue
        # what is held in the world is led to its place there
        if group is None or not group.planted or group.in_world:
            continue
        if any(segment_of(figure.bones[a].name) == "foot" for a in _above(skeleton.parents, b)):
            continue
        for way in ways_back(handover[b]):
            # in what is carried by a physical body it comes back to no place of its own
            carried = any(handover[a][way[1]] > 0.0 for a in _above(skeleton.parents, b) if a in handover)
            if not carried and way[1] - way[0] > SHORTEST * scene.rate:
                feet.setdefault(way, []).append(body)
    for (first, last), bodies in feet.items():
        rows = slice(first, last + 1)
        now, goal = (skeleton.global_matrices(_rows(x, rows), root[rows]) for x in (pose, keyed))
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
                last_row = max(first - 1, 0)
                before = rigid(skeleton.global_matrices(pose.frame(last_row), root[last_row])[b])[0]
                fade = FADE * scene.rate
                slide = fade * (1.0 - np.exp(-np.arange(len(p)) / fade))
                here[:, [0, 2]] = p[0, [0, 2]] + slide[:, None] * (p[0] - before)[[0, 2]]
                here[:, 1] = p[:, 1] - clear + max(clear[0], 0.0)
            ways.append((far, body, here, q, end, turn))
        ways.sort(key=lambda x: -x[0])
        for k, (far, body, here, q, end, turn) in enumerate(ways):
            length = (STEPS[1] - STEPS[0]) / len(ways)
            turn_ = np.interp([STEPS[0] + k * length, STEPS[0] + (k + 1) * length], share, np.arange(len(share)))
            begin, done = _in_reach(
                figure, now, body.bone, here, end, float(turn_[0]), float(turn_[1]), SHORTEST * scene.rate
            )
            t = np.clip((np.arange(len(share)) - begin) / (done - begin), 0.0, 1.0)
            u = smooth_step(t)
            path, facing = here + u[:, None] * (end - here), rotation.blend_over_time(q, turn, u)
            # it lifts before it moves on, and comes down where it stays
            path[:, 1] += min(LIFT[0] * far, LIFT[1]) * np.sin(np.pi * t)
            # the sole goes no deeper than its keys have it
            deep = np.minimum(lowest(body, end, turn) - scene.ground.height, 0.0)
            path[:, 1] += np.maximum(deep - (lowest(body, path, facing) - scene.ground.height), 0.0)
            _follow(figure, root[rows], pose, body.bone, path, facing, first, FASTEST / scene.rate)


def _in_reach(
    figure: Figure, now: Array, bone: str, here: Array, end: Array, begin: float, done: float, shortest: float
) -> tuple[float, float]:
    """The rows between which a foot steps, moved so that it does not stand where its limb no longer reaches, nor where it does not reach yet.

    now (N, B, 4, 4): bones; here, end (N, 3): where it stands before and after; begin, done: rows by which feet would step by turns; ``shortest``: rows of a step at least.
    """
    c = figure.bone_index[bone]
    b = skeleton_of(figure).parents[c]
    root = now[:, skeleton_of(figure).parents[b], :3, 3]
    length = np.linalg.norm(now[:, b, :3, 3] - root, axis=1) + np.linalg.norm(
        now[:, c, :3, 3] - now[:, b, :3, 3], axis=1
    )
    gone = np.flatnonzero(np.linalg.norm(here - root, axis=1) > STRETCHED * length)
    far = np.flatnonzero(np.linalg.norm(end - root, axis=1) > STRETCHED * length)
    last = len(here) - 1.0
    if len(gone):
        begin = min(begin, max(float(gone[0]) - 1.0, 0.0))
    if len(far):
        done = max(done, min(float(far[-1]) + 1.0, last))
    return begin, max(done, min(begin + shortest, last))


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


def _follow(
    figure: Figure, root: Array, pose: Pose, bone: str, path: Array, facing: Array, first: int, fastest: float
) -> None:
    """Let a limb's end follow a path (N, 3) and face as given (N, 4) from a row of a pose on, the first and the last left as they are;
    in place; ``fastest``: radians that a limb turns from row to row.

    The limb is led from its pose at either end; the two ways, which can only differ by a turn about the line from its root to
    its end, pass into each other, so that it never flips.
    """
    skeleton, c = skeleton_of(figure), figure.bone_index[bone]
    b = skeleton.parents[c]
    a, count = skeleton.parents[b], len(path)
    p, q = rigid(skeleton.global_matrices(_rows(pose, slice(first, first + count)), root))
    up = skeleton.parents[a]
    above = q[:, up] if up >= 0 else rigid(root)[1]
    along = rotation.rotate(rotation.conjugate(q[:, [a, b]]), p[:, [b, c]] - p[:, [a, b]])
    shown = pose.rotation[first : first + count, [a, b]]
    inner = range(1, count - 1)

    def lead(start: int, rows: range) -> Array:
        """Rotations (N, 2, 4), each found from the one before, beginning with those shown at ``start``."""
        found = shown.copy()
        before = start
        for i in rows:
            found[i] = bent(above[i], p[i, a], along[i], found[before], path[i])
            before = i
        found[count - 1 - start] = found[before]
        return found

    there, back = lead(0, inner), lead(count - 1, inner[::-1])
    share = smooth_step(np.linspace(0.0, 1.0, count))[:, None, None]
    turns = rotation.multiply(rotation.from_rotation_vector(share * _turns(there, back)), there)
    turns[[0, -1]] = shown[[0, -1]]
    for i in inner:
        turns[i] = bent(above[i], p[i, a], along[i], turns[i], path[i])
    for _ in range(2):
        # spreading a fast turn takes the foot off its path: it is led back, in the plane in which the limb bends now
        _spread(turns, fastest)
        for i in inner:
            turns[i] = bent(above[i], p[i, a], along[i], turns[i], path[i])
    _spread(turns, fastest)
    for i in inner:
        # what is off its path now swings about it: above the ground, not through it
        now = p[i, a] + rotation.rotate(rotation.multiply(above[i], turns[i, 0]), along[i, 0])
        now = now + rotation.rotate(
            rotation.multiply(rotation.multiply(above[i], turns[i, 0]), turns[i, 1]), along[i, 1]
        )
        off = float(np.hypot(*(now - path[i])[[0, 2]]))
        least = path[i, 1] + min(LIFT[0] * off, LIFT[1])
        if now[1] < least:
            turns[i] = bent(above[i], p[i, a], along[i], turns[i], np.array([now[0], least, now[2]]))
    _spread(turns, fastest)
    lower = rotation.multiply(rotation.multiply(above, turns[:, 0]), turns[:, 1])
    rows = slice(first + 1, first + count - 1)
    pose.rotation[rows, a], pose.rotation[rows, b] = turns[1:-1, 0], turns[1:-1, 1]
    pose.rotation[rows, c] = rotation.multiply(rotation.conjugate(lower), facing)[1:-1]


def _spread(turns: Array, fastest: float) -> None:
    """Spread a turn (N, k, 4) that is too fast for one frame, where a foot passes close by the hip, over its neighbours; in place."""
    for _ in range(len(turns)):
        # what turns the lower bone turns the foot against it
        lower = rotation.multiply(turns[:, 0], turns[:, 1])[:, None]
        every = np.concatenate([turns, lower], axis=1)
        fast = np.any(rotation.angle_between(every[1:], every[:-1]) > fastest, axis=1)
        near = np.flatnonzero(fast[1:] | fast[:-1]) + 1
        if not len(near):
            return
        turns[near] = rotation.slerp(turns[near - 1], turns[near + 1], np.full((len(near), turns.shape[1]), 0.5))


def _turns(there: Array, back: Array) -> Array:
    """Rotation vectors (N, 2, 3) from one way to the other, which do not flip where they pass half a turn."""
    q = rotation.make_continuous(rotation.multiply(back, rotation.conjugate(there)))
    q *= np.where(np.median(q[..., 3], axis=0) < 0.0, -1.0, 1.0)[:, None]
    size = np.linalg.norm(q[..., :3], axis=-1)
    angle = 2.0 * np.arctan2(size, q[..., 3])
    return np.asarray(q[..., :3] * (angle / np.maximum(size, 1e-12))[..., None])
