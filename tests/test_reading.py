"""What is read and written: nothing outside of a file's folder, nothing without bounds, and files put in place as they should be."""

import hashlib
import io
import json
import os
import stat
import sys
import zipfile
import zlib

import numpy as np
import pytest
from benchmarks import fuzz_files
from pydantic_core import to_json
from typer.testing import CliRunner

from artuline.cli import app
from artuline.core.errors import ArtulineError
from artuline.core.motion.keyed import keyed_pose
from artuline.core.motion.poses import key_pose
from artuline.core.run.record import keep_take, run, settings_of
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore, content_hash
from artuline.core.scene.model import FORMAT_VERSION, BodyRef, Scene
from artuline.demo.figures import DATA
from artuline.demo.scenes import demo_scene
from artuline.formats import integration
from artuline.formats.files import read_plain, write_whole
from artuline.formats.gltf_read import read_figure
from artuline.formats.mesh_read import read_mesh, read_shape
from artuline.formats.migrations import migrate
from artuline.formats.scene_file import load_scene, save_scene
from tests import foreign


def test_damaged_files_give_clear_errors_only():
    # kernels may be compiled on the way, and a busy machine is slow: time is the benchmark's to judge
    assert fuzz_files.trial(12, 3, apart=False, slow=None) == []


@pytest.fixture
def apart(tmp_path):
    """A figure as .gltf with its buffer beside it, and a way to change its text."""
    document, binary = fuzz_files.glb_parts((DATA / "goat.glb").read_bytes())
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "goat.bin").write_bytes(binary)
    (tmp_path / "secret.bin").write_bytes(binary)
    document["buffers"][0]["uri"] = "goat.bin"

    def write(**changes):
        path = tmp_path / "in" / "goat.gltf"
        made = json.loads(json.dumps(document))
        for key, value in changes.items():
            made[key] = value(made[key]) if callable(value) else value
        path.write_text(json.dumps(made))
        return path

    return write


def with_address(uri, **more):
    return lambda buffers: [buffers[0] | {"uri": uri} | more]


def test_a_buffer_lies_beside_the_figure_or_below(apart, tmp_path):
    assert read_figure(apart(), AssetStore()).figure.bones
    folder = tmp_path / "in"
    (folder / "deep").mkdir()
    (folder / "deep" / "a b.bin").write_bytes((folder / "goat.bin").read_bytes() + b"more than is claimed")
    assert read_figure(apart(buffers=with_address("deep/a%20b.bin")), AssetStore()).figure.bones
    (folder / "link.bin").symlink_to(tmp_path / "secret.bin")
    os.mkfifo(folder / "pipe.bin")
    for uri, words in (
        ("../secret.bin", "leads out"), ("..%2Fsecret.bin", "leads out"), (str(tmp_path / "secret.bin"), "does not lie beside"),
        ("link.bin", "leads out"), ("pipe.bin", "not a plain file"), ("deep", "not a plain file|is a directory"), ("/dev/zero", "does not lie beside"),
        ("https://example.invalid/a.bin", "network"), ("no.bin", "no such file"),
    ):  # fmt: skip
        with pytest.raises(ArtulineError, match=words):
            read_figure(apart(buffers=with_address(uri)), AssetStore())


def test_devices_and_pipes_are_no_files(tmp_path):
    os.mkfifo(tmp_path / "pipe.glb")
    (tmp_path / "zero.glb").symlink_to("/dev/zero")
    for name in ("pipe.glb", "zero.glb"):
        with pytest.raises(ArtulineError, match="not a plain file"):
            read_figure(tmp_path / name, AssetStore())
    with pytest.raises(ArtulineError, match="too large"):
        read_plain(DATA / "goat.glb", 1000)


def test_what_a_file_claims_is_compared_with_limits_before_anything_is_made(apart):
    def huge(accessors):
        return [{k: v for k, v in a.items() if k != "bufferView"} | {"count": 50_000_000} for a in accessors]

    with pytest.raises(ArtulineError, match="more than this program reads"):
        read_figure(apart(accessors=huge), AssetStore())
    with pytest.raises(ArtulineError, match="30000 nodes"):
        read_figure(apart(nodes=lambda nodes: nodes + [{"name": "same"}] * (30_000 - len(nodes))), AssetStore())
    # and a great many that are allowed are read in a time that grows with their number
    many = read_figure(apart(nodes=lambda nodes: nodes + [{"name": "same"}] * 8000), AssetStore())
    names = [b.name for b in many.figure.bones]
    assert len(set(names)) == len(names) > 8000 and any("8000 times" in n for n in many.notes)


