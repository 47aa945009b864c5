"""The solver: rigid bodies, joints and contacts in small substeps.

Compiled kernels are kept in the user's cache folder under the hash of the solver's sources: Numba checks
only the file of each function, not those it calls, and would otherwise keep kernels that are out of date.
"""

import hashlib
import os
from pathlib import Path

import numba

_NO_KERNELS = ("__init__.py", "specs.py", "world.py")


def _cache_folder() -> str:
    digest = hashlib.sha256(f"{numba.__version__}".encode())
    for source in sorted(Path(__file__).parent.glob("*.py")):
        if source.name not in _NO_KERNELS:
            digest.update(source.read_bytes())
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return str(Path(base) / "artuline" / f"kernels-{digest.hexdigest()[:16]}")


if not os.environ.get("NUMBA_CACHE_DIR"):
    numba.config.CACHE_DIR = _cache_folder()  # type: ignore[attr-defined]
