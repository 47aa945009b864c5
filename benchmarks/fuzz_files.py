"""Damaged files of every kind: whatever a reader is given, it answers with a clear error, in bounded time and memory.

    python -m benchmarks.fuzz_files [FILES PER KIND] [SEED] [WORDS IN THE NAMES OF KINDS]

Bytes are flipped, cut, repeated and zeroed, and values of the JSON inside are replaced. Stops with exit code 1 where anything but a clear
error came out, or a file took longer than ten seconds.
"""

import copy
import io
import json
import os
import struct
import sys
import tempfile
import time
import traceback
import zipfile
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from artuline.core.checks.checks import check
from artuline.core.errors import ArtulineError
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.demo.figures import DATA, ready_figure
from artuline.demo.scenes import demo_scene
from artuline.formats.bvh_read import read_figure as read_bvh
from artuline.formats.coming_back import bring_back
from artuline.formats.deliver import deliver
from artuline.formats.gltf_read import read_figure
from artuline.formats.mesh_read import read_shape
from artuline.formats.scene_file import load_scene, save_scene
from artuline.formats.setup_file import SETUPS, load_setup
from artuline.formats.usd_read import read_figure as read_usd
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
                if random.random() < 0.2:
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

    def used(path):
        """Load a scene, and where that is possible check it, pose it for a picture, and run two frames."""
        store = AssetStore()
        scene = load_scene(path, store)
        check(scene, store)
        states = figure_states(scene, store, float(scene.start), None, Show())
        draw_list(scene, store, float(scene.start), states, Show(shapes=True, limits=True, forces=True))
        short = edit.scene(scene, end=scene.start + 2, warm_up=0, substeps=min(scene.substeps, 10))
        if any(f.bodies for f in scene.figures):
            run(short, store)

    yield "figure", ".glb", lambda p: read_figure(p, AssetStore()), of_figure
    yield "figure beside its buffer", ".gltf", lambda p: read_figure(p, AssetStore()), of_parts
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
    yield "motion", ".bvh", lambda p: read_bvh(p, AssetStore()), lambda r: spoil_bytes(out[".bvh"], r)
    for ending in (".usda", ".usdc"):
        yield (
            f"USD {ending}",
            ending,
            lambda p: read_usd(p, AssetStore()),
            lambda r, data=out[ending]: spoil_bytes(data, r),
        )
    yield "keys, CSV", ".csv", keys, lambda r: spoil_bytes(out[".csv"], r)
    yield (
        "keys, JSON",
        ".json",
        keys,
        lambda r: json.dumps(spoil_json(table, r)).encode() if r.random() < 0.7 else spoil_bytes(out[".json"], r),
    )
    yield "scene", ".artuline", used, of_scene
    yield "setup", ".artuset", load_setup, of_setup
    for ending in (".obj", ".glb", ".stl", ".ply", ".off"):
        yield f"mesh {ending}", ending, shape, (of_figure if ending == ".glb" else lambda r: spoil_bytes(obj, r))


def trial(count: int, seed: int, words: Sequence[str] = ()) -> list[str]:
    """What went wrong, a line each; the counts of every kind are printed when it is done. ``words``: only kinds whose names have one of them."""
    faults: list[str] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for kind, ending, read, spoiled in kinds(folder):
            if words and not any(w in kind for w in words):
                continue
            random = np.random.default_rng([seed, len(kind)])
            refused, longest, which, before = 0, 0.0, 0, len(faults)
            for i in range(count):
                path = folder / f"spoiled{ending}"
                path.write_bytes(spoiled(random))
                began = time.process_time()
                try:
                    read(path)
                except ArtulineError as error:
                    refused += 1
                    said = str(error)
                    if any(word in said for word in ("pydantic", "http", "Traceback", "[type=")):
                        faults.append(f"{kind} {i}: a library's words: {said[:200]}")
                except Exception as error:
                    where = traceback.extract_tb(error.__traceback__)[-1]
                    faults.append(
                        f"{kind} {i}: {type(error).__name__}: {error} at {os.path.basename(where.filename)}:{where.lineno}"
                    )
                longest, which = max((longest, which), (time.process_time() - began, i))
            if longest > SLOW:
                faults.append(f"{kind}: {longest:.1f} s for one file, number {which}")
            bad = len(faults) - before
            print(
                f"{kind}: {count} files, {refused} refused in words, longest {1000 * longest:.0f} ms (number {which}), {bad} faults",
                flush=True,
            )
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
