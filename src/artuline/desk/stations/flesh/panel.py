"""Details of Flesh: added bones, how they reach, the brush, the springs, and the clips to look at them under."""

import math
from functools import partial

from PySide6.QtWidgets import QLineEdit

from artuline.core.scene.model import Bone, Figure
from artuline.core.setup.springy import FELT, KINDS, kind_of
from artuline.desk.form import Form
from artuline.desk.stations.flesh.commands import BRUSHES, Commands
from artuline.desk.widgets.fields import button, buttons, faint, row, rule, section

BRUSH_TIPS = {
    "add": "Gives the bone more of the skin",
    "take": "Gives skin back to the bones that it was taken from",
    "smooth": "Draws the weights to those around",
    "value": "Sets the weight that is given below",
}


def fill(d: Form, c: Commands, f: Figure) -> None:
    """What is added, and what is in hand."""
    added = [b for b in f.bones if b.flesh is not None]
    d.add(section("Added bones"))
    if f.asset is None:
        d.add(faint(f"{f.name} has no skin that a bone could carry."))
        return
    if not added:
        d.add(
            faint(
                "A belly, a cheek, a satchel: add a bone where the skeleton has none, and the skin around it follows."
            )
        )
    d.add(d.act("add flesh", "Click the skin now…" if c.adding else "Add a bone", primary=not added or c.adding))
    chosen = c.bone()
    for b in added:
        mark = "•  " if chosen is not None and b.name == chosen.name else ""
        d.add(
            buttons(
                (
                    f"{mark}{b.name}",
                    partial(d.session.select, f.id, frozenset({b.name})),
                    f"{b.name}, on {b.parent}: take it in hand",
                )
            )
        )
    d.toggle(
        "Both sides",
        c.both,
        partial(setattr, c, "both"),
        "What is added, moved, painted and removed happens on the other side too.",
    )
    d.choice("Bones a vertex", ["4", "8"], str(f.influences), lambda v: c.influences(int(v)),
             "How many bones a vertex has at most, once bones were added. Eight is smoother; not every program reads more than four.")  # fmt: skip
    if chosen is not None:
        _bone(d, c, f, chosen)
        _paint(d, c)
        _springs(d, c, f, chosen)
    if any(b.name in f.body_of for b in added):
        _clips(d, c, f)
        d.next("Blend", "let it wobble in a scene")


def _bone(d: Form, c: Commands, f: Figure, b: Bone) -> None:
    flesh = b.flesh
    assert flesh is not None
    d.add(rule(), section(b.name))
    name = QLineEdit(b.name)
    name.setAccessibleName("Name of the bone")
    name.editingFinished.connect(lambda: c.rename(name.text()))
    name.setEnabled(b.name not in f.body_of)
    d.add(row("Name", name, tip="What it is called; before it gets a body"))
    reach = partial(_reach, c, f.id, b.name)
    d.number("Reach", 100.0 * flesh.radius, "cm", lambda s, v: reach(s, radius=0.01 * v), words="Change the reach", step=0.1, decimals=1, low=0.2, high=300.0,
             tip="How far from the bone the skin follows. Painted weights give way to it.")  # fmt: skip
    d.choice("Measured", ["through the volume", "along the skin"], "along the skin" if flesh.by == "surface" else "through the volume",
             lambda v: d.edit("How reach is measured", lambda s: reach(s, by="surface" if v == "along the skin" else "volume")),
             "Along the skin it stays on its own part, such as a satchel or one cheek.")  # fmt: skip
    d.choice("Falls off", ["smooth", "dome", "linear"], flesh.profile, lambda v: d.edit("How it falls off", lambda s: reach(s, profile=v)),
             "Smooth at both ends; a dome that is full far out; or evenly.")  # fmt: skip
    d.number("Strength", flesh.strength, "", lambda s, v: reach(s, strength=v), words="Change the strength", step=0.01, decimals=2, low=0.0, high=1.0, reset=1.0,
             tip="How much of the skin at its middle is its own.")  # fmt: skip
    if flesh.painted:
        d.add(faint("Its weights were painted."))
    d.add(button("Remove the bone", c.remove, icon="close", tip="Its weights go back to where they came from (Delete)"))


def _reach(c: Commands, figure: str, bone: str, s, **values):  # type: ignore[no-untyped-def]
    return c.reach(s, figure, bone, **values)


