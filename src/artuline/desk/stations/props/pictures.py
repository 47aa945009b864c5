"""Small pictures of the three ways to carry a thing."""

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QIcon, QPainter, QPen, QPixmap

from artuline.core.setup.grip import Way
from artuline.desk import theme

SIZE = QSize(56, 64)


def way_picture(way: Way) -> QIcon:
    """A figure with a pail: what is fixed in ink, what swings in vermilion with a little arc."""
    pixmap = QPixmap(SIZE * 2)
    pixmap.setDevicePixelRatio(2.0)
    pixmap.fill(Qt.GlobalColor.transparent)
    p = QPainter(pixmap)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    ink, red = theme.color("ink"), theme.color("vermilion")
    body = QPen(ink, 2.6, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap)
    p.setPen(body)
    # head, trunk, legs
    p.setBrush(ink)
    p.drawEllipse(QPointF(20, 8), 4.5, 4.5)
    p.drawLine(QPointF(20, 14), QPointF(20, 34))
    p.drawLine(QPointF(20, 34), QPointF(15, 58))
    p.drawLine(QPointF(20, 34), QPointF(26, 58))
    hip = way == "hip"
    hand = QPointF(29, 30) if hip else QPointF(34, 28)
    p.drawPolyline([QPointF(20, 16), QPointF(27, 22) if hip else QPointF(28, 21), hand])
    top = QPointF(hand.x(), hand.y())
    p.setBrush(Qt.BrushStyle.NoBrush)
    swings = way == "palm"
    p.setPen(QPen(red if swings else ink, 1.8))
    lean = 6.0 if swings else 0.0
    low = QPointF(top.x() + lean, top.y() + 12)
    p.drawArc(QRectF(low.x() - 8, top.y(), 16, 20), 0, 180 * 16)
    p.setPen(QPen(red, 1.8))
    p.drawPolygon([low + QPointF(-8, 0), low + QPointF(8, 0), low + QPointF(6, 14), low + QPointF(-6, 14)])
    p.drawArc(QRectF(low.x() - 14, low.y() + 4, 28, 18), 215 * 16, 110 * 16)
    if hip:
        # what it rides on
        p.setPen(QPen(ink, 1.6, Qt.PenStyle.DotLine))
        p.drawLine(QPointF(20, 33), top)
    if swings:
        p.setPen(QPen(ink, 1.4))
        p.setBrush(theme.color("raised"))
        p.drawEllipse(top, 2.6, 2.6)
    p.end()
    return QIcon(pixmap)
