"""What is inside of a surface, found quickly, is what its exact winding numbers say."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from artuline.core.geometry.winding import inside, winding_numbers
from artuline.core.scene.assets import AssetStore
from artuline.core.setup.skin import skin_normals, skin_of
from artuline.demo.figures import DATA
from artuline.formats.gltf_read import read_figure


def ball(count):
    """A closed surface of 2 count^2 triangles around the origin, of radius 1."""
    a, b = np.meshgrid(np.linspace(0, np.pi, count + 1), 2 * np.pi * np.arange(count) / count, indexing="ij")
    vertices = np.stack([np.sin(a) * np.cos(b), np.cos(a), np.sin(a) * np.sin(b)], -1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(count) * count, np.arange(count), indexing="ij")
    k = (j + 1) % count
    quads = np.stack([i + j, i + k, i + count + k, i + j, i + count + k, i + count + j], -1)
    return vertices, quads.reshape(-1, 3)


@pytest.mark.parametrize("count", [3, 12, 60])
def test_a_ball_holds_what_is_nearer_than_its_radius(count):
    vertices, triangles = ball(count)
    chance = np.random.default_rng(count)
    points = chance.normal(0.0, 1.0, (2000, 3))
    away = np.linalg.norm(points, axis=1)
    clear = (away > 1.0 + 1e-9) | (away < np.cos(np.pi / count) ** 2 - 1e-9)
    assert (inside(points, vertices, triangles) == (away < 1.0))[clear].all()


@settings(max_examples=60)
@given(st.integers(0, 10**6), st.integers(1, 400), st.floats(1e-4, 1e4), st.floats(-50.0, 50.0))
def test_triangles_in_any_disorder_give_what_the_exact_numbers_give(seed, count, size, shift):
    """Open, turned over, without area, all in one place."""
    chance = np.random.default_rng(seed)
    vertices = size * (chance.normal(0.0, 1.0, (3 * count, 3)) * chance.choice([1e-3, 1.0], (3 * count, 1)) + shift)
    triangles = chance.integers(0, 3 * count, (count, 3))
    points = size * (chance.normal(0.0, 1.5, (50, 3)) + shift)
    exact = winding_numbers(points, vertices, triangles)
    clear = np.abs(exact - 0.5) > 1e-9
    assert (inside(points, vertices, triangles) == (exact > 0.5))[clear].all()


@pytest.mark.parametrize("name", ["deckhand", "goat"])
def test_a_skin_of_parts_that_overlap_is_told_apart_point_by_point(name):
    assets = AssetStore()
    mesh, points = skin_of(read_figure(DATA / f"{name}.glb", assets).figure, assets)
    above = points + 0.012 * np.ptp(points, axis=0).max() * skin_normals(points, mesh.triangles)
    some = above[::9]
    assert (inside(some, points, mesh.triangles) == (winding_numbers(some, points, mesh.triangles) > 0.5)).all()


def test_nothing_is_inside_of_no_triangles():
    assert not inside(np.zeros((3, 3)), np.zeros((0, 3)), np.zeros((0, 3), int)).any()
