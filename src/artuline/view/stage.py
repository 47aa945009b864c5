"""From a scene at a frame to a draw list: figures, shapes, limits, ground, obstacles, echo."""

from dataclasses import dataclass, field

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, obstacle_motion
from artuline.core.motion.skeleton import Pose, placement, rest_matrices, rigid, skeleton_of
from artuline.core.run.build import group_of
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Scene
from artuline.view.drawlist import DrawList, Skin, Solid, limit_outline, shape_outline
from artuline.view.palette import DAY, Palette, rgb


@dataclass(frozen=True)
class Show:
    """What the stage shows."""

    figure: bool = True
    see_through: bool = False
    shapes: bool = False
    bones: bool = False
    limits: bool = False
    ground: bool = True
    echo: bool = False
    tint: bool = True
    rest: bool = False


@dataclass
class FigureState:
    """A figure as shown: bone matrices (B, 4, 4), how far each bone is handed over (B,), the keys' matrices."""

    matrices: Array
    handover: Array
    keyed: Array | None = None


@dataclass
class Selection:
    """Chosen bones by figure id."""

    figure: str | None = None
    bones: frozenset[str] = field(default_factory=frozenset)


_meshes: dict[str, Mesh] = {}


def mesh_of(figure: Figure, assets: AssetStore) -> Mesh | None:
    """The figure's mesh; decoded once per content."""
    if figure.asset is None:
        return None
    if figure.asset not in _meshes:
        _meshes[figure.asset] = Mesh.from_arrays(assets[figure.asset])
    return _meshes[figure.asset]


def bone_handover(figure: Figure, frame: float) -> Array:
    """Handover of every bone at a frame; bones without a body follow the body above them."""
    values = np.zeros(len(figure.bones))
    for i, b in enumerate(figure.bones):
        if b.name in figure.body_of:
            group = group_of(figure, b.name)
            values[i] = float(group.handover.value(frame)) if group is not None else 0.0
        elif b.parent is not None:
            values[i] = values[figure.bone_index[b.parent]]
    return values


def figure_states(scene: Scene, assets: AssetStore, frame: float, take: Take | None, show: Show) -> list[FigureState]:
    """How every figure stands at a frame: by the take if there is one, else by its keys."""
    states = []
    for f in scene.figures:
        if show.rest:
            states.append(FigureState(rest_matrices(f), np.zeros(len(f.bones))))
            continue
        skeleton = skeleton_of(f)
        root = placement(f)
        keys = keyed_pose(scene, assets, f, np.array([frame]), layers=False).frame(0)
        keyed = skeleton.global_matrices(keys, root)
        if take is not None and f.id in take.poses:
            i = take.row(frame)
            pose: Pose = take.poses[f.id].frame(i)
            states.append(FigureState(skeleton.global_matrices(pose, root), bone_handover(f, frame), keyed))
        elif f.layers:
            # the baked keys, with those below them as the echo
            keys = keyed_pose(scene, assets, f, np.array([frame])).frame(0)
            states.append(FigureState(skeleton.global_matrices(keys, root), bone_handover(f, frame), keyed))
        else:
            states.append(FigureState(keyed, bone_handover(f, frame), keyed))
    return states


def draw_list(
    scene: Scene,
    assets: AssetStore,
    frame: float,
    states: list[FigureState],
    show: Show,
    selection: Selection | None = None,
    palette: Palette = DAY,
) -> DrawList:
    """The picture of a scene at a frame, with the figures as given."""
    selection = selection or Selection()
    out = DrawList(ground=scene.ground.height if scene.ground and show.ground else None)
    for figure, state in zip(scene.figures, states):
        _add_figure(out, figure, assets, state, show, palette)
        if show.shapes:
            _add_shapes(out, figure, state, palette)
        if show.bones:
            _add_bones(out, figure, state, palette)
        chosen = selection.bones if selection.figure == figure.id else frozenset()
        _add_selected(out, figure, state, chosen, show, palette)
    for o in scene.obstacles:
        p, q = obstacle_motion(o, np.array([frame]))
        out.solids.append(Solid(o.shape, p[0], q[0], (*o.color, 1.0)))
    return out


def _add_figure(
    out: DrawList, figure: Figure, assets: AssetStore, state: FigureState, show: Show, palette: Palette
) -> None:
    mesh = mesh_of(figure, assets)
    if mesh is None or not show.figure:
        return
    colors = np.array([m.color for m in figure.materials])
    tint = np.zeros((len(figure.bones), 4))
    if show.tint:
        h = state.handover[:, None]
        tint[:, :3] = h * np.array(rgb(palette.vermilion))
        tint[:, 3] = state.handover
        tint *= 0.42
    key = str(figure.asset)
    if show.echo and state.keyed is not None:
        away = np.abs(state.keyed - state.matrices).max()
        if away > 1e-4:
            flat = (*rgb(palette.teal), 0.55)
            out.skins.append(Skin(key, mesh, colors, state.keyed, np.zeros_like(tint), 1.0, flat))
    alpha = 0.38 if show.see_through else 1.0
    out.skins.append(Skin(key, mesh, colors, state.matrices, tint, alpha))


