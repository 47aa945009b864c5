"""Plain tables: CSV (RFC 4180) or JSON. Written whole or not at all."""

import csv
import json
from collections.abc import Sequence
from pathlib import Path

from artuline.core.errors import ArtulineError
from artuline.formats.files import write_whole

#: What stands in a cell.
Value = float | int | str | None


def write_table(path: Path | str, names: list[str], rows: Sequence[Sequence[Value]]) -> None:
    """Write rows of numbers and words under names. Raises ArtulineError for another ending, or if the place cannot be written to."""
    path = Path(path)

    def write(target: Path) -> None:
        with open(target, "w", encoding="utf-8", newline="") as f:
            if path.suffix.lower() == ".json":
                json.dump([dict(zip(names, row)) for row in rows], f, indent=1)
            else:
                table = csv.writer(f)
                table.writerow(names)
                table.writerows([[f"{v:.9g}" if isinstance(v, float) else v for v in row] for row in rows])

    if path.suffix.lower() not in (".csv", ".json"):
        raise ArtulineError(f"{path.name} is no table", remedy="Name it something.csv or something.json.")
    write_whole(path, write)
