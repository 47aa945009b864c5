"""The fold of Cast that says how a figure goes when it is steered."""

from functools import partial

from artuline.core.errors import ArtulineError
from artuline.core.motion.gaits import stride_of
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Gait, Scene, Steering
from artuline.core.setup.gait_proposal import propose_steering
from artuline.core.setup.reflected import not_reflected
from artuline.desk.form import Form
from artuline.desk.widgets.fields import Choice, NumberField, button, faint, narrow, row

USES = ("not used", "stands", "goes", "gets up")


def fill(d: Form, f: Figure) -> None:
    """What each clip is for, and at what speed; whom it follows."""
    how = _how(d, f)
    words = "as proposed" if f.steering is None or not f.steering.gaits else "set by hand"
    if not d.fold("Steering", words, f.steering is not None):
        return
    if how is None:
        d.add(
            faint("None of its clips goes anywhere. Open one that walks in a loop: on the spot will do."),
            d.act("motion"),
        )
        return
    for clip in f.clips:
        _clip(d, f, how, clip.name)
    if f.steering is not None and f.steering.gaits:
        d.add(button("Propose again", lambda: _set(d, f, "Propose gaits", gaits=(), rises=()), icon="auto-fix",
                     tip="Back to what the clips' motion and names tell"))  # fmt: skip
    _leader(d, f, how)
    for left in not_reflected(d.session.scene, f.id):
        d.add(faint(f"In the mirror: {left}."))
    d.add(d.act("steer"))


def _how(d: Form, f: Figure) -> Steering | None:
    """How a figure goes: as set, or as proposed; None without a clip to go with."""
    if f.steering is not None and f.steering.gaits:
        return f.steering
    try:
        made = propose_steering(f, d.session.assets)
    except ArtulineError:
        return None
    return made if f.steering is None else made.changed(follows=f.steering.follows, distance=f.steering.distance)


def _clip(d: Form, f: Figure, how: Steering, name: str) -> None:
    """What a clip is for."""
    gait = next((g for g in how.gaits if g.clip == name), None)
    use = "gets up" if name in how.rises else "not used" if gait is None else "goes" if gait.speed > 0.0 else "stands"
    box = Choice()
    box.setAccessibleName(f"What {name} is for")
    box.addItems(USES)
    box.setCurrentText(use)
    narrow(box)
    box.textActivated.connect(lambda wanted: _use(d, f, how, name, wanted))
    tip = "Stands: at rest. Goes: at the speed beside it, mixed with the next. Gets up: from the ground."
    if gait is None or gait.speed == 0.0:
        d.add(row(name, box, tip=tip))
        return
    field = NumberField(
        gait.speed,
        "m/s",
        step=0.05,
        decimals=2,
        low=0.05,
        high=20.0,
        reset=_own_speed(d, f, name),
        name=f"Speed of {name}",
    )
    field.setFixedWidth(84)

    def changed(v: float, final: bool) -> None:
        if final:
            gaits = tuple(g.changed(speed=v) if g.clip == name else g for g in how.gaits)
            _set(d, f, "Change a gait's speed", gaits=gaits, rises=how.rises)

    field.changed.connect(changed)
    field.refused.connect(d.desk.fault)
    d.add(row(name, box, field, tip=tip))


def _own_speed(d: Form, f: Figure, name: str) -> float:
    """The speed that a clip's own steps ask for, m/s."""
    ref = next(c for c in f.clips if c.name == name)
    return max(round(stride_of(f, d.session.assets, ref).speed, 2), 0.05)


def _use(d: Form, f: Figure, how: Steering, name: str, wanted: str) -> None:
    """Use a clip for something else."""
    gaits, rises = [g for g in how.gaits if g.clip != name], [r for r in how.rises if r != name]
    if wanted == "stands":
        gaits = [Gait(clip=name, speed=0.0), *(g for g in gaits if g.speed > 0.0)]
    elif wanted == "goes":
        gaits.append(Gait(clip=name, speed=_own_speed(d, f, name)))
    elif wanted == "gets up":
        rises.append(name)
    if not any(g.speed > 0.0 for g in gaits):
        d.desk.fault("One clip has to go somewhere: let another one go first.")
        d.desk.refill.emit(False)
        return
    _set(d, f, "Change what a clip is for", gaits=tuple(sorted(gaits, key=lambda g: g.speed)), rises=tuple(rises))


def _set(d: Form, f: Figure, words: str, **values: object) -> None:
    def change(s: Scene) -> Scene:
        now = s.figure(f.id).steering or Steering()
        return edit.figure(s, f.id, steering=now.changed(**values))

    d.edit(words, change)


def _leader(d: Form, f: Figure, how: Steering) -> None:
    """Whom it goes after by itself."""
    others = [x for x in d.session.scene.cast if x.id != f.id and x.made is None and not x.prop]
    if not others:
        return
    box = Choice()
    box.setAccessibleName("Follows")
    box.addItem("nobody", None)
    for x in others:
        box.addItem(x.name, x.id)
    box.setCurrentIndex(next((i + 1 for i, x in enumerate(others) if x.id == how.follows), 0))
    box.activated.connect(lambda i: _set(d, f, "Choose whom it follows", follows=box.itemData(i)))
    narrow(box)
    d.add(row("Follows", box, tip="Goes after another figure by itself while that is steered."))
    if how.follows is not None:
        d.number("Distance", how.distance, "m", partial(_distance, f.id), words="Change the distance", step=0.05, decimals=2, low=0.2, reset=1.6,
                 tip="At which it stops behind the one that it follows.")  # fmt: skip


def _distance(figure: str, s: Scene, v: float) -> Scene:
    now = s.figure(figure).steering or Steering()
    return edit.figure(s, figure, steering=now.changed(distance=v))
