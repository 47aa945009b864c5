"""A figure set many times: what is shared and what is its own, in the document and in its file; rules that hand over; skins that are seen from afar."""

import csv
import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pygltflib import GLTF2
from PySide6.QtCore import Qt

from artuline.core.bake.delivery import several
from artuline.core.checks.checks import check
from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.run.kept import Watcher, kept
from artuline.core.run.record import keep_settings, keep_take, run, settings_of
from artuline.core.run.steered import Steered
from artuline.core.scene import edit
from artuline.core.scene.alike import followed, own_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.coarse import coarser
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Ground, MotionKey, Rule, Scene, Shape, Track, obstacle
from artuline.core.setup.grip import mounted
from artuline.core.setup.many import Pattern, set_many
from artuline.demo import things
from artuline.demo.figures import ready_figure, with_clips
from artuline.formats.deliver import deliver
from artuline.formats.scene_file import load_scene, save_scene
from artuline.formats.take_table import write_take
from tests.driving import choose, finish, press

ROLLS = (MotionKey(frame=0, position=(-3.0, 0.5, -1.0)), MotionKey(frame=36, position=(3.5, 0.5, -1.0)))


def crowd(count=5, *more, **values):
    """The deckhand, more like him in a row behind, and obstacles."""
    assets = AssetStore()
    figure = ready_figure("deckhand", assets).changed(clip="stand", **values)
    scene = Scene(name="c", rate=24.0, start=0, end=48, figures=(figure, *more), ground=Ground())
    return set_many(scene, "deckhand", Pattern(how="rows", count=count, columns=3, apart=1.2, sizes=0.1)), assets


def mass(figure, assets):
    from artuline.core.run.build import build

    built = build(Scene(figures=(figure.changed(like=None),)), assets)
    return float(built.world.bodies["mass"].sum())


def test_what_many_share_follows_the_first_and_what_is_changed_on_one_stays():
    scene, assets = crowd()
    assert [f.like for f in scene.figures] == [None, *["deckhand"] * 5]
    sizes = [f.size for f in scene.figures]
    assert min(sizes) < 1.0 < max(sizes) and all(0.9 <= s <= 1.1 for s in sizes)
    masses = [mass(f, assets) for f in scene.figures]
    assert np.allclose(masses, masses[0] * np.array(sizes) ** 3, rtol=1e-3)
    alone = edit.bodies(scene, "deckhand 3", {"head"}, lambda b: b.changed(friction=0.9))
    assert own_of(alone.figure("deckhand 3"), alone.figure("deckhand")) == ("bodies",)
    heavy = followed(alone, edit.bodies(alone, "deckhand", {"chest"}, lambda b: b.changed(density=500.0)))
    assert heavy.figure("deckhand 2").body_of["chest"].density == 500.0
    assert heavy.figure("deckhand 3").body_of["chest"].density != 500.0
    assert heavy.figure("deckhand 3").body_of["head"].friction == 0.9
    group = followed(scene, edit.hand_over(scene, "deckhand", None, 10, 40, 0, 0))
    assert all(f.groups == group.figures[0].groups for f in group.figures)
    left = edit.without_figure(scene, "deckhand")
    assert all(f.like is None for f in left.figures) and left.figures[0].bodies


def test_a_file_of_many_holds_the_setup_once(tmp_path):
    few, assets = crowd(1)
    many, assets = crowd(40)
    many = edit.bodies(many, "deckhand 5", {"head"}, lambda b: b.changed(friction=0.9))
    sizes = []
    for scene in (few, many):
        path = tmp_path / f"{len(scene.figures)}.artuline"
        save_scene(path, scene, assets)
        assert load_scene(path, AssetStore()) == scene
        sizes.append(path.stat().st_size)
    assert sizes[1] < 1.15 * sizes[0]
    take = few.changed(takes=())
    from artuline.core.scene.model import TakeRef

    ref = TakeRef(id="t", name="t", asset="a", settings="", start=0, end=1, scene=keep_settings(many, assets))
    assert settings_of(ref, assets) == edit.scene(many, takes=(), take=None)
    assert take == few


