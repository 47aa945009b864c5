"""Files written whole or not at all, and what went wrong in plain words."""

import errno
import fcntl
import os
import secrets
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from artuline.core.errors import ArtulineError

_REMEDIES = {
    errno.ENOSPC: "Free some space, or choose another disk.",
    errno.EDQUOT: "Free some space, or choose another disk.",
    errno.EFBIG: "Choose another disk: this one takes no files of this size.",
    errno.ENOENT: "Choose a folder that exists.",
    errno.ENOTDIR: "Choose a folder that exists.",
    errno.EACCES: "Choose a folder that you may write to.",
    errno.EPERM: "Choose a folder that you may write to.",
    errno.EROFS: "Choose a disk that can be written to.",
    errno.EISDIR: "Choose a name that is not a folder's.",
    errno.ENAMETOOLONG: "Choose a shorter name.",
    errno.EIO: "The disk reports a fault: choose another one.",
}


def reason(error: OSError) -> str:
    """What the system says of an error, without its number."""
    return (error.strerror or str(error) or "it failed").lower()


def write_whole(path: Path, write: Callable[[Path], None]) -> None:
    """Let ``write`` fill a temporary file beside ``path``, flush it to disk, then put it in place.

    A link is followed, and a file that is replaced keeps its rights. What an earlier write left behind, because it was killed, is
    cleared away. Raises ArtulineError if the place cannot be written to; the old file is then untouched.
    """
    path = Path(path)
    temporary: Path | None = None
    handle = -1
    try:
        target = Path(os.path.realpath(path))
        if target.is_dir():
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR))
        _clear(target)
        # with the ending that some libraries know their formats by
        temporary = target.with_name(f".{target.name[:120]}.{secrets.token_hex(4)}.part{target.suffix[:12]}")
        rights = target.stat().st_mode & 0o777 if target.exists() else None
        # the system takes its mask off these rights
        handle = os.open(temporary, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o666 if rights is None else 0o600)
        with suppress(OSError):  # some network disks have no locks: then a leftover stays
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        write(temporary)
        if rights is not None:
            os.chmod(temporary, rights)
        _flush(temporary)
        os.replace(temporary, target)
        temporary = None
        with suppress(OSError):
            _flush(target.parent)
    except OSError as error:
        remedy = _REMEDIES.get(error.errno or 0, "Choose a folder that exists and that you may write to.")
        raise ArtulineError(f"cannot be written ({reason(error)})", place=str(path), remedy=remedy) from error
    finally:
        if handle >= 0:
            os.close(handle)
        if temporary is not None:
            temporary.unlink(missing_ok=True)


def _flush(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _clear(target: Path) -> None:
    """Remove temporary files of the same target that nobody is writing."""
    clear_parts(target.parent, f".{target.name[:120]}.", target.suffix)


def clear_parts(folder: Path, head: str, ending: str) -> None:
    """Remove temporary files that nobody is writing: those in a folder whose names begin so, of targets with an ending. Never fails."""
    ends = (".part", f".part{ending[:12]}")
    with suppress(OSError):
        for name in [n for n in os.listdir(folder) if n.startswith(head) and n.endswith(ends)]:
            left = folder / name
            handle = os.open(left, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                left.unlink(missing_ok=True)
            except OSError:
                pass
            finally:
                os.close(handle)


def read_plain(path: Path, most: int, *, what: str = "the file") -> bytes:
    """The bytes of a regular file. Raises ArtulineError for one that is missing, not a regular file (a device, a pipe, a folder), or
    larger than ``most`` bytes.
    """
    path = Path(path)
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
    except OSError as error:
        raise ArtulineError(
            f"cannot be read ({reason(error)})", place=str(path), remedy="Check the path and its permissions."
        ) from error
    with os.fdopen(handle, "rb") as f:
        about = os.fstat(f.fileno())
        if not os.path.isfile(f"/proc/self/fd/{f.fileno()}") or about.st_mode & 0o170000 != 0o100000:
            raise ArtulineError(f"{what} is not a plain file", place=str(path), remedy="Choose a file on a disk.")
        if about.st_size > most:
            size = f"{about.st_size / 2**20:.0f} MB, {most / 2**20:.0f} at most"
            raise ArtulineError(f"{what} is too large ({size})", place=str(path), remedy="Make it smaller first.")
        try:
            # so many bytes are set aside as are asked for
            return f.read(min(about.st_size, most) + 1)
        except OSError as error:
            raise ArtulineError(
                f"cannot be read ({reason(error)})", place=str(path), remedy="Check the disk."
            ) from error
