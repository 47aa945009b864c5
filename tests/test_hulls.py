"""Convex hulls and triangle meshes: against boxes and spheres that they stand for, and at rest."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from artuline.core.errors import ArtulineError
from artuline.core.geometry import mass, rotation
from artuline.core.geometry.polyhedron import box_hull, hull_of, triangle_mesh
from artuline.core.physics.world import BodySpec, World
from artuline.core.scene.model import Shape
from tests.test_collision import contacts_of, pose

HALF = (0.2, 0.12, 0.3)
FRAME = 1.0 / 24.0


def points_of(half):
    return tuple((x * half[0], y * half[1], z * half[2]) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1))


BOX = Shape(kind="box", half=HALF)
HULL = Shape(kind="hull", points=points_of(HALF))
SPHERE = Shape(kind="sphere", radius=0.15)
CAPSULE = Shape(kind="capsule", radius=0.1, half_length=0.25)


def floor(size=4.0, cells=8, wave=0.0):
    """A square floor of triangles, level or wavy."""
    g = np.linspace(-size / 2, size / 2, cells + 1)
    x, z = np.meshgrid(g, g, indexing="ij")
    y = wave * np.sin(3.0 * x) * np.cos(2.0 * z)
    v = np.stack([x, y, z], axis=-1).reshape(-1, 3)
    n = cells + 1
    t = []
    for i in range(cells):
        for k in range(cells):
            a, b, c, d = i * n + k, i * n + k + 1, (i + 1) * n + k, (i + 1) * n + k + 1
            t += [(a, b, d), (a, d, c)]
    return triangle_mesh(v, np.array(t))


def on_floor(shape, height, mesh=None, **more):
    ground = BodySpec((Shape(kind="mesh", asset="floor"),), free=False)
    body = BodySpec((shape,), position=np.array([0.05, height, 0.02]), **more)
    return World([ground, body], meshes={"floor": mesh or floor()})


def test_a_box_as_a_hull_is_a_box():
    hull = hull_of(points_of(HALF))
    volume, moments = mass.box(np.array(HALF))
    assert (len(hull.vertices), len(hull.planes), len(hull.edges)) == (8, 6, 12)
    assert all(len(loop) == 4 for loop in hull.loops)
    assert hull.volume == pytest.approx(volume)
    np.testing.assert_allclose(np.sort(hull.moments), np.sort(moments), rtol=1e-9)


@settings(max_examples=50)
@given(st.integers(0, 10**6), st.integers(4, 40))
def test_a_hull_holds_its_points_and_obeys_euler(seed, count):
    points = np.random.default_rng(seed).normal(size=(count, 3))
    hull = hull_of(tuple(map(tuple, points.tolist())))
    heights = points @ hull.planes[:, :3].T - hull.planes[:, 3]
    assert heights.max() < 1e-9
    assert len(hull.vertices) - len(hull.edges) + len(hull.planes) == 2
    for loop, plane in zip(hull.loops, hull.planes):
        a, b, c = hull.vertices[list(loop[:3])]
        assert np.cross(b - a, c - b) @ plane[:3] > 0.0


def test_points_in_a_plane_are_no_hull():
    with pytest.raises(ArtulineError, match="no volume"):
        hull_of(((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (1.0, 1.0, 0.0)))


@settings(max_examples=60)
@given(st.integers(0, 10**6), st.sampled_from([SPHERE, CAPSULE, BOX]))
def test_a_hull_touches_as_the_box_it_stands_for(seed, other):
    random = np.random.default_rng(seed)
    poses = [pose(random, 0.35), pose(random, 0.35)]

    def gaps(shape):
        bodies = [BodySpec((s,), position=p, rotation=q) for s, (p, q) in zip((shape, other), poses)]
        found = contacts_of(World(bodies), reach=1.0)
        return found["gap"].min(initial=np.inf), len(found)

    (hull, _), (box, found) = gaps(HULL), gaps(BOX)
    if not found:
        return
    assert (hull > 0.0) == (box > 0.0)
    if box > 0.03:
        return  # speculative: boxes are measured along their faces only, and a face's contacts may be three degrees off
    if other.kind == "box" or box < -0.09:
        assert hull >= box - 2e-3
    else:
        assert hull == pytest.approx(box, abs=5e-4 + 0.2 * max(box, 0.0))


def test_hulls_fall_on_a_plane_and_lie_still():
    random = np.random.default_rng(3)
    shape = Shape(kind="hull", points=tuple(map(tuple, random.normal(size=(20, 3)) * 0.15)))
    world = World([BodySpec((shape,), position=np.array([0.0, 0.6, 0.0]), spin=np.array([2.0, 1.0, 3.0]))],
                  plane=(0.0, 0.6, 0.0))  # fmt: skip
    for _ in range(96):
        world.step(FRAME, 10)
    p, q = world.poses()
    lowest = (p[0] + rotation.rotate(q[0], hull_of(shape.points).vertices))[:, 1].min()
    assert -1e-3 < lowest < 1e-3
    assert np.abs(world.bodies["v"]).max() < 1e-3


def test_a_stack_of_hulls_stands():
    bodies = [BodySpec((HULL,), position=np.array([0.0, 0.12 + 0.24 * i, 0.0])) for i in range(4)]
    world = World(bodies, plane=(0.0, 0.6, 0.0))
    for _ in range(72):
        world.step(FRAME, 10)
    p, _ = world.poses()
    np.testing.assert_allclose(p[:, 1], 0.12 + 0.24 * np.arange(4), atol=2e-3)
    np.testing.assert_allclose(p[:, 0], 0.0, atol=2e-3)
    assert np.linalg.norm(world.bodies["v"], axis=1).mean() < 1e-3


@pytest.mark.parametrize("shape, height", [(BOX, 0.12), (HULL, 0.12), (SPHERE, 0.15), (CAPSULE, 0.1)])
def test_shapes_rest_on_a_mesh_as_on_a_plane(shape, height):
    world = on_floor(shape, height + 0.3)
    for _ in range(72):
        world.step(FRAME, 10)
    p, _ = world.poses()
    assert p[1, 1] == pytest.approx(height, abs=2e-3)
    assert np.abs(world.bodies["v"][1]).max() < 2e-3


def test_nothing_catches_on_the_edges_of_a_flat_mesh():
    """A box slides over triangles as over a plane."""
    speed, friction = 3.0, 0.3
    world = on_floor(BOX, 0.12, floor(8.0, 12), velocity=np.array([speed, 0.0, 0.0]), friction=friction)
    world.shapes["friction"] = friction
    for _ in range(24):
        world.step(FRAME, 10)
    p, _ = world.poses()
    stop = speed**2 / (2 * friction * 9.81)
    assert p[1, 0] - 0.05 == pytest.approx(stop, rel=0.03)
    assert p[1, 1] == pytest.approx(0.12, abs=2e-3)


def test_a_bullet_does_not_pass_through_a_mesh():
    ball = Shape(kind="sphere", radius=0.01)
    world = on_floor(ball, 0.7, velocity=np.array([0.0, -60.0, 0.0]))
    for _ in range(12):
        world.step(FRAME, 10)
        assert world.poses()[0][1, 1] > 0.0


def test_a_wavy_floor_holds_what_falls_on_it():
    mesh = floor(4.0, 24, 0.08)
    for shape in (BOX, HULL, CAPSULE):
        world = on_floor(shape, 0.8, mesh, spin=np.array([1.0, 2.0, 0.5]))
        deepest = 0.0
        for n in range(72):
            world.step(FRAME, 10)
            deepest = max(deepest, world.bodies["penetration"][1] if n > 24 else 0.0)
            world.reset_report()
        assert world.poses()[0][1, 1] > -0.1
        assert deepest < 5e-3


def test_a_margin_keeps_its_distance():
    thick = SPHERE.changed(margin=0.02)
    world = World([BodySpec((thick,), position=np.array([0.0, 0.3, 0.0]))], plane=(0.0, 0.5, 0.0))
    for _ in range(48):
        world.step(FRAME, 10)
    assert world.poses()[0][0, 1] == pytest.approx(0.17, abs=1e-3)


def test_a_mesh_cannot_be_a_body_of_a_figure_and_bad_triangles_are_refused():
    with pytest.raises(ArtulineError, match="area"):
        triangle_mesh(np.zeros((3, 3)), np.array([[0, 1, 2]]))
    assert box_hull(np.array(HALF)).volume == pytest.approx(8 * np.prod(HALF))
