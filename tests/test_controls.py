"""Keys, focus, tooltips, numbers and narrow windows: the window as it is used without a mouse, and on small screens."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractSlider,
    QComboBox,
    QLineEdit,
    QPushButton,
    QScrollBar,
    QToolButton,
    QWidget,
)

from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.demo.figures import DATA
from artuline.desk.help import HelpPage, guide
from artuline.desk.model.actions import Action, Actions
from artuline.desk.model.amounts import AmountError, parse, shown
from artuline.desk.model.frame_scale import FrameScale
from artuline.desk.stations.all import STATIONS
from artuline.desk.widgets.fields import NumberField
from artuline.formats.gltf_read import read_figure
from tests import foreign
from tests.driving import drag, export, field, finish, lane_point, lanes, open_file, press

KEY = Qt.Key


@pytest.fixture
def active(demo, qtbot):
    """The demo's window with the focus, as far as there is one without a screen."""
    demo.activateWindow()
    demo.stage.setFocus()
    qtbot.waitUntil(lambda: demo.stage.hasFocus(), timeout=5000)
    return demo


def controls(widget):
    kinds = (QAbstractButton, QLineEdit, QComboBox, QAbstractSlider)
    return [w for w in widget.findChildren(QWidget) if isinstance(w, kinds) and not isinstance(w, QScrollBar)]


def button(window, text):
    return next(b for b in window.details.findChildren(QPushButton) if b.text().startswith(text) and b.isVisible())


@pytest.mark.parametrize("key", [KEY.Key_Space, KEY.Key_Return])
def test_space_and_return_press_what_has_the_focus(active, qtbot, key):
    hand = button(active, "Hand over the whole figure")
    hand.setFocus()
    count = active.session.stack.count()
    active.session.edit("away", lambda s: edit.figure(s, "deckhand", groups=()))
    hand = button(active, "Hand over the whole figure")
    hand.setFocus()
    qtbot.keyClick(hand, key)
    assert active.session.stack.count() == count + 2 and not active.transport.playing
    # the focus stays on the same button of the panel that was made anew
    assert active.focusWidget().text() == "Hand over the whole figure" and active.focusWidget() is not hand
    rail = active.rail["Joints"]
    rail.setFocus()
    qtbot.keyClick(rail, key)
    assert active.station.name == "Joints"
    active.stage.setFocus()
    qtbot.keyClick(active.stage, KEY.Key_Space)
    assert active.transport.playing


def test_digits_and_arrows_belong_to_the_field_and_the_list(active, qtbot):
    f = field(active, "Tone")
    f.setFocus()
    qtbot.keyClicks(f, "0.5")
    assert active.station.name == "Blend" and not f.isReadOnly()
    qtbot.keyClick(f, KEY.Key_Return)
    assert active.session.scene.figures[0].groups[0].tone.rest == 0.5
    frame = active.session.frame
    active.roster.setFocus()
    active.roster.setCurrentItem(active.roster.topLevelItem(0))
    for key in (KEY.Key_Down, KEY.Key_Down, KEY.Key_End):
        qtbot.keyClick(active.roster, key)
    assert active.session.frame == frame and active.session.selection.bones
    active.timeline.setFocus()
    qtbot.keyClick(active.timeline, KEY.Key_Right)
    assert active.session.frame == frame + 1


def test_escape_delete_and_select_all_do_what_they_say(active, qtbot):
    w, s = active, active.session
    qtbot.keyClick(w.stage, KEY.Key_A, Qt.KeyboardModifier.ControlModifier)
    assert s.selection.bones == frozenset(s.scene.figures[0].body_of)
    qtbot.keyClick(w.stage, KEY.Key_T)
    assert w.tryout.running and "Escape" in w.tryout.start_button.toolTip()
    qtbot.keyClick(w.stage, KEY.Key_Escape)
    assert not w.tryout.running and s.selection.bones and "Let go" in w.tryout.start_button.toolTip()
    qtbot.keyClick(w.stage, KEY.Key_Escape)
    assert not s.selection.bones
    w.set_station("Bodies")
    s.select("deckhand", frozenset({"neck"}))
    w.desk.sides.both = False
    qtbot.keyClick(w.stage, KEY.Key_Delete)
    finish(w, qtbot)
    assert "neck" not in s.scene.figures[0].body_of
    w.set_station("Blend")
    s.select("mast", frozenset({"mast"}))
    qtbot.keyClick(w.stage, KEY.Key_Delete)
    assert all(o.id != "mast" for o in s.scene.obstacles)
    # what cannot be done says why
    s.select("deckhand", frozenset({"head"}))
    assert not w.desk.actions.made["remove"].isEnabled() and "Not now" in w.desk.actions.made["remove"].toolTip()


