"""Scene files (.artuline): a zip with scene.json and the assets as .npz. Written whole or not at all; older ones are migrated.

What is written is what is read: a file is read back before it takes the place of the one before, and what a scene holds is looked at by the same
checks as when it is read and edited (``artuline.core.checks.data``).
"""

import hashlib
import io
import os
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from artuline.core.checks.data import check_data
from artuline.core.errors import ArtulineError, CancelledError, why_not
from artuline.core.scene.alike import text_of, unpacked
from artuline.core.scene.assets import AssetStore, content_hash
from artuline.core.scene.model import FORMAT_VERSION, Scene
from artuline.formats.checked import Cancelled, parse, reading
from artuline.formats.files import write_whole
from artuline.formats.migrations import migrate

_DATE = (2020, 1, 1, 0, 0, 0)  # fixed, so that the same scene gives the same file
MB = 2**20
MOST_TEXT = 8 * MB  # bytes of scene.json: parsed it takes thirty times as much
MOST_DATA = 512 * MB  # bytes of all assets, unfolded, unless more is asked for
MOST_EVER = 16 * 2**30
MOST_NAMES = 1000  # named values of one group of scene.json
MOST_BONES = 300_000  # of all figures, those too that are like others
REMEDY = "Open another copy, or recover unsaved work."

Fail = Callable[..., ArtulineError]


class ChangedError(ArtulineError):
    """The file on disk is not the one that was read: saving would overwrite somebody's work."""


class TooLargeError(ArtulineError):
    """A scene unfolds to more than is read without being asked; ``needed`` bytes."""

    def __init__(self, path: Path, needed: int):
        super().__init__(
            f"its data unfolds to {needed / MB:.0f} MB, {most_data() / MB:.0f} are read without being asked for",
            place=str(path),
            remedy=f"Set ARTULINE_MOST_DATA to {needed // MB + 1} (MB) if you trust it.",
        )
        self.needed = needed


def most_data() -> int:
    """Bytes that the data of a scene may take unfolded, unless more is asked for; the environment may say how many MB."""
    try:
        return min(max(int(os.environ["ARTULINE_MOST_DATA"]), 1) * MB, MOST_EVER)
    except (KeyError, ValueError):
        return MOST_DATA


def save_scene(path: Path | str, scene: Scene, assets: AssetStore, *, replace: bool = False) -> None:
    """Save a scene with the assets it needs, and read it back before the old file is replaced.

    Raises ArtulineError; the old file is then untouched. It is a ChangedError if the scene came from that file, and something else lies there
    now, unless ``replace``.
    """
    path = Path(path)
    try:
        check_data(scene, assets)
    except ArtulineError as error:
        raise ArtulineError(
            f"the scene cannot be saved: {error.problem}", place=str(path), remedy=error.remedy
        ) from error
    text = text_of(scene, indent=1)

    def write(target: Path) -> None:
        if not replace:
            _still_ours(path, assets)
        with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as z:
            z.writestr(_entry("scene.json"), text)
            for key in sorted(scene.assets()):
                data = io.BytesIO()
                np.savez(data, allow_pickle=False, **assets[key])
                z.writestr(_entry(f"assets/{key}.npz"), data.getvalue())
        _read_back(target, path, scene, text)
        if not replace:
            _still_ours(path, assets)

    write_whole(path, write)
    assets.files[os.path.realpath(path)] = digest(path)


def digest(path: Path) -> str:
    """The hash of a file's bytes; empty if there is none that can be read."""
    try:
        with open(path, "rb") as f:
            return hashlib.file_digest(f, "sha256").hexdigest()
    except OSError:
        return ""


def _still_ours(path: Path, assets: AssetStore) -> None:
    """Raises ChangedError if a file that was read or written before holds something else by now."""
    before, now = assets.files.get(os.path.realpath(path)), digest(path)
    if before is not None and now and now != before:
        raise ChangedError(
            "the file was changed by someone else since it was opened here",
            place=str(path),
            remedy="Save under another name to keep both.",
        )