def scene_with(tmp_path, change):
    """A scene file whose entries were changed: name -> bytes."""
    path = tmp_path / "a.artuline"
    with zipfile.ZipFile(path) as z:
        parts = {n: z.read(n) for n in z.namelist()}
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as z:
        for name, data in change(parts).items():
            z.writestr(name, data)
    return path


def swapped(key, arrays):
    """Other data under a new name that fits it, and the scene's text that refers to it."""

    def change(parts):
        data = io.BytesIO()
        np.savez(data, **arrays)
        new = content_hash(arrays)
        made = {n: d for n, d in parts.items() if key not in n}
        made["scene.json"] = parts["scene.json"].replace(key.encode(), new.encode())
        return made | {f"assets/{new}.npz": data.getvalue()}

    return change


MESHES = {
    "a vertex that is not there": (lambda a: {"triangles": a["triangles"] + 10**6}, "'triangles' holds"),
    "a bone that is not there": (lambda a: {"palette_bone": a["palette_bone"] + 500}, "'palette_bone' holds"),
    "a material that is not there": (lambda a: {"material": a["material"] - 99}, "'material' holds"),
    "no number": (lambda a: {"positions": np.where(np.arange(3) == 1, np.nan, a["positions"])}, "not finite"),
    "too short": (lambda a: {"weights": a["weights"][:-1]}, "entries along axis"),
    "texts": (lambda a: {"slots": a["slots"].astype(float)}, "wrong kind"),
}


@pytest.mark.parametrize("name", MESHES)
def test_arrays_of_a_scene_are_checked_when_it_is_read(tmp_path, boom, name):
    scene, assets = boom
    save_scene(tmp_path / "a.artuline", scene, assets)
    key = scene.figures[0].asset
    change, words = MESHES[name]
    path = scene_with(tmp_path, swapped(key, assets[key] | change(assets[key])))
    with pytest.raises(ArtulineError, match=words) as caught:
        load_scene(path, AssetStore())
    assert "a.artuline" in str(caught.value) and "skin of deckhand" in str(caught.value)


@pytest.mark.parametrize("path_", ["__class__", "copy", "shear"])
def test_a_clip_that_moves_something_else_is_refused(tmp_path, boom, path_):
    scene, assets = boom
    save_scene(tmp_path / "a.artuline", scene, assets)
    ref = scene.figures[0].active_clip()
    arrays = dict(assets[ref.asset])
    table = json.loads(bytes(arrays["channels"]))
    table[0][1] = path_
    arrays["channels"] = np.frombuffer(json.dumps(table).encode(), np.uint8)
    with pytest.raises(ArtulineError, match="unknown kind"):
        load_scene(scene_with(tmp_path, swapped(ref.asset, arrays)), AssetStore())
    arrays = dict(assets[ref.asset])
    arrays["0.times"], arrays["0.values"] = arrays["0.times"][:0], arrays["0.values"][:0]
    save_scene(tmp_path / "a.artuline", scene, assets, replace=True)
    with pytest.raises(ArtulineError, match="do not run forward"):
        load_scene(scene_with(tmp_path, swapped(ref.asset, arrays)), AssetStore())


def test_archives_that_unfold_or_claim_too_much_are_refused(tmp_path, boom, monkeypatch):
    scene, assets = boom
    path = tmp_path / "a.artuline"
    save_scene(path, scene, assets)
    monkeypatch.setattr("artuline.formats.scene_file.MOST_DATA", 1000)
    with pytest.raises(ArtulineError, match="unfolds to"):
        load_scene(path, AssetStore())
    monkeypatch.undo()
    # an array that claims far more than there is
    head = io.BytesIO()
    np.lib.format.write_array_header_1_0(head, {"descr": "<f8", "fortran_order": False, "shape": (10**12, 10**3)})
    bomb = io.BytesIO()
    with zipfile.ZipFile(bomb, "w") as z:
        z.writestr("positions.npy", head.getvalue())
    key = scene.figures[0].asset
    spoiled = scene_with(tmp_path, lambda parts: parts | {f"assets/{key}.npz": bomb.getvalue()})
    with pytest.raises(ArtulineError, match="not what it claims"):
        load_scene(spoiled, AssetStore())
    save_scene(path, scene, assets, replace=True)
    with pytest.raises(ArtulineError, match="end must be 1000000 at most"):
        load_scene(scene_with(tmp_path, lambda parts: parts | {"scene.json": parts["scene.json"].replace(b'"end": 168', b'"end": 1000000000')}), AssetStore())  # fmt: skip


