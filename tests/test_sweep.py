"""Sweeps through a joint's range, proposals for every kind, and what is drawn of limits."""

import numpy as np
import pytest

from artuline.core.geometry import rotation
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Joint, Scene
from artuline.core.scene.selection import Selection
from artuline.core.setup.joints import clip_rotations, keyed_limit_excess
from artuline.core.setup.limits import joint_trace, propose_limits, range_text, sweep_turn, swept_matrices
from artuline.demo.figures import ready_figure
from artuline.view.drawlist import DrawList
from artuline.view.limits import add_limits, swing_rim, swung
from artuline.view.palette import DAY
from artuline.view.stage import Marks, Show, draw_list, figure_states

LOCKED = (0.0, 0.0)
JOINTS = {
    "ball": {"kind": "ball", "swing_y": 0.4, "swing_z": 0.7, "twist": (-0.2, 0.5)},
    "hinge": {"kind": "hinge", "twist": (-1.0, 0.3)},
    "slide": {"kind": "slide", "slide": (-0.02, 0.05)},
    "axes": {"kind": "axes", "axes": (LOCKED, (-0.01, 0.02), LOCKED, (-0.3, 0.3), LOCKED, (0.1, 0.6))},
    "fixed": {"kind": "fixed"},
}


def joint(kind, **more):
    return Joint(id="j", parent="a", child="b", **(JOINTS[kind] | more))


@pytest.fixture(scope="module")
def deck():
    assets = AssetStore()
    return ready_figure("deckhand", assets), assets


@pytest.mark.parametrize("kind", JOINTS)
def test_a_sweep_stays_in_the_range_and_comes_to_its_ends(kind):
    j = joint(kind)
    places, turns = zip(*(sweep_turn(j, t) for t in np.linspace(0.0, 1.0, 601)))
    places, turns = np.array(places), np.array(turns)
    swing, twist = rotation.swing_twist(turns)
    np.testing.assert_allclose(np.linalg.norm(turns, axis=1), 1.0, atol=1e-12)
    low, high = {
        "ball": (-0.2, 0.5), "hinge": (-1.0, 0.3), "axes": (-0.3, 0.3), "slide": (0.0, 0.0), "fixed": (0.0, 0.0),
    }[kind]  # fmt: skip
    assert twist.min() == pytest.approx(low, abs=1e-3) and twist.max() == pytest.approx(high, abs=1e-3)
    if kind == "ball":
        assert np.abs(swing).max(axis=0) == pytest.approx([0.4, 0.7], abs=1e-3)
    if kind == "slide":
        assert (places[:, 0].min(), places[:, 0].max()) == pytest.approx((-0.02, 0.05), abs=1e-4)
    if kind == "axes":
        assert (places[:, 1].min(), places[:, 1].max()) == pytest.approx((-0.01, 0.02), abs=1e-4)
        assert swing[:, 1].min() >= 0.1 - 1e-9 and swing[:, 1].max() == pytest.approx(0.6, abs=1e-3)
    if kind == "fixed":
        assert not places.any() and not twist.any() and not swing.any()


def test_a_swept_limb_goes_along_and_the_rest_stays(deck):
    figure, assets = deck
    scene = Scene(figures=(figure,))
    matrices = figure_states(scene, assets, 0.0, None, Show(rest=True))[0].matrices
    j = figure.joint_of["upper_arm_l"]
    moved = swept_matrices(figure, j, matrices, 0.08)
    below = [figure.bone_index[b] for b in figure.below("upper_arm_l")]
    rest = [i for i in range(len(figure.bones)) if i not in below]
    np.testing.assert_array_equal(moved[rest], matrices[rest])
    arm, hand = figure.bone_index["upper_arm_l"], figure.bone_index["hand_l"]
    np.testing.assert_allclose(moved[arm, :3, 3], matrices[arm, :3, 3], atol=1e-12)
    before = np.linalg.norm(matrices[hand, :3, 3] - matrices[arm, :3, 3])
    assert np.linalg.norm(moved[hand, :3, 3] - moved[arm, :3, 3]) == pytest.approx(before)


