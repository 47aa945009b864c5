"""What can be saved of a scene file that will not open: all of it but for what is damaged, which is named."""

import io
import re
import struct
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from artuline.core.checks.data import Need, check_need, needs
from artuline.core.errors import ArtulineError, why_not
from artuline.core.scene import edit
from artuline.core.scene.alike import unpacked
from artuline.core.scene.assets import AssetStore, content_hash
from artuline.core.scene.model import ClipRef, Layer, Scene, Soft, TakeRef
from artuline.formats.checked import parse, reading
from artuline.formats.files import read_plain
from artuline.formats.migrations import migrate
from artuline.formats.scene_file import (
    MOST_TEXT,
    REMEDY,
    TooLargeError,
    failing,
    key_of,
    most_data,
    named,
    read_arrays,
    versioned,
)

MOST_BYTES = 2**31
ROUNDS = 200  # things that are left out one after the other
_HEAD = struct.Struct("<IHHHHHIIIHH")
_HEAD_SIGN = 0x04034B50
#: What lies in lists of a scene file and can be left out by itself, by the names that the lists have.
_ITEMS = {
    "figures": "the figure", "takes": "the take", "links": "the link", "pushes": "the push", "rules": "the rule", "pairs_off": "a pair that does not collide",
    "clips": "the clip", "layers": "the layer", "groups": "the group", "mounts": "the mount", "softs": "the soft part", "goals": "the limb that is led",
    "elsewhere": "a bone that is baked elsewhere", "mirror": "a mirror pair",
}  # fmt: skip


@dataclass(frozen=True)
class Salvaged:
    """A scene, its data, and what of the file is not in it, a line each."""

    scene: Scene
    assets: AssetStore
    lost: tuple[str, ...]


def salvage_scene(path: Path | str, most: int | None = None) -> Salvaged:
    """What can be read of a damaged scene file. ``most``: bytes that its data may take.

    Raises ArtulineError if nothing can be, or if there is no such file.
    """
    path = Path(path)
    fail = failing(path)
    data = read_plain(path, MOST_BYTES, what="the scene file")
    lost: list[str] = []
    with reading(path, REMEDY):
        parts = dict(_entries(data, most or most_data(), path))
        if "scene.json" not in parts:
            raise fail("its description (scene.json) is lost, so nothing of it can be saved")
        raw = versioned(parse(parts.pop("scene.json"), fail), fail)
        loaded, known = {}, named(raw)
        for name in sorted(parts):
            key = key_of(name)
            if key is None or key not in known:
                continue
            arrays = _arrays(parts[name])
            if arrays is not None and content_hash(arrays) == key:
                loaded[key] = arrays
        raw, loaded = migrate(raw, loaded)
        scene = _valid(raw, lost)
        store = AssetStore()
        for key, arrays in loaded.items():
            store.put(key, arrays)
        scene = _sound(scene, store, lost)
        store.discard(set(store) - scene.assets())
    return Salvaged(scene, store, tuple(lost))


def _entries(data: bytes, most: int, path: Path) -> Iterator[tuple[str, bytes]]:
    """Names and bytes of what an archive holds, by the heads of its entries, so that a lost table of contents or end does not matter."""
    at, left = 0, most + MOST_TEXT
    while (at := data.find(b"PK\x03\x04", at)) >= 0 and at + _HEAD.size <= len(data):
        _, _, flags, method, _, _, _, packed, size, name_long, more = _HEAD.unpack_from(data, at)
        start = at + _HEAD.size
        name = data[start : start + name_long].decode("utf-8", "replace")
        body = start + name_long + more
        at += 4
        if flags & 8 or method not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED) or not name:
            continue
        if size > left:
            raise TooLargeError(path, size + most - left)
        text = data[body : body + packed]
        if method == zipfile.ZIP_DEFLATED:
            try:
                text = zlib.decompressobj(-15).decompress(text, size + 1)
            except zlib.error:
                text = b""
        if len(text) == size:
            left -= size
            yield name, text
        if body + packed <= len(data):
            at = body + packed if data[body + packed : body + packed + 2] == b"PK" else at


def _arrays(data: bytes) -> dict[str, np.ndarray] | None:
    def fail(what: str) -> ArtulineError:
        return ArtulineError(what)

    try:
        return dict(read_arrays(data, len(data), fail))
    except (ArtulineError, zipfile.BadZipFile, ValueError, EOFError, zlib.error, io.UnsupportedOperation):
        return None


def _title(item: Any, words: str) -> str:
    name = item.get("name", item.get("id")) if isinstance(item, dict) else None
    return f"{words} {name!r}" if isinstance(name, str) and name else words


def _valid(raw: dict[str, Any], lost: list[str]) -> Scene:
    """The scene of a description, without what cannot be part of one."""
    for _ in range(ROUNDS):
        try:
            return Scene.model_validate(unpacked(raw))
        except ValidationError as error:
            why = why_not(error)
            if not _leave_out(raw, error, lost):
                raise ArtulineError(f"scene.json, {why}", remedy=REMEDY) from error
    raise ArtulineError("too much of scene.json is damaged", remedy=REMEDY)


