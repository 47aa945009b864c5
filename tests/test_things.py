"""Things of several parts: divided, joined, hung on each other; rings keep their hole; hinges and grips from geometry nobody tuned for."""

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.skeleton import rigid
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Body, Bone, Figure, MotionKey, Scene, Shape, obstacle
from artuline.core.setup.grip import grip_of, held_at, palm_of
from artuline.core.setup.hinge import hinge_of, propose_hinge, with_hinge
from artuline.core.setup.parts import (
    Surface,
    joined,
    likely_thing_unit,
    own_matrices,
    scaled,
    shells,
    split,
    with_mesh_of,
)
from artuline.core.setup.surfaces import revolved, ring, slab, swept
from artuline.core.setup.thing_shapes import shapes_of, with_shapes
from artuline.core.setup.things import renamed, simple, with_part
from artuline.demo import things
from artuline.formats.thing_read import read_thing

OPEN = [(0.0, 0.0), (0.1, 0.0), (0.13, 0.26), (0.118, 0.26), (0.09, 0.015), (0.0, 0.015)]


def mesh(surface):
    return trimesh.Trimesh(*surface, process=False)


def skew_pail(turn, scale=100.0):
    """A vessel and a bail that touch nowhere, as one mesh in centimetres; and its hinge, in metres, about the middle of the file."""
    bail = swept(things.arc(0.15, 0.0, 180.0, 40, 0.24), 0.006)
    both = trimesh.util.concatenate([mesh(revolved(OPEN)), mesh(bail)])
    q = rotation.from_rotation_vector(np.array(turn))
    both.vertices = scale * rotation.rotate(q, both.vertices)
    return both, rotation.rotate(q, np.array([0.0, 0.24, 0.0])), rotation.rotate(q, np.array([1.0, 0.0, 0.0]))


@pytest.mark.parametrize("body", ["ball", "drum", "bell"])
@pytest.mark.parametrize("size", [0.4, 1.0, 5.0])
def test_a_round_body_on_a_ring_swings_across_what_it_hangs_by(tmp_path, body, size):
    """A lamp's glass, a drum, a bell: round about the line it hangs by; about that it would only spin."""
    ring = trimesh.creation.torus(0.05, 0.006)
    ring.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
    below = {
        "ball": trimesh.creation.icosphere(subdivisions=3, radius=0.1),
        "drum": trimesh.creation.cylinder(
            0.07, 0.2, sections=40, transform=trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0])
        ),
        "bell": mesh(revolved(OPEN)),
    }[body]
    below.apply_translation([0.0, -0.06 - below.bounds[1][1], 0.0])
    both = trimesh.util.concatenate([ring, below])
    both.vertices *= size
    path = tmp_path / "lamp.obj"
    both.export(path)
    assets = AssetStore()
    figure = read_thing(path, assets).figure
    upper, lower = sorted(
        (b.name for b in figure.bones), key=lambda n: -own_matrices(figure)[figure.bone_index[n]][1, 3]
    )
    surface = Surface.of(figure, assets)
    tops = {
        n: surface.positions[surface.triangles[surface.owner == figure.bone_index[n]]][..., 1].max()
        for n in (upper, lower)
    }
    child = min(tops, key=tops.get)
    hinge = propose_hinge(figure, assets, child, next(n for n in tops if n != child))
    assert abs(hinge.axis[1]) < 0.1


@pytest.mark.parametrize("suffix", [".stl", ".obj", ".ply", ".glb"])
@pytest.mark.parametrize("turn", [(0.0, 0.0, 0.0), (0.3, 1.1, -0.2)])
def test_an_unknown_pail_has_two_parts_its_unit_and_its_hinge_is_found(tmp_path, suffix, turn):
    both, pivot, axis = skew_pail(turn)
    path = tmp_path / f"bucket{suffix}"
    both.export(path)
    assets = AssetStore()
    figure = read_thing(path, assets).figure
    size = float(np.ptp(both.vertices, axis=0).max()) / 100.0
    assert len(figure.bones) == 2 and np.ptp(Surface.of(figure, assets).positions, axis=0).max() == pytest.approx(
        size, rel=1e-5
    )
    bail = next(b.bone for b in figure.bodies if len(b.shapes) > 4)
    vessel = next(b.name for b in figure.bones if b.name != bail)
    hinge = propose_hinge(figure, assets, vessel, bail)
    low, high = (getattr(both.vertices, x)(axis=0) / 100.0 for x in ("min", "max"))
    foot = np.array([0.5 * (low + high)[0], low[1], 0.5 * (low + high)[2]])
    assert abs(hinge.axis @ axis) > np.cos(np.radians(3.0))
    off = (hinge.pivot - (pivot - foot)) - axis * float((hinge.pivot - (pivot - foot)) @ axis)
    assert np.linalg.norm(off) < 0.02
    # it is gripped at the far side of the bail, along the hinge
    made = with_hinge(figure, assets, vessel, bail, hinge.pivot, hinge.axis)
    grip = grip_of(made, assets, bail)
    p, q = rigid(own_matrices(made)[made.bone_index[bail]])
    top = p + rotation.rotate(q, grip.point)
    up = rotation.rotate(rotation.from_rotation_vector(np.array(turn)), np.array([0.0, 1.0, 0.0]))
    assert float((top - hinge.pivot) @ up) == pytest.approx(0.15, abs=0.02)


