"""Where a new figure can stand without standing in another one."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.places import own_root
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Scene
from artuline.core.setup.skin import surface_points

WIDE = 2.0  # metres from which on an obstacle is ground or wall
APART = 0.25  # metres between two figures that stand beside each other


def _extent(scene: Scene, assets: AssetStore, figure: Figure) -> Array:
    """Lowest and highest corner (2, 3) of a figure at rest and at the scene's first frame, m."""
    now = keyed_matrices(scene, assets, figure, np.array([float(scene.start)]))[0]
    found = []
    for matrices in (rest_matrices(figure), now):
        mesh = assets.decoded(figure.asset, Mesh.from_arrays) if figure.asset is not None else None
        found.append(mesh.skin(matrices) if mesh is not None else matrices[:, :3, 3])
    points = np.concatenate(found)
    return np.stack([points.min(axis=0), points.max(axis=0)])


def _reach(obstacle: Figure) -> Array:
    """Lowest and highest corner (2, 3) of the shapes of an obstacle where it begins, m."""
    p, q = rigid(own_root(obstacle, np.array([obstacle.track.frames[0] if obstacle.track.frames else 0.0]))[0])
    points = [
        p + rotation.rotate(q, surface_points(s, 60)) for b in obstacle.bodies for s in b.shapes if s.kind != "mesh"
    ]
    found = np.concatenate(points) if points else p + np.array([[-1e3] * 3, [1e3] * 3])
    return np.stack([found.min(axis=0), found.max(axis=0)])


def beside(scene: Scene, assets: AssetStore, figure: Figure) -> tuple[float, float, float]:
    """A place for a figure that is not in the scene yet: its own, or if another figure stands there, to the side of all of them."""
    others = [_extent(scene, assets, f) for f in scene.cast if f.id != figure.id]
    # what stands in the way, too; a floor or a long wall is none
    others += [x for x in map(_reach, scene.obstacles) if float(np.ptp(x[:, [0, 2]], axis=0).max()) < WIDE]
    mine = _extent(scene, assets, figure)
    across = [0, 2]
    meets = any((mine[0, across] < o[1, across]).all() and (mine[1, across] > o[0, across]).all() for o in others)
    x, y, z = figure.position
    if meets:
        x += max(float(o[1, 0]) for o in others) + APART - float(mine[0, 0])
    return round(x, 2), y, z
