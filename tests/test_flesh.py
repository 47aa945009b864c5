"""Added bones, their weights, and flesh that wobbles: what adds up, what comes back, and closed forms of springs."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.checks.weights import check_weights
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_matrices, keyed_pose
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Body, Bone, Figure, Flesh, Group, Joint, Lane, Push, Scene, Shape, Spring
from artuline.core.setup.added import (
    added_bone,
    carrier_at,
    ends_of,
    entry_of,
    grown,
    inside,
    reach_of,
    regrown,
    removed,
    renamed,
)
from artuline.core.setup.materials import uneven
from artuline.core.setup.skin import cached_skin
from artuline.core.setup.springy import KINDS, kind_of, made_springy, tuned, wobble_scene
from artuline.core.setup.weights import along_surface, entry_weights, fallen_off, smoothed_share, with_share
from artuline.demo.scenes import demo_scene
from artuline.formats.deliver import deliver
from artuline.formats.gltf_read import read_figure
from artuline.formats.scene_file import load_scene, save_scene


@pytest.fixture(scope="module")
def plump(boom):
    """The deckhand with a belly, and cheeks on both sides."""
    scene, assets = boom
    front, middle = inside(scene.figures[0], assets, np.array([0.0, 1.05, 3.0]), np.array([0.0, 0.0, -1.0]))
    made = grown(scene, assets, "deckhand", "belly", middle, middle + 0.85 * (front - middle))
    head = rigid(rest_matrices(scene.figures[0]))[0][scene.figures[0].bone_index["head"]]
    cheek = head + np.array([0.05, 0.06, 0.08])
    made = grown(
        made, assets, "deckhand", "cheek_l", head, cheek, Flesh(end=(0, 0, 0), radius=0.05), parent="head", both=True
    )
    return made, assets


def mesh_of(scene, assets):
    return Mesh.from_arrays(assets[scene.figures[0].asset])


def test_a_bone_is_put_into_the_middle_of_a_volume(boom):
    scene, assets = boom
    figure, skin = scene.figures[0], cached_skin(boom[0].figures[0], assets)
    front, middle = inside(figure, assets, np.array([0.0, 1.05, 3.0]), np.array([0.0, 0.0, -1.0]))
    assert np.linalg.norm(skin.points - front, axis=1).min() < 0.02 and skin.holds(middle[None])[0]
    assert skin.outside(middle[None])[0] < -0.05 and carrier_at(figure, assets, front) in ("hips", "spine")
    with pytest.raises(ArtulineError, match="no skin there"):
        inside(figure, assets, np.array([9.0, 1.05, 3.0]), np.array([0.0, 0.0, -1.0]))


def test_an_added_bone_takes_skin_and_gives_it_back(plump, boom):
    """At rest nothing moves; weights add up; every clip plays as before; and without the bones the figure is the one that it was, to the last bit."""
    scene, assets = plump
    figure, before = scene.figures[0], boom[0].figures[0]
    mesh = mesh_of(scene, assets)
    np.testing.assert_allclose(mesh.weights.sum(axis=1), 1.0, atol=1e-6)
    np.testing.assert_allclose(mesh.skin(rest_matrices(figure)), mesh_of(*boom).skin(rest_matrices(before)), atol=2e-6)
    frames = np.array([0.0, 31.0, 60.0])
    a, b = (keyed_matrices(s, assets, s.figures[0], frames) for s in (scene, boom[0]))
    np.testing.assert_array_equal(a[:, : len(before.bones)], b)
    # a bone that rests in its parent moves the skin as its parent did
    here, there = (m.skin(x[1]) for m, x in ((mesh, a), (mesh_of(*boom), b)))
    belly = entry_weights(mesh, entry_of(figure, mesh, "belly"))
    assert belly.max() > 0.95 and 20 < (belly > 0.1).sum() < 0.4 * len(belly)
    only_hips = (
        mesh_of(*boom).bone_weights(len(before.bones))[:, before.bone_index[str(added_bone(figure, "belly").parent)]]
        > 0.999
    )
    np.testing.assert_allclose(here[only_hips], there[only_hips], atol=2e-6)
    points = mesh_of(*boom).skin(rest_matrices(before))
    for side in "lr":
        share = entry_weights(mesh, entry_of(figure, mesh, f"cheek_{side}"))
        np.testing.assert_allclose(share, reach_of(figure, mesh, points, f"cheek_{side}"), atol=1e-6)
        assert share.sum() > 20.0
    left = scene
    for name in ("cheek_l", "belly", "cheek_r"):
        left = removed(left, assets, "deckhand", name)
        np.testing.assert_allclose(mesh_of(left, assets).weights.sum(axis=1), 1.0, atol=1e-6)
    assert left.figures[0] == before


def test_a_bone_is_moved_named_and_refused(plump, tmp_path):
    scene, assets = plump
    start, end = ends_of(scene.figures[0], "belly")
    made = regrown(scene, assets, "deckhand", "belly", start=start + [0.0, 0.05, 0.0], end=end + [0.0, 0.05, 0.03])  # noqa: RUF005
    np.testing.assert_allclose(
        ends_of(made.figures[0], "belly"), [start + np.array([0, 0.05, 0]), end + np.array([0, 0.05, 0.03])], atol=1e-9
    )
    rest = [mesh_of(s, assets).skin(rest_matrices(s.figures[0])) for s in (scene, made)]
    np.testing.assert_allclose(*rest, atol=2e-6)
    centre = [
        np.average(rest[0], axis=0, weights=entry_weights(m, entry_of(s.figures[0], m, "belly")))
        for s in (scene, made)
        for m in [mesh_of(s, assets)]
    ]
    assert 0.02 < centre[1][1] - centre[0][1] < 0.08
    named = renamed(made, assets, "deckhand", "belly", "paunch")
    save_scene(tmp_path / "plump.artuline", named, assets)
    other = AssetStore()
    back = load_scene(tmp_path / "plump.artuline", other)
    assert back == named and removed(back, other, "deckhand", "paunch").figures[0].bone_index.keys() == {
        *boom_bones(scene)
    } - {"belly"}
    for do in (
        lambda: removed(scene, assets, "deckhand", "hips"),
        lambda: renamed(scene, assets, "deckhand", "belly", "head"),
        lambda: grown(scene, assets, "deckhand", "head", start, end),
    ):
        with pytest.raises(ArtulineError):
            do()


def boom_bones(scene):
    return [b.name for b in scene.figures[0].bones]


def test_both_sides_are_named_as_the_figures_bones_are(boom):
    """Left is where its left bones are, whichever side was clicked."""
    scene, assets = boom
    hips = rigid(rest_matrices(scene.figures[0]))[0][scene.figures[0].bone_index["hips"]]
    for side in (1.0, -1.0):
        out = hips + np.array([side * 0.12, 0.0, 0.05])
        made = grown(scene, assets, "deckhand", "flank", hips, out, both=True).figures[0]
        names = [b.name for b in made.bones[-2:]]
        assert sorted(names) == ["flank_l", "flank_r"] and names[0] == ("flank_l" if side > 0.0 else "flank_r")
        assert ends_of(made, "flank_l")[1][0] > 0.1 > -0.1 > ends_of(made, "flank_r")[1][0]


def test_reach_along_the_skin_stays_on_its_part():
    """All of the satchel follows its bone, and nothing of the coat, which it touches."""
    assets = AssetStore()
    scene = demo_scene("belly", assets)
    figure, mesh = scene.figure("deckhand"), Mesh.from_arrays(assets[scene.figure("deckhand").asset])
    share = entry_weights(mesh, entry_of(figure, mesh, "satchel"))
    leather = np.zeros(len(share), bool)
    leather[np.unique(mesh.triangles[mesh.material == len(figure.materials) - 1])] = True
    assert share[leather].min() > 0.9 and share[~leather].max() == 0.0
    wide = regrown(
        scene, assets, "deckhand", "satchel", flesh=added_bone(figure, "satchel").flesh.changed(by="volume", radius=0.2)
    )
    mesh = Mesh.from_arrays(assets[wide.figure("deckhand").asset])
    assert entry_weights(mesh, entry_of(wide.figure("deckhand"), mesh, "satchel"))[~leather].max() > 0.3


def test_distances_along_a_skin_are_those_of_its_edges():
    """On a strip of squares: along it, and never across a gap."""
    points = np.array([[x, 0.0, z] for x in range(20) for z in (0.0, 1.0)] + [[x, 0.1, 0.5] for x in range(3)])
    edges = (
        [(2 * k, 2 * k + 2) for k in range(19)]
        + [(2 * k + 1, 2 * k + 3) for k in range(19)]
        + [(2 * k, 2 * k + 1) for k in range(20)]
    )
    found = along_surface(points, np.array(edges), np.array([0]), 10.5)
    np.testing.assert_allclose(found[:22:2], np.arange(11))
    assert np.isinf(found[22:]).all() and np.isinf(found[-3:]).all()


@settings(max_examples=25)
@given(st.integers(0, 10**6), st.integers(1, 12))
def test_weights_add_up_after_every_edit(boom, seed, edits):
    """Random shares given and taken, with 4 and 8 bones a vertex; the entry has what it was given, as far as others are there to take the rest."""
    scene, assets = boom
    rng, figure = np.random.default_rng(seed), scene.figures[0]
    plain = mesh_of(scene, assets)
    start = rigid(rest_matrices(figure))[0][figure.bone_index["hips"]]
    made = grown(scene, assets, "deckhand", "one", start, start + np.array([0.0, 0.0, 0.15]))
    made = grown(made, assets, "deckhand", "two", start, start + np.array([0.05, 0.0, 0.15]))
    mesh, most = mesh_of(made, assets), int(rng.choice([4, 8]))
    for _ in range(edits):
        entry = entry_of(made.figures[0], mesh, str(rng.choice(["one", "two"])))
        share = entry_weights(mesh, entry)
        some = rng.random(len(share)) < 0.3
        share[some] = rng.choice([0.0, 1.0, 0.5, rng.random()], some.sum())
        mesh = with_share(mesh, plain, entry, share, most)
        np.testing.assert_allclose(mesh.weights.sum(axis=1), 1.0, atol=1e-6)
        np.testing.assert_allclose(entry_weights(mesh, entry), share, atol=2e-6)
        assert (mesh.weights >= 0.0).all() and (np.count_nonzero(mesh.weights, axis=1) <= most).all()


def test_a_brush_smooths_and_profiles_fall():
    edges = np.array([[k, k + 1] for k in range(9)])
    share = np.array([0, 0, 0, 0, 1, 0, 0, 0, 0, 0], float)
    calm = smoothed_share(share, edges, np.full(10, 0.5))
    np.testing.assert_allclose(calm[3:6], [0.25, 0.5, 0.25])
    for profile in ("smooth", "dome", "linear"):
        fallen = fallen_off(np.linspace(0.0, 2.0, 41), 1.0, profile)
        assert fallen[0] == pytest.approx(1.0) and (fallen[20:] == 0.0).all() and (np.diff(fallen) <= 1e-9).all()


def hung(mass, frequency, ratio, *, gravity=0.0, rate=24.0, substeps=10, both=False):
    """A body on one that stands still (or floats as freely), held by springs as flesh is."""
    bones = (Bone(name="hip"), Bone(name="belly", parent="hip", translation=(0.0, 0.0, 0.1)))
    bodies = (
        Body(id="hip", bone="hip", mass=3.0 * mass if both else 30.0, shapes=(Shape(kind="sphere", radius=0.1),)),
        Body(id="belly", bone="belly", mass=mass, shapes=(Shape(kind="sphere", radius=0.05),)),
    )
    spring = Spring(frequency=frequency, ratio=ratio, gravity=gravity)
    group = Group(id="g", name="belly", bones=() if both else ("belly",), handover=Lane(rest=1.0), spring=spring)
    figure = Figure(
        id="f", name="f", bones=bones, position=(0.0, 1.0, 0.0), bodies=bodies, joints=(Joint(id="belly", parent="hip", child="belly"),),
        pairs_off=(("hip", "belly"),), groups=(group,),
    )  # fmt: skip
    figure = tuned(figure, "belly", frequency, ratio, 0.3, math.radians(20.0))
    return Scene(rate=rate, start=0, end=round(3.0 * rate), substeps=substeps, figures=(figure,), ground=None)


def damped(frequency, ratio, t):
    """The sag g / omega^2 of a damped oscillator, and its way from where nothing pulls, at times (F,)."""
    w = 2.0 * math.pi * frequency
    sag, d = 9.81 / w**2, w * math.sqrt(1.0 - ratio**2)
    return sag, -sag * (1.0 - np.exp(-ratio * w * t) * (np.cos(d * t) + ratio * w / d * np.sin(d * t)))


@pytest.mark.parametrize(("mass", "frequency", "ratio", "rate", "substeps"), [
    (0.05, 2.0, 0.1, 24.0, 10), (0.5, 4.0, 0.25, 24.0, 10), (5.0, 8.0, 0.15, 24.0, 20), (0.5, 4.0, 0.25, 60.0, 4), (5.0, 2.0, 0.05, 30.0, 5),
])  # fmt: skip
def test_flesh_sags_and_swings_by_the_closed_form(mass, frequency, ratio, rate, substeps):
    """From its place it swings about the sag g / omega^2 with the frequency and the decay of a damped oscillator: within 2 % of the sag, whatever it weighs."""
    scene = hung(mass, frequency, ratio, gravity=1.0, rate=rate, substeps=substeps)
    take = run(scene, AssetStore())
    y = take.position[:, take.column("f", "belly"), 1] - 1.0
    sag, exact = damped(frequency, ratio, take.frames / rate)
    assert np.abs(y - exact).max() < 0.02 * sag
    assert y[-1] == pytest.approx(exact[-1], abs=0.005 * sag)


def test_two_that_float_swing_by_their_reduced_mass():
    """Frequency and ratio are those of the motion between the two, whatever each weighs; their centre of mass stays."""
    scene = hung(0.5, 3.0, 0.1, both=True)
    figure = scene.figures[0]
    body = figure.bodies[1].changed(shapes=(figure.bodies[1].shapes[0],))
    figure = figure.changed(bodies=(figure.bodies[0], body), gravity=False, self_collision=False)
    apart = figure.joints[0].changed(axes=((-0.3, 0.3),) * 3 + figure.joints[0].axes[3:])
    scene = edit.scene(scene, figures=(figure.changed(joints=(apart,), velocity=(0.0, 0.0, 0.0)),))
    push = Push(id="p", figure="f", body="belly", start=2, impulse=(0.0, 0.0, 0.05))
    take = run(edit.scene(scene, pushes=(push,)), AssetStore())
    # along the line between the two, so that neither turns
    a, b = (take.position[:, take.column("f", n), 2] for n in ("hip", "belly"))
    gap = (b - a)[3:] - 0.1
    crossings = np.flatnonzero(np.diff(np.sign(gap)))
    times = [3 + k + gap[k] / (gap[k] - gap[k + 1]) for k in crossings[:6]]
    period = 2.0 * np.mean(np.diff(times)) / scene.rate
    assert 1.0 / period == pytest.approx(3.0 * math.sqrt(1.0 - 0.01), rel=0.03)
    centre = (3.0 * a + b)[4:]
    np.testing.assert_allclose(np.diff(centre, 2), 0.0, atol=1e-5)


def test_a_belly_wobbles_under_every_clip_and_leaves(plump, tmp_path):
    """One action makes it springy; physics moves nothing else; baked and written, another reader has the bone's motion."""
    scene, assets = plump
    made = made_springy(scene, assets, "deckhand", "belly", kind_of("fat"))
    figure = made.figures[0]
    assert uneven(made_springy(scene, assets, "deckhand", "cheek_l", kind_of("fat")).figures[0]) is None, (
        "a cheek may be light"
    )
    joint = figure.joint_of[figure.body_of["belly"].id]
    assert joint.kind == "axes" and joint.spring_frequency == 4.0 and figure.body_of["belly"].density == 900.0
    for clip in ("walk", "stand"):
        alone = wobble_scene(made, "deckhand", clip)
        take = run(alone, assets)
        keyed = keyed_pose(alone, assets, alone.figures[0], take.frames.astype(float))
        off = np.linalg.norm(take.poses["deckhand"].translation - keyed.translation, axis=2).max(axis=0)
        moved = np.flatnonzero(off > 1e-6)
        assert [figure.bones[i].name for i in moved] == ["belly"] and off.max() < 0.08
    with pytest.raises(ArtulineError, match="no flesh"):
        kind_of("stone")
    assert all(k.source and k.density > 0.0 for k in KINDS)
    take = run(made.changed(end=60), assets)
    short = made.changed(end=60)
    baked = bake_figure(short, assets, figure, take, BakeWish(0.5, 1.0, bones=frozenset({"belly"})))
    layered = add_layer(short, assets, "deckhand", baked, "wobble")
    (path,) = deliver(tmp_path / "belly.glb", layered, assets, ["deckhand"])
    other = AssetStore()
    back = read_figure(path, other).figure
    frames = np.arange(0.0, 61.0)
    now = keyed_pose(
        Scene(figures=(back.changed(clip=back.clips[0].name),), end=60),
        other,
        back.changed(clip=back.clips[0].name),
        frames,
    )
    then = keyed_pose(layered, assets, layered.figures[0], frames)
    i, k = back.bone_index["belly"], figure.bone_index["belly"]
    assert rotation.angle_between(now.rotation[:, i], then.rotation[:, k]).max() < 1e-3
    np.testing.assert_allclose(now.translation[:, i], then.translation[:, k], atol=1e-4)


