"""Curves as it is used: bake, edit by mouse and keys, look whether it is still physical, export; all through the real window."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QApplication, QFileDialog

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.bake.path_keys import path
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_pose
from artuline.core.run.plausible import doubts
from artuline.core.scene.assets import AssetStore
from artuline.formats.bvh_read import read_motion
from artuline.formats.gltf_read import read_figure
from artuline.formats.scene_file import load_scene, save_scene
from tests.driving import LEFT, drag, event_move, field, finish, press

CONTROL, SHIFT, NONE = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.NoModifier,
)


@pytest.fixture(scope="module")
def layered(boom_run):
    """The scene with its take baked onto a layer."""
    scene, assets, take = boom_run
    baked = bake_figure(scene, assets, scene.figures[0], take, BakeWish(1.0, 10.0))
    return add_layer(scene, assets, "deckhand", baked, "take 1 baked", scene.take)


def opened(window, qtbot, scene, assets):
    window.session.new(scene, assets)
    window.set_station("Curves")
    window.station.commands.show_layers(True)
    window.show()
    window.session.select("deckhand", frozenset({"upper_arm_l"}))
    qtbot.wait(50)
    return window


@pytest.fixture
def curves(window, qtbot, boom_run, layered):
    """The window in Curves, with baked keys and the arm in hand."""
    return opened(window, qtbot, layered, boom_run[1])


@pytest.fixture
def baking(window, qtbot, boom_run):
    """The same, the take baked by its button."""
    scene, assets, _ = boom_run
    window.session.new(scene, assets)
    window.set_station("Curves")
    window.station.editing.set_source("lanes")
    press(window, qtbot, "Bake the take")
    finish(window, qtbot)
    # what was baked is what is edited next
    assert window.station.editing.on_layer()
    return opened(window, qtbot, window.session.scene, assets)


def canvas_of(window):
    return window.station.pane.canvas


def pixel(canvas, frame, value):
    (x,), (y,) = canvas.to_pixels(np.array([frame]), np.array([value]))
    return float(x), float(y)


def key_at(canvas, axis, near):
    """A key of an axis near a frame: row, frame, value."""
    _, _, rows, axes, x, y, _ = canvas.points()
    mine = np.flatnonzero(axes == axis)
    i = mine[np.argmin(np.abs(x[mine] - near))]
    return int(rows[i]), float(x[i]), float(y[i])


def test_keys_are_baked_picked_dragged_and_undone(baking, qtbot):
    curves = baking
    w, canvas, name = curves, canvas_of(curves), ("upper_arm_l", "rotation")
    editing, view = w.station.editing, canvas_of(curves).viewport()
    assert w.station.source == "layers" and list(editing.shown()) == [name]
    before, count = editing.curves(name), w.session.stack.count()
    seen = w.stage.states()[0].matrices.copy()
    w.session.set_frame(100)
    times = before.times * 24
    row, x, y = key_at(canvas, 1, times[np.argmax(np.diff(times)[1:]) + 1])
    at = pixel(canvas, x, y)
    (step_x, _), (_, step_y) = pixel(canvas, x + 3, y), pixel(canvas, x, y + 15)
    qtbot.mousePress(view, LEFT, NONE, QPointF(*at).toPoint())
    for k in range(1, 5):
        event_move(view, (QPointF(*at) + QPointF(step_x - at[0], step_y - at[1]) * k / 4).toPoint(), LEFT, NONE)
    # the stage follows while the key is held
    assert np.abs(w.stage.states()[0].matrices - seen).max() > 1e-3 and w.session.stack.count() == count
    qtbot.mouseRelease(view, LEFT, NONE, QPointF(step_x, step_y).toPoint())
    after = editing.curves(name)
    assert w.session.stack.count() == count + 1 and editing.count() == 1
    assert after.times[row] * 24 == pytest.approx(x + 3, abs=1.01)
    assert abs(after.values[row, 1] - y) > 5.0
    others = [k for k in range(len(before.times)) if k != row]
    np.testing.assert_allclose(after.values[others], before.values[others], atol=1e-6)
    w.session.stack.undo()
    np.testing.assert_array_equal(editing.curves(name).values, before.values)


def test_box_free_form_and_keyboard_pick_and_move(curves, qtbot):
    w, canvas = curves, canvas_of(curves)
    editing, view = w.station.editing, canvas.viewport()
    area = canvas.box.sceneBoundingRect()
    drag(qtbot, view, (area.left() + 3, area.top() + 3), (area.right() - 3, area.bottom() - 3))
    every = editing.count()
    assert every == 3 * len(editing.curves(("upper_arm_l", "rotation")).times)
    editing.pick({})
    corners = [
        (area.left() + 3, area.top() + 3),
        (area.center().x(), area.top() + 3),
        (area.left() + 3, area.bottom() - 3),
    ]
    qtbot.mousePress(view, LEFT, CONTROL, QPointF(*corners[0]).toPoint())
    for c in corners[1:]:
        event_move(view, QPointF(*c).toPoint(), LEFT, CONTROL)
    qtbot.mouseRelease(view, LEFT, CONTROL, QPointF(*corners[2]).toPoint())
    assert 0 < editing.count() < every  # the triangle that was drawn
    canvas.setFocus()
    qtbot.keyClick(canvas, Qt.Key.Key_PageDown)
    qtbot.keyClick(canvas, Qt.Key.Key_PageDown)
    assert editing.count() == 1
    first = editing.span()[0]
    qtbot.keyClick(canvas, Qt.Key.Key_Right)
    assert editing.span()[0] == pytest.approx(first + 1) and w.session.stack.undoText() == "Move keys"
    w.session.stack.undo()
    w.desk.act("back")
    assert not editing.picked


def test_tangents_scaling_inserting_and_deleting(curves, qtbot):
    w, canvas, name = curves, canvas_of(curves), ("upper_arm_l", "rotation")
    editing, view = w.station.editing, canvas.viewport()
    # one that is smooth: where the take has a corner, one side turns alone
    c = editing.curves(name)
    smooth = np.flatnonzero(np.abs(c.into[:, 0] - c.out[:, 0]) < 1e-3 * (1.0 + np.abs(c.out[:, 0])))
    near = smooth[np.argmin(np.abs(c.times[smooth] * w.session.scene.rate - 80.0))]
    row, x, y = key_at(canvas, 0, float(c.times[near] * w.session.scene.rate))
    qtbot.mouseClick(view, LEFT, NONE, QPointF(*pixel(canvas, x, y)).toPoint())
    found = [h for h in canvas.handles() if h[1] == row and h[2] == 0 and h[3] == 1]
    end = QPointF(*pixel(canvas, found[0][5].x(), found[0][5].y()))
    drag(qtbot, view, (end.x(), end.y()), (end.x(), end.y() - 30))
    c = editing.curves(name)
    assert w.session.stack.undoText() == "Turn a tangent" and c.into[row, 0] == pytest.approx(c.out[row, 0], rel=1e-3)
    held = next(h for h in canvas.handles() if h[1:4] == (row, 0, 1))
    end = QPointF(*pixel(canvas, held[5].x(), held[5].y()))
    drag(qtbot, view, (end.x(), end.y()), (end.x(), end.y() + 45), modifier=SHIFT)
    c = editing.curves(name)
    assert abs(c.into[row, 0] - c.out[row, 0]) > 1.0  # parted
    area = canvas.box.sceneBoundingRect()
    drag(qtbot, view, (area.left() + 3, area.top() + 3), (area.right() - 3, area.bottom() - 3))
    span, box = editing.span(), canvas.frame_box.polygon().boundingRect()
    right = pixel(canvas, box.right(), box.center().y())
    drag(qtbot, view, right, (right[0] - 40, right[1]))
    assert w.session.stack.undoText() == "Scale keys in time"
    assert editing.span()[0] == pytest.approx(span[0]) and editing.span()[1] < span[1] - 5
    w.session.stack.undo()
    count = len(editing.curves(name).times)
    w.session.set_frame(
        next(f for f in range(60, 140) if not np.any(np.abs(editing.curves(name).times * 24 - f) < 0.1))
    )
    w.desk.act("keys insert")
    assert len(editing.curves(name).times) == count + 1
    for action in ("keys flat", "keys smooth", "keys linear", "keys joined", "keys flatten", "keys stepped"):
        assert w.desk.actions.do(action) == ""
    assert editing.channels()[name].holds.any()
    w.desk.act("remove")
    assert len(editing.curves(name).times) == count and w.session.stack.undoText() == "Delete keys"
    w.desk.act("keys back")
    assert w.desk.actions.known["keys back"].why_not()


def test_times_tree_fields_and_other_bones(curves, qtbot):
    w, canvas = curves, canvas_of(curves)
    editing, pane = w.station.editing, w.station.pane
    pane.mode.setChecked(True)
    w.session.select("deckhand", frozenset())
    names, _, _, _, x, y, _ = canvas.points()
    assert len(names) == len(editing.channels()) > 10 and set(y.tolist()) == {-float(k) for k in range(len(names))}
    i = int(np.flatnonzero(y == 0.0)[3])
    view, at = canvas.viewport(), pixel(canvas, x[i], y[i])
    drag(qtbot, view, at, pixel(canvas, x[i] + 4, 0.0))
    assert editing.picked[names[0]].any() and w.session.stack.undoText() == "Move keys"
    pane.mode.setChecked(False)
    pane.search.setText("hand_l")
    shown = [pane.tree.topLevelItem(k) for k in range(pane.tree.topLevelItemCount())]
    item = next(k for k in shown if not k.isHidden())
    assert item.text(0) == "hand_l" and sum(not k.isHidden() for k in shown) == 1
    item.child(2).setSelected(True)
    assert editing.shown().keys() == {("hand_l", "rotation")} and editing.axes(("hand_l", "rotation")) == (2,)
    w.desk.act("keys all")
    pane.value.setFocus()
    pane.value.changed.emit(12.0, True)
    np.testing.assert_allclose(editing.curves(("hand_l", "rotation")).values[:, 2], 12.0, atol=1e-5)
    w.desk.act("keys copy")
    w.session.select("deckhand", frozenset({"hand_r"}))
    w.session.set_frame(60)
    w.desk.act("keys paste")
    assert w.session.stack.undoText() == "Paste keys"
    count = len(editing.channels())
    w.desk.act("keys mirror")
    w.desk.act("keys thin")
    w.desk.act("keys loop")
    assert len(editing.channels()) == count and w.session.stack.undoText() == "Match the ends"
    w.set_night(True)
    w.set_night(False)


def test_what_stops_being_physical_is_said_and_physics_can_follow(curves, qtbot):
    w, editing = curves, curves.station.editing
    w.session.select("deckhand", frozenset({"hips"}))
    qtbot.waitUntil(lambda: w.station.commands.doubts() is not None and not w.desk.later.busy, timeout=20000)
    assert w.station.commands.doubts() == []
    editing.chosen = frozenset({("hips", "translation", 1)})
    editing.changed.emit()
    w.desk.act("keys all")
    w.station.pane.commands.shift_value(60.0)
    qtbot.waitUntil(lambda: bool(w.station.commands.doubts()) and not w.desk.later.busy, timeout=20000)
    found = w.station.commands.doubts()
    assert found[0].kind == "flight" and "flight" in found[0].text
    row = next(r for r, _ in w.timeline.boxes() if type(r).__name__ == "DoubtRow")
    box = dict((id(r), b) for r, b in w.timeline.boxes())[id(row)]
    bar = row._bars(box, w.timeline.scale)[0][0]
    qtbot.mouseClick(w.timeline, LEFT, NONE, bar.center().toPoint())
    assert w.session.frame == found[0].frame
    layer = editing.layer()
    w.station.commands.change_layer("x", "deckhand", layer.id, leads=True)
    f = w.session.scene.figures[0]
    assert f.layers[-1].steers and f.layers[-1].baked
    pose = keyed_pose(w.session.scene, w.session.assets, f, np.array([90.0]), layers=False)
    layered = keyed_pose(w.session.scene, w.session.assets, f, np.array([90.0]))
    np.testing.assert_allclose(pose.translation, layered.translation)


def test_an_untouched_bake_is_as_physical_as_its_take(boom_run, curves):
    _, _, take = boom_run
    assert doubts(curves.session.scene, curves.session.assets, "deckhand", take) == []


def test_another_error_fits_anew_at_once_and_parts_blend(window, qtbot, boom_run):
    w = window
    w.session.new(*boom_run[:2])
    w.set_station("Curves")
    press(w, qtbot, "Bake the take")
    finish(w, qtbot)
    keys = sum(w.station.commands.baked["deckhand"].keys.values())
    field(w, "Error of a bone").changed.emit(4.0, True)
    field(w, "Error at the ends").changed.emit(60.0, True)
    finish(w, qtbot)
    w.station.commands.set_bound("millimetres", 60.0)
    finish(w, qtbot)
    assert (
        sum(w.station.commands.baked["deckhand"].keys.values()) < 0.8 * keys
        and len(w.session.scene.figures[0].layers) == 1
    )
    worst = w.station.commands.baked["deckhand"].off
    press(w, qtbot, f"{worst.amount:.2f} mm")
    assert w.session.frame == worst.frame and w.session.chosen() == {worst.bone}
    w.station.commands.set_range(70, 100)
    w.station.commands.only_chosen, w.station.commands.step = True, 2
    w.session.select("deckhand", frozenset({"hand_l", "hand_r"}))
    press(w, qtbot, "Bake the take")
    finish(w, qtbot)
    part = w.session.scene.figures[0].layers[-1]
    assert (part.start, part.end, part.ramp_in, part.ramp_out) == (70, 100, 4, 4) and len(
        w.session.scene.figures[0].layers
    ) == 2
    assert {b for b, _ in w.station.editing.channels()} == {"hand_l", "hand_r"}
    w.station.commands.solo("deckhand", part.id)
    w.station.commands.stack("deckhand", part.id, False)
    assert [x.muted for x in w.session.scene.figures[0].layers] == [False, True]


def test_adding_bakes_show_the_same_motion(boom_run, window, qtbot):
    scene, assets, take = boom_run
    window.session.new(scene, assets)
    window.set_station("Curves")
    window.station.commands.adds = True
    window.desk.act("bake")
    finish(window, qtbot)
    f = window.session.scene.figures[0]
    assert f.layers[-1].mode == "add"
    frames = np.arange(55.0, 120.0)
    pose = keyed_pose(window.session.scene, window.session.assets, f, frames)
    wanted = take.poses["deckhand"].rotation[[take.row(int(k)) for k in frames]]
    assert np.degrees(rotation.angle_between(pose.rotation, wanted)).max() < 1.1


@pytest.mark.parametrize("suffix", [".glb", ".bvh", ".csv", ".mp4", ".png"])
def test_the_dialog_says_what_is_lost_and_writes_it(curves, qtbot, tmp_path, monkeypatch, suffix):
    w = curves
    w.desk.act("export")
    dialog = w.files.dialog
    dialog.format.setCurrentIndex(dialog.format.findData(suffix))
    assert all(len(x.text()) > 5 for x in dialog.words.values())
    assert dialog.numbers.isVisible() == (suffix in (".mp4", ".png"))
    if suffix in (".mp4", ".png"):
        for box, value in ((dialog.width_field, 160), (dialog.height_field, 90), (dialog.first, 60), (dialog.last, 63)):
            box.set_value(value)
        dialog.clear.setChecked(True)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "out"), ""))
    qtbot.mouseClick(dialog.take_button, LEFT)
    finish(w, qtbot)
    QApplication.processEvents()
    if suffix == ".glb":
        clip = read_figure(tmp_path / "out.glb", AssetStore()).figure.active_clip()
        assert clip.duration == pytest.approx(7.0)
    elif suffix == ".bvh":
        assert len(read_motion(tmp_path / "out.bvh").turns) == 169
    elif suffix == ".csv":
        assert w.station.commands.bring_back(tmp_path / "out.csv") and w.station.editing.layer().name == "out"
    elif suffix == ".mp4":
        import imageio_ffmpeg

        frames = imageio_ffmpeg.read_frames(str(tmp_path / "out.mp4"))
        about = next(frames)
        assert about["size"] == (160, 90) and about["fps"] == 24 and len(list(frames)) == 4
    else:
        from PIL import Image

        pictures = sorted(tmp_path.glob("*.png"))
        assert [p.name for p in pictures] == [f"out.00{k}.png" for k in range(60, 64)]
        alpha = np.asarray(Image.open(pictures[0]))[:, :, 3]
        assert alpha.max() == 255 and (alpha == 0).mean() > 0.2
    assert w.desk.memory.choice("export", "") == suffix


def test_wheel_pans_and_zooms(curves, qtbot):
    canvas = canvas_of(curves)
    (x0, x1), (y0, y1) = canvas.box.viewRange()
    canvas.zoom(0.5, 1.0, 80.0, 0.0)
    (a0, a1), (b0, b1) = canvas.box.viewRange()
    assert a1 - a0 == pytest.approx(0.5 * (x1 - x0)) and (b0, b1) == pytest.approx((y0, y1))
    at = QPoint(200, 60)
    drag(qtbot, canvas.viewport(), (200, 60), (260, 60), button=Qt.MouseButton.MiddleButton)
    assert canvas.box.viewRange()[0][0] < a0
    assert canvas.from_pixels(QPointF(at))[0] == pytest.approx(canvas.from_pixels(QPointF(at))[0])
    canvas.setFocus()
    qtbot.keyClick(canvas, Qt.Key.Key_Home)
    assert canvas.box.viewRange()[0][0] == pytest.approx(x0, abs=2.0)


@pytest.mark.parametrize("bone", ["hand_l", "hips"])
def test_a_key_is_dragged_along_the_path_on_the_stage(curves, qtbot, bone):
    """The limb follows, the bone comes to where the mouse is, and what lies beyond the next keys stays."""
    w = curves
    w.session.select("deckhand", frozenset())
    w.session.set_frame(100)
    w.stage.frame_selection()
    w.session.select("deckhand", frozenset({bone}))
    qtbot.wait(100)
    tool, view = w.station.tools()[-1], w.stage.view()
    _, _, frames, dots, way = tool._path(view)
    seen = view.screen(dots)
    apart = [min(np.hypot(*(seen[k, :2] - seen[j, :2])) for j in range(len(seen)) if j != k) for k in range(len(seen))]
    inside = [
        k
        for k in range(len(seen))
        if 20 < seen[k, 0] < w.stage.width() - 60 and 40 < seen[k, 1] < w.stage.height() - 20
    ]
    k = max(inside, key=lambda i: apart[i])
    at = seen[k, :2]
    before = {n: c for n, c in w.station.editing.channels().items()}
    assert len(way) > len(frames) > 5
    drag(qtbot, w.stage, (at[0], at[1]), (at[0] + 25, at[1] - 15))
    assert w.session.stack.undoText() == f"Move {bone} at frame {frames[k]:g}" and w.session.frame == frames[k]
    moved = path(w.session.scene, w.session.assets, w.session.scene.figures[0], bone, frames)
    now = view.screen(moved)
    wanted = np.array([at[0] + 25, at[1] - 15])
    assert np.hypot(*(now[k, :2] - wanted)) < 3.0 or bone == "hand_l"  # a hand may be out of its reach
    assert np.hypot(*(now[k, :2] - wanted)) < np.hypot(25, 15)
    changed = {n for n, c in w.station.editing.channels().items() if c is not before[n]}
    assert changed == (
        {("hips", "translation")} if bone == "hips" else {("upper_arm_l", "rotation"), ("forearm_l", "rotation")}
    )
    # a curve that had no key there is another one as far as its next keys
    others = [i for i in range(len(frames)) if abs(i - k) > 4]
    np.testing.assert_allclose(moved[others], dots[others], atol=2e-3)


def test_lanes_place_and_clip_are_edited_as_curves(demo, qtbot, tmp_path):
    w, s = demo, demo.session
    w.show()
    name = s.scene.figures[0].groups[0].id, "handover"
    before = s.scene.figures[0].groups[0].handover
    qtbot.keyClick(w, Qt.Key.Key_F6, SHIFT)
    assert w.station.name == "Curves"
    editing, canvas = w.station.editing, canvas_of(w)
    qtbot.wait(50)
    assert list(editing.shown()) == [name] and canvas.isVisible() and not w.desk.actions.made["keys mirror"].isEnabled()
    # its last key goes later by the mouse, and what was straight is straight
    _, x, y = key_at(canvas, 0, before.keys[-1].frame)
    a, b = pixel(canvas, x, y), pixel(canvas, x - 12, y)
    drag(qtbot, canvas.viewport(), a, b)
    after = s.scene.figures[0].groups[0].handover
    assert after.keys[-1].frame == before.keys[-1].frame - 12 and after.keys[:3] == before.keys[:3] and after.straight
    # smooth: the row of the timeline and the run follow
    editing.pick({name: np.array([[False], [False], [True], [True]])})
    w.desk.act("keys flat")
    lane = s.scene.figures[0].groups[0].handover
    middle = (lane.keys[2].frame + lane.keys[3].frame) / 2
    assert lane.keys[2].piece == "curve" and lane.value(middle) == pytest.approx(0.5) and lane.value(middle - 4) > 0.67
    w.timeline.grab()
    s.stack.undo()
    s.stack.undo()
    assert s.scene.figures[0].groups[0].handover == before
    # nothing is baked yet, so the clip is what else there is; a key of it moves, and its first frame stays
    pane = w.station.pane
    assert [pane.what.itemText(i) for i in range(pane.what.count())] == ["Lanes and place", "Clip crossing"]
    pane.what.setCurrentIndex(1)
    pane.what.activated.emit(1)
    bone = next(n for n in editing.channels() if n[1] == "rotation")
    s.select("deckhand", frozenset({bone[0]}))
    clip = s.scene.figures[0].clips[0].asset
    picked = np.zeros((len(editing.channels()[bone].times), 3), bool)
    picked[-1, 0] = True
    editing.pick({bone: picked})
    pane.commands.shift_value(20.0)
    assert s.scene.figures[0].active_clip().asset != clip and s.stack.undoText() == "Offset keys"
    moved = keyed_pose(s.scene, s.assets, s.scene.figures[0], np.array([0.0, 1e4])).rotation
    s.stack.undo()
    still = keyed_pose(s.scene, s.assets, s.scene.figures[0], np.array([0.0, 1e4])).rotation
    assert (
        rotation.angle_between(moved[0], still[0]).max() < 1e-6 < 0.2 < rotation.angle_between(moved[1], still[1]).max()
    )
    # an obstacle in hand: its place, with keys of its own
    s.select("boom", frozenset({"boom"}))
    assert list(editing.channels()) == [("", "translation"), ("", "rotation")] and editing.scale("translation") == 100.0
    track = s.scene.figure("boom").track
    pane.canvas.insert(track.frames[0] + 3.0)
    now = s.scene.figure("boom").track
    assert len(now.frames) == len(track.frames) + 1 and s.stack.undoText() == "Insert keys"
    editing.chosen = frozenset({("", "translation", 1)})
    editing.pick(
        {
            ("", "translation"): np.array([k.frame == track.frames[0] + 3.0 for k in now.position.keys])[:, None]
            & [[False, True, False]]
        }
    )
    pane.commands.delete()
    left = s.scene.figure("boom").track
    assert (
        len(left.position.keys) == len(track.position.keys) and len(left.rotation.keys) == len(track.rotation.keys) + 1
    )
    save_scene(tmp_path / "a.artuline", s.scene, s.assets)
    assert load_scene(tmp_path / "a.artuline", AssetStore()).figure("boom").track == left
    s.stack.setClean()
