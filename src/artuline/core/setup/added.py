"""Bones added to a skeleton where flesh should move: placed inside the skin, moved, mirrored, painted, and removed again."""

import re
from typing import Literal

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rays, rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Bone, Figure, Flesh, Scene
from artuline.core.setup.bones import without_bones
from artuline.core.setup.mirror import MirrorPlane, mirror_pairs, mirror_plane, other_side
from artuline.core.setup.skin import cached_skin
from artuline.core.setup.weights import (
    along_surface,
    entry_weights,
    fallen_off,
    limited,
    to_segment,
    with_entry,
    with_share,
)

DEEPEST = 0.3  # share of the figure's height: a wall is no thicker
THIN, LAYERS = 0.02, 16  # share of that height up to which a shell is none; surfaces that are gone through at most
NEARBY = 6  # vertices that tell who carries the skin somewhere, and from which distances along it are counted
MIDDLE = 0.02  # share of the figure's size within which a bone stands in the middle


def inside(figure: Figure, assets: AssetStore, origin: Array, way: Array) -> tuple[Array, Array]:
    """Where a ray (3,), (3,) that meets the skin at rest enters, and the middle between there and where a ray straight inwards leaves, m. Raises ArtulineError if it misses."""
    skin = cached_skin(figure, assets)
    corners = skin.points[skin.mesh.triangles]
    hit = rays.triangles(origin, way, corners)
    if hit is None:
        raise ArtulineError("there is no skin there", remedy="Click the skin.")
    at = origin + hit[0] * way
    normal = np.cross(corners[hit[1], 1] - corners[hit[1], 0], corners[hit[1], 2] - corners[hit[1], 0])
    normal /= max(float(np.linalg.norm(normal)), 1e-30)
    inwards = -normal if normal @ way < 0.0 else normal
    least = 1e-4 * skin.height
    # through what lies one in the other, such as a button on a coat, until there is air
    depth, most = least, DEEPEST * skin.height
    for _ in range(LAYERS):
        beyond = rays.triangles(at + depth * inwards, inwards, corners)
        if beyond is None or depth + beyond[0] >= most:
            depth = most if beyond is not None else max(depth, 0.1 * skin.height)
            break
        depth += beyond[0] + least
        if depth > THIN * skin.height and not skin.holds((at + (depth + least) * inwards)[None])[0]:
            break
    return at, at + 0.5 * depth * inwards


def carrier_at(figure: Figure, assets: AssetStore, place: Array) -> str:
    """The bone that carries the skin at rest around a place (3,), m; never one that was added."""
    skin = cached_skin(figure, assets)
    near = np.argsort(np.linalg.norm(skin.points - place, axis=1))[:NEARBY]
    weights = skin.mesh.bone_weights(len(figure.bones))[near].sum(axis=0)
    weights[[b.flesh is not None for b in figure.bones]] = 0.0
    return figure.bones[int(np.argmax(weights))].name


def grown(
    scene: Scene, assets: AssetStore, figure_id: str, name: str, start: Array, end: Array, flesh: Flesh | None = None, *, parent: str | None = None, both: bool = False
) -> Scene:  # fmt: skip
    """The scene with one more bone of a figure, from ``start`` to ``end`` (3,), m, at rest, which takes the skin around it; ``flesh``: how, else within twice its length.
    ``parent``: what it hangs on, else what carries the skin at its end. ``both``: with its counterpart on the other side, unless it stands in the middle; their names then tell the
    side.

    Raises ArtulineError if the figure has no skin.
    """
    figure = scene.figure(figure_id)
    up = parent or carrier_at(figure, assets, end)
    length = float(np.linalg.norm(end - start))
    if flesh is None:
        flesh = Flesh(end=(0.0, 0.0, 0.0), radius=max(2.0 * length, 1e-3))
    plane = mirror_plane(figure)
    if not both or abs(float(plane.side(end))) < MIDDLE * cached_skin(figure, assets).height:
        return _with_bone(scene, assets, figure_id, name, up, start, end, flesh)
    name, twin = _sided(figure, name, plane, float(plane.side(end)))
    made = _with_bone(scene, assets, figure_id, name, up, start, end, flesh)
    made = _with_bone(
        made, assets, figure_id, twin, mirror_pairs(figure).get(up, up), plane.points(start), plane.points(end), flesh
    )  # fmt: skip
    return evened(made, assets, figure_id, (name, twin))


