"""What is somewhere else from one moment to the next, since a mount begins or ends there."""

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import leads
from artuline.core.run.build import Built

FAR, TIMES = 0.02, 5.0  # m beyond so many times the way of the moments beside it


def leaps(built: Built, frames: Array, x: Array) -> NDArray[np.bool_] | None:
    """Which bodies, on their keys x (F, n, 3), leap from the frame before to each of ``frames`` (F,): they were not on the way, touch nothing there,
    and have no speed of it. (F, n); None: none does.
    """
    found = None
    for part in built.parts:
        if not part.figure.mounts or not len(part.rows):
            continue
        which = leads(part.figure, frames)[0]
        ways = np.linalg.norm(np.diff(x[:, part.rows], axis=0), axis=2).max(axis=1)
        for i in np.flatnonzero(which[1:] != which[:-1]).tolist():
            beside = max(ways[i - 1] if i else 0.0, ways[i + 1] if i + 1 < len(ways) else 0.0)
            if ways[i] > FAR + TIMES * beside:
                found = np.zeros(x.shape[:2], bool) if found is None else found
                found[i + 1, part.rows] = True
    return found
