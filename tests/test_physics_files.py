"""Bodies and joints in glTF, by the open extensions: out and in again, and from a file of others."""

import json
import math
import struct

import numpy as np
import pytest

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.run.record import run
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.core.setup.materials import body_mass
from artuline.demo.figures import ready_figure
from artuline.demo.scenes import demo_scene
from artuline.formats.deliver import deliver
from artuline.formats.gltf_physics import BODIES, SHAPES
from artuline.formats.gltf_read import read_figure


def opened(path):
    data = path.read_bytes()
    size = struct.unpack("<I", data[12:16])[0]
    return json.loads(data[20 : 20 + size]), data[20 + size :]


def closed(path, document, rest):
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    path.write_bytes(
        struct.pack("<4sII", b"glTF", 2, 20 + len(text) + len(rest))
        + struct.pack("<II", len(text), 0x4E4F534A)
        + text
        + rest
    )
    return path


@pytest.mark.parametrize("name", ["boom", "goat"])
def test_a_setup_that_went_out_and_in_gives_the_same_take(tmp_path, name):
    assets = AssetStore()
    scene = demo_scene(name, assets)
    scene = scene.changed(end=min(scene.end, scene.start + 70))
    figure = scene.cast[0]
    (path,) = deliver(tmp_path / "setup.glb", scene, assets, [figure.id], physics=True)
    back = read_figure(path, assets)
    assert back.figure.bodies == figure.bodies and back.figure.joints == figure.joints
    # the file's own numbers are single; all that physics is about is not
    again = figure.changed(bodies=back.figure.bodies, joints=back.figure.joints)
    one, two = (
        run(s, assets)
        for s in (scene, scene.changed(figures=tuple(again if f.id == figure.id else f for f in scene.figures)))
    )
    np.testing.assert_array_equal(one.position, two.position)
    # helpers of shapes and joints are no bones
    assert [b.name for b in back.figure.bones] == [b.name for b in figure.bones]


@pytest.mark.parametrize("name", ["deckhand", "goat"])
def test_other_readers_find_shapes_masses_and_limits(tmp_path, name):
    """Without what is ours, only by the extensions' own values."""
    assets = AssetStore()
    figure = ready_figure(name, assets)
    (path,) = deliver(tmp_path / "a.glb", Scene(figures=(figure,), end=2), assets, [figure.id], physics=True)
    document, rest = opened(path)
    assert document["extensionsUsed"] == [SHAPES, BODIES]
    for node in document["nodes"]:
        node.pop("extras", None)
    read = read_figure(closed(tmp_path / "b.glb", document, rest), AssetStore()).figure
    assert [b.name for b in read.bones] == [b.name for b in figure.bones]
    assert {b.bone for b in read.bodies} == {b.bone for b in figure.bodies}
    for b in figure.bodies:
        other = read.body_of[b.bone]
        assert body_mass(other) == pytest.approx(body_mass(b), rel=1e-9) and other.friction == b.friction
        assert [s.kind for s in other.shapes] == [s.kind for s in b.shapes]
        for s, t in zip(b.shapes, other.shapes):
            np.testing.assert_allclose(t.position, s.position, atol=1e-9)
            assert t.radius == pytest.approx(s.radius) and t.half_length == pytest.approx(s.half_length)
            if s.kind in ("capsule", "box"):
                axis = np.array([1.0, 0.0, 0.0])
                np.testing.assert_allclose(
                    rotation.rotate(np.array(t.rotation), axis), rotation.rotate(np.array(s.rotation), axis), atol=1e-6
                )
            if s.kind == "hull":
                assert {tuple(np.round(x, 5)) for x in t.points} == {tuple(np.round(x, 5)) for x in s.points}
    bone = {b.id: b.bone for b in figure.bodies}
    joints = {read_bone(read, j.child): j for j in read.joints}
    for j in figure.joints:
        other = joints[bone[j.child]]
        assert read_bone(read, other.parent) == bone[j.parent]
        if j.kind == other.kind == "ball":
            assert (*other.twist, other.swing_y, other.swing_z) == pytest.approx((*j.twist, j.swing_y, j.swing_z))
            assert abs(np.dot(other.frame, j.frame)) == pytest.approx(1.0) and abs(
                np.dot(other.parent_frame, j.parent_frame)
            ) == pytest.approx(1.0)


def read_bone(figure, body):
    return next(b.bone for b in figure.bodies if b.id == body)


