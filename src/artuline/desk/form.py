"""The form of which details are made: fields of the document, headings that fold, buttons."""

import math
from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtWidgets import QCheckBox, QComboBox, QPushButton, QVBoxLayout, QWidget

from artuline.core.scene.model import Scene
from artuline.desk.desk import Desk
from artuline.desk.widgets.fields import Choice, NumberField, button, column, folding, narrow, row, rule


class Form(QWidget):
    """A column of controls of one station. Filled once; when something changes, another one is made."""

    def __init__(self, desk: Desk, station: str):
        super().__init__()
        self.desk, self.session, self.station = desk, desk.session, station
        self.setObjectName("panel")
        self._column: QVBoxLayout = column(self)
        self.headings: list[tuple[str, str]] = []

    def finish(self) -> None:
        """Put what was added to the top."""
        self._column.addStretch(1)

    def add(self, *widgets: QWidget) -> None:
        """Put widgets below each other."""
        for w in widgets:
            self._column.addWidget(w)

    def fold(self, title: str, words: str = "", opened: bool = False, *, about: str = "") -> bool:
        """A heading that folds what is below it away; ``words``: what is in it. Whether it is open, at first as ``opened``.

        ``about``: the identifier of what it shows, where names may repeat.
        """
        key = self.station, about or title
        now = self.desk.folds.get(key, opened)

        def turn() -> None:
            self.desk.folds[key] = not now
            self.desk.refill.emit(False)

        self.headings.append(key)
        self.add(rule(), folding(title, words, now, turn))
        return now

    def act(self, action: str, words: str = "", *, primary: bool = False, tip: str = "") -> QPushButton:
        """A button that does what an action does."""
        a = self.desk.actions.known[action]
        return button(words or a.words, partial(self.desk.act, action), icon=a.icon, primary=primary,
                      tip=tip or self.desk.actions.tip(action))  # fmt: skip

    def next(self, station: str, words: str) -> None:
        """What comes next in the work, with the button that goes there."""
        self.add(rule(), button(f"Next: {words}", partial(self.desk.go, station), icon="arrow-right",
                                tip=f"Goes to {station}"))  # fmt: skip

    def number(
        self, label: str, value: float, unit: str, change: Callable[[Scene, float], Scene], *, words: str,
        step: float = 0.1, decimals: int = 1, low: float = -math.inf, high: float = math.inf,
        reset: float | None = None, tip: str = "",
    ) -> None:  # fmt: skip
        """A number of the document, that drags and types; ``words`` name the edit."""
        field = NumberField(value, unit, step=step, decimals=decimals, low=low, high=high, reset=reset, name=label)

        def changed(v: float, final: bool) -> None:
            self.desk.dragging = not final
            if final:
                self.session.edit(words, lambda s: change(s, v))
            else:
                self.session.preview(lambda s: change(s, v))

        field.changed.connect(changed)
        field.refused.connect(self.desk.fault)
        self.add(row(label, field, tip=tip))

    def plain_number(
        self, label: str, value: float, unit: str, changed: Callable[[float], object], *, step: float = 0.1, decimals: int = 1,
        low: float = -math.inf, high: float = math.inf, reset: float | None = None, tip: str = "",
    ) -> None:  # fmt: skip
        """A number that is not part of the document."""
        field = NumberField(value, unit, step=step, decimals=decimals, low=low, high=high, reset=reset, name=label)
        field.changed.connect(lambda v, final: changed(v))
        field.refused.connect(self.desk.fault)
        self.add(row(label, field, tip=tip))

    def toggle(self, label: str, on: bool, changed: Callable[[bool], object], tip: str = "") -> None:
        """A check box."""
        box = QCheckBox()
        box.setAccessibleName(label)
        box.setChecked(on)
        box.toggled.connect(changed)
        self.add(row(label, box, tip=tip))

    def choice(
        self, label: str, items: Sequence[str], current: str, chosen: Callable[[str], object], tip: str = ""
    ) -> QComboBox:
        """A list to choose from."""
        box = Choice()
        box.setAccessibleName(label)
        box.addItems(list(items))
        box.setCurrentText(current)
        narrow(box)
        box.textActivated.connect(chosen)
        self.add(row(label, box, tip=tip))
        return box

    def edit(self, words: str, change: Callable[[Scene], Scene]) -> None:
        """An edit of the document."""
        self.session.edit(words, change)
