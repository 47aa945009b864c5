"""Details of Bodies: fitting, the list of fits, mass, and the shapes of what is selected."""

import math
from functools import partial

from artuline.core.physics.specs import DRAG_COEFFICIENT
from artuline.core.scene import edit
from artuline.core.scene.model import Body, Figure, Scene, Shape
from artuline.core.setup.materials import MATERIALS, body_mass, material_of
from artuline.core.setup.mirror import mirror_pairs
from artuline.core.setup.patch_fit import KINDS
from artuline.desk.bare_bones import fill_bare, fill_left_out
from artuline.desk.form import Form
from artuline.desk.stations.bodies.commands import Commands
from artuline.desk.stations.bodies.fit_list import FitList
from artuline.desk.stations.bodies.pairs import fill_pairs
from artuline.desk.widgets.fields import button, buttons, faint, row, rule, section
from artuline.desk.widgets.label import Label


def fill(d: Form, w: Commands, f: Figure) -> None:
    """All bodies first, then what is selected."""
    selected = d.session.selection.of(f.id)
    if not f.bodies:
        d.add(
            faint(
                "No bodies yet. One action gives every bone that carries enough skin a shape just under the surface, "
                "joins them, and takes the limits from the clips."
            )
        )
        d.add(d.act("fit", primary=True))
        _fit_options(d, w)
        d.add(d.act("put setup", "Put a setup on it…", tip="From a file, or one that ships."))
        return
    chosen = [b for b in f.bodies if b.bone in selected]
    bare = sorted(b for b in selected if b not in f.body_of)
    if chosen:
        _selected(d, w, f, chosen)
    elif bare:
        d.add(section(bare[0] if len(bare) == 1 else f"{len(bare)} bones"))
        fill_bare(d, f, set(bare), w.choice())
        _kinds(d, w)
    else:
        _all(d, w, f)


def _all(d: Form, w: Commands, f: Figure) -> None:
    total = sum(body_mass(b) for b in f.bodies)
    d.add(section("All bodies"))
    d.add(row("Bodies", Label(str(len(f.bodies)))), row("Total mass", Label(f"{total:.1f} kg")))
    usual, what = w.usual_mass(f)
    if usual > 0.0:
        d.add(row("Would weigh", Label(f"{usual:.1f} kg"), tip=f"As {what}."))
    d.add(
        button("Balance the masses…", w.ask_balance, icon="scale-balance",
               tip="Spreads a total: by anatomy for a person, else by volume without light bodies on heavy ones.")
    )  # fmt: skip
    d.add(rule(), section("Fit, the worst first"))
    d.add(FitList(d.session, f, w.fits(f)))
    fill_left_out(d, f, w.choice())
    d.add(faint("Click a body to change it; Shift adds, Ctrl and drag takes all in a frame."))
    fill_pairs(d, f)
    d.add(rule(), section("Fit again"))
    _fit_options(d, w)
    d.add(
        button(
            "Fit all again",
            w.set_up,
            icon="refresh",
            tip="Replaces all bodies and joints but shapes edited by hand. Undo brings them back.",
        )
    )
    d.add(
        buttons(
            ("Save setup…", partial(d.desk.act, "save setup"), "Writes bodies and joints to a file of their own"),
            ("Put setup…", partial(d.desk.act, "put setup"), "Puts bodies and joints from a file onto this figure"),
        )
    )
    d.next("Joints", "look at how they may move")


def _fit_options(d: Form, w: Commands) -> None:
    _kinds(d, w)
    share = w.fit_options.smallest
    d.plain_number("Smallest part", 100.0 * share, "% of skin", lambda v: w.set_fit_option("smallest", v / 100.0),
                   step=0.05, decimals=1, low=0.0, high=30.0, reset=1.2,
                   tip="Bones that carry less skin are merged into the bone above. 0: all that carry skin.")  # fmt: skip


def _kinds(d: Form, w: Commands) -> None:
    d.choice("Kind of shape", KINDS, w.fit_options.kind, lambda k: w.set_fit_option("kind", k),
             tip="Best: the capsule, sphere or box that follows the skin. Hull group: several hulls for concave parts; slow.")  # fmt: skip
    d.plain_number("Radius at", 100.0 * w.fit_options.radius, "% of skin", lambda v: w.set_fit_option("radius", v / 100.0),
                   step=0.5, decimals=0, low=5, high=95, reset=45,
                   tip="How much of the skin lies nearer to the axis than the surface of a capsule.")  # fmt: skip


