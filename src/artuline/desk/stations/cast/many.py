"""The fold of Cast that sets a figure many times, and says what one of many has of its own."""

from dataclasses import replace
from functools import partial

from artuline.core.scene import edit
from artuline.core.scene.alike import own_of, shared
from artuline.core.scene.model import Figure, Scene
from artuline.core.setup.many import MOST, Pattern, set_many
from artuline.desk.form import Form
from artuline.desk.widgets.fields import Choice, button, faint, narrow, row

WAYS = {"in rows": "rows", "scattered": "scattered", "along a track": "along"}


class Many:
    """How the next ones are set."""

    def __init__(self) -> None:
        self.pattern = Pattern()

    def change(self, **values: object) -> None:
        """Other values."""
        self.pattern = replace(self.pattern, **values)  # type: ignore[arg-type]


def fill(d: Form, m: Many, f: Figure) -> None:
    """How often and where; of one of many, what is its own."""
    if f.like is not None:
        _one_of_many(d, f)
        return
    copies = sum(x.like == f.id for x in d.session.scene.figures)
    if not d.fold("Many", f"{copies} more like it" if copies else "", False):
        return
    p = m.pattern

    def again(**values: object) -> None:
        m.change(**values)
        d.desk.refill.emit(False)

    d.choice(
        "Set",
        list(WAYS),
        next(k for k, v in WAYS.items() if v == p.how),
        lambda text: again(how=WAYS[text]),
        "How they stand",
    )
    d.plain_number(
        "How many", p.count, "", lambda v: m.change(count=round(v)), step=1, decimals=0, low=1, high=MOST, reset=8
    )
    if p.how != "along":
        d.plain_number("Apart", p.apart, "m", lambda v: m.change(apart=v), step=0.05, decimals=2, low=0.1, high=50, reset=0.9,
                       tip="Between two, at least where they are scattered.")  # fmt: skip
    if p.how == "rows":
        d.plain_number(
            "In a row",
            p.columns,
            "",
            lambda v: m.change(columns=round(v)),
            step=1,
            decimals=0,
            low=1,
            high=100,
            reset=3,
        )
    elif p.how == "scattered":
        d.plain_number(
            "Across",
            p.around[0],
            "m",
            lambda v: m.change(around=(v, m.pattern.around[1])),
            step=0.1,
            low=0.1,
            high=500,
            reset=4,
        )
        d.plain_number(
            "Along",
            p.around[1],
            "m",
            lambda v: m.change(around=(m.pattern.around[0], v)),
            step=0.1,
            low=0.1,
            high=500,
            reset=4,
        )
    else:
        _track(d, m)
    d.plain_number("Turned", p.turned * 57.2958, "°", lambda v: m.change(turned=v / 57.2958), step=1, decimals=0, low=0, high=180, reset=0,
                   tip="By chance, each way at most.")  # fmt: skip
    d.plain_number("Sizes", 100 * p.sizes, "%", lambda v: m.change(sizes=v / 100), step=0.5, low=0, high=30, reset=6,
                   tip="Larger or smaller by chance, at most; masses go with the cube.")  # fmt: skip
    d.plain_number("Clips earlier", p.late, "s", lambda v: m.change(late=v), step=0.1, low=0, high=60, reset=2,
                   tip="By chance, at most: so that they do not move alike.")  # fmt: skip
    d.plain_number("Colours", 100 * p.colours, "%", lambda v: m.change(colours=v / 100), step=5, decimals=0, low=0, high=100, reset=50,
                   tip="How much their clothes differ; skin, hair and eyes stay.")  # fmt: skip
    d.plain_number("Seed", p.seed, "", lambda v: m.change(seed=round(v)), step=1, decimals=0, low=0, high=9999, reset=1,
                   tip="Another number, another chance.")  # fmt: skip
    d.add(
        button(
            "Set them",
            partial(_set, d, m, f),
            icon="account-group-outline",
            tip="Adds them around the figure; they share its setup",
        )
    )


def _track(d: Form, m: Many) -> None:
    """Along whose track."""
    tracks = [x for x in d.session.scene.figures if len(x.track.frames) > 1]
    if not tracks:
        d.add(faint("Nothing has a track yet: key the place of an obstacle or a figure at two frames."))
        return
    if m.pattern.along not in {x.id for x in tracks}:
        m.change(along=tracks[0].id)
    box = Choice()
    box.setAccessibleName("Along the track of")
    for x in tracks:
        box.addItem(x.name, x.id)
    box.setCurrentIndex([x.id for x in tracks].index(str(m.pattern.along)))
    box.activated.connect(lambda i: m.change(along=box.itemData(i)))
    narrow(box)
    d.add(row("Along", box, tip="Whose keyed way they stand along"))


def _set(d: Form, m: Many, f: Figure) -> None:
    if d.session.edit("Set many", lambda s: set_many(s, f.id, m.pattern)):
        d.desk.tell(
            f"{m.pattern.count} more like {f.name}. What is edited of it goes for all; what is edited of one is its own."
        )
        d.desk.stage.frame_selection()


def _one_of_many(d: Form, f: Figure) -> None:
    """What it has of its own, and the way back."""
    original = d.session.scene.figure(str(f.like))
    own = own_of(f, original)
    if not d.fold("One of many", f"like {original.name}", True):
        return
    d.add(faint(f"It shares the setup of {original.name}." if not own else f"Its own: {', '.join(own)}."))
    d.add(
        button(
            f"Show {original.name}",
            partial(d.session.select, original.id, frozenset()),
            tip="The one whose setup they share",
        )
    )
    if own:

        def back(s: Scene) -> Scene:
            return edit.figure(s, f.id, **shared(s.figure(original.id), f.size))

        d.add(button(f"As {original.name} again", lambda: d.edit("Share the setup again", back), icon="restore",
                     tip="Gives up what was changed on its own"))  # fmt: skip
    d.add(button("On its own", lambda: d.edit("Set it apart", lambda s: edit.figure(s, f.id, like=None, size=1.0)), icon="link-off",
                 tip="It shares nothing any more"))  # fmt: skip
