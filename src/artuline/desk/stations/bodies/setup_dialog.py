"""The dialog that puts a setup onto a figure."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QFileDialog, QHeaderView, QTableWidget, QTableWidgetItem, QWidget

from artuline.core.scene.model import Figure
from artuline.core.setup.setups import Setup, setup_mapping
from artuline.desk.widgets.dialog import Dialog
from artuline.desk.widgets.fields import Choice, row
from artuline.desk.widgets.label import Label
from artuline.formats.setup_file import READY, ready_setup

NONE = "(left out)"


class SetupDialog(Dialog):
    """A setup, and the table that says which of its bones goes onto which."""

    def __init__(self, parent: QWidget, figure: Figure, load: Callable[[Path], Setup | None]):
        super().__init__(parent, "Put a setup on " + figure.name, "Put it on", 600)
        self.figure, self._load = figure, load
        self._setup: Setup | None = None
        self.choice = Choice()
        self.choice.setAccessibleName("Setup")
        self.choice.addItems([*READY, "From a file…"])
        self.choice.activated.connect(self._chosen)
        self.body.addWidget(row("Setup", self.choice))
        self.note = Label()
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
        made = self._load(Path(name)) if name else None
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
            box = Choice()
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
