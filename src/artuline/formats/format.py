"""What a file format can do here. Every file of readers or writers has its own; ``artuline.formats.all`` joins them."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from artuline.core.bake.delivery import Delivery
from artuline.core.scene.model import Figure, Material

ReadFigure = Callable[..., "Imported"]
ReadMesh = Callable[[Path], tuple[np.ndarray, np.ndarray]]
Write = Callable[[Path, Delivery], list[Path]]


@dataclass(frozen=True, eq=False)
class Parts:
    """The surface of a file: positions (V, 3), triangles (T, 3), which part of ``names`` each is of (T,), materials, and which each has (T,)."""

    positions: np.ndarray
    triangles: np.ndarray
    part: np.ndarray
    names: list[str]
    materials: tuple[Material, ...]
    material: np.ndarray


@dataclass(frozen=True)
class Imported:
    """A figure from a file, and what the user should know about it, a line each."""

    figure: Figure
    notes: tuple[str, ...]


@dataclass(frozen=True)
class Fate:
    """What becomes of what is delivered, in plain words."""

    kept: tuple[str, ...] = ()
    approximated: tuple[str, ...] = ()
    lost: tuple[str, ...] = ()


@dataclass(frozen=True)
class Format:
    """``suffixes``: endings of its files. ``read_figure(path, assets, cancelled)``: a figure with its clips. ``read_mesh(path)``: all
    triangles, vertices (V, 3) and triangles (T, 3). ``read_parts(path)``: the same, with a part for every node. ``write(path, delivery)``: the files that were written; ``fate``: of
    what is written.
    """

    name: str
    suffixes: tuple[str, ...]
    read_figure: ReadFigure | None = None
    read_mesh: ReadMesh | None = None
    read_parts: Callable[[Path], Parts] | None = None
    write: Write | None = None
    fate: Fate = Fate()
