"""Details of Cast: figures, their size and unit, mirror pairs, motion and range."""

import math
from functools import partial

from artuline.core.motion.frame_grid import RATES
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.scene import edit
from artuline.core.scene.model import MOST_FRAME, Figure, Scene
from artuline.core.setup.mirror import mirror_pairs
from artuline.core.setup.tilt import lies
from artuline.core.setup.units import UNITS, likely_unit, unit_name
from artuline.desk.form import Form
from artuline.desk.stations.cast import gaits, many
from artuline.desk.stations.cast.commands import Commands
from artuline.desk.widgets.fields import Choice, Words, button, faint, narrow, row, rule, section, short
from artuline.desk.widgets.label import Label
from artuline.formats.gltf_read import figure_size
from artuline.view.stage import mesh_of

PERSON = 1.75  # metres


def fill(d: Form, w: Commands, f: Figure) -> None:
    """The figures of the scene, then the present one."""
    s = d.session
    cast = [x for x in s.scene.figures if not x.obstacle and (x.like is None or x.id == f.id)]
    if len(cast) > 1:
        d.add(section("Figures"))
        for other in cast:
            size = figure_size(other, mesh_of(other, s.assets)) * other.unit
            mark = "▸ " if other.id == f.id else ""
            d.add(row(f"{mark}{other.name}", Label(f"{size:.2f} m"),
                      button("Show", partial(s.select, other.id, frozenset()), name=f"Show {other.name}",
                             tip="Makes it the one that the details are about")))  # fmt: skip
        d.add(rule())
    mesh = mesh_of(f, s.assets)
    size = figure_size(f, mesh) * f.unit
    bones = sum(b.deforms for b in f.bones)
    triangles = len(mesh.triangles) if mesh else 0
    d.add(section("Figure"), row("Name", Words(f.name)), row("File", Words(f.source or "made here")))
    d.add(
        row("Bones", Label(f"{bones}")),
        row("Triangles", Label(f"{triangles:,}".replace(",", "\u202f"))),
    )
    d.add(row("", button("Place again", w.place_again, icon="content-copy", tip="Adds the same figure once more, beside this one."),
              button("Remove", w.remove_figure, icon="close", tip="Takes the figure out of the scene.")))  # fmt: skip
    d.add(rule(), section("Size"))
    d.add(row("Longest side", Label(f"{size:.2f} m")))
    _unit(d, w, f, size)
    _stands(d, f)
    d.add(rule(), section("Left and right"))
    _pairs(d, w, f)
    d.add(rule(), section("Motion"))
    _motion(d, w, f)
    d.add(d.act("motion"))
    if f.clips and f.bodies:
        gaits.fill(d, f)
    many.fill(d, w.many, f)
    if not f.bodies:
        d.add(rule(), faint("Next: give the figure bodies and joints."))
        d.add(d.act("fit", primary=True))
    else:
        d.next("Bodies", "look at the shapes")


def _stands(d: Form, f: Figure) -> None:
    """Where the figure is in the scene."""
    if f.track.frames:
        d.add(faint(f"Its place is keyed, at {len(f.track.frames)} frames."))
        return
    for i, label in ((0, "Across"), (2, "Along")):
        d.number(
            label,
            f.position[i],
            "m",
            partial(_place, f.id, i),
            words="Move the figure",
            step=0.01,
            decimals=2,
            reset=0,
            tip="Where it stands in the scene.",
        )
    d.number("Turned", math.degrees(f.turn), "°", lambda sc, v: edit.figure(sc, f.id, turn=math.radians(v)),
             words="Turn the figure", step=0.5, reset=0, tip="About the upright axis.")  # fmt: skip


def _place(figure: str, axis: int, s: Scene, v: float) -> Scene:
    place = list(s.figure(figure).position)
    place[axis] = v
    return edit.figure(s, figure, position=tuple(place))


def _unit(d: Form, w: Commands, f: Figure, size: float) -> None:
    box = Choice()
    for value, name in UNITS.items():
        box.addItem(name, value)
    at = next((i for i, v in enumerate(UNITS) if math.isclose(v, f.unit)), -1)
    if at < 0:
        box.addItem(unit_name(f.unit), f.unit)
        at = box.count() - 1
    box.setCurrentIndex(at)
    box.activated.connect(lambda i: d.edit("Change the unit", lambda sc: edit.figure(sc, f.id, unit=box.itemData(i))))
    d.add(row("File unit", box, tip="What one unit of the file means. Physics always runs in metres."))
    if lies(f, rest_matrices(f)[:, :3, 3]):
        d.add(faint("It lies: perhaps another axis is upwards in its file."), d.act("tip"))
    if 0.15 <= size <= 8.0:
        d.add(faint(f"The outline beside it is a person of {PERSON:g} m: this is {size / PERSON:.2f} times that."))
        return
    d.add(faint("That is an unlikely size beside a person of 1.75 m."))
    unit = likely_unit(size / f.unit)
    if unit != f.unit:
        d.add(
            button(
                f"Read it as {unit_name(unit)}",
                lambda: d.edit("Change the unit", lambda sc: edit.figure(sc, f.id, unit=unit)),
                icon="ruler",
                primary=True,
                tip="Takes the numbers of the file in this unit",
            )
        )


