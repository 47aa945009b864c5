"""What nobody can reach any more is looked for in the window's thread alone."""

import gc

from PySide6.QtCore import QObject, QTimer

SECONDS = 1.0


class Garbage(QObject):
    """Python looks for unreachable objects in whatever thread makes the next one. Widgets and timers may be among them, which must not end in a
    thread that computes; so it is asked to do so here, now and then, by its own rules for when that is worth while.
    """

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        gc.disable()
        self._timer = QTimer(self)
        self._timer.setInterval(round(1000 * SECONDS))
        self._timer.timeout.connect(self.look)
        self._timer.start()

    def look(self) -> None:
        """Collect the oldest generation whose turn it is."""
        due = [g for g, (count, most) in enumerate(zip(gc.get_count(), gc.get_threshold())) if count > most]
        if due:
            gc.collect(max(due))