def test_checks_of_weights_find_and_mend(plump):
    scene, assets = plump
    assert check_weights(scene.figures[0], assets) == []
    mesh = mesh_of(scene, assets)
    weights = np.array(mesh.weights)
    weights[:5] = 0.0
    weights[10:20] *= 0.5
    spoiled = edit.figure(scene, "deckhand", asset=assets.add(mesh.to_arrays() | {"weights": weights}))
    found = check_weights(spoiled.figures[0], assets)
    assert "5 vertices" in found[0].text and "10 vertices" in found[1].text
    assert check_weights(found[0].fix(spoiled).figures[0], assets) == []
    share = entry_weights(mesh, entry_of(scene.figures[0], mesh, "belly"))
    far = share.copy()
    far[np.argsort(mesh.positions[:, 1])[-3:]] = 1.0
    specks = regrown(scene, assets, "deckhand", "belly", share=far)
    (finding,) = check_weights(specks.figures[0], assets)
    assert "specks" in finding.text and finding.bone == "belly"
    mended = finding.fix(specks)
    assert check_weights(mended.figures[0], assets) == []
    none = regrown(scene, assets, "deckhand", "belly", share=np.zeros(len(share)))
    (finding,) = check_weights(none.figures[0], assets)
    assert "carries no skin" in finding.text and check_weights(finding.fix(none).figures[0], assets) == []
