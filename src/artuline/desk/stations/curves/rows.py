"""The timeline's row of what is no longer plausible in the keys."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter

from artuline.core.run.plausible import Doubt
from artuline.desk import theme
from artuline.desk.model.drag import Drag
from artuline.desk.model.frame_scale import FrameScale
from artuline.desk.stations.curves.commands import Commands
from artuline.desk.timeline.rows import LABELS, Still, paint_label

SIGNS = {"flight": "F", "slide": "S", "pressed": "P", "limit": "L"}  # in the bar, beside its colour


class DoubtRow(Still):
    """A bar for every stretch of frames; a click goes to its worst frame."""

    def __init__(self, commands: Commands):
        self.commands = commands

    def _bars(self, box: QRectF, scale: FrameScale) -> list[tuple[QRectF, Doubt]]:
        found = []
        for d in self.commands.doubts() or ():
            a, b = scale.x(d.start - 0.5), scale.x(d.end + 0.5)
            found.append((QRectF(a, box.top() + 4, max(b - a, 5.0), box.height() - 8), d))
        return found

    def paint(self, p: QPainter, box: QRectF, scale: FrameScale, hot: str) -> None:
        """The bars, or that there is nothing."""
        p.setPen(theme.color("rule"))
        p.drawLine(box.topLeft(), box.topRight())
        doubts = self.commands.doubts()
        paint_label(p, box.top(), box.height(), "Still physical?")
        area = QRectF(LABELS + 24, box.top(), box.width() - LABELS - 38, box.height())
        if not doubts:
            p.setPen(theme.color("faint"))
            words = "The keys do nothing that the take did not" if doubts is not None else "Looking at the keys"
            p.drawText(area, Qt.AlignmentFlag.AlignVCenter, words)
            return
        p.setFont(theme.font(theme.SMALL, strong=True))
        for bar, d in reversed(self._bars(box, scale)):
            p.setPen(theme.color("panel"))
            p.setBrush(theme.color("crimson" if d.kind in ("flight", "pressed") else "brass"))
            p.drawRoundedRect(bar, 3, 3)
            if bar.width() > 12:
                p.setPen(theme.color("raised"))
                p.drawText(bar, Qt.AlignmentFlag.AlignCenter, SIGNS[d.kind])

    def hit(self, at: QPointF, box: QRectF, scale: FrameScale) -> str:
        """The bar under a point."""
        return next((d.text for bar, d in self._bars(box, scale) if bar.contains(at)), "")

    def press(self, at: QPointF, box: QRectF, scale: FrameScale) -> Drag | None:
        """Go to the worst frame of a bar."""
        found = next((d for bar, d in self._bars(box, scale) if bar.contains(at)), None)
        if found is None:
            return None
        self.commands.show_doubt(found)
        # nothing is dragged
        return Drag("Look", lambda pointer: lambda scene: scene)
