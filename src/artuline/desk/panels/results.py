"""Details of Takes and Curves: what a run gave, and the keys made from it."""

import math
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtWidgets import QCheckBox, QComboBox, QLabel

from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Scene
from artuline.desk.fields import NumberField, button, faint, row, rule, section

if TYPE_CHECKING:
    from artuline.desk.details import Details


def fill_takes(d: "Details", f: Figure) -> None:
    """The takes and their worst moments."""
    s = d.session
    d.add(button("Run", d.window_.run, icon="play-box-outline", primary=True, tip="Simulate the range (F5)"))
    if not s.scene.takes:
        d.add(
            faint(
                "No take yet. A run simulates the range and keeps the result as a take, so that scrubbing is instant."
            )
        )
        return
    box = QComboBox()
    for t in s.scene.takes:
        box.addItem(t.name, t.id)
    box.setCurrentIndex([t.id for t in s.scene.takes].index(s.scene.take) if s.scene.take else -1)
    box.activated.connect(lambda i: s.edit("Choose a take", lambda sc: edit.scene(sc, take=box.itemData(i))))
    d.add(row("Shown", box))
    take = s.take()
    ref = s.scene.active_take()
    if take is None or ref is None:
        return
    stale = ref.settings != s.scene.settings_fingerprint()
    state = QLabel("out of date" if stale else "matches the settings")
    state.setObjectName("fault" if stale else "keyed")
    d.add(row("State", state), row("Frames", QLabel(f"{ref.start} to {ref.end}")))
    d.add(
        row(
            "Substeps",
            QLabel(f"{take.substeps[1]} of {take.substeps[0]} asked"),
            tip="Fast turns are halved by themselves.",
        )
    )
    d.add(rule(), section("Worst moments"))
    for words, values, names, scale, unit, digits in (
        ("Pressed in", take.penetration, take.names, 1000.0, "mm", 1),
        ("Joint apart", take.separation, take.joint_names, 1000.0, "mm", 2),
        ("Beyond limit", take.excess, take.joint_names, math.degrees(1.0), "°", 1),
    ):
        if not values.size:
            continue
        i, k = np.unravel_index(int(values.argmax()), values.shape)
        amount = f"{scale * values[i, k]:.{digits}f} {unit}".replace(" °", "°")
        frame, name = int(take.frames[i]), names[k]
        go = button(f"{name}, frame {frame}", partial(d.window_.go_to, frame, name))
        go.setObjectName("small")
        d.add(row(words, QLabel(amount)), go)
    d.add(rule(), button("Remove this take", d.window_.remove_take, icon="close"))
    d.add(faint("Next: turn the take into keys in Curves."))


def fill_curves(d: "Details", f: Figure) -> None:
    """Baking, layers and delivery."""
    s = d.session
    w = d.window_
    if s.scene.active_take() is None:
        d.add(faint("Nothing to bake yet: run the scene first."))
        d.add(button("Run", w.run, icon="play-box-outline", primary=True))
        return
    d.add(section("Bake"))
    d.add(
        faint(
            "Fits the take with as few keys as the error allows. The keys go to a layer above the clip, which stays as it is."
        )
    )
    for label, key, unit in (
        ("Error of a bone", "degrees", "°"),
        ("Error at the ends", "millimetres", "mm"),
    ):
        field = NumberField(w.bake_bounds[key], unit, step=0.05, decimals=1, low=0.05, high=500, name=label)
        field.changed.connect(lambda v, final, key=key: w.bake_bounds.__setitem__(key, v))
        d.add(row(label, field))
    d.add(button("Bake the take", w.bake, icon="vector-curve", primary=True))
    if w.baked_summary:
        d.add(faint(w.baked_summary))
    for layer in f.layers:
        d.add(rule(), section(f"Layer: {layer.name}"))
        d.add(row("Frames", QLabel(f"{layer.start} to {layer.end}")))

        def weight(sc: Scene, v: float, i: str = layer.id) -> Scene:
            kept = edit.replace(sc.figure(f.id).layers, i, lambda x: x.changed(weight=v))
            return edit.figure(sc, f.id, layers=kept)

        d.number("Weight", layer.weight, "", weight, words="Change the layer's weight", step=0.005, decimals=2,
                     low=0, high=1, reset=1)  # fmt: skip
        d.add(button("Remove the layer", partial(w.remove_layer, f.id, layer.id), icon="close"))
    if f.layers:
        show = QCheckBox()
        show.setChecked(not w.stage.uses_take)
        show.toggled.connect(w.show_layers)
        d.add(row("Show the baked keys", show, tip="Off: the take itself is shown."))
        d.add(rule(), section("Deliver"))
        d.add(button("Export .glb…", w.ask_export, icon="export-variant", primary=True))
