"""Features that meet: scenes at random of two to six of them."""

import numpy as np
import pytest
from benchmarks.contradictions import block, tried
from benchmarks.seams import faults_of, scene_at

from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene, Shape, Strand, StrandPoint
from artuline.core.setup.strand import add_strand


@pytest.mark.parametrize("substeps", [2, 10])
def test_nothing_stands_still_or_is_thrown_away_whatever_meets(substeps):
    for seed in range(20, 34):
        scene, assets, names = scene_at(seed)
        found = [x for x in faults_of(scene.changed(substeps=substeps), assets) if "cost" not in x]
        assert not found, (seed, names, found)


def test_a_scene_comes_by_its_seed_alone():
    one, _, names = scene_at(7)
    other, _, again = scene_at(7)
    assert names == again and one == edit.scene(other) and np.isfinite(one.rate)


@pytest.mark.parametrize("kind", ["rope", "cable"])
@pytest.mark.parametrize("substeps", [2, 10, 40])
@pytest.mark.parametrize("size", [0.12, 0.4])
def test_what_begins_inside_of_another_comes_out_without_being_jammed(kind, substeps, size):
    # a line that is held above, or at both ends, and hangs through a thing that stands
    points = (
        StrandPoint(position=(0.05 * size, 1.0 + 2.0 * size, 0.1 * size), hold="pinned"),
        StrandPoint(position=(-0.1 * size, 1.0 - 0.4 * size, 0.0)),
    )
    for held in (False, True):
        thing = block("bollard", (0.0, 1.0, 0.0))
        shape = Shape(kind="box", half=(0.4 * size, 0.5 * size, 0.3 * size))
        thing = thing.changed(bodies=(thing.bodies[0].changed(shapes=(shape,)),))
        scene = edit.add_figure(Scene(ground=None, end=40, substeps=substeps), thing)
        ends = (points[0], points[1].changed(hold="pinned")) if held else points
        scene, assets = add_strand(scene, AssetStore(), Strand(points=ends, kind=kind, count=20, slack=0.1)), None
        (scene, _), assets = scene, AssetStore()
        take, costs, _ = tried(scene, assets)
        assert not take.held and costs.max() <= 12.0 * max(np.median(costs), substeps)
        steps = np.linalg.norm(np.diff(take.position, axis=0), axis=2)
        # it goes as fast as what falls and what is lifted out, and comes to rest
        assert steps.max() < 0.25 and steps[-5:].max() < 0.06
