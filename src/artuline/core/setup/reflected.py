"""A figure turned into its mirror image, as a mirrored scale does: every place, turn, shape, range and key on the other side."""

import numpy as np

from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.gaits import forward_of
from artuline.core.motion.keyed import load_clip
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import AxisRange, Body, Bone, Figure, Joint, Mount, Quat, Scene, Shape, Vec3


def side_axis(figure: Figure) -> int:
    """The axis of a figure's own frame that points to its side: 0 for x, 2 for z."""
    ahead = forward_of(figure)
    return 2 if abs(ahead[0]) > abs(ahead[2]) else 0


def _place(axis: int, p: Vec3) -> Vec3:
    x, y, z = p
    return (-x, y, z) if axis == 0 else (x, y, -z)


def turned(axis: int, q: Array) -> Array:
    """Rotations (..., 4) as they are in a mirror across an axis: M R M."""
    signs = np.array([1.0, -1.0, -1.0, 1.0] if axis == 0 else [-1.0, -1.0, 1.0, 1.0])
    return np.asarray(q * signs)


def _turn(axis: int, q: Quat) -> Quat:
    x, y, z, w = q
    return (x, -y, -z, w) if axis == 0 else (-x, -y, z, w)


def _back(r: AxisRange) -> AxisRange:
    return None if r is None else (-r[1], -r[0])


def _shape(axis: int, s: Shape, assets: AssetStore) -> Shape:
    asset = s.asset
    if asset is not None:
        arrays = dict(assets[asset])
        arrays["vertices"] = arrays["vertices"] * _signs(axis)
        arrays["triangles"] = arrays["triangles"][:, ::-1].copy()
        asset = assets.add(arrays)
    return s.changed(
        position=_place(axis, s.position), rotation=_turn(axis, s.rotation), points=tuple(_place(axis, p) for p in s.points), asset=asset
    )  # fmt: skip


def _signs(axis: int) -> Array:
    return np.array([-1.0, 1.0, 1.0] if axis == 0 else [1.0, 1.0, -1.0])


def _joint(axis: int, j: Joint) -> Joint:
    """A joint in the mirror: lengths across it change their signs, turns about the others do."""
    x, y, z, twist, swing_y, swing_z = j.axes
    across = axis == 0
    return j.changed(
        frame=_turn(axis, j.frame),
        parent_frame=_turn(axis, j.parent_frame),
        point=_place(axis, j.point),
        twist=j.twist if across else (-j.twist[1], -j.twist[0]),
        slide=_back(j.slide) if across else j.slide,
        axes=(_back(x) if across else x, y, z if across else _back(z), twist if across else _back(twist), _back(swing_y),
              _back(swing_z) if across else swing_z),
    )  # fmt: skip


def _mesh(axis: int, key: str | None, assets: AssetStore) -> str | None:
    if key is None:
        return None
    mesh = assets.decoded(key, Mesh.from_arrays)
    signs, whole = _signs(axis), np.append(_signs(axis), 1.0)
    made = Mesh(
        (mesh.positions * signs).astype(mesh.positions.dtype), (mesh.normals * signs).astype(mesh.normals.dtype),
        np.ascontiguousarray(mesh.triangles[:, ::-1]), mesh.material, mesh.slots, mesh.weights, mesh.palette_bone,
        whole[:, None] * mesh.palette_bind * whole, mesh.palette_skin,
    )  # fmt: skip
    return assets.add(made.to_arrays())


def reflected_clip(axis: int, clip: Clip) -> Clip:
    """A clip in the mirror."""
    channels = []
    for c in clip.channels:
        if c.path == "scale":
            channels.append(c)
            continue
        signs = _signs(axis) if c.path == "translation" else turned(axis, np.ones(4))
        channels.append(Channel(c.bone, c.path, c.interpolation, c.times, c.values * signs, c.holds))
    return Clip(tuple(channels))


