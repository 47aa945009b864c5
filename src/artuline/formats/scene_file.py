"""Scene files (.artuline): a zip with scene.json and the assets as .npz. Written whole or not at all."""

import io
import json
import os
import zipfile
from pathlib import Path

import numpy as np
from pydantic import ValidationError

from artuline.core.errors import ArtulineError
from artuline.core.scene.assets import AssetStore, content_hash
from artuline.core.scene.model import FORMAT_VERSION, Scene
from artuline.formats.files import write_whole

_DATE = (2020, 1, 1, 0, 0, 0)  # fixed, so that the same scene gives the same file


def save_scene(path: Path | str, scene: Scene, assets: AssetStore) -> None:
    """Save a scene with the assets it needs. Raises ArtulineError; the old file is then untouched."""

    def write(target: Path) -> None:
        with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as z:
            z.writestr(_entry("scene.json"), scene.model_dump_json(indent=1))
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


def load_scene(path: Path | str, assets: AssetStore) -> Scene:
    """Load a scene and add its assets to the store. Raises ArtulineError that names file, place and remedy."""
    path = Path(path)

    def fail(problem: str, remedy: str = "Open another copy, or the autosaved one.") -> ArtulineError:
        return ArtulineError(problem, place=str(path), remedy=remedy)

    if not path.exists():
        raise fail("there is no such file", "Check the path.")
    try:
        with zipfile.ZipFile(path) as z:
            raw = json.loads(z.read("scene.json"))
            scene = _parse(raw, fail)
            loaded = []
            for key in sorted(scene.assets()):
                with np.load(io.BytesIO(z.read(f"assets/{key}.npz")), allow_pickle=False) as arrays:
                    loaded.append({name: arrays[name] for name in arrays.files})
                if content_hash(loaded[-1]) != key:
                    raise fail(f"the data assets/{key}.npz does not match its name, so it is damaged")
    except ArtulineError:
        raise
    except KeyError as error:
        raise fail(f"a part of the scene file is missing ({error.args[0]})") from error
    except OSError as error:
        if isinstance(error, zipfile.BadZipFile) or error.strerror is None:
            raise fail("the scene file is damaged") from error
        raise fail(
            f"cannot be read ({os.strerror(error.errno or 0)})", "Check the path and its permissions."
        ) from error
    except (zipfile.BadZipFile, ValueError, EOFError, RecursionError, NotImplementedError) as error:
        what = (
            "this is not a scene file, or it is cut off"
            if isinstance(error, zipfile.BadZipFile)
            else "the scene file is damaged"
        )
        raise fail(f"{what} ({error})") from error
    for arrays_ in loaded:
        assets.add(arrays_)
    return scene


def _parse(raw: object, fail) -> Scene:
    if not isinstance(raw, dict) or not isinstance(raw.get("version"), int):
        raise fail("scene.json has no format version")
    if raw["version"] > FORMAT_VERSION:
        raise fail(
            f"the scene is of format {raw['version']}, newer than this program's {FORMAT_VERSION}",
            "Open it with a newer Artuline.",
        )
    try:
        return Scene.model_validate(raw)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(p) for p in first["loc"]) or "the scene"
        raise fail(f"scene.json, {place}: {first['msg']}") from error
