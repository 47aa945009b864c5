"""Pictures of the stage without a window, drawn at twice the size and scaled down for smooth edges."""

from pathlib import Path

import numpy as np
from PIL import Image

from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.formats.files import write_whole
from artuline.view.camera import Camera
from artuline.view.palette import DAY, Palette
from artuline.view.renderer import Renderer
from artuline.view.stage import Show, draw_list, figure_states


def figure_camera(scene: Scene, assets: AssetStore, frame: float, take: Take | None) -> Camera:
    """A camera that frames all figures at a frame."""
    camera = Camera(yaw=-0.75, pitch=0.24)
    states = figure_states(scene, assets, frame, take, Show())
    points = [s.matrices[:, :3, 3] for f, s in zip(scene.figures, states) if not f.obstacle]
    return camera.framed(np.concatenate(points)) if points else camera


def draw_stage(
    scene: Scene, assets: AssetStore, frame: float, take: Take | None, show: Show, width: int, height: int,
    camera: Camera | None = None, palette: Palette = DAY,
) -> np.ndarray:  # fmt: skip
    """The stage as (height, width, 3) uint8."""
    camera = camera or figure_camera(scene, assets, frame, take)
    renderer = Renderer(palette)
    try:
        states = figure_states(scene, assets, frame, take, show)
        big = renderer.draw(
            draw_list(scene, assets, frame, states, show, palette=palette), camera, 2 * width, 2 * height
        )
    finally:
        renderer.release()
    return np.asarray(Image.fromarray(big[:, :, :3]).resize((width, height), Image.Resampling.BOX))


def save_picture(
    path: Path,
    scene: Scene,
    assets: AssetStore,
    frame: float,
    take: Take | None,
    show: Show,
    width: int,
    height: int,
) -> None:
    """Draw the stage and write it as PNG."""
    image = Image.fromarray(draw_stage(scene, assets, frame, take, show, width, height))
    write_whole(path, lambda p: image.save(p, "PNG"))
