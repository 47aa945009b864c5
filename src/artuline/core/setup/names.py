"""Which bone of one figure stands for which of another: by name, by segment and side, by place."""

import re

import numpy as np
from scipy.optimize import linear_sum_assignment

from artuline.core.geometry.rotation import Array
from artuline.core.setup.anatomy import segment_of
from artuline.core.setup.mirror import other_side

SURE, LIKELY, GUESS = "same name", "same segment", "same place"


def plain_name(name: str) -> str:
    """A bone name without prefix, case and punctuation."""
    last = re.split(r"[:|]", name)[-1]
    return re.sub(r"[^a-z0-9]+", "", re.sub(r"(?<=[a-z0-9])(?=[A-Z])", " ", last).lower())


def side_of(name: str) -> str:
    """'l', 'r' or nothing."""
    if other_side(name) is None:
        return ""
    words = [w.lower() for w in re.findall(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])", name)]
    return "l" if "left" in words or "l" in words else "r"


def propose_mapping(
    names: list[str], places: Array, other_names: list[str], other_places: Array
) -> dict[str, tuple[str, str]]:
    """A bone among ``other_names`` for each of ``names`` that has one, and why it is thought so.

    places (N, 3), (M, 3): in the rest pose, scaled to the figure's height, feet at 0. Every bone is used once. Names that are
    equal but for prefix, case and punctuation come first; then those of one segment and side, the nearest in place; then any
    that stand within a tenth of the height, on the same side. What is left has no entry.
    """
    found: dict[str, tuple[str, str]] = {}
    plain = {plain_name(n): n for n in reversed(other_names)}
    for n in names:
        same = plain.get(plain_name(n))
        if same is not None and same not in {m for m, _ in found.values()}:
            found[n] = same, SURE
    for why, most in ((LIKELY, 0.35), (GUESS, 0.1)):
        left = [i for i, n in enumerate(names) if n not in found]
        used = {m for m, _ in found.values()}
        free = [i for i, n in enumerate(other_names) if n not in used]
        if not left or not free:
            continue
        cost = np.full((len(left), len(free)), 10.0)
        for a, i in enumerate(left):
            for b, k in enumerate(free):
                mine, theirs = segment_of(names[i]), segment_of(other_names[k])
                if side_of(names[i]) != side_of(other_names[k]) and side_of(names[i]) and side_of(other_names[k]):
                    continue
                if why == LIKELY and (mine is None or mine != theirs):
                    continue
                if why == GUESS and mine is not None and theirs is not None and mine != theirs:
                    continue
                gap = float(np.linalg.norm(places[i] - other_places[k]))
                if gap < most:
                    cost[a, b] = gap
        for a, b in zip(*linear_sum_assignment(cost)):
            if cost[a, b] < most:
                found[names[left[a]]] = other_names[free[b]], why
    return found
