"""What leaves the program, in no format yet: figures with their motion, which a writer of any format takes."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from artuline.core.bake.bake import Baked, BakeWish, add_layer, bake_figure, moved
from artuline.core.bake.merged import Rests, bent, merged_clip, quarters, rested
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import root_at
from artuline.core.motion.skeleton import rigid
from artuline.core.run.take import Take
from artuline.core.run.take_now import take_in
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Scene, TakeRef

NONE = Rests()
#: Which figures are baked or leave: one, with what it holds and what holds it, all that are alike, all.
Which = Literal["this", "held", "alike", "all"]


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
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> Delivery:
    """Some of a scene's figures, each with its clip and layers merged into one animation over the scene's range; ``rests``: with its rest
    pose before or after it. ``progress(done, in all)`` may raise, which ends it.
    """
    rests.check()
    found = []
    for k, f in enumerate(scene.figure(i) for i in figures):
        progress(k, len(figures))
        mesh = Mesh.from_arrays(assets[f.asset]) if f.asset else None
        name = f"{f.clip} baked" if f.clip else "baked"
        clip = merged_clip(scene, assets, f)
        if rests != NONE:
            clip = rested(scene, f, clip, rests)
        found.append(Delivered(f, mesh, {name: clip}, _root(scene, assets, f, rests.lead), physics))
    ref = scene.active_take()
    take = take_in(scene, assets, ref) if ref is not None else None
    return Delivery(tuple(found), scene.rate, take, together)


def _root(scene: Scene, assets: AssetStore, figure: Figure, lead: int) -> tuple[Array, Array, Array] | None:
    """Seconds (F,), places (F, 3) and rotations (F, 4) of a figure that has a track or rides, on every frame of the range, which begins ``lead`` frames later, and
    between two where it does not go straight.
    """
    if not (figure.track.frames or figure.mounts):
        return None
    frames = quarters(scene.start, scene.end)
    p, q = rigid(root_at(scene, assets, figure, frames))
    q = rotation.make_continuous(q)
    kept = bent(p, False) | bent(q, True)
    return (frames[kept] - scene.start + lead) / scene.rate, p[kept], q[kept]


def company(scene: Scene, *figures: str) -> list[str]:
    """Figures with all that they hold or that holds them, at any time and over any number of hands; themselves first."""
    found = set(figures)
    before: set[str] = set()
    while found != before:
        before = set(found)
        for f in scene.figures:
            held = {m.figure for m in f.mounts}
            if f.id in found or held & found:
                found |= {f.id} | held
    # what only stands there, without a mesh of its own, would be an empty node
    bare = {f.id for f in scene.obstacles if f.asset is None}
    return [*figures, *(f.id for f in scene.in_order if f.id in found - bare - set(figures))]


def several(scene: Scene, figure: str, which: Which) -> list[str]:
    """A figure alone, with what it holds and what holds it, with all that are alike and what those hold, or all figures; itself first."""
    if which == "this":
        return [figure]
    if which == "held":
        return company(scene, figure)
    if which == "alike":
        first = scene.figure(figure).like or figure
        same = [f.id for f in scene.figures if first in (f.id, f.like) and f.id != figure]
        return company(scene, figure, *same)
    return company(scene, figure, *(f.id for f in scene.in_order if not f.obstacle and f.id != figure))


def bake_figures(
    scene: Scene,
    assets: AssetStore,
    take: Take,
    figures: Sequence[str],
    wish: BakeWish,
    progress: Callable[[int, int], None] = lambda done, total: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> dict[str, Baked]:
    """Fit the take's motion of those of some figures (ids) that physics moves in it, by figure id.

    Raises ArtulineError if it moves none of them, with the reason of the first, CancelledError on request.
    """
    which = [x for x in figures if moved(take, x)] or list(figures[:1])
    parts = len(which)

    def told(k: int) -> Callable[[int, int], None]:
        # of one figure its curves are counted, of many the figures
        return progress if parts == 1 else lambda done, total: progress(k, parts)

    return {x: bake_figure(scene, assets, scene.figure(x), take, wish, told(k), cancelled) for k, x in enumerate(which)}


def with_baked(
    scene: Scene,
    assets: AssetStore,
    ref: TakeRef,
    baked: Mapping[str, Baked],
    mode: Literal["replace", "add"] = "replace",
) -> Scene:
    """The scene with what was baked of a take as the topmost layer of every figure (by id)."""
    for figure, found in baked.items():
        scene = add_layer(scene, assets, figure, found, f"{ref.name} baked", ref.id, mode)
    return scene


def bake_take(
    scene: Scene,
    assets: AssetStore,
    wish: BakeWish,
    progress: Callable[[int, int], None] = lambda done, total: None,
    figures: Sequence[str] = (),
) -> tuple[Scene, dict[str, Baked]]:
    """The scene with its shown take as layers on every figure that physics moves, or on those of some figures (ids), and what each came to, by figure id.

    Raises ArtulineError if there is no take, or if it moves no figure.
    """
    ref = scene.active_take()
    if ref is None:
        raise ArtulineError("the scene has no take to bake", remedy="Run it first.")
    take = take_in(scene, assets, ref)
    mine = list(figures) or [f.id for f in scene.figures if f.id in take.poses and f.bodies and not f.stays]
    if not mine:
        raise ArtulineError("the take moves no figure", remedy="Run the scene again.")
    baked = bake_figures(scene, assets, take, mine, wish, progress)
    return with_baked(scene, assets, ref, baked), baked