def _sided(figure: Figure, name: str, plane: MirrorPlane, side: float) -> tuple[str, str]:
    """Names of a bone on a side and of its counterpart: by the side that the name tells, else as the names of the figure's own bones tell left from right."""
    other = other_side(name)
    if other is not None:
        return name, other
    places = plane.side(rigid(rest_matrices(figure))[0])
    for b, place in zip(figure.bones, places):
        word = next(
            (
                w
                for w in re.findall(r"[A-Za-z]+", re.sub(r"(?<=[a-z])(?=[A-Z])", " ", b.name))
                if w.lower() in ("l", "left")
            ),
            None,
        )
        if word is not None and other_side(b.name) in figure.bone_index and abs(place) > 1e-6:
            names = f"{name}_l", f"{name}_r"
            return names if (place > 0.0) == (side > 0.0) else names[::-1]
    return name, f"{name} other"


def _with_bone(
    scene: Scene, assets: AssetStore, figure_id: str, name: str, parent: str, start: Array, end: Array, flesh: Flesh
) -> Scene:
    figure = scene.figure(figure_id)
    if figure.asset is None:
        raise ArtulineError(f"{figure.name} has no skin that a bone could carry", remedy="Choose a figure with skin.")
    if figure.made is not None:
        raise ArtulineError(f"the bones of {figure.name} are made by a recipe", remedy="Change it in Strands.")
    if name in figure.curve_names:
        raise ArtulineError(f"{figure.name} has a bone {name!r} already", remedy="Choose another name.")
    above = rest_matrices(figure)[figure.bone_index[parent]]
    q = rigid(above)[1]
    # it stands like its parent, whatever that is scaled by
    local = np.linalg.inv(above)
    bone = Bone(
        name=name, parent=parent, translation=tuple(transforms.apply(local, start[None])[0]), deforms=True,
        flesh=flesh.changed(end=tuple(rotation.rotate(rotation.conjugate(q), end - start) / figure.unit)),
    )  # fmt: skip
    mesh = Mesh.from_arrays(assets[figure.asset])
    plain = figure.plain or figure.asset
    made = figure.changed(bones=(*figure.bones, bone), plain=plain)
    mesh = with_entry(mesh, len(figure.bones), np.eye(4))
    return _put(scene, assets, made, mesh, name, None)


def regrown(
    scene: Scene, assets: AssetStore, figure_id: str, name: str, *, start: Array | None = None, end: Array | None = None, flesh: Flesh | None = None, share: Array | None = None
) -> Scene:  # fmt: skip
    """The scene with an added bone moved (``start``, ``end``: m, at rest), reaching otherwise (``flesh``), or with given shares of the vertices (V,), which count as painted.

    The skin at rest stays where it is. What was painted stays until the reach is changed.
    """
    figure = scene.figure(figure_id)
    bone = added_bone(figure, name)
    assert bone.flesh is not None and figure.asset is not None
    here, there = ends_of(figure, name)
    new = flesh or bone.flesh
    if start is not None or end is not None:
        first = here if start is None else start
        last = there + (first - here) if end is None else end
        above = rest_matrices(figure)[figure.bone_index[str(bone.parent)]]
        turn = rigid(above)[1]
        bone = bone.changed(
            translation=tuple(transforms.apply(np.linalg.inv(above), first[None])[0]), rotation=(0.0, 0.0, 0.0, 1.0)
        )
        new = new.changed(end=tuple(rotation.rotate(rotation.conjugate(turn), last - first) / figure.unit))
    if share is not None:
        new = new.changed(painted=True)
    elif flesh is not None:
        new = new.changed(painted=False)
    bone = bone.changed(flesh=new)
    mesh = Mesh.from_arrays(assets[figure.asset])
    if share is None and new.painted:
        share = entry_weights(mesh, entry_of(figure, mesh, name))
    made = figure.changed(bones=tuple(bone if b.name == name else b for b in figure.bones))
    return _put(scene, assets, made, mesh, name, share)


def evened(scene: Scene, assets: AssetStore, figure_id: str, names: tuple[str, ...]) -> Scene:
    """The scene in which added bones on both sides share what both reach, whoever was there first; what was painted stays."""
    for name in names * 2:
        scene = regrown(scene, assets, figure_id, name)
    return scene


def twin_of(figure: Figure, name: str) -> str | None:
    """The added bone on the other side, or None."""
    other = mirror_pairs(figure).get(name)
    return other if other is not None and figure.bones[figure.bone_index[other]].flesh is not None else None


