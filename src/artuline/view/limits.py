"""A joint's range drawn at the joint: the cone or the sector, the twist, the clips' motion in it, and where it is now."""

from itertools import pairwise

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Figure, Joint, Shape
from artuline.view.drawlist import DrawList, Rgba, Solid
from artuline.view.palette import Palette, rgb

X, Y = np.array([1.0, 0.0, 0.0]), np.array([0.0, 1.0, 0.0])
_ANY = Shape(kind="sphere", radius=1.0)


def swing_rim(joint: Joint, steps: int = 64) -> Array:
    """The outline of the swings as rotation vectors' y and z (steps + 1, 2), radians: an ellipse, or a box per axis."""
    if joint.kind == "axes":
        (y0, y1), (z0, z1) = (r if r is not None else (-np.pi, np.pi) for r in joint.axes[4:])
        side = np.linspace(0.0, 1.0, steps // 4 + 1)[:, None]
        corners = [np.array(c) for c in ((y0, z0), (y1, z0), (y1, z1), (y0, z1), (y0, z0))]
        return np.concatenate([a + side[:-1] * (b - a) for a, b in pairwise(corners)] + [corners[:1]])
    t = np.linspace(0.0, 2.0 * np.pi, steps + 1)
    return np.stack([joint.swing_y * np.cos(t), joint.swing_z * np.sin(t)], axis=1)


def swung(swings: Array) -> Array:
    """Directions (N, 3) in the joint's frame of swings (N, 2), radians."""
    vectors = np.column_stack([np.zeros(len(swings)), swings])
    return rotation.rotate(rotation.from_rotation_vector(vectors), X)


def _fan(rim: Array, tip: Array) -> Array:
    """Triangles (N, 3, 3) from a tip to a rim (N + 1, 3), seen from both sides."""
    out = np.stack([np.broadcast_to(tip, rim[:-1].shape), rim[:-1], rim[1:]], axis=1)
    return np.concatenate([out, out[:, ::-1]])


def add_limits(
    out: DrawList, figure: Figure, joint: Joint, p: Array, q: Array, size: float, palette: Palette, trace: Array | None,
    strong: bool = True,
) -> None:  # fmt: skip
    """Draw the range of a joint of a figure whose bones stand at p (B, 3), q (B, 4).

    ``trace`` (N, 4): swing y, swing z, twist and excess of the clips' motion. ``strong``: as the chosen one.
    """
    bones = {b.id: figure.bone_index[b.bone] for b in figure.bodies}
    a, c = bones[joint.parent], bones[joint.child]
    frame = rotation.multiply(q[a], np.array(joint.parent_frame))
    now = rotation.multiply(q[c], np.array(joint.frame))
    at = p[c]
    brass: Rgba = (*rgb(palette.brass), 1.0 if strong else 0.7)
    ink: Rgba = (*rgb(palette.ink), 1.0)

    def line(points: Array, color: Rgba, width: float) -> None:
        out.add_line(at + rotation.rotate(frame, points * size), color, width)

    def fill(triangles: Array, alpha: float) -> None:
        placed = at + rotation.rotate(frame, triangles.reshape(-1, 3) * size).reshape(-1, 3, 3)
        identity = np.array([0.0, 0.0, 0.0, 1.0])
        out.solids.append(Solid(_ANY, np.zeros(3), identity, (*brass[:3], alpha), glass=True, triangles=placed))

    if joint.kind == "slide":
        low, high = joint.slide if joint.limited and joint.slide is not None else (-0.1, 0.1)
        ends = np.array([[low, 0.0, 0.0], [high, 0.0, 0.0]]) / size
        line(ends, brass, 2.2)
        for e in ends:
            line(e + np.array([[0.0, -0.15, 0.0], [0.0, 0.15, 0.0]]), brass, 2.2)
        return
    if joint.kind == "fixed" or not joint.limited:
        return
    if joint.kind == "hinge":
        low, high = joint.twist
        t = np.linspace(low, high, max(8, int(np.degrees(high - low) / 4)))
        arc = np.stack([np.zeros_like(t), np.cos(t), np.sin(t)], axis=1)
        fill(_fan(arc, np.zeros(3)), 0.38)
        line(np.concatenate([[[0.0, 0.0, 0.0]], arc, [[0.0, 0.0, 0.0]]]), brass, 1.8 if strong else 1.2)
        line(np.array([[-0.35, 0.0, 0.0], [0.35, 0.0, 0.0]]), brass, 1.5)
        pointer = Y
    else:
        rim = swung(swing_rim(joint))
        if strong:
            fill(_fan(rim, np.zeros(3)), 0.3)
        line(rim, brass, 1.8 if strong else 1.1)
        for k in range(0, len(rim) - 1, 8) if strong else ():
            out.add_line(at + rotation.rotate(frame, np.stack([np.zeros(3), rim[k]]) * size), (*brass[:3], 0.7), 1.1)
        low, high = joint.axes[3] or (-np.pi, np.pi) if joint.kind == "axes" else joint.twist
        t = np.linspace(low, high, 32)
        if strong:
            arc = np.stack([np.full_like(t, 1.06), 0.16 * np.cos(t), 0.16 * np.sin(t)], axis=1)
            own = rotation.multiply(rotation.conjugate(frame), now)
            # the twist is shown around the bone as it stands
            swing_only = rotation.align(X, rotation.rotate(own, X))
            line(rotation.rotate(swing_only, np.concatenate([[[1.06, 0, 0]], arc, [[1.06, 0, 0]]])), brass, 1.5)
        pointer = X
    if trace is not None and len(trace) > 1 and strong:
        _add_trace(out, joint, trace, lambda d: at + rotation.rotate(frame, d * size), palette)
    away = rotation.rotate(now, pointer) * size
    out.add_line(np.stack([at, at + 1.06 * away]), ink, 2.4 if strong else 1.6)
    if strong and joint.kind != "hinge":
        mark = rotation.rotate(now, np.array([[1.06, 0.0, 0.0], [1.06, 0.16, 0.0]])) * size
        out.add_line(at + mark, ink, 2.4)


def _add_trace(out: DrawList, joint: Joint, trace: Array, place, palette: Palette) -> None:  # type: ignore[no-untyped-def]
    """The clips' motion as a line on the sphere, crimson where it leaves the range."""
    if joint.kind == "hinge":
        points = place(np.stack([np.zeros(len(trace)), 0.8 * np.cos(trace[:, 2]), 0.8 * np.sin(trace[:, 2])], axis=1))
    else:
        points = place(swung(trace[:, :2]))
    teal, crimson = (*rgb(palette.teal), 0.9), (*rgb(palette.crimson), 1.0)
    outside = trace[:, 3] > 1e-4
    jump = (
        np.linalg.norm(np.diff(points, axis=0), axis=1) > 0.3 * np.linalg.norm(points[0] - points.mean(axis=0)) + 0.05
    )
    for kind, color in ((False, teal), (True, crimson)):
        pieces = (outside[:-1] | outside[1:]) == kind
        keep = np.flatnonzero(pieces & ~jump)
        if len(keep):
            out.lines.append((np.stack([points[keep], points[keep + 1]], axis=1), color, 1.6, True))
