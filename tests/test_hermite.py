"""Fitting keys: bounds hold for any curve, exact cubics need two keys, corners stay."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from artuline.core.bake.hermite import fit, slopes


def against(samples):
    return lambda values: np.linalg.norm(values - samples, axis=1)


def wave(seed, frames, rough):
    random = np.random.default_rng(seed)
    t = np.linspace(0, 1, frames)[:, None]
    out = np.zeros((frames, 3))
    for k in range(1, 6):
        out += random.normal(size=3) * np.sin(2 * np.pi * k * t + random.uniform(0, 6, 3)) / k**2
    return out + rough * random.normal(size=(frames, 3))


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10**6), st.integers(3, 150), st.sampled_from([0.0, 0.05]), st.sampled_from([0.01, 0.1, 0.5]))
def test_the_error_bound_holds_for_any_curve(seed, frames, rough, bound):
    samples = wave(seed, frames, rough)
    keys = fit(samples, against(samples), bound, frozenset())
    assert against(samples)(keys.evaluate(frames)).max() <= bound + 1e-12
    assert keys.rows[0] == 0 and keys.rows[-1] == frames - 1 and len(set(keys.rows.tolist())) == len(keys.rows)


@given(st.lists(st.floats(-2, 2), min_size=4, max_size=4))
def test_a_cubic_needs_two_keys(c):
    x = np.linspace(0, 1, 40)
    samples = np.stack([np.polynomial.Polynomial(c)(x)] * 3, axis=1)
    assert len(fit(samples, against(samples), 1e-6, frozenset()).rows) == 2


def test_smoother_curves_and_looser_bounds_need_fewer_keys():
    samples = wave(1, 120, 0.0)
    counts = [len(fit(samples, against(samples), b, frozenset()).rows) for b in (0.005, 0.02, 0.1, 0.5)]
    assert counts == sorted(counts, reverse=True) and counts[0] < 60


def test_keys_are_interpolated_and_slopes_fitted_by_least_squares():
    samples = wave(2, 61, 0.0)
    rows = np.array([0, 15, 30, 45, 60])
    keys = slopes(samples, rows, frozenset())
    values = keys.evaluate(61)
    np.testing.assert_allclose(values[rows], samples[rows], atol=1e-12)
    best = np.sum((values - samples) ** 2)
    for k in range(len(rows)):
        for step in (-1e-3, 1e-3):
            moved = slopes(samples, rows, frozenset())
            moved.slope_in[k] += step
            moved.slope_out[k] += step
            assert np.sum((moved.evaluate(61) - samples) ** 2) >= best - 1e-12


@pytest.mark.parametrize("corner", [10, 25, 39])
def test_a_hit_stays_where_it_was(corner):
    t = np.arange(50.0)
    samples = np.stack([np.where(t < corner, 0.0, (t - corner) * 0.2)] * 3, axis=1)
    keys = fit(samples, against(samples), 1e-4, frozenset({corner}))
    assert corner in keys.rows and len(keys.rows) == 3
    i = keys.rows.tolist().index(corner)
    assert not np.allclose(keys.slope_in[i], keys.slope_out[i])
