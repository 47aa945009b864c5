"""Help: a guide for every station, all shortcuts, and what the program is made of."""

import platform
import sys
from collections.abc import Callable, Sequence
from importlib.metadata import PackageNotFoundError, version
from importlib.resources import files

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QTextBrowser, QWidget

from artuline import __version__
from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.model.actions import Action
from artuline.desk.station import Station
from artuline.desk.widgets.fields import column
from artuline.formats.recovery import state_folder

GESTURES = (
    ("Drag on the empty stage, or right drag", "turn the view"),
    ("Middle drag", "move the view"),
    ("Wheel", "nearer or farther"),
    ("Click on the stage", "select a bone; with Shift, one more"),
    ("Ctrl and drag on the stage", "select all in a frame"),
    ("Drag on a number", "change it; with Shift, finely"),
    ("Click on a number", "type it: 10 cm, 1/2, 2*3, +5 for five more"),
    ("Double click on a number", "its usual value"),
    ("Drag on an empty lane", "hand over to physics on an interval"),
    ("Right click on a lane's point", "take it away"),
    ("Drag on a body in a tryout", "tug it; Shift and click pushes it"),
    ("Arrow keys while steering", "up goes, with Shift runs; left and right turn; down faces the other way"),
)
LIBRARIES = ("PySide6-Essentials", "numpy", "scipy", "numba", "pydantic", "moderngl", "trimesh", "coacd")


class HelpPage(QDialog):
    """A page of text that can be read beside the work."""

    def __init__(self, parent: QWidget, title: str, text: str):
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(560, 620)
        body = column(self, 4)
        self.page = QTextBrowser()
        self.page.setAccessibleName(title)
        self.page.setOpenExternalLinks(False)
        self.page.document().setDefaultFont(theme.font())
        self.page.setMarkdown(text)
        body.addWidget(self.page)
        buttons = QDialogButtonBox()
        buttons.addButton("Close", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.rejected.connect(self.reject)
        body.addWidget(buttons)


def guide(station: Station | type[Station]) -> str:
    """The guide's page for a station, as Markdown; it lies in the station's folder."""
    package = station.__module__.rpartition(".")[0]
    return files(sys.modules[package]).joinpath("guide.md").read_text(encoding="utf-8")


class Help:
    """Pages to read; ``station`` gives the one that is shown."""

    def __init__(self, desk: Desk, station: Callable[[], Station]):
        self.desk, self._station = desk, station
        self.page: HelpPage | None = None

    def actions(self) -> Sequence[Action]:
        """What there is to read."""
        m = "&Help"
        return (
            Action("guide", "Guide to this station", self.show_guide, "F1", "book-open-variant", m,
                   "Says what this station is for, step by step"),
            Action("shortcuts", "All shortcuts", self.show_shortcuts, "Shift+F1", "keyboard-outline", m,
                   "Lists all keys, and what the mouse does"),
            Action("about", "About Artuline", self.show_about, "", "information-outline", m,
                   "Versions, licence, and where things are kept"),
        )  # fmt: skip

    def _page(self, title: str, text: str) -> None:
        page = self.page = HelpPage(self.desk.stage.window(), title, text)
        page.show()

    def show_guide(self) -> None:
        """The guide's page for the present station."""
        self._page(f"Guide: {self._station().name}", guide(self._station()))

    def show_shortcuts(self) -> None:
        """All shortcuts, and what the mouse does."""
        lines = []
        for title, pairs in [*self.desk.actions.sheet(), ("Mouse", list(GESTURES))]:
            lines += [
                f"## {title}",
                "",
                "| | |",
                "|---|---|",
                *(f"| **{keys}** | {words} |" for keys, words in pairs),
                "",
            ]
        self._page("All shortcuts", "\n".join(lines))

    def show_about(self) -> None:
        """Versions, licence, and where things are kept."""
        lines = ["# Artuline", "", "Hand a figure over to physics, get keys back.", "", "| | |", "|---|---|",
                 f"| Artuline | {__version__} |", f"| Python | {platform.python_version()} |"]  # fmt: skip
        for name in LIBRARIES:
            try:
                lines.append(f"| {name} | {version(name)} |")
            except PackageNotFoundError:
                lines.append(f"| {name} | not found |")
        renderer = self.desk.stage.renderer()
        lines.append(f"| Drawing | {renderer.ctx.info['GL_RENDERER'] if renderer is not None else 'none'} |")
        lines += ["", f"Unsaved work and the window's layout are kept in `{state_folder()}`.", "", "MIT licence."]
        self._page("About Artuline", "\n".join(lines))
