"""The label of all panels."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QLabel, QWidget

from artuline.desk.model.plain import clean, tip

WIDEST_WORD = 200  # pixels


class Label(QLabel):
    """A label of plain text."""

    def __init__(self, text: str = "", parent: QWidget | None = None):
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)

    def setText(self, text: str) -> None:
        """Another text."""
        super().setText(clean(text))

    def minimumSizeHint(self) -> QSize:
        """A word that cannot be broken makes no panel wider."""
        found = super().minimumSizeHint()
        return QSize(min(found.width(), WIDEST_WORD), found.height())

    def setToolTip(self, text: str) -> None:
        """Another tooltip, plain too."""
        super().setToolTip(tip(text))
