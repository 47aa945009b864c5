"""All file formats, and which of them can do what."""

from pathlib import Path
from typing import Literal

from artuline.core.errors import ArtulineError
from artuline.core.scene.assets import AssetStore
from artuline.formats import bvh_read, bvh_write, gltf_read, gltf_write, key_table, mesh_files, usd_read, usd_write
from artuline.formats.checked import Cancelled
from artuline.formats.format import Format, Imported

FORMATS: tuple[Format, ...] = (
    gltf_read.FORMAT,
    gltf_write.FORMAT,
    bvh_read.FORMAT,
    bvh_write.FORMAT,
    usd_read.FORMAT,
    usd_write.FORMAT,
    key_table.FORMAT,
    mesh_files.FORMAT,
)
Ability = Literal["read_figure", "read_mesh", "write"]
_WORDS = {
    "read_figure": "no figure that can be read",
    "read_mesh": "not a mesh",
    "write": "no format that can be written",
}


def suffixes(ability: Ability) -> tuple[str, ...]:
    """Endings of the files that can be read or written so."""
    return tuple(s for f in FORMATS if getattr(f, ability) is not None for s in f.suffixes)


def format_of(path: Path, ability: Ability) -> Format:
    """The format of a file by its ending. Raises ArtulineError if there is none that can do it."""
    for f in FORMATS:
        if getattr(f, ability) is not None and path.suffix.lower() in f.suffixes:
            return f
    raise ArtulineError(f"{path.name} is {_WORDS[ability]}", remedy=f"Choose one of: {', '.join(suffixes(ability))}.")


def read_figure(path: Path | str, assets: AssetStore, cancelled: Cancelled = lambda: False) -> Imported:
    """The figure of a file of any format that holds one. Raises ArtulineError, CancelledError on request; then nothing was added."""
    read = format_of(Path(path), "read_figure").read_figure
    assert read is not None
    return read(path, assets, cancelled)


def named(path: Path) -> Path:
    """A path for a file to be written: with the first ending that can be, if it has none of them."""
    endings = suffixes("write")
    return path if path.suffix.lower() in endings else path.with_suffix(endings[0])


def filters(ability: Ability, words: str) -> str:
    """What a dialog for files offers: words, then patterns."""
    return f"{words} ({' '.join(f'*{s}' for s in suffixes(ability))})"
