"""Scene files of older formats as files of the present one: a step for each version, on plain JSON and arrays."""

import json
import zlib
from collections.abc import Callable
from typing import Any

import numpy as np

from artuline.core.scene.assets import content_hash

Arrays = dict[str, np.ndarray]
Data = dict[str, Arrays]


def migrate(raw: dict[str, Any], data: Data) -> tuple[dict[str, Any], Data]:
    """The description and the data of a scene file, brought to the present format."""
    while raw["version"] in _STEPS:
        raw, data = _STEPS[raw["version"]](raw, data)
    return raw, data


def _bodies_by_id(raw: dict[str, Any], data: Data) -> tuple[dict[str, Any], Data]:
    """1 to 2: takes name their bodies and joints by figure and id; before, by words that could be alike."""
    data = dict(data)
    for take in raw.get("takes", []):
        arrays = data.get(take.get("asset"))
        if arrays is None or "about" not in arrays:
            continue
        try:
            about = json.loads(bytes(arrays["about"]))
        except ValueError:
            continue
        if "names" not in about:
            continue
        made = _settings(take, data) or raw
        about["bodies"], about["joints"] = _refs(made, about.pop("names"), about["joints"])
        arrays = arrays | {"about": np.frombuffer(json.dumps(about).encode(), np.uint8)}
        data[take["asset"]] = arrays
        key = content_hash(arrays)
        data[key] = data.pop(take["asset"])
        take["asset"] = key
    return raw | {"version": 2}, data


def _settings(take: dict[str, Any], data: Data) -> dict[str, Any] | None:
    """The scene that made a take, if it was kept."""
    arrays = data.get(take.get("scene") or "")
    if arrays is None or "scene" not in arrays:
        return None
    try:
        found = json.loads(zlib.decompressobj().decompress(bytes(arrays["scene"]), 64 * 2**20))
    except (ValueError, zlib.error):
        return None
    return found if isinstance(found, dict) else None


def _refs(scene: dict[str, Any], names: list[str], joints: list[str]) -> tuple[list[Any], list[Any]]:
    """Bodies in the order in which worlds were built: of every figure in the order of its bones, then obstacles; joints by the
    figure that has one of that name, in turns.
    """
    figures, obstacles = scene.get("figures", []), scene.get("obstacles", [])
    bodies: list[Any] = []
    owners: dict[str, list[str]] = {}
    for f in figures:
        order = {b["name"]: i for i, b in enumerate(f["bones"])}
        bodies += [[f["id"], b["id"]] for b in sorted(f.get("bodies", []), key=lambda b: order[b["bone"]])]
        for j in f.get("joints", []):
            owners.setdefault(j["id"], []).append(f["id"])
    bodies += [[None, o["id"]] for o in obstacles]
    if len(bodies) != len(names):
        # the scene has changed since: what a name was is not known any more
        bodies = [[figures[0]["id"] if len(figures) == 1 else None, n] for n in names]
    links = {x.get("name"): x["id"] for x in scene.get("links", [])}
    found = []
    for name in joints:
        left = owners.get(name)
        found.append([left.pop(0), name] if left else [None, links.get(name, name)])
    return bodies, found


_STEPS: dict[int, Callable[[dict[str, Any], Data], tuple[dict[str, Any], Data]]] = {1: _bodies_by_id}
