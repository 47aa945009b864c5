"""Starting the window."""

import ctypes
import gc
import locale
import os
import sys
import threading
from contextlib import suppress
from functools import partial
from pathlib import Path

from PySide6.QtCore import QLibraryInfo, QTimer
from PySide6.QtWidgets import QApplication

from artuline.core import kernel_cache
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
from artuline.formats.salvage import salvage_scene
from artuline.formats.scene_file import TooLargeError, load_scene

#: Seconds after which a thread that computes gives way. A job whose kernels let go of the interpreter has to wait as long for every one of them to come back while the
#: checks compute beside it: with the usual 5 ms a bake of 0.2 s took 26.
SWITCH = 2e-4
PATIENCE = 10.0  # s in which a display has to answer


def make_application() -> QApplication:
    """The one application, with fonts and theme."""
    sys.setswitchinterval(SWITCH)
    existing = QApplication.instance()
    app = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    # the toolkit sets the user's locale for all libraries, and some then read and write numbers with a comma
    with suppress(locale.Error):
        locale.setlocale(locale.LC_NUMERIC, "C")
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


def check_display() -> None:
    """Raises ArtulineError where the toolkit would end the program: if the display does not answer, or its plugin is not there."""
    asked = os.environ.get("QT_QPA_PLATFORM", "").partition(":")[0].partition(";")[0]
    plugins = Path(QLibraryInfo.path(QLibraryInfo.LibraryPath.PluginsPath)) / "platforms"
    if asked and not (plugins / f"libq{asked}.so").exists() and not list(plugins.glob(f"libq{asked}-*.so")):
        raise ArtulineError(
            f"QT_QPA_PLATFORM names {asked!r}, which is not installed", remedy="Unset it, or set it to offscreen."
        )
    display = os.environ.get("DISPLAY", "")
    if asked not in ("", "xcb") or not display or (not asked and os.environ.get("WAYLAND_DISPLAY")):
        return
    answers: list[bool] = []

    def ask() -> None:
        try:
            xcb = ctypes.CDLL("libxcb.so.1")
        except OSError:
            answers.append(True)
            return
        xcb.xcb_connect.restype = ctypes.c_void_p
        for f in (xcb.xcb_connection_has_error, xcb.xcb_disconnect):
            f.argtypes = [ctypes.c_void_p]
        connection = xcb.xcb_connect(display.encode(), None)
        answers.append(not xcb.xcb_connection_has_error(connection))
        xcb.xcb_disconnect(connection)

    asking = threading.Thread(target=ask, daemon=True)
    asking.start()
    asking.join(PATIENCE)
    if not (answers and answers[0]):
        raise ArtulineError(
            f"the display {display!r} does not answer",
            remedy="Set DISPLAY to one that does, or use the commands that need no window: artuline --help.",
        )


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
    check_display()
    app = make_application()
    scene, assets, imported, later = None, AssetStore(), None, None
    if path is not None:
        if not path.exists():
            raise ArtulineError("there is no such file", place=str(path), remedy="Check the path.")
        if path.suffix.lower() in suffixes("read_figure"):
            imported = read_figure(path, assets)
        else:
            try:
                scene = load_scene(path, assets)
            except ArtulineError:
                # the window asks about what can be opened otherwise, but not about what is no scene at all
                later = path if _can_be_asked(path) else None
                if later is None:
                    raise
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
    if later is not None:
        QTimer.singleShot(0, window, partial(window.files.open_path, later))
    if kernel_cache.in_temporary:
        window.desk.tell("There is no cache folder to write to: the solver is kept among temporary files.")
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


def _can_be_asked(path: Path) -> bool:
    """Whether a scene that cannot be opened as it is can be opened in part, or when more memory is allowed."""
    try:
        salvage_scene(path)
    except TooLargeError:
        return True
    except ArtulineError:
        return False
    return True


def _save(grabbed, path: Path) -> None:
    if not grabbed.save(str(path), "PNG"):
        raise OSError("the picture cannot be written")
