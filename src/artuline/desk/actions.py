"""Everything that can be done, in one registry: menus, shortcuts, tooltips, and the reason why something cannot be done now."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QAction, QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSlider,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLineEdit,
    QMainWindow,
    QMenu,
    QTextEdit,
    QToolButton,
    QWidget,
)

from artuline.desk import theme

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
)


@dataclass(frozen=True)
class Action:
    """Something that can be done. ``why_not``: why it cannot be done now, empty if it can; ``checked``: whether it is on, for what can be
    switched; ``menu``: where it stands, parts joined by a slash; ``line``: a line above it.
    """

    id: str
    words: str
    do: Callable[[], object]
    keys: str = ""
    icon: str = ""
    menu: str = ""
    tip: str = ""
    why_not: Callable[[], str] = lambda: ""
    checked: Callable[[], bool] | None = None
    line: bool = False


class Actions(QObject):
    """Makes the actions of a window, and lets what has the focus have its keys first."""

    def __init__(self, window: QMainWindow):
        super().__init__(window)
        self._window = window
        self.known: dict[str, Action] = {}
        self.made: dict[str, QAction] = {}
        self._menus: dict[str, QMenu] = {}

    def add(self, actions: Iterable[Action]) -> None:
        """Add actions, in the order in which they stand in their menus. Raises ValueError for one that clashes with another, or says nothing of itself."""
        for a in actions:
            if a.id in self.known:
                raise ValueError(f"there are two actions {a.id!r}")
            if not a.tip:
                raise ValueError(f"the action {a.id!r} has no tooltip")
            clash = next((o.id for o in self.known.values() if a.keys and _same(a.keys, o.keys)), None)
            if clash is not None:
                raise ValueError(f"{a.keys} is for {clash!r} already, and cannot be for {a.id!r}")
            self.known[a.id] = a
            made = self.made[a.id] = QAction(a.words, self._window)
            if a.keys:
                made.setShortcut(QKeySequence(a.keys))
            made.setCheckable(a.checked is not None)
            made.triggered.connect(lambda _=False, a=a: self._do(a))
            if a.menu:
                menu = self.menu(a.menu)
                if a.line:
                    menu.addSeparator()
                menu.addAction(made)
            else:
                self._window.addAction(made)
        self.refresh()

    def _do(self, a: Action) -> None:
        if not a.why_not():
            a.do()
        self.refresh()

    def menu(self, path: str) -> QMenu:
        """The menu of a path, made at first need."""
        if path not in self._menus:
            above, _, words = path.rpartition("/")
            made = self.menu(above).addMenu(words) if above else self._window.menuBar().addMenu(words)
            made.setToolTipsVisible(True)
            made.aboutToShow.connect(self.refresh)
            self._menus[path] = made
        return self._menus[path]

    def refresh(self, *_: object) -> None:
        """What can be done now, and why not; what is on."""
        for a in self.known.values():
            made, reason = self.made[a.id], a.why_not()
            made.setEnabled(not reason)
            made.setToolTip(self.tip(a.id) + (f" Not now: {reason}" if reason else ""))
            if a.checked is not None:
                made.setChecked(a.checked())

    def tip(self, id_: str) -> str:
        """What an action does, with its shortcut."""
        a = self.known[id_]
        keys = self.made[id_].shortcut().toString(QKeySequence.SequenceFormat.NativeText)
        return f"{a.tip} ({keys})" if keys else a.tip

    def restyle(self) -> None:
        """Dress the icons; after a change of theme too."""
        for id_, a in self.known.items():
            if a.icon:
                self.made[id_].setIcon(theme.icon(a.icon))

    def sheet(self) -> list[tuple[str, list[tuple[str, str]]]]:
        """All shortcuts by menu, then what the mouse does: titles with pairs of keys and words."""
        found: dict[str, list[tuple[str, str]]] = {}
        for id_, a in self.known.items():
            keys = self.made[id_].shortcut().toString(QKeySequence.SequenceFormat.NativeText)
            if keys:
                found.setdefault(a.menu.split("/")[0].replace("&", "") or "Anywhere", []).append(
                    (keys, a.words.rstrip("…"))
                )
        return [*found.items(), ("Mouse", list(GESTURES))]


def _same(a: str, b: str) -> bool:
    return QKeySequence(a) == QKeySequence(b)


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
