"""Rows of the timeline: who holds a thing from when to when."""

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Mount, Scene
from artuline.desk import theme
from artuline.desk.model.drag import Change, Drag, Pointer
from artuline.desk.model.frame_scale import FrameScale
from artuline.desk.model.session import Session
from artuline.desk.timeline.rows import Still, paint_label

GRIP = 7.0  # pixels around the end of a bar at which it is taken


@dataclass(frozen=True)
class HeldRow(Still):
    """A bar for every mount of a thing; its ends can be dragged."""

    session: Session
    figure: str
    height: float = 24.0
    scrolls: bool = True

    def _thing(self) -> Figure:
        return self.session.scene.figure(self.figure)

    def _ends(self, m: Mount) -> tuple[float, float]:
        s = self.session.scene
        return float(s.start) if m.start is None else m.start, float(s.end) if m.stop is None else m.stop

    def paint(self, p: QPainter, box: QRectF, scale: FrameScale, hot: str) -> None:
        """The bars, with the names of the hands."""
        f, s = self._thing(), self.session.scene
        paint_label(p, box.top(), box.height(), f"{f.name} held")
        # what is held at several places at a time has its bars below each other
        ends = [self._ends(m) for m in f.mounts]
        level = [sum(ends[i][0] < b and a < ends[i][1] for i in range(k)) for k, (a, b) in enumerate(ends)]
        thick = (box.height() - 6.0) / (max(level, default=0) + 1.0)
        for m, (a, b), k in zip(f.mounts, ends, level, strict=True):
            left, right = scale.x(max(a, s.start)), scale.x(min(b, s.end))
            if right <= left:
                continue
            area = QRectF(left, box.top() + 3 + k * thick, right - left, thick - (1.0 if thick < 12.0 else 0.0))
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(theme.color("brass", 0.4))
            p.drawRoundedRect(area, 3, 3)
            if thick < 12.0:
                continue
            p.setPen(theme.color("ink"))
            p.setFont(theme.font(theme.SMALL))
            words = p.fontMetrics().elidedText(
                m.reach or m.bone, Qt.TextElideMode.ElideRight, max(int(area.width()) - 14, 0)
            )
            p.drawText(area.adjusted(8, 0, -6, 0), Qt.AlignmentFlag.AlignVCenter, words)
            p.setPen(QPen(theme.color("ink"), 1.4))
            for end, at in (("start", left), ("stop", right)):
                p.setBrush(theme.color("ink" if hot == f"{end} {m.id}" else "raised"))
                p.drawRect(QRectF(at - 3, box.center().y() - 6, 6, 12))

    def hit(self, at: QPointF, box: QRectF, scale: FrameScale) -> str:
        """The end of a mount under a point: of two at the same frame the one that ends there."""
        near: list[tuple[float, int, str]] = []
        for m in self._thing().mounts:
            a, b = self._ends(m)
            near += [(abs(scale.x(a) - at.x()), 1, f"start {m.id}"), (abs(scale.x(b) - at.x()), 0, f"stop {m.id}")]
        best = min(near, default=(GRIP + 1.0, 0, ""))
        return best[2] if best[0] <= GRIP else ""

    def press(self, at: QPointF, box: QRectF, scale: FrameScale) -> Drag | None:
        """Take an end in hand; what is passed on there goes along."""
        handle = self.hit(at, box, scale)
        if not handle:
            return None
        end, _, which = handle.partition(" ")
        f = self._thing()
        held = next(m for m in f.mounts if m.id == which)
        first, last = self._ends(held)
        beside = [
            m
            for m in f.mounts
            if m.id != which and (m.start if end == "stop" else m.stop) == (last if end == "stop" else first)
        ]
        other = "start" if end == "stop" else "stop"

        def change(pointer: Pointer) -> Change:
            frame = float(round(scale.frame(pointer.at.x())))
            frame = max(frame, first + 1.0) if end == "stop" else min(frame, last - 1.0)
            for m in beside:
                a, b = self._ends(m)
                frame = min(frame, b - 1.0) if end == "stop" else max(frame, a + 1.0)

            def put(s: Scene) -> Scene:
                mounts = s.figure(self.figure).mounts
                mounts = edit.replace(mounts, which, lambda m: m.changed(**{end: frame}))
                for x in beside:
                    mounts = edit.replace(mounts, x.id, lambda m: m.changed(**{other: frame}))
                return edit.figure(s, self.figure, mounts=mounts)

            return put

        return Drag(f"When {f.name} is held", change)
