"""Things of several parts as figures: every part of a mesh is a bone; parts are split, joined, cut, scaled and hung on each other.

The parts of such a figure are rigid: every vertex belongs to one bone. Its unit is the metre.
"""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.edit import Names
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Body, Bone, Figure, Material, Mount, Shape

SMALL = 0.08  # share of the whole's size below which a loose shell belongs to the nearest larger one: rivets, not parts
MOST_PARTS = 40
CREASE = np.radians(40.0)
PLAUSIBLE = (0.03, 4.0)  # metres along the longest side

Ints = NDArray[np.int64]


def likely_thing_unit(size: float) -> float:
    """Metres per file unit for a thing of this longest side in file units: metres where that is plausible, else the first that makes it so."""
    low, high = PLAUSIBLE
    return next((u for u in (1.0, 0.01, 0.001, 0.0254) if low <= size * u <= high), 1.0)


def shells(positions: Array, triangles: NDArray[np.integer]) -> Ints:
    """The loose shell of every triangle (T,): those that share corners hang together; corners at the same place are one."""
    size = max(float(np.ptp(positions, axis=0).max()), 1e-12)
    _, corner = np.unique(np.round(positions / (1e-6 * size)).astype(np.int64), axis=0, return_inverse=True)
    t = corner.reshape(-1)[triangles]
    a, b = np.concatenate([t[:, 0], t[:, 1]]), np.concatenate([t[:, 1], t[:, 2]])
    n = int(corner.max()) + 1
    label = connected_components(coo_matrix((np.ones(len(a)), (a, b)), shape=(n, n)), directed=False)[1]
    return np.unique(label[t[:, 0]], return_inverse=True)[1].astype(np.int64).reshape(-1)


def main_shells(positions: Array, triangles: NDArray[np.integer]) -> Ints:
    """``shells``, with small ones counted to the nearest larger one, the largest first."""
    label = shells(positions, triangles)
    count = int(label.max()) + 1
    spread = np.array([np.ptp(positions[triangles[label == k]].reshape(-1, 3), axis=0).max() for k in range(count)])
    order = np.argsort(-spread)
    large = [k for k in order if spread[k] >= SMALL * spread.max()][:MOST_PARTS]
    number = {int(k): i for i, k in enumerate(large)}
    trees = [cKDTree(positions[np.unique(triangles[label == k])], balanced_tree=False) for k in large]
    for k in range(count):
        if k not in number:
            middle = positions[triangles[label == k]].reshape(-1, 3).mean(axis=0)
            number[k] = int(np.argmin([tree.query(middle)[0] for tree in trees]))
    return np.array([number[int(k)] for k in label], np.int64)


def make_thing(
    name: str,
    assets: AssetStore,
    positions: Array,
    triangles: NDArray[np.integer],
    part: NDArray[np.integer],
    names: list[str],
    materials: tuple[Material, ...] = (),
    material: NDArray[np.integer] | None = None,
    normals: Array | None = None,
    source: str = "",
) -> Figure:
    """A figure of rigid parts, each with its bone in its middle: positions (V, 3) m; triangles (T, 3); ``part`` (T,): which part of ``names``
    each is of. It stands on the ground, about its middle.
    """
    if normals is None:
        positions, normals, triangles = creased(positions, triangles)
    foot = np.array([*(0.5 * (positions.min(axis=0) + positions.max(axis=0)))])
    foot[1] = positions[:, 1].min()
    at = positions - foot
    middles = []
    for k in range(len(names)):
        corners = at[np.unique(triangles[part == k])]
        middles.append(0.5 * (corners.min(axis=0) + corners.max(axis=0)))
    bones = tuple(Bone(name=n, translation=tuple(m), deforms=True) for n, m in zip(names, middles))
    figure = Figure(id=name, name=name, source=source, bones=bones, materials=materials or (Material(),), prop=True)
    made = Surface(
        at, normals, triangles.astype(np.int64),
        np.zeros(len(triangles), np.int64) if material is None else material.astype(np.int64), part.astype(np.int64),
    )  # fmt: skip
    return made.on(figure, assets)


