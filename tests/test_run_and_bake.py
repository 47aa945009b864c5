"""The thin job on the demo scene: run, compare with the keys, bake, deliver."""

import subprocess
import sys

import numpy as np
import pytest

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.bake.delivery import bake_take
from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_matrices, load_clip
from artuline.core.motion.skeleton import placement, rest_matrices, skeleton_of
from artuline.core.run.record import run
from artuline.core.run.take import Take
from artuline.core.run.tryout import Tryout
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Scene
from artuline.core.setup.ragdoll import set_up
from artuline.formats.deliver import deliver
from artuline.formats.gltf_read import read_figure
from artuline.formats.importing import add_figure
from tests import foreign


def interval(scene):
    keys = scene.figures[0].groups[0].handover.keys
    return int(keys[0].frame), int(keys[-1].frame)


def shown(take, scene):
    """World matrices (F, B, 4, 4) of the take's first figure."""
    figure = scene.figures[0]
    return skeleton_of(figure).global_matrices(take.poses[figure.id], placement(figure))


def test_outside_the_interval_the_take_is_the_keys(boom_run):
    scene, assets, take = boom_run
    start, end = interval(scene)
    keyed = keyed_matrices(scene, assets, scene.figures[0], take.frames.astype(float))
    outside = (take.frames <= start) | (take.frames >= end)
    away = np.abs(shown(take, scene) - keyed)
    assert away[outside].max() < 1e-9
    assert away[~outside][:, :, :3, 3].max() > 0.5


def test_the_body_falls_and_lies_on_the_deck(boom_run):
    scene, assets, take = boom_run
    figure = scene.figures[0]
    held = [k for k in figure.groups[0].handover.keys if k.value == 1.0]
    row = take.row(held[-1].frame)
    matrices = shown(take, scene)[row]
    head = matrices[figure.bone_index["head"], 1, 3]
    assert head < 0.6
    # no body reaches far below the deck at rest
    assert take.penetration[row].max() < 0.005
    mesh = Mesh.from_arrays(assets[figure.asset])
    standing = keyed_matrices(scene, assets, figure, np.array([0.0]))[0]
    below_at_rest = min(mesh.skin(standing)[:, 1].min(), 0.0)
    assert mesh.skin(matrices)[:, 1].min() > below_at_rest - 0.08


def test_joints_hold_and_limits_are_kept(boom_run):
    _, _, take = boom_run
    assert take.separation.max() < 0.002
    assert np.degrees(take.excess.max()) < 3.0


def test_momentum_carries_into_the_fall(boom_run):
    scene, _, take = boom_run
    start, _ = interval(scene)
    i = take.row(start)
    names = [i for i, r in enumerate(take.bodies) if r.figure is not None]
    before = (take.position[i] - take.position[i - 1])[names]
    after = (take.position[i + 1] - take.position[i])[names]
    # the mean speed of the body does not jump: walking at 1.2 m/s, a frame apart
    change = np.linalg.norm(after.mean(axis=0) - before.mean(axis=0)) * scene.rate
    assert change < 0.6


def test_the_same_scene_gives_the_same_bits_in_another_process(tmp_path, boom_run):
    _, _, take = boom_run
    code = (
        "import hashlib\n"
        "from artuline.core.run.record import run\n"
        "from artuline.core.scene.assets import AssetStore\n"
        "from artuline.demo.scenes import demo_scene\n"
        "a = AssetStore()\n"
        "t = run(demo_scene('boom', a), a)\n"
        "print(hashlib.sha256(t.position.tobytes() + t.rotation.tobytes()).hexdigest())"
    )
    other = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    import hashlib

    mine = hashlib.sha256(take.position.tobytes() + take.rotation.tobytes()).hexdigest()
    assert other.stdout.strip() == mine


def test_a_take_keeps_its_content_in_the_store(boom_run):
    _, _, take = boom_run
    store = AssetStore()
    back = Take.from_arrays(store[store.add(take.to_arrays())])
    np.testing.assert_array_equal(back.position, take.position)
    assert back.bodies == take.bodies and back.joints == take.joints and back.substeps == take.substeps
    with pytest.raises(ArtulineError, match="damaged"):
        Take.from_arrays({"about": np.frombuffer(b"{}", np.uint8)})


