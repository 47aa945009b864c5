"""Two pictures of one view: side by side, or one wiped over the other; and what each shows."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QImage, QPainter, QPen

from artuline.desk import theme
from artuline.desk.model.comparison import Comparison
from artuline.desk.model.session import Session
from artuline.desk.stage.overlay import halo
from artuline.view.drawlist import DrawList
from artuline.view.stage import FigureState, Show, figure_states


def pane(how: str, width: int, height: int) -> QRectF:
    """The part of the widget that shows the take itself: the right half where two stand side by side."""
    left = width // 2 if how == "beside" else 0
    return QRectF(left, 0, width - left, height)


def edge(how: str, wipe: float, width: int) -> float | None:
    """Where the two pictures meet; None for one picture."""
    return {"beside": width // 2, "wiped": width * wipe}.get(how)


def two(
    draw: Callable[[DrawList, int, int], QImage],
    how: str,
    wipe: float,
    lists: tuple[DrawList, DrawList],
    size: tuple[int, int],
) -> QImage:
    """Both pictures in one."""
    (left, right), (w, h) = lists, size
    image = QImage(w, h, QImage.Format.Format_RGBX8888)
    painter = QPainter(image)
    if how == "beside":
        half = w // 2
        painter.drawImage(0, 0, draw(left, half, h))
        painter.drawImage(half, 0, draw(right, w - half, h))
    else:
        painter.drawImage(0, 0, draw(right, w, h))
        painter.setClipRect(0, 0, round(w * wipe), h)
        painter.drawImage(0, 0, draw(left, w, h))
    painter.end()
    return image


def paint_edge(p: QPainter, at: float, height: float, wiped: bool, names: tuple[str, str]) -> None:
    """The line between the two, with a handle if it can be moved, and their names."""
    p.setFont(theme.font(theme.SMALL, strong=True))
    p.setPen(QPen(theme.color("ink"), 1.4))
    p.drawLine(QPointF(at, 0), QPointF(at, height))
    if wiped:
        p.setBrush(theme.color("raised"))
        p.drawRoundedRect(QRectF(at - 7, height / 2 - 14, 14, 28), 3, 3)
        for x in (-2.0, 2.0):
            p.drawLine(QPointF(at + x, height / 2 - 6), QPointF(at + x, height / 2 + 6))
    left, right = names
    wide = p.fontMetrics().horizontalAdvance(left)
    halo(p, QPointF(at - wide - 12, 46.0), left)
    halo(p, QPointF(at + 12, 46.0), right)


def other_states(session: Session, comparison: Comparison, show: Show) -> list[FigureState]:
    """How the figures stand by what the take is compared with: another take, or the keys."""
    other = comparison.take()
    states = figure_states(session.scene, session.assets, session.frame, other, show)
    if other is not None:
        return states
    return [FigureState(x.keyed if x.keyed is not None else x.matrices, np.zeros_like(x.handover)) for x in states]