def _selected(d: Form, w: Commands, f: Figure, chosen: list[Body]) -> None:
    ids = {b.id for b in chosen}
    first = chosen[0]
    d.add(section(first.bone if len(chosen) == 1 else f"{len(chosen)} bodies"))
    fits = [x for x in w.fits(f) if x.body in ids]
    if fits:
        worst = max(fits, key=lambda x: x.grade)
        words = f"{100 * worst.inside:.0f} % of the skin in it, {1000 * worst.proud:.0f} mm proud"
        if worst.overlap > 0:
            words += f", {1000 * worst.overlap:.0f} mm into another"
        d.add(faint(words if len(chosen) == 1 else f"Worst: {worst.body}, {words}"))
    if any(b.bone in mirror_pairs(f) for b in chosen):
        d.toggle(
            "Both sides at once", d.desk.sides.both, d.desk.sides.set_both, tip="Edits are mirrored to the other side."
        )
    if len(chosen) == 1:
        _shapes(d, w, f, first)
    d.add(
        buttons(
            ("Smaller", partial(w.grow_shapes, 1 / 1.05), "Five per cent smaller, about their middles"),
            ("Larger", partial(w.grow_shapes, 1.05), "Five per cent larger, about their middles"),
        )
    )
    d.add(rule(), section("Fit again"))
    _kinds(d, w)
    d.add(
        buttons(
            ("Fit", w.fit_selected, "Fits the chosen shapes to their skin, of the kind above"),
            ("Another shape", w.add_shape, "Adds a shape to the body, beside the first"),
        )
    )
    fill_pairs(d, f)
    d.add(rule(), section("Mass"))
    _mass(d, w, f, chosen, ids)
    d.add(rule(), section("Surface"))
    for label, field, high, reset, tip in (
        ("Friction", "friction", 5, 0.6, "How hard it is to slide along other things."),
        (
            "Rolling",
            "rolling",
            1,
            0.0,
            "How hard it is to roll, for round shapes: the slope, rise by run, on which it still lies.",
        ),
        ("Bounce", "restitution", 1, 0.05, "Share of the speed that comes back from a hit."),
        ("Air drag", "drag", 50, 0.0, "Share of its speed lost every second."),
        ("Spin drag", "spin_drag", 50, 0.0, "Share of its spin lost every second."),
    ):
        unit = "1/s" if "drag" in field else ""
        d.number(label, getattr(first, field), unit, partial(_set, w, f, ids, field), words=f"Change {label.lower()}",
                 step=0.01, decimals=2, low=0, high=high, reset=reset, tip=tip)  # fmt: skip
    _air(d, w, f, first, ids)
    d.add(rule(), section("Carry over"))
    d.add(
        buttons(
            ("Copy", w.copy_body, "Remembers shapes and values of this body"),
            ("Paste values", w.paste_values, "Gives the chosen bodies the copied mass and surface"),
            ("Paste shape", w.paste_shape, "Gives the chosen bodies the copied shapes"),
        )
    )
    d.add(
        buttons(
            ("To the other side", w.mirror_selected, "Carries shapes and values over to the other side"),
            ("Remove", w.remove_bodies, "Takes the bodies away; what hung on them hangs on the next above (Delete)"),
        )
    )


def _set(w: Commands, f: Figure, ids: set[str], field: str, sc: Scene, v: object) -> Scene:
    changed = edit.bodies(sc, f.id, ids, lambda b: b.changed(**{field: v}))
    return w.desk.sides.bodies(changed, f.id, ids)


def _air(d: Form, w: Commands, f: Figure, first: Body, ids: set[str]) -> None:
    """How its shape meets the air: as its kind does, or as is said."""
    kind = first.shapes[0].kind if first.shapes else "hull"
    usual, own = DRAG_COEFFICIENT.get(kind, 1.0), first.drag_coefficient
    d.toggle("Own drag coefficient", own is not None,
             lambda on: d.edit("Drag coefficient", lambda s: _set(w, f, ids, "drag_coefficient", s, usual if on else None)),
             tip=f"Off: by the kind of its shape ({kind} {usual:g}), in scenes with wind. On: the air resists in any scene.")  # fmt: skip
    if own is not None:
        d.number("Drag coefficient", own, "", partial(_set, w, f, ids, "drag_coefficient"), words="Change drag coefficient",
                 step=0.01, decimals=2, low=0, high=50, reset=usual,
                 tip="Of the area that it turns to the stream: ball 0.47, block 1.1, open parachute 1.4.")  # fmt: skip
        if not f.wind:
            d.add(faint(f"{f.name} feels no air: switch its wind on in Blend."))