@pytest.mark.parametrize("early", [False, True])
def test_scenes_of_the_first_format_open_with_their_takes(tmp_path, boom_run, early):
    """Takes named bodies by words then; now by figure and id."""
    scene, assets, take = boom_run
    ref = scene.takes[0]
    arrays = dict(assets[ref.asset])
    about = json.loads(bytes(arrays["about"]))
    # a world had its figures first, then its obstacles
    about["names"] = [b for _, b in about.pop("bodies")]
    about["joints"] = [j for _, j in about["joints"]]
    arrays["about"] = np.frombuffer(json.dumps(about).encode(), np.uint8)
    for name in ("touch", "kinetic", "used") if early else ():
        arrays.pop(name)
    data = {k: dict(assets[k]) for k in scene.assets() if k != ref.asset} | {content_hash(arrays): arrays}
    raw = as_format_3(json.loads(scene.model_dump_json().replace(ref.asset, content_hash(arrays)))) | {"version": 1}
    raw, data = migrate(raw, data)
    made = Scene.model_validate(raw)
    assert made.version == FORMAT_VERSION and made.settings_fingerprint() == scene.settings_fingerprint()
    Take.check(data[made.takes[0].asset], "take 1")
    again = Take.from_arrays(data[made.takes[0].asset])
    assert again.bodies == take.bodies and set(again.joints) == set(take.joints)
    np.testing.assert_array_equal(again.position, take.position)
    assert (
        again.column("deckhand", "head") == take.column("deckhand", "head") and BodyRef("boom", "boom") in again.bodies
    )


def as_format_4(raw):
    """A scene's description as format 4 wrote it: tracks as lists of places."""
    raw = json.loads(json.dumps(raw)) | {"version": 4}
    for f in raw["figures"]:
        both = zip(*(f["track"][c]["keys"] for c in ("position", "rotation")))
        f["track"] = [{"frame": p["frame"], "position": p["value"], "rotation": q["value"]} for p, q in both]
        for j in (*f["joints"], *f["loops"]):
            # a joint broke at an impulse within a frame
            j["break_impulse"] = j.pop("break_force") / raw["rate"]
            j.pop("break_torque")
    return raw


def as_format_3(raw):
    """A scene's description as format 3 wrote it: obstacles apart, and ends on them without a figure."""
    raw = as_format_4(raw) | {"version": 3}
    apart = {f["id"]: f for f in raw["figures"] if f["obstacle"]}
    raw["figures"] = [{k: v for k, v in f.items() if k != "obstacle"} for f in raw["figures"] if not f["obstacle"]]
    raw["obstacles"] = [
        {"id": f["id"], "name": f["name"], "shape": f["bodies"][0]["shapes"][0], "keys": f["track"],
         "color": f["materials"][0]["color"], **{k: f["bodies"][0][k] for k in ("friction", "restitution")}}
        for f in apart.values()
    ]  # fmt: skip
    ends = [x[k] for x in raw["links"] for k in "ab" if x[k] is not None] + [
        e for pair in raw["pairs_off"] for e in pair
    ]
    for e in ends:
        e["figure"] = None if e["figure"] in apart else e["figure"]
    return raw


