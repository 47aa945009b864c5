"""Delivery of clip and layers as one animation, and of several figures."""

import csv
import json
from pathlib import Path

import numpy as np
import pytest
from benchmarks import others

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.bake.delivery import NONE, bake_take, delivery
from artuline.core.bake.merged import Rests, merged_clip
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_pose
from artuline.core.motion.skeleton import skeleton_of
from artuline.core.run.measures import measure_take, shown_places
from artuline.core.run.record import keep_take, run
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.demo.scenes import demo_scene
from artuline.formats.all import FORMATS, filters, format_of, named, suffixes
from artuline.formats.deliver import deliver
from artuline.formats.gltf_read import read_figure
from artuline.formats.importing import add_figure, choose_clip
from artuline.formats.take_table import TABLES, write_take
from tests import foreign


@pytest.fixture(scope="module")
def layered(boom_run):
    scene, assets, take = boom_run
    baked = bake_figure(scene, assets, scene.figures[0], take)
    return add_layer(scene, assets, scene.figures[0].id, baked, "baked"), assets, baked


def test_the_merged_clip_is_the_keys_with_the_layer_in_them(layered):
    scene, assets, _ = layered
    figure = scene.figures[0]
    frames = np.arange(scene.start, scene.end + 1, 0.5)
    wanted = keyed_pose(scene, assets, figure, frames)
    clip = merged_clip(scene, assets, figure)
    got = clip.sample(skeleton_of(figure), (frames - scene.start) / scene.rate)
    whole = np.arange(0, len(frames), 2)
    angle = rotation.angle_between(wanted.rotation, got.rotation)
    assert np.degrees(angle[whole].max()) < 0.1
    assert np.abs(wanted.translation - got.translation)[whole].max() < 1e-4
    # between frames too: the layer's own keys are carried, the clip is straight
    layer = figure.layers[0]
    inside = (frames > layer.start) & (frames < layer.end)
    assert np.degrees(angle[inside].max()) < 0.5


def test_a_skeleton_below_a_scaled_node_keeps_its_size_in_every_format(tmp_path):
    """Of scales USD keeps three digits: what is even and stays is in the lengths."""
    assets = AssetStore()
    foreign.write_scaled_walker(tmp_path / "a.glb")
    scene, figure, _ = add_figure(Scene(), assets, tmp_path / "a.glb")
    assert figure.bones[0].scale[0] == pytest.approx(0.01)
    for mm, degrees in others.compared(scene.changed(end=20), assets, scene.figures[0], tmp_path).values():
        assert mm < others.MOST_MM and degrees < others.MOST_DEGREES


@pytest.mark.parametrize("name", ["boom", "pail"])
def test_other_readers_see_every_bone_where_it_is(name, boom_run, tmp_path):
    """In the world, on frames and quarters of frames; what rides on a hand too."""
    scene, assets, take = boom_run
    if name == "pail":
        assets = AssetStore()
        scene = demo_scene("pail", assets).changed(end=40)
        take = run(scene, assets)
    for f in scene.cast:
        scene = add_layer(scene, assets, f.id, bake_figure(scene, assets, f, take), "baked")
    for f in scene.cast:
        for mm, degrees in others.compared(scene, assets, scene.figure(f.id), tmp_path).values():
            assert mm < others.MOST_MM and degrees < others.MOST_DEGREES


def test_the_layers_keys_are_carried_not_sampled(layered):
    scene, assets, baked = layered
    figure = scene.figures[0]
    clip = merged_clip(scene, assets, figure)
    layer = figure.layers[0]
    for c in clip.channels:
        if (c.bone, c.path) in baked.keys:
            frames = c.times * scene.rate + scene.start
            inner = ((frames > layer.start + 0.01) & (frames < layer.end - 0.01)).sum()
            assert inner == baked.keys[c.bone, c.path] - 2
            assert c.interpolation == "CUBICSPLINE"


def test_a_layer_of_half_weight_lies_half_way(layered):
    scene, assets, _ = layered
    figure = scene.figures[0]
    half = figure.changed(layers=(figure.layers[0].changed(weight=0.5),))
    frame = np.array([100.0])
    hips = figure.bone_index["hips"]
    none, some, full = (
        keyed_pose(scene, assets, f, frame).translation[0, hips] for f in (figure.changed(layers=()), half, figure)
    )
    np.testing.assert_allclose(some, 0.5 * (none + full), atol=1e-9)


def test_two_figures_run_together_and_each_gets_its_file(tmp_path, boom):
    scene, assets = boom
    one = scene.figures[0].changed(groups=(), clip="stand")
    two = one.changed(id="mate", name="mate", position=(1.5, 0.0, 0.0), turn=1.0)
    scene = scene.changed(figures=(one, two), end=30)
    for f in (one, two):
        scene = edit.hand_over(scene, f.id, None, 4, 28, 0, 6)
    take = run(scene, assets)
    assert set(take.poses) == {one.id, "mate"} and any(r.figure == "mate" for r in take.bodies)
    kept = keep_take(scene, assets, take, scene.settings_fingerprint())
    made, results = bake_take(kept, assets, BakeWish(2.0, 20.0))
    written = deliver(tmp_path / "out.glb", made, assets, list(results))
    assert [w.name for w in written] == ["out.glb", "out mate.glb"]
    assert delivery(made, assets, ["mate"]).take is assets.decoded(kept.takes[0].asset, Take.from_arrays)
    for path, baked in zip(written, results.values()):
        from artuline.core.scene.assets import AssetStore

        figure = read_figure(path, AssetStore()).figure
        assert figure.clips[0].name == "stand baked" and baked.degrees <= 2.0
        # as it was: no bone has come to it
        assert [b.name for b in figure.bones] == [b.name for b in one.bones]
    # the second stands where it was placed
    assert figure.position == pytest.approx((1.5, 0.0, 0.0)) and figure.turn == pytest.approx(1.0, abs=1e-6)


