"""Strands: ropes, cables, tails and beads along a line that is drawn."""

from collections.abc import Callable, Sequence

from PySide6.QtCore import QPointF

from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.stage.tools import Tool, View
from artuline.desk.station import Station
from artuline.desk.stations.strands import panel
from artuline.desk.stations.strands.commands import Commands
from artuline.desk.stations.strands.tools import PointTool
from artuline.view.stage import Show


class Strands(Station):
    """Lines of small bodies: drawn, held, hung and released."""

    name, icon, tip = "Strands", "chart-bell-curve", "Ropes, cables, tails and beads"
    show = Show()
    keyed = True

    def __init__(self, desk: Desk):
        super().__init__(desk)
        self.commands = Commands(desk)
        self._points = PointTool(self.commands)

    def fill(self, form: Form, figure: Figure) -> None:
        panel.fill(form, self.commands)

    def fill_empty(self, form: Form) -> None:
        panel.fill(form, self.commands)

    def tools(self) -> Sequence[Tool]:
        return (self._points,)

    def clicked(self, at: QPointF, view: View, hit: tuple[str, str, Array] | None) -> bool:
        c = self.commands
        if c.click(at, view, hit):
            return True
        handle = self._points.hit(at, view)
        f = c.figure()
        if handle and f is not None:
            c.take(f.id, int(handle))
            return True
        return False

    def actions(self) -> Sequence[Action]:
        c, m = self.commands, "&Scene"
        return (
            Action("draw strand", "Draw a strand", c.begin, "Ctrl+D", "chart-bell-curve", m,
                   "A rope, cable, tail or beads, by clicking where it runs", line=True),
            Action("end strand", "End the strand", c.end, "Return", "check", m,
                   "Makes it of the points that were clicked", c.why_no_end),
            Action("take back point", "Take the last point back", c.take_back, "Backspace", "", m,
                   "While a strand is drawn", lambda: "" if c.drawn else "no point was clicked."),
        )  # fmt: skip

    def removable(self) -> tuple[str, Callable[[], object]] | None:
        c = self.commands
        f = c.figure()
        if f is None or self.desk.session.selection.figure not in (None, f.id):
            return None
        if c.point >= 0:
            return f"point {c.point + 1} of {f.name}", c.remove_point
        return f"the strand {f.name}", c.remove

    def step_back(self) -> bool:
        c = self.commands
        if c.drawn is not None:
            c.cancel()
            return True
        if c.point >= 0:
            f = c.figure()
            if f is not None:
                c.take(f.id)
            c.point = -1
            return f is not None
        return False
