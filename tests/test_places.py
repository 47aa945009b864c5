"""A figure whose place is keyed: everything that is shown, run, baked and delivered goes along with it."""

import numpy as np
import pytest

from artuline.core.bake.bake import BakeWish
from artuline.core.bake.delivery import bake_take, delivery
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_matrices, keyed_pose
from artuline.core.motion.places import own_root, places_at
from artuline.core.motion.poses import reached
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.run.build import build
from artuline.core.run.measures import shown_places
from artuline.core.run.record import keep_take, run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import MotionKey, Track
from artuline.formats.deliver import deliver
from artuline.formats.gltf_read import read_figure
from artuline.formats.scene_file import load_scene, save_scene
from artuline.view.stage import Show, figure_states


def turn(angle):
    return (0.0, float(np.sin(angle / 2)), 0.0, float(np.cos(angle / 2)))


PLACES = (
    MotionKey(frame=0, position=(0.0, 0.3, 0.0)),
    MotionKey(frame=20, position=(1.0, 0.5, 0.4), rotation=turn(0.8)),
    MotionKey(frame=40, position=(2.0, 0.3, 1.0), rotation=turn(1.2)),
)
TRACK = Track.of(PLACES)


@pytest.fixture(scope="module")
def carried(boom):
    """The deckhand, standing still on something that moves, let go in the middle of its way."""
    scene, assets = boom
    f = scene.figures[0].changed(clip=None, groups=(), track=TRACK)
    scene = scene.changed(figures=(f,), links=(), end=40, gravity=(0.0, 0.0, 0.0), ground=None)
    scene = edit.hand_over(scene, f.id, None, 20, 38, 0, 6)
    take = run(scene, assets)
    return keep_take(scene, assets, take, scene.settings_fingerprint()), assets, take


def test_keys_and_stage_move_with_the_track(carried):
    scene, assets, _ = carried
    f, frames = scene.figures[0], np.array([0.0, 13.7, 60.0])
    p, q = places_at(TRACK, frames)
    still = keyed_matrices(scene, assets, f.changed(track=Track()), frames)
    moved = keyed_matrices(scene, assets, f, frames)
    own = np.linalg.inv(own_root(f.changed(track=Track()), frames))[:, None] @ still
    np.testing.assert_allclose(moved, own_root(f, frames)[:, None] @ own, atol=1e-12)
    np.testing.assert_allclose(own_root(f, frames)[:, :3, 3], p, atol=1e-12)
    np.testing.assert_allclose(rotation.angle_between(rigid(own_root(f, frames))[1], q), 0.0, atol=1e-6)
    state = figure_states(scene, assets, 13.7, None, Show())[0]
    np.testing.assert_allclose(state.matrices, moved[1], atol=1e-12)


def test_what_is_let_go_keeps_the_momentum_of_its_way(carried):
    scene, assets, take = carried
    world = build(scene, assets).world
    mass = world.bodies["mass"]
    at = np.flatnonzero(take.frames == 20)[0]
    centre = np.einsum("n,fnd->fd", mass, take.position) / mass.sum()
    step = 1e-4
    before, _ = build(scene, assets).keyed(np.array([20.0 - step, 20.0 + step]))
    wanted = (mass @ (before[1] - before[0])) / mass.sum() / (2 * step) * scene.rate
    # of the bodies' frames, which turn with them: near to the velocity of the mass alone
    np.testing.assert_allclose((centre[at + 1] - centre[at]) * scene.rate, wanted, rtol=0.03, atol=0.03)


def test_the_take_is_shown_where_it_was_and_ends_on_its_keys(carried):
    scene, assets, take = carried
    f, frames = scene.figures[0], take.frames.astype(float)
    p, _ = shown_places(scene, take)
    keyed = keyed_matrices(scene, assets, f, frames)
    bones = [f.bone_index[r.body] for r in take.bodies]
    on_keys = (frames <= 20) | (frames >= 38)
    np.testing.assert_allclose(p[on_keys], keyed[on_keys][:, bones][..., :3, 3], atol=1e-9)
    free = (frames > 21) & (frames < 31)
    root = list(take.bodies).index((f.id, "hips"))
    np.testing.assert_allclose(p[free, root], take.position[free, root], atol=1e-9)


def test_what_is_delivered_moves_with_it(carried, tmp_path):
    scene, assets, take = carried
    made, baked = bake_take(scene, assets, BakeWish(0.5, 5.0))
    assert delivery(made, assets, list(baked)).figures[0].root is not None
    path = deliver(tmp_path / "carried.glb", made, assets, list(baked))[0]
    store = AssetStore()
    back = read_figure(path, store).figure
    assert back.bones[0].name == "track" and len(back.bones) == len(scene.figures[0].bones) + 1
    frames = take.frames.astype(float)
    shown = skeleton_of(scene.figures[0]).global_matrices(take.poses["deckhand"], own_root(scene.figures[0], frames))
    played = back.changed(clip=back.clips[0].name)
    again = keyed_matrices(scene.changed(figures=(played,)), store, played, frames)
    for name in ("hips", "head", "hand_l"):
        a, b = shown[:, scene.figures[0].bone_index[name], :3, 3], again[:, back.bone_index[name], :3, 3]
        assert np.abs(a - b).max() < 6e-3, name


def test_poses_reach_where_the_track_has_brought_the_figure(carried):
    scene, assets, _ = carried
    f, frame = scene.figures[0], np.array([30.0])
    pose, root = keyed_pose(scene, assets, f, frame, layers=False), own_root(scene.figures[0], frame)[0]
    hand = f.bone_index["hand_l"]
    now = skeleton_of(f).global_matrices(pose.frame(0), root)[hand, :3, 3]
    goal = now + np.array([0.03, 0.05, 0.02])
    made = reached(f, root, pose, "hand_l", goal)
    np.testing.assert_allclose(skeleton_of(f).global_matrices(made.frame(0), root)[hand, :3, 3], goal, atol=1e-6)


def test_a_track_is_saved_and_has_to_run_forward(carried, tmp_path):
    scene, assets, _ = carried
    save_scene(tmp_path / "s.artuline", scene, assets)
    assert load_scene(tmp_path / "s.artuline", AssetStore()) == scene
    with pytest.raises(ValueError, match="must run forward"):
        Track.of(PLACES[::-1])
    other = edit.figure(scene, "deckhand", track=Track.of(PLACES[:2]))
    assert other.settings_fingerprint() != scene.settings_fingerprint()
