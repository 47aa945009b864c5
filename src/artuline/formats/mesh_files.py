"""Files of one mesh (OBJ, STL, PLY, OFF), read by a library of meshes."""

import io
from pathlib import Path
from typing import cast

import numpy as np

from artuline.formats.apart import read_apart
from artuline.formats.files import read_plain
from artuline.formats.format import Format

MOST_BYTES = 256 * 2**20


def _read(path: Path) -> tuple[np.ndarray, np.ndarray]:
    """The mesh of a file, read in a process of its own."""
    read_plain(path, MOST_BYTES)
    return read_apart(read_here, path)  # type: ignore[no-any-return]


def read_here(path: Path) -> tuple[np.ndarray, np.ndarray]:
    """All triangles of a file: vertices (V, 3), triangles (T, 3). Raises what the library raises."""
    import trimesh

    data = io.BytesIO(read_plain(path, MOST_BYTES))
    found = trimesh.load(data, file_type=path.suffix.lower()[1:], force="mesh", process=True, skip_materials=True)
    mesh = cast(trimesh.Trimesh, found)
    return np.array(mesh.vertices, np.float64), np.array(mesh.faces, np.int64)


FORMAT = Format("Meshes", (".obj", ".stl", ".ply", ".off"), read_mesh=_read)
