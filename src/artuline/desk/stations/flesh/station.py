"""Flesh: what the skeleton does not have."""

from collections.abc import Callable, Sequence
from dataclasses import replace

from PySide6.QtCore import QPointF

from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.stage.tools import Tool, View
from artuline.desk.station import Station
from artuline.desk.stations.flesh import panel
from artuline.desk.stations.flesh.commands import Commands
from artuline.desk.stations.flesh.tools import BoneTool, BrushTool
from artuline.view.stage import FigureState, Show


class Flesh(Station):
    """Added bones, weights and wobble; the figure stands as it was made."""

    name, icon, tip = "Flesh", "blur", "Bones and weights for what wobbles"
    show = Show(rest=True)

    def __init__(self, desk: Desk):
        super().__init__(desk)
        self.commands = Commands(desk)
        self._tools = BrushTool(self.commands), BoneTool(self.commands)

    def fill(self, form: Form, figure: Figure) -> None:
        panel.fill(form, self.commands, figure)

    def tools(self) -> Sequence[Tool]:
        return self._tools

    def clicked(self, at: QPointF, view: View, hit: tuple[str, str, Array] | None) -> bool:
        return self.commands.click(at, view)

    def actions(self) -> Sequence[Action]:
        c, m = self.commands, "&Scene"
        return (
            Action("add flesh", "Add a bone", c.begin, "Ctrl+G", "plus", m,
                   "By a click on the skin: a bone inside it, which the skin around follows", self.desk.needs("figure"), line=True),
            Action("make springy", "Make it springy", c.make_springy, "", "waves", m,
                   "A body, fitted to the skin of the chosen added bone, that springs back in place and in angle", c.why_no_bone),
        )  # fmt: skip

    def alter(self, states: list[FigureState]) -> None:
        f, bone = self.desk.session.figure(), self.commands.bone()
        if f is None or bone is None or self.commands.played:
            return
        at = next((i for i, x in enumerate(self.desk.session.scene.figures) if x.id == f.id), None)
        if at is not None and at < len(states) and len(states[at].matrices) == len(f.bones):
            states[at] = replace(states[at], weights=f.bone_index[bone.name])

    def removable(self) -> tuple[str, Callable[[], object]] | None:
        bone = self.commands.bone()
        return (f"the bone {bone.name}", self.commands.remove) if bone is not None else None

    def step_back(self) -> bool:
        c = self.commands
        if c.played:
            c.stop()
        elif c.brush:
            c.take_brush(c.brush)
        elif c.adding:
            c.begin()
        else:
            return False
        return True
