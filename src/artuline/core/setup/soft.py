"""Soft parts from their recipes: clusters as bones with bodies, joined to each other and to what they hang on by springs, and weights of the skin that blend between them.

Every meeting of two clusters is the material between their middles: area over distance times Young's modulus against stretching and shearing, second moments of the area over distance times it
against bending (rigid bodies and springs: Kawai 1978, Nuclear Engineering and Design 48; where both springs are as firm, a solid of Poisson's ratio 0: Bolander & Saito 1998, Engineering
Fracture Mechanics 61). So it is as firm whatever the number of clusters.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Body, Bone, Figure, Group, Joint, Lane, Model, Scene, Shape, Soft
from artuline.core.setup.bones import rebound, without_bones
from artuline.core.setup.mirror import mirror_pairs, mirror_plane, other_side
from artuline.core.setup.overlaps import resting_overlaps
from artuline.core.setup.own_frame import in_own_frame
from artuline.core.setup.soft_cells import ROOT, Meeting
from artuline.core.setup.soft_skin import ALIKE, Division, divide, original, skinned
from artuline.core.setup.strand import CANTILEVER, same_value
from artuline.core.setup.weights import with_shares

TURNS = 1.4  # radians that a cluster turns, where it may move by the whole way to its neighbour
ROUND = 0.9  # of a cluster's size: a sphere that is as large


def modulus(soft: Soft) -> float:
    """Young's modulus, Pa: of a rod held at one end the first wave is four times its length."""
    return soft.density * (4.0 * soft.stretch) ** 2


@dataclass(frozen=True)
class Firmness:
    """What a joint between two clusters is tuned for at the frequency of the part: kg, and kg m^2 about the way between them, and about both ways across."""

    mass: float
    twist: float
    about_y: float
    about_z: float


def firmness(soft: Soft, m: Meeting) -> Firmness:
    """How firm the material between two clusters is."""
    e, o = modulus(soft), (2.0 * np.pi * soft.stretch) ** 2 * m.apart
    bend, twist = (soft.density * (2.0 * np.pi * f / CANTILEVER) ** 2 * m.area for f in (soft.bend, soft.twist))
    # half of what resists stretching resists shearing
    return Firmness(
        e * m.area / o,
        (0.5 * e * (m.about_y + m.about_z) + twist) / o,
        (e * m.about_y + bend) / o,
        (e * m.about_z + bend) / o,
    )


#: Divisions of the last recipes, by what they depend on.
_divisions: dict[object, Division] = {}


def division_of(figure: Figure, assets: AssetStore, soft: Soft) -> Division:
    """``divide``, made once for what it depends on."""
    bare = original(figure)
    key = (
        figure.plain or figure.asset, bare.bones, bare.unit, bare.position, bare.turn, soft.region, soft.root, soft.count, soft.fall, soft.mirrored,
    )  # fmt: skip
    found = _divisions.get(key)
    if found is None:
        while len(_divisions) > 15:
            _divisions.pop(next(iter(_divisions)))
        found = _divisions[key] = divide(figure, assets, soft)
    return found


@dataclass(frozen=True, eq=False)
class Made:
    """What a recipe makes: the recipe with as many clusters as there are, bones, bodies, joints, and loops."""

    soft: Soft
    bones: tuple[Bone, ...]
    bodies: tuple[Body, ...]
    joints: tuple[Joint, ...]
    loops: tuple[Joint, ...]


def made_of(figure: Figure, assets: AssetStore, soft: Soft) -> Made:
    """Bones, bodies and joints of a soft part as its recipe makes them. Raises ArtulineError for what cannot be."""
    division = division_of(figure, assets, soft)
    soft = soft.changed(count=division.cells.count)
    rest = rest_matrices(figure)
    turns = [rigid(rest)[1][b] for b in division.carried]
    bones = tuple(
        Bone(
            name=name, parent=figure.bones[b].name, deforms=True,
            translation=tuple(transforms.apply(np.linalg.inv(rest[b]), middle[None])[0]),
        )
        for name, b, middle in zip(soft.clusters, division.carried, division.cells.middles, strict=True)
    )  # fmt: skip
    bodies = tuple(_body(soft, n, division, k, turns[k]) for k, n in enumerate(soft.clusters))
    joints, loops = _joints(figure, soft, division, turns)
    return Made(soft, bones, bodies, tuple(joints), tuple(loops))


