"""A new figure for a scene: read, given a free name and place, and the scene's rate and range set by its clip."""

from dataclasses import dataclass
from pathlib import Path

from artuline.core.errors import ArtulineError
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene
from artuline.core.setup.placing import beside
from artuline.formats.all import read_figure
from artuline.formats.checked import Cancelled
from artuline.formats.format import Imported


@dataclass(frozen=True)
class Added:
    """A scene with a new figure in it, and what the user should know about it, a line each."""

    scene: Scene
    figure: Figure
    notes: tuple[str, ...]


def add_figure(
    scene: Scene, assets: AssetStore, path: Path | str, cancelled: Cancelled = lambda: False
) -> tuple[Scene, Figure, tuple[str, ...]]:
    """The scene with the figure of a file added; the figure; and notes for the user. Raises ArtulineError."""
    added = put_figure(scene, assets, read_figure(path, assets, cancelled))
    return added.scene, added.figure, added.notes


def put_figure(scene: Scene, assets: AssetStore, imported: Imported) -> Added:
    """The scene with a figure that was read added to it. The first one sets the scene's frame rate and range; another one steps
    aside of those that are there, and the range grows to hold its clip.
    """
    name = edit.fresh_id(imported.figure.id, {f.id for f in scene.figures})
    figure: Figure = imported.figure.changed(id=name, name=name)
    notes = list(imported.notes)
    place = beside(scene, assets, figure)
    if place != figure.position and scene.cast:
        figure = figure.changed(position=place)
        notes.append(f"It stands {place[0]:.2f} m to the side, clear of what is there.")
    first = not any(not f.prop for f in scene.cast) and not imported.figure.prop
    scene = edit.scene(scene, figures=(*scene.figures, figure))
    clip = figure.active_clip()
    if first:
        return Added(follow_clip(scene, figure), figure, tuple(notes))
    end = scene.start + round(clip.duration * scene.rate) if clip is not None else scene.end
    if end > scene.end:
        notes.append(f"The range now ends at frame {end}, with its clip.")
        scene = edit.scene(scene, end=end)
    if clip is not None and abs(clip.rate - scene.rate) > 0.01:
        notes.append(f"Its {clip.rate:g} frames per second are resampled to the scene's {scene.rate:g}.")
    return Added(scene, figure, tuple(notes))


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
    return follow_clip(scene, scene.figure(figure_id)) if len(scene.cast) == 1 else scene
