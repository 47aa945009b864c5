"""Added bones: painting on a large skin, what weights add up to, and springs against the damped oscillator."""

import os
import time

import numpy as np
from tests.test_flesh import damped, hung

from artuline.core.run.record import run
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Bone, Figure, Material, Scene
from artuline.core.setup.added import entry_of, grown
from artuline.core.setup.weights import entry_weights


def ball(assets: AssetStore, across: int, around: int) -> Figure:
    """A figure of one bone with a round skin of so many vertices."""
    u, v = np.meshgrid(
        np.linspace(0, 2 * np.pi, around, endpoint=False), np.linspace(0.01, np.pi - 0.01, across), indexing="ij"
    )
    points = np.stack([np.sin(v) * np.cos(u), np.cos(v), np.sin(v) * np.sin(u)], axis=-1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(around), np.arange(across - 1), indexing="ij")
    a, b = i * across + j, (i + 1) % around * across + j
    faces = np.concatenate([np.stack([a, a + 1, b], -1), np.stack([b, a + 1, b + 1], -1)]).reshape(-1, 3)
    n = len(points)
    mesh = Mesh(
        points.astype(np.float32), points.astype(np.float32), faces.astype(np.int32), np.zeros(len(faces), np.int32), np.zeros((n, 4), np.int32),
        np.tile(np.array([1, 0, 0, 0], np.float32), (n, 1)), np.zeros(1, np.int32), np.eye(4)[None], np.zeros(1, np.int32),
    )  # fmt: skip
    return Figure(
        id="ball",
        name="ball",
        bones=(Bone(name="root", deforms=True),),
        materials=(Material(),),
        asset=assets.add(mesh.to_arrays()),
        position=(0.0, 1.2, 0.0),
    )


def painting():
    """Moves of the brush a second on 50,000 vertices, in the real window at 1280x800."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QEvent, QPointF, Qt
    from PySide6.QtGui import QMouseEvent
    from PySide6.QtWidgets import QApplication

    from artuline.desk.application import make_application
    from artuline.desk.window import Window

    app = QApplication.instance() or make_application()
    for across, around in ((100, 120), (200, 250)):
        assets = AssetStore()
        figure = ball(assets, across, around)
        scene = grown(
            Scene(figures=(figure,)),
            assets,
            "ball",
            "flesh",
            np.array([0.0, 1.2, 0.0]),
            np.array([0.0, 1.2, 0.8]),
            parent="root",
        )
        window = Window()
        window.resize(1280, 800)
        window.show()
        window.session.new(scene, assets)
        window.set_station("Flesh")
        window.session.select("ball", frozenset({"flesh"}))
        window.stage.frame_selection()
        window.station.commands.take_brush("add")
        window.station.commands.radius = 0.25
        app.processEvents()
        stage = window.stage
        x, y, _ = stage.view().screen(np.array([[0.1, 1.25, 0.9]]))[0]

        def send(kind, at, held, stage=stage):
            where = QPointF(*at)
            button = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseMove else Qt.MouseButton.LeftButton
            QApplication.sendEvent(
                stage, QMouseEvent(kind, where, stage.mapToGlobal(where), button, held, Qt.KeyboardModifier.NoModifier)
            )
            app.processEvents()

        send(QEvent.Type.MouseMove, (x, y), Qt.MouseButton.NoButton)
        send(QEvent.Type.MouseButtonPress, (x, y), Qt.MouseButton.LeftButton)
        send(QEvent.Type.MouseMove, (x + 4, y), Qt.MouseButton.LeftButton)
        began = time.perf_counter()
        for k in range(40):
            send(QEvent.Type.MouseMove, (x + 5 + 2 * k, y + k), Qt.MouseButton.LeftButton)
        rate = 40 / (time.perf_counter() - began)
        send(QEvent.Type.MouseButtonRelease, (x + 85, y + 40), Qt.MouseButton.LeftButton)
        made = window.session.scene.figures[0]
        mesh = Mesh.from_arrays(window.session.assets[made.asset])
        off = float(np.abs(mesh.weights.sum(axis=1) - 1.0).max())
        share = entry_weights(mesh, entry_of(made, mesh, "flesh"))
        assert share.max() > 0.9
        yield (
            f"painting on {across * around} vertices, the stage drawn by software",
            f"{rate:.0f} redraws a second",
            "20",
            rate > 20.0,
        )
        yield f"what the weights of {across * around} vertices add up to, off by", f"{off:.1e}", "1e-6", off < 1e-6
        window.session.stack.setClean()
        window.close()


def wobble():
    """Flesh of 0.05 to 5 kg on springs: its whole way against the damped oscillator, and where it comes to rest."""
    for mass in (0.05, 0.5, 5.0):
        for rate, substeps in ((24.0, 4), (24.0, 10), (60.0, 4)):
            frequency, ratio = 4.0, 0.15
            scene = hung(mass, frequency, ratio, gravity=1.0, rate=rate, substeps=substeps)
            take = run(scene, AssetStore())
            y = take.position[:, take.column("f", "belly"), 1] - 1.0
            sag, exact = damped(frequency, ratio, take.frames / rate)
            worst = 100.0 * float(np.abs(y - exact).max()) / sag
            rest = 100.0 * abs(float(y[-1] / exact[-1]) - 1.0)
            yield (
                f"{mass:g} kg, {rate:g} frames x {substeps}: way; sag",
                f"{worst:.2f} %; {rest:.3f} %",
                "3 %; 2 %",
                worst < 3.0 and rest < 2.0,
            )


MEASUREMENTS = {"painting": painting, "wobble": wobble}
