"""Lanes, tracks and clips are one kind of curve: the same keys, slopes and ways between them, edited alike."""

import json

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy.interpolate import CubicHermiteSpline

from artuline.core.bake.lane_keys import PLACE, TURN, WIND, lane_channels, with_lane_channels
from artuline.core.geometry import rotation
from artuline.core.motion.keys import channel_of, curves_of, inserted, moved, tangents, with_slope
from artuline.core.motion.places import places_at
from artuline.core.run.returns import falls
from artuline.core.scene import edit
from artuline.core.scene.lanes import Key, Lane, PlaceKey, PlaceLane, Track, TurnKey, TurnLane, VectorKey, VectorLane
from artuline.core.scene.model import Bone, Figure, Group, MotionKey, Scene

SHARE = st.floats(0.0, 1.0).map(lambda x: round(x, 6))
SLOPE = st.floats(-0.2, 0.2).map(lambda x: round(x, 6))
PIECE = st.sampled_from(["line", "hold", "curve"])


STILL, CALM = Track(), VectorLane()


def scene_of(lane=None, track=STILL, wind=CALM, rate=24.0):
    f = Figure(
        id="f", name="f", bones=(Bone(name="b"),), track=track, groups=(Group(id="g", name="g", tone=lane or Lane()),)
    )
    return Scene(figures=(f,), rate=rate, wind_lane=wind)


def tone(scene):
    return scene.figures[0].groups[0].tone


@st.composite
def lanes(draw):
    frames = sorted(draw(st.lists(st.integers(-50, 400), min_size=1, max_size=7, unique=True)))
    slopes = st.none() | st.tuples(SLOPE, SLOPE)
    return Lane(keys=[Key(frame=f, value=draw(SHARE), piece=draw(PIECE), slopes=draw(slopes)) for f in frames])


@given(lanes(), st.sampled_from([8.0, 24.0, 29.97, 120.0]))
def test_a_lane_is_what_its_channel_is_and_comes_back_the_same(lane, rate):
    scene = scene_of(lane, rate=rate)
    channel = lane_channels(scene, scene.figures[0])["g", "tone"]
    frames = np.linspace(-60.0, 420.0, 777)
    np.testing.assert_allclose(lane.value(frames), np.clip(channel.sample(frames / rate)[:, 0], 0.0, 1.0), atol=1e-7)
    back = tone(with_lane_channels(scene, "f", {("g", "tone"): channel}))
    np.testing.assert_allclose(back.value(frames), lane.value(frames), atol=1e-7)
    assert [k.frame for k in back.keys] == [k.frame for k in lane.keys]
    # what its last key would go on with is not seen; once brought to the form that can be, it stays the same to the bit
    again = lane_channels(scene_of(back, rate=rate), scene_of(back, rate=rate).figures[0])["g", "tone"]
    assert tone(with_lane_channels(scene_of(back, rate=rate), "f", {("g", "tone"): again})) == back


@given(lanes(), st.floats(-40.0, 390.0))
@settings(max_examples=60)
def test_a_key_that_is_put_in_changes_nothing(lane, frame):
    scene = scene_of(lane)
    before = lane_channels(scene, scene.figures[0])["g", "tone"]
    # a key cannot be where only the slopes at others lead, beyond 0 and 1
    assume(0.0 <= before.sample(np.array([frame / 24.0]))[0, 0] <= 1.0)
    channel = inserted(before, frame / 24.0)
    made = tone(with_lane_channels(scene, "f", {("g", "tone"): channel}))
    frames = np.linspace(-60.0, 420.0, 777)
    apart = np.abs(frames - frame) > 1e-3  # where it holds, the jump is at its key
    np.testing.assert_allclose(made.value(frames)[apart], lane.value(frames)[apart], atol=2e-6)


