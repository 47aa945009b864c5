"""Keyed poses: turning bones, limbs that reach, ramps in and out, and the handles on the stage."""

import numpy as np
import pytest
from PySide6.QtWidgets import QCheckBox

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_pose
from artuline.core.motion.poses import key_pose, pose_frames, reached, turned, unkey_pose
from artuline.core.motion.skeleton import placement, rigid, skeleton_of
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.demo.figures import ready_figure
from tests.driving import drag, handles, press


@pytest.fixture(scope="module")
def walking():
    assets = AssetStore()
    figure = ready_figure("deckhand", assets).changed(clip="crossing", position=(0.3, 0.0, 0.2), turn=0.4)
    return Scene(figures=(figure,), end=80), assets, figure


def at(scene, assets, frame):
    return keyed_pose(scene, assets, scene.figures[0], np.array([float(frame)]), layers=False)


def world(figure, pose):
    return rigid(skeleton_of(figure).global_matrices(pose.frame(0), placement(figure)))


@pytest.mark.parametrize("seed", range(8))
def test_a_limb_reaches_a_place_and_keeps_its_lengths(walking, seed):
    scene, assets, figure = walking
    pose = at(scene, assets, 30)
    p, q = world(figure, pose)
    random = np.random.default_rng(seed)
    for tip, middle, top in (("hand_l", "forearm_l", "upper_arm_l"), ("foot_r", "shin_r", "thigh_r")):
        a, b, c = (figure.bone_index[n] for n in (top, middle, tip))
        length = np.linalg.norm(p[b] - p[a]) + np.linalg.norm(p[c] - p[b])
        way = random.normal(size=3)
        goal = p[a] + way / np.linalg.norm(way) * length * random.uniform(0.4, 0.95)
        new = reached(figure, placement(figure), pose, tip, goal)
        p1, q1 = world(figure, new)
        np.testing.assert_allclose(p1[c], goal, atol=1e-6)
        np.testing.assert_allclose(np.linalg.norm(p1[b] - p1[a]), np.linalg.norm(p[b] - p[a]))
        assert rotation.angle_between(q1[c][None], q[c][None])[0] < 1e-6
        others = [i for i, x in enumerate(figure.bones) if x.name not in figure.below(top)]
        np.testing.assert_allclose(p1[others], p[others], atol=1e-12)


def test_what_is_out_of_reach_is_pointed_at(walking):
    scene, assets, figure = walking
    pose = at(scene, assets, 30)
    p, _ = world(figure, pose)
    a, c = figure.bone_index["upper_arm_l"], figure.bone_index["hand_l"]
    goal = p[a] + np.array([0.0, 5.0, 0.0])
    p1, _ = world(figure, reached(figure, placement(figure), pose, "hand_l", goal))
    way = p1[c] - p1[a]
    np.testing.assert_allclose(way / np.linalg.norm(way), [0.0, 1.0, 0.0], atol=1e-3)
    with pytest.raises(ArtulineError, match="no limb"):
        reached(figure, placement(figure), pose, "spine", goal)


def test_a_bone_is_turned_in_the_world(walking):
    scene, assets, figure = walking
    pose = at(scene, assets, 30)
    turn = rotation.from_rotation_vector(np.array([0.0, 0.5, 0.0]))
    p, q = world(figure, pose)
    p1, q1 = world(figure, turned(figure, placement(figure), pose, "chest", turn))
    i, head = figure.bone_index["chest"], figure.bone_index["head"]
    np.testing.assert_allclose(np.abs(np.sum(q1[i] * rotation.multiply(turn, q[i]))), 1.0)
    np.testing.assert_allclose(p1[head] - p1[i], rotation.rotate(turn, p[head] - p[i]), atol=1e-9)


