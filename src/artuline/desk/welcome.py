"""What an empty stage says: open a figure, a scene, a demo, or recover unsaved work."""

from functools import partial
from importlib.resources import files as resources

from PySide6.QtCore import Qt
from PySide6.QtGui import QPixmap, QResizeEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from artuline.demo.scenes import DEMOS, Demo
from artuline.desk.desk import Desk
from artuline.desk.files import Files
from artuline.desk.widgets.cover import Cover
from artuline.desk.widgets.fields import button, faint, short
from artuline.desk.widgets.label import Label
from artuline.formats.recovery import left_behind

PICTURE, TALL, GAP, ACROSS = 140, 82, 12, 4  # pixels, and demos in a row at most
BAR = 14  # pixels that a scroll bar takes
EDGE, LEAST = 24, 310  # pixels around what is on the card, and across it


class Welcome(Cover):
    """Covers the stage while the scene has no figure."""

    def __init__(self, desk: Desk, files: Files):
        super().__init__(desk.stage)
        outer = QVBoxLayout(self)
        outer.setAlignment(Qt.AlignmentFlag.AlignCenter)
        card = QWidget()
        card.setObjectName("card")
        card.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._card = card
        layout = QVBoxLayout(card)
        layout.setContentsMargins(EDGE, 20, EDGE, 24)
        layout.setSpacing(10)
        title = Label("Hand a figure over to physics, get keys back")
        title.setObjectName("title")
        layout.addWidget(title)
        layout.addWidget(faint("Open a skinned figure with its clips (glTF, USD, BVH), or a scene you saved."))
        line = QHBoxLayout()
        line.addWidget(
            button(
                "Open a figure…",
                files.ask_figure,
                icon="human",
                primary=True,
                tip="Adds a skinned figure from a file (Ctrl+I)",
            )
        )
        line.addWidget(
            button(
                "Open a scene…",
                files.ask_open,
                icon="folder-open-outline",
                tip="Opens a scene that was saved (Ctrl+O)",
            )
        )
        left = len(left_behind())
        if left:
            words = "Recover unsaved work…" if left == 1 else f"Recover unsaved work ({left})…"
            line.addWidget(button(words, files.ask_recover, icon="backup-restore",
                                  tip="Work that a window which ended badly has left behind"))  # fmt: skip
        recent = desk.memory.recent()
        if recent:
            line.addWidget(button(f"Open {short(recent[0].name, 24)}", lambda: files.open_path(recent[0]), icon="history",
                                  tip=f"What was open last: {recent[0]} (Ctrl+Shift+O)"))  # fmt: skip
        line.addStretch(1)
        layout.addLayout(line)
        layout.addSpacing(8)
        demos = QWidget()
        shelf = QGridLayout(demos)
        shelf.setContentsMargins(0, 0, 0, 0)
        shelf.setSpacing(GAP)
        # in a small window they are scrolled
        around = QScrollArea()
        around.setFrameShape(QFrame.Shape.NoFrame)
        around.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        around.setStyleSheet("background: transparent;")
        around.setWidget(demos)
        around.setWidgetResizable(True)
        self._shelf, self._around, self._across = shelf, around, 0
        self._demos = [self._demo(files, demo) for demo in DEMOS.values()]
        self._arrange(ACROSS)
        layout.addWidget(around)
        outer.addWidget(card)

    def _arrange(self, across: int) -> None:
        """Put so many demos into a row."""
        if across != self._across:
            self._across = across
            for k, demo in enumerate(self._demos):
                self._shelf.addWidget(demo, k // across, k % across)
            self._card.setFixedWidth(max(across * PICTURE + (across - 1) * GAP, LEAST) + 2 * EDGE + BAR)
            rows = -(-len(self._demos) // across)
            self._around.setMaximumHeight(rows * (self._demos[0].sizeHint().height() + GAP))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """As many demos in a row as there is room for."""
        super().resizeEvent(event)
        room = self.width() - 2 * EDGE - 2 * GAP - BAR
        self._arrange(min(max((room + GAP) // (PICTURE + GAP), 1), ACROSS))

    def _demo(self, files: Files, demo: Demo) -> QWidget:
        """Picture, words and button of a demo scene."""
        box = QWidget()
        column = QVBoxLayout(box)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        picture = Label()
        picture.setFixedSize(PICTURE, TALL)
        source = resources("artuline.demo").joinpath("data", f"{demo.name}.png")
        pixels = QPixmap()
        if source.is_file() and pixels.loadFromData(source.read_bytes()):
            fill = Qt.AspectRatioMode.KeepAspectRatioByExpanding
            wide = pixels.scaled(PICTURE, TALL, fill, Qt.TransformationMode.SmoothTransformation)
            picture.setPixmap(wide.copy((wide.width() - PICTURE) // 2, (wide.height() - TALL) // 2, PICTURE, TALL))
        column.addWidget(picture)
        open_ = button(f"Open “{demo.name}”", partial(files.open_demo, demo.name), icon="ferry", tip=demo.about + ".")
        open_.setFixedWidth(PICTURE)
        column.addWidget(open_)
        return box
