"""Settings by path, brackets, measures, warm-up, steadiness and calm, and takes that keep what made them."""

import json

import numpy as np
import pytest
from typer.testing import CliRunner

from artuline.cli import app
from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.run.bracket import Span, cells, run_bracket
from artuline.core.run.build import build
from artuline.core.run.measures import UNITS, jitter, summary, worst_moments
from artuline.core.run.record import back_to_settings, keep_take, run, settings_of
from artuline.core.run.stepper import Chunk, Stepper
from artuline.core.scene import edit, paths
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Group, Key, Lane, LinkEnd, Push, Scene
from artuline.demo.figures import ready_figure
from artuline.demo.scenes import DEMOS, demo_scene
from artuline.formats.scene_file import load_scene, save_scene
from artuline.formats.table import write_table
from tests.test_links import two_balls

H = 1.0 / 24.0


@pytest.fixture(scope="module")
def walking():
    assets = AssetStore()
    figure = ready_figure("deckhand", assets).changed(clip="crossing")
    return edit.hand_over(Scene(figures=(figure,), end=72), figure.id, None, 12, 200, 0, 0), assets


# settings by path


def test_a_path_reads_and_changes_one_number(walking):
    scene, _ = walking
    tone = "figures[deckhand].groups[group].tone"
    assert paths.get(scene, tone) == 0.0 and paths.get(scene, "gravity[1]") == -9.81
    changed = paths.put(paths.put(scene, tone, 0.4), "substeps", 12.4)
    assert paths.get(changed, tone) == 0.4 and changed.substeps == 12
    assert changed.figures[0].bodies == scene.figures[0].bodies
    key = paths.put(scene, "figures[0].groups[0].handover.keys[0].frame", 5)
    assert key.figures[0].groups[0].handover.keys[0].frame == 5
    names = dict(paths.numbers(scene))
    assert names[tone] == 0.0 and all(np.isfinite(v) for v in names.values())


@pytest.mark.parametrize(
    "path, words",
    [("tonne", "no 'tonne'"), ("figures[goat].unit", "no 'goat'"), ("figures", "not a number"), ("a b", "not a path"),
     ("substeps.x", "no 'x'"), ("gravity[7]", "no '7'"), ("name", "not a number")],
)  # fmt: skip
def test_a_wrong_path_is_told(walking, path, words):
    with pytest.raises(ArtulineError, match=words):
        paths.get(walking[0], path)


def test_a_value_that_is_not_possible_is_told(walking):
    with pytest.raises(ArtulineError, match="cannot be 2"):
        paths.put(walking[0], "figures[deckhand].groups[group].tone", 2.0)


def test_differences_name_what_changed(walking):
    scene, _ = walking
    other = paths.put(paths.put(scene, "substeps", 20), "figures[deckhand].bodies[head].friction", 0.9)
    assert set(paths.differences(scene, other)) == {
        ("substeps", "10", "20"), ("figures[deckhand].bodies[head].friction", "0.6", "0.9"),
    }  # fmt: skip
    assert paths.differences(scene, scene) == []


# brackets


def test_a_bracket_runs_every_value_as_a_run_alone_would(walking):
    scene, assets = walking
    scene = scene.changed(end=30)
    span = Span("figures[deckhand].groups[group].tone", 0.0, 1.0, 3)
    told = []
    alone = dict(run_bracket(scene, assets, [span], lambda d, t: told.append((d, t)), workers=0))
    beside = dict(run_bracket(scene, assets, [span], workers=2))
    assert told[-1] == (3, 3) and [alone[i].values for i in range(3)] == [(0.0,), (0.5,), (1.0,)]
    for i in range(3):
        np.testing.assert_array_equal(alone[i].take.position, beside[i].take.position)
        assert alone[i].measures == beside[i].measures and set(alone[i].measures) == set(UNITS)
    assert alone[2].measures["From the keys"] < alone[0].measures["From the keys"]


