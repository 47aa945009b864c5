"""Dialogs of the setup: balancing masses, taking proposed limits, putting a setup onto a figure."""

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QHeaderView,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Figure, Joint
from artuline.core.setup.limits import SOURCES, propose_limits, range_text
from artuline.core.setup.setups import Setup, setup_mapping
from artuline.desk.fields import NumberField, button, column, faint, row
from artuline.formats.setup_file import READY, ready_setup

if TYPE_CHECKING:
    from artuline.desk.window import Window

NONE = "(left out)"


class _Dialog(QDialog):
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


class BalanceDialog(_Dialog):
    """A total mass to spread."""

    def __init__(self, parent: QWidget, now: float, usual: float, what: str):
        super().__init__(parent, "Balance the masses", "Balance", 380)
        self._field = NumberField(usual or now, "kg", step=0.2, decimals=1, low=0.001, high=1e6, name="Total mass")
        self._field.setAccessibleName("Total mass")
        self.body.addWidget(row("Total mass", self._field))
        if usual > 0.0:
            self.body.addWidget(faint(f"All bodies weigh {now:.1f} kg now; {what} would weigh about {usual:.1f} kg."))
        self.body.addWidget(
            faint(
                "Where the bones name the parts of a person, by published shares of the body's mass (Winter 2009, after "
                "Dempster 1955). Else by volume, with joined bodies no more than eight times apart."
            )
        )
        self.finish()

    def total(self) -> float:
        """The mass chosen, kg."""
        return self._field.value


class LimitsDialog(_Dialog):
    """Ranges of all joints before and after, by source; ticked ones are taken."""

    def __init__(self, parent: QWidget, figure: Figure, motion: Array):
        super().__init__(parent, "Propose limits", "Take the ticked ones", 640)
        self.figure, self.motion = figure, motion
        self.source = QComboBox()
        self.source.setAccessibleName("Source")
        self.source.addItems(["from the clips", "from anatomy", "from both"])
        self.source.setCurrentIndex(2)
        self.margin = NumberField(12.0, "°", step=0.2, decimals=0, low=0, high=90, name="Margin")
        self.body.addWidget(row("Ranges", self.source))
        self.body.addWidget(row("Margin around the clips", self.margin))
        self.table = QTableWidget(len(figure.joints), 4)
        self.table.setHorizontalHeaderLabels(["", "Joint", "Now", "Proposed"])
        self.table.verticalHeader().hide()
        self.table.setSelectionMode(QTableWidget.SelectionMode.NoSelection)
        self.table.setMinimumHeight(330)
        head = self.table.horizontalHeader()
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        for k in (1, 2, 3):
            head.setSectionResizeMode(k, QHeaderView.ResizeMode.Stretch)
        self._ticks: list[QCheckBox] = []
        for i, j in enumerate(figure.joints):
            tick = QCheckBox()
            tick.setChecked(j.kind not in ("fixed", "slide"))
            tick.setEnabled(j.kind not in ("fixed", "slide"))
            self._ticks.append(tick)
            self.table.setCellWidget(i, 0, tick)
            self.table.setItem(i, 1, QTableWidgetItem(f"{j.child} ({j.kind})"))
            self.table.setItem(i, 2, QTableWidgetItem(range_text(j)))
        self.body.addWidget(self.table)
        self.body.addWidget(button("Tick all or none", self._tick_all))
        self.source.activated.connect(lambda _: self._propose())
        self.margin.changed.connect(lambda v, final: self._propose())
        self._made: list[Joint] = []
        self._propose()
        self.finish()

    def _tick_all(self) -> None:
        on = not all(t.isChecked() for t in self._ticks if t.isEnabled())
        for t in self._ticks:
            t.setChecked(on and t.isEnabled())

    def _propose(self) -> None:
        source = SOURCES[self.source.currentIndex()]
        margin = self.margin.value * 3.141592653589793 / 180.0
        self._made = [propose_limits(self.figure, j, self.motion, source, margin) for j in self.figure.joints]
        for i, (new, old) in enumerate(zip(self._made, self.figure.joints)):
            item = QTableWidgetItem(range_text(new))
            font = item.font()
            font.setBold(range_text(new) != range_text(old))
            item.setFont(font)
            self.table.setItem(i, 3, item)

    def taken(self) -> dict[str, Joint]:
        """The proposals that are ticked, by joint id."""
        return {j.id: j for j, t in zip(self._made, self._ticks) if t.isChecked()}


