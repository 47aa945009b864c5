"""What a station may reach: what is open, what goes on, the stage, and the other stations by their actions."""

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from artuline.core.bake.delivery import NONE, Which
from artuline.core.run.prepare import ensure_kernels
from artuline.desk.model.actions import Actions
from artuline.desk.model.comparison import Comparison
from artuline.desk.model.jobs import Jobs, Work
from artuline.desk.model.later import Later
from artuline.desk.model.memory import Memory
from artuline.desk.model.session import Session
from artuline.desk.model.sides import Sides
from artuline.desk.stage.stage import Stage

BUSY = "Something is still running: cancel it first."


class Desk(QObject):
    """Passed to everything that is on it."""

    #: Words for the strip, and whether they are about a fault.
    told = Signal(str, bool)
    #: A station is wanted, by its name.
    wanted = Signal(str)
    #: The same, unless the work is further on already.
    advanced = Signal(str)
    #: The details have to be made anew at once; True to show their end.
    refill = Signal(bool)

    def __init__(self) -> None:
        super().__init__()
        self.memory = Memory()
        self.session = Session()
        self.jobs = Jobs()
        self.later = Later()
        self.sides = Sides()
        self.comparison = Comparison(self.session)
        self.actions = Actions()
        self.stage = Stage(self.session, self.comparison)
        #: Headings of the details that were opened or shut, by station and what they are about.
        self.folds: dict[tuple[str, str], bool] = {}
        #: Whether a control of the details is being dragged: then they are not made anew.
        self.dragging = False
        #: Which figures are baked and exported; whether they come into one file, and with rest poses around.
        self.which: Which = "held"
        self.together, self.rests = True, NONE
        s = self.session
        s.failed.connect(self.fault)
        s.told.connect(self.tell)
        s.leaving.connect(self._leave)
        self.jobs.failed.connect(self.fault)
        for changed in (self.jobs.started, self.jobs.ended, s.scene_changed, s.selection_changed):
            changed.connect(self.actions.refresh)
        self.later.ready.connect(self.stage.refresh)

    def _leave(self) -> None:
        """The document is left: nothing that was begun for it comes into the next one."""
        self.jobs.abandon()
        self.comparison.other = None

    def choose_figures(self, which: Which) -> None:
        """Which figures are baked and exported from now on."""
        self.which = which
        self.refill.emit(False)

    def tell(self, words: str) -> None:
        """Say something for a while."""
        self.told.emit(words, False)

    def fault(self, words: str) -> None:
        """Say what went wrong."""
        self.told.emit(words, True)

    def go(self, station: str) -> None:
        """Go to a station."""
        self.wanted.emit(station)

    def advance(self, station: str) -> None:
        """Go to a station, unless one that comes later in the work is shown."""
        self.advanced.emit(station)

    def act(self, action: str) -> None:
        """Do what an action does, or say why it cannot be done now."""
        reason = self.actions.do(action)
        if reason:
            self.fault(f"Not now: {reason}")

    def start(self, words: str, work: Work, then: Callable[[Any], None]) -> bool:
        """Begin a job beside the window; False, and a message, if one is running."""
        if self.jobs.start(words, work, then):
            return True
        self.fault(BUSY)
        return False

    def prepare_solver(self, then: Callable[[], object] = lambda: None) -> None:
        """Compile the solver beside the window, once for a machine; then do something."""

        def done(_: object) -> None:
            self.tell("The solver is ready.")
            then()

        self.start("Preparing the solver, once, for about a minute", lambda p, c: ensure_kernels(p, c), done)

    def needs(self, what: str) -> Callable[[], str]:
        """Why something that needs a "figure", "bodies", "own bodies", a "take", a "tryout" or a "selection" cannot be done now."""

        def why() -> str:
            f, s = self.session.figure(), self.session
            if f is None:
                return "open a figure first."
            if what == "bodies" and not any(x.bodies for x in s.scene.cast):
                return "fit bodies first."
            if what == "own bodies" and not f.bodies:
                return f"fit bodies to {f.name} first."
            if what == "take" and s.scene.active_take() is None:
                return "run the scene first."
            if what == "tryout" and self.stage.live.tryout is None:
                return "start a tryout first."
            if what == "selection" and not s.chosen():
                return "select a body first."
            return ""

        return why
