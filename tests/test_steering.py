"""Figures that are steered: gaits, feet, knocks, the mirror, what is kept; by what the feet, the bodies and the bits do."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from artuline.core.errors import ArtulineError
from artuline.core.motion.gaits import forward_of, stride_of
from artuline.core.motion.keyed import load_clip
from artuline.core.motion.paces import Paces
from artuline.core.motion.skeleton import rest_matrices, rigid, skeleton_of
from artuline.core.run.directed import direct, words_of
from artuline.core.run.kept import Watcher, again, keep, same
from artuline.core.run.steered import Steered
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Gait, Group, Lane, MotionKey, Shape, Spring, Steering, StrandPoint, obstacle
from artuline.core.setup.gait_proposal import propose_steering
from artuline.core.setup.reflected import not_reflected, reflected
from artuline.core.setup.strand import add_strand
from artuline.core.setup.strand_kinds import ready
from artuline.demo.figures import DATA, ready_figure
from artuline.formats.gltf_read import read_clips
from artuline.formats.scene_file import load_scene, save_scene
from tests.steering import Seen, deckhand_scene, goat_scene, led_scene, slides


@pytest.fixture(scope="module")
def man():
    return deckhand_scene()


@pytest.fixture(scope="module")
def steer():
    return led_scene()


def paces_of(figure, assets):
    how = propose_steering(figure, assets)
    refs = {c.name: c for c in figure.clips}
    return Paces([stride_of(figure, assets, refs[g.clip]) for g in how.gaits], [g.speed for g in how.gaits])


def test_gaits_are_proposed_by_what_clips_do(man):
    scene, assets, _ = man
    how = propose_steering(scene.figures[0], assets)
    assert [(g.clip, round(g.speed, 1)) for g in how.gaits] == [("stand", 0.0), ("walk", 1.4), ("run", 2.6)]
    assert set(how.rises) == {"rise from back", "rise from front"}
    with pytest.raises(ArtulineError, match="no clip to go with"):
        propose_steering(scene.figures[0].changed(clips=(), clip=None), assets)


@pytest.mark.parametrize("unit", [1.0, 0.01])
def test_a_clip_on_the_spot_asks_for_the_speed_of_its_feet(man, unit):
    scene, assets, _ = man
    figure = scene.figures[0]
    ref = next(c for c in figure.clips if c.name == "walk")
    arrays = dict(assets[ref.asset])
    clip = load_clip(assets, ref.asset)
    k = next(i for i, c in enumerate(clip.channels) if c.path == "translation")
    values = arrays[f"{k}.values"].copy()
    values[:, 2] -= np.linspace(0.0, values[-1, 2] - values[0, 2], len(values))
    for i, c in enumerate(clip.channels):
        if c.path == "translation":
            arrays[f"{i}.values"] = (values if i == k else arrays[f"{i}.values"]) / unit
    bones = tuple(b.changed(translation=tuple(np.array(b.translation) / unit)) for b in figure.bones)
    still = figure.changed(unit=unit, bones=bones, clips=(ref.changed(asset=assets.add(arrays)),), clip="walk")
    stride = stride_of(still, assets, still.clips[0])
    assert not stride.way.any()
    assert stride.speed == pytest.approx(1.4, rel=0.03)
    assert np.allclose(stride.forward, forward_of(still), atol=0.05)


@given(st.floats(0.0, 3.0), st.floats(0.0, 5.0))
@settings(max_examples=60)
def test_steps_of_a_mixture_go_as_far_as_its_speed(speed, phase):
    paces = _PACES
    shares, still, rate = paces.mix(speed)
    assert sum(p.length * share for p, share in shares) * rate == pytest.approx(speed, rel=1e-6, abs=1e-9)
    assert 0.0 <= still <= 1.0
    pose, swings = paces.pose(speed, phase, phase)
    assert np.allclose(np.linalg.norm(pose.rotation, axis=1), 1.0)
    assert ((swings >= 0.0) & (swings <= 1.0)).all()


_MAN = deckhand_scene()
_PACES = paces_of(_MAN[0].figures[0], _MAN[1])


@pytest.mark.parametrize(
    ("make", "speed"),
    [(deckhand_scene, 0.4), (deckhand_scene, 1.4), (deckhand_scene, 2.0), (goat_scene, 1.0)],
)
def test_feet_that_stand_stay_where_they_are(make, speed):
    found = slides(*make(), speed, seconds=4.0, before=3.0)
    assert found.worst < 0.008
    assert found.lowest > -0.02


def test_nothing_jumps_when_speed_direction_or_side_change(man):
    scene, assets, id_ = man
    made = Steered(scene, assets, 0.0, {id_: None})
    track = Seen(made, id_)
    track.go(3.0, 2.6)
    running = track.go(2.0, 2.6)
    assert track.go(1.5, 0.0) < 1.15 * running
    made.turn_about(id_)
    assert track.go(2.0, 1.4, 0.0) < 1.15 * running
    heading = made.pilots[id_].heading
    assert (heading - np.pi) % (2 * np.pi) == pytest.approx(0.0, abs=0.1) or (heading + np.pi) % (
        2 * np.pi
    ) == pytest.approx(0.0, abs=0.1)
    track.mirror()
    assert track.go(1.0, 1.4, 1.0) < 1.15 * running
    assert made.flips(id_)


@pytest.mark.parametrize("way", [(0.0, 1.0), (1.0, 0.0), (0.0, -1.0)])
def test_what_is_knocked_over_lies_and_gets_up_with_its_feet_on_the_ground(man, way):
    scene, assets, id_ = man
    made = Steered(scene, assets, 0.0, {id_: None})
    track = Seen(made, id_)
    track.go(0.5, 0.0)
    made.knock(id_, "chest", 160.0 * np.array([way[0], 0.1, way[1]]))
    track.go(1.0, 0.0)
    assert made.lies(id_)
    assert made.matrices()[0][0, 1, 3] < 0.6
    jump = low = 0.0
    for _ in range(24 * 10):
        if made.lies(id_):
            track.go(made.step_time, 0.0)
            continue
        jump, low = max(jump, track.go(made.step_time, 0.0)), min(low, track.lowest)
        if not made.rises(id_):
            break
    assert not made.rises(id_)
    assert made.matrices()[0][0, 1, 3] > 0.85
    assert jump < 3.0
    assert low > -0.03


def test_who_is_hit_on_the_way_up_falls_onto_the_ground(man):
    scene, assets, id_ = man
    made = Steered(scene, assets, 0.0, {id_: None})
    made.knock(id_, "chest", np.array([0.0, 20.0, 160.0]))
    while not made.rises(id_) or made.free().any():
        made.step()
    for _ in range(6):
        made.step()
    made.knock(id_, "chest", np.array([0.0, 20.0, -160.0]))
    lowest = []
    for _ in range(26):
        made.step()
        lowest.append(made.built.world.bodies["x"][:, 1].min())
    assert min(lowest) > -0.05
    made.knock_limb(id_, "forearm_l", np.array([0.0, 0.0, 5.0]), 0.5)
    assert made.free().all(), "it is limp as a whole"


@pytest.mark.parametrize("seed", range(4))
def test_what_hangs_on_who_gets_up_is_not_torn(steer, seed):
    """A pail on a limp arm, and a line to another figure, through every change between keys and physics."""
    scene, assets = steer
    made = Steered(
        scene, assets, 0.0, {"deckhand": scene.figure("deckhand").steering, "mate": Steering(follows="deckhand")}
    )
    chance = np.random.default_rng(seed)
    made.steer("deckhand", 1.4, 0.5)
    worst, held = 0.0, made.built.world.joints
    for step in range(24 * 9):
        if step == 24:
            made.knock("deckhand", "chest", 160.0 * np.append(chance.normal(0.0, 0.7, 2), 1.0)[[0, 1, 2]])
        made.step()
        held = made.built.world.joints
        worst = max(worst, float(held["separation"].max()))
    assert not made.lies("deckhand")
    assert worst < 0.03


def test_a_line_is_not_wound_about_those_who_hold_it(steer):
    scene, assets = steer
    made = Steered(
        scene, assets, 0.0, {"deckhand": scene.figure("deckhand").steering, "mate": Steering(follows="deckhand")}
    )
    worst = 0.0
    for turn, speed in ((1.0, 0.0), (-1.0, 2.6), (0.0, 2.6), (1.0, 2.6)):
        made.steer("deckhand", speed, turn)
        for _ in range(24 * 3):
            made.step()
            worst = max(worst, float(made.built.world.joints["separation"].max()))
    assert worst < 0.01


def test_a_limb_alone_goes_limp_and_comes_back(man):
    scene, assets, id_ = man
    made = Steered(scene, assets, 0.0, {id_: None})
    made.knock_limb(id_, "upper_arm_l", np.array([3.0, 0.0, 5.0]), 0.5)
    made.step()
    part = made.built.parts[0]
    assert set(np.flatnonzero(made.free())) == set(part.on(part.figure.below("upper_arm_l")))
    for _ in range(24):
        made.step()
    assert not made.free().any()


def test_the_mirror_image_of_a_mirror_image_is_the_figure(steer):
    scene, assets = steer
    for figure in (scene.figure("deckhand"), scene.figure("pail")):
        twice = reflected(reflected(figure, assets, 0), assets, 0)
        assert twice == figure
        once = reflected(figure, assets, 0)
        p, q = rigid(rest_matrices(figure.changed(position=(0, 0, 0))))
        m, r = rigid(rest_matrices(once.changed(position=(0, 0, 0))))
        assert np.allclose(m, p * [-1, 1, 1], atol=1e-9)
        assert np.allclose(np.abs((r * q * [1, -1, -1, 1]).sum(axis=1)), 1.0, atol=1e-9)
    mesh = assets.decoded(reflected(scene.figure("deckhand"), assets, 0).asset, Mesh.from_arrays)
    old = assets.decoded(scene.figure("deckhand").asset, Mesh.from_arrays)
    rest = rest_matrices(reflected(scene.figure("deckhand"), assets, 0).changed(position=(0, 0, 0)))
    assert np.allclose(
        mesh.skin(rest),
        old.skin(rest_matrices(scene.figure("deckhand").changed(position=(0, 0, 0)))) * [-1, 1, 1],
        atol=1e-5,
    )
    assert any("lead is held by mate too" in words for words in not_reflected(scene, "deckhand"))


def test_energy_and_places_go_through_the_mirror(steer):
    scene, assets = steer
    made = Steered(scene, assets, 0.0, {f.id: f.steering for f in scene.figures if f.steering})
    direct(made, "deckhand", words_of("walk:2 left:0.5"))
    mine = np.concatenate([p.rows for p in made.built.parts if p.figure.id in ("deckhand", "pail")])
    kinetic, (p, _), root = made.built.world.kinetic()[mine], made.built.world.poses(), made.pilots["deckhand"].root()
    made.mirror("deckhand")
    m, _ = made.built.world.poses()
    across = root @ np.diag([-1.0, 1.0, 1.0, 1.0]) @ np.linalg.inv(root)
    assert np.allclose(m[mine], p[mine] @ across[:3, :3].T + across[:3, 3], atol=1e-9)
    assert np.allclose(made.built.world.kinetic()[mine], kinetic, rtol=1e-9, atol=1e-12)
    for _ in range(36):
        made.step()
        assert np.linalg.norm(made.built.world.bodies["v"], axis=1).max() < 15.0
        assert made.built.world.joints["separation"].max() < 0.02


def test_a_line_holds_back_who_walks_away(man):
    scene, assets, id_ = man
    hand = (0.57, 0.95, 0.0)
    points = (StrandPoint(position=hand, hold="mounted", figure=id_, bone="hand_l"), StrandPoint(position=(1.2, 0.02, 0.3)),
              StrandPoint(position=(1.0, 0.5, -1.5), hold="pinned"))  # fmt: skip
    post = obstacle("post", Shape(kind="box", half=(0.05, 0.3, 0.05)), (MotionKey(frame=0, position=(1.0, 0.3, -1.5)),))
    scene = edit.add_figure(scene, post)
    points = (*points[:2], StrandPoint(position=(1.0, 0.5, -1.5), hold="mounted", figure="post", bone="post"))
    scene, _ = add_strand(scene, assets, ready("rope", points, count=20, radius=0.008, weight=0.1), "line")
    made = Steered(scene, assets, 0.0, {id_: None})
    direct(made, id_, words_of("run:6"))
    assert made.pilots[id_].speed < 0.2
    assert made.built.world.joints["separation"].max() < 0.005
    assert 0.5 < made.pilots[id_].place[2] < 4.0


@pytest.mark.parametrize("kind", ["one end", "both ends", "middle", "loose spine"])
def test_chains_live_through_running_turning_and_a_mirror(man, kind):
    scene, assets, id_ = man
    if kind in ("one end", "both ends"):
        ends = [StrandPoint(position=(0.57, 0.95, 0.0), hold="mounted", figure=id_, bone="hand_l")]
        ends += [StrandPoint(position=(0.3, 0.3, 0.3))]
        if kind == "both ends":
            ends += [StrandPoint(position=(0.0, 0.95, 0.15), hold="mounted", figure=id_, bone="hips")]
        scene, _ = add_strand(scene, assets, ready("rope", tuple(ends), count=20, radius=0.01, weight=0.2), "line")
    else:
        bones = ("spine",) if kind == "middle" else ("spine", "neck", "forearm_l")
        group = Group(id="g", name="g", bones=bones, handover=Lane(rest=1.0), spring=Spring(frequency=3.0))
        scene = edit.figure(scene, id_, groups=(group,))
    made = Steered(scene, assets, 0.0, {id_: None})
    direct(made, id_, words_of("run:2 left:1 mirror:1 about:1.5 stand:1"))
    world = made.built.world
    assert np.isfinite(world.bodies["x"]).all()
    assert world.joints["separation"].max() < 0.01
    assert np.linalg.norm(world.bodies["v"], axis=1).max() < 12.0


def test_values_change_while_it_is_steered(steer):
    scene, assets = steer
    made = Steered(scene, assets, 0.0, {f.id: f.steering for f in scene.figures if f.steering})
    direct(made, "deckhand", words_of("walk:1"))
    before = made.built.world.poses()[0]
    heavy = edit.scene(scene, gravity=(0.0, -2.0, 0.0))
    heavy = edit.bodies(
        heavy, "pail", {b.id for b in heavy.figure("pail").bodies}, lambda b: b.changed(density=50.0, mass=None)
    )
    made.change(heavy)
    assert np.allclose(made.built.world.poses()[0], before, atol=1e-9)
    mass = made.built.world.bodies["mass"][made.built.parts[1].rows]
    assert mass.sum() < 2.0
    quick = Steering(gaits=(Gait(clip="stand", speed=0.0), Gait(clip="walk", speed=1.1)))
    made.change(edit.figure(heavy, "deckhand", steering=quick))
    direct(made, "deckhand", words_of("walk:2"))
    assert made.pilots["deckhand"].speed == pytest.approx(1.1, abs=0.05)
    with pytest.raises(ArtulineError, match="is gone"):
        made.change(edit.without_figure(heavy, "mate"))


def test_what_was_steered_is_kept_and_comes_again_to_the_bit(steer, tmp_path):
    scene, assets = steer
    made = Steered(scene, assets, 0.0, {f.id: f.steering for f in scene.figures if f.steering})
    watcher = Watcher(made)
    direct(made, "deckhand", words_of("walk:1 mirror:0.5 hit:1"))
    made.push(None, frozenset(), np.array([0.0, 1.0, 0.0]))
    made.set_gravity(True, 0.2, 0.0)
    direct(made, "deckhand", words_of("right:1"))
    kept = keep(watcher, scene, 2.0)
    ref = kept.active_take()
    assert (kept.start, kept.end) == (ref.start, ref.end) == (36, 84)
    man_ = kept.figure("deckhand")
    assert man_.clip == "steered"
    # the kept clip is what the figure was led by, in its own place, mirrored as it was
    clip = load_clip(assets, man_.active_clip().asset).sample(skeleton_of(man_), np.array([2.0]))
    made_now = made.built.world.poses()[0]
    take = assets.decoded(ref.asset, Take.from_arrays)
    assert np.array_equal(take.position[-1], made_now)
    assert np.isfinite(clip.translation).all()
    shown = skeleton_of(man_).global_matrices(take.poses["deckhand"].frame(-1), take.root(man_, len(take.frames) - 1))
    assert np.allclose(shown[:, :3, 3], made.matrices()[0][:, :3, 3], atol=2e-3)
    path = tmp_path / "kept.artuline"
    save_scene(path, kept, assets)
    fresh = AssetStore()
    ref = load_scene(path, fresh).active_take()
    assert same(again(ref, fresh), ref, fresh)
    with pytest.raises(ArtulineError, match="was not steered"):
        again(ref.changed(steered=()), fresh)
    broken = fresh.add({"steered": np.frombuffer(b'{"journal": [[0, "exit", []]]}', np.uint8)})
    with pytest.raises(ArtulineError, match="damaged"):
        again(ref.changed(steered=(broken,)), fresh)


@pytest.mark.parametrize("text", ["", "fly:2", "walk:x", "walk=-1:2", "run:1e9"])
def test_words_that_say_nothing_are_refused(text):
    with pytest.raises(ArtulineError):
        words_of(text)


def test_clips_come_besides_a_figures_own_and_only_onto_their_skeleton():
    assets = AssetStore()
    figure = ready_figure("deckhand", assets)
    made = read_clips(DATA / "deckhand_steered.glb", assets, figure)
    assert [c.name for c in made.clips[-3:]] == ["run", "rise from back", "rise from front"]
    assert made.clip == figure.clip
    with pytest.raises(ArtulineError, match="of another length"):
        tall = tuple(b.changed(translation=tuple(1.3 * x for x in b.translation)) for b in figure.bones)
        read_clips(DATA / "deckhand_steered.glb", assets, figure.changed(bones=tall))
    with pytest.raises(ArtulineError, match="none of its bones"):
        other = tuple(b.changed(name=f"x {b.name}", parent=f"x {b.parent}" if b.parent else None) for b in figure.bones)
        read_clips(
            DATA / "deckhand_steered.glb", assets, figure.changed(bones=other, bodies=(), joints=(), pairs_off=())
        )


def test_who_is_followed_may_leave(steer):
    scene, _ = steer
    left = edit.without_figure(scene, "deckhand")
    assert left.figure("mate").steering.follows is None
