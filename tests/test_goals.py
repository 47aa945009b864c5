"""Limbs led by goals: exact where they come from a pose, as near as they reach elsewhere, and what is baked onto them plays as the take."""

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.bake.from_keys import limbs_from_keys
from artuline.core.bake.layer_keys import layer_channels, mirrored
from artuline.core.bake.mapping import carried_above, ways, without_limb
from artuline.core.bake.path_keys import placed
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.motion.goals import Goals, goals_of, lead, led
from artuline.core.motion.keyed import keyed_pose
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.limb import Limb
from artuline.core.scene.model import Bone, Figure
from artuline.core.setup.limbs import limb_of, propose_limbs
from artuline.demo.scenes import demo_scene

seeds = st.integers(0, 10**6)


def arm(length: float = 0.3, middle: bool = False) -> Figure:
    """A trunk with an arm of two bones, bent by a tenth at rest; with a bone between them if wanted."""
    bones = [Bone(name="trunk"), Bone(name="upper arm", parent="trunk", translation=(0.1, 0.2, 0.0))]
    if middle:
        bones.append(Bone(name="twist", parent="upper arm", translation=(0.5 * length, 0.0, 0.0)))
    at = (0.5 * length if middle else length, 0.0, 0.0)
    turn = tuple(rotation.from_rotation_vector(np.array([0.0, 0.1, 0.0])))
    bones += [
        Bone(name="forearm", parent=bones[-1].name, translation=at, rotation=turn),
        Bone(name="hand", parent="forearm", translation=(0.8 * length, 0.0, 0.0)),
    ]
    return Figure(id="arm", name="arm", bones=tuple(bones))


def with_limb(figure, assets):
    return figure.changed(goals=propose_limbs(figure, assets))


def random_pose(figure, rng, frames=4, bend=None):
    pose = skeleton_of(figure).rest_over(frames)
    pose.rotation[:] = rotation.normalize(rng.normal(size=pose.rotation.shape))
    angles = rng.uniform(0.02, 2.6, frames) if bend is None else np.full(frames, bend)
    about = np.array(figure.goals[0].axis)[None] + 0.1 * rng.normal(size=(frames, 3))
    about /= np.linalg.norm(about, axis=1, keepdims=True)
    twist = rotation.from_rotation_vector(np.array([1.0, 0.0, 0.0]) * rng.uniform(-1, 1, (frames, 1)))
    lower = figure.bone_index["forearm"]
    pose.rotation[:, lower] = rotation.multiply(rotation.from_rotation_vector(about * angles[:, None]), twist)
    if "twist" in figure.bone_index:
        pose.rotation[:, figure.bone_index["twist"]] = twist
    return pose


@given(seeds, st.booleans(), st.sampled_from([0.01, 0.3, 40.0]))
def test_a_limb_led_to_where_it_is_stays_there(seed, middle, length):
    """Whatever its upper bone and its end were, however its lower bone is twisted, at any size."""
    rng = np.random.default_rng(seed)
    figure = with_limb(arm(length, middle), None)
    skeleton, limb = skeleton_of(figure), led(figure, figure.goals[0])
    pose = random_pose(figure, rng)
    goals, other = goals_of(skeleton, limb, pose), pose.copy()
    for b in (limb.upper, limb.end):
        other.rotation[:, b] = rotation.normalize(rng.normal(size=other.rotation[:, b].shape))
    lead(skeleton, limb, other, goals)
    assert rotation.angle_between(other.rotation, pose.rotation).max() < 1e-5


