"""Holding on: a pin on something that moves, letting go with momentum, and what is held not being pushed away."""

import numpy as np
import pytest
from benchmarks.seams import figure_of

from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.places import places_at
from artuline.core.motion.skeleton import rigid
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Link, LinkEnd, MotionKey, Shape, obstacle
from tests.test_links import end, two_balls

H = 1.0 / 24.0
SPAR = Shape(kind="capsule", radius=0.05, half_length=0.8)


def yard():
    """A spar that swings, above the left ball."""
    keys = []
    for frame, z, angle in ((0, 0.0, 0.0), (18, 0.6, 0.5), (36, -0.6, -0.4), (60, 0.3, 0.2)):
        q = rotation.from_rotation_vector(np.array([angle, 0.0, 0.3 * angle]))
        keys.append(MotionKey(frame=frame, position=(-0.5, 2.2, z), rotation=tuple(q)))
    return obstacle("yard", SPAR, tuple(keys))


def held(kind="pin", stop=None, **more):
    point = (0.0, 0.12, 0.0)
    link = Link(
        id="k",
        name="knot",
        kind=kind,
        a=end("left", point=point),
        b=LinkEnd(figure="yard", body="yard"),
        stop=stop,
        **more,
    )
    return two_balls(link, frames=60, around=(yard(),)), point


def on_yard(take, frames, point, figure):
    """Where the held point is in the yard's own frame (F, 3)."""
    i = [r.body for r in take.bodies].index("left")
    place = take.position[frames, i] + rotation.rotate(take.rotation[frames, i], np.array(point))
    p, q = places_at(figure.track, take.frames[frames].astype(float))
    return rotation.rotate(rotation.conjugate(q), place - p)


def test_a_pin_holds_on_a_yard_that_moves_within_a_millimetre():
    scene, point = held()
    take = run(scene, AssetStore())
    local = on_yard(take, slice(0, 61), point, scene.obstacles[0])
    assert 1000.0 * np.linalg.norm(local - local[0], axis=1).max() < 1.0
    assert np.ptp(take.position[:, 0, 2]) > 0.5  # it is carried along


def test_a_weld_turns_with_the_yard():
    scene, _ = held("weld")
    take = run(scene, AssetStore())
    _, q = places_at(scene.obstacles[0].track, take.frames.astype(float))
    relative = rotation.multiply(rotation.conjugate(q), take.rotation[:, 0])
    assert np.degrees(rotation.angle_between(relative, relative[:1])).max() < 0.2


@pytest.mark.parametrize("stop", [12.0, 24.0])
def test_what_lets_go_flies_on_with_its_speed(stop):
    scene, _ = held(stop=stop)
    take = run(scene.changed(gravity=(0.0, 0.0, 0.0)), AssetStore())
    k = int(stop)
    before = (take.position[k, 0] - take.position[k - 1, 0]) / H
    after = np.diff(take.position[k : k + 20, 0], axis=0) / H
    np.testing.assert_allclose(after, after[:1] + np.zeros((19, 1)), atol=1e-6)  # straight on, nothing pulls
    assert np.linalg.norm(after[0] - before) < 0.25 * np.linalg.norm(before)


def test_the_holder_does_not_push_what_it_holds():
    """The spar goes through the ball's middle: without the pin it would be thrown out."""
    inside = obstacle("yard", SPAR, (MotionKey(frame=0, position=(-0.5, 2.0, 0.0)),))
    pin = Link(id="k", name="knot", kind="pin", a=end("left"), b=LinkEnd(figure="yard", body="yard"))
    take = run(two_balls(pin, frames=24, around=(inside,)), AssetStore())
    assert take.contact[:, 0].max() == 0.0
    np.testing.assert_allclose(take.position[:, 0], take.position[:1, 0] + np.zeros((25, 1)), atol=1e-5)
    loose = run(two_balls(frames=24, around=(inside,)), AssetStore())
    assert loose.contact[:, 0].max() > 0.0


@pytest.mark.parametrize("kind, bone", [(0, "Left Elbow"), (1, "LeftLimb0B")])
@pytest.mark.parametrize("hold", ["weld", "pin"])
def test_what_takes_hold_of_something_within_it_is_not_pushed_off(kind, bone, hold):
    scene, assets = figure_of(kind)
    f = scene.figures[0]
    p, _ = rigid(keyed_matrices(scene, assets, f, np.array([0.0]))[0])
    place = p[f.bone_index[bone]]
    # a thick pole along the limb, through all that is beside what holds it
    shape = Shape(kind="box", half=(0.5, 0.05, 0.05))
    pole = obstacle("boom", shape, (MotionKey(frame=0, position=tuple(float(v) for v in place)),))
    body = f.body_of[bone].id
    link = Link(
        id="h", name="h", kind=hold, a=LinkEnd(figure=f.id, body=body), b=LinkEnd(figure="boom", body="boom"), start=3
    )
    scene = edit.scene(edit.add_figure(scene, pole), links=(link,), gravity=(0.0, 0.0, 0.0), ground=None)
    scene = edit.hand_over(scene, f.id, None, 6, 60, 0.0, 0.0).changed(end=30, substeps=4)
    scene = edit.map_figure(scene, f.id, lambda x: x.changed(clip=None))
    take = run(scene, assets)
    moved = np.linalg.norm(take.position - take.position[0], axis=2)
    assert moved.max() < 0.005
    free = edit.scene(scene, links=())
    loose = run(free, assets)
    # without the hold they do push each other apart
    assert np.linalg.norm(loose.position - loose.position[0], axis=2).max() > 0.02
