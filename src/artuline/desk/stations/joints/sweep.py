"""A joint that is moved once through its range, to see it."""

import time

from PySide6.QtCore import QTimer

from artuline.core.setup.limits import swept_matrices
from artuline.desk.desk import Desk
from artuline.view.stage import FigureState

SECONDS = 5.0


class Sweep:
    """Runs for some seconds, over what the stage shows."""

    def __init__(self, desk: Desk):
        self._desk = desk
        self._now: tuple[str, str, float] | None = None
        self._timer = QTimer(desk.stage)
        self._timer.setInterval(16)
        self._timer.timeout.connect(self._tick)

    def begin(self, figure: str, joint: str) -> None:
        """Move a joint once through its range."""
        self._now = figure, joint, time.perf_counter()
        self._timer.start()
        self._desk.stage.set_moving("sweep", True)

    def _tick(self) -> None:
        # in another station nobody asks how the figures stand
        if self._now is None or time.perf_counter() - self._now[2] > SECONDS:
            self.end()
        else:
            self._desk.stage.refresh()

    def alter(self, states: list[FigureState]) -> None:
        """Turn what hangs on the joint to where it is by now."""
        if self._now is None:
            return
        figure, joint_id, began = self._now
        t = (time.perf_counter() - began) / SECONDS
        for f, state in zip(self._desk.session.scene.figures, states):
            joint = next((j for j in f.joints if j.id == joint_id), None)
            if f.id == figure and joint is not None and t < 1.0:
                state.matrices = swept_matrices(f, joint, state.matrices, t)

    def end(self) -> None:
        """Stop, where it is."""
        self._now = None
        self._timer.stop()
        self._desk.stage.set_moving("sweep", False)
