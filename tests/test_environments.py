"""Where it runs: homes, caches, streams and displays that are missing, closed, full or dead."""

import os
import subprocess
import sys

import numpy as np
import pytest

from artuline.core.run.prepare import kernels_ready
from artuline.formats.scene_file import save_scene
from artuline.view.pictures import figure_camera
from artuline.view.renderer import Renderer
from artuline.view.stage import Show, draw_list, figure_states

CALL = [sys.executable, "-m", "artuline"]


def call(*arguments, shell="", **more):
    env = {**os.environ, **{k: v for k, v in more.items() if v is not None}}
    for k in [k for k, v in more.items() if v is None]:
        env.pop(k, None)
    if shell:
        return subprocess.run(
            ["sh", "-c", f'exec "$0" "$@" {shell}', *CALL, *arguments], env=env, capture_output=True, text=True
        )
    return subprocess.run([*CALL, *arguments], env=env, capture_output=True, text=True)


@pytest.fixture(scope="module")
def small(tmp_path_factory, boom):
    path = tmp_path_factory.mktemp("small") / "a.artuline"
    save_scene(path, boom[0].changed(end=3), boom[1])
    return path


def test_without_home_and_cache_it_compiles_among_temporary_files_and_says_so(tmp_path):
    """Only where the folder is: compiling takes a minute."""
    code = "from artuline.core import kernel_cache as k; import numba; print(k.in_temporary, numba.config.CACHE_DIR)"
    for more in ({"HOME": "/dev/null"}, {"HOME": None}, {"XDG_CACHE_HOME": "/dev/null/x"}):
        env = {k: v for k, v in {**os.environ, "TMPDIR": str(tmp_path), **more}.items() if v is not None}
        if more.get("HOME", "") is None:
            # whoever has no entry in the list of users is at home nowhere
            code_ = (
                "import pathlib; pathlib.Path.home = classmethod(lambda c: (_ for _ in ()).throw(RuntimeError('no home')));"
                + code
            )
        else:
            code_ = code
        said = subprocess.run([sys.executable, "-c", code_], env=env, capture_output=True, text=True).stdout.split()
        assert said[0] == "True" and said[1].startswith(str(tmp_path)), said
        assert (os.stat(os.path.dirname(said[1])).st_mode & 0o77) == 0
    # somebody else's folder is not trusted
    bad = tmp_path / f"artuline-{os.getuid()}"
    os.chmod(bad, 0o777)
    env = {**os.environ, "TMPDIR": str(tmp_path), "HOME": "/dev/null"}
    said = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True).stdout.split()
    assert os.path.dirname(said[1]) != str(bad)


def test_without_a_place_for_temporary_files_it_exports_beside_the_target(small, tmp_path):
    for ending in (".glb", ".usdc", ".usda"):
        out = tmp_path / f"out{ending}"
        done = call("export", str(small), "-o", str(out), TMPDIR="/nonexistent")
        assert done.returncode == 0 and out.exists() and os.listdir(tmp_path) == [out.name], done.stderr
        out.unlink()


def test_streams_that_are_closed_or_full_do_not_change_what_is_written(small, tmp_path):
    out = tmp_path / "a.glb"
    for shell, code in (
        (">&-", 0),
        ("2>&-", 0),
        (">&- 2>&-", 0),
        ("</dev/null >&- 2>&-", 0),
        (">/dev/full", 2),
        ("2>/dev/full", 0),
    ):
        done = call("export", str(small), "-o", str(out), shell=shell)
        assert done.returncode == code, (shell, done.returncode, done.stderr)
        assert out.read_bytes()[:4] == b"glTF"
        out.unlink()
    done = call("demo", "--list", shell=">/dev/full")
    assert (
        done.returncode == 2
        and "cannot be written (no space left on device)" in done.stderr
        and "Traceback" not in done.stderr
    )
    assert call("demo", "--list", shell="| head -n 1").returncode == 0
    missing = call("check", "nowhere.artuline", shell="2>/dev/full")
    assert missing.returncode == 2


def test_a_display_that_does_not_answer_is_said(small):
    for more in ({"DISPLAY": ":77", "QT_QPA_PLATFORM": None}, {"DISPLAY": "nonsense", "QT_QPA_PLATFORM": "xcb"}):
        done = call(str(small), WAYLAND_DISPLAY=None, **more)
        assert done.returncode == 2 and "does not answer" in done.stderr and "Aborted" not in done.stderr
    done = call(str(small), QT_QPA_PLATFORM="sails")
    assert done.returncode == 2 and "'sails', which is not installed" in done.stderr


@pytest.mark.parametrize("home", ["/dev/null", None])
def test_the_window_opens_without_a_home(small, tmp_path, home):
    assert kernels_ready()
    cache = os.environ.get("XDG_CACHE_HOME") or os.path.expanduser("~/.cache")
    picture = tmp_path / "a.png"
    done = call(
        "open",
        str(small),
        "--picture-and-close",
        str(picture),
        HOME=home,
        XDG_CACHE_HOME=cache,
        XDG_STATE_HOME="/dev/null/x",
    )
    assert done.returncode == 0 and picture.stat().st_size > 10_000, done.stderr


def memory():
    with open("/proc/self/statm") as f:
        return int(f.read().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20


def test_pictures_of_many_sizes_take_no_more_memory(boom):
    scene, assets = boom
    states = figure_states(scene, assets, 0.0, None, Show())
    seen, camera = draw_list(scene, assets, 0.0, states, Show()), figure_camera(scene, assets, 0.0, None)
    renderer, random = Renderer(), np.random.default_rng(1)
    try:
        for k in range(120):
            renderer.draw(seen, camera, 900 + int(random.integers(300)), 600 + int(random.integers(200)))
            if k == 20:
                before = memory()
    finally:
        renderer.release()
    assert memory() - before < 20.0
