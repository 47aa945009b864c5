"""Scene files: the same bits back, written whole or not at all, and clear words for damage."""

import json
import os
import zipfile

import numpy as np
import pytest

from artuline.core.errors import ArtulineError
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.formats.files import write_whole
from artuline.formats.scene_file import load_scene, save_scene


def test_a_scene_with_its_take_comes_back_the_same(tmp_path, boom_run):
    scene, assets, _ = boom_run
    save_scene(tmp_path / "a.artuline", scene, assets)
    store = AssetStore()
    back = load_scene(tmp_path / "a.artuline", store)
    assert back == scene and back.settings_fingerprint() == scene.settings_fingerprint()
    for key in scene.assets():
        for name, a in assets[key].items():
            np.testing.assert_array_equal(store[key][name], a)
    save_scene(tmp_path / "b.artuline", back, store)
    assert (tmp_path / "a.artuline").read_bytes() == (tmp_path / "b.artuline").read_bytes()


def test_only_the_assets_in_use_are_saved(tmp_path):
    assets = AssetStore()
    assets.add({"unused": np.zeros(9)})
    save_scene(tmp_path / "a.artuline", Scene(), assets)
    assert zipfile.ZipFile(tmp_path / "a.artuline").namelist() == ["scene.json"]


def spoiled(path, change):
    """The scene file with its description changed."""
    with zipfile.ZipFile(path) as z:
        parts = {n: z.read(n) for n in z.namelist()}
    parts = change(parts)
    with zipfile.ZipFile(path, "w") as z:
        for name, data in parts.items():
            z.writestr(name, data)


def changed(**values):
    def change(parts):
        document = json.loads(parts["scene.json"]) | values
        return parts | {"scene.json": json.dumps(document).encode()}

    return change


def first_asset(parts):
    return next(n for n in parts if n.startswith("assets/"))


BAD = {
    "half": (lambda p: p.write_bytes(p.read_bytes()[: p.stat().st_size // 2]), "cut off"),
    "empty": (lambda p: p.write_bytes(b""), "not a scene file"),
    "newer": (lambda p: spoiled(p, changed(version=99)), "newer"),
    "no version": (lambda p: spoiled(p, changed(version=None)), "no format version"),
    "bad number": (lambda p: spoiled(p, changed(substeps=-4)), "substeps"),
    "unknown field": (lambda p: spoiled(p, changed(sails=3)), "sails"),
    "not json": (lambda p: spoiled(p, lambda parts: parts | {"scene.json": b"{"}), "not valid JSON, line 1"),
    "asset gone": (
        lambda p: spoiled(p, lambda parts: {n: d for n, d in parts.items() if n != first_asset(parts)}),
        "missing",
    ),
    "asset cut": (
        lambda p: spoiled(p, lambda parts: parts | {first_asset(parts): parts[first_asset(parts)][:90]}),
        "damaged|cut off|not match",
    ),
    "missing": (lambda p: p.unlink(), "no such file"),
}


@pytest.mark.parametrize("name", BAD)
def test_a_bad_scene_file_says_what_is_wrong_and_adds_nothing(tmp_path, boom, name):
    spoil, words = BAD[name]
    path = tmp_path / "a.artuline"
    save_scene(path, *boom)
    spoil(path)
    assets = AssetStore()
    with pytest.raises(ArtulineError, match=words) as caught:
        load_scene(path, assets)
    assert str(path) in str(caught.value) and "\n" not in str(caught.value)
    assert len(assets) == 0


def test_a_failed_write_leaves_the_old_file(tmp_path):
    path = tmp_path / "a.txt"
    path.write_text("old")

    def write(target):
        target.write_text("half")
        raise OSError(28, "No space left on device")

    with pytest.raises(ArtulineError, match=r"no space left.*Free some space"):
        write_whole(path, write)
    assert path.read_text() == "old" and os.listdir(tmp_path) == ["a.txt"]


def test_a_folder_that_does_not_exist_is_named(tmp_path):
    with pytest.raises(ArtulineError, match="nowhere"):
        save_scene(tmp_path / "nowhere" / "a.artuline", Scene(), AssetStore())
