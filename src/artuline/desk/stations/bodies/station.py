"""Bodies: collision shapes and mass."""

from collections.abc import Callable, Sequence

from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.stage.tools import Tool
from artuline.desk.station import Station
from artuline.desk.stations.bodies import panel
from artuline.desk.stations.bodies.commands import Commands
from artuline.desk.stations.bodies.marks import fit_colors, mass_colors
from artuline.desk.stations.bodies.setups import Setups
from artuline.desk.stations.bodies.tools import ShapeTool
from artuline.view.stage import Marks, Show


class Bodies(Station):
    """Shapes that collide, their mass and surface."""

    name, icon, tip = "Bodies", "shape-outline", "Collision shapes and mass"
    show = Show(see_through=True, shapes=True, fit=True)
    dots = True

    def __init__(self, desk: Desk):
        super().__init__(desk)
        self.commands, self.setups = Commands(desk), Setups(desk)
        self._tools = (ShapeTool(desk, self.commands),)

    def fill(self, form: Form, figure: Figure) -> None:
        panel.fill(form, self.commands, figure)

    def tools(self) -> Sequence[Tool]:
        return self._tools

    def actions(self) -> Sequence[Action]:
        m, c, needs = "&Edit", self.commands, self.desk.needs
        return (
            Action("fit", "Fit bodies and joints", c.set_up, "Ctrl+B", "human-handsup", m,
                   "Gives every bone with enough skin a shape, and joins them", needs("figure"), line=True),
            Action("other side", "To the other side", c.mirror_selected, "Ctrl+M", "reflect-horizontal", m,
                   "Carries the chosen bodies and joints over to the other side", needs("selection")),
            Action("balance", "Balance the masses…", c.ask_balance, "", "scale-balance", m,
                   "Spreads a total mass over the bodies", needs("own bodies")),
            Action("save setup", "Save setup…", self.setups.ask_save_setup, "", "", m,
                   "Writes bodies and joints to a file of their own", needs("own bodies"), line=True),
            Action("put setup", "Put a setup on…", self.setups.ask_setup, "", "tray-arrow-down", m,
                   "Puts bodies and joints from a file onto the figure", needs("figure")),
        )  # fmt: skip

    def mark(self, marks: Marks, show: Show, here: bool) -> None:
        if not show.shapes or self.desk.stage.live.tryout is not None:
            return
        if show.mass:
            mass_colors(marks, self.desk.session.scene)
        elif show.fit:
            fit_colors(marks, self.desk.session.scene, self.commands.fits)

    def removable(self) -> tuple[str, Callable[[], object]] | None:
        f = self.desk.session.figure()
        bones = self.desk.session.chosen()
        bodies = [b for b in f.bodies if b.bone in bones] if f is not None else []
        if not bodies:
            return None
        words = f"the body on {bodies[0].bone}" if len(bodies) == 1 else f"{len(bodies)} bodies"
        return words, self.commands.remove_bodies
