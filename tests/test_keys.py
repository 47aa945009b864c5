"""Curves of channels: angles without jumps, edits that leave alone what they are not about, layers."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from artuline.core.bake import layer_keys, path_keys
from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.euler import ORDERS, best_order, distance_from_lock, from_angles, to_angles
from artuline.core.motion import keys
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import keyed_pose, layer_share
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Layer, Scene
from artuline.demo.figures import ready_figure

NO_HOLDS = np.zeros(5, bool)


def wander(seed, frames=60, step=0.15):
    random = np.random.default_rng(seed)
    return rotation.make_continuous(
        rotation.from_rotation_vector(np.cumsum(random.normal(size=(frames, 3)) * step, axis=0))
    )


def turning(seed, count=9, bone="spine"):
    """A channel of rotations whose slopes are those of turns."""
    q = wander(seed, count)
    t = np.sort(np.random.default_rng(seed).choice(60, count, replace=False)) / 24.0
    slope = 0.5 * rotation.multiply(
        np.concatenate([np.random.default_rng(seed + 1).normal(size=(count, 3)), np.zeros((count, 1))], axis=1), q
    )
    return Channel(bone, "rotation", "CUBICSPLINE", t, np.stack([slope, q, slope], axis=1))


@settings(max_examples=60)
@given(st.integers(0, 10**6), st.sampled_from(ORDERS))
def test_angles_are_the_rotation_and_never_jump(seed, order):
    """Another reader of the same angles agrees, whatever the order, also through gimbal lock and past half a turn."""
    q = wander(seed)
    angles = to_angles(q, order)
    assert np.degrees(rotation.angle_between(from_angles(angles, order), q)).max() < 1e-6
    one = Rotation.identity()
    for axis in order:
        one = one * Rotation.from_rotvec(angles[30, "xyz".index(axis)] * np.eye(3)["xyz".index(axis)])
    assert rotation.angle_between(one.as_quat(), q[30]) < 1e-9
    finer = to_angles(rotation.slerp(q[:1], q[1:2], np.linspace(0.0, 1.0, 30)), order)
    assert np.abs(np.diff(finer, axis=0)).max() < np.pi / 2


def test_the_best_order_stays_farthest_from_lock():
    swing = from_angles(np.stack([np.zeros(80), np.linspace(-1.6, 1.6, 80), np.linspace(0, 1, 80)], axis=1), "zyx")
    assert distance_from_lock(swing, "zyx") < 0.05
    assert distance_from_lock(swing, best_order(swing)) == pytest.approx(
        max(distance_from_lock(swing, o) for o in ORDERS), abs=1e-3
    )


@settings(max_examples=40)
@given(st.integers(0, 10**6), st.sampled_from(ORDERS))
def test_curves_and_channels_are_the_same_thing(seed, order):
    c = turning(seed)
    curves = keys.curves_of(c, order)
    assert keys.channel_of(c, curves, order).values == pytest.approx(c.values)
    # moved and moved back through angles
    there, _ = keys.moved(curves, np.ones((9, 3), bool), 0.5, np.array([3.0, -2.0, 1.0]))
    back, _ = keys.moved(there, np.ones((9, 3), bool), -0.5, np.array([-3.0, 2.0, -1.0]))
    again = keys.channel_of(keys.channel_of(c, there, order), back, order)
    at = np.linspace(c.times[0], c.times[-1], 200)
    assert np.degrees(rotation.angle_between(c.sample(at), again.sample(at))).max() < 0.02


@settings(max_examples=60)
@given(st.integers(0, 10**6), st.floats(0.05, 0.95))
def test_an_inserted_key_changes_no_shape(seed, share):
    at = np.linspace(0.0, 2.6, 400)
    c = turning(seed)
    when = c.times[0] + share * (c.times[-1] - c.times[0])
    more = keys.inserted(c, when)
    assert len(more.times) == 10 or np.abs(c.times - when).min() < 1e-6
    assert np.degrees(rotation.angle_between(c.sample(at), more.sample(at))).max() < 4.0
    place = Channel("spine", "translation", "CUBICSPLINE", c.times, c.values[:, :, :3])
    np.testing.assert_allclose(keys.inserted(place, when).sample(at), place.sample(at), atol=1e-12)


def test_deleting_keeps_the_shape_as_well_as_it_can():
    t = np.arange(9) / 6.0
    v, s = np.sin(t)[:, None] * [1.0, 2.0, 0.0], np.cos(t)[:, None] * [1.0, 2.0, 0.0]
    curves = keys.Curves(t, v, s, s, np.zeros(9, bool), np.zeros(9, bool))
    gone = np.zeros(9, bool)
    gone[[2, 4, 5]] = True
    left = keys.deleted(curves, gone)
    at = np.linspace(t[0], t[-1], 300)
    exact = keys.sample(curves, at)
    assert np.abs(keys.sample(left, at) - exact).max() < 0.02
    # better than the slopes that they had
    assert np.linalg.norm(keys.sample(left, at) - exact) <= np.linalg.norm(
        keys.sample(curves.at(np.flatnonzero(~gone)), at) - exact
    )
    assert len(keys.deleted(curves, np.ones(9, bool)).times) == 1


def test_moves_scales_and_reversals():
    t = np.arange(5.0)
    curves = keys.Curves(
        t, np.repeat(t[:, None] ** 2, 3, axis=1), *(np.repeat(2 * t[:, None], 3, axis=1),) * 2, NO_HOLDS, NO_HOLDS
    )
    picked = np.zeros((5, 3), bool)
    picked[1, 0] = True
    out, rows = keys.moved(curves, picked, 1.0, 5.0)
    # it takes the place of the key that was there; only the picked curve changes its value
    assert out.times.tolist() == [0.0, 2.0, 3.0, 4.0] and rows.tolist() == [0, 1, 3, 4]
    assert out.values[1].tolist() == [6.0, 1.0, 1.0]
    every = np.ones((5, 3), bool)
    wide, _ = keys.scaled(curves, every, (0.0, 2.0), (0.0, 3.0))
    at = np.linspace(0.0, 4.0, 50)
    np.testing.assert_allclose(keys.sample(wide, 2.0 * at), 3.0 * keys.sample(curves, at), atol=1e-12)
    there, _ = keys.reversed_keys(curves, every)
    np.testing.assert_allclose(keys.sample(there, 4.0 - at), keys.sample(curves, at), atol=1e-12)


def test_slopes_smooth_flat_straight_stepped():
    t = np.array([0.0, 1.0, 3.0, 4.0, 6.0])
    line = keys.Curves(
        t, np.repeat(2.0 * t[:, None] + 1.0, 3, axis=1), np.zeros((5, 3)), np.zeros((5, 3)), NO_HOLDS, NO_HOLDS
    )
    every = np.ones((5, 3), bool)
    for kind in ("smooth", "linear"):
        made = keys.tangents(line, every, kind)
        np.testing.assert_allclose(made.into, 2.0)
        np.testing.assert_allclose(made.out, 2.0)
    parabola = keys.Curves(
        t, np.repeat(t[:, None] ** 2, 3, axis=1), np.zeros((5, 3)), np.zeros((5, 3)), NO_HOLDS, NO_HOLDS
    )
    np.testing.assert_allclose(keys.tangents(parabola, every, "smooth").out[1:-1, 0], 2.0 * t[1:-1])
    assert np.abs(keys.tangents(line, every, "flat").out).max() == 0.0
    held = keys.tangents(line, every, "stepped")
    assert keys.sample(held, np.array([0.99, 1.0, 2.9]))[:, 0].tolist() == [1.0, 3.0, 3.0]
    assert not keys.tangents(held, every, "smooth").holds.any()


def test_loops_and_flats():
    random = np.random.default_rng(4)
    c = keys.Curves(np.arange(5.0), *random.normal(size=(3, 5, 3)), NO_HOLDS, NO_HOLDS)
    made = keys.looped(c)
    np.testing.assert_allclose(made.values[0], made.values[-1])
    np.testing.assert_allclose(made.out[0], made.into[-1])
    flat = keys.flattened(c, np.ones((5, 3), bool))
    np.testing.assert_allclose(flat.values, np.repeat(c.values.mean(axis=0)[None], 5, axis=0))
    rough = keys.smoothed(c, np.ones((5, 3), bool), 1.0)
    np.testing.assert_allclose(rough.values[2], 0.5 * (c.values[1] + c.values[3]))


def test_what_holds_and_what_is_straight_is_read_as_such():
    q = wander(3, 6)
    t = np.arange(6.0)
    at = np.linspace(0.0, 5.0, 101)
    step = Channel("a", "rotation", "STEP", t, q)
    assert np.degrees(rotation.angle_between(keys.cubic(step).sample(at), step.sample(at))).max() < 1e-6
    line = Channel("a", "translation", "LINEAR", t, q[:, :3])
    np.testing.assert_allclose(keys.cubic(line).sample(at), line.sample(at), atol=1e-12)
    kept = Clip.from_arrays(Clip((keys.cubic(step),)).to_arrays())
    assert kept.channels[0].holds.all()


@pytest.fixture(scope="module")
def layered():
    assets = AssetStore()
    figure = ready_figure("deckhand", assets).changed(clip="walk")
    channels = {("spine", "rotation"): turning(1), ("hand_l", "rotation"): turning(2, bone="hand_l")}
    clip = Clip(tuple(channels.values()))
    first = min(c.times[0] for c in channels.values())
    layer = Layer(id="l", name="baked", asset=assets.add(clip.to_arrays()), start=round(first * 24), end=58)
    return Scene(figures=(figure.changed(layers=(layer,)),), end=60), assets, channels


def test_only_the_edited_channel_of_a_layer_changes(layered):
    scene, assets, channels = layered
    c = channels["hand_l", "rotation"]
    moved, _ = keys.moved(keys.curves_of(c, "xyz"), np.ones((9, 3), bool), 0.25, 0.0)
    new = layer_keys.with_channels(
        scene, assets, "deckhand", "l", {("hand_l", "rotation"): keys.channel_of(c, moved, "xyz")}
    )
    f = new.figures[0]
    kept = layer_keys.layer_channels(assets, f.layers[0])
    np.testing.assert_array_equal(kept["spine", "rotation"].values, channels["spine", "rotation"].values)
    assert f.layers[0].baked == scene.figures[0].layers[0].asset and f.layers[0].baked in new.assets()
    frames = np.array([30.0, 40.0])
    pose = keyed_pose(new, assets, f, frames)
    wanted = c.sample(frames / 24.0 - 0.25)
    assert np.degrees(rotation.angle_between(pose.rotation[:, f.bone_index["hand_l"]], wanted)).max() < 0.05


def test_the_other_side_does_what_this_side_did(layered):
    """The mirrored pose, seen in the world, is the reflection of the pose."""
    scene, _, channels = layered
    figure = scene.figures[0].changed(clip=None)
    both = {n: channels[n] for n in channels}
    there = layer_keys.mirrored(figure, both)
    assert set(there) == {("spine", "rotation"), ("hand_r", "rotation")}
    skeleton, at = skeleton_of(figure), np.array([1.0])
    here, over = Clip(tuple(both.values())).sample(skeleton, at), Clip(tuple(there.values())).sample(skeleton, at)
    p, _ = rigid(skeleton.global_matrices(here)[0])
    q, _ = rigid(skeleton.global_matrices(over)[0])
    for a, b in (("fingertips_l", "fingertips_r"), ("head", "head"), ("forearm_r", "forearm_l")):
        np.testing.assert_allclose(p[figure.bone_index[a]] * [-1.0, 1.0, 1.0], q[figure.bone_index[b]], atol=2e-3)
    again = layer_keys.mirrored(figure, there)
    assert again["hand_l", "rotation"].values == pytest.approx(channels["hand_l", "rotation"].values, abs=1e-6)


def test_pasted_keys_take_the_place_of_those_that_are_there(layered):
    _, _, channels = layered
    c = channels["spine", "rotation"]
    made = layer_keys.pasted(
        c.__class__(c.bone, c.path, c.interpolation, c.times[2:5], c.values[2:5]), 24.0, c, "spine", 30
    )
    inside = (made.times >= 30 / 24 - 1e-9) & (made.times <= 30 / 24 + c.times[4] - c.times[2] + 1e-9)
    assert inside.sum() == 3 and (np.diff(made.times) > 0).all()
    assert rotation.angle_between(made.sample(np.array([30 / 24])), c.values[2:3, 1]).max() < 1e-6


def test_thinning_holds_its_bound(layered):
    _, _, channels = layered
    c = channels["spine", "rotation"]
    dense = Channel(
        c.bone,
        c.path,
        "LINEAR",
        np.arange(round(c.times[0] * 24), round(c.times[-1] * 24) + 1) / 24.0,
        c.sample(np.arange(round(c.times[0] * 24), round(c.times[-1] * 24) + 1) / 24.0),
    )
    thin = layer_keys.thinned(keys.cubic(dense), 24.0, 0.5, corners=False)
    assert len(thin.times) < 0.7 * len(dense.times)
    assert np.degrees(rotation.angle_between(thin.sample(dense.times), dense.sample(dense.times))).max() <= 0.5 + 1e-6


def test_layers_come_in_stand_and_are_heard_in_their_order(layered):
    scene, assets, _ = layered
    figure = scene.figures[0]
    one = figure.layers[0]
    two = one.changed(id="m", ramp_in=10, ramp_out=5)
    scene = scene.changed(figures=(figure.changed(layers=(one, two)),))
    share = layer_share(two, np.arange(two.start, two.end + 1.0))
    assert share[0] == 0.0 and share[10] == 1.0 and share[-1] == 0.0 and (np.diff(share[:11]) >= 0.0).all()
    up = layer_keys.stacked(scene, "deckhand", "l", True)
    assert [x.id for x in up.figures[0].layers] == ["m", "l"]
    solo = layer_keys.alone(scene, "deckhand", "m")
    assert [x.muted for x in solo.figures[0].layers] == [True, False]
    assert not any(x.muted for x in layer_keys.alone(solo, "deckhand", "m").figures[0].layers)
    leads = scene.changed(figures=(figure.changed(layers=(one.changed(leads=True),)),))
    keyed = keyed_pose(leads, assets, leads.figures[0], np.array([30.0]), layers=False)
    i = figure.bone_index["spine"]
    assert (
        rotation.angle_between(
            keyed.rotation[0, i],
            one and layer_keys.layer_channels(assets, one)["spine", "rotation"].sample(np.array([1.25]))[0],
        )
        < 1e-9
    )
    assert leads.settings_fingerprint() != scene.settings_fingerprint()


def test_a_hand_comes_where_its_path_is_pulled(boom_run):
    """Within a millimetre where it can, by keys of the two bones above; between its neighbours' keys only."""
    scene, assets, take = boom_run
    scene = add_layer(
        scene, assets, "deckhand", bake_figure(scene, assets, scene.figures[0], take, BakeWish(2.0, 20.0)), "baked"
    )
    figure = scene.figures[0]
    layer = figure.layers[-1]
    channels = layer_keys.layer_channels(assets, layer)
    assert path_keys.movers(figure, "hand_l", channels) == (("upper_arm_l", "rotation"), ("forearm_l", "rotation"))
    assert path_keys.movers(figure, "hips", channels) == (("hips", "translation"),)
    assert path_keys.movers(figure, "spine", channels) == ()
    for bone, frame in (("hand_l", 110.0), ("hips", 100.0)):
        old = path_keys.path(scene, assets, figure, bone, np.array([frame]))[0]
        shoulder = path_keys.path(scene, assets, figure, "upper_arm_l", np.array([frame]))[0]
        goal = old + 0.25 * (shoulder - old) if bone == "hand_l" else old + np.array([0.05, 0.1, -0.02])
        new = path_keys.placed(scene, assets, figure, bone, channels, frame, goal)
        made = layer_keys.with_channels(scene, assets, "deckhand", layer.id, new)
        got = path_keys.path(made, assets, made.figures[0], bone, np.array([frame]))[0]
        assert np.linalg.norm(got - goal) < 1e-3
        for n, c in new.items():
            rest = np.abs(c.times * 24 - frame) > 1e-3
            np.testing.assert_allclose(c.values[rest, 1], channels[n].sample(c.times[rest]), atol=1e-5)
    with pytest.raises(ArtulineError, match="no keys that move spine"):
        path_keys.placed(scene, assets, figure, "spine", channels, 100.0, np.zeros(3))
