"""Setup files (.artuset): JSON text. Written whole or not at all. And the setups that come with the program."""

import json
import os
from pathlib import Path

from pydantic import ValidationError

from artuline.core.errors import ArtulineError
from artuline.core.setup.setups import SETUP_VERSION, Setup
from artuline.formats.files import write_whole

SETUPS = Path(__file__).parent / "setups"
READY = ("two legs", "four legs", "chain")


def save_setup(path: Path | str, setup: Setup) -> None:
    """Write a setup. Raises ArtulineError; the old file is then untouched."""
    text = setup.model_dump_json(indent=1)

    def write(target: Path) -> None:
        target.write_text(text, encoding="utf-8")

    write_whole(Path(path), write)


def load_setup(path: Path | str) -> Setup:
    """Read a setup. Raises ArtulineError that names file, place and remedy."""
    path = Path(path)

    def fail(problem: str, remedy: str = "Choose another setup file.") -> ArtulineError:
        return ArtulineError(problem, place=str(path), remedy=remedy)

    try:
        raw = json.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise fail(
            f"cannot be read ({os.strerror(error.errno or 0)})", "Check the path and its permissions."
        ) from error
    except (ValueError, RecursionError) as error:
        raise fail(f"this is not a setup file, or it is cut off ({error})") from error
    return _parse(raw, fail)


def _parse(raw: object, fail) -> Setup:  # type: ignore[no-untyped-def]
    if not isinstance(raw, dict) or not isinstance(raw.get("version"), int) or "bodies" not in raw:
        raise fail("this is not a setup file")
    if raw["version"] > SETUP_VERSION:
        raise fail(f"the setup is of format {raw['version']}, newer than this program's {SETUP_VERSION}")
    try:
        return Setup.model_validate(raw)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(p) for p in first["loc"]) or "the setup"
        raise fail(f"{place}: {first['msg']}") from error


def ready_setup(name: str) -> Setup:
    """One of the setups that come with the program, by its name in ``READY``."""
    return load_setup(SETUPS / f"{name.replace(' ', '_')}.artuset")
