"""Where the roots of figures are over time."""

from functools import lru_cache

import numpy as np
from scipy.interpolate import CubicHermiteSpline

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import placement
from artuline.core.scene.model import Figure, MotionKey


@lru_cache(maxsize=64)
def _position_spline(keys: tuple[MotionKey, ...]) -> CubicHermiteSpline:
    t = np.array([k.frame for k in keys])
    p = np.array([k.position for k in keys])
    return CubicHermiteSpline(t, p, _slopes(t, p))


def _slopes(t: Array, p: Array) -> Array:
    """Central slopes, zero at the ends, so that a motion starts and stops softly."""
    slopes = np.zeros_like(p)
    slopes[1:-1] = (p[2:] - p[:-2]) / (t[2:] - t[:-2])[:, None]
    return slopes


def places_at(keys: tuple[MotionKey, ...], frames: Array) -> tuple[Array, Array]:
    """Position (F, 3) and rotation (F, 4) at frames (F,), by one key or more: smooth between them, still outside."""
    frames = np.atleast_1d(np.asarray(frames, float))
    t = np.array([k.frame for k in keys])
    q = rotation.make_continuous(np.array([k.rotation for k in keys]))
    if len(t) == 1:
        return np.repeat([keys[0].position], len(frames), 0), np.repeat(q, len(frames), 0)
    f = np.clip(frames, t[0], t[-1])
    turn = rotation.normalize(CubicHermiteSpline(t, q, _slopes(t, q))(f))
    return _position_spline(keys)(f), turn


def own_root(figure: Figure, frames: Array) -> Array:
    """Where a figure's file has its origin, with its unit, at frames (F,) in which it rides on nothing: matrices (F, 4, 4)."""
    frames = np.atleast_1d(np.asarray(frames, float))
    if not figure.track:
        return np.repeat(placement(figure)[None], len(frames), axis=0)
    p, q = places_at(figure.track, frames)
    return transforms.compose(p, q, np.full((len(frames), 3), figure.unit))
