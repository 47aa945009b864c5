"""The glTF 2.0 container: GLB and .gltf with buffers, and accessors decoded into arrays with bounds checked.

Source: Khronos Group, glTF 2.0 Specification, sections 3.6 (binary data) and 4 (GLB).
"""

import base64
import binascii
import json
import struct
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np

from artuline.core.errors import ArtulineError

COMPONENTS: dict[int, np.dtype] = {
    5120: np.dtype("<i1"),
    5121: np.dtype("<u1"),
    5122: np.dtype("<i2"),
    5123: np.dtype("<u2"),
    5125: np.dtype("<u4"),
    5126: np.dtype("<f4"),
}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
MOST_ELEMENTS = 50_000_000

# Extensions that change nothing we read, and may therefore be required without harm.
HARMLESS = {"KHR_mesh_quantization", "KHR_texture_transform", "KHR_lights_punctual"}


@dataclass
class Container:
    """The JSON part of a file with its buffers, and accessors by index."""

    path: Path
    json: dict[str, Any]
    binary: bytes | None
    _buffers: dict[int, bytes] = field(default_factory=dict)

    def fail(self, problem: str, remedy: str = "Export the file again, or repair it.") -> ArtulineError:
        """An error that names this file."""
        return ArtulineError(problem, place=str(self.path), remedy=remedy)

    def items(self, key: str) -> list[dict[str, Any]]:
        """A top-level list of objects, empty if absent."""
        found = self.json.get(key, [])
        if not isinstance(found, list) or not all(isinstance(i, dict) for i in found):
            raise self.fail(f"'{key}' is not a list of objects")
        return found

    def item(self, key: str, index: Any, where: str) -> dict[str, Any]:
        """One object of a top-level list, with the index checked."""
        found = self.items(key)
        if not isinstance(index, int) or isinstance(index, bool) or not 0 <= index < len(found):
            raise self.fail(f"{where} refers to {key}[{index}], but there are {len(found)}")
        return found[index]

    def number(self, owner: dict[str, Any], key: str, where: str, default: int | None = None) -> int:
        """A whole number that is not negative."""
        value = owner.get(key, default)
        if not isinstance(value, int) or isinstance(value, bool) or value < 0:
            raise self.fail(f"{where}.{key} is {value!r}, not a whole number")
        return value

    def buffer(self, index: Any, where: str) -> bytes:
        """The bytes of a buffer: the GLB's own, a data URI, or a file beside this one."""
        entry = self.item("buffers", index, where)
        if index not in self._buffers:
            data = self._load(entry, index)
            length = self.number(entry, "byteLength", f"buffers[{index}]")
            if length > len(data):
                raise self.fail(f"buffers[{index}] claims {length} bytes but holds {len(data)}")
            self._buffers[index] = data
        return self._buffers[index]

    def _load(self, entry: dict[str, Any], index: int) -> bytes:
        uri = entry.get("uri")
        if uri is None:
            if self.binary is None or index != 0:
                raise self.fail(f"buffers[{index}] has no data")
            return self.binary
        if not isinstance(uri, str):
            raise self.fail(f"buffers[{index}].uri is not a text")
        if uri.startswith("data:"):
            try:
                return base64.b64decode(uri.partition(",")[2], validate=True)
            except binascii.Error as error:
                raise self.fail(f"buffers[{index}] holds damaged base64 data") from error
        if "://" in uri:
            raise self.fail(f"buffers[{index}] lies on a network address", "Save the data beside the file.")
        try:
            return (self.path.parent / unquote(uri)).read_bytes()
        except OSError as error:
            raise self.fail(
                f"the buffer file {uri!r} cannot be read ({error.strerror})", "Put it beside the file."
            ) from error

    def accessor(self, index: Any, where: str, kinds: tuple[str, ...], *, finite: bool = True) -> np.ndarray:
        """Decode an accessor.

        Returns (N, W) for the types in ``kinds``, (N,) for SCALAR; integers that are normalised become
        float64 in [-1, 1], others keep their type. Raises if anything lies outside its buffer, or if
        numbers are not finite.
        """
        a = self.item("accessors", index, where)
        name = f"accessors[{index}] ({where})"
        kind = a.get("type")
        if kind not in WIDTHS or kind not in kinds:
            raise self.fail(f"{name} has the type {kind!r}; {' or '.join(kinds)} is needed")
        dtype = COMPONENTS.get(a.get("componentType", 0))
        if dtype is None:
            raise self.fail(f"{name} has an unknown component type {a.get('componentType')!r}")
        width, count = WIDTHS[kind], self.number(a, "count", name)
        if count < 1 or count > MOST_ELEMENTS:
            raise self.fail(f"{name} claims {count} elements")
        offset = self.number(a, "byteOffset", name, 0)
        if "bufferView" in a:
            values = self._view(a["bufferView"], offset, count, width, dtype, name)
        else:
            values = np.zeros((count, width), dtype)
        if "sparse" in a:
            values = self._sparse(a["sparse"], values, name)
        if a.get("normalized") and dtype.kind in "iu":
            values = np.maximum(values.astype(np.float64) / np.iinfo(dtype).max, -1.0)
        if finite and values.dtype.kind == "f" and not np.isfinite(values).all():
            row = int(np.flatnonzero(~np.isfinite(values).all(axis=1))[0])
            raise self.fail(f"{name} holds a number that is not finite, at element {row}")
        return values[:, 0] if width == 1 else values

    def _view(self, index: Any, offset: int, count: int, width: int, dtype: np.dtype, name: str) -> np.ndarray:
        view = self.item("bufferViews", index, name)
        where = f"bufferViews[{index}]"
        data = self.buffer(view.get("buffer"), where)
        start = self.number(view, "byteOffset", where, 0)
        length = self.number(view, "byteLength", where)
        if start + length > len(data):
            raise self.fail(f"{where} reaches past its buffer ({start + length} of {len(data)} bytes)")
        size = width * dtype.itemsize
        stride = self.number(view, "byteStride", where, 0) or size
        if stride < size:
            raise self.fail(f"{where} has a stride of {stride} bytes, below the element's {size}")
        need = offset + stride * (count - 1) + size
        if need > length:
            raise self.fail(f"{name} reaches past its buffer view ({need} of {length} bytes)")
        return np.ndarray((count, width), dtype, data, start + offset, (stride, dtype.itemsize)).copy()

    def _sparse(self, sparse: Any, values: np.ndarray, name: str) -> np.ndarray:
        where = f"{name}.sparse"
        try:
            count = self.number(sparse, "count", where)
            at, new = sparse["indices"], sparse["values"]
            dtype = COMPONENTS[at["componentType"]]
            offset = self.number(at, "byteOffset", where, 0), self.number(new, "byteOffset", where, 0)
            views = at["bufferView"], new["bufferView"]
        except (KeyError, TypeError, AttributeError) as error:
            raise self.fail(f"{where} is incomplete") from error
        if not 0 < count <= len(values):
            raise self.fail(f"{where} claims {count} of {len(values)} elements")
        rows = self._view(views[0], offset[0], count, 1, dtype, where)[:, 0]
        if int(rows.max()) >= len(values):
            raise self.fail(f"{where} points at element {int(rows.max())} of {len(values)}")
        values[rows] = self._view(views[1], offset[1], count, values.shape[1], values.dtype, where)
        return values


