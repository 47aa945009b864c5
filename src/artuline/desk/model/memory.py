"""What the window remembers from one start to the next: its layout, recent files and last folders."""

from pathlib import Path

from PySide6.QtCore import QByteArray, QSettings

from artuline.formats.recovery import state_folder

MOST_RECENT = 8


class Memory:
    """A file of settings in the user's state folder; what cannot be read or written is forgotten without a word."""

    def __init__(self) -> None:
        self._kept = QSettings(str(state_folder() / "window.ini"), QSettings.Format.IniFormat)

    def layout(self, name: str) -> QByteArray | None:
        """The layout of a part of the window, as it was given."""
        found = self._kept.value(f"layout/{name}")
        return found if isinstance(found, QByteArray) else None

    def keep_layout(self, name: str, state: QByteArray) -> None:
        """Remember a layout."""
        self._kept.setValue(f"layout/{name}", state)

    def choice(self, name: str, otherwise: str) -> str:
        """A choice of the user's, such as the theme."""
        found = self._kept.value(f"choice/{name}", otherwise)
        return found if isinstance(found, str) else otherwise

    def keep_choice(self, name: str, value: str) -> None:
        """Remember a choice."""
        self._kept.setValue(f"choice/{name}", value)

    def folder(self, kind: str) -> str:
        """The folder in which files of a kind were chosen last; empty if it is gone."""
        found = self._kept.value(f"folder/{kind}", "")
        return found if isinstance(found, str) and Path(found).is_dir() else ""

    def recent(self) -> list[Path]:
        """Files that were opened or saved, the latest first; those that are still there."""
        found = self._kept.value("recent", [])
        kept = found if isinstance(found, list) else [found]
        names = [x for x in kept if isinstance(x, str) and x]
        return [Path(n) for n in names if Path(n).is_file()]

    def keep_file(self, kind: str, path: Path, recent: bool = True) -> None:
        """Remember a file that was chosen, and its folder."""
        path = path.absolute()
        self._kept.setValue(f"folder/{kind}", str(path.parent))
        if recent:
            others = [str(p) for p in self.recent() if p != path]
            self._kept.setValue("recent", [str(path), *others][:MOST_RECENT])
