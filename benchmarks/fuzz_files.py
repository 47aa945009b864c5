"""Damaged files of every kind: whatever a reader is given, it answers with a clear error, in bounded time and memory.

    python -m benchmarks.fuzz_files [FILES PER KIND] [SEED] [WORDS IN THE NAMES OF KINDS]

Bytes are flipped, cut, repeated and zeroed, and values of the JSON inside are replaced. What can be read is posed, drawn, checked, saved and exported, and a tenth
of it run. Every batch is a process of its own with a limit of memory. Stops with exit code 1 where anything but a clear error came out, a file took
longer than ten seconds or more than a gigabyte, or something was written or read elsewhere.
"""

import copy
import io
import json
import os
import pickle
import re
import resource
import struct
import sys
import tempfile
import time
import traceback
import zipfile
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import trimesh
from tests.foreign import write_walker

from artuline.core.checks.checks import check
from artuline.core.errors import ArtulineError
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.core.setup.ragdoll import set_up
from artuline.core.setup.setups import put_setup, setup_mapping
from artuline.demo.figures import DATA, ready_figure
from artuline.demo.scenes import demo_scene
from artuline.formats import mesh_files
from artuline.formats.bvh_read import read_figure as read_bvh
from artuline.formats.coming_back import bring_back
from artuline.formats.deliver import deliver
from artuline.formats.gltf_read import read_figure
from artuline.formats.importing import put_figure
from artuline.formats.mesh_read import read_shape
from artuline.formats.salvage import salvage_scene
from artuline.formats.scene_file import load_scene, save_scene
from artuline.formats.setup_file import SETUPS, load_setup
from artuline.formats.usd_read import read_here as read_usd_here
from artuline.view.stage import Show, draw_list, figure_states

ODD = (
    None,
    True,
    -1,
    0,
    1,
    2**31,
    2**63,
    1e308,
    -1e-308,
    "",
    "../../etc/passwd",
    [],
    {},
    [[]],
    "data:,",
    float("1e400"),
    0.5,
    10**7,
    "NaN",
)
SLOW = 10.0  # seconds
BATCH = 50  # files that a process reads


def read_in_here(read, path: Path, cancelled=None):
    """In place of a process of its own: whatever a library raises there is a clear error."""
    try:
        return read(path)
    except Exception as error:
        raise ArtulineError("the file is damaged", place=str(path)) from error


mesh_files.read_apart = read_in_here


def spoil_bytes(data: bytes, random: np.random.Generator) -> bytes:
    a = bytearray(data)
    for _ in range(int(random.integers(1, 6))):
        if not a:
            break
        i, n = int(random.integers(len(a))), int(random.integers(1, 64))
        kind = random.integers(5)
        if kind == 0:
            a[i] ^= 1 << int(random.integers(8))
        elif kind == 1:
            a[i : i + n] = bytes(n)
        elif kind == 2:
            del a[i : i + n]
        elif kind == 3:
            a[i:i] = a[i : i + n]
        else:
            a[i : i + n] = random.bytes(n)
    return bytes(a[: int(random.integers(len(a)))]) if random.random() < 0.1 else bytes(a)


FACTORS = (-1.0, 0.0, 0.5, 1.0001, 3.0, 1e3, 1e-3, 1e9, 1e-9)


