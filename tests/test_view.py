"""Pictures without a window: what is drawn where, and what a ray hits."""

import numpy as np
import pytest

from artuline.core.geometry import rotation
from artuline.core.scene import edit
from artuline.core.scene.model import MotionKey, Scene, Shape, obstacle
from artuline.core.scene.selection import Selection
from artuline.view.camera import Camera
from artuline.view.palette import DAY, NIGHT, rgb
from artuline.view.picking import pick
from artuline.view.pictures import draw_stage, figure_camera
from artuline.view.stage import Show, draw_list, figure_states


def luminance(code):
    c = np.array(rgb(code))
    c = np.where(c <= 0.03928, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)
    return float(c @ [0.2126, 0.7152, 0.0722])


@pytest.mark.parametrize("palette", [DAY, NIGHT], ids=lambda p: p.name)
@pytest.mark.parametrize("text", ["ink", "faint", "teal_text", "vermilion_text", "brass_text", "crimson_text"])
def test_text_can_be_read_on_every_panel(palette, text):
    # contrast of WCAG 2.1
    for ground in ("panel", "paper", "raised"):
        a, b = sorted((luminance(getattr(palette, text)), luminance(getattr(palette, ground))))
        assert (b + 0.05) / (a + 0.05) >= 4.5


def test_the_camera_projects_along_its_own_rays():
    camera = Camera(target=(0.3, 1.0, -0.2), yaw=0.8, pitch=0.3, distance=5.0)
    points = np.random.default_rng(2).uniform(-1, 1, (20, 3))
    for (x, y, depth), p in zip(camera.project(points, 640, 400), points):
        origin, direction = camera.ray(x, y, 640, 400)
        away = p - origin
        assert depth > 0
        assert np.linalg.norm(away - (away @ direction) * direction) < 1e-9


def test_framing_brings_everything_into_view():
    points = np.array([[-2, 0, 0], [3, 1, 0], [0, 2, 5.0]])
    seen = Camera().framed(points).project(points, 800, 800)
    assert (seen[:, :2] > 0).all() and (seen[:, :2] < 800).all()


def test_a_picture_shows_the_figure_and_its_physics(boom_run):
    scene, assets, take = boom_run
    standing = draw_stage(scene, assets, 0, take, Show(), 160, 120)
    camera = figure_camera(scene, assets, 0, take)
    empty = draw_stage(scene.changed(figures=()), assets, 0, None, Show(), 160, 120, camera)
    assert standing.shape == (120, 160, 3)
    covered = np.abs(standing.astype(int) - empty).max(axis=2) > 20
    assert 0.03 < covered.mean() < 0.6
    # limp, the same figure is drawn towards vermilion
    limp = draw_stage(scene, assets, 100, take, Show(), 160, 120)
    red = limp.astype(int)[..., 0] - limp[..., 2]
    assert (red > 60).sum() > 200


@pytest.mark.parametrize("field", ["figure", "ground", "shapes", "bones", "limits"])
def test_everything_can_be_shown_and_hidden(boom, field):
    scene, assets = boom
    camera = figure_camera(scene, assets, 0, None)
    pictures = [
        draw_stage(scene, assets, 0, None, Show(see_through=True, **{field: on}), 120, 90, camera)
        for on in (False, True)
    ]
    assert np.abs(pictures[0].astype(int) - pictures[1]).max() > 30


def test_the_echo_is_drawn_only_where_it_differs(boom_run):
    scene, assets, take = boom_run
    for frame, skins in ((0, 1), (100, 2)):
        states = figure_states(scene, assets, frame, take, Show())
        assert len(draw_list(scene, assets, frame, states, Show(echo=True)).skins) == skins


def test_a_ray_finds_the_body_it_hits(boom):
    scene, assets = boom
    states = figure_states(scene, assets, 0, None, Show())
    figure = scene.figures[0]
    place = states[0].matrices[figure.bone_index["head"], :3, 3] + [0, 0.1, 0]
    hit = pick(scene, assets, states, place + np.array([0, 0, 3.0]), np.array([0, 0, -1.0]))
    assert hit is not None and hit[:2] == (figure.id, "head") and abs(hit[2][1] - place[1]) < 1e-6
    assert pick(scene, assets, states, place + np.array([0, 5.0, 3.0]), np.array([0, 0, -1.0])) is None


def test_the_skin_is_picked_where_no_body_is_and_a_mesh_by_its_triangles(boom, tmp_path):
    scene, assets = boom
    bare = edit.figure(scene, "deckhand", bodies=(), joints=(), pairs_off=())
    states = figure_states(bare, assets, 0, None, Show())
    figure = bare.figures[0]
    index = figure.bone_index
    place = states[0].matrices[index["head"], :3, 3] + [0, 0.1, 0]
    hit = pick(bare, assets, states, place + np.array([0, 0, 3.0]), np.array([0, 0, -1.0]))
    assert hit is not None and hit[1] == "head" and hit[2][:2] == pytest.approx(place[:2]) and hit[2][2] > place[2]
    assert pick(bare, assets, states, place + np.array([0, 5.0, 3.0]), np.array([0, 0, -1.0])) is None
    corners = {"vertices": np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0]]), "triangles": np.array([[0, 1, 2]])}
    turned = (0.0, float(np.sin(0.3)), 0.0, float(np.cos(0.3)))
    key = MotionKey(frame=0, position=(5.0, 5.0, 5.0), rotation=turned)
    made = edit.add_figure(scene, obstacle("sail", Shape(kind="mesh", asset=assets.add(corners)), (key,)))
    states = figure_states(made, assets, 0, None, Show())
    at = np.array([5.0, 5.0, 5.0]) + rotation.rotate(np.array(turned), np.array([0.2, 0.3, 0.0]))
    found = pick(made, assets, states, at + np.array([0, 0, 2.0]), np.array([0, 0, -1.0]))
    assert found is not None and found[0] == "sail" and found[2] == pytest.approx(at)
    assert pick(made, assets, states, at + np.array([1.0, 0, 2.0]), np.array([0, 0, -1.0])) is None


def test_a_selection_is_outlined(boom):
    scene, assets = boom
    states = figure_states(scene, assets, 0, None, Show())
    plain = draw_list(scene, assets, 0, states, Show())
    chosen = Selection("deckhand", frozenset({"hand_l"}))
    assert len(draw_list(scene, assets, 0, states, Show(), chosen).lines) > len(plain.lines)


def test_an_empty_scene_is_a_picture_too(boom):
    assert draw_stage(Scene(), boom[1], 0, None, Show(), 64, 48).std() > 0


def test_the_echo_of_baked_keys_is_the_clip_below_them(boom_run):
    from artuline.core.bake.bake import BakeWish, add_layer, bake_figure

    scene, assets, take = boom_run
    baked = bake_figure(scene, assets, scene.figures[0], take, BakeWish(3.0, 30.0))
    layered = add_layer(scene, assets, scene.figures[0].id, baked, "baked")
    plain = figure_states(scene, assets, 100, None, Show())[0].matrices
    state = figure_states(layered, assets, 100, None, Show())[0]
    np.testing.assert_allclose(state.keyed, plain)
    assert np.abs(state.matrices - plain).max() > 0.3
