"""Mirror pairs, materials, measures, limits and setups, on the shipped figures and on foreign ones."""

import numpy as np
import pytest

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry import rotation
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Link, LinkEnd, Scene
from artuline.core.setup.concave import convex_parts
from artuline.core.setup.fit import fit_bodies
from artuline.core.setup.joints import clip_rotations, keyed_limit_excess
from artuline.core.setup.limits import joint_motion, propose_limits
from artuline.core.setup.materials import MATERIALS, balance, body_mass, centre_of_mass, material_of, usual_mass
from artuline.core.setup.measure import measure
from artuline.core.setup.mirror import mirror_bodies, mirror_pairs, mirror_plane, other_side, sides_differ
from artuline.core.setup.names import propose_mapping
from artuline.core.setup.overlaps import body_overlaps
from artuline.core.setup.patch_fit import FitChoice
from artuline.core.setup.ragdoll import (
    add_bodies,
    fit_again,
    remove_bodies,
    set_up,
    swap_parent,
    turn_frame,
)
from artuline.core.setup.setups import put_links, put_setup, setup_mapping, take_setup
from artuline.core.setup.skin import cached_skin
from artuline.demo.figures import DATA, ready_figure
from artuline.formats.gltf_read import read_figure
from artuline.formats.setup_file import READY, load_setup, ready_setup, save_setup
from tests.foreign import write_chain, write_walker


@pytest.fixture(scope="module")
def goat():
    assets = AssetStore()
    return ready_figure("goat", assets), assets


@pytest.fixture(scope="module")
def hand():
    assets = AssetStore()
    return ready_figure("deckhand", assets), assets


def test_names_that_tell_a_side():
    for one, other in (
        ("hand_l", "hand_r"), ("LeftArm", "RightArm"), ("leg.R", "leg.L"), ("rig:right_foot", "rig:left_foot"),
        ("l thigh", "r thigh"),
    ):  # fmt: skip
        assert other_side(one) == other and other_side(other) == one
    assert other_side("head") is None and other_side("roller") is None


def test_pairs_by_name_by_place_and_by_hand(hand):
    figure, _ = hand
    pairs = mirror_pairs(figure)
    assert pairs["shin_l"] == "shin_r" and "head" not in pairs
    plane = mirror_plane(figure)
    assert plane.normal == pytest.approx([1.0, 0.0, 0.0]) and plane.offset == pytest.approx(0.0, abs=1e-9)
    # names that tell nothing: found by place
    plain = {b.name: f"bone {i}" for i, b in enumerate(figure.bones)}
    bones = tuple(b.changed(name=plain[b.name], parent=plain.get(b.parent or "")) for b in figure.bones)
    bare = figure.changed(bones=bones, bodies=(), joints=(), pairs_off=(), clip=None)
    by_place = mirror_pairs(bare)
    assert {plain[a]: plain[b] for a, b in pairs.items()}.items() <= by_place.items()
    corrected = figure.changed(mirror=(("shin_l", "foot_r"), ("hand_l", "hand_l")))
    again = mirror_pairs(corrected)
    assert again["shin_l"] == "foot_r" and "hand_l" not in again and "shin_r" not in again


def test_what_is_mirrored_is_the_mirror_image(hand):
    figure, assets = hand
    p, q = rigid(rest_matrices(figure))

    def points(body):
        b = figure.bone_index[body.bone]
        local = np.array(body.shapes[0].position) + rotation.rotate(
            np.array(body.shapes[0].rotation),
            np.array(body.shapes[0].points or [[0.1, 0, 0], [0, 0.1, 0], [0, 0, 0.1]]),
        )
        return p[b] + rotation.rotate(q[b], local)

    hull = fit_again(figure, assets, {"foot_l"}, FitChoice("hull"))
    changed = mirror_bodies(hull, {"foot_l"})
    left, right = points(changed.body_of["foot_l"]), points(changed.body_of["foot_r"])
    np.testing.assert_allclose(right, left * [-1.0, 1.0, 1.0], atol=1e-9)
    assert sides_differ(changed) == [] and sides_differ(hull) == [("foot_l", "foot_r")]


