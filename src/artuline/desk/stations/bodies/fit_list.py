"""The fits of all bodies, the worst first: name, share of skin inside, how far proud, and a bar."""

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QToolTip, QWidget

from artuline.core.scene.model import Figure
from artuline.core.setup.measure import BodyFit
from artuline.desk import theme
from artuline.desk.model.session import Session

ROW = 22
SHOWN = 8


class FitList(QWidget):
    """A click selects the body."""

    wanted_keys = (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space)

    def __init__(self, session: Session, figure: Figure, fits: Sequence[BodyFit]):
        super().__init__()
        self.session, self.figure, self.fits = session, figure, fits
        self.setFixedHeight(ROW * max(min(len(self.fits), SHOWN), 1) + 18)
        self.setMouseTracking(True)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName("Fits")
        self.setAccessibleDescription("Up and down go from body to body, Return selects it.")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._row = 0

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setFont(theme.font(theme.SMALL))
        w = self.width()
        right, middle = Qt.AlignmentFlag.AlignRight, Qt.AlignmentFlag.AlignVCenter
        p.setPen(theme.color("faint"))
        if not self.fits:
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "measuring…")
            return
        p.drawText(QRectF(w - 106, 0, 46, 16), right | middle, "skin in")
        p.drawText(QRectF(w - 56, 0, 56, 16), right | middle, "proud")
        for i, fit in enumerate(self.fits[:SHOWN]):
            y = 18 + i * ROW
            if self.hasFocus() and i == self._row:
                p.setPen(theme.color("ink"))
                p.drawRect(QRectF(0.5, y + 0.5, w - 1, ROW - 1))
            bar = theme.color("crimson" if fit.grade > 0.5 else ("brass" if fit.grade > 0.25 else "teal"))
            p.fillRect(QRectF(0, y + 3, 4, ROW - 6), bar)
            p.setPen(theme.color("ink"))
            name = p.fontMetrics().elidedText(fit.body, Qt.TextElideMode.ElideRight, w - 126)
            p.drawText(QRectF(10, y, w - 120, ROW), middle, name)
            p.drawText(QRectF(w - 106, y, 46, ROW), right | middle, f"{100 * fit.inside:.0f} %")
            p.drawText(QRectF(w - 56, y, 56, ROW), right | middle, f"{1000 * fit.proud:.0f} mm")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        most = min(len(self.fits), SHOWN) - 1
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._row = min(max(self._row + (1 if event.key() == Qt.Key.Key_Down else -1), 0), max(most, 0))
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and most >= 0:
            self._choose(self._row)
        else:
            super().keyPressEvent(event)

    def _choose(self, i: int) -> None:
        bone = next(b.bone for b in self.figure.bodies if b.id == self.fits[i].body)
        self.session.select(self.figure.id, frozenset({bone}))

    def _at(self, y: float) -> int:
        return int((y - 18) // ROW)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        i = self._at(event.position().y())
        if 0 <= i < min(len(self.fits), SHOWN):
            self._choose(i)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip:
            QToolTip.showText(
                event.globalPos(),  # type: ignore[attr-defined]
                "Skin in: share of the bone's skin in the shape or right above it.\nProud: how far the shape stands out of the skin.",
            )
            return True
        return super().event(event)
