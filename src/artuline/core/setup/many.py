"""A figure set many times: in rows, along a track, or scattered, each a little different by chance from a seed."""

import colorsys
import re
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.places import places_at
from artuline.core.scene import edit
from artuline.core.scene.alike import one_like
from artuline.core.scene.model import Figure, Material, Scene, Track

MOST = 400
TRIES = 200  # of a place by chance
KEPT = (
    "skin",
    "eye",
    "eyes",
    "hair",
    "beard",
    "teeth",
    "tooth",
    "nail",
    "nails",
    "lip",
    "lips",
)  # materials that are as they are on everybody


@dataclass(frozen=True)
class Pattern:
    """How a figure is set. ``count``: how many more there are. ``apart``: m between two, at least where they are scattered; rows have ``columns``.

    ``around``: m across and along the area in which they are scattered. ``along``: the obstacle or figure with a track that they stand along. ``turned``: radians by
    which they are turned by chance each way; ``late``: seconds by which their clips begin earlier, at most; ``sizes``: share by which they are larger or smaller, at
    most; ``colours``: from 0 to 1, how much their clothes differ. ``clips``: of which each plays one.
    """

    how: Literal["rows", "scattered", "along"] = "rows"
    count: int = 8
    apart: float = 0.9
    columns: int = 3
    around: tuple[float, float] = (4.0, 4.0)
    along: str | None = None
    turned: float = 0.0
    late: float = 2.0
    sizes: float = 0.06
    colours: float = 0.5
    clips: tuple[str, ...] = field(default=())
    seed: int = 1


def set_many(scene: Scene, figure_id: str, pattern: Pattern) -> Scene:
    """The scene with a figure set many times more, around where it stands; all share its setup. Raises ArtulineError if there is no room, or nothing to go along."""
    original = scene.figure(figure_id)
    if not 1 <= pattern.count <= MOST:
        raise ArtulineError(f"a figure cannot be set {pattern.count} times", remedy=f"Give a number from 1 to {MOST}.")
    if original.like is not None:
        original = scene.figure(original.like)
    unknown = [c for c in pattern.clips if c not in {x.name for x in original.clips}]
    if unknown:
        raise ArtulineError(f"{original.name} has no clip {unknown[0]!r}", remedy="Choose among those that it has.")
    chance = np.random.default_rng(pattern.seed)
    places, turns = _places(scene, original, pattern, chance)
    taken, made = edit.Names(f.id for f in scene.figures), []
    for place, turn in zip(places, turns):
        size = 1.0 + pattern.sizes * float(chance.uniform(-1.0, 1.0))
        clip = str(chance.choice(pattern.clips)) if pattern.clips else original.clip
        late = float(np.round(scene.rate * pattern.late * chance.uniform()))
        made.append(
            one_like(
                original, taken.fresh(original.id), round(size, 4), position=tuple(float(x) for x in place), clip=clip,
                turn=float(turn + pattern.turned * chance.uniform(-1.0, 1.0)), clip_start=original.clip_start - late,
                track=Track(), mounts=(), layers=(), materials=_dyed(original.materials, pattern.colours, chance),
            )
        )  # fmt: skip
    return edit.scene(scene, figures=(*scene.figures, *made))


def _places(scene: Scene, original: Figure, pattern: Pattern, chance: np.random.Generator) -> tuple[Array, Array]:
    """Where they stand (N, 3), and how they are turned (N,)."""
    n, start = pattern.count, np.array(original.position)
    ahead = rotation.from_rotation_vector(np.array([0.0, original.turn, 0.0]))
    if pattern.how == "rows":
        # beside and behind it, row by row
        k = np.arange(1, n + 1)
        columns = max(pattern.columns, 1)
        local = np.stack([k % columns * pattern.apart, np.zeros(n), -(k // columns) * pattern.apart], axis=1)
        return start + rotation.rotate(ahead, local), np.full(n, original.turn)
    if pattern.how == "along":
        track = next((f.track for f in scene.figures if f.id == pattern.along), Track())
        if len(track.frames) < 2:
            raise ArtulineError(
                "there is no track to stand along",
                remedy="Choose a figure or an obstacle whose place is keyed at two frames or more.",
            )
        frames = np.linspace(track.frames[0], track.frames[-1], 512)
        way, _ = places_at(track, frames)
        gone = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(way, axis=0), axis=1))])
        at = np.interp(np.linspace(0.0, gone[-1], n), gone, frames)
        found, _ = places_at(track, at)
        near, _ = places_at(track, at + 1e-2 * (frames[-1] - frames[0]))
        past, _ = places_at(track, at - 1e-2 * (frames[-1] - frames[0]))
        heads = np.arctan2(near[:, 0] - past[:, 0], near[:, 2] - past[:, 2])
        return found * [1.0, 0.0, 1.0] + start * [0.0, 1.0, 0.0], heads
    others = [np.array(f.position)[[0, 2]] for f in scene.cast]
    places: list[Array] = []
    for _ in range(n):
        for _ in range(TRIES):
            off = chance.uniform(-0.5, 0.5, 2) * pattern.around
            local = rotation.rotate(ahead, np.array([off[0], 0.0, off[1]]))
            if all(np.linalg.norm((start + local)[[0, 2]] - o) >= pattern.apart for o in others):
                break
        else:
            raise ArtulineError(
                f"there is room for {len(places)} of {n} at {pattern.apart:g} m from each other",
                remedy="Give a larger area, or let them stand closer.",
            )
        places.append(start + local)
        others.append((start + local)[[0, 2]])
    return np.array(places), np.full(n, original.turn)


def _dyed(materials: tuple[Material, ...], share: float, chance: np.random.Generator) -> tuple[Material, ...]:
    """Materials whose hue and brightness differ by chance, but for those of skin, eyes and hair."""
    found = []
    for m in materials:
        hue, pale, light = chance.uniform(-0.16, 0.16), chance.uniform(0.0, 0.8), chance.uniform(-0.7, 0.4)
        if share == 0.0 or any(word in KEPT for word in re.findall("[a-z]+", m.name.lower())):
            found.append(m)
            continue
        h, s, v = colorsys.rgb_to_hsv(*m.color)
        color = colorsys.hsv_to_rgb(
            (h + share * hue) % 1.0, s * (1.0 - share * pale), min(max(v * (1.0 + share * light), 0.0), 1.0)
        )
        found.append(m.changed(color=tuple(color)))
    return tuple(found)
