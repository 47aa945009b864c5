"""Where the roots of figures are over time."""

from functools import lru_cache

import numpy as np
from scipy.interpolate import CubicHermiteSpline

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import placement
from artuline.core.scene.lanes import Curve, Track
from artuline.core.scene.model import Figure


def places_at(track: Track, frames: Array) -> tuple[Array, Array]:
    """Position (F, 3) and rotation (F, 4) at frames (F,), by one key or more; still outside them."""
    frames = np.atleast_1d(np.asarray(frames, float))
    return _values(track.position, frames), _values(track.rotation, frames)


def _values(curve: Curve, frames: Array) -> Array:
    c = curve.channel
    if len(c.times) == 1:
        return np.repeat(c.values[:, 1], len(frames), axis=0)
    if not curve.smooth:
        return c.sample(frames)
    found = np.asarray(_spline(curve)(np.clip(frames, c.times[0], c.times[-1])))
    return rotation.normalize(found) if c.path == "rotation" else found


@lru_cache(maxsize=256)
def _spline(curve: Curve) -> CubicHermiteSpline:
    """What is smooth throughout as a spline: the same to rounding, and how takes were made before curves could be anything else."""
    c = curve.channel
    return CubicHermiteSpline(c.times, c.values[:, 1], c.values[:, 2])


def own_root(figure: Figure, frames: Array) -> Array:
    """Where a figure's file has its origin, with its unit, at frames (F,) in which it rides on nothing: matrices (F, 4, 4)."""
    frames = np.atleast_1d(np.asarray(frames, float))
    if not figure.track.frames:
        return np.repeat(placement(figure)[None], len(frames), axis=0)
    p, q = places_at(figure.track, frames)
    return transforms.compose(p, q, np.full((len(frames), 3), figure.unit))