def test_files_of_several_nodes_keep_them_as_parts_and_their_places(tmp_path):
    scene = trimesh.Scene()
    for name, at in (("lid", 0.3), ("pot", 0.0)):
        box = trimesh.creation.box((0.2, 0.1, 0.2))
        scene.add_geometry(
            box, node_name=name, geom_name=name, transform=trimesh.transformations.translation_matrix((0.0, at, 0.0))
        )
    scene.export(tmp_path / "pot.glb")
    assets = AssetStore()
    figure = read_thing(tmp_path / "pot.glb", assets).figure
    assert {b.name for b in figure.bones} == {"lid", "pot"}
    p = rigid(own_matrices(figure))[0]
    assert p[figure.bone_index["lid"]][1] - p[figure.bone_index["pot"]][1] == pytest.approx(0.3, abs=1e-6)
    for wrong, words in (("no.obj", "no such file"), ("bad.stl", "bad.stl")):
        (tmp_path / "bad.stl").write_text("nothing")
        with pytest.raises(ArtulineError, match=words):
            read_thing(tmp_path / wrong, assets)


@given(st.floats(1e-4, 1e4))
@settings(max_examples=30)
def test_units_make_things_of_a_plausible_size_if_any_does(size):
    unit = likely_thing_unit(size)
    assert 0.03 <= size * unit <= 4.0 or all(not 0.03 <= size * u <= 4.0 for u in (1.0, 0.01, 0.001, 0.0254))


@given(st.integers(1, 4), st.integers(0, 10**6))
@settings(max_examples=20)
def test_parts_are_split_and_joined_without_moving_anything(count, seed):
    random = np.random.default_rng(seed)
    assets = AssetStore()
    pieces = [
        ("all", 0, (p + random.uniform(-0.05, 0.05, 3) + [0.5 * k, 0.0, 0.0], t))
        for k in range(count)
        for p, t in [slab()]
    ]
    figure = things.assembled("thing", assets, pieces, ())
    before = Surface.of(figure, assets)
    if count == 1:
        with pytest.raises(ArtulineError, match="hangs together"):
            split(figure, assets, "all")
        return
    apart, names = split(figure, assets, "all")
    assert len(names) == count and len(apart.bones) == count
    now = Surface.of(apart, assets)
    assert sorted(map(tuple, now.positions[now.triangles].reshape(-1, 9).round(6))) == sorted(
        map(tuple, before.positions[before.triangles].reshape(-1, 9).round(6))
    )
    shell = shells(now.positions, now.triangles)
    assert all(len(set(now.owner[shell == k])) == 1 for k in range(count))
    again = joined(apart, assets, names)
    assert [b.name for b in again.bones] == ["all"] and (Surface.of(again, assets).owner == 0).all()


def test_a_part_is_cut_hung_renamed_and_scaled_with_all_that_refers_to_it():
    assets = AssetStore()
    figure = with_part(simple("box", assets), assets, "ring")
    half = Surface.of(figure, assets)
    mine = half.positions[half.triangles].mean(axis=1)[:, 0] > 0.0
    cut, names = split(figure, assets, "box", mine)
    assert names == ["box", "box 2"] and cut.body_of["box"].shapes == ()
    made = with_shapes(cut, assets, dict.fromkeys(names, "box"))
    before = Surface.of(made, assets).positions
    pivot, axis = np.array([0.02, 0.05, -0.01]), np.array([0.0, 0.6, 0.8])
    hung = with_hinge(made, assets, "box 2", "box", pivot, axis)
    np.testing.assert_allclose(Surface.of(hung, assets).positions[:, 1].max(), before[:, 1].max(), atol=1e-6)
    found = hinge_of(hung, hung.joints[0])
    np.testing.assert_allclose(found.pivot, pivot, atol=1e-9)
    np.testing.assert_allclose(found.axis, axis, atol=1e-9)
    # nothing moved: the shape stands where it stood
    old, new = (rigid(own_matrices(f)) for f in (made, hung))
    for f, (p, q) in ((made, old), (hung, new)):
        b = f.bone_index["box 2"]
        at = p[b] + rotation.rotate(q[b], np.array(f.body_of["box 2"].shapes[0].position))
        np.testing.assert_allclose(
            at, old[0][made.bone_index["box 2"]] + np.array(made.body_of["box 2"].shapes[0].position), atol=1e-9
        )
    with pytest.raises(ArtulineError, match="hang on itself"):
        with_hinge(hung, assets, "box", "box 2", pivot, axis)
    scene = renamed(edit.add_figure(Scene(), hung), "box", "box 2", "flap")
    assert scene.figures[0].body_of["flap"].shapes and "box 2" not in scene.figures[0].bone_index
    with pytest.raises(ArtulineError, match="cannot be called"):
        renamed(scene, "box", "flap", "box")
    large = scaled(hung, assets, 3.0)
    np.testing.assert_allclose(hinge_of(large, large.joints[0]).pivot, 3.0 * pivot, atol=1e-9)
    assert Mesh.from_arrays(assets[large.asset]).skin(own_matrices(large))[:, 1].max() == pytest.approx(
        3.0 * before[:, 1].max(), rel=1e-5
    )


