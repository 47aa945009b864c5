"""The command line from file to file, and its errors: one clear line, exit code not 0, nothing written."""

import subprocess
import sys
from types import SimpleNamespace

import numpy as np
import pytest
from PIL import Image

from artuline.cli import main
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.formats.gltf_read import read_figure
from artuline.formats.scene_file import load_scene
from tests import foreign
from tests.test_gltf import BAD as BAD_FIGURES


def artuline(*arguments, cwd):
    return subprocess.run(
        [sys.executable, "-m", "artuline", *map(str, arguments)], capture_output=True, text=True, cwd=cwd
    )


@pytest.fixture
def here(monkeypatch, capsys):
    """The same within this process, where nothing has to be started for it."""

    def do(*arguments, cwd):
        monkeypatch.chdir(cwd)
        monkeypatch.setattr(sys, "argv", ["artuline", *map(str, arguments)])
        code = 0
        try:
            main()
        except SystemExit as end:
            code = end.code or 0
        said = capsys.readouterr()
        return SimpleNamespace(returncode=code, stdout=said.out, stderr=said.err)

    return do


@pytest.fixture(scope="module")
def job(tmp_path_factory):
    """A foreign figure set up, run and baked on the command line."""
    folder = tmp_path_factory.mktemp("job")
    foreign.write_centimetre_walker(folder / "walker.glb")
    outputs = [
        artuline("setup", "walker.glb", "-o", "walker.artuline", "--start", 10, "--end", 40, cwd=folder),
        artuline("run", "walker.artuline", cwd=folder),
        artuline("bake", "walker.artuline", "-o", "baked.glb", "--degrees", 2, "--millimetres", 20, cwd=folder),
        artuline("check", "walker.artuline", cwd=folder),
        artuline("picture", "walker.artuline", "-o", "shot.png", "--frame", 30, "--size", "320x200", cwd=folder),
    ]
    return folder, outputs


def test_the_whole_job_ends_well(job):
    _, outputs = job
    for done in outputs:
        assert done.returncode == 0, done.stderr
    setup, run, bake, check, _ = (o.stdout for o in outputs)
    assert "centimetres" in setup and "bodies" in setup and "frame 10 to 40" in setup
    assert "take 1" in run and "joint separation" in run
    assert "keys per channel" in bake and "°" in bake and "mm" in bake
    assert check.strip()


def test_its_files_hold_what_they_should(job):
    folder, _ = job
    scene = load_scene(folder / "walker.artuline", AssetStore())
    assert scene.take == "take 1" and scene.figures[0].unit == 0.01
    back = read_figure(folder / "baked.glb", AssetStore()).figure
    assert back.clips[0].name == "move baked"
    pixels = np.asarray(Image.open(folder / "shot.png"))
    assert pixels.shape == (200, 320, 3) and pixels.std() > 10
    assert sorted(p.name for p in folder.iterdir()) == [
        "baked.glb",
        "shot.png",
        "walker.artuline",
        "walker.glb",
    ]


def test_demos_are_named_and_saved(tmp_path):
    listing = artuline("demo", "--list", cwd=tmp_path)
    assert listing.returncode == 0 and listing.stdout.startswith("boom")
    assert artuline("demo", "boom", "--save", "b.artuline", cwd=tmp_path).returncode == 0
    assert load_scene(tmp_path / "b.artuline", AssetStore()).name == "boom"


@pytest.mark.parametrize(
    "command", ["", "demo", "setup", "run", "bake", "check", "picture", "prepare", "flesh", "limbs", "table"]
)
def test_every_command_has_help(tmp_path, here, command):
    done = here(*command.split(), "--help", cwd=tmp_path)
    assert done.returncode == 0 and "--help" in done.stdout


def refused(done, *words):
    assert done.returncode not in (0, 1) or "Traceback" not in done.stderr
    assert done.returncode != 0
    lines = [line for line in done.stderr.splitlines() if line.strip()]
    assert len(lines) == 1, done.stderr
    for word in words:
        assert word in lines[0]


