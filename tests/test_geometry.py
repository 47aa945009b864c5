"""Mass properties and distances against an independent mesh library and by sampling."""

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from artuline.core.geometry import distance, mass, rotation
from artuline.core.physics.world import shape_mass
from artuline.core.scene.model import Shape

sizes = st.floats(0.02, 2.0)


@settings(max_examples=15)
@given(sizes, sizes)
def test_capsule_mass_agrees_with_a_fine_mesh(radius, half):
    mesh = trimesh.creation.capsule(height=2 * half, radius=radius, count=[64, 64])
    mesh.apply_translation(-mesh.center_mass)
    volume, inertia = mass.capsule(radius, half)
    assert volume == pytest.approx(mesh.volume, rel=0.01)
    # the library's capsule lies along z, ours along x
    wanted = np.diag(mesh.moment_inertia)[[2, 0, 1]] / mesh.volume
    np.testing.assert_allclose(inertia, wanted, rtol=0.02)


def test_box_and_sphere_are_closed_form():
    volume, inertia = mass.box(np.array([0.5, 1.0, 2.0]))
    assert volume == pytest.approx(8.0)
    np.testing.assert_allclose(inertia, [5 / 3, 4.25 / 3, 1.25 / 3])
    volume, inertia = mass.sphere(2.0)
    assert volume == pytest.approx(4 / 3 * np.pi * 8)
    np.testing.assert_allclose(inertia, 1.6)


def test_two_halves_make_a_whole_box():
    half = np.array([0.5, 0.3, 0.2])
    volume, inertia = mass.box(half)
    total, centre, tensor = mass.combine(
        np.full(2, volume * 700.0),
        np.array([[-0.5, 0, 0], [0.5, 0, 0]]),
        np.tile(rotation.IDENTITY, (2, 1)),
        np.tile(volume * 700.0 * inertia, (2, 1)),
    )
    whole_volume, whole = mass.box(np.array([1.0, 0.3, 0.2]))
    assert total == pytest.approx(700.0 * whole_volume)
    np.testing.assert_allclose(centre, 0, atol=1e-12)
    np.testing.assert_allclose(tensor, np.diag(700.0 * whole_volume * whole), atol=1e-9)


SHAPES = [
    Shape(kind="capsule", radius=0.2, half_length=0.4, position=(0.1, 0.2, 0), rotation=(0, 0, 0.6, 0.8)),
    Shape(kind="sphere", radius=0.3, position=(0.2, -0.1, 0.3)),
    Shape(kind="box", half=(0.2, 0.3, 0.1), position=(0, 0.1, 0), rotation=(0.6, 0, 0, 0.8)),
]


@pytest.mark.parametrize("shape", SHAPES, ids=lambda s: s.kind)
def test_distance_is_exact_outside_and_never_too_long(shape):
    random = np.random.default_rng(7)
    points = random.uniform(-1, 1, (4000, 3))
    d = distance.shape(points, shape)
    inside = points[d < 0]
    volume, _ = shape_mass(shape)
    assert len(inside) / len(points) * 8.0 == pytest.approx(volume, rel=0.3)
    # a signed distance changes by no more than the step
    step = random.normal(size=(4000, 3)) * 0.05
    change = np.abs(distance.shape(points + step, shape) - d)
    assert (change <= np.linalg.norm(step, axis=1) + 1e-9).all()


@given(st.integers(0, 10_000), st.sampled_from(["sphere", "capsule", "box", "hull"]))
def test_the_nearest_place_on_a_surface_is_on_it_and_as_far_as_the_distance_says(seed, kind):
    random = np.random.default_rng(seed)
    turn = random.normal(size=4)
    shape = Shape(
        kind=kind, position=tuple(random.normal(size=3)), rotation=tuple(turn / np.linalg.norm(turn)),
        **{
            "sphere": {"radius": 0.3}, "capsule": {"radius": 0.1, "half_length": 0.5}, "box": {"half": (0.1, 0.4, 0.7)},
            "hull": {"points": tuple(map(tuple, random.normal(size=(12, 3))))},
        }[kind],
    )  # fmt: skip
    for point in shape.position + random.normal(size=(8, 3)):
        place = distance.on_surface(point, shape)
        gap = distance.shape(point[None], shape)[0]
        # planes of a hull that are nearly one are one
        exact = 1e-4 if kind == "hull" else 1e-7
        assert abs(distance.shape(place[None], shape)[0]) < exact
        # outside of a hull's edges its distance says no more than it must
        assert np.linalg.norm(point - place) == pytest.approx(abs(gap), abs=1e-7) or (
            kind == "hull" and np.linalg.norm(point - place) > abs(gap)
        )
    if kind == "hull":
        hull = trimesh.convex.convex_hull(np.array(shape.points))
        local = rotation.rotate(rotation.conjugate(np.array(shape.rotation)), random.normal(size=(8, 3)))
        wanted = trimesh.proximity.closest_point_naive(hull, local)[1]
        for x, far in zip(local, wanted):
            world = np.array(shape.position) + rotation.rotate(np.array(shape.rotation), x)
            assert np.linalg.norm(world - distance.on_surface(world, shape)) == pytest.approx(far, abs=1e-4)
