"""How long work still takes, by how it has gone so far."""

from collections import deque

SHARE = 0.1  # of the work, from which on it is said
LEAST = 1.0  # seconds before anything is said


class Pace:
    """Work that began at a time (s); ``left`` is told of its steps."""

    def __init__(self, now: float):
        self._begin(now, 0)

    def _begin(self, now: float, done: int) -> None:
        self._began, self._first, self._last = now, done, done
        #: times and what was done, from the middle of the time so far on
        self._steps = deque([(now, done)])

    def left(self, done: int, total: int, now: float) -> float | None:
        """Seconds that are left, by the pace of the latter half of the time so far, since steps may take longer and longer; None while that is a guess."""
        if done < self._last:
            self._begin(now, done)  # another part of the work, which counts anew
        self._last = done
        half = 0.5 * (self._began + now)
        while len(self._steps) > 1 and self._steps[1][0] <= half:
            self._steps.popleft()
        at, then = self._steps[0]
        self._steps.append((now, done))
        if total <= 0 or done - self._first < SHARE * total or now - self._began < LEAST or done <= then:
            return None
        return (total - done) * (now - at) / (done - then)


def words_of(seconds: float) -> str:
    """A time that is left, in words."""
    if seconds < 90.0:
        return f"about {max(round(seconds), 1)} s left"
    if seconds < 5400.0:
        return f"about {round(seconds / 60.0)} min left"
    return f"about {seconds / 3600.0:.1f} h left"
