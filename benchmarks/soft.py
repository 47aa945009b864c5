"""Soft parts: a bar against the beam equation at several numbers of clusters, volume under a load, what the skin does in the demo takes, edges, and what dividing costs."""

import time

import numpy as np
from tests.test_soft import FIRST, beam, free_block, held_bar, tip_falls

from artuline.core.run.record import run
from artuline.core.run.softness import softness
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import MotionKey, Shape, Soft, obstacle
from artuline.core.setup.soft import add_soft, mask, modulus, remade_soft, swings
from artuline.core.setup.soft_skin import region_of_bones
from artuline.demo.scenes import demo_scene


def soft_bar():
    """Sag of the tip and first frequency of a bar of 1 to 64 clusters, against the beam equation; then at other substep counts, rates, masses, sizes."""
    rows = [(n, {}) for n in (1, 2, 4, 8, 16, 32, 64)]
    rows += [(8, {"substeps": 2}), (8, {"substeps": 40}), (8, {"rate": 120.0}), (8, {"density": 20.0})]
    rows += [(8, {"size": 0.1, "stretch": 20.0}), (8, {"size": 5.0, "stretch": 400.0})]
    for count, what in rows:
        assets = AssetStore()
        scene = held_bar(count, assets, **what)
        part = scene.figures[0].softs[0]
        f = beam(part, what.get("size", 1.0))
        sag = tip_falls(scene, assets, run(scene, assets)) / (FIRST / 8.0 * 9.81 / (2.0 * np.pi * f) ** 2)
        first = swings(scene.figures[0], assets, part)[0] / f
        words = f"{part.count} clusters" + "".join(f", {k} {v:g}" for k, v in what.items())
        close = part.count < 4 or (abs(sag - 1.0) < 0.1 and abs(first - 1.0) < 0.1)
        yield words, f"{sag:.3f}, {first:.3f}", "sag and frequency of the beam's", close


def jelly_volume():
    """A block under a lid of twice its weight: the share of its volume that it loses, against what is stated, and without a pressure."""
    for keeps in (0.05, 0.08, 0.12):
        assets = AssetStore()
        scene = free_block(assets, stretch=0.9, keeps=keeps, ratio=0.5)
        f = scene.figures[0]
        weight = 2.0 * sum(f.body_of[c].mass for c in f.softs[0].clusters)
        key = MotionKey(frame=0, position=(0.15, 0.325, 0.0))
        lid = obstacle("lid", Shape(kind="box", half=(0.4, 0.02, 0.4)), (key,), friction=0.0)
        lid = lid.changed(bodies=tuple(b.changed(mass=weight) for b in lid.bodies))
        scene = edit.hand_over(edit.scene(scene, figures=(f, lid)), "lid", None, 0, 400, 0, 0)
        x = softness(f, assets, run(scene, assets), f.softs[0])
        bare = 3.0 * 9.81 * f.softs[0].density * 0.3 / modulus(f.softs[0])
        lost = -float(x.swollen[-1])
        yield f"stated {keeps:g}; without a pressure {bare:.2f}", f"{lost:.3f}", "lost at rest", lost < 1.1 * keeps
        yield (
            "when the lid lands; inside out at rest",
            f"{x.lost:.3f}; {x.inverted[-1]}",
            "shown; 0",
            not x.inverted[-1],
        )


def soft_takes():
    """The demo takes: volume, triangles inside out on any frame, and the edge."""
    for name in ("vest", "jelly"):
        assets = AssetStore()
        scene = demo_scene(name, assets)
        began = time.perf_counter()
        take = run(scene, assets)
        cost = (time.perf_counter() - began) / (scene.end / scene.rate)
        for f in scene.figures:
            for s in f.softs:
                x = softness(f, assets, take, s)
                out = int(x.inverted.max())
                yield f"{name}, {s.id}: inside out; volume lost at most", f"{out}; {x.lost:.2f}", "0; shown", not out
                yield f"{name}, {s.id}: edge", _edge(x), "mm, degrees; shown", True
        yield f"{name}: cost", f"{cost:.2f}", "of real time; shown", True


def _edge(x):
    return f"{1000 * x.step:.1f} mm, {np.degrees(x.bend):.1f} of {1000 * x.moved:.0f} mm"


def soft_edge():
    """The head's skin, soft, while the boom strikes: the largest step across the edge where it is cut from the rest, by how far it fades."""
    assets = AssetStore()
    scene = demo_scene("boom", assets)
    on = region_of_bones(scene.figure("deckhand"), assets, frozenset({"head"}))
    for fall in (0.0, 0.05, 0.1, 0.15):
        s = Soft(id="soft head", region=mask(assets, on), bone="head", count=12, fall=fall, stretch=3.0, gravity=0.3, gives=0.4)  # fmt: skip
        made = add_soft(edit.scene(scene, end=84), assets, "deckhand", s)
        f = made.figure("deckhand")
        yield f"fades over {100 * fall:.0f} cm", _edge(softness(f, assets, run(made, assets), f.softs[0])), "mm, degrees; shown", True  # fmt: skip


def soft_cost():
    """Seconds to divide anew and to tune, and the share of real time that a take costs, by the number of clusters."""
    for count in (10, 20, 40, 80, 120):
        assets = AssetStore()
        scene = demo_scene("jelly", assets)
        f = next(f for f in scene.figures if f.softs)
        began = time.perf_counter()
        scene = remade_soft(scene, assets, f.id, "soft", f.softs[0].changed(count=count))
        divided = time.perf_counter()
        scene = remade_soft(scene, assets, f.id, "soft", scene.figure(f.id).softs[0].changed(stretch=1.7))
        tuned = time.perf_counter()
        run(scene, assets)
        cost = (time.perf_counter() - tuned) / (scene.end / scene.rate)
        words = f"{divided - began:.2f} s, {tuned - divided:.2f} s, {cost:.2f}"
        yield f"{count} clusters: divided, tuned, run", words, "of real time; shown", True


MEASUREMENTS = {
    "soft bar": soft_bar,
    "jelly volume": jelly_volume,
    "soft takes": soft_takes,
    "soft edge": soft_edge,
    "soft cost": soft_cost,
}
