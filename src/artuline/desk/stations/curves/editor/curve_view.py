"""How the editor draws curves and their keys, and how the view of them moves."""

from typing import Any

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPolygonF, QWheelEvent
from PySide6.QtWidgets import QGraphicsItem, QGraphicsPolygonItem, QWidget

from artuline.core.bake.layer_keys import Name
from artuline.core.geometry.rotation import Array
from artuline.desk import theme
from artuline.desk.stations.curves.editor.editing import MANY, Editing
from artuline.desk.stations.curves.editor.sources import words_of

HANDLE = 46.0  # pixels that the handle of a slope is long
# of x, y and z, or of lanes of one number, and how their keys are drawn
COLORS = ("vermilion", "teal", "brass", "ink")
DASHES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)
MARKS = ("o", "s", "t1", "d")
SLOTS = len(COLORS)
ROW = 15.0  # pixels of a row of the keys' times, at least
ZOOM = 1.0015  # for a unit of the wheel


class CurveView(pg.PlotWidget):
    """Draws what the editing shows, as curves or as rows of times; the wheel zooms, with Control frames only, with Shift values only, or in the view of times other rows."""

    def __init__(self, editing: Editing, parent: QWidget | None = None):
        super().__init__(parent)
        self.editing, self.session = editing, editing.session
        self.times_only = False
        self.snap = True
        self.setMenuEnabled(False)
        self.setMinimumWidth(200)
        self.hideButtons()
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Curves")
        self.setAccessibleDescription(
            "Keys of a layer, a clip or lanes. Arrows move the picked keys; The page keys pick the next one."
        )
        self.box = self.getPlotItem().getViewBox()
        self.box.setMouseEnabled(False, False)
        self.box.setDefaultPadding(0.04)
        # of what is dragged, and of all else, which stays as it is meanwhile
        self.lines = [pg.PlotCurveItem(connect="finite") for _ in range(2 * SLOTS)]
        self.faint = pg.PlotCurveItem(connect="finite")
        self.keys = [pg.ScatterPlotItem(pxMode=True) for _ in range(2 * SLOTS)]
        self._held: frozenset[Name] = frozenset()
        self.chosen_keys = pg.ScatterPlotItem(pxMode=True)
        self.handle_lines, self.handle_ends = pg.PlotCurveItem(connect="pairs"), pg.ScatterPlotItem(pxMode=True)
        self.now = pg.InfiniteLine(angle=90, movable=False)
        self.frame_box = QGraphicsPolygonItem()
        self.form = QGraphicsPolygonItem()
        for item in (
            self.faint,
            *self.lines,
            self.handle_lines,
            *self.keys,
            self.handle_ends,
            self.chosen_keys,
            self.now,
        ):
            self.addItem(item, ignoreBounds=True)
        for polygon in (self.frame_box, self.form):
            polygon.setZValue(20)
            self.box.addItem(polygon, ignoreBounds=True)
        self.restyle()
        editing.changed.connect(self.redraw)
        editing.picked_changed.connect(self.redraw_keys)
        self.session.frame_changed.connect(self._frame_changed)
        self.box.sigRangeChanged.connect(self._handles)
        self._frame_changed()

    # looks

    def restyle(self) -> None:
        """Colours of the theme."""
        self.setBackground(theme.color("paper"))
        for i, line in enumerate(self.lines):
            line.setPen(pg.mkPen(theme.color(COLORS[i % SLOTS]), width=1.0, style=DASHES[i % SLOTS]))
        self.faint.setPen(pg.mkPen(theme.color("faint", 0.55), width=1.0))
        self.now.setPen(pg.mkPen(theme.color("ink"), width=1.0))
        self.handle_lines.setPen(pg.mkPen(theme.color("faint"), width=1.0))
        self.frame_box.setPen(pg.mkPen(theme.color("faint"), width=1.0, style=Qt.PenStyle.DotLine))
        self.form.setPen(pg.mkPen(theme.color("ink"), width=1.0, style=Qt.PenStyle.DashLine))
        self.form.setBrush(theme.color("ink", 0.06))
        for side in ("left", "bottom"):
            axis = self.getAxis(side)
            axis.setPen(pg.mkPen(theme.color("rule")))
            axis.setTextPen(pg.mkPen(theme.color("faint")))
            axis.setStyle(tickFont=theme.font(theme.SMALL), tickLength=4)
        self.getAxis("left").setWidth(46)
        self.showGrid(x=True, y=True, alpha=0.12)
        self.redraw()

    def _frame_changed(self) -> None:
        self.now.setValue(self.session.frame)

    def _shown(self) -> list[tuple[Name, tuple[int, ...]]]:
        return [(n, self.editing.axes(n)) for n in self.editing.shown()]

    def redraw(self) -> None:
        """Lines and keys anew; while something is dragged, only its own."""
        if not self.isVisible():
            return
        shown = self._shown()
        many = sum(len(a) for _, a in shown) > MANY
        for held in (True, False):
            if held or not self._held:
                self._draw_lines([(r, n, a) for r, (n, a) in enumerate(shown) if (n in self._held) == held], held, many)
        if not self._held:
            ticks = [(-float(r), words_of(n, self.editing.figure())) for r, (n, _) in enumerate(shown)]
            left = self.getAxis("left")
            left.setTicks([ticks] if self.times_only else None)
            left.setWidth(104 if self.times_only else 46)
        self.redraw_keys()

    def _draw_lines(self, shown: list[tuple[int, Name, tuple[int, ...]]], held: bool, many: bool) -> None:
        xs: list[list[Array]] = [[] for _ in COLORS]
        ys: list[list[Array]] = [[] for _ in COLORS]
        back: tuple[list[Array], list[Array]] = [], []
        gap = np.array([np.nan])
        for row, name, axes in shown:
            if self.times_only:
                t = self.editing.channels()[name].times * self.session.scene.rate
                xs[0] += [t[[0, -1]], gap]
                ys[0] += [np.full(2, -float(row)), gap]
                continue
            frames, values = self.editing.line(name, many)
            take = self.editing.behind(name) if not many and not held else None
            for a in axes:
                slot = self.editing.slot(name, a)
                xs[slot] += [frames, gap]
                ys[slot] += [values[:, a], gap]
                if take is not None:
                    back[0].extend([take[0], gap])
                    back[1].extend([take[1][:, a], gap])
        for slot in range(SLOTS):
            self.lines[slot + (SLOTS if held else 0)].setData(_joined(xs[slot]), _joined(ys[slot]))
        if not held:
            self.faint.setData(_joined(back[0]), _joined(back[1]))

    def _hold_lines(self, names: frozenset[Name]) -> None:
        """Draw some channels apart from the others, for as long as they are dragged; the take stays behind all."""
        self._held = frozenset()
        self.redraw()
        mode = QGraphicsItem.CacheMode.DeviceCoordinateCache if names else QGraphicsItem.CacheMode.NoCache
        for item in (self.faint, *self.lines[:SLOTS], *self.keys[:SLOTS]):
            item.setCacheMode(mode)
        if names:
            faint = self.faint.xData, self.faint.yData
            shown = [(r, n, a) for r, (n, a) in enumerate(self._shown()) if n not in names]
            self._draw_lines(shown, False, sum(len(a) for _, a in self._shown()) > MANY)
            self.faint.setData(*faint)
            self._held = names
            self._draw_keys(False)
            self.redraw()

    def points(
        self, held: bool | None = None
    ) -> tuple[list[Name], np.ndarray, np.ndarray, np.ndarray, Array, Array, np.ndarray]:
        """All keys that are drawn: names, and of every key which of them, its row, its axis, its frame and height, and whether it is picked.
        ``held``: only of channels that are dragged, or that are not.
        """
        names, rate = [], self.session.scene.rate
        parts: list[tuple[Any, ...]] = []
        for k, (name, axes) in enumerate(self._shown()):
            names.append(name)
            if held is not None and (name in self._held) != held:
                continue
            c, picked = self.editing.curves(name), self.editing.picked.get(name)
            n = len(c.times)
            for a in axes[:1] if self.times_only else axes:
                heights = np.full(n, -float(k)) if self.times_only else c.values[:, a]
                on = np.zeros(n, bool) if picked is None else (picked.any(axis=1) if self.times_only else picked[:, a])
                parts.append((np.full(n, k), np.arange(n), np.full(n, a), c.times * rate, heights, on))
        if not parts:
            z = np.zeros(0)
            return names, z.astype(int), z.astype(int), z.astype(int), z, z, z.astype(bool)
        which, rows, axis, x, y, on = (np.concatenate([p[i] for p in parts]) for i in range(6))
        return names, which, rows, axis, x, y, on

    def redraw_keys(self) -> None:
        """Keys and their handles anew."""
        if not self.isVisible():
            return
        for held in (True, False):
            if held or not self._held:
                self._draw_keys(held)
        span = self.editing.span()
        if span is not None and self.editing.count() > 1 and not self.times_only and span[1] > span[0]:
            px, py = self.pixel()
            grow_x, grow_y = 13.0 * px, 13.0 * py
            self.frame_box.setPolygon(
                QPolygonF(
                    QRectF(
                        span[0] - grow_x,
                        span[2] - grow_y,
                        span[1] - span[0] + 2 * grow_x,
                        span[3] - span[2] + 2 * grow_y,
                    )
                )
            )
        else:
            self.frame_box.setPolygon(QPolygonF())
        self._handles()

    def _draw_keys(self, held: bool) -> None:
        names, which, _, axis, x, y, on = self.points(held)
        slots = axis + np.array([self.editing.slot(n, 0) for n in names], int)[which] if len(which) else axis
        for a in range(SLOTS):
            mine = (slots == a) & ~on
            self.keys[a + (SLOTS if held else 0)].setData(
                x[mine],
                y[mine],
                symbol=MARKS[a],
                size=7,
                pen=pg.mkPen(theme.color(COLORS[a])),
                brush=theme.color("raised"),
            )
        if held or not self._held:
            if not self._held:
                _, _, _, _, x, y, on = self.points()
            self.chosen_keys.setData(x[on], y[on], symbol="d" if self.times_only else "o", size=10, pen=pg.mkPen(theme.color("ink"), width=1.5),
                                     brush=theme.color("ink"))  # fmt: skip

    def pixel(self) -> tuple[float, float]:
        """Frames and values that a pixel is wide and high."""
        (x0, x1), (y0, y1) = self.box.viewRange()
        return (x1 - x0) / max(self.box.width(), 1.0), (y1 - y0) / max(self.box.height(), 1.0)

    def handles(self) -> list[tuple[Name, int, int, int, QPointF, QPointF]]:
        """The handles of picked keys, for a few: channel, row, axis, side (0 in, 1 out), the key's place, and the handle's end."""
        if self.times_only or not 0 < self.editing.count() <= 24:
            return []
        px, py = self.pixel()
        rate, found = self.session.scene.rate, []
        for name, p in self.editing.picked.items():
            if name not in self.editing.shown():
                continue
            c = self.editing.curves(name)
            for row, a in zip(*np.nonzero(p)):
                if a not in self.editing.axes(name):
                    continue
                for side, slope in ((0, c.into[row, a]), (1, c.out[row, a])):
                    if (side == 0 and row == 0) or (side == 1 and row == len(c.times) - 1):
                        continue
                    way = np.array([1.0 / px, slope / rate / py])
                    way *= (HANDLE if side else -HANDLE) / np.linalg.norm(way)
                    at = QPointF(c.times[row] * rate, c.values[row, a])
                    found.append((name, int(row), int(a), side, at, at + QPointF(way[0] * px, way[1] * py)))
        return found

    def _handles(self, *_: object) -> None:
        found = self.handles()
        ends = np.array([[e.x(), e.y()] for *_, e in found]).reshape(-1, 2)
        pairs = np.array([[p.x(), p.y()] for *_, a, e in found for p in (a, e)]).reshape(-1, 2)
        self.handle_lines.setData(pairs[:, 0], pairs[:, 1])
        self.handle_ends.setData(
            ends[:, 0], ends[:, 1], symbol="o", size=7, pen=pg.mkPen(theme.color("faint")), brush=theme.color("paper")
        )

    # the view

    def frame_all(self, picked: bool = False) -> None:
        """Show all curves, or the picked keys, as large as they may be."""
        _, _, _, _, x, y, on = self.points()
        if picked and on.any():
            x, y = x[on], y[on]
        elif not self.times_only:
            more = [(line.xData, line.yData) for line in self.lines if line.xData is not None and len(line.xData)]
            x = np.concatenate([x, *(np.asarray(m[0]) for m in more)])
            y = np.concatenate([y, *(np.asarray(m[1]) for m in more)])
        x, y = x[np.isfinite(x)], y[np.isfinite(y)]
        if not len(x):
            x, y = np.array([self.session.scene.start, self.session.scene.end], float), np.array([-1.0, 1.0])
        wide, high = max(np.ptp(x), 4.0), max(np.ptp(y), 1e-3)
        cx, cy = 0.5 * (x.min() + x.max()), 0.5 * (y.min() + y.max())
        if self.times_only:
            # rows that can be read, from the first
            high = max(self.box.height() / ROW, 2.0) / 1.16
            cy = 0.8 - 0.58 * high
        self.box.setRange(
            xRange=(cx - 0.54 * wide, cx + 0.54 * wide), yRange=(cy - 0.58 * high, cy + 0.58 * high), padding=0.0
        )

    def to_pixels(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Frames and heights as pixels of the widget."""
        (x0, x1), (y0, y1) = self.box.viewRange()
        r = self.box.sceneBoundingRect()
        return r.left() + (x - x0) / (x1 - x0) * r.width(), r.bottom() - (y - y0) / (y1 - y0) * r.height()

    def from_pixels(self, at: QPointF) -> tuple[float, float]:
        """A pixel of the widget as frame and height."""
        p = self.box.mapSceneToView(self.mapToScene(at.toPoint()))
        return p.x(), p.y()

    def wheelEvent(self, event: QWheelEvent) -> None:
        factor = ZOOM ** -event.angleDelta().y()
        x, y = self.from_pixels(event.position())
        keys = event.modifiers()
        if self.times_only and keys & Qt.KeyboardModifier.ShiftModifier:
            self.roll(-event.angleDelta().y() / 120.0)
            event.accept()
            return
        fx = 1.0 if keys & Qt.KeyboardModifier.ShiftModifier else factor
        fy = 1.0 if keys & Qt.KeyboardModifier.ControlModifier or self.times_only else factor
        self.zoom(fx, fy, x, y)
        event.accept()

    def roll(self, rows: float) -> None:
        """See other rows of the keys' times."""
        low, high = self.box.viewRange()[1]
        last = -float(len(self.editing.shown())) + 0.2
        by = min(max(-2.0 * rows, last - low if last < low else 0.0), 0.8 - high)
        self.box.setRange(yRange=(low + by, high + by), padding=0.0)

    def zoom(self, fx: float, fy: float, x: float, y: float) -> None:
        """Zoom about a frame and height."""
        (x0, x1), (y0, y1) = self.box.viewRange()
        self.box.setRange(
            xRange=(x + (x0 - x) * fx, x + (x1 - x) * fx), yRange=(y + (y0 - y) * fy, y + (y1 - y) * fy), padding=0.0
        )


def _joined(parts: list[Array]) -> Array:
    return np.concatenate(parts) if parts else np.zeros(0)
