"""What trying it showed to be false: cut exports, figures alike in name, joints that give way along an axis, flat skeletons, fits."""

import math

import numpy as np
import pytest

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.bake.merged import merged_clip
from artuline.core.checks.checks import check
from artuline.core.checks.takes import check_take
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_pose
from artuline.core.motion.skeleton import placement, rigid, skeleton_of
from artuline.core.run.measures import measure_take
from artuline.core.run.record import run
from artuline.core.run.shown import loose_bones
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Body, Bone, Figure, LinkEnd, Scene, Shape
from artuline.core.setup.hierarchy import body_parents
from artuline.core.setup.measure import measure
from artuline.core.setup.overlaps import body_overlaps
from artuline.core.setup.patch_fit import extent
from artuline.core.setup.ragdoll import join, set_up
from artuline.core.setup.skin import cached_skin
from artuline.demo.figures import DATA
from artuline.formats.gltf_read import read_figure
from tests import foreign


@pytest.fixture(scope="module")
def baked(boom_run):
    scene, assets, take = boom_run
    made = bake_figure(scene, assets, scene.figures[0], take, BakeWish(1.0, 10.0))
    return add_layer(scene, assets, scene.figures[0].id, made, "take 1 baked"), assets


@pytest.mark.parametrize(
    "start, end",
    [(0, 168), (54, 151), (60, 61), (70, 72), (0, 52), (150, 168), (157, 168), (0, 30), (48, 157), (100, 400)],
)
def test_an_export_of_any_range_is_the_motion_that_is_seen(baked, start, end):
    """Ranges that cut into a baked layer, hold no key of it, or miss it: at whole frames and between, in another reader's evaluation."""
    scene, assets = edit.scene(baked[0], start=start, end=end), baked[1]
    figure = scene.figures[0]
    clip = merged_clip(scene, assets, figure)
    frames = np.arange(start, end + 0.01, 0.25)
    seen = clip.sample(skeleton_of(figure), (frames - start) / scene.rate)
    wanted = keyed_pose(scene, assets, figure, frames)
    # between the frames at a layer's ends the clip's curves are straight and the layer's are not
    whole = frames == np.round(frames)
    inside = (frames > 50) & (frames < 155)
    moving = sorted({figure.bone_index[c.bone] for c in clip.channels})
    angle = np.degrees(rotation.angle_between(seen.rotation, wanted.rotation))[:, moving]
    assert angle[whole].max() < 0.1 and angle[inside].max(initial=0.0) < 0.3
    np.testing.assert_allclose(seen.translation[whole], wanted.translation[whole], atol=1e-6)
    for c in clip.channels:
        assert c.times[0] == pytest.approx(0.0) and c.times[-1] == pytest.approx((end - start) / scene.rate)
        assert (np.diff(c.times) > 0).all()
        if c.path == "rotation":
            q = c.values[:, 1] if c.interpolation == "CUBICSPLINE" else c.values
            np.testing.assert_allclose(np.linalg.norm(q, axis=1), 1.0, atol=5e-3)


def test_figures_alike_in_name_are_told_apart(boom):
    """*deckhand* and *deckhand 2*: each bakes its own interval, and measures say whose body it is."""
    scene, assets = boom
    one = scene.figures[0].changed(groups=(), clip="stand")
    two = one.changed(id="deckhand 2", name="deckhand 2", position=(2.0, 0.0, 0.0))
    scene = scene.changed(figures=(one, two), end=40)
    scene = edit.hand_over(scene, "deckhand", None, 20, 36, 0, 4)
    scene = edit.hand_over(scene, "deckhand 2", None, 4, 30, 0, 4)
    take = run(scene, assets)
    spans = [(b.start, b.end) for b in (bake_figure(scene, assets, f, take, BakeWish(2.0, 20.0)) for f in (one, two))]
    assert spans == [(20, 36), (4, 30)]
    assert len(set(take.bodies)) == len(take.bodies) and len(set(take.joints)) == len(take.joints)
    a, b = take.column("deckhand", "head"), take.column("deckhand 2", "head")
    assert abs(take.position[0, a, 0] - take.position[0, b, 0]) == pytest.approx(2.0, abs=1e-6)
    deep = take.penetration.copy()
    deep[25, b] = 0.05
    from dataclasses import replace

    spoiled = replace(take, penetration=deep)
    worst = next(m for m in measure_take(scene, spoiled) if m.name == "Pressed in")
    assert worst.where == ("deckhand 2", "head") and worst.place == "deckhand 2: head"
    found = next(f for f in check_take(scene, spoiled) if "50 mm" in f.text)
    assert (found.figure, found.bone) == ("deckhand 2", "head")


def slider(kind="slide", **values):
    """A ball on a rail below a keyed block, as a figure of two bones."""
    bones = (
        Bone(name="block", deforms=True),
        Bone(name="ball", parent="block", translation=(0.0, 0.0, 0.0), deforms=True),
    )
    bodies = (
        Body(id="block", bone="block", shapes=(Shape(kind="box", half=(0.1, 0.1, 0.1)),)),
        Body(id="ball", bone="ball", shapes=(Shape(kind="sphere", radius=0.05),)),
    )
    figure = Figure(
        id="f", name="f", bones=bones, bodies=bodies, pairs_off=(("block", "ball"),), position=(0.0, 2.0, 0.0)
    )
    figure = join(figure, "ball", "block")
    down = tuple(rotation.from_rotation_vector(np.array([0.0, 0.0, -math.pi / 2])))
    joint = figure.joints[0].changed(kind=kind, frame=down, parent_frame=down, **values)
    scene = Scene(figures=(figure.changed(joints=(joint,)),), ground=None, start=0, end=24)
    return edit.hand_over(scene, "f", "ball", 0, 99, 0, 0)


