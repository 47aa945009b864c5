"""What leaves the program, in no format yet: figures with their motion, which a writer of any format takes."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from artuline.core.bake.bake import Baked, BakeWish, add_layer, bake_figure
from artuline.core.bake.merged import Rests, merged_clip, rested
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import root_at
from artuline.core.motion.skeleton import rigid
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Scene

NONE = Rests()


@dataclass(frozen=True, eq=False)
class Delivered:
    """A figure with its mesh, if it has one, and its animations by name; ``root``: places (m) and rotations of its origin over the
    seconds of every animation, where it has a track or rides on another. ``physics``: its bodies and joints leave too, in formats that hold them.
    """

    figure: Figure
    mesh: Mesh | None
    clips: dict[str, Clip]
    root: tuple[Array, Array, Array] | None = None
    physics: bool = False


@dataclass(frozen=True, eq=False)
class Delivery:
    """Figures, the frames per second of their animations, the take that they are of, if there is one, and whether they go into one file."""

    figures: tuple[Delivered, ...]
    rate: float
    take: Take | None = None
    together: bool = False


def delivery(
    scene: Scene,
    assets: AssetStore,
    figures: list[str],
    together: bool = False,
    rests: Rests = NONE,
    physics: bool = False,
) -> Delivery:
    """Some of a scene's figures, each with its clip and layers merged into one animation over the scene's range; ``rests``: with its rest
    pose before or after it.
    """
    rests.check()
    found = []
    for f in (scene.figure(i) for i in figures):
        mesh = Mesh.from_arrays(assets[f.asset]) if f.asset else None
        name = f"{f.clip} baked" if f.clip else "baked"
        clip = merged_clip(scene, assets, f)
        if rests != NONE:
            clip = rested(scene, f, clip, rests)
        found.append(Delivered(f, mesh, {name: clip}, _root(scene, assets, f, rests.lead), physics))
    ref = scene.active_take()
    take = assets.decoded(ref.asset, Take.from_arrays) if ref is not None else None
    return Delivery(tuple(found), scene.rate, take, together)


def _root(scene: Scene, assets: AssetStore, figure: Figure, lead: int) -> tuple[Array, Array, Array] | None:
    """Seconds (F,), places (F, 3) and rotations (F, 4) of a figure that has a track or rides, on every frame of the range, which begins ``lead`` frames later."""
    if not (figure.track or figure.mounts):
        return None
    frames = np.arange(scene.start, scene.end + 1, dtype=float)
    p, q = rigid(root_at(scene, assets, figure, frames))
    return (frames - scene.start + lead) / scene.rate, p, rotation.make_continuous(q)


def company(scene: Scene, figure: str) -> list[str]:
    """A figure with all that it holds or that holds it, at any time and over any number of hands; itself first."""
    found = {figure}
    before: set[str] = set()
    while found != before:
        before = set(found)
        for f in scene.figures:
            held = {m.figure for m in f.mounts}
            if f.id in found or held & found:
                found |= {f.id} | held
    # what only stands there, without a mesh of its own, would be an empty node
    bare = {f.id for f in scene.obstacles if f.asset is None}
    return [figure, *(f.id for f in scene.in_order if f.id in found - bare and f.id != figure)]


def bake_take(
    scene: Scene,
    assets: AssetStore,
    wish: BakeWish,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> tuple[Scene, dict[str, Baked]]:
    """The scene with its shown take as layers on every figure that physics moves, and what each came to, by figure id.

    Raises ArtulineError if there is no take, or if it moves no figure.
    """
    ref = scene.active_take()
    if ref is None:
        raise ArtulineError("the scene has no take to bake", remedy="Run it first.")
    take = assets.decoded(ref.asset, Take.from_arrays)
    results: dict[str, Baked] = {}
    failed = None
    for f in (f for f in scene.figures if f.id in take.poses and f.bodies and not f.stays):
        try:
            results[f.id] = bake_figure(scene, assets, f, take, wish, progress)
        except ArtulineError as error:
            failed = error
    if not results:
        raise failed or ArtulineError("the take moves no figure", remedy="Run the scene again.")
    for figure, baked in results.items():
        scene = add_layer(scene, assets, figure, baked, f"{ref.name} baked", ref.id)
    return scene, results