def test_slopes_and_holds_are_those_of_hermite_splines():
    t, v, s = np.array([0.0, 10.0, 30.0]), np.array([0.2, 0.8, 0.1]), np.array([0.02, -0.03, 0.01])
    lane = Lane(keys=[Key(frame=f, value=x, piece="curve", slopes=(k, k)) for f, x, k in zip(t, v, s)])
    frames = np.linspace(0.0, 30.0, 91)
    np.testing.assert_allclose(lane.value(frames), np.clip(CubicHermiteSpline(t, v, s)(frames), 0, 1), atol=1e-12)
    held = Lane(keys=[Key(frame=0, value=0.3, piece="hold"), Key(frame=10, value=1.0), Key(frame=20, value=0.0)])
    assert held.value(np.array([-5.0, 0.0, 9.999, 10.0, 15.0, 99.0])).tolist() == [0.3, 0.3, 0.3, 1.0, 0.5, 0.0]
    # without slopes it is smooth: level at its ends
    soft = Lane(keys=[Key(frame=0, value=0.0, piece="curve"), Key(frame=10, value=1.0)])
    np.testing.assert_allclose(
        soft.value(np.arange(11.0)), [3 * u**2 - 2 * u**3 for u in np.arange(11) / 10], atol=1e-12
    )
    assert falls(Lane(keys=[Key(frame=5, value=1.0, piece="hold"), Key(frame=9, value=0.0)])) == [(9, 9.0)]
    assert falls(Lane(keys=[Key(frame=5, value=1.0), Key(frame=9, value=0.0)])) == [(5, 9.0)]


@pytest.mark.parametrize("piece", ["line", "curve"])
def test_what_jumps_jumps_there_and_stays_so_when_it_is_edited(piece):
    lane = edit.interval_lane(24.0, 60.0, 0.0, 10.0)
    lane = lane.changed(keys=[k.changed(piece=piece) for k in lane.keys])
    assert lane.value(np.array([-9.0, 23.99, 24.0, 40.0, 60.0, 61.0])).tolist() == [0.0, 0.0, 1.0, 1.0, 0.0, 0.0]
    scene = scene_of(lane)
    c = lane_channels(scene, scene.figures[0])["g", "tone"]
    assert tone(with_lane_channels(scene, "f", {("g", "tone"): c})) == lane
    curves = curves_of(c, "xyz")
    later, _ = moved(curves, np.array([[False], [False], [False], [True]]), 0.5, 0.0)
    made = tone(with_lane_channels(scene, "f", {("g", "tone"): channel_of(c, later, "xyz")}))
    assert [k.frame for k in made.keys] == [24.0, 24.0, 50.0, 72.0] and made.keys[:2] == lane.keys[:2]


def test_what_is_straight_stays_straight_until_it_is_given_slopes():
    lane = Lane(keys=[Key(frame=f, value=v) for f, v in ((0, 0.0), (10, 1.0), (30, 0.5), (40, 0.0))])
    scene = scene_of(lane)
    c = lane_channels(scene, scene.figures[0])["g", "tone"]
    curves = curves_of(c, "xyz")
    second = np.array([[False], [True], [False], [False]])

    def made(new):
        return tone(with_lane_channels(scene, "f", {("g", "tone"): channel_of(c, new, "xyz")}))

    down = made(moved(curves, second, 0.25, -0.4)[0])
    assert down.straight and [(k.frame, round(k.value, 9)) for k in down.keys][1] == (16.0, 0.6)
    soft = made(tangents(curves, second, "flat"))
    assert [k.piece for k in soft.keys] == ["curve", "curve", "line", "line"] and soft.keys[1].slopes == (0.0, 0.0)
    assert made(tangents(curves, second, "linear")) == lane
    one = made(with_slope(curves, 1, 0, (False, True), 0.0))
    assert [k.piece for k in one.keys] == ["line", "curve", "line", "line"]
    # a key that is put in goes on as the curve does there
    assert edit.keyed_lane(soft, 5.0, 0.5).keys[1].piece == "curve"


