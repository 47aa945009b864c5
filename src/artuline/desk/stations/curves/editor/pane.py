"""The pane below the stage: which curves, their keys, and what can be done to them."""

from functools import partial

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QToolButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.model.plain import tip as plain_tip
from artuline.desk.stations.curves.editor.canvas import Canvas
from artuline.desk.stations.curves.editor.commands import KeyCommands
from artuline.desk.stations.curves.editor.editing import AXES, SLOTS, Editing
from artuline.desk.stations.curves.editor.sources import PATHS, Source, words_of
from artuline.desk.widgets.fields import Choice, NumberField, faint

WORDS = "vermilion_text", "teal_text", "brass_text", "ink"  # the colours of what is drawn so
NAME = Qt.ItemDataRole.UserRole
BAR = (
    "keys insert", "keys delete", "", "keys smooth", "keys flat", "keys linear", "keys stepped", "keys joined", "",
    "keys smoothen", "keys thin",
)  # fmt: skip


class Pane(QWidget):
    """Tree, bar and canvas."""

    def __init__(self, desk: Desk, editing: Editing):
        super().__init__()
        self.desk, self.editing = desk, editing
        self.setObjectName("panel")
        self.canvas = Canvas(editing)
        self.commands = KeyCommands(desk, editing, self.canvas.insert)
        self.tree = QTreeWidget()
        self.tree.setHeaderHidden(True)
        self.tree.setAccessibleName("Curves")
        self.tree.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.tree.setIndentation(12)
        self.tree.itemSelectionChanged.connect(self._chosen)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a curve")
        self.search.setAccessibleName("Find a curve")
        self.search.setToolTip("Shows only the curves whose name has these words")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._filter)
        self.what = Choice()
        self.what.setAccessibleName("What is edited")
        self.what.setToolTip("Which keys are edited: of a layer, of the clip, or of the lanes and the place")
        self.what.activated.connect(self._choose_source)
        self._names: list[object] = []
        self._filling = False
        self._seen: tuple[str, str] | None = None
        self.buttons: dict[str, QToolButton] = {}
        self.canvas.frame_wanted.connect(desk.session.set_frame)
        self.canvas.menu_wanted.connect(self._menu)
        editing.changed.connect(self._refill)
        editing.picked_changed.connect(self._fields)
        editing.changed.connect(self._fields)
        desk.session.selection_changed.connect(self._selected)

    def build(self) -> None:
        """Lay out, once all actions are known."""
        left = QWidget()
        left.setFixedWidth(158)
        column = QVBoxLayout(left)
        column.setContentsMargins(8, 6, 0, 6)
        column.setSpacing(4)
        column.addWidget(self.what)
        column.addWidget(self.search)
        column.addWidget(self.tree, 1)
        self.count = faint("")
        self.count.setWordWrap(False)
        column.addWidget(self.count)
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(4, 4, 8, 4)
        column.setSpacing(2)
        column.addWidget(self._bar())
        column.addWidget(self.canvas, 1)
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(4)
        line.addWidget(left)
        line.addWidget(right, 1)
        self.restyle()
        self._refill()
        self._fields()

    def _bar(self) -> QWidget:
        bar = QWidget()
        line = QHBoxLayout(bar)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(2)
        self.mode = QToolButton()
        self.mode.setText("Times")
        self.mode.setCheckable(True)
        self.mode.setToolTip("Shows the keys as times only, a row for every curve, to move and scale them")
        self.mode.toggled.connect(self._set_mode)
        line.addWidget(self.mode)
        for id_ in BAR:
            if not id_:
                line.addSpacing(6)
                continue
            b = QToolButton()
            b.setDefaultAction(self.desk.actions.made[id_])
            b.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonIconOnly)
            b.setAccessibleName(self.desk.actions.known[id_].words)
            line.addWidget(b)
            self.buttons[id_] = b
        self.fit = QToolButton()
        self.fit.setToolTip("Shows the picked keys, or all curves (Home in the curves: all)")
        self.fit.setAccessibleName("Show all")
        self.fit.clicked.connect(lambda: self.canvas.frame_all(picked=bool(self.editing.picked)))
        line.addWidget(self.fit)
        line.addStretch(1)
        self.frame = NumberField(0.0, "", step=0.1, decimals=0, name="Frame of the keys")
        self.value = NumberField(0.0, "", step=0.1, decimals=2, name="Value of the keys")
        for box, wide, tip, do in (
            (self.frame, 52, "Frame of the first picked key: the others go along", self.commands.set_frame),
            (self.value, 74, "Value of the picked keys: their middle", self.commands.set_value),
        ):
            box.setFixedWidth(wide)
            box.setToolTip(box.about(tip + "."))
            box.changed.connect(lambda v, final, do=do: do(v) if final else None)
            box.refused.connect(self.desk.fault)
            line.addWidget(box)
        return bar

    def restyle(self) -> None:
        """Icons and colours of the theme."""
        self.mode.setIcon(theme.icon("dots-grid"))
        self.fit.setIcon(theme.icon("fit-to-page-outline"))
        self.canvas.restyle()
        self._refill()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._seen = None
        self._refill()

    # the tree

    def _refill(self) -> None:
        f, source = self.editing.figure(), self.editing.source()
        self._fill_sources(source)
        names = list(self.editing.channels())
        labels = [words_of(n, f) for n in names]
        if [source, names, labels] != self._names:
            self._names = [source, names, labels]
            self._filling = True
            self.tree.clear()
            for (bone, path), label in zip(names, labels):
                words = PATHS[path].words
                top = QTreeWidgetItem([label])
                top.setToolTip(0, plain_tip(label))
                top.setData(0, NAME, (bone, path, -1))
                if path in SLOTS:
                    top.setForeground(0, theme.color(WORDS[SLOTS[path]]))
                for a, axis in enumerate(AXES if self.editing.width((bone, path)) == 3 else ()):
                    child = QTreeWidgetItem([f"{axis} {words}"])
                    child.setData(0, NAME, (bone, path, a))
                    child.setForeground(0, theme.color(WORDS[a]))
                    top.addChild(child)
                self.tree.addTopLevelItem(top)
            self._filling = False
            self._filter(self.search.text())
        seen = (source.figure, source.id) if source is not None else None
        if seen != self._seen and self.isVisible():
            self._seen = seen
            self.canvas.redraw()
            self.canvas.frame_all()

    def _fill_sources(self, source: Source | None) -> None:
        sources = self.editing.sources()
        if self.desk.session.obstacle() is not None:
            sources = [x for x in sources if x[1] == source]
        if [(self.what.itemText(i), self.what.itemData(i)) for i in range(self.what.count())] != [
            (w, x.id) for w, x in sources
        ]:
            self.what.clear()
            for words, x in sources:
                self.what.addItem(words, x.id)
        at = next((i for i, (_, x) in enumerate(sources) if x == source), -1)
        self.what.setCurrentIndex(at)

    def _choose_source(self, row: int) -> None:
        self.editing.set_source(self.what.itemData(row))
        self.canvas.frame_all()

    def _filter(self, text: str) -> None:
        words = text.lower().split()
        for i in range(self.tree.topLevelItemCount()):
            item = self.tree.topLevelItem(i)
            assert item is not None
            item.setHidden(not all(w in item.text(0).lower() for w in words))

    def _chosen(self) -> None:
        if self._filling:
            return
        found = set()
        for item in self.tree.selectedItems():
            bone, path, axis = item.data(0, NAME)
            found |= {(bone, path, a) for a in (range(self.editing.width((bone, path))) if axis < 0 else (axis,))}
        self.editing.chosen = frozenset(found)
        self.editing.pick({n: p for n, p in self.editing.picked.items() if n in self.editing.shown()})
        self.editing.changed.emit()
        self.canvas.frame_all()

    def _selected(self) -> None:
        """Bones were chosen elsewhere: their curves are shown."""
        if self.editing.chosen:
            self._filling = True
            self.tree.clearSelection()
            self._filling = False
            self.editing.chosen = frozenset()
        self.editing.changed.emit()
        if self.isVisible():
            self.canvas.frame_all()

    # the bar

    def _set_mode(self, times: bool) -> None:
        self.canvas.times_only = times
        self.canvas.redraw()
        self.canvas.frame_all()

    def _fields(self) -> None:
        if not hasattr(self, "frame"):
            return
        span, count = self.editing.span(), self.editing.count()
        for box in (self.frame, self.value):
            box.setEnabled(span is not None)
        if span is not None:
            self.frame.set_value(round(span[0], 2))
            self.value.set_value(0.5 * (span[2] + span[3]))
        self.count.setText(f"{count} picked" if count else "Drag a box around keys")
        self.desk.actions.refresh()

    def _menu(self, at: QPointF) -> None:
        menu = QMenu(self)
        for id_, action in self.desk.actions.made.items():
            if id_.startswith("keys "):
                if self.desk.actions.known[id_].line:
                    menu.addSeparator()
                menu.addAction(action)
        menu.popup(at.toPoint())
        self._open = partial(menu.deleteLater)