def _put(scene: Scene, assets: AssetStore, figure: Figure, mesh: Mesh, name: str, share: Array | None) -> Scene:
    """The scene with a figure whose added bone is bound to the skin as it is at rest, with shares (V,), or those of its reach."""
    plain = Mesh.from_arrays(assets[str(figure.plain)])
    entry, rest = entry_of(figure, mesh, name), rest_matrices(figure)
    i = figure.bone_index[name]
    points = plain.skin(rest[: int(plain.palette_bone.max()) + 1]) if share is None else np.zeros((0, 3))
    if share is None:
        share = reach_of(figure, mesh, points, name)
    # as whoever carries most of it there binds it
    up = figure.bone_index[str(figure.bones[i].parent)]
    candidates = np.flatnonzero(plain.palette_bone == up)
    carried = (
        int(candidates[0])
        if len(candidates)
        else int(np.argmax(np.bincount(plain.slots[:, 0], minlength=len(plain.palette_bone))))
    )
    bind = np.linalg.inv(rest[i]) @ rest[plain.palette_bone[carried]] @ plain.palette_bind[carried]
    binds = np.array(mesh.palette_bind)
    binds[entry] = bind
    bound = Mesh(
        mesh.positions, mesh.normals, mesh.triangles, mesh.material, mesh.slots, mesh.weights, mesh.palette_bone, binds, mesh.palette_skin
    )  # fmt: skip
    twin = twin_of(figure, name)
    spared = entry_of(figure, bound, twin) if twin is not None else None
    made = with_share(
        bound, plain, entry, np.clip(share, 0.0, 1.0), max(figure.influences, plain.slots.shape[1]), spared
    )
    key = assets.add(made.to_arrays())
    changed = figure.changed(asset=key)
    return edit.scene(scene, figures=tuple(changed if f.id == figure.id else f for f in scene.figures))


def reach_of(figure: Figure, mesh: Mesh, points: Array, name: str) -> Array:
    """The shares of the skin (V,), whose vertices rest at points (V, 3), m, that the reach of an added bone gives it."""
    mine, twin = _reached(figure, mesh, points, name), twin_of(figure, name)
    # what both sides reach is divided
    both = mine + (_reached(figure, mesh, points, twin) if twin is not None else 0.0)
    return np.asarray(mine / np.maximum(both, 1.0))


def _reached(figure: Figure, mesh: Mesh, points: Array, name: str) -> Array:
    flesh = added_bone(figure, name).flesh
    assert flesh is not None
    start, end = ends_of(figure, name)
    if flesh.by == "surface":
        seeds = np.argsort(np.linalg.norm(points - end, axis=1))[: NEARBY // 2]
        distance = along_surface(points, mesh.edges, seeds, flesh.radius)
    else:
        distance = to_segment(points, start, end)
    return flesh.strength * fallen_off(distance, flesh.radius, flesh.profile)


def removed(scene: Scene, assets: AssetStore, figure_id: str, name: str) -> Scene:
    """The scene without an added bone: its weights go back to those that it took them from; its body, its curves and what refers to it go with it."""
    figure = scene.figure(figure_id)
    added_bone(figure, name)
    return without_bones(scene, assets, figure_id, (figure, {name}))


def influenced(scene: Scene, assets: AssetStore, figure_id: str, most: Literal[4, 8]) -> Scene:
    """The scene in which a vertex of a figure has at most 4 or 8 bones, once bones were added. With fewer, what is left out takes its share from all."""
    figure = scene.figure(figure_id).changed(influences=most)
    if figure.plain is not None:
        mesh, plain = (Mesh.from_arrays(assets[str(x)]) for x in (figure.asset, figure.plain))
        made = limited(mesh, max(most, plain.slots.shape[1]))
        figure = figure.changed(asset=assets.add(made.to_arrays()))
    return edit.scene(scene, figures=edit.replace(scene.figures, figure_id, lambda f: figure))


def renamed(scene: Scene, assets: AssetStore, figure_id: str, name: str, new: str) -> Scene:
    """The scene with an added bone that has no body yet called otherwise. Raises ArtulineError for a name that is taken."""
    figure = scene.figure(figure_id)
    bone = added_bone(figure, name)
    if name in figure.body_of:
        raise ArtulineError(f"{name} has a body already, which is called like it", remedy="Name it before it gets one.")
    if not new or new in figure.curve_names:
        raise ArtulineError(f"{new!r} is no name that {figure.name} does not have yet", remedy="Choose another name.")
    return edit.figure(
        scene, figure_id, bones=tuple(bone.changed(name=new) if b.name == name else b for b in figure.bones)
    )


def added_bone(figure: Figure, name: str) -> Bone:
    """An added bone by its name. Raises ArtulineError for one that the file has."""
    bone = next((b for b in figure.bones if b.name == name), None)
    if bone is None or bone.flesh is None:
        raise ArtulineError(f"{name} was not added to {figure.name}", remedy="Choose an added bone.")
    return bone


def entry_of(figure: Figure, mesh: Mesh, name: str) -> int:
    """The palette entry of an added bone."""
    return int(np.flatnonzero(mesh.palette_bone == figure.bone_index[name])[-1])


def ends_of(figure: Figure, name: str) -> tuple[Array, Array]:
    """Where an added bone begins and ends at rest (3,), m."""
    i = figure.bone_index[name]
    flesh = added_bone(figure, name).flesh
    assert flesh is not None
    p, q = rigid(rest_matrices(figure)[i])
    return p, p + rotation.rotate(q, figure.unit * np.array(flesh.end))
