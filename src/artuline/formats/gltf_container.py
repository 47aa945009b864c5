"""The glTF 2.0 container: GLB and .gltf with buffers, and accessors decoded into arrays with bounds checked.

Source: Khronos Group, glTF 2.0 Specification, sections 3.6 (binary data) and 4 (GLB).
"""

import base64
import binascii
import struct
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.formats.checked import Part, beside, parse
from artuline.formats.files import read_plain

COMPONENTS: dict[int, np.dtype] = {
    5120: np.dtype("<i1"),
    5121: np.dtype("<u1"),
    5122: np.dtype("<i2"),
    5123: np.dtype("<u2"),
    5125: np.dtype("<u4"),
    5126: np.dtype("<f4"),
}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
MOST_BYTES = 2**31  # of a file, or of one of its buffers
MOST_VALUES = 120_000_000  # numbers decoded from one file
MOST_EMPTY = 4_000_000  # numbers of an accessor that has no data of its own
MOST_ITEMS = 20_000  # nodes, meshes, and so on

# Extensions that change nothing we read, and may therefore be required without harm.
HARMLESS = {"KHR_mesh_quantization", "KHR_texture_transform", "KHR_lights_punctual"}
_LISTS = ("nodes", "meshes", "skins", "materials", "animations", "accessors", "bufferViews", "buffers", "scenes")


class Container:
    """The JSON part of a file with its buffers, and accessors by index."""

    def __init__(self, path: Path, json: dict[str, Any], binary: bytes | None):
        self.path, self.binary = path, binary
        self.root = Part(json, "", self.fail)
        self._lists: dict[str, list[Part]] = {}
        self._buffers: dict[int, bytes] = {}
        self._left = MOST_VALUES
        for key in _LISTS:
            if len(self.items(key)) > MOST_ITEMS * (10 if key in ("accessors", "bufferViews") else 1):
                raise self.fail(f"the file has {len(self.items(key))} {key}", f"Reduce them to {MOST_ITEMS} at most.")

    def fail(self, problem: str, remedy: str = "Export the file again, or repair it.") -> ArtulineError:
        """An error that names this file."""
        return ArtulineError(problem, place=str(self.path), remedy=remedy)

    def items(self, key: str) -> list[Part]:
        """A top-level list of objects, empty if absent; checked once."""
        if key not in self._lists:
            self._lists[key] = self.root.parts(key)
        return self._lists[key]

    def item(self, key: str, owner: Part, field: str) -> Part:
        """The object of a top-level list that a field points at."""
        return self.items(key)[owner.index(field, self.items(key), key)]

    def buffer(self, view: Part) -> bytes:
        """The bytes of the buffer of a view: the GLB's own, a data URI, or a file beside this one."""
        entry = self.item("buffers", view, "buffer")
        index = view.whole("buffer")
        if index not in self._buffers:
            length = entry.whole("byteLength")
            data = self._load(entry, index, length)
            if length > len(data):
                raise self.fail(f"{entry.where} claims {length} bytes but holds {len(data)}")
            self._buffers[index] = data
        return self._buffers[index]

    def _load(self, entry: Part, index: int, length: int) -> bytes:
        if "uri" not in entry:
            if self.binary is None or index != 0:
                raise entry.fail("has no data")
            return self.binary
        uri = entry.text("uri")
        if uri.startswith("data:"):
            try:
                return base64.b64decode(uri.partition(",")[2], validate=True)
            except binascii.Error as error:
                raise entry.fail("holds damaged base64 data") from error
        if not uri or "://" in uri:
            raise self.fail(f"{entry.where} lies on a network address", "Save the data beside the file.")
        return read_plain(beside(self.path.parent, unquote(uri), self.fail), MOST_BYTES, what="the buffer file")[
            :length
        ]

    def accessor(self, owner: Part, field: str, kinds: tuple[str, ...]) -> np.ndarray:
        """Decode the accessor that a field points at.

        Returns (N, W) for the types in ``kinds``, (N,) for SCALAR; integers that are normalised become
        float64 in [-1, 1], others keep their type. Raises if anything lies outside its buffer, or if
        numbers are not finite.
        """
        a = self.item("accessors", owner, field)
        name = f"{a.where} ({owner.where}.{field})"
        kind = a.text("type")
        if kind not in WIDTHS or kind not in kinds:
            raise self.fail(f"{name} has the type {kind!r}; {' or '.join(kinds)} is needed")
        dtype = COMPONENTS.get(a.whole("componentType", 0))
        if dtype is None:
            raise self.fail(f"{name} has an unknown component type {a.whole('componentType', 0)}")
        width, count = WIDTHS[kind], a.whole("count")
        if count < 1:
            raise self.fail(f"{name} claims {count} elements")
        limit = self._left if "bufferView" in a else min(MOST_EMPTY, self._left)
        if count * width > limit:
            raise self.fail(f"{name} claims {count} elements, more than this program reads", "Divide the file.")
        self._left -= count * width
        offset = a.whole("byteOffset", 0)
        if "bufferView" in a:
            values = self._view(a, offset, count, width, dtype, name)
        else:
            values = np.zeros((count, width), dtype)
        if "sparse" in a:
            values = self._sparse(a.part("sparse"), values)
        if a.value.get("normalized") is True and dtype.kind in "iu":
            values = np.maximum(values.astype(np.float64) / np.iinfo(dtype).max, -1.0)
        if values.dtype.kind == "f" and not np.isfinite(values).all():
            row = int(np.flatnonzero(~np.isfinite(values).all(axis=1))[0])
            raise self.fail(f"{name} holds a number that is not finite, at element {row}")
        return values[:, 0] if width == 1 else values

    def _view(self, owner: Part, offset: int, count: int, width: int, dtype: np.dtype, name: str) -> np.ndarray:
        view = self.item("bufferViews", owner, "bufferView")
        data = self.buffer(view)
        start, length = view.whole("byteOffset", 0), view.whole("byteLength")
        if start + length > len(data):
            raise self.fail(f"{view.where} reaches past its buffer ({start + length} of {len(data)} bytes)")
        size = width * dtype.itemsize
        stride = view.whole("byteStride", 0) or size
        if stride < size:
            raise self.fail(f"{view.where} has a stride of {stride} bytes, below the element's {size}")
        need = offset + stride * (count - 1) + size
        if need > length:
            raise self.fail(f"{name} reaches past its buffer view ({need} of {length} bytes)")
        return np.ndarray((count, width), dtype, data, start + offset, (stride, dtype.itemsize)).copy()

    def _sparse(self, sparse: Part, values: np.ndarray) -> np.ndarray:
        count, at, new = sparse.whole("count"), sparse.part("indices"), sparse.part("values")
        dtype = COMPONENTS.get(at.whole("componentType"))
        if dtype is None or dtype.kind != "u":
            raise at.fail("has an unknown component type")
        if not 0 < count <= len(values):
            raise sparse.fail(f"claims {count} of {len(values)} elements")
        rows = self._view(at, at.whole("byteOffset", 0), count, 1, dtype, at.where)[:, 0]
        if int(rows.max()) >= len(values):
            raise at.fail(f"points at element {int(rows.max())} of {len(values)}")
        values[rows] = self._view(new, new.whole("byteOffset", 0), count, values.shape[1], values.dtype, new.where)
        return values


