"""Cast: the figures, their unit and their clips."""

from collections.abc import Callable, Sequence

from artuline.core.scene.model import Figure
from artuline.core.setup.mirror import mirror_pairs
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.station import Station
from artuline.desk.stations.cast import panel
from artuline.desk.stations.cast.commands import Commands
from artuline.desk.stations.cast.rows import KeysRow
from artuline.desk.timeline.rows import Row
from artuline.view.stage import Marks, Show


class Cast(Station):
    """Who plays, how large, and with what motion."""

    name, icon, tip = "Cast", "human-greeting-variant", "Figures, their unit and their clips"
    show = Show(mirror=True, person=True)
    dots = True

    def __init__(self, desk: Desk):
        super().__init__(desk)
        self.commands = Commands(desk)
        self._rows = (KeysRow(desk.session),)

    def fill(self, form: Form, figure: Figure) -> None:
        panel.fill(form, self.commands, figure)

    def actions(self) -> Sequence[Action]:
        return (
            Action("tip", "Another axis upwards", self.commands.tip, "", "axis-z-arrow", "&Scene",
                   "Tips the present figure by a quarter turn with all its motion: for a file in which another axis is upwards than it was read with", self.desk.needs("figure")),
            Action("motion", "Motion from a file…", self.commands.ask_motion, "", "run-fast", "&Scene",
                   "Puts the motion of a BVH file onto the present figure, by the names of its bones", self.desk.needs("figure")),
        )  # fmt: skip

    def rows(self) -> Sequence[Row]:
        return self._rows

    def mark(self, marks: Marks, show: Show, here: bool) -> None:
        if show.mirror:
            # of many that are alike, those of the first and of the chosen one
            chosen = self.desk.session.selection.figure
            mine = (f for f in self.desk.session.scene.figures if f.like is None or f.id == chosen)
            marks.pairs = {f.id: mirror_pairs(f) for f in mine}

    def removable(self) -> tuple[str, Callable[[], object]] | None:
        s = self.desk.session
        f = s.figure()
        if f is None or s.selection.figure != f.id or s.selection.bones:
            return None
        return f"the figure {f.name}", self.commands.remove_figure
