"""The canvas of the editor: curves and their keys, or the keys' times alone, to pick, drag and scale."""

from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any, Literal

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QGraphicsItem, QGraphicsPolygonItem, QWidget

from artuline.core.bake.layer_keys import Name
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Channel
from artuline.core.motion.keys import Curves, curves_of, inserted, moved, scaled
from artuline.desk import theme
from artuline.desk.stations.curves.editor.editing import MANY, PATHS, Edit, Editing

NEAR = 9.0  # pixels
HANDLE = 46.0  # pixels that the handle of a slope is long
AXIS_COLORS = ("vermilion", "teal", "brass")
DASHES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine)
MARKS = ("o", "s", "t1")  # of the keys of x, y and z
OWN_KEYS = (
    Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Insert, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown, Qt.Key.Key_Home,
    Qt.Key.Key_Plus, Qt.Key.Key_Minus,
)  # fmt: skip
ROW = 15.0  # pixels of a row of the keys' times, at least
ZOOM = 1.0015  # for a unit of the wheel


@dataclass
class _Hand:
    """What the mouse holds: where it began (pixels), and what of."""

    kind: Literal["keys", "handle", "box", "lasso", "pan", "scale time", "scale value"]
    at: QPointF
    axis: int = 0
    name: Name = ("", "")
    row: int = 0
    side: int = 1
    shift: bool = False
    base: dict[Name, np.ndarray] = field(default_factory=dict)
    before: dict[Name, Channel] = field(default_factory=dict)
    view: tuple[Array, Array] | None = None
    path: list[QPointF] | None = None


