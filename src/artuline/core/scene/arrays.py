"""Arrays that come from a file: their kinds, shapes, ranges and finiteness, checked once."""

from collections.abc import Mapping

import numpy as np

from artuline.core.errors import ArtulineError

Length = int | str | None


class Checked:
    """Takes arrays out of a group of them. A shape may name lengths by letters: the same letter is the same length everywhere.

    Raises ArtulineError that says which array is wrong, and how.
    """

    def __init__(self, arrays: Mapping[str, np.ndarray], what: str):
        self.arrays, self.what = arrays, what
        self.lengths: dict[str, int] = {}

    def fail(self, problem: str) -> ArtulineError:
        """An error about the group."""
        return ArtulineError(f"the data of {self.what} is damaged: {problem}")

    def take(
        self,
        name: str,
        shape: tuple[Length, ...],
        kinds: str = "f",
        *,
        low: float | None = None,
        high: float | None = None,
    ) -> np.ndarray:
        """An array of a shape (numbers, letters, None for any length) and of kinds of numbers (f, i, b), finite and within a range."""
        if name not in self.arrays:
            raise self.fail(f"{name!r} is missing")
        a = np.asarray(self.arrays[name])
        kind = {"u": "i"}.get(a.dtype.kind, a.dtype.kind)
        if kind not in kinds:
            raise self.fail(f"{name!r} holds the wrong kind of values")
        if a.ndim != len(shape):
            raise self.fail(f"{name!r} has {a.ndim} dimensions instead of {len(shape)}")
        for axis, (wanted, length) in enumerate(zip(shape, a.shape)):
            expected = self.lengths.setdefault(wanted, length) if isinstance(wanted, str) else wanted
            if expected is not None and expected != length:
                raise self.fail(f"{name!r} has {length} entries along axis {axis} instead of {expected}")
        if a.size and kind == "f" and not np.isfinite(a).all():
            raise self.fail(f"{name!r} holds a number that is not finite")
        if a.size and low is not None and a.min() < low:
            raise self.fail(f"{name!r} holds {a.min():g}, below {low:g}")
        if a.size and high is not None and a.max() > high:
            raise self.fail(f"{name!r} holds {a.max():g}, above {high:g}")
        return a
