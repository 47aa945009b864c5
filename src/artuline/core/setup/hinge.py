"""Hinges of a thing: where two of its parts turn about each other, found from their geometry; and the joint that is made of it."""

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rigid
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Body, Figure, Joint
from artuline.core.setup.parts import Surface, hung, own_matrices
from artuline.core.setup.tube import surface_samples

TOUCH = 0.05  # share of the smaller part's size within which parts are near each other
APART = 0.2  # share of the smaller part's size by which two places where they touch lie apart
ALONG = 0.8  # cosine from which on an axis is in line with what hangs
ROUND = 0.12  # by how much two spreads of a round part differ
RANGE = np.radians(110.0)  # each way, at first
DAMPING = 0.15  # 1/s of a new hinge: things swing on


@dataclass(frozen=True, eq=False)
class Hinge:
    """A pivot (3,) and a unit axis (3,) in the thing's own frame, and what they were found from."""

    pivot: Array
    axis: Array
    words: str


def propose_hinge(figure: Figure, assets: AssetStore, child: str, parent: str) -> Hinge:
    """Where two parts turn about each other: the line through the two places where they meet (ears of a bail), else the axis of the one that
    is round (a ring, a wheel, a pin) unless the part hangs in line with it, else across the place where they are nearest.
    """
    s = Surface.of(figure, assets)
    clouds = []
    for name in (child, parent):
        corners = s.positions[s.triangles[s.owner == figure.bone_index[name]]]
        if not len(corners):
            raise ArtulineError(f"{name} has no surface", remedy="Choose a part that has one.")
        clouds.append(surface_samples(corners, 0.02 * float(np.ptp(corners.reshape(-1, 3), axis=0).max())))
    a, b = clouds
    size = min(float(np.ptp(c, axis=0).max()) for c in clouds)
    gap = cKDTree(b, balanced_tree=False).query(a)[0]
    near = a[gap <= max(TOUCH * size, 1.3 * float(gap.min()))]
    groups = _clusters(near, 0.5 * APART * size)
    middles = [g.mean(axis=0) for g in groups]
    if len(groups) > 1:
        first, second = max(
            ((m, n) for k, m in enumerate(middles) for n in middles[k + 1 :]),
            key=lambda x: float(np.linalg.norm(x[1] - x[0])),
        )
        if np.linalg.norm(second - first) > APART * size:
            return Hinge(0.5 * (first + second), _unit(second - first), "through the two places where they meet")
    place = near.mean(axis=0)
    hangs = a.mean(axis=0) - place
    for cloud in clouds:
        axis = round_axis(cloud)
        if axis is not None:
            if hangs[1] < 0.0 and abs(float(_unit(hangs) @ axis)) > ALONG:
                # what hangs in line with it would spin about it and not swing
                continue
            centre = cloud.mean(axis=0)
            along = centre + axis * float((place - centre) @ axis)
            if np.linalg.norm(place - along) < 0.75 * float(np.ptp(cloud, axis=0).max()):
                return Hinge(along, axis, "about the axis of the round part")
    spread = np.linalg.svd(near - place, full_matrices=False)
    if len(near) > 3 and spread[1][0] > 2.0 * spread[1][1]:
        return Hinge(place, _unit(spread[2][0]), "along the line where they meet")
    hangs = hangs if hangs[1] < 0.0 else b.mean(axis=0) - place
    side = np.cross(hangs, [0.0, 1.0, 0.0])
    axis = side if np.linalg.norm(side) > 1e-6 * size else np.array([1.0, 0.0, 0.0])
    return Hinge(place, _unit(axis), "across the place where they are nearest")


def round_axis(points: Array) -> Array | None:
    """The axis (3,) of a ring, wheel, tube or pin with points (N, 3); None if it is not round."""
    _, size, axes = np.linalg.svd(points - points.mean(axis=0), full_matrices=False)
    if abs(size[0] - size[1]) < ROUND * size[0] and size[2] < 0.75 * size[0]:
        return _unit(axes[2])
    if abs(size[1] - size[2]) < ROUND * size[1] and size[1] < 0.75 * size[0]:
        return _unit(axes[0])
    return None


def _clusters(points: Array, reach: float) -> list[Array]:
    pairs = cKDTree(points).query_pairs(reach, output_type="ndarray")
    n = len(points)
    label = connected_components(
        coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(n, n)), directed=False
    )[1]
    return [points[label == k] for k in range(label.max() + 1)]


def _unit(v: Array) -> Array:
    return np.asarray(v / max(float(np.linalg.norm(v)), 1e-30))


def hinge_of(figure: Figure, joint: Joint) -> Hinge:
    """The pivot and axis of a joint, in the thing's own frame."""
    b = figure.bone_index[next(x.bone for x in figure.bodies if x.id == joint.child)]
    p, q = rigid(own_matrices(figure)[b])
    return Hinge(p, rotation.rotate(rotation.multiply(q, np.array(joint.frame)), np.array([1.0, 0.0, 0.0])), "")


def with_hinge(figure: Figure, assets: AssetStore, child: str, parent: str, pivot: Array, axis: Array) -> Figure:
    """The figure with a part hung on another one by a hinge; what the joint was before but for its place stays. Nothing of it moves.

    Raises ArtulineError for parts without bodies, or that hang on each other already.
    """
    for name in (child, parent):
        if name not in figure.body_of:
            raise ArtulineError(f"{name} has no body", remedy="Give it a shape first.")
    made = hung(figure, assets, child, parent, pivot)
    q = rigid(own_matrices(made))[1]
    line = _unit(np.asarray(axis, float))
    frames = []
    for name in (child, parent):
        local = rotation.rotate(rotation.conjugate(q[made.bone_index[name]]), line)
        frames.append(rotation.align(np.array([1.0, 0.0, 0.0]), local))
    # the same rotation on both sides at rest, so that the range is about the pose as it is
    whole = rotation.multiply(q[made.bone_index[child]], frames[0])
    above = rotation.multiply(rotation.conjugate(q[made.bone_index[parent]]), whole)
    body, up = made.body_of[child], made.body_of[parent]
    old = made.joint_of.get(body.id)
    places = {"frame": tuple(frames[0]), "parent_frame": tuple(above), "parent": up.id}
    if old is not None:
        joint = old.changed(**places)
    else:
        joint = Joint(id=body.id, child=body.id, kind="hinge", twist=(-RANGE, RANGE), damping=DAMPING, **places)
    return made.changed(joints=(*(j for j in made.joints if j.child != body.id), joint))


def without_hinge(figure: Figure, assets: AssetStore, child: str) -> Figure:
    """The figure with a part that hangs on nothing any more."""
    body = figure.body_of.get(child)
    kept = tuple(j for j in figure.joints if body is None or j.child != body.id)
    return hung(figure.changed(joints=kept), assets, child, None)


def bodies_below(figure: Figure, part: str) -> tuple[Body, ...]:
    """The bodies that hang on a part by joints, itself left out."""
    return tuple(b for b in figure.bodies if b.bone in figure.below(part) and b.bone != part)