def test_obstacles_of_the_third_format_become_figures_with_what_refers_to_them():
    """Links, pairs, takes and their settings; one whose name a figure has gets another."""
    assets = AssetStore()
    scene = edit.scene(demo_scene("yard", assets), end=4, warm_up=0)
    take = run(scene, assets)
    scene = keep_take(scene, assets, take, scene.settings_fingerprint())
    ref = scene.takes[0]
    arrays = dict(assets[ref.asset])
    about = json.loads(bytes(arrays["about"]))
    about["bodies"] = [[None if f == "yard" else f, b] for f, b in about["bodies"]]
    arrays["about"] = np.frombuffer(json.dumps(about).encode(), np.uint8)
    text = as_format_3(json.loads(edit.scene(scene, takes=(), take=None).model_dump_json()))
    settings = {"scene": np.frombuffer(zlib.compress(to_json(text)), np.uint8)}
    raw = as_format_3(json.loads(scene.model_dump_json()))
    raw["takes"][0] |= {"asset": content_hash(arrays), "scene": content_hash(settings), "settings": "of format 3"}
    data = {content_hash(arrays): arrays, content_hash(settings): settings}
    made, found = migrate(raw, data)
    again = Scene.model_validate(made)
    assert again.changed(takes=(), take=None) == scene.changed(takes=(), take=None)
    assert again.takes[0].settings == again.settings_fingerprint() == scene.settings_fingerprint()
    assert Take.from_arrays(found[again.takes[0].asset]).bodies == take.bodies
    raw["figures"][0]["id"] = raw["figures"][0]["name"] = "yard"
    for e in (x["a"] for x in raw["links"]):
        e["figure"] = "yard"
    raw["pairs_off"], raw["takes"], raw["take"] = [], [], None
    both = Scene.model_validate(migrate(raw, {})[0])
    assert [f.id for f in both.figures] == ["yard", "yard 2"] and both.links[0].b.figure == "yard 2"


def test_tracks_of_the_fourth_format_become_two_curves_with_the_same_motion(boom_run):
    scene, assets, take = boom_run
    raw = as_format_4(json.loads(scene.model_dump_json()))
    text = as_format_4(json.loads(edit.scene(scene, takes=(), take=None).model_dump_json()))
    kept = {"scene": np.frombuffer(zlib.compress(to_json(text)), np.uint8)}
    raw["takes"][0] |= {"scene": content_hash(kept), "settings": "of format 4"}
    # what is at its default may be left out
    del raw["figures"][1]["track"][0]["rotation"]
    made, data = migrate(raw, {content_hash(kept): kept})
    again = Scene.model_validate(made)
    assert (
        again.takes[0].settings
        == scene.settings_fingerprint()
        == settings_of(again.takes[0], store_of(data)).settings_fingerprint()
    )
    rest = json.loads(scene.model_dump_json())
    rest["figures"][1]["track"]["rotation"]["keys"][0]["value"] = [0, 0, 0, 1]
    assert again.figures == Scene.model_validate(rest).figures
    end = edit.scene(
        Scene.model_validate(migrate(as_format_4(json.loads(scene.model_dump_json())), {})[0]), end=scene.start + 6
    )
    np.testing.assert_array_equal(run(end, assets).position, take.position[:7])


def store_of(data):
    store = AssetStore()
    for arrays in data.values():
        store.add(arrays)
    return store


def as_format_2(raw):
    """A scene's description as format 2 wrote it."""
    raw = as_format_3(raw) | {"version": 2}
    for f in raw["figures"]:
        for layer in f["layers"]:
            layer["steers"] = layer.pop("kind") == "posed"
            for name in ("mode", "muted", "of"):
                layer.pop(name)
    return raw


@pytest.mark.parametrize("changed", [False, True])
def test_scenes_of_the_second_format_know_which_takes_are_out_of_date(boom_run, changed):
    scene, assets, _ = boom_run
    frame = np.array([30.0])
    posed = key_pose(scene, assets, "deckhand", 30, keyed_pose(scene, assets, scene.figures[0], frame, layers=False))
    posed = keep_take(posed, assets, boom_run[2], "")
    raw = as_format_2(json.loads(posed.model_dump_json()))
    text = as_format_2(json.loads(edit.scene(posed, takes=(), take=None).model_dump_json()))
    take = raw["takes"][-1]
    arrays = {"scene": np.frombuffer(zlib.compress(to_json(text)), np.uint8)}
    take["scene"] = content_hash(arrays)
    # the hash of format 2: of all that was written but for what does not move anything, in its order
    quiet = {"name", "source", "materials", "asset", "layers", "mirror"}
    kept = {k: v for k, v in text.items() if k not in ("version", "name", "takes", "take")}
    for part, without in (("figures", quiet), ("obstacles", {"name", "color"}), ("links", {"name"})):
        kept[part] = [{k: v for k, v in x.items() if k not in without} for x in kept[part]]
    take["settings"] = hashlib.sha256(to_json(kept) + to_json(text["figures"][0]["layers"][0])).hexdigest()[:32]
    if changed:
        raw["substeps"] += 1
    made, data = migrate(raw, {take["scene"]: arrays})
    scene = Scene.model_validate(made)
    ref = scene.takes[-1]
    assert (ref.settings == scene.settings_fingerprint()) is not changed
    assert scene.figures[0].layers[0].kind == "posed" and scene.figures[0].poses is not None
    store = AssetStore()
    assert store.add(data[ref.scene]) == ref.scene
    assert settings_of(ref, store).settings_fingerprint() == ref.settings


