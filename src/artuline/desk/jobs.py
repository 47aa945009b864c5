"""Long work beside the window: one job at a time, with progress and cancel."""

import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from artuline.core.errors import ArtulineError, CancelledError

Work = Callable[[Callable[[int, int], None], Callable[[], bool]], Any]


class Jobs(QObject):
    """Runs ``work(progress, cancelled)`` in a thread and hands its result back in the window's thread."""

    started = Signal(str)
    progressed = Signal(int, int)
    ended = Signal()
    failed = Signal(str)
    _done = Signal(object, object)

    def __init__(self) -> None:
        super().__init__()
        self._thread: threading.Thread | None = None
        self._stop = threading.Event()
        self._done.connect(self._finish)

    @property
    def busy(self) -> bool:
        """Whether a job is running."""
        return self._thread is not None

    def start(self, words: str, work: Work, then: Callable[[Any], None]) -> bool:
        """Start a job; ``then(result)`` is called in the window's thread. False if one is running."""
        if self.busy:
            return False
        self._stop.clear()

        def body() -> None:
            try:
                result = work(self.progressed.emit, self._stop.is_set)
                self._done.emit(then, result)
            except CancelledError:
                self._done.emit(None, None)
            except ArtulineError as error:
                self._done.emit(None, error)
            except Exception as error:
                self._done.emit(None, ArtulineError(f"{words} failed unexpectedly ({type(error).__name__}: {error})"))

        self._thread = threading.Thread(target=body, daemon=True)
        self.started.emit(words)
        self._thread.start()
        return True

    def cancel(self) -> None:
        """Ask the running job to stop."""
        self._stop.set()

    def _finish(self, then: Callable[[Any], None] | None, result: Any) -> None:
        self._thread = None
        self.ended.emit()
        if then is not None:
            then(result)
        elif isinstance(result, ArtulineError):
            self.failed.emit(str(result))