@pytest.mark.parametrize("name", ["empty", "text", "truncated", "no skin", "nan", "past the end", "huge"])
def test_a_bad_figure_ends_in_one_line_and_nothing_written(tmp_path, here, name):
    spoil, _ = BAD_FIGURES[name]
    spoil(foreign.write_walker(tmp_path / "goat.glb"))
    refused(here("setup", "goat.glb", "-o", "goat.artuline", cwd=tmp_path), "goat.glb")
    assert [p.name for p in tmp_path.iterdir()] == ["goat.glb"]


def test_other_mistakes_are_named(tmp_path, here, job):
    folder, _ = job
    half = tmp_path / "half.artuline"
    half.write_bytes((folder / "walker.artuline").read_bytes()[:4000])
    refused(here("run", "half.artuline", cwd=tmp_path), "half.artuline")
    refused(here("demo", "carousel", cwd=tmp_path), "carousel", "boom")
    refused(here("run", "nowhere.artuline", cwd=tmp_path), "no such file")
    whole = folder / "walker.artuline"
    refused(here("bake", whole, "-o", "out.obj", cwd=tmp_path), ".glb")
    refused(here("bake", whole, "-o", "out.glb", "--degrees", 0, cwd=tmp_path), "above zero")
    refused(here("bake", whole, "-o", "missing/out.glb", cwd=tmp_path), "missing")
    refused(here("picture", whole, "-o", "out.png", "--size", "wide", cwd=tmp_path), "wide")
    setup = ("setup", folder / "walker.glb", "-o", "out.artuline")
    refused(here(*setup, "--clip", "dance", cwd=tmp_path), "dance", "move")
    refused(here(*setup, "--bone", "Left Thig", cwd=tmp_path), "Left Thigh")
    refused(here(*setup, "--start", 30, "--end", 20, cwd=tmp_path), "empty")
    assert [p.name for p in tmp_path.iterdir()] == ["half.artuline"]


def test_flesh_limbs_and_tables_by_the_command_line(tmp_path, job):
    """The same work as in the window: a bone with a spring, limbs for the next bake, and the take as a table."""
    folder, _ = job
    assets = AssetStore()
    whole = load_scene(folder / "walker.artuline", assets)
    points = Mesh.from_arrays(assets[whole.figures[0].asset]).skin(rest_matrices(whole.figures[0]))
    middle = 0.5 * (points.min(axis=0) + points.max(axis=0))
    ahead = middle + np.array([0.0, 0.0, 0.08])
    places = [",".join(f"{x:.4f}" for x in p) for p in (middle, ahead)]
    done = artuline(
        "flesh",
        folder / "walker.artuline",
        "--from",
        places[0],
        "--to",
        places[1],
        "--name",
        "belly",
        "--kind",
        "fat",
        "-o",
        "fat.artuline",
        cwd=tmp_path,
    )
    assert done.returncode == 0 and "belly, springy like fat" in done.stdout, done.stderr
    fat = load_scene(tmp_path / "fat.artuline", AssetStore()).figures[0]
    assert fat.bones[-1].flesh is not None and "belly" in fat.body_of
    done = artuline("limbs", folder / "walker.artuline", "-o", "led.artuline", cwd=tmp_path)
    assert (
        done.returncode == 0
        and "goal" in done.stdout
        and load_scene(tmp_path / "led.artuline", AssetStore()).figures[0].goals
    )
    assert (
        artuline("table", folder / "walker.artuline", "-o", "worst.csv", "--of", "measures", cwd=tmp_path).returncode
        == 0
    )
    assert (tmp_path / "worst.csv").read_text().startswith("measure,worst,unit")
    refused(artuline("flesh", folder / "walker.artuline", "--from", "1,2", "--to", "0,0,0", cwd=tmp_path), "1,2")
    refused(
        artuline("table", folder / "walker.artuline", "-o", "x.csv", "--of", "moods", cwd=tmp_path), "moods", "measures"
    )


def test_a_scene_that_cannot_run_is_told_by_check(tmp_path):
    from artuline.core.scene.model import Scene
    from artuline.formats.scene_file import save_scene

    save_scene(tmp_path / "empty.artuline", Scene(), AssetStore())
    done = artuline("check", "empty.artuline", cwd=tmp_path)
    assert done.returncode == 1 and "no figure" in done.stdout