@example(17, 0.25)
@example(357, 0.96875)
@given(seeds, st.floats(0.25, 0.98))
def test_an_end_comes_to_its_goal(seed, share):
    """By the law of cosines; the middle on the side of the direction, the hand as turned; nearer than the NEAR of goals.py where its keys are near."""
    rng = np.random.default_rng(seed)
    figure = with_limb(arm(), None)
    skeleton, limb = skeleton_of(figure), led(figure, figure.goals[0])
    pose = random_pose(figure, rng)
    p, q = rigid(skeleton.global_matrices(pose))
    # as near and as far as it comes, folded about its axis: a lower bone that is twisted out of the plane comes to lie neither on
    # the upper one nor in line with it
    folds = rotation.from_rotation_vector(
        np.linspace(-np.pi, np.pi, 721)[:, None, None] * rotation.rotate(q[:, limb.upper], limb.axis)
    )
    reached = p[:, limb.lower] - p[:, limb.upper] + rotation.rotate(folds, p[:, limb.end] - p[:, limb.lower])
    reaches = np.linalg.norm(reached, axis=2)
    beyond = np.maximum(np.maximum(reaches.min(axis=0) - share * 0.54, share * 0.54 - reaches.max(axis=0)), 0.0)
    way = rng.normal(size=3)
    way /= np.linalg.norm(way)
    place = p[:, limb.upper] + way * share * 0.54
    look = place + np.cross(way, rng.normal(size=3))
    turn = rotation.normalize(rng.normal(size=(4, 4)))
    lead(skeleton, limb, pose, Goals(place, turn, look))
    p, q = rigid(skeleton.global_matrices(pose))
    assert (np.linalg.norm(p[:, limb.end] - place, axis=1) < beyond + 0.5 * 0.003 * 0.54 + 1e-9).all()
    assert rotation.angle_between(q[:, limb.end], turn).max() < 1e-6
    root, elbow = p[:, limb.upper], p[:, limb.lower]
    side = (look - root) - np.sum((look - root) * way, axis=1, keepdims=True) * way
    axis = rotation.rotate(q[:, limb.upper], limb.axis)
    out = np.cross(np.broadcast_to(way, axis.shape), axis)
    lengths = np.linalg.norm(out, axis=1) * np.linalg.norm(side, axis=1)
    assert (np.sum(out * side, axis=1) / lengths > 0.98).all()
    np.testing.assert_allclose(np.linalg.norm(elbow - root, axis=1), 0.3, atol=1e-9)


def test_what_is_out_of_reach_is_pointed_at():
    figure = with_limb(arm(), None)
    skeleton, limb = skeleton_of(figure), led(figure, figure.goals[0])
    pose = skeleton.rest_over(1)
    root = rigid(skeleton.global_matrices(pose))[0][:, limb.upper]
    goal = root + np.array([[0.0, 3.0, 0.0]])
    lead(skeleton, limb, pose, Goals(goal, np.array([[0.0, 0.0, 0.0, 1.0]]), root + np.array([[0.0, 0.0, 1.0]])))
    hand = rigid(skeleton.global_matrices(pose))[0][0, limb.end]
    np.testing.assert_allclose(hand, root[0] + np.array([0.0, 0.54, 0.0]), atol=2e-3)


def test_limbs_are_proposed_and_corrected(boom):
    scene, assets = boom
    found = {x.end: x for x in propose_limbs(scene.figures[0], assets)}
    assert {e: (x.upper, x.lower) for e, x in found.items()} == {
        **{f"hand_{s}": (f"upper_arm_{s}", f"forearm_{s}") for s in "lr"},
        **{f"foot_{s}": (f"thigh_{s}", f"shin_{s}") for s in "lr"},
    }
    others = AssetStore()
    quadruped = propose_limbs(demo_scene("goat", others).figures[0], others)
    assert {x.end for x in quadruped} == {f"{k}_{s}" for k in ("hoof", "forehoof") for s in "lr"}
    assert all(len(scene.figures[0].above(x.end)) >= 2 for x in found.values())
    with pytest.raises(ArtulineError, match="no limb"):
        limb_of(scene.figures[0], assets, "hand_l", "forearm_l", "upper_arm_l")
    other = found["hand_l"]
    with pytest.raises(ValueError, match="shares the bone"):
        scene.figures[0].changed(
            goals=(other, Limb(upper="chest", lower="upper_arm_l", end="forearm_l", axis=(1, 0, 0)))
        )


