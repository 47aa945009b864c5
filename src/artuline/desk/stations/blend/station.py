"""Blend: where, when and how strongly physics acts."""

from collections.abc import Callable, Sequence

from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.stage.tools import Tool
from artuline.desk.station import Station
from artuline.desk.stations.blend import panel
from artuline.desk.stations.blend.commands import Commands
from artuline.desk.stations.blend.holds import HoldTool
from artuline.desk.stations.blend.rows import Lanes
from artuline.desk.stations.blend.tools import ObstacleTool, PoseTool, PushTool
from artuline.desk.timeline.rows import Row
from artuline.view.stage import Show


class Blend(Station):
    """Groups and their lanes, what is held, forces and obstacles."""

    name, icon, tip = "Blend", "transition", "Where, when and how strongly physics acts"
    show = Show(forces=True)
    keyed = True

    def __init__(self, desk: Desk):
        super().__init__(desk)
        self.lanes = Lanes(desk.session)
        self.commands = Commands(desk, self.lanes)
        self._tools = (
            PoseTool(self.commands),
            ObstacleTool(desk.session),
            PushTool(desk.session),
            HoldTool(self.commands.holds),
        )

    @property
    def source(self) -> str:
        return "keys" if self.commands.posing else "take"

    def fill(self, form: Form, figure: Figure) -> None:
        panel.fill(form, self.commands, figure)

    def tools(self) -> Sequence[Tool]:
        return self._tools

    def rows(self) -> Sequence[Row]:
        return self.lanes.rows()

    def actions(self) -> Sequence[Action]:
        return (
            Action("pose", "Take the tryout's pose as a key", self.commands.take_pose, "K", "", "&Run",
                   "Keys the pose that the tryout has come to", self.desk.needs("tryout")),
        )  # fmt: skip

    def removable(self) -> tuple[str, Callable[[], object]] | None:
        s, f, c = self.desk.session, self.desk.session.figure(), self.commands
        o, bones = s.obstacle(), s.chosen()
        if o is not None:
            return f"the obstacle {o.name}", lambda: c.forces.remove_obstacle(o.id)
        groups = f.groups if f is not None else ()
        group = next((g for g in groups if g.start_bone in bones or (g.bones and bones == set(g.bones))), None)
        if f is None or group is None:
            return None
        return f"the group {group.name}", lambda: c.remove_group(f.id, group.id)
