"""What a file format can do here. Every file of readers or writers has its own; ``artuline.formats.all`` joins them."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from artuline.core.bake.delivery import Delivery

ReadFigure = Callable[..., Any]
ReadMesh = Callable[[Path], tuple[np.ndarray, np.ndarray]]
Write = Callable[[Path, Delivery], list[Path]]


@dataclass(frozen=True)
class Format:
    """``suffixes``: endings of its files. ``read_figure(path, assets, cancelled)``: a figure with its clips. ``read_mesh(path)``: all
    triangles, vertices (V, 3) and triangles (T, 3). ``write(path, delivery)``: the files that were written.
    """

    name: str
    suffixes: tuple[str, ...]
    read_figure: ReadFigure | None = None
    read_mesh: ReadMesh | None = None
    write: Write | None = None