def test_two_settings_make_a_grid_and_bad_brackets_are_told(walking):
    scene, assets = walking
    both = cells(scene, [Span("substeps", 5, 10, 2), Span("gravity[1]", -9, -1, 3)])
    assert [v for v, _ in both] == [(5.0, -9.0), (5.0, -5.0), (5.0, -1.0), (10.0, -9.0), (10.0, -5.0), (10.0, -1.0)]
    assert both[1][1].substeps == 5 and both[1][1].gravity[1] == -5.0
    assert Span("substeps", 5, 20, 3, ratios=True).values() == pytest.approx([5.0, 10.0, 20.0])
    for span, words in (
        (Span("substeps", 1, 9, 1), "1 values"), (Span("substeps", 0, 9, 3, True), "above zero"), (Span("nothing", 0, 1, 3), "no 'nothing'"),
        (Span("substeps", -5, 5, 3), "cannot be"),
    ):  # fmt: skip
        with pytest.raises(ArtulineError, match=words):
            cells(scene, [span])
    with pytest.raises(CancelledError):
        list(run_bracket(scene, assets, [Span("substeps", 5, 10, 2)], cancelled=lambda: True, workers=0))


def test_the_pose_comes_closer_to_the_keys_with_tone(walking):
    scene, assets = walking
    # in the air, so that nothing but the drives decides
    scene = scene.changed(ground=None, gravity=(0.0, 0.0, 0.0), end=40)
    span = Span("figures[deckhand].groups[group].tone", 0.0, 1.0, 5)
    away = [c.measures["From the keys"] for _, c in run_bracket(scene, assets, [span], workers=0)]
    assert (np.diff(away) < 0.0).all() and away[-1] < 0.3 * away[0]


# lanes


def test_steadiness_keeps_a_hand_in_the_world(walking):
    scene, assets = walking
    figure = scene.figures[0].changed(clip=None, groups=())
    held = Group(id="hand", name="hand", bones=("hand_l",), handover=Lane(rest=1.0), steadiness=Lane(rest=1.0))
    rest = Group(id="all", name="all", handover=Lane(rest=1.0))
    push = Push(id="p", figure="deckhand", body="chest", start=10, frames=2, impulse=(0.0, 0.0, 60.0))

    def wander(**changes):
        groups = (rest, held.changed(**changes))
        made = scene.changed(figures=(figure.changed(groups=groups),), pushes=(push,), end=48)
        take = run(made, assets)
        p = take.position[:, [r.body for r in take.bodies].index("hand_l")]
        return 1000.0 * np.linalg.norm(p - p[0], axis=1).max()

    assert wander() < 12.0
    assert wander(steadiness=Lane()) > 200.0


def test_calm_takes_motion_away():
    scene = two_balls(frames=48).changed(gravity=(0.0, 0.0, 0.0))
    figure = scene.figures[0].changed(velocity=(1.0, 0.0, 0.0))
    plain = scene.changed(figures=(figure,))
    group = figure.groups[0].changed(calm=Lane(rest=0.5))
    calm = scene.changed(figures=(figure.changed(groups=(group,)),))
    store = AssetStore()
    way = [run(s, store).position[-1, 0, 0] + 0.5 for s in (plain, calm)]
    assert way[0] == pytest.approx(2.0, rel=0.01)
    # v / rate, and the rate is 30 x 0.5^2
    assert way[1] == pytest.approx(1.0 / 7.5, rel=0.1)


def test_lanes_may_be_keyed_and_groups_soloed_or_be_any_bones(walking):
    scene, _ = walking
    lane = edit.keyed_lane(edit.keyed_lane(Lane(rest=0.3), 10, 0.0), 20, 1.0)
    assert float(lane.value(15.0)) == 0.5 and edit.keyed_lane(lane, 20, 0.5).keys[-1] == Key(frame=20, value=0.5)
    assert edit.lane_value(Lane(rest=0.3), 9, 0.7) == Lane(rest=0.7)
    figure = scene.figures[0]
    pair = Group(id="pair", name="pair", bones=("hand_l", "foot_r"), steadiness=lane, solo=True)
    made = scene.changed(figures=(figure.changed(groups=(*figure.groups, pair)),))
    built = build(made, walking[1])
    steady, _ = built.firmness(np.array([15.0]))
    names = [r.body for r in built.body_refs]
    assert {n for n, v in zip(names, steady[0]) if v > 0} == {"hand_l", "foot_r"}
    handover, _ = built.lanes(np.array([30.0]))
    assert handover.max() == 0.0  # the other group is off


