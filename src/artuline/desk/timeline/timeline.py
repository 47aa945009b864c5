"""The timeline: a ruler, and the rows of all stations below it."""

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QMenu, QSizePolicy, QWidget

from artuline.desk import theme
from artuline.desk.model.drag import Drag, Pointer
from artuline.desk.model.frame_scale import FrameScale
from artuline.desk.model.session import Session
from artuline.desk.timeline.rows import LABELS, Choice, Edit, Row, Rows

RULER = 26
ROOM = 132.0  # pixels for all rows that scroll


class Timeline(QWidget):
    """Scrub on the ruler, and wherever a row has nothing to hold."""

    frame_wanted = Signal(float)

    def __init__(self, session: Session, stations: Sequence[Rows]):
        super().__init__()
        self.session, self._stations = session, stations
        self._drag: Drag | None = None
        self._scrubs = False
        self._hot: tuple[Row, str] | None = None
        self._rolled = 0.0
        self._rows: list[Row] = []
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Timeline")
        self.setAccessibleDescription(
            "Frames, keys, and a lane for every group. Left and right go from frame to frame."
        )
        s = session
        s.scene_changed.connect(self._changed)
        s.previewed.connect(self._changed)
        s.frame_changed.connect(self.update)
        s.selection_changed.connect(self.update)
        self._changed()

    def _changed(self) -> None:
        self._rows = [row for station in self._stations for row in station.rows()]
        still = sum(r.height for r in self._rows if not r.scrolls)
        self.setFixedHeight(round(RULER + still + min(self._scrolling(), ROOM) + 4))
        self.roll(0.0)

    def _scrolling(self) -> float:
        return sum(r.height for r in self._rows if r.scrolls)

    def roll(self, by: float) -> None:
        """Move the rows up and down where there are more than fit."""
        hidden = max(self._scrolling() - ROOM, 0.0)
        self._rolled = min(max(self._rolled + by, 0.0), hidden)
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.roll(-0.25 * event.angleDelta().y())

    # geometry

    @property
    def scale(self) -> FrameScale:
        """Frames and pixels as they are now."""
        s = self.session.scene
        return FrameScale(s.start, s.end, LABELS + 14.0, max(self.width() - LABELS - 28.0, 1.0))

    def boxes(self) -> list[tuple[Row, QRectF]]:
        """Every row with its rectangle: those that stay above and below those that scroll."""
        found: list[tuple[Row, QRectF]] = []
        y, rolled = float(RULER), -self._rolled
        lanes = min(self._scrolling(), ROOM)
        passed = False
        for row in self._rows:
            if row.scrolls:
                found.append((row, QRectF(0, y + rolled, self.width(), row.height)))
                rolled += row.height
                passed = True
                continue
            if passed:
                y, lanes = y + lanes, 0.0
            found.append((row, QRectF(0, y, self.width(), row.height)))
            y += row.height
        return found

    def _window(self) -> QRectF:
        """Where the rows that scroll can be seen."""
        top = float(RULER)
        for row in self._rows:
            if row.scrolls:
                break
            top += row.height
        return QRectF(0, top, self.width(), min(self._scrolling(), ROOM))

    def _at(self, at: QPointF) -> tuple[Row, QRectF] | None:
        window = self._window()
        for row, box in self.boxes():
            if box.contains(at) and (not row.scrolls or window.contains(at)):
                return row, box
        return None

    # painting

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), theme.color("paper"))
        p.fillRect(QRectF(0, 0, LABELS, self.height()), theme.color("panel"))
        scale = self.scale
        self._paint_ruler(p, scale)
        window = self._window()
        for row, box in self.boxes():
            p.save()
            if row.scrolls:
                p.setClipRect(window)
            row.paint(p, box, scale, self._hot[1] if self._hot is not None and self._hot[0] == row else "")
            p.restore()
        if self.hasFocus():
            p.setPen(QPen(theme.color("ink"), 2.0))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
        self._paint_frame(p, scale.x(self.session.frame))

    def _paint_frame(self, p: QPainter, x: float) -> None:
        """The present frame, with its number on the ruler."""
        p.setPen(QPen(theme.color("ink"), 1.5))
        p.drawLine(QPointF(x, RULER - 6), QPointF(x, self.height()))
        p.setBrush(theme.color("ink"))
        p.setFont(theme.font(theme.SMALL, strong=True))
        words = f"{self.session.frame:.0f}"
        half = max(17.0, p.fontMetrics().horizontalAdvance(words) / 2 + 6.0)
        tag = QRectF(x - half, 3, 2 * half, RULER - 9)
        p.drawRoundedRect(tag, 3, 3)
        p.setPen(theme.color("raised"))
        p.drawText(tag, Qt.AlignmentFlag.AlignCenter, words)

    def _paint_ruler(self, p: QPainter, scale: FrameScale) -> None:
        s = self.session.scene
        p.setFont(theme.font(theme.SMALL))
        p.setPen(theme.color("rule"))
        for f in scale.ticks(5.0):
            p.drawLine(QPointF(scale.x(f), RULER - 4), QPointF(scale.x(f), RULER))
        p.setPen(theme.color("faint"))
        wide = p.fontMetrics().horizontalAdvance(str(max(abs(s.start), abs(s.end)))) + 22.0
        for f in scale.ticks(max(wide, 46.0)):
            x = scale.x(f)
            p.drawText(QRectF(x - wide / 2, 2, wide, 14), Qt.AlignmentFlag.AlignCenter, str(f))
            p.drawLine(QPointF(x, RULER - 8), QPointF(x, RULER))
        p.setPen(theme.color("rule"))
        p.drawLine(QPointF(0, RULER), QPointF(self.width(), RULER))
        p.setPen(theme.color("faint"))
        p.drawText(QRectF(12, 0, LABELS, RULER), Qt.AlignmentFlag.AlignVCenter, f"{s.rate:g} frames per second")

    # the mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        found = self._at(at)
        if found is not None:
            row, box = found
            if event.button() == Qt.MouseButton.RightButton:
                self._edit(row.press_right(at, box, self.scale))
                return
            if at.x() <= LABELS:
                self._offer(row, event)
                return
            self._drag = row.press(at, box, self.scale)
        if self._drag is None and at.x() > LABELS:
            self._scrubs = True
            self._scrub(at.x())

    def _scrub(self, x: float) -> None:
        self.frame_wanted.emit(round(self.scale.frame(x)))

    def _offer(self, row: Row, event: QMouseEvent) -> None:
        """A menu of what a row can show."""
        choices = row.menu()
        if not choices:
            return
        menu = QMenu(self)
        for c in choices:
            action = menu.addAction(c.words)
            action.setCheckable(True)
            action.setChecked(c.on)
            action.triggered.connect(partial(self._do, c))
        menu.popup(event.globalPosition().toPoint())

    def _do(self, choice: Choice, *_: object) -> None:
        choice.do()
        self._changed()

    def _edit(self, edit: Edit | None) -> bool:
        return edit is not None and self.session.edit(edit.words, edit.change)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        found = self._at(event.position())
        if found is not None and event.position().x() > LABELS:
            edit = found[0].press_twice(event.position(), found[1], self.scale)
            self._drag = None
            self._edit(edit)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if self._scrubs:
            self._scrub(at.x())
        elif self._drag is not None:
            self.session.preview(self._drag.change(Pointer(at)))
        else:
            found = self._at(at)
            name = found[0].hit(at, found[1], self.scale) if found is not None else ""
            hot = (found[0], name) if found is not None and name else None
            if hot != self._hot:
                self._hot = hot
                self.setCursor(Qt.CursorShape.SizeHorCursor if hot else Qt.CursorShape.ArrowCursor)
                self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        drag, self._drag, self._scrubs = self._drag, None, False
        if drag is not None:
            self.session.edit(drag.words, drag.change(Pointer(event.position())))
