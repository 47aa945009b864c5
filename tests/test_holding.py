"""Holding on: a pin on something that moves, letting go with momentum, and what is held not being pushed away."""

import numpy as np
import pytest

from artuline.core.geometry import rotation
from artuline.core.motion.places import places_at
from artuline.core.run.record import run
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
