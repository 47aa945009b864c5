"""Strands: against closed forms, on skins, linked, remade, released, and out and in again."""

import numpy as np
import pytest
import trimesh
from benchmarks.strands import catenary, linking, pinned, pulled_apart, rope, scene_of, sideways_period, throw, upward
from hypothesis import example, given, settings
from hypothesis import strategies as st

from artuline.core.bake.bake import BakeWish
from artuline.core.bake.delivery import bake_take
from artuline.core.checks.checks import check
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.skeleton import skeleton_of
from artuline.core.physics import island_runs
from artuline.core.run.bracket import Span, run_bracket
from artuline.core.run.build import build
from artuline.core.run.record import keep_take, run
from artuline.core.run.stepper import Chunk, Stepper
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Scene, Strand, StrandPoint
from artuline.core.setup.laid import laid, signed_distance
from artuline.core.setup.lines import chain, divided, length_of, line_through
from artuline.core.setup.strand import add_strand, course_of, edits_by_hand, lost_edits, remade
from artuline.core.setup.strand_kinds import along_bones, nearest_bone, ready, released, ring_around
from artuline.core.setup.strand_words import strand_of
from artuline.formats.deliver import deliver
from artuline.formats.gltf_read import read_figure
from artuline.formats.obj_sequence import write_sequence
from artuline.formats.scene_file import load_scene, save_scene

DOWN = np.array([0.0, -1.0, 0.0])


@given(st.lists(st.tuples(*[st.floats(-2.0, 2.0)] * 3), min_size=2, max_size=7), st.booleans(), st.integers(4, 90))
@settings(max_examples=40)
def test_a_line_is_divided_into_equal_parts_from_end_to_end(points, curved, count):
    line = line_through(np.array(points), curved=curved)
    if length_of(line) < 0.05:
        return
    ends = divided(line, count)
    assert len(ends) == count + 1
    assert np.allclose(ends[[0, -1]], line[[0, -1]], atol=1e-9)
    steps = np.linalg.norm(np.diff(ends, axis=0), axis=1)
    # but where it turns back on itself within a part
    assert np.median(steps) < 1.2 * length_of(line) / count


@given(st.tuples(*[st.floats(-3.0, 3.0)] * 3), st.floats(1.01, 4.0), st.integers(3, 200))
@example((0.0, 0.0, 1.0), 4.0, 3)  # narrower than a part is long, so that the lowest props its neighbours asunder
@example((0.0, 1.0, 0.25), 3.0, 5)
@settings(max_examples=150)
def test_a_chain_hangs_so_that_every_part_bears_the_mean_pull_of_its_ends(end, slack, count):
    end = np.array(end)
    if np.linalg.norm(end) < 0.05 or np.linalg.norm(end[[0, 2]]) < 0.05:
        return
    length = slack * np.linalg.norm(end) / count
    places = chain(np.zeros(3), end, count, length, DOWN)
    assert np.allclose(places[[0, -1]], [np.zeros(3), end], atol=1e-9)
    steps = np.diff(places, axis=0)
    assert np.allclose(np.linalg.norm(steps, axis=1), length, rtol=1e-4)
    # forces along the parts bear half the weight of both neighbours at every end that they share, aside and up
    unit = steps / length
    balance = np.zeros((3 * (count - 1), count))
    for k in range(count - 1):
        balance[3 * k : 3 * k + 3, k], balance[3 * k : 3 * k + 3, k + 1] = unit[k], -unit[k + 1]
    weight = np.tile(DOWN, count - 1)
    force, *_ = np.linalg.lstsq(balance, weight, rcond=None)
    assert np.allclose(balance @ force, weight, atol=2e-3)
    # all in the upright plane of its ends, and never bent upwards where all are pulled: the slope only rises
    level = end - (end @ DOWN) * DOWN
    if np.linalg.norm(level) > length:
        along = steps @ (level / np.linalg.norm(level))
        slope = steps[:, 1] / np.maximum(along, 1e-9)
        assert (np.diff(slope) > -1e-6 * np.abs(slope).max()).all()


