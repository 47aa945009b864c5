"""The timeline's lanes: one row for every group, drawn from the keyed colour to the physics colour and shaped by its points."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QLinearGradient, QPainter, QPainterPath, QPen

from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Group, Key, Lane, Scene
from artuline.desk import theme
from artuline.desk.model.drag import Change, Drag, Pointer
from artuline.desk.model.frame_scale import FrameScale
from artuline.desk.model.session import Session
from artuline.desk.timeline.rows import LABELS, Choice, Edit, Row, Still, paint_label

ROOM, LEAST = 132.0, 26.0  # pixels for all lanes, and for one at least
GRIP = 9.0
KINDS = ("handover", "tone", "steadiness", "calm")
COLORS = {"handover": "vermilion", "tone": "teal", "steadiness": "ink", "calm": "brass"}


class Lanes:
    """Which of its lanes every group shows, and the rows."""

    def __init__(self, session: Session):
        self.session = session
        self._kinds: dict[tuple[str, str], str] = {}
        self._none = NoLanes()

    def kind(self, figure: str, group: str) -> str:
        """Which of a group's lanes is shown."""
        return self._kinds.get((figure, group), "handover")

    def show(self, figure: str, group: str, kind: str) -> None:
        """Show another lane of a group."""
        self._kinds[figure, group] = kind

    def rows(self) -> Sequence[Row]:
        """A lane for every group; a figure without groups has one empty lane. Of many that are alike, those of the first and of the chosen one."""
        seen = [
            f for f in self.session.scene.cast if f.bodies and (f.like is None or f.id == self.session.selection.figure)
        ]
        whose = [(f.id, g.id if g else None) for f in seen for g in f.groups or (None,)]
        # lower where there are many, and no lower than can be grabbed
        height = max(ROOM / max(len(whose), 3), LEAST)
        return [LaneRow(self, figure, group, height) for figure, group in whose] or [self._none]


class NoLanes(Still):
    """Says what comes first."""

    height = 44.0
    scrolls = True

    def paint(self, p: QPainter, box: QRectF, scale: FrameScale, hot: str) -> None:
        """The words."""
        p.setPen(theme.color("faint"))
        area = box.adjusted(LABELS, 0, 0, 0)
        p.drawText(area, Qt.AlignmentFlag.AlignCenter, "Fit bodies first: then the handover to physics is drawn here")


