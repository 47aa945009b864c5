"""Large arrays, kept outside the scene tree under the hash of their content."""

import hashlib
from collections.abc import Iterator, Mapping

import numpy as np
from numpy.typing import NDArray

from artuline.core.errors import ArtulineError

Arrays = Mapping[str, NDArray]


def content_hash(arrays: Arrays) -> str:
    """SHA-256 over names, types, shapes and bytes; 32 hex digits."""
    digest = hashlib.sha256()
    for name in sorted(arrays):
        a = np.ascontiguousarray(arrays[name])
        digest.update(f"{name}|{a.dtype.str}|{a.shape}|".encode())
        digest.update(a.tobytes())
    return digest.hexdigest()[:32]


class AssetStore:
    """Maps content hashes to named read-only arrays. Adding the same content twice keeps one copy."""

    def __init__(self) -> None:
        self._items: dict[str, dict[str, NDArray]] = {}

    def add(self, arrays: Arrays) -> str:
        """Store arrays and return their hash. The stored copies cannot be written to."""
        key = content_hash(arrays)
        if key not in self._items:
            stored = {name: np.array(a) for name, a in arrays.items()}
            for a in stored.values():
                a.flags.writeable = False
            self._items[key] = stored
        return key

    def __getitem__(self, key: str) -> dict[str, NDArray]:
        try:
            return self._items[key]
        except KeyError:
            raise ArtulineError(f"the data {key} is missing from the scene") from None

    def __contains__(self, key: str) -> bool:
        return key in self._items

    def __iter__(self) -> Iterator[str]:
        return iter(self._items)

    def __len__(self) -> int:
        return len(self._items)