def creased(positions: Array, triangles: NDArray[np.integer]) -> tuple[Array, Array, Ints]:
    """The same surface with a normal for each of its corners: places (V, 3), normals (V, 3), triangles (T, 3); smooth but where faces meet at
    more than ``CREASE``.
    """
    size = max(float(np.ptp(positions, axis=0).max()), 1e-12)
    _, same = np.unique(np.round(positions / (1e-6 * size)).astype(np.int64), axis=0, return_inverse=True)
    corner = same.reshape(-1)[triangles].ravel()
    a, b, c = (positions[triangles[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    unit = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
    face = np.repeat(np.arange(len(triangles)), 3)
    # every corner with every face around its place
    around = coo_matrix((np.ones(len(face)), (corner, face))).tocsr()
    pairs = around[corner].tocoo()
    near = (unit[face[pairs.row]] * unit[pairs.col]).sum(axis=1) > np.cos(CREASE)
    found = np.zeros((len(face), 3))
    np.add.at(found, pairs.row[near], normal[pairs.col[near]])
    found /= np.maximum(np.linalg.norm(found, axis=1, keepdims=True), 1e-30)
    kinds = np.column_stack([triangles.ravel(), np.round(found * 1e4).astype(np.int64)])
    _, first, index = np.unique(kinds, axis=0, return_index=True, return_inverse=True)
    return positions[triangles.ravel()[first]], found[first], index.reshape(-1, 3).astype(np.int64)


class Surface:
    """The triangles of a thing at rest, in its own frame (m), with the index of the bone of each."""

    def __init__(self, positions: Array, normals: Array, triangles: Ints, material: Ints, owner: Ints):
        self.positions, self.normals, self.triangles = positions, normals, triangles
        self.material, self.owner = material, owner

    @staticmethod
    def of(figure: Figure, assets: AssetStore) -> "Surface":
        """That of a figure. Raises ArtulineError if it has no mesh."""
        if figure.asset is None:
            raise ArtulineError(f"{figure.name} has no mesh", remedy="Choose a thing with a mesh.")
        mesh = Mesh.from_arrays(assets[figure.asset])
        matrices = own_matrices(figure)
        strongest = mesh.slots[np.arange(len(mesh.positions)), mesh.weights.argmax(axis=1)]
        turned = np.einsum(
            "vij,vj->vi", (matrices[mesh.palette_bone] @ mesh.palette_bind)[strongest][:, :3, :3], mesh.normals
        )
        bone = mesh.palette_bone[strongest]
        return Surface(
            mesh.skin(matrices), turned / np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-30),
            mesh.triangles.astype(np.int64), mesh.material.astype(np.int64), bone[mesh.triangles[:, 0]].astype(np.int64),
        )  # fmt: skip

    def points(self, bone: int) -> Array:
        """The vertices (N, 3) of a part."""
        return self.positions[np.unique(self.triangles[self.owner == bone])]

    def on(self, figure: Figure, assets: AssetStore) -> Figure:
        """The figure with this surface, each part of it bound to its bone."""
        corner = np.unique(np.stack([self.triangles.ravel(), np.repeat(self.owner, 3)], axis=1), axis=0)
        number = {(int(v), int(b)): i for i, (v, b) in enumerate(corner)}
        # a vertex between two parts is one of each
        t = np.array([number[int(v), int(b)] for v, b in zip(self.triangles.ravel(), np.repeat(self.owner, 3))])
        binds = np.linalg.inv(own_matrices(figure))
        mesh = Mesh(
            positions=self.positions[corner[:, 0]].astype(np.float32),
            normals=self.normals[corner[:, 0]].astype(np.float32),
            triangles=t.reshape(-1, 3).astype(np.int32),
            material=self.material.astype(np.int32),
            slots=corner[:, 1:].astype(np.int32),
            weights=np.ones((len(corner), 1), np.float32),
            palette_bone=np.arange(len(figure.bones), dtype=np.int32),
            palette_bind=binds.astype(np.float64),
            palette_skin=np.zeros(len(figure.bones), np.int32),
        )
        return figure.changed(asset=assets.add(mesh.to_arrays()))


def own_matrices(figure: Figure) -> Array:
    """Matrices (B, 4, 4) of the bones at rest, in the figure's own frame (m)."""
    skeleton = skeleton_of(figure)
    return skeleton.global_matrices(skeleton.rest, np.diag([figure.unit] * 3 + [1.0]))


def split(
    figure: Figure, assets: AssetStore, bone: str, apart: NDArray[np.bool_] | None = None
) -> tuple[Figure, list[str]]:
    """The figure with a part divided into its loose shells, or ``apart`` (T,) of its triangles made a part of their own; and the names of all
    parts that it came to. Raises ArtulineError if there is nothing to divide.
    """
    s, b = Surface.of(figure, assets), figure.bone_index[bone]
    mine = s.owner == b
    if apart is None:
        label = np.zeros(len(mine), np.int64)
        label[mine] = main_shells(s.positions, s.triangles[mine])
    else:
        label = (apart & mine).astype(np.int64)
        if not label.any() or label[mine].all():
            raise ArtulineError(f"nothing of {bone} would be left" if label.any() else f"nothing of {bone} is chosen",
                                remedy="Choose some of its surface.")  # fmt: skip
    count = int(label[mine].max()) + 1 if mine.any() else 0
    if count < 2:
        raise ArtulineError(f"{bone} hangs together", remedy="Draw a frame around what shall be a part of its own.")
    names = Names(figure.bone_index)
    new = [names.fresh(f"{bone} {k + 1}") for k in range(1, count)]
    first = len(figure.bones)
    bones = list(figure.bones)
    owner = s.owner.copy()
    for k, name in enumerate(new):
        owner[mine & (label == k + 1)] = first + k
        points = s.positions[np.unique(s.triangles[owner == first + k])]
        bones.append(Bone(name=name, translation=tuple(0.5 * (points.min(axis=0) + points.max(axis=0))), deforms=True))
    made = Surface(s.positions, s.normals, s.triangles, s.material, owner).on(
        figure.changed(bones=tuple(bones)), assets
    )
    return _without_shapes(made, {bone}), [bone, *new]


def _without_shapes(figure: Figure, bones: set[str]) -> Figure:
    """Parts whose surface has changed lose their fitted shapes, unless they were made by hand."""
    kept = tuple(b.changed(shapes=()) if b.bone in bones and not b.by_hand else b for b in figure.bodies)
    return figure.changed(bodies=kept)


def joined(figure: Figure, assets: AssetStore, bones: list[str]) -> Figure:
    """The figure with some parts as one, the first of them; joints between them go, others hold on to it."""
    first, rest = bones[0], set(bones[1:])
    s, (p, q) = Surface.of(figure, assets), rigid(own_matrices(figure))
    gone = {b.id for b in figure.bodies if b.bone in rest}
    into = figure.body_of[first].id if first in figure.body_of else None
    joints = []
    for j in figure.joints:
        parent = into if j.parent in gone else j.parent
        if j.child not in gone and parent is not None and parent != j.child:
            joints.append(j.changed(parent=parent))
    kept = tuple(b for b in figure.bones if b.name not in rest)
    parents = {b.name: (first if b.parent in rest else b.parent) for b in kept}
    parents = {name: None if up == name else up for name, up in parents.items()}
    bare = figure.changed(
        bones=tuple(b.changed(parent=None) for b in kept), joints=tuple(joints), asset=None,
        bodies=tuple(b for b in figure.bodies if b.bone not in rest),
        pairs_off=tuple(x for x in figure.pairs_off if not set(x) & gone),
        groups=tuple(g for g in figure.groups if g.start_bone not in rest and not rest & set(g.bones)),
        mirror=(),
        mounts=tuple(m.changed(part=first) if m.part in rest else m for m in figure.mounts),
    )  # fmt: skip
    made = _placed(bare, {b.name: (p[i], q[i]) for i, b in enumerate(figure.bones)}, parents)
    number = [made.bone_index[first if b.name in rest else b.name] for b in figure.bones]
    s.owner = np.array(number, np.int64)[s.owner]
    return _without_shapes(s.on(made, assets), {first})


def _placed(figure: Figure, at: Mapping[str, tuple[Array, Array]], parents: Mapping[str, str | None]) -> Figure:
    """The figure with bones at places and rotations of its own frame, below others; parents come first."""
    order: list[str] = []

    def add(name: str, below: tuple[str, ...]) -> None:
        if name in below:
            raise ArtulineError(f"{name} would hang on itself", remedy="Hang it on another part.")
        if name not in order:
            up = parents[name]
            if up is not None:
                add(up, (*below, name))
            order.append(name)

    for b in figure.bones:
        add(b.name, ())
    by_name = {b.name: b for b in figure.bones}
    bones = []
    for name in order:
        (p, q), up = at[name], parents[name]
        if up is not None:
            p, q = transforms.rigid_relative(*at[up], p, q)
        bones.append(by_name[name].changed(parent=up, translation=tuple(p), rotation=tuple(rotation.normalize(q))))
    return figure.changed(bones=tuple(bones), unit=1.0)


def hung(figure: Figure, assets: AssetStore, child: str, parent: str | None, pivot: Array | None = None) -> Figure:
    """The figure with a part's bone below another one's, with its origin at a place (3,) of the figure's frame; nothing of it moves."""
    p, q = rigid(own_matrices(figure))
    at = {b.name: (p[i], q[i]) for i, b in enumerate(figure.bones)}
    old, turn = at[child]
    if pivot is not None:
        at[child] = pivot, turn
    shift = rotation.rotate(rotation.conjugate(turn), old - at[child][0])
    parents = {b.name: b.parent for b in figure.bones} | {child: parent}
    surface = Surface.of(figure, assets) if figure.asset is not None else None
    made = _placed(figure.changed(bodies=tuple(_shifted(b, shift) if b.bone == child else b for b in figure.bodies),
                                  mounts=tuple(_ridden(m, shift) if m.part == child else m for m in figure.mounts)),
                   at, parents)  # fmt: skip
    if surface is None:
        return made
    number = np.array([made.bone_index[b.name] for b in figure.bones])
    surface.owner = number[surface.owner]
    return surface.on(made, assets)


def _shifted(body: Body, by: Array) -> Body:
    return body.changed(shapes=tuple(s.changed(position=tuple(np.array(s.position) + by)) for s in body.shapes))


def _ridden(mount: Mount, by: Array) -> Mount:
    """A mount whose part has its origin elsewhere in the same thing."""
    back = rotation.rotate(np.array(mount.rotation), by)
    return mount.changed(point=tuple(np.array(mount.point) + by), position=tuple(np.array(mount.position) - back))


def scaled(figure: Figure, assets: AssetStore, factor: float) -> Figure:
    """A thing that is so many times as large: its mesh, bones, shapes and grips."""
    surface = Surface.of(figure, assets) if figure.asset is not None else None

    def times(v: tuple[float, float, float]) -> tuple[float, float, float]:
        return v[0] * factor, v[1] * factor, v[2] * factor

    def larger(s: Shape) -> Shape:
        return s.changed(position=times(s.position), radius=s.radius * factor, half_length=s.half_length * factor, half=times(s.half),
                         points=tuple(times(p) for p in s.points), margin=s.margin * factor)  # fmt: skip

    made = figure.changed(
        bones=tuple(b.changed(translation=times(b.translation)) for b in figure.bones),
        bodies=tuple(b.changed(shapes=tuple(larger(s) for s in b.shapes)) for b in figure.bodies),
        mounts=tuple(m.changed(point=times(m.point)) for m in figure.mounts),
    )
    if surface is None:
        return made
    surface.positions = surface.positions * factor
    return surface.on(made, assets)


def with_mesh_of(figure: Figure, assets: AssetStore, other: Figure) -> Figure:
    """A thing seen as another one, in the same place and as large: bones, shapes, joints, groups and mounts stay as they are.

    A part of the other goes with the part of the same name, else with that whose middle is nearest.
    """
    old, new = Surface.of(figure, assets), Surface.of(other, assets)
    sizes = [np.ptp(s.positions, axis=0).max() for s in (old, new)]
    fits = sizes[0] / max(float(sizes[1]), 1e-12)
    middles = [0.5 * (s.positions.min(axis=0) + s.positions.max(axis=0)) for s in (old, new)]
    # another unit is a factor of ten or more; less is meant
    factor = fits if not 0.2 < fits < 5.0 else 1.0
    foot = [np.array([m[0], s.positions[:, 1].min(), m[2]]) for m, s in zip(middles, (old, new))]
    places = foot[0] + factor * (new.positions - foot[1])
    centres = {b: old.points(b).mean(axis=0) for b in range(len(figure.bones)) if (old.owner == b).any()}
    number = np.zeros(len(other.bones), np.int64)
    for k, bone in enumerate(other.bones):
        if bone.name in figure.bone_index:
            number[k] = figure.bone_index[bone.name]
        elif (new.owner == k).any():
            at = places[np.unique(new.triangles[new.owner == k])].mean(axis=0)
            number[k] = min(centres, key=lambda b: float(np.linalg.norm(centres[b] - at)))
    made = Surface(places, new.normals, new.triangles, new.material, number[new.owner])
    return made.on(figure.changed(materials=other.materials, source=other.source), assets)


def upright(figure: Figure, assets: AssetStore) -> Figure:
    """A thing turned by a quarter about x, so that what pointed along z points up, and set on the ground again; before it has bodies."""
    s = Surface.of(figure, assets)
    turn = rotation.from_rotation_vector(np.array([-np.pi / 2.0, 0.0, 0.0]))
    names = [b.name for b in figure.bones]
    made = make_thing(figure.id, assets, rotation.rotate(turn, s.positions), s.triangles, s.owner, names, figure.materials,
                      s.material, rotation.rotate(turn, s.normals), figure.source)  # fmt: skip
    return figure.changed(bones=made.bones, asset=made.asset, bodies=(), joints=(), pairs_off=())
