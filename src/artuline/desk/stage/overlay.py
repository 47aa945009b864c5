"""What is painted over the picture: dots of bones, legends, names, the scale bar."""

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QPainter, QPen

from artuline.core.scene.model import Figure, Scene
from artuline.core.scene.selection import Selection
from artuline.desk import theme
from artuline.desk.stage.tools import View

Legend = tuple[str, tuple[tuple[str, str], ...]]
METRES = (0.01, 0.05, 0.1, 0.25, 0.5, 1, 2, 5, 10, 50)  # of the scale bar


def halo(p: QPainter, at: QPointF, text: str) -> None:
    """Text with a rim of paper around it."""
    p.setPen(theme.color("paper", 0.85))
    for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1), (-1, -1), (1, 1), (-1, 1), (1, -1)):
        p.drawText(at + QPointF(dx, dy), text)
    p.setPen(theme.color("ink"))
    p.drawText(at, text)


def bone_dots(figures: Sequence[Figure], view: View, chosen: str | None = None) -> list[tuple[str, str, QPointF]]:
    """Figure, bone and place on the widget of every bone that may be clicked: of many that are alike, those of the ``chosen`` one."""
    found = []
    for f, state in zip(figures, view.states):
        if f.like is not None and f.id != chosen:
            continue
        bones = [i for i, b in enumerate(f.bones) if b.deforms]
        if not bones or len(state.matrices) != len(f.bones):
            continue
        at = view.screen(state.matrices[bones, :3, 3])
        found += [(f.id, f.bones[i].name, QPointF(x, y)) for i, (x, y, depth) in zip(bones, at) if depth > 0]
    return found


def dot_at(at: QPointF, dots: Sequence[tuple[str, str, QPointF]]) -> tuple[str, str] | None:
    """Figure and bone of the dot under a point."""
    near = [((spot - at).manhattanLength(), figure, bone) for figure, bone, spot in dots]
    best = min(near, default=(99.0, "", ""))
    return best[1:] if best[0] < 9.0 else None


def paint_dots(p: QPainter, figures: Sequence[Figure], dots: Sequence[tuple[str, str, QPointF]]) -> None:
    """A disc on every bone; filled where there is a body."""
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    by_id = {f.id: f for f in figures}
    for figure, bone, at in dots:
        p.setPen(QPen(theme.color("ink"), 1.2))
        p.setBrush(theme.color("teal" if bone in by_id[figure].body_of else "raised"))
        p.drawEllipse(at, 3.6, 3.6)


def paint_legend(p: QPainter, legend: Legend, width: float) -> None:
    """What the colours of the shapes mean."""
    title, entries = legend
    p.setFont(theme.font(theme.SMALL, strong=True))
    x, y = width - 118.0, 24.0
    halo(p, QPointF(x, y), title)
    p.setFont(theme.font(theme.SMALL))
    for i, (code, words) in enumerate(entries):
        top = y + 10 + 17 * i
        p.setPen(QPen(theme.color("ink"), 0.8))
        p.setBrush(QColor(code))
        p.drawRect(QRectF(x, top, 11, 11))
        halo(p, QPointF(x + 18, top + 10), words)


def paint_scale_bar(p: QPainter, view: View) -> None:
    """A round number of metres at the place that the camera looks at."""
    target = np.array(view.camera.target)
    ends = view.screen(np.stack([target, target + view.camera.axes()[0]]))
    pixels = abs(ends[1, 0] - ends[0, 0])
    metres = next((m for m in METRES if m * pixels > 60), 100.0)
    text = f"{metres * 100:g} cm" if metres < 1 else f"{metres:g} m"
    x, y, w = view.box.left() + 16.0, 22.0, metres * pixels
    p.setPen(QPen(theme.color("ink"), 1.5))
    p.drawLine(QPointF(x, y), QPointF(x + w, y))
    p.drawLine(QPointF(x, y - 4), QPointF(x, y))
    p.drawLine(QPointF(x + w, y - 4), QPointF(x + w, y))
    p.setFont(theme.font(theme.SMALL))
    halo(p, QPointF(x + w + 6, y + 3), text)


def paint_names(p: QPainter, scene: Scene, selection: Selection, view: View) -> None:
    """The names of some of the chosen bones."""
    p.setFont(theme.font(theme.SMALL, strong=True))
    for f, state in zip(scene.figures, view.states):
        # clusters are many, and close to each other: their part is named in the details
        single = sorted(b for b in selection.of(f.id) if f.soft_of(b) is None or len(selection.of(f.id)) == 1)
        for name in single[:6]:
            x, y, depth = view.screen(state.matrices[f.bone_index[name]][None, :3, 3])[0]
            if depth > 0:
                halo(p, QPointF(x + 10, y - 8), name)
