"""Files written whole or not at all."""

import os
import tempfile
from collections.abc import Callable
from pathlib import Path

from artuline.core.errors import ArtulineError


def write_whole(path: Path, write: Callable[[Path], None]) -> None:
    """Let ``write`` fill a temporary file beside ``path``, flush it to disk, then put it in place.

    Raises ArtulineError if the place cannot be written to; the old file is then untouched.
    """
    path = Path(path)
    temporary = None
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".part", dir=path.parent)
        os.close(handle)
        temporary = Path(name)
        write(temporary)
        with open(temporary, "rb") as f:
            os.fsync(f.fileno())
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(temporary, 0o666 & ~mask)
        os.replace(temporary, path)
        temporary = None
    except OSError as error:
        reason = error.strerror or str(error)
        remedy = "Choose a folder that exists and that you may write to."
        raise ArtulineError(f"cannot be written ({reason})", place=str(path), remedy=remedy) from error
    finally:
        if temporary is not None:
            temporary.unlink(missing_ok=True)
