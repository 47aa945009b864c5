"""Props: things of several parts, how they hang together, and how they are held."""

from collections.abc import Callable, Sequence

from PySide6.QtCore import QRectF

from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.stage.tools import Tool, View
from artuline.desk.station import Station
from artuline.desk.stations.props import panel
from artuline.desk.stations.props.commands import Commands
from artuline.desk.stations.props.marks import mark_pins
from artuline.desk.stations.props.rows import HeldRow
from artuline.desk.stations.props.tools import GripTool, PinTool
from artuline.desk.timeline.rows import Row
from artuline.view.stage import Marks, Show


class Props(Station):
    """What is held: parts, hinges, grips, and ways to carry it."""

    name, icon, tip = "Props", "pail-outline", "Things of several parts, and how they are held"
    show = Show()
    keyed = True

    def __init__(self, desk: Desk):
        super().__init__(desk)
        self.commands = Commands(desk)
        self._tools = (PinTool(self.commands), GripTool(self.commands))

    def fill(self, form: Form, figure: Figure) -> None:
        panel.fill(form, self.commands)

    def fill_empty(self, form: Form) -> None:
        panel.fill(form, self.commands)

    def tools(self) -> Sequence[Tool]:
        return self._tools

    def rows(self) -> Sequence[Row]:
        session = self.desk.session
        return [HeldRow(session, f.id) for f in session.scene.figures if f.mounts]

    def actions(self) -> Sequence[Action]:
        m, c = "&Edit", self.commands
        return (
            Action("thing", "Bring in a thing…", c.ask_thing, "Ctrl+P", "package-variant", "&Scene",
                   "A thing of one or more parts from a file of meshes"),
            Action("mount", "Hold it in what is chosen", c.mount_here, "Ctrl+H", "hand-back-right-outline", m,
                   "Puts the thing in hand into the chosen bone from this frame on", c.why_no_mount, line=True),
            Action("let go", "Let the thing go", c.let_go_here, "Ctrl+L", "hand-extended-outline", m,
                   "It leaves the hand at this frame, and falls or flies on", c.why_not_held),
            Action("ways", "Run all three ways to carry", c.run_ways, "", "compare", "&Run",
                   "Three takes: the handle in the hand, hanging in the palm, riding at the hip", c.why_not_held),
        )  # fmt: skip

    def mark(self, marks: Marks, show: Show, here: bool) -> None:
        if here:
            mark_pins(marks, self.commands)

    def choose(self, box: QRectF, view: View) -> bool:
        return self.commands.cut_in(box, view)

    def removable(self) -> tuple[str, Callable[[], object]] | None:
        c = self.commands
        thing = c.thing()
        if thing is None or self.desk.session.selection.figure != thing.id:
            return None
        joint = c.joint()
        if joint is not None:
            return f"the hinge of {joint.child}", c.remove_hinge
        return f"the thing {thing.name}", c.remove_thing

    def step_back(self) -> bool:
        if self.commands.cutting:
            self.commands.set_cutting(False)
            return True
        return False
