"""The same scene with its figures in another order is the same motion, within rounding, until chaos."""

import itertools

import numpy as np

from artuline.core.run.build import build
from artuline.core.run.stepper import Chunk, Stepper
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Group, Lane, MotionKey, Scene, Shape, obstacle
from benchmarks.seams import figure_of

SHAPES = {
    "box": Shape(kind="box", half=(0.1, 0.15, 0.2)),
    "ball": Shape(kind="sphere", radius=0.12),
    "rod": Shape(kind="capsule", radius=0.08, half_length=0.2),
}
FALLING = (Group(id="free", name="whole figure", handover=Lane(rest=1.0)),)
#: What falls: each onto the one before.
HEAPS = (
    ("box", "box"),
    ("rod", "rod"),
    ("box", "box", "box"),
    ("box", "rod", "ball"),
    ("box", "box", "rod", "rod", "ball"),
)


def falling(kinds: tuple[str, ...], seed: int = 3) -> list[Figure]:
    """Things that are askew, one above the other."""
    rng, made = np.random.default_rng(seed), []
    for k, kind in enumerate(kinds):
        turn = rng.normal(size=4)
        key = MotionKey(
            frame=0,
            position=(0.13 * k * (k % 2), 0.5 + 0.45 * k, 0.02 * k),
            rotation=tuple((turn / np.linalg.norm(turn)).tolist()),
        )
        figure = obstacle(f"{kind} {k}", SHAPES[kind], (key,))
        made.append(figure.changed(bodies=(figure.bodies[0].changed(mass=1.0 + k),), groups=FALLING))
    return made


def moved(figures: list[Figure], assets: AssetStore, frames: int, substeps: int) -> np.ndarray:
    """Where all bodies are at each frame, figure by figure by their names, (frames, bodies, 3)."""
    scene = Scene(rate=24, substeps=substeps, end=frames)
    for figure in figures:
        scene = edit.add_figure(scene, figure)
    built = build(scene, assets)
    stepper, chunk, seen = Stepper(built), Chunk(built, 0, frames), []
    rows = np.concatenate([part.rows for part in sorted(built.parts, key=lambda p: p.figure.id)])
    for k in range(frames):
        stepper.step(chunk, k)
        seen.append(built.world.bodies["x"][rows].copy())
    return np.array(seen)


def apart(
    figures: list[Figure], assets: AssetStore, frames: int = 20, substeps: int = 10, orders: int = 10
) -> np.ndarray:
    """How far bodies come from where they are in the order that is given, in others; metres, (frames,)."""
    first, worst = None, np.zeros(frames)
    rng = np.random.default_rng(1)
    every = list(itertools.permutations(range(len(figures))))
    others = [every[k] for k in rng.permutation(len(every) - 1)[: orders - 1] + 1]
    for order in (every[0], *others):
        x = moved([figures[k] for k in order], assets, frames, substeps)
        first = x if first is None else first
        worst = np.maximum(worst, np.abs(x - first).max(axis=(1, 2)))
    return worst


def orders():
    for kinds in HEAPS:
        # the first touch at frame 8 or so; what is left of rounding grows tenfold a frame in a heap
        frames = 20 if len(kinds) < 4 else 14
        worst = max(apart(falling(kinds), AssetStore(), frames, s).max() for s in (4, 10, 40))
        yield (
            f"{', '.join(kinds)}: ten orders, {frames} frames, 4, 10, 40 substeps",
            f"{worst:.1e} m",
            "1e-6",
            worst < 1e-6,
        )
    for kind in range(3):
        scene, assets = figure_of(kind)
        figure = scene.figures[0].changed(groups=FALLING)
        worst = apart([figure, *falling(("box", "rod", "box"))], assets, 9).max()
        yield f"figure {kind} below three things, 9 frames", f"{worst:.1e} m", "1e-6", worst < 1e-6


MEASUREMENTS = {"order of figures": orders}