def open_container(path: Path) -> Container:
    """Read a .glb or .gltf file. Raises ArtulineError that names the file and the place."""
    data = read_plain(path, MOST_BYTES)

    def fail(problem: str) -> ArtulineError:
        return ArtulineError(problem, place=str(path), remedy="Choose a glTF 2.0 file (.glb or .gltf).")

    if not data:
        raise fail("the file is empty")
    text: bytes = data
    binary = None
    if data[:4] == b"glTF":
        text, binary = _chunks(data, fail)
    elif path.suffix.lower() == ".glb":
        raise fail("this is not a GLB file: it does not begin with 'glTF'")
    parsed = parse(text, fail)
    container = Container(path, parsed, binary)
    if "asset" not in container.root:
        raise fail("this is not a glTF file: it has no 'asset' entry")
    version = container.root.part("asset").text("version")
    if not version.startswith("2."):
        raise fail(f"the file is version {version!r} of glTF; 2.0 is needed")
    missing = [e for e in container.root.texts("extensionsRequired") if e not in HARMLESS]
    if missing:
        raise container.fail(
            f"the file needs the extension {', '.join(missing)[:200]}, which Artuline does not read",
            "Export it without compression and without that extension.",
        )
    return container


def _chunks(data: bytes, fail) -> tuple[bytes, bytes | None]:  # type: ignore[no-untyped-def]
    """The description and the binary block of a GLB file."""
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
    return chunks[0x4E4F534A], chunks.get(0x004E4942)
