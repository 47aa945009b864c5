"""Handles on the stage that move, turn and size one collision shape; they keep their size on the screen."""

import math
from abc import ABC, abstractmethod
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPen

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Shape
from artuline.desk import theme
from artuline.desk.stage.tools import View
from artuline.view.camera import Camera

GRAB = 9.0  # pixels
ARROW = 30.0  # beyond the surface
LEAST = 1e-3
AXES = np.eye(3)
NAMES = ("x", "y", "z")


@dataclass
class Held:
    """What is being dragged: a handle, where the mouse was, and the shape as it was."""

    name: str
    at: QPointF
    shape: Shape


class ShapeHandles:
    """Handles of a shape whose bone stands at ``place`` (3,), ``turn`` (4,)."""

    def __init__(self, shape: Shape, place: Array, turn: Array, camera: Camera, width: float, height: float):
        self.shape, self.place, self.turn = shape, place, turn
        self.camera, self.size = camera, (width, height)
        self.centre = place + rotation.rotate(turn, np.array(shape.position))
        self.facing = rotation.multiply(turn, np.array(shape.rotation))
        self.axes = rotation.rotate(self.facing, AXES)
        here = self._screen(self.centre)
        right = self._screen(self.centre + camera.axes()[0])
        #: metres of one pixel at the shape
        self.pixel = 1.0 / max(float(np.linalg.norm(right - here)), 1e-6)

    def _screen(self, point: Array) -> Array:
        return self.camera.project(point[None], *self.size)[0, :2]

    def _reach(self) -> Array:
        """How far the shape goes along each of its axes."""
        s = self.shape
        if s.kind == "box":
            return np.array(s.half)
        if s.kind == "hull":
            return np.abs(np.array(s.points)).max(axis=0)
        half = s.half_length if s.kind == "capsule" else 0.0
        return np.array([s.radius + half, s.radius, s.radius])

    def places(self) -> dict[str, Array]:
        """World places of all handles."""
        reach, found = self._reach(), {"move": self.centre}
        for k, name in enumerate(NAMES):
            found[f"along {name}"] = self.centre + self.axes[k] * (reach[k] + ARROW * self.pixel)
        ring = float(reach.max()) + 18.0 * self.pixel
        for k, name in enumerate(NAMES):
            a, b = self.axes[(k + 1) % 3], self.axes[(k + 2) % 3]
            found[f"turn {name}"] = self.centre + ring * (a + b) * math.sqrt(0.5)
        kind = self.shape.kind
        if kind == "box":
            for k, name in enumerate(NAMES):
                found[f"size {name}"] = self.centre - self.axes[k] * reach[k]
        elif kind == "hull":
            found["scale"] = self.centre - self.axes[0] * reach[0]
        else:
            found["radius"] = self.centre - self.axes[1] * reach[1]
            if kind == "capsule":
                found["length"] = self.centre - self.axes[0] * reach[0]
        return found

    def hit(self, at: QPointF) -> str:
        """The handle under a point of the widget, or an empty name."""
        best, name = GRAB, ""
        for n, place in self.places().items():
            x, y = self._screen(place)
            gap = math.hypot(x - at.x(), y - at.y())
            if gap < best:
                best, name = gap, n
        return name

    def moved(self, held: Held, at: QPointF) -> Shape:
        """The shape after the handle was dragged to a point of the widget."""
        shape, name = held.shape, held.name
        delta = np.array([at.x() - held.at.x(), at.y() - held.at.y()])
        if name == "move":
            right, up, _ = self.camera.axes()
            world = (right * delta[0] - up * delta[1]) * self.pixel
            return self._shifted(shape, world)
        kind, _, axis = name.partition(" ")
        if kind == "along":
            k = NAMES.index(axis)
            return self._shifted(shape, self.axes[k] * self._along(self.axes[k], delta))
        if kind == "turn":
            return self._turned(shape, NAMES.index(axis), held.at, at)
        if kind == "size":
            k = NAMES.index(axis)
            half = list(shape.half)
            half[k] = max(half[k] - self._along(self.axes[k], delta), LEAST)
            return shape.changed(half=tuple(half))
        if name == "radius":
            return shape.changed(radius=max(shape.radius - self._along(self.axes[1], delta), LEAST))
        if name == "length":
            return shape.changed(half_length=max(shape.half_length - self._along(self.axes[0], delta), 1e-4))
        reach = float(np.abs(np.array(shape.points)).max(axis=0)[0])
        share = max((reach - self._along(self.axes[0], delta)) / reach, 0.05)
        return shape.changed(points=tuple(tuple(share * c for c in p) for p in shape.points))

    def _along(self, axis: Array, delta: Array) -> float:
        """Metres along a world axis that a drag on the screen means."""
        a = self._screen(self.centre + axis * 40.0 * self.pixel) - self._screen(self.centre)
        length = float(a @ a)
        return float(delta @ a) / length * 40.0 * self.pixel if length > 4.0 else 0.0

    def _shifted(self, shape: Shape, world: Array) -> Shape:
        back = rotation.rotate(rotation.conjugate(self.turn), world)
        return shape.changed(position=tuple(np.array(shape.position) + back))

    def _turned(self, shape: Shape, axis: int, start: QPointF, end: QPointF) -> Shape:
        c = self._screen(self.centre)
        a, b = (math.atan2(p.y() - c[1], p.x() - c[0]) for p in (start, end))
        angle = math.remainder(b - a, 2.0 * math.pi)
        facing = float(self.axes[axis] @ (self.camera.eye() - self.centre))
        vector = AXES[axis] * (-angle if facing > 0.0 else angle)
        new = rotation.multiply(np.array(shape.rotation), rotation.from_rotation_vector(vector))
        return shape.changed(rotation=tuple(new))

    def paint(self, painter: QPainter, hover: str) -> None:
        """Draw all handles."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ink, paper = theme.color("ink"), theme.color("raised")
        places = {n: QPointF(*self._screen(p)) for n, p in self.places().items()}
        centre = places["move"]
        for name, at in places.items():
            strong = name == hover
            painter.setPen(QPen(ink, 1.6))
            painter.setBrush(ink if strong else paper)
            if name.startswith("along"):
                painter.drawLine(centre, at)
                painter.drawPolygon([at + QPointF(-5, 4), at + QPointF(5, 4), at + QPointF(0, -5)])
            elif name.startswith("turn"):
                painter.drawEllipse(at, 5.0, 5.0)
                painter.drawArc(QRectF(at.x() - 8, at.y() - 8, 16, 16), 30 * 16, 120 * 16)
            elif name == "move":
                painter.drawRect(QRectF(at.x() - 6, at.y() - 6, 12, 12))
            else:
                painter.drawRect(QRectF(at.x() - 4.5, at.y() - 4.5, 9, 9))
        if hover:
            painter.setFont(theme.font(theme.SMALL))
            painter.setPen(ink)
            painter.drawText(places[hover] + QPointF(12, 4), hover)


class BoneHandles:
    """Three handles that turn a bone about its own axes, and one that moves its origin, where a limb can follow."""

    def __init__(self, place: Array, turn: Array, size: float, camera: Camera, width: float, height: float, limb: bool):
        self.place, self.axes = place, rotation.rotate(turn, AXES)
        self.camera, self.size, self.limb = camera, (width, height), limb
        here = self._screen(place)
        right = self._screen(place + camera.axes()[0])
        self.pixel = 1.0 / max(float(np.linalg.norm(right - here)), 1e-6)
        self.ring = max(size, 42.0 * self.pixel)

    def _screen(self, point: Array) -> Array:
        return self.camera.project(point[None], *self.size)[0, :2]

    def places(self) -> dict[str, Array]:
        """World places of all handles."""
        found = {"move": self.place} if self.limb else {}
        for k, name in enumerate(NAMES):
            a, b = self.axes[(k + 1) % 3], self.axes[(k + 2) % 3]
            found[f"turn {name}"] = self.place + self.ring * (a + b) * math.sqrt(0.5)
        return found

    def hit(self, at: QPointF) -> str:
        """The handle under a point of the widget, or an empty name."""
        gaps = {n: float(np.hypot(*(self._screen(p) - [at.x(), at.y()]))) for n, p in self.places().items()}
        name = min(gaps, key=lambda n: gaps[n])
        return name if gaps[name] < GRAB else ""

    def turn_of(self, name: str, start: QPointF, end: QPointF) -> Array:
        """The rotation (4,) in the world that a drag of a turning handle means."""
        c, k = self._screen(self.place), NAMES.index(name.partition(" ")[2])
        a, b = (math.atan2(p.y() - c[1], p.x() - c[0]) for p in (start, end))
        angle = math.remainder(b - a, 2.0 * math.pi)
        facing = float(self.axes[k] @ (self.camera.eye() - self.place))
        return rotation.from_rotation_vector(self.axes[k] * (-angle if facing > 0.0 else angle))

    def goal_of(self, start: QPointF, end: QPointF) -> Array:
        """The place (3,) in the world that a drag of the moving handle means."""
        right, up, _ = self.camera.axes()
        delta = end - start
        return self.place + (right * delta.x() - up * delta.y()) * self.pixel

    def paint(self, painter: QPainter, hover: str) -> None:
        """Draw the rings and the handles."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ink, paper = theme.color("ink"), theme.color("raised")
        t = np.linspace(0.0, 2.0 * np.pi, 41)
        for k, name in enumerate(NAMES):
            a, b = self.axes[(k + 1) % 3], self.axes[(k + 2) % 3]
            ring = self.place + self.ring * (np.cos(t)[:, None] * a + np.sin(t)[:, None] * b)
            at = self.camera.project(ring, *self.size)
            painter.setPen(QPen(ink, 1.8 if hover == f"turn {name}" else 0.9))
            painter.drawPolyline([QPointF(x, y) for x, y, _ in at])
        for name, place in self.places().items():
            spot = QPointF(*self._screen(place))
            painter.setPen(QPen(ink, 1.6))
            painter.setBrush(ink if name == hover else paper)
            if name == "move":
                painter.drawRect(QRectF(spot.x() - 6, spot.y() - 6, 12, 12))
            else:
                painter.drawEllipse(spot, 5.0, 5.0)
        if hover:
            painter.setFont(theme.font(theme.SMALL))
            painter.drawText(QPointF(*self._screen(self.places()[hover])) + QPointF(10, 4), hover)


class Handled(ABC):
    """A tool that has a set of handles, or none now."""

    @abstractmethod
    def handles(self, view: View) -> ShapeHandles | BoneHandles | None:
        """The handles as they are now."""

    def paint(self, p: QPainter, view: View, hot: str) -> None:
        """Draw them."""
        handles = self.handles(view)
        if handles is not None:
            handles.paint(p, hot)

    def hit(self, at: QPointF, view: View) -> str:
        """The one under a point; empty for none."""
        handles = self.handles(view)
        return handles.hit(at) if handles is not None else ""
