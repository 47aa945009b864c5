"""Keyed parts of a physical whole: they are carried with their keyed pose, and nothing jumps however lanes overlap."""

import numpy as np
import pytest
from benchmarks.lanes import figures, largest, pair
from hypothesis import given, settings
from hypothesis import strategies as st

from artuline.core.checks.checks import check
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_matrices, keyed_pose
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.run.build import build
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.lanes import Key, falling_softly
from artuline.core.scene.model import BodyRef, Lane, Link, LinkEnd, MotionKey, Mount, Scene, Shape, Spring, obstacle
from artuline.core.setup.ragdoll import set_up
from artuline.formats.importing import add_figure
from tests import foreign
from tests.test_mounts import pail

END = 70


@pytest.fixture(scope="module")
def walker(tmp_path_factory):
    """A figure of a stranger's, in centimetres, that swings a leg."""
    path, assets = tmp_path_factory.mktemp("walker") / "w.glb", AssetStore()
    foreign.write_centimetre_walker(path)
    scene, f, _ = add_figure(Scene(), assets, path)
    return edit.map_figure(scene, f.id, lambda x: set_up(x, assets)).changed(end=END, start=0), assets


def lanes(walker, whole, part, bone, **more):
    scene, assets = walker
    f = scene.figures[0]
    for start, (a, b, ramp_in, ramp_out) in ((None, whole), (bone, part)):
        scene = edit.hand_over(scene, f.id, start, a, b, ramp_in, ramp_out)
    return edit.group(scene, f.id, scene.figures[0].groups[1].id, **more), assets


def places(scene, assets, take):
    """Where every bone is shown (F, B, 3)."""
    f = scene.figures[0]
    root = take.root(f)
    return skeleton_of(f).global_matrices(take.poses[f.id], root)[..., :3, 3]


def against(scene, assets, take, bone, up):
    """Degrees by which a simulated body is turned against another, off its keys (F,)."""
    f = scene.figures[0]
    bone_of = {b.bone: b.id for b in f.bodies}
    a, b = (take.rotation[:, take.column(f.id, bone_of[x])] for x in (up, bone))
    q = rigid(keyed_matrices(scene, assets, f, take.frames.astype(float)))[1]
    i, j = f.bone_index[up], f.bone_index[bone]
    one = rotation.multiply(rotation.conjugate(a), b)
    two = rotation.multiply(rotation.conjugate(q[:, i]), q[:, j])
    return np.degrees(rotation.angle_between(one, two))


@pytest.mark.parametrize("rate, substeps", [(24.0, 10), (60.0, 4), (30.0, 20)])
def test_an_arm_that_is_back_on_its_keys_falls_with_the_body(walker, rate, substeps):
    scene, assets = lanes(walker, (20, 60, 0, 8), (10, 40, 0, 6), "Left UpperArm")
    scene = scene.changed(rate=rate, substeps=substeps)
    f, take = scene.figures[0], run(scene, assets)
    x = places(scene, assets, take)
    hips = f.bone_index["Mate Pelvis"]
    lone = run(edit.figure(scene, f.id, groups=scene.figures[0].groups[:1]), assets)
    lower = places(scene, assets, lone)[:, hips, 1]
    # as far down as without the arm's own interval
    assert abs(x[56, hips, 1] - lower[56]) < 0.25 and x[56, hips, 1] < 0.95 * x[0, hips, 1]
    # where it is at 0 it is as keyed against the chest, in the solver and to be seen
    assert against(scene, assets, take, "Left UpperArm", "Mate Torso")[42:58].max() < 1.5
    keys = keyed_pose(scene, assets, f, take.frames.astype(float), layers=False)
    i = f.bone_index["Left UpperArm"]
    assert np.degrees(rotation.angle_between(keys.rotation[:, i], take.poses[f.id].rotation[:, i]))[40:].max() < 1e-6
    assert take.separation.max() < 1e-3