@pytest.mark.parametrize("kind", ["ball", "hinge", "axes"])
@pytest.mark.parametrize("source", ["clips", "both"])
def test_proposals_of_every_kind_hold_the_clips(deck, kind, source):
    figure, assets = deck
    motion = clip_rotations(figure, assets)
    old = figure.joint_of["thigh_l"]
    free = {"axes": (LOCKED, LOCKED, LOCKED, None, None, None)} if kind == "axes" else {}
    made = propose_limits(figure, old.changed(kind=kind, **free), motion, source)
    if kind != "hinge":
        assert keyed_limit_excess(figure, made, motion).max() == 0.0
    trace = joint_trace(figure, made, motion)
    assert trace.shape == (len(motion), 4) and made.limited
    low, high = made.axes[3] if kind == "axes" else made.twist
    assert low <= trace[:, 2].min() and trace[:, 2].max() <= high
    assert joint_trace(figure, made, motion[:0]).shape == (0, 4)


def test_ranges_in_words():
    assert range_text(joint("fixed")) == "fixed" and range_text(joint("ball", limited=False)) == "free"
    assert range_text(joint("hinge")) == "−57 to 17°" and range_text(joint("slide")) == "−20 to 50 mm"
    assert range_text(joint("ball")).startswith("±23°, ±40°")
    assert "locked" in range_text(joint("axes"))


def test_the_rim_is_where_the_limit_is():
    ball = joint("ball")
    rim = swing_rim(ball)
    np.testing.assert_allclose((rim[:, 0] / 0.4) ** 2 + (rim[:, 1] / 0.7) ** 2, 1.0)
    np.testing.assert_allclose(np.linalg.norm(swung(rim), axis=1), 1.0)
    # the direction of a swing about z by an angle lies that far from the bone
    assert swung(np.array([[0.0, 0.3]]))[0] == pytest.approx([np.cos(0.3), np.sin(0.3), 0.0])
    box = swing_rim(joint("axes", axes=(LOCKED,) * 4 + ((-0.2, 0.4), (-0.1, 0.3))))
    assert (box.min(axis=0) == [-0.2, -0.1]).all() and (box.max(axis=0) == [0.4, 0.3]).all()


@pytest.mark.parametrize("kind", JOINTS)
def test_every_kind_is_drawn_at_its_joint(deck, kind):
    figure, assets = deck
    j = figure.joint_of["thigh_l"].changed(**JOINTS[kind])
    figure = figure.changed(joints=tuple(j if x.id == j.id else x for x in figure.joints))
    scene = Scene(figures=(figure,))
    state = figure_states(scene, assets, 0.0, None, Show(rest=True))[0]
    out = DrawList()
    p = state.matrices[:, :3, 3]
    q = np.tile([0.0, 0.0, 0.0, 1.0], (len(p), 1))
    trace = joint_trace(figure, j, clip_rotations(figure, assets))
    add_limits(out, figure, j, p, q, 0.2, DAY, trace)
    assert bool(out.lines) == (kind != "fixed")
    hip = p[figure.bone_index["thigh_l"]]
    for segments, *_ in out.lines:
        assert np.linalg.norm(segments.reshape(-1, 3) - hip, axis=1).max() < 0.5
    marks = Marks(traces={(figure.id, j.id): trace}, centres=True)
    show = Show(limits=True, shapes=True, isolate=True, wire=True, mirror=True, person=True)
    marks.pairs = {figure.id: {"hand_l": "hand_r", "hand_r": "hand_l"}}
    picture = draw_list(scene, assets, 0.0, [state], show, Selection(figure.id, frozenset({"thigh_l"})), DAY, marks)
    assert len([s for s in picture.solids if s.triangles is None]) == 1 and not picture.skins
