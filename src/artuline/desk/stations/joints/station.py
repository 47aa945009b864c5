"""Joints: how bodies may move against each other."""

from collections.abc import Sequence

from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.station import Station
from artuline.desk.stations.joints import panel
from artuline.desk.stations.joints.commands import Commands
from artuline.view.stage import FigureState, Marks, Show


class Joints(Station):
    """Kinds and ranges of joints, and links outside of the tree."""

    name, icon, tip = "Joints", "angle-acute", "How bodies may move against each other"
    show = Show(see_through=True, limits=True, bones=True)

    def __init__(self, desk: Desk):
        super().__init__(desk)
        self.commands = Commands(desk)

    def fill(self, form: Form, figure: Figure) -> None:
        panel.fill(form, self.commands, figure)

    def actions(self) -> Sequence[Action]:
        return (
            Action("limits", "Propose limits…", self.commands.ask_limits, "", "angle-acute", "&Edit",
                   "Proposes ranges for all joints, before and after", self.desk.needs("own bodies")),
        )  # fmt: skip

    def mark(self, marks: Marks, show: Show, here: bool) -> None:
        if not show.limits:
            return
        selection = self.desk.session.selection
        for f in self.desk.session.scene.figures:
            bone = {b.id: b.bone for b in f.bodies}
            for j in f.joints:
                if bone[j.child] in selection.of(f.id):
                    marks.traces[f.id, j.id] = self.commands.trace(f.id, j)

    def alter(self, states: list[FigureState]) -> None:
        self.commands.sweeping.alter(states)
