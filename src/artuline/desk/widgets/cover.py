"""A widget that lies over all of another one."""

from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QWidget


class Cover(QWidget):
    """Has the size of its parent, always."""

    def __init__(self, parent: QWidget):
        super().__init__(parent)
        parent.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.parent() and event.type() in (QEvent.Type.Resize, QEvent.Type.Show):
            self.place()
        return False

    def place(self) -> None:
        """Lie over the parent."""
        parent = self.parentWidget()
        if parent is not None:
            self.setGeometry(parent.rect())
