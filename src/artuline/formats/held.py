"""Which scene files are open: a lock for each in the user's state folder, which ends with the program that holds it."""

import fcntl
import hashlib
import os
from contextlib import suppress
from pathlib import Path

from artuline.formats.recovery import state_folder


class Held:
    """The hold of one window on the file that it has open."""

    def __init__(self) -> None:
        self._handle = -1

    def take(self, path: Path | None) -> bool:
        """Let go of the file before, and hold this one. False if another window has it open. Never fails: where there is no place for locks, nobody is known to."""
        self.release()
        if path is None:
            return True
        name = hashlib.sha256(os.path.realpath(path).encode("utf-8", "surrogateescape")).hexdigest()[:32]
        folder = state_folder() / "open"
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            handle = os.open(folder / f"{name}.lock", os.O_CREAT | os.O_RDWR | os.O_NOFOLLOW, 0o600)
        except OSError:
            return True
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            os.close(handle)
            return False
        except OSError:
            os.close(handle)
            return True
        self._handle = handle
        return True

    def release(self) -> None:
        """Let go."""
        if self._handle >= 0:
            with suppress(OSError):
                os.close(self._handle)
            self._handle = -1
