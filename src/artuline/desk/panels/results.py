"""Details of Takes and Curves: what a run gave, and the keys made from it."""

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QLabel, QWidget

from artuline.core.errors import ArtulineError
from artuline.core.run.record import settings_of
from artuline.core.scene import edit, paths
from artuline.core.scene.model import BodyRef, Figure, Scene, TakeRef
from artuline.desk.fields import Choice, NumberField, button, faint, narrow, row, rule, section
from artuline.desk.plot import QUANTITIES, Plot

if TYPE_CHECKING:
    from artuline.desk.details import Details


VIEWS = {"over": "over each other", "beside": "side by side", "wiped": "wiped"}
ROWS = 12  # of the table of differences


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
        d.add(rule(), section("Bracket"))
        _bracket(d)
        return
    box = Choice()
    for t in s.scene.takes:
        box.addItem(t.name, t.id)
    box.setCurrentIndex([t.id for t in s.scene.takes].index(s.scene.take) if s.scene.take else -1)
    narrow(box)
    box.setAccessibleName("Shown")
    box.activated.connect(lambda i: s.edit("Choose a take", lambda sc: edit.scene(sc, take=box.itemData(i))))
    d.add(row("Shown", box, tip="Which take the stage, the plot and the bake are about."))
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
            QLabel(f"{take.substeps[1]} for {take.substeps[0]} asked"),
            tip="Substeps in which something turns too fast or hits too hard are halved by themselves.",
        )
    )
    if stale:
        _differences(d, ref)
    if ref.scene is not None:
        d.add(button("Go back to its settings", d.window_.back_to_settings, icon="restore",
                     tip="The scene as it was when this take was made; takes stay. Undo brings the present one back."))  # fmt: skip
    others = ["the keys", *(t.name for t in s.scene.takes if t.id != s.scene.take)]
    now = next((t.name for t in s.scene.takes if t.id == d.window_.stage.echo_take), "the keys")
    d.choice(
        "Beside it",
        others,
        now if now in others else "the keys",
        d.window_.compare_with,
        "Shown as the echo, and in the plot.",
    )
    w = d.window_
    d.choice(
        "View",
        list(VIEWS.values()),
        VIEWS[w.stage.compare],
        w.compare_by,
        "How the two are seen together on the stage.",
    )
    _against(d, ref)
    d.add(rule(), section("Over time"))
    d.choice("Plot", QUANTITIES, w.plotted, w.plot, "What is drawn over time; a click in it goes to the frame.")
    figure_bones = s.selection.bones if s.selection.figure == f.id else frozenset()
    body = next((BodyRef(f.id, b.id) for b in f.bodies if b.bone in figure_bones), None)
    d.add(Plot(w, take, w.plotted, body, w.other_take()))
    d.add(faint(f"Of {s.scene.words(body)}." if body else "The most of all bodies; select one to see it alone."))
    d.add(rule(), section("Worst moments"))
    moments = w.moments(take)
    if not moments:
        d.add(faint("None: nothing is pressed in, comes apart, leaves its limits, shakes or slides."))
    for m in moments:
        line = QWidget()
        both = QHBoxLayout(line)
        both.setContentsMargins(0, 0, 0, 0)
        go = button(f"{m.name}: {m.text}", partial(w.go_to_measure, m), tip=f"{m.place}, frame {m.frame}. {m.help}")
        go.setStyleSheet("text-align: left; padding: 0 8px;")
        both.addWidget(go, 1)
        words = w.remedy_words(m)
        if words:
            both.addWidget(
                button(
                    "Try",
                    partial(w.try_remedy, m),
                    tip=f"{m.help} Sets a bracket of {words} below.",
                    name=f"Try against: {m.name}",
                )
            )
        d.add(line)
    d.add(rule(), section("Bracket"))
    _bracket(d)
    d.add(
        rule(),
        button(
            "Remove this take",
            d.window_.remove_take,
            icon="close",
            tip="Takes it out of the scene; undo brings it back",
        ),
    )
    d.next("Curves", "turn the take into keys")


