"""What a figure comes back to: its keys with feet that step, the pose it lies in, or another clip that starts where it is."""

import numpy as np
import pytest
from pydantic import ValidationError

from artuline.core.bake.bake import BakeWish, bake_figure
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_pose
from artuline.core.motion.skeleton import placement, rigid, skeleton_of
from artuline.core.run import bracket
from artuline.core.run.measures import foot_slide
from artuline.core.run.planting import lowest, ways_back
from artuline.core.run.record import run
from artuline.core.run.returns import falls
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Body, Key, Lane, Shape


def returning(boom, **values):
    scene, assets = boom
    f = scene.figures[0]
    return edit.group(scene, f.id, f.groups[0].id, **values), assets, f


def places(scene, take, figure):
    m = skeleton_of(figure).global_matrices(take.poses[figure.id], placement(figure))
    return rigid(m)


def test_a_lane_falls_from_one_to_nothing():
    def lane(*keys):
        return Lane(keys=tuple(Key(frame=f, value=v) for f, v in keys))

    assert falls(lane((0, 0), (4, 1), (10.5, 1), (20, 0.4), (22, 0), (30, 1), (40, 0))) == [(11, 22.0), (30, 40.0)]
    assert falls(lane((0, 0), (4, 1), (9, 0.5))) == []
    assert ways_back(np.array([0, 0.5, 1, 1, 0.6, 0.2, 0, 0, 1, 0.5, 0.8, 1])) == [(3, 6)]


@pytest.mark.parametrize(
    "shape",
    [
        Shape(kind="sphere", radius=0.1, position=(0.1, 0.2, 0.0)),
        Shape(kind="capsule", radius=0.05, half_length=0.2, rotation=(0.0, 0.3, 0.4, 0.866)),
        Shape(kind="box", half=(0.1, 0.2, 0.3), rotation=(0.2, 0.0, 0.4, 0.894)),
        Shape(kind="hull", points=((0, 0, 0), (0.3, 0, 0), (0, 0.2, 0), (0, 0, 0.5))),
    ],
)
def test_the_lowest_point_of_a_body_by_its_distance_from_a_plane(shape):
    from artuline.core.geometry import distance

    q = rotation.normalize(np.array([[0.3, -0.2, 0.5, 0.7]]))
    p = np.array([[0.4, 1.0, -0.3]])
    low = lowest(Body(id="b", bone="b", shapes=(shape,)), p, q)[0]
    grid = np.stack(np.meshgrid(*(np.linspace(-0.8, 0.8, 81),) * 2, indexing="ij"), axis=-1).reshape(-1, 2)
    level = np.column_stack([grid[:, 0] + 0.4, np.full(len(grid), low), grid[:, 1] - 0.3])
    gap = distance.shape(rotation.rotate(rotation.conjugate(q), level - p), shape)
    assert gap.min() == pytest.approx(0.0, abs=1.5e-2)
    assert distance.shape(rotation.rotate(rotation.conjugate(q), level - [0, 0.01, 0] - p), shape).min() > 0.0


def test_feet_step_instead_of_sliding_and_the_end_is_exact(boom):
    scene, assets, f = returning(boom, planted=False)
    loose = run(scene, assets)
    planted = run(*boom)
    slide = [foot_slide(scene, t)[0] for t in (loose, planted)]
    assert slide[1] < 0.03 and slide[1] < 0.1 * slide[0]
    # the same physics, and the keys exactly at the end
    np.testing.assert_array_equal(loose.position, planted.position)
    keys = keyed_pose(scene, assets, f, planted.frames[156:].astype(float), layers=False)
    np.testing.assert_allclose(planted.poses[f.id].rotation[156:], keys.rotation, atol=1e-12)
    # no jump where the feet begin to stand
    p, _ = places(scene, planted, f)
    steps = np.linalg.norm(np.diff(p[120:160], axis=0), axis=-1).max(axis=1)
    assert steps.max() < 0.75


def test_the_pose_at_the_end_of_physics_may_stay(boom):
    scene, assets, f = returning(boom, returns="pose")
    take = run(scene, assets)
    pose = take.poses[f.id]
    np.testing.assert_allclose(
        pose.rotation[156:], pose.rotation[156:157] + np.zeros_like(pose.rotation[156:]), atol=1e-12
    )
    p, _ = places(scene, take, f)
    assert p[-1, f.bone_index["head"], 1] < 0.6  # it still lies
    assert np.linalg.norm(np.diff(p[127:], axis=0), axis=-1).max() < 0.06
    # and the keys made of it go to the end of the range
    baked = bake_figure(scene, assets, f, take, BakeWish(2.0, 20.0))
    assert baked.end == scene.end


def test_another_clip_starts_where_the_body_is(boom):
    scene, assets, f = returning(boom, returns="clip", clip="walk")
    take = run(scene, assets)
    p, q = places(scene, take, f)
    top = f.bone_index[min(f.bodies, key=lambda b: f.bone_index[b.bone]).bone]
    goal = keyed_pose(scene, assets, f.changed(clip="walk", clip_start=128.0), take.frames.astype(float), layers=False)
    limbs = [b for b in range(len(f.bones)) if skeleton_of(f).parents[b] >= 0]
    np.testing.assert_allclose(take.poses[f.id].rotation[157:, limbs], goal.rotation[157:, limbs], atol=1e-9)
    # less than the walk's own way and half a metre from where it lay
    assert np.linalg.norm((p[157, top] - p[128, top])[[0, 2]]) < 2.0
    assert abs(p[157, top, 1] - rigid(skeleton_of(f).global_matrices(goal, placement(f)))[0][157, top, 1]) < 1e-6
    # the way back; before it the hit may turn a limp hand faster
    own = take.poses[f.id].rotation
    assert np.degrees(rotation.angle_between(own[129:], own[128:-1])).max() < 60.0
    assert np.degrees(rotation.angle_between(q[129:], q[128:-1])).max() < 75.0


def test_a_group_can_only_return_to_a_clip_that_there_is(boom):
    with pytest.raises(ValidationError, match="clip"):
        returning(boom, returns="clip", clip="swim")
    with pytest.raises(ValidationError, match="clip"):
        returning(boom, returns="clip")


def test_a_bracket_hands_its_processes_the_clip_that_is_come_back_to(boom, monkeypatch):
    scene, assets, _ = returning(boom, returns="clip", clip="walk")
    # as in a process that has not seen any clip yet
    monkeypatch.setattr(bracket, "_assets", AssetStore())
    scene = edit.scene(scene, start=120, end=132)
    arrays, _ = bracket._one((scene.model_dump_json(), bracket._needed(scene, assets)), lambda: False)
    np.testing.assert_array_equal(Take.from_arrays(arrays).position, run(scene, assets).position)
