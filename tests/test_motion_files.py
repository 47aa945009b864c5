"""BVH and tables of keys: round trips against another reader, and clear errors with their lines."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.bake.delivery import delivery
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.skeleton import rest_matrices, rigid, skeleton_of
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.core.setup.limbs import propose_limbs
from artuline.core.setup.ragdoll import set_up
from artuline.core.setup.tilt import Z_UP, lies, tipped
from artuline.demo.figures import ready_figure
from artuline.formats.bvh_read import put_motion, read_motion
from artuline.formats.coming_back import bring_back
from artuline.formats.deliver import deliver
from artuline.formats.importing import add_figure
from artuline.formats.key_table import read_keys

SMALL = """HIERARCHY
ROOT mast
{
  OFFSET 0 10 0
  CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation
  JOINT yard
  {
    OFFSET 0 50 0
    CHANNELS 3 Yrotation Zrotation Xrotation
    End Site
    { OFFSET 0 40 0 }
  }
}
ROOT buoy
{
  OFFSET 30 0 0
  CHANNELS 4 Zposition Xrotation Yposition Zrotation
}
MOTION
Frames: 2
Frame Time: 0.0416667
0 10 0 0 0 0  0 0 0  0 0 0 0
1 12 3 90 0 0  0 0 45  5 90 1 0
"""


def written(tmp_path, text, name="a.bvh"):
    path = tmp_path / name
    path.write_text(text)
    return path


def test_any_order_of_channels_several_roots_and_end_sites(tmp_path):
    m = read_motion(written(tmp_path, SMALL))
    assert [j.name for j in m.joints] == ["mast", "yard", "yard end", "buoy"] and m.rate == 24.0
    np.testing.assert_allclose(m.shifts[1, [0, 3]], [[1, 12, 3], [30, 1, 5]])
    # the mast leans a quarter turn about z; the yard turns in it about its x
    up = rotation.rotate(m.turns[1, 0], np.array([0.0, 1.0, 0.0]))
    np.testing.assert_allclose(up, [-1, 0, 0], atol=1e-12)
    np.testing.assert_allclose(
        rotation.rotate(m.turns[1, 1], [0, 1, 0]), [0, math.sqrt(0.5), math.sqrt(0.5)], atol=1e-12
    )
    assert m.joints[0].order == "zxy" and m.joints[3].order is None


@pytest.mark.parametrize(
    "change, words, line",
    [
        (("HIERARCHY", "HIERARCHIE"), "stands where HIERARCHY", 1),
        (("Zrotation Xrotation Yrotation\n  JOINT", "Zrotation Xrotation Urotation\n  JOINT"), "is no channel", 5),
        (("CHANNELS 3 Yrotation Zrotation Xrotation", "CHANNELS 3 Yrotation Yrotation Xrotation"), "twice", 9),
        (("OFFSET 0 50 0", "OFFSET 0 x 0"), "'x' is not a number", 8),
        (("OFFSET 0 50 0", "OFFSET 0 1e30 0"), "out of bounds", 8),
        (("Frames: 2", "Frames: 9"), "2 lines of motion for 9 frames", None),
        (("Frames: 2", "Frames: -1"), "frames are none", 20),
        (("Frame Time: 0.0416667", "Frame Time: 0"), "cannot last", 21),
        (("1 12 3 90", "1 12 three 90"), "'three' is not a number", 23),
        (("1 12 3 90", "1 12 90"), "12 numbers for 13 channels", 23),
        (("1 12 3 90", "1 12 nan 90"), "out of bounds", 23),
        (("{ OFFSET 0 40 0 }", "{ OFFSET 0 40 0"), "stands where", None),
    ],
)
def test_what_cannot_be_read_is_said_with_its_line(tmp_path, change, words, line):
    assert change[0] in SMALL
    with pytest.raises(ArtulineError) as error:
        read_motion(written(tmp_path, SMALL.replace(*change)))
    assert words in str(error.value) and "a.bvh" in str(error.value)
    if line is not None:
        assert f"line {line}" in str(error.value)


@settings(max_examples=150)
@given(st.integers(0, 10**6))
def test_mutated_files_give_errors_and_nothing_else(tmp_path_factory, seed):
    random = np.random.default_rng(seed)
    data = bytearray(SMALL.encode())
    for _ in range(int(random.integers(1, 6))):
        at = int(random.integers(0, len(data)))
        kind = random.integers(0, 3)
        if kind == 0:
            data[at] = int(random.integers(0, 256))
        elif kind == 1:
            del data[at : at + int(random.integers(1, 30))]
        else:
            data[at:at] = bytes(data[: int(random.integers(1, 60))])
    path = tmp_path_factory.mktemp("mutated") / "m.bvh"
    path.write_bytes(bytes(data))
    assets = AssetStore()
    try:
        add_figure(Scene(), assets, path)
    except ArtulineError as error:
        assert "m.bvh" in str(error)
        assert len(assets) == 0


@pytest.fixture(scope="module")
def baked(boom_run):
    scene, assets, take = boom_run
    f = scene.figures[0]
    return add_layer(scene, assets, f.id, bake_figure(scene, assets, f, take, BakeWish(0.5, 2.0)), "baked"), assets


def world(scene, assets, figure, frames):
    m = skeleton_of(figure).global_matrices(
        keyed_pose(scene, assets, figure, frames), root_at(scene, assets, figure, frames)
    )
    return rigid(m)


def test_a_bvh_holds_every_pose(baked, tmp_path):
    """Places within 0.01 mm, turns within 0.01 degree, on every frame: read by a reader of its own, with matrices."""
    scene, assets = baked
    figure = scene.figures[0]
    (path,) = deliver(tmp_path / "out.bvh", scene, assets, [figure.id])
    m = read_motion(path)
    frames = np.arange(scene.start, scene.end + 1.0)
    assert len(m.turns) == len(frames) and m.rate == scene.rate
    p, q = world(scene, assets, figure, frames)
    rest = rigid(
        skeleton_of(figure).global_matrices(
            skeleton_of(figure).rest_over(1), root_at(scene, assets, figure, frames[:1])
        )
    )[1][0]
    at, turned = {}, {}
    for b, j in enumerate(m.joints):
        own = rotation.to_matrix(m.turns[:, b])
        if j.parent < 0:
            at[b], turned[b] = m.shifts[:, b], own
        else:
            at[b] = at[j.parent] + np.einsum("fij,fj->fi", turned[j.parent], m.shifts[:, b])
            turned[b] = turned[j.parent] @ own
        if not j.site:
            i = figure.bone_index[j.name]
            assert np.abs(0.01 * at[b] - p[:, i]).max() < 1e-5, j.name
            now = rotation.multiply(rotation.from_matrix(turned[b]), rest[i])
            assert np.degrees(rotation.angle_between(now, q[:, i])).max() < 0.01, j.name


def test_motion_comes_back_onto_the_figure_by_names(baked, tmp_path):
    scene, assets = baked
    figure = scene.figures[0]
    (path,) = deliver(tmp_path / "out.bvh", scene, assets, [figure.id])
    bare = scene.changed(figures=(figure.changed(layers=(), clip=None), *scene.figures[1:]))
    onto = put_motion(bare, assets, figure.id, path)
    assert not onto.left and len(onto.mapped) == len(figure.bones)
    frames = np.arange(scene.start, scene.end + 1.0)
    p, q = world(scene, assets, figure, frames)
    now, turned = world(onto.scene, assets, onto.scene.figures[0], frames)
    assert np.degrees(rotation.angle_between(turned, q)).max() < 0.01
    assert np.abs(now - p).max() < 2e-4
    with pytest.raises(ArtulineError, match="called like a bone"):
        put_motion(bare, assets, figure.id, written(tmp_path, SMALL))
    named = put_motion(bare, assets, figure.id, written(tmp_path, SMALL), {"mast": "hips", "yard": "spine"})
    assert named.left == ("buoy",)


def test_a_skeleton_from_a_file_can_be_handed_over(tmp_path):
    """It stands upright in its unit, has sticks for a skin, and falls."""
    assets = AssetStore()
    source = ready_figure("deckhand", assets)
    (path,) = deliver(tmp_path / "walk.bvh", Scene(figures=(source.changed(clip="walk"),), end=24), assets, [source.id])
    text = path.read_text()
    scene, figure, notes = add_figure(Scene(), assets, path)
    assert figure.unit == 0.01 and any("centimetres" in n for n in notes)
    assert scene.rate == 24.0 and scene.end == 24 and figure.active_clip() is not None
    p, _ = world(scene, assets, figure, np.array([0.0, 12.0]))
    assert 1.5 < np.ptp(p[0, :, 1]) < 1.9 and p[1, 0, 2] - p[0, 0, 2] > 0.5
    made = set_up(figure, assets)
    assert len(made.bodies) > 10
    fallen = run(scene.changed(figures=(made,), end=12), assets)
    assert np.isfinite(fallen.position).all()
    # the same skeleton with z upwards
    lines = text.split("\n")
    for k, line in enumerate(lines):
        if line.strip().startswith("OFFSET"):
            x, y, z = (float(v) for v in line.split()[1:])
            lines[k] = f"OFFSET {x} {-z} {y}"
    tall = written(tmp_path, "\n".join(lines), "z.bvh")
    _, over, notes = add_figure(Scene(), assets, tall)
    rest = rigid(skeleton_of(over).global_matrices(skeleton_of(over).rest_over(1))[0])[0]
    assert any("z upwards" in n for n in notes) and np.ptp(rest[:, 1]) > 1.2 * np.ptp(rest[:, 2])


@pytest.mark.parametrize("suffix", [".csv", ".json", ".glb"])
def test_keys_leave_and_come_back_as_a_layer(baked, tmp_path, suffix):
    """To the last bit where the format holds doubles."""
    scene, assets = baked
    figure = scene.figures[0]
    (path,) = deliver(tmp_path / f"out{suffix}", scene, assets, [figure.id])
    back, missing = bring_back(scene, assets, figure.id, path)
    assert not missing
    layer = back.figures[0].layers[-1]
    assert (layer.start, layer.end) == (scene.start, scene.end)
    frames = np.arange(scene.start, scene.end + 0.1, 0.5)
    now, then = (keyed_pose(s, assets, s.figures[0], frames) for s in (back, scene))
    exact = delivery(scene, assets, [figure.id]).figures[0].clips
    if suffix != ".glb":
        sent = {(c.bone, c.path): c for c in next(iter(exact.values())).channels}
        for c in read_keys(path).channels:
            if c.path != "rotation":
                np.testing.assert_array_equal(c.times, sent[c.bone, c.path].times)
    whole = frames == np.round(frames)
    assert np.degrees(rotation.angle_between(now.rotation[whole], then.rotation[whole])).max() < 0.01
    assert np.abs(now.translation[whole] - then.translation[whole]).max() < 1e-5


@pytest.mark.parametrize(
    "name, text, words",
    [
        ("a.csv", "bone,path\nx,rotation\n", "column"),
        ("a.csv", "", "column"),
        ("a.json", "{", "no JSON"),
        ("a.json", "[]", "no list of keys"),
        ("a.json", '{"keys": []}', "no keys"),
        ("a.json", '{"keys": [{"bone": "spine", "path": "hue"}]}', "keys[0]"),
        ("a.json", '{"keys": [{"bone": "spine", "path": "scale", "seconds": 0}]}', "'in x'"),
        ("a.glb", "no", ""),
        ("a.txt", "", "no keys that can be read"),
    ],
)
def test_broken_tables_are_refused(baked, tmp_path, name, text, words):
    scene, assets = baked
    before = set(assets)
    with pytest.raises(ArtulineError) as error:
        bring_back(scene, assets, scene.figures[0].id, written(tmp_path, text, name))
    assert words in str(error.value) and set(assets) == before


def test_keys_of_unknown_bones_are_named(baked, tmp_path):
    scene, assets = baked
    (path,) = deliver(tmp_path / "k.csv", scene, assets, [scene.figures[0].id])
    path.write_text(path.read_text().replace("hips,", "keel,"))
    _, missing = bring_back(scene, assets, scene.figures[0].id, path)
    assert missing == ("keel",)


def test_a_figure_is_tipped_with_all_its_motion(boom_run):
    """Everything is where it was, turned about the origin of the file; four times is none."""
    scene, assets, take = boom_run
    scene = edit.figure(scene, "deckhand", goals=propose_limbs(scene.figures[0], assets))
    scene = add_layer(
        scene, assets, "deckhand", bake_figure(scene, assets, scene.figures[0], take, BakeWish()), "baked"
    )
    made = tipped(scene, assets, "deckhand")
    frames = np.arange(scene.start, scene.end + 1.0, 7.0)
    turn = np.eye(4)
    turn[:3, :3] = rotation.to_matrix(Z_UP)
    for layers in (True, False):
        one, two = (
            skeleton_of(s.figures[0]).global_matrices(keyed_pose(s, assets, s.figures[0], frames, layers=layers))
            for s in (scene, made)
        )
        np.testing.assert_allclose(turn @ one, two, atol=1e-6)
    for _ in range(3):
        made = tipped(made, assets, "deckhand")
    np.testing.assert_allclose(rest_matrices(made.figures[0]), rest_matrices(scene.figures[0]), atol=1e-9)
    assert lies(scene.figures[0], rest_matrices(tipped(scene, assets, "deckhand").figures[0])[:, :3, 3])
    assert not lies(scene.figures[0], rest_matrices(scene.figures[0])[:, :3, 3])
