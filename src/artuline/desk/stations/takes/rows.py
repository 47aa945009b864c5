"""The timeline's row of the take: where it is, and how hard things hit in it."""

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter

from artuline.desk import theme
from artuline.desk.model.frame_scale import FrameScale
from artuline.desk.model.session import Session
from artuline.desk.timeline.rows import LABELS, Still, paint_label


class TakeRow(Still):
    """The shown take."""

    def __init__(self, session: Session):
        self.session = session

    def paint(self, p: QPainter, box: QRectF, scale: FrameScale, hot: str) -> None:
        """A band over its frames, with a bar for every hit."""
        y, height, scene = box.top(), box.height(), self.session.scene
        p.setPen(theme.color("rule"))
        p.drawLine(box.topLeft(), box.topRight())
        ref, take = scene.active_take(), self.session.take()
        if ref is None or take is None:
            paint_label(p, y, height, "No take yet")
            p.setPen(theme.color("faint"))
            area = QRectF(LABELS + 24, y, box.width() - LABELS - 38, height)
            p.drawText(area, Qt.AlignmentFlag.AlignVCenter, "Run simulates the range and keeps the result here")
            return
        stale = ref.settings != scene.settings_fingerprint()
        paint_label(p, y, height, f"{ref.name}: out of date" if stale else f"{ref.name}: hits")
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.color("faint" if stale else "vermilion", 0.18))
        a, b = scale.x(max(ref.start, scene.start)), scale.x(min(ref.end, scene.end))
        p.drawRoundedRect(QRectF(a, y + 4, max(b - a, 0.0), height - 8), 3, 3)
        force = take.contact.sum(axis=1)
        if force.max(initial=0.0) <= 0:
            return
        p.setBrush(theme.color("faint" if stale else "vermilion"))
        heights = np.sqrt(force / force.max()) * (height - 8)
        width = max((b - a) / max(len(force), 1) - 0.5, 1.0)
        inside = (take.frames >= scene.start) & (take.frames <= scene.end)
        for x, h in zip(*scale.highest(take.frames[inside], heights[inside])):
            if h > 0.5:
                p.drawRect(QRectF(float(x) - width / 2, y + height - 4 - float(h), width, float(h)))
