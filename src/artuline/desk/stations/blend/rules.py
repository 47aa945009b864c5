"""The fold of Blend with the rules by which figures are handed over while the scene runs."""

from functools import partial
from typing import Any

from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Rule, Scene
from artuline.desk.form import Form
from artuline.desk.widgets.fields import button, faint, section

WHEN = {
    "touched by something": "touched",
    "what it stands on goes": "left",
    "inside a box": "inside",
    "at a frame": "frame",
    "by chance": "chance",
}
AXES = ("Across", "Up", "Along")


def fill(d: Form, f: Figure) -> None:
    """The rules for a figure and all that are like it."""
    scene, first = d.session.scene, f.like or f.id
    mine = [r for r in scene.rules if r.figure in (f.id, first)]
    many = sum(x.like == first for x in scene.figures)
    if not d.fold("Rules", f"{len(mine)}" if mine else "", bool(mine)):
        return
    if not mine:
        d.add(
            faint(
                "A rule hands a figure, and all that are like it, over while the scene runs: each when it is its turn, with its own momentum."
            )
        )
    for r in mine:
        _rule(d, r, many)
    d.add(
        button(
            "New rule",
            partial(_add, d, first),
            icon="plus",
            tip="Hands over those that something touches, to begin with",
        )
    )


def _add(d: Form, figure: str) -> None:
    def change(s: Scene) -> Scene:
        names = edit.Names(r.id for r in s.rules)
        made = names.fresh("rule")
        return edit.scene(s, rules=(*s.rules, Rule(id=made, name=made, figure=figure, frame=float(s.start))))

    d.edit("Add a rule", change)


def _change(rule: str, values: dict[str, object], s: Scene) -> Scene:
    return edit.scene(s, rules=tuple(r.changed(**values) if r.id == rule else r for r in s.rules))


def _rule(d: Form, r: Rule, many: int) -> None:
    """One rule."""

    def put(words: str, **values: object) -> None:
        d.edit(words, partial(_change, r.id, values))

    def number(label: str, value: float, unit: str, key: str, tip: str, **more: Any) -> None:
        d.number(
            label,
            value,
            unit,
            lambda s, v: _change(r.id, {key: v}, s),
            words=f"Change {label.lower()} of a rule",
            tip=tip,
            **more,
        )  # type: ignore[arg-type]

    whose = f"{many + 1} figures" if many else "the figure"
    d.add(section(f"{r.name}: {whose}"))
    d.choice("Handed over", list(WHEN), next(k for k, v in WHEN.items() if v == r.when), lambda text: put("Change when a rule acts", when=WHEN[text]),
             "When each of them is handed over")  # fmt: skip
    number("From frame", r.frame, "", "frame", "The rule looks from this frame on.", step=1, decimals=0)
    if r.when == "chance":
        d.number("Share", 100 * r.share, "%", lambda s, v: _change(r.id, {"share": v / 100}, s), words="Change the share of a rule", step=1, decimals=0,
                 low=0, high=100, reset=50, tip="Of them, that is handed over.")  # fmt: skip
        number("Within", r.over, "frames", "over", "In which their turn comes.", step=1, decimals=0, low=0)
        number("Seed", r.seed, "", "seed", "Another number, another chance.", step=1, decimals=0, low=0)
    if r.when == "inside":
        for i, label in enumerate(AXES):
            d.number(
                f"{label}, middle",
                r.middle[i],
                "m",
                partial(_at, r.id, "middle", i),
                words="Move the box of a rule",
                step=0.05,
                decimals=2,
            )
            d.number(
                f"{label}, size",
                r.size[i],
                "m",
                partial(_at, r.id, "size", i),
                words="Size the box of a rule",
                step=0.05,
                decimals=2,
                low=0.01,
            )
    number(
        "Tone then",
        r.tone,
        "",
        "tone",
        "How firmly they hold their pose once they are handed over.",
        step=0.01,
        decimals=2,
        low=0,
        high=1,
        reset=0.06,
    )
    d.toggle("Muted", r.muted, lambda on: put("Mute a rule", muted=on), "Leaves it out of the next run")
    d.add(button("Remove the rule", lambda: d.edit("Remove a rule", lambda s: edit.scene(s, rules=tuple(x for x in s.rules if x.id != r.id))),
                 icon="close", tip="Takes it away"))  # fmt: skip


def _at(rule: str, key: str, axis: int, s: Scene, v: float) -> Scene:
    now = list(getattr(next(r for r in s.rules if r.id == rule), key))
    now[axis] = v
    return _change(rule, {key: tuple(now)}, s)
