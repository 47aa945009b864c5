"""Scenarios with closed forms at several substep counts and frame rates; the functions are those of the benchmarks."""

import numpy as np
import pytest
from benchmarks import truths
from benchmarks.scenes import FRAME, X, chain, deckhand, rod

from artuline.core.checks.takes import check_take
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.physics.state import HALTED
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene, Shape
from artuline.demo.figures import ready_figure

BALL = Shape(kind="sphere", radius=0.1)
BOX = Shape(kind="box", half=(0.1, 0.1, 0.1))
RATES = [(24, 10), (24, 2), (24, 40), (60, 10), (120, 10)]
at_all_rates = pytest.mark.parametrize("rate", RATES, ids=lambda r: f"{r[0]}x{r[1]}")


@at_all_rates
def test_contacts_let_go(rate):
    assert not truths.tips(18.2, *rate) and truths.tips(18.7, *rate)
    assert truths.over_the_edge(*rate) > 45.0
    for pull in (0.5, 9.81):
        assert truths.lift(pull, *rate) == pytest.approx(truths.lift(pull, *rate, free=True), rel=1e-3)


@at_all_rates
@pytest.mark.parametrize("name", truths.PLATFORMS)
def test_what_stands_on_a_moving_platform_does_not_creep(rate, name):
    assert truths.creep(name, *rate) < 1e-4


@at_all_rates
@pytest.mark.parametrize("radius", [0.01, 0.1, 1.0])
def test_what_resists_rolling_slows_a_ball_and_holds_it_on_a_slope(rate, radius):
    """A torque of the push at a share c of the radius: 5/7 c g against the way; it stays where a slope rises by less than c."""
    given = {"radius": radius, "fps": rate[0], "substeps": rate[1]}
    tolerance = 0.05 if rate[1] == 2 else 0.02
    assert truths.rolls(0.1, 0.0, 2.0, **given) == pytest.approx(2.0 - 0.5 * 5.0 / 7.0 * 0.981, rel=tolerance)
    assert truths.rolls(0.1, np.arctan(0.095), **given) < (2e-3 if rate[1] == 2 else 1e-4)
    slope = np.arctan(0.2)
    way = 0.5 * 5.0 / 7.0 * 9.81 * (np.sin(slope) - 0.1 * np.cos(slope))
    assert truths.rolls(0.1, slope, **given) == pytest.approx(way, rel=tolerance)


def test_a_ball_rolls_on_a_turning_platform_as_it_does_on_the_ground():
    """The mean motion is that of the centre: 2/7 of the platform's rate, in a circle (E. J. Routh 1905)."""
    motion = truths.PLATFORMS["turning"]
    slab = BodySpec((Shape(kind="box", half=(3, 0.5, 3)),), friction=1.0, free=False)
    speed = 0.4
    # rolling there and then: the contact point moves with the platform
    ball = BodySpec((BALL,), position=np.array([0.5, 0.6, 0.0]), friction=1.0, velocity=np.array([0.0, 0.0, speed]))
    ball.spin = np.array([(speed + 2.0 * 0.5) / 0.1, 0.0, 0.0])
    world = World([slab, ball])
    angle = 0.0
    for n, w in enumerate(truths.run_keyed(world, motion, 1.0)):
        angle = np.arctan2(w.bodies["v"][1, 0], w.bodies["v"][1, 2])
        assert np.hypot(w.bodies["v"][1, 0], w.bodies["v"][1, 2]) == pytest.approx(speed, rel=0.01), n
    assert abs(angle) == pytest.approx(2.0 * 2.0 / 7.0, rel=0.02)


@pytest.mark.parametrize("ground", ["flat", "wavy"])
@pytest.mark.parametrize("rate", [(24, 10), (24, 40)])
def test_a_capsule_slides_over_a_mesh_as_over_a_plane(ground, rate):
    for yaw, heading in truths.HEADINGS[::5]:
        plane, _ = truths.slide(yaw, heading, fps=rate[0], substeps=rate[1])
        way, hop = truths.slide(yaw, heading, ground, fps=rate[0], substeps=rate[1])
        assert way == pytest.approx(plane, rel=0.01 if ground == "flat" else 0.03) and hop < 1e-3