def spoil_text(data: bytes, random: np.random.Generator) -> bytes:
    """A text with one to four of its words changed: numbers for others that are numbers too, words for other words, lines put elsewhere."""
    lines = data.split(b"\n")
    for _ in range(int(random.integers(1, 5))):
        i, j = (int(x) for x in random.integers(len(lines), size=2))
        kind = random.integers(6)
        if kind == 0:
            lines[i], lines[j] = lines[j], lines[i]
        elif kind == 1:
            lines.insert(i, lines[j])
        elif kind == 2:
            del lines[i]
        else:
            words = re.split(rb"([\s,()\[\]]+)", lines[i])
            k = 2 * int(random.integers((len(words) + 1) // 2))
            try:
                factor = FACTORS[int(random.integers(len(FACTORS)))]
                words[k] = repr(float(words[k]) * factor).encode()
            except ValueError:
                other = re.split(rb"[\s,()\[\]]+", lines[j])
                words[k] = other[int(random.integers(len(other)))]
            lines[i] = b"".join(words)
    return b"\n".join(lines)


def spoil_json(value, random: np.random.Generator):
    """The same with one to four values replaced, removed or repeated."""
    value = copy.deepcopy(value)
    for _ in range(int(random.integers(1, 5))):
        node = value
        for _ in range(int(random.integers(1, 9))):
            if isinstance(node, dict) and node:
                key = list(node)[int(random.integers(len(node)))]
            elif isinstance(node, list) and node:
                key = int(random.integers(len(node)))
            else:
                break
            if random.random() < 0.3 or not isinstance(node[key], (dict, list)):
                if isinstance(node[key], (int, float)) and not isinstance(node[key], bool) and random.random() < 0.6:
                    changed = node[key] * FACTORS[int(random.integers(len(FACTORS)))]
                    node[key] = round(changed) if isinstance(node[key], int) and random.random() < 0.8 else changed
                elif random.random() < 0.2:
                    del node[key]
                elif random.random() < 0.1 and isinstance(node, list):
                    node.extend([node[key]] * int(random.integers(1, 5)))
                else:
                    node[key] = copy.deepcopy(ODD[int(random.integers(len(ODD)))])
                break
            node = node[key]
    return value


def spoil_physics(document, random: np.random.Generator):
    """A file of glTF with what its extensions say spoiled."""
    document = copy.deepcopy(document)
    for _ in range(int(random.integers(1, 4))):
        if random.random() < 0.4:
            document["extensions"] = spoil_json(document["extensions"], random)
        else:
            chosen = [n for n in document["nodes"] if isinstance(n, dict) and "extensions" in n]
            node = chosen[int(random.integers(len(chosen)))]
            for key in ("extensions", "extras"):
                if key in node:
                    node[key] = spoil_json(node[key], random)
    return document


def glb_parts(data: bytes):
    size = struct.unpack_from("<I", data, 12)[0]
    return json.loads(data[20 : 20 + size]), data[28 + size :]


def glb(document, binary: bytes) -> bytes:
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    length = 28 + len(text) + len(binary)
    return (
        struct.pack("<4sIIII", b"glTF", 2, length, len(text), 0x4E4F534A)
        + text
        + struct.pack("<II", len(binary), 0x004E4942)
        + binary
    )


def rezipped(data: bytes, change) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w") as new:
        for name in old.namelist():
            new.writestr(name, change(name, old.read(name)))
    return out.getvalue()


def kinds(folder: Path):
    """Name, ending, reader and a maker of damaged bytes for every kind of file."""
    figure = (DATA / "goat.glb").read_bytes()
    document, binary = glb_parts(figure)
    (folder / "goat.bin").write_bytes(binary)
    apart = copy.deepcopy(document)
    apart["buffers"][0]["uri"] = "goat.bin"
    assets = AssetStore()
    save_scene(folder / "heel.artuline", demo_scene("heel", assets), assets)
    scene = (folder / "heel.artuline").read_bytes()
    setup = json.loads((SETUPS / "two_legs.artuset").read_text())
    corners = [(x, y, z) for x in (0, 1) for y in (0, 1) for z in (0, 1)]
    faces = [
        (1, 2, 4),
        (1, 4, 3),
        (5, 7, 8),
        (5, 8, 6),
        (1, 5, 6),
        (1, 6, 2),
        (3, 4, 8),
        (3, 8, 7),
        (1, 3, 7),
        (1, 7, 5),
        (2, 6, 8),
        (2, 8, 4),
    ]
    obj = (
        "".join(f"v {x} {y} {z}\n" for x, y, z in corners) + "".join(f"f {a} {b} {c}\n" for a, b, c in faces)
    ).encode()

    def of_figure(r):
        return glb(spoil_json(document, r), binary) if r.random() < 0.7 else spoil_bytes(figure, r)

    def of_parts(r):
        text = json.dumps(spoil_json(apart, r)).encode()
        return text if r.random() < 0.8 else spoil_bytes(text, r)

    def of_scene(r):
        if r.random() < 0.3:
            return spoil_bytes(scene, r)

        def change(name, data):
            if name == "scene.json":
                return json.dumps(spoil_json(json.loads(data), r)).encode() if r.random() < 0.8 else data
            return spoil_bytes(data, r) if r.random() < 0.2 else data

        return rezipped(scene, change)

    def of_setup(r):
        text = json.dumps(spoil_json(setup, r)).encode()
        return text if r.random() < 0.8 else spoil_bytes(text, r)

    def shape(path):
        read_shape(path, AssetStore(), "mesh")

    turn = iter(range(10**9))

    def work(scene, store):
        """Check a scene, pose it for a picture, save and export it; every tenth runs two frames."""
        check(scene, store)
        states = figure_states(scene, store, float(scene.start), None, Show())
        draw_list(scene, store, float(scene.start), states, Show(shapes=True, limits=True, forces=True))
        kept = folder / f"kept {os.getpid()}.artuline"
        save_scene(kept, scene, store, replace=True)
        assert load_scene(kept, AssetStore()) == scene, "what was saved is not what was opened"
        n = next(turn)
        if scene.cast:
            out = folder / f"out {os.getpid()}{('.glb', '.bvh', '.usdc', '.csv')[n % 4]}"
            deliver(out, scene, store, [scene.cast[0].id])
        short = edit.scene(scene, end=scene.start + 2, warm_up=0, substeps=min(scene.substeps, 10))
        if n % 10 == 0 and any(f.bodies for f in scene.figures):
            run(short, store)

    def used(path):
        """Load a scene, and work with it."""
        store = AssetStore()
        work(load_scene(path, store), store)

    def salvaged(path):
        """What can be saved of a scene is sound."""
        try:
            load_scene(path, AssetStore())
        except ArtulineError:
            found = salvage_scene(path)
            save_scene(folder / f"salvaged {os.getpid()}.artuline", found.scene, found.assets, replace=True)

    def figure_of(read):
        def whole(path):
            store = AssetStore()
            made = put_figure(Scene(), store, read(path, store)).scene
            f = made.figures[0]
            if next(turn) % 10 == 0:
                made = edit.map_figure(made, f.id, lambda x: set_up(x, store))
                made = edit.hand_over(made, f.id, None, 0.0, 2.0) if made.figures[0].bodies else made
            work(made, store)

        return whole

    def of_library(path, store):
        """As the reader's own process has it: whatever the library raises there is a clear error."""
        try:
            imported, arrays = read_usd_here(path)
        except (ArtulineError, MemoryError):
            raise ArtulineError("the file is damaged") from None
        for key, found in arrays.items():
            store.put(key, found)
        return imported

    def onto(path):
        """Read a setup and put it onto a figure, where it is checked."""
        setup = load_setup(path)
        made = put_setup(setup, still.figures[0], {k: v[0] for k, v in setup_mapping(setup, still.figures[0]).items()})
        check(Scene(figures=(made,), end=4), assets)

    small, block_ = glb_parts(write_walker(folder / "walker.glb").read_bytes())

    def of_small(r):
        return glb(spoil_json(small, r), block_) if r.random() < 0.8 else spoil_bytes(glb(small, block_), r)

    yield "figure", ".glb", figure_of(read_figure), of_small
    yield "goat", ".glb", lambda p: read_figure(p, AssetStore()), of_figure
    yield "goat beside its buffer", ".gltf", lambda p: read_figure(p, AssetStore()), of_parts
    goat = ready_figure("goat", assets)
    still = Scene(figures=(goat,), end=4)
    out = {}
    for ending in (".bvh", ".csv", ".json", ".usda", ".usdc", ".glb"):
        (path,) = deliver(folder / f"goat out{ending}", still, assets, [goat.id], physics=True)
        out[ending] = path.read_bytes()
    physics, block = glb_parts(out[".glb"])
    table = json.loads(out[".json"])

    def keys(path):
        bring_back(still, assets, goat.id, path)

    yield "physics", ".glb", lambda p: read_figure(p, AssetStore()), lambda r: glb(spoil_physics(physics, r), block)

    def of_text(data):
        return lambda r: spoil_text(data, r) if r.random() < 0.8 else spoil_bytes(data, r)

    yield "motion", ".bvh", figure_of(read_bvh), of_text(out[".bvh"])
    for ending in (".usda", ".usdc"):
        yield (
            f"USD {ending}",
            ending,
            figure_of(of_library),
            of_text(out[ending]) if ending == ".usda" else lambda r, data=out[ending]: spoil_bytes(data, r),
        )
    yield "keys, CSV", ".csv", keys, of_text(out[".csv"])
    yield (
        "keys, JSON",
        ".json",
        keys,
        lambda r: json.dumps(spoil_json(table, r)).encode() if r.random() < 0.7 else spoil_bytes(out[".json"], r),
    )
    yield "scene", ".artuline", used, of_scene
    yield "salvage", ".artuline", salvaged, of_scene
    yield "setup", ".artuset", onto, of_setup
    cube = trimesh.creation.box()
    for ending in (".obj", ".glb", ".stl", ".ply", ".off"):
        data = obj if ending == ".obj" else cube.export(file_type=ending[1:])
        data = data.encode() if isinstance(data, str) else data
        text = of_text(data) if ending in (".obj", ".off") else lambda r, data=data: spoil_bytes(data, r)
        yield f"mesh {ending}", ending, shape, of_figure if ending == ".glb" else text


def batch(kind, ending, read, spoiled, folder: Path, seed: int, numbers: range) -> tuple[int, float, int, list[str]]:
    """Files of one kind by their numbers, one after the other: how many were refused in words, the longest, s, its number, and the faults."""
    faults: list[str] = []
    refused, longest, which = 0, 0.0, 0
    for i in numbers:
        path = folder / f"spoiled {os.getpid()}{ending}"
        path.write_bytes(spoiled(np.random.default_rng([seed, len(kind), i])))
        began = time.process_time()
        try:
            read(path)
        except ArtulineError as error:
            refused += 1
            said = str(error)
            if any(word in said for word in ("pydantic", "http", "Traceback", "[type=", "more than this machine has")):
                faults.append(f"{kind} {i}: a library's words, or memory: {said[:200]} {error.__cause__!r}")
        except BaseException as error:
            where = traceback.extract_tb(error.__traceback__)[-1]
            faults.append(
                f"{kind} {i}: {type(error).__name__}: {error} at {os.path.basename(where.filename)}:{where.lineno}"[
                    :400
                ]
            )
        longest, which = max((longest, which), (time.process_time() - began, i))
    return refused, longest, which, faults


def forked(work) -> object:
    """What ``work()`` gives in a process of its own with no more than a gigabyte besides what is there, and half a minute of processor; None if it ended otherwise."""
    here, there = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(here)
        with open("/proc/self/statm") as f:
            now = int(f.read().split()[5]) * os.sysconf("SC_PAGE_SIZE")
        resource.setrlimit(resource.RLIMIT_DATA, (now + 2**30, now + 2**30))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        with os.fdopen(there, "wb") as out:
            pickle.dump(work(), out)
        os._exit(0)
    os.close(there)
    with os.fdopen(here, "rb") as back:
        data = back.read()
    os.waitpid(child, 0)
    return pickle.loads(data) if data else None


def elsewhere(folder: Path) -> set[str]:
    """What lies in the folders in which nothing is to be written: beside that of the files, and where the program stands."""
    return {str(p) for top in (Path.cwd(), folder.parent) for p in top.iterdir()}


def trial(count: int, seed: int, words: Sequence[str] = (), apart: bool = True, slow: float | None = SLOW) -> list[str]:
    """What went wrong, a line each; the counts of every kind are printed when it is done. ``words``: only kinds whose names have one of them; ``apart``: in processes
    with a limit of memory; ``slow``: s of processor for one file that count as a fault (None: how long it takes is no fault).
    """
    faults: list[str] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "files"
        folder.mkdir()
        for kind, ending, read, spoiled in kinds(folder):
            if words and not any(w in kind for w in words):
                continue
            refused, longest, which, bad = 0, 0.0, 0, []
            before = elsewhere(folder)
            library = "USD" in kind or ("mesh" in kind and ending != ".glb")
            for first in range(0, count, BATCH):
                numbers = range(first, min(first + BATCH, count))

                def whole(numbers=numbers, kind=kind, ending=ending, read=read, spoiled=spoiled):
                    return batch(kind, ending, read, spoiled, folder, seed, numbers)

                found = [forked(whole) if apart else whole()]
                if found[0] is None:
                    # one of them ended the process: each by itself
                    found = [forked(lambda i=i, whole=whole: whole(range(i, i + 1))) for i in numbers]
                for i, x in zip(numbers, found):
                    if x is None and library:
                        # as its own process would have ended: that is said in words
                        refused += 1
                    elif x is None:
                        bad.append(f"{kind} {i}: the process ended")
                    else:
                        refused, bad = refused + x[0], bad + x[3]
                        longest, which = max((longest, which), (x[1], x[2]))
            if slow is not None and longest > slow:
                bad.append(f"{kind}: {longest:.1f} s for one file, number {which}")
            bad += [f"{kind}: {x} was written" for x in elsewhere(folder) - before]
            print(
                f"{kind}: {count} files, {refused} refused in words, longest {1000 * longest:.0f} ms (number {which}), {len(bad)} faults",
                flush=True,
            )
            faults += bad
    return faults


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 300
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    faults = trial(count, seed, sys.argv[3:])
    for line in faults[:40]:
        print(line)
    print(f"{len(faults)} faults")
    sys.exit(bool(faults))


if __name__ == "__main__":
    main()
