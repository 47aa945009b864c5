"""What is to be drawn: plain arrays, made from a scene and a pose, that a renderer can draw."""

from dataclasses import dataclass, field

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.geometry.rotation import Array
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Shape

Rgba = tuple[float, float, float, float]


@dataclass(frozen=True, eq=False)
class SkinPicture:
    """A skinned mesh. ``matrices`` (B, 4, 4) bone matrices; ``tint`` (B, 4) colour and amount per bone.

    ``alpha`` below 1 draws it see-through, ``flat`` in one colour (the echo); ``levels``: into how many steps lines divide the amount of the tint.
    """

    key: str
    mesh: Mesh
    colors: Array
    matrices: Array
    tint: Array
    alpha: float = 1.0
    flat: Rgba | None = None
    levels: float = 0.0


@dataclass(frozen=True, eq=False)
class Solid:
    """A shape at a place, solid (of obstacles) or as glass (collision shapes); as ``triangles`` (T, 3, 3) in its frame if given."""

    shape: Shape
    position: Array
    rotation: Array
    color: Rgba
    glass: bool = False
    triangles: Array | None = None


@dataclass
class DrawList:
    """Everything of one picture. Lines (N, 2, 3) with colours (N, 4) and widths (N,) in pixels."""

    skins: list[SkinPicture] = field(default_factory=list)
    solids: list[Solid] = field(default_factory=list)
    ground: float | None = 0.0
    lines: list[tuple[Array, Rgba, float, bool]] = field(default_factory=list)

    def add_line(self, points: Array, color: Rgba, width: float = 1.5, over: bool = True) -> None:
        """A polyline through points (N, 3); ``over``: drawn over everything."""
        points = np.asarray(points, float)
        self.lines.append((np.stack([points[:-1], points[1:]], axis=1), color, width, over))


def circle(radius: float, steps: int = 48) -> Array:
    """A closed circle in the y-z plane (steps + 1, 3)."""
    t = np.linspace(0.0, 2.0 * np.pi, steps + 1)
    return np.stack([np.zeros_like(t), radius * np.cos(t), radius * np.sin(t)], axis=1)


def shape_outline(shape: Shape, position: Array, turn: Array, scale: float = 1.01) -> list[Array]:
    """Polylines that trace a shape: rings and spines of a capsule, edges of a box or a hull."""
    q = rotation.multiply(turn, np.array(shape.rotation))
    p = position + rotation.rotate(turn, np.array(shape.position))
    if shape.kind == "box":
        h = np.array(shape.half) * scale
        corner = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) * h
        pairs = [(a, b) for a in range(8) for b in range(a + 1, 8) if bin(a ^ b).count("1") == 1]
        lines = [corner[[a, b]] for a, b in pairs]
    elif shape.kind == "hull":
        hull = hull_of(shape.points)
        lines = [hull.vertices[e[:2]] * scale for e in hull.edges]
    elif shape.kind == "mesh":
        lines = []
    else:
        r = shape.radius * scale
        half = shape.half_length if shape.kind == "capsule" else 0.0
        ring = circle(r)
        side = np.array([half, 0.0, 0.0])
        lines = [ring + side, ring - side] if half else [ring]
        t = np.linspace(0, 2 * np.pi, 49)
        loop = np.stack([r * np.sin(t), r * np.cos(t), np.zeros_like(t)], axis=1)
        loop[:, 0] += np.where(np.sin(t) >= 0, half, -half)
        lines += [loop, loop[:, [0, 2, 1]]]
    if not lines:
        return []
    placed = p + rotation.rotate(q, np.concatenate(lines))
    return np.split(placed, np.cumsum([len(line) for line in lines[:-1]]))