def test_tab_comes_to_the_stage_the_timeline_and_the_details(active, qtbot):
    seen = set()
    for _ in range(90):
        seen.add(type(active.focusWidget()).__name__)
        active.focusNextChild()
    assert {"Stage", "Timeline", "Roster", "NumberField", "QToolButton", "QPushButton"} <= seen


def test_every_control_has_a_name_and_a_tooltip(demo, qtbot, boom_run):
    scene, assets, _ = boom_run
    demo.session.new(scene, assets)
    nameless, silent = set(), set()
    for name in (s.name for s in STATIONS):
        demo.set_station(name)
        for bones in (frozenset(), frozenset({"forearm_l"}), frozenset({"forearm_l", "hand_l"})):
            demo.session.select("deckhand", bones)
            demo.details.open_all()
            for w in controls(demo):
                if (
                    w.isVisible()
                    and w.objectName() not in ("qt_menubar_ext_button",)
                    and "Scroll" not in type(w).__name__
                ):
                    words = w.accessibleName() or (w.text() if isinstance(w, QAbstractButton) else "")
                    nameless |= set() if words else {(name, type(w).__name__, w.toolTip())}
                    silent |= set() if w.toolTip() else {(name, type(w).__name__, words)}
    assert not nameless and not silent


def test_actions_that_clash_or_say_nothing_are_refused(qapp, qtbot):
    made = Actions()
    made.add([Action("one", "One", lambda: None, "Ctrl+1", tip="Does one")])
    for bad in (
        Action("two", "Two", lambda: None, "Ctrl+1", tip="Does two"),
        Action("one", "One again", lambda: None, tip="Does one"),
        Action("three", "Three", lambda: None),
    ):
        with pytest.raises(ValueError):
            made.add([bad])


def test_help_knows_every_station_and_every_shortcut(demo):
    for name in (s.name for s in STATIONS):
        assert guide(demo.room(name)).startswith(f"# {name}:")
    keys = [k for _, pairs in demo.desk.actions.sheet() for k, _ in pairs]
    assert len(keys) > 50 and len(set(keys)) == len(keys)
    for show in ("guide", "shortcuts", "about"):
        demo.desk.act(show)
        page = demo.findChildren(HelpPage)[-1]
        assert len(page.page.toPlainText()) > 200
        page.close()


@pytest.mark.parametrize(
    "text, unit, value",
    [("10 cm", "m", 0.1), ("1/2", "", 0.5), ("2*3", "", 6.0), ("+5", "m", 7.0), ("*2", "m", 4.0), ("-5", "", -5.0), ("1,5", "kg", 1.5),
     ("250 g", "kg", 0.25), ("3 ft", "cm", 91.44), ("1 rad", "°", 57.29577951), ("2 m + 5 cm", "m", 2.05), ("(1+2)*3", "", 9.0),
     ("1e-3", "", 1e-3), ("12 % of skin", "% of skin", 12.0), ("30 %", "% of skin", 30.0), ("−4", "", -4.0), ("36 km/h", "m/s", 10.0)],
)  # fmt: skip
def test_amounts_are_read_as_people_type_them(text, unit, value):
    for now in (2.0, np.float64(2.0)):
        assert parse(text, unit, now) == pytest.approx(value, rel=1e-9)


@pytest.mark.parametrize(
    "text", ["12abc", "", "abc", "1/0", "((", "2 kg", "1 2", "3 +", "1e400", "--", "5 m m", "0x10", "1..2"]
)
def test_what_is_no_amount_is_refused_with_a_word(text):
    with pytest.raises(AmountError) as caught:
        parse(text, "m", 2.0)
    assert len(str(caught.value)) > 8


