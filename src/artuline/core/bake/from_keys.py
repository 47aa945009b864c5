"""Limbs of keyed motion put on goals: the same motion, on a layer that is posed by them."""

import numpy as np

from artuline.core.bake.bake import Baked, BakeWish, Baking
from artuline.core.bake.fitter import Fitter
from artuline.core.errors import ArtulineError
from artuline.core.motion.goals import led
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.skeleton import skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene


def limbs_from_keys(scene: Scene, assets: AssetStore, figure: Figure, wish: BakeWish) -> Baked:
    """Goals and directions for the limbs of a figure, fitted to its keys with all layers over the scene's range; the turn of lower bones stays in the keys below.

    Raises ArtulineError if it has no limbs.
    """
    wish.check()
    if not figure.goals:
        raise ArtulineError(f"{figure.name} has no limbs", remedy="Propose them first, under Where motion goes.")
    frames = np.arange(scene.start, scene.end + 1)
    pose = keyed_pose(scene, assets, figure, frames.astype(float))
    root = root_at(scene, assets, figure, frames.astype(float))
    limbs = tuple(led(figure, x) for x in figure.goals)
    turned = sorted({b for x in limbs for b in (x.upper, x.end)})
    points = [(b, np.zeros(3)) for x in limbs for b in (x.lower, x.end)]
    fitter = Fitter(
        skeleton_of(figure), root, pose, turned, [], np.zeros(0, int), points, wish.step, scene.start, limbs, 2 if wish.between else 1
    )  # fmt: skip
    fitter.fit_all(wish.degrees, wish.millimetres, lambda done: None, lambda: False, wish.shared)
    curves = tuple(n for x in figure.goals for n in x.curves)
    return Baking(fitter, frames, scene.rate, (0, 0), curves).result()
