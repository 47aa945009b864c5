"""Contact points against signed distances, for random pairs of shapes in random places."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from artuline.core.geometry import distance, rotation
from artuline.core.physics import collide
from artuline.core.physics.state import FULL, NEAR, PAIR
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.scene.model import Shape

KINDS = {
    "sphere": Shape(kind="sphere", radius=0.15),
    "capsule": Shape(kind="capsule", radius=0.1, half_length=0.25),
    "box": Shape(kind="box", half=(0.2, 0.12, 0.3)),
}
PAIRS = list(itertools.combinations_with_replacement(KINDS, 2))


def contacts_of(world, reach=0.0):
    """All contact points closer than ``reach``."""
    return world.contacts_now(reach)


@settings(max_examples=30)
@given(st.integers(0, 1 << 30), st.floats(0.0, 0.5))
def test_all_pairs_that_come_to_touch_are_near(seed, dt):
    """Twice, the second time from the order of the first; pairs that are far, or do not collide, are never near."""
    random = np.random.default_rng(seed)
    radii, v = random.uniform(0.02, 0.3, 25), random.normal(size=(25, 3))
    spheres = [Shape(kind="sphere", radius=float(r)) for r in radii]
    places = random.uniform(-1, 1, (25, 3))
    bodies = [BodySpec((s,), position=p, velocity=u) for s, p, u in zip(spheres, places, v, strict=True)]
    world = World(bodies, off={(0, 1), (2, 9)}, plane=(-0.5, 0.5, 0.0))
    b = world.bodies
    size = 26 * 25 // 2
    pairs, spare, slots = np.zeros(size, PAIR), np.zeros(size, PAIR), np.full(1024, -1)
    all_pairs = [(i, j) for j in range(26) for i in range(j) if (i, j) not in {(0, 1), (2, 9)}]
    times = np.linspace(0.0, dt, 50)[:, None]
    for _ in range(2):
        collide.find_near(b, world.shapes, pairs, spare, slots, world.apart, world.counters, world.row, dt)
        found = pairs[: world.counters[NEAR]]
        near = {(int(min(p["a"], p["b"])), int(max(p["a"], p["b"]))) for p in found}
        assert len(near) == world.counters[NEAR] and near <= set(all_pairs)
        assert (slots == -1).all() and not world.counters[FULL]
        for i, j in all_pairs:
            if j == 25:
                gaps = b["x"][i, 1] + times * v[i, 1] - radii[i] + 0.5
                most = b["fastest"][i] + np.linalg.norm(v[i])
            else:
                gaps = np.linalg.norm(b["x"][i] - b["x"][j] + times * (v[i] - v[j]), axis=1) - radii[i] - radii[j]
                most = b["fastest"][i] + b["fastest"][j] + np.linalg.norm(v[i] - v[j])
            assert (i, j) in near or gaps.min() > 0.0
            assert (i, j) not in near or gaps.flat[0] < collide.TOUCH + dt * most
        b["x"] += random.uniform(-0.2, 0.2, (25, 3))


def test_shapes_can_be_silent():
    ball = Shape(kind="sphere", radius=0.2)
    world = World([BodySpec((ball,), position=np.array([0.3 * i, 0.0, 0.0])) for i in range(3)])
    assert len(contacts_of(world)) == 2
    world.set_silent(np.array([True, False, False]), True)
    (contact,) = contacts_of(world)
    assert set(contact["shapes"]) == {1, 2}
    world.set_silent(np.array([True, False, False]), False)
    assert len(contacts_of(world)) == 2


def test_more_pairs_than_there_is_room_for_are_said():
    ball = Shape(kind="sphere", radius=0.2)
    world = World([BodySpec((ball,), position=np.array([0.1 * i, 0.0, 0.0])) for i in range(3)])
    room = np.zeros(1, PAIR), np.zeros(1, PAIR), np.full(8, -1)
    collide.find_near(world.bodies, world.shapes, *room, world.apart, world.counters, world.row, 0.1)
    assert world.counters[NEAR] == 1 and world.counters[FULL]


def pose(random, spread):
    return random.uniform(-spread, spread, 3), rotation.normalize(random.normal(size=4))


def surface_gap(shape_a, pose_a, shape_b, pose_b, random):
    """Distance of two shapes by sampling: the least signed distance between dense points of one and the other."""
    points = np.concatenate([_surface(shape_a, random), _inside(shape_a, random)])
    world = pose_a[0] + rotation.rotate(pose_a[1], points)
    local = rotation.rotate(rotation.conjugate(pose_b[1]), world - pose_b[0])
    return float(distance.shape(local, shape_b).min())


def _surface(shape, random):
    if shape.kind == "box":
        p = random.uniform(-1, 1, (6000, 3))
        face = random.integers(0, 3, 6000)
        p[np.arange(6000), face] = np.sign(p[np.arange(6000), face])
        corners = np.array(list(itertools.product((-1, 1), repeat=3)), float)
        edges = random.choice([-1.0, 1.0], (3000, 3))
        edges[np.arange(3000), random.integers(0, 3, 3000)] = random.uniform(-1, 1, 3000)
        return np.concatenate([p, corners, edges]) * shape.half
    d = random.normal(size=(8000, 3))
    d *= shape.radius / np.linalg.norm(d, axis=1, keepdims=True)
    d[:, 0] += random.uniform(-1, 1, 8000) * shape.half_length
    return d


def _inside(shape, random):
    return _surface(shape, random) * random.uniform(0, 1, (1, 1))


@settings(max_examples=40)
@given(st.integers(0, 10**6), st.sampled_from(PAIRS))
def test_the_nearest_contact_is_as_far_as_the_shapes_are(seed, pair):
    random = np.random.default_rng(seed)
    a, b = (KINDS[k] for k in pair)
    poses = pose(random, 0.3), pose(random, 0.3)
    bodies = [BodySpec((s,), position=p, rotation=q) for s, (p, q) in zip((a, b), poses)]
    found = contacts_of(World(bodies), reach=1.0)
    exact = min(surface_gap(a, poses[0], b, poses[1], random), surface_gap(b, poses[1], a, poses[0], random))
    if exact > 0.02:
        # apart: the gap is the distance, to what the samples can tell
        assert len(found) and found["gap"].min() == pytest.approx(exact, abs=0.02)
    if exact < -0.03:
        assert len(found) and found["gap"].min() < 0.0
    for c in found:
        assert np.linalg.norm(c["normal"]) == pytest.approx(1.0)


@settings(max_examples=40)
@given(st.integers(0, 10**6), st.sampled_from(PAIRS))
def test_moving_apart_along_the_normal_ends_the_contact(seed, pair):
    random = np.random.default_rng(seed)
    a, b = (KINDS[k] for k in pair)
    (pa, qa), (pb, qb) = pose(random, 0.2), pose(random, 0.2)
    found = contacts_of(World([BodySpec((a,), position=pa, rotation=qa), BodySpec((b,), position=pb, rotation=qb)]))
    if not len(found) or found["gap"].min() >= -1e-3:
        return
    deep = found[found["gap"].argmin()]
    # the normal points from the second shape of the pair to the first
    sign = 1.0 if deep["shapes"][0] == 0 else -1.0
    moved = pa + sign * deep["normal"] * (-deep["gap"] + 2e-3)
    after = contacts_of(World([BodySpec((a,), position=moved, rotation=qa), BodySpec((b,), position=pb, rotation=qb)]))
    assert after["gap"].min(initial=1.0) > deep["gap"] + 0.5 * abs(deep["gap"])


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=25)
@given(st.integers(0, 10**6))
def test_the_lowest_contact_with_the_ground_is_the_lowest_point(kind, seed):
    random = np.random.default_rng(seed)
    shape = KINDS[kind]
    p, q = pose(random, 0.1)
    found = contacts_of(World([BodySpec((shape,), position=p, rotation=q)], plane=(0.0, 0.5, 0.0)), reach=2.0)
    points = p + rotation.rotate(q, _surface(shape, random))
    assert found["gap"].min() == pytest.approx(points[:, 1].min(), abs=0.015)
    np.testing.assert_allclose(found["normal"], np.tile([0, 1.0, 0], (len(found), 1)), atol=1e-12)


def test_a_box_rests_on_four_points_and_a_capsule_on_two():
    for shape, height, count in ((KINDS["box"], 0.12, 4), (KINDS["capsule"], 0.1, 2), (KINDS["sphere"], 0.15, 1)):
        world = World([BodySpec((shape,), position=np.array([0, height, 0]))], plane=(0.0, 0.5, 0.0))
        assert len(contacts_of(world)) == count
    lower = BodySpec((KINDS["box"],))
    upper = BodySpec((KINDS["box"],), position=np.array([0.05, 0.24, 0.1]))
    assert len(contacts_of(World([lower, upper]))) == 4
    lying = BodySpec((KINDS["capsule"],), position=np.array([0.0, 0.22, 0.0]))
    assert len(contacts_of(World([lower, lying]))) >= 2


def test_who_does_not_collide():
    def pairs(**more):
        bodies = [
            BodySpec((KINDS["sphere"],), position=np.array([0.1 * i, 0, 0]), **more.pop(f"body{i}", {}))
            for i in range(3)
        ]
        world = World(bodies, **more)
        return {tuple(sorted(c["shapes"].tolist())) for c in contacts_of(world)}

    everything = {(0, 1), (0, 2), (1, 2)}
    assert pairs() == everything
    assert pairs(joints=[JointSpec(0, 1)]) == everything - {(0, 1)}
    assert pairs(joints=[JointSpec(0, 1, "tie", lengths=(0, 1))]) == everything
    assert pairs(off={(0, 2)}) == everything - {(0, 2)}
    assert pairs(body0={"group": 4}, body2={"group": 4}) == everything - {(0, 2)}
    assert pairs(contacts=False) == set()


def test_shapes_of_one_body_do_not_collide_with_each_other():
    several = BodySpec((KINDS["sphere"], KINDS["box"]))
    assert len(contacts_of(World([several]))) == 0