def reflected(figure: Figure, assets: AssetStore, axis: int) -> Figure:
    """The mirror image of a figure across an axis of its own frame (0: x, 2: z), with all that is its own, in the same place and facing the same way."""

    def clip(key: str) -> str:
        return assets.add(reflected_clip(axis, load_clip(assets, key)).to_arrays())

    def bone(b: Bone) -> Bone:
        flesh = b.flesh.changed(end=_place(axis, b.flesh.end)) if b.flesh is not None else None
        return b.changed(translation=_place(axis, b.translation), rotation=_turn(axis, b.rotation), flesh=flesh)

    def body(b: Body) -> Body:
        return b.changed(shapes=tuple(_shape(axis, s, assets) for s in b.shapes))

    x, y, z = _turn(axis, (1.0, 1.0, 1.0, 1.0))[:3]
    return figure.changed(
        bones=tuple(bone(b) for b in figure.bones),
        asset=_mesh(axis, figure.asset, assets),
        plain=_mesh(axis, figure.plain, assets),
        bodies=tuple(body(b) for b in figure.bodies),
        joints=tuple(_joint(axis, j) for j in figure.joints),
        loops=tuple(_joint(axis, j) for j in figure.loops),
        clips=tuple(c.changed(asset=clip(c.asset)) for c in figure.clips),
        layers=tuple(
            c.changed(asset=clip(c.asset), baked=clip(c.baked) if c.baked is not None else None) for c in figure.layers
        ),
        goals=tuple(g.changed(axis=(x * g.axis[0], y * g.axis[1], z * g.axis[2])) for g in figure.goals),
    )


def _mounted(axis: int, m: Mount) -> Mount:
    return m.changed(
        position=_place(axis, m.position), rotation=_turn(axis, m.rotation), point=_place(axis, m.point),
        reach_position=_place(axis, m.reach_position), reach_rotation=_turn(axis, m.reach_rotation),
    )  # fmt: skip


def carried_along(scene: Scene, figure: str) -> frozenset[str]:
    """The figure and all that ride on it, or on these, and on nothing else."""
    found = {figure}
    for f in scene.in_order:
        if f.mounts and all(m.figure in found for m in f.mounts):
            found.add(f.id)
    return frozenset(found)


def reflected_scene(scene: Scene, assets: AssetStore, figure: str) -> Scene:
    """The scene with a figure, and what rides on it alone, as its mirror image; links keep to the same places on these."""
    which, axis = carried_along(scene, figure), side_axis(scene.figure(figure))

    def one(f: Figure) -> Figure:
        if f.id in which:
            made = reflected(f, assets, axis)
            return made.changed(mounts=tuple(_mounted(axis, m) for m in f.mounts))
        if any(m.figure in which for m in f.mounts):
            # it keeps its own shape, and is held where the mirror has it
            return f.changed(
                mounts=tuple(m.changed(position=_place(axis, m.position)) if m.figure in which else m for m in f.mounts)
            )
        return f

    links = []
    for x in scene.links:
        a = x.a.changed(point=_place(axis, x.a.point)) if x.a.figure in which else x.a
        b = x.b.changed(point=_place(axis, x.b.point)) if x.b is not None and x.b.figure in which else x.b
        links.append(x.changed(a=a, b=b))
    return scene.changed(figures=tuple(one(f) for f in scene.figures), links=tuple(links))


def not_reflected(scene: Scene, figure: str) -> list[str]:
    """What cannot go into the mirror with a figure, in words: what others hold as well."""
    which, found = carried_along(scene, figure), []
    names = {f.id: f.name for f in scene.figures}
    for f in scene.figures:
        others = sorted({names[m.figure] for m in f.mounts if m.figure not in which})
        if f.id not in which and others and any(m.figure in which for m in f.mounts):
            found.append(
                f"{f.name} is held by {', '.join(others)} too: its end goes over to the other side, and it keeps its shape"
            )
    for x in scene.links:
        ends = [e.figure if e is not None else None for e in (x.a, x.b)]
        if (ends[0] in which) != (ends[1] in which):
            found.append(f"{x.name} ties it to what stays: it has to give way when the side changes")
    return found
