"""The real window, driven by mouse and keys."""

import threading

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QLabel, QPushButton

from artuline.core.scene.assets import AssetStore
from artuline.desk import strip as strip_module
from artuline.desk.stations.all import STATIONS
from artuline.formats.gltf_read import read_figure
from tests import foreign
from tests.driving import (
    LEFT,
    RIGHT,
    drag,
    event_move,
    export,
    field,
    finish,
    lane_point,
    lanes,
    on_stage,
    open_file,
    open_window,
    press,
)


def lane_box(window):
    return lanes(window.timeline)[0][1]


def test_the_whole_job_from_an_empty_scene_to_a_file(window, qtbot, tmp_path):
    s = window.session
    assert window.welcome.isVisible()
    assert open_file(window, qtbot, foreign.write_walker(tmp_path / "walker.glb"))
    assert not window.welcome.isVisible() and window.station.name == "Cast"
    press(window, qtbot, "Fit bodies and joints")
    finish(window, qtbot)
    # the fit leads on to what it made
    assert window.station.name == "Bodies"
    figure = s.scene.figures[0]
    assert len(figure.bodies) >= 10 and len(figure.joints) == len(figure.bodies) - 1
    qtbot.keyClick(window, Qt.Key.Key_7)
    assert window.station.name == "Blend"
    y = lane_box(window).center().y()
    t = window.timeline
    drag(qtbot, t, (t.scale.x(20), y), (t.scale.x(60), y))
    keys = s.scene.figures[0].groups[0].handover.keys
    assert keys[0].frame == 20 and keys[-1].frame == 60
    qtbot.keyClick(window, Qt.Key.Key_F5)
    finish(window, qtbot)
    assert s.scene.take == "take 1" and window.station.name == "Takes"
    qtbot.keyClick(window, Qt.Key.Key_9)
    press(window, qtbot, "Bake the take")
    finish(window, qtbot)
    assert (
        len(s.scene.figures[0].layers) == 1
        and "keys per channel" in window.room("Curves").commands.baked[s.scene.figures[0].id].summary()
    )
    export(window, qtbot, tmp_path / "out.glb")
    back = read_figure(tmp_path / "out.glb", AssetStore()).figure
    assert back.clips[0].name == "move baked"
    # and all the way back
    while s.stack.canUndo():
        s.stack.undo()
    assert s.scene.figures == ()
    while s.stack.canRedo():
        s.stack.redo()
    assert len(s.scene.figures[0].layers) == 1


def test_stations_have_keys_and_show_what_they_are_about(demo, qtbot):
    for n, name in enumerate(s.name for s in STATIONS):
        qtbot.keyClick(demo, str(n + 1))
        assert demo.station.name == name and demo.details.station is demo.station
    demo.set_station("Bodies")
    assert demo.stage.show_.shapes and demo.stage.show_.see_through
    demo.set_station("Joints")
    assert demo.stage.show_.limits


def test_a_click_selects_on_the_stage_and_in_the_roster(demo, qtbot):
    qtbot.mouseClick(demo.stage, LEFT, pos=on_stage(demo, "head"))
    assert demo.session.selection.bones == {"head"}
    assert [i.text(0) for i in demo.roster.selectedItems()] == ["head"]
    shift = Qt.KeyboardModifier.ShiftModifier
    qtbot.mouseClick(demo.stage, LEFT, shift, on_stage(demo, "chest"))
    assert demo.session.selection.bones == {"head", "chest"}
    qtbot.mouseClick(demo.stage, LEFT, pos=QPoint(6, 6))
    assert not demo.session.selection.bones


def test_the_camera_orbits_pans_and_zooms(demo, qtbot):
    camera = demo.stage.camera
    drag(qtbot, demo.stage, (40, 40), (120, 70))
    assert demo.stage.camera.yaw != camera.yaw and demo.stage.camera.pitch != camera.pitch
    camera = demo.stage.camera
    drag(qtbot, demo.stage, (40, 40), (120, 70), RIGHT, Qt.KeyboardModifier.ShiftModifier)
    assert demo.stage.camera.target != camera.target and demo.stage.camera.yaw == camera.yaw
    assert not demo.session.selection.bones