def foreign(tmp_path, change=lambda d: None):
    """Two boxes on a hinge about the second node's x, hung onto a walking figure's file."""
    assets = AssetStore()
    figure = ready_figure("deckhand", assets)
    (path,) = deliver(tmp_path / "c.glb", Scene(figures=(figure,), end=2), assets, [figure.id])
    document, rest = opened(path)
    index = {n["name"]: i for i, n in enumerate(document["nodes"])}
    document["extensionsUsed"] = [SHAPES, BODIES]
    document["extensions"] = {
        SHAPES: {"shapes": [{"type": "box", "box": {"size": [0.1, 0.2, 0.3]}}, {"type": "cylinder", "cylinder": {"height": 0.5, "radiusBottom": 0.1, "radiusTop": 0.1}}, {"type": "cone"}]},
        BODIES: {"physicsMaterials": [{"dynamicFriction": 0.3, "restitution": 0.4}],
                 "physicsJoints": [{"limits": [{"linearAxes": [0, 1, 2], "min": 0, "max": 0}, {"angularAxes": [1, 2], "min": 0, "max": 0}, {"angularAxes": [0], "min": -0.5, "max": 1.0}]}]},
    }  # fmt: skip
    nodes = document["nodes"]
    for k, bone in enumerate(("upper_arm_l", "forearm_l")):
        nodes[index[bone]]["extensions"] = {
            BODIES: {"motion": {"mass": 2.0 + k}, "collider": {"geometry": {"shape": k}, "physicsMaterial": 0}}
        }
    nodes.append({"name": "seat", "translation": [0, 0, 0]})
    nodes.append({"name": "knee", "extensions": {BODIES: {"joint": {"connectedNode": len(nodes) - 1, "joint": 0}}}})
    nodes[index["upper_arm_l"]].setdefault("children", []).append(len(nodes) - 2)
    nodes[index["forearm_l"]].setdefault("children", []).append(len(nodes) - 1)
    change(document)
    return closed(tmp_path / "d.glb", document, rest)


def test_a_file_of_others_brings_its_bodies(tmp_path):
    read = read_figure(foreign(tmp_path), AssetStore())
    one, two = read.figure.bodies
    assert (one.bone, two.bone, one.mass, two.mass) == ("upper_arm_l", "forearm_l", 2.0, 3.0)
    assert one.shapes[0].half == pytest.approx((0.05, 0.1, 0.15)) and (one.friction, one.restitution) == (0.3, 0.4)
    assert (
        two.shapes[0].kind == "capsule"
        and two.shapes[0].half_length == pytest.approx(0.15)
        and any("capsule" in n for n in read.notes)
    )
    (joint,) = read.figure.joints
    assert (
        joint.kind == "hinge" and joint.twist == (-0.5, 1.0) and any("2 bodies and 1 joints" in n for n in read.notes)
    )
    assert "seat" not in read.figure.bone_index


def _put(document, *path, value):
    for key in path[:-1]:
        document = document[key]
    document[path[-1]] = value


@pytest.mark.parametrize(
    "change, words",
    [
        (lambda d: _put(d, "extensions", SHAPES, value=3), "not a group"),
        (lambda d: _put(d, "extensions", SHAPES, "shapes", value={}), "not a list"),
        (lambda d: _put(d, "extensions", BODIES, "physicsJoints", value=[]), "but there are 0"),
        (lambda d: _put(d, "extensions", SHAPES, "shapes", 0, "box", value={"size": [1, 2]}), "3 numbers"),
        (lambda d: _put(d["nodes"][-1]["extensions"], BODIES, "joint", "connectedNode", value=9999), "refers to"),
        (lambda d: _put(d["extensions"][BODIES]["physicsJoints"][0], "limits", 2, "max", value="wide"), "no number"),
    ],
)
def test_broken_physics_is_refused_by_its_place(tmp_path, change, words):
    assets = AssetStore()
    path = foreign(tmp_path, change)
    with pytest.raises(ArtulineError, match=words) as error:
        read_figure(path, assets)
    assert "d.glb" in str(error.value) and not len(assets)


@pytest.mark.parametrize(
    "limits, kind",
    [
        ([], "axes"),
        ([{"linearAxes": [0, 1, 2], "min": 0, "max": 0}], "ball"),
        ([{"linearAxes": [0, 1, 2], "min": 0, "max": 0}, {"angularAxes": [0, 1, 2], "min": 0, "max": 0}], "fixed"),
        ([{"linearAxes": [1, 2], "min": 0, "max": 0}, {"angularAxes": [0, 1, 2], "min": 0, "max": 0}, {"linearAxes": [0], "min": -0.1, "max": 0.2}], "axes"),
        ([{"linearAxes": [0, 1, 2], "min": 0, "max": 0}, {"angularAxes": [1], "min": -0.2, "max": 0.6}], "axes"),
    ],
)  # fmt: skip
def test_what_no_limit_names_is_free(tmp_path, limits, kind):
    path = foreign(tmp_path, lambda d: _put(d["extensions"][BODIES]["physicsJoints"][0], "limits", value=limits))
    (joint,) = read_figure(path, AssetStore()).figure.joints
    assert joint.kind == kind and (kind != "ball" or not joint.limited)
    if kind == "axes" and limits:
        named = [a for limit in limits for a in limit.get("linearAxes", [])] + [
            3 + a for limit in limits for a in limit.get("angularAxes", [])
        ]
        assert [k for k, r in enumerate(joint.axes) if r is None] == [k for k in range(6) if k not in named]
        assert math.isfinite(sum(sum(r) for r in joint.axes if r))