def _refuse_unheld(figure: Figure, assets: AssetStore, soft: Soft) -> None:
    """Raises ArtulineError, before all that takes long, where no body carries what a soft part is attached to."""
    skin, region = skinned(figure, assets, soft.mirrored), np.asarray(assets[soft.region]["on"], bool)
    edge = np.zeros(len(region), bool)
    if soft.root is not None:
        edge = np.asarray(assets[soft.root]["on"], bool)
    else:
        inside = region[skin.triangles]
        edge[skin.triangles[inside.any(axis=1) & ~inside.all(axis=1)]] = True
        edge &= ~region
    for b in np.unique(skin.bone[edge]):
        if figure.carrier(figure.bones[int(b)].name) is None:
            raise _no_holder(figure.bones[int(b)].name, soft)


def _no_holder(bone: str, soft: Soft) -> ArtulineError:
    return ArtulineError(f"{bone}, which {soft.id} is attached to, has no body", remedy="Fit bodies first (Bodies).")


@in_own_frame
def fresh(figure: Figure, assets: AssetStore, soft: Soft) -> Figure:
    """The figure with the bones, bodies, joints and loops of a soft part as its recipe makes them, the skin bound to them; its clusters must not be there yet."""
    _refuse_unheld(figure, assets, soft)
    made = made_of(figure, assets, soft)
    names = made.soft.clusters
    taken = set(names) & set(figure.curve_names)
    if taken:
        raise ArtulineError(f"{figure.name} has a bone {min(taken)!r} already", remedy="Choose another name.")
    grown = figure.changed(
        bones=(*figure.bones, *made.bones), softs=(*figure.softs, made.soft), plain=figure.plain or figure.asset, bodies=(*figure.bodies, *made.bodies),
        joints=(*figure.joints, *made.joints), loops=(*figure.loops, *made.loops),
    )  # fmt: skip
    mesh = _bound(grown, assets, made.soft, division_of(figure, assets, soft))
    apart = {frozenset(p) for p in grown.pairs_off}
    mine = set(names)
    touching = [
        (a, b) for a, b, _ in resting_overlaps(grown)
        if (a in mine) != (b in mine) and frozenset((a, b)) not in apart
    ]  # fmt: skip
    return grown.changed(asset=assets.add(mesh.to_arrays()), pairs_off=(*grown.pairs_off, *touching))


def _body(soft: Soft, name: str, made: Division, k: int, turn: Array) -> Body:
    volume, hull = float(made.cells.volumes[k]), made.hulls[k]
    shape = Shape(kind="sphere", radius=ROUND * 0.5 * volume ** (1.0 / 3.0))
    if soft.shape == "hull" and hull is not None:
        # in the frame of its bone
        back = rotation.conjugate(turn)
        points = rotation.rotate(back, np.array(hull.points))
        shape = hull.changed(
            position=tuple(rotation.rotate(back, np.array(hull.position))), points=tuple(map(tuple, points.tolist()))
        )
    return Body(
        id=name, bone=name, shapes=(shape,), mass=soft.density * volume, friction=soft.friction, apart=soft.id, gravity=soft.gravity
    )  # fmt: skip


def _joints(figure: Figure, soft: Soft, made: Division, turns: list[Array]) -> tuple[list[Joint], list[Joint]]:
    """The joints that hang every cluster on what holds the whole, or on the heaviest, and those that close rings."""
    names, cells = soft.clusters, made.cells
    tree, loops = [], []
    hung: set[int] = set()
    meetings = sorted(cells.meetings, key=lambda m: -m.area)
    todo = [m for m in meetings if m.a != ROOT]
    for m in (m for m in meetings if m.a == ROOT):
        holder = figure.carrier(figure.bones[made.holder[m.b]].name)
        if holder is None:
            raise _no_holder(figure.bones[made.holder[m.b]].name, soft)
        up = rigid(rest_matrices(figure))[1][figure.bone_index[holder.bone]]
        tree.append(_joint(soft, cells.middles, m, holder.id, names[m.b], up, turns[m.b], m.b))
        hung.add(m.b)
    while len(hung) < cells.count:
        step = next((m for m in todo if (m.a in hung) != (m.b in hung)), None)
        if step is None:
            # a piece that nothing holds: from its heaviest on
            hung.add(max((k for k in range(cells.count) if k not in hung), key=lambda k: cells.volumes[k]))
            continue
        up, down = (step.a, step.b) if step.a in hung else (step.b, step.a)
        tree.append(_joint(soft, cells.middles, step, names[up], names[down], turns[up], turns[down], down))
        hung.add(down)
        todo.remove(step)
    for m in todo:
        loops.append(_joint(soft, cells.middles, m, names[m.a], names[m.b], turns[m.a], turns[m.b], m.b))
    return tree, loops


