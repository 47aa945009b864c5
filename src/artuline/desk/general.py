"""What can be done in every station: edits of the whole, what is chosen, what runs."""

from collections.abc import Callable, Sequence

from artuline.desk.desk import Desk
from artuline.desk.model.actions import Action
from artuline.desk.station import Station


class General:
    """Undo, selection, removal and stepping back; ``station`` gives the one that is shown."""

    def __init__(self, desk: Desk, stations: Sequence[Station], station: Callable[[], Station]):
        self.desk, self._stations, self._station = desk, stations, station

    def edit_actions(self) -> Sequence[Action]:
        """For the menu Edit."""
        m, stack = "&Edit", self.desk.session.stack
        return (
            Action("undo", "Undo", stack.undo, "Ctrl+Z", "undo", m, "Takes the last edit back",
                   lambda: "" if stack.canUndo() else "nothing was edited yet."),
            Action("redo", "Redo", stack.redo, "Ctrl+Shift+Z", "redo", m, "Does again what was taken back",
                   lambda: "" if stack.canRedo() else "nothing was taken back."),
            Action("all", "Select all", self.select_all, "Ctrl+A", "", m, "Selects all bodies of the present figure",
                   self.desk.needs("figure"), line=True),
            Action("back", "Step back", self.step_back, "Esc", "", m, "Stops a tryout, closes a bracket, else clears the selection"),
            Action("remove", "Remove what is chosen", self.remove_chosen, "Del", "delete-outline", m,
                   "Takes the chosen bodies, group, obstacle, take or figure away",
                   lambda: "" if self._station().removable() else "nothing is chosen that this station can take away."),
        )  # fmt: skip

    def run_actions(self) -> Sequence[Action]:
        """For the menu Run."""
        jobs = self.desk.jobs
        return (
            Action("stop", "Cancel what runs", jobs.cancel, "Ctrl+.", "", "&Run", "Stops the running work; nothing is changed",
                   lambda: "" if jobs.busy else "nothing is running."),
        )  # fmt: skip

    def select_all(self) -> None:
        """Select all bones of the present figure that have bodies, or all that carry skin."""
        f = self.desk.session.figure()
        if f is not None:
            bones = frozenset(f.body_of) or frozenset(b.name for b in f.bones if b.deforms)
            self.desk.session.select(f.id, bones)

    def remove_chosen(self) -> None:
        """Take away what is chosen in this station."""
        found = self._station().removable()
        if found is not None:
            found[1]()

    def step_back(self) -> None:
        """Escape: stop the tryout, else close what a station has open, else clear the selection."""
        if self.desk.stage.live.tryout is not None:
            self.desk.act("tryout")
        elif not any(station.step_back() for station in self._stations):
            s = self.desk.session
            s.select(None if s.obstacle() else s.selection.figure, frozenset())
