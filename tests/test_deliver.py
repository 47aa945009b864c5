"""Delivery of clip and layers as one animation, and of several figures."""

from pathlib import Path

import numpy as np
import pytest

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.bake.delivery import bake_take, delivery
from artuline.core.bake.merged import merged_clip
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_pose
from artuline.core.motion.skeleton import skeleton_of
from artuline.core.run.record import keep_take, run
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.formats.all import FORMATS, filters, format_of, named, suffixes
from artuline.formats.deliver import deliver
from artuline.formats.gltf_read import read_figure
from artuline.formats.importing import choose_clip


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