@pytest.mark.parametrize(
    "kind, values",
    [
        ("slide", {"slide": (-0.2, 0.2)}),
        ("axes", {"axes": ((-0.2, 0.2), *((0.0, 0.0),) * 5)}),
        ("ball", {"break_force": 0.02}),
    ],
)
def test_what_moves_along_an_axis_is_shown_where_it_is(kind, values):
    """A joint that frees a linear axis, or breaks, moves its bone in what is shown as in the world, and in what is baked of it."""
    scene, assets = slider(kind, **values), AssetStore()
    figure = scene.figures[0]
    take = run(scene, assets)
    fell = 2.0 - take.position[-1, take.column("f", "ball"), 1]
    assert fell > 0.19
    p, _ = rigid(skeleton_of(figure).global_matrices(take.poses["f"], placement(figure)))
    np.testing.assert_allclose(p[:, 1], take.position[:, take.column("f", "ball")], atol=1e-9)
    made = bake_figure(scene, assets, figure, take, BakeWish(1.0, 2.0))
    layered = add_layer(scene, assets, "f", made, "baked")
    shown = keyed_pose(layered, assets, layered.figure("f"), take.frames.astype(float))
    at = rigid(skeleton_of(figure).global_matrices(shown, placement(figure)))[0][:, 1]
    assert np.linalg.norm(at - take.position[:, take.column("f", "ball")], axis=1).max() < 2.1e-3
    assert loose_bones(figure) == {0, 1}


def test_what_refers_to_what_is_removed_goes_with_it(demo, qtbot):
    s = demo.session
    pair = (LinkEnd(figure="boom", body="boom"), LinkEnd(figure="deckhand", body="head"))
    assert s.edit("A pair", lambda sc: edit.scene(sc, pairs_off=(pair,)))
    demo.room("Blend").commands.forces.remove_obstacle("boom")
    assert not s.scene.pairs_off and all(o.id != "boom" for o in s.scene.obstacles)
    s.select("deckhand", frozenset({"head"}))
    demo.room("Blend").commands.add_push()
    demo.room("Blend").commands.holds.hold_selected()
    assert s.scene.pushes and s.scene.links
    demo.room("Cast").commands.remove_figure()
    assert not (s.scene.pushes or s.scene.links or s.scene.cast)


# figures that nobody made for this


@pytest.fixture(scope="module")
def hand(tmp_path_factory):
    assets = AssetStore()
    figure = read_figure(foreign.write_hand(tmp_path_factory.mktemp("hand") / "hand.glb"), assets).figure
    return set_up(figure, assets), assets


def test_a_flat_skeleton_gets_a_tree_by_its_skin(hand):
    figure, assets = hand
    assert figure.unit == 0.01 and len(figure.bodies) == 16 and len(figure.joints) == 15
    hangs = {j.child: j.parent for j in figure.joints}
    for finger in "timrp":
        assert [hangs[f"{finger}{k}"] for k in (1, 2, 3)] == ["palm", f"{finger}1", f"{finger}2"]
    assert figure.below("i1") == {"i1", "i2", "i3"} and len(figure.limbs()) == 5
    # nothing is left that one action would mend
    assert [f.text for f in check(Scene(figures=(figure,)), assets) if "never handed over" not in f.text] == []
    bare = figure.changed(joints=())
    loose = [f for f in check(Scene(figures=(bare,)), assets) if "hang on nothing" in f.text]
    assert len(loose) == 1 and "15 bodies" in loose[0].text
    mended = loose[0].fix(Scene(figures=(bare,)))
    assert {j.child: j.parent for j in mended.figures[0].joints} == hangs


def test_a_flat_hand_falls_as_one_and_is_baked(hand):
    figure, assets = hand
    scene = Scene(figures=(figure.changed(position=(0.0, 0.3, 0.0)),), start=0, end=30, rate=24.0)
    scene = edit.hand_over(scene, figure.id, None, 2, 99, 0, 0)
    take = run(scene, assets)
    assert take.separation.max() < 1e-4
    p, _ = rigid(skeleton_of(figure).global_matrices(take.poses[figure.id], placement(scene.figures[0])))
    for b in figure.bodies:
        np.testing.assert_allclose(
            p[:, figure.bone_index[b.bone]], take.position[:, take.column(figure.id, b.id)], atol=1e-6
        )
    made = bake_figure(scene, assets, scene.figures[0], take, BakeWish(2.0, 5.0))
    assert max(made.millimetres.values()) < 5.0


def test_a_tree_that_the_skeleton_has_is_kept(deckhand):
    figure, assets = deckhand
    made = set_up(figure, assets)
    parents = body_parents(figure, assets, made.bodies)
    assert parents == {j.child: j.parent for j in made.joints} and parents["hand_l"] == "forearm_l"


@pytest.mark.parametrize("which", ["deckhand", "goat", "walker", "crawler", "hand"])
def test_most_shapes_hold_most_of_their_skin_and_hardly_stand_out(tmp_path, which):
    """At least 85 % inside and less than 10 % of the size proud, by the median over the bodies."""
    assets = AssetStore()
    writers = {"walker": foreign.write_walker, "crawler": foreign.write_crawler, "hand": foreign.write_hand}
    path = writers[which](tmp_path / f"{which}.glb") if which in writers else DATA / f"{which}.glb"
    figure = set_up(read_figure(path, assets).figure, assets)
    fits = measure(figure, cached_skin(figure, assets), body_overlaps(figure))
    size = {b.id: max(extent(s) for s in b.shapes) for b in figure.bodies}
    assert np.median([f.inside for f in fits]) >= 0.85
    assert np.median([f.proud / size[f.body] for f in fits]) < 0.1
    assert not [f for f in check(Scene(figures=(figure,)), assets) if " kg" in f.text]