@given(st.integers(0, 10_000), st.integers(1, 25), st.floats(0.1, 0.8))
@settings(max_examples=20)
def test_scattered_ones_keep_apart_and_a_seed_gives_the_same(seed, count, apart):
    figure = _BARE
    scene = Scene(figures=(figure,))
    pattern = Pattern(how="scattered", count=count, apart=apart, around=(9.0, 7.0), seed=seed)
    made = set_many(scene, figure.id, pattern)
    p = np.array([f.position for f in made.figures])[:, [0, 2]]
    gap = np.linalg.norm(p[:, None] - p[None], axis=2) + 99.0 * np.eye(len(p))
    assert gap.min() >= apart
    assert (np.abs(p) <= [4.5, 3.5]).all()
    assert set_many(scene, figure.id, pattern) == made


_BARE = ready_figure("deckhand", AssetStore()).changed(bodies=(), joints=(), pairs_off=())


def test_along_a_track_they_stand_evenly_and_face_along_it():
    rail = obstacle(
        "rail", Shape(kind="sphere", radius=0.1), (MotionKey(frame=0), MotionKey(frame=50, position=(6.0, 0.0, 0.0)))
    )
    made = set_many(Scene(figures=(_BARE, rail)), _BARE.id, Pattern(how="along", count=7, along="rail"))
    new = made.figures[2:]
    assert np.allclose(np.diff([f.position[0] for f in new]), 1.0, atol=0.02)
    assert np.allclose([f.turn for f in new], 0.5 * np.pi, atol=0.02)


@pytest.mark.parametrize(
    ("pattern", "words"),
    [
        (Pattern(count=0), "cannot be set 0 times"),
        (Pattern(how="scattered", count=60, apart=1.0, around=(2.0, 2.0)), "there is room for"),
        (Pattern(how="along"), "no track"),
        (Pattern(clips=("fly",)), "has no clip"),
    ],
)
def test_patterns_that_cannot_be_are_refused(pattern, words):
    with pytest.raises(ArtulineError, match=words):
        set_many(Scene(figures=(_BARE,)), _BARE.id, pattern)


def test_only_who_is_hit_falls_and_the_table_says_when(tmp_path):
    ball = obstacle("ball", Shape(kind="sphere", radius=0.5), ROLLS)
    scene, assets = crowd(5, ball)
    scene = edit.scene(scene, rules=(Rule(id="r", name="rolls", figure="deckhand", when="touched"),))
    take = run(scene, assets)
    first = take.given[0]
    assert first[0] == "deckhand 4" and first[3] == "ball: ball"
    fallen = {g[0] for g in take.given}
    for f in scene.cast:
        rows = [i for i, b in enumerate(take.bodies) if b.figure == f.id]
        assert (take.handover[-1, rows] == 1.0).all() == (f.id in fallen)
        lowest = take.position[-1, rows, 1].max()
        assert (lowest < 1.3) == (f.id in fallen) or f.id in fallen
    assert "deckhand" not in fallen, "the front row stands"
    assert take.penetration.max() < 0.05, "what comes is let through before it is in"
    # who is hit later is later handed over
    frames = [g[1] for g in take.given]
    assert frames == sorted(frames)
    kept = keep_take(scene, assets, take, scene.settings_fingerprint())
    save_scene(tmp_path / "c.artuline", kept, assets)
    again = AssetStore()
    load_scene(tmp_path / "c.artuline", again)
    write_take(tmp_path / "given.csv", scene, take, "given")
    rows = list(csv.DictReader((tmp_path / "given.csv").open()))
    assert [r["figure"] for r in rows] == [g[0] for g in take.given]
    assert rows[0]["touched by"] == "ball: ball" and rows[0]["rule"] == "rolls"


def test_who_is_handed_over_by_a_rule_is_not_said_to_keep_to_the_keys():
    scene, assets = crowd(2)
    rule = Rule(id="r", name="r", figure="deckhand", when="frame")
    said = [
        [x for x in check(edit.scene(scene, rules=r), assets) if "never handed over" in x.text]
        for r in ((), (rule,), (rule.changed(muted=True),))
    ]
    assert said[0] and not said[1] and said[2]


