"""Things of the ferry, made of surfaces of revolution and of tubes. Everything in them is made up."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Material
from artuline.core.setup.hinge import with_hinge
from artuline.core.setup.parts import make_thing
from artuline.core.setup.surfaces import Surface, circle, revolved, swept
from artuline.core.setup.thing_shapes import with_shapes

WOOD = Material(name="wood", color=(0.36, 0.20, 0.09))
IRON = Material(name="iron", color=(0.06, 0.065, 0.07))
PALE = Material(name="pale wood", color=(0.62, 0.45, 0.26))
CORK = Material(name="cork", color=(0.55, 0.16, 0.06))
ROPE = Material(name="rope", color=(0.62, 0.52, 0.33))


def arc(radius: float, start: float, end: float, count: int, height: float = 0.0) -> Array:
    """Points (N, 3) of an arc about z, in degrees from x."""
    a = np.radians(np.linspace(start, end, count))
    return np.stack([radius * np.cos(a), height + radius * np.sin(a), np.zeros(count)], axis=1)


def assembled(
    name: str, assets: AssetStore, pieces: list[tuple[str, int, Surface]], materials: tuple[Material, ...]
) -> Figure:
    """A thing of surfaces, each of a part and of a material by its number."""
    names = list(dict.fromkeys(part for part, _, _ in pieces))
    points, triangles, part, material, first = [], [], [], [], 0
    for which, stuff, (p, t) in pieces:
        points.append(p)
        triangles.append(t + first)
        part.append(np.full(len(t), names.index(which)))
        material.append(np.full(len(t), stuff))
        first += len(p)
    return make_thing(
        name, assets, np.concatenate(points), np.concatenate(triangles), np.concatenate(part), names, materials,
        np.concatenate(material),
    )  # fmt: skip


def bare_pail(assets: AssetStore, name: str = "pail") -> Figure:
    """A wooden pail with two hoops, and an iron bail with a wooden grip; no bodies yet."""
    low, high, top = 0.105, 0.13, 0.26
    wall = [(0.0, 0.0), (low, 0.0), (high, top), (high - 0.012, top), (low - 0.012, 0.015), (0.0, 0.015)]
    hoops = [revolved([(r, y), (r + 0.005, y), (r + 0.005, y + 0.018), (r, y + 0.018)])
             for r, y in ((low + 0.003, 0.035), (high - 0.006, 0.205))]  # fmt: skip
    ears = [revolved([(0.0, 0.0), (0.011, 0.0), (0.011, 0.016), (0.0, 0.016)], 12) for _ in range(2)]
    outward = [rotation.from_rotation_vector(np.array([0.0, 0.0, s * np.pi / 2.0])) for s in (-1.0, 1.0)]
    knobs = [(rotation.rotate(q, p) + np.array([s * (high - 0.004), top - 0.014, 0.0]), t)
             for (p, t), q, s in zip(ears, outward, (1.0, -1.0))]  # fmt: skip
    reach = high + 0.006
    bail = np.concatenate(
        [[[reach, top - 0.014, 0.0]], arc(reach, 6.0, 174.0, 25, top + 0.01), [[-reach, top - 0.014, 0.0]]]
    )
    grip = revolved([(0.0, -0.045), (0.012, -0.045), (0.0145, -0.02), (0.0145, 0.02), (0.012, 0.045), (0.0, 0.045)], 14)
    across = rotation.from_rotation_vector(np.array([0.0, 0.0, np.pi / 2.0]))
    handle = rotation.rotate(across, grip[0]) + np.array([0.0, top + 0.01 + reach, 0.0]), grip[1]
    pieces = [("bail", 1, swept(bail, 0.0045)), ("bail", 2, handle), ("pail", 0, revolved(wall))]
    pieces += [("pail", 1, x) for x in (*hoops, *knobs)]
    return assembled(name, assets, pieces, (WOOD, IRON, PALE))


def pail(assets: AssetStore, full: bool = True, name: str = "pail") -> Figure:
    """The pail with bodies and its hinge, with 8 litres of water or empty."""
    made = with_shapes(bare_pail(assets, name), assets, {"bail": "tube", "pail": "hull"})
    mass = {"bail": 0.4, "pail": 9.8 if full else 1.8}
    made = made.changed(bodies=tuple(b.changed(mass=mass[b.bone], friction=0.5) for b in made.bodies))
    return with_hinge(made, assets, "pail", "bail", np.array([0.0, 0.246, 0.0]), np.array([1.0, 0.0, 0.0]))


def fender(assets: AssetStore, name: str = "fender", links: int = 4) -> Figure:
    """A cork fender on a lanyard of a few stiff lengths of rope."""
    half, radius, length = 0.17, 0.095, 0.13
    turn = np.linspace(-np.pi / 2.0, np.pi / 2.0, 9)
    side = [(radius * np.cos(a), half * np.sign(np.sin(a)) * (0.55 + 0.45 * abs(np.sin(a)))) for a in turn]
    side[0], side[-1] = (0.0, -half), (0.0, half)
    body = revolved([(max(r, 0.0), y + half) for r, y in side])
    bands = [swept(circle(radius + 0.004, y), 0.008, 8, closed=True) for y in (half - 0.05, half, half + 0.05)]
    pieces = [("fender", 0, body), *(("fender", 1, b) for b in bands)]
    pieces.append(("fender", 1, swept(np.array([[0.0, 2 * half - 0.02, 0.0], [0.0, 2 * half + 0.02, 0.0]]), 0.016, 10)))
    first = 2.0 * half + 0.02
    for k in range(links):
        low = first + k * length
        pieces.append((f"line {k + 1}", 1, swept(np.array([[0.0, low, 0.0], [0.0, low + length, 0.0]]), 0.011, 8)))
    made = assembled(name, assets, pieces, (CORK, ROPE))
    kinds = {"fender": "capsule"} | {f"line {k + 1}": "capsule" for k in range(links)}
    made = with_shapes(made, assets, kinds)
    mass = {"fender": 2.4}
    made = made.changed(bodies=tuple(b.changed(mass=mass.get(b.bone, 0.09)) for b in made.bodies))
    for k in range(links - 1, 0, -1):
        made = _strung(made, assets, f"line {k}", f"line {k + 1}", first + k * length)
    return _strung(made, assets, "fender", "line 1", first)


def _strung(figure: Figure, assets: AssetStore, child: str, parent: str, height: float) -> Figure:
    """A part that hangs on another one and turns freely: rope."""
    made = with_hinge(figure, assets, child, parent, np.array([0.0, height, 0.0]), np.array([1.0, 0.0, 0.0]))
    body = made.body_of[child].id
    joints = tuple(j.changed(kind="ball", limited=False, damping=0.4) if j.child == body else j for j in made.joints)
    return made.changed(joints=joints)


BELL_TOP = 0.034  # metres from the middle of the bell to its eye


def bell(assets: AssetStore, name: str = "bell") -> Figure:
    """A small bell that hangs by its eye."""
    wall = [
        (0.0, 0.026),
        (0.010, 0.025),
        (0.016, 0.012),
        (0.022, -0.022),
        (0.026, -0.028),
        (0.022, -0.027),
        (0.0, 0.010),
    ]
    eye = [(0.0, 0.036), (0.006, 0.034), (0.006, 0.026), (0.0, 0.024)]
    made = assembled(name, assets, [("bell", 0, revolved(wall, 20)), ("bell", 0, revolved(eye, 10))],
                     (Material(name="brass", color=(0.60, 0.42, 0.12)),))  # fmt: skip
    return with_shapes(made, assets, {"bell": "hull"})
