"""What bodies are made of, what they weigh, and how a mass is shared out among them."""

from dataclasses import dataclass

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.physics.specs import mass_frame, shape_mass
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Body, Figure, Joint
from artuline.core.setup.anatomy import segment_of
from artuline.core.setup.mirror import mirror_pairs


@dataclass(frozen=True)
class Stuff:
    """A material: density in kg/m^3 and where the figure comes from."""

    name: str
    density: float
    source: str


MATERIALS = (
    Stuff("flesh", 985.0, "whole body at rest, Durnin & Womersley 1974"),
    Stuff("muscle", 1060.0, "Mendez & Keys 1960"),
    Stuff("fat", 900.0, "Fidanza et al. 1953"),
    Stuff("bone", 1900.0, "cortical bone, Cameron et al. 1999"),
    Stuff("oilskin", 1100.0, "coated cotton, mean of trade data"),
    Stuff("cork", 160.0, "Gibson & Ashby 1997"),
    Stuff("wood", 600.0, "pine and oak, Wood Handbook 2010"),
    Stuff("rope", 1150.0, "polyamide fibre, ISO 1140"),
    Stuff("rubber", 1200.0, "CRC Handbook"),
    Stuff("water", 998.0, "20 degrees, CRC Handbook"),
    Stuff("stone", 2650.0, "granite, CRC Handbook"),
    Stuff("aluminium", 2700.0, "CRC Handbook"),
    Stuff("steel", 7850.0, "EN 1993-1-1"),
)

# Shares of the body's mass, of one segment: Winter 2009, Biomechanics and Motor Control of Human Movement, table 4.1,
# after Dempster 1955. The trunk is shared out by volume among all that belongs to it.
SHARES = {
    "head": 0.081,
    "trunk": 0.497,
    "upper arm": 0.028,
    "forearm": 0.016,
    "hand": 0.006,
    "thigh": 0.100,
    "shin": 0.0465,
    "foot": 0.0145,
}
_TRUNK = ("spine", "collar", "pelvis")
NOTED_RATIO = 10.0  # of the masses of joined bodies, above which a check says so
HEAVY = 1.6  # times the usual mass, above or below which a check says so
FEW = 3  # bodies, up to which a figure is not weighed
MOST_RATIO = 8.0  # between joined bodies, when a mass is shared out by volume


def material_of(density: float) -> str:
    """The material of that density, or an empty name."""
    return next((m.name for m in MATERIALS if abs(m.density - density) < 0.5), "")


def body_volume(body: Body) -> float:
    """Volume of a body's shapes, m^3; overlaps count twice."""
    return sum(shape_mass(s)[0] for s in body.shapes)


def body_mass(body: Body) -> float:
    """Mass of a body, kg; 0 if it has neither a shape nor a mass."""
    return body.mass if body.mass is not None else body_volume(body) * body.density


def centre_of_mass(figure: Figure, p: Array, q: Array) -> Array:
    """Centre of mass (3,) of a figure whose bones stand at p (B, 3), q (B, 4)."""
    total, sum_ = 0.0, np.zeros(3)
    for body in figure.bodies:
        b, mass = figure.bone_index[body.bone], body_mass(body)
        volume = max(body_volume(body), 1e-30)
        for s in body.shapes:
            part = mass * shape_mass(s)[0] / volume
            sum_ += part * (p[b] + rotation.rotate(q[b], mass_frame(s)[0]))
            total += part
    return sum_ / total if total > 0.0 else p.mean(axis=0)


def usual_mass(figure: Figure, assets: AssetStore) -> tuple[float, str]:
    """What a figure of this size would weigh, kg, and by what it is judged.

    Two legs and two arms: a body mass index of 23. Else the volume of a closed skin, in flesh; else 0.
    """
    p = rest_matrices(figure)[:, :3, 3]
    names = [segment_of(b.name) for b in figure.bones]
    mesh = Mesh.from_arrays(assets[figure.asset]) if figure.asset else None
    points = mesh.skin(rest_matrices(figure)) if mesh is not None else p
    height = float(np.ptp(points[:, 1]))
    if names.count("thigh") == 2 and names.count("hand") >= 2 and "pastern" not in names:
        return 23.0 * height**2, f"a person of {height:.2f} m"
    soft = {c for s in figure.softs for c in s.clusters}
    if mesh is None or (soft and all(b.bone in soft for b in figure.bodies)):
        # what is soft says how dense it is
        return 0.0, ""
    a, b, c = (points[mesh.triangles[:, k]] for k in range(3))
    volume = abs(float(np.einsum("ij,ij->", a, np.cross(b, c)))) / 6.0
    return 985.0 * volume, "its skin filled with flesh"