def test_rules_act_while_another_is_steered_and_go_through_the_mirror_with_him():
    scene, assets = crowd(4)
    mate = with_clips(ready_figure("deckhand", assets), assets, "deckhand_steered")
    mate = mate.changed(id="mate", name="mate", clip="stand", position=(0.0, 0.0, -5.0))
    scene = edit.add_figure(scene, mate)
    scene = edit.scene(scene, rules=(Rule(id="r", name="touched", figure="deckhand", when="touched"),))
    made = Steered(scene, assets, 0.0, {"mate": None})
    watcher = Watcher(made)
    for k in range(24 * 4):
        made.steer("mate", 1.4, 0.0)
        if k == 70:
            before = set(made.rules.given)
            made.mirror("mate")
            assert set(made.rules.given) == before and before
        made.step()
    # who was touched last has to come down
    for _ in range(36):
        made.steer("mate", 0.0, 0.0)
        made.step()
    given = {made.built.parts[k].figure.id for k in made.rules.given}
    assert given and "mate" not in given
    for part in made.built.parts:
        fallen = made.built.world.bodies["x"][part.rows, 1].max() < 1.2
        assert fallen == (part.figure.id in given)
    _, take = kept(watcher, 1.0)
    assert {g[0] for g in take.given} == given


def test_who_is_handed_over_keeps_its_momentum_and_what_it_stands_on_going_is_seen():
    plank = obstacle("plank", Shape(kind="box", half=(4.0, 0.05, 4.0)),
                     (MotionKey(frame=0, position=(0.0, 0.95, 0.0)), MotionKey(frame=12, position=(0.0, 0.95, 0.0)), MotionKey(frame=16, position=(0.0, -1.0, 0.0))))  # fmt: skip
    scene, assets = crowd(2, plank, position=(0.0, 1.0, 0.0))
    moving = tuple(MotionKey(frame=f, position=(0.0, 1.0, f * 0.05)) for f in range(0, 60, 4))
    scene = edit.figure(scene, "deckhand", track=Track.of(moving))
    scene = edit.scene(scene, rules=(Rule(id="r", name="r", figure="deckhand", when="left"),), end=30)
    take = run(scene, assets)
    assert {g[0] for g in take.given} == {"deckhand", "deckhand 2", "deckhand 3"}
    assert all(12 <= g[1] <= 15 for g in take.given)
    rows = [i for i, b in enumerate(take.bodies) if b.figure == "deckhand"]
    at = next(g[1] for g in take.given if g[0] == "deckhand") + 3
    speed = 24.0 * (take.position[at, rows] - take.position[at - 1, rows]).mean(axis=0)
    assert speed[2] == pytest.approx(1.2, abs=0.1)
    fall = take.position[at, rows, 1].mean() - take.position[at - 3, rows, 1].mean()
    assert fall == pytest.approx(-0.5 * 9.81 * (3 / 24) ** 2, rel=0.35)


@pytest.mark.parametrize(
    ("values", "who"),
    [
        ({"when": "frame", "frame": 6.0}, lambda n: n == 4),
        ({"when": "inside", "middle": (1.2, 0.9, 0.0), "size": (0.6, 2.0, 0.8)}, lambda n: n == 1),
        ({"when": "chance", "share": 1.0, "over": 4.0}, lambda n: n == 4),
        ({"when": "chance", "share": 0.0}, lambda n: n == 0),
        ({"when": "frame", "muted": True}, lambda n: n == 0),
    ],
)
def test_rules_hand_over_by_frame_place_and_chance(values, who):
    scene, assets = crowd(3)
    scene = edit.scene(scene, rules=(Rule(id="r", name="r", figure="deckhand", **values),), end=16)
    if not who(0):
        take = run(scene, assets)
        assert who(len(take.given))
        assert all(g[1] >= values.get("frame", 0.0) for g in take.given)
        assert run(scene, assets).given == take.given
    else:
        assert run(scene, assets).given == ()
    with pytest.raises(ValueError, match="figure"):
        edit.scene(scene, rules=(Rule(id="r", name="r", figure="nobody"),))
    assert edit.without_figure(scene, "deckhand").rules == ()


def test_a_coarser_skin_is_the_same_from_afar():
    assets = AssetStore()
    figure = ready_figure("deckhand", assets)
    mesh = assets.decoded(figure.asset, Mesh.from_arrays)
    before, size = len(mesh.triangles), np.ptp(mesh.positions, axis=0).max()
    for share in (1 / 90, 1 / 42):
        made = coarser(mesh, share)
        assert len(made.triangles) < 0.75 * before
        before = len(made.triangles)
        assert np.allclose(made.weights.sum(axis=1), 1.0, atol=1e-5)
        for side in (np.min, np.max):
            assert np.allclose(side(made.positions, axis=0), side(mesh.positions, axis=0), atol=share * size)
        Mesh.check(made.to_arrays(), len(figure.bones), len(figure.materials), "coarse")