def _joint(soft: Soft, middles: Array, m: Meeting, parent: str, child: str, up: Array, down: Array, k: int) -> Joint:
    firm = firmness(soft, m)
    # beyond that it is as hard as what is pressed flat
    far = soft.gives * min(m.apart, m.area**0.5)
    way, turn = (-far, far), (-TURNS * soft.gives, TURNS * soft.gives)
    return Joint(
        id=f"{child} to {parent}", parent=parent, child=child, kind="axes", axes=(way, way, way, turn, turn, turn), limited=soft.gives < 1.0, damping=0.0,
        frame=tuple(rotation.multiply(rotation.conjugate(down), m.turn)), parent_frame=tuple(rotation.multiply(rotation.conjugate(up), m.turn)),
        point=tuple(rotation.rotate(rotation.conjugate(down), m.place - middles[k])), spring_frequency=soft.stretch, spring_ratio=soft.ratio,
        bend_frequency=soft.stretch, bend_ratio=soft.ratio, feels=(firm.mass, firm.twist, firm.about_y), across=firm.about_z, area=m.area,
    )  # fmt: skip


def _bound(figure: Figure, assets: AssetStore, soft: Soft, made: Division) -> Mesh:
    """The skin with the weights of a soft part that it does not have yet."""
    mesh, plain = (Mesh.from_arrays(assets[str(x)]) for x in (figure.asset, figure.plain))
    rest, first = rest_matrices(figure), len(mesh.palette_bone)
    binds = []
    for name, up in zip(soft.clusters, made.carried, strict=True):
        i = figure.bone_index[name]
        entry = np.flatnonzero(plain.palette_bone == up)
        # as its parent binds the skin, else whoever carries most of it
        k = int(entry[0]) if len(entry) else int(np.argmax(np.bincount(plain.slots[:, 0])))
        binds.append(np.linalg.inv(rest[i]) @ rest[plain.palette_bone[k]] @ plain.palette_bind[k])
    count = len(binds)
    wider = Mesh(
        mesh.positions, mesh.normals, mesh.triangles, mesh.material, mesh.slots, mesh.weights,
        np.append(mesh.palette_bone, [figure.bone_index[n] for n in soft.clusters]).astype(np.int32),
        np.concatenate([mesh.palette_bind, np.array(binds)]), np.append(mesh.palette_skin, np.zeros(count)).astype(np.int32),
    )  # fmt: skip
    return with_shares(wider, plain, first + made.slots, made.shares, made.soft, figure.influences)


def add_soft(scene: Scene, assets: AssetStore, figure_id: str, soft: Soft) -> Scene:
    """The scene in which a figure has one more soft part, in the hands of physics all the time. Raises ArtulineError for what cannot be."""
    figure = fresh(scene.figure(figure_id), assets, soft)
    soft = figure.softs[-1]
    group = Group(
        id=edit.fresh_id("group", {g.id for g in figure.groups}), name=soft.id, bones=soft.clusters,
        handover=Lane(rest=1.0),
    )  # fmt: skip
    figure = figure.changed(groups=(*figure.groups, group))
    return edit.scene(scene, figures=edit.replace(scene.figures, figure_id, lambda f: figure))


def whole_soft(scene: Scene, assets: AssetStore, figure_id: str, soft: Soft) -> Scene:
    """The scene in which all of a figure is a soft part: bodies that it had, which would be inside, are gone."""
    bare = scene.figure(figure_id).changed(bodies=(), joints=(), loops=(), groups=(), pairs_off=())
    stripped = edit.pruned(scene, figures=edit.replace(scene.figures, figure_id, lambda f: bare))
    return add_soft(stripped, assets, figure_id, soft)


def group_of_soft(figure: Figure, soft: Soft) -> Group | None:
    """The group that rules just the clusters of a soft part."""
    return next((g for g in figure.groups if g.bones and set(g.bones) == set(soft.clusters)), None)


def soft_named(figure: Figure, id_: str) -> Soft:
    """A soft part by its id. Raises ArtulineError if there is none."""
    found = next((s for s in figure.softs if s.id == id_), None)
    if found is None:
        known = ", ".join(s.id for s in figure.softs) or "none"
        raise ArtulineError(f"{figure.name} has no soft part {id_!r}", remedy=f"It has: {known}.")
    return found


def removed_soft(scene: Scene, assets: AssetStore, figure_id: str, id_: str) -> Scene:
    """The scene without a soft part; its skin goes back to what carried it."""
    return without_bones(scene, assets, figure_id, _without(scene.figure(figure_id), assets, id_))


