"""The tryout's controls on the stage, and its clock."""

import math
import time
from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QMenu, QPushButton, QSlider, QToolButton

from artuline.core.errors import ArtulineError
from artuline.core.run.live import LiveWorld
from artuline.core.run.prepare import kernels_ready
from artuline.core.run.tryout import Tryout
from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.model.actions import Action
from artuline.desk.stage.live import PUSH
from artuline.desk.steering import Steering
from artuline.desk.widgets.cover import Cover
from artuline.desk.widgets.label import Label

SPIN = 4.0  # rad/s
MOST_WORK = 0.04  # seconds of simulating for one picture
SPEEDS = (1.0, 0.5, 0.25, 0.125, 0.0625)


class TryoutBar(Cover):
    """Start lets every body go at the present frame; Stop returns to exactly where it was."""

    running_changed = Signal(bool)

    def __init__(self, desk: Desk):
        super().__init__(desk.stage)
        self.desk, self.session, self.stage, self.live = desk, desk.session, desk.stage, desk.stage.live
        self.setObjectName("overlay")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._make_clockwork()
        self._make_world()
        self._make_more()
        self.steering = Steering(desk, self.stop)
        self.stage.left = self.steering.let_go
        self._plain = self.step_button, self.tilt, self.tone, self._words, self.more
        self._live = (
            self.pause_button,
            self.step_button,
            self.speed,
            self.gravity,
            self.tilt,
            self.ground,
            self._words,
            self.tone,
            self.more,
        )
        layout = QHBoxLayout(self)
        layout.setContentsMargins(8, 4, 8, 4)
        layout.setSpacing(6)
        for w in (self.start_button, self.steer_button, *self._live, *self.steering.widgets):
            layout.addWidget(w)
        self._speed = 0
        self.clock = QTimer(self)
        self.clock.setInterval(16)
        self.clock.timeout.connect(self.tick)
        self._last = 0.0
        session = desk.session
        session.scene_changed.connect(self._changed)
        session.previewed.connect(lambda: self.stop() if self.steering.steered is None else None)
        session.leaving.connect(self.stop)
        session.scene_changed.connect(self._enable)
        self.restyle()
        self._show_live(False)
        self._enable()

    def _make_clockwork(self) -> None:
        """Start, pause, step and slow motion."""
        self.start_button = QPushButton("Tryout")
        self.start_button.setToolTip("Let go and watch, nothing is recorded (T). Drag a body to tug it.")
        self.start_button.clicked.connect(self.toggle)
        self.steer_button = QPushButton("Steer")
        self.steer_button.clicked.connect(lambda: self.desk.act("steer"))
        self.pause_button = QToolButton()
        self.pause_button.setCheckable(True)
        self.pause_button.setToolTip("Pause the tryout (P)")
        self.pause_button.setAccessibleName("Pause")
        self.pause_button.toggled.connect(self._paused)
        self.step_button = QToolButton()
        self.step_button.setToolTip("One small step")
        self.step_button.setAccessibleName("One small step")
        self.step_button.clicked.connect(self._step)
        self.speed = QPushButton("1×")
        self.speed.setToolTip("Slow motion: full, half, a quarter, an eighth, a sixteenth")
        self.speed.setFixedWidth(48)
        self.speed.clicked.connect(self._slower)

    def _make_world(self) -> None:
        """What the tryout's world is like, and how firmly the pose is held."""
        self.gravity = QCheckBox("Gravity")
        self.gravity.setChecked(True)
        self.gravity.setToolTip("Gravity of the scene, or none")
        self.gravity.toggled.connect(self._gravity)
        self.ground = QCheckBox("Ground")
        self.ground.setChecked(True)
        self.ground.setToolTip("The ground, or endless depth")
        self.ground.toggled.connect(self._ground)
        self.tilt = QSlider(Qt.Orientation.Horizontal)
        self.tilt.setRange(0, 180)
        self.tilt.setFixedWidth(56)
        self.tilt.setToolTip("Tilt of gravity towards the view's right: 0 is down, 180 is up")
        self.tilt.setAccessibleName("Tilt of gravity")
        self.tilt.valueChanged.connect(lambda _: self._gravity(self.gravity.isChecked()))
        self.tone = QSlider(Qt.Orientation.Horizontal)
        self.tone.setRange(0, 100)
        self.tone.setFixedWidth(64)
        self.tone.setAccessibleName("Tone")
        self.tone.setToolTip("Tone: how firmly the pose of this frame is held")
        self.tone.valueChanged.connect(self._tone)
        self._words = Label("Tone 0.00")

    def _make_more(self) -> None:
        """What is done now and then."""
        self.more = QToolButton()
        self.more.setText("More")
        self.more.setToolTip("Push, spin, hold on the keys, start over, take the pose as a key")
        self.more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.more)
        for words, call in (
            ("Push away from the view (Shift click a body)", self.push),
            ("Spin", self.spin),
            ("Hold the selected bodies", self.hold),
            ("Let all go", self.let_all_go),
            ("Start over (R)", self.start_over),
            ("Take this pose as a key", lambda: self.desk.act("pose")),
        ):
            menu.addAction(words, call)
        self.more.setMenu(menu)

    def all_actions(self) -> list[Action]:
        """What can be done with a tryout."""
        m, live = "&Run", self.desk.needs("tryout")
        return [
            Action("tryout", "Tryout", self.toggle, "T", "human-handsdown", m,
                   "Lets go and shows what happens, without recording", self.desk.needs("bodies"), line=True),
            Action("pause", "Pause the tryout", self.pause_button.toggle, "P", "", m, "Holds the tryout, and lets it go on", live),
            Action("over", "Start the tryout over", self.start_over, "R", "", m,
                   "Lets go again from the frame where it began", live),
            *self.steering.actions(self.steer),
        ]  # fmt: skip

    def restyle(self) -> None:
        """After a change of theme."""
        self.start_button.setIcon(theme.icon("stop" if self.running else "human-handsdown"))
        self.steer_button.setIcon(theme.icon("run-fast"))
        self.steering.restyle()
        self.pause_button.setIcon(theme.icon("pause"))
        self.step_button.setIcon(theme.icon("step-forward"))

    @property
    def running(self) -> bool:
        """Whether a tryout is on."""
        return self.live.tryout is not None

    def _enable(self) -> None:
        ready = any(f.bodies for f in self.session.scene.cast)
        self.start_button.setEnabled(ready)
        if self.running:
            words = "End the tryout: everything returns to exactly where it was (T or Escape)"
        elif ready:
            words = "Let go and watch, nothing is recorded (T). Drag a body to tug it."
        else:
            words = "Fit bodies first: then everything can be let go here (T)"
        self.start_button.setToolTip(words)
        reason = self.steering.cannot_begin()
        self.steer_button.setEnabled(not reason)
        self.steer_button.setToolTip(
            f"Not now: {reason}"
            if reason
            else "Drive the figure with the arrow keys: up goes, Shift and up runs, left and right turn, down faces the other way (Shift+T)"
        )

    def _show_live(self, on: bool) -> None:
        steered = self.steering.steered is not None
        for w in self._live:
            w.setVisible(on and not (steered and w in self._plain))
        for made in self.steering.widgets:
            made.setVisible(on and steered)
        self.steer_button.setVisible(not on)
        self.start_button.setText("Stop" if on else "Tryout")
        self._enable()
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
        else:
            self._start(self._tryout)

    def steer(self) -> None:
        """Steer the present figure; anew if something runs."""
        self.stop()
        self._start(self.steering.begin)

    def _start(self, make: Callable[[], LiveWorld]) -> None:
        if not kernels_ready():
            self.desk.prepare_solver(lambda: self._start(make))
            return
        try:
            self._begin(make)
        except ArtulineError as error:
            self.desk.fault(str(error))
            return
        self.pause_button.setChecked(False)
        self._last = time.perf_counter()
        self.clock.start()
        self._show_live(True)
        self.running_changed.emit(True)
        self.stage.refresh()

    def _tryout(self) -> LiveWorld:
        return Tryout(self.session.scene, self.session.assets, self.session.frame)

    def _begin(self, make: Callable[[], LiveWorld]) -> None:
        self.live.tryout = make()
        self._gravity(self.gravity.isChecked())
        self._ground(self.ground.isChecked())
        self._tone(self.tone.value())

    def start_over(self) -> None:
        """Let go, or steer, again from the frame where it began."""
        if self.running:
            self._begin(self._tryout if self.steering.steered is None else self.steering.begin)
            self.stage.refresh()

    def _target(self) -> tuple[int | None, frozenset[str]]:
        chosen = self.session.selection
        index = next((i for i, f in enumerate(self.session.scene.figures) if f.id == chosen.figure), None)
        return index, chosen.bones

    def push(self) -> None:
        """Push the selected bodies, or all, in the direction of the view."""
        if self.live.tryout is not None:
            self.live.tryout.push(*self._target(), -PUSH * self.stage.camera.axes()[2])

    def spin(self) -> None:
        """Spin the selected bodies, or all, about the upright axis."""
        if self.live.tryout is not None:
            self.live.tryout.spin(*self._target(), SPIN)

    def hold(self) -> None:
        """Keep the selected bodies where they are."""
        index, bones = self._target()
        if isinstance(self.live.tryout, Tryout) and index is not None:
            self.live.tryout.hold(index, bones)

    def let_all_go(self) -> None:
        """Hold nothing any more."""
        if isinstance(self.live.tryout, Tryout):
            for i in range(len(self.session.scene.figures)):
                self.live.tryout.hold(i, frozenset())

    def _changed(self) -> None:
        """The scene is another one: what is steered goes on with it, a tryout ends."""
        steered = self.steering.steered
        if steered is None or (self.session.scene is not steered.drawn_scene and not self.steering.change()):
            self.stop()

    def stop(self) -> None:
        """Back to exactly where it was."""
        if not self.running:
            return
        self.clock.stop()
        self.live.tryout = None
        self.steering.end()
        self._show_live(False)
        self.running_changed.emit(False)
        self.stage.refresh()

    def tick(self) -> None:
        now = time.perf_counter()
        passed, self._last = now - self._last, now
        tryout = self.live.tryout
        if tryout is not None and not self.pause_button.isChecked():
            tryout.advance(passed * SPEEDS[self._speed], MOST_WORK)
            self.steering.follow(passed)
            self.stage.refresh()

    def _paused(self, on: bool) -> None:
        self.live.paused = on
        self.stage.refresh()

    def _step(self) -> None:
        if self.live.tryout is not None:
            self.pause_button.setChecked(True)
            self.live.tryout.advance(self.live.tryout.step_time)
            self.stage.refresh()

    def _slower(self) -> None:
        self._speed = (self._speed + 1) % len(SPEEDS)
        names = ("1×", "1/2×", "1/4×", "1/8×", "1/16×")
        self.speed.setText(names[self._speed])

    def _gravity(self, on: bool) -> None:
        if self.live.tryout is not None:
            right = self.stage.camera.axes()[0]
            heading = math.atan2(float(right[0]), float(right[2]))
            self.live.tryout.set_gravity(on, math.radians(self.tilt.value()), heading)

    def _ground(self, on: bool) -> None:
        if self.live.tryout is not None:
            self.live.tryout.set_ground(on)

    def _tone(self, value: int) -> None:
        self._words.setText(f"Tone {value / 100:.2f}")
        if isinstance(self.live.tryout, Tryout):
            self.live.tryout.tone = value / 100.0
