"""A bracket: runs side by side that differ in one setting, or in two; on all cores, in processes of their own."""

import itertools
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.run.measures import summary
from artuline.core.run.record import run
from artuline.core.run.take import Take
from artuline.core.run.workers import Workers
from artuline.core.scene import edit, paths
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene

MOST = 64  # runs


@dataclass(frozen=True)
class Span:
    """A setting and the values it takes: ``count`` from ``low`` to ``high``, evenly, or by equal ratios."""

    path: str
    low: float
    high: float
    count: int
    ratios: bool = False

    def values(self) -> list[float]:
        """The values. Raises ArtulineError if there are none."""
        if not 2 <= self.count <= 16:
            raise ArtulineError(f"a bracket has {self.count} values", remedy="Choose 2 to 16.")
        if self.ratios:
            if not (self.low > 0.0 and self.high > 0.0):
                raise ArtulineError("equal ratios need values above zero", remedy="Give both ends above zero.")
            return [float(v) for v in np.geomspace(self.low, self.high, self.count)]
        return [float(v) for v in np.linspace(self.low, self.high, self.count)]


@dataclass(frozen=True, eq=False)
class Cell:
    """One run of a bracket: the values of its settings, the scene they make, its take and its measures."""

    values: tuple[float, ...]
    scene: Scene
    take: Take
    measures: dict[str, float]


def values_of(spans: list[Span]) -> list[tuple[float, ...]]:
    """The values of every run. Raises ArtulineError for none, or too many."""
    if not 1 <= len(spans) <= 2:
        raise ArtulineError("a bracket has one setting or two")
    found = list(itertools.product(*(s.values() for s in spans)))
    if len(found) > MOST:
        raise ArtulineError(f"that is {len(found)} runs", remedy=f"Choose fewer values: {MOST} runs at most.")
    return found


def cells(scene: Scene, spans: list[Span]) -> list[tuple[tuple[float, ...], Scene]]:
    """The values and the scene of every run. Raises ArtulineError for a wrong path or value, or too many runs."""
    made = []
    for values in values_of(spans):
        changed = edit.scene(scene, takes=(), take=None)
        for span, value in zip(spans, values):
            changed = paths.put(changed, span.path, value)
        made.append((values, changed))
    return made


def run_bracket(
    scene: Scene,
    assets: AssetStore,
    spans: list[Span],
    progress: Callable[[int, int], None] = lambda done, total: None,
    cancelled: Callable[[], bool] = lambda: False,
    workers: int | None = None,
) -> Iterator[tuple[int, Cell]]:
    """Run all cells; yields each with its place as it is done. ``workers`` 0 runs them one by one in this process.

    Raises ArtulineError, CancelledError on request.
    """
    wanted = cells(scene, spans)
    progress(0, len(wanted))
    if workers == 0:
        for i, (values, changed) in enumerate(wanted):
            if cancelled():
                raise CancelledError
            take = run(changed, assets, cancelled=cancelled)
            progress(i + 1, len(wanted))
            yield i, Cell(values, changed, take, summary(changed, assets, take))
        return
    needed = _needed(scene, assets)
    payloads = [(changed.model_dump_json(), needed) for _, changed in wanted]
    for done, (i, (arrays, measures)) in enumerate(_workers(workers).run(payloads, cancelled), 1):
        progress(done, len(wanted))
        yield i, Cell(*wanted[i], Take.from_arrays(arrays), measures)


def _needed(scene: Scene, assets: AssetStore) -> dict[str, dict[str, np.ndarray]]:
    """The data that a run needs: clips, layers and the meshes of obstacles, and of skins those that strands touch."""
    keys: set[str] = set()
    for f in scene.figures:
        played = {f.clip, *(g.clip for g in f.groups)}
        keys |= f.solids | {c.asset for c in f.clips if c.name in played} | {x.asset for x in f.layers if x.steers}
        keys |= {f.asset} if f.skin and f.asset is not None else set()
    return {key: dict(assets[key]) for key in keys}


_kept: dict[int, Workers] = {}


def _workers(count: int | None) -> Workers:
    number = count or os.cpu_count() or 1
    return _kept.setdefault(number, Workers(_one, number))


def stop_workers() -> None:
    """End the processes that brackets have left for the next one."""
    while _kept:
        _kept.popitem()[1].stop()


_assets = AssetStore()


def _one(
    payload: tuple[str, dict[str, dict[str, np.ndarray]]], stopped: Callable[[], bool]
) -> tuple[dict[str, np.ndarray], dict[str, float]]:
    text, needed = payload
    for key, arrays in needed.items():
        if key not in _assets:
            _assets.add(arrays)
    scene = Scene.model_validate_json(text)
    take = run(scene, _assets, cancelled=stopped)
    return take.to_arrays(), summary(scene, _assets, take)
