"""The new parts of Blend and Takes in the real window: springs, returns, handles, the roster's hook, two pictures, large runs."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QCheckBox, QLabel, QPushButton

from artuline.core.motion.places import places_at
from artuline.core.scene import edit, paths
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import MotionKey, Shape, Spring, obstacle
from artuline.demo.scenes import demo_scene
from artuline.desk.roster import _start_box
from artuline.desk.stations.takes.setting_dialog import SettingDialog
from tests.driving import LEFT, drag, event_move, field, finish, handles, press
from tests.test_blend_window import _quick, choose, chosen, group  # noqa: F401


def tick(window, name):
    next(b for b in window.details.findChildren(QCheckBox) if b.accessibleName() == name).click()


@pytest.fixture
def goat(window, qtbot):
    assets = AssetStore()
    window.session.new(demo_scene("goat", assets), assets)
    window.set_station("Blend")
    return window


def test_springy_parts_are_made_tuned_and_told_the_rhythm(goat, qtbot):
    chosen(goat, "tail")
    field(goat, "Frequency").changed.emit(1.2, True)
    tail = next(g for g in goat.session.scene.figures[0].groups if g.start_bone == "tail")
    assert tail.spring is not None and tail.spring.frequency == 1.2
    # found beside the window
    qtbot.waitUntil(
        lambda: goat.room("Blend").commands.rhythm_of(goat.session.scene.figures[0], tail) is not None, timeout=20000
    )
    beat = goat.room("Blend").commands.rhythm_of(goat.session.scene.figures[0], tail)
    # the trot's two beats in each of its three rounds
    clip = goat.session.scene.figures[0].active_clip()
    assert beat == pytest.approx(6.0 / clip.duration, rel=0.03)
    press(goat, qtbot, "Swing at")
    tail = next(g for g in goat.session.scene.figures[0].groups if g.start_bone == "tail")
    assert tail.spring.frequency == pytest.approx(beat)
    press(goat, qtbot, "Not springy")
    assert next(g for g in goat.session.scene.figures[0].groups if g.start_bone == "tail").spring is None
    chosen(goat, "head")
    press(goat, qtbot, "Springy")
    assert next(g for g in goat.session.scene.figures[0].groups if g.start_bone == "head").spring == Spring()
    goat.session.stack.undo()
    assert all(g.start_bone != "head" for g in goat.session.scene.figures[0].groups)


def test_what_a_group_comes_back_to_and_what_a_figure_feels(demo, qtbot):
    choose(demo, "Comes back to", "the clip walk")
    assert (group(demo).returns, group(demo).clip) == ("clip", "walk")
    choose(demo, "Comes back to", "the pose it has then")
    assert (group(demo).returns, group(demo).clip) == ("pose", None)
    tick(demo, "Feet step")
    assert not group(demo).planted
    demo.details.open_all()
    tick(demo, "Feels gravity")
    field(demo, "Spin y").changed.emit(90.0, True)
    figure = demo.session.scene.figures[0]
    assert not figure.gravity and figure.spin[1] == pytest.approx(np.pi / 2)
    field(demo, "Warm-up").changed.emit(12.0, True)
    tick(demo, "It plays")
    assert demo.session.scene.warm_up_plays


def test_headings_fold_and_stay_so(demo, qtbot):
    def heading():
        return next(b for b in demo.details.findChildren(QPushButton, "fold") if b.accessibleName() == "World")

    assert not heading().isChecked()
    qtbot.mouseClick(heading(), LEFT)
    assert heading().isChecked() and field(demo, "Substeps").value == 10
    demo.session.set_frame(30)
    demo.details.rebuild()
    assert heading().isChecked()
    qtbot.mouseClick(heading(), LEFT)
    assert not heading().isChecked()


def lone_box(window):
    """A box in plain view, chosen by a click."""
    key = MotionKey(frame=0.0, position=tuple(float(v) for v in window.stage.camera.target + np.array([0.0, 0.2, 0.0])))
    box = obstacle("crate", Shape(kind="box", half=(0.15, 0.15, 0.15)), (key,))
    window.session.edit("crate", lambda s: edit.scene(s, figures=(*s.cast, box)))
    window.stage.grab()


def test_an_obstacle_is_taken_moved_keyed_turned_and_sized_on_the_stage(demo, qtbot):
    lone_box(demo)
    stage = demo.stage

    def crate():
        return demo.session.scene.obstacles[0]

    def at(name):
        h = handles(demo, 1)
        return h._screen(h.places()[name])

    start = stage.camera.project(np.array([crate().track.position.keys[0].value]), stage.width(), stage.height())[0, :2]
    qtbot.mouseClick(stage, LEFT, pos=QPointF(*start).toPoint() + QPoint(3, 3))
    assert demo.session.selection.figure == "crate" and handles(demo, 1) is not None
    # one that stands still is moved as a whole
    a = at("move")
    away = np.array([60.0, -40.0])
    drag(qtbot, stage, a, a + away)
    assert len(crate().track.frames) == 1
    assert at("move") == pytest.approx(a + away, abs=2.5)
    # with a second key it moves: at another frame the drag keys it there
    demo.session.set_frame(24)
    demo.room("Blend").commands.forces.key_obstacle("crate")
    first = crate().track.position.keys[0].value
    demo.session.set_frame(24)
    stage.grab()
    a = at("along x")
    drag(qtbot, stage, a, a + (at("along x") - at("move")) * 0.8)
    assert len(crate().track.frames) == 2 and crate().track.position.keys[0].value == first
    assert crate().track.position.keys[1].value[0] > first[0] + 0.03
    place, turn = crate().track.position.keys[1].value, crate().track.rotation.keys[1].value
    a = at("turn y")
    drag(qtbot, stage, a, a + np.array([40.0, 25.0]))
    assert (
        crate().track.position.keys[1].value == pytest.approx(place, abs=1e-9)
        and crate().track.rotation.keys[1].value != turn
    )
    a = at("size x")
    drag(qtbot, stage, a, a + (a - at("move")) * 0.5)
    assert crate().bodies[0].shapes[0].half[0] > 0.16
    # a click on nothing lets it go
    qtbot.mouseClick(stage, LEFT, pos=QPoint(8, stage.height() - 8))
    assert demo.session.selection.figure is None
    p, _ = places_at(crate().track, np.array([0.0, 24.0]))
    assert not np.allclose(p[0], p[1])


def test_the_arrow_of_a_push_is_dragged_by_its_tail(demo, qtbot):
    chosen(demo, "chest")
    demo.session.set_frame(30)
    demo.stage.frame_selection()
    demo.stage.grab()
    press(demo, qtbot, "Push")
    demo.stage.grab()
    before = np.array(demo.session.scene.pushes[0].impulse)
    (_, tail, _) = demo.station.tools()[2].arrows(demo.stage.view())[0]
    drag(qtbot, demo.stage, (tail.x(), tail.y()), (tail.x() - 50, tail.y()))
    change = np.array(demo.session.scene.pushes[0].impulse) - before
    # pulled to the left, the arrow points more to the right
    assert change @ demo.stage.camera.axes()[0] > 1.0
    assert demo.session.stack.undoText() == "Push chest"


def test_the_start_of_a_group_is_dragged_on_the_roster(demo, qtbot):
    demo.room("Blend").commands.limp("upper_arm_l")
    roster = demo.roster
    roster.mark()
    items = [roster.items["deckhand", name] for name in ("upper_arm_l", "forearm_l", "fingers_l")]
    boxes = [roster.visualItemRect(i) for i in items]
    view = roster.viewport()

    def pull(box):
        start = _start_box(
            roster.visualItemRect(items[0] if group(demo, 1).start_bone == "upper_arm_l" else items[1])
        ).center()
        qtbot.mousePress(view, LEFT, pos=start)
        event_move(view, box.center(), LEFT, Qt.KeyboardModifier.NoModifier)
        qtbot.mouseRelease(view, LEFT, pos=box.center())

    pull(boxes[1])
    assert group(demo, 1).start_bone == "forearm_l"
    # a bone without a body cannot be where it begins
    pull(boxes[2])
    assert group(demo, 1).start_bone == "forearm_l"
    roster.grab()


def test_a_run_shows_the_frame_it_has_come_to(demo, qtbot):
    seen = []
    demo.stage.drawn.connect(lambda: seen.append(demo.stage.running))
    demo.desk.act("run")
    qtbot.waitUntil(lambda: any(r is not None for r in seen), timeout=30000)
    finish(demo, qtbot)
    frame, poses = next(r for r in seen if r is not None)
    take = demo.session.take()
    np.testing.assert_allclose(poses["deckhand"].rotation[0], take.poses["deckhand"].rotation[frame], atol=1e-9)
    assert demo.stage.running is None


def test_takes_are_seen_side_by_side_and_wiped_and_their_settings_compared(demo, qtbot):
    demo.session.edit("short", lambda s: edit.scene(s, start=44, end=70))
    demo.desk.act("run")
    finish(demo, qtbot)
    field(demo, "Runs")
    demo.session.edit("tone", lambda s: edit.group(s, "deckhand", "group", tone=group(demo).tone.changed(rest=0.9)))
    demo.desk.act("run")
    finish(demo, qtbot)
    choose(demo, "Beside it", "take 1")
    words = {w.text() for w in demo.details.findChildren(QLabel)}
    assert {"tone.rest", "0.06", "0.9"} <= words
    demo.session.set_frame(66)
    stage = demo.stage
    pictures = {}
    for words in ("over each other", "side by side", "wiped"):
        choose(demo, "View", words)
        stage.grab()
        pictures[words] = stage.picture()
    half = stage.width() // 2
    assert stage.view().box.width() == stage.width()

    def pixel(image, x, y=None):
        return image.pixelColor(int(x * image.width()), int((y or 0.5) * image.height()))

    # both halves of two pictures of the same view have the same sky
    both = pictures["side by side"]
    assert pixel(both, 0.1, 0.02) == pixel(both, 0.6, 0.02)
    assert both != pictures["wiped"] != pictures["over each other"]
    # the edge is dragged
    y = stage.height() // 3
    drag(qtbot, stage, (half, y), (half // 2, y))
    assert demo.desk.comparison.wipe == pytest.approx(0.25, abs=0.02)
    # a click in either half of two pictures means the same bone
    choose(demo, "View", "side by side")
    demo.session.select("deckhand", frozenset({"chest"}))
    stage.frame_selection()
    stage.grab()
    right = stage.pick_at(QPointF(stage.width() * 0.75, stage.height() / 2))
    left = stage.pick_at(QPointF(stage.width() * 0.25, stage.height() / 2))
    assert right is not None and left is not None and right[1] == left[1]


def test_worst_moments_set_a_bracket_and_two_runs_are_compared_large(demo, qtbot):
    fast = demo.session.scene.figures[0].changed(velocity=(0.0, 0.0, 7.0))
    demo.session.edit("short and fast", lambda s: edit.scene(s, start=44, end=64, figures=(fast,)))
    demo.desk.act("run")
    finish(demo, qtbot)
    tries = {b.accessibleName(): b for b in demo.details.findChildren(QPushButton) if b.text() == "Try"}
    qtbot.mouseClick(tries["Try against: Shaking"], LEFT)
    assert (
        demo.room("Takes").brackets.setting == "calm: whole figure" and demo.room("Takes").commands.plotted == "shaking"
    )
    assert demo.session.selection.bones
    tries = {b.accessibleName(): b for b in demo.details.findChildren(QPushButton) if b.text() == "Try"}
    qtbot.mouseClick(tries["Try against: Fastest"], LEFT)
    assert demo.room("Takes").brackets.setting.startswith("drag: ") and demo.room("Takes").brackets.range[2] == 6
    field(demo, "Runs").changed.emit(3.0, True)
    press(demo, qtbot, "Run the bracket")
    finish(demo, qtbot)
    view = demo.room("Takes").brackets.view
    qtbot.waitUntil(lambda: len(view.cells) == 3, timeout=20000)
    shaking = [view.cells[i].measures["Fastest"] for i in range(3)]
    assert shaking[2] <= shaking[0] + 1e-9
    height = view.cards[0].height()
    view.show_measure("Fastest", True)
    assert view.cards[0].height() > height and ("Fastest" in dict(view.rows(0)))
    qtbot.mouseClick(view.cards[0], LEFT, pos=QPoint(20, 20))
    qtbot.mouseClick(view.cards[2], LEFT, Qt.KeyboardModifier.ShiftModifier, QPoint(20, 20))
    assert (view.chosen, view.second) == (0, 2)
    qtbot.mouseClick(view.cards[2], LEFT, pos=view.cards[2].pin_box().center().toPoint())
    assert view.pinned == {2} and view.grid.indexOf(view.cards[2]) >= 0
    assert view.grid.getItemPosition(view.grid.indexOf(view.cards[2]))[:2] == (0, 0)
    qtbot.mouseClick(view.large_button, LEFT)
    qtbot.waitUntil(lambda: all(one.picture is not None for one in view.large), timeout=10000)
    assert not view.area.isVisible() and [one.index for one in view.large] == [0, 2]
    view.grab()
    qtbot.mouseClick(view.large_button, LEFT)
    assert view.area.isVisible()


def test_obstacles_come_from_files_and_limbs_from_a_list(demo, qtbot, tmp_path, monkeypatch):
    import trimesh
    from PySide6.QtWidgets import QFileDialog

    path = tmp_path / "cleat.stl"
    trimesh.creation.icosphere(2, 0.15).export(path)
    for kind, filters in (("hull", "A mesh as its convex hull (*.stl)"), ("mesh", "A mesh as it is, hollow (*.stl)")):
        monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, f=filters: (str(path), f))
        press(demo, qtbot, "From a file")
        made = demo.session.scene.obstacles[-1]
        assert made.bodies[0].shapes[0].kind == kind and demo.session.selection.figure == made.id
    path.write_text("nothing")
    count = len(demo.session.scene.obstacles)
    demo.room("Blend").commands.forces.obstacle_from(path, "hull")
    assert len(demo.session.scene.obstacles) == count and "cleat.stl" in demo.strip.message.toolTip()
    demo.session.select(None, frozenset())
    choose(demo, "Or a limb, from", "thigh_r")
    assert group(demo, 1).start_bone == "thigh_r"
    assert {"upper_arm_l", "upper_arm_r", "thigh_l", "thigh_r", "neck"} <= set(demo.session.scene.figures[0].limbs())


def test_any_number_of_the_scene_may_be_bracketed_and_pushes_vary_by_chance(demo, qtbot):
    demo.set_station("Takes")
    dialog = SettingDialog(demo, paths.numbers(demo.session.scene))
    dialog.search.setText("forearm_l drag")
    found = [dialog.list.item(i).data(Qt.ItemDataRole.UserRole) for i in range(dialog.list.count())]
    assert found == ["figures[deckhand].bodies[forearm_l].drag", "figures[deckhand].bodies[forearm_l].spin_drag"]
    assert dialog.chosen() == found[0]
    demo.room("Takes").brackets.offer(found[0])
    assert (
        demo.room("Takes").brackets.setting == found[0] and found[0] in demo.room("Takes").brackets.offered_settings()
    )
    demo.room("Takes").brackets.offer("figures[deckhand].groups[group].handover.keys[2].frame")
    assert demo.room("Takes").brackets.setting.startswith("ramp out from")
    # a push that varies
    demo.set_station("Blend")
    chosen(demo, "chest")
    press(demo, qtbot, "Push")
    field(demo, "Scatter").changed.emit(0.5, True)
    field(demo, "Chance").changed.emit(7.0, True)
    push = demo.session.scene.pushes[0]
    assert (push.scatter, push.seed) == (0.5, 7)
    assert "chance of the push on chest" in demo.room("Takes").brackets.offered_settings()


def test_a_hand_holds_another_figure(demo, qtbot):
    """A second deckhand stands where the first one's hand is: the hold is between the two."""
    f = demo.session.scene.figures[0]
    other = f.changed(id="mate", name="mate", groups=(), position=(0.05, 0.0, 0.02))
    demo.session.edit("mate", lambda s: edit.scene(s, figures=(*s.cast, other)))
    chosen(demo, "hand_l")
    demo.room("Blend").commands.holds.hold_selected()
    link = demo.session.scene.links[0]
    assert link.b is not None and link.b.figure == "mate" and link.b.body in ("hand_l", "forearm_l")
    demo.session.stack.undo()
    demo.session.edit("away", lambda s: edit.figure(s, "mate", position=(5.0, 0.0, 0.0)))
    chosen(demo, "hand_l")
    demo.room("Blend").commands.holds.hold_selected()
    assert demo.session.scene.links[0].b is None


def test_long_names_do_not_widen_the_details(goat, qtbot):
    for station in ("Blend", "Takes"):
        goat.set_station(station)
        goat.details.open_all()
        assert goat.details.widget().minimumSizeHint().width() <= goat.details.viewport().width(), station
