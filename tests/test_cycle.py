"""Closed loops: round after round is simulated until two agree; the take and its keys end as they begin, and what cannot close is said."""

import numpy as np
import pytest
from benchmarks.seams import figure_of

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.checks.checks import check
from artuline.core.checks.takes import check_take
from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_pose
from artuline.core.run.cycle import AGREE, travel_of
from artuline.core.run.record import run
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.alike import scene_of, text_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Gusts, Key, Lane, MotionKey, Rule, Shape, Spring, obstacle
from artuline.demo.scenes import demo_scene

ROUND = {0: 48, 1: 24}


def loop(kind, bone=None, hertz=2.0, ratio=0.3, **more):
    """A stranger's figure with a part that swings while its clip goes round."""
    scene, assets = figure_of(kind)
    f = scene.figures[0]
    bone = bone or {0: "Left Calf", 1: "RightLimb1B"}[kind]
    scene = edit.springy(scene, f.id, bone, Spring(frequency=hertz, ratio=ratio))
    return scene.changed(**({"start": 0, "end": ROUND[kind], "cycle": True} | more)), assets


def ends(take, figure):
    pose = take.poses[figure]
    return np.degrees(rotation.angle_between(pose.rotation[0], pose.rotation[-1])).max(), pose


@pytest.mark.parametrize("kind", [0, 1])
@pytest.mark.parametrize("hertz, substeps", [(1.0, 10), (4.0, 4)])
def test_a_round_ends_as_it_begins(kind, hertz, substeps):
    scene, assets = loop(kind, hertz=hertz, substeps=substeps)
    f = scene.figures[0].id
    take = run(scene, assets)
    assert take.cycle is not None and take.cycle[0] > 1 and take.cycle[1] <= AGREE
    off, pose = ends(take, f)
    assert off < 1e-9
    # it swings, and as fast over the seam as at its sides
    keys = keyed_pose(scene, assets, scene.figures[0], take.frames.astype(float), layers=False)
    assert np.degrees(rotation.angle_between(keys.rotation, pose.rotation)).max() > 1.0
    step = rotation.to_rotation_vector(rotation.multiply(pose.rotation[1:], rotation.conjugate(pose.rotation[:-1])))
    bend = np.linalg.norm(np.diff(np.concatenate([step, step[:2]]), axis=0), axis=-1)
    assert bend[-2:].max() < 1.5 * np.partition(bend[:-2].max(axis=1), -3)[-3] + 1e-3
    # it is what goes on for ever: many rounds played without a stop come to the same
    long = scene.changed(cycle=False, end=scene.end * 8)
    rows = run(long, assets).poses[f].rotation[-1 - scene.end :]
    assert np.degrees(rotation.angle_between(rows, pose.rotation)).max() < 0.5


def test_the_keys_of_a_round_end_as_they_begin():
    scene, assets = loop(0)
    f = scene.figures[0].id
    take = run(scene, assets)
    assert Take.from_arrays(take.to_arrays()).cycle == take.cycle
    baked = bake_figure(scene, assets, scene.figures[0], take, BakeWish(1.0, 10.0))
    for c in baked.clip.channels:
        first, last = c.values[0], c.values[-1]
        side = -1.0 if first[1] @ last[1] < 0.0 else 1.0
        np.testing.assert_allclose(side * last[1], first[1], atol=1e-12)
        np.testing.assert_allclose(side * last[0], first[2], atol=1e-9)
    made = add_layer(scene, assets, f, baked, "round")
    shown = keyed_pose(made, assets, made.figure(f), take.frames.astype(float))
    assert np.degrees(rotation.angle_between(shown.rotation, take.poses[f].rotation)).max() < 1.5


def test_what_travels_goes_on_and_swings_alike():
    assets = AssetStore()
    scene = demo_scene("goat", assets).changed(start=0, end=42, cycle=True)
    way = travel_of(scene, assets, scene.figures[0])
    assert way[2] > 2.0
    take = run(scene, assets)
    assert take.cycle[1] <= AGREE
    off, pose = ends(take, scene.figures[0].id)
    moved = pose.translation[-1] - pose.translation[0]
    assert off < 1e-9 and np.abs(moved).max() == pytest.approx(way[2], abs=1e-6)


def test_wind_blows_alike_in_every_round():
    scene, assets = loop(1, wind=(2.0, 0.0, 1.0), gusts=Gusts(strength=0.5, rate=1.3, seed=4))
    take = run(scene, assets)
    assert take.cycle[1] <= AGREE and ends(take, scene.figures[0].id)[0] < 1e-9


def test_what_is_no_round_is_said_before_with_a_way_out():
    scene, assets = loop(0, end=31)
    found = next(x for x in check(scene, assets) if "closed loop" in x.text)
    assert found.weight == 3 and found.fix is not None and "48" in found.fix_label
    with pytest.raises(ArtulineError, match=r"closed loop.*end .*from where they begin"):
        run(scene, assets)
    mended = found.fix(scene)
    assert (mended.start, mended.end) == (0, 48)
    assert not any("closed loop" in x.text for x in check(mended, assets))
    # lanes and rules that go one way only
    f = mended.figures[0]
    falls = edit.group(
        mended, f.id, f.groups[-1].id, handover=Lane(keys=(Key(frame=0, value=0.0), Key(frame=40, value=1.0)))
    )
    assert any("handover ends" in x.text for x in check(falls, assets))
    hit = mended.changed(rules=(Rule(id="r", name="when hit", figure=f.id, when="touched"),))
    assert any("for good" in x.text for x in check(hit, assets))


def test_what_does_not_close_is_said_after(monkeypatch):
    monkeypatch.setattr("artuline.core.run.record.MOST_ROUNDS", 2)
    scene, assets = loop(1, hertz=0.4, ratio=0.02)
    take = run(scene, assets)
    assert take.cycle[1] > AGREE
    assert any("does not close" in x.text for x in check_take(scene, take))
    # it is left as it was, not bent until it fits
    assert ends(take, scene.figures[0].id)[0] > 0.0


def test_it_is_kept_with_the_scene():
    scene, _ = loop(0)
    assert scene_of(text_of(scene)).cycle


def test_what_is_stopped_within_a_round_is_kept_as_no_loop():
    scene, assets = loop(1)
    asked = iter(range(10000))
    # within the second round
    take = run(scene, assets, cancelled=lambda: next(asked) > 40, partial=True)
    assert take.cycle is None and 2 < len(take.frames) < scene.end
    with pytest.raises(CancelledError):
        asked = iter(range(10000))
        run(scene, assets, cancelled=lambda: next(asked) > 20)


def test_what_strikes_has_to_come_round_too():
    scene, assets = loop(1)
    keys = (MotionKey(frame=0, position=(3.0, 1.0, 0.0)), MotionKey(frame=24, position=(4.0, 1.0, 0.0)))
    away = edit.add_figure(scene, obstacle("bar", Shape(kind="sphere", radius=0.1), keys))
    assert any("bar ends 1.00 m" in x.text for x in check(away, assets))
