"""The details of what is selected, for each station."""

from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtWidgets import QAbstractButton, QApplication, QComboBox, QLineEdit, QScrollArea, QWidget

from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.station import Station
from artuline.desk.widgets.fields import NumberField
from artuline.desk.widgets.label import Label


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

    def __init__(self, desk: Desk, station: Station):
        super().__init__()
        self.desk, self.station = desk, station
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        # while something else is dragged, values follow once it rests
        self._previewed = self._timer(200, self.rebuild)
        self._later = self._timer(150, self._frame_changed)
        s = desk.session
        s.scene_changed.connect(self.rebuild)
        s.selection_changed.connect(self.rebuild)
        s.previewed.connect(self._previewed.start)
        s.frame_changed.connect(self._later.start)
        desk.later.ready.connect(self._previewed.start)
        desk.refill.connect(self._refill)
        self.rebuild()

    def _timer(self, interval: int, then) -> QTimer:  # type: ignore[no-untyped-def]
        made = QTimer(self)
        made.setSingleShot(True)
        made.setInterval(interval)
        made.timeout.connect(then)
        return made

    def _frame_changed(self) -> None:
        """Values that are keyed are those of the present frame."""
        if self.station.keyed and not self.desk.stage.playing:
            self.rebuild()

    def _refill(self, bottom: bool) -> None:
        self.rebuild()
        if bottom:
            # once it is laid out
            QTimer.singleShot(0, lambda: self.verticalScrollBar().setValue(self.verticalScrollBar().maximum()))

    def set_station(self, station: Station) -> None:
        """Show another station's details."""
        self.station = station
        self.rebuild()

    def clear(self) -> None:
        """Take everything out, until it is made anew."""
        old = self.takeWidget()
        if old is not None:
            old.deleteLater()
            QApplication.sendPostedEvents(old, QEvent.Type.DeferredDelete)

    def rebuild(self) -> None:
        """Make the panel anew, unless a part of it is being dragged."""
        if self.desk.dragging:
            return
        self._previewed.stop()
        focus = QApplication.focusWidget()
        within = focus is not None and self.isAncestorOf(focus)
        if within and isinstance(focus, NumberField) and not focus.isReadOnly():
            # somebody types: what is typed must not be lost
            self._previewed.start()
            return
        if any(w.isDown() for w in self._focusable() if isinstance(w, QAbstractButton)):
            # between press and release: the click must find what was pressed
            self._previewed.start()
            return
        known = _place_of(self._focusable(), focus) if within and focus is not None else None
        scroll = self.verticalScrollBar().value()
        form = self._filled()
        old = self.takeWidget()
        if old is not None:
            # it may be in the middle of an event
            old.hide()
            old.deleteLater()
        self.setWidget(form)
        self.verticalScrollBar().setValue(scroll)
        if known is not None:
            # the focus stays on the same control, or where it was
            again = _again(self._focusable(), known)
            (again or self).setFocus(Qt.FocusReason.OtherFocusReason)

    def _filled(self) -> Form:
        form = Form(self.desk, self.station.name)
        title = Label(self.station.name)
        title.setObjectName("title")
        form.add(title)
        figure = self.desk.session.figure()
        if figure is None:
            self.station.fill_empty(form)
        else:
            self.station.fill(form, figure)
        form.finish()
        return form

    def _focusable(self) -> list[QWidget]:
        """The controls of the panel that can have the focus, in order."""
        panel = self.widget()
        kinds = (QAbstractButton, QLineEdit, QComboBox)
        return [w for w in panel.findChildren(QWidget) if isinstance(w, kinds)] if panel is not None else []

    def open_all(self) -> None:
        """Unfold everything that is in the present station."""
        form = self.widget()
        if isinstance(form, Form):
            self.desk.folds |= dict.fromkeys(form.headings, True)
        self.rebuild()
