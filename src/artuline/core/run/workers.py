"""Processes that run scenes beside the program: they stop within a frame when told to, or when the program is gone."""

import multiprocessing
import os
from collections.abc import Callable, Iterator
from contextlib import suppress
from multiprocessing.connection import Connection, wait
from typing import Any

from artuline.core.errors import ArtulineError, CancelledError

NICE = 10  # how far the processes stand back: the window that waits for them comes first
#: task(stopped) of a payload: ``stopped()`` says whether to end early
Task = Callable[[Any, Callable[[], bool]], Any]


PATIENCE = 5.0  # s in which what works has to stop when it is told to


def _serve(pipe: Connection, task: Task) -> None:
    """Take payloads from a pipe and send results back, until the other end is closed. Whatever comes while it works means: stop."""
    with suppress(OSError):
        os.nice(NICE)
    while True:
        try:
            payload = pipe.recv()
        except (EOFError, OSError):
            return
        if payload is None:
            continue  # told to stop what had just ended
        try:
            # the end of the program closes the pipe, which can then be read
            answer: tuple[str, Any] = "done", task(payload, pipe.poll)
        except CancelledError:
            answer = "stopped", None
        except ArtulineError as error:
            answer = "failed", (error.problem, error.place, error.remedy)
        except Exception as error:
            answer = "failed", (f"a run ended unexpectedly ({type(error).__name__}: {error})", "", "")
        try:
            pipe.send(answer)
        except OSError:
            return


class _Worker:
    def __init__(self, task: Task):
        context = multiprocessing.get_context("spawn")
        self.pipe, theirs = context.Pipe()
        # a daemon ends with the program, however that ends properly
        self.process = context.Process(target=_serve, args=(theirs, task), daemon=True)
        self.process.start()
        theirs.close()
        self.item: int | None = None


class Workers:
    """A number of processes for one task, which stay for the next use: starting them takes longer than a run."""

    def __init__(self, task: Task, count: int):
        self.task, self.count = task, count
        self._workers: list[_Worker] = []

    def run(self, payloads: list[Any], cancelled: Callable[[], bool]) -> Iterator[tuple[int, Any]]:
        """The results of all payloads with their places, as they come. Raises ArtulineError where one fails, CancelledError on request."""
        self._workers = [w for w in self._workers if w.process.is_alive()]
        while len(self._workers) < min(self.count, len(payloads)):
            self._workers.append(_Worker(self.task))
        waiting = list(enumerate(payloads))[::-1]
        try:
            while waiting or any(w.item is not None for w in self._workers):
                for w in self._workers:
                    if w.item is None and waiting:
                        w.item, payload = waiting.pop()
                        w.pipe.send(payload)
                ready = wait([w.pipe for w in self._workers if w.item is not None], timeout=0.05)
                if cancelled():
                    raise CancelledError
                for w in self._workers:
                    if w.pipe in ready:
                        yield from self._answer(w)
        finally:
            self._rest()

    def _answer(self, w: _Worker) -> Iterator[tuple[int, Any]]:
        item, w.item = w.item, None
        try:
            kind, value = w.pipe.recv()
        except (EOFError, OSError):
            raise ArtulineError("a process that ran beside the program ended", remedy="Try again.") from None
        if kind == "failed":
            problem, place, remedy = value
            raise ArtulineError(problem, place=place, remedy=remedy)
        if kind == "done" and item is not None:
            yield item, value

    def _rest(self) -> None:
        """Tell what still works to stop; one that does not in time is ended: where the machine is busy, it may still be making its world."""
        for w in self._workers:
            if w.item is not None:
                with suppress(OSError):
                    w.pipe.send(None)
        for w in self._workers:
            if w.item is not None:
                if w.pipe.poll(PATIENCE):
                    with suppress(EOFError, OSError):
                        w.pipe.recv()
                        w.item = None
                if w.item is not None:
                    w.process.kill()
                    w.pipe.close()
        self._workers = [w for w in self._workers if w.item is None]

    def stop(self) -> None:
        """End all processes at once."""
        for w in self._workers:
            w.process.kill()
            w.pipe.close()
        self._workers = []
