"""Rotations against SciPy and against their own laws."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from artuline.core.geometry import rotation, transforms

numbers = st.floats(-1.0, 1.0, allow_nan=False)
vectors = st.tuples(numbers, numbers, numbers).map(np.array)
quaternions = (
    st.tuples(numbers, numbers, numbers, numbers)
    .filter(lambda q: np.linalg.norm(q) > 0.1)
    .map(lambda q: rotation.normalize(np.array(q)))
)


@given(quaternions, quaternions, vectors)
def test_product_rotates_by_the_second_first(a, b, v):
    expected = Rotation.from_quat(a).apply(Rotation.from_quat(b).apply(v))
    np.testing.assert_allclose(rotation.rotate(rotation.multiply(a, b), v), expected, atol=1e-12)


@given(quaternions)
def test_matrix_and_quaternion_agree_with_scipy(q):
    matrix = rotation.to_matrix(q)
    np.testing.assert_allclose(matrix, Rotation.from_quat(q).as_matrix(), atol=1e-12)
    back = rotation.from_matrix(matrix)
    assert min(np.abs(back - q).max(), np.abs(back + q).max()) < 1e-12


@given(vectors)
def test_exponential_and_logarithm_are_inverse(v):
    v = 3.0 * v / max(1.0, np.linalg.norm(v))
    np.testing.assert_allclose(rotation.to_rotation_vector(rotation.from_rotation_vector(v)), v, atol=1e-9)


@given(quaternions)
def test_swing_and_twist_multiply_back(q):
    swing, twist = rotation.swing_twist(q)
    assert np.linalg.norm(swing) <= np.pi + 1e-9 and abs(twist) <= np.pi + 1e-9
    s = rotation.from_rotation_vector(np.array([0.0, *swing]))
    t = rotation.from_rotation_vector(np.array([twist, 0.0, 0.0]))
    assert rotation.angle_between(rotation.multiply(s, t), q) < 1e-6


@given(quaternions, quaternions, st.floats(0.0, 1.0))
def test_slerp_divides_the_angle(a, b, share):
    whole = rotation.angle_between(a, b)
    part = rotation.angle_between(a, rotation.slerp(a, b, np.array(share)))
    assert abs(part - share * whole) < 1e-6


@given(vectors.filter(lambda v: np.linalg.norm(v) > 0.1), vectors.filter(lambda v: np.linalg.norm(v) > 0.1))
def test_align_turns_one_direction_onto_the_other(a, b):
    turned = rotation.rotate(rotation.align(a, b), a / np.linalg.norm(a))
    np.testing.assert_allclose(turned, b / np.linalg.norm(b), atol=1e-6)


@pytest.mark.parametrize("off", [0.0, 1e-9, 1e-6, 1e-5, 4e-5, 1e-4])
def test_align_of_nearly_opposite_directions_meets_the_direction(off):
    made = rotation.rotate(
        rotation.align([0.5, 0.0, off], [-1.0, 0.0, 0.0]), np.array([0.5, 0.0, off]) / np.hypot(0.5, off)
    )
    np.testing.assert_allclose(made, [-1.0, 0.0, 0.0], atol=1e-9)


def test_align_of_opposite_directions_is_half_a_turn():
    np.testing.assert_allclose(rotation.rotate(rotation.align([0, 1, 0], [0, -1, 0]), [0, 1.0, 0]), [0, -1, 0])


def test_continuous_signs_never_flip():
    angles = np.linspace(0.0, 4.0 * np.pi, 50)
    q = np.stack([np.sin(angles / 2), 0 * angles, 0 * angles, np.cos(angles / 2)], -1)
    broken = q * np.where(np.arange(50) % 3 == 0, -1.0, 1.0)[:, None]
    steps = np.sum(rotation.make_continuous(broken)[1:] * rotation.make_continuous(broken)[:-1], axis=-1)
    assert (steps > 0).all()


@given(quaternions, vectors, st.tuples(*[st.floats(0.1, 3.0)] * 3).map(np.array))
def test_matrices_split_into_what_they_were_made_of(q, t, s):
    p, r, scale = transforms.decompose(transforms.compose(t, q, s))
    np.testing.assert_allclose(p, t, atol=1e-12)
    np.testing.assert_allclose(scale, s, atol=1e-9)
    assert rotation.angle_between(r, q) < 1e-6


def test_a_mirrored_matrix_splits_into_a_negative_scale():
    m = np.diag([-2.0, 3.0, 4.0, 1.0])
    p, r, scale = transforms.decompose(m)
    np.testing.assert_allclose(transforms.compose(p, r, scale), m, atol=1e-12)
    assert scale[0] < 0


@given(st.integers(0, 10_000), st.floats(0.5, 4.0))
def test_a_blend_over_time_does_not_jump_where_two_turns_are_opposite(seed, speed):
    rng = np.random.default_rng(seed)
    frames, axes = 400, rng.normal(size=(2, 3))
    t = np.linspace(0.0, 1.0, frames)[:, None]
    a, b = (rotation.from_rotation_vector(speed * np.pi * t * x / np.linalg.norm(x) + rng.normal(size=3)) for x in axes)
    share = np.clip(1.2 - 1.4 * t[:, 0], 0.0, 1.0)
    made = rotation.blend_over_time(a, b, share)
    steps = rotation.angle_between(made[1:], made[:-1])
    own = max(rotation.angle_between(x[1:], x[:-1]).max() for x in (a, b))
    apart = rotation.to_rotation_vector(rotation.multiply(b, rotation.conjugate(a)))
    # but where they meet the long way round, whose axis turns at once there
    near = np.linalg.norm(apart, axis=1).min() < 0.5
    assert near or steps.max() < 12.0 * own + 2.0 * np.pi * np.diff(share).max() + 0.05
    np.testing.assert_allclose(rotation.angle_between(made[share == 1.0], b[share == 1.0]), 0.0, atol=1e-6)
    np.testing.assert_allclose(rotation.angle_between(made[share == 0.0], a[share == 0.0]), 0.0, atol=1e-6)


@given(st.integers(0, 10_000))
def test_a_blend_over_time_of_what_is_near_is_the_short_way(seed):
    rng = np.random.default_rng(seed)
    a = rotation.normalize(rng.normal(size=(50, 4)))
    b = rotation.multiply(rotation.from_rotation_vector(rng.uniform(-0.8, 0.8, (50, 3))), a)
    share = rng.uniform(size=50)
    off = rotation.angle_between(rotation.blend_over_time(a, b, share), rotation.slerp(a, b, share))
    np.testing.assert_allclose(off, 0.0, atol=1e-6)
