"""Cast, Bodies, Joints and the tryout in the real window, driven by mouse and keys."""

import math

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication, QCheckBox, QDialog, QLabel, QPushButton

from artuline.core.checks.checks import check
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.scene import edit
from artuline.core.setup.mirror import mirror_pairs, sides_differ
from artuline.core.setup.ragdoll import remove_bodies
from artuline.demo.figures import DATA
from artuline.desk.stage.overlay import bone_dots
from artuline.desk.stations.bodies.fit_list import FitList
from artuline.desk.stations.bodies.setup_dialog import SetupDialog
from artuline.desk.stations.joints.dial import LimitDial
from artuline.desk.stations.joints.limits import LimitsDialog
from tests import foreign
from tests.driving import LEFT, choose, drag, field, finish, handles, on_stage, open_file, press

SHIFT, CONTROL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


def dial(window):
    return window.details.findChildren(LimitDial)[-1]


def chosen(window, *bones):
    window.session.select(window.session.scene.figures[0].id, frozenset(bones))


def let_go(window, qtbot, seconds=1.5):
    """Start the tryout by its button, let it run that long, and return it."""
    qtbot.mouseClick(window.tryout.start_button, LEFT)
    live = window.stage.live.tryout
    assert live is not None
    window.tryout.clock.stop()
    for _ in range(round(seconds * 48)):
        live.step()
        worst = (
            live.built.world.joints["separation"].max(initial=0.0),
            live.built.world.joints["excess"].max(initial=0.0),
        )
        assert worst[0] < 5e-4 and np.degrees(worst[1]) < 1.0
    return live


class Actions:
    """Counts what a user does."""

    def __init__(self, window, qtbot):
        self.window, self.qtbot, self.count = window, qtbot, 0

    def key(self, key):
        self.count += 1
        self.qtbot.keyClick(self.window, key)

    def press(self, text):
        self.count += 1
        press(self.window, self.qtbot, text)
        finish(self.window, self.qtbot)

    def fix(self):
        """Click the fix of the worst problem until none has one."""
        strip = self.window.strip
        for _ in range(12):
            strip.refresh()
            if strip.fix_button.isHidden() or not strip.fix_button.text():
                return
            self.count += 1
            self.qtbot.mouseClick(strip.fix_button, LEFT)

    def click_bone(self, bone, modifier=Qt.KeyboardModifier.NoModifier):
        self.count += 1
        self.qtbot.mouseClick(self.window.stage, LEFT, modifier, on_stage(self.window, bone))


@pytest.mark.parametrize("which", ["goat", "crawler"])
def test_an_unknown_figure_is_set_up_by_looking(window, qtbot, tmp_path, which):
    """From the file to a ragdoll that can be trusted, in fewer than forty actions."""
    path = DATA / "goat.glb" if which == "goat" else foreign.write_crawler(tmp_path / "crawler.glb")
    do = Actions(window, qtbot)
    do.count += 1
    assert open_file(window, qtbot, path)
    s = window.session
    if which == "crawler":
        assert s.scene.figures[0].unit == pytest.approx(0.01)
    pairs = mirror_pairs(s.scene.figures[0])
    assert len(pairs) >= 12
    do.key(Qt.Key.Key_2)
    do.press("Fit bodies and joints")
    figure = s.scene.figures[0]
    assert len(figure.bodies) >= 14 and sides_differ(figure) == []
    do.count += 2  # the dialog, and its button
    window.room("Bodies").commands.balance(window.room("Bodies").commands.usual_mass(figure)[0])
    do.key(Qt.Key.Key_3)
    bone = "haunch_l" if which == "goat" else "LeftLimb0A"
    do.click_bone(bone)
    assert window.session.selection.bones, "a click on a body selects it"
    do.press("From clips")
    do.fix()
    assert not [f for f in window.strip.findings if f.weight > 1 and "handed over" not in f.text]
    do.count += 1
    live = let_go(window, qtbot)
    assert live.time > 1.0 and np.isfinite(live.built.world.bodies["x"]).all()
    assert do.count < 40


