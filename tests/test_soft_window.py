"""Soft parts as they are used, by mouse and keys in the real window: a mesh without a skeleton that falls, and a vest that is made and copied."""

import numpy as np
from PySide6.QtCore import QPoint, Qt

from artuline.core.run.softness import softness
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Scene
from artuline.demo.figures import ready_figure
from artuline.demo.soft import with_vest
from artuline.formats.scene_file import load_scene
from tests.driving import LEFT, drag, field, finish, open_file, press


def write_ball(path, radius=0.2, rounds=24, rings=14):
    """A ball of triangles as an OBJ file, standing on its lowest point a metre up."""
    lines = []
    for j in range(rings + 1):
        for i in range(rounds):
            a, b = 2.0 * np.pi * i / rounds, np.pi * j / rings
            lines.append(
                f"v {radius * np.sin(b) * np.cos(a):.6f} {1.0 + radius * np.cos(b):.6f} {radius * np.sin(b) * np.sin(a):.6f}"
            )
    for j in range(rings):
        for i in range(rounds):
            a, b, c, d = (1 + r * rounds + k % rounds for r, k in ((j, i), (j, i + 1), (j + 1, i), (j + 1, i + 1)))
            lines += [f"f {a} {b} {d}", f"f {a} {d} {c}"]
    path.write_text("\n".join(lines) + "\n")
    return path


def test_a_mesh_without_a_skeleton_falls_and_is_squashed(window, qtbot, tmp_path):
    """Opened, the whole skin made soft, run: four actions."""
    w = window
    open_file(w, qtbot, write_ball(tmp_path / "ball.obj"))
    f = w.session.figure()
    assert f is not None and len(f.bones) == 1
    w.show()
    qtbot.keyClick(w, Qt.Key.Key_6)
    press(w, qtbot, "Make the whole skin soft")
    finish(w, qtbot)
    f = w.session.figure()
    (soft,) = f.softs
    assert soft.count == 16 and w.session.chosen() == frozenset(soft.clusters)
    assert len(w.stage.states()[0].colors) == 16, "its clusters are seen in colours"
    w.desk.act("run")
    qtbot.waitUntil(lambda: w.session.take() is not None and not w.desk.jobs.busy, timeout=60000)
    take = w.session.take()
    low = take.position[-1].min(axis=0)[1]
    assert 0.0 < low < 0.3, "it lies on the ground"
    found = softness(f, w.session.assets, take, soft)
    assert found.lost > 0.001 and not found.inverted.any()


def test_a_chamber_by_a_click_tuned_divided_anew_copied_and_taken_away(window, qtbot, tmp_path):
    w, assets = window, AssetStore()
    figure = with_vest(ready_figure("deckhand", assets), assets)
    w.session.new(Scene(figures=(figure,)), assets)
    w.show()
    qtbot.keyClick(w, Qt.Key.Key_6)
    qtbot.wait(50)
    press(w, qtbot, "Make a piece soft")
    place = np.array([0.09, 1.25, 0.243])
    x, y, _ = w.stage.view().screen(place[None])[0]
    qtbot.mouseClick(w.stage, LEFT, pos=QPoint(round(x), round(y)))
    finish(w, qtbot)
    f = w.session.figure()
    (soft,) = f.softs
    on = w.session.assets[soft.region]["on"]
    mesh = Mesh.from_arrays(w.session.assets[f.plain])
    assert 0 < on.sum() < 0.3 * len(on) and soft.root is not None and soft.bone == "chest"
    assert w.session.stack.undoText() == "Make a soft part"
    firm = field(w, "Firmness")
    firm.setFocus()
    firm.selectAll()
    qtbot.keyClicks(firm, "6")
    qtbot.keyClick(firm, Qt.Key.Key_Return)
    assert w.session.figure().softs[0].stretch == 6.0
    w.station.soft.change("Number of clusters", count=8)
    finish(w, qtbot)
    assert w.session.figure().softs[0].count == 8
    press(w, qtbot, "Copy it to the other side")
    finish(w, qtbot)
    assert [s.count for s in w.session.figure().softs] == [8, 8]
    path = tmp_path / "vest.artuline"
    assert w.files.save_to(path)
    assert load_scene(path, AssetStore()).figures[0].softs == w.session.figure().softs
    w.station.soft.remove()
    assert len(w.session.figure().softs) == 1
    w.session.stack.undo()
    assert len(w.session.figure().softs) == 2 and len(mesh.positions) == len(on)


def test_a_frame_chooses_skin_and_where_it_is_attached(window, qtbot):
    w, assets = window, AssetStore()
    w.session.new(Scene(figures=(ready_figure("deckhand", assets),)), assets)
    w.show()
    qtbot.keyClick(w, Qt.Key.Key_6)
    qtbot.wait(50)
    press(w, qtbot, "Make what a frame holds soft")
    corners = w.stage.view().screen(np.array([[-0.2, 1.15, 0.2], [0.2, 0.95, 0.2]]))
    drag(qtbot, w.stage, corners[0, :2], corners[1, :2], modifier=Qt.KeyboardModifier.ControlModifier)
    finish(w, qtbot)
    f = w.session.figure()
    assert len(f.softs) == 1 and f.softs[0].root is None
    assert any(j.child in f.softs[0].clusters and j.parent not in f.softs[0].clusters for j in f.joints)
