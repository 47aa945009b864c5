"""Driving the real window by mouse and keys."""

import numpy as np
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication, QComboBox, QPushButton

from artuline.core.bake.merged import Rests
from artuline.desk.deliver_dialog import Wish
from artuline.desk.widgets.fields import NumberField
from artuline.desk.window import Window
from artuline.view.movies import MovieWish

LEFT = Qt.MouseButton.LeftButton
RIGHT = Qt.MouseButton.RightButton


def open_window(qtbot):
    """A window that asks neither about unsaved work nor about what still runs when the test ends, however it ends."""
    w = Window()

    def leave(w):
        w.session.stack.setClean()
        w.desk.jobs.abandon()

    qtbot.addWidget(w, before_close_func=leave)
    w.resize(1280, 800)
    return w


def finish(window, qtbot):
    qtbot.waitUntil(lambda: not window.desk.jobs.busy, timeout=20000)


def open_file(window, qtbot, path):
    """Open a file and wait until it is there."""
    assert window.files.open_path(path)
    finish(window, qtbot)
    return True


def export(window, qtbot, path):
    """Export the present figure, as the dialog does once its choices are made, and wait until the file is there."""
    which = (window.session.figure().id,)
    window.files.deliver(Wish(path, which, False, Rests(), False, MovieWish(64, 64, None, None, False, False)))
    finish(window, qtbot)
    assert path.exists()


def press(window, qtbot, text):
    """Click the button of the details with this text, unfolding what hides it."""

    def look():
        return [
            b for b in window.details.findChildren(QPushButton) if (b.text() or b.accessibleName()).startswith(text)
        ]

    found = look()
    if not found:
        window.details.open_all()
        found = look()
    assert found, [b.text() for b in window.details.findChildren(QPushButton)]
    qtbot.mouseClick(found[0], LEFT)


def choose(window, name, text):
    """Choose from a list in the details, opened where it is folded away."""
    if not any(b.accessibleName() == name for b in window.details.findChildren(QComboBox)):
        window.details.open_all()
    box = next(b for b in window.details.findChildren(QComboBox) if b.accessibleName() == name)
    assert box.findText(text) >= 0, [box.itemText(i) for i in range(box.count())]
    box.setCurrentText(text)
    box.textActivated.emit(text)


def field(window, name):
    """The number field of the details with this name, unfolding what hides it."""

    def look():
        return [f for f in window.details.findChildren(NumberField) if f.accessibleName() == name]

    made = look()
    if not made:
        window.details.open_all()
        made = look()
    assert made, name
    return made[0]


def drag(qtbot, widget, a, b, button=LEFT, modifier=Qt.KeyboardModifier.NoModifier):
    a, b = QPointF(*a).toPoint(), QPointF(*b).toPoint()
    qtbot.mousePress(widget, button, modifier, a)
    for k in range(1, 6):
        qtbot.mouseMove(widget, a + (b - a) * k / 5)
        event_move(widget, a + (b - a) * k / 5, button, modifier)
    qtbot.mouseRelease(widget, button, modifier, b)


def event_move(widget, at, button, modifier):
    """A move with the button held, which qtbot's own moves do not carry."""
    where = QPointF(at)
    event = QMouseEvent(QEvent.Type.MouseMove, where, widget.mapToGlobal(where), button, button, modifier)
    QApplication.sendEvent(widget, event)


def on_stage(window, bone):
    """Pixel of the middle of a bone's body on the stage."""
    f = window.session.scene.figures[0]
    m = window.stage.states()[0].matrices[f.bone_index[bone]]
    shape = f.body_of[bone].shapes[0]
    place = m[:3, :3] @ np.array(shape.position) + m[:3, 3]
    x, y, _ = window.stage.camera.project(place[None], window.stage.width(), window.stage.height())[0]
    return QPoint(round(x), round(y))


def lanes(timeline):
    """The lanes of the timeline with their rectangles."""
    return [(row, box) for row, box in timeline.boxes() if row.scrolls]


def lane_point(timeline, box, key):
    """Pixel of a key of the first lane."""
    return lanes(timeline)[0][0].point(box, timeline.scale, key)


def handles(window, tool=0):
    """The handles of one of the station's tools on the stage."""
    return window.station.tools()[tool].handles(window.stage.view())
