"""What hangs on what: keyed parts of a physical whole, which are carried by it with their keyed pose."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry.rotation import Array

FREQUENCY = 120.0  # Hz at which what is on its keys below a physical body holds its keyed pose against it


def carried_frequency(handover: Array, carrier: Array) -> Array:
    """Drive in Hz of the joints of bodies that are less physical than what carries them (see ``Carriage.carriers``): none where they are as much."""
    less = np.where(carrier > 0.0, 1.0 - handover / np.where(carrier > 0.0, carrier, 1.0), 0.0)
    return np.asarray(FREQUENCY * np.clip(less, 0.0, 1.0) ** 1.5)


@dataclass(frozen=True, eq=False)
class Held:
    """A figure, by its index, that hangs by a mount on the body of a row at the frames at which it ``acts``."""

    figure: int
    holder: int
    acts: Callable[[float], bool]


class Carriage:
    """How the n bodies of a world hang together. ``figures``: the rows of each; ``order``: their indices, those that ride after what they ride on; ``joints``: parent
    and child rows of the joints of figures; ``held``: the mounts; ``in_world`` (n,): bodies that are held in the world where they are on their keys.
    """

    def __init__(
        self, figures: Sequence[NDArray[np.int64]], order: Sequence[int], joints: Sequence[tuple[int, int]], held: Sequence[Held],
        in_world: NDArray[np.bool_],
    ):  # fmt: skip
        self._order, self._held, self.in_world = order, held, in_world
        self._above = np.full(len(in_world), -1, np.int64)
        for up, child in joints:
            at = up
            while at >= 0 and at != child:
                at = int(self._above[at])
            # what closes a loop carries nothing
            if at != child and self._above[child] < 0:
                self._above[child] = up
        self._figures = figures
        self._downwards = [sorted(rows.tolist(), key=lambda r: (self._depth(r), r)) for rows in figures]

    def _depth(self, row: int) -> int:
        deep = 0
        while self._above[row] >= 0:
            row, deep = int(self._above[row]), deep + 1
        return deep

    def carriers(self, handover: Array, frames: Array) -> Array:
        """How physical that is what each body hangs on, by joints and mounts, at frames: (F, n), 0 where nothing above it is.

        ``handover`` (F, n) with what rides. A body that is on its keys below a physical one does not hold that in the world: it keeps its keyed pose against it
        and is carried, unless its group says otherwise (``Group.in_world``).
        """
        return self._found(handover, frames, self.in_world)

    def hanging(self, handover: Array, frames: Array) -> Array:
        """The same for what is held in the world as for all others (F, n): how physical that is what it holds."""
        return self._found(np.where(self.in_world, 0.0, handover), frames, np.zeros_like(self.in_world))

    def _found(self, handover: Array, frames: Array, none: NDArray[np.bool_]) -> Array:
        found = np.zeros_like(handover)
        for k in self._order:
            rows = self._figures[k]
            for held in (h for h in self._held if h.figure == k):
                # whatever part is held, the whole thing hangs on it
                on = np.array([held.acts(f) for f in frames])[:, None]
                by = np.maximum(handover[:, held.holder], found[:, held.holder])[:, None]
                found[:, rows] = np.maximum(found[:, rows], np.where(on, by, 0.0))
            for row in self._downwards[k]:
                up = self._above[row]
                if up >= 0:
                    np.maximum(found[:, row], np.maximum(handover[:, up], found[:, up]), out=found[:, row])
                if none[row]:
                    found[:, row] = 0.0
        return found

    def seen(self, handover: Array, frames: Array, shortest: float) -> Array:
        """How much of the simulation is shown of all bodies (F, n) at frames that follow each other, for what they are handed over.

        What is held in the world below a physical body is shown there as much as that is. What was carried in its keyed pose was led there, not put there: when it
        is handed over, what is shown goes over to where it is in ``shortest`` frames, not at once.
        """
        hangs = self.carriers(handover, frames)
        found = handover.copy()
        if self.in_world.any():
            found = np.where(self.in_world, np.maximum(handover, self.hanging(handover, frames)), handover)
        asked, most = found.copy(), found[0]
        for i in range(1, len(found)):
            led = (hangs[i - 1] > asked[i - 1]) | (most < asked[i - 1])
            most = np.where(led, np.minimum(asked[i], most + 1.0 / shortest), asked[i])
            found[i] = most
        return found
