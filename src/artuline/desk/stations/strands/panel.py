"""Details of Strands: what to draw, the strand in hand, what holds it, and what it touches."""

from functools import partial

from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Scene, Strand, StrandPoint
from artuline.core.setup.lines import length_of
from artuline.core.setup.strand import course_of, edits_by_hand
from artuline.core.setup.strand_kinds import READY, about_seconds
from artuline.desk.form import Form
from artuline.desk.stations.strands.commands import Commands
from artuline.desk.widgets.fields import button, buttons, faint, row, rule, section, short
from artuline.desk.widgets.label import Label

SHOWN = 12  # strands of a scene that are listed
LISTED = 6  # points up to which all are listed


def fill(d: Form, c: Commands) -> None:
    """What is drawn, or the strand in hand."""
    if c.drawn is not None:
        _drawing(d, c)
        return
    f = c.figure()
    _new(d, c, f)
    if f is not None and f.made is not None:
        _strand(d, c, f, f.made)
        if d.fold("Held", _held_words(f.made), True):
            _held(d, c, f, f.made)
        if d.fold("Springs", f"{f.made.bend:g} Hz", False):
            _springs(d, c, f, f.made)
        if d.fold("Start", "hangs" if f.made.hangs else ("enters" if f.enters is not None else "as drawn"), False):
            _start(d, c, f, f.made)
    if c.skins() and d.fold("Skin", f"{sum(x.skin for x in c.skins())} of {len(c.skins())}", f is not None):
        _skins(d, c)
    if f is not None:
        seconds = about_seconds(d.session.scene)
        if seconds > 5.0:
            d.add(faint(f"A run takes about {_time(seconds)}."))
        d.add(d.act("run", primary=True))


def _time(seconds: float) -> str:
    return f"{seconds:.0f} seconds" if seconds < 90.0 else f"{seconds / 60.0:.0f} minutes"


def _drawing(d: Form, c: Commands) -> None:
    """While points are clicked."""
    assert c.drawn is not None
    d.add(section(f"Drawing a {c.kind}"))
    n = len(c.drawn)
    d.add(faint("Click where it runs. On a figure, a thing or an obstacle it is held at its ends." if n < 2 else
                f"{n} points. Go on, or end it: Return."))  # fmt: skip
    d.add(d.act("end strand", primary=n > 1))
    d.add(buttons(("Close it", partial(c.end, True), "Ends it as a loop"),
                  ("Take back", c.take_back, "Takes the last point away (Backspace)")))  # fmt: skip
    d.add(button("Give up", c.cancel, tip="Draws nothing (Esc)"))


def _new(d: Form, c: Commands, f: Figure | None) -> None:
    """A new one, and those that there are."""
    if f is None:
        d.add(
            faint(
                "A line over a shoulder, a cable, a tail, floats on a string: lines of small bodies that hang, lie and pile up."
            )
        )

    def choose(kind: str) -> None:
        c.kind = kind
        d.desk.refill.emit(False)

    d.choice("As a", list(READY), c.kind, choose, READY[c.kind][0] + ".")
    d.add(d.act("draw strand", f"Draw a {c.kind}" if c.kind != "beads" else "Draw beads", primary=f is None))
    d.add(buttons(("Around a bone", c.ring, "A ring around the chosen bone, off its skin: a collar, a belt"),
                  ("Along bones", c.along, "Along the chosen bones, its first part on the bone above: a tail, a plait")))  # fmt: skip
    found = c.all()
    for x in found[:SHOWN] if len(found) > 1 else ():
        d.add(row(x.name, Label("in hand" if x is f else f"{len(x.bones)} parts"),
                  button("Show", partial(c.take, x.id), name=f"Show {x.name}", tip="Takes it in hand")))  # fmt: skip
    if len(found) > SHOWN:
        d.add(faint(f"And {len(found) - SHOWN} more: choose them in the tree."))