def balance(figure: Figure, total: float) -> tuple[tuple[Body, ...], str]:
    """Bodies with masses that sum up to ``total`` kg, and how they were shared out.

    By published shares where every body's bone names a segment of a person, else by volume, with no more than
    ``MOST_RATIO`` between joined bodies.
    """
    kinds = [_segment(figure, b) for b in figure.bodies]
    volume = np.array([max(body_volume(b), 1e-9) for b in figure.bodies])
    person = kinds.count("thigh") == 2 and kinds.count("hand") == 2 and "head" in kinds and None not in kinds
    if person:
        share = np.zeros(len(volume))
        for kind, whole in SHARES.items():
            mine = [i for i, k in enumerate(kinds) if k == kind]
            sides = 1 if kind in ("head", "trunk") else 2
            if mine:
                share[mine] = whole * sides * volume[mine] / volume[mine].sum()
        how = "by anatomy"
    else:
        share = _limited(figure, volume / volume.sum())
        index = {b.bone: i for i, b in enumerate(figure.bodies)}
        for a, b in mirror_pairs(figure).items():
            # what was moved between neighbours one after the other is the same on both sides again
            if a < b and a in index and b in index and abs(volume[index[a]] / volume[index[b]] - 1.0) < 0.02:
                share[index[a]] = share[index[b]] = 0.5 * (share[index[a]] + share[index[b]])
        how = "by volume"
    share = share / share.sum() * total
    return tuple(b.changed(mass=float(m)) for b, m in zip(figure.bodies, share)), how


def uneven(figure: Figure) -> tuple[float, Joint] | None:
    """The joint whose two bodies differ most in mass, by how many times; None where none differs more than ``NOTED_RATIO`` times. Flesh on added bones and clusters may be light."""
    mass = {b.id: body_mass(b) for b in figure.bodies}
    soft = {c for s in figure.softs for c in s.clusters}
    flesh = {b.id for b in figure.bodies if b.bone in soft or figure.bones[figure.bone_index[b.bone]].flesh is not None}
    pairs = [(mass[j.parent], mass[j.child], j) for j in figure.joints if j.child not in flesh]
    ratios = [(max(a, b) / min(a, b), j) for a, b, j in pairs if min(a, b) > 0.0]
    worst = max(ratios, key=lambda x: x[0], default=None)
    return worst if worst is not None and worst[0] > NOTED_RATIO else None


def unlikely(total: float, usual: float) -> bool:
    """Whether a mass is far from what is usual (0: not known)."""
    return usual > 0.0 and not 1.0 / HEAVY < total / usual < HEAVY


def balanced(figure: Figure, assets: AssetStore) -> tuple[Body, ...]:
    """The figure's bodies, with their masses shared out where the shapes alone would give ones that a check warns of."""
    total = sum(body_mass(b) for b in figure.bodies)
    usual, _ = usual_mass(figure, assets)
    odd = unlikely(total, usual) and len(figure.bodies) > FEW
    if total <= 0.0 or (uneven(figure) is None and not odd):
        return figure.bodies
    return balance(figure, usual if odd else total)[0]


def _segment(figure: Figure, body: Body) -> str | None:
    kind = segment_of(body.bone)
    if kind in _TRUNK:
        return "trunk"
    if kind is None and body.id not in figure.joint_of:
        return "trunk"  # the root
    return kind if kind in SHARES else None


def _limited(figure: Figure, share: Array) -> Array:
    """Shares moved towards each other until joined bodies differ no more than ``MOST_RATIO`` times."""
    index = {b.id: i for i, b in enumerate(figure.bodies)}
    joined = [(index[j.parent], index[j.child]) for j in figure.joints]
    share = share.copy()
    for _ in range(100):
        steady = True
        for a, b in joined:
            big, small = (a, b) if share[a] >= share[b] else (b, a)
            if share[big] > MOST_RATIO * share[small] * (1.0 + 1e-9):
                both = share[big] + share[small]
                share[big], share[small] = both * MOST_RATIO / (1.0 + MOST_RATIO), both / (1.0 + MOST_RATIO)
                steady = False
        if steady:
            break
    return share
