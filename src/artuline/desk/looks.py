"""What the stage shows: tables of it, the actions that change it, and the bar above the stage."""

from collections.abc import Sequence
from dataclasses import replace
from functools import partial

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QMenu, QToolButton, QWidget

from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.model.actions import Action
from artuline.desk.widgets.label import Label
from artuline.view.stage import Show

#: Groups of what the stage shows, by the question that they answer: icon and tooltip.
SHOWS = {
    "Skin": ("human", "How the figures' skin is drawn"),
    "Bodies": ("shape-outline", "Shapes, and what their colours say"),
    "Skeleton": ("bone", "Bones, joint limits, pairs on both sides, the rest pose"),
    "Around": ("grid", "Ground, forces, a person to compare with, the echo"),
}
#: What can be shown: group, icon, words, tooltip, keys.
FIELDS = {
    "figure": ("Skin", "human", "Figure", "Draws the figures' skin", "Shift+F"),
    "see_through": ("Skin", "circle-opacity", "See-through skin", "Makes the skin see-through, so that shapes and bones show", "X"),
    "wire": ("Skin", "web", "Skin as its edges", "Draws the edges of the skin only", "W"),
    "shapes": ("Bodies", "shape-outline", "Collision shapes", "Draws the collision shapes", "S"),
    "isolate": ("Bodies", "select-search", "Only what is selected", "Of the shapes, draws only those that are selected", "I"),
    "fit": ("Bodies", "ruler", "Colour by fit", "Colours the shapes by how they follow the skin", "Shift+S"),
    "mass": ("Bodies", "weight", "Colour by mass", "Colours the shapes by their mass, and marks the centre of mass", "Shift+M"),
    "bones": ("Skeleton", "bone", "Bones", "Draws lines from bone to bone", "B"),
    "limits": ("Skeleton", "angle-acute", "Joint limits", "Draws the range of every joint", "L"),
    "mirror": ("Skeleton", "reflect-horizontal", "Pairs on both sides", "Joins the bones that are each other's mirror image", "M"),
    "rest": ("Skeleton", "human-handsup", "Rest pose", "Shows the figures in their rest pose", "Shift+R"),
    "ground": ("Around", "grid", "Ground", "Draws the ground with a grid of whole metres", "G"),
    "forces": ("Around", "arrow-down-bold-outline", "Forces", "Draws gravity, pushes and the speed of obstacles as arrows", "Shift+G"),
    "person": ("Around", "human-male-height", "A person of 1.75 m", "Draws a person's outline to compare with", "H"),
    "echo": ("Around", "vector-difference", "Echo", "Draws the keys, or another take, see-through beside the take", "E"),
}  # fmt: skip


class Looks(QObject):
    """What is shown now, and what the present station usually shows."""

    changed = Signal()

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk = desk
        self.usual = Show()

    @property
    def show(self) -> Show:
        """What is shown."""
        return self.desk.stage.show_

    def set_usual(self, show: Show) -> None:
        """Another station, which usually shows this: show it."""
        self.usual = show
        self._put(show)

    def _put(self, show: Show) -> None:
        self.desk.stage.set_show(show)
        self.changed.emit()
        self.desk.actions.refresh()

    def toggle(self, field: str) -> None:
        """Show something on the stage, or do not; of the colours one at a time."""
        values = {field: not getattr(self.show, field)}
        other = {"mass": "fit", "fit": "mass"}.get(field)
        if other is not None and values[field]:
            values |= {other: False, "shapes": True}
        self._put(replace(self.show, **values))

    def as_usual(self) -> None:
        """Show what the station usually shows."""
        self._put(self.usual)

    def differs(self, group: str) -> bool:
        """Whether something of a group is not as usual."""
        fields = [f for f, (g, *_) in FIELDS.items() if g == group]
        return any(getattr(self.show, f) != getattr(self.usual, f) for f in fields)

    def actions(self) -> Sequence[Action]:
        """A switch for everything that can be shown."""
        m = "&View"

        def shown(field: str) -> bool:
            return bool(getattr(self.show, field))

        switches = [
            Action(f"show {field}", words, partial(self.toggle, field), keys, icon, f"{m}/{group}", tip, checked=partial(shown, field))
            for field, (group, icon, words, tip, keys) in FIELDS.items()
        ]  # fmt: skip
        return (
            *switches,
            Action("as usual", "As usual here", self.as_usual, "Ctrl+0", "", m, "Shows what this station usually shows", line=True),
            Action("frame", "Frame the selection", self.desk.stage.frame_selection, "F", "fit-to-page-outline", m,
                   "Fills the view with what is selected"),
        )  # fmt: skip


class ShowBar(QWidget):
    """A button with words for every group; it opens the same switches as the menu View."""

    def __init__(self, looks: Looks):
        super().__init__()
        self._looks = looks
        self.setObjectName("bar")
        self.setFixedHeight(34)
        line = QHBoxLayout(self)
        line.setContentsMargins(8, 2, 8, 2)
        line.setSpacing(2)
        self.buttons: dict[str, QToolButton] = {}
        for words, (_, tip) in SHOWS.items():
            b = QToolButton()
            b.setText(words)
            b.setToolTip(tip)
            b.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            b.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
            b.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            line.addWidget(b)
            self.buttons[words] = b
        line.addStretch(1)
        hint = Label("Drag to turn the view")
        hint.setObjectName("small")
        hint.setMinimumWidth(0)
        line.addWidget(hint)
        looks.changed.connect(self._mark)

    def set_menus(self, of: dict[str, Sequence[QAction]]) -> None:
        """Give the buttons their switches, by group."""
        for words, b in self.buttons.items():
            menu = QMenu(b)
            menu.setToolTipsVisible(True)
            menu.addActions(list(of[words]))
            menu.aboutToShow.connect(self._looks.desk.actions.refresh)
            b.setMenu(menu)

    def _mark(self) -> None:
        """What is not as usual here is marked, so that nobody looks for it long."""
        for words, b in self.buttons.items():
            b.setText(f"{words} •" if self._looks.differs(words) else words)

    def restyle(self) -> None:
        """Dress the icons; after a change of theme too."""
        for words, b in self.buttons.items():
            b.setIcon(theme.icon(SHOWS[words][0]))
