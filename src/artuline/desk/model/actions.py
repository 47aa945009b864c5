"""Everything that can be done, in one registry: words, shortcuts, tooltips, and the reason why something cannot be done now."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from PySide6.QtCore import QObject
from PySide6.QtGui import QAction, QKeySequence

from artuline.desk.model.plain import tip as plain_tip


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
    """All actions by their ids; menus, buttons and the sheet of shortcuts are made from it."""

    def __init__(self) -> None:
        super().__init__()
        self.known: dict[str, Action] = {}
        self.made: dict[str, QAction] = {}

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
            made = self.made[a.id] = QAction(a.words, self)
            if a.keys:
                made.setShortcut(QKeySequence(a.keys))
            made.setCheckable(a.checked is not None)
            made.triggered.connect(lambda _=False, a=a: self.do(a.id))

    def do(self, id_: str) -> str:
        """Do something if it is possible now. Returns why it is not, empty if it was done."""
        a = self.known[id_]
        reason = a.why_not()
        if not reason:
            a.do()
        self.refresh()
        return reason

    def refresh(self, *_: object) -> None:
        """What can be done now, and why not; what is on."""
        for a in self.known.values():
            made, reason = self.made[a.id], a.why_not()
            made.setEnabled(not reason)
            made.setToolTip(plain_tip(self.tip(a.id) + (f" Not now: {reason}" if reason else "")))
            if a.checked is not None:
                made.setChecked(a.checked())

    def keys(self, id_: str) -> str:
        """The shortcut of an action as the desktop writes it; empty for none."""
        return self.made[id_].shortcut().toString(QKeySequence.SequenceFormat.NativeText)

    def tip(self, id_: str) -> str:
        """What an action does, with its shortcut."""
        tip, keys = self.known[id_].tip, self.keys(id_)
        return f"{tip} ({keys})" if keys else tip

    def sheet(self) -> list[tuple[str, list[tuple[str, str]]]]:
        """All shortcuts by menu: titles with pairs of keys and words."""
        found: dict[str, list[tuple[str, str]]] = {}
        for id_, a in self.known.items():
            if keys := self.keys(id_):
                found.setdefault(a.menu.split("/")[0].replace("&", "") or "Anywhere", []).append(
                    (keys, a.words.rstrip("…"))
                )
        return list(found.items())


def _same(a: str, b: str) -> bool:
    return QKeySequence(a) == QKeySequence(b)
