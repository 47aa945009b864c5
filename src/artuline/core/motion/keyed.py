"""The keyed motion of a scene at any frames: clips with their layers on top, and the roots of figures, which may ride on each other."""

from collections.abc import Callable
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.goals import added, follow, led
from artuline.core.motion.limbs import bend_limb
from artuline.core.motion.places import own_root
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import ClipRef, Figure, Layer, Mount, Scene

#: The local keyed pose (F, B) of a figure at frames (F,).
Poses = Callable[[Figure, Array], Pose]


class Lead(Protocol):
    """What leads figures instead of their own keys."""

    def pose(self, figure: Figure, frames: Array) -> Pose | None:
        """The pose (F, B) of a figure at frames (F,); None: its keys have it."""

    def root(self, figure: Figure, frames: Array) -> Array | None:
        """Its root (F, 4, 4); None: its keys have it."""


def clip_times(scene: Scene, figure: Figure, frames: Array) -> Array:
    """Clip time in seconds at scene frames, wrapped if the clip loops."""
    ref = figure.active_clip()
    t = _since(scene, figure, frames)
    if ref is None:
        return np.zeros_like(t)
    if ref.loop and ref.duration > 0:
        return np.mod(t, ref.duration)
    return np.clip(t, 0.0, ref.duration)


def _since(scene: Scene, figure: Figure, frames: Array) -> Array:
    """Seconds since a figure's clip began, at scene frames."""
    return (np.asarray(frames, float) - figure.clip_start) / scene.rate


def clip_pose(scene: Scene, assets: AssetStore, figure: Figure, frames: Array) -> Pose:
    """Local pose of the clip alone at frames (F,); a looping clip that travels keeps travelling."""
    return _clip_pose(assets, figure, _since(scene, figure, np.atleast_1d(np.asarray(frames, float))))


def _clip_pose(assets: AssetStore, figure: Figure, since: Array) -> Pose:
    """Local pose of a figure's clip so many seconds (F,) after it began."""
    skeleton = skeleton_of(figure)
    ref = figure.active_clip()
    if ref is None:
        return skeleton.rest_over(len(since))
    clip = load_clip(assets, ref.asset)
    loops = ref.loop and ref.duration > 0
    pose = clip.sample(skeleton, np.mod(since, ref.duration) if loops else np.clip(since, 0.0, ref.duration))
    if loops:
        _travel(figure, clip, ref.duration, since, pose)
    return pose


def _travel(figure: Figure, clip: Clip, duration: float, since: Array, pose: Pose) -> None:
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
    pose.translation[:, skeleton.names.index(top.bone)] += np.floor(since / duration)[:, None] * step


def keyed_poses(scene: Scene, assets: AssetStore, frame: float, *, layers: bool = True) -> list[Pose]:
    """Local poses (B,) of all figures of a scene at one frame, as ``keyed_pose`` has them: those with one clip and nothing else at once."""
    reaching = {m.figure for f in scene.figures for m in f.mounts if m.reach is not None}
    found: dict[int, Pose] = {}
    alike: dict[tuple[int, ClipRef | None], list[int]] = {}
    for k, f in enumerate(scene.figures):
        if f.id in reaching or any(layers or x.steers for x in f.layers):
            found[k] = keyed_pose(scene, assets, f, np.array([frame]), layers=layers).frame(0)
        else:
            alike.setdefault((id(skeleton_of(f)), f.active_clip()), []).append(k)
    for same in alike.values():
        since = np.array([float(_since(scene, scene.figures[k], np.array(frame))) for k in same])
        pose = _clip_pose(assets, scene.figures[same[0]], since)
        for row, k in enumerate(same):
            found[k] = pose.frame(row)
    return [found[k] for k in range(len(scene.figures))]


def keyed_pose(
    scene: Scene, assets: AssetStore, figure: Figure, frames: Array, *, layers: bool = True, lead: Lead | None = None
) -> Pose:
    """Local pose at frames (F,): the clip with all its layers, or with those that steer physics only; then limbs reach for what they hold."""
    frames = np.atleast_1d(np.asarray(frames, float))
    pose = _led_pose(scene, assets, figure, frames, layers, lead)
    for prop in scene.figures:
        for mount in prop.mounts:
            if mount.figure == figure.id and mount.reach is not None:
                _reach(scene, assets, figure, frames, pose, mount, lead)
    return pose


