"""Scene files (.artuline): a zip with scene.json and the assets as .npz. Written whole or not at all; older ones are migrated."""

import io
import zipfile
from pathlib import Path

import numpy as np
from pydantic import ValidationError

from artuline.core.errors import ArtulineError, CancelledError, why_not
from artuline.core.motion.clip import Clip
from artuline.core.run.take import Take
from artuline.core.scene.alike import text_of, unpacked
from artuline.core.scene.arrays import Checked
from artuline.core.scene.assets import AssetStore, content_hash
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import FORMAT_VERSION, Scene
from artuline.formats.checked import Cancelled, parse, reading
from artuline.formats.files import write_whole
from artuline.formats.migrations import migrate

_DATE = (2020, 1, 1, 0, 0, 0)  # fixed, so that the same scene gives the same file
MOST_TEXT = 64 * 2**20  # bytes of scene.json
MOST_DATA = 4 * 2**30  # bytes of all assets, unfolded
REMEDY = "Open another copy, or recover unsaved work."


def save_scene(path: Path | str, scene: Scene, assets: AssetStore) -> None:
    """Save a scene with the assets it needs. Raises ArtulineError; the old file is then untouched."""

    def write(target: Path) -> None:
        with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as z:
            z.writestr(_entry("scene.json"), text_of(scene, indent=1))
            for key in sorted(scene.assets()):
                data = io.BytesIO()
                np.savez(data, allow_pickle=False, **assets[key])
                z.writestr(_entry(f"assets/{key}.npz"), data.getvalue())

    write_whole(Path(path), write)


def _entry(name: str) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name, _DATE)
    info.compress_type = zipfile.ZIP_DEFLATED
    info.external_attr = 0o644 << 16
    return info


def load_scene(path: Path | str, assets: AssetStore, cancelled: Cancelled = lambda: False) -> Scene:
    """Load a scene and add its assets to the store. Raises ArtulineError that names file, place and remedy, CancelledError on
    request; then nothing was added.
    """
    path = Path(path)

    def fail(problem: str, remedy: str = REMEDY) -> ArtulineError:
        return ArtulineError(problem, place=str(path), remedy=remedy)

    if not path.exists():
        raise fail("there is no such file", "Check the path.")
    if not path.is_file():
        raise fail("this is not a plain file", "Choose a scene file.")
    with reading(path, REMEDY):
        try:
            with zipfile.ZipFile(path) as z:
                raw, loaded = _unfold(z, fail, cancelled)
        except zipfile.BadZipFile as error:
            raise fail("this is not a scene file, or it is cut off") from error
        raw, loaded = migrate(raw, loaded)
        try:
            scene = Scene.model_validate(unpacked(raw))
        except ValidationError as error:
            raise fail(f"scene.json, {why_not(error)}") from error
        try:
            check_assets(scene, loaded)
        except ArtulineError as error:
            raise fail(error.problem) from error
    for arrays in loaded.values():
        assets.add(arrays)
    return scene


def _unfold(z: zipfile.ZipFile, fail, cancelled: Cancelled):  # type: ignore[no-untyped-def]
    """The text of a scene, parsed, and its data by their hashes."""
    entries = {i.filename: i for i in z.infolist()}
    if "scene.json" not in entries:
        raise fail("a part of the scene file is missing (scene.json)")
    if any(i.flag_bits & 1 for i in entries.values()):
        raise fail("the scene file is encrypted", "Save it again without a password.")
    if entries["scene.json"].file_size > MOST_TEXT:
        raise fail(f"the description is larger than {MOST_TEXT >> 20} MB")
    raw = parse(z.read(entries["scene.json"]), fail)
    if not isinstance(raw.get("version"), int):
        raise fail("scene.json has no format version")
    if raw["version"] > FORMAT_VERSION:
        raise fail(
            f"the scene is of format {raw['version']}, newer than this program's {FORMAT_VERSION}",
            "Open it with a newer Artuline.",
        )
    left, loaded = MOST_DATA, {}
    for name, info in entries.items():
        if not (name.startswith("assets/") and name.endswith(".npz")):
            continue
        if cancelled():
            raise CancelledError
        key = name.removeprefix("assets/").removesuffix(".npz")
        if info.file_size > left:
            raise fail(f"its data unfolds to more than {MOST_DATA >> 30} GB", "Divide the scene.")
        loaded[key] = read_arrays(z.read(info), left, lambda what, name=name: fail(f"{name} {what}"))
        left -= sum(a.nbytes for a in loaded[key].values())
        if content_hash(loaded[key]) != key:
            raise fail(f"the data {name} does not match its name, so it is damaged")
    return raw, loaded