def test_held_in_the_world_is_a_choice_that_is_said(walker):
    scene, assets = lanes(walker, (20, 60, 0, 8), (10, 40, 0, 6), "Left UpperArm", in_world=True)
    f, take = scene.figures[0], run(scene, assets)
    arm = take.column(f.id, next(b.id for b in f.bodies if b.bone == "Left UpperArm"))
    keyed = keyed_matrices(scene, assets, f, take.frames.astype(float))[:, f.bone_index["Left UpperArm"]][:, :3, 3]
    assert np.abs(take.position[42:58, arm] - keyed[42:58]).max() < 1e-6
    found = [x for x in check(scene, assets) if "in the air" in x.text]
    assert len(found) == 1 and found[0].frame == 40 and "Left UpperArm holds Mate Torso" in found[0].text
    mended = found[0].fix(scene)
    assert not [x for x in check(mended, assets) if "in the air" in x.text]


def test_all_but_an_arm_and_one_that_begins_later_than_its_parent(walker):
    scene, assets = walker
    f = scene.figures[0]
    arm = {n for n in f.below("Right UpperArm")}
    rest = tuple(b.name for b in f.bones if b.name not in arm)
    whole = edit.hand_over(scene, f.id, None, 5, 69, 0, 0)
    part = edit.figure(whole, f.id, groups=(whole.figures[0].groups[0].changed(bones=rest),))
    take = run(part, assets)
    assert against(part, assets, take, "Right UpperArm", "Mate Torso")[8:68].max() < 1.5
    later, _ = lanes(walker, (5, 60, 0, 6), (30, 50, 4, 4), "Right UpperArm")
    take = run(later, assets)
    assert against(later, assets, take, "Right UpperArm", "Mate Torso")[8:29].max() < 1.5
    x = places(later, assets, take)
    arm = x[:, f.bone_index["Right Elbow"]] - x[:, f.bone_index["Mate Torso"]]
    assert np.linalg.norm(np.diff(arm, 2, axis=0), axis=1)[24:36].max() < 0.1


def test_what_a_limp_hand_holds_is_carried_by_whatever_part_it_is_held(walker):
    """On its keys the thing would stay in the air, with the parts above the one that is held too."""
    scene, assets = walker
    f = scene.figures[0]
    for part in ("bail", "pail"):
        grip = Mount(id="m", part=part, figure=f.id, bone="Left Elbow")
        thing = pail(grip, mass=2.0, body=False)
        made = edit.hand_over(edit.add_figure(scene, thing), f.id, None, 5, 69, 0, 0)
        take = run(made, assets)
        rows = [take.column("p", b.id) for b in thing.bodies]
        hand = take.column(f.id, next(b.id for b in f.bodies if b.bone == "Left Elbow"))
        away = np.linalg.norm(take.position[:, rows] - take.position[:, hand, None], axis=2)
        assert np.abs(away[8:60] - away[0]).max() < 0.02, part
        assert take.position[60, hand, 1] < take.position[0, hand, 1] - 0.2 and take.separation.max() < 2e-3


def test_nothing_jumps_whatever_two_lanes_do():
    for k, (name, scene, assets) in enumerate(figures()):
        for n in range(k, 9, 3):
            off, frame, bone, _ = largest(pair(scene, np.random.default_rng((1, n))), assets)
            assert off < 1e-3, (name, n, frame, bone)


@given(
    st.lists(st.tuples(st.integers(0, 40), st.integers(0, 4)), min_size=1, max_size=6, unique_by=lambda x: x[0]),
    st.floats(0.5, 8.0),
    st.booleans(),
)
@settings(max_examples=60)
def test_a_lane_falls_no_faster_than_it_may_and_is_there_by_the_same_frame(keys, shortest, jumps):
    made = [Key(frame=float(f), value=v / 4) for f, v in sorted(keys)]
    # a jump is two keys at a frame
    lane = Lane(keys=(*made, made[-1].changed(value=0.0)) if jumps else made)
    acting = falling_softly(lane, shortest)
    frames = np.linspace(-10.0, 50.0, 481)
    now, drawn = acting.value(frames), lane.value(frames)
    assert (np.diff(now) > -(frames[1] - frames[0]) / shortest - 1e-9).all()
    assert (now <= drawn + 1e-9).all()
    # the highest of all that are below and fall no faster: least of what is to come and a line back from it
    ahead = [np.min(drawn[i:] + (frames[i:] - frames[i]) / shortest) for i in range(len(frames))]
    apart = np.abs(frames[:, None] - np.array([k.frame for k in lane.keys])).min(axis=1) > 1e-6
    assert np.abs(now - ahead)[apart].max(initial=0.0) < (frames[1] - frames[0]) * (1.0 + 1.0 / shortest)


