"""From a scene at a frame to a draw list: figures, shapes, limits, ground, echo."""

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, keyed_poses, root_at
from artuline.core.motion.places import own_root
from artuline.core.motion.skeleton import matrices_of, rest_matrices, rigid
from artuline.core.run.build import group_of
from artuline.core.run.forces import gravity_at
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh, triangles_of
from artuline.core.scene.model import Figure, Material, Push, Scene
from artuline.core.scene.selection import Selection
from artuline.core.setup.hierarchy import tree_parents
from artuline.core.setup.materials import body_mass, centre_of_mass
from artuline.view.drawlist import DrawList, Rgba, SkinPicture, Solid, shape_outline
from artuline.view.limits import add_limits
from artuline.view.palette import DAY, Palette, rgb

PUSH_FRAMES = 6.0  # frames around a push in which its arrow is seen
PUSH_SECONDS = 0.15  # the arrow's length is the way in this time
WEIGHT_LINES = 5.0  # steps of weight between which lines are drawn
TINT = 0.42  # share of vermilion where physics moves all of it


@dataclass(frozen=True)
class Show:
    """What the stage shows. ``fit`` and ``mass`` colour the shapes by it; ``person``: an outline of 1.75 m to compare with;
    ``forces``: arrows of gravity, of pushes and of the speed of obstacles; ``wire``: the skin as its edges; ``isolate``: of shapes and obstacles only what is selected.
    """

    figure: bool = True
    see_through: bool = False
    shapes: bool = False
    bones: bool = False
    limits: bool = False
    ground: bool = True
    echo: bool = False
    tint: bool = True
    rest: bool = False
    fit: bool = False
    mass: bool = False
    mirror: bool = False
    person: bool = False
    wire: bool = False
    isolate: bool = False
    forces: bool = False


@dataclass
class FigureState:
    """A figure as shown: bone matrices (B, 4, 4), how far each bone is handed over (B,), the keys' matrices; ``weights``: the index of the bone whose weights are
    shown on the skin; ``colors``: RGB of bones by their index, in which the skin that they carry is shown.
    """

    matrices: Array
    handover: Array
    keyed: Array | None = None
    weights: int | None = None
    colors: Mapping[int, tuple[float, float, float]] = field(default_factory=dict)


def mesh_of(figure: Figure, assets: AssetStore) -> Mesh | None:
    """The figure's mesh; decoded once per content."""
    if figure.asset is None:
        return None
    return assets.decoded(figure.asset, Mesh.from_arrays)


def bone_handover(figure: Figure, frame: float, rate: float) -> Array:
    """Handover of every bone at a frame (``rate`` a second); bones without a body follow the body above them."""
    values = np.zeros(len(figure.bones))
    now = {g.id: float(g.acting(rate).value(frame)) for g in figure.groups}
    for i, b in enumerate(figure.bones):
        if b.name in figure.body_of:
            group = group_of(figure, b.name)
            values[i] = now[group.id] if group is not None else 0.0
        elif b.parent is not None:
            values[i] = values[figure.bone_index[b.parent]]
    return values


def figure_states(scene: Scene, assets: AssetStore, frame: float, take: Take | None, show: Show) -> list[FigureState]:
    """How every figure stands at a frame: by the take if there is one, else by its keys."""
    figures = scene.figures
    if show.rest:
        return [FigureState(rest_matrices(f), np.zeros(len(f.bones))) for f in figures]
    keys = keyed_poses(scene, assets, frame, layers=False)
    roots = [root_at(scene, assets, f, np.array([frame]))[0] for f in figures]
    keyed = matrices_of(figures, keys, roots)
    given = {g[0] for g in take.given if frame >= g[1]} if take is not None else set()
    shown, shares = list(keys), []
    for k, f in enumerate(figures):
        share = np.ones(len(f.bones)) if f.id in given else bone_handover(f, frame, scene.rate)
        if take is not None and f.id in take.poses:
            i = take.row(frame)
            shown[k], roots[k] = take.poses[f.id].frame(i), take.root(f, i)
        elif f.layers:
            # the baked keys, with those below them as the echo
            shown[k] = keyed_pose(scene, assets, f, np.array([frame])).frame(0)
        shares.append(share)
    matrices = matrices_of(figures, shown, roots)
    return [FigureState(m, h, k) for m, h, k in zip(matrices, shares, keyed)]