def test_warm_up_lets_what_hangs_hang(walking):
    scene, assets = walking
    figure = scene.figures[0].changed(clip=None, groups=())
    hung = edit.hand_over(scene.changed(figures=(figure,), end=24), "deckhand", "upper_arm_l", 0, 99, 0, 0)
    cold, warm = run(hung, assets), run(hung.changed(warm_up=96), assets)
    hand = [r.body for r in cold.bodies].index("hand_l")
    assert cold.position[0, hand, 1] > warm.position[0, hand, 1] + 0.1
    assert np.linalg.norm(np.diff(warm.position[:, hand], axis=0), axis=1).max() < 0.02
    assert np.linalg.norm(np.diff(cold.position[:, hand], axis=0), axis=1).max() > 0.05


def test_momentum_goes_over_from_the_keys_to_physics(walking):
    """The bodies' velocities in the first free substep are those of the keys: linear and angular momentum within 1 %."""
    scene, assets = walking
    scene = scene.changed(ground=None, gravity=(0.0, 0.0, 0.0))
    built = build(scene, assets)
    world, step = built.world, 0.05
    b = world.bodies
    x, r = world.inner(*built.keyed(np.array([12.0 - step, 12.0, 12.0 + step])))
    # the clip has straight lines between its keys: the mean of both counts
    v = (x[2] - x[0]) / (2.0 * step * H)
    w = rotation.to_rotation_vector(rotation.multiply(r[1:], rotation.conjugate(r[:-1]))).mean(axis=0) / (step * H)
    linear = b["mass"][:, None] * v
    spin = rotation.rotate(r[1], b["inertia"] * rotation.rotate(rotation.conjugate(r[1]), w))
    turning = (spin + np.cross(x[1], linear)).sum(axis=0)
    Stepper(built).step(Chunk(built, 12, 1), 0)
    free_linear, free_turning = world.momentum()
    np.testing.assert_allclose(free_linear, linear.sum(axis=0), atol=0.01 * np.linalg.norm(linear.sum(axis=0)))
    np.testing.assert_allclose(free_turning, turning, atol=0.01 * np.linalg.norm(turning))


# takes


def test_a_take_keeps_what_made_it(walking, tmp_path):
    scene, assets = walking
    scene = scene.changed(end=20)
    kept = keep_take(scene, assets, run(scene, assets), scene.settings_fingerprint())
    later = paths.put(kept, "substeps", 25)
    ref = later.active_take()
    assert paths.differences(settings_of(ref, assets), later) == [("substeps", "10", "25")]
    back = back_to_settings(later, assets, ref.id)
    assert back.substeps == 10 and back.takes == later.takes
    assert back.settings_fingerprint() == ref.settings
    save_scene(tmp_path / "s.artuline", later, assets)
    store = AssetStore()
    again = load_scene(tmp_path / "s.artuline", store)
    assert settings_of(again.takes[0], store) == settings_of(ref, assets)
    with pytest.raises(ArtulineError, match="no settings"):
        settings_of(ref.changed(scene=None), assets)


def test_measures_find_what_was_put_in(boom_run):
    from dataclasses import replace

    scene, assets, take = boom_run
    turn = take.rotation.copy()
    shake = rotation.from_rotation_vector(np.radians(6.0) * np.array([1.0, 0.0, 0.0]))
    for k in range(20, 40, 2):
        turn[k, 4] = rotation.multiply(turn[k, 4], shake)
    assert jitter(turn)[20:40, 4].max() == pytest.approx(6.0, rel=0.4)
    # what is shown jumps 5 m up at row 80, while physics has the figure
    figure = scene.figures[0]
    pose = take.poses[figure.id].copy()
    pose.translation[80:, figure.bone_index["hips"], 1] += 5.0
    found = worst_moments(scene, replace(take, poses={figure.id: pose}))
    fastest = next(m for m in found if m.name == "Fastest")
    assert fastest.frame == take.frames[80] and fastest.value == pytest.approx(120.0, rel=0.05)
    assert fastest.help and "m/s" in fastest.text and fastest in found[:3] and fastest.where.figure == figure.id
    # what the simulation did where the keys are shown is no matter, and what is fine is left out
    place = take.position.copy()
    place[30:40, 2] += [0.0, 5.0, 0.0]
    assert worst_moments(scene, replace(take, position=place)) == worst_moments(scene, take)
    still = replace(
        take,
        poses={figure.id: take.poses[figure.id].copy()},
        penetration=0.0 * take.penetration,
        handover=0.0 * take.handover,
    )
    assert [m for m in worst_moments(scene, still) if m.name != "Foot slides"] == []
    row = summary(scene, assets, take)
    assert set(row) == set(UNITS) and all(np.isfinite(v) for v in row.values())


