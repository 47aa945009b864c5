"""Starting the window."""

import os
import sys
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from artuline.core.errors import ArtulineError
from artuline.core.scene.assets import AssetStore
from artuline.demo.scenes import demo_scene
from artuline.desk import theme
from artuline.desk.window import Window
from artuline.formats.files import write_whole


def make_application() -> QApplication:
    """The one application, with fonts and theme."""
    existing = QApplication.instance()
    app = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("artuline")
    app.setApplicationDisplayName("Artuline")
    theme.load_fonts()
    theme.apply(app)
    return app


def start(path: Path | None = None, demo: str | None = None, picture: Path | None = None) -> int:
    """Open the window; with ``picture`` save its first picture there and close. Returns the exit code.

    Raises ArtulineError if the file cannot be opened.
    """
    if not any(os.environ.get(n) for n in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        if picture is None:
            raise ArtulineError(
                "there is no display to open a window on",
                remedy="Set DISPLAY, or use the commands that need no window: artuline --help.",
            )
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
    app = make_application()
    window = Window()
    if path is not None:
        if not path.exists():
            raise ArtulineError("there is no such file", place=str(path), remedy="Check the path.")
        if path.suffix.lower() in (".glb", ".gltf"):
            window.open_path(path)
        else:
            window.session.open(path)
            window.set_station("Takes" if window.session.scene.take else "Blend")
            window.stage.frame_selection()
    elif demo is not None:
        assets = AssetStore()
        window.session.new(demo_scene(demo, assets), assets)
        window.set_station("Blend")
        window.stage.frame_selection()
    window.show()
    window.stage.setFocus()
    if picture is None:
        return app.exec()
    failed: list[ArtulineError] = []

    def save() -> None:
        grabbed = window.grab()
        try:
            write_whole(picture, lambda p: _save(grabbed, p))
        except ArtulineError as error:
            failed.append(error)
        app.quit()

    QTimer.singleShot(400, save)
    app.exec()
    if failed:
        raise failed[0]
    return 0


def _save(grabbed, path: Path) -> None:
    if not grabbed.save(str(path), "PNG"):
        raise OSError("the picture cannot be written")