def _paint(d: Form, c: Commands) -> None:
    if not d.fold("Paint the weights", c.brush, opened=bool(c.brush)):
        return
    made = []
    for b in BRUSHES:
        made.append((f"• {b}" if c.brush == b else b, partial(c.take_brush, b), BRUSH_TIPS[b]))
    d.add(buttons(*made[:2]), buttons(*made[2:]))
    d.plain_number(
        "Brush",
        100.0 * c.radius,
        "cm",
        lambda v: setattr(c, "radius", 0.01 * v),
        step=0.05,
        decimals=1,
        low=0.2,
        high=100.0,
        reset=6.0,
        tip="Radius of the brush.",
    )
    d.plain_number(
        "Pressure",
        c.strength,
        "",
        lambda v: setattr(c, "strength", v),
        step=0.01,
        decimals=2,
        low=0.01,
        high=1.0,
        reset=0.3,
        tip="How much one touch does.",
    )
    if c.brush == "value":
        d.plain_number(
            "Value",
            c.value,
            "",
            lambda v: setattr(c, "value", v),
            step=0.01,
            decimals=2,
            low=0.0,
            high=1.0,
            reset=1.0,
            tip="The weight that is painted.",
        )
    if c.brush:
        d.add(faint("Paint on the skin; a stroke is one step to undo. Lines stand at every fifth of the weight."))


def _springs(d: Form, c: Commands, f: Figure, b: Bone) -> None:
    d.add(rule(), section("Wobble"))
    body = f.body_of.get(b.name)
    joint = f.joint_of.get(body.id) if body is not None else None
    d.choice("Made of", [k.name for k in KINDS], c.kind if joint is None or b.flesh is None or not b.flesh.kind else b.flesh.kind,
             lambda v: _choose(d, c, v, joint is not None), "; ".join(f"{k.name}: {k.frequency:g} Hz ({k.source})" for k in KINDS))  # fmt: skip
    if joint is None:
        d.add(d.act("make springy", primary=True))
        return
    reach, swing = (joint.axes[0] or (0.0, 0.01))[1], (joint.axes[3] or (0.0, 0.1))[1]
    now = {"frequency": joint.spring_frequency, "ratio": joint.spring_ratio, "reach": reach, "swing": swing}

    def tune(s, **value):  # type: ignore[no-untyped-def]
        return c.tune(s, f.id, b.name, **(now | value))

    d.number("Frequency", now["frequency"], "Hz", lambda s, v: tune(s, frequency=v), words="Change the frequency", step=0.02, decimals=2, low=0.05, high=60.0,
             tip="How fast it wobbles, whatever it weighs.")  # fmt: skip
    d.number("Damping", now["ratio"], "", lambda s, v: tune(s, ratio=v), words="Change the damping", step=0.005, decimals=2, low=0.0, high=3.0,
             tip="Share of the damping at which it would not swing any more.")  # fmt: skip
    d.number("Gives way", 1000.0 * reach, "mm", lambda s, v: tune(s, reach=0.001 * v), words="Change how far it gives way", step=0.2, decimals=0, low=0.5, high=500.0,
             tip="How far it moves to every side before its limit.")  # fmt: skip
    d.number("Turns", math.degrees(swing), "°", lambda s, v: tune(s, swing=math.radians(v)), words="Change how far it turns", step=0.2, decimals=0, low=0.5, high=90.0,
             tip="How far it turns to every side before its limit.")  # fmt: skip

    group = next((g for g in f.groups if g.bones == (b.name,) and g.spring is not None), None)
    if group is not None and group.spring is not None:
        d.number("Feels gravity", group.spring.gravity, "", lambda s, v: c.heavy(s, f.id, b.name, v), words="Change the gravity felt", step=0.01, decimals=2, low=0.0, high=1.0,
                 reset=FELT, tip="Share of gravity. Skin was modelled as it hangs, so that all of it lets it sag once more.")  # fmt: skip


def _choose(d: Form, c: Commands, name: str, springy: bool) -> None:
    c.kind = kind_of(name).name
    if springy:
        c.make_springy()


def _clips(d: Form, c: Commands, f: Figure) -> None:
    d.add(rule(), section("Look at it under"))
    if not f.clips:
        d.add(faint("The figure has no clips."))
        return
    names = [x.name for x in f.clips]
    for i in range(0, len(names), 2):
        d.add(
            buttons(
                *(
                    (f"• {n}" if c.playing == n else n, partial(c.look, (n,)), f"Plays the wobble under {n}")
                    for n in names[i : i + 2]
                )
            )
        )
    if len(names) > 1:
        d.add(
            button(
                "All clips, one after the other",
                partial(c.look, tuple(names)),
                icon="playlist-play",
                tip="Simulates the wobble alone under every clip, and plays them",
            )
        )
    if c.played:
        d.add(button("Stop", c.stop, icon="stop", tip="Shows the figure as it was made (Escape)"))
