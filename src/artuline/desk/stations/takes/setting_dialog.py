"""The dialog with every number of the scene."""

from collections.abc import Iterable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QWidget

from artuline.desk.widgets.dialog import Dialog


class SettingDialog(Dialog):
    """All numbers of a scene by their paths, with what is typed in them first."""

    def __init__(self, parent: QWidget, numbers: Iterable[tuple[str, float]]):
        super().__init__(parent, "Any setting", "Choose", 520)
        self.numbers = [(p, v) for p, v in numbers if not any(word in p for word in (".bones[", "takes["))]
        self.search = QLineEdit()
        self.search.setPlaceholderText("Words of the path, such as forearm drag")
        self.search.textChanged.connect(self._find)
        self.list = QListWidget()
        self.list.setMinimumHeight(320)
        self.list.itemDoubleClicked.connect(lambda _: self.accept())
        self.body.addWidget(self.search)
        self.body.addWidget(self.list)
        self.finish()
        self._find("")

    def _find(self, text: str) -> None:
        words = text.lower().split()
        self.list.clear()
        for path, value in self.numbers:
            if all(w in path.lower() for w in words):
                item = QListWidgetItem(f"{path}    {value:.6g}")
                item.setData(Qt.ItemDataRole.UserRole, path)
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def chosen(self) -> str | None:
        """The path that is chosen."""
        item = self.list.currentItem()
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None else None
