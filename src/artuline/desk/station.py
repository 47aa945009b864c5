"""What a station is: a panel, actions, tools on the stage, rows of the timeline, and what it marks."""

from collections.abc import Callable, Sequence
from typing import ClassVar

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtWidgets import QWidget

from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.stage.tools import Tool, View
from artuline.desk.timeline.rows import Row
from artuline.desk.widgets.fields import faint
from artuline.view.stage import FigureState, Marks, Show


class Station:
    """A step of the work. It reaches all else through the desk, and other stations only by their actions.

    ``show``: what its stage usually shows. ``dots``: whether every bone
    has a dot to click. ``compares``: whether the take may be seen beside another. ``keyed``: whether its details show values that change
    from frame to frame.
    """

    name: ClassVar[str]
    icon: ClassVar[str]
    tip: ClassVar[str]
    show: ClassVar[Show] = Show()
    dots: ClassVar[bool] = False
    compares: ClassVar[bool] = False
    keyed: ClassVar[bool] = False

    def __init__(self, desk: Desk):
        self.desk = desk

    @property
    def source(self) -> str:
        """What moves the figures on the stage: "keys", "take" or "layers"."""
        return "keys"

    def fill(self, form: Form, figure: Figure) -> None:
        """Fill the details, about the present figure."""

    def fill_empty(self, form: Form) -> None:
        """Fill the details while there is no figure."""
        form.add(faint("Open a figure to begin: glTF or USD with a mesh and its skin, or BVH."))
        form.add(form.act("figure", "Open a figure…", primary=True))

    def choose(self, box: QRectF, view: View) -> bool:
        """Take a frame that was drawn on the stage. False to let it choose bones."""
        return False

    def clicked(self, at: QPointF, view: View, hit: tuple[str, str, Array] | None) -> bool:
        """Take a click on the stage: on a figure and bone at a place (3,), or on nothing. False to let it choose."""
        return False

    def actions(self) -> Sequence[Action]:
        """What can be done here, in the order of the menus."""
        return ()

    def tools(self) -> Sequence[Tool]:
        """What can be held on the stage, the first before the others."""
        return ()

    def rows(self) -> Sequence[Row]:
        """Its rows of the timeline, which show in every station."""
        return ()

    def mark(self, marks: Marks, show: Show, here: bool) -> None:
        """Add to what the stage draws; in every station, ``here`` where this is the one that is shown."""

    def lower(self) -> QWidget | None:
        """What stands below the stage in this station now, made once; None for nothing."""
        return None

    def restyle(self) -> None:
        """The theme is another one."""

    def alter(self, states: list[FigureState]) -> None:
        """Change how the figures stand before they are drawn."""

    def removable(self) -> tuple[str, Callable[[], object]] | None:
        """What Delete takes away now, in words, and how; None if nothing is chosen that can be."""
        return None

    def step_back(self) -> bool:
        """Escape: close what is open here. False if nothing is."""
        return False
