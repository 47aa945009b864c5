"""Random actions on the real window: keys, mouse, buttons, fields, lists and menus over the demo scenes and foreign figures.

    python -m benchmarks.random_actions [ACTIONS] [SEED]

Stops with exit code 1 where something raises, Qt warns, the window's own processor time for one action passes 300 ms, or undoing everything
does not give the first scene back, and doing it again the last.
"""

import contextlib
import os
import sys
import tempfile
import time
import traceback

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp()

import numpy as np
from PySide6.QtCore import QEvent, QEventLoop, QPoint, QPointF, Qt, QTimer, qInstallMessageHandler
from PySide6.QtGui import QKeyEvent, QMouseEvent, QWheelEvent
from PySide6.QtWidgets import QAbstractButton, QApplication, QComboBox, QDialog, QMenu, QSlider, QWidget

from artuline.core.scene import paths
from artuline.core.scene.assets import AssetStore
from artuline.demo.scenes import DEMOS, demo_scene
from artuline.desk.application import make_application
from artuline.desk.widgets.fields import NumberField
from artuline.desk.window import Window

LONGEST = 0.3  # seconds of the window's own processor time for one action
# What opens a dialog of the system's, leaves the document, or draws at the size of a screen
LEFT_OUT = {
    "new",
    "open",
    "recent",
    "figure",
    "recover",
    "save",
    "save as",
    "export",
    "close",
    "save setup",
    "guide",
    "shortcuts",
    "about",
}
LEFT_OUT_WORDS = (
    "Open",
    "Export",
    "From a file",
    "Save setup",
    "Recover",
    "Drop it",
    "Add a figure",
    "Any other setting",
)
KEYS = [Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Tab, Qt.Key.Key_Backtab, Qt.Key.Key_Escape, Qt.Key.Key_Delete, Qt.Key.Key_Left,
        Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Home, Qt.Key.Key_End, Qt.Key.Key_F, Qt.Key.Key_T, Qt.Key.Key_P,
        Qt.Key.Key_R, Qt.Key.Key_N, Qt.Key.Key_X, Qt.Key.Key_S, Qt.Key.Key_1, Qt.Key.Key_2, Qt.Key.Key_3, Qt.Key.Key_4, Qt.Key.Key_5,
        Qt.Key.Key_6, Qt.Key.Key_7, Qt.Key.Key_9, Qt.Key.Key_Minus, Qt.Key.Key_Plus]  # fmt: skip
TYPED = ("1", "0", "-3", "1/2", "2*3", "+5", "10 cm", "12abc", "1e400", "", "0,5", "90", "((", "999999", "1/0")


