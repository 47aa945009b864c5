"""Groups and lanes at random: no body of a figure jumps, whatever overlaps."""

import tempfile
from pathlib import Path

import numpy as np
from tests import foreign

from artuline.core.motion.skeleton import skeleton_of
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Lane, Scene
from artuline.core.setup.materials import body_mass
from artuline.core.setup.ragdoll import set_up
from artuline.demo.scenes import demo_scene
from artuline.formats.importing import add_figure

FINE = 8  # frames for one of the scene's
MOST_RATE = 960.0  # a second; what seems to jump is looked at again with frames as short as these
END = 90


def figures():
    """Scenes of one figure each: of the demo, and two of strangers' with other units, names and shapes."""
    assets = AssetStore()
    boom = demo_scene("boom", assets)
    yield "deckhand", boom.changed(figures=boom.figures[:1], end=END, rules=(), links=(), pushes=()), assets
    for name, write in (("walker in cm", foreign.write_centimetre_walker), ("crawler", foreign.write_crawler)):
        with tempfile.TemporaryDirectory() as folder:
            path, assets = Path(folder) / "figure.glb", AssetStore()
            write(path)
            scene, f, _ = add_figure(Scene(), assets, path)
        yield name, edit.map_figure(scene, f.id, lambda x, a=assets: set_up(x, a)).changed(end=END, start=0), assets


def lane(rng):
    """An interval anywhere, of any ramps; now and then one that is off, on throughout, or comes twice."""
    a, b = np.sort(rng.uniform(2.0, END - 2.0, 2))
    kind = rng.integers(10)
    if kind == 0:
        return Lane(rest=float(rng.integers(2)))
    ramps = rng.choice([0.0, 0.0, 1.0, 3.0, 12.0], 2)
    made = edit.interval_lane(round(a), round(max(b, a + 2)), *ramps)
    if kind == 1:
        c = min(made.keys[-1].frame + 3.0, END)
        made = Lane(keys=(*made.keys, *edit.interval_lane(c, c + 12.0, 2.0, 0.0).keys))
    return made


def pair(scene, rng):
    """The scene with two groups at random: the whole figure or a part, and another part."""
    f = scene.figures[0]
    bones = [b.bone for b in f.bodies]
    scene = edit.figure(scene, f.id, groups=())
    for start in (None if rng.random() < 0.7 else str(rng.choice(bones)), str(rng.choice(bones))):
        scene = edit.hand_over(scene, f.id, start, 10, 20)
        last = next(g for g in scene.figures[0].groups if g.begins_at(start))
        tone = Lane(rest=float(rng.choice([0.0, 0.0, 0.3, 1.0])))
        scene = edit.group(
            scene,
            f.id,
            last.id,
            handover=lane(rng),
            tone=tone,
            in_world=bool(start and rng.random() < 0.15),
        )
    return scene


def finer(scene, times):
    """The same scene at ``times`` its rate."""

    def spread(x):
        return Lane(keys=tuple(k.changed(frame=k.frame * times) for k in x.keys), rest=x.rest)

    f = scene.figures[0]
    groups = tuple(g.changed(handover=spread(g.handover)) for g in f.groups)
    scene = edit.figure(scene, f.id, groups=groups, clip_start=f.clip_start * times)
    return scene.changed(
        rate=scene.rate * times,
        start=scene.start * times,
        end=scene.end * times,
        substeps=max(scene.substeps // times, 2),
    )


def jump(x):
    """The largest step in positions (F, n, 3) that no change of speed explains, m, with its row and column: how far a step is from all between the one before
    and the one after it, where that is more than twice what speeds change by around it (who is hit is hit on).
    """
    d = np.diff(x, axis=0)
    a, b, step = d[1:-3], d[3:-1], d[2:-2]
    along = b - a
    share = np.einsum("fnc,fnc->fn", step - a, along) / np.maximum(np.einsum("fnc,fnc->fn", along, along), 1e-18)
    off = np.linalg.norm(step - a - np.clip(share, 0.0, 1.0)[..., None] * along, axis=2)
    around = np.max([np.linalg.norm(v, axis=2) for v in (along, a - d[:-4], d[4:] - b)], axis=0)
    off = np.where(off > 2.0 * around, off, 0.0)
    row, column = np.unravel_index(off.argmax(), off.shape)
    return float(off[row, column]), int(row) + 2, int(column)


def shown(scene, take):
    """Where every bone is shown (F, B, 3)."""
    f = scene.figures[0]
    return skeleton_of(f).global_matrices(take.poses[f.id], take.root(f))[..., :3, 3]


def largest(scene, assets):
    """The largest step of any bone that is shown and that no hit explains, m, the frame, the bone, and the impulse of contacts around it, N s: looked at with short frames, and where it
    seems more than a millimetre with shorter ones: what is hit changes its speed as much in them, and its place less.
    """
    for times in (FINE, int(MOST_RATE / scene.rate)):
        made = finer(scene, times)
        take = run(made, assets)
        off, row, bone = jump(shown(made, take))
        hit = float(take.contact[max(row - 1, 0) : row + 3].max())
        # what a hit makes of a tenth of the figure within a frame
        mass = sum(body_mass(b) for b in scene.figures[0].bodies)
        off = max(off - 10.0 * hit / (mass * made.rate), 0.0)
        if off < 1e-3:
            break
    return off, row / times, scene.figures[0].bones[bone].name, hit


def lanes(count=500, seed=0):
    for k, (name, base, assets) in enumerate(figures()):
        found = [(*largest(pair(base, np.random.default_rng((seed, n))), assets), n) for n in range(k, count, 3)]
        off, frame, bone, hit, n = max(found)
        over = sum(x[0] > 1e-3 for x in found)
        what = f"{name}, {len(found)} pairs: largest unexplained step"
        words = f"{1e3 * off:.2f} mm ({bone} at frame {frame:.1f} of pair {n}, hit by {hit:.1f} N s); {over} over"
        yield what, words, "1 mm; 0", over == 0


MEASUREMENTS = {"pairs of lanes": lanes}