def _strand(d: Form, c: Commands, f: Figure, r: Strand) -> None:
    """Number, size and weight."""
    d.add(rule(), section(f.name))
    course = course_of(r, d.session.scene.gravity)
    length = length_of(course.ends)

    def put(s: Scene, **values: object) -> Scene:
        return c.remade(s, f.id, **values)

    def count_of(v: float) -> int:
        return min(max(round(v), 4 if r.closed else 2), 1000)

    d.add(row("Length", Label(f"{length:.2f} m")))
    d.plain_number("Parts", r.count, "", lambda v: c.change("Number of parts", count=count_of(v)), step=0.2, decimals=0, low=4 if r.closed else 2, high=1000,
                   tip="Bodies in a line. It hangs and swings the same with any number.")  # fmt: skip
    if r.kind == "beads":
        d.plain_number("Gap", max(1000.0 * (length / r.count - 2.0 * r.radius), 0.0), "mm",
                       lambda v: c.change("Gap of beads", count=count_of(length / (2.0 * r.radius + v / 1000.0))), step=0.2, decimals=1, low=0,
                       high=1000, tip="From bead to bead: changes how many there are.")  # fmt: skip
    else:
        d.plain_number("Spacing", 1000.0 * length / r.count, "mm",
                       lambda v: c.change("Spacing of parts", count=count_of(length / max(v / 1000.0, 1e-4))), step=0.5, decimals=1, low=0.5,
                       high=10000, tip="The length of a part: changes how many there are.")  # fmt: skip
    d.number("Radius", 1000.0 * r.radius, "mm", lambda s, v: put(s, radius=v / 1000.0, reach=r.reach * v / 1000.0 / r.radius),
             words="Radius of the strand", step=0.1, decimals=1, low=0.2, high=2000, tip="How thick it is drawn; what it touches with goes along.")  # fmt: skip
    d.number("Touches at", 1000.0 * r.reach, "mm", lambda s, v: put(s, reach=v / 1000.0), words="Radius for collision", step=0.1, decimals=1,
             low=0.2, high=2000, reset=1000.0 * r.radius, tip="Its radius for collision, apart from the one that is drawn.")  # fmt: skip
    if r.kind == "beads":
        each = r.weight * length / r.count
        d.number("A bead weighs", 1000.0 * each, "g", lambda s, v: put(s, weight=v / 1000.0 * r.count / length), words="Weight of a bead", step=0.2,
                 decimals=1, low=0.01, high=1e6, tip="The mass of every bead.")  # fmt: skip
    else:
        d.number("Weight", r.weight, "kg/m", lambda s, v: put(s, weight=v), words="Weight of the strand", step=0.01, decimals=3, low=1e-4, high=1e4,
                 tip="Mass of a metre of it.")  # fmt: skip
    d.number("Slack", 100.0 * r.slack, "%", lambda s, v: put(s, slack=v / 100.0), words="Slack", step=0.2, decimals=1, low=0, high=400, reset=0,
             tip="How much longer it is than the line that it was drawn in.")  # fmt: skip
    hand = edits_by_hand(d.session.scene, f)
    if hand:
        names = sorted({id_ for _, id_ in hand})
        d.add(
            faint(
                f"Changed by hand, and kept: {', '.join(short(n, 14) for n in names[:3])}{' …' if len(names) > 3 else ''}"
            )
        )


def _held_words(r: Strand) -> str:
    held = sum(p.hold != "free" for p in r.points)
    return f"at {held} of {len(r.points)}" if held else "by nothing"


def _held(d: Form, c: Commands, f: Figure, r: Strand) -> None:
    """Its points, and what holds each."""
    listed = [k for k, p in enumerate(r.points) if p.hold != "free" or k == c.point or len(r.points) <= LISTED]
    for k in listed:
        p = r.points[k]
        on = short(p.bone, 14) if p.hold == "mounted" else {"free": "free", "pinned": "the world"}[p.hold]
        d.add(row(f"Point {k + 1}" + (" •" if k == c.point else ""), Label(on),
                  button("Show", partial(c.take, f.id, k), name=f"Show point {k + 1}", tip="Takes it in hand")))  # fmt: skip
    if len(listed) < len(r.points):
        d.add(faint(f"And {len(r.points) - len(listed)} free points between them: click one on the stage."))
    d.add(buttons(("Add a point", c.add_point, "A point more, behind the one in hand"),
                  ("Remove it", c.remove_point, "Takes the point in hand out of the line")))  # fmt: skip
    if not 0 <= c.point < len(r.points):
        d.add(faint("Click a point to hold or free it; drag it to move it."))
    else:
        _point(d, c, r, c.point, r.points[c.point])
    if c.frame() != r.frame:
        d.add(button(f"To frame {r.frame:g}, where it was drawn", c.go_to_drawn, tip="Its points can be moved there"))


def _point(d: Form, c: Commands, r: Strand, k: int, p: StrandPoint) -> None:
    """The point in hand."""
    d.choice(f"Point {k + 1} held by", ["free", "pinned", "mounted"], p.hold, partial(c.hold, k),
             "Free; pinned to its place in the world; or mounted on the nearest bone, thing or obstacle.")  # fmt: skip
    if p.hold == "mounted":
        d.add(row("By", Label(f"{short(p.bone, 14)} of {short(p.figure, 12)}")))
    chosen = c.chosen_bone()
    if chosen is not None and chosen != (p.figure, p.bone):
        d.add(button(f"Hold it by {short(chosen[1], 16)}", c.hold_by_chosen, tip="By the bone that is chosen"))
    elif p.hold == "mounted":
        d.add(faint("For another bone, click that bone: this point stays in hand."))
    if p.hold == "free":
        return
    s = d.session.scene
    first = float(s.start) if p.start is None else p.start
    last = float(s.end) if p.stop is None else p.stop
    d.plain_number("From frame", first, "", lambda v: c.change_point(k, "When it is held", start=float(round(v))), step=0.5, decimals=0, low=-1e6,
                   high=last - 1.0, tip="It is held from this frame on.")  # fmt: skip
    d.plain_number("Until frame", last, "", lambda v: c.change_point(k, "When it is held", stop=float(round(v))), step=0.5, decimals=0,
                   low=first + 1.0, high=1e6, tip="From this frame on it is not held any more.")  # fmt: skip