class Canvas(pg.PlotWidget):
    """Left: pick and drag; on nothing a box, with Control a free form. Middle: pan. Wheel: zoom, with Control frames only, with Shift values only, or in the view of times other rows."""

    #: The frame that was clicked on above the curves.
    frame_wanted = Signal(float)
    menu_wanted = Signal(QPointF)

    def __init__(self, editing: Editing, parent: QWidget | None = None):
        super().__init__(parent)
        self.editing, self.session = editing, editing.session
        self.times_only = False
        self.snap = True
        self._hand: _Hand | None = None
        self.setMenuEnabled(False)
        self.setMinimumWidth(200)
        self.hideButtons()
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Curves")
        self.setAccessibleDescription("Keys of the baked layer. Arrows move the picked keys; Tab picks the next one.")
        self.box = self.getPlotItem().getViewBox()
        self.box.setMouseEnabled(False, False)
        self.box.setDefaultPadding(0.04)
        # of what is dragged, and of all else, which stays as it is meanwhile
        self.lines = [pg.PlotCurveItem(connect="finite") for _ in range(6)]
        self.faint = pg.PlotCurveItem(connect="finite")
        self.keys = [pg.ScatterPlotItem(pxMode=True) for _ in range(6)]
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
            line.setPen(pg.mkPen(theme.color(AXIS_COLORS[i % 3]), width=1.0, style=DASHES[i % 3]))
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
            ticks = [
                (-float(r), n[0] if n[1] == "rotation" else f"{n[0]} {PATHS[n[1]].words}")
                for r, (n, _) in enumerate(shown)
            ]
            left = self.getAxis("left")
            left.setTicks([ticks] if self.times_only else None)
            left.setWidth(104 if self.times_only else 46)
        self.redraw_keys()

    def _draw_lines(self, shown: list[tuple[int, Name, tuple[int, ...]]], held: bool, many: bool) -> None:
        xs: list[list[Array]] = [[], [], []]
        ys: list[list[Array]] = [[], [], []]
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
                xs[a] += [frames, gap]
                ys[a] += [values[:, a], gap]
                if take is not None:
                    back[0].extend([take[0], gap])
                    back[1].extend([take[1][:, a], gap])
        for a in range(3):
            self.lines[a + (3 if held else 0)].setData(_joined(xs[a]), _joined(ys[a]))
        if not held:
            self.faint.setData(_joined(back[0]), _joined(back[1]))

    def _hold_lines(self, names: frozenset[Name]) -> None:
        """Draw some channels apart from the others, for as long as they are dragged; the take stays behind all."""
        self._held = frozenset()
        self.redraw()
        mode = QGraphicsItem.CacheMode.DeviceCoordinateCache if names else QGraphicsItem.CacheMode.NoCache
        for item in (self.faint, *self.lines[:3], *self.keys[:3]):
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
        _, _, _, axis, x, y, on = self.points(held)
        for a in range(3):
            mine = (axis == a) & ~on
            self.keys[a + (3 if held else 0)].setData(
                x[mine],
                y[mine],
                symbol=MARKS[a],
                size=7,
                pen=pg.mkPen(theme.color(AXIS_COLORS[a])),
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

    # the mouse

    def hit(self, at: QPointF) -> tuple[Name, int, int] | None:
        """The key under a pixel: channel, row, axis."""
        names, which, rows, axis, x, y, _ = self.points()
        if not len(x):
            return None
        px, py = self.to_pixels(x, y)
        d = np.hypot(px - at.x(), py - at.y())
        i = int(np.argmin(d))
        return (names[which[i]], int(rows[i]), int(axis[i])) if d[i] <= NEAR else None

    def _edge(self, at: QPointF) -> str | None:
        """Which edge of the frame around the picked keys is under a pixel."""
        polygon = self.frame_box.polygon()
        if polygon.isEmpty():
            return None
        r = polygon.boundingRect()
        (left, right), (low, high) = self.to_pixels(np.array([r.left(), r.right()]), np.array([r.top(), r.bottom()]))
        inside_x, inside_y = left - 4 <= at.x() <= right + 4, high - 4 <= at.y() <= low + 4
        if inside_y and min(abs(at.x() - left), abs(at.x() - right)) < 5:
            return "right" if abs(at.x() - right) < 5 else "left"
        if inside_x and min(abs(at.y() - low), abs(at.y() - high)) < 5:
            return "top" if abs(at.y() - high) < 5 else "bottom"
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at, keys = event.position(), event.modifiers()
        if event.button() == Qt.MouseButton.RightButton:
            self.menu_wanted.emit(event.globalPosition())
            return
        if event.button() == Qt.MouseButton.MiddleButton:
            view = self.box.viewRange()
            self._hand = _Hand("pan", at, view=(np.array(view[0]), np.array(view[1])))
            return
        self.setFocus()
        shift = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        area = self.box.sceneBoundingRect()
        if at.y() > area.bottom():
            self.frame_wanted.emit(round(self.from_pixels(at)[0]))
            return
        for name, row, axis, side, _, end in self.handles():
            px, py = self.to_pixels(np.array([end.x()]), np.array([end.y()]))
            if np.hypot(px[0] - at.x(), py[0] - at.y()) <= NEAR:
                self._hold(_Hand("handle", at, axis, name, row, side, shift))
                return
        found = self.hit(at)
        if found is not None:
            self._pick(found, shift)
            self._hold(_Hand("keys", at, shift=shift))
            return
        edge = self._edge(at)
        if edge is not None:
            self._hold(
                _Hand(
                    "scale time" if edge in ("left", "right") else "scale value",
                    at,
                    side=1 if edge in ("right", "top") else 0,
                )
            )
            return
        lasso = bool(keys & Qt.KeyboardModifier.ControlModifier)
        self._hand = _Hand("lasso" if lasso else "box", at, shift=shift, path=[at])

    def _pick(self, found: tuple[Name, int, int], shift: bool) -> None:
        name, row, axis = found
        one = np.zeros((len(self.editing.curves(name).times), 3), bool)
        if self.times_only:
            one[row] = True
        else:
            one[row, axis] = True
        held = self.editing.picked.get(name)
        if shift and held is not None and held[one].all():
            self.editing.pick({**self.editing.picked, name: held & ~one})
        elif held is None or not held[one].all():
            self.editing.pick({name: one}, add=shift)

    def _hold(self, hand: _Hand) -> None:
        self._hand = hand
        hand.base = dict(self.editing.picked)
        hand.before = {n: self.editing.channels()[n] for n in hand.base}

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        hand, at = self._hand, event.position()
        if hand is None:
            edge = self._edge(at) if self.hit(at) is None else None
            shape = {"left": Qt.CursorShape.SizeHorCursor, "right": Qt.CursorShape.SizeHorCursor}.get(
                edge or "", Qt.CursorShape.SizeVerCursor
            )
            self.setCursor(shape if edge else Qt.CursorShape.ArrowCursor)
        elif hand.kind == "pan" and hand.view is not None:
            px, py = self.pixel()
            move = at - hand.at
            x, y = hand.view[0] - move.x() * px, hand.view[1] + move.y() * py
            self.box.setRange(xRange=tuple(x), yRange=tuple(y), padding=0.0)
        elif hand.kind in ("box", "lasso"):
            self._draw_form(hand, at)
        else:
            if not self._held:
                self._hold_lines(frozenset(hand.base))
            channels, picks = self._dragged(hand, at)
            change = self.editing.change(channels)
            if change is not None and channels:
                self.editing.picked = picks
                self.session.preview(change)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        hand, self._hand = self._hand, None
        at = event.position()
        if hand is None or hand.kind == "pan":
            return
        if hand.kind in ("box", "lasso"):
            self._draw_form(hand, at)
            self._pick_form(hand)
            self.form.setPolygon(QPolygonF())
            return
        self.session.cancel_preview()
        self._hold_lines(frozenset())
        self.editing.picked = hand.base
        if (at - hand.at).manhattanLength() < 3:
            self.redraw()
            return
        words = {
            "keys": "Move keys",
            "handle": "Turn a tangent",
            "scale time": "Scale keys in time",
            "scale value": "Scale keys",
        }[hand.kind]
        channels, picks = self._dragged(hand, at)
        self.editing.put(words, channels, picks)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        frame, value = self.from_pixels(event.position())
        self.insert(frame, value)

    def _dragged(self, hand: _Hand, at: QPointF) -> tuple[dict[Name, Channel], dict[Name, np.ndarray]]:
        """What the drag makes of the layer as it was when it began, and which keys are picked then."""
        rate = self.session.scene.rate
        (x0, y0), (x1, y1) = self.from_pixels(hand.at), self.from_pixels(at)
        frames = float(round(x1 - x0)) if self.snap else x1 - x0
        if hand.kind == "keys":
            by = 0.0 if self.times_only else y1 - y0
            edit: Edit = partial(_moved, seconds=frames / rate, by=by)
        elif hand.kind == "handle":
            return self._turned(hand, x1, y1)
        else:
            edit = self._scaling(hand, x1, y1)
        return self.editing.made(edit, hand.base, hand.before)

    def _scaling(self, hand: _Hand, x: float, y: float) -> Edit:
        rate = self.session.scene.rate
        frames, values = [], []
        for n, p in hand.base.items():
            c = curves_of(hand.before[n], self.editing.order(n), self.editing.scale(n[1]))
            frames.append(c.times[p.any(axis=1)] * rate)
            values.append(c.values[p])
        f, v = np.concatenate(frames), np.concatenate(values)
        if hand.kind == "scale time":
            fixed, held = (f.min(), f.max()) if hand.side else (f.max(), f.min())
            aim = round(x) if self.snap else x
            factor = (aim - fixed) / (held - fixed) if held != fixed else 1.0
            return lambda c, p: scaled(c, p, (fixed / rate, factor), (0.0, 1.0))
        fixed, held = (v.min(), v.max()) if hand.side else (v.max(), v.min())
        factor = (y - fixed) / (held - fixed) if held != fixed else 1.0
        return lambda c, p: scaled(c, p, (0.0, 1.0), (fixed, factor))

    def _turned(self, hand: _Hand, x: float, y: float) -> tuple[dict[Name, Channel], dict[Name, np.ndarray]]:
        """A slope that follows the mouse; both sides where they were one, unless Shift is held."""
        rate = self.session.scene.rate

        def edit(c: Curves, p: np.ndarray) -> tuple[Curves, np.ndarray]:
            dx, dy = x - c.times[hand.row] * rate, y - c.values[hand.row, hand.axis]
            dx = max(dx, 0.05) if hand.side else min(dx, -0.05)
            slope = dy / dx * rate
            one = abs(c.into[hand.row, hand.axis] - c.out[hand.row, hand.axis]) <= 1e-3 * (
                1.0 + abs(c.out[hand.row, hand.axis])
            )
            into, out = c.into.copy(), c.out.copy()
            if hand.side == 0 or (one and not hand.shift):
                into[hand.row, hand.axis] = slope
            if hand.side == 1 or (one and not hand.shift):
                out[hand.row, hand.axis] = slope
            return replace(c, into=into, out=out), np.arange(len(c.times))

        channels, _ = self.editing.made(edit, {hand.name: hand.base[hand.name]}, hand.before)
        return channels, hand.base

    def _draw_form(self, hand: _Hand, at: QPointF) -> None:
        assert hand.path is not None
        hand.path.append(at)
        points = (
            hand.path
            if hand.kind == "lasso"
            else [hand.at, QPointF(at.x(), hand.at.y()), at, QPointF(hand.at.x(), at.y())]
        )
        self.form.setPolygon(QPolygonF([QPointF(*self.from_pixels(p)) for p in points]))

    def _pick_form(self, hand: _Hand) -> None:
        names, which, rows, axis, x, y, _ = self.points()
        polygon = self.form.polygon()
        inside = np.array([polygon.containsPoint(QPointF(a, b), Qt.FillRule.OddEvenFill) for a, b in zip(x, y)], bool)
        picked: dict[Name, np.ndarray] = {}
        for i in np.flatnonzero(inside):
            name = names[which[i]]
            p = picked.setdefault(name, np.zeros((len(self.editing.curves(name).times), 3), bool))
            p[rows[i], slice(None) if self.times_only else axis[i]] = True
        self.editing.pick(picked, add=hand.shift)

    # keys

    def insert(self, frame: float, value: float | None = None) -> None:
        """Insert a key at a frame, into the curve nearest to a height, else into all that are shown; no shape changes."""
        frame = float(round(frame)) if self.snap else frame
        rate = self.session.scene.rate
        names = list(self.editing.shown())
        if value is not None and names and not self.times_only:
            far = []
            for n in names:
                frames, values = self.editing.line(n, False)
                far.append(
                    min(abs(float(np.interp(frame, frames, values[:, a])) - value) for a in self.editing.axes(n))
                )
            names = [names[int(np.argmin(far))]]
        channels = {n: inserted(self.editing.channels()[n], frame / rate) for n in names}
        picks = {n: np.repeat((np.abs(c.times - frame / rate) < 1e-5)[:, None], 3, axis=1) for n, c in channels.items()}
        self.editing.put("Insert keys", channels, picks)

    def nudge(self, frames: float, share: float) -> None:
        """Move the picked keys by frames, and by a share of the height that is seen."""
        rate, (_, (low, high)) = self.session.scene.rate, self.box.viewRange()
        by = 0.0 if self.times_only else share * (high - low)
        self.editing.apply("Move keys", lambda c, p: moved(c, p, frames / rate, by))

    def step(self, by: int) -> None:
        """Pick the next key, or the one before."""
        names, which, rows, axis, x, _, on = self.points()
        if not len(x):
            return
        order = np.lexsort((axis, which, x)) if self.times_only else np.lexsort((x, axis, which))
        here = np.flatnonzero(on[order])
        i = order[(int(here[-1 if by > 0 else 0]) + by) % len(order)] if len(here) else order[0]
        self.editing.pick({})
        self._pick((names[which[i]], int(rows[i]), int(axis[i])), False)

    def event(self, event: QEvent) -> bool:
        # its own keys go before those of the window
        if (
            event.type() == QEvent.Type.ShortcutOverride
            and isinstance(event, QKeyEvent)
            and Qt.Key(event.key()) in OWN_KEYS
        ):
            event.accept()
            return True
        return bool(super().event(event))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        large = 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        moves = {
            Qt.Key.Key_Left: (-large, 0.0), Qt.Key.Key_Right: (large, 0.0), Qt.Key.Key_Up: (0, 0.01 * large), Qt.Key.Key_Down: (0, -0.01 * large)
        }  # fmt: skip
        key = Qt.Key(event.key())
        if key in moves and self.editing.picked:
            self.nudge(*moves[key])
        elif key == Qt.Key.Key_Insert:
            self.insert(self.session.frame)
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self.step(-1 if key == Qt.Key.Key_PageUp else 1)
        elif key == Qt.Key.Key_Home:
            self.frame_all()
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            f = 0.8 if key == Qt.Key.Key_Plus else 1.25
            (x0, x1), (y0, y1) = self.box.viewRange()
            self.zoom(f, f, 0.5 * (x0 + x1), 0.5 * (y0 + y1))
        else:
            event.ignore()


def _moved(c: Curves, p: np.ndarray, seconds: float, by: float) -> tuple[Curves, np.ndarray]:
    return moved(c, p, seconds, by)


def _joined(parts: list[Array]) -> Array:
    return np.concatenate(parts) if parts else np.zeros(0)