@at_all_rates
def test_friction_in_a_joint_is_the_equations(rate):
    ours, exact = truths.rubbed(1.0, 0.5, *rate)
    assert abs(ours - exact) < 0.5


def test_friction_in_a_joint_holds_up_to_its_torque():
    frame = rotation.align(X, truths.Z)
    for friction, holds in ((2.0, True), (1.9, False)):
        joint = JointSpec(-1, 0, "hinge", anchor=-X * 0.2, frame_c=frame, frame_p=frame, friction=friction)
        world = World([rod(0.4, 1.0, 1e-3, position=X * 0.2)], [joint], contacts=False)
        for _ in range(48):
            world.step(FRAME, 10)
        assert (abs(world.poses()[0][0, 1]) < 1e-4) == holds


@at_all_rates
def test_a_damped_rope_held_at_both_ends_stays_symmetric(rate):
    assert truths.rope(2.5, *rate) < 1e-3


@at_all_rates
@pytest.mark.parametrize("kind", truths.SAGS)
def test_springs_give_as_much_as_their_load_says(rate, kind):
    for frequency, ratio in ((2.0, 1.0), (8.0, 0.3), (16.0, 1.0)):
        assert truths.sag(kind, frequency, ratio, *rate) == pytest.approx(1.0, abs=0.01)


@at_all_rates
def test_a_driven_arm_hangs_where_its_springs_hold_it(rate):
    assert truths.arm(4.0, *rate) < 0.01


@pytest.mark.parametrize("rate", [r for r in RATES if r[1] > 2])
@pytest.mark.parametrize("keys", truths.KEYS)
def test_what_is_let_go_leaves_along_its_keys_tangent(rate, keys):
    off, turned = truths.release(keys, *rate)
    assert off < 1e-5 and np.degrees(turned) < 0.01


@at_all_rates
@pytest.mark.parametrize("gap", [0.0, 1e-3, 1e-2])
def test_a_hit_goes_through_a_cradle(rate, gap):
    assert truths.cradle(gap, *rate) == pytest.approx(34.4, abs=1.0)


def test_a_hit_that_is_passed_on_gains_no_energy():
    """Balls of masses over four decades in a heap that touches, struck by one: the energy falls, the momentum stays."""
    random = np.random.default_rng(3)
    for _ in range(20):
        masses = 10.0 ** random.uniform(-2, 2, 6)
        rows = [
            BodySpec((BALL,), mass=m, position=np.array([0.2 * i, 0.0, 0.0]), restitution=0.7, friction=0.0)
            for i, m in enumerate(masses)
        ]
        rows[0].position, rows[0].velocity = np.array([-0.5, 0.02, 0.0]), np.array([5.0, 0.0, 0.0])
        world = World(rows, gravity=(0, 0, 0))
        start, (linear, _) = world.kinetic().sum(), world.momentum()
        for _ in range(24):
            world.step(FRAME, 10)
            assert world.kinetic().sum() < start * (1.0 + 1e-6)
        np.testing.assert_allclose(world.momentum()[0], linear, rtol=1e-6, atol=1e-9)


def test_dominoes_fall_at_the_speed_of_the_reference():
    """1.24 m/s is MuJoCo's at 1 to 0.1 ms."""
    for substeps in (10, 40):
        assert truths.dominoes(24, substeps) == pytest.approx(1.24, rel=0.1)


@pytest.mark.parametrize("ratio", [1e4, 1e5, 1e6, 1e8])
def test_a_tip_of_any_mass_swings(ratio):
    """It swings as a rod with all of its mass at the end does: past the lowest point after a second and a half."""
    world = chain(10, ratio)
    lowest = 0.0
    for _ in range(48):
        world.step(FRAME, 10)
        lowest = min(lowest, world.poses()[0][-1, 1])
    assert lowest < -0.95 and world.joints["separation"].max() < 1e-3