def test_a_track_has_keys_of_its_own_for_place_and_turn():
    q = [tuple(rotation.from_rotation_vector(np.array([0.0, a, 0.0]))) for a in (0.0, 1.0, 1.4)]
    track = Track.of(MotionKey(frame=10 * k, position=(k, k * k, 0.0), rotation=q[k]) for k in range(3))
    scene = scene_of(
        track=track, wind=VectorLane(keys=[VectorKey(frame=0, value=(1, 2, 3)), VectorKey(frame=9, value=(0, 2, 0))])
    )
    channels = lane_channels(scene, scene.figures[0])
    assert with_lane_channels(scene, "f", channels) == scene
    frames = np.linspace(-3.0, 25.0, 57)
    p, turns = places_at(track, frames)
    np.testing.assert_allclose(channels[PLACE].sample(frames / 24.0), p, atol=1e-12)
    np.testing.assert_allclose(channels[TURN].sample(frames / 24.0), turns, atol=1e-12)
    curves = curves_of(channels[PLACE], "xyz")
    picked = np.zeros((3, 3), bool)
    picked[1] = True
    later, _ = moved(curves, picked, 4.0 / 24.0, 0.0)
    made = with_lane_channels(scene, "f", {PLACE: channel_of(channels[PLACE], later, "xyz")}).figures[0].track
    assert made.frames == (0.0, 10.0, 14.0, 20.0) and made.rotation == track.rotation
    np.testing.assert_allclose(places_at(made, np.array([14.0]))[0], [[1.0, 1.0, 0.0]], atol=1e-9)
    np.testing.assert_allclose(places_at(made, frames)[1], turns, atol=1e-12)
    assert made.moved(10.0, 11.0).frames == (0.0, 11.0, 14.0, 20.0) and made.without(14.0).frames == (0.0, 10.0, 20.0)
    assert len(made.without(0.0).without(14.0).without(20.0).position.keys) == 1
    turned = with_lane_channels(scene, "f", {TURN: inserted(channels[TURN], 5.0 / 24.0)}).figures[0].track
    np.testing.assert_allclose(np.abs(np.sum(places_at(turned, frames)[1] * turns, axis=1)), 1.0, atol=1e-5)
    slower = with_lane_channels(
        scene,
        "f",
        {
            WIND: channel_of(
                channels[WIND], moved(curves_of(channels[WIND], "xyz"), np.ones((2, 3), bool), 1.0, 1.0)[0], "xyz"
            )
        },
    )
    assert [k.value for k in slower.wind_lane.keys] == [(2.0, 3.0, 4.0), (1.0, 3.0, 1.0)] and slower.wind_lane.straight


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: Key(frame=0, value=0.5, piece="wavy"), "piece"),
        (lambda: Key(frame=0, value=0.5, slopes=(0.0, float("nan"))), "finite"),
        (lambda: TurnKey(frame=0, value=(0, 0, 0, 0)), "quaternion"),
        (lambda: Track(position=PlaceLane(keys=[PlaceKey(frame=0, value=(0, 0, 0))])), "both position and rotation"),
        (lambda: Track(position=PlaceLane(), rotation=TurnLane(keys=[TurnKey(frame=0, value=(0, 0, 0, 1))])), "both position and rotation"),
        (lambda: VectorLane(keys=[VectorKey(frame=2, value=(0, 0, 0)), VectorKey(frame=1, value=(0, 0, 0))]), "forward"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused(make, words):
    with pytest.raises(ValueError, match=words):
        make()


def test_curves_are_saved_as_text_that_leaves_out_what_is_usual():
    lane = Lane(keys=[Key(frame=1, value=0.5), Key(frame=2, value=0.25, piece="curve", slopes=(0.0, 0.5))])
    scene = scene_of(lane)
    assert Scene.model_validate(json.loads(scene.model_dump_json())) == scene
    assert json.loads(lane.keys[0].model_dump_json(exclude_defaults=True)) == {"frame": 1.0, "value": 0.5}
    assert (
        scene.settings_fingerprint()
        != scene_of(Lane(keys=[k.changed(slopes=None) for k in lane.keys])).settings_fingerprint()
    )
