"""Nothing that is edited after a run breaks what was made before."""

import numpy as np
import pytest
from benchmarks.edits_after import trial
from PySide6.QtWidgets import QApplication

from artuline.core.checks.checks import check
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.run.record import keep_take, run
from artuline.core.run.take_now import take_in
from artuline.core.scene import edit
from artuline.core.setup.added import grown, removed
from artuline.demo.scenes import demo_scene


@pytest.fixture(scope="module")
def with_take(boom):
    scene, assets = boom
    scene = edit.scene(scene, end=20)
    return keep_take(scene, assets, run(scene, assets), scene.settings_fingerprint()), assets


def test_a_take_is_seen_with_the_bones_that_there_are_now(with_take):
    scene, assets = with_take
    f, ref = scene.figures[0], scene.active_take()
    before = take_in(scene, assets, ref)
    middle = rest_matrices(f)[f.bone_index["hips"], :3, 3]
    more = grown(scene, assets, f.id, "pad", middle, middle + np.array([0.0, -0.05, 0.2]), parent="hips")
    shown, now = take_in(more, assets, ref), more.figure(f.id)
    # all that there was is as it was, and what came since rests on it
    for b in f.bones:
        i, k = f.bone_index[b.name], now.bone_index[b.name]
        np.testing.assert_array_equal(shown.poses[f.id].rotation[:, k], before.poses[f.id].rotation[:, i])
    pad = now.bones[now.bone_index["pad"]]
    assert np.ptp(shown.poses[f.id].translation[:, now.bone_index["pad"]], axis=0).max() == 0.0
    assert tuple(shown.poses[f.id].translation[0, now.bone_index["pad"]]) == pytest.approx(pad.translation)
    assert any("had other bones when" in x.text for x in check(more, assets))
    # taken away again it is the very same, and so it is in another order of the figures
    assert take_in(removed(more, assets, f.id, "pad"), assets, ref).poses[f.id] is before.poses[f.id]
    assert take_in(edit.scene(scene, figures=scene.figures[::-1]), assets, ref).poses is before.poses
    # what hangs on another bone than it did has no pose that could be shown
    hung = tuple(b.changed(parent="spine") if b.name == "head" else b for b in f.bones)
    assert f.id not in take_in(edit.figure(scene, f.id, bones=hung), assets, ref).poses


@pytest.mark.parametrize("seed, name", [(1, "boom"), (2, "pail")])
def test_edits_at_random_after_a_run_leave_every_station_whole(window, seed, name, with_take):
    scene, assets = with_take
    if name != "boom":
        scene = edit.scene(demo_scene(name, assets), end=12)
        scene = keep_take(scene, assets, run(scene, assets), scene.settings_fingerprint())
    window.session.new(scene, assets)
    window.show()
    assert trial(window, seed, 25, QApplication.processEvents) == []