def test_a_new_field_at_its_default_makes_no_take_out_of_date(boom):
    scene, _ = boom
    text = json.loads(scene.model_dump_json())
    del text["warm_up"], text["figures"][0]["bodies"][0]["calm"]
    assert Scene.model_validate(text).settings_fingerprint() == scene.settings_fingerprint()
    text["warm_up"] = 3
    assert Scene.model_validate(text).settings_fingerprint() != scene.settings_fingerprint()


def test_meshes_of_gltf_files_lie_where_their_nodes_put_them(tmp_path):
    import trimesh

    path = foreign.write_crawler(tmp_path / "crawler.glb")
    vertices, triangles = read_mesh(path)
    other = trimesh.load(path, force="mesh", process=False)
    np.testing.assert_allclose(np.sort(vertices, axis=0), np.sort(np.asarray(other.vertices), axis=0), atol=1e-5)
    assert len(triangles) == len(other.faces)
    with pytest.raises(ArtulineError, match=r"crawler.glb: it is .* in size"):
        read_shape(
            foreign.write_figure(
                tmp_path / "crawler.glb", {"a": (None, (0, 0, 0))}, [("a", (0, 0, 0), (0, 9e3, 0), 10.0)]
            ),
            AssetStore(),
            "hull",
        )


# writing


def put(text):
    return lambda p: p.write_text(text)


def test_a_link_is_followed_and_rights_are_kept(tmp_path):
    real, link = tmp_path / "real.txt", tmp_path / "link.txt"
    write_whole(real, put("one"))
    mask = os.umask(0)
    os.umask(mask)
    assert stat.S_IMODE(real.stat().st_mode) == 0o666 & ~mask
    real.chmod(0o600)
    link.symlink_to(real)
    write_whole(link, put("two"))
    assert link.is_symlink() and real.read_text() == "two" and stat.S_IMODE(real.stat().st_mode) == 0o600


def test_what_a_killed_write_left_is_cleared_away_but_not_what_another_writes(tmp_path):
    import fcntl

    target = tmp_path / "a.txt"
    dead, live, other = (tmp_path / n for n in (".a.txt.1234.part", ".a.txt.5678.part", ".b.txt.1234.part"))
    for p in (dead, live, other):
        p.write_text("half")
    with open(live) as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        write_whole(target, put("whole"))
        assert not dead.exists() and live.exists() and other.exists()
    write_whole(target, put("whole"))
    assert not live.exists() and sorted(os.listdir(tmp_path)) == [".b.txt.1234.part", "a.txt"]


@pytest.mark.parametrize(
    "code, words", [(28, "Free some space"), (13, "may write to"), (30, "can be written to"), (2, "folder that exists")]
)
def test_a_write_that_fails_says_what_helps(tmp_path, code, words):
    def fail(p):
        raise OSError(code, os.strerror(code))

    with pytest.raises(ArtulineError, match=words):
        write_whole(tmp_path / "a.txt", fail)
    with pytest.raises(ArtulineError, match="not a folder's"):
        write_whole(tmp_path, put("x"))
    with pytest.raises(ArtulineError, match="folder that exists"):
        write_whole(tmp_path / "no" / "a.txt", put("x"))
    assert os.listdir(tmp_path) == []


def test_the_theme_writes_to_no_place_that_others_can_plant(qapp):
    from artuline.desk import theme

    place = os.path.dirname(theme._arrow(theme.palette()))
    assert os.stat(place).st_mode & 0o077 == 0


