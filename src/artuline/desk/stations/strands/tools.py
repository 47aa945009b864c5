"""What Strands holds on the stage: the line that is being drawn, and the points of the strand in hand."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen

from artuline.core.scene.model import Strand
from artuline.core.setup.lines import line_through
from artuline.desk import theme
from artuline.desk.model.drag import Change, Drag, Pointer
from artuline.desk.stage import overlay
from artuline.desk.stage.tools import View
from artuline.desk.stations.strands.commands import Commands, Drawn

GRAB = 10.0  # pixels


def paint_drawn(p: QPainter, view: View, drawn: Drawn) -> None:
    """The line that is being drawn, with what each of its points was clicked on."""
    if not drawn:
        return
    points = np.array([at for at, _ in drawn])
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    if len(points) > 1:
        line = view.screen(line_through(points))
        p.setPen(QPen(theme.color("vermilion"), 2.4))
        p.drawPolyline([QPointF(x, y) for x, y, _ in line])
    p.setFont(theme.font(theme.SMALL))
    for k, ((x, y, _), (_, on)) in enumerate(zip(view.screen(points), drawn, strict=True)):
        p.setPen(QPen(theme.color("ink"), 1.6))
        p.setBrush(theme.color("vermilion" if on is not None else "raised"))
        p.drawEllipse(QPointF(x, y), 5.0, 5.0)
        overlay.halo(p, QPointF(x + 9, y + 4), f"{k + 1}" + (f" on {on[1]}" if on is not None else ""))


class PointTool:
    """Shows what is being drawn, else moves the points of the strand in hand, at the frame at which it was drawn."""

    def __init__(self, commands: Commands):
        self._c = commands

    def _recipe(self, view: View) -> Strand | None:
        """The recipe whose points can be held now."""
        c = self._c
        recipe = c.strand()
        return (
            recipe if recipe is not None and c.drawn is None and not view.live and c.frame() == recipe.frame else None
        )

    def _shown(self, recipe: Strand) -> list[int]:
        """The points that are on the strand: of one that hangs, those that are held."""
        return [k for k, p in enumerate(recipe.points) if not recipe.hangs or p.hold != "free" or k == self._c.point]

    def paint(self, p: QPainter, view: View, hot: str) -> None:
        """Draw every point: a disc where something holds it, a square where the world does, else a ring."""
        if self._c.drawn is not None:
            paint_drawn(p, view, self._c.drawn)
            return
        recipe = self._recipe(view)
        if recipe is None:
            return
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        at = view.screen(np.array([x.position for x in recipe.points]))
        p.setFont(theme.font(theme.SMALL))
        for k in self._shown(recipe):
            point, spot = recipe.points[k], QPointF(at[k, 0], at[k, 1])
            strong = hot == str(k) or k == self._c.point
            p.setPen(QPen(theme.color("ink"), 2.4 if strong else 1.4))
            p.setBrush(theme.color("teal" if point.hold == "mounted" else "raised"))
            if point.hold == "pinned":
                p.drawRect(int(spot.x()) - 5, int(spot.y()) - 5, 10, 10)
            else:
                size = 3.0 if point.hold == "free" and not strong else 5.5
                p.drawEllipse(spot, size, size)
            if strong:
                words = {"free": "", "pinned": " to the world", "mounted": f" on {point.bone}"}[point.hold]
                overlay.halo(p, spot + QPointF(10, 4), f"{k + 1}{words}")
        p.setBrush(Qt.BrushStyle.NoBrush)

    def hit(self, at: QPointF, view: View) -> str:
        """The number of the point under the mouse."""
        recipe = self._recipe(view)
        if recipe is None:
            return ""
        seen = view.screen(np.array([x.position for x in recipe.points]))
        gaps = {
            k: float(np.hypot(seen[k, 0] - at.x(), seen[k, 1] - at.y()))
            for k in self._shown(recipe)
            if seen[k, 2] > 0.0
        }
        best = min(gaps, key=lambda k: gaps[k], default=-1)
        return str(best) if best >= 0 and gaps[best] < GRAB else ""

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take a point in hand, to be moved across the view."""
        recipe, f, k = self._recipe(view), self._c.figure(), int(handle)
        assert recipe is not None and f is not None
        if self._c.point != k:
            self._c.take(f.id, k)
        across = view.across(np.array(recipe.points[k].position), at)

        def change(pointer: Pointer) -> Change:
            moved = recipe.points[k].changed(position=tuple(across(pointer.at)))
            return self._c.preview(points=tuple(moved if i == k else x for i, x in enumerate(recipe.points)))

        return Drag(f"Move point {k + 1}", change)