def test_a_number_drags_types_and_resets_in_one_undo_each(demo, qtbot):
    s = demo.session
    demo.set_station("Bodies")
    s.select("deckhand", frozenset({"hand_l", "hand_r"}))
    before = s.stack.count()
    f = field(demo, "Density")
    drag(qtbot, f, (20, 10), (60, 10))
    bodies = s.scene.figures[0].body_of
    assert bodies["hand_l"].density == bodies["hand_r"].density > 1000.0
    assert bodies["head"].density == 1000.0 and s.stack.count() == before + 1
    f = field(demo, "Density")
    qtbot.mouseClick(f, LEFT)
    qtbot.keyClicks(f, "640")
    qtbot.keyClick(f, Qt.Key.Key_Return)
    assert s.scene.figures[0].body_of["hand_l"].density == 640.0
    qtbot.mouseDClick(field(demo, "Density"), LEFT)
    assert s.scene.figures[0].body_of["hand_l"].density == 1000.0
    s.stack.undo()
    assert s.scene.figures[0].body_of["hand_l"].density == 640.0


def test_joint_limits_are_set_by_number(demo, qtbot):
    demo.set_station("Joints")
    demo.session.select("deckhand", frozenset({"head"}))
    f = field(demo, "Twist to")
    qtbot.mouseClick(f, LEFT)
    qtbot.keyClicks(f, "12.5")
    qtbot.keyClick(f, Qt.Key.Key_Return)
    joint = demo.session.scene.figures[0].joint_of["head"]
    assert np.degrees(joint.twist[1]) == pytest.approx(12.5)


def test_limp_from_a_bone_is_one_click(demo, qtbot):
    demo.session.select("deckhand", frozenset({"upper_arm_r"}))
    press(demo, qtbot, "Limp from upper_arm_r down")
    groups = demo.session.scene.figures[0].groups
    assert [g.start_bone for g in groups] == [None, "upper_arm_r"]
    demo.session.stack.undo()
    assert len(demo.session.scene.figures[0].groups) == 1


def test_the_lane_is_moved_and_shaped_by_dragging(demo, qtbot):
    t, s = demo.timeline, demo.session
    lane = s.scene.figures[0].groups[0].handover
    box = lane_box(demo)
    drag(qtbot, t, (t.scale.x(90), box.center().y()), (t.scale.x(94), box.center().y()))
    moved = s.scene.figures[0].groups[0].handover
    assert [k.frame - 4 for k in moved.keys] == [k.frame for k in lane.keys]
    point = lane_point(t, lane_box(demo), moved.keys[-1])
    drag(qtbot, t, (point.x(), point.y()), (t.scale.x(150), point.y()))
    assert s.scene.figures[0].groups[0].handover.keys[-1].frame == 150


def test_the_ruler_scrubs_and_keys_step(demo, qtbot):
    t, s = demo.timeline, demo.session
    drag(qtbot, t, (t.scale.x(10), 10), (t.scale.x(80), 10))
    assert s.frame == 80
    qtbot.keyClick(demo, Qt.Key.Key_Right)
    assert s.frame == 81
    qtbot.keyClick(demo, Qt.Key.Key_Home)
    assert s.frame == s.scene.start
    qtbot.keyClick(demo, Qt.Key.Key_Space)
    assert demo.transport.playing
    qtbot.waitUntil(lambda: s.frame > 3, timeout=5000)
    qtbot.keyClick(demo, Qt.Key.Key_Space)
    assert not demo.transport.playing


def test_the_tryout_lets_go_is_tugged_and_stops_exactly(demo, qtbot):
    s = demo.session
    before, states = s.scene, demo.stage.states()[0].matrices
    qtbot.keyClick(demo, Qt.Key.Key_T)
    assert demo.tryout.running
    qtbot.waitUntil(lambda: demo.stage.live.tryout.time > 0.3, timeout=10000)
    qtbot.keyClick(demo, Qt.Key.Key_P)
    now = demo.stage.live.tryout.time
    qtbot.wait(80)
    assert demo.stage.live.tryout.time == now
    at = on_stage(demo, "chest")
    qtbot.mousePress(demo.stage, LEFT, pos=at)
    event_move(demo.stage, at + QPoint(30, -60), LEFT, Qt.KeyboardModifier.NoModifier)
    assert demo.stage.live.tryout.tug_line() is not None
    qtbot.mouseRelease(demo.stage, LEFT, pos=at + QPoint(30, -60))
    assert demo.stage.live.tryout.tug_line() is None
    qtbot.keyClick(demo, Qt.Key.Key_T)
    assert not demo.tryout.running and s.scene is before
    np.testing.assert_array_equal(demo.stage.states()[0].matrices, states)


