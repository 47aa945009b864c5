"""Islands and parts: what does not touch moves as if it were alone, whatever else there is, on any number of threads; what rests sleeps."""

import dataclasses

import numpy as np
import pytest
from benchmarks.orders import HEAPS, apart, falling

from artuline.core.geometry import rotation
from artuline.core.physics import island_runs
from artuline.core.physics.state import ASKED, DONE, FACTORED, HALTED
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Shape

FRAME = 1.0 / 24.0
BALL = Shape(kind="sphere", radius=0.1)
X, Y = np.array([1.0, 0.0, 0.0]), np.array([0.0, 1.0, 0.0])


def chain(place, links=4, speed=0.0, spin=0.0):
    """Specs of balls in a row, joined."""
    bodies = [
        BodySpec(
            (BALL,), position=np.asarray(place) + 0.25 * k * X, velocity=-speed * Y, spin=np.array([0.0, spin, 0.0])
        )
        for k in range(links)
    ]
    return bodies, [JointSpec(k - 1, k, anchor=-0.125 * X, damping=1.0) for k in range(1, links)]


def together(*parts, **more):
    bodies, joints = [], []
    for mine, links in parts:
        first = len(bodies)
        bodies += mine
        joints += [dataclasses.replace(j, parent=j.parent + first, child=j.child + first) for j in links]
    return World(bodies, joints, **more)


def run(world, frames, substeps=10):
    for _ in range(frames):
        world.step(FRAME, substeps)
    return world.bodies["x"].copy()


