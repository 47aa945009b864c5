"""A thing from a file put into a hand, in one go: what the command line does."""

from pathlib import Path

from artuline.core.errors import ArtulineError
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene
from artuline.core.setup.grip import WAYS, let_go, mounted
from artuline.core.setup.hinge import propose_hinge, with_hinge
from artuline.formats.importing import put_figure
from artuline.formats.thing_read import read_thing


def hold_thing(
    scene: Scene, assets: AssetStore, path: Path, hand: str, at: int | None, until: int | None, way: str,
    hang: list[tuple[str, str]], masses: dict[str, float],
) -> tuple[Scene, tuple[str, ...]]:  # fmt: skip
    """The scene with a thing held from a frame on, and what to know about it. ``hand``: a bone, or a figure and a bone with a colon between.

    Raises ArtulineError for what is not there.
    """
    if way not in WAYS:
        raise ArtulineError(f"there is no way {way!r} to carry", remedy=f"Choose one of: {', '.join(WAYS)}.")
    holder, bone = _hand(scene, hand)
    added = put_figure(scene, assets, read_thing(path, assets))
    thing = added.figure
    for child, parent in hang:
        for part in (child, parent):
            _known(thing, part)
        hinge = propose_hinge(thing, assets, child, parent)
        thing = with_hinge(thing, assets, child, parent, hinge.pivot, hinge.axis)
    for part, kilograms in masses.items():
        _known(thing, part)
        if kilograms <= 0.0:
            raise ArtulineError(f"{part} cannot weigh {kilograms:g} kg", remedy="Give a mass above zero.")
        thing = thing.changed(bodies=tuple(b.changed(mass=kilograms) if b.bone == part else b for b in thing.bodies))
    made = edit.scene(added.scene, figures=edit.replace(added.scene.figures, thing.id, lambda _: thing))
    frame = float(scene.start if at is None else at)
    made = mounted(made, assets, thing.id, holder.id, bone, frame, way)  # type: ignore[arg-type]
    if frame > scene.start:
        made = edit.figure(made, thing.id, mounts=(made.figure(thing.id).mounts[-1].changed(start=frame),))
    return (let_go(made, thing.id, float(until)) if until is not None else made), added.notes


def _known(thing: Figure, part: str) -> None:
    if part not in thing.body_of:
        raise ArtulineError(
            f"{thing.name} has no part {part!r}", remedy=f"It has: {', '.join(b.name for b in thing.bones)}."
        )


def _hand(scene: Scene, text: str) -> tuple[Figure, str]:
    """The figure and bone that are meant."""
    name, colon, bone = text.rpartition(":")
    for f in scene.figures:
        if bone in f.bone_index and (not colon or name in (f.id, f.name)):
            return f, bone
    raise ArtulineError(
        f"no figure of the scene has a bone {text!r}", remedy="Give a bone, or a figure and its bone: deckhand:hand_l"
    )