@pytest.mark.parametrize("name", [n for n in DEMOS if n != "boom"])
def test_the_demo_scenes_run_and_do_what_they_are_for(name):
    assets = AssetStore()
    scene = demo_scene(name, assets)
    if name in ("floats", "mooring", "collar", "steer", "gangway"):
        # the rest of them is looked at by the benchmarks
        scene = edit.scene(scene, end=72)
    take = run(scene, assets)
    row = summary(scene, assets, take)
    # what falls in a crowd, or all of whose weight hits what is light and soft, gives way in a hit
    assert row["Pressed in"] < (8.0 if name in ("floats", "vest", "gangway") else 5.0)
    assert row["Joint apart"] < (2.0 if name == "floats" else 0.5) and row["Beyond a limit"] < 1.0
    index = {r.body: i for i, r in enumerate(take.bodies)}
    if name == "yard":
        yard, hand = take.position[:, index["yard"]], take.position[:, index["hand_r"]]
        away = np.linalg.norm(hand - yard, axis=1)
        assert away[:95].max() < 0.75 and away[-1] > 1.5
    if name == "heel":
        assert np.ptp(take.position[40:, index["hips"], 0]) > 0.3
    if name in ("numb", "goat"):
        keyed = keyed_matrices(scene, assets, scene.figures[0], take.frames.astype(float), layers=False)
        tip = scene.figures[0].bone_index["hand_l" if name == "numb" else "tail_tip"]
        live = take.position[:, index["hand_l" if name == "numb" else "tail_tip"]]
        assert np.linalg.norm(live - keyed[:, tip, :3, 3], axis=1).max() > 0.02
        hips = scene.figures[0].bone_index["hips"]
        np.testing.assert_allclose(take.position[:, index["hips"]], keyed[:, hips, :3, 3], atol=1e-6)


def test_runs_and_brackets_on_the_command_line(walking, tmp_path):
    scene, assets = walking
    path, table = tmp_path / "s.artuline", tmp_path / "t.json"
    save_scene(path, scene.changed(end=16), assets)
    cli = CliRunner()
    tone = "figures[deckhand].groups[group].tone"
    done = cli.invoke(app, ["run", str(path), "--set", "substeps=5", "--bracket", f"{tone}=0:1:2", "-o", str(table)])
    assert done.exit_code == 0, done.output
    rows = json.loads(table.read_text())
    assert [r[tone] for r in rows] == [0.0, 1.0] and "From the keys (°)" in rows[0]
    assert "substeps = 10" in cli.invoke(app, ["run", str(path), "--paths"]).output
    assert cli.invoke(app, ["run", str(path)]).exit_code == 0
    said = cli.invoke(app, ["check", "--take", str(path)]).output
    assert "No moment needs a look" in said or "frame" in said
    for arguments in (["--set", "substeps"], ["--bracket", "substeps=1:2"], ["--set", "nothing=1"]):
        assert isinstance(cli.invoke(app, ["run", str(path), *arguments]).exception, ArtulineError)
    with pytest.raises(ArtulineError, match="no table"):
        write_table(tmp_path / "t.txt", ["a"], [[1.0]])


def test_a_ragdoll_replaced_takes_its_ties_along():
    scene = two_balls()
    figure = scene.figures[0]
    push = Push(id="p", figure="floats", body="right", start=0)
    scene = scene.changed(
        pushes=(push,), pairs_off=((LinkEnd(figure="floats", body="left"), LinkEnd(figure="floats", body="right")),)
    )
    less = edit.ragdoll(scene, figure.changed(bodies=figure.bodies[:1]))
    assert less.pushes == () and less.pairs_off == () and len(less.figures[0].bodies) == 1