def _pairs(d: Form, w: Commands, f: Figure) -> None:
    pairs = mirror_pairs(f)
    count = len(pairs) // 2
    d.add(
        row("Pairs", Label(str(count)), tip="Found by name, else by place in the rest pose; brass lines on the stage.")
    )
    chosen = sorted(d.session.selection.bones) if d.session.selection.figure == f.id else []
    if len(chosen) == 2:
        a, b = chosen
        if pairs.get(a) == b:
            d.add(faint(f"{a} and {b} are a pair."))
            d.add(
                button(
                    "They are no pair",
                    lambda: _set_pairs(d, w, f, ((a, a), (b, b))),
                    icon="link-off",
                    tip="Edits of one no longer go to the other",
                )
            )
        else:
            d.add(
                button(
                    f"Pair {short(a, 12)} with {short(b, 12)}",
                    lambda: _set_pairs(d, w, f, ((a, b),)),
                    icon="link",
                    tip=f"Edits of {a} then go to {b} as well, and back",
                )
            )
    elif len(chosen) == 1 and chosen[0] in pairs:
        d.add(faint(f"{chosen[0]} is paired with {pairs[chosen[0]]}."))
    else:
        d.add(faint("Click two bones (Shift for the second) to make or correct a pair."))


def _set_pairs(d: Form, w: Commands, f: Figure, pairs: tuple[tuple[str, str], ...]) -> None:
    touched = {name for pair in pairs for name in pair}
    kept = tuple(p for p in f.mirror if not touched & set(p))
    d.edit("Set a mirror pair", lambda sc: edit.figure(sc, f.id, mirror=(*kept, *pairs)))


def _motion(d: Form, w: Commands, f: Figure) -> None:
    s = d.session
    clips = Choice()
    clips.setAccessibleName("Clip")
    clips.addItem("rest pose", None)
    for c in f.clips:
        clips.addItem(c.name, c.name)
    clips.setCurrentIndex(0 if f.clip is None else 1 + [c.name for c in f.clips].index(f.clip))
    clips.activated.connect(lambda i: w.choose_clip(f.id, clips.itemData(i)))
    narrow(clips)
    d.add(row("Clip", clips, tip="What the figure plays; the scene's rate and range follow it."))
    clip = f.active_clip()
    if clip is not None:
        d.toggle("Loop", clip.loop, lambda on: d.edit("Loop the clip", lambda sc: _set_loop(sc, f, clip.name, on)),
                 "Plays it again and again; one that travels travels on")  # fmt: skip
        d.add(row("Length", Label(f"{clip.duration:.2f} s")))
        rates = Choice()
        rates.setAccessibleName("Frames a second of the clip")
        for rate in sorted({*RATES, clip.rate}):
            rates.addItem(f"{rate:.6g} per second", rate)
        rates.setCurrentIndex(rates.findData(clip.rate))
        rates.activated.connect(lambda i: w.set_clip_rate(f.id, clip.name, rates.itemData(i)))
        narrow(rates)
        d.add(
            row(
                "Its frames",
                rates,
                tip="On which frames its keys lie, as far as they tell; the scene follows its only figure.",
            )
        )
    d.number("Begins at frame", f.clip_start, "", lambda sc, v: edit.figure(sc, f.id, clip_start=float(round(v))),
             words="Move the clip", step=1, decimals=0, reset=0, tip="Frame of the scene at which the clip begins.")  # fmt: skip
    d.number("First frame", s.scene.start, "", lambda sc, v: edit.scene(sc, start=round(v)),
             words="Change the range", step=1, decimals=0, low=-MOST_FRAME, high=s.scene.end - 1,
             tip="Where the range begins; before the last frame.")  # fmt: skip
    d.number("Last frame", s.scene.end, "", lambda sc, v: edit.scene(sc, end=round(v)),
             words="Change the range", step=1, decimals=0, low=s.scene.start + 1, high=MOST_FRAME,
             tip="Where the range ends; after the first frame.")  # fmt: skip
    d.number("Frame rate", s.scene.rate, "per s", lambda sc, v: edit.scene(sc, rate=v),
             words="Change the frame rate", step=1, decimals=0 if float(s.scene.rate).is_integer() else 3, low=1, high=240, reset=24,
             tip="A clip with another rate is resampled; the checks say so.")  # fmt: skip


def _set_loop(s: Scene, f: Figure, name: str, on: bool) -> Scene:
    clips = tuple(c.changed(loop=on) if c.name == name else c for c in f.clips)
    return edit.figure(s, f.id, clips=clips)
