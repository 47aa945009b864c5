"""What an empty stage says: open a figure, a scene, a demo, or recover unsaved work."""

from functools import partial
from importlib.resources import files as resources

from PySide6.QtCore import Qt
from PySide6.QtGui import QPixmap
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from artuline.demo.scenes import DEMOS, Demo
from artuline.desk.desk import Desk
from artuline.desk.files import Files
from artuline.desk.widgets.cover import Cover
from artuline.desk.widgets.fields import button, faint, short
from artuline.formats.recovery import left_behind

PICTURE, TALL, GAP, ACROSS = 196, 124, 12, 3  # pixels, and demos in a row


class Welcome(Cover):
    """Covers the stage while the scene has no figure."""

    def __init__(self, desk: Desk, files: Files):
        super().__init__(desk.stage)
        outer = QVBoxLayout(self)
        outer.setAlignment(Qt.AlignmentFlag.AlignCenter)
        card = QWidget()
        card.setObjectName("card")
        card.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        card.setFixedWidth(ACROSS * PICTURE + (ACROSS - 1) * GAP + 48)
        layout = QVBoxLayout(card)
        layout.setContentsMargins(24, 20, 24, 24)
        layout.setSpacing(10)
        title = QLabel("Hand a figure over to physics, get keys back")
        title.setObjectName("title")
        layout.addWidget(title)
        layout.addWidget(faint("Open a skinned figure with its clips (.glb, .gltf), or a scene you saved."))
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
        shelf = QGridLayout()
        shelf.setSpacing(GAP)
        for k, demo in enumerate(DEMOS.values()):
            shelf.addLayout(self._demo(files, demo), k // ACROSS, k % ACROSS)
        layout.addLayout(shelf)
        outer.addWidget(card)

    def _demo(self, files: Files, demo: Demo) -> QVBoxLayout:
        """Picture, words and button of a demo scene."""
        column = QVBoxLayout()
        column.setSpacing(4)
        picture = QLabel()
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
        return column
