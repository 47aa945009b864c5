"""Where compiled kernels are kept: in the user's cache folder under the hash of where their sources are, when they were changed, and what is in them.

Numba checks only the file of each function, not those it calls, and would otherwise keep kernels that are out of date; and it does not find those of
another place or time, so that a folder that says it is ready would not be. Every package with kernels imports this before any of them is made.
"""

import hashlib
import os
import tempfile
from contextlib import suppress
from pathlib import Path

import numba

_NO_KERNELS = ("__init__.py", "specs.py", "world.py")
_CORE = Path(__file__).resolve().parent


def kernel_sources() -> list[Path]:
    """The files with compiled functions."""
    solver = [p for p in sorted((_CORE / "physics").glob("*.py")) if p.name not in _NO_KERNELS]
    return [*solver, _CORE / "bake" / "fit_kernels.py", _CORE / "geometry" / "winding.py"]


def cache_folder() -> str:
    """The folder for the sources as they are now."""
    digest = hashlib.sha256(f"{numba.__version__}".encode())
    for source in kernel_sources():
        digest.update(f"{source}|{source.stat().st_mtime_ns}|".encode())
        digest.update(source.read_bytes())
    return str(_base() / f"kernels-{digest.hexdigest()[:16]}")


def _base() -> Path:
    """The user's cache folder; where there is none that can be written to, one of temporary files that belongs to this user alone."""
    global in_temporary
    with suppress(OSError, RuntimeError):
        usual = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "artuline"
        usual.mkdir(parents=True, exist_ok=True)
        if os.access(usual, os.W_OK):
            return usual
    in_temporary = True
    with suppress(OSError):
        other = Path(tempfile.gettempdir()) / f"artuline-{os.getuid()}"
        other.mkdir(mode=0o700, exist_ok=True)
        # what lies there is run: it has to be one's own
        if other.lstat().st_uid == os.getuid() and not other.is_symlink() and other.lstat().st_mode & 0o077 == 0:
            return other
    return Path(tempfile.mkdtemp(prefix="artuline-"))


#: Whether kernels are kept among temporary files, since the user's folders cannot be written to.
in_temporary = False
if not os.environ.get("NUMBA_CACHE_DIR"):
    numba.config.CACHE_DIR = cache_folder()  # type: ignore[attr-defined]
