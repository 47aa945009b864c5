"""Details of Blend about what is held and pushed."""

from functools import partial

import numpy as np

from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Push, Scene
from artuline.core.setup.materials import body_mass
from artuline.desk.form import Form
from artuline.desk.stations.blend.commands import Commands
from artuline.desk.widgets.fields import button, faint, row


def fill_held(d: Form, w: Commands, f: Figure) -> None:
    """Pins, welds and ties with their frames; pushes."""
    s = d.session
    mine = [x for x in s.scene.links if f.id in (x.a.figure, x.b.figure if x.b else None)]
    if mine and not d.fold("Held", f"{len(mine)}", True):
        mine = []
    for link in mine:
        ends = f"{link.a.body} – {link.b.body if link.b else 'world'}"
        d.add(
            row(
                f"{link.kind}: {ends}",
                button("Remove", partial(w.holds.remove, link.id), name=f"Remove {link.id}", tip="Lets go for good"),
            )
        )

        if link.a.figure == f.id and link.kind != "tie":
            offered = w.holds.offered(link)
            d.choice("It holds", list(offered), w.holds.words_of(link),
                     lambda words, x=link, o=offered: w.holds.hold_at(x, o[words]),  # type: ignore[misc]
                     tip="The world, or a body that is near now; its mark on the stage can be dragged onto any.")  # fmt: skip

        def put(sc: Scene, v: float, field: str, link_id: str = link.id) -> Scene:
            return edit.scene(
                sc, links=edit.replace(sc.links, link_id, lambda x: x.changed(**{field: float(round(v))}))
            )

        start, stop = link.start if link.start is not None else s.scene.start, link.stop
        d.number(
            "Holds from",
            start,
            "",
            partial(put, field="start"),
            words="Change when it holds",
            step=0.5,
            decimals=0,
            tip="First frame that it holds.",
        )
        d.number("until", stop if stop is not None else s.scene.end + 1, "", partial(put, field="stop"),
                 words="Change when it holds", step=0.5, decimals=0, tip="First frame that it holds no more.")  # fmt: skip
        if link.kind == "pin":

            def give(sc: Scene, v: float, link_id: str = link.id) -> Scene:
                return edit.scene(sc, links=edit.replace(sc.links, link_id, lambda x: x.changed(frequency=v)))

            d.number("Gives way at", link.frequency, "Hz", give, words="Change how it gives", step=0.05, low=0, high=50, reset=0,
                     tip="0 is rigid. Above, it holds like a spring of this rate.")  # fmt: skip
    pushes = [p for p in s.scene.pushes if p.figure == f.id]
    bones = s.selection.of(f.id)
    chosen = {b.id for b in f.bodies if b.bone in bones}
    for p in pushes:
        if d.fold(f"Push on {p.body}", f"frame {p.start:g}", len(pushes) == 1 or p.body in chosen, about=p.id):
            _push(d, w, f, p)


def _push(d: Form, w: Commands, f: Figure, p: Push) -> None:

    def put(sc: Scene, **values: object) -> Scene:
        return edit.scene(sc, pushes=edit.replace(sc.pushes, p.id, lambda x: x.changed(**values)))

    d.number(
        "At frame",
        p.start,
        "",
        lambda sc, v: put(sc, start=float(round(v))),
        words="Change the push",
        step=0.5,
        decimals=0,
        tip="When it begins.",
    )
    d.number(
        "Spread over",
        p.frames,
        "frames",
        lambda sc, v: put(sc, frames=max(v, 0.1)),
        words="Change the push",
        step=0.1,
        low=0.1,
        tip="The same impulse over a longer time is softer.",
    )
    for k, axis in enumerate("xyz"):

        def component(sc: Scene, v: float, k: int = k) -> Scene:
            impulse = list(p.impulse)
            impulse[k] = v
            return put(sc, impulse=tuple(impulse))

        d.number(
            f"Impulse {axis}",
            p.impulse[k],
            "N s",
            component,
            words="Change the push",
            step=0.2,
            reset=0,
            tip="Mass times the change of speed.",
        )
    d.number("Scatter", p.scatter, "", lambda sc, v: put(sc, scatter=v), words="Change the push", step=0.01, decimals=2, low=0, high=3,
             reset=0, tip="Share of its strength by which it varies by chance.")  # fmt: skip
    if p.scatter > 0.0:
        d.number("Chance", p.seed, "", lambda sc, v: put(sc, seed=round(v)), words="Change the push", step=0.1, decimals=0, low=0,
                 high=9999, tip="Another number, another push: a bracket of it shows what may happen.")  # fmt: skip
    mass = next((body_mass(b) for b in f.bodies if b.id == p.body), 1.0)
    change = float(np.linalg.norm(p.impulse)) / max(mass, 1e-9)
    d.add(faint(f"Changes the speed of {p.body} alone by {change:.1f} m/s."))
    d.add(button("Remove this push", partial(w.remove_push, p.id), icon="close", tip="Takes it away"))
