"""Where, when and how strongly: lanes, groups, ramps and what is shown of them."""

import numpy as np
import pytest

from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_matrices, keyed_pose
from artuline.core.motion.places import own_root
from artuline.core.motion.skeleton import placement, skeleton_of
from artuline.core.run.build import build, group_of, return_frequency, tone_frequency
from artuline.core.run.record import run
from artuline.core.run.shown import shown_pose, smooth_step
from artuline.core.scene import edit
from artuline.core.scene.model import Group, Key, Lane, MotionKey, Scene, Shape, obstacle
from artuline.core.setup.ragdoll import set_up


@pytest.fixture(scope="module")
def walking(deckhand):
    figure, assets = deckhand
    figure = set_up(figure, assets).changed(clip="walk")
    return Scene(figures=(figure,), start=0, end=48), assets


def world_pose(take, scene):
    f = scene.figures[0]
    return skeleton_of(f).global_matrices(take.poses[f.id], placement(f))


def test_tone_runs_from_limp_to_firm_and_return_only_between():
    tones = tone_frequency(np.linspace(0, 1, 9))
    assert tones[0] == 0.0 and (np.diff(tones) > 0).all()
    pull = return_frequency(np.array([0.0, 0.1, 0.5, 0.9, 1.0]))
    assert pull[0] == pull[-1] == 0.0 and pull[1] > pull[2] > pull[3] > 0.0


def test_the_smallest_group_rules_a_bone_and_mute_lets_go(walking):
    figure = walking[0].figures[0]
    groups = (
        Group(id="all", name="all"),
        Group(id="arm", name="arm", start_bone="upper_arm_l"),
        Group(id="hand", name="hand", start_bone="hand_l"),
    )
    figure = figure.changed(groups=groups)
    assert group_of(figure, "hand_l").id == "hand"
    assert group_of(figure, "forearm_l").id == "arm"
    assert group_of(figure, "head").id == "all"
    muted = figure.changed(groups=(groups[0], groups[1], groups[2].changed(muted=True)))
    assert group_of(muted, "hand_l").id == "arm"


def test_a_lane_is_sampled_for_every_body(walking):
    scene, assets = walking
    scene = edit.hand_over(scene, "deckhand", "upper_arm_l", 10, 30, 4, 4, tone=0.4)
    built = build(scene, assets)
    handover, tone = built.lanes(np.array([0.0, 12.0, 20.0]))
    bones = [b.bone for b in built.parts[0].bodies]
    for i, name in enumerate(bones):
        arm = name in scene.figures[0].below("upper_arm_l")
        np.testing.assert_allclose(handover[:, i], [0, 0.5, 1] if arm else [0, 0, 0])
        np.testing.assert_allclose(tone[:, i], 0.4 if arm else 0.0)


@pytest.mark.parametrize("start_bone", [None, "upper_arm_r", "spine"])
def test_both_ends_of_an_interval_are_seamless(walking, start_bone):
    scene, assets = walking
    scene = edit.hand_over(scene, "deckhand", start_bone, 8, 40, 0, 16, tone=0.2)
    take = run(scene, assets)
    shown = world_pose(take, scene)
    keyed = keyed_matrices(scene, assets, scene.figures[0], take.frames.astype(float))
    step = np.linalg.norm(np.diff(shown[..., :3, 3], axis=0), axis=-1).max(axis=1)
    usual = np.linalg.norm(np.diff(keyed[..., :3, 3], axis=0), axis=-1).max()
    # at the seams nothing jumps: no point goes further in a frame than it does in the keys, and a little
    for seam in (8, 40):
        assert step[seam - 1] < 1.6 * usual + 0.01 and step[seam] < 1.6 * usual + 0.01
    for frame in (0, 8, 40, 48):
        assert np.abs(shown[frame] - keyed[frame]).max() < 1e-9


def test_handover_zero_is_the_keys_and_one_is_physics(walking):
    scene, assets = walking
    figure = scene.figures[0]
    keyed = keyed_pose(scene, assets, figure, np.array([0.0, 0.0, 0.0]))
    bones = np.array([figure.bone_index[b.bone] for b in figure.bodies])
    m = skeleton_of(figure).global_matrices(keyed, placement(figure))
    p = m[..., :3, 3][:, bones] + np.array([0.3, 0.2, 0.0])
    q = rotation.from_matrix(m[..., :3, :3][:, bones])
    handover = np.array([0.0, 0.5, 1.0])[:, None] * np.ones(len(bones))
    shown = shown_pose(figure, own_root(figure, np.zeros(3)), keyed, bones, p, q, handover)
    hips = skeleton_of(figure).global_matrices(shown, placement(figure))[:, figure.bone_index["hips"]][:, :3, 3]
    moved = hips - m[0, figure.bone_index["hips"]][:3, 3]
    np.testing.assert_allclose(moved, smooth_step(np.array([0, 0.5, 1.0]))[:, None] * [0.3, 0.2, 0.0], atol=1e-9)


def test_keys_inside_the_interval_steer_at_full_tone(walking):
    scene, assets = walking
    scene = edit.hand_over(scene, "deckhand", "upper_arm_l", 2, 47, 0, 0, tone=1.0)
    take = run(scene, assets)
    keyed = keyed_matrices(scene, assets, scene.figures[0], take.frames.astype(float))
    hand = scene.figures[0].bone_index["hand_l"]
    away = np.linalg.norm((world_pose(take, scene) - keyed)[4:46, hand, :3, 3], axis=-1)
    swing = np.ptp(keyed[:, hand, :3, 3] - keyed[:, scene.figures[0].bone_index["chest"], :3, 3], axis=0).max()
    assert away.max() < 0.05 * swing


def test_a_keyed_lane_holds_between_its_keys(walking):
    lane = Lane(keys=(Key(frame=4, value=0.25), Key(frame=8, value=0.75)), rest=0.1)
    np.testing.assert_allclose(lane.value(np.array([0, 4, 6, 8, 20.0])), [0.25, 0.25, 0.5, 0.75, 0.75])
    np.testing.assert_allclose(Lane(rest=0.3).value(np.array([0, 9.0])), 0.3)


def test_an_obstacle_that_strikes_moves_the_body_and_its_speed_matters(walking):
    scene, assets = walking
    figure = scene.figures[0].changed(clip="stand", groups=())

    def thrown(frames):
        """Speed of the chest, m/s, after a beam has swept through in so many frames."""
        keys = tuple(MotionKey(frame=4 + frames * k, position=(1.2 - 1.4 * k, 1.15, 0.0)) for k in (0, 1))
        beam = obstacle("beam", Shape(kind="box", half=(0.1, 0.1, 0.8)), keys)
        struck = scene.changed(figures=(figure, beam), end=4 + frames)
        struck = edit.hand_over(struck, figure.id, None, 4, 200, 0, 0, tone=0.3)
        take = run(struck, assets)
        i = [r.body for r in take.bodies].index("chest")
        assert take.contact[:, [r.body for r in take.bodies].index("beam")].max() > 0.0
        return -np.diff(take.position[:, i, 0]).min() * scene.rate

    fast, slow = thrown(10), thrown(20)
    assert fast > 1.4 * slow > 0.7
