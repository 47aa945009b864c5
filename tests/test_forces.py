"""Gravity, wind, gusts, pushes and first velocities over time, against closed forms; filters and meshes in the document."""

import numpy as np
import pytest
from pydantic import ValidationError

from artuline.core.errors import ArtulineError
from artuline.core.run.forces import gravity_at, wind_at
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import (
    Group,
    Gusts,
    Lane,
    MotionKey,
    Push,
    Scene,
    Shape,
    VectorKey,
    VectorLane,
    obstacle,
)
from artuline.formats.scene_file import load_scene, save_scene
from tests.test_links import end, two_balls

H = 1.0 / 24.0
MASS = 1000.0 * 4.0 / 3.0 * np.pi * 0.1**3


def lane(*keys):
    return VectorLane(keys=tuple(VectorKey(frame=f, value=v) for f, v in keys))


def fly(scene, assets=None):
    take = run(scene, assets or AssetStore())
    return take.position


def weightless(**more):
    return two_balls().changed(gravity=(0.0, 0.0, 0.0), **more)


def test_gravity_by_its_keys():
    """From nothing to its full strength over the range: the fall is g t^3 / 6 T."""
    scene = two_balls().changed(gravity_lane=lane((0, (0.0, 0.0, 0.0)), (48, (0.0, -9.81, 0.0))))
    y = fly(scene)[:, 0, 1]
    t = np.arange(49) * H
    np.testing.assert_allclose(2.0 - y, 9.81 * t**3 / 12.0, rtol=2e-3, atol=2e-3)


def test_gravity_may_turn_while_it_pulls():
    scene = two_balls().changed(
        gravity_lane=lane((0, (9.81, 0.0, 0.0)), (24, (9.81, 0.0, 0.0)), (24, (-9.81, 0.0, 0.0)))
    )
    x = fly(scene)[:, 0, 0] + 0.5
    assert x[24] == pytest.approx(9.81 / 2.0, rel=2e-3)
    # as fast back as it came: at rest where it is after two seconds
    assert x[48] == pytest.approx(9.81, rel=5e-3)


def test_a_push_changes_the_speed_by_impulse_over_mass():
    push = Push(id="p", figure="floats", body="left", start=10.5, frames=3.0, impulse=(0.0, 0.0, MASS))
    p = fly(weightless(pushes=(push,)))
    speed = np.diff(p[:, 0, 2]) / H
    np.testing.assert_allclose(speed[:9], 0.0, atol=1e-12)
    np.testing.assert_allclose(speed[15:], 1.0, rtol=1e-6)
    np.testing.assert_allclose(p[:, 1], p[0, 1] + np.zeros((49, 3)), atol=1e-9)


def test_a_push_beside_the_middle_turns_and_a_turning_push_only_turns():
    inertia = 0.4 * MASS * 0.1**2
    beside = Push(id="a", figure="floats", body="left", start=0, impulse=(0.0, 0.0, 1.0), point=(0.1, 0.0, 0.0))
    turn = Push(id="b", figure="floats", body="right", start=0, turn=(0.0, 0.05, 0.0))
    take = run(weightless(pushes=(beside, turn)), AssetStore())
    angle = np.unwrap(2.0 * np.arctan2(take.rotation[:, :, 1], take.rotation[:, :, 3]), axis=0)
    spin = np.diff(angle, axis=0)[10:] / H
    np.testing.assert_allclose(spin[:, 0], -0.1 / inertia, rtol=2e-2)
    np.testing.assert_allclose(spin[:, 1], 0.05 / inertia, rtol=1e-6)
    np.testing.assert_allclose(take.position[:, 1], take.position[:1, 1] + np.zeros((49, 1)), atol=1e-9)


def test_a_figure_starts_with_its_own_velocity_and_spin():
    scene = weightless()
    figure = scene.figures[0].changed(velocity=(0.0, 1.0, 0.0), spin=(0.0, 2.0, 0.0))
    p = fly(scene.changed(figures=(figure,)))
    # half a metre from the middle at 2 rad/s: 1 m/s, away from each other along z, and both up
    speed = np.diff(p, axis=0)[20:] / H
    np.testing.assert_allclose(speed[:, 0], [[0.0, 1.0, 1.0]] * 28, atol=1e-6)
    np.testing.assert_allclose(speed[:, 1], [[0.0, 1.0, -1.0]] * 28, atol=1e-6)