def _read_back(written: Path, path: Path, scene: Scene, text: str) -> None:
    """Raises ArtulineError unless what was written is read as what was to be written."""

    def fail(problem: str, remedy: str = "") -> ArtulineError:
        return ArtulineError(
            f"what was written cannot be read back ({problem}); the file before is kept",
            place=str(path),
            remedy=remedy or "Save to another disk.",
        )

    try:
        with zipfile.ZipFile(written) as z:
            if z.read("scene.json") != text.encode():
                raise fail("its description differs")
            raw = parse(text.encode(), fail)
            known = scene.assets()
            there = {key for key, _ in assets_of(z, known, MOST_EVER, fail)}
    except (zipfile.BadZipFile, OSError, KeyError, EOFError) as error:
        raise fail(str(error) or type(error).__name__) from error
    if there != known:
        raise fail("a part of its data is missing")
    try:
        if Scene.model_validate(unpacked(raw)) != scene:
            raise fail("it is another scene", "Tell the developers: the scene that is open is sound.")
    except ValidationError as error:
        raise fail(why_not(error), "Undo the last step, then save.") from error


def _entry(name: str) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name, _DATE)
    info.compress_type = zipfile.ZIP_DEFLATED
    info.external_attr = 0o644 << 16
    return info


def load_scene(
    path: Path | str, assets: AssetStore, cancelled: Cancelled = lambda: False, most: int | None = None
) -> Scene:
    """Load a scene and add its assets to the store. ``most``: bytes that its data may take; as of ``most_data`` if None.

    Raises ArtulineError that names file, place and remedy, TooLargeError if it takes more, CancelledError on
    request; then nothing was added.
    """
    path = Path(path)
    fail = failing(path)
    check_there(path)
    with reading(path, REMEDY):
        came_from = digest(path)
        try:
            with zipfile.ZipFile(path) as z:
                raw = description(z, fail)
                known = named(raw)
                claimed = sum(i.file_size for i in _named(z, known))
                if claimed > min(most or most_data(), MOST_EVER):
                    raise TooLargeError(path, claimed)
                loaded: dict[str, dict[str, np.ndarray]] = {}
                for key, arrays in assets_of(z, known, most or most_data(), fail):
                    loaded[key] = arrays
                    if cancelled():
                        raise CancelledError
        except zipfile.BadZipFile as error:
            raise fail("this is not a scene file, or it is cut off") from error
        raw, loaded = migrate(raw, loaded)
        try:
            scene = Scene.model_validate(unpacked(raw))
        except ValidationError as error:
            raise fail(f"scene.json, {why_not(error)}") from error
        staged = AssetStore()
        for key in scene.assets() & loaded.keys():
            staged.put(key, loaded[key])
        try:
            check_data(scene, staged)
        except ArtulineError as error:
            raise fail(error.problem) from error
    assets.take_over(staged)
    assets.files[os.path.realpath(path)] = came_from
    return scene


def failing(path: Path) -> Fail:
    """Makes errors about a scene file."""
    return lambda problem, remedy=REMEDY: ArtulineError(problem, place=str(path), remedy=remedy)


def check_there(path: Path) -> None:
    """Raises ArtulineError unless there is a plain file."""
    if not path.exists():
        raise failing(path)("there is no such file", "Check the path.")
    if not path.is_file():
        raise failing(path)("this is not a plain file", "Choose a scene file.")


def description(z: zipfile.ZipFile, fail: Fail) -> dict[str, Any]:
    """The text of a scene file, parsed, and of a version that can be read."""
    entries = {i.filename: i for i in z.infolist()}
    if "scene.json" not in entries:
        raise fail("a part of the scene file is missing (scene.json)")
    if any(i.flag_bits & 1 for i in entries.values()):
        raise fail("the scene file is encrypted", "Save it again without a password.")
    if entries["scene.json"].file_size > MOST_TEXT:
        raise fail(f"the description is larger than {MOST_TEXT // MB} MB")
    return versioned(parse(z.read(entries["scene.json"]), fail), fail)


