"""What leaves the program, checked by the standard's own validator where Node is (script/test installs it)."""

import json
import shutil
import subprocess
from pathlib import Path

import pytest

from artuline.core.bake.bake import BakeWish
from artuline.core.bake.delivery import bake_take, company
from artuline.core.bake.merged import Rests
from artuline.core.run.record import keep_take, run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.demo.figures import DATA
from artuline.demo.scenes import demo_scene
from artuline.formats.deliver import deliver

HOUSE = Path(__file__).parents[1]
VALIDATOR = HOUSE / ".venv/validator/node_modules/gltf-validator"
NODE = shutil.which("node")


@pytest.mark.skipif(NODE is None or not VALIDATOR.is_dir(), reason="no Node, or its validator was not installed")
def test_demo_scenes_leave_without_a_word_from_the_validator(tmp_path):
    written = sorted(DATA.glob("*.glb"))
    for name in ("boom", "heel", "pail", "pass", "mooring", "collar", "belly"):
        assets = AssetStore()
        scene = demo_scene(name, assets)
        scene = edit.scene(scene, end=scene.start + (72 if name == "boom" else 36), takes=(), take=None)
        scene = keep_take(scene, assets, run(scene, assets), scene.settings_fingerprint())
        baked, _ = bake_take(scene, assets, BakeWish(1.0, 10.0))
        for together in (True, False):
            path = tmp_path / f"{name}-{together}.glb"
            written += deliver(path, baked, assets, company(baked, baked.figures[0].id), together, Rests(after=True))
            written += deliver(
                path.with_stem(f"{path.stem} physics"),
                baked,
                assets,
                company(baked, baked.figures[0].id),
                together,
                physics=True,
            )
    said = subprocess.run(
        [NODE, HOUSE / "tools/validate.mjs", VALIDATOR, *written],
        capture_output=True,
        text=True,
        check=True,
        timeout=300,
    ).stdout.splitlines()
    assert len(said) == len(written) > 12
    for report in map(json.loads, said):
        # it says of itself which extensions it does not know, and what only they refer to
        said_so = [m for m in report["messages"] if not m.startswith(("UNSUPPORTED_EXTENSION", "UNUSED_OBJECT"))]
        assert report["errors"] == report["warnings"] == 0 and not said_so, report
        assert report["notes"] == 0 or "physics" in report["file"], report
