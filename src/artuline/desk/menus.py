"""Menus made of the registry of actions."""

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QMainWindow, QMenu

from artuline.desk import theme
from artuline.desk.model.actions import Actions


class Menus(QObject):
    """Puts every action into its menu, or where it has none onto the window, so that its shortcut works."""

    def __init__(self, window: QMainWindow, actions: Actions):
        super().__init__(window)
        self._window, self._actions = window, actions
        self._menus: dict[str, QMenu] = {}
        for id_, a in actions.known.items():
            if not a.menu:
                window.addAction(actions.made[id_])
                continue
            menu = self.menu(a.menu)
            if a.line:
                menu.addSeparator()
            menu.addAction(actions.made[id_])
        actions.refresh()

    def menu(self, path: str) -> QMenu:
        """The menu of a path, made at first need."""
        if path not in self._menus:
            above, _, words = path.rpartition("/")
            made = self.menu(above).addMenu(words) if above else self._window.menuBar().addMenu(words)
            made.setToolTipsVisible(True)
            made.aboutToShow.connect(self._actions.refresh)
            self._menus[path] = made
        return self._menus[path]

    def restyle(self) -> None:
        """Dress the icons; after a change of theme too."""
        for id_, a in self._actions.known.items():
            if a.icon:
                self._actions.made[id_].setIcon(theme.icon(a.icon))
