"""On which frames the keys of a clip lie: the rate that a file does not state, from the times that it does."""

from dataclasses import replace

import numpy as np

from artuline.core.geometry.curve import at_once
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip

#: Frames a second in use for film, television and games.
RATES = (24000 / 1001, 24.0, 25.0, 30000 / 1001, 30.0, 48.0, 50.0, 60000 / 1001, 60.0, 72.0, 90.0, 100.0, 120.0, 144.0, 240.0)  # fmt: skip
USUAL = 24.0
FINEST = 120.0  # of the rates that are known by rounded times
ROUNDED = 6e-4  # s: times that were written with three digits are off by so much


def grid_rate(times: Array) -> float | None:
    """The lowest rate in use on whose frames all times (K,), s, lie: as they are, or rounded to three digits; None if there is none.

    So keys that are seconds apart are on frames of 24 a second, and those of every frame tell which it is.
    """
    times = np.asarray(times, float)
    off = np.array([np.abs(np.round(times * r) / r - times) for r in RATES])
    exact = [r for r, x in zip(RATES, off) if (x <= at_once(times)).all()]
    if exact:
        return exact[0]
    # over a short time 23.976 cannot be told from 24 by three digits
    near = sorted(
        (r for r, x in zip(RATES, off) if (x <= ROUNDED).all() and r <= FINEST),
        key=lambda r: (r > 24.0, r % 1.0 > 0.0, r),
    )
    return near[0] if near else None


def snapped(times: Array, rate: float) -> Array:
    """Times (K,), s, with those that lie on frames but for their last digits exactly there."""
    times = np.asarray(times, float)
    exact = np.round(times * rate) / rate
    return np.where(np.abs(exact - times) <= at_once(times), exact, times)


def on_frames(clip: Clip, stated: float | None = None, likely: float | None = None) -> tuple[Clip, float, str]:
    """A clip with its keys exactly on the frames that they are meant for, its rate, and what is to be said of how that was found; empty where it leaves
    no doubt. ``stated``: the rate that its file says; ``likely``: one that is taken if all keys lie on its frames.
    """
    times = clip.key_times()
    if (
        stated is None
        and likely is not None
        and (np.abs(np.round(times * likely) / likely - times) <= at_once(times)).all()
    ):
        stated = likely
    rate = stated or (grid_rate(times) if len(times) > 1 else USUAL)
    if rate is None:
        words = f"its keys lie on no common frames; they stay where they are, and are read at {USUAL:g} frames a second"
        return clip, USUAL, words
    channels = tuple(replace(c, times=snapped(c.times, rate)) for c in clip.channels)
    apart = float(np.diff(times).min()) if len(times) > 1 else 0.0
    words = f"its keys are {apart:.3g} s apart or more; they are read at {rate:g} frames a second"
    return Clip(channels), rate, words if apart * rate > 1.5 and stated is None else ""
