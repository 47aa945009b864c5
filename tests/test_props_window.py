"""Props in the real window: from a file that nobody made for it to a pail that swings from a hand, and all that is corrected on the way."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QFileDialog, QLineEdit, QPushButton

from artuline.core.geometry import rotation
from artuline.core.motion.skeleton import rigid
from artuline.core.setup.hinge import hinge_of
from tests.driving import LEFT, choose, drag, field, finish, handles, on_stage, press
from tests.test_things import skew_pail

KEY = Qt.Key


def bring_in(window, qtbot, monkeypatch, path):
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: (str(path), ""))
    press(window, qtbot, "Bring in a thing…")
    finish(window, qtbot)


def test_a_pail_from_an_unknown_file_swings_in_a_hand_within_thirty_actions(demo, qtbot, tmp_path, monkeypatch):
    """Two loose shells, in centimetres, the hinge skew: every click, key and choice is counted."""
    w, s = demo, demo.session
    path = tmp_path / "bucket.stl"
    skew_pail((0.25, 0.6, -0.15))[0].export(path)
    count = 0

    def act(do, *args):
        nonlocal count
        count += 1
        do(*args)

    act(qtbot.keyClick, w, KEY.Key_4)
    assert w.station.name == "Props"
    count += 1  # the file in the dialog
    act(bring_in, w, qtbot, monkeypatch, path)
    f = w.room("Props").commands.thing()
    assert f is not None and len(f.bones) == 2 and 0.3 < w.room("Props").commands.size(f) < 0.6
    bail = next(b.bone for b in f.bodies if len(b.shapes) > 4)
    vessel = next(b.name for b in f.bones if b.name != bail)
    w.details.open_all()
    act(
        lambda: qtbot.mouseClick(
            next(b for b in w.details.findChildren(QPushButton) if b.accessibleName() == f"Show {vessel}"), LEFT
        )
    )
    act(choose, w, "Hangs on", bail)
    made = s.scene.figure(f.id)
    axis = rotation.rotate(rotation.from_rotation_vector(np.array([0.25, 0.6, -0.15])), np.array([1.0, 0.0, 0.0]))
    assert abs(hinge_of(made, made.joints[0]).axis @ axis) > np.cos(np.radians(3.0))
    act(field(w, "Mass").changed.emit, 8.0, True)
    act(s.set_frame, 40.0)
    act(s.select, None, frozenset())
    act(w.stage.frame_selection)
    w.stage.grab()
    act(lambda: qtbot.mouseClick(w.stage, LEFT, pos=on_stage(w, "hand_l")))
    assert s.selection.bones == {"hand_l"}
    act(press, w, qtbot, "Hold bucket in it")
    act(qtbot.keyClick, w, KEY.Key_F5)
    finish(w, qtbot)
    assert count < 30 and s.scene.take is not None
    take = s.take()
    hung, hand = (take.column(*x) for x in ((f.id, made.body_of[vessel].id), ("deckhand", "hand_l")))
    # it is in the hand, hangs below it, and swings
    away = take.position[48:, hung] - take.position[48:, hand]
    assert np.linalg.norm(away, axis=1).max() < 0.5 and take.separation.max() < 1e-3
    assert np.ptp(take.position[48:100, hung, 2]) > 0.02
    s.stack.undo()
    assert s.scene.take is None


def test_ways_letting_go_passing_on_and_undo(demo, qtbot):
    w, s, c = demo, demo.session, demo.room("Props").commands
    w.set_station("Props")
    choose(w, "Or make a", "ring")
    assert c.thing().id == "ring" and c.thing().body_of["ring"].shapes
    s.set_frame(20)
    s.select("deckhand", frozenset({"hand_r"}))
    qtbot.keyClick(w, KEY.Key_H, Qt.KeyboardModifier.ControlModifier)
    m = c.mount()
    assert m is not None and m.start is None and m.bone == "hand_r" and m.hold == "fixed"
    for title, hold, reach in (("It hangs in the palm", "swings", None), ("It rides at the hip", "fixed", "hand_r"),
                               ("The hand holds the handle", "fixed", None)):  # fmt: skip
        press(w, qtbot, title)
        m = c.mount()
        assert (m.hold, m.reach) == (hold, reach)
    # handed on at a later frame: as it is, so it does not move
    s.set_frame(40)
    before = rigid(w.stage.states()[-1].matrices)[0][0]
    s.select("deckhand", frozenset({"hand_l"}))
    press(w, qtbot, "Pass ring on to it")
    assert [m.bone for m in c.thing().mounts] == ["hand_r", "hand_l"] and c.thing().mounts[0].stop == 40.0
    np.testing.assert_allclose(rigid(w.stage.states()[-1].matrices)[0][0], before, atol=1e-6)
    s.set_frame(60)
    press(w, qtbot, "Let the thing go")
    assert c.thing().mounts[1].stop == 60.0 and c.thing().groups[-1].handover.value(61.0) == 1.0
    assert c.why_no_mount() != ""
    for _ in range(6):
        s.stack.undo()
    assert not c.thing().mounts
    # a ring cannot hold itself, and nothing is let go that is not held
    assert "click the hand" in c.why_no_mount() and "nothing holds" in c.why_not_held()


def test_the_pin_and_the_grip_are_dragged_on_the_stage(demo, qtbot):
    from artuline.core.scene import edit
    from artuline.demo import things

    w, s, c = demo, demo.session, demo.room("Props").commands
    s.edit("A pail", lambda x: edit.add_figure(x, things.pail(s.assets).changed(position=(-0.6, 0.0, 0.0))))
    w.set_station("Props")
    c.take("pail", "pail")
    w.stage.frame_selection()
    w.stage.grab()
    pins = handles(w, 0)
    a = pins._screen(pins.places()["move"])
    old = hinge_of(c.thing(), c.joint())
    drag(qtbot, w.stage, a, a + np.array([0.0, -40.0]))
    new = hinge_of(c.thing(), c.joint())
    assert new.pivot[1] > old.pivot[1] + 0.01 and abs(new.axis @ old.axis) > 0.999
    np.testing.assert_allclose(
        w.stage.view().screen((new.pivot + np.array([-0.6, 0.0, 0.0]))[None])[0, :2],
        a + np.array([0.0, -40.0]),
        atol=3.0,
    )
    press(w, qtbot, "Next axis")
    assert abs(hinge_of(c.thing(), c.joint()).axis @ new.axis) < 1e-6
    field(w, "Turns from").changed.emit(-30.0, True)
    assert np.degrees(c.joint().twist[0]) == pytest.approx(-30.0)
    press(w, qtbot, "Unhang")
    assert not c.thing().joints
    s.select("deckhand", frozenset({"hand_r"}))
    press(w, qtbot, "Hold pail in it")
    w.stage.frame_selection()
    w.stage.grab()
    grip = handles(w, 1)
    a = grip._screen(grip.places()["move"])
    old = c.mount()
    drag(qtbot, w.stage, a, a + np.array([30.0, 0.0]))
    np.testing.assert_allclose(c.mount().rotation, old.rotation, atol=1e-9)
    assert np.linalg.norm(np.subtract(c.mount().position, old.position)) > 0.005
    np.testing.assert_allclose(
        handles(w, 1)._screen(handles(w, 1).places()["move"]), a + np.array([30.0, 0.0]), atol=3.0
    )


def test_parts_are_cut_in_a_frame_joined_named_and_removed(demo, qtbot):
    w, s, c = demo, demo.session, demo.room("Props").commands
    w.set_station("Props")
    choose(w, "Or make a", "rod")
    choose(w, "Add a", "ball")
    assert [b.name for b in c.thing().bones] == ["rod", "ball"]
    c.take("rod", "rod")
    w.stage.frame_selection()
    w.stage.grab()
    press(w, qtbot, "Cut…")
    k = next(i for i, f in enumerate(s.scene.figures) if f.id == "rod")
    b = c.thing().bone_index["rod"]
    x, y, _ = w.stage.view().screen(w.stage.states()[k].matrices[b][None, :3, 3])[0]
    drag(qtbot, w.stage, (x - 60.0, y - 300.0), (x + 60.0, y - 4.0), modifier=Qt.KeyboardModifier.ControlModifier)
    assert len(c.thing().bones) == 3 and c.parts() == ["rod 2"]
    name = next(e for e in w.details.findChildren(QLineEdit) if e.accessibleName() == "Name")
    name.setText("tip")
    name.editingFinished.emit()
    assert c.parts() == ["tip"]
    c.take("rod", "rod", "tip")
    assert any("Hang tip on rod" in b.text() for b in w.details.findChildren(QPushButton))
    press(w, qtbot, "Join them")
    assert [b.name for b in c.thing().bones] == ["rod", "ball"]
    field(w, "Mass").changed.emit(2.5, True)
    assert c.thing().body_of["rod"].mass == 2.5
    choose(w, "Shape", "box")
    assert c.thing().body_of["rod"].shapes[0].kind == "box" and c.thing().body_of["rod"].mass == 2.5
    c.take("rod")
    qtbot.keyClick(w.stage, KEY.Key_Delete)
    assert c.thing() is None
    qtbot.mouseClick(w.stage, LEFT, pos=QPoint(8, w.stage.height() - 8))


def test_three_ways_are_three_takes_and_the_one_that_is_set_shows(qtbot):
    from artuline.core.scene import edit
    from artuline.core.scene.assets import AssetStore
    from artuline.demo.scenes import demo_scene
    from tests.driving import open_window

    w, assets = open_window(qtbot), AssetStore()
    w.session.new(edit.scene(demo_scene("pail", assets), end=6, warm_up=0), assets)
    w.set_station("Props")
    press(w, qtbot, "Run all three ways")
    finish(w, qtbot)
    s = w.session.scene
    assert w.station.name == "Takes" and [t.name for t in s.takes] == ["take 1, handle", "take 2, palm", "take 3, hip"]
    assert s.take == "take 1" and s.active_take().settings == s.settings_fingerprint()
    w.session.stack.undo()
    assert not w.session.scene.takes
