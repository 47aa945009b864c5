"""A bracket as moving pictures side by side, each with its value and measures; a click chooses one to adopt."""

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QRectF, Qt, QTimer
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from artuline.core.run.bracket import Cell, Span
from artuline.core.run.measures import UNITS
from artuline.desk import theme
from artuline.desk.fields import button
from artuline.view.stage import Show, draw_list, figure_states

if TYPE_CHECKING:
    from artuline.desk.window import Window

WIDE, TALL = 188, 126
PICTURES = 14
SHOWN = ("Pressed in", "Shaking", "From the keys")


class _Card(QWidget):
    """One run: its pictures, value and measures."""

    def __init__(self, view: "BracketView", index: int):
        super().__init__()
        self.view, self.index = view, index
        self.pictures: list[QImage] = []
        self.setFixedSize(WIDE + 8, TALL + 62)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(f"Run {index + 1}")

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        cell = self.view.cells.get(self.index)
        chosen = self.view.chosen == self.index
        p.fillRect(self.rect(), theme.color("raised"))
        p.setPen(QPen(theme.color("ink" if chosen else "rule"), 2.5 if chosen else 1.0))
        p.drawRect(self.rect().adjusted(1, 1, -1, -1))
        if self.pictures:
            p.drawImage(4, 4, self.pictures[self.view.step % len(self.pictures)])
        else:
            p.setPen(theme.color("faint"))
            p.drawText(
                QRectF(4, 4, WIDE, TALL), Qt.AlignmentFlag.AlignCenter, "running…" if cell is None else "drawing…"
            )
        p.setFont(theme.font(strong=True))
        p.setPen(theme.color("ink"))
        p.drawText(QRectF(10, TALL + 6, WIDE - 12, 18), Qt.AlignmentFlag.AlignLeft, self.view.words(self.index))
        if cell is None:
            return
        p.setFont(theme.font(theme.SMALL))
        p.setPen(theme.color("faint"))
        rows = [f"{n.lower()} {cell.measures[n]:.1f} {UNITS[n]}".replace(" °", "°") for n in SHOWN]
        p.drawText(QRectF(10, TALL + 25, WIDE - 12, 16), Qt.AlignmentFlag.AlignLeft, ", ".join(rows[:2]))
        p.drawText(QRectF(10, TALL + 40, WIDE - 12, 16), Qt.AlignmentFlag.AlignLeft, rows[2])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.view.choose(self.index)


class BracketView(QWidget):
    """Covers the stage while a bracket is looked at."""

    def __init__(self, window: "Window", parent: QWidget):
        super().__init__(parent)
        self.window_ = window
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.spans: list[Span] = []
        self.cells: dict[int, Cell] = {}
        self.wanted: list[tuple[float, ...]] = []
        self.chosen: int | None = None
        self.step = 0
        self._cards: list[_Card] = []
        outer = QVBoxLayout(self)
        outer.setContentsMargins(12, 10, 12, 10)
        head = QHBoxLayout()
        self._title = QLabel()
        self._title.setObjectName("title")
        self.sort = QComboBox()
        self.sort.setAccessibleName("Sort")
        self.sort.addItems(["by value", *(f"by {n.lower()}" for n in UNITS)])
        self.sort.activated.connect(lambda _: self._arrange())
        self.adopt_button = button(
            "Adopt", window.adopt_cell, primary=True, tip="Make this value the scene's, and keep the take."
        )
        head.addWidget(self._title)
        head.addStretch(1)
        for w in (self.sort, self.adopt_button, button("Close", self.hide)):
            head.addWidget(w)
        outer.addLayout(head)
        area = QScrollArea()
        area.setWidgetResizable(True)
        self._inner = QWidget()
        self._inner.setObjectName("panel")
        self._grid = QGridLayout(self._inner)
        self._grid.setSpacing(8)
        self._grid.setAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
        area.setWidget(self._inner)
        outer.addWidget(area)
        self._play = QTimer(self)
        self._play.setInterval(110)
        self._play.timeout.connect(self._tick)
        self._draw = QTimer(self)
        self._draw.setInterval(12)
        self._draw.timeout.connect(self._draw_one)
        self.hide()

    def begin(self, spans: list[Span], wanted: list[tuple[float, ...]]) -> None:
        """Show empty cards for all runs."""
        self.spans, self.wanted = spans, wanted
        self.cells, self.chosen = {}, None
        for card in self._cards:
            card.deleteLater()
        self._cards = [_Card(self, i) for i in range(len(wanted))]
        names = " and ".join(s.path.split(".")[-1] for s in spans)
        self._title.setText(f"Bracket of {names}")
        self.adopt_button.setEnabled(False)
        self._arrange()
        self._play.start()
        self.show()
        self.raise_()

    def add(self, index: int, cell: Cell) -> None:
        """A run is done."""
        self.cells[index] = cell
        self._cards[index].update()
        self._draw.start()
        if self.sort.currentIndex() > 0:
            self._arrange()

    def words(self, index: int) -> str:
        """The values of a run."""
        return ", ".join(f"{v:.4g}" for v in self.wanted[index])

    def choose(self, index: int) -> None:
        """Choose a run that is done."""
        if index in self.cells:
            self.chosen = index
            self.adopt_button.setEnabled(True)
            for card in self._cards:
                card.update()

    def _arrange(self) -> None:
        order = list(range(len(self._cards)))
        if self.sort.currentIndex() > 0:
            name = list(UNITS)[self.sort.currentIndex() - 1]
            order.sort(key=lambda i: self.cells[i].measures[name] if i in self.cells else np.inf)
        across = max((self.width() - 40) // (WIDE + 16), 1)
        if len(self.spans) == 2 and self.sort.currentIndex() == 0:
            # a grid: one row for each value of the first
            across = self.spans[1].count
        for k, i in enumerate(order):
            self._grid.addWidget(self._cards[i], k // across, k % across)
            self._cards[i].show()

    def _tick(self) -> None:
        if not self.isVisible():
            self._play.stop()
            self._draw.stop()
            return
        self.step += 1
        for card in self._cards:
            if card.pictures:
                card.update()

    def _draw_one(self) -> None:
        """Draw the next picture that is missing."""
        renderer = self.window_.stage.renderer()
        for i, cell in self.cells.items():
            card = self._cards[i]
            if renderer is None or len(card.pictures) >= PICTURES:
                continue
            take, scene = cell.take, cell.scene
            frames = take.frames[(take.handover > 0.0).any(axis=1)]
            frames = frames if len(frames) > 1 else take.frames
            frame = float(frames[round(len(card.pictures) / (PICTURES - 1) * (len(frames) - 1))])
            assets = self.window_.session.assets
            states = figure_states(scene, assets, frame, take, Show())
            things = draw_list(scene, assets, frame, states, Show(), palette=theme.palette())
            pixels = renderer.draw(things, self.window_.stage.camera, WIDE, TALL)
            card.pictures.append(QImage(pixels.data, WIDE, TALL, 4 * WIDE, QImage.Format.Format_RGBX8888).copy())
            card.update()
            return
        self._draw.stop()
