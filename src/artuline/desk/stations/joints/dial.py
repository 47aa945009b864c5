"""The limit dial: a joint's range seen along the bone, with the clips' own motion in it and the present pose as a dot.

Direction and distance from the centre are the swing, the ellipse (or the frame, for ranges per axis) is its limit, the ring around it is the
twist. A hinge is a sector, a slide a rail. Handles set the limits.
"""

import math
from collections.abc import Iterable, Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from artuline.core.geometry.rotation import Array
from artuline.core.scene import edit
from artuline.core.scene.model import AxisRange, Joint, Scene
from artuline.core.setup.joints import joint_pose
from artuline.desk import theme
from artuline.desk.model.plain import tip as plain_tip
from artuline.desk.stations.joints.commands import Commands
from artuline.view.limits import swing_rim

SIZE = 236
GRAB = 11.0  # pixels around a handle
SCALES = (15.0, 30.0, 60.0, 90.0, 120.0, 180.0)  # degrees at the edge of the disc
SNAP = math.radians(1.0)
LEAST = math.radians(0.5)


class LimitDial(QWidget):
    """Shows and edits the range of one joint; ``ids`` are all joints that an edit changes."""

    def __init__(self, commands: Commands, figure: str, joint: str, ids: set[str]):
        super().__init__()
        self.commands, self.desk, self.session = commands, commands.desk, commands.session
        self.figure_id, self.joint_id, self.ids = figure, joint, ids
        self.setFixedHeight(70 if self.joint.kind == "slide" else SIZE)
        self.setMouseTracking(True)
        self.setAccessibleName("Limit dial")
        self._grabbed = ""
        self._hover = ""
        self._edge = 0.0
        self.session.scene_changed.connect(self.update)
        self.session.frame_changed.connect(self.update)
        self.desk.stage.drawn.connect(self.update)

    @property
    def joint(self) -> Joint:
        """The joint as the scene has it now."""
        return next(j for j in self.session.scene.figure(self.figure_id).joints if j.id == self.joint_id)

    # geometry

    def centre(self) -> QPointF:
        return QPointF(self.width() / 2, SIZE / 2 - 2)

    def _disc(self) -> float:
        """Radius of the swings' disc in pixels."""
        return 0.355 * SIZE

    def ring(self) -> float:
        return 0.44 * SIZE if self.joint.kind != "hinge" else 0.36 * SIZE

    #: The joint that the scale was chosen for.
    _edge_of: Joint | None = None
    _edge_with = 0

    def _scale(self) -> float:
        """Radians at the edge of the disc; steady while a handle is dragged."""
        if self._grabbed and self._edge:
            return self._edge
        j = self.joint
        trace = self.commands.trace(self.figure_id, j)
        if self._edge and self._edge_of is j and self._edge_with == len(trace):
            return self._edge
        self._edge_of, self._edge_with = j, len(trace)
        if j.kind == "axes":
            most = max((max(abs(r[0]), abs(r[1])) for r in j.axes[4:] if r is not None), default=0.5)
        else:
            most = max(j.swing_y, j.swing_z)
        if len(trace):
            most = max(most, float(np.abs(trace[:, :2]).max()))
        self._edge = math.radians(next((s for s in SCALES if math.radians(s) >= 1.02 * most), SCALES[-1]))
        return self._edge

    def _spot(self, swing_y: float, swing_z: float) -> QPointF:
        return self._spots([(swing_y, swing_z)])[0]

    def _spots(self, swings: Iterable[Sequence[float]]) -> list[QPointF]:
        """Where swings lie: seen along the bone, up is the frame's y, right its z."""
        k, c = self._disc() / self._scale(), self.centre()
        return [QPointF(c.x() - s[0] * k, c.y() - s[1] * k) for s in swings]

    def _on_ring(self, angle: float, radius: float | None = None) -> QPointF:
        r = self.ring() if radius is None else radius
        return self.centre() + QPointF(r * math.sin(angle), -r * math.cos(angle))

    def handles(self) -> dict[str, QPointF]:
        """Where the handles are, in pixels."""
        j = self.joint
        if j.kind == "fixed" or not j.limited:
            return {}
        if j.kind == "slide":
            low, high = j.slide or (-0.05, 0.05)
            return {"slide low": self._on_rail(low), "slide high": self._on_rail(high)}
        twist = j.axes[3] if j.kind == "axes" else j.twist
        found: dict[str, QPointF] = {}
        if twist is not None and twist != (0.0, 0.0):
            found |= {"twist low": self._on_ring(twist[0]), "twist high": self._on_ring(twist[1])}
        if j.kind == "ball":
            found |= {
                "swing y": self._spot(-j.swing_y, 0.0), "swing z": self._spot(0.0, j.swing_z),
                "both": self._spot(-j.swing_y * math.sqrt(0.5), j.swing_z * math.sqrt(0.5)),
            }  # fmt: skip
        if j.kind == "axes":
            y, z = j.axes[4:]
            if y is not None and y != (0.0, 0.0):
                found |= {"y low": self._spot(y[0], 0.0), "y high": self._spot(y[1], 0.0)}
            if z is not None and z != (0.0, 0.0):
                found |= {"z low": self._spot(0.0, z[0]), "z high": self._spot(0.0, z[1])}
        return found

    # a slide's rail

    def _rail(self) -> float:
        """Metres from the middle of the rail to its end."""
        if self._grabbed and self._edge:
            return self._edge
        low, high = self.joint.slide or (-0.05, 0.05)
        most = max(abs(low), abs(high), 1e-4)
        self._edge = next(x for k in range(-5, 4) for x in (10.0**k, 2 * 10.0**k, 5 * 10.0**k) if x >= 1.05 * most)
        return self._edge

    def _on_rail(self, value: float) -> QPointF:
        return QPointF(self.width() / 2 + value / self._rail() * (self.width() / 2 - 20), 34)

    # drawing

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(theme.font(theme.SMALL))
        j = self.joint
        if j.kind == "slide":
            self._paint_rail(p, j)
        elif j.kind == "fixed":
            p.setPen(theme.color("faint"))
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Fixed: it does not move.")
        elif j.kind == "hinge":
            self._paint_hinge(p, j)
        else:
            self._paint_disc(p, j)
        for name, at in self.handles().items():
            strong = name in (self._hover, self._grabbed)
            p.setPen(QPen(theme.color("ink"), 1.5))
            p.setBrush(theme.color("ink" if strong else "raised"))
            p.drawEllipse(at, 5.0, 5.0)

    def _pose(self) -> tuple[Array, float, float] | None:
        figures = self.session.scene.figures
        for f, state in zip(figures, self.desk.stage.view().states):
            if f.id == self.figure_id and len(state.matrices) == len(f.bones):
                return joint_pose(f, self.joint, state.matrices)
        return None

    def _grid(self, p: QPainter) -> None:
        c, disc = self.centre(), self._disc()
        p.setBrush(theme.color("raised"))
        p.setPen(QPen(theme.color("rule"), 1.0))
        p.drawEllipse(c, disc, disc)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawEllipse(c, disc / 2, disc / 2)
        p.drawLine(c - QPointF(disc, 0), c + QPointF(disc, 0))
        p.drawLine(c - QPointF(0, disc), c + QPointF(0, disc))
        edge = math.degrees(self._scale())
        p.setPen(theme.color("faint"))
        p.drawText(QPointF(c.x() + 3, c.y() + disc - 3), f"{edge:.0f}°")
        p.drawText(QPointF(c.x() + 3, c.y() + disc / 2 - 3), f"{edge / 2:.0f}°")

    def _paint_disc(self, p: QPainter, j: Joint) -> None:
        self._grid(p)
        c = self.centre()
        clip = QPainterPath()
        clip.addEllipse(c, self._disc(), self._disc())
        if j.limited:
            rim = QPolygonF(self._spots(swing_rim(j)))
            p.save()
            p.setClipPath(clip)
            p.setBrush(theme.color("brass", 0.28))
            p.setPen(QPen(theme.color("brass"), 2.0))
            p.drawPolygon(rim)
            p.restore()
        p.save()
        p.setClipPath(clip)
        trace = self.commands.trace(self.figure_id, j)
        self._paint_trace(p, trace, self._spots(trace.tolist()), most=0.35 * self._disc())
        p.restore()
        self._paint_ring(p, j.axes[3] if j.kind == "axes" else j.twist, j.limited)
        now = self._pose()
        if now is not None:
            swing, twist, _ = now
            self._dot(p, self._spot(*swing), self._beyond(j, swing, twist))
            self._dot(p, self._on_ring(twist), False, small=True)

    def _paint_ring(self, p: QPainter, span: AxisRange, limited: bool) -> None:
        c, r = self.centre(), self.ring()
        box = QRectF(c.x() - r, c.y() - r, 2 * r, 2 * r)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(theme.color("rule"), 5.0))
        p.drawEllipse(c, r, r)
        p.setPen(theme.color("faint"))
        for degrees in (0, 90, 180, 270):
            a, b = self._on_ring(math.radians(degrees), r - 4), self._on_ring(math.radians(degrees), r + 4)
            p.drawLine(a, b)
        if limited and span is not None:
            p.setPen(QPen(theme.color("brass"), 5.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
            p.drawArc(box, round(16 * (90 - math.degrees(span[1]))), round(16 * math.degrees(span[1] - span[0])))
        trace = self.commands.trace(self.figure_id, self.joint)
        if len(trace):
            low, high = float(trace[:, 2].min()), float(trace[:, 2].max())
            inner = box.adjusted(6, 6, -6, -6)
            p.setPen(QPen(theme.color("teal"), 2.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
            p.drawArc(inner, round(16 * (90 - math.degrees(high))), max(round(16 * math.degrees(high - low)), 8))

    def _paint_hinge(self, p: QPainter, j: Joint) -> None:
        c, r = self.centre(), self.ring()
        box = QRectF(c.x() - r, c.y() - r, 2 * r, 2 * r)
        p.setBrush(theme.color("raised"))
        p.setPen(QPen(theme.color("rule"), 1.0))
        p.drawEllipse(c, r, r)
        if j.limited:
            low, high = (math.degrees(v) for v in j.twist)
            p.setBrush(theme.color("brass", 0.28))
            p.setPen(QPen(theme.color("brass"), 2.0))
            p.drawPie(box, round(16 * (90 - high)), round(16 * (high - low)))
        trace = self.commands.trace(self.figure_id, j)
        self._paint_trace(p, trace, [self._on_ring(row[2], 0.8 * r) for row in trace.tolist()], most=0.9 * r)
        p.setPen(theme.color("faint"))
        for degrees in range(-150, 181, 30):
            a = math.radians(degrees)
            p.drawLine(self._on_ring(a, r), self._on_ring(a, r + (7 if degrees % 90 == 0 else 4)))
            if degrees % 90 == 0:
                at = self._on_ring(a, r + 16)
                box_ = QRectF(at.x() - 20, at.y() - 7, 40, 14)
                p.drawText(box_, Qt.AlignmentFlag.AlignCenter, f"{degrees}°".replace("-", "−"))
        now = self._pose()
        if now is not None:
            p.setPen(QPen(theme.color("ink"), 2.0))
            p.drawLine(c, self._on_ring(now[1], r))
            self._dot(p, self._on_ring(now[1], r), self._beyond(j, now[0], now[1]))

    def _paint_rail(self, p: QPainter, j: Joint) -> None:
        y = 34.0
        p.setPen(QPen(theme.color("rule"), 5.0))
        p.drawLine(QPointF(20, y), QPointF(self.width() - 20, y))
        if j.limited and j.slide is not None:
            p.setPen(QPen(theme.color("brass"), 5.0))
            p.drawLine(self._on_rail(j.slide[0]), self._on_rail(j.slide[1]))
        p.setPen(theme.color("faint"))
        edge = self._rail()
        for share, text in ((-1.0, f"−{1000 * edge:g}"), (0.0, "0"), (1.0, f"{1000 * edge:g} mm")):
            at = self._on_rail(share * edge)
            p.drawText(QRectF(at.x() - 40, y + 10, 80, 16), Qt.AlignmentFlag.AlignCenter, text)
        now = self._pose()
        if now is not None:
            self._dot(p, self._on_rail(float(np.clip(now[2], -edge, edge))), False)

    def _paint_trace(self, p: QPainter, trace: Array, points: list[QPointF], most: float) -> None:
        """The clips' motion, crimson where it leaves the range; a new line where it jumps between clips."""
        teal, crimson = QPen(theme.color("teal"), 1.4), QPen(theme.color("crimson"), 2.2)
        for a, b, row in zip(points, points[1:], trace[1:]):
            if (b - a).manhattanLength() < most:
                p.setPen(crimson if row[3] > 1e-4 else teal)
                p.drawLine(a, b)

    def _beyond(self, j: Joint, swing: Array, twist: float) -> bool:
        if not j.limited:
            return False
        if j.kind == "axes":
            values = zip((twist, *swing), j.axes[3:])
            return any(r is not None and not r[0] - 0.02 <= v <= r[1] + 0.02 for v, r in values)
        out = not j.twist[0] - 0.02 <= twist <= j.twist[1] + 0.02
        if j.kind == "ball":
            reach = np.maximum([j.swing_y, j.swing_z], 1e-3)
            out = out or float(np.linalg.norm(np.asarray(swing) / reach)) > 1.03
        return out

    def _dot(self, p: QPainter, at: QPointF, fault: bool, small: bool = False) -> None:
        color: QColor = theme.color("crimson" if fault else "ink")
        p.setPen(QPen(theme.color("raised"), 1.5))
        p.setBrush(color)
        p.drawEllipse(at, 3.5 if small else 5.0, 3.5 if small else 5.0)

    # the mouse

    def _near(self, at: QPointF) -> str:
        gaps = {name: (spot - at).manhattanLength() for name, spot in self.handles().items()}
        name = min(gaps, key=lambda n: gaps[n], default="")
        return name if name and gaps[name] < GRAB * 1.4 else ""

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._grabbed = self._near(event.position())
        if self._grabbed:
            self.desk.dragging = True

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._grabbed:
            change = self._change(event.position(), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
            self.session.preview(lambda s: self._applied(s, change))
        else:
            hover = self._near(event.position())
            if hover != self._hover:
                self._hover = hover
                self.setCursor(Qt.CursorShape.SizeAllCursor if hover else Qt.CursorShape.ArrowCursor)
                self.setToolTip(plain_tip(hover))
                self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if not self._grabbed:
            return
        change = self._change(event.position(), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        self._grabbed, self._edge = "", 0.0
        self.desk.dragging = False
        self.session.edit("Set the range", lambda s: self._applied(s, change))

    def _applied(self, s: Scene, change: dict[str, object]) -> Scene:
        done = edit.joints(s, self.figure_id, self.ids, lambda j: j.changed(**change))
        return self.desk.sides.joints(done, self.figure_id, self.ids)

    def _change(self, at: QPointF, fine: bool) -> dict[str, object]:
        """The fields that the grabbed handle sets at a place; whole degrees unless ``fine``."""
        j, name = self.joint, self._grabbed

        def snap(v: float) -> float:
            return v if fine else round(v / SNAP) * SNAP

        if name.startswith("slide"):
            low, high = j.slide or (-0.05, 0.05)
            v = (at.x() - self.width() / 2) / (self.width() / 2 - 20) * self._rail()
            return {"slide": (min(v, high), high) if name.endswith("low") else (low, max(v, low))}
        off = at - self.centre()
        if name.startswith("twist"):
            old = j.axes[3] if j.kind == "axes" else j.twist
            low, high = old or (-0.1, 0.1)
            angle = snap(math.atan2(off.x(), -off.y()))
            span = (min(angle, high), high) if name.endswith("low") else (low, max(angle, low))
            if j.kind == "axes":
                return {"axes": (*j.axes[:3], span, *j.axes[4:])}
            return {"twist": span}
        k = self._scale() / self._disc()
        y, z = snap(-off.x() * k), snap(-off.y() * k)
        most = math.radians(170.0)
        if name == "swing y":
            return {"swing_y": min(max(abs(y), LEAST), most)}
        if name == "swing z":
            return {"swing_z": min(max(abs(z), LEAST), most)}
        if name == "both":
            share = math.hypot(off.x(), off.y()) * k / max(
                math.hypot(j.swing_y, j.swing_z) * math.sqrt(0.5), 1e-6
            )  # fmt: skip
            return {
                "swing_y": min(max(snap(j.swing_y * share), LEAST), most),
                "swing_z": min(max(snap(j.swing_z * share), LEAST), most),
            }
        axis = 4 if name.startswith("y") else 5
        value = y if axis == 4 else z
        low, high = j.axes[axis] or (-0.1, 0.1)
        span = (min(value, high), high) if name.endswith("low") else (low, max(value, low))
        ranges = list(j.axes)
        ranges[axis] = span
        return {"axes": tuple(ranges)}