def test_a_figure_that_physics_never_moves_cannot_be_baked(boom_run):
    scene, assets, take = boom_run
    other = scene.figures[0].changed(id="mate", name="mate")
    with pytest.raises(ArtulineError, match="never moves"):
        bake_figure(scene, assets, other, take)
    with pytest.raises(ArtulineError, match="no take"):
        bake_take(scene.changed(take=None, takes=()), assets, BakeWish(1.0, 1.0))


def test_formats_are_told_apart_by_what_they_can_do(tmp_path, boom):
    assert {".glb", ".bvh"} <= set(suffixes("write")) & set(suffixes("read_figure"))
    assert {".glb", ".gltf", ".obj", ".stl", ".ply"} <= set(suffixes("read_mesh"))
    assert all(f.fate.kept and f.fate.lost for f in FORMATS if f.write is not None)
    assert named(Path("a")) == Path("a.glb") and named(Path("a.GLB")) == Path("a.GLB")
    for ability, name in (("write", "a.obj"), ("read_figure", "a.stl"), ("read_mesh", "a.txt")):
        with pytest.raises(ArtulineError, match="Choose one of"):
            format_of(Path(name), ability)
    assert "*.ply" in filters("read_mesh", "Meshes") and FORMATS[0].name == "glTF"
    with pytest.raises(ArtulineError, match="no format that can be written"):
        deliver(tmp_path / "out.obj", *boom, ["deckhand"])
    assert not list(tmp_path.iterdir())


def test_choosing_a_clip_sets_range_and_rate(boom):
    scene, _ = boom
    walk = choose_clip(scene.changed(figures=scene.cast), "deckhand", "walk")
    ref = next(c for c in scene.figures[0].clips if c.name == "walk")
    assert walk.rate == ref.rate and walk.end == round(max(ref.duration, 4.0) * ref.rate)
    with pytest.raises(ArtulineError, match="walk"):
        choose_clip(scene, "deckhand", "waltz")


def test_takes_and_measures_leave_as_tables(boom_run, tmp_path):
    """Every number of the take is there again, and worst moments agree with the columns of the plots."""
    scene, _, take = boom_run
    for of in TABLES:
        write_take(tmp_path / f"{of}.csv", scene, take, of)
        write_take(tmp_path / f"{of}.json", scene, take, of)
    rows = list(csv.DictReader((tmp_path / "take.csv").read_text().splitlines()))
    assert len(rows) == len(take.frames) * len(take.bodies)
    k, f = 5, 60
    row = rows[f * len(take.bodies) + k]
    p, q = shown_places(scene, take)
    assert (row["figure"], row["body"]) == tuple(take.bodies[k]) and int(row["frame"]) == take.frames[f]
    np.testing.assert_allclose([float(row[c]) for c in "xyz"], p[f, k], rtol=1e-8)
    np.testing.assert_allclose([float(row[c]) for c in ("qx", "qy", "qz", "qw")], q[f, k], rtol=1e-8, atol=1e-9)
    worst = {m["measure"]: m for m in json.loads((tmp_path / "measures.json").read_text())}
    plots = json.loads((tmp_path / "plots.json").read_text())
    assert worst["Pressed in"]["worst"] == pytest.approx(max(r["penetration mm"] for r in plots))
    assert {m.name for m in measure_take(scene, take)} == set(worst)
    with pytest.raises(ArtulineError, match="no table"):
        write_take(tmp_path / "take.xlsx", scene, take)


@pytest.mark.parametrize(
    "rests", [Rests(before=True), Rests(after=True, blend=6), Rests(before=True, after=True, blend=3)]
)
def test_a_delivery_rests_before_and_after(boom_run, rests):
    """At its ends it stands as it was made; in between nothing changes, but for when it begins."""
    scene, assets, take = boom_run
    scene = add_layer(
        scene, assets, "deckhand", bake_figure(scene, assets, scene.figures[0], take, BakeWish()), "baked"
    )
    figure = scene.figures[0]
    (plain,), (made,) = (
        delivery(scene, assets, ["deckhand"], rests=r).figures[0].clips.values() for r in (NONE, rests)
    )
    skeleton, step = skeleton_of(figure), rests.blend / scene.rate
    times = np.linspace(0.0, (scene.end - scene.start) / scene.rate, 333)
    one, two = plain.sample(skeleton, times), made.sample(skeleton, times + (step if rests.before else 0.0))
    assert rotation.angle_between(one.rotation, two.rotation).max() < 1e-6
    last = times[-1] + step * (rests.before + rests.after)
    for at, there in ((0.0, rests.before), (last, rests.after)):
        if there:
            stands = made.sample(skeleton, np.array([at]))
            assert rotation.angle_between(stands.rotation[0], skeleton.rest.rotation).max() < 1e-6
    with pytest.raises(ArtulineError, match="a frame at least"):
        delivery(scene, assets, ["deckhand"], rests=Rests(after=True, blend=0))


def test_turn_and_place_share_their_key_times(boom_run):
    scene, assets, take = boom_run
    baked = bake_figure(scene, assets, scene.figures[0], take, BakeWish(1.0, 4.0, shared=True))
    times = {(c.bone, c.path): c.times.tolist() for c in baked.clip.channels}
    assert times["hips", "rotation"] == times["hips", "translation"]
    assert baked.degrees <= 1.0 and max(baked.millimetres.values()) <= 4.0
