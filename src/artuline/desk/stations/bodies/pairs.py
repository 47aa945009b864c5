"""The list of pairs of bodies that pass through each other, to see and to change."""

from functools import partial

from artuline.core.scene.model import BodyRef, Figure
from artuline.core.setup.passing import Passing, let_pass, let_touch, passing
from artuline.desk.form import Form
from artuline.desk.widgets.fields import button, faint, row

MOST = 12  # rows
NONE = "Choose…"


def fill_pairs(d: Form, f: Figure) -> None:
    """Pairs of what is chosen, or of all; folded together until asked for."""
    scene = d.session.scene
    chosen = {b.id for b in f.bodies if b.bone in d.session.selection.of(f.id)}
    found = [p for p in passing(scene, f.id) if not chosen or _has(p, f.id, chosen)]
    if not d.fold("Pass through each other", f"{len(found)} pairs" if len(found) != 1 else "1 pair"):
        return
    for pair in found[:MOST]:
        words = " – ".join(scene.words(x) if x.figure != f.id else x.body for x in (pair.a, pair.b))
        if pair.why:
            d.add(faint(f"{words}: {pair.why}"))
            continue
        touch = partial(d.edit, "Let them touch", partial(let_touch, pairs=[(pair.a, pair.b)]))
        d.add(
            row(
                words,
                button("Touch", touch, name=f"Touch {pair.a.body} {pair.b.body}", tip="They touch each other again"),
            )
        )
    if len(found) > MOST:
        d.add(faint(f"And {len(found) - MOST} more: select a body to see its own."))
    mine = [BodyRef(f.id, b) for b in sorted(chosen)]
    if len(mine) >= 2:
        pairs = [(a, b) for k, a in enumerate(mine) for b in mine[k + 1 :]]
        d.add(button("Let them pass", partial(d.edit, "Let them pass", partial(let_pass, pairs=pairs)),
                     tip="What is chosen no longer touches each other"))  # fmt: skip
    others = {o.name: o for o in scene.figures if o.id != f.id and o.bodies}
    if mine and others:

        def choose(name: str) -> None:
            if name in others:
                pairs = [(a, BodyRef(others[name].id, b.id)) for a in mine for b in others[name].bodies]
                d.edit("Let them pass", partial(let_pass, pairs=pairs))

        d.choice(
            "Pass through", [NONE, *others], NONE, choose, tip="What is chosen no longer touches any body of that one"
        )
    if not mine:
        d.add(faint("Select two bodies to let them pass; one to let it pass through another figure or thing."))


def _has(pair: Passing, figure: str, chosen: set[str]) -> bool:
    return any(x.figure == figure and x.body in chosen for x in (pair.a, pair.b))