def _led_pose(
    scene: Scene, assets: AssetStore, figure: Figure, frames: Array, layers: bool, lead: Lead | None = None
) -> Pose:
    led = lead.pose(figure, frames) if lead is not None else None
    if led is not None:
        return led
    pose = clip_pose(scene, assets, figure, frames)
    for layer in figure.layers:
        if layers or layer.steers:
            apply_layer(scene, assets, figure, layer, frames, pose)
    return pose


def _reach(
    scene: Scene, assets: AssetStore, figure: Figure, frames: Array, pose: Pose, mount: Mount, lead: Lead | None
) -> None:
    """Bend a limb of a pose (F, B) on the frames of a mount, so that its end comes to what rides there; in place."""
    rows = np.flatnonzero([mount.acts(f) for f in frames])
    if not len(rows) or mount.reach is None:
        return
    root = root_at(scene, assets, figure, frames[rows], lead=lead)
    carried = skeleton_of(figure).global_matrices(_rows(pose, rows), root)[:, figure.bone_index[mount.bone]]
    held = _on(carried, mount)
    p, q = rigid(held @ transforms.compose(np.array(mount.reach_position), np.array(mount.reach_rotation), np.ones(3)))
    bend_limb(figure, root, pose, rows, mount.reach, p, q)


def _rows(pose: Pose, rows: NDArray[np.int64]) -> Pose:
    return Pose(pose.translation[rows], pose.rotation[rows], pose.scale[rows])


def apply_layer(scene: Scene, assets: AssetStore, figure: Figure, layer: Layer, frames: Array, pose: Pose) -> None:
    """Blend a layer over a pose on the frames where it applies."""
    inside = np.flatnonzero((frames >= layer.start) & (frames <= layer.end))
    if not len(inside) or layer.weight == 0.0 or layer.muted:
        return
    index, times = figure.bone_index, frames[inside] / scene.rate
    curves: dict[tuple[str, str], Channel] = {(c.bone, c.path): c for c in load_clip(assets, layer.asset).channels}
    share = layer_share(layer, frames[inside])
    whole = _rows(pose, inside)
    done: dict[tuple[int, str], NDArray[np.int64]] = {}
    for (bone, path), c in curves.items():
        if bone in index:
            rows = _ruled(layer, times, [c])
            at = (rows, index[bone])
            values, new = getattr(whole, path), c.sample(times[rows])
            values[at] = added(path, values[at], new) if layer.mode == "add" else new
            done[index[bone], path] = rows
    for limb in figure.goals:
        names = ((limb.goal, "translation"), (limb.goal, "rotation"), (limb.direction, "translation"))
        mine = [curves.get(n) for n in names]
        if any(c is not None for c in mine):
            rows = _ruled(layer, times, [c for c in mine if c is not None])
            part, which = _rows(whole, rows), led(figure, limb)
            place, turn, direction = (c.sample(times[rows]) if c is not None else None for c in mine)
            follow(skeleton_of(figure), which, part, (place, turn, direction), layer.mode == "add")
            for b in (which.upper, which.lower, which.end):
                whole.rotation[rows, b] = part.rotation[:, b]
                done[b, "rotation"] = np.union1d(done.get((b, "rotation"), rows), rows)
    for (b, path), rows in done.items():
        values, new, part_ = getattr(pose, path), getattr(whole, path)[rows, b], share[rows]
        if part_.min(initial=1.0) < 1.0:
            old = values[inside[rows], b]
            new = rotation.slerp(old, new, part_) if path == "rotation" else old + (new - old) * part_[:, None]
        values[inside[rows], b] = new


def _ruled(layer: Layer, times: Array, curves: list[Channel]) -> NDArray[np.int64]:
    """The times (F,) at which curves of a layer rule what they move: a keyed pose is followed from its ramp in to its ramp out."""
    if not layer.steers:
        return np.arange(len(times))
    first, last = min(c.times[0] for c in curves), max(c.times[-1] for c in curves)
    return np.flatnonzero((times >= first - 1e-9) & (times <= last + 1e-9))


