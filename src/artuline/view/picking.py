"""What a ray of the view meets: bodies by their shapes, else the skin."""

from collections.abc import Sequence

import numpy as np

from artuline.core.geometry import rays, rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rigid
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import triangles_of
from artuline.core.scene.model import Figure, Scene, Shape
from artuline.view.stage import FigureState, mesh_of

AROUND = 0.5  # share of a figure's height by which its skin may reach beyond its bones

Hit = tuple[str, str, Array]  # figure, bone and place (3,)


def pick(
    scene: Scene, assets: AssetStore, states: Sequence[FigureState], origin: Array, direction: Array
) -> Hit | None:
    """The first figure, bone and place (3,) that a ray, origin and unit direction (3,), meets: bodies before the skins of what has bodies."""
    shapes = _shapes(scene, assets, states, origin, direction)
    best: tuple[float, str, str] | None = None
    for figure, state in zip(scene.figures, states):
        found = shapes.get(figure.id)
        if found is None and not (shapes and figure.bodies):
            found = _skin(figure, assets, state, origin, direction)
        if found is not None and (best is None or found[0] < best[0]):
            best = found[0], figure.id, found[1]
    return (best[1], best[2], origin + best[0] * direction) if best is not None else None


def _shapes(
    scene: Scene, assets: AssetStore, states: Sequence[FigureState], origin: Array, direction: Array
) -> dict[str, tuple[float, str]]:
    """How far along the ray, and on which bone, the nearest shape of every figure is that has one there."""
    whose: list[tuple[str, str]] = []
    shapes, places, turns = [], [], []
    for figure, state in zip(scene.figures, states):
        bones = [figure.bone_index[b.bone] for b in figure.bodies for _ in b.shapes]
        if not bones:
            continue
        p, q = rigid(state.matrices[bones])
        places.append(p)
        turns.append(q)
        shapes += [s for b in figure.bodies for s in b.shapes]
        whose += [(figure.id, b.bone) for b in figure.bodies for _ in b.shapes]
    if not shapes:
        return {}
    p, q = np.concatenate(places), np.concatenate(turns)
    t = rays.shapes(origin, direction, shapes, p, q)
    for i, shape in enumerate(shapes):
        if shape.asset is not None:
            t[i] = _triangles(assets, shape, p[i], q[i], origin, direction)
    found: dict[str, tuple[float, str]] = {}
    for i in np.argsort(t):
        if np.isfinite(t[i]):
            found.setdefault(whose[i][0], (float(t[i]), whose[i][1]))
    return found


def _triangles(assets: AssetStore, shape: Shape, p: Array, q: Array, origin: Array, direction: Array) -> float:
    """How far along the ray a shape that is a mesh is, with its frame at p (3,), q (4,); infinity if it is not met."""
    assert shape.asset is not None
    back = rotation.conjugate(rotation.multiply(q, np.array(shape.rotation)))
    start = rotation.rotate(back, origin - p - rotation.rotate(q, np.array(shape.position)))
    found = rays.triangles(start, rotation.rotate(back, direction), triangles_of(assets, shape.asset))
    return found[0] if found is not None else np.inf


def _skin(
    figure: Figure, assets: AssetStore, state: FigureState, origin: Array, direction: Array
) -> tuple[float, str] | None:
    """How far along the ray a figure's skin is, and the bone that carries it there most."""
    mesh = mesh_of(figure, assets)
    if mesh is None or not _near(state.matrices[:, :3, 3], origin, direction):
        return None
    found = rays.triangles(origin, direction, mesh.skin(state.matrices)[mesh.triangles])
    if found is None:
        return None
    t, triangle, share = found
    corner = int(mesh.triangles[triangle, share.argmax()])
    bone = mesh.palette_bone[mesh.slots[corner, mesh.weights[corner].argmax()]]
    return t, figure.bones[int(bone)].name


def surface_at(figure: Figure, assets: AssetStore, state: FigureState, origin: Array, direction: Array) -> float | None:
    """How far along a ray the skin of a figure is that one sees, m; None if it meets none."""
    found = _skin(figure, assets, state, origin, direction)
    return found[0] if found is not None else None


def _near(bones: Array, origin: Array, direction: Array) -> bool:
    """Whether a ray may come to a figure with bones at places (B, 3): skinning all figures for every click would take long."""
    middle = 0.5 * (bones.min(axis=0) + bones.max(axis=0))
    reach = (0.5 + AROUND) * float(np.linalg.norm(np.ptp(bones, axis=0))) + 0.1
    return bool(np.isfinite(rays.spheres((origin - middle)[None], direction[None], np.array([reach]))[0]))
