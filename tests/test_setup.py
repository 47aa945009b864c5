"""Bodies, joints and limits proposed for figures that nothing was tuned for."""

from itertools import pairwise

import numpy as np
import pytest

from artuline.core.errors import ArtulineError
from artuline.core.geometry import distance, rotation
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Bone, Figure, Link, LinkEnd, Scene
from artuline.core.setup.anatomy import segment_of
from artuline.core.setup.coverage import left_out
from artuline.core.setup.fit import fit_bodies
from artuline.core.setup.joints import clip_rotations, keyed_limit_excess
from artuline.core.setup.mirror import mirror_bodies, mirror_link, mirror_pairs, mirror_plane, sides_differ
from artuline.core.setup.patch_fit import FitChoice
from artuline.core.setup.ragdoll import add_bodies, fit_again, remove_bodies, set_up
from artuline.core.setup.skin import cached_skin, divide_skin
from artuline.core.setup.units import likely_unit
from artuline.formats.gltf_read import read_figure
from artuline.formats.importing import add_figure
from tests import foreign

WRITERS = {
    "walker": foreign.write_walker,
    "centimetres": foreign.write_centimetre_walker,
    "chain": foreign.write_chain,
}


@pytest.fixture(scope="module", params=["deckhand", *WRITERS])
def ready(request, tmp_path_factory, deckhand):
    if request.param == "deckhand":
        figure, assets = deckhand
    else:
        path = WRITERS[request.param](tmp_path_factory.mktemp("figures") / f"{request.param}.glb")
        assets = AssetStore()
        figure = read_figure(path, assets).figure
    return set_up(figure, assets), assets


def test_shapes_follow_the_skin_just_under_it(ready):
    figure, assets = ready
    parts = divide_skin(figure, assets)
    p, q = rigid(rest_matrices(figure))
    for body in figure.bodies:
        b = figure.bone_index[body.bone]
        points = rotation.rotate(rotation.conjugate(q[b]), parts.points[parts.owner == b] - p[b])
        d = distance.shape(points, body.shapes[0])
        size = np.ptp(points, axis=0).max()
        assert np.median(np.abs(d)) < 0.2 * size
        # under the surface: hardly any skin lies deep inside its own shape
        assert np.quantile(d, 0.1) > -0.3 * size


def beast(path, unit, tail, ears, names):
    """A beast of code names, in its own unit: a trunk with four legs, a tail of links, ears of three links, and small toes on each foot."""
    bones, segments = {names(0): (None, (0.0, 0.9, 0.0))}, [(names(0), (0, 0.9, -0.5), (0, 0.9, 0.5), 0.22)]
    count = 1

    def chain(parent, places, radius):
        nonlocal count
        made = []
        for a, b in pairwise(places):
            name = names(count)
            count += 1
            bones[name] = (parent, tuple(a))
            segments.append((name, tuple(a), tuple(b), radius))
            made.append(name)
            parent = name
        return made

    links = {"tail": chain(names(0), [(0, 0.95, -0.5 - 0.25 * k) for k in range(tail + 1)], 0.012)}
    for side in (-1.0, 1.0):
        for z in (-0.4, 0.4):
            leg = chain(names(0), [(0.2 * side, 0.8, z), (0.2 * side, 0.45, z), (0.2 * side, 0.05, z)], 0.06)
            links["toes"] = links.get("toes", []) + chain(
                leg[-1], [(0.2 * side, 0.04, z), (0.2 * side, 0.02, z + 0.06)], 0.012
            )
            links["toes"] += chain(leg[-1], [(0.2 * side + 0.03, 0.04, z), (0.2 * side + 0.03, 0.02, z + 0.06)], 0.012)
        links["ears"] = links.get("ears", []) + chain(
            names(0), [(0.12 * side, 1.1 + 0.12 * k, 0.5) for k in range(ears + 1)], 0.02 + 0.004 * (side > 0)
        )
    bones = {n: (up, tuple(v / unit for v in p)) for n, (up, p) in bones.items()}
    segments = [(n, tuple(v / unit for v in a), tuple(v / unit for v in b), r / unit) for n, a, b, r in segments]
    foreign.write_figure(path, bones, segments, size=1.0 / unit)
    return links


@pytest.mark.parametrize("unit", [1.0, 0.01])
@pytest.mark.parametrize("tail, ears", [(4, 3), (7, 2), (2, 5)])
def test_chains_at_the_ends_have_bodies_on_all_links_or_none_and_what_is_left_out_is_named(tmp_path, unit, tail, ears):
    links = beast(tmp_path / "beast.glb", unit, tail, ears, lambda k: f"N{k:03d}")
    assets = AssetStore()
    _, added, _ = add_figure(Scene(), assets, tmp_path / "beast.glb")
    figure = set_up(added, assets)
    have = set(figure.body_of)
    assert set(links["tail"]) <= have and set(links["ears"]) <= have
    # toes are small and short: none of them, and each is named with whom it goes along
    assert not set(links["toes"]) & have
    found = left_out(figure, cached_skin(figure, assets).share)
    assert (
        {b for x in found for b in x.bones} == {b.name for b in figure.bones if b.deforms} - have == set(links["toes"])
    )
    assert all(figure.carrier(b).bone == x.carrier for x in found for b in x.bones)
    # added, none is left out
    more = add_bodies(figure, assets, set(links["toes"]))
    assert not left_out(more, cached_skin(more, assets).share)


