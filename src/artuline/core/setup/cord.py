"""Meshes of strands: a smooth cord whose skin follows its bones, and beads on a string."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure
from artuline.core.setup.surfaces import revolved

SIDES = 8  # of a cord
RINGS = 3  # of a part of it
STRING = 0.22  # share of a bead's radius that the string is thick


def _soft(t: Array) -> Array:
    """3 t^2 - 2 t^3: a blend without a kink at its ends."""
    return t * t * (3.0 - 2.0 * t)


def cord_mesh(figure: Figure, radius: Array, closed: bool) -> Mesh:
    """A tube around the bones (N) of a strand, ``radius`` (N,) thick. From middle to middle of two parts the skin goes over from one to the other."""
    matrices = rest_matrices(figure)
    p, q = rigid(matrices)
    n = len(p)
    lengths = np.linalg.norm(np.diff(np.concatenate([p, _tip(figure, p, q)[None]]), axis=0), axis=1)
    u = np.arange(n * RINGS + (not closed)) / RINGS
    part = np.clip(u.astype(int), 0, n - 1)
    side = np.where(u - part < 0.5, part - 1, part + 1)
    share = _soft(1.0 - np.abs(u - part - 0.5))
    if closed:
        side %= n
    else:
        share = np.where((side < 0) | (side >= n), 1.0, share)
        side = np.clip(side, 0, n - 1)
    angle = 2.0 * np.pi * np.arange(SIDES) / SIDES
    around = np.stack([np.zeros(SIDES), np.cos(angle), np.sin(angle)], axis=1)
    thick = share * radius[part] + (1.0 - share) * radius[side]
    ring = rotation.rotate(q[part][:, None], around[None])
    middle = p[part] + rotation.rotate(q[part], np.stack([(u - part) * lengths[part], *np.zeros((2, len(u)))], axis=1))
    positions = (middle[:, None] + thick[:, None, None] * ring).reshape(-1, 3)
    normals = ring.reshape(-1, 3)
    slots = np.repeat(np.stack([part, side], axis=1), SIDES, axis=0)
    weights = np.repeat(np.stack([share, 1.0 - share], axis=1), SIDES, axis=0)
    triangles = _tube(len(u), closed)
    if not closed:
        positions, normals, slots, weights, triangles = _capped(
            (middle[0], -_way(q[0]), 0), (middle[-1], _way(q[-1]), n - 1), positions, normals, slots, weights, triangles
        )
    return _mesh(matrices, positions, normals, triangles, slots, weights)


def _tip(figure: Figure, p: Array, q: Array) -> Array:
    """Where the last bone of a strand ends: as long as its shape."""
    shape = figure.body_of[figure.bones[-1].name].shapes[0]
    tip: Array = p[-1] + rotation.rotate(q[-1], np.array([2.0 * shape.position[0], 0.0, 0.0]))
    return tip


def _way(q: Array) -> Array:
    way: Array = rotation.rotate(q, np.array([1.0, 0.0, 0.0]))
    return way


def _tube(rings: int, closed: bool) -> Array:
    """Triangles (T, 3) between rings of ``SIDES`` corners, facing outward."""
    r = np.arange(rings if closed else rings - 1)
    a = r[:, None] * SIDES + np.arange(SIDES)
    b = r[:, None] * SIDES + (np.arange(SIDES) + 1) % SIDES
    c, d = ((r + 1) % rings)[:, None] * SIDES, np.arange(SIDES)
    c0, c1 = c + d, c + (d + 1) % SIDES
    return np.concatenate([np.stack([a, b, c0], -1).reshape(-1, 3), np.stack([b, c1, c0], -1).reshape(-1, 3)])


def _capped(first, last, positions, normals, slots, weights, triangles):  # type: ignore[no-untyped-def]
    """The tube with a flat cap at either end: place, normal and bone of each."""
    for at, (middle, normal, bone) in ((0, first), (len(positions) - SIDES, last)):
        ring = np.arange(at, at + SIDES)
        new = len(positions) + np.arange(SIDES)
        centre = len(positions) + SIDES
        positions = np.concatenate([positions, positions[ring], middle[None]])
        normals = np.concatenate([normals, np.repeat(normal[None], SIDES + 1, 0)])
        slots = np.concatenate([slots, np.full((SIDES + 1, 2), bone)])
        weights = np.concatenate([weights, np.tile([1.0, 0.0], (SIDES + 1, 1))])
        fan = np.stack([new, np.roll(new, -1), np.full(SIDES, centre)], axis=1)
        triangles = np.concatenate([triangles, fan if at else fan[:, ::-1]])
    return positions, normals, slots, weights, triangles


def bead_mesh(figure: Figure, radius: Array, closed: bool) -> Mesh:
    """A ball in the middle of every bone (N), ``radius`` (N,) thick, and the string through them."""
    matrices = rest_matrices(figure)
    p, q = rigid(matrices)
    string = cord_mesh(figure, STRING * radius, closed)
    ball, faces = revolved([(np.cos(a), np.sin(a)) for a in np.linspace(-0.5, 0.5, 6) * np.pi], SIDES)
    middles = np.array([figure.body_of[b.name].shapes[0].position for b in figure.bones])
    count, n = len(ball), len(p)
    turned = rotation.rotate(q[:, None], ball[None])
    places = (p + rotation.rotate(q, middles))[:, None] + radius[:, None, None] * turned
    slots = np.repeat(np.stack([np.arange(n)] * 2, axis=1), count, axis=0)
    balls = (faces[None] + count * np.arange(n)[:, None, None]).reshape(-1, 3)
    return _mesh(
        matrices,
        np.concatenate([string.positions, places.reshape(-1, 3)]),
        np.concatenate([string.normals, turned.reshape(-1, 3)]),
        np.concatenate([string.triangles, len(string.positions) + balls]),
        np.concatenate([string.slots, slots]),
        np.concatenate([string.weights, np.tile([1.0, 0.0], (n * count, 1))]),
    )


def _mesh(matrices: Array, positions: Array, normals: Array, triangles: Array, slots: Array, weights: Array) -> Mesh:
    n = len(matrices)
    return Mesh(
        positions=positions.astype(np.float32), normals=normals.astype(np.float32), triangles=triangles.astype(np.int32),
        material=np.zeros(len(triangles), np.int32), slots=slots.astype(np.int32), weights=weights.astype(np.float32),
        palette_bone=np.arange(n, dtype=np.int32), palette_bind=np.linalg.inv(matrices).astype(np.float64), palette_skin=np.zeros(n, np.int32),
    )  # fmt: skip