def test_cancel_stops_and_an_empty_range_is_refused(boom):
    scene, assets = boom
    calls = []
    with pytest.raises(CancelledError):
        run(scene, assets, lambda done, total: calls.append(done), lambda: len(calls) >= 3)
    assert calls == [1, 2, 3]
    with pytest.raises(ArtulineError, match="empty"):
        run(scene.changed(end=scene.start), assets)
    with pytest.raises(ArtulineError, match="no figure has bodies"):
        run(Scene(), assets)


def test_only_what_hangs_from_the_chosen_bone_goes_limp(boom):
    scene, assets = boom
    figure = scene.figures[0].changed(groups=())
    scene = scene.changed(figures=(figure,), end=40)
    scene = edit.hand_over(scene, figure.id, "upper_arm_l", 5, 38, 0, 10)
    take = run(scene, assets)
    keyed = keyed_matrices(scene, assets, figure, take.frames.astype(float))
    away = np.abs(shown(take, scene) - keyed).max(axis=(0, 2, 3))
    arm = {figure.bone_index[b] for b in figure.below("upper_arm_l")}
    for b, distance in enumerate(away):
        assert (distance > 0.02) if b in arm else (distance < 1e-9), figure.bones[b].name
    # the arm stays in its shoulder
    assert take.separation.max() < 1e-3


def distance_from_keys(scene, assets, tone):
    figure = scene.figures[0]
    group = figure.groups[0]
    scene = edit.group(scene, figure.id, group.id, tone=group.tone.changed(rest=tone))
    take = run(scene, assets)
    keyed = keyed_matrices(scene, assets, figure, take.frames.astype(float))
    return np.linalg.norm((shown(take, scene) - keyed)[:, :, :3, 3], axis=-1).mean()


def test_more_tone_keeps_the_arm_nearer_to_its_keys(boom):
    scene, assets = boom
    figure = scene.figures[0].changed(groups=())
    scene = scene.changed(figures=(figure,), end=40)
    scene = edit.hand_over(scene, figure.id, "upper_arm_l", 5, 38, 0, 10)
    away = [distance_from_keys(scene, assets, t) for t in (0.0, 0.3, 0.6, 1.0)]
    assert away == sorted(away, reverse=True)
    assert away[-1] < 0.1 * away[0]


def test_the_bake_keeps_its_bounds_with_far_fewer_keys(boom_run):
    scene, assets, take = boom_run
    figure = scene.figures[0]
    baked = bake_figure(scene, assets, figure, take, BakeWish(1.0, 10.0))
    assert baked.degrees <= 1.0 and max(baked.millimetres.values()) <= 10.0
    assert {"hand_l", "hand_r"} & set(baked.millimetres) or "fingertips_l" in baked.millimetres
    assert np.mean(list(baked.keys.values())) < 0.4 * baked.frames
    layered = add_layer(scene, assets, figure.id, baked, "baked")
    frames = take.frames.astype(float)
    keys = keyed_matrices(layered, assets, layered.figures[0], frames)
    ends = [figure.bone_index[n] for n in baked.millimetres]
    away = np.linalg.norm((keys - shown(take, scene))[:, ends, :3, 3], axis=-1)
    assert away.max() <= 0.0101
    # the clip below is not touched
    assert layered.figures[0].clips == figure.clips
    start, end = interval(scene)
    plain = keyed_matrices(scene, assets, figure, frames)
    outside = (frames < start) | (frames > end)
    assert np.abs(keys - plain)[outside].max() < 1e-9


def test_a_bake_over_another_keeps_what_a_hand_did_and_the_run_says_what_it_does_not_follow(boom_run):
    scene, assets, take = boom_run
    id_ = scene.figures[0].id
    loose, tight = (bake_figure(scene, assets, scene.figures[0], take, BakeWish(b, 40.0)) for b in (4.0, 3.0))
    once = add_layer(scene, assets, id_, loose, "first", of="take")
    (layer,) = once.figure(id_).layers
    # as it was baked, it gives way to a new bake; edited, it stays, muted
    assert [x.name for x in add_layer(once, assets, id_, tight, "second", of="take").figure(id_).layers] == ["second"]
    edited = edit.figure(once, id_, layers=(layer.changed(baked=layer.asset),))
    both = add_layer(edited, assets, id_, tight, "second", of="take").figure(id_).layers
    assert [(x.name, x.muted) for x in both] == [("first", True), ("second", False)]
    # a run goes by the keys below, which is known before
    assert [(f.id, x.name) for f, x in once.not_followed] == [(id_, "first")] and scene.not_followed == ()
    for change in ({"leads": True}, {"muted": True}, {"weight": 0.0}):
        assert edit.figure(once, id_, layers=(layer.changed(**change),)).not_followed == ()


