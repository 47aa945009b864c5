"""The window's help: a guide for every station, all shortcuts, and what it is made of."""

import platform
from importlib.metadata import PackageNotFoundError, version
from importlib.resources import files
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QTextBrowser, QWidget

from artuline import __version__
from artuline.desk import theme
from artuline.desk.fields import column
from artuline.formats.recovery import state_folder

if TYPE_CHECKING:
    from artuline.desk.actions import Actions
    from artuline.desk.stage import Stage

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


def guide(station: str) -> str:
    """The guide's page for a station, as Markdown."""
    return files("artuline.desk").joinpath("guide", f"{station.lower()}.md").read_text(encoding="utf-8")


class HelpCommands:
    """Mixed into the window, whose parts it uses."""

    stage: "Stage"
    actions_: "Actions"
    help_page: HelpPage | None = None

    def _page(self, title: str, text: str) -> None:
        page = self.help_page = HelpPage(self.stage.window(), title, text)
        page.show()

    def show_guide(self) -> None:
        """The guide's page for the present station."""
        self._page(f"Guide: {self.stage.station}", guide(self.stage.station))

    def show_shortcuts(self) -> None:
        """All shortcuts, and what the mouse does."""
        lines = []
        for title, pairs in self.actions_.sheet():
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
        renderer = self.stage.renderer()
        lines.append(f"| Drawing | {renderer.ctx.info['GL_RENDERER'] if renderer is not None else 'none'} |")
        lines += ["", f"Unsaved work and the window's layout are kept in `{state_folder()}`.", "", "MIT licence."]
        self._page("About Artuline", "\n".join(lines))
