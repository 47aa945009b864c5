"""Long work beside the window: one job at a time, with progress and cancel. A job belongs to the document it was started for."""

import contextlib
import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QObject, Signal

from artuline.core.errors import ArtulineError, CancelledError

Work = Callable[[Callable[[int, int], None], Callable[[], bool]], Any]


@dataclass(eq=False)
class _Job:
    words: str
    then: Callable[[Any], None]
    stop: threading.Event = field(default_factory=threading.Event)


class Jobs(QObject):
    """Runs ``work(progress, cancelled)`` in a thread and hands its result back in the window's thread."""

    started = Signal(str)
    progressed = Signal(int, int)
    ended = Signal()
    failed = Signal(str)
    _moved = Signal(object, int, int)
    _done = Signal(object, object)

    def __init__(self) -> None:
        super().__init__()
        self._now: _Job | None = None
        self._moved.connect(self._move)
        self._done.connect(self._finish)

    @property
    def busy(self) -> bool:
        """Whether a job is running whose result is wanted."""
        return self._now is not None

    @property
    def words(self) -> str:
        """What is running, in a few words; empty if nothing is."""
        return self._now.words if self._now is not None else ""

    def start(self, words: str, work: Work, then: Callable[[Any], None]) -> bool:
        """Start a job; ``then(result)`` is called in the window's thread. False if one is running."""
        if self.busy:
            return False
        job = self._now = _Job(words, then)

        def body() -> None:
            result: Any
            try:
                result = work(lambda done, total: self._moved.emit(job, done, total), job.stop.is_set)
                if job.stop.is_set() and result is None:
                    result = CancelledError()
            except ArtulineError as error:
                result = error
            except Exception as error:
                result = ArtulineError(f"{words} failed unexpectedly ({type(error).__name__}: {error})")
            # at the end of the program nobody waits any more
            with contextlib.suppress(RuntimeError):
                self._done.emit(job, result)

        self.started.emit(words)
        threading.Thread(target=body, daemon=True).start()
        return True

    def cancel(self) -> None:
        """Ask the running job to stop; what it hands back by then is used."""
        if self._now is not None:
            self._now.stop.set()

    def abandon(self) -> None:
        """Stop the running job and drop its result: the document that it was for is left."""
        if self._now is not None:
            self._now.stop.set()
            self._now = None
            self.ended.emit()

    def _move(self, job: _Job, done: int, total: int) -> None:
        if job is self._now:
            self.progressed.emit(done, total)

    def _finish(self, job: _Job, result: Any) -> None:
        if job is not self._now:
            return
        self._now = None
        self.ended.emit()
        if isinstance(result, CancelledError):
            return
        if isinstance(result, ArtulineError):
            self.failed.emit(str(result))
            return
        try:
            job.then(result)
        except ArtulineError as error:
            self.failed.emit(str(error))
