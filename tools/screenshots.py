"""One current picture of every main view, made from the demo data."""

import os
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp()

import numpy as np
from PySide6.QtCore import QEventLoop, QPointF, QTimer

from artuline.core.run.directed import direct, words_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.demo.scenes import demo_scene
from artuline.demo.things import bare_pail
from artuline.desk.application import make_application
from artuline.desk.window import Window
from artuline.formats.gltf_write import write_figure
from artuline.view.camera import Camera

ROOT = Path(__file__).parent.parent
OUT = ROOT / "docs/screenshots"
DATA = ROOT / "src/artuline/demo/data"


def wait(milliseconds: int) -> None:
    loop = QEventLoop()
    QTimer.singleShot(milliseconds, loop.quit)
    loop.exec()


def finish(window: Window) -> None:
    wait(50)
    while window.desk.jobs.busy or window.desk.later.busy:
        wait(20)
    wait(700)


def shot(window: Window, name: str) -> None:
    wait(700)
    window.stage._draw_still()
    wait(50)
    assert window.grab().save(str(OUT / f"{name}.png"), "PNG")
    print(f"{name}.png")


def select(window: Window, *bones: str) -> None:
    window.session.select(window.session.scene.figures[0].id, frozenset(bones))


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    app = make_application()
    window = Window()
    window.resize(1280, 800)
    window.show()
    s = window.session
    assets = AssetStore()
    s.new(demo_scene("boom", assets), assets)
    window.stage.frame_selection()
    wait(100)
    window.stage.setFocus()

    window.set_station("Cast")
    shot(window, "cast")
    window.set_station("Bodies")
    finish(window)
    shot(window, "bodies")
    window.set_station("Joints")
    select(window, "upper_arm_l")
    window.stage.frame_selection()
    window.stage.camera = window.stage.camera.zoomed(1.3)
    shot(window, "joints")
    select(window)
    window.set_station("Blend")
    wide = Camera(target=(-0.3, 0.75, 2.0), yaw=1.05, pitch=0.25, distance=5.6)
    window.stage.camera = wide
    s.set_frame(49)
    shot(window, "blend")
    window.desk.act("run")
    finish(window)
    s.set_frame(56)
    window.details.verticalScrollBar().setValue(0)
    wait(700)
    window.stage._draw_still()
    big = window.stage.picture()
    assert big is not None
    picture = big.scaledToWidth(1024)
    assert picture.save(str(DATA / "boom.png"), "PNG")
    window.room("Takes").brackets.choose("tone: whole figure")
    window.room("Takes").brackets.run()
    finish(window)
    while len(window.room("Takes").brackets.view.cells) < 9 or any(
        len(c.pictures) < 14 for c in window.room("Takes").brackets.view.cards
    ):
        wait(50)
    window.room("Takes").brackets.view.choose(3)
    window.room("Takes").brackets.view.choose(6, second=True)
    window.room("Takes").brackets.view.pin(3)
    # all runs at a moment soon after the hit, instead of wherever they are played just now
    window.room("Takes").brackets.view.clock.stop()
    window.room("Takes").brackets.view.step = 2
    shot(window, "bracket")
    window.room("Takes").brackets.adopt()
    s.set_frame(66)
    window.room("Takes").commands.compare_with("take 1")
    window.room("Takes").commands.compare_by("side by side")
    window.stage.camera = Camera(target=(-0.7, 0.6, 2.3), yaw=1.05, pitch=0.25, distance=4.6)
    window.room("Takes").commands.compare_by("over each other")
    window.desk.comparison.other = None
    s.stack.undo()
    window.stage.camera = wide
    window.desk.act("bake")
    finish(window)
    s.set_frame(62)
    curves(window)
    window.stage.camera = wide
    window.set_station("Blend")
    s.set_frame(20)
    window.stage.camera = Camera(target=(-0.3, 0.4, 0.9), yaw=0.62, pitch=0.2, distance=3.8)
    window.tryout.toggle()
    wait(900)
    window.tryout.pause_button.setChecked(True)
    shot(window, "tryout")
    window.tryout.stop()
    window.set_night(True)
    window.set_station("Takes")
    window.stage.camera = wide
    s.set_frame(58)
    shot(window, "takes-night")
    window.set_night(False)
    for name, frame, target, yaw, distance in (
        ("numb", 40, (0.0, 0.95, None), 0.9, 3.6), ("yard", 44, (0.0, 1.75, 0.3), 0.9, 4.6), ("heel", 120, (0.0, 0.3, 0.0), 0.5, 6.0),
        ("goat", 30, (0.0, 0.5, None), 1.15, 2.6), ("pail", 30, (-0.1, 0.85, None), -0.75, 3.6),
        ("pass", 46, (-0.2, 0.9, 0.4), -0.95, 3.8), ("fender", 50, (-0.3, 0.95, 0.3), -0.95, 3.9),
        ("mooring", 132, (-0.2, 0.8, None), -0.75, 4.6), ("floats", 78, (0.15, 0.75, 0.0), 0.25, 4.4),
        ("collar", 50, (0.0, 0.55, None), 0.95, 3.0), ("belly", 31, (0.0, None, None), 0.85, 3.4),
        ("vest", 60, (0.0, 0.35, None), 0.75, 3.2), ("jelly", 62, (0.1, 0.35, 0.0), 1.2, 2.4),
        ("gangway", 48, (0.0, 0.9, 0.3), 0.6, 11.0),
    ):  # fmt: skip
        assets = AssetStore()
        s.new(demo_scene(name, assets), assets)
        window.set_station("Blend")
        window.desk.act("run")
        finish(window)
        s.set_frame(frame)
        place = window.stage.states()[0].matrices[:, :3, 3].mean(axis=0)
        aim = tuple(float(p) if t is None else t for t, p in zip(target, place))
        window.stage.camera = Camera(target=aim, yaw=yaw, pitch=0.14, distance=distance)
        if window.stage.show_.echo != (name in ("numb", "goat")):
            window.looks.toggle("echo")
        if name in ("mooring", "vest", "gangway"):
            shot(window, name)
        wait(500)
        window.stage._draw_still()
        picture = window.stage.picture()
        assert picture is not None
        assert picture.scaledToWidth(640).save(str(DATA / f"{name}.png"), "PNG")
    props(window)
    strand(window)
    flesh(window)
    steering(window)
    s.remove_autosave()
    empty = Window()
    empty.resize(1280, 800)
    empty.show()
    empty.stage.setFocus()
    shot(empty, "welcome")
    app.quit()