@dataclass
class Marks:
    """What is drawn besides the scene itself: a colour for shapes by figure and body, the clips' motion by figure and joint,
    ``arcs``: joints, by figure and their own id, whose range is drawn in any case; pairs of bones, whether the centres of mass are marked, the ways of points over time (N, 3) with their colours, and what the
    colours mean: a title, and pairs of a colour code and words.
    """

    shape_colors: dict[tuple[str, str], Rgba] = field(default_factory=dict)
    traces: dict[tuple[str, str], Array] = field(default_factory=dict)
    arcs: set[tuple[str, str]] = field(default_factory=set)
    pairs: dict[str, dict[str, str]] = field(default_factory=dict)
    centres: bool = False
    trails: list[tuple[Array, Rgba]] = field(default_factory=list)
    legend: tuple[str, tuple[tuple[str, str], ...]] | None = None


def draw_list(
    scene: Scene,
    assets: AssetStore,
    frame: float,
    states: list[FigureState],
    show: Show,
    selection: Selection | None = None,
    palette: Palette = DAY,
    marks: Marks | None = None,
) -> DrawList:
    """The picture of a scene at a frame, with the figures as given."""
    selection, marks = selection or Selection(), marks or Marks()
    out = DrawList(ground=scene.ground.height if scene.ground and show.ground else None)
    for figure, state in zip(scene.figures, states):
        if figure.enters is not None and frame < figure.enters and not show.rest:
            continue
        if figure.obstacle and figure.asset is None:
            if not show.isolate or not selection.bones or selection.figure == figure.id:
                _add_obstacle(out, figure, assets, state, show, palette)
            _add_selected(out, figure, state, selection.of(figure.id), Show(), palette, marks)
            continue
        _add_figure(out, figure, assets, state, show, palette)
        only = selection.bones if show.isolate and selection.figure == figure.id and selection.bones else None
        if show.shapes:
            _add_shapes(out, figure, state, palette, marks, only)
        if marks.centres and figure.bodies:
            _add_centre(out, figure, state, palette)
        if show.bones:
            _add_bones(out, figure, state, palette)
        if show.mirror and figure.id in marks.pairs:
            _add_pairs(out, state, figure, marks.pairs[figure.id], palette)
        # of clusters in their colours the tool draws the outlines
        chosen = selection.bones if selection.figure == figure.id and not state.colors else frozenset()
        _add_selected(out, figure, state, chosen, show, palette, marks)
    cast = [state for f, state in zip(scene.figures, states) if not f.obstacle]
    if show.person and cast:
        _add_person(out, cast, palette)
    for points, color in marks.trails:
        out.add_line(points, color, 1.8)
    if show.forces and cast:
        _add_forces(out, scene, frame, states, palette)
    return out


def _add_obstacle(
    out: DrawList, figure: Figure, assets: AssetStore, state: FigureState, show: Show, palette: Palette
) -> None:
    """The shapes of what has no skin, in its own colour."""
    p, q = rigid(state.matrices)
    for body in figure.bodies:
        b = figure.bone_index[body.bone]
        share = TINT * float(state.handover[b]) if show.tint else 0.0
        own = np.array(figure.materials[0].color if figure.materials else Material().color)
        r, g, blue = (1.0 - share) * own + share * np.array(rgb(palette.vermilion))
        for s in body.shapes:
            triangles = triangles_of(assets, s.asset) if s.asset is not None else None
            out.solids.append(Solid(s, p[b], q[b], (float(r), float(g), float(blue), 1.0), triangles=triangles))


def _add_pairs(out: DrawList, state: FigureState, figure: Figure, pairs: dict[str, str], palette: Palette) -> None:
    """Lines across the figure between bones that are each other's mirror image."""
    place = state.matrices[:, :3, 3]
    color = (*rgb(palette.brass), 0.9)
    for a, b in pairs.items():
        if a < b and figure.bones[figure.bone_index[a]].deforms:
            ends = place[[figure.bone_index[a], figure.bone_index[b]]]
            out.add_line(ends, color, 1.4)
            for end in ends:
                for axis in np.eye(3):
                    out.add_line(end + 0.012 * np.stack([-axis, axis]), color, 2.4)


# A standing person's outline, half of it: across and up, shares of the height
_PERSON = (
    (0.0, 1.0), (0.035, 0.99), (0.05, 0.95), (0.047, 0.905), (0.03, 0.875), (0.035, 0.85), (0.11, 0.825), (0.135, 0.79),
    (0.145, 0.68), (0.155, 0.60), (0.165, 0.50), (0.16, 0.455), (0.14, 0.46), (0.13, 0.55), (0.115, 0.66), (0.105, 0.72),
    (0.10, 0.62), (0.105, 0.53), (0.10, 0.40), (0.085, 0.28), (0.075, 0.10), (0.07, 0.04), (0.095, 0.012), (0.09, 0.0),
    (0.03, 0.0), (0.03, 0.10), (0.02, 0.28), (0.012, 0.44), (0.0, 0.465),
)  # fmt: skip


