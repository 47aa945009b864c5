"""Impulses give no energy: rest that stays rest, whips that stay bounded, impacts that only lose."""

import numpy as np
import pytest
from benchmarks.fuzz import random_ragdoll, watch
from benchmarks.scenes import FRAME, chain, deckhand, stretch

from artuline.core.geometry import rotation
from artuline.core.physics.state import ASKED, FACTORED
from artuline.core.physics.world import BodySpec, World
from artuline.core.scene.model import Shape
from tests.test_hulls import BOX, floor, on_floor


@pytest.mark.parametrize("start", range(4))
def test_a_box_in_the_hollow_of_a_mesh_is_not_thrown_out(start):
    """It may land anyhow; its energy over the level of the floor's lowest point never grows again."""
    spin = np.array([1.0, 2.0, 0.5]) + 0.05 * start
    world = on_floor(BOX, 0.8, floor(4.0, 24, 0.08), spin=spin)
    levels = []
    for _ in range(72):
        world.step(FRAME, 10)
        levels.append(world.energy())
    rise = np.diff(levels)
    assert rise.max() < 0.02 * (levels[0] - min(levels))
    assert world.poses()[0][1, 1] > -0.1


def test_the_whip_of_a_heavy_tip_stays_bounded():
    for k in range(8):
        length = 0.1 * (1.0 + 1e-9 * k)
        world = chain(10, 1000, length)
        start, weight = world.energy(), 100 * 9.81
        for _ in range(48):
            world.step(FRAME, 10)
            assert world.energy() - start < 0.04 * weight
            assert stretch(world, 10, length) < 1e-3


@pytest.mark.parametrize("friction", [0.2, 0.8, 2.0])
def test_a_tumbling_box_only_loses_when_it_hits(friction):
    shape = Shape(kind="box", half=(0.3, 0.1, 0.2))
    random = np.random.default_rng(5)
    for _ in range(4):
        velocity, spin = random.normal(0.0, 3.0, 3), random.normal(0.0, 6.0, 3)
        body = BodySpec((shape,), position=np.array([0.0, 0.6, 0.0]), velocity=velocity, spin=spin, friction=friction)
        world = World([body], plane=(0.0, friction, 0.0))
        before = world.energy()
        for _ in range(48):
            world.step(FRAME, 10)
            now = world.energy()
            assert now <= before + 0.01 * abs(before) + 0.05
            before = now


@pytest.mark.parametrize("turn", [(0.4, 0.0, 0.0), (-2.0, 1.0, 0.3)])
def test_a_ragdoll_at_rest_needs_one_factorisation_a_substep(turn):
    """Neither a contact near by, nor a limit that is struck, nor one left a little beyond its end flickers."""
    world, _, _ = deckhand(1.0)
    b, q, middle = world.bodies, rotation.from_rotation_vector(np.array(turn)), np.array([0.0, 2.0, 0.0])
    b["x"] = middle + rotation.rotate(q, b["x"] - middle)
    b["q"] = rotation.multiply(q, b["q"])
    for _ in range(192):
        world.step(FRAME, 10)
    before = world.counters.copy()
    for _ in range(24):
        b["rest"] = 0.0  # none may sleep
        world.step(FRAME, 10)
    spent = world.counters - before
    assert np.linalg.norm(b["v"], axis=1).max() < 0.03
    assert spent[ASKED] <= spent[FACTORED] < 1.5 * spent[ASKED]


def test_what_is_jammed_among_joints_does_not_push_ever_harder():
    """A contact between bodies that their joints hold fast: it may be pressed in, but its push may not grow from substep to substep."""
    assert watch(random_ragdoll(20855), seconds=1.5) == ""
