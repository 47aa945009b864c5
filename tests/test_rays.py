"""Rays against shapes: closed forms against marching along the ray by signed distances, which is another way to the same place."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from artuline.core.geometry import distance, rays, rotation
from artuline.core.scene.model import Shape

CORNERS = ((0.3, 0, 0), (-0.2, 0.1, 0), (0, 0.4, 0.1), (0, -0.1, 0.5), (0.1, -0.3, -0.2))
SHAPES = (
    Shape(kind="sphere", radius=0.3, position=(0.1, 0.0, -0.2)),
    Shape(kind="capsule", radius=0.15, half_length=0.4, position=(0.0, 0.2, 0.1), rotation=(0.5, 0.5, 0.5, 0.5)),
    Shape(kind="box", half=(0.1, 0.3, 0.2), position=(0.2, 0.1, 0.0), rotation=(0.0, 0.6, 0.0, 0.8)),
    Shape(kind="hull", points=CORNERS),
)
UNIT = st.tuples(*[st.floats(-1, 1)] * 3).filter(lambda v: np.linalg.norm(v) > 0.1)


def marched(origin, direction, shape, place, turn):
    """Distance to a shape, step by step."""
    back = rotation.conjugate(turn)
    o, d = rotation.rotate(back, origin - place), rotation.rotate(back, direction)
    t = 0.0
    for _ in range(600):
        gap = float(distance.shape((o + t * d)[None], shape)[0])
        if gap < 1e-9:
            return t
        t += gap
        if t > 60.0:
            return np.inf
    return t


@given(st.integers(0, 3), UNIT, UNIT, st.floats(1.0, 8.0), UNIT, st.floats(-3, 3))
def test_a_ray_meets_a_shape_where_marching_does(kind, towards, aside, far, axis, angle):
    shape = SHAPES[kind]
    way = -np.array(towards) / np.linalg.norm(towards)
    place = np.array([0.5, -0.2, 0.3])
    turn = rotation.from_rotation_vector(np.array(axis) / np.linalg.norm(axis) * angle)
    origin = place - far * way + 0.5 * np.array(aside)
    t = rays.shapes(origin, way, [shape], place[None], turn[None])[0]
    other = marched(origin, way, shape, place, turn)
    if np.isinf(t) or np.isinf(other):
        # a touch from the side may go either way
        way_along = np.linspace(0.0, far + 3.0, 3000)[:, None] * way
        gaps = distance.shape(rotation.rotate(rotation.conjugate(turn), origin + way_along - place), shape)
        assert np.isinf(t) == np.isinf(other) or abs(gaps.min()) < 1e-3
    else:
        assert t == pytest.approx(other, abs=2e-4)


def test_rays_along_the_axes_of_a_capsule_and_from_inside():
    one = np.ones(1)
    for origin, way, wanted in (
        ((-3.0, 0.1, 0.0), (1.0, 0, 0), 3.0 - 0.5 - np.sqrt(0.04 - 0.01)), ((0.3, 2.0, 0.0), (0, -1.0, 0), 1.8),
        ((0.0, 0.0, 0.0), (0.0, 0, 1.0), 0.0), ((0.9, 2.0, 0.0), (0, -1.0, 0), np.inf), ((-3.0, 0.3, 0.0), (1.0, 0, 0), np.inf),
        ((3.0, 0.0, 0.0), (1.0, 0, 0), np.inf),
    ):  # fmt: skip
        t = rays.capsules(np.array([origin]), np.array([way]), 0.2 * one, 0.5 * one)[0]
        assert t == pytest.approx(wanted)


def test_the_nearest_triangle_is_met_with_the_share_of_its_corners():
    flat = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0]])
    corners = np.stack([flat - np.array([0, 0, 1.0]), flat, flat[::-1] + np.array([3.0, 0, 0])])
    t, which, share = rays.triangles(np.array([0.25, 0.5, 2.0]), np.array([0, 0, -1.0]), corners)
    assert (t, which) == (2.0, 1) and share == pytest.approx([0.25, 0.25, 0.5])
    assert rays.triangles(np.array([0.9, 0.9, 2.0]), np.array([0, 0, -1.0]), corners) is None
    assert rays.triangles(np.array([0.25, 0.5, 2.0]), np.array([0, 0, 1.0]), corners) is None
    seen_from_its_edge = np.array([[[0.0, 0, 0], [0, 0, 1], [1, 0, 0]]])
    assert rays.triangles(np.array([0.2, 0.0, 2.0]), np.array([0, 0, -1.0]), seen_from_its_edge) is None