def test_handles_change_the_shape_on_both_sides(demo, qtbot):
    demo.set_station("Bodies")
    chosen(demo, "forearm_l")
    demo.stage.frame_selection()
    demo.stage.camera = demo.stage.camera.zoomed(2.0)
    demo.stage.grab()
    held = handles(demo)
    assert held is not None
    before = demo.session.scene.figures[0]
    for name, value in (
        ("radius", "radius"),
        ("length", "half_length"),
        ("along x", "position"),
        ("turn z", "rotation"),
    ):
        held = handles(demo)
        spot = held._screen(held.places()[name])
        centre = held._screen(held.centre)
        away = spot - centre
        if name.startswith("turn"):
            away = np.array([-away[1], away[0]])
        end = spot + 14.0 * away / max(np.linalg.norm(away), 1e-6)
        old = getattr(demo.session.scene.figures[0].body_of["forearm_l"].shapes[0], value)
        drag(qtbot, demo.stage, tuple(spot), tuple(end))
        new = getattr(demo.session.scene.figures[0].body_of["forearm_l"].shapes[0], value)
        assert not np.allclose(new, old), name
    figure = demo.session.scene.figures[0]
    assert figure.body_of["forearm_l"].by_hand and sides_differ(figure) == []
    # one step back for each drag
    for _ in range(4):
        demo.session.stack.undo()
    assert demo.session.scene.figures[0] == before


def test_a_frame_drawn_with_ctrl_selects_what_is_in_it(demo, qtbot):
    demo.set_station("Bodies")
    demo.stage.frame_selection()
    demo.stage.grab()
    w, h = demo.stage.width(), demo.stage.height()
    drag(qtbot, demo.stage, (2, 2), (w - 2, h - 2), modifier=CONTROL)
    assert len(demo.session.selection.bones) >= 20
    field(demo, "Friction").changed.emit(0.9, True)
    figure = demo.session.scene.figures[0]
    assert {b.friction for b in figure.bodies} == {0.9}


def test_the_fit_list_and_the_kinds(demo, qtbot):
    demo.set_station("Bodies")
    qtbot.waitUntil(lambda: bool(demo.details.findChildren(FitList)[-1].fits), timeout=20000)
    fits = demo.details.findChildren(FitList)[-1]
    qtbot.mouseClick(fits, LEFT, pos=QPointF(20, 30).toPoint())
    assert demo.session.selection.bones == {fits.fits[0].body}
    choose(demo, "Kind of shape", "hull")
    press(demo, qtbot, "Fit")
    finish(demo, qtbot)
    body = demo.session.scene.figures[0].body_of[fits.fits[0].body]
    assert body.shapes[0].kind == "hull"
    demo.stage.grab()
    choose(demo, "Kind", "box")
    assert demo.session.scene.figures[0].body_of[body.bone].shapes[0].kind == "box"
    press(demo, qtbot, "Another shape")
    assert len(demo.session.scene.figures[0].body_of[body.bone].shapes) == 2
    press(demo, qtbot, "Remove this shape")
    assert len(demo.session.scene.figures[0].body_of[body.bone].shapes) == 1
    chosen(demo, "upper_arm_l")
    for action in ("On the bone", "Middle of skin"):
        old = demo.session.scene
        press(demo, qtbot, action)
        finish(demo, qtbot)
        assert demo.session.scene != old and sides_differ(demo.session.scene.figures[0]) == []


def test_a_hull_group_takes_its_time_and_can_be_cancelled(demo, qtbot):
    demo.set_station("Bodies")
    chosen(demo, "hips")
    demo.desk.sides.set_both(False)
    choose(demo, "Kind of shape", "hull group")
    before = demo.session.scene
    press(demo, qtbot, "Fit")
    qtbot.mouseClick(demo.strip.cancel_button, LEFT)
    finish(demo, qtbot)
    assert demo.session.scene == before