def turned(scene, assets, figure, baked, take, frames, names):
    """Worst angle (degrees) and distance (mm) of bones against a take, as the layers play them."""
    rows = [take.row(int(f)) for f in frames]
    want = take.poses[figure.id]
    want = Pose(want.translation[rows], want.rotation[rows], want.scale[rows])
    got, skeleton = keyed_pose(baked, assets, baked.figure(figure.id), frames), skeleton_of(figure)
    which = [figure.bone_index[n] for n in names]
    angle = rotation.angle_between(got.rotation[:, which], want.rotation[:, which]).max()
    a, b = (skeleton.global_matrices(x)[:, which, :3, 3] for x in (got, want))
    return np.degrees(angle), 1000.0 * figure.unit * np.linalg.norm(a - b, axis=2).max()


@pytest.mark.parametrize("mode", ["replace", "add"])
def test_a_take_on_goals_plays_as_it_was(boom_run, mode):
    """Every bone of the limbs within 1 degree and 2 mm at every frame, replacing and adding; the keys below stay."""
    scene, assets, take = boom_run
    scene = edit.figure(scene, "deckhand", goals=propose_limbs(scene.figures[0], assets))
    figure = scene.figures[0]
    wish = BakeWish(1.0, 2.0, between=False)
    baked = bake_figure(scene, assets, figure, take, wish)
    names = {n for n, _ in baked.keys}
    assert {n for x in figure.goals for n in x.curves} < names and not names & {"upper_arm_l", "foot_r"}
    made = add_layer(scene, assets, "deckhand", baked, "baked", None, mode)
    frames = np.arange(baked.start, baked.end + 1.0)
    bones = [b for x in figure.goals for b in x.bones]
    angle, off = turned(scene, assets, figure, made, take, frames, bones)
    assert angle <= 1.0 + 1e-6 and off <= 2.0 + 1e-6
    assert max(d for d, _ in baked.errors.values()) <= 1.0 + 1e-6
    # half of it is half way between
    half = edit.figure(made, "deckhand", layers=(made.figures[0].layers[-1].changed(weight=0.5),))
    got = keyed_pose(half, assets, half.figures[0], frames[40:41])
    below = keyed_pose(scene, assets, figure, frames[40:41])
    full = keyed_pose(made, assets, made.figures[0], frames[40:41])
    arm_ = figure.bone_index["upper_arm_l"]
    way = rotation.angle_between(below.rotation[0, arm_], full.rotation[0, arm_])
    assert rotation.angle_between(below.rotation[0, arm_], got.rotation[0, arm_]) == pytest.approx(0.5 * way, abs=1e-6)


def test_goals_neither_age_a_take_nor_lose_their_keys(boom_run):
    scene, assets, take = boom_run
    made = edit.figure(scene, "deckhand", goals=propose_limbs(scene.figures[0], assets))
    assert made.settings_fingerprint() == scene.settings_fingerprint()
    baked = add_layer(made, assets, "deckhand", bake_figure(made, assets, made.figures[0], take, BakeWish()), "baked")
    with pytest.raises(ArtulineError, match="layer baked has keys"):
        without_limb(baked, assets, "deckhand", "hand_l")
    assert len(without_limb(made, assets, "deckhand", "hand_l").figures[0].goals) == 3


def test_another_bake_takes_the_place_of_the_first_however_limbs_go(boom_run):
    """Onto bones, then onto goals, then onto bones again: one layer each time."""
    scene, assets, take = boom_run
    made = edit.figure(scene, "deckhand", goals=propose_limbs(scene.figures[0], assets))
    for goals in (False, True, False):
        baked = bake_figure(made, assets, made.figures[0], take, BakeWish(2.0, 20.0, goals=goals, between=False))
        made = add_layer(made, assets, "deckhand", baked, "baked", "take 1")
        assert len(made.figures[0].layers) == 1


