"""Which joints of a figure are hinges: by the names of the bones, else by their place in the skeleton."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.model import Body, Figure
from artuline.core.setup.anatomy import HINGES, segment_of
from artuline.core.setup.mirror import mirror_pairs

LONG = 0.2  # share of the figure's size from which on what comes in pairs is a limb
LOW = 0.25  # share of the figure's height below which a limb's end stands
FINGERS = ("hand", "foot")


def hinge_roles(figure: Figure, bodies: tuple[Body, ...], parents: dict[str, str]) -> dict[str, bool]:
    """The bodies (ids) whose joint may be a hinge: True where it is one whatever the clips do, as knees and elbows are; False where the clips decide, as in fingers.

    ``parents``: the body above each. A name that says something decides; without one, what lies between the first and the last link of a limb: a chain that does
    not branch, is long enough, and comes in a pair. All others are ball joints: a clip that turns a shoulder about one axis does not make it a hinge.
    """
    by_id = {b.id: b for b in bodies}
    children: dict[str, list[str]] = {b.id: [] for b in bodies}
    for child, up in parents.items():
        children[up].append(child)
    found = {}
    for body in bodies:
        segment = segment_of(body.bone)
        if body.id not in parents:
            continue
        if segment in HINGES:
            found[body.id] = True
        elif segment is None and _in_hand(body.id, by_id, parents):
            found[body.id] = False
    for inner in _limbs(figure, by_id, parents, children):
        found |= {b: True for b in inner if segment_of(by_id[b].bone) is None}
    return found


def _in_hand(body: str, by_id: dict[str, Body], parents: dict[str, str]) -> bool:
    """Whether it is a link of a finger or a toe, but not the first."""
    up = parents[body]
    if segment_of(by_id[up].bone) in FINGERS:
        return False
    while up in parents:
        up = parents[up]
        if segment_of(by_id[up].bone) in FINGERS:
            return True
    return False


def _limbs(
    figure: Figure, by_id: dict[str, Body], parents: dict[str, str], children: dict[str, list[str]]
) -> list[list[str]]:
    """The links between the first and the last of all limbs; of a limb of two links that stands on its end, the last."""
    place = rest_matrices(figure)[:, :3, 3]
    size = float(np.ptp(place, axis=0).max())
    floor, height = float(place[:, 1].min()), float(np.ptp(place[:, 1]))
    pairs, found = mirror_pairs(figure), []
    for first in (b for b, up in parents.items() if len(children[up]) > 1):
        chain = [first]
        while len(below := children[chain[-1]]) == 1:
            chain.append(below[0])
        bones = [figure.bone_index[by_id[b].bone] for b in chain]
        last = by_id[chain[-1]]
        way = np.concatenate([place[bones], [_tip(figure, last)] if last.shapes else place[bones[-1:]]])
        long = float(np.linalg.norm(np.diff(way, axis=0), axis=1).sum()) >= LONG * size
        name = by_id[first].bone
        if not long or pairs.get(name, name) == name:
            continue
        if len(chain) > 2:
            found.append(chain[1:-1])
        elif len(chain) == 2 and way[:, 1].min() < floor + LOW * height:
            found.append(chain[1:])
    return found


def _tip(figure: Figure, body: Body) -> Array:
    """The point (3,) of a body's shapes that is farthest from its bone's origin at rest."""
    found = []
    for s in body.shapes:
        half = np.array(
            {"capsule": (s.half_length + s.radius, 0.0, 0.0), "box": s.half}.get(s.kind, (s.radius, 0.0, 0.0))
        )
        local = (
            np.array(s.points)
            if s.kind == "hull"
            else half * np.array([[1, 1, 1], [1, 1, -1], [1, -1, 1], [1, -1, -1]])
        )
        local = local if s.kind == "hull" else np.concatenate([local, -local])
        found.append(np.array(s.position) + rotation.rotate(np.array(s.rotation), local))
    points = np.concatenate(found)
    p, q = rigid(rest_matrices(figure)[figure.bone_index[body.bone]])
    return np.asarray(p + rotation.rotate(q, points[np.linalg.norm(points, axis=1).argmax()]))
