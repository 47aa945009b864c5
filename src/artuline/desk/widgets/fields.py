"""Small controls: number fields that drag, rows with a label, sections."""

import math
from collections.abc import Callable

from PySide6.QtCore import QPoint, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QResizeEvent
from PySide6.QtWidgets import (
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from artuline.desk import theme
from artuline.desk.model.amounts import AmountError, parse, shown
from artuline.desk.model.plain import clean, unmarked
from artuline.desk.model.plain import tip as plain_tip
from artuline.desk.widgets.label import WIDEST_WORD, Label

WIDEST = 480  # pixels of an opened list


class NumberField(QLineEdit):
    """A number with a unit: drag sideways, click to type, double click to reset, arrow keys to step.

    ``changed(value, final)``: final is False while dragging. ``refused(words)``: what was typed cannot be, and why; the number stays.
    """

    changed = Signal(float, bool)
    refused = Signal(str)

    def __init__(
        self, value: float, unit: str = "", *, step: float = 0.1, decimals: int = 1, low: float = -math.inf,
        high: float = math.inf, reset: float | None = None, name: str = "",
    ):  # fmt: skip
        super().__init__()
        self.value, self.unit, self.step, self.decimals = float(value), unit, step, decimals
        self.low, self.high, self.reset_value = low, high, reset
        self.setObjectName(name)
        self.setAccessibleName(name)
        self.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.setFixedWidth(96)
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self._press: QPoint | None = None
        self._from = value
        self._dragged = False
        self.editingFinished.connect(self._typed)
        self.setToolTip(self.about())
        self._rest()

    def about(self, tip: str = "") -> str:
        """The tooltip: what it does, its limits, and how it is changed."""
        ends = [f"{shown(v, 0)} {self.unit}".strip() for v in (self.low, self.high)]
        limits = ""
        if math.isfinite(self.low) and math.isfinite(self.high) and self.high < 1e5:
            limits = f"From {ends[0]} to {ends[1]}."
        elif math.isfinite(self.low) and self.low > -1e5:
            limits = f"{ends[0]} or more."
        usual = f"Double click: {shown(self.reset_value, self.decimals)}." if self.reset_value is not None else ""
        return " ".join(x for x in (tip, limits, "Drag, or click and type.", usual) if x)

    def set_value(self, value: float) -> None:
        """Show a value without telling anyone."""
        self.value = float(value)
        self._rest()

    def _rest(self) -> None:
        self.setReadOnly(True)
        self.deselect()
        self.setText(f"{shown(self.value, self.decimals)} {self.unit}".replace(" °", "°").strip())

    def _clamped(self, value: float) -> float:
        return min(max(value, self.low), self.high)

    def _commit(self, value: float, final: bool) -> None:
        value = self._clamped(value)
        if value != self.value or final:
            self.value = value
            self._rest()
            self.changed.emit(value, final)

    def begin_typing(self) -> None:
        """Select the bare number for typing."""
        self.setReadOnly(False)
        self.setText(shown(self.value, self.decimals + 1))
        self.selectAll()

    def _refuse(self, words: str) -> None:
        self._rest()
        self.refused.emit(f"{self.accessibleName() or 'The number'} stays {self.text()}: {words}.")

    def _typed(self) -> None:
        if self.isReadOnly():
            return
        text = self.text()
        if text == shown(self.value, self.decimals + 1):
            self._rest()
            return
        try:
            value = parse(text, self.unit, self.value)
        except AmountError as error:
            self._refuse(str(error))
            return
        if value < self.low - 1e-9 * abs(self.low):
            self._refuse(f"it must be {shown(self.low, self.decimals)} {self.unit}".rstrip() + " or more")
        elif value > self.high + 1e-9 * abs(self.high):
            self._refuse(f"it must be {shown(self.high, self.decimals)} {self.unit}".rstrip() + " at most")
        else:
            self._commit(value, True)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if not self.isReadOnly():
            super().mousePressEvent(event)
            return
        self.setFocus()
        self._press, self._from, self._dragged = event.globalPosition().toPoint(), self.value, False

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._press is None:
            super().mouseMoveEvent(event)
            return
        moved = event.globalPosition().toPoint().x() - self._press.x()
        if abs(moved) > 3:
            self._dragged = True
            fine = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            self._commit(self._from + moved * self.step * fine, False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        pressed, self._press = self._press, None
        if pressed is not None and self._dragged:
            self.changed.emit(self.value, True)
        elif pressed is not None:
            self.begin_typing()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.reset_value is not None:
            self._press = None
            self._commit(self.reset_value, True)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            sign = 1.0 if key == Qt.Key.Key_Up else -1.0
            self._commit(self.value + sign * self.step * 5, True)
        elif key == Qt.Key.Key_Escape and not self.isReadOnly():
            self._rest()
        elif self.isReadOnly() and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.begin_typing()
        elif self.isReadOnly() and key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            if self.reset_value is not None:
                self._commit(self.reset_value, True)
        elif self.isReadOnly() and event.text() and event.text() in "0123456789.,-−+*/":
            self.begin_typing()
            super().keyPressEvent(event)
        elif self.isReadOnly():
            event.ignore()
        else:
            super().keyPressEvent(event)


class Words(Label):
    """A line of text that gives way: what does not fit is left out in the middle, since both ends of a name matter; whole in the tooltip."""

    def __init__(self, text: str):
        self._whole, self._own_tip = "", True
        super().__init__(text)
        self.setMinimumWidth(24)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)

    def text(self) -> str:
        """The whole text."""
        return self._whole

    def setText(self, text: str) -> None:
        """Another text."""
        self._whole = clean(text)
        self.updateGeometry()
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        short = self.fontMetrics().elidedText(self._whole, Qt.TextElideMode.ElideMiddle, self.width())
        if short != QLabel.text(self):
            super().setText(short)
        if self._own_tip:
            super().setToolTip(self._whole if short != self._whole else "")

    def setToolTip(self, tip: str) -> None:
        """Another tooltip than the text that was left out."""
        self._own_tip = not tip
        super().setToolTip(tip)

    def sizeHint(self) -> QSize:
        return QSize(self.fontMetrics().horizontalAdvance(self._whole) + 2, super().sizeHint().height())

    def minimumSizeHint(self) -> QSize:
        return QSize(24, super().minimumSizeHint().height())


def short(text: str, most: int = 26) -> str:
    """A name with its middle left out, if it is long."""
    text = clean(text)
    if len(text) <= most:
        return text
    head = (most - 1) // 2
    return f"{text[:head]}…{text[len(text) - (most - 1 - head) :]}"


def section(text: str) -> QLabel:
    """A small heading."""
    label = Words(text.upper())
    label.setObjectName("section")
    return label


def folding(text: str, words: str, opened: bool, turn: Callable[[], object]) -> QPushButton:
    """A heading that can be clicked open and shut, with a few words on what is in it."""
    made = QPushButton()
    made.setObjectName("fold")
    made.setAccessibleName(text)
    made.setCheckable(True)
    made.setChecked(opened)
    made.setToolTip(plain_tip(f"{'Fold' if opened else 'Unfold'}: {text}" + (f" ({words})" if words else "")))
    line = QHBoxLayout(made)
    line.setContentsMargins(0, 0, 0, 0)
    mark = Label()
    mark.setPixmap(theme.icon("chevron-down" if opened else "chevron-right", "faint").pixmap(16, 16))
    name, about = section(text), Label(words)
    about.setObjectName("small")
    about.setMinimumWidth(10)
    for w in (mark, name):
        line.addWidget(w)
    about.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
    line.addWidget(about, 1)
    about.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
    for w in (mark, name, about):
        w.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
    made.clicked.connect(lambda: turn())
    return made


class Choice(QComboBox):
    """A list to choose from; opened, it is as wide as its words. However long they are, they make no panel wider."""

    def minimumSizeHint(self) -> QSize:
        found = super().minimumSizeHint()
        return QSize(min(found.width(), WIDEST_WORD), found.height())

    def sizeHint(self) -> QSize:
        found = super().sizeHint()
        return QSize(min(found.width(), WIDEST), found.height())

    def showPopup(self) -> None:
        # the popup is made when it is first asked for, which a closed list need not pay for
        self.view().setMinimumWidth(min(self.view().sizeHintForColumn(0) + 24, WIDEST))
        super().showPopup()


def narrow(box: Choice) -> None:
    """Keep a list to choose from from widening its panel."""
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    longest = max((len(box.itemText(i)) for i in range(box.count())), default=0)
    box.setMinimumContentsLength(min(longest, 14))
    box.setToolTip(plain_tip(box.currentText()))


def faint(text: str) -> QLabel:
    """A remark that wraps."""
    label = Label(text)
    label.setObjectName("faint")
    label.setWordWrap(True)
    return label


def rule() -> QFrame:
    """A thin line."""
    line = QFrame()
    line.setObjectName("line")
    return line


def row(label: str, *widgets: QWidget, tip: str = "") -> QWidget:
    """A label on the left, controls on the right."""
    box = QWidget()
    layout = QHBoxLayout(box)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(theme.UNIT)
    text = Words(label)
    layout.addWidget(text, 1)
    for w in widgets:
        layout.addWidget(w)
        if isinstance(w, NumberField):
            w.setToolTip(plain_tip(w.about(tip)))
        elif tip:
            w.setToolTip(plain_tip(tip))
        if label and not w.accessibleName() and not isinstance(w, QPushButton):
            w.setAccessibleName(label)
    if tip:
        text.setToolTip(tip)
    return box


def button(
    text: str,
    action: Callable[[], object],
    *,
    icon: str = "",
    primary: bool = False,
    tip: str = "",
    name: str = "",
) -> QPushButton:
    """A push button."""
    made = QPushButton(unmarked(short(text, 34)))
    made.setMinimumWidth(0)
    if primary:
        made.setObjectName("primary")
    if icon:
        made.setIcon(theme.icon(icon, "raised" if primary else "ink"))
    if short(text, 34) != text:
        tip = f"{text}. {tip}" if tip else text
        made.setAccessibleName(text)
    if tip:
        made.setToolTip(plain_tip(tip))
    if name:
        made.setAccessibleName(name)
    made.clicked.connect(lambda: action())
    return made


def buttons(*made_of: tuple[str, Callable[[], object], str]) -> QWidget:
    """Push buttons side by side, of equal width: words, what they do, tooltip."""
    box = QWidget()
    layout = QHBoxLayout(box)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(theme.UNIT)
    for text, action, tip in made_of:
        made = button(text, action, tip=tip)
        made.setMinimumWidth(0)
        made.setStyleSheet("padding: 0 4px;")
        layout.addWidget(made, 1)
    return box


def column(parent: QWidget, margin: int = 3) -> QVBoxLayout:
    """A vertical layout with the usual spacing."""
    layout = QVBoxLayout(parent)
    layout.setContentsMargins(*(margin * theme.UNIT,) * 4)
    layout.setSpacing(2 * theme.UNIT)
    return layout
