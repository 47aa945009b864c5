"""Springy groups, forces that a figure does not feel, soft pins, and the warm-up that plays: against closed forms."""

import numpy as np
import pytest

from artuline.core.geometry import rotation
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import (
    Body,
    Bone,
    Figure,
    Group,
    Joint,
    Key,
    Lane,
    Link,
    MotionKey,
    Push,
    Scene,
    Shape,
    Spring,
    obstacle,
)
from tests.test_links import end, two_balls

RATE = 24.0
ON = Lane(rest=1.0)


def tail(spring, frames=72, around=(), **more):
    """A rod that stands out sideways from a keyed ball."""
    bones = (
        Bone(name="root", translation=(0.0, 2.0, 0.0)),
        Bone(name="tail", parent="root", translation=(0.1, 0.0, 0.0)),
    )
    rod = Shape(kind="capsule", radius=0.02, half_length=0.13, position=(0.15, 0.0, 0.0))
    bodies = (
        Body(id="root", bone="root", shapes=(Shape(kind="sphere", radius=0.05),)),
        Body(id="tail", bone="tail", shapes=(rod,)),
    )
    joint = Joint(id="tail", parent="root", child="tail", limited=False)
    group = Group(id="g", name="tail", start_bone="tail", handover=ON, spring=spring)
    figure = Figure(id="f", name="f", bones=bones, bodies=bodies, joints=(joint,), groups=(group,))
    return Scene(figures=(figure, *around), start=0, end=frames, **more)


def angle(scene):
    """The tail's shown angle about z over the frames, radians."""
    take = run(scene, AssetStore())
    return rotation.to_rotation_vector(take.poses["f"].rotation[:, 1])[:, 2]


def kick():
    return (
        Push(id="p", figure="f", body="tail", start=0.0, frames=0.5, impulse=(0.0, 0.05, 0.0), point=(0.15, 0.0, 0.0)),
    )


@pytest.mark.parametrize(("frequency", "ratio"), [(1.0, 0.05), (2.0, 0.2)])
def test_a_springy_bone_swings_at_its_frequency_and_dies_away_by_its_ratio(frequency, ratio):
    a = angle(tail(Spring(frequency=frequency, ratio=ratio), pushes=kick()))
    crossings = [i + a[i] / (a[i] - a[i + 1]) for i in range(2, 71) if a[i] * a[i + 1] < 0.0]
    period = 2.0 * float(np.mean(np.diff(crossings))) / RATE
    assert period == pytest.approx(1.0 / (frequency * np.sqrt(1.0 - ratio**2)), rel=0.03)
    half = round(0.5 * period * RATE)
    first = int(np.argmax(np.abs(a[: 2 * half])))
    later = np.abs(a[first + half - 2 : first + half + 3]).max()
    assert later / abs(a[first]) == pytest.approx(np.exp(-np.pi * ratio / np.sqrt(1.0 - ratio**2)), rel=0.06)


def test_share_shown_and_share_of_gravity():
    full = angle(tail(Spring(frequency=2.0), pushes=kick()))
    half = angle(tail(Spring(frequency=2.0, shown=0.5), pushes=kick()))
    np.testing.assert_allclose(half, 0.5 * full, atol=1e-9)
    assert np.abs(angle(tail(Spring(frequency=2.0, shown=0.0), pushes=kick()))).max() == 0.0
    # it hangs by g d / (w^2 k^2), smaller by the share: for small angles in proportion
    hung = [angle(tail(Spring(frequency=4.0, ratio=1.0, gravity=g)))[-1] for g in (0.0, 0.5, 1.0)]
    assert abs(hung[0]) < 1e-6
    assert hung[2] < 0.0 and hung[1] / hung[2] == pytest.approx(0.5, rel=0.03)


def test_springy_parts_touch_nothing_unless_they_are_told_to():
    wall = obstacle("w", Shape(kind="box", half=(0.5, 0.1, 0.5)), (MotionKey(frame=0, position=(0.5, 1.85, 0.0)),))
    swing = Spring(frequency=1.0, ratio=0.3, gravity=1.0)
    free, stopped = (angle(tail(swing.changed(collides=on), around=(wall,))).min() for on in (False, True))
    assert free < -0.4 < -0.2 < stopped


def test_a_figure_may_not_feel_gravity_or_wind():
    scene = two_balls(frames=24)
    still = edit.figure(scene, "floats", gravity=False)
    p = run(still, AssetStore()).position
    np.testing.assert_allclose(p, p[:1] + np.zeros_like(p), atol=1e-9)
    # the scene's gravity may be keyed, and pushes still count
    pushed = edit.scene(still, pushes=(Push(id="p", figure="floats", body="left", start=0.0, impulse=(0.0, 0.0, 1.0)),))
    assert run(pushed, AssetStore()).position[-1, 0, 2] > 0.1
    windy = edit.scene(still, wind=(8.0, 0.0, 0.0))
    blown = run(windy, AssetStore()).position[-1, :, 0] - p[0, :, 0]
    lee = run(edit.figure(windy, "floats", wind=False), AssetStore()).position[-1, :, 0] - p[0, :, 0]
    assert blown.min() > 0.05 and np.abs(lee).max() < 1e-9


def test_a_soft_pin_gives_by_what_hangs_on_it_and_grips_where_it_is():
    pin = Link(id="k", name="k", kind="pin", a=end("left"), frequency=2.0)
    p = run(two_balls(pin, frames=240), AssetStore()).position[:, 0]
    np.testing.assert_allclose(p[0], p[0])
    sag = p[0, 1] - p[-1, 1]
    assert sag == pytest.approx(9.81 / (2.0 * np.pi * 2.0) ** 2, rel=0.08)


def test_a_warm_up_that_plays_comes_with_its_swing():
    """A keyed turn before the range leaves the tail behind; held still it is not."""
    lane = Lane(keys=(Key(frame=0, value=1.0),))
    scene = tail(Spring(frequency=1.5, ratio=0.1), warm_up=24)
    scene = edit.group(scene, "f", "g", handover=lane)
    moving = np.array([0.0, 0.0, 1.0])
    from artuline.core.geometry.curve import Channel
    from artuline.core.motion.clip import Clip
    from artuline.core.scene.model import ClipRef

    assets = AssetStore()
    times = np.linspace(0.0, 1.0, 25)
    turns = rotation.from_rotation_vector(0.5 * np.sin(2.0 * np.pi * times)[:, None] * moving)
    clip = assets.add(Clip((Channel("root", "rotation", "LINEAR", times, turns),)).to_arrays())
    scene = edit.figure(scene, "f", clips=(ClipRef(name="sway", asset=clip, duration=1.0, loop=True),), clip="sway")
    first = {}
    for plays in (False, True):
        take = run(edit.scene(scene, warm_up_plays=plays), assets)
        first[plays] = rotation.to_rotation_vector(take.poses["f"].rotation[0, 1])[2]
    assert abs(first[False]) < 1e-6 and abs(first[True]) > 0.05
