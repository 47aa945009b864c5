"""Details of Curves: baking, layers, keys and delivery."""

from dataclasses import replace
from functools import partial

from artuline.core.bake.bake import Baked
from artuline.core.bake.delivery import several
from artuline.core.geometry.euler import ORDERS
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Layer, Scene
from artuline.desk.form import Form
from artuline.desk.model.which import figure_choices
from artuline.desk.stations.curves.commands import BEST, Commands
from artuline.desk.stations.curves.editor.commands import KeyCommands
from artuline.desk.stations.curves.goals.commands import LimbCommands
from artuline.desk.widgets.fields import button, buttons, faint, row, rule, section, short
from artuline.desk.widgets.label import Label

MOST_DOUBTS = 5


def fill(d: Form, w: Commands, keys: KeyCommands, limbs: LimbCommands, f: Figure) -> None:
    """Baking, layers, keys and delivery."""
    if d.session.scene.active_take() is None and not any(x.kind == "baked" for x in f.layers):
        d.add(faint("Nothing to bake yet: run the scene first."))
        d.add(d.act("run", primary=True))
        if w.editing.source() is not None:
            d.add(faint("Below: the keys that there are."))
        d.add(rule(), section("Limbs"))
        _where(d, limbs, f)
        return
    if d.session.scene.active_take() is not None:
        _bake(d, w, limbs, f)
    _layers(d, w, f)
    if w.editing.source() is not None:
        _keys(d, w, keys, f)
    if w.editing.layer() is not None:
        _doubts(d, w)
    _deliver(d, w, f)


def _bake(d: Form, w: Commands, limbs: LimbCommands, f: Figure) -> None:
    d.add(section("Bake"))
    if f.id not in w.baked:
        d.add(
            faint(
                "Fits the take with as few keys as the error allows. The keys go to a layer above the clip, which stays as it is."
            )
        )
    for label, key, unit in (("Error of a bone", "degrees", "°"), ("Error at the ends", "millimetres", "mm")):
        d.plain_number(label, w.bounds[key], unit, partial(w.set_bound, key), step=0.05, decimals=2, low=0.05, high=500,
                       tip="How far the keys may be from the take. Keys that were baked and not edited follow at once.")  # fmt: skip
    if d.fold(
        "Which part",
        "" if w.range is None and w.step == 1 and not w.only_chosen and not w.adds and w.between else "a part",
    ):
        s = d.session.scene
        first, last = w.range or (s.start, s.end)
        d.plain_number("From frame", first, "", lambda v: w.set_range(round(v), (w.range or (0, s.end))[1]), step=0.5, decimals=0, low=s.start, high=s.end,
                       reset=s.start, tip="The first frame that is baked.")  # fmt: skip
        d.plain_number("To frame", last, "", lambda v: w.set_range((w.range or (s.start, 0))[0], round(v)), step=0.5, decimals=0, low=s.start, high=s.end,
                       reset=s.end, tip="The last frame that is baked.")  # fmt: skip
        d.toggle(
            "Only chosen bones",
            w.only_chosen,
            partial(setattr, w, "only_chosen"),
            "Of the figure, only the bones that are selected.",
        )
        d.choice("Keys on", ["every frame", "every second frame"], "every frame" if w.step == 1 else "every second frame",
                 lambda v: setattr(w, "step", 1 if v == "every frame" else 2), "On which frames keys may lie, counted from 0.")  # fmt: skip
        d.choice("Above the clip", ["replaces", "adds"], "adds" if w.adds else "replaces", lambda v: setattr(w, "adds", v == "adds"),
                 "Whether the layer takes the place of what lies below, or adds to it.")  # fmt: skip
        d.toggle(
            "Same key times",
            w.shared,
            partial(setattr, w, "shared"),
            "On: turn and place of a bone, or of a goal, have keys at the same times.",
        )
        d.toggle("Between frames too", w.between, partial(setattr, w, "between"),
                 "On: the error is kept half way between frames too. Off: fewer keys, and where motion is fast the curves swing out between frames.")  # fmt: skip
    which_figures(d, f)
    _where(d, limbs, f)
    if f.goals:
        d.toggle(
            "Limbs onto goals",
            w.goals,
            partial(setattr, w, "goals"),
            f"{', '.join(x.end for x in f.goals)} get goals, and their elbows and knees directions. Off: all onto bones.",
        )
    d.add(d.act("bake", primary=True, tip=f"Fits keys to the motion of {f.name} (F6)"))
    if f.id in w.baked and f.layers:
        _result(d, w, w.baked[f.id])


def which_figures(d: Form, f: Figure) -> list[str]:
    """The choice of figures that are baked and delivered, where there are others than the present one; which these are."""
    ways = figure_choices(d.session.scene, f)
    if len(ways) > 1:
        words = {w: key for key, w in ways.items()}
        d.choice("Figures", list(words), ways.get(d.desk.which, ways["this"]), lambda v: d.desk.choose_figures(words[v]),
                 "Which figures are baked, and which are exported.")  # fmt: skip
    return several(d.session.scene, f.id, d.desk.which if d.desk.which in ways else "this")


def _where(d: Form, limbs: LimbCommands, f: Figure) -> None:
    """What leads to the table of where motion goes."""
    d.add(d.act("mapping", "Back to the curves" if limbs.shown else "Where motion goes"))


