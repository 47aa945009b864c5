"""Features that meet: scenes at random of two to six of them."""

import numpy as np
import pytest
from benchmarks.seams import faults_of, scene_at

from artuline.core.scene import edit


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
