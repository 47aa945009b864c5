"""Details of Props: the things, the parts of the one in hand, how they hang together, and who holds it when."""

import math
from functools import partial

from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QWidget

from artuline.core.scene import edit
from artuline.core.scene.model import Body, Figure, Joint, Mount, Scene
from artuline.core.setup.grip import WAYS, Way
from artuline.core.setup.materials import MATERIALS, body_mass, material_of
from artuline.core.setup.thing_shapes import KINDS
from artuline.core.setup.things import SIMPLE
from artuline.desk import theme
from artuline.desk.form import Form
from artuline.desk.model.plain import tip as plain_tip
from artuline.desk.stations.props.commands import Commands
from artuline.desk.stations.props.pictures import SIZE, way_picture
from artuline.desk.widgets.fields import button, buttons, faint, row, rule, section, short
from artuline.desk.widgets.label import Label


def fill(d: Form, c: Commands) -> None:
    """The things of the scene, then the one in hand."""
    f = c.thing()
    _things(d, c, f)
    if f is None:
        return
    holder = c.holder()
    if holder is not None:
        _offer(d, c, f, *holder)
    parts = c.parts()
    if len(parts) == 1:
        _part(d, c, f, parts[0])
    elif len(parts) > 1:
        _several(d, c, f, parts)
    if holder is None and not parts:
        _whole(d, c, f)
    if d.fold("Parts", str(len(f.bones)), not parts and holder is None and len(f.bones) > 1):
        _parts(d, c, f)
    if d.fold("Held", _held_words(c, f), not parts):
        _held(d, c, f)
    if f.mounts:
        d.add(d.act("run", primary=holder is None))


def _things(d: Form, c: Commands, f: Figure | None) -> None:
    found = c.things()
    if not found:
        d.add(
            faint("A pail, a lamp, a line: bring in what is held, from a file of meshes, or make it of plain shapes.")
        )
    for x in found if len(found) > 1 else ():
        state = "in hand" if x is f else ("held" if x.mounts else "stands")
        d.add(
            row(
                x.name,
                Label(state),
                button("Show", partial(c.take, x.id), name=f"Show {x.name}", tip="Takes it in hand"),
            )
        )
    d.add(d.act("thing", primary=not found))
    d.choice("Or make a", ["…", *SIMPLE], "…", lambda n: c.make(n) if n != "…" else None, "A thing of one plain shape.")


def _offer(d: Form, c: Commands, f: Figure, holder: Figure, bone: str) -> None:
    """A bone is chosen: it may hold the thing."""
    d.add(rule(), section(f"{short(bone, 16)} of {short(holder.name, 14)}"))
    before = c.mount()
    passed = before is not None and (before.figure, before.reach or before.bone) != (holder.id, bone)
    words = f"Pass {short(f.name, 14)} on to it" if passed else f"Hold {short(f.name, 16)} in it"
    d.add(button(words, c.mount_here, icon="hand-back-right-outline", primary=True,
                 tip="By its grip, from the start; what is held already is passed on as it is, from this frame on"))  # fmt: skip
    d.add(button("Take it up as it lies", c.take_up_here, tip="From this frame on, without moving it into a grip"))


def _whole(d: Form, c: Commands, f: Figure) -> None:
    """Size, weight, and that it lies wrong."""
    d.add(rule(), section(f.name))
    size, mass = c.size(f), sum(body_mass(b) for b in f.bodies)
    d.number("Longest side", size, "m", lambda s, v: c.resize(s, f.id, v, size), words=f"Size of {f.name}", step=0.005, decimals=3,
             low=0.005, high=50.0, tip="Makes the whole thing as large as that, with its shapes.")  # fmt: skip
    d.add(buttons(("÷ 10", partial(c.scale, 0.1), "It was read in too large a unit"),
                  ("× 10", partial(c.scale, 10.0), "It was read in too small a unit"),
                  ("Upright", c.turn_upright, "For files in which z points up: turns it, and fits its shapes again")))  # fmt: skip
    d.add(button("Another mesh…", c.ask_mesh, tip="Shows it as the mesh of a file; its shapes, hinges and grips stay"))
    if f.bodies:
        d.add(row("Weighs", Label(f"{mass:.2f} kg")))
    if not f.mounts:
        d.add(faint("Next: click the hand, or the bone, that shall hold it."))


