"""The details of what is selected, for each station."""

import math
from collections.abc import Callable, Sequence
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from artuline.core.scene.model import Scene
from artuline.desk.fields import Choice, NumberField, button, column, faint, folding, narrow, row, rule
from artuline.desk.panels import blend, bodies, cast, joints, results

if TYPE_CHECKING:
    from artuline.desk.window import Window

FILL = {
    "Cast": cast.fill,
    "Bodies": bodies.fill,
    "Joints": joints.fill,
    "Blend": blend.fill,
    "Takes": results.fill_takes,
    "Curves": results.fill_curves,
}


def _words_of(w: QWidget) -> tuple[str, str]:
    return type(w).__name__, w.accessibleName() or (w.text() if isinstance(w, QAbstractButton) else w.objectName())


def _place_of(controls: list[QWidget], focus: QWidget) -> tuple[tuple[str, str], int, int] | None:
    """Which control has the focus: kind and words, which of those that are alike, and its place among all."""
    if focus not in controls:
        return None
    at = controls.index(focus)
    words = _words_of(focus)
    return words, sum(_words_of(w) == words for w in controls[:at]), at


def _again(controls: list[QWidget], known: tuple[tuple[str, str], int, int]) -> QWidget | None:
    """The same control in a panel that was made anew, or the one in its place."""
    words, nth, at = known
    alike = [w for w in controls if _words_of(w) == words]
    if alike:
        return alike[min(nth, len(alike) - 1)]
    return controls[min(at, len(controls) - 1)] if controls else None