def test_a_light_box_bears_any_weight():
    for light in (1.0, 1e-4):
        bodies = [BodySpec((BOX,), mass=m, position=np.array([0.0, y, 0.0])) for m, y in ((light, 0.1), (1e4, 0.301))]
        world = World(bodies, plane=(0.0, 0.6, 0.0))
        for _ in range(48):
            world.step(FRAME, 10)
        assert world.bodies["penetration"].max() < 2e-3 and np.abs(world.bodies["v"]).max() < 1e-3


def test_a_standstill_is_named(monkeypatch):
    assets = AssetStore()
    figure = ready_figure("deckhand", assets).changed(clip=None, groups=())
    scene = Scene(figures=(figure,), end=3)
    step = World.step_keyed

    def stuck(self, *args, **more):
        step(self, *args, **more)
        self.counters[HALTED] += 1

    monkeypatch.setattr(World, "step_keyed", stuck)
    take = run(edit.hand_over(scene, figure.id, None, 0, 200, 0, 0), assets)
    assert take.held and "stood still" in check_take(scene, take)[0].text


@pytest.mark.parametrize(
    "make, words",
    [
        (lambda: World([BodySpec((BALL,), friction=-1.0)]), "friction"),
        (lambda: World([BodySpec((BALL,), friction=np.nan)]), "friction"),
        (lambda: World([BodySpec((BALL,), restitution=5.0)]), "restitution"),
        (lambda: World([BodySpec((BALL,), rotation=np.zeros(4))]), "rotation"),
        (lambda: World([BodySpec((BALL,), rotation=np.array([0, 0, 0, 2.0]))]), "rotation"),
        (lambda: World([BodySpec((BALL,), drag=(-1.0, 0.0))]), "drag"),
        (lambda: World([BodySpec((BALL,))], gravity=(0, np.nan, 0)), "gravity"),
        (lambda: World([BodySpec((BALL,))], wind=(np.inf, 0, 0)), "wind"),
        (lambda: World([BodySpec((BALL,))], plane=(0.0, -0.1, 0.0)), "friction"),
        (lambda: World([BodySpec((BALL,))], plane=(np.nan, 0.1, 0.0)), "ground"),
        (lambda: World([BodySpec((BALL,))], [JointSpec(-1, 0, bounce=3.0)]), "bounce"),
        (lambda: World([BodySpec((BALL,))], [JointSpec(-1, 0, anchor=np.full(3, np.nan))]), "anchor"),
        (lambda: World([BodySpec((BALL,))], [JointSpec(-1, 0, frame_c=np.zeros(4))]), "frame"),
        (lambda: World([BodySpec((BALL,))], [JointSpec(-1, 0, friction=-1.0)]), "friction"),
        (lambda: World([BodySpec((BALL,))]).step(0.0), "seconds"),
        (lambda: World([BodySpec((BALL,))]).step(np.nan), "seconds"),
        (lambda: World([BodySpec((BALL,))]).step(0.1, 0), "substeps"),
    ],
)  # fmt: skip
def test_numbers_that_no_motion_comes_from_are_refused(make, words):
    with pytest.raises(ArtulineError, match=words):
        make()


def test_a_fall_comes_to_rest_without_glue():
    moving = truths.random_rests(12, seed=5) > 1e-3
    assert moving.sum() <= 1
    world, _, _ = deckhand(2.0)
    for _ in range(96):
        world.step(FRAME, 10)
    assert np.linalg.norm(world.bodies["v"], axis=1).mean() < 1e-3


@pytest.mark.parametrize("substeps", [4, 10])
@pytest.mark.parametrize("share", [0.5, 0.75, 0.95])
def test_friction_holds_what_it_bears_and_lets_slide_what_it_does_not(share, substeps):
    for mass, pad, friction in ((0.5, 0.2, 0.5), (3.0, 0.05, 0.3)):
        assert truths.pinched(share, mass, pad, friction, substeps=substeps) < 5e-5
    assert truths.let_slide(share, substeps=substeps)[0] < 5e-5
    way, exact = truths.let_slide(2.05 - share, substeps=substeps)
    assert way == pytest.approx(exact, rel=0.05)
