"""Which bones get a body of their own, and what is left out."""

from dataclasses import dataclass

import numpy as np

from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, skeleton_of
from artuline.core.scene.model import Figure
from artuline.core.setup.anatomy import segment_of
from artuline.core.setup.mirror import mirror_pairs

LEAST_SHARE = 0.012  # of the skin's area; bones that carry less are merged into their parent
LONG = 0.1  # of the figure's size: a chain as long as that has bodies however thin it is


@dataclass(frozen=True)
class LeftOut:
    """Bones that carry skin and have no body: they go along with the body of ``carrier``. ``share``: of the skin that they carry together."""

    bones: tuple[str, ...]
    carrier: str
    share: float


def covered(figure: Figure, share: Array, least: float = LEAST_SHARE) -> set[str]:
    """The bones that get a body, by the share of the skin (B,) that each carries: those with at least ``least``, what is merged into them
    included; with half as much where the name makes it a segment of a body, such as a hand.

    A chain that ends the skeleton, such as a tail or an ear, has bodies on all its links or on none; so has a pair on both sides.
    """
    parents = skeleton_of(figure).parents
    left, kept, whole = share.copy(), set(), _chains(figure, share, least)
    for b in range(len(parents) - 1, -1, -1):
        if share[b] == 0.0 and left[b] == 0.0:
            continue
        name, up = figure.bones[b].name, parents[b]
        enough = left[b] >= least * (0.5 if segment_of(name) else 1.0)
        if whole.get(b, enough) or up < 0 or not figure.bones[up].deforms:
            kept.add(name)
        else:
            left[up] += left[b]
    pairs, at = mirror_pairs(figure), figure.bone_index
    for one in sorted(kept):
        other = pairs.get(one, one)
        if other not in kept and share[at[other]] > 0.0:
            kept.add(other)
        elif other not in kept and share[at[one]] < least:
            kept.discard(one)  # on the other side no skin belongs to it
    return kept


def _chains(figure: Figure, share: Array, least: float) -> dict[int, bool]:
    """Of every bone of a chain that ends the skeleton, whether the chain has bodies. Fingers, and limbs whose names say what they are, go by
    each of their bones.
    """
    parents = skeleton_of(figure).parents
    carries = share > 0.0
    below: dict[int, list[int]] = {}
    for b in np.flatnonzero(carries):
        up = parents[b]
        while up >= 0 and not carries[up]:
            up = parents[up]
        below.setdefault(int(up), []).append(int(b))
    above = {c: b for b, children in below.items() for c in children}
    places = rest_matrices(figure)[:, :3, 3]
    size = max(float(np.ptp(places, axis=0).max()), 1e-9)
    found: dict[int, bool] = {}
    for end in np.flatnonzero(carries):
        if int(end) in below:
            continue
        chain = [int(end)]
        while (up := above[chain[0]]) >= 0 and len(below[up]) == 1 and above[up] >= 0:
            chain.insert(0, up)
        start = above[chain[0]]
        if (
            len(chain) < 2
            or any(segment_of(figure.bones[b].name) for b in chain)
            or (start >= 0 and segment_of(figure.bones[start].name) == "hand")
        ):
            continue
        way = places[[*([start] if start >= 0 else []), *chain]]
        long = float(np.linalg.norm(np.diff(way, axis=0), axis=1).sum()) >= LONG * size
        found |= dict.fromkeys(chain, bool(share[chain].sum() >= least or (long and least > 0.0)))
    return found


def left_out(figure: Figure, share: Array) -> list[LeftOut]:
    """The bones that carry skin (share (B,) of it) and have no body, by whose body they go along with; the most skin first."""
    found: dict[str, list[str]] = {}
    for b in np.flatnonzero(share > 0.0):
        name = figure.bones[int(b)].name
        carrier = figure.carrier(name)
        if name not in figure.body_of and carrier is not None:
            found.setdefault(carrier.bone, []).append(name)
    made = [
        LeftOut(tuple(names), carrier, float(share[[figure.bone_index[n] for n in names]].sum()))
        for carrier, names in found.items()
    ]
    return sorted(made, key=lambda x: -x.share)