def layer_share(layer: Layer, frames: Array) -> Array:
    """How much of a layer shows at frames (F,) within it, without a jump at the ends of its ramps."""
    share = np.full(len(frames), layer.weight)
    for ramp, passed in ((layer.ramp_in, frames - layer.start), (layer.ramp_out, layer.end - frames)):
        if ramp > 0:
            t = np.clip(passed / ramp, 0.0, 1.0)
            share *= t * t * (3.0 - 2.0 * t)
    return share


def root_at(
    scene: Scene,
    assets: AssetStore,
    figure: Figure,
    frames: Array,
    poses: Poses | None = None,
    lead: Lead | None = None,
) -> Array:
    """Where a figure's file has its origin in the scene, with its unit, at frames (F,): matrices (F, 4, 4).

    ``poses``: the keyed poses of what it rides on, where they are others than those of ``keyed_pose``.
    """
    frames = np.atleast_1d(np.asarray(frames, float))
    led = lead.root(figure, frames) if lead is not None else None
    if led is not None:
        return led
    if not figure.mounts:
        return own_root(figure, frames)
    which, when = leads(figure, frames)
    found = own_root(figure, frames)
    for k, mount in enumerate(figure.mounts):
        rows = np.flatnonzero(which == k)
        if len(rows):
            found[rows] = _mounted(scene, assets, figure, mount, when[rows], poses, lead)
    return found


def leads(figure: Figure, frames: Array) -> tuple[Array, Array]:
    """At frames (F,) the index of the mount that leads a figure, -1 for none, and the frame (F,) at which it does: of those that act the
    last; where none acts, the one that ended last, as it was then, unless the figure has a track.
    """
    which, when, ended = np.full(len(frames), -1), frames.copy(), np.full(len(frames), -np.inf)
    for k, m in enumerate(figure.mounts):
        on = np.array([m.acts(f) for f in frames])
        which[on], when[on], ended[on] = k, frames[on], np.inf
        stop = np.inf if m.stop is None else m.stop
        over = (frames >= stop) & (ended < stop)
        if not figure.track.frames:
            which[over], when[over], ended[over] = k, stop, stop
    return which, when


def _mounted(
    scene: Scene,
    assets: AssetStore,
    figure: Figure,
    mount: Mount,
    frames: Array,
    poses: Poses | None,
    lead: Lead | None,
) -> Array:
    """The root (F, 4, 4) of a figure that rides."""
    holder = scene.figure(mount.figure)
    if mount.reach is not None:
        pose = _led_pose(scene, assets, holder, frames, False, lead)
    elif poses is not None:
        pose = poses(holder, frames)
    else:
        pose = keyed_pose(scene, assets, holder, frames, layers=False, lead=lead)
    carried = skeleton_of(holder).global_matrices(pose, root_at(scene, assets, holder, frames, poses, lead))
    return riding_root(scene, assets, figure, mount, frames, carried[:, holder.bone_index[mount.bone]])


def riding_root(scene: Scene, assets: AssetStore, figure: Figure, mount: Mount, frames: Array, bone: Array) -> Array:
    """The root (F, 4, 4) with which a figure's part is where a mount has it on a bone (F, 4, 4)."""
    own = _led_pose(scene, assets, figure, frames, False)
    unit = np.diag([figure.unit, figure.unit, figure.unit, 1.0])
    part = skeleton_of(figure).global_matrices(own, unit)[:, figure.bone_index[mount.part]]
    p, q, _ = transforms.decompose(part)
    return _on(bone, mount) @ np.linalg.inv(transforms.compose(p, q, np.ones_like(p))) @ unit


def _on(bone: Array, mount: Mount) -> Array:
    """Where a mount has its part on a bone (F, 4, 4), without scale."""
    p, q, _ = transforms.decompose(bone)
    ones = np.ones_like(p)
    return transforms.compose(p, q, ones) @ transforms.compose(
        np.array(mount.position), np.array(mount.rotation), np.ones(3)
    )


def keyed_matrices(scene: Scene, assets: AssetStore, figure: Figure, frames: Array, *, layers: bool = True) -> Array:
    """World matrices (F, B, 4, 4) of the keyed motion."""
    pose = keyed_pose(scene, assets, figure, frames, layers=layers)
    return skeleton_of(figure).global_matrices(pose, root_at(scene, assets, figure, frames))


def load_clip(assets: AssetStore, key: str) -> Clip:
    """A clip from the asset store; decoded once per content."""
    return assets.decoded(key, Clip.from_arrays)
