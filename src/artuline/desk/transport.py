"""Playing the scene's range, and the bar with the transport."""

import time

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QToolButton, QWidget

from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.model.actions import Action
from artuline.desk.widgets.label import Label


class Transport(QWidget):
    """Buttons above the timeline; frames follow the clock, so a slow picture drops frames, not speed."""

    playing_changed = Signal(bool)

    def __init__(self, desk: Desk):
        super().__init__()
        session = self.session = desk.session
        self.desk = desk
        self.setObjectName("strip")
        self.setFixedHeight(36)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 3, 12, 3)
        layout.setSpacing(2)
        self.play_button: QToolButton
        self._buttons: list[tuple[QToolButton, str]] = []
        for action in self.all_actions():
            self._button(layout, action)
        self._where = Label()
        self._where.setObjectName("faint")
        layout.addSpacing(8)
        layout.addWidget(self._where)
        layout.addStretch(1)
        self.right = layout
        self._timer = QTimer(self)
        self._timer.setInterval(12)
        self._timer.timeout.connect(self._tick)
        self._since = (0.0, 0.0)
        session.leaving.connect(self.stop)
        session.frame_changed.connect(self._tell)
        session.scene_changed.connect(self._tell)
        self._tell()

    def all_actions(self) -> list[Action]:
        """What the buttons do, from left to right."""
        m, s = "&Play", self.session
        return [
            Action("first", "To the first frame", lambda: s.set_frame(s.scene.start), "Home", "skip-previous", m,
                   "Goes to the first frame of the range"),
            Action("frame back", "One frame back", lambda: s.set_frame(round(s.frame) - 1), "Left", "step-backward", m,
                   "Goes one frame back"),
            Action("play", "Play and pause", self.toggle, "Space", "play", m, "Plays the range", self.desk.needs("figure")),
            Action("frame on", "One frame on", lambda: s.set_frame(round(s.frame) + 1), "Right", "step-forward", m,
                   "Goes one frame on"),
            Action("last", "To the last frame", lambda: s.set_frame(s.scene.end), "End", "skip-next", m,
                   "Goes to the last frame of the range"),
        ]  # fmt: skip

    def _button(self, layout: QHBoxLayout, action: Action) -> None:
        b = QToolButton()
        b.setToolTip(f"{action.words} ({action.keys})")
        b.setAccessibleName(b.toolTip())
        b.clicked.connect(lambda: action.do())
        layout.addWidget(b)
        self._buttons.append((b, action.icon))
        b.setIcon(theme.icon(action.icon))
        if action.id == "play":
            self.play_button = b

    def restyle(self) -> None:
        """After a change of theme."""
        for b, name in self._buttons:
            b.setIcon(theme.icon("pause" if b is self.play_button and self.playing else name))

    @property
    def playing(self) -> bool:
        """Whether the range plays."""
        return self._timer.isActive()

    def toggle(self) -> None:
        """Play or pause."""
        if self.playing:
            self.stop()
        elif self.session.scene.figures:
            start = self.session.frame if self.session.frame < self.session.scene.end else self.session.scene.start
            self._since = (time.perf_counter(), start)
            self._timer.start()
            self.play_button.setIcon(theme.icon("pause"))
            self.desk.stage.set_moving("range", True)
            self.playing_changed.emit(True)

    def stop(self) -> None:
        """Pause."""
        if self.playing:
            self._timer.stop()
            self.play_button.setIcon(theme.icon("play"))
            self.desk.stage.set_moving("range", False)
            self.playing_changed.emit(False)

    def _tick(self) -> None:
        s = self.session.scene
        began, first = self._since
        frame = first + (time.perf_counter() - began) * s.rate
        if frame > s.end:
            frame = s.start
            self._since = (time.perf_counter(), float(s.start))
        self.session.set_frame(float(int(frame)))

    def _tell(self) -> None:
        s = self.session
        self._where.setText(f"Frame {s.frame:.0f}   {(s.frame - s.scene.start) / s.scene.rate:.2f} s")