def test_the_desktop_gets_an_entry_and_loses_it_again(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    done = CliRunner().invoke(app, ["integrate"])
    assert done.exit_code == 0
    entry = (tmp_path / "applications/artuline.desktop").read_text()
    assert "Exec=" in entry and "%f" in entry and "MimeType=application/x-artuline-scene;" in entry
    assert "*.artuline" in (tmp_path / "mime/packages/artuline.xml").read_text()
    assert (tmp_path / "icons/hicolor/256x256/apps/artuline.png").read_bytes()[:4] == b"\x89PNG"
    assert CliRunner().invoke(app, ["integrate", "--remove"]).output == "Removed 3 files\n"
    assert integration.uninstall() == []


# processes


def test_workers_stop_when_told_and_when_their_program_is_gone(tmp_path, boom):
    import subprocess
    import time

    from artuline.core.errors import CancelledError
    from artuline.core.run import bracket

    scene, short = edit.scene(boom[0], end=4000), edit.scene(boom[0], start=44, end=48)
    spans = [bracket.Span("substeps", 10, 12, 3)]

    def processes():
        return [w.process.pid for w in bracket._workers(2)._workers if w.process.is_alive()]

    assert len(list(bracket.run_bracket(short, boom[1], spans, workers=2))) == 3
    before, asked = processes(), []

    def stop():
        asked.append(time.monotonic())
        return len(asked) > 12

    with pytest.raises(CancelledError):
        list(bracket.run_bracket(scene, boom[1], spans, cancelled=stop, workers=2))
    # nothing works on, and the same processes serve the next one
    assert all(w.item is None for w in bracket._workers(2)._workers) and processes() == before and len(before) == 2
    assert len(list(bracket.run_bracket(short, boom[1], spans, workers=2))) == 3 and processes() == before
    bracket.stop_workers()

    save_scene(tmp_path / "long.artuline", scene, boom[1])
    code = (
        "import sys, threading, time, os\nfrom artuline.core.run import bracket\nfrom artuline.core.scene.assets import AssetStore\n"
        "from artuline.formats.scene_file import load_scene\n"
        "def main():\n"
        "    a = AssetStore(); s = load_scene(sys.argv[1], a)\n"
        "    def tell():\n"
        "        while not bracket._kept: time.sleep(0.05)\n"
        "        time.sleep(4)\n"
        "        print(*[w.process.pid for x in bracket._kept.values() for w in x._workers], flush=True); os.kill(os.getpid(), 9)\n"
        "    threading.Thread(target=tell).start()\n"
        "    list(bracket.run_bracket(s, a, [bracket.Span('substeps', 10, 12, 3)], workers=2))\n"
        "if __name__ == '__main__':\n    main()\n"
    )
    script = tmp_path / "killed.py"
    script.write_text(code)
    said = subprocess.run(
        [sys.executable, str(script), str(tmp_path / "long.artuline")], capture_output=True, text=True, check=False
    ).stdout
    pids = [int(p) for p in said.split()]
    assert len(pids) == 2

    def alive(pid):
        try:
            return open(f"/proc/{pid}/stat").read().split()[2] != "Z"
        except OSError:
            return False

    until = time.monotonic() + 30.0
    while any(map(alive, pids)) and time.monotonic() < until:
        time.sleep(0.1)
    assert not any(map(alive, pids))


def test_the_solver_is_compiled_by_a_process_of_its_own(tmp_path, monkeypatch):
    from artuline.core.errors import CancelledError
    from artuline.core.run import prepare

    mark = tmp_path / "ready"
    monkeypatch.setattr(prepare, "_ready_mark", lambda: mark)
    seen = []
    monkeypatch.setattr(
        prepare,
        "_PREPARE",
        f"import os, pathlib, time; time.sleep(0.4); pathlib.Path({str(mark)!r}).write_text(str(os.getpid()))",
    )
    prepare.ensure_kernels(lambda done, total: seen.append((done, total)))
    assert prepare.kernels_ready() and int(mark.read_text()) != os.getpid() and seen
    mark.unlink()
    with pytest.raises(CancelledError):
        prepare.ensure_kernels(cancelled=lambda: True)
    monkeypatch.setattr(prepare, "_PREPARE", "raise SystemExit('no room for it')")
    with pytest.raises(ArtulineError, match=r"no room for it.*artuline prepare"):
        prepare.ensure_kernels()
