"""What a ray of the view meets: bodies by their shapes, else the skin; and obstacles."""

from collections.abc import Sequence

import numpy as np

from artuline.core.geometry import rays, rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import obstacle_motion
from artuline.core.motion.skeleton import rigid
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Obstacle, Scene
from artuline.view.stage import FigureState, mesh_of

AROUND = 0.5  # share of a figure's height by which its skin may reach beyond its bones


def pick(
    scene: Scene, assets: AssetStore, states: Sequence[FigureState], origin: Array, direction: Array
) -> tuple[str, str, Array] | None:
    """The first figure, bone and place (3,) that a ray, origin and unit direction (3,), meets: bodies before any skin."""
    return _pick_body(scene, states, origin, direction) or _pick_skin(scene, assets, states, origin, direction)


def _pick_body(
    scene: Scene, states: Sequence[FigureState], origin: Array, direction: Array
) -> tuple[str, str, Array] | None:
    whose: list[tuple[str, str]] = []
    shapes, places, turns = [], [], []
    for figure, state in zip(scene.figures, states):
        if not figure.bodies:
            continue
        bones = [figure.bone_index[b.bone] for b in figure.bodies for _ in b.shapes]
        p, q = rigid(state.matrices[bones])
        places.append(p)
        turns.append(q)
        shapes += [s for b in figure.bodies for s in b.shapes]
        whose += [(figure.id, b.bone) for b in figure.bodies for _ in b.shapes]
    if not shapes:
        return None
    t = rays.shapes(origin, direction, shapes, np.concatenate(places), np.concatenate(turns))
    i = int(t.argmin())
    return (*whose[i], origin + t[i] * direction) if np.isfinite(t[i]) else None


def _pick_skin(
    scene: Scene, assets: AssetStore, states: Sequence[FigureState], origin: Array, direction: Array
) -> tuple[str, str, Array] | None:
    best: tuple[float, str, str] | None = None
    for figure, state in zip(scene.figures, states):
        mesh = mesh_of(figure, assets)
        if mesh is None or not _near(state.matrices[:, :3, 3], origin, direction):
            continue
        found = rays.triangles(origin, direction, mesh.skin(state.matrices)[mesh.triangles])
        if found is not None and (best is None or found[0] < best[0]):
            t, triangle, share = found
            corner = int(mesh.triangles[triangle, share.argmax()])
            best = t, figure.id, _bone_of(figure, mesh.palette_bone[mesh.slots[corner, mesh.weights[corner].argmax()]])
    return (best[1], best[2], origin + best[0] * direction) if best is not None else None


def _bone_of(figure: Figure, index: int) -> str:
    return figure.bones[int(index)].name


def _near(bones: Array, origin: Array, direction: Array) -> bool:
    """Whether a ray may come to a figure with bones at places (B, 3): skinning all figures for every click would take long."""
    middle = 0.5 * (bones.min(axis=0) + bones.max(axis=0))
    reach = (0.5 + AROUND) * float(np.linalg.norm(np.ptp(bones, axis=0))) + 0.1
    return bool(np.isfinite(rays.spheres((origin - middle)[None], direction[None], np.array([reach]))[0]))


def pick_obstacle(
    scene: Scene, assets: AssetStore, frame: float, origin: Array, direction: Array
) -> tuple[Obstacle, float] | None:
    """The first obstacle that a ray meets, and how far along it."""
    best: tuple[Obstacle, float] | None = None
    for o in scene.obstacles:
        p, q = obstacle_motion(o, np.array([frame]))
        if o.shape.asset is not None:
            back = rotation.conjugate(rotation.multiply(q[0], np.array(o.shape.rotation)))
            start = rotation.rotate(back, origin - p[0] - rotation.rotate(q[0], np.array(o.shape.position)))
            arrays = assets[o.shape.asset]
            found = rays.triangles(start, rotation.rotate(back, direction), arrays["vertices"][arrays["triangles"]])
            t = found[0] if found is not None else np.inf
        else:
            t = float(rays.shapes(origin, direction, [o.shape], p, q)[0])
        if np.isfinite(t) and (best is None or t < best[1]):
            best = o, t
    return best
