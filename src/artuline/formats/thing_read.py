"""Things of several parts from files of meshes: every node a part, or every loose shell."""

from pathlib import Path

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.edit import Names
from artuline.core.scene.model import Material
from artuline.core.setup.parts import MOST_PARTS, likely_thing_unit, main_shells, make_thing
from artuline.core.setup.thing_shapes import with_shapes
from artuline.core.setup.units import unit_name
from artuline.formats.all import format_of
from artuline.formats.format import Parts
from artuline.formats.gltf_read import Imported
from artuline.formats.mesh_read import LARGEST, MOST_TRIANGLES, read_mesh


def read_thing(path: Path | str, assets: AssetStore) -> Imported:
    """A thing from a file, its arrays in ``assets``, each part with a shape that follows it; and what the user should know.

    Raises ArtulineError for a file that is missing, damaged, empty or far too large.
    """
    path = Path(path)
    notes: list[str] = []
    parts = _parts(path)

    def fail(problem: str, remedy: str) -> ArtulineError:
        return ArtulineError(problem, place=str(path), remedy=remedy)

    if len(parts.triangles) > MOST_TRIANGLES:
        raise fail(f"the file has {len(parts.triangles)} triangles", f"Reduce it to {MOST_TRIANGLES} at most.")
    size = float(np.ptp(parts.positions[np.unique(parts.triangles)], axis=0).max())
    unit = likely_thing_unit(size)
    if not (np.isfinite(size) and 1e-3 <= unit * size <= LARGEST):
        raise fail(f"it is {size:.3g} units in size", "Scale it to metres first.")
    if unit != 1.0:
        notes.append(f"It measures {size:.4g} file units; read as {unit_name(unit)}.")
    stem = path.stem or "thing"
    figure = make_thing(stem, assets, parts.positions * unit, parts.triangles, parts.part, parts.names, parts.materials, parts.material,
                        source=path.name)  # fmt: skip
    kinds = {b.name: "best" for b in figure.bones}
    try:
        figure = with_shapes(figure, assets, kinds)
    except ArtulineError as error:
        notes.append(f"Its parts have no shapes yet: {error.problem}.")
    count = len(parts.names)
    notes.append(f"It has {count} parts." if count > 1 else "It is of one part.")
    return Imported(figure, tuple(notes))


def _parts(path: Path) -> Parts:
    """The parts of a file: its nodes where several carry a mesh, else its loose shells."""
    if path.suffix.lower() in (".glb", ".gltf"):
        read = format_of(path, "read_mesh").read_parts
        assert read is not None
        found = read(path)
        if 1 < len(found.names) <= MOST_PARTS:
            return found
    else:
        vertices, triangles = read_mesh(path)
        plain = np.zeros(len(triangles), np.int64)
        found = Parts(vertices, triangles, plain, [path.stem or "part"], (Material(),), plain)
    shell = main_shells(found.positions, found.triangles)
    names = Names()
    stem = found.names[0]
    titles = [names.fresh(stem if k == 0 else f"{stem} {k + 1}") for k in range(int(shell.max()) + 1)]
    return Parts(found.positions, found.triangles, shell, titles, found.materials, found.material)
