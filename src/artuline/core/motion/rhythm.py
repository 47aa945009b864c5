"""The rhythm of keyed motion: how often in a second it shakes what hangs on a bone."""

import numpy as np
from scipy.signal import periodogram

from artuline.core.motion.keyed import keyed_matrices
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene

SLOWEST = 0.4  # Hz
MOST_FRAMES = 2000  # that are looked at
LEAST = 0.05  # m/s^2 of shaking below which there is no rhythm


def rhythm(scene: Scene, assets: AssetStore, figure: Figure, bone: str) -> float | None:
    """The strongest frequency, Hz, in the acceleration of a bone's origin over the scene's range; None where it hardly shakes.

    By the periodogram (Hann's window, zero-padded to a finer raster) of its three parts together.
    """
    frames = np.arange(scene.start, min(scene.end, scene.start + MOST_FRAMES) + 1, dtype=float)
    if len(frames) < 8:
        return None
    place = keyed_matrices(scene, assets, figure, frames, layers=False)[:, figure.bone_index[bone], :3, 3]
    shaking = np.diff(place, 2, axis=0) * scene.rate**2
    if np.sqrt(np.mean(np.sum((shaking - shaking.mean(axis=0)) ** 2, axis=1))) < LEAST:
        return None
    rates, power = periodogram(shaking, scene.rate, window="hann", nfft=8 * len(shaking), axis=0)
    total = np.where(rates >= SLOWEST, power.sum(axis=1), 0.0)
    return float(rates[np.argmax(total)])
