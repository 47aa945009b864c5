"""Figures that are set many times: what they share with the one that they are like, and keep sharing as that is edited."""

import json
import re
from functools import lru_cache
from typing import Any

from pydantic import ValidationError

from artuline.core.scene.body import AxisRange, Body, Joint, Shape
from artuline.core.scene.figure import Figure
from artuline.core.scene.scene import Scene
from artuline.core.scene.values import Vec3

_LIKE = re.compile(r'"like":\s*"')

#: What a figure has in common with the one that it is like, unless it was changed on its own.
SHARED = (
    "source", "bones", "asset", "unit", "clips", "bodies", "joints", "loops", "groups", "pairs_off", "self_collision", "gravity", "wind", "skin",
    "mirror", "goals", "elsewhere", "plain", "influences", "softs", "steering", "prop", "made",
)  # fmt: skip


def _vector(s: float, v: Vec3) -> Vec3:
    x, y, z = v
    return (s * x, s * y, s * z)


def _range(s: float, r: AxisRange) -> AxisRange:
    return None if r is None else (s * r[0], s * r[1])


def _shape(s: float, x: Shape) -> Shape:
    return x.changed(
        position=_vector(s, x.position), radius=s * x.radius, half_length=s * x.half_length, half=_vector(s, x.half),
        points=tuple(_vector(s, p) for p in x.points), margin=s * x.margin,
    )  # fmt: skip


def _body(s: float, b: Body) -> Body:
    mass = b.mass * s**3 if b.mass is not None else None
    return b.changed(shapes=tuple(_shape(s, x) for x in b.shapes), mass=mass)


def _joint(s: float, j: Joint) -> Joint:
    x, y, z, *turns = j.axes
    weight, along, across = j.feels
    return j.changed(
        point=_vector(s, j.point), slide=_range(s, j.slide), axes=(_range(s, x), _range(s, y), _range(s, z), *turns),
        feels=(weight * s**3, along * s**5, across * s**5), across=j.across * s**5, area=j.area * s**2, friction=j.friction * s**4,
        break_force=j.break_force * s**3, break_torque=j.break_torque * s**4,
    )  # fmt: skip


@lru_cache(maxsize=256)
def _sized(figure: Figure, size: float) -> Figure:
    if size == 1.0:
        return figure
    return figure.changed(
        unit=size * figure.unit, bodies=tuple(_body(size, b) for b in figure.bodies), joints=tuple(_joint(size, j) for j in figure.joints),
        loops=tuple(_joint(size, j) for j in figure.loops),
    )  # fmt: skip


def shared(original: Figure, size: float) -> dict[str, Any]:
    """What a figure of a ``size`` (1: the same) has of the one that it is like: lengths grow with it, masses with its cube."""
    made = _sized(original, size)
    return {name: getattr(made, name) for name in SHARED}


def one_like(original: Figure, id_: str, size: float = 1.0, **values: Any) -> Figure:
    """Another figure like one, with values of its own."""
    return original.changed(
        **{**shared(original, size), "id": id_, "name": id_, "like": original.id, "size": size, **values}
    )


def followed(before: Scene, after: Scene) -> Scene:
    """A scene after an edit, in which figures that are like an edited one have what it has now, where they had what it had before."""
    old, new = {f.id: f for f in before.figures}, {f.id: f for f in after.figures}
    figures, any_ = [], False
    for f in after.figures:
        if f.like is not None and f.like in new and f.like in old and new[f.like] is not old[f.like]:
            was, now = shared(old[f.like], f.size), shared(new[f.like], f.size)
            values = {n: now[n] for n in SHARED if now[n] != was[n] and getattr(f, n) == was[n]}
            if values:
                clips = {c.name for c in values.get("clips", f.clips)}
                if f.clip is not None and f.clip not in clips:
                    values["clip"] = new[f.like].clip
                f, any_ = f.changed(**values), True
        figures.append(f)
    return after.changed(figures=tuple(figures)) if any_ else after


def own_of(figure: Figure, original: Figure) -> tuple[str, ...]:
    """The names of what a figure does not share any more with the one that it is like."""
    now = shared(original, figure.size)
    return tuple(n for n in SHARED if getattr(figure, n) != now[n])


def text_of(scene: Scene, indent: int | None = None) -> str:
    """A scene as JSON, with what figures share held once."""
    if all(f.like is None for f in scene.figures):
        return scene.model_dump_json(indent=indent)
    return json.dumps(packed(scene), indent=indent)


def scene_of(text: str | bytes) -> Scene:
    """The inverse of ``text_of``. Raises ValueError."""
    if isinstance(text, bytes):
        text = text.decode()
    if _LIKE.search(text) is None:
        return Scene.model_validate_json(text)
    return Scene.model_validate(unpacked(json.loads(text)))


def packed(scene: Scene) -> dict[str, Any]:
    """A scene as plain values, without what figures share with the ones that they are like."""
    raw = scene.model_dump(mode="json")
    by_id = {f.id: f for f in scene.figures}
    for f, values in zip(scene.figures, raw["figures"]):
        if f.like is not None:
            own = own_of(f, by_id[f.like])
            for name in SHARED:
                if name not in own:
                    del values[name]
    return raw


def unpacked(raw: dict[str, Any]) -> dict[str, Any]:
    """The inverse of ``packed``: what is not there is as in the figure that it is like. What cannot be is left for the scene to refuse."""
    figures = raw.get("figures") if isinstance(raw, dict) else None
    if not isinstance(figures, list) or not any(isinstance(f, dict) and f.get("like") is not None for f in figures):
        return raw
    known: dict[str, Figure] = {}
    made = []
    for values in figures:
        like, size = (values.get("like"), values.get("size", 1.0)) if isinstance(values, dict) else (None, 1.0)
        good = (
            isinstance(like, str) and isinstance(size, (int, float)) and not isinstance(size, bool) and 0.0 < size < 1e6
        )
        if good and any(name not in values for name in SHARED):
            original = next((f for f in figures if isinstance(f, dict) and f.get("id") == like), None)
            if like not in known and original is not None and original.get("like") is None:
                try:
                    known[str(like)] = Figure.model_validate(original)
                except (ValidationError, RecursionError):
                    return raw
            if like in known:
                try:
                    # what is shared is the same objects: many figures take no more than one
                    values = {**shared(known[str(like)], float(size)), **values}
                except ValidationError:
                    return raw
        made.append(values)
    return {**raw, "figures": made}
