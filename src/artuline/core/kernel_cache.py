"""Where compiled kernels are kept: in the user's cache folder under the hash of where their sources are, when they were changed, and what is in them.

Numba checks only the file of each function, not those it calls, and would otherwise keep kernels that are out of date; and it does not find those of
another place or time, so that a folder that says it is ready would not be. Every package with kernels imports this before any of them is made.
"""

import hashlib
import os
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
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return str(Path(base) / "artuline" / f"kernels-{digest.hexdigest()[:16]}")


if not os.environ.get("NUMBA_CACHE_DIR"):
    numba.config.CACHE_DIR = cache_folder()  # type: ignore[attr-defined]
