"""The sparse direct solve against NumPy's dense one, on random graphs."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from artuline.core.geometry import rotation
from artuline.core.physics import drives, graph, joint_solve, joints, motion
from artuline.core.physics.world import BodySpec, JointSpec, World, components
from artuline.core.scene.model import Shape

BOX = Shape(kind="box", half=(0.1, 0.2, 0.15))


def skew(r):
    return np.array([[0, -r[2], r[1]], [r[2], 0, -r[0]], [-r[1], r[0], 0]])


def jacobian(r):
    """Velocity of a point at arm r from a body's (v, w)."""
    return np.hstack([np.eye(3), -skew(r)])


def random_world(seed, count, loops):
    """Bodies on a random tree, with pins that close loops."""
    random = np.random.default_rng(seed)
    specs = [
        BodySpec(
            (BOX,),
            density=float(random.uniform(200, 2000)),
            position=random.uniform(-1, 1, 3),
            rotation=rotation.normalize(random.normal(size=4)),
            velocity=random.normal(size=3),
            spin=random.normal(size=3),
        )
        for _ in range(count)
    ]
    links = [
        JointSpec(
            int(random.integers(-1, i)), i, anchor=random.uniform(-0.2, 0.2, 3), damping=float(random.uniform(0, 5))
        )
        for i in range(count)
    ]
    for _ in range(loops):
        a, b = random.choice(count, 2, replace=False)
        links.append(JointSpec(int(a), int(b), "pin", anchor=random.uniform(-0.2, 0.2, 3)))
    return World(specs, links, contacts=False), random


def prepared(world, h):
    b, j = world.bodies, world.joints
    motion.world_inertia(b)
    motion.free_velocities(b, world.gravity, world.wind, h)
    drives.effective_inertia(b, j, world.coupled, world.scratch)
    joints.prepare_joints(b, j, h)
    drives.prepare_drives(b, j, h, h)
    assert graph.arrange(
        b,
        j,
        world.contacts,
        world.coupled,
        0,
        world.parts[0],
        world.parts[3],
        np.arange(len(b)),
        world.elimination,
        0,
        True,
    )
    motion.fill_lanes(b, world.lanes)
    motion.drift(b, world.lanes, h)
    joints.residuals(b, j, h, False, False, True)
    drives.add_bodies(b, world.blocks, h)
    joint_solve.add_joints(b, world.blocks, j, world.scratch, 0.1)
    return b, j


def dense(world):
    """The same matrix, put together by NumPy from the joints' rows."""
    b, j = world.bodies, world.joints
    n = len(b)
    full = np.zeros((6 * n, 6 * n))
    for i in range(n):
        full[6 * i : 6 * i + 3, 6 * i : 6 * i + 3] = b["mass"][i] * np.eye(3)
        full[6 * i + 3 : 6 * i + 6, 6 * i + 3 : 6 * i + 6] = b["M"][i]
    for row in j:
        ends = [(int(row["child"]), row["rc"], 1.0)]
        if row["parent"] >= 0:
            ends.append((int(row["parent"]), row["rp"], -1.0))
        rows = np.zeros((6, 6 * n))
        for body, arm, sign in ends:
            rows[:3, 6 * body : 6 * body + 6] += sign * jacobian(arm)
            rows[3:, 6 * body + 3 : 6 * body + 6] += sign * np.eye(3)
        k = np.zeros((6, 6))
        k[:3, :3] = row["k"][0] * np.eye(3)
        k[3:, 3:] = row["Kd"] if row["driven"] else 0.0
        full += rows.T @ k @ rows
    return full