def _springs(d: Form, c: Commands, f: Figure, r: Strand) -> None:
    """How firm it is."""

    def put(s: Scene, **values: object) -> Scene:
        return c.remade(s, f.id, **values)

    for label, name, tip in (
        (
            "Bend",
            "bend",
            "How often a second a metre of it would swing, straight and held at one end, without gravity. 0: limp.",
        ),
        ("Twist", "twist", "How firm it is against being twisted, in the same measure as bending."),
        ("Stretch", "stretch", "How often a second a metre would swing lengthwise. 0: it does not stretch."),
    ):

        def one(s: Scene, v: float, name: str = name) -> Scene:
            return put(s, **{name: v})

        d.number(
            label,
            getattr(r, name),
            "Hz",
            one,
            words=f"{label} of the strand",
            step=0.01,
            decimals=2,
            low=0,
            high=100,
            reset=0,
            tip=tip,
        )
    d.number("Damping ratio", r.ratio, "", lambda s, v: put(s, ratio=v), words="Damping of the strand", step=0.01, decimals=2, low=0, high=5, reset=0.5,
             tip="Of its bending: 1 does not swing back.")  # fmt: skip
    d.choice("Pulls back to", ["straight", "drawn"], r.rest, lambda v: c.change("Rest of the strand", rest=v),
             "Being straight, or the line as it was drawn.")  # fmt: skip
    d.number("Air", r.air, "1/s", lambda s, v: put(s, air=v), words="Air on the strand", step=0.01, decimals=2, low=0, high=50, reset=0.3,
             tip="What the air takes of its speed.")  # fmt: skip
    d.number("Friction", r.friction, "", lambda s, v: put(s, friction=v), words="Friction of the strand", step=0.01, decimals=2, low=0, high=5, reset=0.5,
             tip="How hard it is to slide along it.")  # fmt: skip
    d.number("Lies flat", r.rolling, "", lambda s, v: put(s, rolling=v), words="Rolling of the strand", step=0.01, decimals=2, low=0, high=1, reset=0.0,
             tip="Share of its radius on which it lies, so that it does not roll: 0 rolls freely.")  # fmt: skip


def _start(d: Form, c: Commands, f: Figure, r: Strand) -> None:
    """How it begins, and many of it."""
    d.toggle("Hang first", r.hangs, lambda on: c.change("Hang first", hangs=on),
             "It begins as it hangs by what holds it, without touching anything, instead of as it was drawn.")  # fmt: skip
    s = d.session.scene
    d.number("Warm-up", s.warm_up, "frames", lambda x, v: edit.scene(x, warm_up=round(v)), words="Warm-up", step=1, decimals=0, low=0, high=10000, reset=0,
             tip="Frames that are simulated before the first one, so that it lies and hangs as it does in the end.")  # fmt: skip
    d.add(rule(), section("Release many"))
    for k, (label, unit, low, high, decimals, tip) in enumerate((
        ("How many", "", 1, 400, 0, "The same strand as often as that."),
        ("From frame", "", -1e6, 1e6, 0, "The first is let go there; before, it is not there."),
        ("Frames apart", "", 1, 1e6, 0, "From one to the next."),
        ("Scattered by", "m", 0, 100, 2, "How far each is moved and turned, by chance."),
        ("Seed", "", 0, 1e6, 0, "Another number scatters otherwise, the same one the same."),
    )):  # fmt: skip

        def put(v: float, k: int = k) -> None:
            c.release[k] = v

        d.plain_number(label, c.release[k], unit, put, step=0.2, decimals=decimals, low=low, high=high, tip=tip)
    parts = int(c.release[0]) * r.count
    now = sum(len(x.bodies) for x in s.cast)
    more = about_seconds(s) * (1.0 + (parts - r.count) / max(now, 1))
    d.add(faint(f"{parts} parts: a run would take about {_time(more)}."))
    d.add(
        button(
            "Release them",
            c.release_now,
            icon="dots-vertical",
            tip="Makes them, with colours by turns; one undo takes all back",
        )
    )


def _skins(d: Form, c: Commands) -> None:
    """Whose skin strands touch."""
    for f in c.skins():
        d.toggle(short(f.name, 18), f.skin, partial(c.set_skin, f.id),
                 "Strands lie on its skin as one sees it; else on the shapes of its bodies.")  # fmt: skip
        if f.skin and not f.bodies:
            d.add(faint(f"{f.name} has no bodies, which carry the skin: fit some in Bodies."))