def read_arrays(data: bytes, most: int, fail) -> dict[str, np.ndarray]:  # type: ignore[no-untyped-def]
    """The arrays of an .npz, of numbers only. What they claim is compared with what is there before anything is allocated."""
    found = {}
    with zipfile.ZipFile(io.BytesIO(data)) as z:
        for info in z.infolist():
            if info.file_size > most:
                raise fail("unfolds to too much")
            most -= info.file_size
            text = io.BytesIO(z.read(info))
            version = np.lib.format.read_magic(text)
            header = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}.get(
                version
            )
            if header is None:
                raise fail("is of an unknown kind")
            shape, columns, dtype = header(text)
            size = int(np.prod([int(n) for n in shape], dtype=object)) if shape else 1
            rest = len(text.getvalue()) - text.tell()
            if dtype.kind not in "fiub" or min(shape, default=0) < 0 or size * dtype.itemsize != rest:
                raise fail("holds an array that is not what it claims")
            flat = np.frombuffer(text.getvalue(), dtype, size, text.tell())
            found[info.filename.removesuffix(".npy")] = flat.reshape(shape, order="F" if columns else "C")
    return found


def check_assets(scene: Scene, loaded: dict[str, dict[str, np.ndarray]]) -> None:
    """Raises ArtulineError unless all data that a scene needs is there, and is what it is needed as."""
    missing = sorted(scene.assets() - set(loaded))
    if missing:
        raise ArtulineError(f"a part of the scene file is missing (assets/{missing[0]}.npz)")
    for f in scene.figures:
        if f.asset is not None:
            Mesh.check(loaded[f.asset], len(f.bones), len(f.materials), f"the skin of {f.name}")
        if f.plain is not None:
            Mesh.check(loaded[f.plain], len(f.bones), len(f.materials), f"the first skin of {f.name}")
            if f.asset is None or len(loaded[f.plain]["positions"]) != len(loaded[f.asset]["positions"]):
                raise ArtulineError(
                    f"the skins of {f.name} are not of the same vertices", remedy="Add its figure again."
                )
        carried = loaded[f.asset]["palette_bone"] if f.asset is not None else ()
        for i, b in enumerate(f.bones):
            if b.flesh is not None and (f.plain is None or i not in carried):
                raise ArtulineError(
                    f"the added bone {b.name} of {f.name} is bound to no skin", remedy="Add its figure again."
                )
        for soft in f.softs:
            for key in filter(None, (soft.region, soft.root)):
                c_ = Checked(loaded[key], f"the soft part {soft.id} of {f.name}")
                c_.take("on", (len(loaded[str(f.plain)]["positions"]),), "b")
            if not all(i in carried for i in (f.bone_index[n] for n in soft.clusters)):
                raise ArtulineError(
                    f"the soft part {soft.id} of {f.name} is bound to no skin", remedy="Add its figure again."
                )
        for c in f.clips:
            Clip.check(loaded[c.asset], f.bone_index, f"the clip {c.name!r} of {f.name}")
        for layer in f.layers:
            for key in {layer.asset, layer.baked or layer.asset}:
                Clip.check(loaded[key], f.curve_names, f"the layer {layer.name!r} of {f.name}")
        for key in sorted(f.solids):
            c_ = Checked(loaded[key], f"a shape of {f.name}")
            vertices = c_.take("vertices", ("V", 3), low=-1e6, high=1e6)
            c_.take("triangles", ("T", 3), "i", low=0, high=len(vertices) - 1)
    for t in scene.takes:
        Take.check(loaded[t.asset], t.name)
        if t.scene is not None:
            Checked(loaded[t.scene], f"the settings of {t.name}").take("scene", (None,), "i", low=0, high=255)
        if t.steered:
            Checked(loaded[t.steered[0]], f"the input of {t.name}").take("steered", (None,), "i", low=0, high=255)
