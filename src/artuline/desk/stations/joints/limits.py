"""The dialog with proposed limits, before and after."""

import math

from PySide6.QtWidgets import QCheckBox, QHeaderView, QTableWidget, QTableWidgetItem, QWidget

from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Figure, Joint
from artuline.core.setup.limits import SOURCES, propose_limits, range_text
from artuline.desk.widgets.dialog import Dialog
from artuline.desk.widgets.fields import Choice, NumberField, button, row


class LimitsDialog(Dialog):
    """Ranges of all joints before and after, by source; ticked ones are taken."""

    def __init__(self, parent: QWidget, figure: Figure, motion: Array):
        super().__init__(parent, "Propose limits", "Take the ticked ones", 640)
        self.figure, self.motion = figure, motion
        self.source = Choice()
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
        margin = math.radians(self.margin.value)
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