def _against(d: "Details", ref: TakeRef) -> None:
    """A table of the settings that differ between this take and the one beside it."""
    other = next((t for t in d.session.scene.takes if t.id == d.window_.stage.echo_take), None)
    if other is None:
        return
    try:
        changed = paths.differences(settings_of(other, d.session.assets), settings_of(ref, d.session.assets))
    except ArtulineError:
        return
    if not changed:
        d.add(faint("Both were made with the same settings."))
        return
    if not d.fold("What differs", f"{len(changed)} settings" if len(changed) > 1 else "1 setting", True):
        return
    table = QWidget()
    grid = QGridLayout(table)
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setHorizontalSpacing(8)
    grid.setColumnStretch(0, 1)
    for k, words in enumerate(("", other.name, ref.name)):
        head = QLabel(words)
        head.setObjectName("small")
        grid.addWidget(head, 0, k, Qt.AlignmentFlag.AlignRight if k else Qt.AlignmentFlag.AlignLeft)
    for i, (path, before, after) in enumerate(changed[:ROWS], 1):
        name = QLabel(path.split("].")[-1])
        name.setToolTip(path)
        grid.addWidget(name, i, 0)
        for k, value in enumerate((before, after), 1):
            grid.addWidget(QLabel(value[:14] or "none"), i, k, Qt.AlignmentFlag.AlignRight)
    d.add(table)
    if len(changed) > ROWS:
        d.add(faint(f"and {len(changed) - ROWS} more"))


def _differences(d: "Details", ref: TakeRef) -> None:
    """What has changed since the take was made."""
    try:
        changed = paths.differences(settings_of(ref, d.session.assets), d.session.scene)
    except ArtulineError:
        return
    lines = [f"{path.split('.', 1)[-1]}: {a or 'none'} → {b or 'none'}" for path, a, b in changed[:5]]
    more = f" and {len(changed) - 5} more" if len(changed) > 5 else ""
    if lines:
        d.add(faint("Changed since: " + "; ".join(lines) + more))


def _bracket(d: "Details") -> None:
    """One setting over a range of values, run side by side."""
    w = d.window_
    offered = w.offered_settings()
    labels = list(offered)
    if not labels:
        return
    current = w.bracket_setting if w.bracket_setting in offered else labels[0]
    d.choice("Setting", labels, current, w.choose_bracket, "What differs from run to run.")
    d.add(
        button("Any other setting…", w.ask_setting, icon="magnify", tip="Every number of the scene, keys of lanes too.")
    )
    low, high, count = w.bracket_range
    d.plain_number(
        "From",
        low,
        "",
        lambda v: w.set_bracket(0, v),
        step=0.01,
        decimals=2,
        low=-1e6,
        high=1e6,
        tip="Value of the first run.",
    )
    d.plain_number(
        "To",
        high,
        "",
        lambda v: w.set_bracket(1, v),
        step=0.01,
        decimals=2,
        low=-1e6,
        high=1e6,
        tip="Value of the last run.",
    )
    d.plain_number(
        "Runs", count, "", lambda v: w.set_bracket(2, v), step=0.1, decimals=0, low=3, high=16, tip="How many."
    )
    d.toggle("Equal ratios", w.bracket_ratios, w.set_bracket_ratios, "By equal ratios instead of equal steps.")
    d.choice("And", ["no second", *(x for x in labels if x != current)], w.second_setting or "no second", w.choose_second,
             "A second setting: all values of both, as a grid.")  # fmt: skip
    if w.second_setting in offered:
        low, high, count = w.second_range
        d.plain_number(
            "Second from",
            low,
            "",
            lambda v: w.set_second(0, v),
            step=0.01,
            decimals=2,
            low=-1e6,
            high=1e6,
            tip="First value.",
        )
        d.plain_number(
            "Second to",
            high,
            "",
            lambda v: w.set_second(1, v),
            step=0.01,
            decimals=2,
            low=-1e6,
            high=1e6,
            tip="Last value.",
        )
        d.plain_number(
            "Second runs", count, "", lambda v: w.set_second(2, v), step=0.1, decimals=0, low=2, high=8, tip="How many."
        )
    d.add(button("Run the bracket", w.run_bracket, icon="view-grid-outline", primary=True,
                 tip="Runs all values on all cores and shows them side by side."))  # fmt: skip


def fill_curves(d: "Details", f: Figure) -> None:
    """Baking, layers and delivery."""
    s = d.session
    w = d.window_
    if s.scene.active_take() is None:
        d.add(faint("Nothing to bake yet: run the scene first."))
        d.add(button("Run", w.run, icon="play-box-outline", primary=True, tip="Simulates the range (F5)"))
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
        field.refused.connect(partial(w.strip.tell, fault=True))
        d.add(row(label, field, tip="How far the keys may be from the take."))
    d.add(
        button(
            "Bake the take", w.bake, icon="vector-curve", primary=True, tip=f"Fits keys to the motion of {f.name} (F6)"
        )
    )
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
    if f.layers:
        show = QCheckBox()
        show.setChecked(not w.stage.uses_take)
        show.toggled.connect(w.show_layers)
        d.add(row("Show the baked keys", show, tip="Off: the take itself is shown."))
        d.add(rule(), section("Deliver"))
        d.add(button("Export .glb…", w.ask_export, icon="export-variant", primary=True,
                     tip=f"Writes {f.name} with clip and layers merged (Ctrl+E)"))  # fmt: skip