def test_setups_on_the_command_line(tmp_path):
    from artuline.formats.setup_file import load_setup
    from tests.foreign import write_crawler, write_walker

    cli = CliRunner()
    walker, crawler = write_walker(tmp_path / "walker.glb"), write_crawler(tmp_path / "crawler.glb")
    out = tmp_path / "s.artuline"
    done = cli.invoke(
        app, ["setup", str(walker), "-o", str(out), "--use", "two legs", "--mass", "70", "--limits", "both",
              "--save-setup", str(tmp_path / "w.artuset")],
    )  # fmt: skip
    assert done.exit_code == 0, done.output
    figure = load_scene(out, AssetStore()).figures[0]
    assert sum(b.mass for b in figure.bodies) == pytest.approx(70.0)
    assert len(load_setup(tmp_path / "w.artuset").bodies) == len(figure.bodies)
    assert "same" in done.output
    again = cli.invoke(app, ["setup", str(walker), "-o", str(out), "--use", str(tmp_path / "w.artuset")])
    assert again.exit_code == 0 and len(load_scene(out, AssetStore()).figures[0].bodies) == len(figure.bodies)
    hulls = cli.invoke(app, ["setup", str(crawler), "-o", str(out), "--kind", "hull", "--mass", "0"])
    assert hulls.exit_code == 0, hulls.output
    bodies = load_scene(out, AssetStore()).figures[0].bodies
    assert {b.shapes[0].kind for b in bodies} == {"hull"} and all(b.mass for b in bodies)
    for wrong in (["--kind", "cone"], ["--limits", "guess"], ["--use", "none.artuset"], ["--mass", "-3"]):
        target = tmp_path / "wrong.artuline"
        failed = cli.invoke(app, ["setup", str(walker), "-o", str(target), *wrong])
        if wrong[0] != "--mass":
            assert isinstance(failed.exception, ArtulineError) and not target.exists(), wrong


@pytest.mark.parametrize("bad", [b"", b"\x01\x02", b'{"figures": 3}'])
def test_damaged_settings_of_a_take_are_told(walking, bad):
    import zlib

    scene, assets = walking
    ref = keep_take(scene.changed(end=14), assets, run(scene.changed(end=14), assets), "x").takes[0]
    data = zlib.compress(bad) if bad.startswith(b"{") else bad
    broken = ref.changed(scene=assets.add({"scene": np.frombuffer(data or b"\0", np.uint8)}))
    with pytest.raises(ArtulineError, match="damaged"):
        settings_of(broken, assets)


def test_what_was_simulated_before_a_cancel_is_kept_if_wanted(walking):
    scene, assets = walking
    told = []
    whole = run(scene.changed(end=40), assets)
    cut = run(scene, assets, lambda d, t: told.append(d), lambda: len(told) >= 21, partial=True)
    assert len(cut.frames) == 22 and cut.poses["deckhand"].rotation.shape[0] == 22
    np.testing.assert_array_equal(cut.position, whole.position[:22])
    kept = keep_take(scene, assets, cut, "x").takes[0]
    assert kept.end == 21 and "to frame 21" in kept.name
    with pytest.raises(CancelledError):
        run(scene, assets, cancelled=lambda: True, partial=True)
    with pytest.raises(CancelledError):
        run(scene, assets, lambda d, t: told.append(d), lambda: len(told) >= 40)


def test_forces_are_drawn_as_arrows():
    from artuline.view.stage import Show, draw_list, figure_states

    push = Push(id="p", figure="deckhand", body="head", start=50, impulse=(9.0, 0.0, 0.0))
    store = AssetStore()
    scene = demo_scene("boom", store).changed(pushes=(push,))
    show = Show(forces=True)

    def arrows(frame, made=scene):
        states = figure_states(made, store, frame, None, show)
        return len(draw_list(made, store, frame, states, show).lines)

    # gravity, the boom that swings and the push; then the boom stands and the push is over
    assert arrows(50.0) == 9 and arrows(160.0) == 3
    assert arrows(160.0, scene.changed(gravity=(0.0, 0.0, 0.0))) == 0
