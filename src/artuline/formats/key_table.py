"""The keys of animations as tables, CSV (RFC 4180) or JSON: written to the last bit, and read back.

A row is a key: bone, path (translation, rotation, scale), seconds, whether its value holds until the next key, then the value and the slopes into and out of the
key, per second: x, y, z, and w for rotations (unit quaternions).
"""

import csv
import io
import json
import math
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any, get_args

import numpy as np

from artuline.core.bake.delivery import Delivery
from artuline.core.errors import ArtulineError
from artuline.core.geometry.curve import Channel
from artuline.core.motion.clip import Clip
from artuline.core.motion.clip import Path as PathOf
from artuline.core.motion.keys import cubic
from artuline.formats.files import read_plain, write_whole
from artuline.formats.format import Fate, Format
from artuline.formats.table import cell, word

AXES = "xyzw"
PARTS = ("in", "value", "out")
NAMES = ["bone", "path", "seconds", "hold", *(f"{p} {a}" for p in PARTS for a in AXES)]
MOST_BYTES = 256 * 2**20
MOST = 1e12
TOGETHER = 1000  # keys that are made ready at once
REMEDY = "Write the keys again from Artuline, and change only their numbers."


def rows_of(clip: Clip) -> Iterator[tuple[str, str, list[float], int]]:
    """A clip's keys, one after the other: bone, path, seconds with the numbers of slopes and value (1 + 3 D), and whether it holds."""
    for c in clip.channels:
        c = cubic(c)
        holds = np.zeros(len(c.times), int) if c.holds is None else np.asarray(c.holds, int)
        numbers = np.column_stack([c.times, c.values.reshape(len(c.times), -1)])
        for k in range(0, len(numbers), TOGETHER):
            for row, hold in zip(numbers[k : k + TOGETHER].tolist(), holds[k : k + TOGETHER].tolist()):
                yield c.bone, c.path, row, hold