def test_a_mirrored_joint_allows_the_mirrored_motion(hand):
    figure, _ = hand
    joint = figure.joint_of["upper_arm_l"].changed(swing_y=0.3, swing_z=0.9, twist=(-0.2, 0.6))
    figure = figure.changed(joints=tuple(joint if j.id == joint.id else j for j in figure.joints))
    figure = mirror_bodies(figure, {"upper_arm_l"})
    other = figure.joint_of["upper_arm_r"]
    assert other.twist == pytest.approx((-0.6, 0.2))
    random = np.random.default_rng(5)
    rest = rigid(rest_matrices(figure))[1]
    left, right = figure.bone_index["upper_arm_l"], figure.bone_index["upper_arm_r"]
    for _ in range(50):
        r = rotation.from_rotation_vector(random.normal(size=3) * 0.6)
        mirrored = r * np.array([1.0, -1.0, -1.0, 1.0])
        poses = rest[None].copy()
        poses[0, left] = rotation.multiply(r, poses[0, left])
        poses[0, right] = rotation.multiply(mirrored, poses[0, right])
        a, b = keyed_limit_excess(figure, joint, poses), keyed_limit_excess(figure, other, poses)
        np.testing.assert_allclose(a, b, atol=1e-9)


def test_materials_and_masses(hand, goat):
    assert material_of(7850.0) == "steel" and material_of(123.0) == ""
    assert all(m.source and 100 < m.density < 10000 for m in MATERIALS)
    figure, assets = hand
    usual, what = usual_mass(figure, assets)
    assert 60 < usual < 90 and "person" in what
    bodies, how = balance(figure, 80.0)
    mass = {b.id: b.mass for b in bodies}
    assert how == "by anatomy" and sum(mass.values()) == pytest.approx(80.0)
    # the bodies of a limb keep their published shares of one another
    assert mass["thigh_l"] / mass["shin_l"] == pytest.approx(0.100 / 0.0465)
    assert mass["upper_arm_r"] / mass["forearm_r"] == pytest.approx(0.028 / 0.016)
    beast, _ = goat
    bodies, how = balance(beast, 50.0)
    assert how == "by volume" and sum(b.mass for b in bodies) == pytest.approx(50.0)
    by_id = {b.id: b.mass for b in bodies}
    assert max(max(by_id[j.parent], by_id[j.child]) / min(by_id[j.parent], by_id[j.child]) for j in beast.joints) < 8.01
    p, q = rigid(rest_matrices(figure))
    assert abs(centre_of_mass(figure, p, q)[0]) < 0.02 and 0.8 < centre_of_mass(figure, p, q)[1] < 1.2


@pytest.mark.parametrize("name", ["deckhand", "goat"])
def test_shapes_follow_the_skin(name, request):
    figure, assets = request.getfixturevalue("hand" if name == "deckhand" else "goat")
    fits = measure(figure, cached_skin(figure, assets), body_overlaps(figure))
    assert [f.grade for f in fits] == sorted((f.grade for f in fits), reverse=True)
    assert np.median([f.inside for f in fits]) > 0.8
    assert max(f.proud for f in fits) < 0.03 * cached_skin(figure, assets).height
    assert max(f.overlap for f in fits) == 0.0


@pytest.mark.parametrize("kind", ["capsule", "sphere", "box", "hull"])
def test_the_kind_chosen_is_the_kind_fitted(hand, kind):
    figure, assets = hand
    made = fit_again(figure, assets, {"thigh_l", "head"}, FitChoice(kind))
    for bone in ("thigh_l", "head"):
        shape = made.body_of[bone].shapes[0]
        assert shape.kind == kind or (kind == "capsule" and shape.kind == "sphere")
    assert made.body_of["chest"] == figure.body_of["chest"]
    wide = fit_bodies(figure, assets, bones=set(figure.body_of), choice=FitChoice("sphere", radius=0.9))
    assert all(b.shapes[0].radius > 0 for b in wide)