class SetupDialog(_Dialog):
    """A setup, and the table that says which of its bones goes onto which."""

    def __init__(self, window: "Window", figure: Figure):
        super().__init__(window, "Put a setup on " + figure.name, "Put it on", 600)
        self.window_, self.figure = window, figure
        self._setup: Setup | None = None
        self.choice = QComboBox()
        self.choice.setAccessibleName("Setup")
        self.choice.addItems([*READY, "From a file…"])
        self.choice.activated.connect(self._chosen)
        self.body.addWidget(row("Setup", self.choice))
        self.note = QLabel()
        self.note.setObjectName("faint")
        self.note.setWordWrap(True)
        self.body.addWidget(self.note)
        self.table = QTableWidget(0, 3)
        self.table.setHorizontalHeaderLabels(["Setup's bone", f"Bone of {figure.name}", "Why"])
        self.table.verticalHeader().hide()
        self.table.setSelectionMode(QTableWidget.SelectionMode.NoSelection)
        self.table.setMinimumHeight(360)
        for k in range(3):
            self.table.horizontalHeader().setSectionResizeMode(k, QHeaderView.ResizeMode.Stretch)
        self.body.addWidget(self.table)
        self.finish()
        self.use(self._likeliest())

    def _likeliest(self) -> Setup:
        """The ready setup of which most bones are found."""
        setups = [ready_setup(n) for n in READY]
        found = [len(setup_mapping(s, self.figure)) / len(s.bones) for s in setups[:2]]
        best = int(max(range(2), key=lambda i: found[i])) if max(found) > 0.3 else 2
        self.choice.setCurrentIndex(best)
        return setups[best]

    def _chosen(self, index: int) -> None:
        if index < len(READY):
            self.use(ready_setup(READY[index]))
            return
        name, _ = QFileDialog.getOpenFileName(self, "Open a setup", "", "Setups (*.artuset)")
        made = self.window_.load_setup(Path(name)) if name else None
        if made is not None:
            self.use(made)

    def use(self, setup: Setup) -> None:
        """Show a setup and the proposed bones."""
        self._setup = setup
        found = setup_mapping(setup, self.figure)
        bones = [NONE, *(b.name for b in self.figure.bones)]
        self.table.setRowCount(len(setup.bones))
        for i, b in enumerate(setup.bones):
            target, why = found.get(b.name, (NONE, "not found: choose it, or leave it out"))
            name = QTableWidgetItem(b.name)
            name.setFlags(name.flags() & ~Qt.ItemFlag.ItemIsEditable)
            self.table.setItem(i, 0, name)
            box = QComboBox()
            box.addItems(bones)
            box.setCurrentText(target)
            self.table.setCellWidget(i, 1, box)
            self.table.setItem(i, 2, QTableWidgetItem(why))
        self.note.setText(
            f"{len(found)} of {len(setup.bones)} bones found by name, segment or place. Shapes are scaled to the bones they go on; "
            "the figure's present bodies and joints are replaced."
        )

    def setup(self) -> Setup | None:
        """The setup chosen."""
        return self._setup

    def mapping(self) -> dict[str, str]:
        """The bone of the figure for each of the setup's that goes onto one."""
        found = {}
        for i in range(self.table.rowCount()):
            item, box = self.table.item(i, 0), self.table.cellWidget(i, 1)
            if item is not None and isinstance(box, QComboBox) and box.currentText() != NONE:
                found[item.text()] = box.currentText()
        return found


class SettingDialog(_Dialog):
    """All numbers of a scene by their paths, with what is typed in them first."""

    def __init__(self, parent: QWidget, numbers: Iterable[tuple[str, float]]):
        super().__init__(parent, "Any setting", "Choose", 520)
        self.numbers = [(p, v) for p, v in numbers if not any(word in p for word in (".bones[", "takes["))]
        self.search = QLineEdit()
        self.search.setPlaceholderText("Words of the path, such as forearm drag")
        self.search.textChanged.connect(self._find)
        self.list = QListWidget()
        self.list.setMinimumHeight(320)
        self.list.itemDoubleClicked.connect(lambda _: self.accept())
        self.body.addWidget(self.search)
        self.body.addWidget(self.list)
        self.finish()
        self._find("")

    def _find(self, text: str) -> None:
        words = text.lower().split()
        self.list.clear()
        for path, value in self.numbers:
            if all(w in path.lower() for w in words):
                item = QListWidgetItem(f"{path}    {value:.6g}")
                item.setData(Qt.ItemDataRole.UserRole, path)
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def chosen(self) -> str | None:
        """The path that is chosen."""
        item = self.list.currentItem()
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None else None
