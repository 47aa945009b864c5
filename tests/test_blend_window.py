"""Blend and Takes in the real window: lanes, holding on, forces, obstacles, plots, brackets, settings of a take."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QApplication, QLabel, QPushButton

from artuline.core.run.measures import PLOTS, curve
from artuline.core.scene import edit
from artuline.core.scene.model import BodyRef, Lane, LinkEnd, MotionKey, Shape, obstacle
from artuline.core.setup.ragdoll import set_up
from artuline.core.setup.within_reach import place_of, reach_of
from artuline.desk.stations.cast.rows import KeysRow
from artuline.desk.stations.takes.plot import Plot
from tests import foreign
from tests.driving import LEFT, RIGHT, choose, drag, export, field, finish, lane_point, lanes, open_file, press


@pytest.fixture(autouse=True)
def _quick(monkeypatch):
    """Brackets of these tests run in this process: starting others takes longer than the runs."""
    import artuline.desk.stations.takes.brackets as commands
    from artuline.core.run.bracket import run_bracket

    def here(scene, assets, spans, progress, cancelled):
        return run_bracket(scene, assets, spans, progress, cancelled, workers=0)

    monkeypatch.setattr(commands, "run_bracket", here)


def chosen(window, *bones):
    window.session.select(window.session.scene.figures[0].id, frozenset(bones))


def group(window, index=0):
    return window.session.scene.figures[0].groups[index]


def test_a_lane_is_keyed_dragged_and_unkeyed_in_the_timeline(demo, qtbot):
    t, figure = demo.timeline, demo.session.scene.figures[0]
    demo.room("Blend").lanes.show(figure.id, "group", "tone")
    box = lanes(t)[0][1]
    t.grab()
    qtbot.mouseDClick(t, LEFT, pos=QPointF(t.scale.x(60), box.top() + 12).toPoint())
    qtbot.mouseDClick(t, LEFT, pos=QPointF(t.scale.x(100), box.bottom() - 7).toPoint())
    keys = group(demo).tone.keys
    assert [k.frame for k in keys] == [60.0, 100.0] and keys[0].value > 0.7 > keys[1].value
    at = lane_point(t, box, keys[1])
    drag(qtbot, t, (at.x(), at.y()), (t.scale.x(110), box.top() + 12))
    assert group(demo).tone.keys[1].frame == 110.0 and group(demo).tone.keys[1].value > 0.6
    at = lane_point(t, box, group(demo).tone.keys[0])
    qtbot.mouseClick(t, RIGHT, pos=at.toPoint())
    assert len(group(demo).tone.keys) == 1
    # numbers change the key that is there
    demo.set_station("Blend")
    demo.session.set_frame(110)
    field(demo, "Tone").changed.emit(0.25, True)
    assert group(demo).tone.keys[0].value == 0.25
    press(demo, qtbot, "Key calm")
    assert len(group(demo).calm.keys) == 1 and demo.room("Blend").lanes.kind(figure.id, "group") == "calm"
    field(demo, "Steadiness").changed.emit(0.5, True)
    assert group(demo).steadiness == Lane(rest=0.5)


def test_groups_begin_elsewhere_copy_their_lanes_and_take_any_bones(demo, qtbot):
    demo.set_station("Blend")
    chosen(demo, "upper_arm_l")
    press(demo, qtbot, "Limp from upper_arm_l")
    assert group(demo, 1).start_bone == "upper_arm_l"
    choose(demo, "Begins at", "forearm_l")
    assert group(demo, 1).start_bone == "forearm_l"
    demo.room("Blend").commands.copy_lanes("deckhand", "group", group(demo, 1).name)
    assert group(demo, 1).handover == group(demo).handover
    chosen(demo, "hand_l", "hand_r")
    press(demo, qtbot, "Only these 2 bones")
    assert group(demo, 2).bones == ("hand_l", "hand_r")
    chosen(demo, "head")
    press(demo, qtbot, "Springy")
    assert group(demo, 3).start_bone == "head" and group(demo, 3).spring is not None


def test_holding_on_and_letting_go(demo, qtbot):
    demo.set_station("Blend")
    demo.session.set_frame(50)
    chosen(demo, "hand_l")
    demo.stage.grab()
    press(demo, qtbot, "Hold")
    link = demo.session.scene.links[0]
    assert link.start == 50.0 and link.a.body == "hand_l" and link.stop is None
    field(demo, "until").changed.emit(80.0, True)
    assert demo.session.scene.links[0].stop == 80.0
    press(demo, qtbot, "Push")
    push = demo.session.scene.pushes[0]
    assert push.start == 50.0 and np.linalg.norm(push.impulse) > 0
    field(demo, "Impulse x").changed.emit(9.0, True)
    assert demo.session.scene.pushes[0].impulse[0] == 9.0
    press(demo, qtbot, "Remove this push")
    assert demo.session.scene.pushes == ()


def test_a_hold_shows_what_it_would_hold_and_its_mark_is_dragged_onto_what_it_should(window, qtbot, tmp_path):
    path = tmp_path / "stranger.glb"
    foreign.write_crawler(path)
    open_file(window, qtbot, path)
    window.session.edit(
        "fit", lambda s: edit.map_figure(s, s.figures[0].id, lambda f: set_up(f, window.session.assets))
    )
    f = window.session.scene.figures[0]
    window.set_station("Blend")
    window.stage.grab()
    holds, tool = window.room("Blend").commands.holds, window.room("Blend").tools()[-1]
    body = f.bodies[-1]
    place = place_of(
        window.session.scene, [x.matrices for x in window.stage.states()], LinkEnd(figure=f.id, body=body.id)
    )
    r = reach_of(f)
    for name, away in (("near", 1.2), ("far", 6.0)):
        shape = Shape(kind="box", half=(0.5 * r, 0.3 * r, 0.4 * r))
        made = obstacle(name, shape, (MotionKey(frame=0, position=(place[0] + away * r, place[1], place[2])),))
        window.session.edit("crate", lambda s, made=made: edit.add_figure(s, made))
    chosen(window, body.bone)
    window.stage.grab()
    view = window.stage.view()
    at, near = tool._offer(view)
    assert near.body.figure == "near" and abs(np.linalg.norm(near.place - at) - near.gap) < 1e-9
    press(window, qtbot, "Hold")
    link = window.session.scene.links[0]
    assert link.b.figure == "near" and "near" in window.strip.message.text()
    # off everything is the world, onto the far one is the far one, and each is one step to undo
    view = window.stage.view()
    x, y, _ = view.screen(tool.marks(view)[0][1][None])[0]
    drag(qtbot, window.stage, (x, y), (20.0, 40.0))
    assert window.session.scene.links[0].b is None
    u, v, _ = view.screen(np.array([[place[0] + 6.0 * r, place[1], place[2]]]))[0]
    drag(qtbot, window.stage, (x, y), (u, v))
    assert window.session.scene.links[0].b == LinkEnd(figure="far", body="far")
    window.session.stack.undo()
    window.session.stack.undo()
    assert window.session.scene.links[0].b.figure == "near"
    choose(window, "It holds", "the world")
    assert window.session.scene.links[0].b is None and set(holds.offered(link)) >= {"the world", "near"}


def test_gravity_and_wind_are_set_turned_and_keyed(demo, qtbot):
    demo.set_station("Blend")
    field(demo, "Tilted").changed.emit(90.0, True)
    assert demo.session.scene.gravity == pytest.approx((0.0, 0.0, 9.81), abs=1e-9)
    press(demo, qtbot, "Key gravity")
    demo.session.set_frame(40)
    field(demo, "Gravity").changed.emit(2.0, True)
    lane = demo.session.scene.gravity_lane
    assert [k.frame for k in lane.keys] == [0.0, 40.0]
    assert np.linalg.norm(lane.keys[1].value) == pytest.approx(2.0)
    press(demo, qtbot, "Unkey")
    assert demo.session.scene.gravity_lane.keys == ()
    field(demo, "Wind").changed.emit(12.0, True)
    field(demo, "Gusts").changed.emit(0.4, True)
    assert demo.session.scene.wind == (0.0, 0.0, 12.0) and demo.session.scene.gusts.strength == 0.4
    field(demo, "Warm-up").changed.emit(10.0, True)
    assert demo.session.scene.warm_up == 10


def test_obstacles_are_added_moved_keyed_and_arrive_at_speed(demo, qtbot):
    demo.set_station("Blend")
    press(demo, qtbot, "Add a ball")
    field(demo, "ball x").changed.emit(0.0, True)
    assert len(demo.session.scene.obstacles[-1].track.frames) == 1
    assert demo.session.scene.obstacles[-1].track.position.keys[0].value[0] == 0.0
    demo.room("Blend").commands.forces.key_obstacle("ball")
    demo.session.set_frame(30)
    demo.room("Blend").commands.forces.key_obstacle("ball")
    field(demo, "ball x")
    demo.details.rebuild()
    field(demo, "ball x").changed.emit(3.0, True)
    ball = demo.session.scene.obstacles[-1]
    assert ball.track.frames == (0.0, 30.0) and ball.track.position.keys[-1].value[0] == 3.0
    from artuline.core.motion.places import places_at

    def speed():
        p = places_at(demo.session.scene.obstacles[-1].track, np.array([29.9, 30.0]))[0]
        return np.linalg.norm(p[1] - p[0]) * 240.0

    slow = speed()
    demo.room("Blend").commands.forces.arrive_at_speed("ball")
    assert slow < 0.3 and speed() == pytest.approx(3.0 / 30 * 24, rel=0.15)
    # its keys stand in the timeline: one moves in time, and goes
    t, (_, box) = demo.timeline, next((r, b) for r, b in demo.timeline.boxes() if isinstance(r, KeysRow))
    y = box.center().y()
    count, at = len(demo.session.scene.obstacles[-1].track.frames), demo.session.scene.obstacles[-1].track.frames[-1]
    drag(qtbot, t, (t.scale.x(at), y), (t.scale.x(at + 9), y))
    assert demo.session.scene.obstacles[-1].track.frames[-1] == at + 9
    qtbot.mouseClick(t, RIGHT, pos=QPoint(round(t.scale.x(at + 9)), round(y)))
    assert len(demo.session.scene.obstacles[-1].track.frames) == count - 1
    press(demo, qtbot, "Hand it over")
    assert demo.session.figure().id == "ball" and demo.session.figure().groups
    demo.room("Blend").commands.forces.remove_obstacle("ball")
    assert all(o.id != "ball" for o in demo.session.scene.obstacles)


def test_a_take_is_plotted_compared_and_its_settings_come_back(demo, qtbot, boom_run):
    _, _, take = boom_run
    demo.desk.act("run")
    finish(demo, qtbot)
    s = demo.session
    demo.session.edit("Change substeps", lambda sc: sc.changed(substeps=8))
    demo.set_station("Takes")
    words = " ".join(x.text() for x in demo.details.findChildren(QLabel))
    assert "substeps: 10 → 8" in words
    demo.desk.act("run")
    finish(demo, qtbot)
    choose(demo, "Beside it", "take 1")
    assert demo.desk.comparison.other == "take 1"
    demo.session.set_frame(70)
    keyed = demo.stage.states()[0].keyed
    other = demo.desk.comparison.take()
    assert np.abs(keyed[0][:3, 3] - other.position[70, 0]).max() < 0.3
    for quantity in PLOTS:
        assert np.isfinite(curve(s.scene, take, quantity, None)).all()
        assert curve(s.scene, take, quantity, BodyRef("deckhand", "head")).shape == take.frames.shape
        choose(demo, "Plot", quantity)
    plot = demo.details.findChildren(Plot)[-1]
    plot.resize(230, plot.height())
    plot.grab()
    qtbot.mouseClick(plot, LEFT, pos=QPointF(plot.box().right(), 40).toPoint())
    assert s.frame == s.scene.end
    choose(demo, "Beside it", "the keys")
    assert demo.desk.comparison.other is None
    press(demo, qtbot, "Go back to its settings")
    assert s.scene.substeps == 8 and len(s.scene.takes) == 2
    s.edit("Choose a take", lambda sc: sc.changed(take="take 1"))
    press(demo, qtbot, "Go back to its settings")
    assert s.scene.substeps == 10
    s.stack.undo()
    assert s.scene.substeps == 8
    moments = [
        b for b in demo.details.findChildren(QPushButton) if b.text().startswith(("Pressed", "Fastest", "Shaking"))
    ]
    qtbot.mouseClick(moments[0], LEFT)
    assert s.selection.bones


def test_a_bracket_is_run_looked_at_sorted_and_adopted(demo, qtbot):
    demo.session.edit("Shorten", lambda sc: sc.changed(end=70))
    demo.set_station("Takes")
    demo.room("Takes").brackets.choose("tone: whole figure")
    field(demo, "Runs").changed.emit(3.0, True)
    press(demo, qtbot, "Run the bracket")
    assert demo.room("Takes").brackets.view.isVisible()
    finish(demo, qtbot)
    view = demo.room("Takes").brackets.view
    qtbot.waitUntil(lambda: len(view.cells) == 3 and all(len(c.pictures) >= 14 for c in view.cards), timeout=60000)
    view.tick()
    view.grab()
    view.sort.setCurrentIndex(2)
    view.arrange()
    qtbot.mouseClick(view.cards[2], LEFT)
    assert view.chosen == 2 and view.words(2) == "1"
    qtbot.mouseClick(view.adopt_button, LEFT)
    assert not view.isVisible() and group(demo).tone == Lane(rest=1.0)
    assert len(demo.session.scene.takes) == 1
    ref = demo.session.scene.active_take()
    assert ref.settings == demo.session.scene.settings_fingerprint()
    demo.session.stack.undo()
    assert demo.session.scene.takes == ()
    assert QApplication.activeModalWidget() is None and Qt.Key.Key_6


def test_the_lanes_menu_and_rolling_through_many_groups(demo, qtbot):
    for bone in ("head", "hand_l", "hand_r", "foot_l", "foot_r", "shin_l"):
        chosen(demo, bone)
        demo.room("Blend").commands.limp(bone)
    t = demo.timeline
    assert len(lanes(t)) == 7 and lanes(t)[-1][1].bottom() > t.height()
    t.roll(1000.0)
    assert lanes(t)[-1][1].bottom() <= t.height() - 20
    t.grab()


def test_the_boom_from_an_empty_scene_to_a_baked_file(window, qtbot, tmp_path):
    """Open, fit, place and key the obstacle, set the interval, run, bracket the tone, adopt, bake, export."""
    from artuline.core.scene.assets import AssetStore
    from artuline.demo.figures import DATA
    from artuline.formats.gltf_read import read_figure

    s, w = window.session, window
    assert open_file(w, qtbot, DATA / "deckhand.glb")
    w.room("Cast").commands.choose_clip("deckhand", "walk")
    press(w, qtbot, "Fit bodies and joints")
    finish(w, qtbot)
    w.room("Bodies").commands.balance(75.0)
    qtbot.keyClick(w, Qt.Key.Key_7)
    press(w, qtbot, "Add a box")
    for axis, place in (("x", 2.0), ("y", 1.2), ("z", 1.2)):
        field(w, f"box {axis}").changed.emit(place, True)
    w.room("Blend").commands.forces.key_obstacle("box")
    s.set_frame(24)
    w.room("Blend").commands.forces.key_obstacle("box")
    w.details.rebuild()
    field(w, "box x").changed.emit(-0.6, True)
    assert len(s.scene.obstacles[0].track.frames) == 2
    t = w.timeline
    y = lanes(t)[0][1].center().y()
    drag(qtbot, t, (t.scale.x(14), y), (t.scale.x(60), y))
    qtbot.keyClick(w, Qt.Key.Key_F5)
    finish(w, qtbot)
    assert s.take().contact[:, : len(s.scene.figures[0].bodies)].max() > 1.0
    w.room("Takes").brackets.choose("tone: whole figure")
    field(w, "Runs").changed.emit(3.0, True)
    press(w, qtbot, "Run the bracket")
    finish(w, qtbot)
    qtbot.waitUntil(lambda: len(w.room("Takes").brackets.view.cells) == 3, timeout=30000)
    qtbot.mouseClick(w.room("Takes").brackets.view.cards[1], LEFT)
    qtbot.mouseClick(w.room("Takes").brackets.view.adopt_button, LEFT)
    assert s.scene.figures[0].groups[0].tone == Lane(rest=0.5) and len(s.scene.takes) == 2
    qtbot.keyClick(w, Qt.Key.Key_9)
    press(w, qtbot, "Bake the take")
    finish(w, qtbot)
    export(w, qtbot, tmp_path / "out.glb")
    assert "walk baked" in [c.name for c in read_figure(tmp_path / "out.glb", AssetStore()).figure.clips]
    while s.stack.canUndo():
        s.stack.undo()
    assert not s.scene.figures


def test_two_settings_make_a_grid_of_runs(demo, qtbot):
    demo.session.edit("Shorten", lambda sc: sc.changed(end=60))
    demo.set_station("Takes")
    demo.room("Takes").brackets.choose("tone: whole figure")
    choose(demo, "And", "substeps")
    field(demo, "Runs").changed.emit(3.0, True)
    for name, value in (("Second from", 5.0), ("Second to", 10.0), ("Second runs", 2.0)):
        field(demo, name).changed.emit(value, True)
    press(demo, qtbot, "Run the bracket")
    finish(demo, qtbot)
    view = demo.room("Takes").brackets.view
    qtbot.waitUntil(lambda: len(view.cells) == 6, timeout=30000)
    assert [view.words(i) for i in range(6)] == ["0, 5", "0, 10", "0.5, 5", "0.5, 10", "1, 5", "1, 10"]
    rows = [view.grid.getItemPosition(view.grid.indexOf(card))[:2] for card in view.cards]
    assert rows == [(0, 0), (0, 1), (1, 0), (1, 1), (2, 0), (2, 1)]
    view.choose(5)
    demo.room("Takes").brackets.adopt()
    assert demo.session.scene.substeps == 10 and group(demo).tone == Lane(rest=1.0)
    demo.room("Takes").brackets.choose_second("no second")
    assert demo.room("Takes").brackets.second_setting == ""


def test_what_has_no_body_says_so_and_makes_no_group(demo, qtbot):
    said = []
    demo.desk.told.connect(lambda words, fault: said.append(words) if fault else None)
    f, before = demo.session.figure(), demo.session.scene
    bare = next(b.name for b in f.bones if not f.below(b.name) & f.body_of.keys())
    demo.session.select(f.id, frozenset({bare}))
    commands = demo.room("Blend").commands
    for act in (lambda: commands.limp(bare), commands.make_springy, commands.holds.hold_selected):
        said.clear()
        act()
        assert demo.session.scene is before and bare in said[0] and "fit one first" in said[0]