@given(st.floats(-1e6, 1e6), st.integers(0, 3))
def test_what_is_shown_is_read_as_it_is(value, decimals):
    text = shown(value, decimals)
    assert parse(text) == pytest.approx(value, abs=0.5 * 10.0**-decimals + 1e-9)


def test_digits_that_matter_are_shown_and_limits_are_said(demo, qtbot):
    assert shown(23.976, 0) == "23.976" and shown(math.pi, 2) == "3.14" and shown(24.0, 0) == "24"
    demo.set_station("Cast")
    told = []
    f = field(demo, "Last frame")
    f.refused.connect(told.append)
    f.begin_typing()
    f.setText("-3")
    qtbot.keyClick(f, KEY.Key_Return)
    assert demo.session.scene.end == 168 and "must be 1 or more" in told[0]
    assert "1 or more" in f.toolTip() or "From 1" in f.toolTip()


def test_names_however_long_push_nothing_out_of_the_window(window, qtbot, tmp_path):
    long = "the ship's second deckhand's left upper arm twist helper bone, of a file whose names are long indeed"
    path = foreign.write_figure(
        tmp_path / "long.glb",
        {"root": (None, (0, 0.1, 0)), long: ("root", (0, 0.6, 0)), long + " end": (long, (0, 1.1, 0))},
        [
            ("root", (0, 0.1, 0), (0, 0.55, 0), 0.1),
            (long, (0, 0.6, 0), (0, 1.05, 0), 0.1),
            (long + " end", (0, 1.1, 0), (0, 1.6, 0), 0.1),
        ],
    )
    open_file(window, qtbot, path)
    window.desk.act("fit")
    finish(window, qtbot)
    window.resize(1024, 700)
    assert window.minimumSizeHint().width() <= 1024 and window.minimumSizeHint().height() <= 700
    f = window.session.scene.figures[0]
    for name in (s.name for s in STATIONS):
        window.set_station(name)
        window.session.select(f.id, frozenset({long}))
        window.details.open_all()
        qtbot.wait(20)
        room = window.details.viewport().width()
        assert window.details.widget().width() <= room
        for w in controls(window.details):
            if w.isVisible():
                right = w.mapTo(window.details.widget(), w.rect().topRight()).x()
                assert right <= room, (
                    name,
                    type(w).__name__,
                    w.accessibleName(),
                    w.parent().objectName(),
                    getattr(w, "text", str)(),
                )
    assert window.width() == 1024
    item = window.roster.items[f.id, long]
    assert item.toolTip(0) == long


def test_dragging_on_the_timeline_makes_the_details_anew_only_at_its_end(demo, qtbot):
    panel, moved = demo.details.widget(), []
    demo.session.previewed.connect(lambda: moved.append(demo.details.widget() is panel))
    t = demo.timeline
    at = lane_point(t, lanes(t)[0][1], demo.session.scene.figures[0].groups[0].handover.keys[-1])
    drag(qtbot, t, (at.x(), at.y()), (at.x() - 60, at.y()))
    assert demo.session.scene.figures[0].groups[0].handover.keys[-1].frame < 150
    assert len(moved) >= 4 and all(moved) and demo.details.widget() is not panel


@given(st.integers(-1000, 1000), st.integers(1, 10**6), st.floats(50, 4000))
def test_what_the_timeline_draws_does_not_grow_with_the_range(start, span, width):
    scale = FrameScale(start, start + span, 164.0, width)
    ticks = scale.ticks(46.0)
    assert ticks[0] == start and len(ticks) <= width / 46.0 + 2
    assert all((t - start) % (ticks[1] - ticks[0]) == 0 for t in ticks[1:]) if len(ticks) > 1 else True
    assert scale.frame(scale.x(start + span / 3)) == pytest.approx(start + span / 3, rel=1e-9, abs=1e-6)
    seen = scale.seen(np.arange(0.0, 25.0), 0.0, 24.0)
    assert len(seen) <= width + 3 and (np.diff(seen) >= 0).all()
    x, high = scale.highest(np.arange(start, start + min(span, 5000)), np.ones(min(span, 5000)))
    assert len(x) == len(high) <= width + 2


