import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import pytest
from hypothesis import settings

from artuline.core.run.prepare import ensure_kernels
from artuline.core.run.record import keep_take, run
from artuline.core.scene.assets import AssetStore
from artuline.demo.figures import DATA, ready_figure
from artuline.demo.scenes import demo_scene
from artuline.desk.application import make_application
from artuline.formats.gltf_read import read_figure
from tests.driving import open_window

# no test waits by a clock, and what is random repeats
settings.register_profile("artuline", deadline=None, derandomize=True)
settings.load_profile("artuline")


def pytest_configure(config):
    """Kernels are compiled once before any worker begins: one that compiled them within a test would take its time for it."""
    if not hasattr(config, "workerinput"):
        ensure_kernels()


@pytest.fixture(autouse=True)
def _own_state_folder(tmp_path_factory, monkeypatch):
    """Autosaves of the tests go to a folder of their own."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))


@pytest.fixture(scope="session")
def deckhand():
    assets = AssetStore()
    return read_figure(DATA / "deckhand.glb", assets).figure, assets


@pytest.fixture(scope="session")
def deckhand_ready():
    """The deckhand with bodies and joints."""
    assets = AssetStore()
    return ready_figure("deckhand", assets), assets


@pytest.fixture(scope="session")
def boom():
    """The demo scene with its assets; both are never changed in place."""
    assets = AssetStore()
    return demo_scene("boom", assets), assets


@pytest.fixture(scope="session")
def boom_run(boom):
    """The demo scene with its take kept in it."""
    scene, assets = boom
    take = run(scene, assets)
    return keep_take(scene, assets, take, scene.settings_fingerprint()), assets, take


@pytest.fixture(scope="session")
def qapp():
    return make_application()


@pytest.fixture
def window(qtbot):
    w = open_window(qtbot)
    w.show()
    w.stage.setFocus()
    return w


@pytest.fixture
def demo(window, qtbot):
    assets = AssetStore()
    window.session.new(demo_scene("boom", assets), assets)
    window.set_station("Blend")
    window.stage.frame_selection()
    qtbot.wait(20)
    return window
