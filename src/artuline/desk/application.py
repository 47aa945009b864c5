"""Starting the window."""

import gc
import os
import sys
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from artuline.core.errors import ArtulineError
from artuline.core.run.prepare import kernels_ready
from artuline.core.scene.assets import AssetStore
from artuline.demo.scenes import demo_scene
from artuline.desk import theme
from artuline.desk.model.garbage import Garbage
from artuline.desk.widgets.keys import KeysToFocus
from artuline.desk.window import Window
from artuline.formats.all import read_figure, suffixes
from artuline.formats.files import write_whole
from artuline.formats.recovery import left_behind
from artuline.formats.scene_file import load_scene

#: Seconds after which a thread that computes gives way. A job whose kernels let go of the interpreter has to wait as long for every one of them to come back while the
#: checks compute beside it: with the usual 5 ms a bake of 0.2 s took 26.
SWITCH = 2e-4


def make_application() -> QApplication:
    """The one application, with fonts and theme."""
    sys.setswitchinterval(SWITCH)
    existing = QApplication.instance()
    app = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("artuline")
    app.setApplicationDisplayName("Artuline")
    app.setDesktopFileName("artuline")
    app.setWindowIcon(theme.application_icon())
    theme.load_fonts()
    theme.apply(app)
    if app.property("keys") is None:
        app.setProperty("keys", KeysToFocus(app))
        # what is there by now stays until the end, and is not looked through again
        gc.freeze()
        Garbage(app)
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
    scene, assets, imported = None, AssetStore(), None
    if path is not None:
        if not path.exists():
            raise ArtulineError("there is no such file", place=str(path), remedy="Check the path.")
        if path.suffix.lower() in suffixes("read_figure"):
            imported = read_figure(path, assets)
        else:
            scene = load_scene(path, assets)
    elif demo is not None:
        scene = demo_scene(demo, assets)
    # what another window left behind is offered before anything is kept here
    left = left_behind()
    window = Window()
    if scene is not None:
        window.files.show_document(scene, assets, path)
    elif imported is not None:
        window.session.assets.take_over(assets)
        window.files.add_imported(imported)
    window.show()
    window.stage.setFocus()
    if not kernels_ready():
        window.desk.prepare_solver()
    if left and (scene is not None or imported is not None):
        count = "Unsaved work was" if len(left) == 1 else f"Unsaved work of {len(left)} windows was"
        window.desk.tell(f"{count} left behind: {left[0].words}. Scene › Recover unsaved work opens it.")
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
