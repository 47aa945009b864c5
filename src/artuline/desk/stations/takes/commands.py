"""What Takes does: compares takes, finds their worst moments, goes back to their settings."""

from pathlib import Path

from PySide6.QtWidgets import QFileDialog

from artuline.core.errors import ArtulineError
from artuline.core.run.build import group_of
from artuline.core.run.measures import Measure, plot_of, worst_moments
from artuline.core.run.record import back_to_settings
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.model import Scene
from artuline.desk.desk import Desk
from artuline.desk.stations.takes.brackets import Brackets
from artuline.formats.take_table import write_take

VIEWS = {"over": "over each other", "beside": "side by side", "wiped": "wiped"}


class Commands:
    """What is looked at in the takes."""

    def __init__(self, desk: Desk, brackets: Brackets):
        self.desk, self.session, self.stage = desk, desk.session, desk.stage
        self.brackets = brackets
        self.plotted = "speed"
        self._moments: tuple[Take, Scene, list[Measure]] | None = None

    # comparing

    def plot(self, quantity: str) -> None:
        """Plot another quantity."""
        self.plotted = quantity
        self.desk.refill.emit(False)

    def compare_with(self, name: str) -> None:
        """Show the keys, or another take by its name, as the echo."""
        self.desk.comparison.other = next((t.id for t in self.session.scene.takes if t.name == name), None)
        self.stage.refresh()
        self.desk.refill.emit(False)

    def compare_by(self, words: str) -> None:
        """See both over each other, side by side, or wiped."""
        self.desk.comparison.how = next(k for k, v in VIEWS.items() if v == words)
        self.stage.frame_selection()
        self.desk.refill.emit(False)

    def back_to_settings(self) -> None:
        """Make the scene as it was when the shown take was made."""
        ref = self.session.scene.active_take()
        if ref is not None:
            assets = self.session.assets
            self.session.edit(f"Back to the settings of {ref.name}", lambda s: back_to_settings(s, assets, ref.id))

    def remove_take(self) -> None:
        """Remove the shown take."""

        def change(s: Scene) -> Scene:
            kept = tuple(t for t in s.takes if t.id != s.take)
            return edit.scene(s, takes=kept, take=kept[-1].id if kept else None)

        self.session.edit("Remove a take", change)

    def ask_table(self, of: str) -> None:
        """Choose a name, and write a table of the shown take."""
        ref = self.session.scene.active_take()
        suggested = f"{ref.name if ref else 'take'} {of}.csv"
        name, _ = QFileDialog.getSaveFileName(
            self.stage.window(),
            f"Write the {of}",
            str(Path(self.desk.memory.folder("export")) / suggested),
            "Tables (*.csv *.json)",
        )
        if name:
            path = Path(name)
            self.write_table(path if path.suffix else path.with_suffix(".csv"), of)

    def write_table(self, path: Path, of: str) -> bool:
        """Write a table of the shown take. False, and a message, if that fails."""
        take = self.session.take()
        if take is None:
            self.desk.fault("There is no take: run the scene first.")
            return False
        try:
            write_take(path, self.session.scene, take, of)
        except ArtulineError as error:
            self.desk.fault(str(error))
            return False
        self.desk.memory.keep_file("export", path, recent=False)
        self.desk.tell(f"Saved {path.name}")
        return True

    # worst moments

    def moments(self, take: Take) -> list[Measure]:
        """The worst moments of the shown take; kept while neither it nor the scene changes."""
        scene = self.session.scene
        if self._moments is None or self._moments[0] is not take or self._moments[1] is not scene:
            self._moments = take, scene, worst_moments(scene, take)
        return self._moments[2]

    def go_to_measure(self, m: Measure) -> None:
        """Go to a worst moment: its frame, its body, and the plot that shows it."""
        self.plotted = plot_of(m.name) or self.plotted
        self.session.set_frame(m.frame)
        figure = next((f for f in self.session.scene.figures if m.where is not None and f.id == m.where.figure), None)
        body = next((b for b in figure.bodies if b.id == m.where.body), None) if figure and m.where else None
        before = self.session.selection
        if figure is not None and body is not None:
            self.session.select(figure.id, frozenset({body.bone}))
        if self.session.selection is before:
            self.desk.refill.emit(False)

    def _remedy(self, m: Measure) -> tuple[str, float, float] | None:
        """What usually helps against a worst moment, as a setting of the bracket with its range; None if there is no such number."""
        s = self.session.scene
        if m.name in ("Pressed in", "Joint apart"):
            return "substeps", s.substeps, 4.0 * s.substeps
        for f in s.figures:
            body = next((b for b in f.bodies if m.where == (f.id, b.id)), None)
            group = group_of(f, body.bone) if body is not None else None
            if body is None or group is None:
                continue
            whose = f" ({f.name})" if len(s.cast) > 1 else ""
            if m.name == "Knocks":
                hinge = f.joint_of.get(body.id)
                if hinge is None or hinge.kind != "hinge":
                    continue
                return f"hinge of {body.id} up to", 0.2 * hinge.twist[1], hinge.twist[1]
            if m.name == "Shaking":
                return f"calm: {group.name}{whose}", 0.0, 0.6
            if m.name == "Beyond a limit":
                return f"tone: {group.name}{whose}", 0.0, max(float(group.tone.value(m.frame)), 0.2)
            if m.name == "Fastest":
                return f"drag: {body.id}", 0.0, 4.0
            if m.name == "Foot slides" and len(group.handover.keys) == 4:
                k = [k.frame for k in group.handover.keys]
                return f"ramp out from: {group.name}{whose}", k[1] + 0.3 * (k[3] - k[1]), k[3] - 6.0
        return None

    def remedy_words(self, m: Measure) -> str:
        """The setting that usually helps against a worst moment; empty if there is none."""
        found = self._remedy(m)
        return found[0] if found is not None else ""

    def try_remedy(self, m: Measure) -> None:
        """Set the bracket to what usually helps against a worst moment."""
        self.go_to_measure(m)
        found = self._remedy(m)
        if found is None or found[0] not in self.brackets.offered_settings():
            return
        self.brackets.setting, self.brackets.second_setting = found[0], ""
        self.brackets.range = (found[1], found[2], 6)
        self.desk.refill.emit(True)
        self.desk.tell(f"The bracket is set to {found[0]}: run it to see what helps.")
