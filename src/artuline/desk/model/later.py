"""Small computations beside the window, whose results are kept by a key."""

import contextlib
import threading
from collections.abc import Callable, Hashable
from typing import Any

from PySide6.QtCore import QObject, Signal

KEPT = 24


class Later(QObject):
    """``get`` gives what is known for a key, else starts the work, one at a time, the newest first, and says ``ready`` when it is done."""

    ready = Signal()
    _done = Signal(object, object)

    def __init__(self) -> None:
        super().__init__()
        self._known: dict[Hashable, Any] = {}
        self._waiting: tuple[Hashable, Callable[[], Any]] | None = None
        self._running: Hashable | None = None
        self._done.connect(self._finish)

    @property
    def busy(self) -> bool:
        """Whether something is being computed."""
        return self._running is not None

    def known(self, key: Hashable) -> bool:
        """Whether the result for a key is there."""
        return self._known.get(key) is not None

    def get(self, key: Hashable, work: Callable[[], Any], otherwise: Any = None) -> Any:
        """The result for a key, or ``otherwise`` while it is not known yet."""
        if key in self._known:
            return self._known[key]
        if self._running is None:
            self._start(key, work)
        elif self._running != key:
            self._waiting = key, work
        return otherwise

    def _start(self, key: Hashable, work: Callable[[], Any]) -> None:
        self._running = key

        def body() -> None:
            try:
                result = work()
            except Exception:  # what is only looked at must not end the window; the work itself says what is wrong
                result = None
            # at the end of the program nobody waits any more
            with contextlib.suppress(RuntimeError):
                self._done.emit(key, result)

        threading.Thread(target=body, daemon=True).start()

    def _finish(self, key: Hashable, result: Any) -> None:
        self._known[key] = result
        while len(self._known) > KEPT:
            self._known.pop(next(iter(self._known)))
        self._running = None
        if self._waiting is not None:
            waiting, self._waiting = self._waiting, None
            if waiting[0] not in self._known:
                self._start(*waiting)
        self.ready.emit()
