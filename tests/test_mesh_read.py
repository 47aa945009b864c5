"""Obstacles from files of meshes: what they enclose, and what is said of bad ones."""

import numpy as np
import pytest
import trimesh

from artuline.core.errors import ArtulineError
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.run.record import run
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import MotionKey, obstacle
from artuline.formats.mesh_read import read_shape
from artuline.formats.scene_file import load_scene, save_scene
from tests.test_links import two_balls


@pytest.mark.parametrize("kind", ["obj", "stl", "ply", "off", "glb"])
def test_a_hull_has_the_volume_of_the_mesh_and_its_middle(tmp_path, kind):
    box = trimesh.creation.box((0.4, 0.2, 0.6))
    box.apply_translation([1.0, 2.0, 3.0])
    box.export(tmp_path / f"crate.{kind}")
    shape, middle = read_shape(tmp_path / f"crate.{kind}", AssetStore(), "hull")
    assert hull_of(shape.points).volume == pytest.approx(0.4 * 0.2 * 0.6, rel=1e-5)
    np.testing.assert_allclose(middle, [1.0, 2.0, 3.0], atol=1e-5)


def test_a_ball_falls_into_a_hollow_mesh_and_the_scene_keeps_it(tmp_path):
    # a tray whose bottom is at 1 m, with walls
    floor, wall = trimesh.creation.box((3.0, 0.1, 3.0)), trimesh.creation.box((0.1, 0.6, 3.0))
    floor.apply_translation([0.0, 0.95, 0.0])
    wall.apply_translation([1.45, 1.3, 0.0])
    trimesh.util.concatenate([floor, wall]).export(tmp_path / "tray.obj")
    assets = AssetStore()
    shape, middle = read_shape(tmp_path / "tray.obj", assets, "mesh")
    tray = obstacle("tray", shape, (MotionKey(frame=0, position=tuple(middle)),))
    scene = two_balls(frames=36, around=(tray,))
    save_scene(tmp_path / "s.artuline", scene, assets)
    again = AssetStore()
    take = run(load_scene(tmp_path / "s.artuline", again), again)
    assert take.position[-1, :2, 1] == pytest.approx(1.1, abs=2e-3)


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("no.obj", None, "no such file"),
        ("no.txt", "v 0 0 0", "is not a mesh"),
        ("torn.stl", "solid x\n facet normal", "no.*|cannot be read"),
        ("empty.obj", "# nothing\n", "triangles|cannot be read"),
        ("big.obj", "v 0 0 0\nv 9e6 0 0\nv 0 9e6 1\nv 1 1 9e6\nf 1 2 3\nf 1 2 4\n", "in size"),
        ("flat.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nv 1 1 0\nf 1 2 3\nf 2 3 4\n", "no volume"),
        ("point.obj", "v 0 0 0\nv 0 0 0\nv 0 0 0\nf 1 2 3\n", "in size|no triangles"),
    ],
)
def test_bad_files_are_named_with_what_is_wrong(tmp_path, name, text, words):
    if text is not None:
        (tmp_path / name).write_text(text)
    assets = AssetStore()
    with pytest.raises(ArtulineError, match=words) as error:
        read_shape(tmp_path / name, assets, "hull")
    assert name in str(error.value) or "convex hull" in str(error.value)
