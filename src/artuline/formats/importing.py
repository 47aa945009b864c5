"""A new figure for a scene: read, given a free name, and the scene's rate and range set by its clip."""

from pathlib import Path

from artuline.core.errors import ArtulineError
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene
from artuline.formats.gltf_read import read_figure


def add_figure(scene: Scene, assets: AssetStore, path: Path | str) -> tuple[Scene, Figure, tuple[str, ...]]:
    """The scene with the figure of a file added; the figure; and notes for the user.

    The first figure sets the scene's frame rate and range. Raises ArtulineError.
    """
    imported = read_figure(path, assets)
    taken = {f.id for f in scene.figures}
    name = edit.fresh_id(imported.figure.id, taken)
    figure: Figure = imported.figure.changed(id=name, name=name)
    scene = edit.scene(scene, figures=(*scene.figures, figure))
    if len(scene.figures) == 1 and figure.clip:
        scene = follow_clip(scene, figure)
    return scene, figure, imported.notes


def follow_clip(scene: Scene, figure: Figure) -> Scene:
    """The scene with the rate and range of the figure's clip; a loop gets at least four seconds."""
    clip = figure.active_clip()
    if clip is None:
        return scene
    seconds = max(clip.duration, 4.0) if clip.loop else clip.duration
    return edit.scene(scene, rate=clip.rate, start=0, end=max(1, round(seconds * clip.rate)))


def choose_clip(scene: Scene, figure_id: str, clip: str | None) -> Scene:
    """The scene with another clip playing on a figure. Raises ArtulineError for an unknown clip."""
    figure = scene.figure(figure_id)
    names = [c.name for c in figure.clips]
    if clip is not None and clip not in names:
        remedy = f"Choose one of: {', '.join(names)}." if names else "The figure has no clips."
        raise ArtulineError(f"{figure.name} has no clip {clip!r}", remedy=remedy)
    scene = edit.figure(scene, figure_id, clip=clip)
    return follow_clip(scene, scene.figure(figure_id)) if len(scene.figures) == 1 else scene
