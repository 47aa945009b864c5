"""Curves: the take as keys, and the way out."""

from collections.abc import Sequence

from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.station import Station
from artuline.desk.stations.curves import panel
from artuline.desk.stations.curves.commands import Commands
from artuline.desk.trails import add_trails
from artuline.view.stage import Marks, Show


class Curves(Station):
    """Bakes, layers and delivery."""

    name, icon, tip = "Curves", "vector-curve", "Bake to keys and deliver"
    show = Show(echo=True)

    def __init__(self, desk: Desk):
        super().__init__(desk)
        self.commands = Commands(desk, self.name)

    @property
    def source(self) -> str:
        return "take" if self.commands.shows_take else "layers"

    def fill(self, form: Form, figure: Figure) -> None:
        panel.fill(form, self.commands, figure)

    def actions(self) -> Sequence[Action]:
        return (
            Action("bake", "Bake the take", self.commands.bake, "F6", "vector-curve", "&Run",
                   "Fits few keys to the take, on a layer above the clip", self.desk.needs("take")),
            Action("write frames", "Write every frame as a mesh…", self.commands.ask_frames, "", "cube-scan", "&Scene",
                   "A sequence of OBJ files of all figures, with strands as lines too", self.desk.needs("figure")),
        )  # fmt: skip

    def mark(self, marks: Marks, show: Show, here: bool) -> None:
        if here:
            add_trails(marks, self.desk)
