"""glTF in and out: files of foreign code, round trips, and every kind of bad file."""

import json
import struct

import numpy as np
import pygltflib
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import load_clip
from artuline.core.motion.skeleton import rest_matrices, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.demo.figures import DATA
from artuline.formats.gltf_read import read_figure
from artuline.formats.gltf_write import write_figure
from tests import foreign


def read(path):
    assets = AssetStore()
    made = read_figure(path, assets)
    return made.figure, Mesh.from_arrays(assets[made.figure.asset]), assets, made.notes


@pytest.mark.parametrize(
    "write, unit",
    [
        (foreign.write_walker, 1.0),
        (foreign.write_centimetre_walker, 0.01),
        (foreign.write_scaled_walker, 1.0),
        (foreign.write_chain, 1.0),
    ],
)
def test_foreign_figures_come_in_upright_at_the_right_size(tmp_path, write, unit):
    figure, mesh, _, notes = read(write(tmp_path / "a.glb"))
    assert figure.unit == unit
    assert any("centimetres" in n for n in notes) == (unit == 0.01)
    points = mesh.skin(rest_matrices(figure))
    size = np.ptp(points, axis=0)
    assert size.argmax() == 1 and 1.6 < size[1] < 2.3
    assert -0.01 < points[:, 1].min() < 0.2
    names = [b.name for b in figure.bones]
    assert all(b.parent is None or names.index(b.parent) < i for i, b in enumerate(figure.bones))
    assert {b.name for b in figure.bones if not b.deforms} == {"scaffold"}


def test_foreign_motion_is_what_was_written(tmp_path):
    figure, _, assets, _ = read(foreign.write_walker(tmp_path / "a.glb"))
    clip = figure.active_clip()
    assert clip.name == "move" and clip.duration == pytest.approx(2.0) and clip.rate == 24 and clip.loop
    pose = load_clip(assets, clip.asset).sample(skeleton_of(figure), np.array([0.5]))
    q = pose.rotation[0, figure.bone_index["Left Thigh"]]
    assert rotation.angle_between(q, np.array(foreign.turn((1, 0, 0), 30.0))) < 1e-3


def test_the_deckhand_is_what_it_should_be(deckhand):
    figure, assets = deckhand
    mesh = Mesh.from_arrays(assets[figure.asset])
    assert 20 <= sum(b.deforms for b in figure.bones) <= 30
    assert 6000 <= len(mesh.triangles) <= 12000
    assert np.ptp(mesh.skin(rest_matrices(figure))[:, 1]) == pytest.approx(1.75, abs=0.08)
    clips = {c.name: c for c in figure.clips}
    assert {"walk", "stand", "reel"} <= set(clips) and clips["walk"].loop
    np.testing.assert_allclose(mesh.weights.sum(axis=1), 1.0, atol=1e-5)


def test_a_figure_survives_writing_and_reading(tmp_path, deckhand):
    figure, assets = deckhand
    mesh = Mesh.from_arrays(assets[figure.asset])
    clips = {c.name: load_clip(assets, c.asset) for c in figure.clips}
    write_figure(tmp_path / "out.glb", figure, mesh, clips)
    back, mesh_back, assets_back, _ = read(tmp_path / "out.glb")
    assert {c.name for c in back.clips} == set(clips)
    for ref in back.clips:
        times = np.linspace(0.0, ref.duration, 17)
        a = clips[ref.name].sample(skeleton_of(figure), times)
        b = load_clip(assets_back, ref.asset).sample(skeleton_of(back), times)
        for i, bone in enumerate(figure.bones):
            k = back.bone_index[bone.name]
            assert rotation.angle_between(a.rotation[:, i], b.rotation[:, k]).max() < 1e-3
            np.testing.assert_allclose(a.translation[:, i], b.translation[:, k], atol=1e-5)
    p, q = mesh.skin(rest_matrices(figure)), mesh_back.skin(rest_matrices(back))
    np.testing.assert_allclose(np.sort(p, axis=0), np.sort(q, axis=0)[: len(p)], atol=0.02)
    # an independent reader takes the file too
    document = pygltflib.GLTF2().load(str(tmp_path / "out.glb"))
    assert len(document.skins) == 1 and len(document.animations) == len(clips)


def test_cubic_translation_curves_are_carried_exactly(tmp_path, deckhand):
    figure, assets = deckhand
    random = np.random.default_rng(3)
    values = random.normal(size=(4, 3, 3)).astype(np.float32).astype(float)
    clip = Clip((Channel("hips", "translation", "CUBICSPLINE", np.array([0.0, 0.5, 1.25, 2.0]), values),))
    write_figure(tmp_path / "c.glb", figure, Mesh.from_arrays(assets[figure.asset]), {"c": clip})
    back, _, assets_back, _ = read(tmp_path / "c.glb")
    channel = load_clip(assets_back, back.clips[0].asset).channels[0]
    np.testing.assert_array_equal(channel.values, values)
    at = np.linspace(0, 2, 33)
    np.testing.assert_allclose(channel.sample(at), clip.channels[0].sample(at))


def with_json(path, change):
    """A GLB rewritten with its description changed."""
    data = path.read_bytes()
    size = struct.unpack_from("<I", data, 12)[0]
    document = json.loads(data[20 : 20 + size])
    rest = data[20 + size :]
    change(document)
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    head = struct.pack("<4sII", b"glTF", 2, 20 + len(text) + len(rest))
    path.write_bytes(head + struct.pack("<II", len(text), 0x4E4F534A) + text + rest)
    return path


