"""The one way into what a file says: parts of parsed JSON with their place, and whatever a reader raises as one clear error."""

import json
import math
import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from artuline.core.checks.data import check_data
from artuline.core.errors import ArtulineError, why_not
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene
from artuline.formats.files import reason

Cancelled = Callable[[], bool]


@contextmanager
def reading(path: Path, remedy: str) -> Iterator[None]:
    """Around all that reads a file: an error of whatever library becomes an ArtulineError that names the file and the remedy."""
    try:
        yield
    except ArtulineError:
        raise
    except OSError as error:
        if error.errno is not None:
            raise ArtulineError(
                f"cannot be read ({reason(error)})", place=str(path), remedy="Check the path and its permissions."
            ) from error
        raise ArtulineError("the file is damaged or cut off", place=str(path), remedy=remedy) from error
    except ValidationError as error:
        raise ArtulineError(
            f"what it holds cannot be used ({why_not(error)})", place=str(path), remedy=remedy
        ) from error
    except (MemoryError, RecursionError) as error:
        raise ArtulineError("the file asks for more than this machine has", place=str(path), remedy=remedy) from error
    except Exception as error:  # the formats' libraries raise whatever they like
        raise ArtulineError("the file is damaged, or not what its name says", place=str(path), remedy=remedy) from error


def parse(data: bytes, fail: Callable[[str], ArtulineError]) -> dict[str, Any]:
    """Parsed JSON text that is an object. Not-a-number and infinite constants are refused, and so is what nests too deeply."""

    def refuse(constant: str) -> float:
        raise ValueError(constant)

    try:
        found = json.loads(data.decode("utf-8-sig"), parse_constant=refuse)
    except (UnicodeDecodeError, ValueError, RecursionError) as error:
        where = f", line {error.lineno}" if isinstance(error, json.JSONDecodeError) else ""
        raise fail(f"the description is not valid JSON{where}") from error
    if not isinstance(found, dict):
        raise fail("the description is not a group of named values")
    return found


def sound(figure: Figure, assets: AssetStore, path: Path, remedy: str) -> Figure:
    """The same figure, as it was read from a file. Raises ArtulineError unless its data is what a scene may hold; then the data is not kept."""
    before = Scene(figures=(figure,))
    try:
        check_data(before, assets)
    except ArtulineError as error:
        assets.discard(before.assets())
        raise ArtulineError(error.problem, place=str(path), remedy=remedy) from error
    return figure


class Part:
    """An object of a file's JSON: every value is taken out with its type checked, and errors name its place."""

    def __init__(self, value: dict[str, Any], where: str, fail: Callable[[str], ArtulineError]):
        self.value, self.where, self._fail = value, where, fail

    def fail(self, problem: str) -> ArtulineError:
        """An error about this part."""
        return self._fail(f"{self.where} {problem}")

    def __contains__(self, key: str) -> bool:
        return key in self.value

    def _place(self, key: str) -> str:
        return f"{self.where}.{key}" if self.where else key

    def part(self, key: str) -> "Part":
        """An object, empty if absent."""
        found = self.value.get(key, {})
        if not isinstance(found, dict):
            raise self._fail(f"{self._place(key)} is not a group of named values")
        return Part(found, self._place(key), self._fail)

    def parts(self, key: str) -> list["Part"]:
        """A list of objects, empty if absent."""
        found = self._list(key)
        for i, item in enumerate(found):
            if not isinstance(item, dict):
                raise self._fail(f"{self._place(key)}[{i}] is not a group of named values")
        return [Part(item, f"{self._place(key)}[{i}]", self._fail) for i, item in enumerate(found)]

    def _list(self, key: str) -> list[Any]:
        found = self.value.get(key, [])
        if not isinstance(found, list):
            raise self._fail(f"{self._place(key)} is not a list")
        return found

    def whole(self, key: str, default: int | None = None) -> int:
        """A whole number that is not negative."""
        found = self.value.get(key, default)
        if not isinstance(found, int) or isinstance(found, bool) or not 0 <= found < 2**53:
            raise self._fail(f"{self._place(key)} is {_short(found)}, not a whole number")
        return found

    def index(self, key: str, among: Sequence[object], of: str) -> int:
        """A whole number that points into a list."""
        return self._index(self.value.get(key), self._place(key), among, of)

    def indices(self, key: str, among: Sequence[object], of: str) -> list[int]:
        """A list of such numbers."""
        return [self._index(i, f"{self._place(key)}[{k}]", among, of) for k, i in enumerate(self._list(key))]

    def _index(self, found: Any, place: str, among: Sequence[object], of: str) -> int:
        if not isinstance(found, int) or isinstance(found, bool) or not 0 <= found < len(among):
            raise self._fail(f"{place} refers to {of}[{_short(found)}], but there are {len(among)}")
        return found

    def text(self, key: str, default: str = "") -> str:
        """A text; the default if absent or not a text."""
        found = self.value.get(key, default)
        return found if isinstance(found, str) else default

    def texts(self, key: str) -> list[str]:
        """A list of texts, empty if absent."""
        found = self._list(key)
        if not all(isinstance(x, str) for x in found):
            raise self._fail(f"{self._place(key)} is not a list of texts")
        return found

    def floats(self, key: str, count: int, default: Sequence[float]) -> np.ndarray:
        """So many finite numbers (count,)."""
        found = self.value.get(key, default)
        good = isinstance(found, (list, tuple)) and len(found) == count
        if not good or not all(isinstance(x, (int, float)) and not isinstance(x, bool) and _finite(x) for x in found):
            raise self._fail(f"{self._place(key)} must be {count} numbers")
        return np.array([float(x) for x in found])


def _finite(x: int | float) -> bool:
    return abs(x) < 1e30 if isinstance(x, int) else math.isfinite(x)


def _short(value: object) -> str:
    text = repr(value)
    return text if len(text) < 40 else text[:37] + "…"


def beside(folder: Path, name: str, fail: Callable[[str], ArtulineError]) -> Path:
    """A file in a folder or below it, by its relative address. Raises for an address that leads out of it, links followed."""
    root = os.path.realpath(folder)
    if os.path.isabs(name) or "\0" in name:
        raise fail(f"the address {_short(name)} does not lie beside the file")
    found = os.path.realpath(os.path.join(root, name))
    if os.path.commonpath([root, found]) != root:
        raise fail(f"the address {_short(name)} leads out of the file's folder")
    return Path(found)
