"""Directions of joint rows against finite differences of the coordinates that they belong to."""

import numpy as np
import pytest
from benchmarks.accuracy import oscillator
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from artuline.core.geometry import rotation
from artuline.core.physics import joints
from artuline.core.physics.kernels import angle_of, damper, decay, poles, short_sincos
from artuline.core.physics.state import CONE, SWING_Y, SWING_Z, TWIST
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.scene.model import Shape

BALL = Shape(kind="sphere", radius=0.1)


def turned(seed, size):
    random = np.random.default_rng(seed)
    swing = random.uniform(-1, 1, 2) * size
    twist = random.uniform(-0.9, 0.9) * size
    q = rotation.multiply(
        rotation.from_rotation_vector(np.array([0.0, *swing])), rotation.from_rotation_vector(np.array([twist, 0, 0]))
    )
    parent = rotation.normalize(random.normal(size=4))
    frame_p, frame_c = (rotation.normalize(random.normal(size=4)) for _ in range(2))
    child = rotation.multiply(rotation.multiply(rotation.multiply(parent, frame_p), q), rotation.conjugate(frame_c))
    bodies = [BodySpec((BALL,), rotation=parent), BodySpec((BALL,), rotation=child)]
    joint = JointSpec(0, 1, frame_c=frame_c, frame_p=frame_p, limits=(0.4, 0.9, -0.5, 0.5))
    return World(bodies, [joint], contacts=False), random


def coordinate(world, row):
    j = world.joints
    sy, sz, tw = joints.joint_angles(world.bodies, j, 0, False)
    if row == CONE:
        # the cone's own measure, whose gradient the row is up to scale
        return np.hypot(sy / 0.4, sz / 0.9)
    return {TWIST: tw, SWING_Y: sy, SWING_Z: sz}[row]


@settings(max_examples=60)
@given(st.integers(0, 10**6), st.sampled_from([TWIST, SWING_Y, SWING_Z, CONE]), st.sampled_from([0.3, 1.2, 2.2]))
def test_a_row_points_where_its_coordinate_grows_fastest(seed, row, size):
    world, _ = turned(seed, size)
    b, j = world.bodies, world.joints
    sy, sz, tw = joints.joint_angles(b, j, 0, False)
    assume(0.05 < np.hypot(sy, sz) < 2.6 and abs(tw) < 2.6)
    joints.aim_row(b, j, 0, row)
    direction = j["dir"][0][row].copy()
    start, gradient, step = b["q"][1].copy(), np.zeros(3), 1e-6
    for axis in range(3):
        values = []
        for sign in (1, -1):
            turn = rotation.from_rotation_vector(sign * step * np.eye(3)[axis])
            b["q"][1] = rotation.multiply(turn, start)
            values.append(coordinate(world, row))
        gradient[axis] = (values[0] - values[1]) / (2 * step)
    if row == CONE:
        gradient *= np.linalg.norm(direction) / np.linalg.norm(gradient)
    np.testing.assert_allclose(direction, gradient, atol=2e-4 * max(1.0, np.linalg.norm(gradient)))


@given(st.floats(0.0, 1.3), st.floats(0.05, 2.0), st.floats(0.05, 2.0), st.floats(-3.1, 3.1))
def test_the_cone_is_its_ellipse(length, ly, lz, angle):
    sy, sz = length * np.cos(angle), length * np.sin(angle)
    share = np.hypot(sy / ly, sz / lz)
    excess = joints.cone_excess(sy, sz, ly, lz)
    assert (excess > 1e-9) == (share > 1.0 + 1e-9) or abs(share - 1.0) < 1e-6
    if share > 1e-6:
        edge = excess + length / share
        assert edge == pytest.approx(length)


@given(st.floats(-20.0, 20.0))
def test_sines_of_short_angles_are_exact_and_those_of_others_still_a_rotation(x):
    s, c = short_sincos.py_func(x)
    assert s * s + c * c == pytest.approx(1.0, abs=1e-14)
    if abs(x) <= 1.0:
        bound = 1e-13 if abs(x) < 0.2 else 1e-6
        assert abs(s - np.sin(x)) < bound and abs(c - np.cos(x)) < bound