@dataclass(frozen=True)
class LaneRow:
    """One lane of a group, or the empty one of a figure."""

    lanes: Lanes
    figure: str
    group: str | None
    height: float
    scrolls: bool = True

    # what it shows

    @property
    def kind(self) -> str:
        """Which lane."""
        return self.lanes.kind(self.figure, self.group) if self.group is not None else "handover"

    def _figure(self) -> Figure:
        return self.lanes.session.scene.figure(self.figure)

    def _group(self) -> Group | None:
        return next((g for g in self._figure().groups if g.id == self.group), None)

    def lane(self) -> Lane:
        """The lane that is shown, as the scene has it now."""
        g = self._group()
        lane: Lane = getattr(g, self.kind) if g is not None else Lane()
        return lane

    def point(self, box: QRectF, scale: FrameScale, key: Key) -> QPointF:
        """Where a key is drawn."""
        return self._point(box, scale, key.frame, key.value)

    @staticmethod
    def _point(box: QRectF, scale: FrameScale, frame: float, value: float) -> QPointF:
        area = box.adjusted(0, 2, 0, -2)
        return QPointF(scale.x(frame), area.bottom() - 6 - value * (area.height() - 14))

    def _line(self, lane: Lane, scale: FrameScale) -> list[tuple[float, float]]:
        """Frames and values between which the lane is drawn straight."""
        if lane.straight:
            return [(k.frame, k.value) for k in lane.keys] or [(self.lanes.session.scene.start, lane.rest)]
        a, b = lane.keys[0].frame, lane.keys[-1].frame
        # every third pixel, and on both sides of what jumps
        frames = [x for k in lane.keys for x in (k.frame - 1e-6, k.frame)]
        fine = np.union1d(frames, np.linspace(a, b, max(int((scale.x(b) - scale.x(a)) / 3), 2)))
        return list(zip(fine.tolist(), lane.value(fine).tolist()))

    @staticmethod
    def _value(box: QRectF, at: QPointF) -> float:
        area = box.adjusted(0, 2, 0, -2)
        return (area.bottom() - 6 - at.y()) / (area.height() - 14)

    # painting

    def paint(self, p: QPainter, box: QRectF, scale: FrameScale, hot: str) -> None:
        """The band of the lane with its points."""
        f, g, kind, lane, s = self._figure(), self._group(), self.kind, self.lane(), self.lanes.session
        value = "" if g is None else f" {float(lane.value(s.frame)):.2f}"
        several = sum(1 for x in s.scene.cast if x.bodies) > 1
        name = f.name if g is None else (f"{f.name}: {g.name}" if several else g.name)
        inner = box.adjusted(0, 2, 0, -2)
        paint_label(p, inner.top(), inner.height(), name, f"{kind}{value} ▾" if inner.height() > 32 else "")
        left, right = scale.x(s.scene.start), scale.x(s.scene.end)
        area = QRectF(left, inner.top() + 2, right - left, inner.height() - 4)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.color("teal" if kind == "handover" else "rule", 0.20 if kind == "handover" else 0.5))
        p.drawRoundedRect(area, 3, 3)
        if kind == "handover" and (g is None or (not any(k.value > 0 for k in lane.keys) and lane.rest == 0.0)):
            p.setPen(theme.color("teal_text"))
            p.setFont(theme.font(theme.PLAIN))
            p.drawText(area, Qt.AlignmentFlag.AlignCenter, "Drag here to hand the figure over to physics")
            return
        assert g is not None
        # a fall that would be a jump is drawn as it acts
        self._paint_band(p, box, scale, g.acting(s.scene.rate) if kind == "handover" else lane)
        if g.muted or (any(x.solo for x in f.groups) and not g.solo):
            p.setBrush(theme.color("paper", 0.7))
            p.drawRect(area)
        self._paint_words(p, inner, area, scale, lane)
        for i, k in enumerate(lane.keys):
            strong = hot == str(i)
            p.setPen(QPen(theme.color("ink"), 1.5))
            p.setBrush(theme.color("ink" if strong else "raised"))
            p.drawEllipse(self.point(box, scale, k), 5.0 if strong else 4.0, 5.0 if strong else 4.0)

    def _paint_band(self, p: QPainter, box: QRectF, scale: FrameScale, lane: Lane) -> None:
        scene = self.lanes.session.scene
        left, right, floor = scale.x(scene.start), scale.x(scene.end), box.bottom() - 8
        places = [self._point(box, scale, f, v) for f, v in self._line(lane, scale)]
        path = QPainterPath(QPointF(left, floor))
        path.lineTo(QPointF(left, places[0].y()))
        for at in places:
            path.lineTo(QPointF(min(max(at.x(), left), right), at.y()))
        path.lineTo(QPointF(right, places[-1].y()))
        path.lineTo(QPointF(right, floor))
        path.closeSubpath()
        fill = QLinearGradient(QPointF(0, box.bottom() - 2), QPointF(0, box.top() + 2))
        if self.kind == "handover":
            fill.setColorAt(0.0, theme.color("teal", 0.75))
            fill.setColorAt(0.75, theme.color("vermilion", 0.85))
        else:
            fill.setColorAt(0.0, theme.color(COLORS[self.kind], 0.25))
            fill.setColorAt(1.0, theme.color(COLORS[self.kind], 0.7))
        p.setBrush(fill)
        p.setPen(Qt.PenStyle.NoPen)
        p.drawPath(path)

    def _paint_words(self, p: QPainter, inner: QRectF, area: QRectF, scale: FrameScale, lane: Lane) -> None:
        p.setFont(theme.font(theme.SMALL, strong=True))
        kind = self.kind
        if kind != "handover":
            p.setPen(theme.color("ink"))
            words = kind if lane.keys else f"{kind} {lane.rest:.2f} throughout: double click to key it"
            p.drawText(area.adjusted(10, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, words)
            return
        middle = [k for k in lane.keys if k.value >= 1.0]
        if middle:
            a, b = scale.x(middle[0].frame), scale.x(middle[-1].frame)
            if b - a > 70:
                p.setPen(theme.color("raised"))
                words_box = QRectF(a, inner.top() + 6, b - a, inner.height() - 12)
                p.drawText(words_box, Qt.AlignmentFlag.AlignCenter, "physics")

    # the mouse

    def hit(self, at: QPointF, box: QRectF, scale: FrameScale) -> str:
        """The number of the point under the mouse."""
        near = []
        for i, k in enumerate(self.lane().keys):
            spot = self.point(box, scale, k)
            near.append((abs(spot.x() - at.x()) + 0.5 * abs(spot.y() - at.y()), i))
        best = min(near, default=(GRIP + 1.0, 0))
        return str(best[1]) if best[0] <= GRIP else ""

    def press(self, at: QPointF, box: QRectF, scale: FrameScale) -> Drag | None:
        """Take a point, or the whole interval, or draw one where there is none."""
        handle, lane = self.hit(at, box, scale), self.lane()
        if handle:
            return self._drag_point(int(handle), lane, box, scale)
        if self.kind != "handover":
            return None
        if not any(k.value > 0 for k in lane.keys):
            return self._drag_interval(round(scale.frame(at.x())), scale)
        if self.group is not None and lane.keys[0].frame < scale.frame(at.x()) < lane.keys[-1].frame:
            return self._drag_whole(scale.frame(at.x()), lane, scale)
        return None

    def _frame(self, at: QPointF, scale: FrameScale) -> int:
        scene = self.lanes.session.scene
        return round(min(max(scale.frame(at.x()), scene.start), scene.end))

    def _drag_point(self, i: int, lane: Lane, box: QRectF, scale: FrameScale) -> Drag:
        kind = self.kind

        def change(pointer: Pointer) -> Change:
            value = float(np.clip(round(self._value(box, pointer.at), 2), 0.0, 1.0))
            if kind == "handover" and abs(self._value(box, pointer.at) - lane.keys[i].value) < 0.25:
                # ends stay what they are unless pulled clearly away
                value = lane.keys[i].value
            return self._put(kind, _with_point(lane, i, self._frame(pointer.at, scale), value))

        return Drag("Shape the handover" if kind == "handover" else f"Shape {kind}", change)

    def _drag_interval(self, first: int, scale: FrameScale) -> Drag:
        g = self._group()
        bone = g.start_bone if g is not None else None

        def change(pointer: Pointer) -> Change:
            a, b = sorted((float(first), float(self._frame(pointer.at, scale))))
            if b - a < 2:
                return lambda s: s
            if g is not None and g.bones:
                lane = edit.interval_lane(a, b, 0.0, edit.usual_ramp(a, b))
                return lambda s: edit.group(s, self.figure, g.id, handover=lane)
            return lambda s: edit.hand_over(s, self.figure, bone, a, b, 0.0, edit.usual_ramp(a, b))

        return Drag("Hand over on an interval", change)

    def _drag_whole(self, grabbed: float, lane: Lane, scale: FrameScale) -> Drag:
        def change(pointer: Pointer) -> Change:
            step = round(scale.frame(pointer.at.x()) - grabbed)
            keys = tuple(k.changed(frame=k.frame + step) for k in lane.keys)
            return self._put("handover", Lane(keys=keys, rest=lane.rest))

        return Drag("Move the interval", change)

    def _put(self, kind: str, lane: Lane) -> Change:
        group = self.group
        assert group is not None

        def change(s: Scene) -> Scene:
            return edit.group(s, self.figure, group, **{kind: lane})

        return change

    def press_right(self, at: QPointF, box: QRectF, scale: FrameScale) -> Edit | None:
        """Take the point under the mouse away."""
        handle, lane, kind = self.hit(at, box, scale), self.lane(), self.kind
        if not handle:
            return None
        i = int(handle)
        keys = (*lane.keys[:i], *lane.keys[i + 1 :])
        rest = lane.rest if keys or kind == "handover" else lane.keys[i].value
        return Edit(f"Remove a key of {kind}", self._put(kind, Lane(keys=keys, rest=rest)))

    def press_twice(self, at: QPointF, box: QRectF, scale: FrameScale) -> Edit | None:
        """Key the lane where the mouse is."""
        if self.group is None or self.hit(at, box, scale):
            return None
        value = round(float(np.clip(self._value(box, at), 0.0, 1.0)), 2)
        lane = edit.keyed_lane(self.lane(), float(round(scale.frame(at.x()))), value)
        return Edit(f"Key {self.kind}", self._put(self.kind, lane))

    def menu(self) -> Sequence[Choice]:
        """The group's four lanes."""
        figure, group = self.figure, self.group
        if group is None:
            return ()

        def show(kind: str) -> None:
            self.lanes.show(figure, group, kind)

        return [Choice(k, k == self.kind, lambda k=k: show(k)) for k in KINDS]  # type: ignore[misc]


def _with_point(lane: Lane, i: int, frame: float, value: float) -> Lane:
    keys = list(lane.keys)
    low = keys[i - 1].frame if i > 0 else -1e9
    high = keys[i + 1].frame if i + 1 < len(keys) else 1e9
    keys[i] = keys[i].changed(frame=min(max(frame, low), high), value=value)
    return Lane(keys=tuple(keys), rest=lane.rest)