def _result(d: Form, w: Commands, b: Baked) -> None:
    count = sum(b.keys.values())
    d.add(
        faint(
            f"{count} keys for {b.frames * len(b.keys)} frames of curves ({100 * b.share:.0f} %), {count / len(b.keys):.1f} a curve."
        )
    )
    if b.between > 0.0:
        d.add(faint(f"Between frames within {b.between:.1f} mm of smooth ways through them."))
    worst = []
    for at, unit in ((b.turned, "°"), (b.off, " mm")):
        if at is not None:
            words = f"{at.amount:.2f}{unit} at {at.bone}, frame {at.frame}"
            worst.append((words, partial(w.show_worst, at), "The largest error of the keys: goes there"))
    for made in worst:
        d.add(buttons(made))


def _layers(d: Form, w: Commands, f: Figure) -> None:
    present = w.editing.layer()
    for layer in reversed(f.layers):
        here = present is not None and layer.id == present.id and w.editing.on_layer()
        d.add(rule(), section(f"Layer: {layer.name}" + (" · edited here" if here else "")))
        d.add(row("Frames", Label(f"{layer.start} to {layer.end}")))

        def weight(sc: Scene, v: float, i: str = layer.id) -> Scene:
            kept = edit.replace(sc.figure(f.id).layers, i, lambda x: x.changed(weight=v))
            return edit.figure(sc, f.id, layers=kept)

        d.number("Weight", layer.weight, "", weight, words="Change the layer's weight", step=0.005, decimals=2,
                     low=0, high=1, reset=1, tip="How much of it shows above the clip.")  # fmt: skip
        mute = partial(_mute, w, f.id, layer.id)
        d.toggle("Muted", layer.muted, mute, "It is left out.")
        if layer.kind == "baked":
            _baked_layer(d, w, f, layer, here)


def _mute(w: Commands, figure: str, layer: str, on: bool) -> None:
    w.change_layer("Mute a layer", figure, layer, muted=on)


def _baked_layer(d: Form, w: Commands, f: Figure, layer: Layer, here: bool) -> None:
    d.toggle("Physics follows it", layer.leads, lambda on: w.change_layer("Physics follows keys", f.id, layer.id, leads=on),
             "On: the next run begins from these keys, as from the clip.")  # fmt: skip
    made = []
    if not here:
        made.append(("Edit", partial(w.editing.set_layer, layer.id), "Shows the keys of this layer below the stage"))
    if len(f.layers) > 1:
        made += [
            ("Only this", partial(w.solo, f.id, layer.id), "Mutes all other baked layers; again: unmutes them"),
            ("Up", partial(w.stack, f.id, layer.id, True), "Above the next layer"),
            ("Down", partial(w.stack, f.id, layer.id, False), "Below the layer before"),
        ]
    if made:
        d.add(buttons(*made))
    d.add(button("Remove the layer", partial(w.remove_layer, f.id, layer.id), icon="close", tip="The keys below stay"))


def _keys(d: Form, w: Commands, keys: KeyCommands, f: Figure) -> None:
    if not d.fold("Keys", f"within {keys.bound:g}°"):
        return
    d.plain_number("Thin out to", keys.bound, "°", partial(setattr, keys, "bound"), step=0.02, decimals=2, low=0.01, high=30, reset=0.5,
                   tip="The error of Thin out.")  # fmt: skip
    d.add(d.act("keys thin"), d.act("keys loop"), d.act("keys back"))
    chosen = d.session.chosen()
    names = [
        n for n in w.editing.shown() if n[1] == "rotation" and n[0] in f.bone_index and (not chosen or n[0] in chosen)
    ]
    if len({n[0] for n in names}) == 1:
        bone = names[0][0]
        own = f.bones[f.bone_index[bone]].order
        d.choice("Angles turned about", [BEST, *ORDERS], own or BEST, partial(w.set_order, f.id, frozenset({bone})),
                 f"In which order the curves of {bone} turn. Best: {w.editing.order(names[0])}, farthest from gimbal lock.")  # fmt: skip


def _doubts(d: Form, w: Commands) -> None:
    found = w.doubts()
    words = "looking" if found is None else (f"{len(found)}" if found else "nothing found")
    if d.fold("Still physical?", words, opened=bool(found)):
        for doubt in (found or [])[:MOST_DOUBTS]:
            text = doubt.text[0].upper() + doubt.text[1:]
            d.add(
                buttons(
                    (
                        short(f"{text}, {doubt.frame}", 40),
                        partial(w.show_doubt, doubt),
                        f"{text}, frame {doubt.frame}: goes there",
                    )
                )
            )
        if found and len(found) > MOST_DOUBTS:
            d.add(faint(f"and {len(found) - MOST_DOUBTS} more in the timeline"))
        if not found:
            d.add(
                faint(
                    "Flights that leave their parabola, parts that slide on the ground or are pressed in, joints beyond limits: more than in the take."
                )
            )


def _deliver(d: Form, w: Commands, f: Figure) -> None:
    together = several(d.session.scene, f.id, "all")
    if not any(d.session.scene.figure(x).layers for x in together):
        return
    d.toggle("Show the baked keys", not w.shows_take, w.show_layers, tip="Off: the take itself is shown.")
    d.add(rule(), section("Deliver"))
    if len(which_figures(d, f)) > 1:
        d.toggle("All in one file", d.desk.together, partial(setattr, d.desk, "together"),
                 "On: they are in the same file, as they stand to each other. Off: each has its own, beside the first.")  # fmt: skip
    rests = d.desk.rests
    d.toggle("Rest pose after the end", rests.after, lambda on: setattr(d.desk, "rests", replace(d.desk.rests, after=on)),
             "On: after the last frame it stands at rest, as it was made. More in the dialog.")  # fmt: skip
    d.add(d.act("export", primary=True, tip=f"Writes {f.name} with clip and layers merged (Ctrl+E)"))
