"""Curves sampled by the three interpolations of glTF 2.0, and clips that loop and travel."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import clip_pose, keyed_pose
from artuline.core.motion.places import places_at
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Bone, ClipRef, Figure, Layer, MotionKey, Scene, Track


def test_linear_step_and_held_ends():
    times, values = np.array([1.0, 2.0]), np.array([[0.0, 0, 0], [2.0, 0, 0]])
    at = np.array([0.0, 1.0, 1.5, 2.0, 9.0])
    np.testing.assert_allclose(Channel("b", "translation", "LINEAR", times, values).sample(at)[:, 0], [0, 0, 1, 2, 2])
    np.testing.assert_allclose(Channel("b", "translation", "STEP", times, values).sample(at)[:, 0], [0, 0, 0, 2, 2])


@given(st.lists(st.floats(-3, 3), min_size=4, max_size=4), st.floats(0.2, 3.0))
def test_cubic_spline_gives_any_cubic_exactly(c, span):
    times = np.array([0.0, span])
    value = np.polynomial.Polynomial(c)
    slope = value.deriv()
    rows = [[[slope(t)] * 3, [value(t)] * 3, [slope(t)] * 3] for t in times]
    channel = Channel("b", "translation", "CUBICSPLINE", times, np.array(rows))
    at = np.linspace(0, span, 9)
    np.testing.assert_allclose(channel.sample(at)[:, 0], value(at), atol=1e-9)


def test_linear_rotation_turns_at_constant_speed():
    quarter = [0, 0, np.sin(np.pi / 4), np.cos(np.pi / 4)]
    channel = Channel("b", "rotation", "LINEAR", np.array([0.0, 1.0]), np.array([[0, 0, 0, 1.0], quarter]))
    q = channel.sample(np.array([0.25, 0.5]))
    np.testing.assert_allclose(rotation.angle_between(q, rotation.IDENTITY), [np.pi / 8, np.pi / 4])


def test_one_key_holds():
    channel = Channel("b", "scale", "LINEAR", np.array([1.0]), np.array([[2.0, 3, 4]]))
    np.testing.assert_allclose(channel.sample(np.array([0.0, 5.0])), [[2, 3, 4], [2, 3, 4]])


def test_clips_keep_their_content_in_the_store():
    clip = Clip((Channel("b", "rotation", "STEP", np.array([0.0, 1]), np.tile(rotation.IDENTITY, (2, 1))),))
    store = AssetStore()
    back = Clip.from_arrays(store[store.add(clip.to_arrays())])
    assert back.channels[0].bone == "b" and back.channels[0].interpolation == "STEP"
    with pytest.raises(ArtulineError, match="damaged"):
        Clip.from_arrays({"channels": np.frombuffer(b"not json", np.uint8)})


def walking(loop=True):
    store = AssetStore()
    clip = Clip((Channel("root", "translation", "LINEAR", np.array([0.0, 1.0]), np.array([[0, 0, 0], [0, 0, 1.5]])),))
    ref = ClipRef(name="walk", asset=store.add(clip.to_arrays()), duration=1.0, loop=loop)
    figure = Figure(id="f", name="f", bones=(Bone(name="root"),), clips=(ref,), clip="walk")
    return Scene(figures=(figure,), rate=24), figure, store


def test_a_loop_that_travels_keeps_travelling():
    scene, figure, store = walking()
    z = clip_pose(scene, store, figure, np.array([0.0, 12, 30, 60])).translation[:, 0, 2]
    np.testing.assert_allclose(z, 1.5 * np.array([0, 0.5, 1.25, 2.5]))


def test_a_clip_that_does_not_loop_holds_its_last_pose():
    scene, figure, store = walking(loop=False)
    z = clip_pose(scene, store, figure, np.array([24.0, 60])).translation[:, 0, 2]
    np.testing.assert_allclose(z, [1.5, 1.5])


def test_a_layer_replaces_the_keys_only_where_it_applies_and_by_its_weight():
    scene, figure, store = walking()
    over = Clip((Channel("root", "translation", "LINEAR", np.array([0.0]), np.array([[4.0, 0, 0]])),))
    layer = Layer(id="l", name="l", asset=store.add(over.to_arrays()), start=10, end=20, weight=0.5)
    figure = figure.changed(layers=(layer,))
    x = keyed_pose(scene, store, figure, np.array([5.0, 15, 25])).translation[:, 0, 0]
    np.testing.assert_allclose(x, [0, 2, 0])
    assert np.all(keyed_pose(scene, store, figure, np.array([15.0]), layers=False).translation[:, 0, 0] == 0)


def test_a_layer_that_adds_turns_what_lies_below_and_a_muted_one_does_nothing():
    scene, figure, store = walking()
    half = np.array([[0.0, np.sin(0.25), 0.0, np.cos(0.25)]])
    over = Clip((
        Channel("root", "translation", "LINEAR", np.array([0.0]), np.array([[4.0, 0, 0]])),
        Channel("root", "rotation", "LINEAR", np.array([0.0]), half),
        Channel("root", "scale", "LINEAR", np.array([0.0]), np.array([[2.0, 1.0, 1.0]])),
    ))  # fmt: skip
    layer = Layer(id="a", name="a", asset=store.add(over.to_arrays()), start=0, end=20, mode="add")
    twice = figure.changed(layers=(layer, layer.changed(id="b", weight=0.5)))
    frame = np.array([12.0])
    below, pose = (keyed_pose(scene, store, f, frame) for f in (figure, twice))
    np.testing.assert_allclose(pose.translation[0, 0] - below.translation[0, 0], [6.0, 0, 0], atol=1e-12)
    turned = rotation.multiply(rotation.conjugate(below.rotation[0, 0]), pose.rotation[0, 0])
    np.testing.assert_allclose(rotation.to_rotation_vector(turned), [0, 0.75, 0], atol=1e-12)
    np.testing.assert_allclose(pose.scale[0, 0], [3.0, 1.0, 1.0])
    silent = figure.changed(layers=(layer.changed(muted=True),))
    np.testing.assert_array_equal(keyed_pose(scene, store, silent, frame).translation, below.translation)


def test_a_track_passes_through_its_keys_and_rests_outside_them():
    turned = (0.0, float(np.sin(0.5)), 0.0, float(np.cos(0.5)))
    keys = (
        MotionKey(frame=10, position=(0, 1, 0)),
        MotionKey(frame=20, position=(2, 1, 0), rotation=turned),
        MotionKey(frame=40, position=(2, 3, 0), rotation=turned),
    )
    p, q = places_at(Track.of(keys), np.array([0.0, 10, 20, 40, 99]))
    np.testing.assert_allclose(p, [[0, 1, 0], [0, 1, 0], [2, 1, 0], [2, 3, 0], [2, 3, 0]], atol=1e-12)
    np.testing.assert_allclose(rotation.angle_between(q[0], q[2]), 1.0, atol=1e-6)