def test_wind_by_its_keys_carries_along_and_gusts_are_the_same_again():
    calm, blown = weightless(), weightless(wind_lane=lane((0, (0.0, 0.0, 0.0)), (24, (30.0, 0.0, 0.0))))
    assert fly(calm)[-1, 0, 0] == pytest.approx(-0.5)
    assert fly(blown)[-1, 0, 0] > 0.0
    frames = np.arange(0.0, 2400.0)
    scene = calm.changed(wind=(10.0, 0.0, 0.0), gusts=Gusts(strength=0.3, rate=0.8, seed=4))
    speed = wind_at(scene, frames)[:, 0]
    assert speed.mean() == pytest.approx(10.0, rel=0.05)
    assert speed.std() == pytest.approx(3.0, rel=0.25) and speed.min() >= 0.0
    np.testing.assert_array_equal(speed, wind_at(scene, frames)[:, 0])
    assert (speed != wind_at(scene.changed(gusts=Gusts(strength=0.3, rate=0.8, seed=5)), frames)[:, 0]).any()


def test_a_plate_askew_is_lifted_across_the_wind():
    scene = weightless(wind=(8.0, 0.0, 0.0))
    plate = Shape(kind="box", half=(0.3, 0.005, 0.3), rotation=(0.0, 0.0, np.sin(0.3), np.cos(0.3)))
    figure = scene.figures[0]
    bodies = (figure.bodies[0].changed(shapes=(plate,), density=200.0), figure.bodies[1])
    p = fly(scene.changed(figures=(figure.changed(bodies=bodies),)))
    assert p[12, 0, 0] > -0.5 and abs(p[12, 0, 1] - 2.0) > 0.3 * (p[12, 0, 0] + 0.5)
    assert abs(p[12, 1, 1] - 2.0) < 1e-9


@pytest.mark.parametrize("rate, substeps", [(24.0, 4), (60.0, 20)])
@pytest.mark.parametrize(
    "shape, area",
    [
        (Shape(kind="sphere", radius=0.3), np.pi * 0.3**2),
        (Shape(kind="box", half=(0.5, 0.02, 0.4)), 0.8),
        (Shape(kind="capsule", radius=0.02, half_length=0.6), np.pi * 0.02**2 + 4 * 0.02 * 0.6),
    ],
)
def test_what_falls_through_the_air_comes_to_its_terminal_speed(shape, area, rate, substeps):
    # v = u tanh(g t / u), u^2 = 2 m g / (rho C A)
    for coefficient, mass in ((0.2, 0.05), (1.4, 2.0)):
        made = obstacle("ball", shape, (MotionKey(frame=0, position=(0.0, 100.0, 0.0)),))
        body = made.bodies[0].changed(mass=mass, drag_coefficient=coefficient)
        group = Group(id="free", name="whole figure", handover=Lane(rest=1.0))
        made = made.changed(bodies=(body,), groups=(group,))
        scene = edit.add_figure(Scene(ground=None, rate=rate, end=2 * rate, substeps=substeps), made)
        last = (2.0 * mass * 9.81 / (1.225 * coefficient * area)) ** 0.5
        fallen = 100.0 - fly(scene)[:, 0, 1]
        times = np.arange(len(fallen)) / rate
        off = np.abs(fallen - last**2 / 9.81 * np.log(np.cosh(9.81 * times / last)))
        assert off.max() < 0.01 * fallen[-1]
        # who feels no air falls as if there were none, and so does what has no coefficient of its own, without wind
        freely = fly(edit.figure(scene, "ball", wind=False))[-1, 0, 1]
        assert 100.0 - freely == pytest.approx(19.62, rel=1e-2)
        assert fly(edit.figure(scene, "ball", bodies=(body.changed(drag_coefficient=None),)))[-1, 0, 1] == freely


