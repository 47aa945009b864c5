"""A quantity of a take over time, scrubbed together with the timeline."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from artuline.core.geometry.rotation import Array
from artuline.core.run.measures import PLOTS, curve
from artuline.core.run.take import Take
from artuline.core.scene.model import BodyRef
from artuline.desk import theme
from artuline.desk.model.session import Session

HEIGHT, LEFT, TOP, BOTTOM = 136, 34, 20, 16


class Plot(QWidget):
    """Ink axes, the take in vermilion, another take in faint ink; a click goes to the frame."""

    def __init__(self, session: Session, take: Take, quantity: str, body: BodyRef | None, other: Take | None = None):
        super().__init__()
        self.session, self.take, self.quantity = session, take, quantity
        scene = session.scene
        self.values = curve(scene, take, quantity, body)
        self.other = curve(scene, other, quantity, body) if other is not None else None
        self.other_take = other
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName("Plot")
        self.setCursor(Qt.CursorShape.CrossCursor)
        session.frame_changed.connect(self.update)

    def box(self) -> QRectF:
        return QRectF(LEFT, TOP, self.width() - LEFT - 6, HEIGHT - TOP - BOTTOM)

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(theme.font(theme.SMALL))
        box = self.box()
        low, high = min(0.0, float(self.values.min())), float(self.values.max())
        if self.other is not None:
            high = max(high, float(self.other.max()))
        high = high if high > low + 1e-9 else low + 1.0
        p.setPen(QPen(theme.color("ink"), 1.0))
        p.drawLine(box.bottomLeft(), box.topLeft())
        p.drawLine(box.bottomLeft(), box.bottomRight())
        p.setPen(theme.color("faint"))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        p.drawText(QRectF(0, box.top() - 7, LEFT - 4, 14), right, f"{high:.3g}")
        p.drawText(QRectF(0, box.bottom() - 7, LEFT - 4, 14), right, f"{low:.3g}")

        def line(take: Take, values: Array) -> QPolygonF:
            frames = take.frames.astype(float)
            first, last = float(self.take.frames[0]), float(self.take.frames[-1])
            x = box.left() + (frames - first) / max(last - first, 1.0) * box.width()
            y = box.bottom() - (values - low) / (high - low) * box.height()
            return QPolygonF([QPointF(a, b) for a, b in zip(x, y)])

        if self.other is not None and self.other_take is not None:
            p.setPen(QPen(theme.color("faint"), 1.4))
            p.drawPolyline(line(self.other_take, self.other))
        p.setPen(QPen(theme.color("vermilion"), 1.6))
        p.drawPolyline(line(self.take, self.values))
        i = self.take.row(self.session.frame)
        first, last = float(self.take.frames[0]), float(self.take.frames[-1])
        x = box.left() + (self.take.frames[i] - first) / max(last - first, 1.0) * box.width()
        p.setPen(QPen(theme.color("ink"), 1.0))
        p.drawLine(QPointF(x, box.top() - 2), QPointF(x, box.bottom()))
        # above the curves, which would run through it
        text = f"{self.values[i]:.3g} {PLOTS[self.quantity].unit}"
        at = QRectF(min(max(x - 40, box.left()), box.right() - 80), 0, 80, TOP - 4)
        p.drawText(at, Qt.AlignmentFlag.AlignCenter, text)

    def _go(self, x: float) -> None:
        box = self.box()
        share = min(max((x - box.left()) / box.width(), 0.0), 1.0)
        first, last = int(self.take.frames[0]), int(self.take.frames[-1])
        self.session.set_frame(round(first + share * (last - first)))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._go(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons():
            self._go(event.position().x())
