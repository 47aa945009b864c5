"""The window's commands of Takes: brackets, comparing, settings of a take."""

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from artuline.core.errors import ArtulineError
from artuline.core.run.bracket import Cell, Span, run_bracket, values_of
from artuline.core.run.build import group_of
from artuline.core.run.measures import Measure, worst_moments
from artuline.core.run.prepare import ensure_kernels
from artuline.core.run.record import back_to_settings, keep_take
from artuline.core.run.take import Take
from artuline.core.scene import paths
from artuline.core.scene.model import Scene
from artuline.desk.dialogs import SettingDialog
from artuline.desk.panels.results import VIEWS

if TYPE_CHECKING:
    from artuline.desk.bracket_view import BracketView
    from artuline.desk.details import Details
    from artuline.desk.jobs import Jobs
    from artuline.desk.session import Session
    from artuline.desk.stage import Stage
    from artuline.desk.strip import Strip


PLOT_OF = {
    "Pressed in": "penetration", "Beyond a limit": "limit used", "Shaking": "shaking", "Fastest": "speed", "Foot slides": "height",
}  # fmt: skip


class _Found(QObject):
    """Hands the runs of a bracket over to the window's thread."""

    cell = Signal(int, int, object)


class TakeCommands:
    """Mixed into the window, whose parts it uses."""

    session: "Session"
    jobs: "Jobs"
    stage: "Stage"
    strip: "Strip"
    details: "Details"
    bracket_view: "BracketView"

    def _begin_takes(self) -> None:
        self.plotted = "speed"
        self.bracket_setting = ""
        self.other_settings: list[str] = []
        self.bracket_range = (0.0, 1.0, 9)
        self.bracket_ratios = False
        self.second_setting = ""
        self.second_range = (0.0, 1.0, 3)
        self._found = _Found()
        self._others: tuple[str, Take] | None = None
        self._moments: tuple[Take, Scene, list[Measure]] | None = None

    # comparing

    def plot(self, quantity: str) -> None:
        """Plot another quantity."""
        self.plotted = quantity
        self.details.rebuild()

    def compare_with(self, name: str) -> None:
        """Show the keys, or another take by its name, as the echo."""
        self.stage.echo_take = next((t.id for t in self.session.scene.takes if t.name == name), None)
        self.stage.refresh()
        self.details.rebuild()

    def compare_by(self, words: str) -> None:
        """See both over each other, side by side, or wiped."""
        self.stage.compare = next(k for k, v in VIEWS.items() if v == words)
        self.stage.frame_selection()
        self.details.rebuild()

    def other_take(self) -> Take | None:
        """The take that is shown as the echo; None for the keys."""
        ref = next((t for t in self.session.scene.takes if t.id == self.stage.echo_take), None)
        if ref is None:
            return None
        if self._others is None or self._others[0] != ref.asset:
            self._others = ref.asset, Take.from_arrays(self.session.assets[ref.asset])
        return self._others[1]

    def back_to_settings(self) -> None:
        """Make the scene as it was when the shown take was made."""
        ref = self.session.scene.active_take()
        if ref is not None:
            assets = self.session.assets
            self.session.edit(f"Back to the settings of {ref.name}", lambda s: back_to_settings(s, assets, ref.id))

    # worst moments

    def moments(self, take: Take) -> list[Measure]:
        """The worst moments of the shown take; kept while neither it nor the scene changes."""
        scene = self.session.scene
        if self._moments is None or self._moments[0] is not take or self._moments[1] is not scene:
            self._moments = take, scene, worst_moments(scene, take)
        return self._moments[2]

    def go_to_measure(self, m: Measure) -> None:
        """Go to a worst moment: its frame, its body, and the plot that shows it."""
        self.plotted = PLOT_OF.get(m.name, self.plotted)
        self.session.set_frame(m.frame)
        figure = next((f for f in self.session.scene.figures if m.where is not None and f.id == m.where.figure), None)
        body = next((b for b in figure.bodies if b.id == m.where.body), None) if figure and m.where else None
        before = self.session.selection
        if figure is not None and body is not None:
            self.session.select(figure.id, frozenset({body.bone}))
        if self.session.selection is before:
            self.details.rebuild()

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
            whose = f" ({f.name})" if len(s.figures) > 1 else ""
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
        if found is None or found[0] not in self.offered_settings():
            return
        self.bracket_setting, self.second_setting = found[0], ""
        self.bracket_range = (found[1], found[2], 6)
        self.details.rebuild()
        self.details.show_bottom()
        self.strip.tell(f"The bracket is set to {found[0]}: run it to see what helps.")

    # brackets

    def offered_settings(self) -> dict[str, str]:
        """Settings that a bracket may vary, by what they are called: their paths."""
        s = self.session.scene
        found: dict[str, str] = {}
        for f in s.figures:
            whose = f" ({f.name})" if len(s.figures) > 1 else ""
            for g in f.groups:
                if g.spring is not None:
                    for name in ("frequency", "ratio", "shown", "gravity"):
                        found[f"springy {name}: {g.name}{whose}"] = f"figures[{f.id}].groups[{g.id}].spring.{name}"
                if len(g.handover.keys) == 4:
                    found[f"ramp out from: {g.name}{whose}"] = f"figures[{f.id}].groups[{g.id}].handover.keys[2].frame"
                for lane in ("tone", "steadiness", "calm"):
                    found[f"{lane}: {g.name}{whose}"] = f"figures[{f.id}].groups[{g.id}].{lane}"
            chosen = self.session.selection
            if chosen.figure == f.id:
                for b in f.bodies:
                    if b.bone in chosen.bones:
                        found[f"drag: {b.id}"] = f"figures[{f.id}].bodies[{b.id}].drag"
                        found[f"friction: {b.id}"] = f"figures[{f.id}].bodies[{b.id}].friction"
                        if b.id in f.joint_of:
                            found[f"soft limit: {b.id}"] = f"figures[{f.id}].joints[{b.id}].limit_frequency"
                            found[f"share of tone: {b.id}"] = f"figures[{f.id}].joints[{b.id}].tone"
        found["substeps"] = "substeps"
        if not s.gravity_lane.keys:
            found["gravity, upright part"] = "gravity[1]"
        for o in s.obstacles:
            found[f"friction: {o.name}"] = f"obstacles[{o.id}].friction"
        for p in s.pushes:
            for k, axis in enumerate("xyz"):
                found[f"push on {p.body}, {axis}"] = f"pushes[{p.id}].impulse[{k}]"
            if p.scatter > 0.0:
                found[f"chance of the push on {p.body}"] = f"pushes[{p.id}].seed"
        if any(s.wind) or s.wind_lane.keys:
            found["gusts"] = "gusts.strength"
            found["chance of the gusts"] = "gusts.seed"
        # any other that was chosen from all there are
        return found | {p: p for p in self.other_settings if p in dict(paths.numbers(s))}

    def ask_setting(self) -> None:
        """Choose any number of the scene for the bracket."""
        dialog = SettingDialog(self.stage.window(), paths.numbers(self.session.scene))
        if dialog.exec() and dialog.chosen() is not None:
            self.offer_setting(str(dialog.chosen()))

    def offer_setting(self, path: str) -> None:
        """Offer a number of the scene by its path, and choose it for the bracket."""
        if path not in self.offered_settings().values():
            self.other_settings.append(path)
        self.choose_bracket(next(k for k, v in self.offered_settings().items() if v == path))

    def choose_bracket(self, label: str) -> None:
        """Choose the setting of the bracket; its range starts around the present value."""
        self.bracket_setting = label
        self.bracket_range = (*self._around(label), self.bracket_range[2])
        self.details.rebuild()

    def choose_second(self, label: str) -> None:
        """Choose a second setting, which makes the bracket a grid; any other word for none."""
        self.second_setting = label if label in self.offered_settings() else ""
        if self.second_setting:
            self.second_range = (*self._around(label), self.second_range[2])
        self.details.rebuild()

    def _around(self, label: str) -> tuple[float, float]:
        """A range around the present value of a setting."""
        path = self.offered_settings()[label]
        value = paths.get(self.session.scene, path)
        if path.rsplit(".", 1)[-1] in ("tone", "steadiness", "calm"):
            return 0.0, 1.0
        if value > 0.0:
            return 0.5 * value, 2.0 * value
        return (2.0 * value, 0.5 * value) if value < 0.0 else (0.0, 1.0)

    def set_second(self, k: int, value: float) -> None:
        """Change the second range: 0 from, 1 to, 2 how many."""
        values = list(self.second_range)
        values[k] = round(value) if k == 2 else value
        self.second_range = (values[0], values[1], int(values[2]))

    def set_bracket(self, k: int, value: float) -> None:
        """Change the bracket's range: 0 from, 1 to, 2 how many."""
        values = list(self.bracket_range)
        values[k] = round(value) if k == 2 else value
        self.bracket_range = (values[0], values[1], int(values[2]))

    def set_bracket_ratios(self, on: bool) -> None:
        """Whether values go by equal ratios."""
        self.bracket_ratios = on

    def run_bracket(self) -> None:
        """Run the bracket beside the window and show the runs as they finish."""
        offered = self.offered_settings()
        label = self.bracket_setting if self.bracket_setting in offered else next(iter(offered))
        low, high, count = self.bracket_range
        spans = [Span(offered[label], low, high, count, self.bracket_ratios)]
        if self.second_setting in offered and self.second_setting != label:
            spans.append(Span(offered[self.second_setting], *self.second_range))
        scene, assets, view = self.session.scene, self.session.assets, self.bracket_view
        try:
            wanted = values_of(spans)
        except ArtulineError as error:
            self.strip.tell(str(error), fault=True)
            return

        token = view.token + 1

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            ensure_kernels(progress, cancelled)
            for index, cell in run_bracket(scene, assets, spans, progress, cancelled):
                self._found.cell.emit(token, index, cell)

        def done(_: object) -> None:
            self.strip.tell("The bracket is done: click a run, then Adopt.")

        if self.jobs.start("Running the bracket", work, done):
            view.setGeometry(self.stage.rect())
            view.begin(spans, wanted)
        else:
            self.strip.tell("Something is still running: cancel it first.", fault=True)

    def adopt_cell(self) -> None:
        """Make the chosen run's value the scene's, and keep its take."""
        view = self.bracket_view
        if view.chosen is None:
            return
        cell: Cell = view.cells[view.chosen]
        assets, spans = self.session.assets, view.spans

        def change(s: Scene) -> Scene:
            for span, value in zip(spans, cell.values):
                s = paths.put(s, span.path, value)
            # where the scene has changed since the bracket began, the take says that it is out of date
            return keep_take(s, assets, cell.take, cell.scene.settings_fingerprint())

        words = ", ".join(f"{v:.4g}" for v in cell.values)
        if self.session.edit(f"Adopt {words}", change):
            view.hide()
            self.strip.tell(f"Adopted {words}; its take is kept.")
