"""Flesh: what the skeleton does not have."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial

from PySide6.QtCore import QPointF, QRectF

from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.stage.tools import Tool, View
from artuline.desk.station import Station
from artuline.desk.stations.flesh import panel
from artuline.desk.stations.flesh.commands import Commands
from artuline.desk.stations.flesh.soft import panel as soft_panel
from artuline.desk.stations.flesh.soft.commands import SoftCommands
from artuline.desk.stations.flesh.soft.tool import ClusterTool, hue
from artuline.desk.stations.flesh.tools import BoneTool, BrushTool
from artuline.view.stage import FigureState, Show


class Flesh(Station):
    """Added bones, weights, wobble and soft parts; the figure stands as it was made."""

    name, icon, tip = "Flesh", "blur", "Bones and weights for what wobbles"
    show = Show(rest=True)

    def __init__(self, desk: Desk):
        super().__init__(desk)
        self.commands = Commands(desk)
        self.soft = SoftCommands(desk)
        self._tools = BrushTool(self.commands), BoneTool(self.commands), ClusterTool(self.soft)
        desk.session.leaving.connect(self.soft.leave)

    def fill(self, form: Form, figure: Figure) -> None:
        panel.fill(form, self.commands, figure)
        if figure.asset is not None and figure.made is None:
            soft_panel.fill(form, self.soft, figure)

    def tools(self) -> Sequence[Tool]:
        return self._tools

    def clicked(self, at: QPointF, view: View, hit: tuple[str, str, Array] | None) -> bool:
        return self.soft.clicked(at, view) or self.commands.click(at, view)

    def choose(self, box: QRectF, view: View) -> bool:
        return self.soft.framed(box, view)

    def actions(self) -> Sequence[Action]:
        c, m, soft = self.commands, "&Scene", self.soft
        return (
            Action("add flesh", "Add a bone", c.begin, "Ctrl+G", "plus", m,
                   "By a click on the skin: a bone inside it, which the skin around follows", self.desk.needs("figure"), line=True),
            Action("make springy", "Make it springy", c.make_springy, "", "waves", m,
                   "A body, fitted to the skin of the chosen added bone, that springs back in place and in angle", c.why_no_bone),
            Action("soft whole", "Make the whole skin soft", soft.whole, "", "blur", m,
                   "Divides all of the figure's volume into clusters that give way", self.desk.needs("figure"), line=True),
            Action("soft piece", "Make a piece soft", partial(soft.pick, "piece"), "", "blur", m,
                   "By a click: a piece of skin that nothing joins to the rest, attached where it lies against it", self.desk.needs("figure")),
            Action("soft bones", "Make the chosen bones' skin soft", soft.of_bones, "", "blur", m,
                   "The skin that the chosen bones carry, or what was painted of an added one", soft.why_no_bones),
            Action("soft box", "Make what a frame holds soft", partial(soft.pick, "box"), "", "blur", m,
                   "Draw a frame around the skin on the stage", self.desk.needs("figure")),
            Action("soft copy", "Copy it to the other side", soft.copy, "", "blur", m,
                   "Makes the chosen soft part's mirror image on the other side", soft.why_no_part),
        )  # fmt: skip

    def alter(self, states: list[FigureState]) -> None:
        f, bone = self.desk.session.figure(), self.commands.bone()
        part = self.soft.part()
        if f is not None and part is not None and not self.commands.played:
            at = next((i for i, x in enumerate(self.desk.session.scene.figures) if x.id == f.id), None)
            if at is not None and at < len(states) and len(states[at].matrices) == len(f.bones):
                colors = {f.bone_index[n]: hue(k) for k, n in enumerate(part.clusters)}
                states[at] = replace(states[at], colors=colors)
        if f is None or bone is None or self.commands.played:
            return
        at = next((i for i, x in enumerate(self.desk.session.scene.figures) if x.id == f.id), None)
        if at is not None and at < len(states) and len(states[at].matrices) == len(f.bones):
            states[at] = replace(states[at], weights=f.bone_index[bone.name])

    def removable(self) -> tuple[str, Callable[[], object]] | None:
        bone = self.commands.bone()
        if bone is not None:
            return f"the bone {bone.name}", self.commands.remove
        part = self.soft.part()
        return (f"the soft part {part.id}", self.soft.remove) if part is not None else None

    def step_back(self) -> bool:
        c = self.commands
        if c.played:
            c.stop()
        elif self.soft.picking:
            self.soft.pick(self.soft.picking)
        elif c.brush:
            c.take_brush(c.brush)
        elif c.adding:
            c.begin()
        else:
            return False
        return True