def _parts(d: Form, c: Commands, f: Figure) -> None:
    """All parts, and one more."""
    bone = {b.id: b.bone for b in f.bodies}
    for b in f.bones:
        body = f.body_of.get(b.name)
        joint = f.joint_of.get(body.id) if body is not None else None
        words = f"on {short(bone[joint.parent], 12)}" if joint is not None else ("loose" if len(f.bones) > 1 else "")
        d.add(row(b.name, Label(words), button("Show", partial(c.take, f.id, b.name), name=f"Show {b.name}",
                                                tip="Chooses this part")))  # fmt: skip
    d.choice(
        "Add a",
        ["…", *SIMPLE],
        "…",
        lambda n: c.add_part(n) if n != "…" else None,
        "A part of a plain shape, above the others.",
    )
    d.add(faint("Click parts on the stage; with Shift several, to join them or to hang one on the other."))


def _part(d: Form, c: Commands, f: Figure, part: str) -> None:
    """One part: its name, shape, weight, and what it hangs on."""
    d.add(rule(), section(part))
    name = QLineEdit(part)
    name.editingFinished.connect(lambda: c.rename(part, name.text().strip()))
    d.add(row("Name", name, tip="What the part is called."))
    body = f.body_of.get(part)
    d.choice("Shape", list(KINDS), _kind(body), lambda k: c.shape(part, k),
             "Tube: capsules along a ring or bail, whose hole stays. Hull group: several hulls, a vessel keeps its inside.")  # fmt: skip
    d.add(buttons(("Split", c.split_part, "Divides it into what is loose"),
                  ("Cut…" if not c.cutting else "Cut: frame it", partial(c.set_cutting, not c.cutting),
                   "Then draw a frame with Ctrl: what is in it becomes a part of its own")))  # fmt: skip
    if body is not None:
        _weight(d, f, body)
    others = [b.name for b in f.bones if b.name != part and b.name in f.body_of]
    joint = c.joint()
    if others and body is not None:
        bone = {b.id: b.bone for b in f.bodies}
        now = bone[joint.parent] if joint is not None else "nothing"
        d.choice("Hangs on", ["nothing", *others], now, lambda n: c.hang(part, None if n == "nothing" else n),
                 "The hinge is found from the places where the two meet.")  # fmt: skip
    if joint is not None:
        _hinge(d, c, f, joint)


def _kind(body: Body | None) -> str:
    """The kind of a body's shapes in a word of ``KINDS``."""
    if body is None or not body.shapes:
        return "best"
    kinds = {s.kind for s in body.shapes}
    if len(body.shapes) > 1:
        return "tube" if kinds == {"capsule"} else "hull group"
    return body.shapes[0].kind


def _weight(d: Form, f: Figure, body: Body) -> None:
    """Mass, by itself or by a material; friction."""

    def change(s: Scene, **values: object) -> Scene:
        return edit.bodies(s, f.id, {body.id}, lambda b: b.changed(**values))

    mass = body_mass(body)
    if mass > 0.0:
        d.number("Mass", mass, "kg", lambda s, v: change(s, mass=v), words="Change the mass", step=0.02, decimals=2, low=1e-3, high=1e5,
                 tip="Its own, whatever it is made of.")  # fmt: skip
    names = [m.name for m in MATERIALS]
    now = material_of(body.density) if body.mass is None else ""
    density = {m.name: m.density for m in MATERIALS}
    d.choice("Made of", [*([] if now in names else ["by its mass"]), *names], now or "by its mass",
             lambda n: d.edit("Change the material", lambda s: change(s, density=density[n], mass=None)) if n in density else None,
             "Solid: its mass is that of its shapes.")  # fmt: skip
    d.number("Friction", body.friction, "", lambda s, v: change(s, friction=v), words="Change friction", step=0.01, decimals=2, low=0,
             high=5, reset=0.6, tip="How hard it is to slide along it.")  # fmt: skip


def _hinge(d: Form, c: Commands, f: Figure, joint: Joint) -> None:
    """The hinge of a part: its range and how it moves."""

    def change(s: Scene, **values: object) -> Scene:
        return edit.joints(s, f.id, {joint.id}, lambda j: j.changed(**values))

    if joint.kind != "hinge":
        d.add(faint(f"Its joint is of the kind {joint.kind}: change it in Joints."))
        return
    low, high = joint.twist
    d.number("Turns from", math.degrees(low), "°", lambda s, v: change(s, twist=(math.radians(v), max(math.radians(v), high))),
             words="Range of the hinge", step=1, low=-180, high=180, tip="Against how it is at rest.")  # fmt: skip
    d.number("to", math.degrees(high), "°", lambda s, v: change(s, twist=(min(low, math.radians(v)), math.radians(v))),
             words="Range of the hinge", step=1, low=-180, high=180, tip="Against how it is at rest.")  # fmt: skip
    for label, name, unit, high_, tip in (
        ("Pin friction", "friction", "N m", 1e4, "Torque that holds it where it is."),
        ("Damping", "damping", "1/s", 100.0, "How soon it stops to swing."),
        ("Spring back", "spring_frequency", "Hz", 50.0, "Pulls it back to how it is at rest; 0: not at all."),
        ("Bounce at its ends", "bounce", "", 1.0, "Share of its speed that an end gives back."),
    ):

        def put(s: Scene, v: float, name: str = name) -> Scene:
            return change(s, **{name: v})

        d.number(
            label,
            getattr(joint, name),
            unit,
            put,
            words=f"Change {label.lower()}",
            step=0.01,
            decimals=2,
            low=0,
            high=high_,
            tip=tip,
        )
    d.add(buttons(("Next axis", c.next_axis, "Turns the pin a quarter: the next of three axes"),
                  ("Unhang", c.remove_hinge, "Takes the hinge away")))  # fmt: skip
    d.add(faint("Drag the square to move the pin, the rings to turn it."))


