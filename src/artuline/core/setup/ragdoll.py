"""The one action: bodies, joints, and which of them do not collide."""

import numpy as np

from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.physics.world import BodySpec, World
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.edit import map_figure
from artuline.core.scene.model import Figure, Scene
from artuline.core.setup.fit import fit_bodies
from artuline.core.setup.joints import propose_joints


def resting_overlaps(figure: Figure) -> tuple[tuple[str, str, float], ...]:
    """Pairs of bodies, not joined to each other, whose shapes overlap in the rest pose; depth in metres."""
    p, q = rigid(rest_matrices(figure))
    specs = []
    for body in figure.bodies:
        b = figure.bone_index[body.bone]
        mass = 1.0
        specs.append(BodySpec(body.shapes, mass=mass, inertia=np.ones(3), position=p[b], rotation=q[b]))
    index = {b.id: i for i, b in enumerate(figure.bodies)}
    joined = {(index[j.parent], index[j.child]) for j in figure.joints}
    depths: dict[tuple[int, int], float] = {}
    for a, b, gap in World(specs, off=joined).overlaps():
        key = (min(a, b), max(a, b))
        depths[key] = max(depths.get(key, 0.0), -gap)
    return tuple((figure.bodies[a].id, figure.bodies[b].id, d) for (a, b), d in sorted(depths.items()) if d > 0.0)


def set_up(figure: Figure, assets: AssetStore, density: float = 1000.0) -> Figure:
    """The figure with bodies under its skin, joints with limits, and resting overlaps that do not collide."""
    bodies = fit_bodies(figure, assets, density)
    groups = figure.groups
    bare = figure.changed(bodies=bodies, joints=(), pairs_off=(), groups=groups)
    made: Figure = bare.changed(joints=propose_joints(bare, assets, bodies))
    return made.changed(pairs_off=tuple((a, b) for a, b, _ in resting_overlaps(made)))


def set_up_in_scene(scene: Scene, figure_id: str, assets: AssetStore) -> Scene:
    """``set_up`` as a scene edit."""
    return map_figure(scene, figure_id, lambda f: set_up(f, assets))