def _add_shapes(out: DrawList, figure: Figure, state: FigureState, palette: Palette) -> None:
    p, q = rigid(state.matrices)
    for body in figure.bodies:
        b = figure.bone_index[body.bone]
        h = float(state.handover[b])
        color = np.array(rgb(palette.teal)) * (1 - h) + np.array(rgb(palette.vermilion)) * h
        for s in body.shapes:
            out.solids.append(Solid(s, p[b], q[b], (*color, 0.62), glass=True))


def _add_bones(out: DrawList, figure: Figure, state: FigureState, palette: Palette) -> None:
    place = state.matrices[:, :3, 3]
    for i, bone in enumerate(figure.bones):
        if bone.parent is not None and bone.deforms:
            up = figure.bone_index[bone.parent]
            if figure.bones[up].deforms:
                out.add_line(place[[up, i]], (*rgb(palette.ink), 0.85), 1.6)


def _add_selected(
    out: DrawList, figure: Figure, state: FigureState, chosen: frozenset[str], show: Show, palette: Palette
) -> None:
    p, q = rigid(state.matrices)
    ink = (*rgb(palette.ink), 1.0)
    brass = (*rgb(palette.brass), 1.0)
    wanted = set(figure.bone_index) if show.limits and not chosen else chosen
    ids = {b.id: b for b in figure.bodies}
    for name in chosen:
        if name not in figure.bone_index:
            continue
        body = figure.body_of.get(name)
        b = figure.bone_index[name]
        for s in body.shapes if body else ():
            for line in shape_outline(s, p[b], q[b]):
                out.add_line(line, ink, 1.8)
        if body is None:
            for axis in np.eye(3):
                out.add_line(p[b] + 0.04 * np.stack([-axis, axis]), ink, 1.8)
    if not show.limits:
        return
    for name in wanted:
        body = figure.body_of.get(name)
        joint = figure.joint_of.get(body.id) if body else None
        if joint is None or joint.kind not in ("ball", "hinge") or not joint.limited:
            continue
        b, up = figure.bone_index[name], figure.bone_index[ids[joint.parent].bone]
        size = 0.16 if chosen else 0.10
        ranges, now = limit_outline(joint, q[up], q[b], p[b], size)
        for line in ranges:
            out.add_line(line, brass if chosen else (*brass[:3], 0.8), 1.7 if chosen else 1.1)
        for line in now:
            out.add_line(line, ink, 2.2)


def pick(
    scene: Scene, assets: AssetStore, states: list[FigureState], origin: Array, direction: Array
) -> tuple[str, str, Array] | None:
    """The first figure, bone and place that a ray meets: shapes first, else the nearest skin vertex to the ray."""
    best: tuple[float, str, str, Array] | None = None
    for figure, state in zip(scene.figures, states):
        p, q = rigid(state.matrices)
        for body in figure.bodies:
            b = figure.bone_index[body.bone]
            for s in body.shapes:
                t = _ray_shape(origin, direction, s, p[b], q[b])
                if t is not None and (best is None or t < best[0]):
                    best = t, figure.id, body.bone, origin + t * direction
        mesh = mesh_of(figure, assets)
        if best is None and mesh is not None:
            points = mesh.skin(state.matrices) - origin
            along = points @ direction
            off = np.linalg.norm(points - along[:, None] * direction, axis=1)
            near = np.flatnonzero((off < 0.012 * np.maximum(along, 0.1)) & (along > 0))
            if len(near):
                v = near[np.argmin(along[near])]
                bone = int(mesh.palette_bone[mesh.slots[v, np.argmax(mesh.weights[v])]])
                best = float(along[v]), figure.id, figure.bones[bone].name, points[v] + origin
    return best[1:] if best is not None else None


def _ray_shape(origin: Array, direction: Array, s: object, p: Array, q: Array) -> float | None:
    """Distance along a ray to a shape, by sphere tracing its signed distance."""
    from artuline.core.geometry import distance

    back = rotation.conjugate(q)
    o, d = rotation.rotate(back, origin - p), rotation.rotate(back, direction)
    t = 0.0
    for _ in range(64):
        gap = float(distance.shape((o + t * d)[None], s)[0])  # type: ignore[arg-type]
        if gap < 5e-4:
            return t
        t += gap
        if t > 400.0:
            return None
    return None