def _add_person(out: DrawList, states: list[FigureState], palette: Palette, height: float = 1.75) -> None:
    """A person's outline beside the figures, on the ground."""
    places = np.concatenate([s.matrices[:, :3, 3] for s in states])
    half = np.array(_PERSON) * height
    outline = np.concatenate([half, half[::-1] * [-1.0, 1.0]])
    points = np.zeros((len(outline), 3))
    points[:, :2] = outline
    points[:, 0] += places[:, 0].max() + 0.35 * height
    points[:, 1] += out.ground or 0.0
    points[:, 2] += 0.5 * (places[:, 2].min() + places[:, 2].max())
    out.add_line(points, (*rgb(palette.faint), 0.9), 1.6, over=False)


def _add_figure(
    out: DrawList, figure: Figure, assets: AssetStore, state: FigureState, show: Show, palette: Palette
) -> None:
    mesh = mesh_of(figure, assets)
    if mesh is None or not show.figure:
        return
    if show.wire:
        _add_wire(out, mesh, state, palette)
        return
    telling = show.shapes and (show.fit or show.mass)
    colors = np.array([m.color for m in figure.materials])
    if telling and show.see_through:
        # a skin of its own colour would change those that the legend tells
        colors = np.full_like(colors, 0.82)
    tint = np.zeros((len(figure.bones), 4))
    if show.tint:
        h = state.handover[:, None]
        tint[:, :3] = h * np.array(rgb(palette.vermilion))
        tint[:, 3] = state.handover
        tint *= TINT
    if state.weights is not None:
        colors = np.full_like(colors, 0.82)
        tint[:] = 0.0
        tint[state.weights] = (*rgb(palette.vermilion), 1.0)
    for bone, color in state.colors.items():
        tint[bone] = (*color, 0.85)
    key = str(figure.asset)
    if show.echo and state.keyed is not None:
        away = np.abs(state.keyed - state.matrices).max()
        if away > 1e-4:
            flat = (*rgb(palette.teal), 0.55)
            out.skins.append(SkinPicture(key, mesh, colors, state.keyed, np.zeros_like(tint), 1.0, flat))
    # shapes whose colour says something are to be seen clearly
    alpha = (0.12 if telling else 0.38) if show.see_through else 1.0
    levels = WEIGHT_LINES if state.weights is not None else 0.0
    out.skins.append(SkinPicture(key, mesh, colors, state.matrices, tint, alpha, levels=levels))


def _add_shapes(
    out: DrawList, figure: Figure, state: FigureState, palette: Palette, marks: Marks, only: frozenset[str] | None
) -> None:
    p, q = rigid(state.matrices)
    for body in figure.bodies:
        if only is not None and body.bone not in only:
            continue
        b = figure.bone_index[body.bone]
        h = float(state.handover[b])
        color = np.array(rgb(palette.teal)) * (1 - h) + np.array(rgb(palette.vermilion)) * h
        rgba = marks.shape_colors.get((figure.id, body.id), (*color, 0.62))
        for s in body.shapes:
            out.solids.append(Solid(s, p[b], q[b], rgba, glass=True))


def add_arrow(out: DrawList, start: Array, way: Array, color: Rgba, width: float = 2.6) -> None:
    """An arrow from a place along a way (3,), m; nothing for a way of no length."""
    length = float(np.linalg.norm(way))
    if length < 1e-6:
        return
    tip, along = start + way, way / length
    side = np.cross(along, [0.0, 1.0, 0.0] if abs(along[1]) < 0.9 else [1.0, 0.0, 0.0])
    side /= np.linalg.norm(side)
    head = min(0.25 * length, 0.12)
    out.add_line(np.stack([start, tip]), color, width)
    for s in (side, -side):
        out.add_line(np.stack([tip, tip - head * along + 0.5 * head * s]), color, width)


def push_arrow(scene: Scene, states: list[FigureState], push: Push) -> tuple[Array, Array, float] | None:
    """Where a push acts (3,), the change of speed it gives its body alone (3,), m/s, and that body's mass."""
    for figure, state in zip(scene.figures, states):
        body = next((b for b in figure.bodies if b.id == push.body), None)
        if figure.id == push.figure and body is not None:
            m = state.matrices[figure.bone_index[body.bone]]
            place = m[:3, 3] + rotation.rotate(rigid(m[None])[1][0], np.array(push.point))
            mass = max(body_mass(body), 1e-9)
            return place, np.array(push.impulse) / mass, mass
    return None


