"""The stage: the picture of the scene, and the mouse on it."""

import time
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QWidget

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose
from artuline.core.motion.poses import key_pose, reached, turned
from artuline.core.motion.skeleton import Pose, rest_matrices, rigid
from artuline.core.run.take import Take
from artuline.core.run.tryout import Tryout
from artuline.core.scene import edit
from artuline.core.scene.model import Body, Figure, Joint, Scene, Shape
from artuline.core.setup.limits import swept_matrices
from artuline.desk import theme
from artuline.desk.handles import BoneHandles, Held, ShapeHandles
from artuline.desk.session import Session
from artuline.view.camera import Camera
from artuline.view.palette import rgb
from artuline.view.renderer import Renderer
from artuline.view.stage import FigureState, Marks, Show, draw_list, figure_states, mesh_of, pick

ORBIT = 0.008  # radians a pixel
SLOW = 0.034  # seconds a picture may take while things move
SWEEP = 5.0  # seconds of a sweep through a joint's range
PUSH = 2.0  # m/s that a push in the tryout gives


class Stage(QWidget):
    """Draws the session's scene. Left drag on empty stage or right drag orbits, middle or Shift drag pans,
    the wheel zooms, a click selects, Ctrl and drag selects in a frame; handles move, turn and size the chosen shape.
    During a tryout a drag on a body tugs it, and a Shift click pushes it away.
    """

    picked = Signal(object, object, bool)
    framed = Signal(object, object)
    drawn = Signal()

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
        self.active_shape: Callable[[], int] = lambda: 0
        self.shape_edit: Callable[[Scene, str, str], Scene] = lambda s, figure, body: s
        self._held: Held | None = None
        self._pose_held: tuple[str, QPointF, BoneHandles, Pose] | None = None
        self._hover = ""
        self._sweep: tuple[str, str, float] | None = None
        self._sweeper = QTimer(self)
        self._sweeper.setInterval(16)
        self._sweeper.timeout.connect(self.refresh)
        self._still = QTimer(self)
        self._still.setSingleShot(True)
        self._still.setInterval(160)
        self._still.timeout.connect(self._draw_still)
        self.setMinimumSize(320, 240)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setMouseTracking(True)
        session.scene_changed.connect(self.refresh)
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
        states = figure_states(s.scene, s.assets, s.frame, self._take(), self.show_)
        other = self._echoed()
        if other is not None and self._take() is not None:
            # another take stands where the keys' echo would
            for state, beside in zip(states, figure_states(s.scene, s.assets, s.frame, other, self.show_)):
                state.keyed = beside.matrices
        if self._sweep is not None:
            self._put_sweep(states)
        return states

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
    echo_take: str | None = None
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
        scene = draw_list(s.scene, s.assets, s.frame, self._states, self.show_, s.selection, theme.palette(), marks)
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
        pixels = renderer.draw(scene, self.camera, w, h)
        image = QImage(pixels.data, w, h, 4 * w, QImage.Format.Format_RGBX8888).copy()
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

    def _draw_still(self) -> None:
        if self._busy():
            return
        # once nothing moves: a finer picture, scaled down for smooth edges
        fine = 1.5 if (self.renderer() and self.renderer().software) else 2.0  # type: ignore[union-attr]
        self._draw(fine)
        self.update()

    def _busy(self) -> bool:
        live = self.tryout is not None and not self.tryout_paused
        return self.moving or live or self._press is not None or self._sweep is not None

    def paintEvent(self, event: QPaintEvent) -> None:
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
        handles = self.handles()
        if handles is not None:
            handles.paint(painter, self._held.name if self._held else self._hover)
        rings = self.bone_handles()
        if rings is not None:
            rings.paint(painter, self._pose_held[0] if self._pose_held else self._hover)
        if self._mode == "frame" and self._press is not None and self._last is not None:
            painter.setPen(QPen(theme.color("ink"), 1.0, Qt.PenStyle.DashLine))
            painter.setBrush(theme.color("ink", 0.06))
            painter.drawRect(QRectF(self._press, self._last).normalized())

    # handles

    def _shape_in_hand(self) -> tuple[Figure, Body, Shape, Array, Array] | None:
        s = self.session
        figure = s.figure()
        if self.station != "Bodies" or self.tryout is not None or figure is None or len(s.selection.bones) != 1:
            return None
        body = figure.body_of.get(next(iter(s.selection.bones)))
        if body is None or not body.shapes:
            return None
        index = next(i for i, f in enumerate(s.scene.figures) if f.id == figure.id)
        if index >= len(self._states):
            return None
        p, q = rigid(self._states[index].matrices)
        b = figure.bone_index[body.bone]
        return figure, body, body.shapes[min(self.active_shape(), len(body.shapes) - 1)], p[b], q[b]

    def handles(self) -> ShapeHandles | None:
        """The handles of the chosen shape, if there is one."""
        found = self._shape_in_hand()
        if found is None:
            return None
        return ShapeHandles(found[2], found[3], found[4], self.camera, self.width(), self.height())

    def _put_shape(self, at: QPointF, final: bool) -> None:
        found, held, handles = self._shape_in_hand(), self._held, self.handles()
        if found is None or held is None or handles is None:
            return
        figure, body, _, place, turn = found
        start = ShapeHandles(held.shape, place, turn, self.camera, self.width(), self.height())
        shape, k = start.moved(held, at), min(self.active_shape(), len(body.shapes) - 1)

        def with_shape(b: Body) -> Body:
            return b.changed(shapes=(*b.shapes[:k], shape, *b.shapes[k + 1 :]), by_hand=True)

        def change(s: Scene) -> Scene:
            return self.shape_edit(edit.bodies(s, figure.id, {body.id}, with_shape), figure.id, body.id)

        if final:
            self.session.edit(f"Shape of {body.bone}: {held.name}", change)
        else:
            self.session.preview(change)

    # posing

    posing = False

    def bone_handles(self) -> BoneHandles | None:
        """The handles of the chosen bone while the keys are being posed."""
        s = self.session
        figure = s.figure()
        if (
            not self.posing
            or self.station != "Blend"
            or self.tryout is not None
            or figure is None
            or len(s.selection.bones) != 1
        ):
            return None
        index = next(i for i, f in enumerate(s.scene.figures) if f.id == figure.id)
        if index >= len(self._states):
            return None
        p, q = rigid(self._states[index].matrices)
        b = figure.bone_index[next(iter(s.selection.bones))]
        up = figure.bones[b].parent
        limb = up is not None and figure.bones[figure.bone_index[up]].parent is not None
        size = 0.05 * float(np.ptp(p, axis=0).max())
        return BoneHandles(p[b], q[b], size, self.camera, self.width(), self.height(), limb)

    def _put_pose(self, at: QPointF, final: bool) -> None:
        held = self._pose_held
        figure = self.session.figure()
        if held is None or figure is None:
            return
        name, start, handles, pose = held
        bone = next(iter(self.session.selection.bones))
        if name == "move":
            new, bones = reached(figure, pose, bone, handles.goal_of(start, at)), self._limb(figure, bone)
        else:
            new, bones = turned(figure, pose, bone, handles.turn_of(name, start, at)), {bone}
        frame, assets = round(self.session.frame), self.session.assets

        def change(s: Scene) -> Scene:
            return key_pose(s, assets, figure.id, frame, new, bones)

        if final:
            self.session.edit(f"Pose {bone}", change)
        else:
            self.session.preview(change)

    @staticmethod
    def _limb(figure: Figure, bone: str) -> set[str]:
        up = figure.bones[figure.bone_index[bone]].parent or bone
        return {bone, up, figure.bones[figure.bone_index[up]].parent or up}

    # dots and legends

    def _dots(self) -> list[tuple[str, str, QPointF]]:
        """Figure, bone and place on the widget of every bone that may be clicked."""
        if self.station not in ("Cast", "Bodies") or self.tryout is not None:
            return []
        found = []
        for f, state in zip(self.session.scene.figures, self._states):
            bones = [i for i, b in enumerate(f.bones) if b.deforms]
            if not bones or len(state.matrices) != len(f.bones):
                continue
            at = self.camera.project(state.matrices[bones, :3, 3], self.width(), self.height())
            found += [(f.id, f.bones[i].name, QPointF(x, y)) for i, (x, y, depth) in zip(bones, at) if depth > 0]
        return found

    def _paint_dots(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        by_id = {f.id: f for f in self.session.scene.figures}
        for figure, bone, at in self._dots():
            has = bone in by_id[figure].body_of
            painter.setPen(QPen(theme.color("ink"), 1.2))
            painter.setBrush(theme.color("teal" if has else "raised"))
            painter.drawEllipse(at, 3.6, 3.6)

    def _dot_at(self, at: QPointF) -> tuple[str, str] | None:
        near = [((spot - at).manhattanLength(), figure, bone) for figure, bone, spot in self._dots()]
        best = min(near, default=(99.0, "", ""))
        return best[1:] if best[0] < 9.0 else None

    legend: tuple[str, tuple[tuple[str, str], ...]] | None = None

    def _paint_legend(self, painter: QPainter) -> None:
        """What the colours of the shapes mean: a title, and pairs of colour and words."""
        if self.legend is None:
            return
        title, entries = self.legend
        painter.setFont(theme.font(theme.SMALL, strong=True))
        x, y = self.width() - 118.0, 24.0
        self._halo(painter, QPointF(x, y), title)
        painter.setFont(theme.font(theme.SMALL))
        for i, (code, words) in enumerate(entries):
            top = y + 10 + 17 * i
            painter.setPen(QPen(theme.color("ink"), 0.8))
            painter.setBrush(QColor(code))
            painter.drawRect(QRectF(x, top, 11, 11))
            self._halo(painter, QPointF(x + 18, top + 10), words)

    def _paint_scale_bar(self, painter: QPainter) -> None:
        if not self.session.scene.figures:
            return
        target = np.array(self.camera.target)
        right = self.camera.axes()[0]
        ends = self.camera.project(np.stack([target, target + right]), self.width(), self.height())
        pixels = abs(ends[1, 0] - ends[0, 0])
        metres = next((m for m in (0.01, 0.05, 0.1, 0.25, 0.5, 1, 2, 5, 10, 50) if m * pixels > 60), 100.0)
        text = f"{metres * 100:g} cm" if metres < 1 else f"{metres:g} m"
        x, y, w = 16.0, 22.0, metres * pixels
        painter.setPen(QPen(theme.color("ink"), 1.5))
        painter.drawLine(QPointF(x, y), QPointF(x + w, y))
        painter.drawLine(QPointF(x, y - 4), QPointF(x, y))
        painter.drawLine(QPointF(x + w, y - 4), QPointF(x + w, y))
        painter.setFont(theme.font(theme.SMALL))
        self._halo(painter, QPointF(x + w + 6, y + 3), text)

    def _paint_names(self, painter: QPainter) -> None:
        s = self.session
        figure = s.figure()
        if figure is None or not s.selection.bones or not self._states:
            return
        index = next(i for i, f in enumerate(s.scene.figures) if f.id == figure.id)
        painter.setFont(theme.font(theme.SMALL, strong=True))
        for name in sorted(s.selection.bones)[:6]:
            p = self._states[index].matrices[figure.bone_index[name]][:3, 3]
            x, y, depth = self.camera.project(p[None], self.width(), self.height())[0]
            if depth > 0:
                self._halo(painter, QPointF(x + 10, y - 8), name)

    def _halo(self, painter: QPainter, at: QPointF, text: str) -> None:
        painter.setPen(theme.color("paper", 0.85))
        for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1), (-1, -1), (1, 1), (-1, 1), (1, -1)):
            painter.drawText(at + QPointF(dx, dy), text)
        painter.setPen(theme.color("ink"))
        painter.drawText(at, text)

    # the view

    def frame_selection(self) -> None:
        """Fill the view with what is selected, else with all figures."""
        states = self.states()
        points = []
        for figure, state in zip(self.session.scene.figures, states):
            mine = self.session.selection.figure == figure.id
            chosen = [figure.bone_index[b] for b in self.session.selection.bones] if mine else []
            if chosen:
                points = [state.matrices[chosen, :3, 3], state.matrices[chosen, :3, 3] + 0.12]
                break
            mesh = mesh_of(figure, self.session.assets)
            points.append(mesh.skin(state.matrices) if mesh is not None else state.matrices[:, :3, 3])
        if points:
            self.camera = self.camera.framed(np.concatenate(points))
            self.refresh()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.refresh()

    # the mouse

    def _ray(self, at: QPointF) -> tuple[Array, Array]:
        return self.camera.ray(at.x(), at.y(), self.width(), self.height())

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
            rings, figure = self.bone_handles(), self.session.figure()
            ring = rings.hit(event.position()) if rings is not None else ""
            if rings is not None and ring and figure is not None:
                self._mode = "pose"
                now = np.array([float(round(self.session.frame))])
                pose = keyed_pose(self.session.scene, self.session.assets, figure, now, layers=False)
                self._pose_held = ring, event.position(), rings, pose
                return
            handles, found = self.handles(), self._shape_in_hand()
            name = handles.hit(event.position()) if handles is not None else ""
            if name and found is not None:
                self._mode = "handle"
                self._held = Held(name, event.position(), found[2])
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
            handles = self.handles() or self.bone_handles()
            hover = handles.hit(event.position()) if handles is not None else ""
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
        elif self._mode == "handle":
            self._put_shape(event.position(), False)
        elif self._mode == "pose":
            self._put_pose(event.position(), False)
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
        elif self._mode == "handle":
            if press is not None and (event.position() - press).manhattanLength() > 1:
                self._put_shape(event.position(), True)
            self._held = None
        elif self._mode == "pose":
            if press is not None and (event.position() - press).manhattanLength() > 1:
                self._put_pose(event.position(), True)
            self._pose_held = None
        elif self._mode == "frame" and press is not None and (event.position() - press).manhattanLength() >= 5:
            box = QRectF(press, event.position()).normalized()
            self._choose_in(box)
        elif self._mode == "pushed":
            pass
        elif (
            press is not None
            and (event.position() - press).manhattanLength() < 5
            and event.button() == Qt.MouseButton.LeftButton
        ):
            dot = self._dot_at(event.position())
            hit = dot or self.pick_at(event.position())
            more = bool(event.modifiers() & (Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier))
            self.picked.emit(hit[0] if hit else None, hit[1] if hit else None, more)
        self._mode = ""
        self._still.start()

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

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.camera = self.camera.zoomed(0.9988 ** event.angleDelta().y())
        self.refresh()