def props(window: Window) -> None:
    """A thing from a file, its hinge and its grip."""
    s, room = window.session, window.room("Props")
    assets = AssetStore()
    s.new(demo_scene("boom", assets), assets)
    window.set_station("Props")
    s.set_frame(4)
    folder = Path(tempfile.mkdtemp())
    bare = bare_pail(assets)
    write_figure(folder / "pail.glb", bare, Mesh.from_arrays(assets[bare.asset or ""]), {})
    room.commands.bring_in(folder / "pail.glb")
    finish(window)
    thing = room.commands.thing()
    assert thing is not None
    room.commands.take(thing.id, "bail", "pail")
    window.stage.frame_selection()
    room.commands.hang("pail", "bail")
    window.stage.frame_selection()
    window.stage.camera = window.stage.camera.orbited(0.5, 0.1)
    s.select("deckhand", frozenset({"hand_r"}))
    room.commands.mount_here()
    window.stage.camera = Camera(target=(-0.2, 0.75, -0.1), yaw=-0.75, pitch=0.16, distance=2.3)
    shot(window, "props-grip")


def strand(window: Window) -> None:
    """A line while it is drawn over a shoulder."""
    s, c = window.session, window.room("Strands").commands
    assets = AssetStore()
    s.new(demo_scene("boom", assets), assets)
    window.set_station("Strands")
    window.stage.camera = Camera(target=(0.2, 0.95, 0.1), yaw=0.75, pitch=0.16, distance=3.0)
    wait(300)
    c.begin()
    figure = s.scene.figures[0]
    for bone, away in (
        ("hand_l", (0.0, -0.05, 0.0)),
        ("upper_arm_l", (-0.03, 0.05, 0.0)),
        ("spine", (0.0, 0.05, 0.0)),
        ("hand_r", (0.0, -0.04, 0.0)),
    ):
        view = window.stage.view()
        place = window.stage.states()[0].matrices[figure.bone_index[bone], :3, 3] + np.array(away)
        x, y, _ = view.screen(place[None])[0]
        at = QPointF(x, y)
        c.click(at, view, window.stage.pick_at(at))
    shot(window, "strands-drawing")
    c.cancel()