def _mass(d: Form, w: Commands, f: Figure, chosen: list[Body], ids: set[str]) -> None:
    first = chosen[0]
    mass = sum(body_mass(b) for b in chosen)

    def scale(sc: Scene, v: float) -> Scene:
        share = v / max(mass, 1e-9)
        changed = edit.bodies(sc, f.id, ids, lambda b: b.changed(mass=max(body_mass(b) * share, 1e-6)))
        return w.desk.sides.bodies(changed, f.id, ids)

    d.number("Mass", mass, "kg", scale, words="Change mass", step=0.02, decimals=2, low=1e-4, high=1e6,
             tip="A fixed mass; of several bodies their sum, scaled.")  # fmt: skip
    names = [m.name for m in MATERIALS]
    fixed = first.mass is not None
    current = "fixed" if fixed else (material_of(first.density) or "own density")

    def choose(name: str) -> None:
        found = next((m for m in MATERIALS if m.name == name), None)
        density = found.density if found is not None else first.density

        def change(sc: Scene) -> Scene:
            done = edit.bodies(sc, f.id, ids, lambda b: b.changed(density=density, mass=None))
            return w.desk.sides.bodies(done, f.id, ids)

        d.edit("Choose a material", change)

    extra = [current] if current not in names else []
    source = next((m.source for m in MATERIALS if m.name == current), "mass from the shapes' volume")
    d.choice("Material", [*extra, *names], current, choose, tip=f"Density: {source}.")
    d.number("Density", first.density, "kg/m³",
             lambda sc, v: w.desk.sides.bodies(
                 edit.bodies(sc, f.id, ids, lambda b: b.changed(density=v, mass=None)), f.id, ids),
             words="Change density", step=5, decimals=0, low=1, high=20000, reset=1000,
             tip="Mass comes from the shape's volume; takes a fixed mass away.")  # fmt: skip


def _shapes(d: Form, w: Commands, f: Figure, body: Body) -> None:
    if not body.shapes:
        d.add(faint("This body has no shape: it collides with nothing."))
        return
    w.active_shape = min(w.active_shape, len(body.shapes) - 1)
    if len(body.shapes) > 1:
        names = [f"{i + 1} {s.kind}" for i, s in enumerate(body.shapes)]
        d.choice(
            "Shape",
            names,
            names[w.active_shape],
            lambda t: w.choose_shape(names.index(t)),
            "Which shape of the body has the handles",
        )
        d.add(button("Remove this shape", w.remove_shape, icon="close", tip="Takes this one away; the others stay"))
    shape = body.shapes[w.active_shape]

    def with_shape(sc: Scene, **values: object) -> Scene:
        def change(b: Body) -> Body:
            shapes = list(b.shapes)
            shapes[w.active_shape] = shapes[w.active_shape].changed(**values)
            return b.changed(shapes=tuple(shapes), by_hand=True)

        return w.desk.sides.bodies(edit.bodies(sc, f.id, {body.id}, change), f.id, {body.id})

    kinds = ["capsule", "sphere", "box"] + (["hull"] if shape.kind == "hull" else [])
    d.choice(
        "Kind",
        kinds,
        shape.kind,
        lambda k: d.edit("Change the shape", lambda sc: with_shape(sc, **_as(shape, k))),
        "Another shape of about the same size",
    )
    if shape.kind == "box":
        for i, name in enumerate(("Width", "Height", "Depth")):

            def set_half(sc: Scene, v: float, i: int = i) -> Scene:
                half = list(shape.half)
                half[i] = v / 200.0
                return with_shape(sc, half=tuple(half))

            d.number(
                name,
                200.0 * shape.half[i],
                "cm",
                set_half,
                words="Change the box",
                low=0.2,
                high=2000,
                tip="Full length of this side.",
            )
    elif shape.kind == "hull":
        d.add(row("Corners", Label(str(len(shape.points)))))
    else:
        d.number("Radius", 100.0 * shape.radius, "cm", lambda sc, v: with_shape(sc, radius=v / 100.0),
                 words="Change the radius", step=0.05, low=0.1, high=1000, tip="From the middle to the surface.")  # fmt: skip
        if shape.kind == "capsule":
            d.number("Length", 200.0 * (shape.half_length + shape.radius), "cm",
                     lambda sc, v: with_shape(sc, half_length=max(v / 200.0 - shape.radius, 1e-4)),
                     words="Change the length", low=200 * shape.radius + 0.1, high=2000, tip="From end to end, caps included.")  # fmt: skip
    d.number("Margin", 1000.0 * shape.margin, "mm", lambda sc, v: with_shape(sc, margin=v / 1000.0),
             words="Change the margin", step=0.1, low=0, high=1000, reset=0,
             tip="Thickness that collisions add on all sides; not drawn.")  # fmt: skip
    d.add(
        buttons(
            ("On the bone", w.snap_shape, "Lays the shape along its bone"),
            ("Middle of skin", w.centre_shape, "Puts the shape into the middle of its bone's skin"),
        )
    )


def _as(shape: Shape, kind: str) -> dict[str, object]:
    """The values that turn a shape into one of another kind of about the same size."""
    if shape.kind == "box":
        half = sorted(shape.half)
        radius, length = math.sqrt(half[0] * half[1]), half[2]
    elif shape.kind == "hull":
        reach = [max(abs(v[i]) for v in shape.points) for i in range(3)]
        radius, length = sorted(reach)[1], max(reach)
    else:
        radius, length = shape.radius, shape.radius + shape.half_length
    if kind == "box":
        return {"kind": kind, "half": (length, radius, radius), "points": ()}
    half_length = max(length - radius, 1e-3) if kind == "capsule" else 0.0
    return {"kind": kind, "radius": radius, "half_length": half_length, "points": ()}
