"""Things of built-in shapes, and what is done to a thing as a whole: parts added and renamed, carried in another way."""

from collections.abc import Callable

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.scene import edit
from artuline.core.scene.assets import Arrays, AssetStore
from artuline.core.scene.edit import Names
from artuline.core.scene.model import Bone, Figure, Joint, Scene
from artuline.core.setup.grip import Way, mounted
from artuline.core.setup.hinge import hinge_of, with_hinge
from artuline.core.setup.parts import Surface, creased, make_thing, own_matrices
from artuline.core.setup.surfaces import Surface as Solid
from artuline.core.setup.surfaces import ring, rod, rounded, slab
from artuline.core.setup.thing_shapes import with_shapes

__all__ = ["SIMPLE", "carried", "next_axis", "own_matrices", "renamed", "simple", "with_part"]

#: Built-in shapes: the surface of each, and the kind of its collision shape.
SIMPLE: dict[str, tuple[Callable[[], Solid], str]] = {
    "box": (slab, "box"),
    "ball": (rounded, "sphere"),
    "rod": (rod, "capsule"),
    "ring": (ring, "tube"),
}


def simple(kind: str, assets: AssetStore) -> Figure:
    """A thing of one built-in shape, about a hand's span in size."""
    make, shape = SIMPLE[kind]
    points, triangles = make()
    made = make_thing(kind, assets, points, triangles, np.zeros(len(triangles), np.int64), [kind])
    return with_shapes(made, assets, {kind: shape})


def longest(figure: Figure, assets: AssetStore) -> float:
    """The longest side of a thing at rest, m."""
    return assets.decoded(figure.asset, _size) if figure.asset is not None else 0.1


def _size(arrays: Arrays) -> float:
    """Longest side of a thing's mesh, whose places are those at rest."""
    return float(np.ptp(arrays["positions"], axis=0).max())


def with_part(figure: Figure, assets: AssetStore, kind: str) -> Figure:
    """The thing with a built-in shape more, above what it has."""
    make, shape = SIMPLE[kind]
    s = Surface.of(figure, assets)
    points, normals, triangles = creased(*make())
    top = s.positions.max(axis=0)
    middle = 0.5 * (s.positions.min(axis=0) + s.positions.max(axis=0))
    points = points + np.array([middle[0], top[1] - points[:, 1].min() + 0.02, middle[2]])
    name = Names(figure.bone_index).fresh(kind)
    centre = 0.5 * (points.min(axis=0) + points.max(axis=0))
    made = figure.changed(bones=(*figure.bones, Bone(name=name, translation=tuple(centre), deforms=True)))
    more = Surface(
        np.concatenate([s.positions, points]), np.concatenate([s.normals, normals]),
        np.concatenate([s.triangles, triangles + len(s.positions)]),
        np.concatenate([s.material, np.zeros(len(triangles), np.int64)]),
        np.concatenate([s.owner, np.full(len(triangles), len(figure.bones))]),
    )  # fmt: skip
    return with_shapes(more.on(made, assets), assets, {name: shape})


def renamed(s: Scene, figure_id: str, bone: str, name: str) -> Scene:
    """The scene with a part of a thing called otherwise, wherever it is named. Raises ArtulineError for a name that is taken or empty."""
    f = s.figure(figure_id)
    if not name.strip() or name in f.bone_index:
        raise ArtulineError(f"a part cannot be called {name!r}", remedy="Choose a name that no other part has.")

    def of(n: str | None) -> str | None:
        return name if n == bone else n

    made = f.changed(
        bones=tuple(b.changed(name=of(b.name), parent=of(b.parent)) for b in f.bones),
        bodies=tuple(b.changed(bone=of(b.bone)) for b in f.bodies),
        groups=tuple(g.changed(start_bone=of(g.start_bone), bones=tuple(of(b) for b in g.bones)) for g in f.groups),
        mounts=tuple(m.changed(part=of(m.part)) for m in f.mounts),
    )
    figures = []
    for x in s.figures:
        held = tuple(m.changed(bone=of(m.bone)) if m.figure == figure_id else m for m in x.mounts)
        figures.append(made if x.id == figure_id else (x.changed(mounts=held) if held != x.mounts else x))
    return edit.scene(s, figures=tuple(figures))


def next_axis(figure: Figure, assets: AssetStore, joint: Joint) -> Figure:
    """The thing with a hinge that turns about another one of three axes across each other."""
    bone = {b.id: b.bone for b in figure.bodies}
    hinge = hinge_of(figure, joint)
    facing = rotation.align(np.array([1.0, 0.0, 0.0]), hinge.axis)
    axis: Array = rotation.rotate(facing, np.array([0.0, 1.0, 0.0]))
    return with_hinge(figure, assets, bone[joint.child], bone[joint.parent], hinge.pivot, axis)


def carried(s: Scene, assets: AssetStore, figure_id: str, mount_id: str, way: Way) -> Scene:
    """The scene with a mount of a thing made anew in another way, in the same hand and between the same frames."""
    f = s.figure(figure_id)
    old = next(m for m in f.mounts if m.id == mount_id)
    frame = old.start if old.start is not None else float(s.start)
    bare = edit.figure(s, figure_id, mounts=tuple(m for m in f.mounts if m.id != mount_id))
    made = mounted(bare, assets, figure_id, old.figure, old.reach or old.bone, frame, way, old.part)
    new = made.figure(figure_id).mounts[-1].changed(id=old.id, start=old.start, stop=old.stop, collides=old.collides)
    return edit.figure(made, figure_id, mounts=tuple(new if m.id == mount_id else m for m in f.mounts))