def open_container(path: Path) -> Container:
    """Read a .glb or .gltf file. Raises ArtulineError that names the file and the place."""
    try:
        data = path.read_bytes()
    except OSError as error:
        raise ArtulineError(f"cannot be read ({error.strerror})", place=str(path), remedy="Check the path.") from error

    def fail(problem: str) -> ArtulineError:
        return ArtulineError(problem, place=str(path), remedy="Choose a glTF 2.0 file (.glb or .gltf).")

    if not data:
        raise fail("the file is empty")
    text: bytes = data
    binary = None
    if data[:4] == b"glTF":
        if len(data) < 20:
            raise fail(f"the file ends in its header ({len(data)} bytes)")
        version, length = struct.unpack_from("<II", data, 4)
        if version != 2:
            raise fail(f"the file is version {version} of the format; version 2 is needed")
        if length > len(data):
            raise fail(f"the file is cut off: its header claims {length} bytes, there are {len(data)}")
        chunks: dict[int, bytes] = {}
        at = 12
        while at + 8 <= length:
            size, kind = struct.unpack_from("<II", data, at)
            if at + 8 + size > length:
                raise fail(f"the block at byte {at} claims {size} bytes and reaches past the end")
            chunks.setdefault(kind, data[at + 8 : at + 8 + size])
            at += 8 + size
        if 0x4E4F534A not in chunks:
            raise fail("the file has no description block (JSON)")
        text, binary = chunks[0x4E4F534A], chunks.get(0x004E4942)
    elif path.suffix.lower() == ".glb":
        raise fail("this is not a GLB file: it does not begin with 'glTF'")
    try:
        parsed = json.loads(text.decode("utf-8-sig"), parse_constant=_refuse)
    except (UnicodeDecodeError, ValueError, RecursionError) as error:
        raise fail(f"the description is not valid JSON ({error})") from error
    if not isinstance(parsed, dict) or not isinstance(parsed.get("asset"), dict):
        raise fail("this is not a glTF file: it has no 'asset' entry")
    if not str(parsed["asset"].get("version", "")).startswith("2."):
        raise fail(f"the file is version {parsed['asset'].get('version')!r} of glTF; 2.0 is needed")
    container = Container(path, parsed, binary)
    missing = [e for e in parsed.get("extensionsRequired", []) if e not in HARMLESS]
    if missing:
        raise container.fail(
            f"the file needs the extension {', '.join(map(str, missing))}, which Artuline does not read",
            "Export it without compression and without that extension.",
        )
    return container


def _refuse(constant: str) -> float:
    raise ValueError(f"{constant} is not a number")
