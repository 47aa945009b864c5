"""Fitting keys: bounds hold for any curve and any rotation, exact cubics need two keys, corners and rests stay."""

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from artuline.core.bake.fit_kernels import FREE
from artuline.core.bake.hermite import Wish, fit, rests, slopes
from artuline.core.geometry import rotation


def off(keys, samples):
    return np.linalg.norm(keys.evaluate(len(samples)) - samples, axis=1)


def wave(seed, frames, rough, width=3):
    random = np.random.default_rng(seed)
    t = np.linspace(0, 1, frames)[:, None]
    out = np.zeros((frames, width))
    for k in range(1, 6):
        out += random.normal(size=width) * np.sin(2 * np.pi * k * t + random.uniform(0, 6, width)) / k**2
    return out + rough * random.normal(size=(frames, width))


@settings(max_examples=200)
@given(
    st.integers(0, 10**6), st.integers(3, 150), st.sampled_from([0.0, 0.05]), st.sampled_from([0.01, 0.1, 0.5]), st.sampled_from([0, 1, 4])
)  # fmt: skip
@example(147, 142, 0.05, 0.5, 0)
def test_the_error_bound_holds_for_any_curve(seed, frames, rough, bound, hits):
    """Also with jumps in its speed, at rows that are corners."""
    samples, random = wave(seed, frames, rough), np.random.default_rng(seed)
    corners = frozenset(random.integers(1, frames - 1, hits).tolist())
    for c in corners:
        samples[c:] += np.arange(frames - c)[:, None] * random.normal(size=3) * 0.1
    keys = fit(samples, Wish(bound, corners=corners))
    assert off(keys, samples).max() <= bound + 1e-12
    assert keys.rows[0] == 0 and keys.rows[-1] == frames - 1 and (np.diff(keys.rows) > 0).all()
    np.testing.assert_array_equal(keys.values[[0, -1]], samples[[0, -1]])


@settings(max_examples=200)
@given(st.integers(0, 10**6), st.integers(3, 120), st.sampled_from([0.2, 2.0, 20.0]), st.sampled_from([0.25, 2.0]))
def test_the_error_bound_holds_for_any_rotation(seed, frames, wild, degrees):
    """Whole turns and more: keys are unit quaternions that never flip, and every frame is within the bound."""
    turns = wave(seed, frames, 0.0) * wild
    samples = rotation.make_continuous(rotation.from_rotation_vector(turns))
    keys = fit(samples, Wish(np.radians(degrees), turning=True))
    curve = rotation.normalize(keys.evaluate(frames))
    assert np.degrees(rotation.angle_between(curve, samples)).max() <= degrees * (1.0 + 1e-9)
    np.testing.assert_allclose(np.linalg.norm(keys.values, axis=1), 1.0, atol=1e-9)
    assert (np.sum(curve * samples, axis=1) > 0.0).all()


@given(st.lists(st.floats(-2, 2), min_size=4, max_size=4))
def test_a_cubic_needs_two_keys(c):
    x = np.linspace(0, 1, 40)
    samples = np.stack([np.polynomial.Polynomial(c)(x)] * 3, axis=1)
    keys = fit(samples, Wish(1e-5, rests=False))
    assert len(keys.rows) == 2


def test_smoother_curves_and_looser_bounds_need_fewer_keys():
    samples = wave(1, 120, 0.0)
    counts = [len(fit(samples, Wish(b)).rows) for b in (0.005, 0.02, 0.1, 0.5)]
    assert counts == sorted(counts, reverse=True) and counts[0] < 20


def test_keys_are_the_least_squares():
    samples = wave(2, 61, 0.0)
    rows = np.array([0, 15, 30, 45, 60])
    keys = slopes(samples, rows, np.full(61, FREE, np.int64))
    best = np.sum((keys.evaluate(61) - samples) ** 2)
    for k in range(1, len(rows) - 1):
        for part in (keys.values, None):
            for step in (-1e-3, 1e-3):
                moved = slopes(samples, rows, np.full(61, FREE, np.int64))
                if part is not None:
                    moved.values[k] += step
                else:
                    moved.slope_in[k] += step
                    moved.slope_out[k] += step
                assert np.sum((moved.evaluate(61) - samples) ** 2) >= best - 1e-9


@pytest.mark.parametrize("corner", [10, 25, 39])
def test_a_hit_stays_where_it_was(corner):
    """The rest before it is two keys, and the speed after it is what it was."""
    t = np.arange(50.0)
    samples = np.stack([np.where(t < corner, 0.0, (t - corner) * 0.2)] * 3, axis=1)
    keys = fit(samples, Wish(1e-4, corners=frozenset({corner})))
    assert keys.rows.tolist() == [0, corner, 49]
    np.testing.assert_allclose(keys.slope_in[1], 0.0, atol=1e-5)
    np.testing.assert_allclose(keys.slope_out[1], 0.2, atol=1e-5)


def test_a_long_rest_is_two_keys_without_slopes():
    t = np.arange(90.0)
    samples = np.where(
        (t > 20) & (t < 70),
        1.0,
        1.0 + 0.3 * np.sin(np.maximum(20 - t, 0) / 4) + 0.3 * np.sin(np.maximum(t - 69, 0) / 4),
    )[:, None]
    assert [(a, b) for a, b in rests(samples, 1e-6) if b - a > 20] == [(20, 69)]
    keys = fit(samples, Wish(0.01))
    inside = (keys.rows >= 20) & (keys.rows <= 69)
    assert inside.sum() == 2
    still = keys.evaluate(np.linspace(20.0, 69.0, 500))
    assert np.ptp(still) < 1e-4


@pytest.mark.parametrize("origin", [0, 7])
def test_keys_on_every_second_frame(origin):
    samples = wave(3, 101, 0.0)
    keys = fit(samples, Wish(0.02, step=2, origin=origin))
    assert all((r + origin) % 2 == 0 for r in keys.rows[1:-1].tolist())
    assert off(keys, samples).max() <= 0.02 and len(keys.rows) < 40