def test_what_was_edited_by_hand_is_kept(hand):
    figure, assets = hand
    body = figure.body_of["head"].changed(by_hand=True)
    mine = figure.changed(bodies=tuple(body if b.id == "head" else b for b in figure.bodies))
    assert fit_again(mine, assets, {"head"}, FitChoice("box")) == mine
    assert (
        fit_again(mine, assets, {"head"}, FitChoice("box"), keep_by_hand=False).body_of["head"].shapes[0].kind == "box"
    )


def test_bodies_are_added_taken_away_and_hung_elsewhere(hand):
    figure, assets = hand
    more = add_bodies(figure, assets, {"toes_l"})
    assert more.joint_of["toes_l"].parent == "foot_l"
    assert more.joint_of["shin_l"] == figure.joint_of["shin_l"]
    less = remove_bodies(more, assets, {"foot_l"})
    assert less.joint_of["toes_l"].parent == "shin_l" and "foot_l" not in less.body_of
    with pytest.raises(ArtulineError, match="have bodies"):
        add_bodies(figure, assets, {"head"})
    hung = swap_parent(figure, "head", "chest")
    assert hung.joint_of["head"].parent == "chest"
    rest = rigid(rest_matrices(hung))[1][None]
    assert keyed_limit_excess(hung, hung.joint_of["head"], rest)[0] == 0.0
    with pytest.raises(ArtulineError, match="itself"):
        swap_parent(figure, "hips" if "hips" in figure.joint_of else "spine", "head")


def test_a_turned_frame_keeps_the_joint_where_it_is(hand):
    figure, _ = hand
    half = (0.0, float(np.sqrt(0.5)), 0.0, float(np.sqrt(0.5)))
    turned = turn_frame(figure, "head", half)
    rest = rigid(rest_matrices(figure))[1][None]
    a = joint_motion(figure, figure.joint_of["head"], rest)
    b = joint_motion(turned, turned.joint_of["head"], rest)
    assert np.linalg.norm(a[0]) ** 2 + a[1] ** 2 == pytest.approx(np.linalg.norm(b[0]) ** 2 + b[1] ** 2, abs=1e-3)


@pytest.mark.parametrize("source", ["clips", "anatomy", "both"])
def test_limits_hold_what_they_were_taken_from(hand, source):
    figure, assets = hand
    motion = clip_rotations(figure, assets)
    for joint in figure.joints:
        made = propose_limits(figure, joint, motion, source, margin=np.radians(2.0))
        if source != "anatomy":
            assert keyed_limit_excess(figure, made, motion).max() == 0.0, joint.id
        if source == "clips" and joint.id == "thigh_l":
            tight = made.changed(swing_y=made.swing_y * 0.3, swing_z=made.swing_z * 0.3, twist=(-1e-3, 1e-3))
            assert keyed_limit_excess(figure, tight, motion).max() > 0.0


def test_a_run_that_follows_the_clips_stays_inside(hand):
    figure, assets = hand
    motion = clip_rotations(figure, assets)
    joints = tuple(propose_limits(figure, j, motion, "clips", np.radians(2.0)) for j in figure.joints)
    figure = figure.changed(joints=joints, clip="crossing")
    scene = edit.hand_over(
        Scene(figures=(figure,), end=60, ground=None, gravity=(0, 0, 0)), figure.id, None, 0, 99, 0, 0, 1.0
    )
    assert np.degrees(run(scene, assets).excess.max()) < 0.5


def test_hull_groups_of_a_concave_part_and_cancel():
    import trimesh

    ell = trimesh.util.concatenate(
        [
            trimesh.creation.box((0.4, 0.1, 0.1)),
            trimesh.creation.box((0.1, 0.4, 0.1), trimesh.transformations.translation_matrix((0.15, 0.2, 0.0))),
        ]
    )
    parts = convex_parts(np.array(ell.vertices), np.array(ell.faces))
    assert len(parts) >= 2
    volume = sum(hull_of(tuple(map(tuple, p))).volume for p in parts)
    assert volume < 0.5 * ell.convex_hull.volume + 0.004
    with pytest.raises(CancelledError):
        convex_parts(np.array(ell.vertices), np.array(ell.faces), cancelled=lambda: True)