def test_a_pose_comes_and_goes_on_its_own_bones_only(walking):
    scene, assets, figure = walking
    before = at(scene, assets, 40)
    raised = turned(
        figure, placement(figure), before, "upper_arm_l", rotation.from_rotation_vector(np.array([0.0, 0.0, 1.2]))
    )
    posed = key_pose(scene, assets, figure.id, 40, raised, {"upper_arm_l"})
    arm, leg = figure.bone_index["upper_arm_l"], figure.bone_index["thigh_l"]
    np.testing.assert_allclose(at(posed, assets, 40).rotation[0, arm], raised.rotation[0, arm], atol=1e-7)
    for frame in (10, 28, 52, 70):
        np.testing.assert_allclose(at(posed, assets, frame).rotation, at(scene, assets, frame).rotation, atol=1e-7)
    # half way in, between the clip and the pose; the legs walk on
    away = rotation.angle_between(
        at(posed, assets, 34).rotation[0, arm][None], at(scene, assets, 34).rotation[0, arm][None]
    )
    assert 0.2 < away[0] < 1.2
    np.testing.assert_allclose(
        at(posed, assets, 34).rotation[0, leg], at(scene, assets, 34).rotation[0, leg], atol=1e-7
    )
    both = key_pose(posed, assets, figure.id, 70, before, {"head"})
    assert pose_frames(both, assets, both.figures[0]) == [40.0, 70.0]
    np.testing.assert_allclose(at(both, assets, 34).rotation[0, arm], at(posed, assets, 34).rotation[0, arm], atol=1e-6)
    less = unkey_pose(both, assets, figure.id, 40)
    assert pose_frames(less, assets, less.figures[0]) == [70.0]
    assert unkey_pose(less, assets, figure.id, 70).figures[0].layers == ()
    with pytest.raises(ArtulineError, match="no pose"):
        unkey_pose(less, assets, figure.id, 40)


def test_a_keyed_pose_steers_physics(walking):
    scene, assets, figure = walking
    scene = edit.hand_over(
        scene.changed(ground=None, gravity=(0.0, 0.0, 0.0)), figure.id, None, 10, 200, 0, 0, tone=1.0
    )
    raised = turned(
        figure,
        placement(figure),
        at(scene, assets, 40),
        "upper_arm_l",
        rotation.from_rotation_vector(np.array([0.0, 0.0, 1.0])),
    )
    posed = key_pose(scene, assets, figure.id, 40, raised, {"upper_arm_l"})

    def lifted(made):
        take = run(made, assets)
        index = {r.body: i for i, r in enumerate(take.bodies)}
        return take.position[40, index["hand_l"], 1] - take.position[40, index["chest"], 1]

    assert lifted(posed) > lifted(scene) + 0.1


def test_bones_are_posed_by_handles_on_the_stage(demo, qtbot):
    demo.set_station("Blend")
    demo.session.set_frame(30)
    demo.stage.frame_selection()
    demo.session.select("deckhand", frozenset({"hand_l"}))
    box = next(b for b in demo.details.findChildren(QCheckBox) if b.accessibleName() == "Pose the keys")
    box.click()
    assert demo.room("Blend").commands.posing
    demo.stage.grab()
    rings = handles(demo)
    assert set(rings.places()) == {"move", "turn x", "turn y", "turn z"}
    figure = demo.session.scene.figures[0]
    before = demo.stage.states()[0].matrices[figure.bone_index["hand_l"], :3, 3].copy()
    spot = rings._screen(rings.place)
    drag(qtbot, demo.stage, tuple(spot), (spot[0] + 15, spot[1] - 25))
    after = demo.stage.states()[0].matrices[figure.bone_index["hand_l"], :3, 3]
    moved = demo.stage.camera.project(np.stack([before, after]), demo.stage.width(), demo.stage.height())
    np.testing.assert_allclose(moved[1, :2] - moved[0, :2], [15, -25], atol=3.0)
    demo.session.select("deckhand", frozenset({"head"}))
    demo.stage.grab()
    rings = handles(demo)
    start = rings._screen(rings.places()["turn y"])
    centre = rings._screen(rings.place)
    away = start - centre
    drag(qtbot, demo.stage, tuple(start), tuple(start + 0.5 * np.array([-away[1], away[0]])))
    scene = demo.session.scene
    assert len(scene.figures[0].layers) == 1 and demo.session.stack.undoText() == "Pose head"
    assert pose_frames(scene, demo.session.assets, scene.figures[0]) == [30.0]
    press(demo, qtbot, "Remove the pose at this frame")
    assert demo.session.scene.figures[0].layers == ()
    demo.room("Blend").commands.set_posing(False)
    assert handles(demo) is None