def test_masses_materials_copy_and_paste(demo, qtbot):
    demo.set_station("Bodies")
    chosen(demo, "head")
    choose(demo, "Material", "steel")
    assert demo.session.scene.figures[0].body_of["head"].density == 7850.0
    press(demo, qtbot, "Copy")
    chosen(demo, "hand_l")
    press(demo, qtbot, "Paste values")
    hands = [demo.session.scene.figures[0].body_of[f"hand_{s}"] for s in "lr"]
    assert [h.density for h in hands] == [7850.0, 7850.0]
    assert hands[0].shapes != demo.session.scene.figures[0].body_of["head"].shapes
    press(demo, qtbot, "Paste shape")
    assert (
        demo.session.scene.figures[0].body_of["hand_l"].shapes == demo.session.scene.figures[0].body_of["head"].shapes
    )
    demo.desk.actions.made["show mass"].trigger()
    demo.stage.grab()
    assert demo.stage.legend is not None and demo.stage.legend[0] == "Mass" and not demo.stage.show_.fit
    demo.room("Bodies").commands.balance(70.0)
    assert sum(b.mass for b in demo.session.scene.figures[0].bodies) == pytest.approx(70.0)


def test_bodies_are_given_and_taken_on_the_stage(demo, qtbot):
    demo.set_station("Bodies")
    demo.stage.frame_selection()
    demo.stage.grab()
    spot = next(at for _, bone, at in bone_dots(demo.session.scene.figures, demo.stage.view()) if bone == "toes_l")
    qtbot.mouseClick(demo.stage, LEFT, pos=spot.toPoint())
    assert demo.session.selection.bones == {"toes_l"}
    press(demo, qtbot, "Give it a body")
    finish(demo, qtbot)
    figure = demo.session.scene.figures[0]
    assert {"toes_l", "toes_r"} <= set(figure.body_of) and figure.joint_of["toes_l"].parent == "foot_l"
    press(demo, qtbot, "Remove")
    finish(demo, qtbot)
    assert "toes_l" not in demo.session.scene.figures[0].body_of


def test_the_dial_sets_ranges_on_both_sides(demo, qtbot):
    demo.set_station("Joints")
    chosen(demo, "upper_arm_l")
    demo.stage.grab()
    d = dial(demo)
    d.grab()
    joint = d.joint
    assert set(d.handles()) == {"twist low", "twist high", "swing y", "swing z", "both"}
    # the edge of the swing y handle is where its angle is
    start = d.handles()["swing y"]
    drag(qtbot, d, (start.x(), start.y()), (start.x() - 20, start.y()))
    figure = demo.session.scene.figures[0]
    made = figure.joint_of["upper_arm_l"]
    assert made.swing_y < joint.swing_y and made.swing_z == joint.swing_z
    assert figure.joint_of["upper_arm_r"].swing_y == pytest.approx(made.swing_y)
    d = dial(demo)
    start = d.handles()["twist high"]
    centre = d.centre()
    end = centre + QPointF(d.ring() * math.sin(0.2), -d.ring() * math.cos(0.2))
    drag(qtbot, d, (start.x(), start.y()), (end.x(), end.y()))
    twist = demo.session.scene.figures[0].joint_of["upper_arm_l"].twist
    assert twist[1] == pytest.approx(0.2, abs=0.06)
    demo.session.stack.undo()
    demo.session.stack.undo()
    assert demo.session.scene.figures[0].joint_of["upper_arm_l"] == joint