def test_a_tighter_bound_takes_more_keys(boom_run):
    scene, assets, take = boom_run
    loose = bake_figure(scene, assets, scene.figures[0], take, BakeWish(4.0, 40.0))
    tight = bake_figure(scene, assets, scene.figures[0], take, BakeWish(0.5, 5.0))
    assert sum(loose.keys.values()) < sum(tight.keys.values())
    assert tight.degrees <= 0.5 and max(tight.millimetres.values()) <= 5.0


def test_bad_bounds_are_refused(boom_run):
    scene, assets, take = boom_run
    with pytest.raises(ArtulineError, match="above zero"):
        bake_figure(scene, assets, scene.figures[0], take, BakeWish(degrees=0.0))


def test_the_delivered_file_plays_the_take(tmp_path, boom_run):
    scene, assets, take = boom_run
    path = tmp_path / "out.glb"
    made, baked = bake_take(scene, assets, BakeWish(1.0, 10.0))
    deliver(path, made, assets, list(baked))
    store = AssetStore()
    back = read_figure(path, store).figure
    clip = load_clip(store, back.clips[0].asset)
    start, end = interval(scene)
    frames = take.frames.astype(float)
    pose = clip.sample(skeleton_of(back), (frames - scene.start) / scene.rate)
    matrices = skeleton_of(back).global_matrices(pose, placement(back))
    keyed = keyed_matrices(scene, assets, scene.figures[0], frames)
    outside = (frames <= start) | (frames >= end)
    for name in (b.name for b in scene.figures[0].bones if b.deforms):
        a, b = back.bone_index[name], scene.figures[0].bone_index[name]
        away = np.linalg.norm((matrices[:, a] - keyed[:, b])[..., :3, 3], axis=-1)
        angle = rotation.angle_between(
            rotation.from_matrix(matrices[:, a, :3, :3]), rotation.from_matrix(keyed[:, b, :3, :3])
        )
        assert away[outside].max() < 1e-4 and np.degrees(angle[outside].max()) < 0.1
    hips = matrices[:, back.bone_index["hips"]] - keyed[:, scene.figures[0].bone_index["hips"]]
    assert np.linalg.norm(hips[~outside][:, :3, 3], axis=-1).max() > 0.5


@pytest.mark.parametrize("write", [foreign.write_walker, foreign.write_centimetre_walker, foreign.write_chain])
def test_foreign_figures_run_and_bake(tmp_path, write):
    assets = AssetStore()
    scene, figure, _ = add_figure(Scene(), assets, write(tmp_path / "a.glb"))
    scene = edit.figure(scene, figure.id, **set_up_fields(figure, assets))
    scene = edit.hand_over(scene, figure.id, None, 12, 60, 0, 12)
    take = run(scene.changed(end=70), assets)
    assert take.separation.max() < 0.002
    assert np.degrees(take.excess.max()) < 5.0
    baked = bake_figure(scene, assets, scene.figures[0], take)
    assert baked.degrees <= 1.0 and max(baked.millimetres.values()) <= 10.0


def set_up_fields(figure, assets):
    made = set_up(figure, assets)
    return {"bodies": made.bodies, "joints": made.joints, "pairs_off": made.pairs_off}


def test_the_tryout_falls_is_tugged_and_changes_nothing(boom):
    scene, assets = boom
    tryout = Tryout(scene, assets, 10.0)
    before = scene.model_dump_json()
    hips = scene.figures[0].bone_index["hips"]
    start = tryout.matrices()[0][hips, :3, 3]
    keyed = keyed_matrices(scene, assets, scene.figures[0], np.array([10.0]))[0]
    np.testing.assert_allclose(tryout.matrices()[0], keyed, atol=1e-6)
    for _ in range(96):
        tryout.step()
    assert tryout.matrices()[0][hips, 1, 3] < start[1] - 0.4
    head = scene.figures[0].bone_index["head"]
    place = tryout.matrices()[0][head, :3, 3]
    assert tryout.tug(0, "head", place)
    tryout.move_tug(place + np.array([0.0, 1.0, 0.0]))
    for _ in range(96):
        tryout.step()
    assert tryout.matrices()[0][head, 1, 3] > place[1] + 0.3
    tryout.let_go()
    assert tryout.tug_line() is None and not tryout.tug(0, "fingers_l", place)
    assert scene.model_dump_json() == before
    rest = rest_matrices(scene.figures[0])
    assert np.isfinite(rest).all()
