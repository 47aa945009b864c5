"""Large arrays, kept outside the scene tree under the hash of their content."""

import hashlib
from collections.abc import Callable, Iterator, Mapping
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from artuline.core.errors import ArtulineError

Arrays = Mapping[str, NDArray]
T = TypeVar("T")


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
        self._decoded: dict[tuple[str, str], object] = {}
        self._sound: set[tuple[tuple[str, ...], object]] = set()
        #: Digests of the files that a scene with this data was read from or written to, by their paths; whoever reads and writes files keeps them.
        self.files: dict[str, str] = {}

    def add(self, arrays: Arrays) -> str:
        """Store arrays and return their hash. The stored copies cannot be written to."""
        key = content_hash(arrays)
        if key not in self._items:
            stored = {name: np.array(a) for name, a in arrays.items()}
            for a in stored.values():
                a.flags.writeable = False
            self._items[key] = stored
        return key

    def put(self, key: str, arrays: Arrays) -> None:
        """Store arrays that are known to have a hash, as they are: they are not to be written to."""
        self._items.setdefault(key, dict(arrays))

    def vet(self, known: tuple[tuple[str, ...], object], check: Callable[[], None]) -> None:
        """Let ``check`` look at the arrays of some keys, unless it did so before: by the keys, and whatever else it depends on. It raises what it finds."""
        if known not in self._sound:
            check()
            self._sound.add(known)

    def __getitem__(self, key: str) -> dict[str, NDArray]:
        try:
            return self._items[key]
        except KeyError:
            raise ArtulineError(f"the data {key} is missing from the scene") from None

    def decoded(self, key: str, make: Callable[[Arrays], T]) -> T:
        """What ``make`` makes of the arrays of a key: made once, and forgotten with them."""
        known = key, make.__qualname__
        if known not in self._decoded:
            self._decoded[known] = make(self[key])
        return self._decoded[known]  # type: ignore[return-value]

    def take_over(self, other: "AssetStore") -> None:
        """Add all data of another store; what was decoded there comes along."""
        for key in other:
            self._items.setdefault(key, other._items[key])
        self._decoded |= other._decoded
        self._sound |= other._sound

    def discard(self, keys: set[str]) -> None:
        """Forget data that nothing needs."""
        for key in keys:
            self._items.pop(key, None)
        self._sound = {x for x in self._sound if not keys & set(x[0])} if keys else self._sound
        for known in [k for k in self._decoded if k[0] in keys]:
            self._decoded.pop(known, None)

    def __contains__(self, key: str) -> bool:
        return key in self._items

    def __iter__(self) -> Iterator[str]:
        return iter(self._items)

    def __len__(self) -> int:
        return len(self._items)
