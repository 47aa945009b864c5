"""Setup files (.artuset): JSON text. Written whole or not at all. And the setups that come with the program."""

from pathlib import Path

from pydantic import ValidationError

from artuline.core.errors import ArtulineError, why_not
from artuline.core.setup.setups import SETUP_VERSION, Setup
from artuline.formats.checked import parse, reading
from artuline.formats.files import read_plain, write_whole
from artuline.formats.migrations import with_force

MOST_BYTES = 16 * 2**20
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
    remedy = "Choose another setup file."

    def fail(problem: str) -> ArtulineError:
        return ArtulineError(problem, place=str(path), remedy=remedy)

    with reading(path, remedy):
        raw = parse(read_plain(path, MOST_BYTES), lambda problem: fail(f"this is not a setup file: {problem}"))
        if not isinstance(raw.get("version"), int) or "bodies" not in raw:
            raise fail("this is not a setup file")
        if raw["version"] > SETUP_VERSION:
            raise fail(f"the setup is of format {raw['version']}, newer than this program's {SETUP_VERSION}")
        if raw["version"] < 2 and isinstance(raw.get("joints"), list):
            raw |= {"version": 2, "joints": [with_force(j) if isinstance(j, dict) else j for j in raw["joints"]]}
        try:
            return Setup.model_validate(raw)
        except ValidationError as error:
            raise fail(why_not(error)) from error


def ready_setup(name: str) -> Setup:
    """One of the setups that come with the program, by its name in ``READY``."""
    return load_setup(SETUPS / f"{name.replace(' ', '_')}.artuset")
