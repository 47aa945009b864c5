"""Scene files of older formats as files of the present one: a step for each version, on plain JSON and arrays."""

import hashlib
import json
import zlib
from collections.abc import Callable
from typing import Any

import numpy as np
from pydantic import ValidationError
from pydantic_core import to_json

from artuline.core.scene.assets import content_hash
from artuline.core.scene.edit import Names
from artuline.core.scene.model import Scene
from artuline.core.scene.values import UPRIGHT, ZERO

Arrays = dict[str, np.ndarray]
Data = dict[str, Arrays]

#: In place of the fingerprint of a take that was up to date, while its file is migrated.
UP_TO_DATE = "up to date"


def migrate(raw: dict[str, Any], data: Data) -> tuple[dict[str, Any], Data]:
    """The description and the data of a scene file, brought to the present format."""
    while raw["version"] in _STEPS:
        raw, data = _STEPS[raw["version"]](raw, data)
    return raw, data


def _bodies_by_id(raw: dict[str, Any], data: Data) -> tuple[dict[str, Any], Data]:
    """1 to 2: takes name their bodies and joints by figure and id; before, by words that could be alike. The first takes did not
    keep where things touched, how much of a limit was used, and energy.
    """
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
        arrays = _completed(arrays) | {"about": np.frombuffer(json.dumps(about).encode(), np.uint8)}
        data[take["asset"]] = arrays
        key = content_hash(arrays)
        data[key] = data.pop(take["asset"])
        take["asset"] = key
    return raw | {"version": 2}, data


def _completed(arrays: Arrays) -> Arrays:
    """A take's data with nothing where something was not kept yet."""
    if "contact" not in arrays or "excess" not in arrays:
        return arrays
    bodies, joints = arrays["contact"].shape, arrays["excess"].shape
    return {"touch": np.zeros((*bodies, 3)), "kinetic": np.zeros(bodies), "used": np.zeros(joints)} | arrays


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


def _keep(take: dict[str, Any], data: Data, scene: dict[str, Any]) -> None:
    """Note the scene that made a take anew; in place."""
    kept = {"scene": np.frombuffer(zlib.compress(to_json(scene), 1), np.uint8)}
    data.pop(take["scene"], None)
    take["scene"] = content_hash(kept)
    data[take["scene"]] = kept


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


def _kinds_of_layers(raw: dict[str, Any], data: Data) -> tuple[dict[str, Any], Data]:
    """2 to 3: layers have a kind; and fingerprints leave out what is at its default, so every take that was up to date is marked
    for a new one.
    """
    data = dict(data)
    takes = []
    for take in raw.get("takes", []):
        take, made = dict(take), _settings(take, data)
        # what the take was made from, as far as it is known
        source = made if made is not None else raw
        if take.get("settings") == _fingerprint_2(source):
            take["settings"] = UP_TO_DATE
        if made is not None:
            _keep(take, data, _with_kinds(made))
        takes.append(take)
    return _with_kinds(raw) | {"takes": takes}, data


def _with_kinds(raw: dict[str, Any]) -> dict[str, Any]:
    named = {f"{t.get('name')} baked": t.get("id") for t in raw.get("takes", [])}

    def layer(old: dict[str, Any]) -> dict[str, Any]:
        new = {k: v for k, v in old.items() if k != "steers"}
        posed = bool(old.get("steers"))
        return new | {"kind": "posed" if posed else "baked", "of": None if posed else named.get(str(old.get("name")))}

    figures = [f | {"layers": [layer(x) for x in f.get("layers", [])]} for f in raw.get("figures", [])]
    return raw | {"version": 3, "figures": figures}


def _fingerprint_2(raw: dict[str, Any]) -> str:
    """The fingerprint of a scene of format 2, from its text: every field that was written, in its order."""
    quiet = {"name", "source", "materials", "asset", "layers", "mirror"}
    kept = {k: v for k, v in raw.items() if k not in ("version", "name", "takes", "take")}
    for part, without in (("figures", quiet), ("obstacles", {"name", "color"}), ("links", {"name"})):
        if part in kept:
            kept[part] = [{k: v for k, v in x.items() if k not in without} for x in kept[part]]
    steering = [x for f in raw.get("figures", []) for x in f.get("layers", []) if x.get("steers")]
    return hashlib.sha256(to_json(kept) + b"".join(to_json(x) for x in steering)).hexdigest()[:32]


def _obstacles_as_figures(raw: dict[str, Any], data: Data) -> tuple[dict[str, Any], Data]:
    """3 to 4: an obstacle is a figure of one bone, and takes, links and pairs name its body as that of any figure. Fingerprints are
    made anew from what each take was made from: of two scenes they are alike as they were before.
    """
    data = dict(data)
    takes = []
    for take in raw.get("takes", []):
        take, made = dict(take), _settings(take, data)
        source = made if made is not None else raw
        arrays = data.get(take.get("asset") or "")
        if arrays is not None and "about" in arrays:
            data.pop(take["asset"])
            arrays = arrays | {"about": _renamed(arrays["about"], _new_ids(source))}
            take["asset"] = content_hash(arrays)
            data[take["asset"]] = arrays
        new = _with_figures(source)
        if made is not None or take.get("settings") == UP_TO_DATE:
            take["settings"] = _fingerprint_now(new) or take["settings"]
        if made is not None:
            _keep(take, data, new)
        takes.append(take)
    return _with_figures(raw) | {"takes": takes}, data