def _without(figure: Figure, assets: AssetStore, id_: str) -> tuple[Figure, set[str]]:
    soft = soft_named(figure, id_)
    return figure.changed(softs=tuple(s for s in figure.softs if s.id != id_)), set(soft.clusters)


Edits = dict[tuple[str, str], dict[str, object]]


def edits_by_hand(figure: Figure, assets: AssetStore, id_: str) -> Edits:
    """What was changed of the bodies and joints of a soft part since its recipe made them: the fields by ("bodies", "joints" or "loops", id)."""
    made = made_of(figure, assets, soft_named(figure, id_))
    found: Edits = {}
    for kind in ("bodies", "joints", "loops"):
        now: dict[str, Model] = {x.id: x for x in getattr(figure, kind)}
        for was in getattr(made, kind):
            x = now.get(was.id)
            if x is None or x == was:
                continue
            names = [n for n in type(x).model_fields if not same_value(getattr(x, n), getattr(was, n))]
            if names:
                found[kind, was.id] = {n: getattr(x, n) for n in names}
    return found


def lost_edits(figure: Figure, assets: AssetStore, id_: str, new: Soft) -> list[str]:
    """What was edited by hand and goes where a soft part is divided anew."""
    old = soft_named(figure, id_)
    if _alike(old, new):
        return []
    return [name for _, name in edits_by_hand(figure, assets, id_)]


def _alike(a: Soft, b: Soft) -> bool:
    """Whether two recipes divide the volume alike."""
    return all(getattr(a, n) == getattr(b, n) for n in ("id", "region", "root", "count", "mirrored", "shape"))


def remade_soft(scene: Scene, assets: AssetStore, figure_id: str, id_: str, new: Soft) -> Scene:
    """The scene with a soft part made by another recipe. Its group stays, and what was changed by hand as far as the same clusters are there (``lost_edits`` names the rest)."""
    figure = scene.figure(figure_id)
    old = soft_named(figure, id_)
    kept = edits_by_hand(figure, assets, id_) if _alike(old, new) else {}
    if _alike(old, new) and old.fall == new.fall:
        return _tuned(scene, assets, figure, new, kept)
    group = group_of_soft(figure, old)
    bare, _ = rebound(figure, assets, *_without(figure, assets, id_))
    made = fresh(bare, assets, new)
    for kind in ("bodies", "joints", "loops"):
        made = made.changed(**{kind: tuple(x.changed(**kept.get((kind, x.id), {})) for x in getattr(made, kind))})
    names = made.softs[-1].clusters
    groups = tuple(g.changed(bones=names) if group is not None and g.id == group.id else g for g in figure.groups)
    there = set(made.bone_index)
    groups = tuple(
        g.changed(bones=tuple(b for b in g.bones if b in there)) for g in groups if not g.bones or set(g.bones) & there
    )
    # in its old place among the others
    softs = {s.id: s for s in made.softs}
    order = [new.id if s.id == id_ else s.id for s in figure.softs]
    made = made.changed(groups=groups, softs=tuple(softs[i] for i in order))
    return edit.pruned(scene, figures=edit.replace(scene.figures, figure_id, lambda f: made))


def _tuned(scene: Scene, assets: AssetStore, figure: Figure, new: Soft, kept: Edits) -> Scene:
    """The scene with other numbers of a soft part that is divided as it was: its skin stays."""
    made = made_of(figure, assets, new)
    changed: dict[str, object] = {}
    for kind in ("bodies", "joints", "loops"):
        mine = {x.id: x.changed(**kept.get((kind, x.id), {})) for x in getattr(made, kind)}
        changed[kind] = tuple(mine.get(x.id, x) for x in getattr(figure, kind))
    softs = tuple(new if s.id == new.id else s for s in figure.softs)
    return edit.figure(scene, figure.id, softs=softs, **changed)


def around_softs(figure: Figure, assets: AssetStore, change: Callable[[Figure], Figure]) -> Figure:
    """A figure changed as it is without its soft parts, which are made anew on what it is then; what was edited of them by hand stays."""
    kept = {s.id: edits_by_hand(figure, assets, s.id) for s in figure.softs}
    bare = figure
    for s in figure.softs:
        bare, _ = rebound(bare, assets, *_without(bare, assets, s.id))
    made = change(bare)
    for s in figure.softs:
        made = fresh(made, assets, s)
    for edits in kept.values():
        for kind in ("bodies", "joints", "loops"):
            made = made.changed(**{kind: tuple(x.changed(**edits.get((kind, x.id), {})) for x in getattr(made, kind))})
    return made.changed(groups=figure.groups)


