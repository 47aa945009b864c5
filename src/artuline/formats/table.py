"""Plain tables: CSV (RFC 4180) or JSON. Written whole or not at all."""

import csv
import json
from collections.abc import Collection, Sequence
from pathlib import Path

from artuline.core.errors import ArtulineError
from artuline.formats.files import write_whole

#: What stands in a cell.
Value = float | int | str | None


#: What a word in a cell must not begin with: a spreadsheet would take it for a formula, and run it.
_RUN = ("=", "+", "-", "@", "\t", "\r", "'")


def cell(value: Value) -> Value:
    """What stands in a cell of CSV: numbers to the last bit, and words as words, behind an apostrophe where a spreadsheet would run them."""
    if isinstance(value, float):
        return repr(value)
    return f"'{value}" if isinstance(value, str) and value.startswith(_RUN) else value


def word(text: str) -> str:
    """The inverse of ``cell`` for words."""
    return text[1:] if text.startswith("'") and text[1:].startswith(_RUN) else text


def write_table(path: Path | str, names: list[str], rows: Collection[Sequence[Value]]) -> None:
    """Write rows of numbers and words under names. Raises ArtulineError for another ending, or if the place cannot be written to."""
    path = Path(path)

    def write(target: Path) -> None:
        with open(target, "w", encoding="utf-8", newline="") as f:
            if path.suffix.lower() == ".json":
                for k, row in enumerate(rows):
                    f.write(("," if k else "[") + "\n " + json.dumps(dict(zip(names, row))))
                f.write("\n]\n" if rows else "[]\n")
            else:
                table = csv.writer(f)
                table.writerow(names)
                for row in rows:
                    table.writerow([f"{v:.9g}" if isinstance(v, float) else cell(v) for v in row])

    if path.suffix.lower() not in (".csv", ".json"):
        raise ArtulineError(f"{path.name} is no table", remedy="Name it something.csv or something.json.")
    write_whole(path, write)
