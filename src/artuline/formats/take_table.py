"""Takes and their measures as tables, CSV (RFC 4180) or JSON. Metres, kilograms, seconds, newton seconds, joules; turns are unit quaternions."""

from collections.abc import Callable
from pathlib import Path

import numpy as np

from artuline.core.run.measures import KINDS, curve, measure_take, shown_places
from artuline.core.run.take import Take
from artuline.core.scene.model import Scene
from artuline.formats.table import Value, write_table

BODY = ["x", "y", "z", "qx", "qy", "qz", "qw", "handover", "contact N s", "penetration m", "energy J"]


def take_rows(scene: Scene, take: Take) -> tuple[list[str], list[list[Value]]]:
    """Names of columns and rows: every body as it is shown on every frame."""
    p, q = shown_places(scene, take)
    numbers = np.concatenate(
        [p, q, *(x[..., None] for x in (take.handover, take.contact, take.penetration, take.kinetic))], axis=2
    )
    rows: list[list[Value]] = []
    for f, frame in enumerate(take.frames.tolist()):
        for b, ref in enumerate(take.bodies):
            rows.append([frame, frame / scene.rate, ref.figure, ref.body, *numbers[f, b].tolist()])
    return ["frame", "seconds", "figure", "body", *BODY], rows


def measure_rows(scene: Scene, take: Take) -> tuple[list[str], list[list[Value]]]:
    """Names of columns and rows: the worst of every kind, with where and when."""
    rows: list[list[Value]] = [
        [m.name, m.value, m.unit, m.frame, m.where.figure if m.where else "", m.where.body if m.where else ""]
        for m in measure_take(scene, take)
    ]
    return ["measure", "worst", "unit", "frame", "figure", "body"], rows


def plot_rows(scene: Scene, take: Take) -> tuple[list[str], list[list[Value]]]:
    """Names of columns and rows: what is plotted, of all bodies together, on every frame."""
    kinds = [k for k in KINDS if k.plotted]
    columns = [curve(scene, take, k.name, None).tolist() for k in kinds]
    frames = take.frames.tolist()
    rows: list[list[Value]] = [[f, f / scene.rate, *values] for f, *values in zip(frames, *columns)]
    return ["frame", "seconds", *(f"{k.name} {k.unit}" for k in kinds)], rows


#: What a table may be of.
def given_rows(scene: Scene, take: Take) -> tuple[list[str], list[list[Value]]]:
    """Whom a rule handed over: figure, frame, seconds, rule, and what touched it."""
    names = {f.id: f.name for f in scene.figures}
    rules = {r.id: r.name for r in scene.rules}
    rows: list[list[Value]] = [
        [names.get(f, f), at, (at - scene.start) / scene.rate, rules.get(rule, rule), by]
        for f, at, rule, by in take.given
    ]
    return ["figure", "frame", "seconds", "rule", "touched by"], rows


TABLES: dict[str, Callable[[Scene, Take], tuple[list[str], list[list[Value]]]]] = {
    "take": take_rows,
    "measures": measure_rows,
    "given": given_rows,
    "plots": plot_rows,
}


def write_take(path: Path, scene: Scene, take: Take, of: str = "take") -> None:
    """Write a table of ``TABLES``, CSV or JSON by the file's ending. Raises ArtulineError for another ending, or if the place cannot be written to."""
    write_table(path, *TABLES[of](scene, take))