@pytest.mark.parametrize("kind", ["hinge", "slide", "axes", "fixed", "ball"])
def test_every_kind_has_a_dial_and_only_what_it_can_use(demo, qtbot, kind):
    demo.set_station("Joints")
    chosen(demo, "thigh_l")
    choose(demo, "Kind", kind)
    assert demo.session.scene.figures[0].joint_of["thigh_r"].kind == kind
    names = (
        {f.accessibleName() for f in demo.details.findChildren(type(field(demo, "Breaks at")))}
        if kind != "fixed"
        else set()
    )
    expected = {
        "ball": {"Swing about y", "Twist from", "Friction", "Bounce"},
        "hinge": {"Turns from", "Turns to", "Friction"},
        "slide": {"Slides from", "Slides to", "Spring back"},
        "axes": {"Twist from", "Swing about y from"},
        "fixed": set(),
    }[kind]
    assert expected <= names
    assert ("Friction" in names) == (kind not in ("slide", "fixed"))
    for d in demo.details.findChildren(LimitDial)[-1:]:
        d.grab()
        for name, at in list(d.handles().items())[:2]:
            old = d.joint
            drag(qtbot, d, (at.x(), at.y()), (at.x() + 9, at.y() + 9))
            assert demo.session.scene.figures[0].joint_of["thigh_l"] != old, name
            d = dial(demo)
    demo.stage.grab()


def test_a_sweep_moves_the_limb_and_comes_back(demo, qtbot, monkeypatch):
    demo.set_station("Joints")
    chosen(demo, "forearm_l")
    demo.stage.grab()
    figure = demo.session.scene.figures[0]
    hand, head = figure.bone_index["hand_l"], figure.bone_index["head"]
    still = keyed_matrices(demo.session.scene, demo.session.assets, figure, np.array([0.0]))[0]
    press(demo, qtbot, "Sweep")
    qtbot.wait(700)
    moved = demo.stage.states()[0].matrices
    assert np.linalg.norm(moved[hand, :3, 3] - still[hand, :3, 3]) > 0.03
    np.testing.assert_allclose(moved[head], still[head])
    monkeypatch.setattr("artuline.desk.stations.joints.sweep.SECONDS", 0.01)
    np.testing.assert_allclose(demo.stage.states()[0].matrices, still)


def test_links_between_two_bodies_and_the_world(demo, qtbot):
    demo.set_station("Joints")
    chosen(demo, "hand_l", "hand_r")
    press(demo, qtbot, "Tie")
    chosen(demo, "head")
    press(demo, qtbot, "Pin to the world")
    kinds = {x.kind: x for x in demo.session.scene.links}
    assert kinds["tie"].b is not None and kinds["tie"].lengths[1] > 0.2 and kinds["pin"].b is None
    demo.strip.refresh()
    assert any("for good" in f.text for f in demo.strip.findings)
    for b in demo.details.findChildren(QPushButton):
        if b.accessibleName() == f"Remove {kinds['pin'].id}":
            qtbot.mouseClick(b, LEFT)
            break
    assert [x.kind for x in demo.session.scene.links] == ["tie"]


def test_proposed_limits_are_taken_by_choice(demo, qtbot):
    figure = demo.session.scene.figures[0]
    dialog = LimitsDialog(demo, figure, demo.room("Joints").commands.motion(figure))
    dialog.source.setCurrentIndex(0)
    dialog.source.activated.emit(0)
    dialog._tick_all()
    assert dialog.taken() == {}
    row = [j.id for j in figure.joints].index("head")
    dialog.table.cellWidget(row, 0).setChecked(True)
    assert set(dialog.taken()) == {"head"} and dialog.taken()["head"] != figure.joint_of["head"]
    dialog.reject()


def test_a_setup_goes_onto_another_figure_by_a_table(window, qtbot, tmp_path):
    assert open_file(window, qtbot, foreign.write_walker(tmp_path / "walker.glb"))
    figure = window.session.scene.figures[0]
    dialog = SetupDialog(window, figure, window.room("Bodies").setups.load_setup)
    assert dialog.setup().name == "two legs"
    mapping = dialog.mapping()
    assert len(mapping) >= 8
    whys = [dialog.table.item(i, 2).text() for i in range(dialog.table.rowCount())]
    assert all(why for why in whys)
    assert window.room("Bodies").setups.put_setup(dialog.setup(), mapping)
    assert len(window.session.scene.figures[0].bodies) == len(mapping)
    assert window.room("Bodies").setups.save_setup(tmp_path / "walker.artuset")
    assert window.room("Bodies").setups.load_setup(tmp_path / "walker.artuset") is not None
    assert (
        window.room("Bodies").setups.load_setup(tmp_path / "walker.glb") is None
        and "setup" in window.strip.message.toolTip()
    )
    assert isinstance(dialog, QDialog)