def _json_row(bone: str, path: str, row: list[float], hold: int) -> str:
    axes = AXES[: len(row) // 3]
    names = [f"{p} {a}" for p in PARTS for a in axes]
    return json.dumps({"bone": bone, "path": path, "seconds": row[0], "hold": hold, **dict(zip(names, row[1:]))})


def _csv_row(head: str, row: list[float], hold: int) -> str:
    text = [*map(repr, row)]
    if len(row) < 1 + len(PARTS) * len(AXES):
        # three numbers: the fourth axis is empty
        text = [text[0], *(x for k in (1, 4, 7) for x in (*text[k : k + 3], ""))]
    return f"{head}{text[0]},{hold},{','.join(text[1:])}\r\n"


def write_keys(path: Path, delivery: Delivery) -> list[Path]:
    """Write the keys of every figure's first animation, each into a file of its own, as they go. The files that were written."""
    written = []
    many = len(delivery.figures) > 1
    for d in delivery.figures:
        target = path.with_name(f"{path.stem} {d.figure.name}{path.suffix}") if many else path
        clip, json_ = next(iter(d.clips.values())), path.suffix.lower() == ".json"
        about = {"figure": d.figure.name, "unit": d.figure.unit, "rate": delivery.rate}

        def write(p: Path, clip: Clip = clip, about: dict[str, Any] = about, json_: bool = json_) -> None:
            with open(p, "w", encoding="utf-8", newline="") as f:
                if json_:
                    f.write(json.dumps(about, indent=1)[:-2] + ',\n "keys": [')
                    for k, row in enumerate(rows_of(clip)):
                        f.write(("," if k else "") + "\n  " + _json_row(*row))
                    f.write("\n ]\n}\n")
                    return
                f.write(",".join(NAMES) + "\r\n")
                heads: dict[tuple[str, str], str] = {}
                for bone, path_of, row_, hold in rows_of(clip):
                    if (bone, path_of) not in heads:
                        out = io.StringIO()
                        csv.writer(out, lineterminator=",").writerow([cell(bone), path_of])
                        heads[bone, path_of] = out.getvalue()
                    f.write(_csv_row(heads[bone, path_of], row_, hold))

        write_whole(target, write)
        written.append(target)
    return written


def read_keys(path: Path) -> Clip:
    """The keys of a file as a clip. Raises ArtulineError with file, place and remedy."""
    path = Path(path)
    try:
        text = read_plain(path, MOST_BYTES).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise ArtulineError("the file is no text", place=str(path), remedy=REMEDY) from None
    rows = _of_json(path, text) if path.suffix.lower() == ".json" else _of_csv(path, text)
    keys: dict[tuple[str, str], list[tuple[float, bool, list[list[float]]]]] = {}
    for place, row in rows:
        name, path_of = row.get("bone"), row.get("path")
        name = word(name) if isinstance(name, str) and path.suffix.lower() != ".json" else name
        if not isinstance(name, str) or not name or not isinstance(path_of, str) or path_of not in get_args(PathOf):
            raise _fail(path, place, "the bone or the path is none")
        width = 4 if path_of == "rotation" else 3
        values = [[_number(path, place, row, f"{p} {a}") for a in AXES[:width]] for p in PARTS]
        if path_of == "rotation" and math.hypot(*values[1]) < 1e-6:
            raise _fail(path, place, "a rotation has no length")
        seconds = _number(path, place, row, "seconds")
        keys.setdefault((name, path_of), []).append((seconds, _number(path, place, row, "hold", 0.0) > 0.5, values))
    if not keys:
        raise ArtulineError("the file has no keys", place=str(path), remedy=REMEDY)
    return Clip(tuple(_channel(path, name, found) for name, found in keys.items()))


def _channel(path: Path, name: tuple[str, str], found: list[tuple[float, bool, list[list[float]]]]) -> Channel:
    found.sort(key=lambda k: k[0])
    times = np.array([k[0] for k in found])
    if (np.diff(times) <= 0.0).any():
        raise _fail(path, f"{name[0]}, {name[1]}", "two keys are at one time")
    holds = np.array([k[1] for k in found])
    values = np.array([k[2] for k in found])
    if name[1] == "rotation":
        values = values / np.linalg.norm(values[:, 1:2], axis=2, keepdims=True)
        flips = np.cumsum(np.concatenate([[False], np.sum(values[1:, 1] * values[:-1, 1], axis=1) < 0.0])) % 2 == 1
        values[flips] *= -1.0
    return Channel(name[0], name[1], "CUBICSPLINE", times, values, holds if holds.any() else None)  # type: ignore[arg-type]


def _of_json(path: Path, text: str) -> Iterable[tuple[str, dict[str, Any]]]:
    try:
        whole = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise ArtulineError(f"the file is no JSON ({error})"[:160], place=str(path), remedy=REMEDY) from None
    rows = whole.get("keys") if isinstance(whole, dict) else None
    if not isinstance(rows, list) or not all(isinstance(r, dict) for r in rows):
        raise ArtulineError("the file has no list of keys", place=str(path), remedy=REMEDY)
    return ((f"keys[{i}]", r) for i, r in enumerate(rows))


def _of_csv(path: Path, text: str) -> Iterable[tuple[str, dict[str, Any]]]:
    try:
        reader = csv.DictReader(io.StringIO(text, newline=""))
        missing = set(NAMES) - set(reader.fieldnames or ())
        if missing:
            raise ArtulineError(f"the column {min(missing)!r} is missing", place=f"{path.name}, line 1", remedy=REMEDY)
        return [(f"line {reader.line_num}", row) for row in reader]
    except csv.Error as error:
        raise ArtulineError(f"the table cannot be read ({error})", place=str(path), remedy=REMEDY) from None


def _number(path: Path, place: str, row: dict[str, Any], name: str, otherwise: float | None = None) -> float:
    value = row.get(name)
    if (value is None or value == "") and otherwise is not None:
        return otherwise
    try:
        found = float(value) if isinstance(value, (str, int, float)) else math.nan
    except (ValueError, OverflowError):
        found = math.nan
    if not abs(found) < MOST:
        raise _fail(path, place, f"{name!r} is no number that can be used")
    return found


def _fail(path: Path, place: str, what: str) -> ArtulineError:
    return ArtulineError(what, place=f"{path.name}, {place}", remedy=REMEDY)


FORMAT = Format(
    "Tables of keys",
    (".csv", ".json"),
    write=write_keys,
    fate=Fate(
        ("every key with its slopes, to the last bit", "values that hold"),
        ("clips below layers: a key on every frame",),
        ("skeleton, mesh and materials", "where the figure stands, and what it rides on"),
    ),
)