def test_a_run_can_be_cancelled_and_the_window_stays_alive(demo, qtbot):
    s = demo.session
    qtbot.keyClick(demo, Qt.Key.Key_F5)
    assert demo.desk.jobs.busy and demo.strip.cancel_button.isVisible()
    # while it runs the window still takes clicks
    qtbot.mouseClick(demo.stage, LEFT, pos=on_stage(demo, "head"))
    assert s.selection.bones == {"head"}
    qtbot.mouseClick(demo.strip.cancel_button, LEFT)
    finish(demo, qtbot)
    # nothing, or what was there by then, and it says so
    assert all("to frame" in t.name and t.end < s.scene.end for t in s.scene.takes)
    assert len(s.scene.takes) <= 1


def test_settings_that_change_make_the_take_out_of_date(demo, qtbot, boom_run):
    scene, assets, _ = boom_run
    demo.session.new(scene, assets)
    demo.set_station("Takes")
    assert any(x.text() == "matches the settings" for x in demo.details.findChildren(QLabel))
    demo.session.edit("Change substeps", lambda sc: sc.changed(substeps=12))
    assert any(x.text() == "out of date" for x in demo.details.findChildren(QLabel))


def test_the_strip_fixes_the_worst_problem(demo, qtbot):
    s = demo.session
    s.edit("No ground", lambda sc: sc.changed(ground=None))
    qtbot.waitUntil(lambda: "no ground" in demo.strip.finding.toolTip(), timeout=10000)
    qtbot.mouseClick(demo.strip.fix_button, LEFT)
    assert s.scene.ground is not None
    demo.strip.refresh()
    assert demo.strip.finding.text() == "No problems found"


def test_a_remedy_waits_while_a_changed_scene_is_looked_at(demo, qtbot, monkeypatch):
    s, strip = demo.session, demo.strip
    s.edit("No ground", lambda sc: sc.changed(ground=None))
    qtbot.waitUntil(lambda: "no ground" in strip.finding.toolTip() and strip.fix_button.isEnabled(), timeout=10000)
    look = threading.Event()
    found = strip_module._find
    monkeypatch.setattr(strip_module, "_find", lambda *given: (look.wait(10), found(*given))[1])
    s.edit("Longer", lambda sc: sc.changed(end=sc.end + 1))
    # what was found before says nothing of the scene that there is now
    assert not strip.fix_button.isVisible() and "Looking" in strip.finding.text() and not strip.findings
    look.set()
    qtbot.waitUntil(strip.fix_button.isVisible, timeout=10000)
    qtbot.mouseClick(strip.fix_button, LEFT)
    assert s.scene.ground is not None


def test_a_bad_file_is_told_and_changes_nothing(demo, qtbot, tmp_path):
    before = demo.session.scene
    (tmp_path / "bad.glb").write_text("no figure")
    (tmp_path / "bad.artuline").write_bytes(b"PK")
    for name in ("bad.glb", "bad.artuline"):
        open_file(demo, qtbot, tmp_path / name)
        assert name in demo.strip.message.toolTip() and demo.session.scene is before


def test_an_impossible_edit_is_told_and_changes_nothing(demo):
    s = demo.session
    before, count = s.scene, s.stack.count()
    assert not s.edit("Set substeps", lambda sc: sc.changed(substeps=0))
    assert s.scene is before and s.stack.count() == count
    assert "substeps" in demo.strip.message.toolTip().lower()


def test_saved_work_opens_again_and_is_remembered(demo, qtbot, tmp_path):
    s = demo.session
    s.edit("Change substeps", lambda sc: sc.changed(substeps=7))
    assert "(changed)" in demo.windowTitle()
    assert s.save(tmp_path / "a.artuline") is None
    assert "(changed)" not in demo.windowTitle() and demo.windowTitle().startswith("a.artuline")
    other = open_window(qtbot)
    open_file(other, qtbot, tmp_path / "a.artuline")
    assert other.session.scene == s.scene and other.desk.memory.recent() == [tmp_path / "a.artuline"]


def test_the_night_theme_redraws_everything(demo, qtbot):
    day = demo.grab().toImage().pixelColor(200, 300).lightness()
    demo.set_night(True)
    qtbot.wait(30)
    assert demo.grab().toImage().pixelColor(200, 300).lightness() < day - 60
    demo.set_night(False)


def test_nothing_to_click_is_too_small(demo):
    for name in (s.name for s in STATIONS):
        demo.set_station(name)
        for b in demo.findChildren(QPushButton):
            if b.isVisible():
                assert b.height() >= 22 and b.width() >= 22, b.text()


def test_the_toolkit_keeps_its_references(demo, qtbot):
    """Playing for long must not end the interpreter: some versions of the toolkit lose a reference to None at every call."""
    import sys

    before = sys.getrefcount(None)
    for _ in range(40):
        demo.stage.grab()
        demo.timeline.grab()
        demo.details.rebuild()
    assert sys.getrefcount(None) > before - 500