def test_keyed_motion_goes_onto_goals(boom):
    """Nothing but goals and directions carries the limbs, as the clip moved them."""
    scene, assets = boom
    scene = edit.figure(scene, "deckhand", goals=propose_limbs(scene.figures[0], assets))
    figure = scene.figures[0]
    baked = limbs_from_keys(scene, assets, figure, BakeWish(0.5, 2.0, between=False))
    assert {n for n, _ in baked.keys} == {n for x in figure.goals for n in x.curves}
    made = add_layer(scene, assets, "deckhand", baked, "limbs")
    frames = np.arange(scene.start, scene.end + 1.0)
    a, b = (keyed_pose(s, assets, s.figures[0], frames) for s in (scene, made))
    assert np.degrees(rotation.angle_between(a.rotation, b.rotation).max()) <= 0.5 + 1e-6
    with pytest.raises(ArtulineError, match="no limbs"):
        limbs_from_keys(scene, assets, figure.changed(goals=()), BakeWish())
    channels = layer_channels(assets, made.figures[0].layers[-1])
    hand = made.figures[0].goals[0]
    once = mirrored(figure, {n: c for n, c in channels.items() if n[0] in hand.curves})
    assert {n for n, _ in once} == {x.replace("_l", "_r") for x in hand.curves}
    back = mirrored(figure, once)
    for n, c in back.items():
        np.testing.assert_allclose(np.abs(c.values), np.abs(channels[n].values), atol=1e-4)
    goal = np.array(skeleton_of(figure).global_matrices(b)[30, figure.bone_index["hand_l"], :3, 3]) + np.array(
        [0.0, 0.05, 0.02]
    )
    moved = placed(made, assets, made.figures[0], "hand_l", channels, 30.0, goal)
    assert set(moved) == {("hand_l goal", "translation")}
    np.testing.assert_allclose(
        moved["hand_l goal", "translation"].sample(np.array([30.0 / scene.rate]))[0], goal, atol=1e-9
    )


def test_motion_goes_where_the_mapping_says(boom_run):
    """What is baked onto the bone above turns it as least squares over the masses do; what goes nowhere stays keyed; the reasons are said."""
    scene, assets, take = boom_run
    figure = scene.figures[0].changed(
        goals=propose_limbs(scene.figures[0], assets),
        elsewhere=(("hand_l", "above"), ("foot_r", "nothing"), ("hips", "above")),
    )
    found = {w.body: w for w in ways(figure)}
    assert found["hand_l"].onto == "above" and found["hand_l"].curves == "forearm_l"
    assert "baked elsewhere" in found["upper_arm_l"].why and found["upper_arm_l"].onto == "bone"
    assert found["hips"].why.startswith("no bone above") and "stays on the keys" in found["foot_r"].why
    assert found["hand_r"].onto == "goal" and found["upper_arm_r"].onto == "direction"
    pose = take.poses["deckhand"]
    keyed = keyed_pose(scene, assets, figure, take.frames.astype(float), layers=False)
    made = carried_above(figure.changed(elsewhere=(("hand_l", "above"),)), pose, keyed)
    skeleton = skeleton_of(figure)
    h, f = figure.bone_index["hand_l"], figure.bone_index["forearm_l"]
    np.testing.assert_array_equal(made.rotation[:, h], keyed.rotation[:, h])
    (pm, qm), (pt, qt) = (rigid(skeleton.global_matrices(x)) for x in (made, pose))
    plain = Pose(pose.translation, pose.rotation.copy(), pose.scale)
    plain.rotation[:, h] = keyed.rotation[:, h]
    qp = rigid(skeleton.global_matrices(plain))[1]
    tip = np.array(figure.body_of["hand_l"].shapes[0].position)

    def off(p, q):
        """Mean distance of the hand's tip from where it was."""
        return np.linalg.norm(
            p[:, h] + rotation.rotate(q[:, h], tip) - pt[:, h] - rotation.rotate(qt[:, h], tip), axis=1
        ).mean()

    assert off(pm, qm) < 0.8 * off(rigid(skeleton.global_matrices(plain))[0], qp)
    assert rotation.angle_between(made.rotation[:, f], pose.rotation[:, f]).max() > 0.01
