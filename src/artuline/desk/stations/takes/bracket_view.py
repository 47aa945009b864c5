"""A bracket as moving pictures side by side, each with its value and measures; a click chooses one to adopt."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QHelpEvent, QHideEvent, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QShowEvent
from PySide6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from artuline.core.run.bracket import Cell, Span
from artuline.core.run.measures import UNITS
from artuline.core.run.take import Take
from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.widgets.cover import Cover
from artuline.desk.widgets.fields import Choice, button
from artuline.desk.widgets.label import Label
from artuline.view.camera import Camera
from artuline.view.stage import Show, draw_list, figure_states

WIDE, TALL = 188, 126
PICTURES = 14
FINE = 2  # times the size at which pictures are drawn
NEARER = 0.75  # than where the whole way is surely in sight
SHOWN = ("Pressed in", "Shaking", "From the keys")


def _moving(take: Take) -> np.ndarray:
    """The frames of a take on which physics moves something; all if there are not two."""
    frames = take.frames[(take.handover > 0.0).any(axis=1)]
    return frames if len(frames) > 1 else take.frames


class _Card(QWidget):
    """One run: its pictures, value and measures."""

    def __init__(self, view: "BracketView", index: int):
        super().__init__()
        self.view, self.index = view, index
        self.pictures: list[QImage] = []
        self.resize_for(len(view.measures))
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(f"Run {index + 1}")

    def resize_for(self, measures: int) -> None:
        """Make room for a number of measures."""
        self.setFixedSize(WIDE + 8, TALL + 32 + 15 * measures)

    def pin_box(self) -> QRectF:
        return QRectF(self.width() - 30, TALL + 4, 26, 24)

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        cell = self.view.cells.get(self.index)
        chosen, beside = self.view.chosen == self.index, self.view.second == self.index
        p.fillRect(self.rect(), theme.color("raised"))
        line = Qt.PenStyle.DashLine if beside else Qt.PenStyle.SolidLine
        p.setPen(QPen(theme.color("ink" if chosen or beside else "rule"), 2.5 if chosen or beside else 1.0, line))
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
        for k, (name, value) in enumerate(self.view.rows(self.index)):
            line_box = QRectF(10, TALL + 25 + 15 * k, WIDE - 14, 16)
            p.drawText(line_box, Qt.AlignmentFlag.AlignLeft, name)
            p.drawText(line_box, Qt.AlignmentFlag.AlignRight, value)
        pinned = self.index in self.view.pinned
        mark = theme.icon("pin" if pinned else "pin-outline", "ink" if pinned else "faint")
        mark.paint(p, self.pin_box().toRect().adjusted(5, 4, -5, -4))

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent):
            pin = "Pin: stays in front, however the runs are sorted"
            self.setToolTip(
                pin
                if self.pin_box().contains(QPointF(event.pos()))
                else "Choose this run. Shift and click: the second one to compare"
            )
        return super().event(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.pin_box().contains(event.position()):
            self.view.pin(self.index)
        else:
            self.view.choose(self.index, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))


class _Large(QWidget):
    """One run as large as there is room for, drawn as it plays."""

    def __init__(self, view: "BracketView"):
        super().__init__()
        self.view = view
        self.index = 0
        self.picture: QImage | None = None

    def draw_frame(self) -> None:
        """Draw the present step of the run."""
        cell = self.view.cells.get(self.index)
        renderer = self.view.stage.renderer()
        if cell is None or renderer is None or self.width() < 40:
            return
        frames = _moving(cell.take)
        self.picture = self.view.picture(
            cell, float(frames[2 * self.view.step % len(frames)]), self.width(), self.height()
        )
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        if self.picture is not None:
            p.drawImage(self.rect(), self.picture)
        p.setPen(theme.color("ink"))
        p.setFont(theme.font(theme.LARGE, strong=True))
        p.drawText(QRectF(14, 10, self.width() - 20, 24), Qt.AlignmentFlag.AlignLeft, self.view.words(self.index))
        p.setFont(theme.font())
        for k, (name, value) in enumerate(self.view.rows(self.index)):
            p.drawText(QRectF(14, 36 + 18 * k, 220, 18), Qt.AlignmentFlag.AlignLeft, f"{name}  {value}")


class BracketView(Cover):
    """Covers the stage while a bracket is looked at."""

    def __init__(self, desk: Desk, adopt: Callable[[], object]):
        super().__init__(desk.stage)
        self.stage, self.session = desk.stage, desk.session
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.spans: list[Span] = []
        self.cells: dict[int, Cell] = {}
        self.wanted: list[tuple[float, ...]] = []
        self.chosen: int | None = None
        self.second: int | None = None
        self.pinned: set[int] = set()
        self.measures = list(SHOWN)
        self.step = 0
        #: Which bracket is shown: runs of an earlier one are not taken.
        self.token = 0
        self._camera: Camera | None = None
        self.cards: list[_Card] = []
        outer = QVBoxLayout(self)
        outer.setContentsMargins(12, 10, 12, 10)
        outer.addLayout(self._head(adopt))
        self._make_runs()
        outer.addWidget(self.area, 1)
        outer.addWidget(self._pair, 1)
        self.clock = QTimer(self)
        self.clock.setInterval(110)
        self.clock.timeout.connect(self.tick)
        self._draw = QTimer(self)
        self._draw.setInterval(12)
        self._draw.timeout.connect(self._draw_one)
        self.hide()

    def _head(self, adopt: Callable[[], object]) -> QHBoxLayout:
        """Title, measures, order, and what is done with a run."""
        head = QHBoxLayout()
        self._title = Label()
        self._title.setObjectName("title")
        self.sort = Choice()
        self.sort.setAccessibleName("Sort")
        self.sort.setToolTip("In which order the runs stand")
        self.sort.addItems(["by value", *(f"by {n.lower()}" for n in UNITS)])
        self.sort.activated.connect(lambda _: self.arrange())
        self.adopt_button = button("Adopt", adopt, primary=True, tip="Make this value the scene's, and keep the take.")
        self._pick = QPushButton("Measures")
        self._pick.setToolTip("Which measures every run shows")
        menu = QMenu(self._pick)
        for name in UNITS:
            action = menu.addAction(name)
            action.setCheckable(True)
            action.setChecked(name in self.measures)
            action.toggled.connect(lambda on, n=name: self.show_measure(n, on))
        self._pick.setMenu(menu)
        self.large_button = button(
            "Compare two",
            self.toggle_large,
            tip="The chosen run and a second one (Shift and click) as large as there is room.",
        )
        head.addWidget(self._title)
        head.addStretch(1)
        for w in (
            self._pick,
            self.sort,
            self.large_button,
            self.adopt_button,
            button("Close", self.hide, tip="Back to the stage (Escape); the runs stay until the next bracket"),
        ):
            head.addWidget(w)
        return head

    def _make_runs(self) -> None:
        """Where the runs stand: all of them as cards, or two large."""
        area = QScrollArea()
        area.setWidgetResizable(True)
        self._inner = QWidget()
        self._inner.setObjectName("panel")
        self.grid = QGridLayout(self._inner)
        self.grid.setSpacing(8)
        self.grid.setAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
        area.setWidget(self._inner)
        self.area = area
        self._pair = QWidget()
        both = QHBoxLayout(self._pair)
        both.setContentsMargins(0, 0, 0, 0)
        self.large = (_Large(self), _Large(self))
        for one in self.large:
            both.addWidget(one, 1)
        self._pair.hide()

    def begin(self, spans: list[Span], wanted: list[tuple[float, ...]]) -> None:
        """Show empty cards for all runs."""
        self.spans, self.wanted = spans, wanted
        self.token += 1
        self.cells, self.chosen, self.second, self.pinned = {}, None, None, set()
        self._camera = None
        self._show_large(False)
        self.large_button.setEnabled(False)
        for card in self.cards:
            card.deleteLater()
        self.cards = [_Card(self, i) for i in range(len(wanted))]
        names = " and ".join(s.path.split(".")[-1] for s in spans)
        self._title.setText(f"Bracket of {names}")
        self.adopt_button.setEnabled(False)
        self.arrange()
        self.clock.start()
        self.place()
        self.show()
        self.raise_()

    def showEvent(self, event: QShowEvent) -> None:
        self.stage.set_covered(True)

    def hideEvent(self, event: QHideEvent) -> None:
        self.stage.set_covered(False)

    def drop(self) -> None:
        """Forget all runs: their document is left."""
        self.hide()
        self.cells, self.chosen, self.second = {}, None, None
        self.token += 1

    def add(self, token: int, index: int, cell: Cell) -> None:
        """A run of the bracket that ``token`` stands for is done."""
        if token != self.token:
            return
        self.cells[index] = cell
        if self._camera is None:
            self._camera = self._framed(cell.take)
        self.cards[index].update()
        self._draw.start()
        if self.sort.currentIndex() > 0:
            self.arrange()

    def words(self, index: int) -> str:
        """The values of a run."""
        return ", ".join(f"{v:.4g}" for v in self.wanted[index])

    def rows(self, index: int) -> list[tuple[str, str]]:
        """The picked measures of a run that is done, with their values."""
        cell = self.cells.get(index)
        if cell is None:
            return []
        return [(n, f"{cell.measures[n]:.1f} {UNITS[n]}".replace(" °", "°")) for n in UNITS if n in self.measures]

    def show_measure(self, name: str, on: bool) -> None:
        """Show a measure with every run, or do not."""
        self.measures = [n for n in UNITS if (on if n == name else n in self.measures)]
        for card in self.cards:
            card.resize_for(len(self.measures))
            card.update()

    def pin(self, index: int) -> None:
        """Keep a run in front, or no longer."""
        self.pinned ^= {index}
        self.arrange()
        self.cards[index].update()

    def choose(self, index: int, second: bool = False) -> None:
        """Choose a run that is done, or a second one to compare it with."""
        if index not in self.cells:
            return
        if second and self.chosen not in (None, index):
            self.second = index
        else:
            self.chosen, self.second = index, None if self.second == index else self.second
        self.adopt_button.setEnabled(True)
        self.large_button.setEnabled(self.second is not None)
        for card in self.cards:
            card.update()

    def toggle_large(self) -> None:
        """Show two runs large, or all of them small again."""
        self._show_large(self._pair.isHidden() and self.chosen is not None and self.second is not None)

    def _show_large(self, on: bool) -> None:
        self._pair.setVisible(on)
        self.area.setVisible(not on)
        self.large_button.setText("All runs" if on else "Compare two")
        if on and self.chosen is not None and self.second is not None:
            self.large[0].index, self.large[1].index = self.chosen, self.second

    def arrange(self) -> None:
        order = list(range(len(self.cards)))
        if self.sort.currentIndex() > 0:
            name = list(UNITS)[self.sort.currentIndex() - 1]
            order.sort(key=lambda i: self.cells[i].measures[name] if i in self.cells else np.inf)
        order.sort(key=lambda i: i not in self.pinned)
        across = max((self.width() - 40) // (WIDE + 16), 1)
        if len(self.spans) == 2 and self.sort.currentIndex() == 0 and not self.pinned:
            # a grid: one row for each value of the first
            across = self.spans[1].count
        for k, i in enumerate(order):
            self.grid.addWidget(self.cards[i], k // across, k % across)
            self.cards[i].show()

    def tick(self) -> None:
        if not self.isVisible():
            self.clock.stop()
            self._draw.stop()
            return
        self.step += 1
        if self._pair.isVisible():
            for one in self.large:
                one.draw_frame()
            return
        for card in self.cards:
            if card.pictures:
                card.update()

    def _framed(self, take: Take) -> Camera:
        """The stage's view, moved so that all that physics moves is in it; of all runs the same."""
        rows = [take.row(f) for f in _moving(take)]
        places = take.position[rows][take.handover[rows] > 0.0]
        camera = self.stage.camera
        if not len(places):
            return camera
        framed = camera.framed(np.concatenate([places - 0.1, places + 0.1]))
        return replace(framed, distance=NEARER * framed.distance)

    def picture(self, cell: Cell, frame: float, wide: int, tall: int) -> QImage:
        """A run at a frame, seen as the stage sees it."""
        renderer, assets = self.stage.renderer(), self.session.assets
        assert renderer is not None
        states = figure_states(cell.scene, assets, frame, cell.take, Show())
        things = draw_list(cell.scene, assets, frame, states, Show(), palette=theme.palette())
        pixels = renderer.draw(things, self._camera or self.stage.camera, wide, tall)
        return QImage(pixels.data, wide, tall, 4 * wide, QImage.Format.Format_RGBX8888).copy()

    def _draw_one(self) -> None:
        """Draw the next picture that is missing."""
        renderer = self.stage.renderer()
        for i, cell in self.cells.items():
            card = self.cards[i]
            if renderer is None or len(card.pictures) >= PICTURES:
                continue
            frames = _moving(cell.take)
            frame = float(frames[round(len(card.pictures) / (PICTURES - 1) * (len(frames) - 1))])
            # drawn larger and scaled down, for smooth edges
            large = self.picture(cell, frame, FINE * WIDE, FINE * TALL)
            ratio, smooth = Qt.AspectRatioMode.IgnoreAspectRatio, Qt.TransformationMode.SmoothTransformation
            card.pictures.append(large.scaled(WIDE, TALL, ratio, smooth))
            card.update()
            return
        self._draw.stop()