@pytest.mark.parametrize("turn, place", [(np.radians(30.0), (0.0, 0.0, 0.0)), (-1.9, (3.0, 0.2, -7.0))])
@pytest.mark.parametrize("kind", ["beast", "walker"])
def test_a_setup_is_the_same_wherever_a_figure_stands(tmp_path, kind, turn, place):
    if kind == "beast":
        beast(tmp_path / "f.glb", 0.01, 4, 3, lambda k: f"N{k:03d}")
    else:
        foreign.write_walker(tmp_path / "f.glb")
    assets = AssetStore()
    _, figure, _ = add_figure(Scene(), assets, tmp_path / "f.glb")

    def here(f):
        return f.changed(position=figure.position, turn=figure.turn)

    base, away = set_up(figure, assets), set_up(figure.changed(position=place, turn=turn), assets)
    assert away.position == place and here(away) == base
    assert mirror_pairs(away) == mirror_pairs(base) and len(mirror_pairs(base)) >= 8
    assert sides_differ(away) == sides_differ(base)
    # what is carried to the other side: a shape, its mass alone, a joint
    one = next(b for b in base.bodies if b.bone in mirror_pairs(base))
    mate = base.body_of[mirror_pairs(base)[one.bone]]

    def edited(f):
        body = one.changed(mass=3.5, shapes=(one.shapes[0].changed(position=(0.01, 0.02, 0.03)),))
        joints = tuple(j.changed(swing_y=0.3, twist=(-0.1, 0.4)) if j.child == one.id else j for j in f.joints)
        f = f.changed(bodies=tuple(body if b.id == one.id else b for b in f.bodies), joints=joints)
        return mirror_bodies(f, {one.id})

    there = edited(away)
    assert here(there) == edited(base)
    plane = mirror_plane(there)
    p, q = rigid(rest_matrices(there))

    def middle(b):
        i = there.bone_index[b.bone]
        return p[i] + rotation.rotate(q[i], np.array(b.shapes[0].position))

    bodies = {b.id: b for b in there.bodies}
    assert bodies[mate.id].mass == 3.5
    np.testing.assert_allclose(middle(bodies[mate.id]), plane.points(middle(bodies[one.id])), atol=1e-9)
    # bodies that are taken away, given again, and fitted again
    more = {"beast": {b for b in base.body_of if b.startswith("N00")}, "walker": {"Left Foot"}}[kind]
    ids = {base.body_of[b].id for b in more}
    again = [add_bodies(remove_bodies(f, assets, ids), assets, more) for f in (base, away)]
    assert here(again[1]) == again[0]
    assert here(fit_again(away, assets, {one.bone}, FitChoice("hull"))) == fit_again(
        base, assets, {one.bone}, FitChoice("hull")
    )


@pytest.mark.parametrize("turn", [0.0, 0.7])
def test_a_link_goes_to_the_other_side_with_its_points(tmp_path, turn):
    foreign.write_crawler(tmp_path / "f.glb")
    assets = AssetStore()
    _, figure, _ = add_figure(Scene(), assets, tmp_path / "f.glb")
    f = set_up(figure.changed(turn=turn, position=(2.0, 0.0, -1.0)), assets)

    def end(body, point=(0.02, -0.01, 0.03)):
        return LinkEnd(figure=f.id, body=body, point=point)

    p, q = rigid(rest_matrices(f))

    def place(x):
        i = f.bone_index[next(b.bone for b in f.bodies if b.id == x.body)]
        return p[i] + rotation.rotate(q[i], np.array(x.point))

    link = Link(id="t", name="t", kind="tie", a=end("LeftLimb0B"), b=end("LeftLimb1B"), lengths=(0.0, 0.2))
    other = mirror_link(f, link)
    assert (other.a.body, other.b.body) == ("RightLimb0B", "RightLimb1B") and other.lengths == link.lengths
    for mine, theirs in ((link.a, other.a), (link.b, other.b)):
        np.testing.assert_allclose(place(theirs), mirror_plane(f).points(place(mine)), atol=1e-6)
    # what is in the middle, and what is held besides, stays
    assert mirror_link(f, link.changed(b=end("core"))).b.body == "core"
    assert mirror_link(f, link.changed(b=LinkEnd(figure="post", body="post"))).b.figure == "post"
    assert mirror_link(f, link.changed(kind="pin", b=None)).b is None
    # and what is its own mirror image, or has no side, has no other
    assert mirror_link(f, link.changed(b=end("RightLimb0B"))) is None
    assert mirror_link(f, link.changed(a=end("core"), b=end("brow"))) is None


