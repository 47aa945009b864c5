"""The canvas of the editor: keys are picked, dragged and scaled by the mouse, and moved by the keyboard."""

from dataclasses import dataclass, field
from functools import partial
from typing import Literal

import numpy as np
from PySide6.QtCore import QEvent, QPointF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPolygonF
from PySide6.QtWidgets import QWidget

from artuline.core.bake.layer_keys import Name
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keys import Curves, curves_of, inserted, moved, scaled, with_slope
from artuline.desk.stations.curves.editor.curve_view import CurveView
from artuline.desk.stations.curves.editor.editing import Edit, Editing

NEAR = 9.0  # pixels
OWN_KEYS = (
    Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Insert, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown, Qt.Key.Key_Home,
    Qt.Key.Key_Plus, Qt.Key.Key_Minus,
)  # fmt: skip


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


class Canvas(CurveView):
    """Left: pick and drag; on nothing a box, with Control a free form. Middle: pan."""

    #: The frame that was clicked on above the curves.
    frame_wanted = Signal(float)
    menu_wanted = Signal(QPointF)

    def __init__(self, editing: Editing, parent: QWidget | None = None):
        super().__init__(editing, parent)
        self._hand: _Hand | None = None

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
        one = np.zeros(self.editing.curves(name).values.shape, bool)
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
            both = one and not hand.shift
            sides = both or hand.side == 0, both or hand.side == 1
            return with_slope(c, hand.row, hand.axis, sides, slope), np.arange(len(c.times))

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
            p = picked.setdefault(name, np.zeros(self.editing.curves(name).values.shape, bool))
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
        here = {n: (np.abs(c.times - frame / rate) < 1e-5)[:, None] for n, c in channels.items()}
        picks = {n: np.repeat(rows, self.editing.width(n), axis=1) for n, rows in here.items()}
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
