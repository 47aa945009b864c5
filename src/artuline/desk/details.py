"""The details of what is selected, for each station."""

import math
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox, QLabel, QScrollArea, QWidget

from artuline.core.scene import edit
from artuline.core.scene.model import Body, Figure, Ground, Joint, Lane, Scene
from artuline.core.setup.materials import body_mass
from artuline.core.setup.units import UNITS, unit_name
from artuline.desk.fields import NumberField, button, column, faint, row, rule, section
from artuline.formats.gltf_read import figure_size
from artuline.formats.importing import choose_clip
from artuline.view.stage import mesh_of

if TYPE_CHECKING:
    from artuline.desk.window import Window


class Details(QScrollArea):
    """Rebuilt when the scene, the selection or the station changes; the focus stays where it was."""

    def __init__(self, window: "Window"):
        super().__init__()
        self.window_ = window
        self.session = window.session
        self.station = "Cast"
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._dragging = False
        self.session.scene_changed.connect(self.rebuild)
        self.session.selection_changed.connect(self.rebuild)
        self.rebuild()

    def set_station(self, name: str) -> None:
        """Show another station's details."""
        self.station = name
        self.rebuild()

    def rebuild(self) -> None:
        """Make the panel anew, unless a field of it is being dragged."""
        if self._dragging:
            return
        focus = QApplication.focusWidget()
        name = focus.objectName() if isinstance(focus, NumberField) and self.isAncestorOf(focus) else ""
        scroll = self.verticalScrollBar().value()
        panel = QWidget()
        panel.setObjectName("panel")
        self._layout = column(panel)
        maker = {
            "Cast": self._cast,
            "Bodies": self._bodies,
            "Joints": self._joints,
            "Blend": self._blend,
            "Takes": self._takes,
            "Curves": self._curves,
        }[self.station]
        title = QLabel(self.station)
        title.setObjectName("title")
        self._add(title)
        figure = self.session.figure()
        if figure is None:
            self._add(faint("Open a skinned figure to begin: a glTF file (.glb or .gltf) with a mesh and its skin."))
            self._add(button("Open a figure…", self.window_.ask_figure, icon="human", primary=True))
        else:
            maker(figure)
        self._layout.addStretch(1)
        self.setWidget(panel)
        self.verticalScrollBar().setValue(scroll)
        if name:
            again = panel.findChild(NumberField, name)
            if again is not None:
                again.setFocus()

    def _add(self, *widgets: QWidget) -> None:
        for w in widgets:
            self._layout.addWidget(w)

    def _number(
        self, label: str, value: float, unit: str, change: Callable[[Scene, float], Scene], *, words: str,
        step: float = 0.1, decimals: int = 1, low: float = -math.inf, high: float = math.inf,
        reset: float | None = None, tip: str = "",
    ) -> None:  # fmt: skip
        field = NumberField(value, unit, step=step, decimals=decimals, low=low, high=high, reset=reset, name=label)
        field.setAccessibleName(label)

        def changed(v: float, final: bool) -> None:
            self._dragging = not final
            if final:
                self.session.edit(words, lambda s: change(s, v))
            else:
                self.session.preview(lambda s: change(s, v))

        field.changed.connect(changed)
        self._add(row(label, field, tip=tip))

    # Cast

    def _cast(self, f: Figure) -> None:
        s = self.session
        mesh = mesh_of(f, s.assets)
        size = figure_size(f, mesh) * f.unit
        bones = sum(b.deforms for b in f.bones)
        triangles = len(mesh.triangles) if mesh else 0
        self._add(section("Figure"), row("Name", QLabel(f.name)), row("File", QLabel(f.source or "made here")))
        self._add(
            row("Bones", QLabel(f"{bones}")),
            row("Triangles", QLabel(f"{triangles:,}".replace(",", "\u202f"))),
        )
        self._add(rule(), section("Size"))
        self._add(row("Longest side", QLabel(f"{size:.2f} m")))
        box = QComboBox()
        for value, name in UNITS.items():
            box.addItem(name, value)
        at = next((i for i, v in enumerate(UNITS) if math.isclose(v, f.unit)), -1)
        if at < 0:
            box.addItem(unit_name(f.unit), f.unit)
            at = box.count() - 1
        box.setCurrentIndex(at)
        box.activated.connect(
            lambda i: s.edit("Change the unit", lambda sc: edit.figure(sc, f.id, unit=box.itemData(i)))
        )
        self._add(row("File unit", box, tip="What one unit of the file means. Physics always runs in metres."))
        self._add(faint(_size_remark(size)))
        self._add(rule(), section("Motion"))
        clips = QComboBox()
        clips.setAccessibleName("Clip")
        clips.addItem("rest pose", None)
        for c in f.clips:
            clips.addItem(c.name, c.name)
        clips.setCurrentIndex(0 if f.clip is None else 1 + [c.name for c in f.clips].index(f.clip))
        clips.activated.connect(lambda i: s.edit("Choose a clip", lambda sc: choose_clip(sc, f.id, clips.itemData(i))))
        self._add(row("Clip", clips))
        clip = f.active_clip()
        if clip is not None:
            loop = QCheckBox()
            loop.setChecked(clip.loop)
            loop.toggled.connect(lambda on: s.edit("Loop the clip", lambda sc: _set_loop(sc, f, clip.name, on)))
            self._add(row("Length", QLabel(f"{clip.duration:.2f} s, {clip.rate:g} per second")), row("Loop", loop))
        self._number("Begins at frame", f.clip_start, "", lambda sc, v: edit.figure(sc, f.id, clip_start=float(round(v))),
                     words="Move the clip", step=1, decimals=0, reset=0)  # fmt: skip
        self._add(rule(), section("Range"))
        self._number("First frame", s.scene.start, "", lambda sc, v: edit.scene(sc, start=round(v)),
                     words="Change the range", step=1, decimals=0)  # fmt: skip
        self._number("Last frame", s.scene.end, "", lambda sc, v: edit.scene(sc, end=round(v)),
                     words="Change the range", step=1, decimals=0)  # fmt: skip
        if not f.bodies:
            self._add(rule(), faint("Next: give the figure bodies and joints."))
            self._add(button("Fit bodies and joints", self.window_.set_up, icon="human-handsup", primary=True))

    # Bodies

    def _chosen_bodies(self, f: Figure) -> list[Body]:
        bones = self.session.selection.bones if self.session.selection.figure == f.id else frozenset()
        return [b for b in f.bodies if b.bone in bones]

    def _bodies(self, f: Figure) -> None:
        if not f.bodies:
            self._add(
                faint(
                    "No bodies yet. One action gives every bone that carries enough skin a shape just under the surface, joins them, and takes the limits from the clips."
                )
            )
            self._add(button("Fit bodies and joints", self.window_.set_up, icon="human-handsup", primary=True))
            return
        total = sum(body_mass(b) for b in f.bodies)
        self._add(section("All bodies"))
        self._add(row("Bodies", QLabel(str(len(f.bodies)))), row("Total mass", QLabel(f"{total:.1f} kg")))
        off = len(f.pairs_off)
        self._add(
            row(
                "Pairs that pass through",
                QLabel(str(off)),
                tip="They overlap at rest, so they do not collide.",
            )
        )
        self._add(
            button(
                "Fit again from the skin",
                self.window_.set_up,
                icon="refresh",
                tip="Replaces all bodies and joints of the figure. Undo brings them back.",
            )
        )
        chosen = self._chosen_bodies(f)
        self._add(rule())
        if not chosen:
            picked = [b for b in self.session.selection.bones if b not in f.body_of]
            self._add(faint(
                f"{picked[0]} has no body of its own: it is carried by the body above it." if picked
                else "Click a body on the stage, or in the roster, to change it. Shift adds to the selection."
            ))  # fmt: skip
            return
        ids = {b.id for b in chosen}
        first = chosen[0]
        self._add(section(first.bone if len(chosen) == 1 else f"{len(chosen)} bodies"))
        if len(chosen) == 1 and len(first.shapes) == 1:
            self._shape(f, first)
        mass = sum(body_mass(b) for b in chosen)
        self._add(row("Mass", QLabel(f"{mass:.2f} kg")))
        self._number("Density", first.density, "kg/m³", lambda sc, v: edit.bodies(sc, f.id, ids, lambda b: b.changed(density=v)),
                     words="Change density", step=5, decimals=0, low=1, high=20000, reset=1000,
                     tip="Mass comes from the shape's volume. Flesh is about 1000.")  # fmt: skip
        self._number("Friction", first.friction, "", lambda sc, v: edit.bodies(sc, f.id, ids, lambda b: b.changed(friction=v)),
                     words="Change friction", step=0.01, decimals=2, low=0, high=5, reset=0.6,
                     tip="How hard it is to slide along other things.")  # fmt: skip
        self._number("Bounce", first.restitution, "", lambda sc, v: edit.bodies(sc, f.id, ids, lambda b: b.changed(restitution=v)),
                     words="Change bounce", step=0.01, decimals=2, low=0, high=1, reset=0.05,
                     tip="Share of the speed that comes back from a hit.")  # fmt: skip

    def _shape(self, f: Figure, body: Body) -> None:
        shape = body.shapes[0]

        def with_shape(sc: Scene, **values: object) -> Scene:
            return edit.bodies(sc, f.id, {body.id}, lambda b: b.changed(shapes=(b.shapes[0].changed(**values),)))

        self._add(row("Shape", QLabel(shape.kind)))
        if shape.kind == "box":
            for i, name in enumerate(("Width", "Height", "Depth")):

                def set_half(sc: Scene, v: float, i: int = i) -> Scene:
                    half = list(shape.half)
                    half[i] = v / 200.0
                    return with_shape(sc, half=tuple(half))

                self._number(name, 200.0 * shape.half[i], "cm", set_half, words="Change the box", low=0.2, high=2000)
        else:
            self._number("Radius", 100.0 * shape.radius, "cm", lambda sc, v: with_shape(sc, radius=v / 100.0),
                         words="Change the radius", step=0.05, low=0.1, high=1000)  # fmt: skip
            if shape.kind == "capsule":
                self._number("Length", 200.0 * (shape.half_length + shape.radius), "cm",
                             lambda sc, v: with_shape(sc, half_length=max(v / 200.0 - shape.radius, 1e-4)),
                             words="Change the length", low=200 * shape.radius + 0.1, high=2000)  # fmt: skip

    # Joints

    def _joints(self, f: Figure) -> None:
        if not f.joints:
            self._add(faint("No joints yet. They are made together with the bodies."))
            self._add(button("Fit bodies and joints", self.window_.set_up, icon="human-handsup", primary=True))
            return
        bones = self.session.selection.bones if self.session.selection.figure == f.id else frozenset()
        ids = {b.id: b.bone for b in f.bodies}
        chosen = [j for j in f.joints if ids[j.child] in bones]
        hinges = sum(j.kind == "hinge" for j in f.joints)
        self._add(section("All joints"))
        self._add(row("Joints", QLabel(f"{len(f.joints)}, {hinges} of them hinges")))
        self._add(
            faint("Ranges come from all clips of the figure, plus 12°. Brass: the range. Ink: where the joint is now.")
        )
        self._add(rule())
        if not chosen:
            self._add(faint("Click a body on the stage to see and set the range of its joint."))
            return
        first, many = chosen[0], {j.id for j in chosen}
        self._add(section(ids[first.child] if len(chosen) == 1 else f"{len(chosen)} joints"))
        if len(chosen) == 1:
            self._add(row("Hangs on", QLabel(ids[first.parent])))
        kinds = QComboBox()
        kinds.addItems(["ball", "hinge", "fixed"])
        if kinds.findText(first.kind) < 0:
            kinds.addItem(first.kind)
        kinds.setCurrentText(first.kind)
        kinds.textActivated.connect(lambda k: self._joint_edit(f, many, "Change the kind", kind=k))
        self._add(row("Kind", kinds, tip="Ball: cone and twist. Hinge: turns about its axis. Fixed: does not turn."))
        if first.kind not in ("ball", "hinge"):
            return
        limited = QCheckBox()
        limited.setChecked(first.limited)
        limited.toggled.connect(lambda on: self._joint_edit(f, many, "Limit the joint", limited=on))
        self._add(row("Limited", limited))
        if first.limited:
            if first.kind == "ball":
                self._angle(f, many, "Swing about y", first.swing_y, lambda j, v: {"swing_y": v}, 0, 170)
                self._angle(f, many, "Swing about z", first.swing_z, lambda j, v: {"swing_z": v}, 0, 170)
            words = ("Twist from", "Twist to") if first.kind == "ball" else ("Turns from", "Turns to")
            self._angle(f, many, words[0], first.twist[0], lambda j, v: {"twist": (v, max(v, j.twist[1]))}, -180, 180)
            self._angle(f, many, words[1], first.twist[1], lambda j, v: {"twist": (min(v, j.twist[0]), v)}, -180, 180)
        self._number("Share of tone", first.tone, "", lambda sc, v: edit.joints(sc, f.id, many, lambda j: j.changed(tone=v)),
                     words="Change the joint's tone", step=0.01, decimals=2, low=0, high=1, reset=1,
                     tip="Multiplies the group's tone: how firmly this joint follows the keys.")  # fmt: skip

    def _joint_edit(self, f: Figure, ids: set[str], words: str, **values: object) -> None:
        self.session.edit(words, lambda sc: edit.joints(sc, f.id, ids, lambda j: j.changed(**values)))

    def _angle(
        self, f: Figure, ids: set[str], label: str, value: float, change: Callable[[Joint, float], dict[str, object]],
        low: float, high: float,
    ) -> None:  # fmt: skip
        def apply(sc: Scene, v: float) -> Scene:
            return edit.joints(sc, f.id, ids, lambda j: j.changed(**change(j, math.radians(v))))

        self._number(
            label,
            math.degrees(value),
            "°",
            apply,
            words=f"Change {label.lower()}",
            step=0.5,
            low=low,
            high=high,
        )

    # Blend

    def _blend(self, f: Figure) -> None:
        s = self.session
        if not f.bodies:
            self._bodies(f)
            return
        bones = s.selection.bones if s.selection.figure == f.id else frozenset()
        bone = min(bones, key=lambda b: f.bone_index[b]) if bones else None
        self._add(section("Where"))
        if bone is None:
            self._add(
                faint(
                    "Click a bone on the stage to let only it and all below it go limp, or hand over the whole figure."
                )
            )
            self._add(button("Hand over the whole figure", lambda: self.window_.limp(None), icon="human-handsdown"))
        else:
            self._add(faint(f"{len([b for b in f.bodies if b.bone in f.below(bone)])} bodies hang from {bone}."))
            self._add(
                button(
                    f"Limp from {bone} down",
                    lambda: self.window_.limp(bone),
                    icon="arm-flex-outline",
                    primary=True,
                )
            )
        for g in f.groups:
            self._add(rule(), section(g.name))
            self._group(f, g.id)
        self._add(rule(), section("World"))
        ground = QCheckBox()
        ground.setChecked(s.scene.ground is not None)
        ground.toggled.connect(lambda on: s.edit("Ground", lambda sc: _set_ground(sc, on)))
        self._add(row("Ground", ground))
        self._number("Gravity", -s.scene.gravity[1], "m/s²", lambda sc, v: edit.scene(sc, gravity=(0.0, -v, 0.0)),
                     words="Change gravity", step=0.05, decimals=2, low=-100, high=100, reset=9.81)  # fmt: skip
        self._number("Substeps", s.scene.substeps, "", lambda sc, v: edit.scene(sc, substeps=round(v)),
                     words="Change substeps", step=0.2, decimals=0, low=1, high=200, reset=10,
                     tip="Steps of the simulation in each frame. More is finer and slower.")  # fmt: skip
        self._add(button("Run", self.window_.run, icon="play-box-outline", primary=True, tip="Simulate the range (F5)"))

    def _group(self, f: Figure, group_id: str) -> None:
        g = next(g for g in f.groups if g.id == group_id)
        keys = g.handover.keys
        if len(keys) == 4:
            a, b, c, d = (k.frame for k in keys)

            def interval(key: str, sc: Scene, v: float) -> Scene:
                values = {"start": a, "end": d, "ramp_in": b - a, "ramp_out": d - c} | {key: float(round(v))}
                if values["end"] < values["start"]:
                    values["start"], values["end"] = values["end"], values["start"]
                return edit.group(sc, f.id, g.id, handover=edit.interval_lane(**values))

            for label, key, value, tip in (
                ("Physics from", "start", a, "First frame that physics moves."),
                ("back on keys at", "end", d, "Frame at which the figure is exactly on its keys again."),
                ("Ramp in", "ramp_in", b - a, "Frames over which the keys let go."),
                ("Ramp out", "ramp_out", d - c, "Frames over which the figure returns to its keys."),
            ):
                self._number(
                    label, value, "", partial(interval, key),
                    words="Change the interval", step=0.5, decimals=0, low=0 if "ramp" in key else -1e6, tip=tip,
                )  # fmt: skip
        tone = float(g.tone.value(self.session.frame))
        self._number("Tone", tone, "", lambda sc, v: edit.group(sc, f.id, g.id, tone=Lane(rest=v)), words="Change the tone",
                     step=0.005, decimals=2, low=0, high=1, reset=0,
                     tip="How firmly the keyed pose is held: 0 is limp, 1 follows the keys.")  # fmt: skip
        muted = QCheckBox()
        muted.setChecked(g.muted)
        muted.toggled.connect(
            lambda on: self.session.edit("Mute the group", lambda sc: edit.group(sc, f.id, g.id, muted=on))
        )
        self._add(row("Muted", muted, tip="Off for now: the bones stay on their keys."))
        self._add(button("Remove this group", lambda: self.window_.remove_group(f.id, g.id), icon="close"))

    # Takes

    def _takes(self, f: Figure) -> None:
        s = self.session
        self._add(button("Run", self.window_.run, icon="play-box-outline", primary=True, tip="Simulate the range (F5)"))
        if not s.scene.takes:
            self._add(
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
        self._add(row("Shown", box))
        take = s.take()
        ref = s.scene.active_take()
        if take is None or ref is None:
            return
        stale = ref.settings != s.scene.settings_fingerprint()
        state = QLabel("out of date" if stale else "matches the settings")
        state.setObjectName("fault" if stale else "keyed")
        self._add(row("State", state), row("Frames", QLabel(f"{ref.start} to {ref.end}")))
        self._add(
            row(
                "Substeps",
                QLabel(f"{take.substeps[1]} of {take.substeps[0]} asked"),
                tip="Fast turns are halved by themselves.",
            )
        )
        self._add(rule(), section("Worst moments"))
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
            go = button(f"{name}, frame {frame}", partial(self.window_.go_to, frame, name))
            go.setObjectName("small")
            self._add(row(words, QLabel(amount)), go)
        self._add(rule(), button("Remove this take", self.window_.remove_take, icon="close"))
        self._add(faint("Next: turn the take into keys in Curves."))

    # Curves

    def _curves(self, f: Figure) -> None:
        s = self.session
        w = self.window_
        if s.scene.active_take() is None:
            self._add(faint("Nothing to bake yet: run the scene first."))
            self._add(button("Run", w.run, icon="play-box-outline", primary=True))
            return
        self._add(section("Bake"))
        self._add(
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
            self._add(row(label, field))
        self._add(button("Bake the take", w.bake, icon="vector-curve", primary=True))
        if w.baked_summary:
            self._add(faint(w.baked_summary))
        for layer in f.layers:
            self._add(rule(), section(f"Layer: {layer.name}"))
            self._add(row("Frames", QLabel(f"{layer.start} to {layer.end}")))

            def weight(sc: Scene, v: float, i: str = layer.id) -> Scene:
                kept = edit.replace(sc.figure(f.id).layers, i, lambda x: x.changed(weight=v))
                return edit.figure(sc, f.id, layers=kept)

            self._number("Weight", layer.weight, "", weight, words="Change the layer's weight", step=0.005, decimals=2,
                         low=0, high=1, reset=1)  # fmt: skip
            self._add(button("Remove the layer", partial(w.remove_layer, f.id, layer.id), icon="close"))
        if f.layers:
            show = QCheckBox()
            show.setChecked(not w.stage.uses_take)
            show.toggled.connect(w.show_layers)
            self._add(row("Show the baked keys", show, tip="Off: the take itself is shown."))
            self._add(rule(), section("Deliver"))
            self._add(button("Export .glb…", w.ask_export, icon="export-variant", primary=True))


def _size_remark(size: float) -> str:
    if size < 0.15 or size > 8.0:
        return "That is an unlikely size: choose the unit that makes it right."
    return f"A standing person is about 1.75 m: this is {size / 1.75:.2f} times that."


def _set_loop(s: Scene, f: Figure, name: str, on: bool) -> Scene:
    clips = tuple(c.changed(loop=on) if c.name == name else c for c in f.clips)
    return edit.figure(s, f.id, clips=clips)


def _set_ground(s: Scene, on: bool) -> Scene:
    return edit.scene(s, ground=Ground() if on else None)
