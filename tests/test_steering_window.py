"""Steering as it is used, by keys in the real window: from an empty scene to an exported file."""

import numpy as np
from PySide6.QtCore import Qt

from artuline.core.scene.assets import AssetStore
from artuline.demo.figures import DATA
from artuline.demo.scenes import demo_scene
from artuline.formats.gltf_read import read_figure
from tests.driving import export, field, finish, open_file
from tests.steering import led_scene

KEY = Qt.Key


def let_pass(window, seconds):
    """Let the steered world go on, without the clock."""
    live = window.stage.live.tryout
    for _ in range(round(seconds / live.step_time)):
        live.step()
        window.tryout.steering.follow(live.step_time)


def begin(window, qtbot):
    qtbot.keyClick(window.stage, KEY.Key_T, Qt.KeyboardModifier.ShiftModifier)
    qtbot.waitUntil(lambda: window.tryout.steering.steered is not None and not window.desk.jobs.busy, timeout=120000)
    window.tryout.clock.stop()
    return window.tryout.steering.steered


def test_a_figure_is_opened_steered_kept_and_exported(window, qtbot, tmp_path):
    w = window
    open_file(w, qtbot, DATA / "deckhand.glb")
    assert "no clip" not in w.tryout.steer_button.toolTip()
    w.desk.act("fit")
    finish(w, qtbot)
    w.set_station("Cast")
    assert w.room("Cast").commands.put_motion(DATA / "deckhand_steered.glb")
    assert [c.name for c in w.session.figure().clips][-3:] == ["run", "rise from back", "rise from front"]
    live = begin(w, qtbot)
    pilot, eye = live.pilots["deckhand"], np.array(w.stage.camera.target)
    qtbot.keyPress(w.stage, KEY.Key_Up)
    let_pass(w, 2.0)
    assert abs(pilot.speed - 1.4) < 0.05
    qtbot.keyPress(w.stage, KEY.Key_Shift)
    let_pass(w, 1.5)
    assert pilot.speed > 2.3
    heading = pilot.heading
    qtbot.keyPress(w.stage, KEY.Key_Left)
    let_pass(w, 0.5)
    qtbot.keyRelease(w.stage, KEY.Key_Left)
    assert pilot.heading > heading + 0.3
    qtbot.keyRelease(w.stage, KEY.Key_Shift)
    qtbot.keyRelease(w.stage, KEY.Key_Up)
    let_pass(w, 2.0)
    assert pilot.speed == 0.0
    assert np.linalg.norm(np.array(w.stage.camera.target) - eye) > 3.0, "the view came after"
    assert w.session.frame == 0, "the arrow keys did not move the time"
    qtbot.keyClick(w.stage, KEY.Key_V)
    assert live.flips("deckhand") and w.tryout.steering.mirror_button.isChecked()
    qtbot.keyClick(w.stage, KEY.Key_V)
    qtbot.keyClick(w.stage, KEY.Key_O)
    let_pass(w, 1.0)
    assert live.lies("deckhand")
    let_pass(w, 9.0)
    assert not live.lies("deckhand") and not live.rises("deckhand")
    qtbot.keyClick(w.stage, KEY.Key_K, Qt.KeyboardModifier.ControlModifier)
    assert w.stage.live.tryout is None
    ref = w.session.scene.active_take()
    assert ref.steered and 230 <= ref.end - ref.start <= 240
    assert w.session.figure().clip == "steered"
    said = []
    w.desk.told.connect(lambda words, fault: said.append((words, fault)))
    w.desk.act("steer again")
    finish(w, qtbot)
    assert (f"{ref.name} came out the same to the bit.", False) in said
    w.desk.act("bake")
    finish(w, qtbot)
    assert w.session.figure().layers
    out = tmp_path / "steered.glb"
    export(w, qtbot, out)
    finish(w, qtbot)
    read = read_figure(out, AssetStore()).figure
    assert abs(read.clips[0].duration - 10.0) < 0.1


def test_values_change_while_steering_and_stop_returns_exactly(window, qtbot):
    w = window
    scene, assets = led_scene()
    w.session.new(scene, assets)
    w.session.select("deckhand", frozenset())
    w.set_station("Cast")
    qtbot.wait(20)
    scene = w.session.scene
    live = begin(w, qtbot)
    let_pass(w, 0.5)
    speed = field(w, "Speed of walk")
    speed.changed.emit(1.0, True)
    qtbot.keyPress(w.stage, KEY.Key_Up)
    assert w.tryout.steering.steered is live, "it goes on"
    let_pass(w, 2.0)
    assert abs(live.pilots["deckhand"].speed - 1.0) < 0.05
    w.stage.clearFocus()
    let_pass(w, 2.0)
    assert live.pilots["deckhand"].speed == 0.0, "no key is down when the stage is left"
    limb = "upper_arm_l"
    w.session.select("deckhand", frozenset({limb}))
    w.desk.act("hit")
    let_pass(w, 0.1)
    assert not live.lies("deckhand") and live.handovers()[0][live.scene.figures[0].bone_index[limb]] == 1.0
    w.session.stack.undo()
    qtbot.keyClick(w.stage, KEY.Key_Escape)
    assert w.stage.live.tryout is None
    assert w.session.scene == scene


def test_what_cannot_be_steered_says_why(window, qtbot):
    w, assets = window, AssetStore()
    w.desk.act("steer")
    assert w.tryout.steering.steered is None
    w.session.new(demo_scene("jelly", assets), assets)
    w.desk.act("steer")
    assert "no clips to go with" in w.desk.actions.known["steer"].why_not()
