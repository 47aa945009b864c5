"""Takes: run, and look at the results."""

from collections.abc import Callable, Sequence
from functools import partial

from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.form import Form
from artuline.desk.model.actions import Action
from artuline.desk.station import Station
from artuline.desk.stations.takes import panel
from artuline.desk.stations.takes.brackets import Brackets
from artuline.desk.stations.takes.commands import Commands
from artuline.desk.stations.takes.rows import TakeRow
from artuline.desk.stations.takes.runs import Runs
from artuline.desk.timeline.rows import Row
from artuline.desk.trails import add_trails
from artuline.view.stage import Marks, Show

TABLE_WORDS = (
    ("take", "take", "Every body on every frame: place, turn, contact, energy; CSV or JSON"),
    ("measures", "measures", "The worst of every measure, with its frame and body; CSV or JSON"),
    ("given", "hand overs", "Whom rules handed over, at which frame, and what touched it; CSV or JSON"),
    ("plots", "plots", "What is plotted, on every frame; CSV or JSON"),
)


class Takes(Station):
    """Runs, plots, worst moments, comparisons and brackets."""

    name, icon, tip = "Takes", "movie-open-outline", "Run and look at the results"
    show = Show(echo=True)
    compares = True

    def __init__(self, desk: Desk):
        super().__init__(desk)
        self.runs, self.brackets = Runs(desk, self.name), Brackets(desk)
        self.commands = Commands(desk, self.brackets)
        self._rows = (TakeRow(desk.session),)

    @property
    def source(self) -> str:
        return "take"

    def fill(self, form: Form, figure: Figure) -> None:
        panel.fill(form, self.commands, figure)

    def actions(self) -> Sequence[Action]:
        return (
            Action("run", "Run", self.runs.run, "F5", "play-box-outline", "&Run",
                   "Simulates the range and keeps it as a take", self.desk.needs("bodies")),
            Action("steer again", "Steer again", self.runs.again, "", "run-fast", "&Run",
                   "Does once more what was done while it was steered, and compares", self.runs.not_steered),
            *(Action(f"{of} table", f"Write the {words} as a table…", partial(self.commands.ask_table, of), "", "table", "&Run", tip, self.desk.needs("take"))
              for of, words, tip in TABLE_WORDS),
        )  # fmt: skip

    def rows(self) -> Sequence[Row]:
        return self._rows

    def mark(self, marks: Marks, show: Show, here: bool) -> None:
        if here:
            add_trails(marks, self.desk)

    def removable(self) -> tuple[str, Callable[[], object]] | None:
        s = self.desk.session.scene
        return (str(s.take), self.commands.remove_take) if s.active_take() is not None else None

    def step_back(self) -> bool:
        if not self.brackets.view.isVisible():
            return False
        self.brackets.view.hide()
        return True
