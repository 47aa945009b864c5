"""What is painted over the picture: dots of bones, legends, names, the scale bar."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from artuline.core.geometry.rotation import Array
from artuline.core.run.tryout import Tryout
from artuline.desk import theme
from artuline.desk.session import Session
from artuline.view.camera import Camera
from artuline.view.stage import FigureState


class StageMarks(QWidget):
    """The part of the stage that paints over its picture."""

    session: Session
    camera: Camera
    station: str
    tryout: Tryout | None
    _states: list[FigureState]

    def pane(self) -> QRectF:
        """The part of the widget that shows what the mouse is about."""
        return QRectF(self.rect())

    def _seen(self, points: Array) -> Array:
        """Places in the world (N, 3) on the widget, with their depth: (N, 3)."""
        pane = self.pane()
        at = self.camera.project(points, pane.width(), pane.height())
        at[:, 0] += pane.left()
        return at

    # dots and legends

    def _dots(self) -> list[tuple[str, str, QPointF]]:
        """Figure, bone and place on the widget of every bone that may be clicked."""
        if self.station not in ("Cast", "Bodies") or self.tryout is not None:
            return []
        found = []
        for f, state in zip(self.session.scene.figures, self._states):
            bones = [i for i, b in enumerate(f.bones) if b.deforms]
            if not bones or len(state.matrices) != len(f.bones):
                continue
            at = self._seen(state.matrices[bones, :3, 3])
            found += [(f.id, f.bones[i].name, QPointF(x, y)) for i, (x, y, depth) in zip(bones, at) if depth > 0]
        return found

    def _paint_dots(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        by_id = {f.id: f for f in self.session.scene.figures}
        for figure, bone, at in self._dots():
            has = bone in by_id[figure].body_of
            painter.setPen(QPen(theme.color("ink"), 1.2))
            painter.setBrush(theme.color("teal" if has else "raised"))
            painter.drawEllipse(at, 3.6, 3.6)

    def _dot_at(self, at: QPointF) -> tuple[str, str] | None:
        near = [((spot - at).manhattanLength(), figure, bone) for figure, bone, spot in self._dots()]
        best = min(near, default=(99.0, "", ""))
        return best[1:] if best[0] < 9.0 else None

    legend: tuple[str, tuple[tuple[str, str], ...]] | None = None

    def _paint_legend(self, painter: QPainter) -> None:
        """What the colours of the shapes mean: a title, and pairs of colour and words."""
        if self.legend is None:
            return
        title, entries = self.legend
        painter.setFont(theme.font(theme.SMALL, strong=True))
        x, y = self.width() - 118.0, 24.0
        self._halo(painter, QPointF(x, y), title)
        painter.setFont(theme.font(theme.SMALL))
        for i, (code, words) in enumerate(entries):
            top = y + 10 + 17 * i
            painter.setPen(QPen(theme.color("ink"), 0.8))
            painter.setBrush(QColor(code))
            painter.drawRect(QRectF(x, top, 11, 11))
            self._halo(painter, QPointF(x + 18, top + 10), words)

    def _paint_scale_bar(self, painter: QPainter) -> None:
        if not self.session.scene.figures:
            return
        target = np.array(self.camera.target)
        right = self.camera.axes()[0]
        ends = self._seen(np.stack([target, target + right]))
        pixels = abs(ends[1, 0] - ends[0, 0])
        metres = next((m for m in (0.01, 0.05, 0.1, 0.25, 0.5, 1, 2, 5, 10, 50) if m * pixels > 60), 100.0)
        text = f"{metres * 100:g} cm" if metres < 1 else f"{metres:g} m"
        x, y, w = self.pane().left() + 16.0, 22.0, metres * pixels
        painter.setPen(QPen(theme.color("ink"), 1.5))
        painter.drawLine(QPointF(x, y), QPointF(x + w, y))
        painter.drawLine(QPointF(x, y - 4), QPointF(x, y))
        painter.drawLine(QPointF(x + w, y - 4), QPointF(x + w, y))
        painter.setFont(theme.font(theme.SMALL))
        self._halo(painter, QPointF(x + w + 6, y + 3), text)

    def _paint_names(self, painter: QPainter) -> None:
        s = self.session
        figure = s.figure()
        if figure is None or not s.selection.bones or not self._states:
            return
        index = next(i for i, f in enumerate(s.scene.figures) if f.id == figure.id)
        painter.setFont(theme.font(theme.SMALL, strong=True))
        for name in sorted(s.selection.bones)[:6]:
            p = self._states[index].matrices[figure.bone_index[name]][:3, 3]
            x, y, depth = self._seen(p[None])[0]
            if depth > 0:
                self._halo(painter, QPointF(x + 10, y - 8), name)

    def _halo(self, painter: QPainter, at: QPointF, text: str) -> None:
        painter.setPen(theme.color("paper", 0.85))
        for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1), (-1, -1), (1, 1), (-1, 1), (1, -1)):
            painter.drawText(at + QPointF(dx, dy), text)
        painter.setPen(theme.color("ink"))
        painter.drawText(at, text)
