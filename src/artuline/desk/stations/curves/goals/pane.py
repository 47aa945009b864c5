"""The table below the stage: where the motion of every body goes, and how far it is off."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QToolButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from artuline.core.bake.bake import Baked
from artuline.core.bake.mapping import Way, ways
from artuline.core.scene.limb import Elsewhere
from artuline.core.scene.model import Figure
from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.model.plain import tip as plain_tip
from artuline.desk.stations.curves.goals.commands import LimbCommands
from artuline.desk.widgets.fields import Choice, faint

BONE = Qt.ItemDataRole.UserRole
COLUMNS = ("Body", "Its motion goes onto", "Carried by", "Off", "Why")
WIDTHS = (130, 168, 150, 108)
BAR = ("limbs propose", "limb chosen", "limb away", "limbs keys")
ONTO: dict[str, Elsewhere | None] = {"its bone": None, "the nearest bone above": "above", "nothing": "nothing"}
OVER = "over the error that is set"


class MappingPane(QWidget):
    """Bar and table. ``baked``: the last bake of a figure, or None; ``bounds``: degrees and millimetres."""

    def __init__(self, desk: Desk, commands: LimbCommands, baked: dict[str, Baked], bounds: dict[str, float]):
        super().__init__()
        self.desk, self.commands, self._baked, self._bounds = desk, commands, baked, bounds
        self.setObjectName("panel")
        self.table = QTreeWidget()
        self.table.setColumnCount(len(COLUMNS))
        self.table.setHeaderLabels(list(COLUMNS))
        self.table.setRootIsDecorated(False)
        self.table.setAccessibleName("Where motion goes")
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.table.itemSelectionChanged.connect(self._chosen)
        head = self.table.header()
        for i, width in enumerate(WIDTHS):
            head.resizeSection(i, width)
        head.setSectionResizeMode(len(WIDTHS), QHeaderView.ResizeMode.Stretch)
        head_item = self.table.headerItem()
        head_item.setTextAlignment(3, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.words = faint("")
        self.words.setWordWrap(False)
        self._filling = False
        self._seen: object = None
        desk.session.scene_changed.connect(self.refill)
        desk.session.selection_changed.connect(self._selected)

    def build(self) -> None:
        """Lay out, once all actions are known."""
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 6)
        column.setSpacing(4)
        bar = QHBoxLayout()
        bar.setSpacing(4)
        for id_ in BAR:
            b = QToolButton()
            b.setDefaultAction(self.desk.actions.made[id_])
            b.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            b.setAccessibleName(self.desk.actions.known[id_].words)
            bar.addWidget(b)
        bar.addWidget(self.words, 1)
        column.addLayout(bar)
        column.addWidget(self.table, 1)
        self.refill()

    def refill(self) -> None:
        """Show the present figure's bodies."""
        f = self.desk.session.figure()
        if f is None or not self.commands.shown:
            return
        baked = self._baked.get(f.id)
        seen = (f, baked, tuple(self._bounds.values()))
        if seen == self._seen:
            return
        self._seen = seen
        self._filling = True
        bar = self.table.verticalScrollBar()
        at = bar.value()
        self.table.clear()
        for way in ways(f):
            self._add(f, way, baked)
        bar.setValue(at)
        self._filling = False
        self.words.setText("" if f.bodies else "No bodies yet: fit them first.")
        self._selected()

    def _add(self, f: Figure, way: Way, baked: Baked | None) -> None:
        off = baked.errors.get(way.bone) if baked is not None else None
        over = off is not None and (
            off[0] > self._bounds["degrees"] + 1e-6 or off[1] > self._bounds["millimetres"] + 1e-6
        )
        why = way.why or (OVER if over else "")
        item = QTreeWidgetItem([
            way.body, "", way.curves or "no keys", "" if off is None else f"{off[0]:.2f}° {off[1]:.1f} mm", why,
        ])  # fmt: skip
        item.setData(0, BONE, way.bone)
        item.setTextAlignment(3, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        item.setToolTip(4, plain_tip(why))
        if why:
            item.setForeground(4, theme.color("crimson_text"))
            item.setIcon(4, theme.icon("alert-outline", "crimson"))
        elif way.onto in ("goal", "direction"):
            item.setForeground(2, theme.color("teal_text"))
        self.table.addTopLevelItem(item)
        self.table.setItemWidget(item, 1, self._choice(f, way))

    def _choice(self, f: Figure, way: Way) -> QComboBox:
        box = Choice()
        box.setAccessibleName(f"Onto what {way.body} goes")
        own = {"goal": "the goal of its limb", "direction": "the direction of its limb"}.get(way.onto, "its bone")
        onto = {own if k == "its bone" else k: v for k, v in ONTO.items()}
        box.addItems(list(onto))
        now = dict(f.elsewhere).get(way.bone)
        box.setCurrentText(next(k for k, v in onto.items() if v == now))
        box.textActivated.connect(lambda words: self._put(f.id, way.bone, onto[words]))
        return box

    def _put(self, figure: str, bone: str, onto: Elsewhere | None) -> None:
        """Of the row, or of all that are chosen if it is one of them."""
        rows = {i.data(0, BONE) for i in self.table.selectedItems()}
        self.commands.put(figure, frozenset(rows if bone in rows else {bone}), onto)

    def _chosen(self) -> None:
        f = self.desk.session.figure()
        if self._filling or f is None:
            return
        if not self.table.hasFocus():
            # the keyboard came to the list of another row, which chooses no body
            self._selected()
            return
        bones = frozenset(i.data(0, BONE) for i in self.table.selectedItems())
        self._filling = True
        self.desk.session.select(f.id, bones)
        self._filling = False

    def _selected(self) -> None:
        """Bones were chosen elsewhere: their rows are."""
        if self._filling:
            return
        chosen = self.desk.session.chosen()
        self._filling = True
        for i in range(self.table.topLevelItemCount()):
            item = self.table.topLevelItem(i)
            assert item is not None
            item.setSelected(item.data(0, BONE) in chosen)
            if item.data(0, BONE) in chosen and len(chosen) == 1:
                self.table.scrollToItem(item)
        self._filling = False

    def restyle(self) -> None:
        """The theme is another one."""
        self._seen = None
        self.refill()
