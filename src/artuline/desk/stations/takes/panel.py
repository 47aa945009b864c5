"""Details of Takes: what a run gave, its worst moments, and brackets."""

from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QWidget

from artuline.core.errors import ArtulineError
from artuline.core.run.measures import PLOTS
from artuline.core.run.record import settings_of
from artuline.core.run.take import Take
from artuline.core.scene import edit, paths
from artuline.core.scene.model import BodyRef, Figure, Layer, TakeRef
from artuline.desk.form import Form
from artuline.desk.stations.takes.bracket_panel import fill_bracket
from artuline.desk.stations.takes.commands import VIEWS, Commands
from artuline.desk.stations.takes.plot import Plot
from artuline.desk.widgets.fields import Choice, button, faint, narrow, row, rule, section, short
from artuline.desk.widgets.label import Label

ROWS = 12  # of the table of differences
MOST_GIVEN = 40


def _below_layers(d: Form) -> None:
    """What a run does not go by although it is seen: keys that were baked, with the switch."""
    found = d.session.scene.not_followed
    for f, layer in found[:3]:
        d.add(faint(f"A run goes by the keys below {layer.name} of {f.name}, which is seen above them."))

        def follow(on: bool, f: Figure = f, layer: Layer = layer) -> None:
            d.edit(
                "Physics follows keys",
                lambda s: edit.figure(
                    s, f.id, layers=edit.replace(s.figure(f.id).layers, layer.id, lambda x: x.changed(leads=on))
                ),
            )

        d.toggle("Physics follows it", False, follow, tip="A run then goes by these keys, with what was edited in them")
    if len(found) > 3:
        d.add(faint(f"So it is with {len(found) - 3} more layers."))


def fill(d: Form, w: Commands, f: Figure) -> None:
    """The takes and their worst moments."""
    s = d.session
    d.add(d.act("run", primary=True))
    _below_layers(d)
    if not s.scene.takes:
        d.add(
            faint(
                "No take yet. A run simulates the range and keeps the result as a take, so that scrubbing is instant."
            )
        )
        d.add(rule(), section("Bracket"))
        fill_bracket(d, w.brackets)
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
    state = Label("as it was steered" if ref.steered else "out of date" if stale else "matches the settings")
    state.setObjectName("fault" if stale and not ref.steered else "keyed")
    d.add(row("State", state), row("Frames", Label(f"{ref.start} to {ref.end}")))
    d.add(
        row(
            "Substeps",
            Label(f"{take.substeps[1]} for {take.substeps[0]} asked"),
            tip="Substeps in which something turns too fast or hits too hard are halved by themselves.",
        )
    )
    if take.cycle is not None:
        rounds, open_, _ = take.cycle
        d.add(
            row(
                "Loop",
                Label(f"{rounds} rounds, within {open_:.2f}°"),
                tip="How many rounds there were, and by how much the last two differ at most.",
            )
        )
    if ref.steered:
        d.add(d.act("steer again"))
    elif stale:
        _differences(d, w, ref)
    if ref.scene is not None:
        d.add(button("Go back to its settings", w.back_to_settings, icon="restore",
                     tip="The scene as it was when this take was made; takes stay. Undo brings the present one back."))  # fmt: skip
    _given(d, take)
    _beside(d, w, ref)
    _over_time(d, w, f, take)
    _moments(d, w, take)
    d.add(rule(), section("Bracket"))
    fill_bracket(d, w.brackets)
    d.add(
        rule(),
        button(
            "Remove this take",
            w.remove_take,
            icon="close",
            tip="Takes it out of the scene; undo brings it back",
        ),
    )
    d.next("Curves", "turn the take into keys")


def _given(d: Form, take: Take) -> None:
    """Whom rules handed over, and when: a click goes there."""
    if not take.given or not d.fold("Handed over by rules", f"{len(take.given)}", len(take.given) <= 8):
        return
    for figure, frame, _, by in take.given[:MOST_GIVEN]:
        d.add(row(short(figure, 18), faint(short(by, 22)) if by else Label(""), button(f"{frame}", partial(_go, d, figure, frame), name=f"Go to {figure}",
                  tip="Goes to the frame, and chooses the figure")))  # fmt: skip
    if len(take.given) > MOST_GIVEN:
        d.add(faint(f"And {len(take.given) - MOST_GIVEN} more: write them as a table."))


def _go(d: Form, figure: str, frame: int) -> None:
    d.session.select(figure, frozenset())
    d.session.set_frame(frame)


def _beside(d: Form, w: Commands, ref: TakeRef) -> None:
    """What the take is compared with, and how."""
    s = d.session
    others = ["the keys", *(t.name for t in s.scene.takes if t.id != s.scene.take)]
    now = next((t.name for t in s.scene.takes if t.id == d.desk.comparison.other), "the keys")
    d.choice(
        "Beside it",
        others,
        now if now in others else "the keys",
        w.compare_with,
        "Shown as the echo, and in the plot.",
    )
    d.choice(
        "View",
        list(VIEWS.values()),
        VIEWS[d.desk.comparison.how],
        w.compare_by,
        "How the two are seen together on the stage.",
    )
    _against(d, w, ref)


def _over_time(d: Form, w: Commands, f: Figure, take: Take) -> None:
    """The plot."""
    s = d.session
    d.add(rule(), section("Over time"))
    d.choice("Plot", list(PLOTS), w.plotted, w.plot, "What is drawn over time; a click in it goes to the frame.")
    figure_bones = s.selection.of(f.id)
    body = next((BodyRef(f.id, b.id) for b in f.bodies if b.bone in figure_bones), None)
    d.add(Plot(s, take, w.plotted, body, d.desk.comparison.take()))
    d.add(faint(f"Of {s.scene.words(body)}." if body else "The most of all bodies; select one to see it alone."))


def _moments(d: Form, w: Commands, take: Take) -> None:
    """Where the take needs a look."""
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


def _against(d: Form, w: Commands, ref: TakeRef) -> None:
    """A table of the settings that differ between this take and the one beside it."""
    other = d.desk.comparison.ref()
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
        head = Label(short(words, 14))
        head.setToolTip(words)
        head.setObjectName("small")
        grid.addWidget(head, 0, k, Qt.AlignmentFlag.AlignRight if k else Qt.AlignmentFlag.AlignLeft)
    for i, (path, before, after) in enumerate(changed[:ROWS], 1):
        name = Label(path.split("].")[-1])
        name.setToolTip(path)
        grid.addWidget(name, i, 0)
        for k, value in enumerate((before, after), 1):
            grid.addWidget(Label(value[:14] or "none"), i, k, Qt.AlignmentFlag.AlignRight)
    d.add(table)
    if len(changed) > ROWS:
        d.add(faint(f"and {len(changed) - ROWS} more"))


def _differences(d: Form, w: Commands, ref: TakeRef) -> None:
    """What has changed since the take was made."""
    try:
        changed = paths.differences(settings_of(ref, d.session.assets), d.session.scene)
    except ArtulineError:
        return
    lines = [f"{path.split('.', 1)[-1]}: {a or 'none'} → {b or 'none'}" for path, a, b in changed[:5]]
    more = f" and {len(changed) - 5} more" if len(changed) > 5 else ""
    if lines:
        d.add(faint("Changed since: " + "; ".join(lines) + more))
