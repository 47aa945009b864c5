"""Strands from words, as the command line takes them."""

import difflib

import numpy as np

from artuline.core.errors import ArtulineError, why_not
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene, StrandPoint
from artuline.core.setup.laid import laid
from artuline.core.setup.strand import add_strand
from artuline.core.setup.strand_kinds import READY, ready


def bone_of(scene: Scene, words: str) -> tuple[str, str]:
    """The figure and bone of "BONE" or "FIGURE:BONE". Raises ArtulineError for what is not there, or is in several figures."""
    name, colon, bone = words.rpartition(":")
    found = [f for f in scene.figures if (f.name == name or f.id == name if colon else bone in f.bone_index)]
    if not found or bone not in found[0].bone_index:
        names = [f"{f.name}:{b.name}" for f in scene.figures if f.made is None for b in f.bones]
        near = difflib.get_close_matches(words, names + [n.partition(":")[2] for n in names], n=3, cutoff=0.4)
        remedy = (
            f"Did you mean {', '.join(near)}?"
            if near
            else f"The figures are: {', '.join(f.name for f in scene.figures)}."
        )
        raise ArtulineError(f"there is no bone {words!r}", remedy=remedy)
    if len(found) > 1:
        raise ArtulineError(f"{bone!r} is a bone of several figures", remedy=f"Say which: {found[0].name}:{bone}.")
    return found[0].id, bone


def point_of(scene: Scene, assets: AssetStore, words: str) -> StrandPoint:
    """A point from words, at the scene's first frame: "X,Y,Z" (m), then "@world" or "@FIGURE:BONE" for what holds it; or a bone alone, for its place.

    Raises ArtulineError.
    """
    place, at, holder = words.partition("@")
    if not at and "," not in place:
        holder, place = place, ""
    on = bone_of(scene, holder) if holder and holder != "world" else None
    if place:
        try:
            numbers = tuple(float(x) for x in place.split(","))
        except ValueError:
            numbers = ()
        if len(numbers) != 3 or not np.isfinite(numbers).all():
            raise ArtulineError(f"{words!r} is no point", remedy="Give X,Y,Z in metres, or a bone: 0,1.5,0.2@hand_l.")
    elif on is not None:
        f = scene.figure(on[0])
        m = keyed_matrices(scene, assets, f, np.array([float(scene.start)]))[0]
        numbers = tuple(float(x) for x in m[f.bone_index[on[1]], :3, 3])
    else:
        raise ArtulineError(f"{words!r} is no point", remedy="Give X,Y,Z in metres, or a bone: 0,1.5,0.2@hand_l.")
    if on is not None:
        return StrandPoint(position=numbers, hold="mounted", figure=on[0], bone=on[1])
    return StrandPoint(position=numbers, hold="pinned" if holder == "world" else "free")


def strand_of(
    scene: Scene,
    assets: AssetStore,
    kind: str,
    points: list[str],
    name: str = "",
    skins: tuple[str, ...] = (),
    **values: object,
) -> tuple[Scene, str]:
    """The scene with a strand through points in words, laid on the skins that it runs through, and its id; ``skins``: figures whose skin strands touch
    from now on. Raises ArtulineError for what cannot be.
    """
    if len(points) < 2:
        raise ArtulineError("a strand needs two points or more", remedy="Give --point several times.")
    if kind not in READY:
        raise ArtulineError(f"there is no strand of the kind {kind!r}", remedy=f"Choose one of: {', '.join(READY)}.")
    for words in skins:
        f = next((f for f in scene.cast if words in (f.name, f.id)), None)
        if f is None or f.asset is None or not f.bodies:
            have = [x.name for x in scene.cast if x.asset is not None and x.bodies]
            raise ArtulineError(f"{words!r} has no skin with bodies", remedy=f"There are: {', '.join(have) or 'none'}.")
        scene = edit.figure(scene, f.id, skin=True)
    made = tuple(point_of(scene, assets, p) for p in points)
    frame = float(scene.start)
    try:
        recipe = ready(kind, made, frame, **values)
        lies = laid(scene, assets, made, frame, 1.1 * recipe.reach, closed=recipe.closed, curved=recipe.curved)
        return add_strand(scene, assets, ready(kind, lies, frame, **values), name)
    except ValueError as error:
        raise ArtulineError(f"the strand cannot be made: {why_not(error)}", remedy="Change its numbers.") from error
