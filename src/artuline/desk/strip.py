"""The checks strip: the worst problem in words, a button that fixes it, and the progress of long work."""

import time
from functools import partial

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QMenu, QProgressBar, QPushButton, QToolButton, QWidget

from artuline.core.checks.checks import check
from artuline.core.checks.finding import Finding
from artuline.core.checks.takes import check_take
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.figure_jobs import mend
from artuline.desk.model.later import Later
from artuline.desk.model.pace import Pace, words_of
from artuline.desk.model.plain import unmarked
from artuline.desk.widgets.fields import Words
from artuline.desk.widgets.label import Label

MARKS = {
    3: ("alert-octagon-outline", "crimson"),
    2: ("alert-outline", "crimson"),
    1: ("information-outline", "brass_text"),
}


def _find(scene: Scene, assets: AssetStore, take: Take | None) -> list[Finding]:
    found = check(scene, assets) if scene.cast else []
    return found + check_take(scene, take) if take is not None else found


class Strip(QWidget):
    """Shows the worst finding; the others are in a menu behind the count."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.setObjectName("strip")
        self.setFixedHeight(38)
        self.desk, self.session = desk, desk.session
        session, jobs = desk.session, desk.jobs
        self.findings: list[Finding] = []
        layout = QHBoxLayout(self)
        layout.setContentsMargins(12, 4, 12, 4)
        layout.setSpacing(8)
        self._mark = Label()
        self.finding = Words("")
        self.fix_button = QPushButton()
        self._more = QToolButton()
        self._more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self._menu = QMenu(self._more)
        self._more.setMenu(self._menu)
        self.message = Words("")
        self.message.setObjectName("faint")
        self.bar = QProgressBar()
        self.bar.setFixedWidth(180)
        self.bar.setFormat("%v of %m")
        self.cancel_button = QPushButton("Cancel")
        widgets = (
            self._mark,
            self.finding,
            self.fix_button,
            self._more,
            None,
            self.message,
            self.bar,
            self.cancel_button,
        )
        for w in widgets:
            layout.addWidget(w, 1 if w is self.message else 0) if w is not None else None
        self.message.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._words, self._pace, self._said = "", Pace(time.monotonic()), 0.0
        self.bar.hide()
        self.cancel_button.hide()
        self.fix_button.clicked.connect(self._apply_first)
        self.cancel_button.clicked.connect(jobs.cancel)
        self._clear = QTimer(self)
        self._clear.setSingleShot(True)
        self._clear.timeout.connect(lambda: self.message.setText(""))
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(250)
        self._later.timeout.connect(self._look)
        self._checks = Later()
        self._checks.ready.connect(self._look)
        session.scene_changed.connect(self._scene_changed)
        self.fix_button.setToolTip("Mends what is said on the left; undo takes it back")
        self._more.setToolTip("All that was found, the worst first")
        self._more.setAccessibleName("More findings")
        self.cancel_button.setToolTip("Stops the running work; nothing is changed (Ctrl+.)")
        self.bar.setAccessibleName("Progress")
        desk.told.connect(self.tell)
        jobs.started.connect(self._job_started)
        jobs.progressed.connect(self._job_progressed)
        jobs.ended.connect(self._job_ended)
        self.refresh()

    def tell(self, text: str, fault: bool = False) -> None:
        """A message for a while."""
        self.message.setObjectName("fault" if fault else "faint")
        self.message.style().unpolish(self.message)
        self.message.style().polish(self.message)
        self.message.setText(text)
        self.message.setToolTip(text)
        self._clear.start(12000 if fault else 6000)

    def _scene_changed(self) -> None:
        """What stands there was found in another scene: it goes at once."""
        if self._checks.known(self.session.scene):
            self._look()
            return
        self.findings = []
        self.fix_button.hide()
        self._more.hide()
        self._mark.setPixmap(theme.icon("dots-horizontal", "faint").pixmap(18, 18))
        self.finding.setText("Looking for problems…" if self.session.scene.cast else "")
        self.finding.setToolTip("")
        self._later.start()

    def refresh(self) -> None:
        """Look for problems at once."""
        s = self.session
        self._show(_find(s.scene, s.assets, s.take()))

    def restyle(self) -> None:
        """Show what is known in the colours of now."""
        self._look()

    def _look(self) -> None:
        """Look for problems beside the window; what is found is shown if the scene is still the same."""
        s = self.session
        scene, assets, take = s.scene, s.assets, s.take()
        found = self._checks.get(scene, lambda: _find(scene, assets, take))
        if found is not None:
            self._show(found)

    def _show(self, findings: list[Finding]) -> None:
        s = self.session
        self.findings = findings
        self._menu.clear()
        if not self.findings:
            calm = "No problems found" if s.scene.cast else "Open a figure or a demo scene to begin"
            self._mark.setPixmap(theme.icon("check", "teal_text").pixmap(18, 18))
            self.finding.setText(calm)
            self.finding.setToolTip("")
            self.fix_button.hide()
            self._more.hide()
            return
        first = self.findings[0]
        name, tint = MARKS[first.weight]
        self._mark.setPixmap(theme.icon(name, tint).pixmap(18, 18))
        self.finding.setText(first.text)
        self.finding.setToolTip(first.text)
        self.fix_button.setVisible(first.fix is not None or first.work is not None)
        self.fix_button.setText(first.fix_label)
        for label, fix in first.more:
            self._menu.addAction(unmarked(label, 200), partial(self.session.edit, label, fix))
        if first.more:
            self._menu.addSeparator()
        others = len(self.findings) - 1
        self._more.setVisible(others > 0 or bool(first.more))
        self._more.setText(f"{others} more" if others else "Other ways")
        for f in self.findings[:24]:
            self._menu.addAction(unmarked(f.text, 200), partial(self.go_to, f))

    def _apply_first(self) -> None:
        first = self.findings[0] if self.findings else None
        if first is not None and first.work is not None:
            mend(self.desk, first)
        elif first is not None and first.fix is not None:
            self.session.edit(first.fix_label, first.fix)

    def go_to(self, finding: Finding) -> None:
        """Go to where something was found: its frame and its bone."""
        if finding.frame is not None:
            self.session.set_frame(finding.frame)
        figure = next((f for f in self.session.scene.figures if f.id == finding.figure), None)
        if figure is not None and finding.bone in figure.bone_index:
            self.session.select(figure.id, frozenset({str(finding.bone)}))

    def _job_started(self, words: str) -> None:
        self.message.setText(words)
        self._words, self._pace, self._said = words, Pace(time.monotonic()), 0.0
        self._clear.stop()
        self.bar.setRange(0, 0)
        self.bar.show()
        self.cancel_button.show()

    def _job_progressed(self, done: int, total: int) -> None:
        now = time.monotonic()
        left = self._pace.left(done, total, now)
        if left is not None and now - self._said > 1.0:
            self._said = now
            self.message.setText(f"{self._words}: {words_of(left)}")
        # a bar that is enabled paints the whole window at once, for every step
        self.bar.setUpdatesEnabled(False)
        self.bar.setRange(0, total)
        self.bar.setValue(done)
        self.bar.setUpdatesEnabled(True)

    def _job_ended(self) -> None:
        self.bar.hide()
        self.cancel_button.hide()
        self.message.setText("")
