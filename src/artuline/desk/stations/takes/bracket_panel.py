"""Details of Takes about the bracket."""

from collections.abc import Callable
from functools import partial

from artuline.desk.form import Form
from artuline.desk.stations.takes.brackets import Brackets
from artuline.desk.widgets.fields import button


def fill_bracket(d: Form, w: Brackets) -> None:
    """One setting over a range of values, run side by side."""
    offered = w.offered_settings()
    labels = list(offered)
    if not labels:
        return
    current = w.setting if w.setting in offered else labels[0]
    d.choice("Setting", labels, current, w.choose, "What differs from run to run.")
    d.add(
        button("Any other setting…", w.ask_setting, icon="magnify", tip="Every number of the scene, keys of lanes too.")
    )
    _span(d, ("From", "To", "Runs"), w.range, w.set_range, (3, 16))
    d.toggle("Equal ratios", w.ratios, w.set_ratios, "By equal ratios instead of equal steps.")
    d.choice("And", ["no second", *(x for x in labels if x != current)], w.second_setting or "no second", w.choose_second,
             "A second setting: all values of both, as a grid.")  # fmt: skip
    if w.second_setting in offered:
        _span(d, ("Second from", "Second to", "Second runs"), w.second_range, w.set_second, (2, 8))
    d.add(button("Run the bracket", w.run, icon="view-grid-outline", primary=True,
                 tip="Runs all values on all cores and shows them side by side."))  # fmt: skip


def _span(
    d: Form, labels: tuple[str, str, str], now: tuple[float, float, int], put: Callable[[int, float], object], counts: tuple[int, int]
) -> None:  # fmt: skip
    """First value, last value, and how many."""
    for k, tip in enumerate(("Value of the first run.", "Value of the last run.")):
        d.plain_number(labels[k], now[k], "", partial(put, k), step=0.01, decimals=2, low=-1e6, high=1e6, tip=tip)
    low, high = counts
    d.plain_number(labels[2], now[2], "", partial(put, 2), step=0.1, decimals=0, low=low, high=high, tip="How many.")
