"""Flesh as it is used: from an unknown figure to a belly that wobbles under its clips, by mouse and keys in the real window."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QLineEdit

from artuline.core.run.record import run
from artuline.core.scene.mesh import Mesh
from artuline.core.setup.added import ends_of, entry_of
from artuline.core.setup.springy import wobble_scene
from artuline.core.setup.weights import entry_weights
from tests import foreign
from tests.driving import LEFT, drag, field, finish, open_file, press


def seen(w, place):
    """Where a place in the world is on the stage."""
    x, y, _ = w.stage.view().screen(np.asarray(place, float)[None])[0]
    return x, y


def front(w, height):
    """A place on the skin, in front of the figure's middle, at a share of its height."""
    f = w.session.figure()
    points = w.session.assets.decoded(f.asset, Mesh.from_arrays).skin(w.stage.view().states[0].matrices)
    low, high = points.min(axis=0), points.max(axis=0)
    near = points[np.abs(points[:, 1] - low[1] - height * (high[1] - low[1])) < 0.03 * (high[1] - low[1])]
    return near[np.argmax(near[:, 2])]


def share(w, bone):
    f = w.session.figure()
    mesh = w.session.assets.decoded(f.asset, Mesh.from_arrays)
    return entry_weights(mesh, entry_of(f, mesh, bone))


def test_an_unknown_figure_gets_a_belly_that_wobbles(window, qtbot, tmp_path):
    """Opened, fitted, a bone by a click, made springy, looked at under all clips: seven actions."""
    w = window
    open_file(w, qtbot, foreign.write_walker(tmp_path / "walker.glb"))
    w.desk.act("fit")
    finish(w, qtbot)
    w.show()
    qtbot.keyClick(w, Qt.Key.Key_6)
    assert w.station.name == "Flesh"
    qtbot.wait(50)
    press(w, qtbot, "Add a bone")
    at = seen(w, front(w, 0.6))
    qtbot.mouseClick(w.stage, LEFT, pos=QPoint(round(at[0]), round(at[1])))
    (bone,) = w.session.chosen()
    assert w.session.stack.undoText() == "Add a bone" and share(w, bone).max() > 0.5
    assert w.station.commands.bone().parent is not None
    # its weights are seen on the skin
    assert w.stage.states()[0].weights == w.session.figure().bone_index[bone]
    press(w, qtbot, "Make it springy")
    assert bone in w.session.figure().body_of
    press(w, qtbot, "All clips" if len(w.session.figure().clips) > 1 else w.session.figure().clips[0].name)
    finish(w, qtbot)
    assert w.station.commands.playing
    qtbot.waitUntil(lambda: w.stage.running is not None, timeout=3000)
    assert not w.session.scene.takes, "looking leaves nothing in the document"
    # what plays is by the numbers that are shown: a new frequency makes it anew
    commands = w.station.commands
    old = commands.played
    field(w, "Frequency").changed.emit(9.0, True)
    finish(w, qtbot)
    assert commands.playing and commands.played[0][1] is not old[0][1]
    assert not np.array_equal(commands.played[0][1].rotation, old[0][1].rotation)
    scene = wobble_scene(w.session.scene, w.session.figure().id, commands.played[0][0])
    np.testing.assert_array_equal(commands.played[0][1].rotation, run(scene, w.session.assets).rotation)
    w.station.step_back()
    assert w.stage.running is None and not w.station.commands.playing
    # one removal, with all that hangs on it, and undo brings it back
    qtbot.keyClick(w, Qt.Key.Key_Delete)
    assert bone not in w.session.figure().bone_index and w.session.figure().plain is None
    w.session.stack.undo()
    assert bone in w.session.figure().body_of


@pytest.fixture
def plump(window, qtbot, boom):
    """The deckhand in Flesh, with a belly in hand."""
    scene, assets = boom
    window.session.new(scene, assets)
    window.show()
    window.session.select("deckhand", frozenset())
    window.set_station("Flesh")
    window.stage.frame_selection()
    qtbot.wait(50)
    window.desk.act("add flesh")
    at = seen(window, front(window, 0.6))
    qtbot.mouseClick(window.stage, LEFT, pos=QPoint(round(at[0]), round(at[1])))
    return window


def test_handles_move_a_bone_and_its_reach(plump, qtbot):
    w = plump
    (bone,) = w.session.chosen()
    f = w.session.figure()
    before, index = ends_of(f, bone), w.session.stack.index()
    x, y = seen(w, before[1])
    drag(qtbot, w.stage, (x, y), (x + 10, y - 14))
    now = ends_of(w.session.figure(), bone)
    assert w.session.stack.index() == index + 1
    np.testing.assert_allclose(seen(w, now[1]), (x + 10, y - 14), atol=1.5)
    np.testing.assert_allclose(now[0], before[0], atol=1e-6)
    radius = w.station.commands.bone().flesh.radius
    right = w.stage.view().camera.axes()[0]
    x, y = seen(w, now[1] + radius * right)
    drag(qtbot, w.stage, (x, y), (x - 12, y))
    smaller = w.station.commands.bone().flesh.radius
    assert smaller < radius
    box = field(w, "Reach")
    assert box.value == pytest.approx(100.0 * smaller, abs=0.06)
    name = next(e for e in w.details.findChildren(QLineEdit) if e.accessibleName() == "Name of the bone")
    name.setFocus()
    name.selectAll()
    qtbot.keyClicks(name, "paunch")
    qtbot.keyClick(name, Qt.Key.Key_Return)
    assert w.session.chosen() == frozenset({"paunch"}) and "paunch" in w.session.figure().bone_index


@pytest.mark.parametrize("brush", ["add", "take", "smooth", "value"])
def test_a_stroke_paints_weights_as_one_edit(plump, qtbot, brush):
    """Where the brush passes, the weights change its way, and nowhere else; they add up; one step to undo."""
    w = plump
    (bone,) = w.session.chosen()
    commands = w.station.commands
    commands.both = False
    press(w, qtbot, brush)
    assert commands.brush == brush
    commands.radius, commands.strength, commands.value = 0.08, 0.8, 0.4
    before, index = share(w, bone), w.session.stack.index()
    place = front(w, 0.62)
    x, y = seen(w, place)
    drag(qtbot, w.stage, (x, y), (x + 6, y + 4))
    after = share(w, bone)
    assert w.session.stack.index() == index + 1 and w.session.stack.undoText() == f"Paint {bone}"
    changed = np.flatnonzero(np.abs(after - before) > 1e-6)
    points = w.session.assets.decoded(w.session.figure().asset, Mesh.from_arrays).skin(
        w.stage.view().states[0].matrices
    )
    assert len(changed) and np.linalg.norm(points[changed] - place, axis=1).max() < 0.08 + 0.15
    sign = {"add": 1.0, "take": -1.0}.get(brush)
    if sign is not None:
        assert (sign * (after - before)[changed] > 0.0).all()
    if brush == "smooth":
        edges = w.session.assets.decoded(w.session.figure().asset, Mesh.from_arrays).edges
        near = np.isin(edges, changed).all(axis=1)
        rough = [np.abs(np.diff(v[edges[near]], axis=1)).sum() for v in (before, after)]
        assert rough[1] < rough[0]
    w.session.stack.undo()
    np.testing.assert_array_equal(share(w, bone), before)
    w.station.step_back()
    assert commands.brush == ""