def test_pairs_are_corrected_by_two_clicks(demo, qtbot):
    demo.set_station("Cast")
    chosen(demo, "hand_l", "hand_r")
    press(demo, qtbot, "They are no pair")
    assert "hand_l" not in mirror_pairs(demo.session.scene.figures[0])
    press(demo, qtbot, "Pair hand_l with hand_r")
    assert mirror_pairs(demo.session.scene.figures[0])["hand_l"] == "hand_r"


def test_a_figure_is_placed_again_and_removed(demo, qtbot):
    demo.set_station("Cast")
    press(demo, qtbot, "Place again")
    assert [f.name for f in demo.session.scene.cast] == ["deckhand", "deckhand 2"]
    field(demo, "Turned").changed.emit(90.0, True)
    assert demo.session.scene.cast[1].turn == pytest.approx(math.pi / 2)
    demo.stage.grab()
    press(demo, qtbot, "Remove")
    assert len(demo.session.scene.cast) == 1


def test_the_tryouts_controls(demo, qtbot):
    demo.session.set_frame(20)
    before = demo.session.scene
    live = let_go(demo, qtbot, 0.2)
    world = live.built.world
    demo.tryout.gravity.click()
    assert not world.gravity.any()
    demo.tryout.gravity.click()
    demo.tryout.tilt.setValue(90)
    assert abs(world.gravity[1]) < 1e-9 and np.linalg.norm(world.gravity) == pytest.approx(9.81)
    demo.tryout.tilt.setValue(0)
    lowest = live.matrices()[0][:, 1, 3].min()
    demo.tryout.ground.click()
    for _ in range(48):
        live.step()
    assert live.matrices()[0][:, 1, 3].min() < lowest - 0.5
    demo.tryout.start_over()
    live = demo.stage.live.tryout
    assert live.time == 0.0
    chosen(demo, "head")
    head = live.built.parts[0].on({"head"})[0]
    demo.tryout.push()
    assert np.linalg.norm(live.built.world.bodies["v"][head]) > 1.0
    demo.tryout.spin()
    demo.tryout.hold()
    place = live.built.world.bodies["x"][head].copy()
    for _ in range(24):
        live.step()
    np.testing.assert_allclose(live.built.world.bodies["x"][head], place, atol=1e-9)
    demo.tryout.let_all_go()
    for _ in range(24):
        live.step()
    assert np.linalg.norm(live.built.world.bodies["x"][head] - place) > 0.01
    demo.tryout.stop()
    assert demo.session.scene is before


def test_the_pose_of_the_tryout_becomes_a_key(demo, qtbot):
    demo.session.set_frame(20)
    live = let_go(demo, qtbot, 0.4)
    figure = demo.session.scene.figures[0]
    wanted = live.matrices()[0]
    demo.room("Blend").commands.take_pose()
    scene = demo.session.scene
    layer = scene.figures[0].layers[0]
    assert layer.steers and (layer.start, layer.end) == (8, 32)
    made = keyed_matrices(scene, demo.session.assets, scene.figures[0], np.array([20.0, 7.0]), layers=False)
    np.testing.assert_allclose(made[0, :, :3, 3], wanted[:, :3, 3], atol=2e-3)
    clip = keyed_matrices(scene, demo.session.assets, figure, np.array([7.0]), layers=False)
    np.testing.assert_allclose(made[1], clip[0], atol=1e-9)
    assert scene.settings_fingerprint() != demo.session.scene.changed(figures=(figure,)).settings_fingerprint()
    demo.session.stack.undo()
    assert demo.session.scene.figures[0].layers == ()
    assert QApplication.activeModalWidget() is None and isinstance(demo.tryout.gravity, QCheckBox)


