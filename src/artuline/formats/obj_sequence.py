"""Geometry of every frame as a sequence of OBJ files: the skins of figures, and the lines of strands as curves."""

from collections.abc import Callable
from pathlib import Path

import numpy as np

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.run.take import Take
from artuline.core.run.take_now import take_in
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Scene
from artuline.formats.files import write_whole

MOST_BYTES = 20e9  # that a sequence may be, about
VERTEX_BYTES, TRIANGLE_BYTES = 34, 24  # that a line of a file takes, about


def write_sequence(
    path: Path, scene: Scene, assets: AssetStore, figures: list[str] | None = None,
    progress: Callable[[int, int], None] = lambda done, total: None, cancelled: Callable[[], bool] = lambda: False,
) -> list[Path]:  # fmt: skip
    """Write a file for every frame of the scene's shown take, or of its keys where there is none: ``NAME.0001.obj`` and on, in metres, beside each
    other. Every figure is an object with the triangles of its skin; a strand has the line along its bones besides, as ``NAME line``.
    ``figures``: ids of those that are written, all of the cast if None. The files that were written.

    Raises ArtulineError if there is nothing to write, for more than would fit, and if the place cannot be written to; CancelledError on request.
    """
    chosen = [f for f in scene.cast if (figures is None or f.id in figures) and f.asset is not None]
    if not chosen:
        raise ArtulineError(
            "there is no figure with a mesh to write", remedy="Open a figure with a skin, or draw a strand."
        )
    if path.suffix.lower() != ".obj":
        raise ArtulineError(f"{path.name} is no name for a sequence", remedy="End it with .obj.")
    ref = scene.active_take()
    take = take_in(scene, assets, ref) if ref is not None else None
    frames = take.frames if take is not None else np.arange(scene.start, scene.end + 1)
    meshes = {f.id: assets.decoded(f.asset, Mesh.from_arrays) for f in chosen if f.asset is not None}
    size = len(frames) * sum(
        VERTEX_BYTES * len(m.positions) + TRIANGLE_BYTES * len(m.triangles) for m in meshes.values()
    )
    if size > MOST_BYTES:
        raise ArtulineError(
            f"the sequence would be about {size / 1e9:.0f} GB", remedy="Shorten the range, or write fewer figures."
        )
    faces = {f.id: meshes[f.id].triangles + 1 for f in chosen}
    written = []
    for k, frame in enumerate(frames.tolist()):
        if cancelled():
            raise CancelledError
        text, first = [f"# frame {frame}, metres"], 0
        for f in chosen:
            if f.enters is not None and frame < f.enters:
                continue
            matrices = _matrices(scene, assets, f, take, frame)
            points = meshes[f.id].skin(matrices)
            text += [f"o {_plain(f.name)}", *(f"v {x:.6f} {y:.6f} {z:.6f}" for x, y, z in points.tolist())]
            text += [f"f {a} {b} {c}" for a, b, c in (faces[f.id] + first).tolist()]
            first += len(points)
            if f.made is not None:
                line = rigid(matrices)[0]
                text += [f"o {_plain(f.name)}_line", *(f"v {x:.6f} {y:.6f} {z:.6f}" for x, y, z in line.tolist())]
                around = [*range(first + 1, first + len(line) + 1), *([first + 1] if f.made.closed else [])]
                text.append("l " + " ".join(map(str, around)))
                first += len(line)
        target = path.with_name(f"{path.stem}.{frame:04d}{path.suffix}")
        data = ("\n".join(text) + "\n").encode()
        write_whole(target, lambda p, data=data: p.write_bytes(data))  # type: ignore[misc]
        written.append(target)
        progress(k + 1, len(frames))
    return written


def _plain(name: str) -> str:
    """A name without spaces."""
    return "_".join(name.split())


def _matrices(scene: Scene, assets: AssetStore, figure: Figure, take: Take | None, frame: int) -> np.ndarray:
    """How a figure stands at a frame (B, 4, 4): by the take, else by its keys."""
    if take is not None and figure.id in take.poses:
        i = take.row(frame)
        return skeleton_of(figure).global_matrices(take.poses[figure.id].frame(i), take.root(figure, i))
    found: np.ndarray = keyed_matrices(scene, assets, figure, np.array([float(frame)]))[0]
    return found
