"""Leading what is held in the world back to its place there, with the physical body that hangs on it, without a jump."""

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.run.shown import smooth_step


class Led(Protocol):
    """Keyed motion that bodies are led to: places x (L + k, n, 3), r (L + k, n, 4), and ``left`` (L + k, n) of the way of each, None: nothing is led. ``lead``: L."""

    lead: int
    x: Array
    r: Array
    left: Array | None


class Leading:
    """What is led: how far it was from its keys when that began."""

    def __init__(self) -> None:
        #: By row: how far it was from there in place and turn (3,), (3,), and what was left of the way then.
        self._from: dict[int, tuple[Array, Array, float]] = {}
        #: The keys themselves, by row, of the course that is led now.
        self._keys: dict[int, tuple[Array, Array]] = {}
        self._course: Led | None = None

    def follow(self, course: Led) -> None:
        """Go on with a course, which may be the next one."""
        if course is self._course:
            return
        self._course, self._keys = course, {}
        if course.left is not None:
            self._lead(course, 0, [i for i in self._from if course.left[course.lead, i] > 0.0])

    def now(self, course: Led, at: int) -> NDArray[np.bool_]:
        """Which bodies are led at a substep (n,)."""
        found = np.zeros(course.x.shape[1], bool)
        if course.left is not None:
            known = list(self._from)
            found[known] = course.left[at + course.lead, known] > 0.0
        return found

    def begin(self, course: Led, at: int, rows: NDArray[np.int64], bodies: np.ndarray) -> None:
        """Lead bodies from where they are from a substep on; in place."""
        if course.left is None:
            return
        row = at + course.lead
        for i in rows.tolist():
            x, r = self._keys.get(i, (course.x[:, i], course.r[:, i]))
            turn = rotation.to_rotation_vector(rotation.multiply(bodies["q"][i], rotation.conjugate(r[row])))
            self._from[i] = (bodies["x"][i] - x[row], turn, float(course.left[row, i]))
        # and before it, for its speed
        self._lead(course, max(row - 2, 0), rows.tolist())

    def _lead(self, course: Led, first: int, rows: list[int]) -> None:
        assert course.left is not None or not rows
        for i in rows:
            assert course.left is not None
            x, r = self._keys.setdefault(i, (course.x[:, i].copy(), course.r[:, i].copy()))
            off, turn, whole = self._from[i]
            left = smooth_step(np.minimum(course.left[first:, i, None] / whole, 1.0))
            course.x[first:, i] = x[first:] + left * off
            course.r[first:, i] = rotation.multiply(rotation.from_rotation_vector(left * turn), r[first:])
