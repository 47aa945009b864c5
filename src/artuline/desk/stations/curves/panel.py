"""Details of Curves: baking, layers and delivery."""

from functools import partial

from PySide6.QtWidgets import QLabel

from artuline.core.bake.delivery import company
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Scene
from artuline.desk.form import Form
from artuline.desk.stations.curves.commands import Commands
from artuline.desk.widgets.fields import button, faint, row, rule, section


def fill(d: Form, w: Commands, f: Figure) -> None:
    """Baking, layers and delivery."""
    s = d.session
    if s.scene.active_take() is None:
        d.add(faint("Nothing to bake yet: run the scene first."))
        d.add(d.act("run", primary=True))
        return
    d.add(section("Bake"))
    d.add(
        faint(
            "Fits the take with as few keys as the error allows. The keys go to a layer above the clip, which stays as it is."
        )
    )
    for label, key, unit in (("Error of a bone", "degrees", "°"), ("Error at the ends", "millimetres", "mm")):
        d.plain_number(label, w.bounds[key], unit, partial(w.bounds.__setitem__, key), step=0.05, decimals=1, low=0.05, high=500,
                       tip="How far the keys may be from the take.")  # fmt: skip
    d.add(d.act("bake", primary=True, tip=f"Fits keys to the motion of {f.name} (F6)"))
    if f.id in w.baked and f.layers:
        d.add(faint(w.baked[f.id]))
    for layer in f.layers:
        d.add(rule(), section(f"Layer: {layer.name}"))
        d.add(row("Frames", QLabel(f"{layer.start} to {layer.end}")))

        def weight(sc: Scene, v: float, i: str = layer.id) -> Scene:
            kept = edit.replace(sc.figure(f.id).layers, i, lambda x: x.changed(weight=v))
            return edit.figure(sc, f.id, layers=kept)

        d.number("Weight", layer.weight, "", weight, words="Change the layer's weight", step=0.005, decimals=2,
                     low=0, high=1, reset=1, tip="How much of it shows above the clip.")  # fmt: skip
        d.add(
            button("Remove the layer", partial(w.remove_layer, f.id, layer.id), icon="close", tip="The keys below stay")
        )
    together = company(s.scene, f.id)
    if any(s.scene.figure(x).layers for x in together):
        d.toggle("Show the baked keys", not w.shows_take, w.show_layers, tip="Off: the take itself is shown.")
        d.add(rule(), section("Deliver"))
        others = [s.scene.figure(x).name for x in together[1:]]
        if others:
            d.toggle("Held and holder in one file", d.desk.together, partial(setattr, d.desk, "together"),
                     f"On: {', '.join(others)} in the same file. Off: the figure alone.")  # fmt: skip
        d.toggle("Rest pose after the end", d.desk.rest, partial(setattr, d.desk, "rest"),
                 "On: one frame after the last it stands at rest, as it was made.")  # fmt: skip
        d.add(d.act("export", primary=True, tip=f"Writes {f.name} with clip and layers merged (Ctrl+E)"))