class Details(QScrollArea):
    """Rebuilt when the scene, the selection or the station changes; the focus stays where it was."""

    def __init__(self, window: "Window"):
        super().__init__()
        self.window_ = window
        self.session = window.session
        self.station = "Cast"
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.dragging = False
        self._folds: dict[tuple[str, str], bool] = {}
        self._headings: list[tuple[str, str]] = []
        self._layout: QVBoxLayout
        self.session.scene_changed.connect(self.rebuild)
        # while something else is dragged, values follow once it rests
        self._previewed = QTimer(self)
        self._previewed.setSingleShot(True)
        self._previewed.setInterval(200)
        self._previewed.timeout.connect(self.rebuild)
        self.session.previewed.connect(self._previewed.start)
        self.session.selection_changed.connect(self.rebuild)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(150)
        self._later.timeout.connect(self._frame_changed)
        self.session.frame_changed.connect(self._later.start)
        self.rebuild()

    def soon(self) -> None:
        """Make the panel anew once nothing more has come for a moment."""
        self._previewed.start()

    def _frame_changed(self) -> None:
        """Values that are keyed are those of the present frame."""
        if self.station == "Blend" and not self.window_.stage.moving:
            self.rebuild()

    def set_station(self, name: str) -> None:
        """Show another station's details."""
        self.station = name
        self.rebuild()

    def clear(self) -> None:
        """Take everything out, until it is made anew."""
        old = self.takeWidget()
        if old is not None:
            old.deleteLater()
            QApplication.sendPostedEvents(old, QEvent.Type.DeferredDelete)

    def rebuild(self) -> None:
        """Make the panel anew, unless a part of it is being dragged."""
        if self.dragging:
            return
        self._previewed.stop()
        focus = QApplication.focusWidget()
        within = focus is not None and self.isAncestorOf(focus)
        if within and isinstance(focus, NumberField) and not focus.isReadOnly():
            # somebody types: what is typed must not be lost
            self._previewed.start()
            return
        known = _place_of(self._focusable(), focus) if within and focus is not None else None
        scroll = self.verticalScrollBar().value()
        panel = QWidget()
        panel.setObjectName("panel")
        self._layout = column(panel)
        self._headings = []
        title = QLabel(self.station)
        title.setObjectName("title")
        self.add(title)
        figure = self.session.figure()
        if figure is None:
            self.add(faint("Open a skinned figure to begin: a glTF file (.glb or .gltf) with a mesh and its skin."))
            self.add(button("Open a figure…", self.window_.ask_figure, icon="human", primary=True,
                            tip="Adds a skinned figure from a file (Ctrl+I)"))  # fmt: skip
        else:
            FILL[self.station](self, figure)
        self._layout.addStretch(1)
        old = self.takeWidget()
        if old is not None:
            # it may be in the middle of an event
            old.hide()
            old.deleteLater()
        self.setWidget(panel)
        self.verticalScrollBar().setValue(scroll)
        if known is not None:
            # the focus stays on the same control, or where it was
            again = _again(self._focusable(), known)
            (again or self).setFocus(Qt.FocusReason.OtherFocusReason)

    def _focusable(self) -> list[QWidget]:
        """The controls of the panel that can have the focus, in order."""
        panel = self.widget()
        kinds = (QAbstractButton, QLineEdit, QComboBox)
        return [w for w in panel.findChildren(QWidget) if isinstance(w, kinds)] if panel is not None else []

    def fold(self, title: str, words: str = "", opened: bool = False, *, about: str = "") -> bool:
        """A heading that folds what is below it away; ``words``: what is in it. Whether it is open, at first as ``opened``.

        ``about``: the identifier of what it shows, where names may repeat.
        """
        key = self.station, about or title
        now = self._folds.get(key, opened)

        def turn() -> None:
            self._folds[key] = not now
            self.rebuild()

        self._headings.append(key)
        self.add(rule(), folding(title, words, now, turn))
        return now

    def next(self, station: str, words: str) -> None:
        """What comes next in the work, with the button that goes there."""
        self.add(rule(), button(f"Next: {words}", partial(self.window_.set_station, station), icon="arrow-right",
                                tip=f"Goes to {station}"))  # fmt: skip

    def set_fold(self, about: str, opened: bool) -> None:
        """Open or shut what is under a heading of this station, by what it shows, from the next time the panel is made."""
        self._folds[self.station, about] = opened

    def open_all(self) -> None:
        """Unfold everything that is in the present station."""
        for key in self._headings:
            self._folds[key] = True
        self.rebuild()

    def show_bottom(self) -> None:
        """Scroll to the end of the panel, once it is laid out."""
        QTimer.singleShot(0, lambda: self.verticalScrollBar().setValue(self.verticalScrollBar().maximum()))

    def add(self, *widgets: QWidget) -> None:
        """Put widgets below each other."""
        for w in widgets:
            self._layout.addWidget(w)

    def number(
        self, label: str, value: float, unit: str, change: Callable[[Scene, float], Scene], *, words: str,
        step: float = 0.1, decimals: int = 1, low: float = -math.inf, high: float = math.inf,
        reset: float | None = None, tip: str = "",
    ) -> None:  # fmt: skip
        """A number of the document, that drags and types; ``words`` name the edit."""
        field = NumberField(value, unit, step=step, decimals=decimals, low=low, high=high, reset=reset, name=label)
        field.setAccessibleName(label)

        def changed(v: float, final: bool) -> None:
            self.dragging = not final
            if final:
                self.session.edit(words, lambda s: change(s, v))
            else:
                self.session.preview(lambda s: change(s, v))

        field.changed.connect(changed)
        field.refused.connect(partial(self.window_.strip.tell, fault=True))
        self.add(row(label, field, tip=tip))

    def plain_number(
        self, label: str, value: float, unit: str, changed: Callable[[float], object], *, step: float = 0.1, decimals: int = 1,
        low: float = -math.inf, high: float = math.inf, reset: float | None = None, tip: str = "",
    ) -> None:  # fmt: skip
        """A number that is not part of the document."""
        field = NumberField(value, unit, step=step, decimals=decimals, low=low, high=high, reset=reset, name=label)
        field.setAccessibleName(label)
        field.changed.connect(lambda v, final: changed(v))
        field.refused.connect(partial(self.window_.strip.tell, fault=True))
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