def test_keys_of_a_clip_stand_at_their_frames():
    scale = FrameScale(0, 48, 0.0, 480.0)
    np.testing.assert_allclose(scale.seen(np.array([0.0, 6.0, 12.0])), [0.0, 60.0, 120.0], atol=0.6)
    # a loop of a second, over two
    np.testing.assert_allclose(scale.seen(np.array([0.0, 12.0, 24.0]), 0.0, 24.0), [0, 120, 240, 360, 480], atol=0.6)


def test_going_limp_goes_to_a_frame_inside_and_says_what_is_next(window, qtbot):
    open_file(window, qtbot, DATA / "deckhand.glb")
    window.desk.act("fit")
    finish(window, qtbot)
    assert window.station.name == "Bodies"
    press(window, qtbot, "Next: look at how")
    press(window, qtbot, "Next: say where")
    assert window.station.name == "Blend"
    window.session.select("deckhand", frozenset({"upper_arm_l"}))
    press(window, qtbot, "Limp from upper_arm_l down")
    keys = window.session.scene.figures[0].groups[0].handover.keys
    assert keys[0].frame < window.session.frame < keys[-2].frame and "F5" in window.strip.message.toolTip()


def test_the_bakes_summary_is_its_figures_and_an_export_without_says_so(demo, qtbot, tmp_path, boom_run):
    scene, assets, _ = boom_run
    demo.session.new(scene, assets)
    export(demo, qtbot, tmp_path / "a.glb")
    assert "nothing is baked" in demo.strip.message.toolTip()
    demo.desk.act("bake")
    finish(demo, qtbot)
    assert set(demo.room("Curves").commands.baked) == {"deckhand"}
    export(demo, qtbot, tmp_path / "b.glb")
    assert "nothing is baked" not in demo.strip.message.toolTip()
    back = read_figure(tmp_path / "b.glb", AssetStore()).figure
    assert [b.name for b in back.bones] == [b.name for b in scene.figures[0].bones]
    demo.session.new(scene, assets)
    assert demo.room("Curves").commands.baked == {}


def test_what_the_stage_shows_is_switched_in_words_and_marked(demo):
    demo.set_station("Bodies")
    assert demo.show_bar.buttons["Bodies"].text() == "Bodies"
    demo.desk.actions.made["show mass"].trigger()
    assert demo.stage.show_.mass and not demo.stage.show_.fit and demo.show_bar.buttons["Bodies"].text() == "Bodies •"
    demo.desk.actions.made["as usual"].trigger()
    assert demo.stage.show_.fit and demo.show_bar.buttons["Bodies"].text() == "Bodies"
    assert all(isinstance(b, QToolButton) and b.menu().actions() for b in demo.show_bar.buttons.values())


def test_a_field_steps_resets_and_begins_by_keys(qtbot, qapp):
    f = NumberField(2.0, "m", low=0, high=10, reset=1.0, name="Reach")
    qtbot.addWidget(f)
    f.show()
    qtbot.keyClick(f, KEY.Key_Up)
    assert f.value == 2.5
    qtbot.keyClick(f, KEY.Key_Delete)
    assert f.value == 1.0
    qtbot.keyClick(f, KEY.Key_Return)
    assert not f.isReadOnly()


def test_groups_of_one_name_open_each_by_itself(demo):
    """The group that rules the chosen bone is open, not all that are called alike or are about it."""
    f = demo.session.figure()
    demo.session.select(f.id, {"upper_arm_l"})
    demo.room("Blend").commands.limp("upper_arm_l")
    groups = demo.session.figure().groups
    more = tuple(groups[-1].changed(id=f"again{n}") for n in range(5))
    demo.session.edit("More of one name", lambda s: edit.figure(s, f.id, groups=(*groups, *more)))
    demo.set_station("Blend")
    names = [g.name for g in demo.session.figure().groups]

    def opened():
        return [b.isChecked() for b in demo.details.findChildren(QPushButton, "fold")][: len(names)]

    assert opened() == [False] * (len(names) - 1) + [True]
    demo.details.findChildren(QPushButton, "fold")[1].click()
    assert opened() == [False, True] + [False] * (len(names) - 3) + [True]