def test_sparse_accessors_and_separate_buffers_are_read(tmp_path):
    path = foreign.write_walker(tmp_path / "a.glb")
    document = pygltflib.GLTF2().load(str(path))
    _, mesh, _, _ = read(path)
    at = document.meshes[0].primitives[0].attributes.POSITION
    blob = document.binary_blob()
    extra = np.array([0, 2], np.uint16).tobytes() + np.array([[9, 9, 9], [8, 8, 8]], np.float32).tobytes()
    first = len(blob)
    for offset, length in ((first, 4), (first + 4, 24)):
        document.bufferViews.append(pygltflib.BufferView(buffer=0, byteOffset=offset, byteLength=length))
    views = len(document.bufferViews)
    document.accessors[at].sparse = pygltflib.Sparse(
        count=2,
        indices=pygltflib.AccessorSparseIndices(bufferView=views - 2, componentType=5123),
        values=pygltflib.AccessorSparseValues(bufferView=views - 1),
    )
    document.set_binary_blob(blob + extra)
    document.buffers[0].byteLength = len(blob + extra)
    document.buffers[0].uri = "data of a.bin"
    (tmp_path / "data of a.bin").write_bytes(blob + extra)
    document._glb_data = None
    (tmp_path / "a.gltf").write_text(document.to_json())
    _, changed, _, _ = read(tmp_path / "a.gltf")
    np.testing.assert_array_equal(changed.positions[[0, 2]], [[9, 9, 9], [8, 8, 8]])
    np.testing.assert_array_equal(changed.positions[3:], mesh.positions[3:])


def truncated(path):
    path.write_bytes(path.read_bytes()[:-2000])


def named_text(path):
    path.write_text("a letter to the harbour master")


def without_skin(document):
    document.pop("skins")
    for node in document["nodes"]:
        node.pop("skin", None)


def huge(document):
    document["buffers"][0]["byteLength"] = 2_000_000_000
    document["bufferViews"][0]["byteLength"] = 2_000_000_000
    document["accessors"][0]["count"] = 160_000_000


def past_the_end(document):
    document["accessors"][0]["count"] += 100000


def nan_key(path):
    data = bytearray(path.read_bytes())
    size = struct.unpack_from("<I", data, 12)[0]
    document = json.loads(data[20 : 20 + size])
    sampler = document["animations"][0]["samplers"][0]
    view = document["bufferViews"][document["accessors"][sampler["output"]]["bufferView"]]
    struct.pack_into("<f", data, 28 + size + view.get("byteOffset", 0) + 16, float("nan"))
    path.write_bytes(data)


BAD = {
    "empty": (lambda p: p.write_bytes(b""), "empty"),
    "text": (named_text, "not a GLB"),
    "truncated": (truncated, "cut off"),
    "header only": (lambda p: p.write_bytes(p.read_bytes()[:10]), "header"),
    "no skin": (lambda p: with_json(p, without_skin), "no skin on them"),
    "nan": (nan_key, "not finite"),
    "past the end": (lambda p: with_json(p, past_the_end), "reaches past"),
    "huge": (lambda p: with_json(p, huge), "claims 2000000000 bytes"),
    "version 1": (lambda p: with_json(p, lambda d: d["asset"].update(version="1.0")), "2.0 is needed"),
    "compressed": (
        lambda p: with_json(p, lambda d: d.update(extensionsRequired=["KHR_draco_mesh_compression"])),
        "KHR_draco",
    ),
    "loop of nodes": (lambda p: with_json(p, lambda d: d["nodes"][1].update(children=[0])), "ancestor|two parents"),
    "missing joint": (lambda p: with_json(p, lambda d: d["skins"][0]["joints"].append(999)), "999"),
    "folder": (lambda p: (p.unlink(), p.mkdir()), "cannot be read"),
}  # fmt: skip


@pytest.mark.parametrize("name", BAD)
def test_a_bad_file_is_named_with_its_fault_and_leaves_nothing(tmp_path, name):
    spoil, words = BAD[name]
    path = foreign.write_walker(tmp_path / "goat.glb")
    spoil(path)
    assets = AssetStore()
    with pytest.raises(ArtulineError, match=words) as caught:
        read_figure(path, assets)
    assert str(path) in str(caught.value) and "\n" not in str(caught.value)
    assert len(assets) == 0


def test_a_skin_without_animation_comes_in_with_a_note(tmp_path):
    figure, _, _, notes = read(foreign.write_walker(tmp_path / "a.glb", clip=None))
    assert figure.clip is None and any("no animation" in n for n in notes)


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_a_damaged_file_never_ends_in_anything_but_a_message(tmp_path, data):
    path = tmp_path / "walker.glb"
    if not path.exists():
        foreign.write_walker(path)
    raw = bytearray(path.read_bytes())
    for _ in range(data.draw(st.integers(1, 12))):
        at = data.draw(st.integers(0, min(len(raw) - 1, 6000)))
        raw[at] = data.draw(st.integers(0, 255))
    broken = tmp_path / "broken.glb"
    broken.write_bytes(raw)
    try:
        read_figure(broken, AssetStore())
    except ArtulineError as error:
        assert str(broken) in str(error)


def test_the_demo_data_is_small():
    assert (DATA / "deckhand.glb").stat().st_size < 3_000_000