@settings(max_examples=25)
@given(st.integers(0, 10**6), st.integers(2, 14), st.integers(0, 3))
def test_the_solve_is_that_of_the_dense_matrix(seed, count, loops):
    world, random = random_world(seed, count, min(loops, count - 1))
    b, _ = prepared(world, 1.0 / 240)
    full = dense(world)
    graph.factor(b, world.blocks, world.elimination)
    right = random.normal(size=(count, 6))
    b["f"] = right
    graph.solve(b, world.blocks, world.elimination)
    found = b["f"].reshape(-1)
    # stiff rows lie ten powers above the masses: compare what the solution does, not its last digits
    residual = full @ found - right.reshape(-1)
    scale = np.abs(full) @ np.abs(found) + np.abs(right).reshape(-1)
    assert (np.abs(residual) / scale).max() < 1e-9


@settings(max_examples=25)
@given(st.integers(0, 10**6), st.integers(2, 40))
def test_trees_have_no_fill_in(seed, count):
    world, _ = random_world(seed, count, 0)
    b, _ = prepared(world, 1.0 / 240)
    assert b["neighbours"].max() <= 1
    # every body is eliminated before the one that it hangs on, from the leaves
    order = {int(i): n for n, i in enumerate(world.elimination)}
    for i in range(count):
        for other in b["up"][i][: b["neighbours"][i]]:
            assert order[i] < order[int(other)]


def test_a_ring_has_one_extra_block_a_body():
    specs = [BodySpec((BOX,), position=np.array([np.cos(t), np.sin(t), 0.0])) for t in np.linspace(0, 6, 20)]
    links = [JointSpec(i - 1, i) for i in range(1, 20)] + [JointSpec(0, 19, "pin")]
    world = World(specs, links, contacts=False)
    b, _ = prepared(world, 1.0 / 240)
    assert b["neighbours"].max() == 2 and b["neighbours"].sum() <= 2 * 20


def test_keyed_bodies_take_no_part():
    world, random = random_world(5, 8, 1)
    world.bodies["free"][[0, 3]] = False
    b, _ = prepared(world, 1.0 / 240)
    graph.factor(b, world.blocks, world.elimination)
    b["f"] = random.normal(size=(8, 6))
    graph.solve(b, world.blocks, world.elimination)
    assert np.all(b["f"][[0, 3]] == 0.0) and np.all(b["f"][1] != 0.0)


@pytest.mark.parametrize("even", [True, False])
def test_a_point_is_the_same_stiffness_by_both_ways(even):
    world, random = random_world(3, 2, 0)
    b, _ = prepared(world, 0.01)
    drives.add_bodies(b, world.blocks, 0.01)
    before = b["D"].copy()
    ri, rj, k = random.normal(size=3), random.normal(size=3), 7.0
    if even:
        graph.add_joined(b, world.blocks, 0, 1, k, ri, rj)
    else:
        x, y = np.empty((3, 3)), np.empty((3, 3))
        graph.add_point(b, world.blocks, 0, 1, k * np.eye(3), ri, rj, x, y)
    for i, r in ((0, ri), (1, rj)):
        wanted = k * jacobian(r).T @ jacobian(r)
        np.testing.assert_allclose(np.tril(b["D"][i] - before[i]), np.tril(wanted), atol=1e-9)
    first, second, a, c = (0, 1, ri, rj) if b["rank"][0] < b["rank"][1] else (1, 0, rj, ri)
    slot = list(b["up"][first][: b["neighbours"][first]]).index(second)
    np.testing.assert_allclose(world.blocks["m"][b["first"][first] + slot], -k * jacobian(a).T @ jacobian(c), atol=1e-9)


@given(st.integers(0, 1 << 30))
def test_what_hangs_together_is_what_a_graph_library_says(seed):
    random = np.random.default_rng(seed)
    n = int(random.integers(1, 40))
    parents, children = random.integers(-1, n, n // 2), random.integers(0, n, n // 2)
    inside = parents >= 0
    edges = coo_array((np.ones(inside.sum()), (parents[inside], children[inside])), (n, n))
    _, label = connected_components(edges, directed=False)
    lowest = [int(np.flatnonzero(label == k)[0]) for k in label]
    assert components(parents, children, n).tolist() == lowest
