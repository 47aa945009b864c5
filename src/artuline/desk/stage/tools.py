"""What can be held on the stage, and what the stage asks of the station that is shown."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter

from artuline.core.geometry.rotation import Array
from artuline.desk.model.drag import Drag
from artuline.view.camera import Camera
from artuline.view.stage import FigureState, Marks, Show


@dataclass(frozen=True)
class View:
    """How the scene is seen now: through a camera, in a part of the widget, with the figures as they stand."""

    camera: Camera
    box: QRectF
    states: Sequence[FigureState]
    show: Show
    live: bool = False

    @property
    def size(self) -> tuple[float, float]:
        """Width and height in pixels."""
        return self.box.width(), self.box.height()

    def screen(self, points: Array) -> Array:
        """Places in the world (N, 3) on the widget, with their depth: (N, 3)."""
        at = self.camera.project(points, *self.size)
        at[:, 0] += self.box.left()
        return at

    def ray(self, at: QPointF) -> tuple[Array, Array]:
        """Origin and direction (3,) of the view through a point of the widget."""
        x = at.x() - self.box.left() if at.x() >= self.box.left() else at.x()
        return self.camera.ray(x, at.y(), *self.size)

    def across(self, start: Array, at: QPointF) -> Callable[[QPointF], Array]:
        """Where a place (3,) comes to that is dragged across the view from a point of the widget: by the point that the mouse has come to."""
        toward = self.camera.axes()[2]

        def on(point: QPointF) -> Array:
            origin, way = self.ray(point)
            return np.asarray(origin + float((start - origin) @ toward / (way @ toward)) * way)

        began = on(at)
        return lambda point: start + on(point) - began


class Tool(Protocol):
    """Handles on the stage."""

    def paint(self, p: QPainter, view: View, hot: str) -> None:
        """Draw all handles that there are now; ``hot``: the one that is held, or under the mouse."""

    def hit(self, at: QPointF, view: View) -> str:
        """The handle under a point; empty for none."""

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take a handle in hand."""


class Room(Protocol):
    """What the stage asks of a station."""

    @property
    def source(self) -> str:
        """What moves the figures: "keys", "take", or "layers", which are the keys with all that is baked on them."""

    def choose(self, box: QRectF, view: View) -> bool:
        """Take a frame that was drawn; False to let it choose bones."""

    def clicked(self, at: QPointF, view: View, hit: tuple[str, str, Array] | None) -> bool:
        """Take a click, on a figure and bone at a place, or on nothing; False to let it choose."""

    @property
    def dots(self) -> bool:
        """Whether every bone that carries skin has a dot to click."""

    @property
    def compares(self) -> bool:
        """Whether the take may be seen beside another one."""

    def tools(self) -> Sequence[Tool]:
        """What can be held, the first before the others."""

    def mark(self, marks: Marks, show: Show, here: bool) -> None:
        """Add colours, trails and a legend; ``here``: whether this is the station that is shown."""

    def alter(self, states: list[FigureState]) -> None:
        """Change how the figures stand before they are drawn."""