def _leave_out(raw: dict[str, Any], error: ValidationError, lost: list[str]) -> bool:
    """Take the thing out of a description that an error is about; whether there is one. In place."""
    where = error.errors(include_url=False, include_input=False)[0]["loc"]
    best: tuple[list[Any], int, str] | None = None
    inside: Any = raw
    for here, step in zip(("", *where), where):
        if isinstance(inside, list) and isinstance(step, int) and 0 <= step < len(inside) and here in _ITEMS:
            best = inside, step, _ITEMS[str(here)]
        try:
            inside = inside[step]
        except (KeyError, IndexError, TypeError):
            break
    why = why_not(error, place=False)
    if best is not None:
        items, at, words = best
        lost.append(f"{_title(items[at], words)} ({why})")
        del items[at]
        return True
    if where and where[0] in raw and where[0] not in ("version", "figures"):
        lost.append(f"the scene's {where[0]} ({why})")
        del raw[where[0]]
        return True
    return _unrefer(raw, lost, why)


def _unrefer(raw: dict[str, Any], lost: list[str], why: str) -> bool:
    """Take out whatever refers to bodies, bones and takes that are not there; whether there was anything. In place."""
    figures = [f for f in raw.get("figures", []) if isinstance(f, dict)]
    ids = {f.get("id") for f in figures}
    by_id = {f.get("id"): f for f in figures}
    count = len(lost)

    def there(end: Any) -> bool:
        if end is None:
            return True
        owner = by_id.get(end.get("figure")) if isinstance(end, dict) else None
        # what is shared with another figure is not written out
        owner = by_id.get(owner.get("like"), owner) if owner is not None and "bodies" not in owner else owner
        return owner is not None and any(b.get("id") == end.get("body") for b in owner.get("bodies", []))

    def keep(owner: dict[str, Any], name: str, good) -> None:  # type: ignore[no-untyped-def]
        for item in [x for x in owner.get(name, []) if not good(x)]:
            owner[name].remove(item)
            lost.append(f"{_title(item, _ITEMS[name])} (what it refers to is gone)")

    keep(raw, "links", lambda x: there(x.get("a")) and there(x.get("b")))
    keep(raw, "pushes", there)
    keep(raw, "pairs_off", lambda x: all(there(end) for end in x))
    keep(raw, "rules", lambda x: x.get("figure") in ids)
    for f in figures:
        keep(f, "mounts", lambda m: m.get("figure") in ids)
        if f.get("like") is not None and f.get("like") not in ids:
            f["like"] = None
            lost.append(f"what {f.get('name')!r} shared with a figure that is gone")
        steering = f.get("steering")
        if isinstance(steering, dict) and steering.get("follows") not in (None, *ids):
            steering["follows"] = None
            lost.append(f"whom {f.get('name')!r} follows")
    if raw.get("take") is not None and all(t.get("id") != raw["take"] for t in raw.get("takes", [])):
        raw["take"] = None
        lost.append(f"which take is shown ({why})")
    return len(lost) > count


def _sound(scene: Scene, data: AssetStore, lost: list[str]) -> Scene:
    """The scene without what lacks its data, or has damaged data."""
    for _ in range(ROUNDS):
        bad: tuple[Need, ArtulineError] | None = None
        for need in needs(scene):
            try:
                check_need(need, data)
            except ArtulineError as error:
                bad = need, error
                break
        if bad is None:
            return scene
        scene = _without(scene, *bad, lost)
    raise ArtulineError("too much of its data is damaged", remedy=REMEDY)


def _without(scene: Scene, need: Need, error: ArtulineError, lost: list[str]) -> Scene:
    owner = need.owner
    words = need.words
    try:
        if isinstance(owner, TakeRef):
            takes = tuple(t for t in scene.takes if t is not owner)
            shown = scene.take if any(t.id == scene.take for t in takes) else (takes[-1].id if takes else None)
            made = edit.scene(scene, takes=takes, take=shown)
        elif isinstance(owner, Layer):
            made = _fewer(scene, need, "layers", owner)
        elif isinstance(owner, ClipRef):
            f = scene.figure(str(need.figure))
            clips = tuple(c for c in f.clips if c is not owner)
            playing = f.clip if f.clip != owner.name else (clips[0].name if clips else None)
            made = edit.figure(scene, f.id, clips=clips, clip=playing)
        elif isinstance(owner, Soft) or need.about == "shapes":
            raise ValueError("a figure is not the same without")
        else:
            # a figure whose skin is damaged is still a figure
            made = edit.figure(scene, owner.id, asset=None)
            words = f"the skin of {owner.name!r}"
    except (ValueError, ArtulineError):
        f = scene.figure(str(need.figure))
        words, made = f"the figure {f.name!r}", edit.without_figure(scene, f.id)
    why = re.sub(r" \(assets/\w+\.npz\)", "", error.problem.removeprefix(f"{need.words}: "))
    lost.append(f"{words} ({why})")
    return made


def _fewer(scene: Scene, need: Need, name: str, owner: object) -> Scene:
    f = scene.figure(str(need.figure))
    return edit.figure(scene, f.id, **{name: tuple(x for x in getattr(f, name) if x is not owner)})