def _new_ids(raw: dict[str, Any]) -> dict[str, str]:
    """The figure that every obstacle becomes: of its own name, if no figure has it."""
    names = Names(f["id"] for f in raw.get("figures", []))
    return {o["id"]: names.fresh(o["id"]) for o in raw.get("obstacles", [])}


def _with_figures(raw: dict[str, Any]) -> dict[str, Any]:
    ids = _new_ids(raw)

    def figure(o: dict[str, Any]) -> dict[str, Any]:
        body = {"id": o["id"], "bone": o["id"], "shapes": [o["shape"]], "friction": o.get("friction", 0.6),
                "restitution": o.get("restitution", 0.1)}  # fmt: skip
        return {
            "id": ids[o["id"]], "name": o["name"], "bones": [{"name": o["id"]}], "bodies": [body], "track": o["keys"],
            "materials": [{"color": o.get("color", (0.42, 0.33, 0.22))}], "obstacle": True,
        }  # fmt: skip

    def end(e: dict[str, Any] | None) -> dict[str, Any] | None:
        return e | {"figure": ids.get(e["body"], e["body"])} if e is not None and e.get("figure") is None else e

    links = [x | {"a": end(x["a"]), "b": end(x.get("b"))} for x in raw.get("links", [])]
    pairs = [[end(e) for e in pair] for pair in raw.get("pairs_off", [])]
    new = {k: v for k, v in raw.items() if k != "obstacles"} | {"version": 4, "links": links, "pairs_off": pairs}
    return new | {"figures": [*raw.get("figures", []), *map(figure, raw.get("obstacles", []))]}


def _renamed(about: np.ndarray, ids: dict[str, str]) -> np.ndarray:
    """The names in a take's data with those of obstacles changed."""
    try:
        found = json.loads(bytes(about))
        found["bodies"] = [[ids.get(b, b) if f is None else f, b] for f, b in found["bodies"]]
    except (ValueError, KeyError, TypeError):
        return about
    return np.frombuffer(json.dumps(found).encode(), np.uint8)


def _each(
    raw: dict[str, Any], data: Data, change: Callable[[dict[str, Any]], dict[str, Any]]
) -> tuple[dict[str, Any], Data]:
    """A change of a scene's description, made in what each take was made from as well, with its fingerprint."""
    data = dict(data)
    takes = []
    for take in raw.get("takes", []):
        take, made = dict(take), _settings(take, data)
        if made is not None:
            new = change(made)
            take["settings"] = _fingerprint_now(new) or take["settings"]
            _keep(take, data, new)
        takes.append(take)
    return change(raw) | {"takes": takes}, data


def _tracks_as_curves(raw: dict[str, Any], data: Data) -> tuple[dict[str, Any], Data]:
    """4 to 5: a track is two curves, of position and rotation, and no list of places; fingerprints are made anew from what each take was made from."""
    return _each(raw, data, _with_tracks)


def _with_tracks(raw: dict[str, Any]) -> dict[str, Any]:
    def figure(f: dict[str, Any]) -> dict[str, Any]:
        places = f.get("track")
        if not isinstance(places, list):
            return f
        curves = {
            name: {"keys": [{"frame": k["frame"], "value": k.get(name, rest)} for k in places]}
            for name, rest in (("position", ZERO), ("rotation", UPRIGHT))
        }
        return f | {"track": curves}

    return raw | {"version": 5, "figures": [figure(f) for f in raw.get("figures", [])]}


def _breaking_forces(raw: dict[str, Any], data: Data) -> tuple[dict[str, Any], Data]:
    """5 to 6: a joint breaks at a force, no longer at an impulse within a frame: the force that gives it in one, at the scene's rate."""
    return _each(raw, data, _with_forces)


def _with_forces(raw: dict[str, Any]) -> dict[str, Any]:
    rate = raw.get("rate", 24.0)

    def figure(f: dict[str, Any]) -> dict[str, Any]:
        return f | {n: [with_force(j, rate) for j in f[n]] for n in ("joints", "loops") if n in f}

    return raw | {"version": 6, "figures": [figure(f) for f in raw.get("figures", [])]}


def with_force(joint: dict[str, Any], rate: float = 24.0) -> dict[str, Any]:
    """A joint's description with the force at which it breaks, where it had an impulse within a frame, ``rate`` of them a second."""
    if "break_impulse" not in joint:
        return joint
    rest = {k: v for k, v in joint.items() if k != "break_impulse"}
    return rest | {"break_force": joint["break_impulse"] * rate}


def _fingerprint_now(raw: dict[str, Any]) -> str | None:
    """The present fingerprint of a scene; None if it is none."""
    try:
        return Scene.model_validate(
            _with_forces(_with_tracks(raw)) | {"takes": [], "take": None}
        ).settings_fingerprint()
    except ValidationError:
        return None


_STEPS: dict[int, Callable[[dict[str, Any], Data], tuple[dict[str, Any], Data]]] = {
    1: _bodies_by_id,
    2: _kinds_of_layers,
    3: _obstacles_as_figures,
    4: _tracks_as_curves,
    5: _breaking_forces,
}
