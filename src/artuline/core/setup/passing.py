"""Pairs of bodies that pass through each other: of one figure or of two, as they were set, and as what is held together makes them."""

from dataclasses import dataclass

from artuline.core.scene import edit
from artuline.core.scene.model import BodyRef, LinkEnd, Scene


@dataclass(frozen=True)
class Passing:
    """Two bodies that pass through each other. ``why``: what holds them together, if it is that and no setting."""

    a: BodyRef
    b: BodyRef
    why: str = ""


def passing(scene: Scene, figure: str) -> list[Passing]:
    """All pairs that a figure has to do with: those that were set first, then those of links and mounts."""
    f = scene.figure(figure)
    found = [Passing(BodyRef(figure, a), BodyRef(figure, b)) for a, b in f.pairs_off]
    for a, b in scene.pairs_off:
        if figure in (a.figure, b.figure):
            one, other = (a, b) if a.figure == figure else (b, a)
            found.append(Passing(BodyRef(one.figure, one.body), BodyRef(other.figure, other.body)))
    for link in scene.links:
        if link.holds_together and link.b is not None and figure in (link.a.figure, link.b.figure):
            one, other = (link.a, link.b) if link.a.figure == figure else (link.b, link.a)
            found.append(Passing(BodyRef(one.figure, one.body), BodyRef(other.figure, other.body), link.name))
    for other_figure in scene.figures:
        for m in other_figure.mounts:
            carrier = scene.figure(m.figure).carrier(m.bone)
            part = other_figure.body_of.get(m.part)
            if m.collides or carrier is None or part is None or figure not in (m.figure, other_figure.id):
                continue
            ends = [BodyRef(m.figure, carrier.id), BodyRef(other_figure.id, part.id)]
            mine, theirs = ends if m.figure == figure else ends[::-1]
            found.append(Passing(mine, theirs, f"{other_figure.name} is held"))
    return found


def let_pass(scene: Scene, pairs: list[tuple[BodyRef, BodyRef]]) -> Scene:
    """The scene in which some more pairs pass through each other."""
    known = {frozenset((p.a, p.b)) for f in scene.figures for p in passing(scene, f.id) if not p.why}
    for a, b in pairs:
        if a == b or frozenset((a, b)) in known:
            continue
        known.add(frozenset((a, b)))
        if a.figure == b.figure:
            f = scene.figure(a.figure)
            scene = edit.figure(scene, f.id, pairs_off=(*f.pairs_off, (a.body, b.body)))
        else:
            ends = LinkEnd(figure=a.figure, body=a.body), LinkEnd(figure=b.figure, body=b.body)
            scene = edit.scene(scene, pairs_off=(*scene.pairs_off, ends))
    return scene


def let_touch(scene: Scene, pairs: list[tuple[BodyRef, BodyRef]]) -> Scene:
    """The scene in which some pairs touch each other again."""
    gone = {frozenset(p) for p in pairs}
    for f in scene.figures:
        kept = tuple(p for p in f.pairs_off if frozenset((BodyRef(f.id, p[0]), BodyRef(f.id, p[1]))) not in gone)
        if len(kept) < len(f.pairs_off):
            scene = edit.figure(scene, f.id, pairs_off=kept)
    across = tuple(p for p in scene.pairs_off if frozenset(BodyRef(e.figure, e.body) for e in p) not in gone)
    return scene if len(across) == len(scene.pairs_off) else edit.scene(scene, pairs_off=across)
