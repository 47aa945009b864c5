"""Movies of the stage: MP4, GIF, or a PNG for every frame."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.formats.files import write_whole
from artuline.formats.format import Fate
from artuline.view.camera import Camera
from artuline.view.palette import DAY, Palette
from artuline.view.pictures import figure_camera
from artuline.view.renderer import Renderer
from artuline.view.stage import Show, draw_list, figure_states

SUFFIXES = (".mp4", ".gif", ".png")
FATES = {
    ".mp4": Fate(("every frame as it is seen, H.264",), ("colours: half as fine as brightness",), ("transparency", "all that is not seen")),
    ".gif": Fate(("every frame as it is seen",), ("256 colours", "time: hundredths of a second"), ("transparency", "all that is not seen")),
    ".png": Fate(("every frame as it is seen, a file for each", "transparency, if chosen"), (), ("all that is not seen",)),
}  # fmt: skip
LEAST, MOST = 16, 4096  # pixels of a side
MOST_FRAMES = 20_000
QUALITY = 8  # of ten


@dataclass(frozen=True)
class MovieWish:
    """Size in pixels, first and last frame (None: of the scene), whether frame numbers are burnt in, and whether what is behind all is transparent (PNG)."""

    width: int = 1280
    height: int = 720
    start: int | None = None
    end: int | None = None
    numbers: bool = False
    transparent: bool = False

    def check(self, path: Path) -> None:
        """Raises ArtulineError for what cannot be drawn or written."""
        if path.suffix.lower() not in SUFFIXES:
            raise ArtulineError(f"{path.name} is no movie", remedy=f"Choose one of: {', '.join(SUFFIXES)}.")
        if not all(LEAST <= x <= MOST for x in (self.width, self.height)):
            raise ArtulineError(
                f"a movie of {self.width} x {self.height} pixels", remedy=f"Use {LEAST} to {MOST} pixels."
            )
        if path.suffix.lower() == ".mp4" and (self.width % 2 or self.height % 2):
            raise ArtulineError(
                "an MP4 has even sides", remedy=f"Use {self.width + self.width % 2} x {self.height + self.height % 2}."
            )
        if self.transparent and path.suffix.lower() != ".png":
            raise ArtulineError(f"{path.suffix} holds no transparency", remedy="Write PNG, or keep what is behind.")


def frames_of(scene: Scene, wish: MovieWish) -> range:
    """The frames of a movie. Raises ArtulineError if there are none, or too many."""
    first, last = scene.start if wish.start is None else wish.start, scene.end if wish.end is None else wish.end
    if not 0 <= last - first < MOST_FRAMES:
        raise ArtulineError(f"a movie from frame {first} to {last}", remedy=f"Choose 1 to {MOST_FRAMES} frames.")
    return range(first, last + 1)


def drawn_frames(
    scene: Scene,
    assets: AssetStore,
    take: Take | None,
    show: Show,
    wish: MovieWish,
    camera: Camera | None = None,
    palette: Palette = DAY,
) -> Iterator[np.ndarray]:
    """The frames as (height, width, 3 or 4) uint8, drawn at twice the size and scaled down."""
    frames = frames_of(scene, wish)
    camera = camera or figure_camera(scene, assets, frames[0], take)
    renderer = Renderer(palette)
    try:
        for frame in frames:
            states = figure_states(scene, assets, frame, take, show)
            seen = draw_list(scene, assets, frame, states, show, palette=palette)
            big = renderer.draw(seen, camera, 2 * wish.width, 2 * wish.height, bare=wish.transparent)
            image = _smaller(big, wish)
            if wish.numbers:
                _number(image, frame, palette)
            yield np.asarray(image)
    finally:
        renderer.release()


def _smaller(big: np.ndarray, wish: MovieWish) -> Image.Image:
    size = (wish.width, wish.height)
    if not wish.transparent:
        return Image.fromarray(np.ascontiguousarray(big[:, :, :3])).resize(size, Image.Resampling.BOX)
    # colours count as far as they are there, or edges would be dark
    part = big.astype(np.float32)
    part[:, :, :3] *= part[:, :, 3:] / 255.0
    small = part.reshape(wish.height, 2, wish.width, 2, 4).mean(axis=(1, 3))
    small[:, :, :3] *= 255.0 / np.maximum(small[:, :, 3:], 1e-3)
    return Image.fromarray(np.clip(np.rint(small), 0, 255).astype(np.uint8), "RGBA")


def _number(image: Image.Image, frame: int, palette: Palette) -> None:
    draw = ImageDraw.Draw(image)
    font = ImageFont.load_default(max(12, image.height // 28))
    edge = max(4, image.height // 50)
    draw.text(
        (edge, image.height - edge),
        f"{frame}",
        font=font,
        fill=palette.ink,
        anchor="lb",
        stroke_width=2,
        stroke_fill=palette.raised,
    )


def write_movie(
    path: Path, scene: Scene, assets: AssetStore, take: Take | None, show: Show, wish: MovieWish, camera: Camera | None = None,
    palette: Palette = DAY, progress: Callable[[int, int], None] = lambda done, total: None, cancelled: Callable[[], bool] = lambda: False,
) -> list[Path]:  # fmt: skip
    """Write the stage over some frames: an MP4 or GIF whole or not at all, or ``NAME.0001.png`` and on. The files that were written.

    ``take``: that is shown, else the keys with their layers. Raises ArtulineError, CancelledError on request.
    """
    wish.check(path)
    frames = frames_of(scene, wish)

    def watched() -> Iterator[tuple[int, np.ndarray]]:
        for k, image in enumerate(drawn_frames(scene, assets, take, show, wish, camera, palette)):
            if cancelled():
                raise CancelledError
            yield frames[k], image
            progress(k + 1, len(frames))

    if path.suffix.lower() == ".png":
        written = []
        for frame, image in watched():
            target = path.with_name(f"{path.stem}.{frame:04d}.png")
            picture = Image.fromarray(image)
            write_whole(target, lambda p, picture=picture: picture.save(p, "PNG"))  # type: ignore[misc]
            written.append(target)
        return written
    encode = _gif if path.suffix.lower() == ".gif" else _mp4
    write_whole(path, lambda p: encode(p, scene.rate, watched()))
    return [path]


def _mp4(path: Path, rate: float, frames: Iterator[tuple[int, np.ndarray]]) -> None:
    import imageio_ffmpeg

    writer = None
    try:
        for _, image in frames:
            if writer is None:
                size = (image.shape[1], image.shape[0])
                writer = imageio_ffmpeg.write_frames(
                    str(path), size, fps=rate, codec="libx264", quality=QUALITY, macro_block_size=2,
                    output_params=["-f", "mp4", "-movflags", "+faststart"],
                )  # fmt: skip
                writer.send(None)
            writer.send(np.ascontiguousarray(image).tobytes())
    finally:
        if writer is not None:
            writer.close()


def _gif(path: Path, rate: float, frames: Iterator[tuple[int, np.ndarray]]) -> None:
    images = [
        Image.fromarray(image).quantize(256, Image.Quantize.MEDIANCUT, dither=Image.Dither.NONE) for _, image in frames
    ]
    images[0].save(path, "GIF", save_all=True, append_images=images[1:], duration=1000.0 / rate, loop=0, optimize=False)