@pytest.mark.parametrize(("count", "substeps"), [(30, 10), (60, 4), (60, 20)])
def test_a_line_hangs_pulls_and_swings_as_its_equations_say_at_any_number_of_parts(count, substeps):
    strand = rope(pinned((0.0, 3.0, 0.0), (2.0, 3.0, 0.0)), count=count, slack=0.2, hangs=True)
    scene, assets, id_ = scene_of(strand, end=80, substeps=substeps)
    length = course_of(strand).length
    a, sag = catenary(2.0, length)
    take = run(edit.figure(scene, id_, velocity=(0.0, 0.0, 0.05)), assets)
    assert upward(take.position[:, count // 2, 2], 24) == pytest.approx(sideways_period(a, length), rel=0.02)
    built = build(scene, assets)
    stepper = Stepper(built)
    chunk = Chunk(built, 0, 24)
    for k in range(24):
        stepper.step(chunk, k)
    assert 3.0 - built.world.poses()[0][:, 1].min() == pytest.approx(sag, rel=0.002)
    load = np.abs(built.world.joints["load"][-2:]) * 24.0
    weight = strand.weight * 9.81
    assert np.allclose(load[:, :2], [weight * a, 0.5 * weight * length], rtol=0.005)
    # no jitter, though waves along it are faster than a substep
    assert np.abs(built.world.bodies["v"]).max() < 1e-3


@pytest.mark.parametrize("count", [20, 60])
def test_bending_is_as_firm_at_any_number_of_parts_and_substeps(count):
    sags = []
    for substeps in (4, 20):
        points = (*pinned((0.0, 3.0, 0.0)), StrandPoint(position=(1.0, 3.0, 0.0)))
        strand = rope(
            points, kind="cable", count=count, bend=2.0, twist=2.0, ratio=0.2, radius=0.004, reach=0.004, air=3.0
        )
        scene, assets, _ = scene_of(strand, end=120, substeps=substeps, gravity=(0.0, -1.0, 0.0))
        take = run(scene, assets)
        tip = take.position[-1, -1] + rotation.rotate(take.rotation[-1, -1], np.array([1.0 / count, 0.0, 0.0]))
        sags.append(3.0 - tip[1])
    # a rod under its own weight: w L^4 / (8 EI)
    assert sags[0] == pytest.approx(3.516**2 / 8.0 / (2.0 * np.pi * 2.0) ** 2, rel=0.03)
    assert sags[0] == pytest.approx(sags[1], rel=1e-3)


def test_the_air_takes_nothing_of_what_rests():
    """What hangs on a spring in air sags as without, at any substep count."""
    sags = []
    for air in (0.0, 4.0):
        strand = rope(pinned((0.0, 3.0, 0.0), (1.0, 3.0, 0.0)), count=20, slack=0.1, hangs=True, air=air)
        scene, assets, _ = scene_of(strand, end=24, substeps=2)
        take = run(scene, assets)
        sags.append(take.position[-1, :, 1].min())
    assert sags[0] == pytest.approx(sags[1], abs=1e-4)


@pytest.mark.parametrize(("clip", "speed"), [("walk", 10.0), ("reel", 3.0), ("crossing", 25.0)])
def test_nothing_comes_through_a_skin_that_moves(deckhand_ready, clip, speed):
    figure, assets = deckhand_ready
    through, thrown = throw(figure, assets, clip, 120, 7, speed)
    assert thrown > 90
    assert through == 0


def test_a_line_lies_on_the_skin_that_one_sees(deckhand_ready):
    figure, assets = deckhand_ready
    f = figure.changed(clip="walk", skin=True, clips=tuple(c.changed(loop=True) for c in figure.clips))
    scene = Scene(figures=(f,), end=24, warm_up=24)
    m = keyed_matrices(scene, assets, f, np.array([0.0]))[0]
    at = 0.5 * m[f.bone_index["neck"], :3, 3] + 0.5 * m[f.bone_index["upper_arm_l"], :3, 3]
    offsets = ((0, -0.3, 0.3), (0, 0.05, 0.14), (0, 0.1, 0), (0, 0.05, -0.14), (0, -0.3, -0.3))
    points = laid(scene, assets, tuple(StrandPoint(position=tuple(at + np.array(o))) for o in offsets), 0.0, 0.012)
    scene, id_ = add_strand(scene, assets, ready("rope", points, friction=1.0, count=24))
    takes = []
    for threads in (1, 2):
        island_runs.threads = threads
        takes.append(run(scene, assets))
    assert takes[0].position.tobytes() == takes[1].position.tobytes()
    # and by a process of its own, as brackets run
    cells = dict(run_bracket(scene, assets, [Span("substeps", 10, 12, 2)], workers=1))
    assert cells[0].take.position.tobytes() == takes[0].position.tobytes()
    take, radius = takes[0], scene.figure(id_).made.reach
    rows = [k for k, b in enumerate(take.bodies) if b.figure == id_]
    middle = np.array([b.shapes[0].position for b in scene.figure(id_).bodies])
    mesh, touched = Mesh.from_arrays(assets[f.asset]), 0
    for frame in range(0, 25, 4):
        skin = mesh.skin(keyed_matrices(scene, assets, f, np.array([float(frame)]))[0])
        gaps = signed_distance(
            take.position[frame, rows] + rotation.rotate(take.rotation[frame, rows], middle), skin, mesh.triangles
        )[0]
        assert gaps.min() > radius - 1.5e-3
        touched += int((gaps < radius + 1e-3).sum())
    assert touched > 15


@pytest.mark.parametrize("substeps, force", [(10, 50.0), (10, 200.0), (40, 50.0)])
def test_loose_loops_that_are_pulled_apart_stay_linked_and_gain_nothing(substeps, force):
    linked, gained = pulled_apart(substeps, force)
    assert linked and gained < 1.0


def test_linked_loops_stay_linked():
    angle = 2.0 * np.pi * np.arange(8) / 8.0
    flat = tuple(StrandPoint(position=(0.3 * np.cos(a), 0.6, 0.3 * np.sin(a))) for a in angle)
    upright = tuple(StrandPoint(position=(0.3 + 0.3 * np.cos(a), 0.6 + 0.3 * np.sin(a), 0.02)) for a in angle)
    beads = {"kind": "beads", "closed": True, "count": 40, "radius": 0.02, "reach": 0.02}
    assets, scene = AssetStore(), Scene(end=36)
    scene, a = add_strand(scene, assets, rope(flat, **beads))
    scene, b = add_strand(scene, assets, rope(upright, **beads))
    take = run(scene, assets)
    rows = {id_: [k for k, x in enumerate(take.bodies) if x.figure == id_] for id_ in (a, b)}
    found = [linking(take.position[i, rows[a]], take.position[i, rows[b]]) for i in range(0, 37, 3)]
    assert np.allclose(np.abs(found), 1.0, atol=1e-6) and len({np.sign(x) for x in found}) == 1
    assert take.separation.max() < 2e-3


def test_a_recipe_is_made_anew_and_keeps_what_was_changed_by_hand():
    strand = rope((*pinned((0.0, 2.0, 0.0)), StrandPoint(position=(1.0, 2.0, 0.0))), count=20)
    scene, assets, id_ = scene_of(strand)
    assert not edits_by_hand(scene, scene.figure(id_))
    scene = edit.bodies(scene, id_, {"rope_4", "rope_18"}, lambda b: b.changed(mass=2.0))
    assert sorted(k[1] for k in edits_by_hand(scene, scene.figure(id_))) == ["rope_18", "rope_4"]
    fewer = strand.changed(count=10)
    assert lost_edits(scene, id_, fewer) == ["rope_18"] and not lost_edits(scene, id_, strand.changed(count=30))
    made = remade(scene, assets, id_, fewer).figure(id_)
    assert len(made.bodies) == 10 and made.body_of["rope_4"].mass == 2.0
    assert made.body_of["rope_5"].mass == pytest.approx(strand.weight / 10)


def test_a_strand_is_held_where_it_was_drawn_and_goes_along(deckhand_ready):
    figure, assets = deckhand_ready
    f = figure.changed(clip="walk", clips=tuple(c.changed(loop=True) for c in figure.clips))
    scene = Scene(figures=(f,), end=24)
    m = keyed_matrices(scene, assets, f, np.array([0.0]))[0]
    places = {n: m[f.bone_index[n], :3, 3] for n in ("hand_l", "hand_r")}
    assert nearest_bone(scene, assets, places["hand_l"] + [0.01, -0.02, 0.0], 0.0)[1] in ("hand_l", "forearm_l")
    points = tuple(StrandPoint(position=tuple(p), hold="mounted", figure=f.id, bone=n) for n, p in places.items())
    scene, id_ = add_strand(scene, assets, ready("rope", points, slack=0.6, hangs=True))
    take = run(scene, assets)
    rows = [k for k, b in enumerate(take.bodies) if b.figure == id_]
    length = scene.figure(id_).bodies[0].shapes[0].position[0] * 2.0
    for frame in (0, 12, 24):
        m = keyed_matrices(scene, assets, f, np.array([float(frame)]))[0]
        tip = take.position[frame, rows[-1]] + rotation.rotate(
            take.rotation[frame, rows[-1]], np.array([length, 0.0, 0.0])
        )
        assert np.linalg.norm(take.position[frame, rows[0]] - m[f.bone_index["hand_l"], :3, 3]) < 1e-4
        assert np.linalg.norm(tip - m[f.bone_index["hand_r"], :3, 3]) < 1e-3


def test_many_are_released_one_after_the_other(tmp_path):
    strand = ready("beads", tuple(StrandPoint(position=(x, 1.5, 0.0)) for x in (-0.3, 0.3)))
    assets = AssetStore()
    scene, id_ = add_strand(Scene(end=48), assets, strand)
    made = released(scene, assets, id_, 3, 4.0, 10.0, 0.1, 5)
    assert (
        made == released(scene, assets, id_, 3, 4.0, 10.0, 0.1, 5) != released(scene, assets, id_, 3, 4.0, 10.0, 0.1, 6)
    )
    assert [f.enters for f in made.figures] == [4.0, 14.0, 24.0] and len(
        {f.materials[0].color for f in made.figures}
    ) == 3
    take = run(made, assets)
    for f in made.figures:
        rows = [k for k, b in enumerate(take.bodies) if b.figure == f.id]
        y = take.position[:, rows, 1].mean(axis=1)
        assert np.allclose(y[: int(f.enters) + 1], y[0]) and y[int(f.enters) + 6] < y[0] - 0.2
    save_scene(tmp_path / "a.artuline", made, assets)
    assert load_scene(tmp_path / "a.artuline", AssetStore()) == made
    for count, every, words in ((0, 5.0, "one or more"), (500, 5.0, "at most"), (3, 0.0, "a frame or more")):
        with pytest.raises(ArtulineError, match=words):
            released(scene, assets, id_, count, 0.0, every)


def test_rings_and_tails_follow_a_figure(deckhand_ready):
    figure, assets = deckhand_ready
    scene = Scene(figures=(figure,))
    ring = np.array([p.position for p in ring_around(scene, assets, figure, "forearm_l", 0.0, 0.01)])
    skin = Mesh.from_arrays(assets[figure.asset]).skin(keyed_matrices(scene, assets, figure, np.array([0.0]))[0])
    gaps = signed_distance(ring, skin, Mesh.from_arrays(assets[figure.asset]).triangles)[0]
    assert (gaps > 0.0).all() and gaps.max() < 0.06
    chain_ = along_bones(scene, assets, figure, ["forearm_l", "hand_l", "fingers_l"], 0.0)
    assert chain_[0].bone == "upper_arm_l" and [p.hold for p in chain_] == ["mounted", "free", "free"]
    with pytest.raises(ArtulineError, match="two of them"):
        along_bones(scene, assets, figure, ["hand_l"], 0.0)


def test_checks_name_what_nothing_holds_and_what_begins_inside(deckhand_ready):
    figure, assets = deckhand_ready
    f = figure.changed(skin=True)
    scene = Scene(figures=(f,))
    m = keyed_matrices(scene, assets, f, np.array([0.0]))[0]
    inside = m[f.bone_index["chest"], :3, 3]
    points = tuple(StrandPoint(position=tuple(inside + np.array([x, 0.02, 0.0]))) for x in (-0.4, 0.4))
    scene, id_ = add_strand(scene, assets, ready("rope", points))
    found = [x for x in check(scene, assets) if x.figure == id_]
    assert {"it falls", "begin inside"} <= {w for w in ("it falls", "begin inside") for x in found if w in x.text}
    for finding in found:
        scene = finding.fix(scene)
    assert not [x for x in check(scene, assets) if x.figure == id_]
    assert scene.figure(id_).mounts


def test_a_strand_leaves_as_a_skinned_mesh_with_its_bones(tmp_path):
    strand = ready("rope", (*pinned((0.0, 1.0, 0.0)), StrandPoint(position=(0.6, 1.0, 0.0))))
    scene, assets, id_ = scene_of(strand, end=24)
    take = run(scene, assets)
    baked, _ = bake_take(keep_take(scene, assets, take, scene.settings_fingerprint()), assets, BakeWish(1.0, 2.0))
    deliver(tmp_path / "line.glb", baked, assets, [id_])
    store = AssetStore()
    back = read_figure(tmp_path / "line.glb", store).figure
    assert [b.name for b in back.bones if b.deforms] == [b.name for b in scene.figure(id_).bones]
    assert (
        len(back.clips) == 1
        and store[back.asset]["positions"].shape == assets[scene.figure(id_).asset]["positions"].shape
    )


def test_every_frame_leaves_as_a_mesh_that_another_reader_takes(tmp_path):
    strand = ready("rope", (*pinned((0.0, 1.0, 0.0)), StrandPoint(position=(0.6, 1.0, 0.0))))
    scene, assets, id_ = scene_of(strand, end=6)
    take = run(scene, assets)
    kept = keep_take(scene, assets, take, scene.settings_fingerprint())
    written = write_sequence(tmp_path / "line.obj", kept, assets)
    assert [p.name for p in written] == [f"line.{k:04d}.obj" for k in range(7)]
    mesh = Mesh.from_arrays(assets[scene.figure(id_).asset])
    for frame in (0, 6):
        posed = skeleton_of(scene.figure(id_)).global_matrices(take.poses[id_].frame(frame), np.eye(4))
        back = trimesh.load(written[frame], force="scene", process=False)
        corners = np.concatenate([g.triangles for g in back.geometry.values() if hasattr(g, "triangles")])
        wanted = mesh.skin(posed)[mesh.triangles]
        assert np.allclose(corners.reshape(-1, 9), wanted.reshape(-1, 9), atol=2e-6)
        text = written[frame].read_text().splitlines()
        assert [len(x.split()) - 1 for x in text if x.startswith("l ")] == [len(scene.figure(id_).bones)]
    with pytest.raises(ArtulineError, match="End it with"):
        write_sequence(tmp_path / "line.stl", kept, assets)
    with pytest.raises(ArtulineError, match="no figure with a mesh"):
        write_sequence(tmp_path / "line.obj", Scene(), AssetStore())
    with pytest.raises(ArtulineError):
        write_sequence(tmp_path / "nowhere" / "line.obj", kept, assets)


@pytest.mark.parametrize(
    ("kind", "points", "words"),
    [
        ("rope", ["0,1,0"], "two points"), ("chain", ["0,1,0", "1,1,0"], "no strand of the kind"), ("rope", ["0,1", "1,1,0"], "no point"),
        ("rope", ["0,1,nan", "1,1,0"], "no point"), ("rope", ["hand_z", "1,1,0"], "no bone"), ("rope", ["0,1,0", "0,1,0"], "no length"),
    ],
)  # fmt: skip
def test_bad_words_are_refused(boom, kind, points, words):
    scene, assets = boom
    with pytest.raises(ArtulineError, match=words):
        strand_of(scene, assets, kind, points)


def test_a_recipe_refuses_what_cannot_be():
    with pytest.raises(ValueError, match="three points"):
        Strand(points=pinned((0, 0, 0), (1, 0, 0)), closed=True)
    with pytest.raises(ValueError, match="needs a figure and a bone"):
        StrandPoint(position=(0, 0, 0), hold="mounted")
