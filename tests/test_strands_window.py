"""Strands in the real window, by mouse and keys: the three demo scenes from nothing, and what else the station does."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QComboBox, QMessageBox

from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import MotionKey, Scene, Shape, obstacle
from artuline.view.camera import Camera
from tests.driving import LEFT, drag, field, finish, press


class Count:
    """Counts what a user does."""

    def __init__(self, window, qtbot):
        self.window, self.qtbot, self.n = window, qtbot, 0

    def click(self, place):
        """Click a place in the world on the stage."""
        self.n += 1
        view = self.window.stage.view()
        x, y, _ = view.screen(np.array([place], float))[0]
        self.qtbot.mouseClick(self.window.stage, LEFT, pos=QPoint(round(x), round(y)))

    def bone(self, name, away=(0.0, 0.0, 0.0), figure=0):
        """Click a bone of a figure on the stage."""
        f = self.window.session.scene.figures[figure]
        self.click(self.window.stage.states()[figure].matrices[f.bone_index[name], :3, 3] + np.array(away))

    def key(self, key, modifier=Qt.KeyboardModifier.NoModifier):
        self.n += 1
        self.qtbot.keyClick(self.window.stage, key, modifier)

    def press(self, words):
        self.n += 1
        press(self.window, self.qtbot, words)

    def choose(self, name, item):
        """Choose an item of a list in the details."""
        self.n += 1
        box = next(b for b in self.window.details.findChildren(QComboBox) if b.accessibleName() == name)
        box.setFocus()
        box.setCurrentText(item)
        box.textActivated.emit(item)

    def number(self, name, value):
        self.n += 1
        made = field(self.window, name)
        made.setFocus()
        typed(self.qtbot, made, value)


def typed(qtbot, made, value):
    """Type a number into a field."""
    qtbot.keyClick(made, Qt.Key.Key_Return)
    made.selectAll()
    qtbot.keyClicks(made, str(value))
    qtbot.keyClick(made, Qt.Key.Key_Return)


@pytest.fixture
def on_deck(window, qtbot, deckhand_ready):
    """The deckhand who walks, with a cleat behind him and a bollard, seen from the side; in the station Strands."""
    figure, store = deckhand_ready
    assets = AssetStore()
    assets.take_over(store)
    figure = figure.changed(clip="walk", clips=tuple(c.changed(loop=True) for c in figure.clips))
    half = float(np.sqrt(0.5))
    cleat = obstacle(
        "cleat", Shape(kind="box", half=(0.1, 0.1, 0.1)), (MotionKey(frame=0, position=(-0.3, 0.1, -0.9)),)
    )
    post = obstacle("bollard", Shape(kind="capsule", radius=0.14, half_length=0.3, rotation=(0.0, 0.0, half, half)),
                    (MotionKey(frame=0, position=(1.1, 0.4, 0.2)),))  # fmt: skip
    window.session.new(Scene(end=24, figures=(figure, cleat, post)), assets)
    window.set_station("Strands")
    window.stage.camera = Camera(target=(0.2, 0.9, 0.0), distance=3.6, yaw=-0.9, pitch=0.25)
    window.stage.refresh()
    window.stage.setFocus()
    return window


def strands(window):
    return [f for f in window.session.scene.figures if f.made is not None]


def run_it(window, qtbot):
    window.desk.act("run")
    finish(window, qtbot)
    return window.session.take()


def test_a_mooring_line_is_drawn_from_nothing_and_run(on_deck, qtbot):
    do = Count(on_deck, qtbot)
    do.key(Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
    do.bone("fingers_r")
    do.bone("upper_arm_r", (0.02, 0.06, 0.0))
    do.click((-0.3, 0.2, -0.9))
    do.key(Qt.Key.Key_Return)
    (line,) = strands(on_deck)
    points = line.made.points
    assert points[0].bone == "hand_r" and points[-1].figure == "cleat" and len(points) >= 3
    # what it was drawn on is touched as one sees it
    assert on_deck.session.scene.figures[0].skin
    take = run_it(on_deck, qtbot)
    assert take is not None and take.penetration.max() < 0.01
    assert do.n < 7
    on_deck.desk.act("undo")
    on_deck.desk.act("undo")
    assert not strands(on_deck) and not on_deck.session.scene.figures[0].skin


def test_floats_are_drawn_closed_and_released(on_deck, qtbot):
    do = Count(on_deck, qtbot)
    do.choose("As a", "beads")
    do.press("Draw beads")
    for angle in np.linspace(0.0, 2.0 * np.pi, 6, endpoint=False):
        do.click((1.1 + 0.35 * np.cos(angle), 1.2, 0.2 + 0.35 * np.sin(angle)))
    do.press("Close it")
    (made,) = strands(on_deck)
    assert made.made.closed and made.made.kind == "beads"
    do.number("How many", 3)
    do.number("Frames apart", 6)
    do.press("Release them")
    found = strands(on_deck)
    assert len(found) == 3 and [f.enters for f in found] == [None, 6.0, 12.0]
    assert run_it(on_deck, qtbot) is not None
    assert do.n <= 13
    on_deck.desk.act("undo")
    on_deck.desk.act("undo")
    assert len(strands(on_deck)) == 1


def test_a_collar_goes_round_a_bone_and_a_lead_hangs_on_it(on_deck, qtbot):
    do = Count(on_deck, qtbot)
    on_deck.stage.camera = Camera(target=(0.0, 1.4, 0.0), distance=1.5, yaw=0.6, pitch=0.2)
    on_deck.stage.refresh()
    do.bone("neck", (0.0, 0.02, 0.0))
    assert on_deck.session.selection.bones
    bone = next(iter(on_deck.session.selection.bones))
    do.press("Around a bone")
    (ring,) = strands(on_deck)
    assert ring.made.closed and not ring.mounts
    skin = on_deck.stage.states()[0].matrices[on_deck.session.scene.figures[0].bone_index[bone], :3, 3]
    assert np.linalg.norm(np.mean([p.position for p in ring.made.points], axis=0) - skin) < 0.25
    do.choose("As a", "rope")
    do.key(Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
    index = next(i for i, f in enumerate(on_deck.session.scene.figures) if f.id == ring.id)
    m = on_deck.stage.states()[index].matrices
    middles = m[:, :3, 3] + 0.5 * np.linalg.norm(m[1, :3, 3] - m[0, :3, 3]) * m[:, :3, 0]
    seen = on_deck.stage.view().screen(middles)

    def on_ring(x, y):
        hit = on_deck.stage.pick_at(QPointF(x, y))
        return hit is not None and hit[0] == ring.id

    # a part that nothing hides
    shown = [k for k, (x, y, _) in enumerate(seen) if all(on_ring(round(x) + i, round(y) + i) for i in (-3, 0, 3))]
    do.click(middles[shown[0]])
    assert on_deck.station.commands.drawn[0][1][0] == ring.id
    do.click((0.1, 1.25, 0.3))
    do.click((0.2, 1.15, 0.3))
    do.key(Qt.Key.Key_Return)
    lead = strands(on_deck)[-1]
    assert ring.id in {m.figure for m in lead.mounts}
    assert run_it(on_deck, qtbot) is not None
    assert do.n < 10


def test_points_are_taken_moved_held_and_freed(on_deck, qtbot, monkeypatch):
    do = Count(on_deck, qtbot)
    do.key(Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
    for place in ((0.9, 1.5, 0.3), (1.1, 1.5, -0.2), (1.3, 1.5, -0.7)):
        do.click(place)
    do.key(Qt.Key.Key_Backspace)
    assert len(on_deck.station.commands.drawn) == 2
    do.click((1.3, 1.5, -0.7))
    do.press("End the strand")
    (line,) = strands(on_deck)
    view = on_deck.stage.view()
    x, y, _ = view.screen(np.array([line.made.points[1].position]))[0]
    drag(qtbot, on_deck.stage, (x, y), (x, y - 40))
    moved = strands(on_deck)[0]
    assert moved.made.points[1].position[1] > line.made.points[1].position[1] + 0.05
    assert moved.made.points[0] == line.made.points[0]
    x, y, _ = on_deck.stage.view().screen(np.array([moved.made.points[0].position]))[0]
    qtbot.mouseClick(on_deck.stage, LEFT, pos=QPointF(x, y).toPoint())
    assert on_deck.station.commands.point == 0
    do.choose("Point 1 held by", "pinned")
    assert [k.a.figure for k in on_deck.session.scene.links] == [line.id]
    do.choose("Point 1 held by", "mounted")
    assert not on_deck.session.scene.links and strands(on_deck)[0].mounts
    do.choose("Point 1 held by", "free")
    assert not strands(on_deck)[0].mounts
    # edits by hand are named before they are lost
    last = line.bodies[-1].id
    on_deck.session.edit("by hand", lambda s: edit.bodies(s, line.id, {last}, lambda b: b.changed(mass=1.0)))
    asked = []

    def answer(*words):
        asked.append(words[2])
        return QMessageBox.StandardButton.No

    monkeypatch.setattr(QMessageBox, "question", answer)
    on_deck.station.commands.change("Number of parts", count=6)
    assert last in asked[0] and len(strands(on_deck)[0].bones) == len(line.bones)
    do.key(Qt.Key.Key_Escape)
    on_deck.session.select(line.id, frozenset())
    on_deck.desk.act("remove")
    assert not strands(on_deck)
