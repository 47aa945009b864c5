"""The tryout's controls on the stage, and its clock."""

import time

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QPushButton, QSlider, QToolButton, QWidget

from artuline.core.errors import ArtulineError
from artuline.core.run.tryout import STEP, Tryout
from artuline.desk import theme
from artuline.desk.session import Session
from artuline.desk.stage import Stage

SPEEDS = (1.0, 0.5, 0.25, 0.125, 0.0625)


class TryoutBar(QWidget):
    """Start lets every body go at the present frame; Stop returns to exactly where it was."""

    failed = Signal(str)
    running_changed = Signal(bool)

    def __init__(self, session: Session, stage: Stage):
        super().__init__(stage)
        self.session, self.stage = session, stage
        self.setObjectName("overlay")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(8, 4, 8, 4)
        layout.setSpacing(6)
        self.start_button = QPushButton("Tryout")
        self.start_button.setToolTip("Let go and watch, nothing is recorded (T). Drag a body to tug it.")
        self.start_button.clicked.connect(self.toggle)
        self.pause_button = QToolButton()
        self.pause_button.setCheckable(True)
        self.pause_button.setToolTip("Pause the tryout (P)")
        self.pause_button.toggled.connect(self._paused)
        self.step_button = QToolButton()
        self.step_button.setToolTip("One small step")
        self.step_button.clicked.connect(self._step)
        self.speed = QPushButton("1×")
        self.speed.setToolTip("Slow motion: full, half, a quarter, an eighth, a sixteenth")
        self.speed.setFixedWidth(48)
        self.speed.clicked.connect(self._slower)
        self.gravity = QCheckBox("Gravity")
        self.gravity.setChecked(True)
        self.gravity.toggled.connect(self._gravity)
        self.tone = QSlider(Qt.Orientation.Horizontal)
        self.tone.setRange(0, 100)
        self.tone.setFixedWidth(90)
        self.tone.setToolTip("Tone: how firmly the pose of this frame is held")
        self.tone.valueChanged.connect(self._tone)
        self._words = QLabel("Tone 0.00")
        self._live = (self.pause_button, self.step_button, self.speed, self.gravity, self._words, self.tone)
        for w in (self.start_button, *self._live):
            layout.addWidget(w)
        self._speed = 0
        self._timer = QTimer(self)
        self._timer.setInterval(16)
        self._timer.timeout.connect(self._tick)
        self._last = 0.0
        session.scene_changed.connect(self.stop)
        session.scene_changed.connect(self._enable)
        self.restyle()
        self._show_live(False)
        self._enable()

    def restyle(self) -> None:
        """After a change of theme."""
        self.start_button.setIcon(theme.icon("stop" if self.running else "human-handsdown"))
        self.pause_button.setIcon(theme.icon("pause"))
        self.step_button.setIcon(theme.icon("step-forward"))

    @property
    def running(self) -> bool:
        """Whether a tryout is on."""
        return self.stage.tryout is not None

    def _enable(self) -> None:
        ready = any(f.bodies for f in self.session.scene.figures)
        self.start_button.setEnabled(ready)
        self.start_button.setToolTip(
            "Let go and watch, nothing is recorded (T). Drag a body to tug it." if ready else "Fit bodies first."
        )

    def _show_live(self, on: bool) -> None:
        for w in self._live:
            w.setVisible(on)
        self.start_button.setText("Stop" if on else "Tryout")
        self.restyle()
        self.adjustSize()
        self.place()

    def place(self) -> None:
        """At the bottom middle of the stage."""
        self.adjustSize()
        self.move(max((self.stage.width() - self.width()) // 2, 8), self.stage.height() - self.height() - 12)

    def toggle(self) -> None:
        """Start or stop."""
        if self.running:
            self.stop()
            return
        try:
            tryout = Tryout(self.session.scene, self.session.assets, self.session.frame)
        except ArtulineError as error:
            self.failed.emit(str(error))
            return
        self.stage.tryout = tryout
        self._gravity(self.gravity.isChecked())
        self._tone(self.tone.value())
        self.pause_button.setChecked(False)
        self._last = time.perf_counter()
        self._timer.start()
        self._show_live(True)
        self.running_changed.emit(True)
        self.stage.refresh()

    def stop(self) -> None:
        """Back to exactly where it was."""
        if not self.running:
            return
        self._timer.stop()
        self.stage.tryout = None
        self._show_live(False)
        self.running_changed.emit(False)
        self.stage.refresh()

    def _tick(self) -> None:
        now = time.perf_counter()
        passed, self._last = now - self._last, now
        tryout = self.stage.tryout
        if tryout is not None and not self.pause_button.isChecked():
            tryout.advance(passed * SPEEDS[self._speed])
            self.stage.refresh()

    def _paused(self, on: bool) -> None:
        self.stage.tryout_paused = on
        self.stage.refresh()

    def _step(self) -> None:
        if self.stage.tryout is not None:
            self.pause_button.setChecked(True)
            self.stage.tryout.advance(STEP)
            self.stage.refresh()

    def _slower(self) -> None:
        self._speed = (self._speed + 1) % len(SPEEDS)
        names = ("1×", "1/2×", "1/4×", "1/8×", "1/16×")
        self.speed.setText(names[self._speed])

    def _gravity(self, on: bool) -> None:
        if self.stage.tryout is not None:
            self.stage.tryout.set_gravity(on)

    def _tone(self, value: int) -> None:
        self._words.setText(f"Tone {value / 100:.2f}")
        if self.stage.tryout is not None:
            self.stage.tryout.tone = value / 100.0
