"""Brackets: one setting, or two, over a range of values; the runs side by side, of which one is adopted."""

from PySide6.QtCore import QObject, Signal

from artuline.core.errors import ArtulineError
from artuline.core.run.bracket import Cell, Span, run_bracket, values_of
from artuline.core.run.prepare import ensure_kernels
from artuline.core.run.record import keep_take
from artuline.core.scene import paths
from artuline.core.scene.model import Scene
from artuline.desk.desk import Desk
from artuline.desk.stations.takes.bracket_view import BracketView
from artuline.desk.stations.takes.setting_dialog import SettingDialog


class _Found(QObject):
    """Hands the runs of a bracket over to the window's thread."""

    cell = Signal(int, int, object)


class Brackets:
    """What is varied, and the runs."""

    def __init__(self, desk: Desk):
        self.desk, self.session = desk, desk.session
        self.setting = ""
        self.range = (0.0, 1.0, 9)
        self.ratios = False
        self.second_setting = ""
        self.second_range = (0.0, 1.0, 3)
        #: Paths of settings that were chosen from all there are.
        self.other_settings: list[str] = []
        self.view = BracketView(desk, self.adopt)
        self._found = _Found()
        self._found.cell.connect(self.view.add)
        self.session.leaving.connect(self.view.drop)

    def offered_settings(self) -> dict[str, str]:
        """Settings that a bracket may vary, by what they are called: their paths."""
        s = self.session.scene
        found: dict[str, str] = {}
        for f in s.figures:
            whose = f" ({f.name})" if len(s.cast) > 1 else ""
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
            for j in f.joints if f.prop else ():
                if j.kind == "hinge" and j.limited:
                    found[f"hinge of {j.child} up to"] = f"figures[{f.id}].joints[{j.id}].twist[1]"
        found["substeps"] = "substeps"
        if not s.gravity_lane.keys:
            found["gravity, upright part"] = "gravity[1]"
        for o in s.obstacles:
            found |= {f"friction: {o.name}": f"figures[{o.id}].bodies[{b.id}].friction" for b in o.bodies}
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
        dialog = SettingDialog(self.desk.stage.window(), paths.numbers(self.session.scene))
        if dialog.exec() and dialog.chosen() is not None:
            self.offer(str(dialog.chosen()))

    def offer(self, path: str) -> None:
        """Offer a number of the scene by its path, and choose it for the bracket."""
        if path not in self.offered_settings().values():
            self.other_settings.append(path)
        self.choose(next(k for k, v in self.offered_settings().items() if v == path))

    def choose(self, label: str) -> None:
        """Choose the setting of the bracket; its range starts around the present value."""
        self.setting = label
        self.range = (*self._around(label), self.range[2])
        self.desk.refill.emit(False)

    def choose_second(self, label: str) -> None:
        """Choose a second setting, which makes the bracket a grid; any other word for none."""
        self.second_setting = label if label in self.offered_settings() else ""
        if self.second_setting:
            self.second_range = (*self._around(label), self.second_range[2])
        self.desk.refill.emit(False)

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

    def set_range(self, k: int, value: float) -> None:
        """Change the bracket's range: 0 from, 1 to, 2 how many."""
        values = list(self.range)
        values[k] = round(value) if k == 2 else value
        self.range = (values[0], values[1], int(values[2]))

    def set_ratios(self, on: bool) -> None:
        """Whether values go by equal ratios."""
        self.ratios = on

    def run(self) -> None:
        """Run the bracket beside the window and show the runs as they finish."""
        offered = self.offered_settings()
        label = self.setting if self.setting in offered else next(iter(offered))
        low, high, count = self.range
        spans = [Span(offered[label], low, high, count, self.ratios)]
        if self.second_setting in offered and self.second_setting != label:
            spans.append(Span(offered[self.second_setting], *self.second_range))
        scene, assets, view = self.session.scene, self.session.assets, self.view
        try:
            wanted = values_of(spans)
        except ArtulineError as error:
            self.desk.fault(str(error))
            return

        token = view.token + 1

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            ensure_kernels(progress, cancelled)
            for index, cell in run_bracket(scene, assets, spans, progress, cancelled):
                self._found.cell.emit(token, index, cell)

        def done(_: object) -> None:
            self.desk.tell("The bracket is done: click a run, then Adopt.")

        if self.desk.start("Running the bracket", work, done):
            view.begin(spans, wanted)

    def adopt(self) -> None:
        """Make the chosen run's value the scene's, and keep its take."""
        view = self.view
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
            self.desk.tell(f"Adopted {words}; its take is kept.")
