import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import pytest

from artuline.core.run.record import keep_take, run
from artuline.core.scene.assets import AssetStore
from artuline.demo.scenes import DATA, demo_scene
from artuline.formats.gltf_read import read_figure


@pytest.fixture(autouse=True)
def _own_state_folder(tmp_path_factory, monkeypatch):
    """Autosaves of the tests go to a folder of their own."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))


@pytest.fixture(scope="session")
def deckhand():
    assets = AssetStore()
    return read_figure(DATA / "deckhand.glb", assets).figure, assets


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
