"""Curves: the take as keys, their editing, and the way out."""

from collections.abc import Sequence

from PySide6.QtWidgets import QWidget

from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.stage.tools import Tool
from artuline.desk.station import Station
from artuline.desk.stations.curves import panel
from artuline.desk.stations.curves.commands import Commands
from artuline.desk.stations.curves.editor.editing import Editing
from artuline.desk.stations.curves.editor.pane import Pane
from artuline.desk.stations.curves.goals.commands import LimbCommands
from artuline.desk.stations.curves.goals.pane import MappingPane
from artuline.desk.stations.curves.goals.tool import GoalTool
from artuline.desk.stations.curves.rows import DoubtRow
from artuline.desk.stations.curves.tools import PathTool
from artuline.desk.timeline.rows import Row
from artuline.desk.trails import add_trails
from artuline.view.stage import Marks, Show


class Curves(Station):
    """Bakes, layers, keys and delivery."""

    name, icon, tip = "Curves", "vector-curve", "Bake to keys, edit them and deliver"
    show = Show(echo=True)

    def __init__(self, desk: Desk):
        super().__init__(desk)
        self.editing = Editing(desk)
        self.commands = Commands(desk, self.name, self.editing)
        self.pane = Pane(desk, self.editing)
        self._path = PathTool(self.commands)
        c = self.commands
        self.limbs = LimbCommands(desk, self.name, c.wish, lambda: c.show_layers(True))
        self.mapping = MappingPane(desk, self.limbs, c.baked, c.bounds)
        self._goals = GoalTool(desk, self.editing, lambda: not c.shows_take)
        self._built: set[QWidget] = set()

    @property
    def source(self) -> str:
        return "take" if self.commands.shows_take else "layers"

    def fill(self, form: Form, figure: Figure) -> None:
        panel.fill(form, self.commands, self.pane.commands, self.limbs, figure)
        self.mapping.refill()

    def lower(self) -> QWidget | None:
        if self.limbs.shown:
            return self._made(self.mapping)
        return None if self.editing.source() is None else self._made(self.pane)

    def _made(self, pane: MappingPane | Pane) -> QWidget:
        """A pane, laid out when it is first shown."""
        if pane not in self._built:
            self._built.add(pane)
            pane.build()
        if pane is self.mapping:
            self.mapping.refill()
        return pane

    def actions(self) -> Sequence[Action]:
        return (
            Action("bake", "Bake the take", self.commands.bake, "F6", "vector-curve", "&Run",
                   "Fits few keys to the take, on a layer above the clip", self.desk.needs("take")),
            Action("edit lanes", "Lanes and place as curves", self.commands.edit_lanes, "Shift+F6", "vector-curve", "&Keys",
                   "Shows the lanes of the groups, the place and the world's forces in the editor of curves", self.commands.needs_lanes),
            Action("write frames", "Write every frame as a mesh…", self.commands.ask_frames, "", "cube-scan", "&Scene",
                   "A sequence of OBJ files of all figures, with strands as lines too", self.desk.needs("figure")),
            Action("bring back", "Bring keys back…", self.commands.ask_back, "", "import", "&Keys",
                   "Puts keys of a file that were changed elsewhere onto the figure, as a layer", self.desk.needs("figure")),
            *self.pane.commands.actions(),
            *self.limbs.actions(),
        )  # fmt: skip

    def tools(self) -> Sequence[Tool]:
        return (self._goals, self._path)

    def rows(self) -> Sequence[Row]:
        return (DoubtRow(self.commands),) if self.editing.layer() is not None else ()

    def mark(self, marks: Marks, show: Show, here: bool) -> None:
        if here:
            add_trails(marks, self.desk)

    def restyle(self) -> None:
        for pane in (self.pane, self.mapping):
            if pane in self._built:
                pane.restyle()

    def removable(self):  # type: ignore[no-untyped-def]
        if self.editing.picked:
            return "Delete keys", self.pane.commands.delete
        return None

    def step_back(self) -> bool:
        if self.editing.picked:
            self.editing.pick({})
        elif self.limbs.shown:
            self.limbs.turn()
        else:
            return False
        return True
