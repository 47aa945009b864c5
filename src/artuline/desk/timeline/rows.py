"""What a row of the timeline is, and what they have in common."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter

from artuline.desk import theme
from artuline.desk.model.drag import Change, Drag
from artuline.desk.model.frame_scale import FrameScale

LABELS = 150  # pixels at the left for what rows are called


@dataclass(frozen=True)
class Edit:
    """An edit of the document, with its words."""

    words: str
    change: Change


@dataclass(frozen=True)
class Choice:
    """An entry of a row's menu."""

    words: str
    on: bool
    do: Callable[[], object]


class Row(Protocol):
    """A row; ``box`` is its rectangle with the label, ``scale`` says where frames are."""

    @property
    def height(self) -> float:
        """Pixels."""

    @property
    def scrolls(self) -> bool:
        """Whether it is among those that move up and down where there are many."""

    def paint(self, p: QPainter, box: QRectF, scale: FrameScale, hot: str) -> None:
        """Draw it; ``hot``: the handle under the mouse."""

    def hit(self, at: QPointF, box: QRectF, scale: FrameScale) -> str:
        """The handle under a point; empty for none."""

    def press(self, at: QPointF, box: QRectF, scale: FrameScale) -> Drag | None:
        """Take what is under a point in hand; None to move the present frame instead."""

    def press_right(self, at: QPointF, box: QRectF, scale: FrameScale) -> Edit | None:
        """What the other button does."""

    def press_twice(self, at: QPointF, box: QRectF, scale: FrameScale) -> Edit | None:
        """What a double click does."""

    def menu(self) -> Sequence[Choice]:
        """What a click on the label offers."""


class Rows(Protocol):
    """Whatever has rows: a station."""

    def rows(self) -> Sequence[Row]:
        """Its rows now, which show in every station."""


class Still:
    """A row that only shows something."""

    height = 22.0
    scrolls = False

    def hit(self, at: QPointF, box: QRectF, scale: FrameScale) -> str:
        """Nothing can be held."""
        return ""

    def press(self, at: QPointF, box: QRectF, scale: FrameScale) -> Drag | None:
        """The present frame moves."""
        return None

    def press_right(self, at: QPointF, box: QRectF, scale: FrameScale) -> Edit | None:
        """Nothing."""
        return None

    def press_twice(self, at: QPointF, box: QRectF, scale: FrameScale) -> Edit | None:
        """Nothing."""
        return None

    def menu(self) -> Sequence[Choice]:
        """Nothing."""
        return ()


def paint_label(p: QPainter, y: float, height: float, text: str, remark: str = "") -> None:
    """What a row is called, with a remark below."""
    p.setPen(theme.color("ink"))
    p.setFont(theme.font(theme.PLAIN))
    short = p.fontMetrics().elidedText(text, Qt.TextElideMode.ElideMiddle, LABELS - 20)
    middle = Qt.AlignmentFlag.AlignVCenter
    if not remark:
        p.drawText(QRectF(12, y, LABELS - 16, height), middle, short)
        return
    p.drawText(QRectF(12, y, LABELS - 16, height / 2 + 3), middle, short)
    p.setFont(theme.font(theme.SMALL))
    p.setPen(theme.color("faint"))
    p.drawText(QRectF(12, y + height / 2 - 3, LABELS - 16, height / 2), middle, remark)
