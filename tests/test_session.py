"""What is open: one door for edits, previews that leave no trace, fields and lanes that answer in pixels."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor

from artuline.core.errors import ArtulineError
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.desk import theme
from artuline.desk.application import make_application
from artuline.desk.desk import Desk
from artuline.desk.model.jobs import Jobs
from artuline.desk.model.session import Session
from artuline.desk.stations.all import STATIONS
from artuline.desk.timeline.timeline import Timeline
from artuline.desk.widgets.fields import NumberField
from artuline.formats import recovery
from artuline.formats.scene_file import load_scene
from tests.driving import lane_point, lanes


@pytest.fixture(scope="session")
def qapp():
    return make_application()


@pytest.fixture
def session(qapp, boom):
    s = Session()
    scene, assets = boom
    s.new(scene, assets)
    return s


def test_an_edit_is_undone_and_redone_to_the_same_scene(session):
    before = session.scene
    assert session.edit("Change substeps", lambda s: s.changed(substeps=20))
    after = session.scene
    session.stack.undo()
    assert session.scene is before
    session.stack.redo()
    assert session.scene is after and session.stack.undoText() == "Change substeps"


def test_an_edit_that_changes_nothing_is_not_recorded(session):
    session.edit("Nothing", lambda s: s.changed(substeps=s.substeps))
    assert session.stack.count() == 0


def test_a_preview_shows_but_is_not_recorded_until_the_edit(session):
    before = session.scene
    for n in (11, 12, 13):
        session.preview(lambda s, n=n: s.changed(substeps=n))
    assert session.scene.substeps == 13 and session.stack.count() == 0
    session.edit("Change substeps", lambda s: s.changed(substeps=14))
    assert session.stack.count() == 1
    session.stack.undo()
    assert session.scene == before
    session.preview(lambda s: s.changed(substeps=99))
    session.cancel_preview()
    assert session.scene == before


def test_a_refused_edit_ends_the_preview(session):
    before, told = session.scene, []
    session.failed.connect(told.append)
    session.preview(lambda s: s.changed(substeps=15))

    def refuse(s):
        raise ArtulineError("the wind is against it", remedy="Wait.")

    assert not session.edit("Sail", refuse)
    assert session.scene == before and told == ["the wind is against it. Wait."]


def test_the_selection_forgets_what_is_gone(session):
    session.select("deckhand", frozenset({"head"}))
    session.edit("Remove", lambda s: s.changed(figures=()))
    assert session.selection.figure is None and session.figure() is None
    session.stack.undo()
    assert session.figure().id == "deckhand"


def test_the_frame_stays_inside_the_range(session):
    session.set_frame(1e6)
    assert session.frame == session.scene.end
    session.set_frame(-50)
    assert session.frame == session.scene.start


def test_autosave_keeps_what_is_unsaved_and_only_that(session):
    def kept():
        return [load_scene(p, AssetStore()).substeps for p in recovery.recovery_folder().glob("*.artuline")]

    session.autosave()
    assert kept() == []
    session.edit("Change substeps", lambda s: s.changed(substeps=21))
    session.autosave()
    assert kept() == [21]
    # a preview in progress is not saved
    session.edit("Change substeps", lambda s: s.changed(substeps=22))
    session.preview(lambda s: s.changed(substeps=50))
    session.autosave()
    assert kept() == [22]
    session.remove_autosave()
    assert kept() == []


def test_a_take_is_decoded_once(session, boom_run):
    scene, assets, _ = boom_run
    session.new(scene, assets)
    assert session.take() is session.take()
    session.edit("Remove", lambda s: edit.scene(s, takes=(), take=None))
    assert session.take() is None


@pytest.mark.parametrize(
    "typed, value",
    [("12", 12.0), ("-3,5", -3.5), ("−4", -4.0), ("7 mm", 7.0), ("1e1", 10.0), ("abc", 5.0), ("999", 5.0)],
)
def test_a_field_takes_what_people_type(qtbot, qapp, typed, value):
    f = NumberField(5.0, "mm", low=-100, high=100)
    qtbot.addWidget(f)
    got = []
    f.changed.connect(lambda v, final: got.append((v, final)))
    f.begin_typing()
    # as pasted: not every sign of these has a key
    f.setText(typed)
    qtbot.keyClick(f, Qt.Key.Key_Return)
    assert f.value == value and f.isReadOnly()
    assert got == ([(value, True)] if value != 5.0 else [])
    assert f.text().endswith("mm")


def test_escape_leaves_a_field_as_it_was(qtbot, qapp):
    f = NumberField(5.0, "°")
    qtbot.addWidget(f)
    f.begin_typing()
    qtbot.keyClicks(f, "88")
    qtbot.keyClick(f, Qt.Key.Key_Escape)
    assert f.value == 5.0 and f.text() == "5.0°"
    qtbot.keyClick(f, Qt.Key.Key_Up)
    assert f.value == pytest.approx(5.5)


def test_pixels_and_frames_of_the_timeline_are_inverse(qtbot, session):
    desk = Desk()
    desk.session.new(session.scene, session.assets)
    t = Timeline(desk.session, [kind(desk) for kind in STATIONS])
    qtbot.addWidget(t)
    t.resize(900, 120)
    for frame in (0.0, 13.5, 168.0):
        assert t.scale.frame(t.scale.x(frame)) == pytest.approx(frame)
    rows = lanes(t)
    assert len(rows) == 1 and rows[0][0].group == "group"
    keys = rows[0][0].lane().keys
    points = [lane_point(t, rows[0][1], k) for k in keys]
    assert points[1].y() < points[0].y() and points[2].x() > points[1].x()
    assert rows[0][0].hit(points[2], rows[0][1], t.scale) == "2"


def test_jobs_run_one_at_a_time_report_and_fail_in_words(qtbot, qapp):
    jobs, results, faults = Jobs(), [], []
    jobs.failed.connect(faults.append)
    assert jobs.start("Counting", lambda progress, cancelled: 42, results.append)
    assert not jobs.start("Second", lambda progress, cancelled: 0, results.append)
    qtbot.waitUntil(lambda: not jobs.busy)
    assert results == [42]

    def broken(progress, cancelled):
        raise RuntimeError("sprung a leak")

    jobs.start("Sailing", broken, results.append)
    qtbot.waitUntil(lambda: not jobs.busy)
    assert len(faults) == 1 and "Sailing" in faults[0] and "sprung a leak" in faults[0]


def test_the_shipped_type_is_in_use_and_its_figures_are_tabular(qapp):
    from PySide6.QtGui import QFontInfo, QFontMetricsF

    for strong in (False, True):
        f = theme.font(strong=strong)
        assert QFontInfo(f).family() == theme.FAMILY
        widths = {round(QFontMetricsF(f).horizontalAdvance(c), 3) for c in "0123456789"}
        assert len(widths) == 1


def test_colours_are_asked_for_by_meaning(qapp):
    assert theme.color("teal") == QColor(theme.palette().teal)
    assert theme.color("teal", 0.5).alphaF() == pytest.approx(0.5, abs=0.01)
    with pytest.raises(AttributeError):
        theme.color("mauve")


def test_an_empty_scene_has_nothing_to_autosave(qapp):
    s = Session()
    s.edit("Rename", lambda sc: sc.changed(name="other"))
    s.autosave()
    assert not recovery.left_behind() and s.scene == Scene(name="other")
    assert np.isfinite(s.frame)
