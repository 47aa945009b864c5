"""The dialog with work that was left behind when the program ended badly."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QListWidget, QListWidgetItem, QPushButton, QWidget

from artuline.desk.model.plain import tip as plain_tip
from artuline.desk.widgets.fields import column, faint
from artuline.formats import recovery

PICTURE = QSize(120, 75)


class RecoverDialog(QDialog):
    """A list with pictures, names and times; one is opened, or dropped for good."""

    def __init__(self, parent: QWidget, found: list[recovery.Left]):
        super().__init__(parent)
        self.found = found
        self.setWindowTitle("Recover unsaved work")
        self.setObjectName("panel")
        self.setMinimumWidth(460)
        body = column(self, 4)
        body.addWidget(faint("Kept by windows that did not end properly. What is opened has to be saved."))
        self.list = QListWidget()
        self.list.setAccessibleName("Unsaved work")
        self.list.setIconSize(PICTURE)
        self.list.itemDoubleClicked.connect(lambda _: self.accept())
        for left in found:
            item = QListWidgetItem(left.words)
            item.setToolTip(plain_tip(left.source or "It was never saved."))
            pixels = QPixmap()
            if left.picture is not None and pixels.loadFromData(left.picture):
                item.setIcon(QIcon(pixels.scaled(PICTURE, Qt.AspectRatioMode.KeepAspectRatio)))
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        body.addWidget(self.list)
        self.drop_button = QPushButton("Drop it for good")
        self.drop_button.setToolTip("Removes the chosen work from the disk.")
        self.drop_button.clicked.connect(self._drop)
        buttons = QDialogButtonBox()
        buttons.addButton("Open", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.addButton(self.drop_button, QDialogButtonBox.ButtonRole.ActionRole)
        buttons.addButton("Later", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        body.addWidget(buttons)

    def chosen(self) -> recovery.Left | None:
        """The work that is chosen."""
        row = self.list.currentRow()
        return self.found[row] if 0 <= row < len(self.found) else None

    def _drop(self) -> None:
        left = self.chosen()
        if left is not None:
            recovery.remove(left.file)
            self.found.remove(left)
            self.list.takeItem(self.list.currentRow())
        if not self.found:
            self.reject()