def _add_forces(out: DrawList, scene: Scene, frame: float, states: list[FigureState], palette: Palette) -> None:
    """Gravity above the figures, pushes where they act, and how far every obstacle moves in a tenth of a second."""
    ink, vermilion = (*rgb(palette.ink), 1.0), (*rgb(palette.vermilion), 1.0)
    top = np.concatenate([s.matrices[:, :3, 3] for f, s in zip(scene.figures, states) if not f.obstacle])
    above = np.array([top[:, 0].mean(), top[:, 1].max() + 0.8, top[:, 2].mean()])
    add_arrow(out, above, 0.3 / 9.81 * gravity_at(scene, np.array([frame]))[0], ink)
    for o in scene.obstacles:
        p = own_root(o, np.array([frame, frame + 0.05]))[:, :3, 3]
        way = (p[1] - p[0]) / 0.05 * scene.rate * 0.1
        if np.linalg.norm(way) > 0.01:
            add_arrow(out, p[0], way, (*rgb(palette.teal), 1.0))
    for push in scene.pushes:
        found = push_arrow(scene, states, push) if abs(frame - push.start) <= PUSH_FRAMES else None
        if found is not None:
            add_arrow(out, found[0] - PUSH_SECONDS * found[1], PUSH_SECONDS * found[1], vermilion)


def _add_centre(out: DrawList, figure: Figure, state: FigureState, palette: Palette) -> None:
    """The centre of mass, and a plumb line from it to the ground."""
    centre = centre_of_mass(figure, *rigid(state.matrices))
    color = (*rgb(palette.crimson), 1.0)
    size = 0.03 * float(np.ptp(state.matrices[:, :3, 3], axis=0).max())
    for axis in np.eye(3):
        out.add_line(centre + size * np.stack([-axis, axis]), color, 3.0)
    foot = centre * [1.0, 0.0, 1.0] + [0.0, out.ground or 0.0, 0.0]
    out.add_line(np.stack([centre, foot]), (*color[:3], 0.6), 1.4)


def _add_wire(out: DrawList, mesh: Mesh, state: FigureState, palette: Palette) -> None:
    """The edges of the skin."""
    points = mesh.skin(state.matrices)
    out.lines.append((points[mesh.edges], (*rgb(palette.faint), 0.4), 1.0, False))


def _add_bones(out: DrawList, figure: Figure, state: FigureState, palette: Palette) -> None:
    place = state.matrices[:, :3, 3]
    index = {b.id: figure.bone_index[b.bone] for b in figure.bodies}
    above = tree_parents(figure, figure.bodies)
    otherwise = set()
    for j in figure.joints:
        if above.get(j.child) != j.parent:
            # what hangs otherwise than the skeleton says
            otherwise.add(index[j.child])
            out.add_line(place[[index[j.parent], index[j.child]]], (*rgb(palette.brass), 0.95), 2.4)
    for i, bone in enumerate(figure.bones):
        if bone.parent is not None and bone.deforms and i not in otherwise:
            up = figure.bone_index[bone.parent]
            if figure.bones[up].deforms:
                out.add_line(place[[up, i]], (*rgb(palette.ink), 0.85), 1.6)


def _add_selected(
    out: DrawList,
    figure: Figure,
    state: FigureState,
    chosen: frozenset[str],
    show: Show,
    palette: Palette,
    marks: Marks,
) -> None:
    arcs = (
        {
            b.bone
            for b in figure.bodies
            if b.id in figure.joint_of and (figure.id, figure.joint_of[b.id].id) in marks.arcs
        }
        if marks.arcs
        else set()
    )
    if not (chosen or show.limits or arcs):
        return
    p, q = rigid(state.matrices)
    ink = (*rgb(palette.ink), 1.0)
    wanted = set(figure.bone_index) if show.limits and not chosen else chosen
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
    shown = wanted if show.limits else set()
    for name in shown | arcs:
        body = figure.body_of.get(name)
        joint = figure.joint_of.get(body.id) if body else None
        if joint is None:
            continue
        trace = marks.traces.get((figure.id, joint.id))
        size = float(np.clip(0.13 * np.ptp(p, axis=0).max(), 0.02, 1.5))
        add_limits(out, figure, joint, p, q, size if chosen else 0.55 * size, palette, trace, bool(chosen))