def flesh(window: Window) -> None:
    """A belly that was just added, with its weights and handles, and a life vest in clusters."""
    s, c = window.session, window.room("Flesh").commands
    assets = AssetStore()
    s.new(demo_scene("boom", assets), assets)
    window.set_station("Flesh")
    window.stage.camera = Camera(target=(0.0, 1.0, 0.0), yaw=0.45, pitch=0.1, distance=2.6)
    wait(300)
    c.begin()
    view = window.stage.view()
    x, y, _ = view.screen(np.array([[0.0, 1.05, 0.2]]))[0]
    c.click(QPointF(x, y), view)
    finish(window)
    shot(window, "flesh")
    assets = AssetStore()
    s.new(demo_scene("vest", assets), assets)
    window.set_station("Flesh")
    figure = s.scene.figures[0]
    window.room("Flesh").soft.choose(figure, figure.softs[0])
    window.stage.camera = Camera(target=(0.05, 1.2, 0.0), yaw=0.5, pitch=0.1, distance=1.5)
    window.stage.refresh()
    wait(600)
    shot(window, "soft")


def steering(window: Window) -> None:
    """The deckhand on his way, steered, with all that follows."""
    assets = AssetStore()
    s = window.session
    s.new(demo_scene("steer", assets), assets)
    s.select("deckhand", frozenset())
    window.set_station("Cast")
    window.desk.act("steer")
    live = window.tryout.steering.steered
    assert live is not None
    window.tryout.clock.stop()
    direct(live, "deckhand", words_of("walk:1.5 right:0.7 walk:0.9"))
    window.tryout.pause_button.setChecked(True)
    x, _, z = live.pilots["deckhand"].place
    window.stage.camera = Camera(target=(float(x) + 0.1, 0.75, float(z) - 0.2), yaw=0.75, pitch=0.2, distance=4.0)
    window.details.verticalScrollBar().setValue(window.details.verticalScrollBar().maximum())
    window.stage.refresh()
    shot(window, "steer")
    picture = window.stage.picture()
    assert picture is not None
    assert picture.scaledToWidth(640).save(str(DATA / "steer.png"), "PNG")
    window.tryout.stop()


def curves(window: Window) -> None:
    """Keys of an arm that were moved, the same as times, and the dialog of export."""
    s, room = window.session, window.room("Curves")
    window.stage.camera = Camera(target=(-0.5, 0.7, 2.2), yaw=1.05, pitch=0.2, distance=3.4)
    select(window, "hips")
    room.editing.chosen = frozenset({("hips", "translation", 1)})
    frames = room.editing.curves(("hips", "translation")).times * s.scene.rate
    room.editing.pick(
        {
            ("hips", "translation"): np.repeat(((frames > 55) & (frames < 130))[:, None], 3, axis=1)
            & [False, True, False]
        }
    )
    room.pane.commands.shift_value(15.0)
    select(window, "upper_arm_l")
    finish(window)
    frames = room.editing.curves(("upper_arm_l", "rotation")).times * s.scene.rate
    room.editing.pick(
        {
            ("upper_arm_l", "rotation"): np.repeat(((frames > 62) & (frames < 90))[:, None], 3, axis=1)
            & [True, False, False]
        }
    )
    shot(window, "curves")
    select(window)
    room.pane.mode.setChecked(False)
    window.desk.act("export")
    dialog = window.files.dialog
    dialog.format.setCurrentIndex(dialog.format.findData(".glb"))
    wait(300)
    assert dialog.grab().save(str(OUT / "export.png"), "PNG")
    print("export.png")
    dialog.reject()
    s.stack.undo()
    window.desk.act("mapping")
    window.desk.act("limbs propose")
    window.desk.act("bake")
    finish(window)
    s.set_frame(52)
    select(window, "hand_l")
    window.stage.frame_selection()
    window.stage.camera = replace(window.stage.camera, distance=2.2)
    shot(window, "curves-mapping")
    window.desk.act("mapping")
    s.stack.undo()
    s.stack.undo()


if __name__ == "__main__":
    sys.exit(main())
