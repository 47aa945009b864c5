"""Readers of other libraries in a process of their own: what a spoiled file makes them do ends there, within a limit of time and memory, and can be cancelled."""

import multiprocessing
import os
import resource
import time
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from artuline.core.errors import ArtulineError, CancelledError
from artuline.formats.checked import Cancelled

SECONDS, SECONDS_MB = 8, 4  # s of processor, and for each MB of the file
MEMORY, MEMORY_SHARE, MEMORY_CORE = (
    2**30,
    40,
    2**27,
)  # bytes, for each byte of the file, and for the threads that libraries start on each core
MOST_MEMORY = 16 * 2**30
PATIENCE = 6  # times as long on the clock: the machine may have other things to do
#: What finds files outside of the folder of the one that is read.
_ELSEWHERE = ("PXR_AR_DEFAULT_SEARCH_PATH", "PXR_PLUGINPATH_NAME")

#: A reader: what it makes of a path has to be picklable.
Read = Callable[[Path], Any]


def _work(pipe: Connection, read: Read, path: Path, seconds: int, memory: int) -> None:
    with suppress(OSError, ValueError):
        resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 1))
        resource.setrlimit(resource.RLIMIT_DATA, (memory, memory))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        # the first to go where memory runs out
        Path("/proc/self/oom_score_adj").write_text("900")
    for name in _ELSEWHERE:
        os.environ.pop(name, None)
    os.environ["PXR_WORK_THREAD_LIMIT"] = "1"
    with open(os.devnull, "w") as nowhere:
        # what a library has to say of a file is not for the terminal
        os.dup2(nowhere.fileno(), 2)
    try:
        answer: tuple[str, Any] = "done", read(path)
    except ArtulineError as error:
        answer = "failed", (error.problem, error.place, error.remedy)
    except MemoryError:
        answer = "failed", ("the file asks for more memory than a file of its size needs", str(path), _REMEDY)
    except Exception as error:
        answer = (
            "failed",
            (f"the file is damaged, or not what its name says ({type(error).__name__})", str(path), _REMEDY),
        )
    pipe.send(answer)


_REMEDY = "Export the file again, or choose another one."


def read_apart(read: Read, path: Path, cancelled: Cancelled = lambda: False) -> Any:
    """What a reader makes of a file, in a process of its own.

    Raises ArtulineError of the reader, or if it takes too long, too much memory, or ends otherwise; CancelledError on request.
    """
    try:
        size = path.stat().st_size
    except OSError:
        size = 0
    seconds = SECONDS + SECONDS_MB * size // 2**20
    memory = min(MEMORY + MEMORY_SHARE * size + MEMORY_CORE * (os.cpu_count() or 1), MOST_MEMORY)
    context = multiprocessing.get_context("spawn")
    pipe, theirs = context.Pipe(duplex=False)
    process = context.Process(target=_work, args=(theirs, read, path, seconds, memory), daemon=True)
    process.start()
    theirs.close()
    end = time.monotonic() + PATIENCE * seconds
    try:
        while not pipe.poll(0.02):
            if cancelled():
                raise CancelledError
            if time.monotonic() > end:
                raise _too_long(path, seconds)
        kind, value = pipe.recv()
    except (EOFError, OSError):
        process.join(2.0)
        # what the system ends by itself has used up its time
        if process.exitcode in (-24, -9):
            raise _too_long(path, seconds) from None
        raise ArtulineError("the file made its reader end, so it is damaged", place=str(path), remedy=_REMEDY) from None
    finally:
        process.kill()
        process.join()
        pipe.close()
    if kind == "failed":
        problem, place, remedy = value
        raise ArtulineError(problem, place=place, remedy=remedy)
    return value


def _too_long(path: Path, seconds: int) -> ArtulineError:
    return ArtulineError(f"reading it takes more than {seconds} s, so it is damaged", place=str(path), remedy=_REMEDY)
