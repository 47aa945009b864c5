"""The stage: the picture of the scene, and the mouse on it."""

import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QFocusEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import Pose, placement, rest_matrices, rigid, skeleton_of
from artuline.core.run.take import Take
from artuline.core.run.tryout import Tryout
from artuline.core.scene.model import Joint
from artuline.core.setup.limits import swept_matrices
from artuline.desk import theme
from artuline.desk.session import Session
from artuline.desk.stage_tools import StageTools
from artuline.view.camera import Camera
from artuline.view.drawlist import DrawList
from artuline.view.palette import rgb
from artuline.view.renderer import Renderer
from artuline.view.stage import FigureState, Marks, Show, draw_list, figure_states, mesh_of, pick, pick_obstacle

ORBIT = 0.008  # radians a pixel
TURN = 0.12  # radians a key
SLOW = 0.034  # seconds a picture may take while things move
SWEEP = 5.0  # seconds of a sweep through a joint's range
EDGE = 8.0  # pixels from the edge of a wiped picture at which it can be dragged
TOOLS = ("handle", "pose", "obstacle", "push")
PUSH = 2.0  # m/s that a push in the tryout gives


class Stage(StageTools):
    """Draws the session's scene. Left drag on empty stage or right drag orbits, middle or Shift drag pans,
    the wheel zooms, a click selects, Ctrl and drag selects in a frame; handles move, turn and size the chosen shape.
    During a tryout a drag on a body tugs it, and a Shift click pushes it away.
    """

    picked = Signal(object, object, bool)
    framed = Signal(object, object)
    drawn = Signal()
    obstacle_chosen = Signal()

    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self.camera = Camera(yaw=0.62, pitch=0.2)
        self.show_ = Show()
        self.station = "Cast"
        self.tryout: Tryout | None = None
        self.tryout_paused = False
        self.moving = False
        self.problem = ""
        self.drawn_in = 0.0
        self._renderer: Renderer | None = None
        self._image: QImage | None = None
        self._states: list[FigureState] = []
        self._scale = 1.0
        self._press: QPointF | None = None
        self._last: QPointF | None = None
        self._mode = ""
        self._tug_plane: tuple[Array, Array] | None = None
        self.marks: Callable[[], Marks] = Marks
        self._hover = ""
        self._sweep: tuple[str, str, float] | None = None
        self._sweeper = QTimer(self)
        self._sweeper.setInterval(16)
        self._sweeper.timeout.connect(self.refresh)
        self._still = QTimer(self)
        self._still.setSingleShot(True)
        self._still.setInterval(160)
        self._still.timeout.connect(self._draw_still)
        self.setMinimumSize(240, 180)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Stage")
        self.setAccessibleDescription(
            "The scene, seen through the camera. Ctrl and arrows turn the view, plus and minus move it."
        )
        self.setMouseTracking(True)
        session.scene_changed.connect(self.refresh)
        session.previewed.connect(self.refresh)
        session.selection_changed.connect(self.refresh)
        session.frame_changed.connect(self.refresh)

    # drawing

    def renderer(self) -> Renderer | None:
        """The renderer, made at first need; None, and ``problem`` set, if there is no OpenGL."""
        if self._renderer is None and not self.problem:
            try:
                self._renderer = Renderer(theme.palette())
            except ArtulineError as error:
                self.problem = str(error)
        return self._renderer

    def picture(self) -> QImage | None:
        """What is drawn now; None if nothing is."""
        return self._image

    def set_show(self, show: Show) -> None:
        """What is shown."""
        self.show_ = show
        self.refresh()

    def refresh(self) -> None:
        """Draw anew at the next chance."""
        self._image = None
        self.update()

    def restyle(self) -> None:
        """After a change of theme."""
        if self._renderer is not None:
            self._renderer.palette = theme.palette()
        self.refresh()

    def states(self) -> list[FigureState]:
        """How the figures stand now."""
        s = self.session
        if self.tryout is not None:
            pairs = zip(self.tryout.matrices(), self.tryout.keyed_matrices())
            return [FigureState(m, np.ones(len(m)), k) for m, k in pairs]
        if self.running is not None:
            return self._running_states(*self.running)
        states = figure_states(s.scene, s.assets, s.frame, self._take(), self.show_)
        other = self._echoed()
        if other is not None and self._take() is not None:
            # another take stands where the keys' echo would
            for state, beside in zip(states, figure_states(s.scene, s.assets, s.frame, other, self.show_)):
                state.keyed = beside.matrices
        if self._sweep is not None:
            self._put_sweep(states)
        return states

    def _running_states(self, frame: int, poses: dict[str, Pose]) -> list[FigureState]:
        """How the figures stand in the frame that has just been simulated."""
        scene, assets = self.session.scene, self.session.assets
        states = figure_states(scene, assets, frame, None, self.show_)
        for f, state in zip(scene.figures, states):
            if f.id in poses and len(poses[f.id].rotation[0]) == len(f.bones):
                state.matrices = skeleton_of(f).global_matrices(poses[f.id].frame(0), placement(f))
        return states

    def watch_run(self, over: bool = False) -> None:
        """Show what a run has come to, or that it is over."""
        if over:
            self.running = None
        if over or self.running is not None:
            self.refresh()

    def _other_states(self) -> list[FigureState]:
        """How the figures stand by what the take is compared with: another take, or the keys."""
        s, other = self.session, self._echoed()
        if other is not None:
            return figure_states(s.scene, s.assets, s.frame, other, self.show_)
        plain = figure_states(s.scene, s.assets, s.frame, None, self.show_)
        return [FigureState(x.keyed if x.keyed is not None else x.matrices, np.zeros_like(x.handover)) for x in plain]

    def _compares(self) -> str:
        """How the take is compared now: empty where there is nothing to compare."""
        shown = self.station == "Takes" and self.tryout is None and self.running is None and self._take() is not None
        return self.compare if shown and self.compare != "over" else ""

    def pane(self) -> QRectF:
        """The right half where takes are side by side; else the whole."""
        half = self.width() // 2
        if self._compares() == "beside":
            return QRectF(half, 0, self.width() - half, self.height())
        return QRectF(self.rect())

    def sweep(self, figure: str, joint: str) -> None:
        """Move a joint once through its range."""
        self._sweep = figure, joint, time.perf_counter()
        self._sweeper.start()

    def _put_sweep(self, states: list[FigureState]) -> None:
        assert self._sweep is not None
        figure_id, joint_id, began = self._sweep
        t = (time.perf_counter() - began) / SWEEP
        for f, state in zip(self.session.scene.figures, states):
            joint = next((j for j in f.joints if j.id == joint_id), None)
            if f.id == figure_id and joint is not None and t < 1.0:
                state.matrices = swept_matrices(f, joint, state.matrices, t)
                return
        self._sweep = None
        self._sweeper.stop()

    def joint_pose(self, figure_id: str, joint: Joint) -> tuple[Array, float, float] | None:
        """Swing (2,), twist and place along x of a joint as it is shown now, radians and metres."""
        for f, state in zip(self.session.scene.figures, self._states):
            if f.id != figure_id or len(state.matrices) != len(f.bones):
                continue
            bones = {b.id: f.bone_index[b.bone] for b in f.bodies}
            if joint.parent not in bones or joint.child not in bones:
                return None
            a, c = bones[joint.parent], bones[joint.child]
            p, q = rigid(state.matrices)
            frame = rotation.multiply(q[a], np.array(joint.parent_frame))
            now = rotation.multiply(q[c], np.array(joint.frame))
            swing, twist = rotation.swing_twist(rotation.multiply(rotation.conjugate(frame), now)[None])
            along = 0.0
            if joint.kind == "slide":
                rest, turned = rigid(rest_matrices(f))
                own = rotation.rotate(rotation.conjugate(turned[a]), rest[c] - rest[a])
                along = float(rotation.rotate(rotation.conjugate(frame), p[c] - p[a] - rotation.rotate(q[a], own))[0])
            return swing[0], float(twist[0]), along
        return None

    def _take(self) -> Take | None:
        """The take, in the stations that are about it; in Curves the baked keys may be shown instead."""
        shown = (
            self.station == "Takes"
            or (self.station == "Blend" and not self.posing)
            or (self.station == "Curves" and self.uses_take)
        )
        return self.session.take() if shown else None

    uses_take = True
    #: Whether something lies over all of it, so that there is nothing to draw.
    covered: Callable[[], bool] = staticmethod(lambda: False)
    echo_take: str | None = None
    #: The frame that a run has come to, and the figures' poses in it.
    running: tuple[int, dict[str, Pose]] | None = None
    #: How a take is compared: "over" each other, "beside" each other, or "wiped" at a share of the width.
    compare = "over"
    wipe = 0.5
    other_take: Callable[[], Take | None] = staticmethod(lambda: None)

    def _echoed(self) -> Take | None:
        return self.other_take() if self.echo_take is not None else None

    def _draw(self, scale: float) -> None:
        renderer = self.renderer()
        if renderer is None:
            return
        began = time.perf_counter()
        s = self.session
        self._states = self.states()
        marks = self.marks()
        frame = s.frame if self.running is None else float(self.running[0])
        how = self._compares()
        show = replace(self.show_, echo=False) if how else self.show_
        scene = draw_list(s.scene, s.assets, frame, self._states, show, s.selection, theme.palette(), marks)
        if self.tryout is not None:
            crimson = (*rgb(theme.palette().crimson), 1.0)
            for touch in self.tryout.touches():
                for axis in np.eye(3):
                    scene.add_line(touch + 0.018 * np.stack([-axis, axis]), crimson, 2.6)
            line = self.tryout.tug_line()
            if line is not None:
                scene.add_line(line, (*rgb(theme.palette().ink), 1.0), 2.0)
        ratio = self.devicePixelRatioF()
        w, h = max(int(self.width() * ratio * scale), 16), max(int(self.height() * ratio * scale), 16)
        if how:
            plain = draw_list(s.scene, s.assets, frame, self._other_states(), show, s.selection, theme.palette(), marks)
            image = self._two(renderer, how, plain, scene, w, h)
        else:
            image = self._one(renderer, scene, w, h)
        if scale != 1.0:
            image = image.scaled(
                QSize(int(self.width() * ratio), int(self.height() * ratio)),
                Qt.AspectRatioMode.IgnoreAspectRatio,
                Qt.TransformationMode.SmoothTransformation,
            )
        image.setDevicePixelRatio(ratio)
        self._image = image
        self.drawn_in = time.perf_counter() - began
        self.drawn.emit()

    def _one(self, renderer: Renderer, scene: DrawList, w: int, h: int) -> QImage:
        pixels = renderer.draw(scene, self.camera, w, h)
        return QImage(pixels.data, w, h, 4 * w, QImage.Format.Format_RGBX8888).copy()

    def _two(self, renderer: Renderer, how: str, left: DrawList, right: DrawList, w: int, h: int) -> QImage:
        """Two pictures of the same view: side by side, or one wiped over the other."""
        image = QImage(w, h, QImage.Format.Format_RGBX8888)
        painter = QPainter(image)
        if how == "beside":
            half = w // 2
            painter.drawImage(0, 0, self._one(renderer, left, half, h))
            painter.drawImage(half, 0, self._one(renderer, right, w - half, h))
        else:
            edge = round(w * self.wipe)
            painter.drawImage(0, 0, self._one(renderer, right, w, h))
            painter.setClipRect(0, 0, edge, h)
            painter.drawImage(0, 0, self._one(renderer, left, w, h))
        painter.end()
        return image

    def _edge(self) -> float | None:
        """Where the two pictures meet on the widget; None for one picture."""
        how = self._compares()
        return {"beside": self.width() // 2, "wiped": self.width() * self.wipe}.get(how)

    def _paint_compared(self, painter: QPainter) -> None:
        """The edge between two pictures, and what each shows; or the frame that a run has come to."""
        painter.setFont(theme.font(theme.SMALL, strong=True))
        if self.running is not None:
            self._halo(painter, QPointF(16, self.height() - 18), f"Frame {self.running[0]}, as it is simulated")
        edge = self._edge()
        ref = self.session.scene.active_take()
        if edge is None or ref is None:
            return
        other = next((t.name for t in self.session.scene.takes if t.id == self.echo_take), "the keys")
        painter.setPen(QPen(theme.color("ink"), 1.4))
        painter.drawLine(QPointF(edge, 0), QPointF(edge, self.height()))
        if self._compares() == "wiped":
            painter.setBrush(theme.color("raised"))
            painter.drawRoundedRect(QRectF(edge - 7, self.height() / 2 - 14, 14, 28), 3, 3)
            for x in (-2.0, 2.0):
                painter.drawLine(QPointF(edge + x, self.height() / 2 - 6), QPointF(edge + x, self.height() / 2 + 6))
        y = 46.0
        wide = painter.fontMetrics().horizontalAdvance(other)
        self._halo(painter, QPointF(edge - wide - 12, y), other)
        self._halo(painter, QPointF(edge + 12, y), ref.name)

    def _draw_still(self) -> None:
        if self._busy() or self.covered():
            return
        # once nothing moves: a finer picture, scaled down for smooth edges
        fine = 1.5 if (self.renderer() and self.renderer().software) else 2.0  # type: ignore[union-attr]
        self._draw(fine)
        self.update()

    def _busy(self) -> bool:
        live = self.tryout is not None and not self.tryout_paused
        return self.moving or self.running is not None or live or self._press is not None or self._sweep is not None

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.covered():
            return
        painter = QPainter(self)
        if self._image is None:
            self._draw(self._scale if self._busy() else min(self._scale, 1.0))
            if self._busy():
                # keep pace: draw smaller while pictures take too long
                if self.drawn_in > SLOW:
                    self._scale = max(0.5, self._scale * 0.88)
                elif self.drawn_in < 0.6 * SLOW:
                    self._scale = min(1.0, self._scale * 1.06)
            self._still.start()
        if self._image is None:
            painter.fillRect(self.rect(), theme.color("stage_top"))
            painter.setPen(theme.color("crimson_text"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self.problem)
            return
        painter.drawImage(0, 0, self._image)
        self._paint_scale_bar(painter)
        self._paint_names(painter)
        self._paint_dots(painter)
        self._paint_legend(painter)
        self.paint_tools(painter)
        self._paint_compared(painter)
        if self.hasFocus() and self._keyed:
            painter.setPen(QPen(theme.color("ink"), 2.0))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
        if self._mode == "frame" and self._press is not None and self._last is not None:
            painter.setPen(QPen(theme.color("ink"), 1.0, Qt.PenStyle.DashLine))
            painter.setBrush(theme.color("ink", 0.06))
            painter.drawRect(QRectF(self._press, self._last).normalized())

    # the view

    def frame_selection(self) -> None:
        """Fill the view with what is selected, else with all figures."""
        states = self.states()
        points = []
        for figure, state in zip(self.session.scene.figures, states):
            mine = self.session.selection.figure == figure.id
            chosen = [figure.bone_index[b] for b in self.session.selection.bones] if mine else []
            if chosen:
                # a bone with what is around it: a sixth of its figure each way
                places = state.matrices[chosen, :3, 3]
                reach = np.ptp(state.matrices[:, :3, 3], axis=0).max() / 6.0
                points = [places - reach, places + reach]
                break
            mesh = mesh_of(figure, self.session.assets)
            points.append(mesh.skin(state.matrices) if mesh is not None else state.matrices[:, :3, 3])
        if len(points) == len(states) and self._compares():
            points += [state.matrices[:, :3, 3] for state in self._other_states()]
        if points:
            self.camera = self.camera.framed(np.concatenate(points))
            self.refresh()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.refresh()

    # the mouse

    def _ray(self, at: QPointF) -> tuple[Array, Array]:
        pane = self.pane()
        x = at.x() - pane.left() if at.x() >= pane.left() else at.x()
        return self.camera.ray(x, at.y(), pane.width(), pane.height())

    def pick_at(self, at: QPointF) -> tuple[str, str, Array] | None:
        """Figure id, bone and place under a point of the widget."""
        origin, direction = self._ray(at)
        return pick(self.session.scene, self.session.assets, self._states or self.states(), origin, direction)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._press = self._last = event.position()
        self._mode = "orbit"
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if event.button() == Qt.MouseButton.MiddleButton or (event.button() == Qt.MouseButton.RightButton and shift):
            self._mode = "pan"
        elif event.button() == Qt.MouseButton.LeftButton and control and self.tryout is None:
            self._mode = "frame"
        elif event.button() == Qt.MouseButton.LeftButton and self.tryout is None:
            edge = self._edge()
            near = edge is not None and abs(edge - event.position().x()) < EDGE and self._compares() == "wiped"
            self._mode = "wipe" if near else self.take_tool(event.position()) or "orbit"
        elif event.button() == Qt.MouseButton.LeftButton and self.tryout is not None:
            hit = self.pick_at(event.position())
            if hit is not None:
                index = next(i for i, f in enumerate(self.session.scene.figures) if f.id == hit[0])
                figure = self.session.scene.figures[index]
                bone: str | None = hit[1]
                while bone is not None and bone not in figure.body_of:
                    bone = figure.bones[figure.bone_index[bone]].parent
                if bone is not None and shift:
                    self.tryout.push(index, frozenset({bone}), -PUSH * self.camera.axes()[2])
                    self._mode = "pushed"
                elif bone is not None and self.tryout.tug(index, bone, hit[2]):
                    self._mode = "tug"
                    self._tug_plane = hit[2], self.camera.axes()[2]

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._press is None or self._last is None:
            hover = self.hover_tool(event.position())
            if hover != self._hover:
                self._hover = hover
                self.update()
            return
        step = event.position() - self._last
        self._last = event.position()
        if self._mode == "orbit":
            self.camera = self.camera.orbited(-step.x() * ORBIT, step.y() * ORBIT)
        elif self._mode == "pan":
            self.camera = self.camera.panned(-step.x() / self.height(), step.y() / self.height())
        elif self._mode == "wipe":
            self.wipe = min(max(event.position().x() / max(self.width(), 1), 0.02), 0.98)
        elif self._mode in TOOLS:
            self.move_tool(self._mode, event.position(), False)
        elif self._mode == "tug" and self.tryout is not None and self._tug_plane is not None:
            origin, direction = self._ray(event.position())
            through, normal = self._tug_plane
            along = float(direction @ normal)
            if abs(along) > 1e-6:
                self.tryout.move_tug(origin + direction * float((through - origin) @ normal) / along)
        self.refresh()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        press, self._press = self._press, None
        if self._mode == "tug" and self.tryout is not None:
            self.tryout.let_go()
        elif self._mode in TOOLS:
            if press is not None and (event.position() - press).manhattanLength() > 1:
                self.move_tool(self._mode, event.position(), True)
            self.drop_tool()
        elif self._mode == "frame" and press is not None and (event.position() - press).manhattanLength() >= 5:
            box = QRectF(press, event.position()).normalized()
            self._choose_in(box)
        elif self._mode in ("pushed", "wipe"):
            pass
        elif (
            press is not None
            and (event.position() - press).manhattanLength() < 5
            and event.button() == Qt.MouseButton.LeftButton
        ):
            dot = self._dot_at(event.position())
            hit = dot or self.pick_at(event.position())
            if dot is None and self._obstacle_before(event.position(), hit):
                return
            more = bool(event.modifiers() & (Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier))
            self.picked.emit(hit[0] if hit else None, hit[1] if hit else None, more)
        self._mode = ""
        self._still.start()

    def _obstacle_before(self, at: QPointF, hit: tuple[str, str, Array] | tuple[str, str] | None) -> bool:
        """Take the obstacle under a point in hand, if it stands before what else is there."""
        self.obstacle, before = None, self.obstacle
        if self.station == "Blend" and self.tryout is None:
            origin, direction = self._ray(at)
            found = pick_obstacle(self.session.scene, self.session.frame, origin, direction)
            far = float(np.linalg.norm(hit[2] - origin)) if hit is not None and len(hit) == 3 else np.inf
            if found is not None and found[1] < far:
                self.obstacle = found[0].id
        if self.obstacle != before:
            self.obstacle_chosen.emit()
        if self.obstacle is not None:
            self._mode = ""
            self._still.start()
        return self.obstacle is not None

    def _choose_in(self, box: QRectF) -> None:
        """Choose the bones whose origins lie in a frame, of the figure that has most there."""
        best: tuple[int, str, frozenset[str]] | None = None
        for f, state in zip(self.session.scene.figures, self._states):
            names = [b.name for b in f.bones if b.deforms]
            at = self.camera.project(
                state.matrices[[f.bone_index[n] for n in names], :3, 3], self.width(), self.height()
            )
            inside = frozenset(n for n, (x, y, d) in zip(names, at) if d > 0 and box.contains(QPointF(x, y)))
            if inside and (best is None or len(inside) > best[0]):
                best = len(inside), f.id, inside
        if best is not None:
            self.framed.emit(best[1], best[2])

    #: Whether the focus came by the keyboard, so that it is shown.
    _keyed = False

    def focusInEvent(self, event: QFocusEvent) -> None:
        self._keyed = event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason)
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self._keyed = False
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Ctrl and arrows turn the view, plus and minus move it nearer and farther."""
        key = Qt.Key(event.key())
        turns = {Qt.Key.Key_Left: (1, 0), Qt.Key.Key_Right: (-1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        if key in turns and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            x, y = turns[key]
            self.camera = self.camera.orbited(x * TURN, y * TURN)
        elif event.text() in ("+", "-"):
            self.camera = self.camera.zoomed(0.9 if event.text() == "+" else 1.0 / 0.9)
        else:
            super().keyPressEvent(event)
            return
        self.refresh()

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.camera = self.camera.zoomed(0.9988 ** event.angleDelta().y())
        self.refresh()
