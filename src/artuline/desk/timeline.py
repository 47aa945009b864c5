"""The timeline: ruler, keys of the clip, a lane for every group, hits of the take."""

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QLinearGradient, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QMenu, QSizePolicy, QWidget

from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import load_clip
from artuline.core.scene import edit
from artuline.core.scene.assets import Arrays
from artuline.core.scene.model import Figure, Group, Key, Lane, Scene
from artuline.desk import theme
from artuline.desk.frame_scale import FrameScale
from artuline.desk.session import Session

LABELS = 150
RULER, KEYS, LANE, TAKE = 26, 22, 44, 22
ROOM, LEAST_LANE = 3 * LANE, 26.0  # pixels for all lanes, and for one at least
GRIP = 7
LANES = ("handover", "tone", "steadiness", "calm")
COLORS = {"handover": "vermilion", "tone": "teal", "steadiness": "ink", "calm": "brass"}


def _key_times(arrays: Arrays) -> Array:
    """All key times of a clip's data, seconds."""
    return Clip.from_arrays(arrays).key_times()


class Timeline(QWidget):
    """Scrub on the ruler; drag on an empty lane for an interval; drag a lane's points to shape it."""

    frame_wanted = Signal(float)

    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self._drag: tuple[str, Any] | None = None
        self._hover: tuple[str, str, int] | None = None
        self._from = 0.0
        self._rolled = 0.0
        self._kinds: dict[tuple[str, str], str] = {}
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Timeline")
        self.setAccessibleDescription(
            "Frames, keys, and a lane for every group. Left and right go from frame to frame."
        )
        session.scene_changed.connect(self._changed)
        session.previewed.connect(self.update)
        session.frame_changed.connect(self.update)
        session.selection_changed.connect(self.update)
        self._changed()

    def _count(self) -> int:
        return max(1, sum(max(1, len(f.groups)) for f in self.session.scene.figures if f.bodies))

    def _lane(self) -> float:
        """Height of a lane: lower where there are many, and no lower than can be grabbed."""
        return max(ROOM / max(self._count(), 3), LEAST_LANE)

    def _changed(self) -> None:
        self.setFixedHeight(round(RULER + KEYS + min(self._count() * self._lane(), ROOM) + TAKE + 4))
        self._roll(0.0)

    def _roll(self, by: float) -> None:
        """Move the lanes up and down where there are more than fit."""
        hidden = max(self._count() * self._lane() - ROOM, 0.0)
        self._rolled = min(max(self._rolled + by, 0.0), hidden)
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        self._roll(-0.25 * event.angleDelta().y())

    # geometry

    @property
    def scale(self) -> FrameScale:
        """Frames and pixels as they are now."""
        s = self.session.scene
        return FrameScale(s.start, s.end, LABELS + 14.0, max(self.width() - LABELS - 28.0, 1.0))

    def x_of(self, frame: float) -> float:
        """Pixel of a frame."""
        return self.scale.x(frame)

    def frame_at(self, x: float) -> float:
        """Frame of a pixel."""
        return self.scale.frame(x)

    def lanes(self) -> list[tuple[Figure, Group | None, QRectF]]:
        """Every lane with its rectangle; a figure without groups has one empty lane."""
        found: list[tuple[Figure, Group | None, QRectF]] = []
        y, lane = RULER + KEYS - self._rolled, self._lane()
        for f in self.session.scene.figures:
            if not f.bodies:
                continue
            for g in f.groups or (None,):
                found.append((f, g, QRectF(LABELS, y + 2, self.width() - LABELS, lane - 4)))
                y += lane
        return found

    def kind_of(self, figure: str, group: str) -> str:
        """Which of a group's lanes is shown."""
        return self._kinds.get((figure, group), "handover")

    def show_lane(self, figure: str, group: str, kind: str) -> None:
        """Show another lane of a group."""
        self._kinds[figure, group] = kind
        self.update()

    def _shown(self, f: Figure, g: Group) -> Lane:
        lane: Lane = getattr(g, self.kind_of(f.id, g.id))
        return lane

    def lane_point(self, lane: QRectF, key: Key) -> QPointF:
        """Where a key of a handover lane is drawn."""
        return QPointF(self.x_of(key.frame), lane.bottom() - 6 - key.value * (lane.height() - 14))

    # painting

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), theme.color("paper"))
        p.fillRect(QRectF(0, 0, LABELS, self.height()), theme.color("panel"))
        self._paint_ruler(p)
        self._paint_keys(p)
        lanes = self.lanes()
        p.save()
        p.setClipRect(QRectF(0, RULER + KEYS, self.width(), self.height() - RULER - KEYS - TAKE))
        for f, g, box in lanes:
            self._paint_lane(p, f, g, box)
        p.restore()
        if not lanes:
            p.setPen(theme.color("faint"))
            text = "Fit bodies first: then the handover to physics is drawn here"
            area = QRectF(LABELS, RULER + KEYS, self.width() - LABELS, LANE)
            p.drawText(area, Qt.AlignmentFlag.AlignCenter, text)
        self._paint_take(p)
        x = self.x_of(self.session.frame)
        if self.hasFocus():
            p.setPen(QPen(theme.color("ink"), 2.0))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
        p.setPen(QPen(theme.color("ink"), 1.5))
        p.drawLine(QPointF(x, RULER - 6), QPointF(x, self.height()))
        p.setBrush(theme.color("ink"))
        p.setFont(theme.font(theme.SMALL, strong=True))
        half = max(17.0, p.fontMetrics().horizontalAdvance(f"{self.session.frame:.0f}") / 2 + 6.0)
        tag = QRectF(x - half, 3, 2 * half, RULER - 9)
        p.drawRoundedRect(tag, 3, 3)
        p.setPen(theme.color("raised"))
        p.drawText(tag, Qt.AlignmentFlag.AlignCenter, f"{self.session.frame:.0f}")

    def _label(self, p: QPainter, y: float, height: float, text: str, remark: str = "") -> None:
        p.setPen(theme.color("ink"))
        p.setFont(theme.font(theme.PLAIN))
        metrics = p.fontMetrics()
        short = metrics.elidedText(text, Qt.TextElideMode.ElideMiddle, LABELS - 20)
        if remark:
            p.drawText(QRectF(12, y, LABELS - 16, height / 2 + 3), Qt.AlignmentFlag.AlignVCenter, short)
            p.setFont(theme.font(theme.SMALL))
            p.setPen(theme.color("faint"))
            p.drawText(QRectF(12, y + height / 2 - 3, LABELS - 16, height / 2), Qt.AlignmentFlag.AlignVCenter, remark)
        else:
            p.drawText(QRectF(12, y, LABELS - 16, height), Qt.AlignmentFlag.AlignVCenter, short)

    def _paint_ruler(self, p: QPainter) -> None:
        s = self.session.scene
        p.setFont(theme.font(theme.SMALL))
        scale = self.scale
        p.setPen(theme.color("rule"))
        for f in scale.ticks(5.0):
            p.drawLine(QPointF(scale.x(f), RULER - 4), QPointF(scale.x(f), RULER))
        p.setPen(theme.color("faint"))
        wide = p.fontMetrics().horizontalAdvance(str(max(abs(s.start), abs(s.end)))) + 22.0
        for f in scale.ticks(max(wide, 46.0)):
            x = scale.x(f)
            p.drawText(QRectF(x - wide / 2, 2, wide, 14), Qt.AlignmentFlag.AlignCenter, str(f))
            p.drawLine(QPointF(x, RULER - 8), QPointF(x, RULER))
        p.setPen(theme.color("rule"))
        p.drawLine(QPointF(0, RULER), QPointF(self.width(), RULER))
        p.setPen(theme.color("faint"))
        p.drawText(QRectF(12, 0, LABELS, RULER), Qt.AlignmentFlag.AlignVCenter, f"{s.rate:g} frames per second")

    def _paint_keys(self, p: QPainter) -> None:
        figure = self.session.figure()
        y = RULER + KEYS / 2
        clip = figure.active_clip() if figure else None
        self._label(p, RULER, KEYS, f"Keys: {clip.name}" if clip else "Keys")
        p.setPen(theme.color("rule"))
        p.drawLine(QPointF(0, RULER + KEYS), QPointF(self.width(), RULER + KEYS))
        if figure is None or clip is None:
            return
        s = self.session.scene
        scale, assets = self.scale, self.session.assets
        times = assets.decoded(clip.asset, _key_times) * s.rate
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.color("teal"))
        for x in scale.seen(times, figure.clip_start, clip.duration * s.rate if clip.loop else 0.0):
            p.drawEllipse(QPointF(float(x), y), 1.7, 1.7)
        for layer in figure.layers:
            p.setBrush(theme.color("brass", 0.35))
            a, b = scale.x(max(layer.start, s.start)), scale.x(min(layer.end, s.end))
            if b <= a:
                continue
            p.drawRoundedRect(QRectF(a, y - 7, b - a, 14), 3, 3)
            channels = load_clip(self.session.assets, layer.asset).channels
            p.setBrush(theme.color("brass"))
            if channels:
                top = min(channels, key=lambda c: figure.bone_index[c.bone])
                chosen = self.session.selection.bones
                shown = next((c for c in channels if c.bone in chosen), top)
                for at in scale.seen(shown.times * s.rate):
                    x = float(at)
                    p.drawPolygon([QPointF(x, y - 4), QPointF(x + 4, y), QPointF(x, y + 4), QPointF(x - 4, y)])

    def _paint_lane(self, p: QPainter, f: Figure, g: Group | None, box: QRectF) -> None:
        kind = self.kind_of(f.id, g.id) if g else "handover"
        lane = self._shown(f, g) if g else Lane()
        value = "" if g is None else f" {float(lane.value(self.session.frame)):.2f}"
        several = sum(1 for x in self.session.scene.figures if x.bodies) > 1
        name = f.name if g is None else (f"{f.name}: {g.name}" if several else g.name)
        self._label(p, box.top(), box.height(), name, f"{kind}{value} ▾" if box.height() > 32 else "")
        left, right = self.x_of(self.session.scene.start), self.x_of(self.session.scene.end)
        area = QRectF(left, box.top() + 2, right - left, box.height() - 4)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.color("teal" if kind == "handover" else "rule", 0.20 if kind == "handover" else 0.5))
        p.drawRoundedRect(area, 3, 3)
        if kind == "handover" and (g is None or not any(k.value > 0 for k in lane.keys)):
            p.setPen(theme.color("teal_text"))
            p.setFont(theme.font(theme.PLAIN))
            p.drawText(area, Qt.AlignmentFlag.AlignCenter, "Drag here to hand the figure over to physics")
            return
        assert g is not None
        keys = lane.keys or (Key(frame=self.session.scene.start, value=lane.rest),)
        path = QPainterPath(QPointF(left, box.bottom() - 6))
        path.lineTo(QPointF(left, self.lane_point(box, Key(frame=0, value=keys[0].value)).y()))
        for k in keys:
            at = self.lane_point(box, k)
            path.lineTo(QPointF(min(max(at.x(), left), right), at.y()))
        path.lineTo(QPointF(right, self.lane_point(box, Key(frame=0, value=keys[-1].value)).y()))
        path.lineTo(QPointF(right, box.bottom() - 6))
        path.closeSubpath()
        fill = QLinearGradient(QPointF(0, box.bottom()), QPointF(0, box.top()))
        if kind == "handover":
            fill.setColorAt(0.0, theme.color("teal", 0.75))
            fill.setColorAt(0.75, theme.color("vermilion", 0.85))
        else:
            fill.setColorAt(0.0, theme.color(COLORS[kind], 0.25))
            fill.setColorAt(1.0, theme.color(COLORS[kind], 0.7))
        p.setBrush(fill)
        p.setPen(Qt.PenStyle.NoPen)
        p.drawPath(path)
        if g.muted or (any(x.solo for x in f.groups) and not g.solo):
            p.setBrush(theme.color("paper", 0.7))
            p.drawRect(area)
        self._lane_words(p, box, area, kind, lane)
        for i, k in enumerate(lane.keys):
            at = self.lane_point(box, k)
            hot = self._hover == (f.id, g.id, i)
            p.setPen(QPen(theme.color("ink"), 1.5))
            p.setBrush(theme.color("ink" if hot else "raised"))
            p.drawEllipse(at, 5.0 if hot else 4.0, 5.0 if hot else 4.0)

    def _lane_words(self, p: QPainter, box: QRectF, area: QRectF, kind: str, lane: Lane) -> None:
        p.setFont(theme.font(theme.SMALL, strong=True))
        if kind != "handover":
            p.setPen(theme.color("ink"))
            words = kind if lane.keys else f"{kind} {lane.rest:.2f} throughout: double click to key it"
            p.drawText(area.adjusted(10, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, words)
            return
        middle = [k for k in lane.keys if k.value >= 1.0]
        if middle:
            a, b = self.x_of(middle[0].frame), self.x_of(middle[-1].frame)
            if b - a > 70:
                p.setPen(theme.color("raised"))
                inner = QRectF(a, box.top() + 6, b - a, box.height() - 12)
                p.drawText(inner, Qt.AlignmentFlag.AlignCenter, "physics")

    def _paint_take(self, p: QPainter) -> None:
        y = self.height() - TAKE
        p.setPen(theme.color("rule"))
        p.drawLine(QPointF(0, y), QPointF(self.width(), y))
        ref = self.session.scene.active_take()
        take = self.session.take()
        if ref is None or take is None:
            self._label(p, y, TAKE, "No take yet")
            p.setPen(theme.color("faint"))
            area = QRectF(LABELS + 24, y, self.width() - LABELS - 38, TAKE)
            p.drawText(area, Qt.AlignmentFlag.AlignVCenter, "Run simulates the range and keeps the result here")
            return
        stale = ref.settings != self.session.scene.settings_fingerprint()
        self._label(p, y, TAKE, f"{ref.name}: out of date" if stale else f"{ref.name}: hits")
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.color("faint" if stale else "vermilion", 0.18))
        scene = self.session.scene
        a, b = self.x_of(max(ref.start, scene.start)), self.x_of(min(ref.end, scene.end))
        p.drawRoundedRect(QRectF(a, y + 4, max(b - a, 0.0), TAKE - 8), 3, 3)
        force = take.contact.sum(axis=1)
        if force.max(initial=0.0) <= 0:
            return
        p.setBrush(theme.color("faint" if stale else "vermilion"))
        height = np.sqrt(force / force.max()) * (TAKE - 8)
        width = max((b - a) / max(len(force), 1) - 0.5, 1.0)
        inside = (take.frames >= scene.start) & (take.frames <= scene.end)
        for x, h in zip(*self.scale.highest(take.frames[inside], height[inside])):
            if h > 0.5:
                p.drawRect(QRectF(float(x) - width / 2, y + TAKE - 4 - float(h), width, float(h)))

    # the mouse

    def _grip(self, at: QPointF) -> tuple[Figure, Group, QRectF, int] | None:
        for f, g, box in self.lanes():
            if g is None or not box.adjusted(0, -4, 0, 4).contains(at):
                continue
            near = [(abs(self.lane_point(box, k).x() - at.x()) + 0.5 * abs(self.lane_point(box, k).y() - at.y()), i)
                    for i, k in enumerate(self._shown(f, g).keys)]  # fmt: skip
            near = [n for n in near if n[0] <= GRIP + 2]
            if near:
                return f, g, box, min(near)[1]
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        grip = self._grip(at)
        if grip is not None:
            figure, group, area, i = grip
            if event.button() == Qt.MouseButton.RightButton:
                self._remove_key(figure, group, i)
                return
            self._drag = ("point", (figure.id, group.id, area, i, self._shown(figure, group)))
            return
        for f, g, box in self.lanes():
            if g is not None and box.contains(QPointF(box.center().x(), at.y())) and at.x() <= LABELS:
                self._choose_lane(f, g, event)
                return
            if g is not None and self.kind_of(f.id, g.id) != "handover":
                continue
            empty = g is None or not any(k.value > 0 for k in g.handover.keys)
            if box.contains(at) and at.x() > LABELS and empty:
                self._from = round(self.frame_at(at.x()))
                self._drag = ("interval", (f.id, g.start_bone if g else None))
                return
            if box.contains(at) and at.x() > LABELS and g is not None:
                inside = g.handover.keys[0].frame < self.frame_at(at.x()) < g.handover.keys[-1].frame
                if inside:
                    self._from = self.frame_at(at.x())
                    self._drag = ("move", (f.id, g.id, g.handover))
                    return
        if at.x() > LABELS:
            self._drag = ("scrub", None)
            self.frame_wanted.emit(round(self.frame_at(at.x())))

    def _choose_lane(self, f: Figure, g: Group, event: QMouseEvent) -> None:
        """A menu of the group's lanes."""
        menu = QMenu(self)
        for kind in LANES:
            action = menu.addAction(kind)
            action.setCheckable(True)
            action.setChecked(kind == self.kind_of(f.id, g.id))
            action.triggered.connect(lambda _=False, k=kind: self.show_lane(f.id, g.id, k))
        menu.popup(event.globalPosition().toPoint())

    def _remove_key(self, f: Figure, g: Group, i: int) -> None:
        kind, lane = self.kind_of(f.id, g.id), self._shown(f, g)
        keys = (*lane.keys[:i], *lane.keys[i + 1 :])
        new = Lane(keys=keys, rest=lane.rest if keys or kind == "handover" else lane.keys[i].value)
        self.session.edit(f"Remove a key of {kind}", lambda s: edit.group(s, f.id, g.id, **{kind: new}))

    def _put(self, figure: str, group: str, kind: str, lane: Lane) -> None:
        self.session.edit(f"Key {kind}", lambda s: edit.group(s, figure, group, **{kind: lane}))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        for f, g, box in self.lanes():
            if g is not None and box.contains(at) and at.x() > LABELS and self._grip(at) is None:
                kind, frame = self.kind_of(f.id, g.id), float(round(self.frame_at(at.x())))
                value = float(np.clip((box.bottom() - 6 - at.y()) / (box.height() - 14), 0.0, 1.0))
                new = edit.keyed_lane(self._shown(f, g), frame, round(value, 2))
                self._drag = None
                self._put(f.id, g.id, kind, new)
                return

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if self._drag is None:
            grip = self._grip(at)
            hover = (grip[0].id, grip[1].id, grip[3]) if grip else None
            if hover != self._hover:
                self._hover = hover
                self.setCursor(Qt.CursorShape.SizeHorCursor if hover else Qt.CursorShape.ArrowCursor)
                self.update()
            return
        if self._drag[0] == "scrub":
            self.frame_wanted.emit(round(self.frame_at(at.x())))
        else:
            self.session.preview(self._change(at))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        drag = self._drag
        if drag is not None and drag[0] != "scrub":
            change = self._change(event.position())
            self._drag = None
            labels = {
                "interval": "Hand over on an interval",
                "move": "Move the interval",
                "point": "Shape the handover",
            }
            self.session.edit(labels[drag[0]], change)
        self._drag = None

    def _change(self, at: QPointF) -> Callable[[Scene], Scene]:
        assert self._drag is not None
        kind, what = self._drag
        scene = self.session.scene
        now = round(min(max(self.frame_at(at.x()), scene.start), scene.end))
        if kind == "interval":
            figure, bone = what
            a, b = sorted((self._from, float(now)))
            ramp = min(12.0, (b - a) / 3.0)
            if b - a < 2:
                return lambda s: s
            return lambda s: edit.hand_over(s, figure, bone, a, b, 0.0, ramp)
        if kind == "move":
            figure, group, lane = what
            step = round(self.frame_at(at.x()) - self._from)
            keys = tuple(Key(frame=k.frame + step, value=k.value) for k in lane.keys)
            return lambda s: edit.group(s, figure, group, handover=Lane(keys=keys, rest=lane.rest))
        figure, group, box, i, lane = what
        kind = self.kind_of(figure, group)
        return lambda s: _with_point(s, figure, group, kind, lane, i, now, self._value_at(box, at, lane.keys[i], kind))

    def _value_at(self, box: QRectF, at: QPointF, key: Key, kind: str) -> float:
        value = (box.bottom() - 6 - at.y()) / (box.height() - 14)
        if kind != "handover":
            return float(np.clip(round(value, 2), 0.0, 1.0))
        # ends stay what they are unless pulled clearly away
        return key.value if abs(value - key.value) < 0.25 else float(np.clip(round(value, 2), 0.0, 1.0))


def _with_point(s: Scene, figure: str, group: str, kind: str, lane: Lane, i: int, frame: float, value: float) -> Scene:
    keys = list(lane.keys)
    low = keys[i - 1].frame if i > 0 else -1e9
    high = keys[i + 1].frame if i + 1 < len(keys) else 1e9
    keys[i] = Key(frame=min(max(frame, low), high), value=value)
    return edit.group(s, figure, group, **{kind: Lane(keys=tuple(keys), rest=lane.rest)})