def test_a_setup_comes_back_as_it_was(hand, tmp_path):
    figure, _ = hand
    tie = Link(id="t", name="tie", kind="tie", a=LinkEnd(figure=figure.id, body="hand_l"),
               b=LinkEnd(figure=figure.id, body="hand_r"), lengths=(0.0, 0.5))  # fmt: skip
    scene = Scene(figures=(figure,), links=(tie,))
    setup = take_setup(scene, figure)
    save_setup(tmp_path / "hand.artuset", setup)
    assert load_setup(tmp_path / "hand.artuset") == setup
    mapping = {k: v for k, (v, _) in setup_mapping(setup, figure).items()}
    assert mapping == {b.bone: b.bone for b in figure.bodies}
    again = put_setup(setup, figure, mapping)
    for a, b in zip(again.bodies, figure.bodies):
        np.testing.assert_allclose(a.shapes[0].position, b.shapes[0].position, atol=1e-9)
        assert a.shapes[0].radius == pytest.approx(b.shapes[0].radius)
    assert [(j.parent, j.child) for j in again.joints] == [(j.parent, j.child) for j in figure.joints]
    assert put_links(setup, figure, mapping, set()) == (tie,)


def test_a_setup_fits_a_figure_of_another_size_and_other_names(hand, tmp_path):
    figure, _ = hand
    assets = AssetStore()
    other = read_figure(write_walker(tmp_path / "walker.glb"), assets).figure
    setup = take_setup(Scene(figures=(figure,)), figure)
    found = setup_mapping(setup, other)
    assert len(found) >= 5 and len({m for m, _ in found.values()}) == len(found)
    made = put_setup(setup, other, {k: v for k, (v, _) in found.items()})
    assert len(made.bodies) == len(found) and made.joints
    scene = edit.hand_over(Scene(figures=(made,), end=12), made.id, None, 0, 99, 0, 0)
    assert np.isfinite(run(scene, assets).position).all()
    with pytest.raises(ArtulineError, match="twice"):
        put_setup(setup, other, {"head": other.bones[0].name, "neck": other.bones[0].name})
    with pytest.raises(ArtulineError, match="no bone"):
        put_setup(setup, other, {})


def test_unmatched_bones_are_left_out_not_guessed():
    places = np.array([[0.0, 0.5, 0.0], [0.0, 0.9, 0.0]])
    found = propose_mapping(["hips", "wing_l"], places, ["pelvis:Hips", "tail"], places * [1, 1, 1] + [5.0, 0, 0])
    assert found == {"hips": ("pelvis:Hips", "same name")}


@pytest.mark.parametrize("name", READY)
def test_the_setups_that_ship(name, hand, goat, tmp_path):
    setup = ready_setup(name)
    if name == "chain":
        assets = AssetStore()
        figure = read_figure(write_chain(tmp_path / "chain.glb"), assets).figure
    else:
        figure, assets = hand if name == "two legs" else goat
    mapping = {k: v for k, (v, _) in setup_mapping(setup, figure).items()}
    made = put_setup(setup, figure, mapping)
    assert len(made.bodies) == len(setup.bodies) and len(made.joints) == len(setup.joints)


@pytest.mark.parametrize(
    "text, words",
    [("{", "not a setup file"), ("[]", "not a setup file"), ('{"version": 99, "bodies": []}', "newer"),
     ('{"version": 1, "bodies": [], "height": 0, "bones": []}', "height")],
)  # fmt: skip
def test_bad_setup_files(tmp_path, text, words):
    path = tmp_path / "bad.artuset"
    path.write_text(text)
    with pytest.raises(ArtulineError, match=words) as error:
        load_setup(path)
    assert str(path) in str(error.value)
    with pytest.raises(ArtulineError, match="cannot be read"):
        load_setup(tmp_path / "none.artuset")


def test_no_bodies_no_setup(goat):
    figure, assets = goat
    with pytest.raises(ArtulineError, match="no bodies"):
        take_setup(Scene(), figure.changed(bodies=(), joints=(), pairs_off=()))
    assert set_up(read_figure(DATA / "goat.glb", assets).figure, assets).bodies and body_mass(figure.bodies[0]) > 0