def test_shapes_have_the_drag_of_their_kind_in_the_wind():
    gone = {}
    for kind in ("sphere", "box"):
        shape = Shape(kind="sphere", radius=0.1) if kind == "sphere" else Shape(kind="box", half=(0.1, 0.1, 0.1))
        for own in (None, 0.47, 1.1):
            made = obstacle("crate", shape, (MotionKey(frame=0),))
            body = made.bodies[0].changed(mass=1.0, drag_coefficient=own)
            group = Group(id="free", name="whole figure", handover=Lane(rest=1.0))
            scene = Scene(ground=None, gravity=(0.0, 0.0, 0.0), wind=(12.0, 0.0, 0.0), end=24)
            scene = edit.add_figure(scene, made.changed(bodies=(body,), groups=(group,)))
            gone[kind, own] = fly(scene)[-1, 0, 0]
    assert gone["sphere", None] == gone["sphere", 0.47] < gone["sphere", 1.1]
    assert gone["box", None] == gone["box", 1.1] > gone["box", 0.47] > 0.0


def test_who_does_not_collide_by_the_document():
    def apart(scene):
        p = fly(scene)
        return np.linalg.norm(p[-1, 0] - p[-1, 1])

    scene = weightless()
    figure = scene.figures[0]
    fast = scene.changed(pushes=(Push(id="p", figure="floats", body="left", start=0, impulse=(2 * MASS, 0, 0)),))
    assert fly(fast)[-1, 1, 0] > 0.6  # hit by the other
    by_word = fast.changed(figures=(figure.changed(bodies=tuple(b.changed(apart="pair") for b in figure.bodies)),))
    by_pair = fast.changed(pairs_off=((end("left"), end("right")),))
    for open_ in (by_word, by_pair):
        assert fly(open_)[-1, 1, 0] == pytest.approx(0.5)
    assert apart(fast) > 0.2
    with pytest.raises(ValidationError, match="does not collide"):
        fast.changed(pairs_off=((end("left"), end("nobody")),))


def slide(assets):
    """A slope of two triangles as an obstacle."""
    vertices = np.array([[-3.0, 0.5, -3.0], [3.0, -0.5, -3.0], [-3.0, 0.5, 3.0], [3.0, -0.5, 3.0]])
    key = assets.add({"vertices": vertices, "triangles": np.array([[0, 2, 1], [1, 2, 3]])})
    return obstacle("slope", Shape(kind="mesh", asset=key), (MotionKey(frame=0),))


def test_a_mesh_in_the_document_is_saved_and_stops_what_falls(tmp_path):
    assets = AssetStore()
    scene = two_balls(frames=36, around=(slide(assets),))
    save_scene(tmp_path / "slope.artuline", scene, assets)
    again = AssetStore()
    loaded = load_scene(tmp_path / "slope.artuline", again)
    assert loaded == scene
    p = fly(loaded, again)
    heights = p[-1, :, 1] - (-p[-1, :, 0] / 6.0)
    np.testing.assert_allclose(heights[:2], 0.1 * np.hypot(1.0, 1.0 / 6.0), atol=5e-3)
    wrong = obstacle("slope", Shape(kind="mesh", asset=again.add({"x": np.zeros(3)})), (MotionKey(frame=0),))
    with pytest.raises(ArtulineError, match="no mesh"):
        run(loaded.changed(figures=(*loaded.cast, wrong)), again)
    with pytest.raises(ValidationError, match="cannot be moved by physics"):
        edit.hand_over(loaded, "slope", None, 0, 20)


def test_a_take_knows_where_the_hardest_contact_was():
    scene = edit.scene(two_balls(frames=36), ground=Scene().ground)
    take = run(scene, AssetStore())
    hit = int(np.argmax(take.contact[:, 0] > 0.0))
    np.testing.assert_allclose(take.touch[hit, 0], [-0.5, 0.0, 0.0], atol=2e-2)
    assert gravity_at(scene, np.array([0.0, 7.0])).shape == (2, 3)


def test_a_push_may_vary_by_chance_from_a_seed():
    def away(seed, scatter=0.4):
        push = Push(
            id="p", figure="floats", body="left", start=2.0, impulse=(0.0, 0.0, MASS), scatter=scatter, seed=seed
        )
        return fly(weightless(pushes=(push,)))[-1, 0] - [-0.5, 2.0, 0.0]

    still = away(0, 0.0)
    many = np.array([away(k) for k in range(40)]) - still
    np.testing.assert_array_equal(away(3), away(3))
    size = np.sqrt(np.mean(np.sum(many**2, axis=1))) / np.linalg.norm(still)
    assert size == pytest.approx(0.4, rel=0.25)
    assert np.linalg.norm(many.mean(axis=0)) < 0.15 * np.linalg.norm(still)