@pytest.mark.parametrize("kind", ["tube", "best"])
def test_a_pin_falls_through_a_ring_and_hangs_over_its_rim(kind):
    """A ring that lies on two posts: a thin pin drops through its hole; a ring dropped over a peg hangs on it."""
    assets = AssetStore()
    hoop = things.assembled("ring", assets, [("ring", 0, ring(0.1, 0.012))], ())
    shapes = shapes_of(hoop, assets, "ring", kind)
    assert len(shapes) >= 12
    rim = Figure(id="ring", name="ring", bones=(Bone(name="ring", translation=(0.0, 0.5, 0.0)),), obstacle=True,
                 bodies=(Body(id="ring", bone="ring", shapes=shapes),))  # fmt: skip
    pin = Shape(kind="capsule", radius=0.02, half_length=0.1, rotation=(0.0, 0.0, np.sqrt(0.5), np.sqrt(0.5)))
    heights = []
    for x in (0.0, 0.1):
        falls = Figure(id="pin", name="pin", bones=(Bone(name="pin", translation=(x, 0.75, 0.0)),),
                       bodies=(Body(id="pin", bone="pin", shapes=(pin,)),))  # fmt: skip
        scene = edit.hand_over(Scene(figures=(rim, falls), end=30, ground=None), "pin", None, 0, 99, 0, 0)
        heights.append(run(scene, assets).position[:, -1, 1])
    free = 0.75 - 0.5 * 9.81 * (np.arange(31) / 24) ** 2
    np.testing.assert_allclose(heights[0], free, atol=2e-3)
    assert (heights[1][10:16] > free[10:16] + 0.02).all()
    # over a peg: the ring itself is let go around it
    peg = obstacle(
        "peg", Shape(kind="capsule", radius=0.02, half_length=0.3), (MotionKey(frame=0, position=(0.0, 1.0, 0.0)),)
    )
    turn = tuple(rotation.from_rotation_vector(np.array([0.0, 0.0, np.pi / 2.0])))
    hung = rim.changed(obstacle=False, bones=(Bone(name="ring", translation=(0.0, 0.96, 0.0), rotation=turn),))
    scene = edit.hand_over(Scene(figures=(hung, peg), end=72, ground=None), "ring", None, 0, 99, 0, 0)
    take = run(scene, assets)
    y = take.position[:, take.column("ring", "ring"), 1]
    assert y[-1] == pytest.approx(1.0 + 0.02 + 0.012 - 0.1, abs=0.02) and abs(y[-1] - y[-24]) < 5e-3


def test_a_hand_grips_a_handle_across_its_fingers_with_the_thing_hanging_down(boom):
    scene, assets = boom
    hand = scene.figures[0]
    pail = things.pail(assets)
    for bone in ("hand_l", "hand_r"):
        palm = palm_of(hand, bone)
        assert 0.03 < np.linalg.norm(palm.point) < 0.1
        for frame in (0.0, 20.0):
            p, q, point = held_at(scene, assets, pail, "bail", hand, bone, frame)
            np.testing.assert_allclose(p + rotation.rotate(q, point), palm.point, atol=1e-9)
            grip = grip_of(pail, assets, "bail")
            assert abs(rotation.rotate(q, grip.axis) @ palm.axis) == pytest.approx(1.0, abs=1e-9)
            facing = rigid(keyed_matrices(scene, assets, hand, np.array([frame]))[0, hand.bone_index[bone]])[1]
            down = rotation.rotate(rotation.multiply(facing, q), np.array([0.0, -1.0, 0.0]))
            axis = rotation.rotate(facing, palm.axis)
            best = np.array([0.0, -1.0, 0.0]) + axis * axis[1]
            assert down @ (best / np.linalg.norm(best)) > 0.99


def test_a_stand_in_gets_its_mesh_later_and_keeps_its_setup(tmp_path):
    assets = AssetStore()
    plain = things.pail(assets)
    both, _, _ = skew_pail((0.0, 0.0, 0.0))
    both.export(tmp_path / "fine.obj")
    worn = with_mesh_of(plain, assets, read_thing(tmp_path / "fine.obj", assets).figure)
    for name in ("bones", "bodies", "joints", "groups", "mounts"):
        assert getattr(worn, name) == getattr(plain, name)
    now, before = Surface.of(worn, assets), Surface.of(plain, assets)
    assert worn.asset != plain.asset and worn.source == "fine.obj"
    # the bail's surface went to the bail
    bail = worn.bone_index["bail"]
    assert now.points(bail)[:, 1].max() == pytest.approx(now.positions[:, 1].max()) and len(now.points(bail)) < len(
        now.positions
    )
    np.testing.assert_allclose(now.positions[:, 1].min(), before.positions[:, 1].min(), atol=1e-6)
