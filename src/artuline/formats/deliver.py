"""Deliver: figures of a scene with their baked motion, in the format that the file's ending says."""

from collections.abc import Callable
from pathlib import Path

from artuline.core.bake.delivery import NONE, delivery
from artuline.core.bake.merged import Rests
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.formats.all import format_of


def deliver(
    path: Path,
    scene: Scene,
    assets: AssetStore,
    figures: list[str],
    together: bool = False,
    rests: Rests = NONE,
    physics: bool = False,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> list[Path]:
    """Write figures with clip and layers merged into one animation over the scene's range, all in one file or each in its own; ``rests``: with
    the rest pose before or after it; ``physics``: with bodies and joints, where the format holds them; ``progress(done, in all)`` may raise. The files that were written.

    Raises ArtulineError for an ending that cannot be written, or if the place cannot be written to.
    """
    write = format_of(path, "write").write
    assert write is not None
    return write(path, delivery(scene, assets, figures, together, rests, physics, progress))
