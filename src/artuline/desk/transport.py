"""Playing the scene's range, and the bar with the transport."""

import time

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QToolButton, QWidget

from artuline.desk import theme
from artuline.desk.session import Session


class Transport(QWidget):
    """Buttons above the timeline; frames follow the clock, so a slow picture drops frames, not speed."""

    playing_changed = Signal(bool)

    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self.setObjectName("strip")
        self.setFixedHeight(36)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 3, 12, 3)
        layout.setSpacing(2)
        self._buttons: list[tuple[QToolButton, str]] = []
        self._button(
            layout,
            "skip-previous",
            "To the first frame (Home)",
            lambda: session.set_frame(session.scene.start),
        )
        self._button(
            layout,
            "step-backward",
            "One frame back (Left)",
            lambda: session.set_frame(round(session.frame) - 1),
        )
        self.play_button = self._button(layout, "play", "Play and pause (Space)", self.toggle)
        self._button(
            layout,
            "step-forward",
            "One frame on (Right)",
            lambda: session.set_frame(round(session.frame) + 1),
        )
        self._button(layout, "skip-next", "To the last frame (End)", lambda: session.set_frame(session.scene.end))
        self._where = QLabel()
        self._where.setObjectName("faint")
        layout.addSpacing(8)
        layout.addWidget(self._where)
        layout.addStretch(1)
        self.right = layout
        self._timer = QTimer(self)
        self._timer.setInterval(12)
        self._timer.timeout.connect(self._tick)
        self._since = (0.0, 0.0)
        session.frame_changed.connect(self._tell)
        session.scene_changed.connect(self._tell)
        self._tell()

    def _button(self, layout: QHBoxLayout, name: str, tip: str, action) -> QToolButton:
        b = QToolButton()
        b.setToolTip(tip)
        b.setAccessibleName(tip)
        b.clicked.connect(lambda: action())
        layout.addWidget(b)
        self._buttons.append((b, name))
        b.setIcon(theme.icon(name))
        return b

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
            self.playing_changed.emit(True)

    def stop(self) -> None:
        """Pause."""
        if self.playing:
            self._timer.stop()
            self.play_button.setIcon(theme.icon("play"))
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