def copied_soft(scene: Scene, assets: AssetStore, figure_id: str, id_: str) -> tuple[Scene, str]:
    """The scene with a soft part's copy on the other side, made as its mirror image, and the copy's id. Raises ArtulineError if the skin is not the same there."""
    figure = scene.figure(figure_id)
    soft = soft_named(figure, id_)
    across = partial(_across, figure, assets)
    taken = {s.id for s in figure.softs}
    name = other_side(soft.id) or f"{soft.id} other"
    if name in taken:
        raise ArtulineError(f"{figure.name} has a soft part {name!r} already", remedy="Remove it first.")
    copy = soft.changed(
        id=name, region=across(soft.region), root=across(soft.root) if soft.root is not None else None,
        bone=mirror_pairs(figure).get(soft.bone, soft.bone), mirrored=not soft.mirrored,
    )  # fmt: skip
    made = add_soft(scene, assets, figure_id, copy)
    mine, theirs = group_of_soft(figure, soft), group_of_soft(made.figure(figure_id), made.figure(figure_id).softs[-1])
    if mine is not None and theirs is not None:
        lanes = {n: getattr(mine, n) for n in ("handover", "tone", "steadiness", "calm", "muted", "spring")}
        made = edit.group(made, figure_id, theirs.id, **lanes)
    return made, name


def _across(figure: Figure, assets: AssetStore, key: str) -> str:
    """The counterparts of vertices on the other side, as an asset."""
    from scipy.spatial import cKDTree

    skin, on = skinned(figure, assets), np.asarray(assets[key]["on"], bool)
    away, at = cKDTree(skin.points).query(mirror_plane(original(figure)).points(skin.points[on]))
    size = float(np.ptp(skin.points, axis=0).max())
    if away.max(initial=0.0) > ALIKE * size:
        raise ArtulineError(
            f"the skin on the other side is up to {100.0 * float(away.max()):.1f} cm off", remedy="Choose it there by itself."
        )  # fmt: skip
    other = np.zeros(len(on), bool)
    # vertices at the same place come along
    other[np.isin(skin.welded, skin.welded[at])] = True
    if (other & on).any():
        raise ArtulineError("the part lies on the middle: it is its own counterpart", remedy="Choose one side only.")
    return assets.add({"on": other})


def mask(assets: AssetStore, on: np.ndarray) -> str:
    """Vertices (V,) of a recipe, as an asset."""
    return assets.add({"on": np.asarray(on, bool)})


def swings(figure: Figure, assets: AssetStore, soft: Soft) -> tuple[float, float]:
    """The lowest two frequencies, Hz, at which a soft part swings where it is held, or by itself if nothing holds it: from the masses and springs of its clusters."""
    from scipy.linalg import eigh

    made = division_of(figure, assets, soft)
    cells = made.cells
    n = cells.count
    m = np.zeros(6 * n)
    k = np.zeros((6 * n, 6 * n))
    for i in range(n):
        mine = cells.points[cells.owner == i] - cells.middles[i]
        mass = soft.density * cells.volumes[i]
        square = float((mine**2).sum(axis=1).mean() + (cells.step**2).sum() / 12.0)
        m[6 * i : 6 * i + 3], m[6 * i + 3 : 6 * i + 6] = mass, 2.0 / 3.0 * mass * square
    o = (2.0 * np.pi * soft.stretch) ** 2
    for x in cells.meetings:
        firm = firmness(soft, x)
        frame = rotation.to_matrix(x.turn)
        turns = frame @ np.diag([firm.twist, firm.about_y, firm.about_z]) @ frame.T
        rows = np.zeros((6, 6 * n))
        for end, sign in ((x.a, -1.0), (x.b, 1.0)):
            if end == ROOT:
                continue
            d = x.place - cells.middles[end]
            cross = np.array([[0.0, d[2], -d[1]], [-d[2], 0.0, d[0]], [d[1], -d[0], 0.0]])
            rows[:3, 6 * end : 6 * end + 3] += sign * np.eye(3)
            rows[:3, 6 * end + 3 : 6 * end + 6] += sign * cross
            rows[3:, 6 * end + 3 : 6 * end + 6] += sign * np.eye(3)
        middle = np.zeros((6, 6))
        middle[:3, :3], middle[3:, 3:] = firm.mass * np.eye(3), turns
        k += o * rows.T @ middle @ rows
    values = np.sqrt(np.maximum(eigh(k / np.sqrt(np.outer(m, m)), eigvals_only=True), 0.0)) / (2.0 * np.pi)
    real = values[values > 1e-3 * values.max()]
    return (float(real[0]), float(real[1])) if len(real) > 1 else (float(real[0]) if len(real) else 0.0, 0.0)
