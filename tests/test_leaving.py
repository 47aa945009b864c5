"""Documents that are left: jobs that belong to them, unsaved work, and what other windows left behind."""

import itertools
import os
import subprocess
import sys
import threading

import pytest
import shiboken6
from PySide6.QtCore import QMimeData, QPointF, Qt, QTimer, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication, QMessageBox, QPushButton

from artuline.core.errors import ArtulineError
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.demo.figures import DATA
from artuline.desk.recover import RecoverDialog
from artuline.desk.window import Window
from artuline.formats import recovery
from artuline.formats.scene_file import save_scene
from tests.driving import finish, open_file, open_window


def answer(words):
    """Click a button of the question that comes, as soon as it is there; what it said is added to the list that is returned."""
    said = []

    def look():
        box = QApplication.activeModalWidget()
        if isinstance(box, QMessageBox):
            said.append(box.text())
            next(b for b in box.buttons() if b.text() == words).click()
        else:
            QTimer.singleShot(20, look)

    QTimer.singleShot(20, look)
    return said


def test_a_job_belongs_to_the_document_it_was_started_for(demo, qtbot, tmp_path, boom):
    """Another scene opened while one runs: no take without data, no error while drawing, and it can be saved."""
    save_scene(tmp_path / "other.artuline", boom[0].changed(name="other", figures=(), links=()), boom[1])
    hold, errors = threading.Event(), []
    demo.desk.jobs.failed.connect(errors.append)
    for words, work, then in (
        ("Simulating", lambda p, c: hold.wait(20), lambda r: demo.session.edit("late", lambda s: 1 / 0)),
        ("Reading", lambda p, c: (hold.wait(20), 1 / 0), lambda r: None),
    ):
        hold.clear()
        assert demo.desk.jobs.start(words, work, then)
        said = answer("Stop it and leave")
        assert demo.files.open_path(tmp_path / "other.artuline")
        assert said == [f"“{words}” still runs and would be stopped."]
        finish(demo, qtbot)
        hold.set()
        qtbot.wait(60)
        assert demo.session.scene.name == "other" and not demo.session.scene.takes and not errors
    assert demo.session.save(tmp_path / "again.artuline") is None


def test_a_run_that_is_left_brings_no_take_and_stays_out_of_the_next_document(demo, qtbot):
    demo.desk.act("run")
    qtbot.waitUntil(lambda: demo.stage.running is not None, timeout=20000)
    demo.session.new(Scene(name="empty"), AssetStore())
    assert not demo.desk.jobs.busy and demo.stage.running is None
    demo.grab()
    qtbot.wait(200)
    assert demo.session.scene == Scene(name="empty") and not len(demo.session.assets)


@pytest.mark.parametrize("way", ["open", "drop", "demo", "recover", "new", "close"])
def test_every_way_of_leaving_asks_about_unsaved_work(demo, qtbot, tmp_path, boom, way):
    other = tmp_path / "other.artuline"
    save_scene(other, Scene(name="other"), AssetStore())
    demo.session.edit("Change", lambda s: edit.scene(s, substeps=13))
    before = demo.session.scene
    said = answer("Stay")
    if way == "drop":
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(other))])
        left, none = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        demo.dropEvent(QDropEvent(QPointF(9, 9), Qt.DropAction.CopyAction, data, left, none))
    elif way == "recover":
        demo.files.recover(recovery.Left(other, "other", "", 0.0, None))
    else:
        {
            "open": lambda: demo.files.open_path(other),
            "demo": lambda: demo.files.open_demo("heel"),
            "new": demo.files.new_scene,
            "close": demo.close,
        }[way]()
    finish(demo, qtbot)
    assert said == ["The scene has changes that are not saved."] and demo.session.scene is before and demo.isVisible()


def test_dropped_files_are_opened_one_after_the_other(window, qtbot):
    window.files.open_all([DATA / "deckhand.glb", DATA / "goat.glb"])
    qtbot.waitUntil(lambda: len(window.session.scene.figures) == 2 and not window.desk.jobs.busy, timeout=20000)
    deckhand, goat = window.session.scene.figures
    # the second steps aside, is selected, in view, and said
    assert goat.position[0] > 0.5 and window.session.selection.figure == "goat"
    assert "to the side" in window.strip.message.toolTip()
    assert window.session.scene.end == max(round(f.active_clip().duration * 24) for f in (deckhand, goat))
    window.room("Cast").commands.place_again()
    xs = sorted(f.position[0] for f in window.session.scene.figures)
    assert min(b - a for a, b in itertools.pairwise(xs)) > 0.4


def crashed(tmp_path, names):
    """Windows of another process that leave unsaved work behind: started, kept, killed."""
    code = (
        "import os, sys\nfrom pathlib import Path\nfrom artuline.core.scene.assets import AssetStore\n"
        "from artuline.core.scene.model import Scene\nfrom artuline.formats.recovery import Recovery\n"
        "kept = []\nfor name in sys.argv[1:]:\n    r = Recovery(); r.keep(Scene(name=name), AssetStore(), None, b'no picture'); kept.append(r)\n"
        "os.kill(os.getpid(), 9)\n"
    )
    subprocess.run([sys.executable, "-c", code, *names], check=False, env=dict(os.environ))