def test_every_body_but_one_hangs_on_its_nearest_ancestor_with_a_body(ready):
    figure, _ = ready
    assert len(figure.joints) == len(figure.bodies) - 1
    ids = {b.id: b.bone for b in figure.bodies}
    parents = {b.name: b.parent for b in figure.bones}
    for j in figure.joints:
        up = parents[ids[j.child]]
        while up not in figure.body_of:
            up = parents[up]
        assert up == ids[j.parent]


def test_limits_hold_every_frame_of_every_clip(ready):
    figure, assets = ready
    turns = clip_rotations(figure, assets)
    assert len(turns) > 10
    for joint in figure.joints:
        assert keyed_limit_excess(figure, joint, turns).max() < 1e-6, joint.id


def test_both_sides_are_set_up_alike(ready):
    figure, _ = ready
    volume = {b.bone: b.shapes[0].radius for b in figure.bodies}
    for name, radius in volume.items():
        other = name.replace("Left", "Right").replace("_l", "_r")
        if other != name and other in volume:
            assert radius == pytest.approx(volume[other], rel=0.05)


def test_knees_and_elbows_are_hinges(deckhand):
    figure, assets = deckhand
    made = set_up(figure, assets)
    kinds = {j.child: j.kind for j in made.joints}
    for bone in ("shin_l", "shin_r", "forearm_l", "forearm_r"):
        assert kinds[bone] == "hinge"
    assert kinds["thigh_l"] == kinds["head"] == "ball"


def kinds_of(path):
    assets = AssetStore()
    return {j.child: j.kind for j in set_up(read_figure(path, assets).figure, assets).joints}


def test_the_place_in_the_skeleton_tells_knees_of_a_creature_of_code_names(tmp_path):
    kinds = kinds_of(foreign.write_crawler(tmp_path / "c.glb"))
    assert len(kinds) == 14
    for child, kind in kinds.items():
        # the second link of each of its six legs, whatever its clip does with the first
        assert kind == ("hinge" if child.endswith("B") else "ball"), child


@pytest.mark.parametrize("names", [True, False])
@pytest.mark.parametrize("bone", ["Left Thigh", "Right UpperArm", "Mate Skull"])
def test_a_clip_alone_makes_no_hinge_of_a_ball(tmp_path, bone, names):
    """One that turns a hip, a shoulder or the neck about one axis only. With names that say nothing and no clip, knees are still hinges."""
    path = foreign.write_walker(tmp_path / "w.glb", clip=foreign.swing_clip(bone, degrees=50.0))
    assets = AssetStore()
    figure = read_figure(path, assets).figure
    new = {
        b.name: b.name if names else f"n{'lr'[b.name[0] == 'R'] if ' ' in b.name else ''}{k:02d}"
        for k, b in enumerate(figure.bones)
    }
    if not names:
        bones = tuple(b.changed(name=new[b.name], parent=new.get(b.parent)) for b in figure.bones)
        mirror = tuple((new[a], new[a.replace("Left", "Right")]) for a in new if a.startswith("Left"))
        figure = figure.changed(bones=bones, mirror=mirror, clips=(), clip=None)
    made = set_up(figure, assets)
    kinds = {j.child: j.kind for j in made.joints}
    assert kinds[new[bone]] == "ball"
    knees = ("Left Calf", "Right Calf") if not names else ("Left Calf", "Right Calf", "Left Elbow", "Right Elbow")
    assert all(kinds[new[b]] == "hinge" for b in knees)


def test_small_bones_are_merged_into_their_parents(deckhand):
    figure, assets = deckhand
    bones = {b.bone for b in fit_bodies(figure, assets)}
    assert not bones & {"fingers_l", "thumb_l", "fingers_r", "thumb_r"}
    assert {"hips", "chest", "head", "hand_l", "thigh_r", "shin_r"} <= bones


def test_a_figure_without_a_mesh_is_refused_in_words():
    with pytest.raises(ArtulineError, match="no mesh"):
        fit_bodies(Figure(id="f", name="f", bones=(Bone(name="a"),)), AssetStore())


@pytest.mark.parametrize(
    "size, unit",
    [(1.7, 1.0), (0.4, 1.0), (6.0, 1.0), (170.0, 0.01), (1750.0, 0.001), (69.0, 0.0254), (18.0, 0.01), (0.0, 1.0)],
)
def test_the_unit_is_guessed_from_the_size(size, unit):
    assert likely_unit(size) == unit


@pytest.mark.parametrize(
    "name, segment",
    [
        ("thigh_l", "thigh"), ("LeftUpLeg", "thigh"), ("Right Calf", "shin"), ("upper_arm_r", "upper arm"),
        ("LowerArm left", "forearm"), ("Mate Spine2", "spine"), ("paw_fl", "foot"), ("link.07", None),
    ],
)  # fmt: skip
def test_names_tell_the_segment(name, segment):
    assert segment_of(name) == segment