@given(st.floats(0.0, 5.0))
def test_decay_is_the_exponential(x):
    assert decay.py_func(x) == pytest.approx(np.exp(-x), rel=1e-15)


@given(st.floats(-1.0, 1.0), st.floats(1e-9, 1.0))
def test_the_angle_of_a_sine_and_a_cosine_is_exact_to_rounding(s, c):
    assert angle_of(s, c) == pytest.approx(np.arctan2(s, c), rel=1e-15, abs=1e-290)


@settings(max_examples=50)
@given(
    st.floats(0.3, 10.0), st.floats(0.05, 2.5), st.floats(-500.0, 500.0),
    st.lists(st.sampled_from([1.0, 0.5, 0.25]), min_size=4, max_size=40),
)  # fmt: skip
def test_a_spring_row_is_exact_whatever_the_steps_and_the_load(frequency, ratio, load, parts):
    o, x, v, t, last = 2 * np.pi * frequency, 1.0, 0.0, 0.0, 0.0
    rest = load / o**2
    for part in parts:
        h = part / 240.0
        s, p, e = poles(frequency, ratio, h, last)
        v = (v + 0.5 * (h + last) * load - p * x - e * v) / (1.0 + s)
        x, t, last = x + h * v, t + h, h
        assert x == pytest.approx(rest + (1.0 - rest) * oscillator(o, ratio, t), abs=1e-5 * max(1.0, abs(rest)))


@given(st.floats(0.0, 50.0), st.floats(-100.0, 100.0), st.floats(1e-4, 0.1))
def test_a_damped_row_falls_off_exactly_and_comes_to_its_terminal_speed(damping, load, h):
    v = start = 3.0
    for n in range(1, 20):
        s, e = damper(damping, h)
        v = (v + h * load - e * v) / (1.0 + s)
        fall = np.exp(-damping * n * h)
        wanted = start * fall + (load * (1.0 - fall) / damping if damping > 1e-6 else load * n * h)
        assert v == pytest.approx(wanted, rel=1e-6, abs=1e-4)


@pytest.mark.parametrize(
    "kind, locked", [("ball", 3), ("pin", 3), ("hinge", 5), ("fixed", 6), ("weld", 6), ("slide", 5)]
)
def test_a_kind_locks_what_its_name_says(kind, locked):
    bodies = [BodySpec((BALL,)), BodySpec((BALL,), position=np.array([0.5, 0, 0]))]
    world = World(bodies, [JointSpec(0, 1, kind)], contacts=False)
    assert (world.joints["mode"][0] == 1).sum() == locked


@pytest.mark.parametrize("spin, beyond", [(6.0, 0.1), (-6.0, 0.1), (4.0, 0.0)])
def test_a_limit_that_is_missed_is_told_and_else_switched_on(spin, beyond):
    bodies = [BodySpec((BALL,), free=False), BodySpec((BALL,), spin=np.array([spin, 0.0, 0.0]))]
    world = World(bodies, [JointSpec(0, 1, "hinge", limits=(0.0, 0.0, -0.5, 0.5))], contacts=False)
    b, j, h = world.bodies, world.joints, 0.1
    b["x1"], b["q1"], b["tv"], b["tw"] = b["x"], b["q"], b["v"], b["w"]
    b["q1"][1] = rotation.from_rotation_vector(np.array([spin * h, 0.0, 0.0]))
    joints.prepare_joints(b, j, h)
    _, angle, changed = joints.residuals(b, j, h, False, False, False)
    assert angle == pytest.approx(beyond, abs=1e-9) and not changed and j["state"][0, TWIST] == 0
    _, _, changed = joints.residuals(b, j, h, True, True, False)
    assert changed == (beyond > 0.0) and j["state"][0, TWIST] == (np.sign(spin) if beyond else 0.0)