def test_a_lane_at_0_all_along_is_carried_without_any_group(walker):
    scene, assets = walker
    f = scene.figures[0]
    only = edit.hand_over(scene, f.id, None, 5, 69, 0, 0)
    group = only.figures[0].groups[0].changed(bones=("Mate Pelvis", "Mate Torso"))
    off = group.changed(id="off", name="off", bones=("Left Thigh",), handover=Lane(rest=0.0))
    made = edit.figure(only, f.id, groups=(group, off))
    take = run(made, assets)
    assert against(made, assets, take, "Left Thigh", "Mate Pelvis")[8:60].max() < 1.5
    assert against(made, assets, take, "Right Calf", "Right Thigh")[8:60].max() < 1.5
    assert places(made, assets, take)[60, f.bone_index["Mate Torso"], 1] < places(made, assets, take)[0, f.bone_index["Mate Torso"], 1] - 0.1  # fmt: skip


def test_what_is_held_together_does_not_touch(walker):
    """A hand on a bar that swings, and the arm with it."""
    scene, assets = walker
    f = scene.figures[0]
    body = next(b for b in f.bodies if b.bone == "Left Elbow")
    at = keyed_matrices(scene, assets, f, np.array([2.0]))[0][f.bone_index["Left Elbow"]][:3, 3] + [0.0, -0.14, 0.0]
    keys = tuple(
        MotionKey(frame=k, position=tuple(at + np.array([0.0, 0.0, 0.1 + 0.5 * np.sin(k / 9)])))
        for k in range(-2, END + 3)
    )
    bar = obstacle("bar", Shape(kind="capsule", radius=0.02, half_length=0.5), keys)
    made = edit.hand_over(edit.add_figure(scene, bar), f.id, None, 2, END + 9, 0, 0)
    a, b = LinkEnd(figure=f.id, body=body.id, point=body.shapes[0].position), LinkEnd(figure="bar", body="bar")
    hold = Link(id="l", name="l", kind="pin", a=a, b=b, start=2.0)
    held = edit.scene(made, links=(hold,))
    arm = [body.id, next(x.id for x in f.bodies if x.bone == "Left UpperArm")]
    short = hold.changed(kind="tie", lengths=(0.0, 0.0))
    for links, passing in (
        ((hold,), True),
        ((hold.changed(kind="weld"),), True),
        ((short,), True),
        ((hold.changed(kind="tie", lengths=(0.0, 0.3)),), False),
    ):
        built = build(edit.scene(made, links=links), assets)
        rows = {ref: k for k, ref in enumerate(built.body_refs)}
        n, lists = int(built.world.apart[0]), built.world.apart
        row = rows[BodyRef("bar", "bar")]
        mine = set(lists[lists[1 + row] : lists[2 + row]].tolist())
        assert [rows[BodyRef(f.id, x)] in mine for x in arm] == [passing, passing] and n == len(rows)
    take = run(held, assets)
    assert take.separation.max() < 1e-3 and not take.held


def test_a_springy_part_does_not_end_on_its_keys_within_a_frame(walker):
    scene, assets = walker
    f = scene.figures[0]
    made = edit.springy(scene, f.id, "Left Thigh", Spring(frequency=1.0, gravity=1.0))
    take = run(made, assets)
    x = places(made, assets, take)[:, f.bone_index["Left Foot"]]
    step = np.linalg.norm(np.diff(x, axis=0), axis=1)
    assert step[-1] < 2.0 * step[-4:-1].max() and take.handover[-1].max() == 1.0
    # one that has a lane keeps it
    lane = edit.hand_over(scene, f.id, "Left Thigh", 10, 40)
    assert (
        edit.springy(lane, f.id, "Left Thigh", Spring()).figures[0].groups[0].handover
        == lane.figures[0].groups[0].handover
    )