def test_pairs_that_pass_are_listed_let_touch_and_made(demo, qtbot):
    """In Bodies, by its buttons: of the figure itself, with a thing, and what a hold makes pass is said."""
    s = demo.session
    f = s.scene.figures[0]
    demo.desk.go("Bodies")
    chosen(demo, "hand_l", "thigh_l")
    press(demo, qtbot, "Pass through each other")
    press(demo, qtbot, "Let them pass")
    f = s.scene.figures[0]
    assert ("hand_l", "thigh_l") in f.pairs_off
    rows = demo.details.findChildren(QPushButton)
    row = next(b for b in rows if b.accessibleName() == "Touch hand_l thigh_l")
    qtbot.mouseClick(row, LEFT)
    assert ("hand_l", "thigh_l") not in s.scene.figures[0].pairs_off
    s.stack.undo()
    assert ("hand_l", "thigh_l") in s.scene.figures[0].pairs_off


def test_a_click_is_not_lost_to_details_that_are_made_anew_meanwhile(demo, qtbot):
    demo.set_station("Joints")
    chosen(demo, "head")
    demo.details.open_all()
    button = next(b for b in demo.details.findChildren(QPushButton) if b.text() == "Pin to the world")
    qtbot.mousePress(button, LEFT)
    # what was found beside the window, or a frame that went on, comes just now
    panel = demo.details.widget()
    demo.details.rebuild()
    assert demo.details.widget() is panel
    qtbot.mouseRelease(button, LEFT)
    assert [x.kind for x in demo.session.scene.links] == ["pin"]
    assert demo.details.widget() is not panel


def test_a_bone_without_a_body_says_so_and_gets_one_wherever_it_is_chosen(demo, qtbot):
    def said():
        return " ".join(x.text() for x in demo.details.findChildren(QLabel))

    f = demo.session.scene.figures[0]
    assert "toes_l" not in f.body_of
    demo.set_station("Bodies")
    demo.session.select(f.id, frozenset())
    qtbot.waitUntil(lambda: "too little skin" in said(), timeout=20000)
    # handing over what has no body is said, and only what moves is handed over
    demo.set_station("Blend")
    demo.session.select(f.id, frozenset({"collar_l"}))
    finish(demo, qtbot)
    qtbot.waitUntil(lambda: "collar_l has no body of its own: it goes along with chest" in said(), timeout=20000)
    press(demo, qtbot, "Limp from collar_l down")
    assert "from upper_arm_l on" in demo.strip.message.text()
    demo.session.select(f.id, frozenset({"toes_l", "toes_r"}))
    finish(demo, qtbot)
    before = demo.session.scene
    press(demo, qtbot, "Only these 2 bones")
    assert demo.session.scene is before and "give one first" in demo.strip.message.text()
    press(demo, qtbot, "Give them bodies")
    finish(demo, qtbot)
    assert {"toes_l", "toes_r"} <= set(demo.session.scene.figures[0].body_of)
    press(demo, qtbot, "Only these 2 bones")
    assert demo.session.scene.figures[0].groups[-1].bones == ("toes_l", "toes_r")
    # a group that lost its bodies is found, with the way back
    ids = {"toes_l", "toes_r"}
    demo.session.edit("away", lambda s: edit.map_figure(s, f.id, lambda x: remove_bodies(x, demo.session.assets, ids)))
    finish(demo, qtbot)
    found = [x for x in check(demo.session.scene, demo.session.assets) if "rules no body" in x.text]
    assert len(found) == 1 and found[0].fix_label == "Give them bodies"
    made = found[0].work(demo.session.scene.figures[0], lambda d, t: None, lambda: False)
    assert ids <= set(made.body_of)
