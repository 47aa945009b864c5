"""Keys that what has the focus has a use of its own for, so that no shortcut takes them."""

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSlider,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLineEdit,
    QTextEdit,
    QToolButton,
    QWidget,
)

_STEPS = {Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Home, Qt.Key.Key_End,
          Qt.Key.Key_PageUp, Qt.Key.Key_PageDown}  # fmt: skip
_PRESS = {Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter}
_EDIT = {Qt.Key.Key_Delete, Qt.Key.Key_Backspace}


def wants(widget: QWidget | None, event: QKeyEvent) -> bool:
    """Whether what has the focus has a use of its own for a key, so that no shortcut of the window may take it."""
    key = Qt.Key(event.key())
    plain = event.modifiers() & ~(Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.KeypadModifier)
    if plain:
        # Ctrl+A and its like in what can be written or listed; all else is the window's
        everything = event.matches(QKeySequence.StandardKey.SelectAll)
        return everything and isinstance(widget, (QLineEdit, QAbstractItemView, QTextEdit))
    typed = bool(event.text()) and event.text().isprintable()
    if isinstance(widget, QLineEdit):
        if widget.isReadOnly():
            return (
                key in (Qt.Key.Key_Up, Qt.Key.Key_Down)
                or key in _PRESS | _EDIT
                or event.text() in tuple("0123456789.,-+*/")
            )
        return typed or key in _STEPS | _PRESS | _EDIT or key == Qt.Key.Key_Escape
    if isinstance(widget, (QAbstractSpinBox, QTextEdit)):
        return typed or key in _STEPS | _PRESS | _EDIT
    if isinstance(widget, QComboBox):
        return key in _STEPS | _PRESS or (typed and not event.text().isspace())
    if isinstance(widget, QAbstractItemView):
        return key in _STEPS | {Qt.Key.Key_Space}
    if isinstance(widget, QAbstractSlider):
        return key in _STEPS
    if isinstance(widget, QAbstractButton):
        return key in _PRESS
    # a widget of our own that is used by keys says which
    return key in getattr(widget, "wanted_keys", ())


class KeysToFocus(QObject):
    """Watches what has the focus: keys that it wants are kept from shortcuts, and Return presses buttons as Space does."""

    def __init__(self, app: QApplication):
        super().__init__(app)
        app.focusChanged.connect(self._follow)

    def _follow(self, old: QWidget | None, new: QWidget | None) -> None:
        # only the focus is watched: a filter on everything would slow every event
        if old is not None:
            old.removeEventFilter(self)
        if new is not None:
            new.removeEventFilter(self)
            new.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        kind = event.type()
        if kind not in (QEvent.Type.ShortcutOverride, QEvent.Type.KeyPress) or not isinstance(watched, QWidget):
            return False
        if not isinstance(event, QKeyEvent):
            return False
        if kind == QEvent.Type.ShortcutOverride:
            if wants(watched, event):
                event.accept()
                return True
            return False
        if (
            event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            and isinstance(watched, QAbstractButton)
            and watched.isEnabled()
        ):
            if isinstance(watched, QToolButton) and watched.menu() is not None:
                watched.showMenu()
            else:
                watched.click()
            return True
        return False