class Trial:
    """One window with one scene, and random hands."""

    def __init__(self, window: Window, seed: int):
        self.window, self.random = window, np.random.default_rng(seed)
        self.said: list[str] = []
        self.slowest = 0.0
        self._since = time.thread_time()

    def handled(self) -> None:
        """An event has been handled, and what it gave rise to: how long did it take?"""
        for _ in range(2):
            QApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 1)
            # a running event loop does this by itself
            QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
            now = time.thread_time()
            self.slowest = max(self.slowest, now - self._since)
            self._since = now

    def pick(self, items):
        return items[int(self.random.integers(len(items)))] if len(items) else None

    def point(self, w: QWidget) -> QPointF:
        return QPointF(self.random.uniform(0, max(w.width() - 1, 1)), self.random.uniform(0, max(w.height() - 1, 1)))

    def mouse(self, w: QWidget, kind, at: QPointF, button, buttons, modifiers) -> None:
        self._since = time.thread_time()
        QApplication.sendEvent(w, QMouseEvent(kind, at, w.mapToGlobal(at), button, buttons, modifiers))
        self.handled()

    def modifiers(self):
        return self.pick(
            [Qt.KeyboardModifier.NoModifier] * 4
            + [Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier]
        )

    # the kinds of actions

    def drag(self) -> str:
        w = self.pick(
            [
                self.window.stage,
                self.window.timeline,
                self.window.stage,
                self.window.timeline,
                self.window.roster.viewport(),
            ]
        )
        button = self.pick([Qt.MouseButton.LeftButton] * 4 + [Qt.MouseButton.RightButton, Qt.MouseButton.MiddleButton])
        a, b, m = self.point(w), self.point(w), self.modifiers()
        none = Qt.MouseButton.NoButton
        self.mouse(w, QEvent.Type.MouseMove, a, none, none, m)
        self.mouse(w, QEvent.Type.MouseButtonPress, a, button, button, m)
        for t in np.linspace(0.2, 1.0, int(self.random.integers(0, 6))):
            self.mouse(w, QEvent.Type.MouseMove, a + (b - a) * float(t), none, button, m)
        self.mouse(w, QEvent.Type.MouseButtonRelease, b, button, none, m)
        return f"drag on {type(w).__name__} {a.toPoint().toTuple()} to {b.toPoint().toTuple()}"

    def double(self) -> str:
        w = self.pick([self.window.timeline, self.window.stage])
        at, left, none = self.point(w), Qt.MouseButton.LeftButton, Qt.MouseButton.NoButton
        for kind in (
            QEvent.Type.MouseButtonPress,
            QEvent.Type.MouseButtonRelease,
            QEvent.Type.MouseButtonDblClick,
            QEvent.Type.MouseButtonRelease,
        ):
            self.mouse(w, kind, at, left, left if "Release" not in str(kind) else none, Qt.KeyboardModifier.NoModifier)
        return f"double click on {type(w).__name__} {at.toPoint().toTuple()}"

    def wheel(self) -> str:
        w = self.pick([self.window.stage, self.window.timeline])
        at = self.point(w)
        step = QPoint(0, int(self.pick([-240, -120, 120, 240])))
        QApplication.sendEvent(w, QWheelEvent(at, w.mapToGlobal(at), QPoint(), step, Qt.MouseButton.NoButton,
                                              Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False))  # fmt: skip
        return f"wheel on {type(w).__name__}"

    def key(self) -> str:
        k, m = self.pick(KEYS), self.modifiers()
        w = QApplication.focusWidget() or self.window
        text = chr(int(k)) if int(k) < 256 else ""
        event = QKeyEvent(QEvent.Type.ShortcutOverride, k, m, text)
        event.ignore()
        QApplication.sendEvent(w, event)
        if not event.isAccepted():
            found = [
                a
                for a in self.window.desk.actions.made.values()
                if a.shortcut().matches(_sequence(k, m)).value == 2 and a.isEnabled()
            ]
            if found:
                if not self._left_out(found[0]):
                    found[0].trigger()
                return f"key {k.name} on {type(w).__name__}: {found[0].text()}"
        QApplication.sendEvent(w, QKeyEvent(QEvent.Type.KeyPress, k, m, text))
        QApplication.sendEvent(w, QKeyEvent(QEvent.Type.KeyRelease, k, m, text))
        return f"key {k.name} on {type(w).__name__}"

    def _left_out(self, action) -> bool:
        return next((i for i, a in self.window.desk.actions.made.items() if a is action), "") in LEFT_OUT

    def button(self) -> str:
        shown = [b for b in self.window.findChildren(QAbstractButton) if b.isVisible() and b.isEnabled()]
        shown = [
            b for b in shown if not b.text().startswith(LEFT_OUT_WORDS) and getattr(b, "menu", lambda: None)() is None
        ]
        b = self.pick(shown)
        if b is None:
            return "no button"
        words = f"button {b.text() or b.accessibleName()!r}"
        b.setFocus()
        b.click()
        return words

    def field(self) -> str:
        f = self.pick([f for f in self.window.details.findChildren(NumberField) if f.isVisible()])
        if f is None:
            return "no field"
        text = self.pick(TYPED)
        name = f.accessibleName()
        f.setFocus()
        f.begin_typing()
        f.setText(text)
        QApplication.sendEvent(f, QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_Return, Qt.KeyboardModifier.NoModifier))
        return f"field {name!r}: {text!r}"

    def list_(self) -> str:
        box = self.pick([b for b in self.window.details.findChildren(QComboBox) if b.isVisible() and b.count()])
        if box is None:
            return "no list"
        i = int(self.random.integers(box.count()))
        if box.itemText(i).startswith(LEFT_OUT_WORDS):
            return "left out"
        words = f"list {box.accessibleName()!r}: {box.itemText(i)!r}"
        box.setCurrentIndex(i)
        text = box.itemText(i)
        box.activated.emit(i)
        with contextlib.suppress(RuntimeError):  # the panel was made anew
            box.textActivated.emit(text)
        return words

    def slider(self) -> str:
        s = self.pick([s for s in self.window.findChildren(QSlider) if s.isVisible()])
        if s is None:
            return "no slider"
        s.setValue(int(self.random.integers(s.minimum(), s.maximum() + 1)))
        return "slider"

    def menu(self) -> str:
        names = [i for i, a in self.window.desk.actions.made.items() if i not in LEFT_OUT and a.isEnabled()]
        name = self.pick(names)
        self.window.desk.actions.made[name].trigger()
        return f"action {name!r}"

    def select(self) -> str:
        f = self.pick(self.window.session.scene.figures)
        if f is None:
            return "nothing to select"
        bones = [b.name for b in f.bones]
        n = int(self.random.integers(0, 4))
        self.window.session.select(f.id, frozenset(self.pick(bones) for _ in range(n)))
        return "selection"

    def undo(self) -> str:
        self.window.session.stack.undo() if self.random.random() < 0.6 else self.window.session.stack.redo()
        return "undo or redo"

    def act(self) -> None:
        kinds = (
            [self.drag] * 6 + [self.key] * 6 + [self.button] * 6 + [self.field] * 4 + [self.list_] * 3 + [self.menu] * 4
        )
        kinds += [self.select] * 2 + [self.undo] * 2 + [self.double, self.wheel, self.slider]
        self._since, self.slowest = time.thread_time(), 0.0
        self.said.append(self.pick(kinds)())
        self.handled()


