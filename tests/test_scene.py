"""The document: what it refuses, what edits share, and what a fingerprint covers."""

import math

import numpy as np
import pytest
from pydantic import ValidationError

from artuline.core.errors import ArtulineError
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore, content_hash
from artuline.core.scene.model import (
    Body,
    Bone,
    Figure,
    Group,
    Joint,
    Key,
    Lane,
    MotionKey,
    Scene,
    Shape,
    obstacle,
)

BALL = Shape(kind="sphere", radius=0.1)


def figure(**more):
    bones = (Bone(name="root"), Bone(name="tip", parent="root", translation=(0, 1, 0)))
    bodies = tuple(Body(id=b.name, bone=b.name, shapes=(BALL,)) for b in bones)
    joints = (Joint(id="tip", parent="root", child="tip"),)
    plain = {"id": "f", "name": "f", "bones": bones, "bodies": bodies, "joints": joints}
    return Figure(**(plain | more))


@pytest.mark.parametrize(
    "make, words",
    [
        (lambda: figure(bodies=(Body(id="a", bone="nose"),), joints=()), "nose"),
        (lambda: figure(joints=(Joint(id="j", parent="root", child="ear"),)), "ear"),
        (lambda: figure(joints=(Joint(id="j", parent="tip", child="tip"),)), "itself"),
        (lambda: figure(groups=(Group(id="g", name="g", start_bone="wing"),)), "wing"),
        (lambda: figure(clip="dance"), "dance"),
        (lambda: figure(pairs_off=(("root", "horn"),)), "horn"),
        (
            lambda: figure(bones=(Bone(name="a", parent="b"), Bone(name="b")), bodies=(), joints=()),
            "before its parent",
        ),
        (lambda: figure(bones=(Bone(name="root"), Bone(name="root")), bodies=(), joints=()), "twice"),
        (lambda: Shape(kind="box", half=(1, 1, 0)), "half extents"),
        (lambda: Shape(kind="capsule", radius=0.0), "radius"),
        (lambda: Lane(keys=(Key(frame=5, value=1), Key(frame=4, value=0))), "forward"),
        (lambda: Joint(id="j", parent="a", child="b", twist=(0.5, -0.5)), "twist"),
        (lambda: Scene(take="take 9"), "take 9"),
        (lambda: Bone(name="b", translation=(math.nan, 0, 0)), "finite"),
        (lambda: Bone(name="b", rotation=(0, 0, 0, 0)), "quaternion"),
        (lambda: Scene(colour="blue"), "colour"),
        (lambda: obstacle("o", BALL, (MotionKey(frame=1), MotionKey(frame=1))), "forward"),
    ],
)
def test_what_cannot_be_is_refused_by_name(make, words):
    with pytest.raises(ValidationError, match=words):
        make()


def test_an_edit_shares_what_did_not_change():
    scene = Scene(figures=(figure(), figure(id="g", name="g")))
    changed = edit.bodies(scene, "f", {"tip"}, lambda b: b.changed(density=500.0))
    assert changed.figures[1] is scene.figures[1]
    assert changed.figures[0].bones[1] is scene.figures[0].bones[1]
    assert changed.figure("f").bodies[0] is scene.figure("f").bodies[0]
    assert scene.figure("f").bodies[1].density == 1000.0
    assert changed.figure("f").bodies[1].density == 500.0


def test_models_cannot_be_written_to():
    with pytest.raises(ValidationError):
        figure().name = "other"


def test_the_fingerprint_covers_what_moves_and_nothing_else():
    scene = Scene(figures=(figure(),))
    same = scene.changed(name="other", figures=(figure(name="renamed"),))
    assert same.settings_fingerprint() == scene.settings_fingerprint()
    for other in (
        scene.changed(substeps=11),
        scene.changed(gravity=(0, -1, 0)),
        scene.changed(ground=None),
        edit.bodies(scene, "f", {"tip"}, lambda b: b.changed(friction=0.1)),
        edit.hand_over(scene, "f", None, 10, 20),
    ):
        assert other.settings_fingerprint() != scene.settings_fingerprint()


def test_an_interval_is_zero_outside_and_one_inside():
    lane = edit.interval_lane(10, 40, 4, 8)
    values = lane.value(np.array([0, 10, 12, 14, 32, 36, 40, 90.0]))
    np.testing.assert_allclose(values, [0, 0, 0.5, 1, 1, 0.5, 0, 0])


def test_ramps_longer_than_the_interval_still_run_forward():
    lane = edit.interval_lane(10, 14, 30, 30)
    assert [k.frame for k in lane.keys] == sorted(k.frame for k in lane.keys)


def test_handing_over_twice_changes_the_one_group():
    scene = edit.hand_over(Scene(figures=(figure(),)), "f", "tip", 10, 20)
    again = edit.hand_over(scene, "f", "tip", 30, 40, tone=0.5)
    groups = again.figure("f").groups
    assert len(groups) == 1 and groups[0].handover.keys[0].frame == 30
    assert len(edit.hand_over(again, "f", None, 0, 5).figure("f").groups) == 2


def test_equal_content_is_stored_once_and_read_only():
    store = AssetStore()
    key = store.add({"a": np.arange(3.0)})
    assert store.add({"a": np.arange(3.0)}) == key and len(store) == 1
    assert content_hash({"a": np.arange(3)}) != key
    with pytest.raises(ValueError):
        store[key]["a"][0] = 9
    with pytest.raises(ArtulineError, match="missing"):
        store["nothing"]
