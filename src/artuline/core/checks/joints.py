"""Joints: limits that the rest pose or the keys leave, and limits that allow nothing."""

import math
from functools import partial

import numpy as np

from artuline.core.checks.finding import Finding, Fix
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.skeleton import rest_matrices, rigid, skeleton_of
from artuline.core.run.build import group_of
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Joint, Scene
from artuline.core.setup.joints import clip_rotations, keyed_limit_excess
from artuline.core.setup.limits import propose_limits, soft_give

MOST_FRAMES = 2000
GIVES = 15.0  # degrees by which a soft limit gives before it is said
MOST_FIRM = 60.0  # Hz


def check_joints(scene: Scene, f: Figure, assets: AssetStore) -> list[Finding]:
    """Everything about a figure's joints."""
    if not f.joints:
        return []
    frames = np.arange(scene.start, max(scene.end, scene.start) + 1, dtype=float)[:MOST_FRAMES]
    pose = keyed_pose(scene, assets, f, frames, layers=False)
    keyed = rigid(skeleton_of(f).global_matrices(pose, root_at(scene, assets, f, frames)))[1]
    rest = rigid(rest_matrices(f))[1][None]
    bone = {b.id: b.bone for b in f.bodies}
    found = []
    for j in f.joints:
        name = bone[j.child]
        widen = _widen(f, j, assets, keyed, rest)
        if _no_range(j):
            text = f"The joint at {name} has limits of zero range."
            found.append(Finding(2, text, f.id, name, fix_label="Take the range from the clips", fix=widen))
            continue
        excess: Array = np.degrees(keyed_limit_excess(f, j, keyed))
        at_rest = float(np.degrees(keyed_limit_excess(f, j, rest)[0]))
        if excess.max(initial=0.0) > 1.0 and group_of(f, name) is not None:
            at = int(frames[int(excess.argmax())])
            text = f"The keys take {name} {excess.max():.0f}° beyond its limits at frame {at}."
            found.append(Finding(2, text, f.id, name, at, fix_label="Widen its range", fix=widen))
        elif at_rest > 1.0:
            text = f"The rest pose of {name} is {at_rest:.0f}° beyond its limits."
            found.append(Finding(1, text, f.id, name, fix_label="Widen its range", fix=widen))
        if j.limited and j.limit_frequency > 0.0 and j.spring_frequency == 0.0 and group_of(f, name) is not None:
            found += _gives(scene, f, j, name)
    return found


def _gives(scene: Scene, f: Figure, j: Joint, name: str) -> list[Finding]:
    """A soft limit that what hangs on it swings far over."""
    gravity = float(np.linalg.norm(scene.gravity))
    rest, fallen = (math.degrees(x) for x in soft_give(f, j, gravity))
    if fallen < GIVES:
        return []
    firm = j
    while math.degrees(soft_give(f, firm, gravity)[1]) > 0.5 * GIVES and firm.limit_frequency < MOST_FIRM:
        firm = firm.changed(limit_frequency=math.ceil(firm.limit_frequency * 1.2))
    text = (
        f"The soft limit of {name}, {j.limit_frequency:g} Hz, gives by {rest:.0f}° under what hangs on it, and by {fallen:.0f}° "
        "where that falls onto it."
    )
    fix = partial(
        edit.joints, figure_id=f.id, ids={j.id}, change=lambda old: old.changed(limit_frequency=firm.limit_frequency)
    )
    return [Finding(1, text, f.id, name, fix_label=f"Make it {firm.limit_frequency:g} Hz", fix=fix)]


def _no_range(j: Joint) -> bool:
    if not j.limited:
        return False
    if j.kind == "ball":
        return max(j.swing_y, j.swing_z, j.twist[1] - j.twist[0]) < 1e-3
    if j.kind == "hinge":
        return j.twist[1] - j.twist[0] < 1e-3
    return j.kind == "slide" and j.slide is not None and j.slide[1] - j.slide[0] < 1e-6


def _widen(f: Figure, j: Joint, assets: AssetStore, keyed: Array, rest: Array) -> Fix:
    """Make room for the present motion, the clips and the rest pose, and never less than there is."""

    def wider(old: Joint) -> Joint:
        if old.kind == "slide":
            return old.changed(slide=(-0.02, 0.02))
        motion = np.concatenate([clip_rotations(f, assets), keyed, rest])
        new = propose_limits(f, old, motion, "clips")
        if _no_range(old):
            return new
        axes = tuple(
            a if a is None or b is None or a == (0.0, 0.0) else (min(a[0], b[0]), max(a[1], b[1]))
            for a, b in zip(old.axes, new.axes)
        )
        return new.changed(
            swing_y=max(old.swing_y, new.swing_y),
            swing_z=max(old.swing_z, new.swing_z),
            twist=(min(old.twist[0], new.twist[0]), max(old.twist[1], new.twist[1])),
            axes=axes,
        )

    return lambda s: edit.joints(s, f.id, {j.id}, wider)
