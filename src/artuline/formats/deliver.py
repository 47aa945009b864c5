"""Bake and deliver: figures with their baked motion, each as one .glb file."""

from collections.abc import Callable
from pathlib import Path

from artuline.core.bake.bake import Baked, add_layer, bake_figure
from artuline.core.bake.merged import merged_clip
from artuline.core.errors import ArtulineError
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Scene
from artuline.formats.gltf_write import write_figure


def write_baked(path: Path, scene: Scene, assets: AssetStore, figure: Figure) -> None:
    """Write a figure with its clip and layers merged into one animation over the scene's range."""
    mesh = Mesh.from_arrays(assets[figure.asset]) if figure.asset else None
    name = f"{figure.clip} baked" if figure.clip else "baked"
    write_figure(path, figure, mesh, {name: merged_clip(scene, assets, figure)})


def bake_and_write(
    scene: Scene,
    assets: AssetStore,
    path: Path,
    degrees: float,
    millimetres: float,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> list[tuple[Path, str, Baked]]:
    """Bake the current take on every figure that physics moves and write the files.

    The first figure goes to ``path``, further ones beside it with their names added. Raises ArtulineError.
    """
    ref = scene.active_take()
    if ref is None:
        raise ArtulineError("the scene has no take to bake", remedy="Run it first.")
    take = Take.from_arrays(assets[ref.asset])
    moved = [f for f in scene.figures if f.id in take.poses and f.bodies]
    results, failed = [], None
    for f in moved:
        try:
            results.append((f, bake_figure(scene, assets, f, take, degrees, millimetres, progress)))
        except ArtulineError as error:
            failed = error
    if not results:
        raise failed or ArtulineError("the take moves no figure", remedy="Run the scene again.")
    written = []
    for i, (f, baked) in enumerate(results):
        target = path if i == 0 else path.with_name(f"{path.stem} {f.name}{path.suffix}")
        layered = add_layer(scene, assets, f.id, baked, f"{ref.name} baked", ref.id)
        write_baked(target, layered, assets, layered.figure(f.id))
        written.append((target, f.name, baked))
    return written
