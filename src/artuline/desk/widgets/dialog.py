"""What all dialogs have in common."""

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QVBoxLayout, QWidget

from artuline.desk.widgets.fields import column


class Dialog(QDialog):
    """A title, content, and two buttons."""

    def __init__(self, parent: QWidget, title: str, take: str, width: int = 460):
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setObjectName("panel")
        self.setMinimumWidth(width)
        self.body: QVBoxLayout = column(self, 4)
        self._buttons = QDialogButtonBox()
        self.take_button = self._buttons.addButton(take, QDialogButtonBox.ButtonRole.AcceptRole)
        self._buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        self._buttons.accepted.connect(self.accept)
        self._buttons.rejected.connect(self.reject)

    def finish(self) -> None:
        """Put the buttons at the end."""
        self.body.addWidget(self._buttons)
