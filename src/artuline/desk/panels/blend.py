"""Details of Blend: where, when and how strongly physics acts."""

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QCheckBox

from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Ground, Lane, Scene
from artuline.desk.fields import button, faint, row, rule, section
from artuline.desk.panels import bodies

if TYPE_CHECKING:
    from artuline.desk.details import Details


def fill(d: "Details", f: Figure) -> None:
    """Groups, their lanes and the world."""
    s = d.session
    if not f.bodies:
        bodies.fill(d, f)
        return
    bones = s.selection.bones if s.selection.figure == f.id else frozenset()
    bone = min(bones, key=lambda b: f.bone_index[b]) if bones else None
    d.add(section("Where"))
    if bone is None:
        d.add(
            faint("Click a bone on the stage to let only it and all below it go limp, or hand over the whole figure.")
        )
        d.add(button("Hand over the whole figure", lambda: d.window_.limp(None), icon="human-handsdown"))
    else:
        d.add(faint(f"{len([b for b in f.bodies if b.bone in f.below(bone)])} bodies hang from {bone}."))
        d.add(
            button(
                f"Limp from {bone} down",
                lambda: d.window_.limp(bone),
                icon="arm-flex-outline",
                primary=True,
            )
        )
    for g in f.groups:
        d.add(rule(), section(g.name))
        _group(d, f, g.id)
    d.add(rule(), section("World"))
    ground = QCheckBox()
    ground.setChecked(s.scene.ground is not None)
    ground.toggled.connect(lambda on: s.edit("Ground", lambda sc: _set_ground(sc, on)))
    d.add(row("Ground", ground))
    d.number("Gravity", -s.scene.gravity[1], "m/s²", lambda sc, v: edit.scene(sc, gravity=(0.0, -v, 0.0)),
                 words="Change gravity", step=0.05, decimals=2, low=-100, high=100, reset=9.81)  # fmt: skip
    d.number("Substeps", s.scene.substeps, "", lambda sc, v: edit.scene(sc, substeps=round(v)),
                 words="Change substeps", step=0.2, decimals=0, low=1, high=200, reset=10,
                 tip="Steps of the simulation in each frame. More is finer and slower.")  # fmt: skip
    d.add(button("Run", d.window_.run, icon="play-box-outline", primary=True, tip="Simulate the range (F5)"))


def _group(d: "Details", f: Figure, group_id: str) -> None:
    g = next(g for g in f.groups if g.id == group_id)
    keys = g.handover.keys
    if len(keys) == 4:
        k0, k1, k2, k3 = (k.frame for k in keys)

        def interval(key: str, sc: Scene, v: float) -> Scene:
            values = {"start": k0, "end": k3, "ramp_in": k1 - k0, "ramp_out": k3 - k2} | {key: float(round(v))}
            if values["end"] < values["start"]:
                values["start"], values["end"] = values["end"], values["start"]
            return edit.group(sc, f.id, g.id, handover=edit.interval_lane(**values))

        for label, key, value, tip in (
            ("Physics from", "start", k0, "First frame that physics moves."),
            ("back on keys at", "end", k3, "Frame at which the figure is exactly on its keys again."),
            ("Ramp in", "ramp_in", k1 - k0, "Frames over which the keys let go."),
            ("Ramp out", "ramp_out", k3 - k2, "Frames over which the figure returns to its keys."),
        ):
            d.number(
                label, value, "", partial(interval, key),
                words="Change the interval", step=0.5, decimals=0, low=0 if "ramp" in key else -1e6, tip=tip,
            )  # fmt: skip
    tone = float(g.tone.value(d.session.frame))
    d.number("Tone", tone, "", lambda sc, v: edit.group(sc, f.id, g.id, tone=Lane(rest=v)), words="Change the tone",
                 step=0.005, decimals=2, low=0, high=1, reset=0,
                 tip="How firmly the keyed pose is held: 0 is limp, 1 follows the keys.")  # fmt: skip
    muted = QCheckBox()
    muted.setChecked(g.muted)
    muted.toggled.connect(lambda on: d.session.edit("Mute the group", lambda sc: edit.group(sc, f.id, g.id, muted=on)))
    d.add(row("Muted", muted, tip="Off for now: the bones stay on their keys."))
    d.add(button("Remove this group", lambda: d.window_.remove_group(f.id, g.id), icon="close"))


def _set_ground(s: Scene, on: bool) -> Scene:
    return edit.scene(s, ground=Ground() if on else None)
