"""No work is lost: whatever is edited and baked can be saved and opened, what is damaged is left out by name, what others saved is not overwritten."""

import json
import os
import zipfile

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PySide6.QtWidgets import QApplication

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.bake.hermite import Wish, fit
from artuline.core.checks.data import check_data
from artuline.core.errors import ArtulineError
from artuline.core.geometry.curve import Channel
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import load_clip
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Layer, Scene
from artuline.desk.files import fresh_path
from artuline.desk.model.session import Session
from artuline.formats import recovery
from artuline.formats.held import Held
from artuline.formats.salvage import salvage_scene
from artuline.formats.scene_file import ChangedError, TooLargeError, load_scene, save_scene
from tests.test_leaving import answer


@given(st.integers(4, 300), st.integers(1, 4), st.integers(-50, 50), st.integers(1, 2), st.integers(0, 2**31))
@settings(max_examples=60)
def test_keys_lie_on_frames_that_may_have_keys_and_run_forward(count, step, origin, fine, seed):
    """Rests, hits and steps of keys at random: no two keys on one frame, none between two."""
    rng = np.random.default_rng(seed)
    rows = (count - 1) * fine + 1
    way = np.cumsum(rng.normal(size=(rows, 3)) * (rng.random(rows) < 0.3)[:, None], axis=0)
    still = rng.integers(0, rows)
    way[still : still + rows // 2] = way[still]
    wish = Wish(0.2, step=step * fine, origin=origin * fine, fine=fine)
    keys = fit(way, wish)
    inner = keys.rows[1:-1]
    assert (np.diff(keys.rows) > 0).all() and not ((inner + origin * fine) % (step * fine)).any()


EDITS = (
    lambda s, r: s.changed(end=s.end - int(r.integers(0, 3))),
    lambda s, r: s.changed(rate=float(r.choice([24.0, 23.976, 30.0, 59.94]))),
    lambda s, r: edit.figure(s, s.figures[0].id, position=tuple(r.normal(size=3)), turn=float(r.normal())),
    lambda s, r: edit.hand_over(s, s.figures[0].id, str(r.choice(s.figures[0].limbs())), 3.0, 30.0),
    lambda s, r: edit.figure(s, s.figures[0].id, groups=()),
    lambda s, r: edit.bodies(s, s.figures[0].id, {s.figures[0].bodies[0].id}, lambda b: b.changed(friction=0.3)),
    lambda s, r: edit.figure(s, s.figures[0].id, name=str(r.choice(["", "ä\n", "😀" * 50, "<b>"])) or "x"),
    lambda s, r: edit.scene(s, gravity_lane=edit.vector_at(s.gravity_lane, float(r.normal()), (0.0, -1.0, 0.0))),
)


@given(st.lists(st.integers(0, len(EDITS) - 1), max_size=6), st.integers(0, 2**31), st.sampled_from([0.3, 1.0, 5.0]),
       st.sampled_from([1, 2, 3]), st.booleans())  # fmt: skip
@settings(max_examples=12)
def test_edited_at_random_and_baked_it_is_saved_and_opened_equal(boom_run, tmp_path_factory, which, seed, bound, step, between):  # fmt: skip
    scene, old, take = boom_run
    assets = AssetStore()
    assets.take_over(old)
    rng = np.random.default_rng(seed)
    for k in which:
        scene = EDITS[k](scene, rng)
        check_data(scene, assets)
    figure = scene.figures[0]
    baked = bake_figure(scene, assets, figure, take, BakeWish(bound, 10 * bound, step=step, between=between))
    scene = add_layer(scene, assets, figure.id, baked, "baked", of=scene.take)
    path = tmp_path_factory.mktemp("random") / "a.artuline"
    save_scene(path, scene, assets)
    again = AssetStore()
    back = load_scene(path, again)
    assert back == scene
    save_scene(path.with_name("b.artuline"), back, again)
    assert path.read_bytes() == path.with_name("b.artuline").read_bytes()
    # where it has no key, a channel rests: at the frames it is what was fitted
    clip = load_clip(again, back.figures[0].layers[-1].asset)
    assert all((np.diff(c.times) > 0).all() for c in clip.channels)


def unsound(assets, bone):
    """The hash of a clip that no reader takes: two keys at one time."""
    channel = Channel(bone, "rotation", "LINEAR", np.array([0.0, 1.0, 1.0]), np.tile([0.0, 0.0, 0.0, 1.0], (3, 1)))
    return assets.add(Clip((channel,)).to_arrays())


def with_bad_layer(scene, assets):
    figure = scene.figures[0]
    layer = Layer(id="l", name="by hand", asset=unsound(assets, figure.bones[1].name), start=0, end=9)
    return edit.figure(scene, figure.id, layers=(layer,))


def test_what_could_not_be_opened_again_is_neither_done_nor_saved(qapp, boom, tmp_path):
    session, said = Session(), []
    session.failed.connect(said.append)
    session.new(*boom)
    assert not session.edit("Put in", lambda s: with_bad_layer(s, session.assets))
    assert session.scene is boom[0] and "key times" in said[0] and "by hand" in said[0]
    assets = AssetStore()
    assets.take_over(boom[1])
    path = tmp_path / "a.artuline"
    path.write_bytes(b"old")
    with pytest.raises(ArtulineError, match=r"cannot be saved.*by hand"):
        save_scene(path, with_bad_layer(boom[0], assets), assets)
    assert path.read_bytes() == b"old" and os.listdir(tmp_path) == ["a.artuline"]


def test_a_disk_that_forgets_does_not_cost_the_old_file(boom, tmp_path, monkeypatch):
    path = tmp_path / "a.artuline"
    save_scene(path, *boom)
    before = path.read_bytes()
    whole = zipfile.ZipFile.writestr

    def forgets(self, name, data, *more):
        return whole(
            self, name, data if getattr(name, "filename", name) == "scene.json" else data[:-9] + bytes(9), *more
        )

    monkeypatch.setattr(zipfile.ZipFile, "writestr", forgets)
    with pytest.raises(ArtulineError, match=r"read back|damaged"):
        save_scene(path, boom[0].changed(name="other"), boom[1])
    assert path.read_bytes() == before


# what can be saved of damaged files


@pytest.fixture
def whole(boom_run, tmp_path):
    scene, old, take = boom_run
    assets = AssetStore()
    assets.take_over(old)
    baked = bake_figure(scene, assets, scene.figures[0], take, BakeWish(2.0, 20.0))
    scene = add_layer(scene, assets, scene.figures[0].id, baked, "fall", of=scene.take)
    path = tmp_path / "whole.artuline"
    save_scene(path, scene, assets)
    return path, scene


def entries(path):
    with zipfile.ZipFile(path) as z:
        return {n: z.read(n) for n in z.namelist()}


def rewrite(path, parts):
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as z:
        for name, data in parts.items():
            z.writestr(name, data)


def test_damaged_data_costs_what_needs_it_and_nothing_else(whole):
    path, scene = whole
    figure = scene.figures[0]
    for key, words, gone in (
        (figure.layers[0].asset, "the layer 'fall' of 'deckhand'", lambda s: not s.figures[0].layers),
        (scene.takes[0].asset, "the take 'take 1'", lambda s: not s.takes and s.take is None),
        (figure.clips[0].asset, "the clip 'crossing' of 'deckhand'", lambda s: len(s.figures[0].clips) == len(figure.clips) - 1),
        (figure.asset, "the skin of 'deckhand'", lambda s: s.figures[0].asset is None and s.figures[0].layers),
    ):  # fmt: skip
        parts = entries(path)
        name = f"assets/{key}.npz"
        parts[name] = parts[name][:200] + bytes(20) + parts[name][220:]
        bad = path.with_name("bad.artuline")
        rewrite(bad, parts)
        with pytest.raises(ArtulineError):
            load_scene(bad, AssetStore())
        found = salvage_scene(bad)
        assert len(found.lost) == 1 and found.lost[0].startswith(words), found.lost
        assert gone(found.scene)
        save_scene(path.with_name("saved.artuline"), found.scene, found.assets)
        assert load_scene(path.with_name("saved.artuline"), AssetStore()) == found.scene


@pytest.mark.parametrize("share", [0.3, 0.6, 0.9, 0.99])
def test_of_a_file_that_is_cut_off_the_rest_is_saved(whole, share):
    path, scene = whole
    data = path.read_bytes()
    path.write_bytes(data[: int(share * len(data))])
    found = salvage_scene(path)
    assert len(found.scene.figures) == len(scene.figures) and len(found.lost) >= (share < 0.99)
    check_data(found.scene, found.assets)


def test_a_description_with_faults_loses_what_has_them(whole):
    path, scene = whole
    parts = entries(path)
    raw = json.loads(parts["scene.json"])
    raw["figures"][0]["layers"][0]["weight"] = 7.0
    raw["substeps"] = -3
    raw["figures"].append({"id": "odd", "name": "odd", "bones": [{"name": "a", "parent": "b"}]})
    raw["links"] = [{"id": "l", "name": "line", "kind": "tie", "a": {"figure": "gone", "body": "x"}}]
    rewrite(path, parts | {"scene.json": json.dumps(raw).encode()})
    found = salvage_scene(path)
    words = " ".join(found.lost)
    assert found.scene.figures[0].bodies == scene.figures[0].bodies and not found.scene.figures[0].layers
    for part in ("the layer 'fall'", "the scene's substeps", "the figure 'odd'", "the link 'line'"):
        assert part in words, words


def test_what_is_no_scene_at_all_is_said_so(tmp_path):
    path = tmp_path / "a.artuline"
    for data in (b"", b"PK\x03\x04" + bytes(90), os.urandom(3000)):
        path.write_bytes(data)
        with pytest.raises(ArtulineError, match=r"a\.artuline"):
            salvage_scene(path)


def test_the_window_opens_the_rest_and_leaves_the_file_alone(window, qtbot, whole):
    path, _ = whole
    data = path.read_bytes()[:-4000]
    path.write_bytes(data)
    said = answer("Open the rest")
    assert window.files.open_path(path)
    qtbot.waitUntil(lambda: bool(window.session.scene.figures) and QApplication.activeModalWidget() is None)
    assert "Left out would be" in said[0]
    assert window.session.path is None and window.session.unsaved and path.read_bytes() == data


# two windows, one file


def test_a_second_save_overwrites_nothing_in_silence(boom, tmp_path):
    path = tmp_path / "a.artuline"
    save_scene(path, *boom)
    here, there = AssetStore(), AssetStore()
    mine, theirs = load_scene(path, here), load_scene(path, there)
    save_scene(path, theirs.changed(name="theirs"), there)
    save_scene(path, theirs.changed(name="theirs again"), there)
    with pytest.raises(ChangedError, match="changed by someone else"):
        save_scene(path, mine.changed(name="mine"), here)
    assert load_scene(path, AssetStore()).name == "theirs again"
    # touched only, or gone: nothing is lost by saving
    other = AssetStore()
    scene = load_scene(path, other)
    os.utime(path)
    save_scene(path, scene, other)
    path.unlink()
    save_scene(path, scene, other)
    save_scene(path, mine, here, replace=True)
    assert load_scene(path, AssetStore()).name == mine.name


@pytest.mark.parametrize("choice", ["Keep both", "Replace theirs", "Open theirs", "Cancel"])
def test_the_window_asks_whose_work_is_kept(window, qtbot, boom, tmp_path, choice):
    path = tmp_path / "a.artuline"
    save_scene(path, *boom)
    assets = AssetStore()
    window.session.new(load_scene(path, assets), assets, path)
    save_scene(path, boom[0].changed(name="theirs"), boom[1])
    window.session.edit("Name", lambda s: s.changed(name="mine"))
    asked = answer(choice)
    if choice == "Open theirs":
        window.session.stack.setClean()
    saved = window.files.save()
    assert "changed by another window" in asked[0]
    qtbot.waitUntil(lambda: not window.desk.jobs.busy)
    names = {p.name: load_scene(p, AssetStore()).name for p in tmp_path.iterdir()}
    assert names == {
        "Keep both": {"a.artuline": "theirs", "a 2.artuline": "mine"}, "Replace theirs": {"a.artuline": "mine"},
    }.get(choice, {"a.artuline": "theirs"})  # fmt: skip
    assert saved == (choice in ("Keep both", "Replace theirs"))
    assert window.session.scene.name == ("theirs" if choice == "Open theirs" else "mine")


def test_who_else_has_a_file_open_is_said_at_opening(qapp, boom, tmp_path):
    path = tmp_path / "a.artuline"
    save_scene(path, *boom)
    other, session, said = Held(), Session(), []
    session.told.connect(said.append)
    assert other.take(path)
    session.open(path)
    assert "Another window has a.artuline open" in said[0]
    other.release()
    said.clear()
    session.open(path)
    assert not said and not other.take(path)
    session.new(Scene(), AssetStore())
    assert other.take(path)
    assert fresh_path(path).name == "a 2.artuline"


def test_work_that_was_left_behind_knows_what_lay_where_it_was_saved(boom, tmp_path):
    path = tmp_path / "a.artuline"
    save_scene(path, *boom)
    assets = AssetStore()
    scene = load_scene(path, assets)
    kept = recovery.Recovery()
    kept.keep(scene.changed(name="mine"), assets, path)
    assert not recovery.left_behind()
    # its program ends badly
    os.close(kept._lock)
    save_scene(path, scene.changed(name="theirs"), boom[1], replace=True)
    (left,) = recovery.left_behind()
    back = AssetStore()
    mine, lost = recovery.recover(left, back)
    assert mine.name == "mine" and not lost
    with pytest.raises(ChangedError):
        save_scene(path, mine, back)


# what a scene may take


def test_only_what_the_description_names_is_unfolded(whole, monkeypatch):
    path, scene = whole
    with zipfile.ZipFile(path, "a", zipfile.ZIP_DEFLATED) as z:
        z.writestr(f"assets/{'0' * 32}.npz", bytes(2**27))
    assert load_scene(path, AssetStore()) == scene
    monkeypatch.setenv("ARTULINE_MOST_DATA", "1")
    with pytest.raises(TooLargeError, match="ARTULINE_MOST_DATA") as caught:
        load_scene(path, AssetStore())
    assert load_scene(path, AssetStore(), most=caught.value.needed) == scene


@pytest.mark.parametrize("version", [0, -5, True, 1.5, "5"])
def test_versions_that_never_were(boom, tmp_path, version):
    path = tmp_path / "a.artuline"
    save_scene(path, *boom)
    parts = entries(path)
    raw = json.loads(parts["scene.json"]) | {"version": version}
    rewrite(path, parts | {"scene.json": json.dumps(raw).encode()})
    with pytest.raises(ArtulineError, match=r"never was|no format version"):
        load_scene(path, AssetStore())