def heap(count=6, seed=1):
    """Chains that fall into a heap, in two places far from each other."""
    random = np.random.default_rng(seed)
    parts = [
        chain([20.0 * (k % 2) + random.uniform(-0.3, 0.3), 0.3 + 0.25 * (k // 2), random.uniform(-0.2, 0.2)], 3, 1.0)
        for k in range(count)
    ]
    return together(*parts, plane=(0.0, 0.5, 0.0))


def test_what_does_not_touch_moves_as_if_it_were_alone():
    """To the last bit, falling, landing and at rest."""
    alone = run(together(chain([0, 0.5, 0], spin=3.0), plane=(0.0, 0.5, 0.0)), 30)
    beside = run(
        together(
            chain([0, 0.5, 0], spin=3.0), chain([0, 1.5, 9], 3, 4.0), chain([0, 0.11, -9], 5), plane=(0.0, 0.5, 0.0)
        ),
        30,
    )
    np.testing.assert_array_equal(beside[:4], alone)


@pytest.mark.parametrize("threads", [2, 3])
def test_threads_do_not_change_a_bit(monkeypatch, threads):
    monkeypatch.setattr(island_runs, "threads", 1)
    one = heap()
    run(one, 24)
    monkeypatch.setattr(island_runs, "threads", threads)
    many = heap()
    run(many, 24)
    for name in ("x", "q", "v", "w", "penetration", "contact"):
        np.testing.assert_array_equal(one.bodies[name], many.bodies[name])
    np.testing.assert_array_equal(one.joints["separation"], many.joints["separation"])
    np.testing.assert_array_equal(
        one.counters[[ASKED, DONE, FACTORED, HALTED]], many.counters[[ASKED, DONE, FACTORED, HALTED]]
    )


@pytest.mark.parametrize("substeps", [2, 10])
def test_what_is_deflected_into_something_else_is_caught(substeps):
    """A fast ball bounces off a wall on its keys towards another, which stands where nobody saw it coming at the frame's start."""
    wall = BodySpec((Shape(kind="box", half=(0.1, 1.0, 1.0)),), position=0.6 * X, restitution=1.0, free=False)
    fast = BodySpec((BALL,), position=0.2 * X, velocity=12.0 * X, restitution=1.0)
    other = BodySpec((BALL,), position=-0.05 * X - 0.1 * X, mass=None, restitution=1.0)
    world = World([wall, fast, other], gravity=(0.0, 0.0, 0.0))
    momentum = None
    for _ in range(4):
        world.step(FRAME, substeps)
        x = world.bodies["x"]
        assert x[2, 0] < x[1, 0] - 0.19 and x[1, 0] < 0.41
        momentum = world.bodies["mass"][2] * world.bodies["v"][2, 0]
    assert momentum == pytest.approx(-12.0 * world.bodies["mass"][1], rel=0.02)


@pytest.mark.parametrize("substeps", [2, 10])
def test_islands_that_hang_on_one_keyed_body_move_as_if_alone(substeps):
    """Two pendulums on a bar that is turned faster and faster: each as with the other one left out."""

    def swing(places):
        bar = BodySpec((), mass=1.0, inertia=np.ones(3), free=False)
        bobs = [BodySpec((BALL,), position=np.array([0.3, -1.0, z])) for z in places]
        joints = [JointSpec(0, k + 1, "hinge", anchor=Y, damping=0.5) for k in range(len(places))]
        world = World([bar, *bobs], joints)
        for f in range(36):
            t = (f + np.arange(substeps + 1) / substeps) * FRAME
            x, q = np.zeros((substeps + 1, len(places) + 1, 3)), np.zeros((substeps + 1, len(places) + 1, 4))
            x[:, 0, 0], q[..., 3] = 0.3 * t**2, 1.0
            q[:, 0] = rotation.from_rotation_vector(np.outer(t**2, [0.0, 0.4, 0.1]))
            free = np.ones((substeps, len(places) + 1), bool)
            free[:, 0] = False
            world.step_keyed(FRAME, x, q, free, np.zeros(free.shape), np.zeros((substeps, len(places))))
        assert world.joints["separation"].max() < 2e-5
        assert world.counters[DONE] == world.counters[ASKED]
        return world.bodies["x"]

    both, first, second = swing((-2.0, 2.0)), swing((-2.0,)), swing((2.0,))
    # the stiffness of their joints goes by all that hangs on the bar
    np.testing.assert_allclose(both[1], first[1], atol=1e-9)
    np.testing.assert_allclose(both[2], second[1], atol=1e-9)


def test_a_keyed_body_feels_what_rests_on_it_in_every_frame():
    """Two boxes on one keyed plank are two islands: the plank feels both, in every frame anew, and nothing is ever below zero."""
    plank = BodySpec((Shape(kind="box", half=(2.0, 0.1, 0.5)),), mass=1.0, free=False)
    boxes = [
        BodySpec((Shape(kind="box", half=(0.1, 0.1, 0.1)),), position=np.array([x, 0.25, 0.0])) for x in (-1.0, 1.0)
    ]
    world = World([plank, *boxes])
    felt = []
    for _ in range(24):
        run(world, 1)
        felt.append(world.bodies["contact"].copy())
        world.reset_report()
    felt = np.array(felt)
    assert (felt >= 0.0).all() and felt[-1, 1] > 0.0
    np.testing.assert_allclose(felt[:, 0], felt[:, 1] + felt[:, 2], rtol=1e-9, atol=1e-12)
    # at rest, the weight of both in a frame
    weight = world.bodies["mass"][1:].sum() * 9.81 / 24.0
    np.testing.assert_allclose(felt[-5:, 0], weight, rtol=1e-3)


def test_rest_sleeps_reports_and_wakes():
    """At rest nothing is solved; what is felt goes on being told; a push, a shot, other gravity and moved ground wake it."""
    world = together(chain([0, 0.11, 0]), plane=(0.0, 0.5, 0.0))
    run(world, 60)
    world.reset_report()
    before = world.counters.copy()
    world.step(FRAME, 10)
    assert world.counters[FACTORED] == before[FACTORED] and world.counters[DONE] == before[DONE] + 10
    weight = 9.81 * world.bodies["mass"].sum() * FRAME
    assert world.bodies["contact"].sum() == pytest.approx(weight, rel=1e-3)
    place = world.bodies["x"].copy()
    world.bodies["push"][0, 0] = 2.0 * weight / FRAME
    world.step(FRAME, 10)
    assert np.linalg.norm(world.bodies["x"][0] - place[0]) > 1e-3
    world.bodies["push"] = 0.0
    run(world, 120)
    before = world.counters.copy()
    world.bodies["q"][0] = rotation.multiply(
        rotation.from_rotation_vector(np.array([0.0, 1e-3, 0.0])), world.bodies["q"][0]
    )
    world.step(FRAME, 10)
    assert world.counters[FACTORED] > before[FACTORED]
    run(world, 120)
    before = world.counters.copy()
    world.gravity[:] = 0.0, 0.0, 0.0
    world.bodies["v"][:, 1] += 1e-12
    world.step(FRAME, 10)
    assert world.counters[FACTORED] > before[FACTORED]


def test_what_sleeps_wakes_when_something_comes():
    sleeper, guest = chain([0, 0.11, 0]), chain([0.3, 12.0, 0], 1)
    world = together(sleeper, guest, plane=(0.0, 0.5, 0.0))
    place = run(world, 26)[:4]
    before = world.counters[FACTORED]
    world.step(FRAME, 10)
    assert world.counters[FACTORED] - before <= 20  # the guest alone falls
    run(world, 16)
    assert np.abs(world.bodies["x"][:4] - place).max() > 1e-3


def test_a_large_heap_needs_no_table_of_all_pairs():
    """1,000 balls over the ground: room for what is near, not for all that there is."""
    places = [(0.25 * (k % 10), 0.1 + 0.25 * (k // 100), 0.25 * (k // 10 % 10)) for k in range(1000)]
    world = World([BodySpec((BALL,), position=np.array(p)) for p in places], plane=(0.0, 0.5, 0.0))
    world.step(FRAME, 4)
    rows = sum(a.nbytes for a in (world.pairs, world.spare, world.slots))
    assert rows < 40e6
    assert world.bodies["x"][:, 1].min() > 0.09


@pytest.mark.parametrize("kinds", HEAPS[:4])
def test_the_order_of_the_figures_is_of_no_account(kinds):
    assert apart(falling(kinds), AssetStore(), orders=4).max() < 1e-6


def test_what_was_in_an_island_of_trees_is_one_tree_when_it_is_left_alone():
    """Its shapes are all looked at then, also in a substep that is halved: it falls as if there had never been others."""

    world = together(chain((0.0, 0.12, 0.0)), chain((0.2, 0.33, 0.0)), plane=(0.0, 0.6, 0.0))
    n, free = len(world.bodies), np.ones((4, len(world.bodies)), bool)
    for frame in range(36):
        x, q = world.poses()
        if frame == 12:
            # until now an island of two trees; what it lay on is put away, and it is thrown up
            assert set(world.bodies["cell"]) == {0, 1}
            free[:, :4] = False
            x[:4, 0] += 5.0
            world.bodies["v"][4:] += np.array([0.0, 4.0, 0.0])
            world.bodies["w"][4:] += np.array([0.0, 0.0, 60.0])
        x, q = world.inner(*(np.repeat(a[None], 5, axis=0) for a in (x, q)))
        world.step_keyed(FRAME, x, q, free, np.zeros((4, n)), np.zeros((4, len(world.joints))))
    assert (world.bodies["cell"][4:] == 0).all()
    assert world.poses()[0][4:, 1].min() > 0.095