def _sequence(k, m):
    from PySide6.QtCore import QKeyCombination
    from PySide6.QtGui import QKeySequence

    return QKeySequence(QKeyCombination(m, k))


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    faults: list[str] = []
    warnings: list[str] = []
    sys.excepthook = lambda kind, error, trace: faults.append(
        "".join(traceback.format_exception(kind, error, trace)[-4:])
    )
    app = make_application()
    qInstallMessageHandler(
        lambda kind, context, text: warnings.append(text) if "plugin does not support" not in text else None
    )

    def close_dialogs() -> None:
        popup = app.activePopupWidget()
        if isinstance(popup, QMenu):
            popup.close()
        dialog = app.activeModalWidget()
        if isinstance(dialog, QDialog):
            dialog.reject()

    closer = QTimer()
    closer.setInterval(30)
    closer.timeout.connect(close_dialogs)
    closer.start()
    slow, different, worst = 0, 0, 0.0
    for n, name in enumerate(DEMOS):
        window = Window()
        window.show()
        assets = AssetStore()
        window.session.new(demo_scene(name, assets), assets)
        window.set_station("Blend")
        first = window.session.scene
        trial = Trial(window, seed * 100 + n)
        for k in range(count // len(DEMOS)):
            before = len(faults) + len(warnings)
            trial.act()
            if len(faults) + len(warnings) > before:
                print(f"{name}, action {k}, {trial.said[-1]}: {(faults + warnings)[-1]}")
            worst = max(worst, trial.slowest)
            if trial.slowest > LONGEST:
                slow += 1
                print(f"{name}, action {k}: {1000 * trial.slowest:.0f} ms for {trial.said[-1]}")
            if k % 50 == 49:
                # long work comes to its end now and then
                until = time.monotonic() + 20.0
                while window.desk.jobs.busy and time.monotonic() < until:
                    QApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 20)
                window.desk.jobs.cancel()
        until = time.monotonic() + 30.0
        while window.desk.jobs.busy and time.monotonic() < until:
            QApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 20)
        window.session.cancel_preview()
        last, stack = window.session.scene, window.session.stack
        place = stack.index()
        while stack.canUndo():
            stack.undo()
        if window.session.scene != first:
            different += 1
            print(f"{name}: not the first scene after undoing: {paths.differences(first, window.session.scene)[:5]}")
        while stack.index() < place:
            stack.redo()
        if window.session.scene != last:
            different += 1
            print(f"{name}: not the last scene after doing again: {paths.differences(last, window.session.scene)[:5]}")
        stack.setClean()
        window.close()
        window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        QApplication.processEvents()
    print(f"{count} actions, seed {seed}: {len(faults)} exceptions, {len(warnings)} warnings, {slow} above {1000 * LONGEST:.0f} ms "
          f"(longest {1000 * worst:.0f}), "
          f"{different} scenes that differ after undoing or doing again")  # fmt: skip
    sys.exit(bool(faults or warnings or slow or different))


if __name__ == "__main__":
    main()