def test_work_of_several_windows_is_kept_apart_and_offered_by_name(qtbot, tmp_path, demo):
    crashed(tmp_path, ["mooring", "gangway"])
    demo.session.edit("Change", lambda s: edit.scene(s, substeps=7))
    demo.session.autosave()
    # what a window that still runs keeps is not offered
    found = recovery.left_behind()
    assert {x.name for x in found} == {"mooring", "gangway"} and all("2" in x.words for x in found)
    kept = [p for p in recovery.recovery_folder().iterdir() if p.suffix == ".artuline"]
    assert len(kept) == 3 and all(p.stat().st_mode & 0o077 == 0 for p in kept)
    assert recovery.recovery_folder().stat().st_mode & 0o077 == 0
    # saving here takes nothing away there
    assert demo.session.save(tmp_path / "a.artuline") is None
    assert len(recovery.left_behind()) == 2
    other = open_window(qtbot)
    assert any("Recover unsaved work (2)" in b.text() for b in other.welcome.findChildren(QPushButton))
    dialog = RecoverDialog(other, recovery.left_behind())
    qtbot.addWidget(dialog)
    left = dialog.chosen()
    other.files.recover(left)
    assert other.session.scene.name == left.name and not other.session.stack.isClean()
    assert [x.name for x in recovery.left_behind()] == [n for n in ("mooring", "gangway") if n != left.name]
    dialog = RecoverDialog(other, recovery.left_behind())
    qtbot.addWidget(dialog)
    dialog.drop_button.click()
    assert not recovery.left_behind()


def test_damaged_work_is_put_aside_and_a_spoiled_state_folder_fails_no_save(qtbot, tmp_path, demo, monkeypatch):
    crashed(tmp_path, ["mooring"])
    left = recovery.left_behind()[0]
    left.file.write_bytes(b"PK spoiled")
    demo.files.recover(left)
    assert "put aside" in demo.strip.message.toolTip() and list(recovery.recovery_folder().glob("*.damaged"))
    assert demo.session.scene.figures  # what was open still is
    blocked = tmp_path / "file"
    blocked.write_text("")
    monkeypatch.setenv("XDG_STATE_HOME", str(blocked))
    demo.session.edit("Change", lambda s: edit.scene(s, substeps=9))
    told = []
    demo.session.failed.connect(told.append)
    demo.session.autosave()
    assert told and "unsaved work cannot be kept" in told[0]
    assert demo.files.save_to(tmp_path / "b.artuline") and demo.session.stack.isClean()


def test_a_fit_of_a_figure_that_is_gone_or_edited_meanwhile_is_dropped(window, qtbot):
    open_file(window, qtbot, DATA / "goat.glb")
    window.desk.act("fit")
    window.session.stack.undo()
    finish(window, qtbot)
    assert "not there any more" in window.strip.message.toolTip() and not window.session.scene.figures
    window.session.stack.redo()
    window.desk.act("fit")
    window.session.edit("Metres", lambda s: edit.figure(s, "goat", unit=0.5))
    finish(window, qtbot)
    assert "edited meanwhile" in window.strip.message.toolTip() and not window.session.scene.figures[0].bodies


def test_a_fit_is_cancelled_at_once_and_changes_nothing(window, qtbot):
    open_file(window, qtbot, DATA / "goat.glb")
    before = window.session.scene
    window.desk.act("fit")
    qtbot.waitUntil(lambda: window.strip.bar.maximum() > 0, timeout=20000)
    window.strip.cancel_button.click()
    finish(window, qtbot)
    qtbot.wait(50)
    assert window.session.scene is before


def test_a_long_fix_of_the_strip_is_a_job(window, qtbot):
    open_file(window, qtbot, DATA / "goat.glb")
    window.strip.refresh()
    assert window.strip.findings[0].work is not None
    window.strip.fix_button.click()
    assert window.desk.jobs.busy and not window.session.scene.figures[0].bodies
    finish(window, qtbot)
    assert len(window.session.scene.figures[0].bodies) > 15


def test_previews_leave_nothing_behind_in_the_store(demo):
    from artuline.core.motion.keyed import keyed_pose
    from artuline.core.motion.poses import key_pose

    s = demo.session
    figure, before = s.scene.figures[0], len(s.assets)
    import numpy as np

    pose = keyed_pose(s.scene, s.assets, figure, np.array([60.0]))

    def posed(k):
        made = pose.copy()
        made.rotation[0, 5] = made.rotation[0, 5][[1, 0, 2, 3]] if k % 2 else made.rotation[0, 5]
        made.translation[0, 0] += 0.01 * k
        return lambda sc: key_pose(sc, s.assets, figure.id, 60, made)

    for k in range(40):
        s.preview(posed(k))
    assert len(s.assets) <= before + 1
    assert s.edit("Pose", posed(41)) and len(s.assets) == before + 1
    s.stack.undo()
    s.preview(posed(42))
    s.cancel_preview()
    s.stack.redo()
    assert s.scene.assets() <= set(s.assets) and keyed_pose(s.scene, s.assets, s.scene.figures[0], np.array([60.0]))


def test_errors_of_edits_are_in_words_of_the_scene(demo):
    with pytest.raises(ArtulineError, match="not there any more"):
        edit.figure(demo.session.scene, "nobody", name="x")
    told = []
    demo.session.failed.connect(told.append)
    assert not demo.session.edit("Spoil", lambda s: edit.scene(s, substeps=0))
    assert not demo.session.edit("Spoil", lambda s: edit.figure(s, "deckhand", clip="no such"))
    assert all("http" not in t and "pydantic" not in t and "Input" not in t for t in told) and len(told) == 2


def test_a_run_that_ends_after_its_window_is_silent(qtbot, boom, monkeypatch):
    """A window may be taken away while a job runs; what the job says then reaches nobody."""
    faults, hold = [], threading.Event()
    monkeypatch.setattr(sys, "excepthook", lambda *error: faults.append(error))
    window = Window()
    window.session.new(*boom)
    desk = window.desk
    desk.start("Simulating", lambda p, c: hold.wait(20), lambda r: None)
    shiboken6.delete(window)
    hold.set()
    qtbot.waitUntil(lambda: not desk.jobs.busy, timeout=10000)
    desk.jobs.abandon()
    assert not faults