def versioned(raw: dict[str, Any], fail: Fail) -> dict[str, Any]:
    """The same description, if it is of a version that can be read."""
    version = raw.get("version")
    if not isinstance(version, int) or isinstance(version, bool):
        raise fail("scene.json has no format version")
    if version < 1:
        raise fail(f"scene.json claims the format {version}, which never was")
    if version > FORMAT_VERSION:
        raise fail(
            f"the scene is of format {version}, newer than this program's {FORMAT_VERSION}",
            "Open it with a newer Artuline.",
        )
    if _widest(raw) > MOST_NAMES:
        raise fail(f"scene.json has a group of more than {MOST_NAMES} named values")
    figures = [f for f in raw.get("figures", []) if isinstance(f, dict)] if isinstance(raw.get("figures"), list) else []
    bones = {str(f.get("id")): len(f["bones"]) for f in figures if isinstance(f.get("bones"), list)}
    if sum(bones.get(str(f.get("id")), bones.get(str(f.get("like")), 0)) for f in figures) > MOST_BONES:
        raise fail(f"its figures have more than {MOST_BONES} bones in all", "Divide the scene.")
    return raw


def _values(raw: Any) -> Iterator[Any]:
    todo = [raw]
    while todo:
        item = todo.pop()
        yield item
        if isinstance(item, dict):
            todo += item.values()
        elif isinstance(item, list):
            todo += item


def _widest(raw: Any) -> int:
    return max(len(x) for x in _values(raw) if isinstance(x, dict))


def named(raw: dict[str, Any]) -> set[str]:
    """All texts of a description that may be the names of assets."""
    return {x for x in _values(raw) if isinstance(x, str) and 0 < len(x) <= 64}


def _named(z: zipfile.ZipFile, known: set[str]) -> list[zipfile.ZipInfo]:
    """The entries with assets that a description names."""
    return [i for i in z.infolist() if key_of(i.filename) in known]


def key_of(name: str) -> str | None:
    """The hash that an entry of a scene file is named after; None if it is no asset."""
    return name.removeprefix("assets/").removesuffix(".npz") if name.startswith("assets/") and name.endswith(".npz") else None  # fmt: skip


def assets_of(
    z: zipfile.ZipFile, known: set[str], most: int, fail: Fail
) -> Iterator[tuple[str, dict[str, np.ndarray]]]:
    """The assets that a description names, one after the other, each true to its name. Raises what ``fail`` makes if they unfold to more than ``most`` bytes."""
    left = most
    for info in _named(z, known):
        key, name = str(key_of(info.filename)), info.filename
        if info.file_size > left:
            raise fail(f"its data unfolds to more than {most // MB} MB", "Divide the scene.")

        def wrong(what: str, name: str = name) -> ArtulineError:
            return fail(f"{name} {what}")

        arrays = read_arrays(z.read(info), left, wrong)
        left -= sum(a.nbytes for a in arrays.values())
        if content_hash(arrays) != key:
            raise fail(f"the data {name} does not match its name, so it is damaged")
        yield key, arrays


def read_arrays(data: bytes, most: int, fail: Callable[[str], ArtulineError]) -> dict[str, np.ndarray]:
    """The arrays of an .npz, of numbers only. What they claim is compared with what is there before anything is allocated."""
    found = {}
    with zipfile.ZipFile(io.BytesIO(data)) as z:
        for info in z.infolist():
            # written without compression: what is unfolded cannot be larger than what lies there
            if info.file_size > most or info.file_size > len(data):
                raise fail("unfolds to too much")
            most -= info.file_size
            text = io.BytesIO(z.read(info))
            version = np.lib.format.read_magic(text)
            header = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}.get(
                version
            )
            if header is None:
                raise fail("is of an unknown kind")
            shape, columns, dtype = header(text)
            size = int(np.prod([int(n) for n in shape], dtype=object)) if shape else 1
            rest = len(text.getvalue()) - text.tell()
            if dtype.kind not in "fiub" or min(shape, default=0) < 0 or size * dtype.itemsize != rest:
                raise fail("holds an array that is not what it claims")
            flat = np.frombuffer(text.getvalue(), dtype, size, text.tell())
            found[info.filename.removesuffix(".npy")] = flat.reshape(shape, order="F" if columns else "C")
    return found