def test_many_are_set_ruled_run_and_looked_at_through_the_window(window, qtbot, tmp_path):
    w, assets = window, AssetStore()
    ball = obstacle("ball", Shape(kind="sphere", radius=0.5), ROLLS)
    figure = ready_figure("deckhand", assets).changed(clip="stand")
    w.session.new(Scene(name="c", rate=24.0, start=0, end=36, figures=(figure, ball), ground=Ground()), assets)
    w.session.select("deckhand", frozenset())
    w.set_station("Cast")
    w.room("Cast").commands.many.change(count=5, apart=1.2)
    press(w, qtbot, "Set them")
    assert len(w.session.scene.cast) == 6
    w.session.select("deckhand 4", frozenset())
    qtbot.wait(20)
    press(w, qtbot, "Show deckhand")
    assert w.session.figure().id == "deckhand"
    w.set_station("Blend")
    press(w, qtbot, "New rule")
    (rule,) = w.session.scene.rules
    assert rule.when == "touched"
    qtbot.keyClick(w, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: w.session.take() is not None and not w.desk.jobs.busy, timeout=60000)
    take = w.session.take()
    assert take.given and take.given[0][3] == "ball: ball"
    w.set_station("Takes")
    press(w, qtbot, str(take.given[0][1]))
    assert w.session.frame == take.given[0][1] and w.session.selection.figure == take.given[0][0]
    fallen = [g[0] for g in take.given]
    w.session.select("deckhand", frozenset())
    w.set_station("Curves")
    choose(w, "Figures", "all 6 alike")
    qtbot.keyClick(w, Qt.Key.Key_F6)
    qtbot.waitUntil(lambda: any(f.layers for f in w.session.scene.figures) and not w.desk.jobs.busy, timeout=60000)
    assert {f.id for f in w.session.scene.figures if f.layers} == set(fallen)
    w.files.ask_export()
    d = w.files.dialog
    d.format.setCurrentIndex(d.format.findData(".glb"))
    assert len(d.figures()) == 6
    qtbot.keyClick(d.which, Qt.Key.Key_End)
    d.which.activated.emit(d.which.currentIndex())
    assert d.which.currentText() == "Chosen in the list" and d.list.isVisible()
    for k in range(2, 6):
        d.list.item(k).setCheckState(Qt.CheckState.Unchecked)
    d.together.setChecked(True)
    d.choose(tmp_path / "two.glb")
    qtbot.waitUntil(lambda: (tmp_path / "two.glb").exists() and not w.desk.jobs.busy, timeout=30000)
    assert "2 figures" in w.strip.message.toolTip()
    document = json.loads(GLTF2().load(str(tmp_path / "two.glb")).to_json())
    assert len(document["skins"]) == 2
    meshes = [[p["attributes"]["POSITION"] for p in m["primitives"]] for m in document["meshes"]]
    assert meshes[0] == meshes[1], "the mesh of both is written once"
    w.session.stack.undo()
    w.session.stack.undo()
    w.session.stack.undo()
    w.session.stack.undo()
    assert len(w.session.scene.cast) == 1
    finish(w, qtbot)


def test_figures_leave_alone_with_what_they_hold_alike_and_all(tmp_path):
    scene, assets = crowd(2, obstacle("ball", Shape(kind="sphere", radius=0.5), ROLLS))
    pail = things.pail(assets)
    scene = mounted(edit.add_figure(scene, pail), assets, pail.id, "deckhand 2", "hand_r", 0.0)
    assert several(scene, "deckhand", "this") == ["deckhand"] == several(scene, "deckhand", "held")
    assert several(scene, "deckhand 2", "held") == ["deckhand 2", "pail"]
    assert several(scene, "deckhand 2", "alike")[0] == "deckhand 2"
    assert set(several(scene, "deckhand 2", "alike")) == {"deckhand", "deckhand 2", "deckhand 3", "pail"}
    assert set(several(scene, "pail", "all")) == {f.id for f in scene.cast}
    with pytest.raises(ArtulineError, match="stopped"):
        deliver(tmp_path / "a.glb", scene, assets, ["deckhand", "pail"], progress=_stopped)
    assert not list(tmp_path.iterdir())


def _stopped(done, total):
    if done:
        raise CancelledError