def _several(d: Form, c: Commands, f: Figure, parts: list[str]) -> None:
    d.add(rule(), section(f"{len(parts)} parts"))
    d.add(button("Join them", c.join_parts, icon="call-merge", tip="Makes one part of them"))
    if len(parts) == 2 and all(p in f.body_of for p in parts):
        for a, b in (parts, parts[::-1]):
            d.add(button(f"Hang {short(a, 12)} on {short(b, 12)}", partial(c.hang, a, b),
                         tip="By a hinge that is found from the places where they meet"))  # fmt: skip


def _held_words(c: Commands, f: Figure) -> str:
    m = c.mount()
    if m is not None:
        return f"in {short(m.reach or m.bone, 14)}"
    return f"{len(f.mounts)} times" if f.mounts else "by nothing"


def _held(d: Form, c: Commands, f: Figure) -> None:
    """Ways to carry it, and who holds it from when to when."""
    now = c.mount()
    if now is not None:
        d.add(_ways(c, now))
        d.add(d.act("let go"))
        if len(f.mounts) == 1:
            d.add(d.act("ways"))
    elif not f.mounts:
        d.add(faint("Click the hand, or the bone, that shall hold it. In the tree or on the stage."))
    for m in f.mounts:
        _mount(d, c, f, m)


def _ways(c: Commands, now: Mount) -> QWidget:
    """A picture of each way."""
    box = QWidget()
    layout = QHBoxLayout(box)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(theme.UNIT)
    current: Way = "hip" if now.reach is not None else ("palm" if now.hold == "swings" else "handle")
    for way, (title, tip) in WAYS.items():
        made = QPushButton()
        made.setIcon(way_picture(way))
        made.setIconSize(SIZE)
        made.setMinimumWidth(0)
        made.setStyleSheet("padding: 2px;")
        made.setCheckable(True)
        made.setChecked(way == current)
        made.setToolTip(plain_tip(f"{title}. {tip}."))
        made.setAccessibleName(title)
        made.clicked.connect(partial(c.choose_way, way))
        layout.addWidget(made, 1)
    return box


def _mount(d: Form, c: Commands, f: Figure, m: Mount) -> None:
    """One mount: where, from when to when, and whether the two touch."""
    s = d.session.scene
    holder = s.figure(m.figure)
    d.add(rule(), row(f"{short(m.reach or m.bone, 14)} of {short(holder.name, 12)}",
                      button("Remove", partial(c.remove_mount, m.id), name=f"Remove {m.id}", tip="Takes this mount away")))  # fmt: skip
    first, last = (float(s.start) if m.start is None else m.start), (float(s.end) if m.stop is None else m.stop)
    d.number("From frame", first, "", lambda x, v: c.change_mount(x, f.id, m.id, start=float(round(v))), words="When it is held", step=0.5,
             decimals=0, low=-1e6, high=last - 1.0, tip="It is held from this frame on.")  # fmt: skip
    d.number("Until frame", last, "", lambda x, v: c.change_mount(x, f.id, m.id, stop=float(round(v))), words="When it is held", step=0.5,
             decimals=0, low=first + 1.0, high=1e6, tip="From this frame on it is not held any more.")  # fmt: skip
    d.toggle("They touch each other", m.collides,
             lambda on: d.edit("Touching", lambda x: c.change_mount(x, f.id, m.id, collides=on)),
             "Off: the hand and what is next to it pass through what they hold. All else collides.")  # fmt: skip
    if not m.collides:
        d.add(faint(f"{f.name} passes through {', '.join(_apart(holder, m))}; all else collides."))


def _apart(holder: Figure, m: Mount) -> list[str]:
    """The bones of a holder whose bodies do not touch what is held."""
    carrier = holder.carrier(m.bone)
    if carrier is None:
        return ["nothing"]
    near = (
        {carrier.id}
        | {j.parent for j in holder.joints if j.child == carrier.id}
        | {j.child for j in holder.joints if j.parent == carrier.id}
    )
    return [b.bone for b in holder.bodies if b.id in near]
