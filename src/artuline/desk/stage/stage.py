"""The stage: the picture of the scene, and the mouse on it."""

import time
from collections.abc import Callable, Sequence
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
from PySide6.QtWidgets import QWidget

from artuline.core.errors import ArtulineError
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import Pose
from artuline.core.run.take import Take
from artuline.desk import theme
from artuline.desk.model.comparison import Comparison
from artuline.desk.model.drag import Drag, Pointer
from artuline.desk.model.session import Session
from artuline.desk.stage import compare, overlay
from artuline.desk.stage.live import Live, running_states
from artuline.desk.stage.tools import Room, Tool, View
from artuline.view.camera import Camera
from artuline.view.drawlist import DrawList
from artuline.view.picking import pick
from artuline.view.renderer import Renderer
from artuline.view.stage import FigureState, Marks, Show, draw_list, figure_states, mesh_of

ORBIT = 0.008  # radians a pixel
TURN = 0.12  # radians a key
SMALLEST = 0.5  # share of their size at which pictures of what moves are drawn at least
SLOW = 0.034  # seconds a picture may take while things move
EDGE = 8.0  # pixels from the edge of a wiped picture at which it can be dragged
CLICK = 5  # pixels that the mouse may move within a click


class Stage(QWidget):
    """Draws the session's scene. Left drag on empty stage or right drag orbits, middle or Shift drag pans,
    the wheel zooms, a click selects, Ctrl and drag selects in a frame; what the station's tools show can be dragged.
    During a tryout a drag on a body tugs it, and a Shift click pushes it away.
    """

    drawn = Signal()

    def __init__(self, session: Session, comparison: Comparison):
        super().__init__()
        self.session, self.comparison = session, comparison
        self.camera = Camera(yaw=0.62, pitch=0.2)
        self.show_ = Show()
        self.live = Live()
        self.problem = ""
        self.drawn_in, self._drawn_at = 0.0, 0.0
        self._room: Room | None = None
        self._rooms: Sequence[Room] = ()
        self._moving: set[str] = set()
        self._running: tuple[int, dict[str, Pose]] | None = None
        self._covered = False
        self._renderer: Renderer | None = None
        self._image: QImage | None = None
        self._states: list[FigureState] = []
        self.legend: overlay.Legend | None = None
        self._scale = 1.0
        self._press: QPointF | None = None
        self._last: QPointF | None = None
        self._mode = ""
        self._hot: tuple[Tool, str] | None = None
        self._held: Drag | None = None
        self._by_keys = False
        #: What takes keys while something is steered: a key and whether it went down, or up; whether it took it.
        self.keys_taken: Callable[[Qt.Key, bool], bool] | None = None
        self.left: Callable[[], None] = lambda: None
        self._still = QTimer(self)
        self._still.setSingleShot(True)
        self._still.setInterval(160)
        self._still.timeout.connect(self._draw_still)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self.refresh)
        self.setMinimumSize(240, 180)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Stage")
        self.setAccessibleDescription(
            "The scene, seen through the camera. Ctrl and arrows turn the view, plus and minus move it."
        )
        self.setMouseTracking(True)
        session.scene_changed.connect(self.refresh)
        session.previewed.connect(self._follow)
        session.selection_changed.connect(self.refresh)
        session.frame_changed.connect(self.refresh)
        session.leaving.connect(self.forget)

    # what it shows

    def enter(self, room: Room, rooms: Sequence[Room]) -> None:
        """Show a station; all stations may mark what is shown."""
        self._room, self._rooms = room, rooms
        self._hot = self._held = None
        self.refresh()

    def set_show(self, show: Show) -> None:
        """What is shown."""
        self.show_ = show
        self.refresh()

    def set_moving(self, what: str, on: bool) -> None:
        """Say that something moves by itself, or no longer: pictures are then drawn for speed."""
        (self._moving.add if on else self._moving.discard)(what)
        self.refresh()

    @property
    def playing(self) -> bool:
        """Whether something moves by itself."""
        return bool(self._moving)

    def set_covered(self, on: bool) -> None:
        """Say that something lies over all of it, so that there is nothing to draw."""
        self._covered = on
        self.refresh()

    def show_running(self, running: tuple[int, dict[str, Pose]] | None) -> None:
        """Show the frame that a run has come to, with the figures' poses in it; None when it is over."""
        if running is not None or self._running is not None:
            self._running = running
            self.refresh()

    @property
    def running(self) -> tuple[int, dict[str, Pose]] | None:
        """The frame that a run has come to, and the poses in it; None if none runs."""
        return self._running

    def view(self) -> View:
        """How the scene is seen now."""
        box = compare.pane(self._compares(), self.width(), self.height())
        return View(self.camera, box, self._seen(), self.show_, self.live.tryout is not None)

    def _seen(self) -> list[FigureState]:
        """How the figures stood when they were drawn; as they stand now, if there are others by now."""
        return self._states if len(self._states) == len(self.session.scene.figures) else self.states()

    def take(self) -> Take | None:
        """The take, in the stations that are about it."""
        return self.session.take() if self._room is not None and self._room.source == "take" else None

    def states(self) -> list[FigureState]:
        """How the figures stand now."""
        s = self.session
        if self.live.tryout is not None:
            return self.live.states()
        if self._running is not None:
            return running_states(s, self.show_, *self._running)
        take, other = self.take(), self.comparison.take()
        states = figure_states(s.scene, s.assets, s.frame, take, self.show_)
        if other is not None and take is not None:
            # another take stands where the keys' echo would
            for state, beside in zip(states, figure_states(s.scene, s.assets, s.frame, other, self.show_)):
                state.keyed = beside.matrices
        if self._room is not None:
            self._room.alter(states)
        return states

    def _compares(self) -> str:
        """How the take is compared now: empty where there is nothing to compare."""
        here = self._room is not None and self._room.compares and self.live.tryout is None and self._running is None
        return self.comparison.how if here and self.comparison.how != "over" and self.take() is not None else ""

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

    def forget(self) -> None:
        """The document is left: what was uploaded for it is given back."""
        self._states, self._image = [], None
        if self._renderer is not None:
            self._renderer.forget()

    def refresh(self) -> None:
        """Draw anew at the next chance."""
        self._image = None
        self.update()

    def _follow(self) -> None:
        """Follow what is dragged elsewhere, with half of the time at most, so that it keeps pace."""
        rest = 2.0 * self.drawn_in - (time.perf_counter() - self._drawn_at)
        if self._press is not None or rest <= 0.0:
            self._later.stop()
            self.refresh()
        elif not self._later.isActive():
            self._later.start(max(round(1000.0 * rest), 1))

    def restyle(self) -> None:
        """After a change of theme."""
        if self._renderer is not None:
            self._renderer.palette = theme.palette()
        self.refresh()

    def draw_lists(self) -> tuple[DrawList, DrawList | None]:
        """What is drawn now, and what it is compared with where two pictures are seen."""
        s = self.session
        self._states = self.states()
        marks = Marks()
        if self.live.tryout is None:
            # what stations mark is about keys and takes
            for room in self._rooms:
                room.mark(marks, self.show_, room is self._room)
        self.legend = marks.legend
        frame = s.frame if self._running is None else float(self._running[0])
        how, palette = self._compares(), theme.palette()
        show = replace(self.show_, echo=False) if how else self.show_
        if self.live.tryout is not None:
            # it stands beside what stands still
            show = replace(show, person=False)
        scene = draw_list(s.scene, s.assets, frame, self._states, show, s.selection, palette, marks)
        self.live.draw(scene, palette)
        if not how:
            return scene, None
        return scene, draw_list(
            s.scene,
            s.assets,
            frame,
            compare.other_states(self.session, self.comparison, self.show_),
            show,
            s.selection,
            palette,
            marks,
        )

    def _draw(self, scale: float) -> None:
        if self.renderer() is None:
            return
        began = time.perf_counter()
        self.renderer().hurried = self._busy() and self._scale <= SMALLEST  # type: ignore[union-attr]
        scene, other = self.draw_lists()
        ratio = self.devicePixelRatioF()
        w, h = max(int(self.width() * ratio * scale), 16), max(int(self.height() * ratio * scale), 16)
        if other is not None:
            image = compare.two(self._one, self._compares(), self.comparison.wipe, (other, scene), (w, h))
        else:
            image = self._one(scene, w, h)
        if scale != 1.0:
            image = image.scaled(
                QSize(int(self.width() * ratio), int(self.height() * ratio)),
                Qt.AspectRatioMode.IgnoreAspectRatio,
                Qt.TransformationMode.SmoothTransformation,
            )
        image.setDevicePixelRatio(ratio)
        self._image = image
        self._drawn_at = time.perf_counter()
        self.drawn_in = self._drawn_at - began
        self.drawn.emit()

    def _one(self, scene: DrawList, w: int, h: int) -> QImage:
        renderer = self.renderer()
        assert renderer is not None
        pixels = renderer.draw(scene, self.camera, w, h)
        return QImage(pixels.data, w, h, 4 * w, QImage.Format.Format_RGBX8888).copy()

    def _draw_still(self) -> None:
        renderer = self.renderer()
        if self._busy() or self._covered or renderer is None:
            return
        # once nothing moves: a finer picture, scaled down for smooth edges
        self._draw(1.5 if renderer.software else 2.0)
        self.update()

    def _busy(self) -> bool:
        return bool(self._moving) or self._running is not None or self.live.moves or self._press is not None

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._covered:
            return
        painter = QPainter(self)
        if self._image is None:
            self._draw(self._scale if self._busy() else min(self._scale, 1.0))
            if self._busy():
                # keep pace: draw smaller while pictures take too long
                if self.drawn_in > SLOW:
                    self._scale = max(SMALLEST, self._scale * 0.88)
                elif self.drawn_in < 0.6 * SLOW:
                    self._scale = min(1.0, self._scale * 1.06)
            self._still.start()
        if self._image is None:
            painter.fillRect(self.rect(), theme.color("stage_top"))
            painter.setPen(theme.color("crimson_text"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self.problem)
            return
        painter.drawImage(0, 0, self._image)
        self._paint_over(painter)
        if self.hasFocus() and self._by_keys:
            painter.setPen(QPen(theme.color("ink"), 2.0))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
        if self._mode == "frame" and self._press is not None and self._last is not None:
            painter.setPen(QPen(theme.color("ink"), 1.0, Qt.PenStyle.DashLine))
            painter.setBrush(theme.color("ink", 0.06))
            painter.drawRect(QRectF(self._press, self._last).normalized())

    def _paint_over(self, p: QPainter) -> None:
        scene, view = self.session.scene, self.view()
        if scene.figures:
            overlay.paint_scale_bar(p, view)
        overlay.paint_names(p, scene, self.session.selection, view)
        overlay.paint_dots(p, scene.figures, self._dots(view))
        if self.legend is not None:
            overlay.paint_legend(p, self.legend, self.width())
        for tool in self._tools():
            tool.paint(p, view, self._hot[1] if self._hot is not None and self._hot[0] is tool else "")
        if self._running is not None:
            p.setFont(theme.font(theme.SMALL, strong=True))
            overlay.halo(p, QPointF(16, self.height() - 18), f"Frame {self._running[0]}, as it is simulated")
        words = self.live.words() if self.live.tryout is not None else ""
        if words:
            p.setFont(theme.font(theme.SMALL, strong=True))
            overlay.halo(p, QPointF(16, self.height() - 66), words)
        edge, ref = self._edge(), scene.active_take()
        if edge is not None and ref is not None:
            other = self.comparison.ref()
            names = other.name if other is not None else "the keys", ref.name
            compare.paint_edge(p, edge, self.height(), self._compares() == "wiped", names)

    def _edge(self) -> float | None:
        return compare.edge(self._compares(), self.comparison.wipe, self.width())

    def _tools(self) -> Sequence[Tool]:
        return self._room.tools() if self._room is not None and self.live.tryout is None else ()

    def _dots(self, view: View) -> list[tuple[str, str, QPointF]]:
        if self._room is None or not self._room.dots or view.live:
            return []
        return overlay.bone_dots(self.session.scene.figures, view, self.session.selection.figure)

    # the view

    def frame_selection(self) -> None:
        """Fill the view with what is selected, else with all figures."""
        states = self.states()
        points = []
        for figure, state in zip(self.session.scene.figures, states):
            chosen = [figure.bone_index[b] for b in self.session.selection.of(figure.id)]
            if chosen:
                # a bone with what is around it: a sixth of its figure each way
                places = state.matrices[chosen, :3, 3]
                mesh = mesh_of(figure, self.session.assets)
                all_ = mesh.skin(state.matrices) if mesh is not None else state.matrices[:, :3, 3]
                # a thing is small enough to be seen as a whole
                reach = np.ptp(all_, axis=0).max() / (1.5 if figure.prop else 6.0)
                points = [places - reach, places + reach]
                break
        else:
            points = self._all_points(states)
        if points:
            self.camera = self.camera.framed(np.concatenate(points))
            self.refresh()

    def _all_points(self, states: list[FigureState]) -> list[Array]:
        """Points (N, 3) of all figures but obstacles, of both takes where two are compared."""
        scene, points = self.session.scene, []
        for figure, state in zip(scene.figures, states):
            if not figure.obstacle:
                mesh = mesh_of(figure, self.session.assets)
                points.append(mesh.skin(state.matrices) if mesh is not None else state.matrices[:, :3, 3])
        if points and self._compares():
            other = compare.other_states(self.session, self.comparison, self.show_)
            points += [x.matrices[:, :3, 3] for f, x in zip(scene.figures, other) if not f.obstacle]
        return points

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.refresh()

    # the mouse

    def pick_at(self, at: QPointF) -> tuple[str, str, Array] | None:
        """Figure id, bone and place under a point of the widget."""
        view = self.view()
        return pick(self.session.scene, self.session.assets, view.states, *view.ray(at))

    def tool_at(self, at: QPointF) -> tuple[Tool, str] | None:
        """The tool and the handle under a point of the widget."""
        view = self.view()
        found = ((tool, tool.hit(at, view)) for tool in self._tools())
        return next(((tool, handle) for tool, handle in found if handle), None)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._press = self._last = event.position()
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        left = event.button() == Qt.MouseButton.LeftButton
        if event.button() == Qt.MouseButton.MiddleButton or (event.button() == Qt.MouseButton.RightButton and shift):
            self._mode = "pan"
        elif not left:
            self._mode = "orbit"
        elif self.live.tryout is not None:
            hit = self.pick_at(event.position())
            self._mode = self.live.press(self.session.scene, hit, self.camera, shift) if hit is not None else ""
            self._mode = self._mode or "orbit"
        elif control:
            self._mode = "frame"
        else:
            self._mode = self._take_in_hand(event.position())

    def _take_in_hand(self, at: QPointF) -> str:
        edge = self._edge()
        if edge is not None and abs(edge - at.x()) < EDGE and self._compares() == "wiped":
            return "wipe"
        self._hot = self.tool_at(at)
        if self._hot is None:
            return "orbit"
        tool, handle = self._hot
        self._held = tool.press(handle, at, self.view())
        return "tool"

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._press is None or self._last is None:
            hot = self.tool_at(event.position())
            if hot != self._hot:
                self._hot = hot
                self.update()
            return
        step = event.position() - self._last
        self._last = event.position()
        if self._mode == "orbit":
            self.camera = self.camera.orbited(-step.x() * ORBIT, step.y() * ORBIT)
        elif self._mode == "pan":
            self.camera = self.camera.panned(-step.x() / self.height(), step.y() / self.height())
        elif self._mode == "wipe":
            self.comparison.wipe = min(max(event.position().x() / max(self.width(), 1), 0.02), 0.98)
        elif self._mode == "tool" and self._held is not None:
            self.session.preview(self._held.change(_pointer(event)))
        elif self._mode == "tug":
            self.live.move(*self.view().ray(event.position()))
        self.refresh()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        press, self._press = self._press, None
        mode, self._mode = self._mode, ""
        held, self._held = self._held, None
        far = (event.position() - press).manhattanLength() if press is not None else 0.0
        if mode == "tug":
            self.live.release()
        elif held is not None:
            if far > 1:
                self.session.edit(held.words, held.change(_pointer(event)))
        elif mode == "frame" and press is not None and far >= CLICK:
            self._choose_in(QRectF(press, event.position()).normalized())
        elif (
            mode in ("orbit", "frame")
            and press is not None
            and far < CLICK
            and event.button() == Qt.MouseButton.LeftButton
        ):
            self._click(_pointer(event))
        self._still.start()

    def _click(self, pointer: Pointer) -> None:
        """Take what is under the mouse: the dot of a bone, or a bone."""
        at, more = pointer.at, pointer.shift or pointer.control
        dot = overlay.dot_at(at, self._dots(self.view()))
        hit = self.pick_at(at) if dot is None else None
        if self._room is not None and self.live.tryout is None and self._room.clicked(at, self.view(), hit):
            self.refresh()
            return
        found = dot or (hit[:2] if hit is not None else None)
        old = self.session.selection
        if found is None:
            if not more:
                self.session.select(None, frozenset())
            return
        figure, bone = found
        bones = old.bones ^ {bone} if more and old.figure == figure else frozenset({bone})
        self.session.select(figure, frozenset(bones))

    def _choose_in(self, box: QRectF) -> None:
        """Choose the bones whose origins lie in a frame, of the figure that has most there."""
        best: tuple[int, str, frozenset[str]] | None = None
        view = self.view()
        if self._room is not None and self._room.choose(box, view):
            return
        for f, state in zip(self.session.scene.figures, view.states):
            names = [b.name for b in f.bones if b.deforms]
            at = view.screen(state.matrices[[f.bone_index[n] for n in names], :3, 3])
            inside = frozenset(n for n, (x, y, d) in zip(names, at) if d > 0 and box.contains(QPointF(x, y)))
            if inside and (best is None or len(inside) > best[0]):
                best = len(inside), f.id, inside
        if best is not None:
            self.session.select(best[1], best[2])

    # the keyboard

    def focusInEvent(self, event: QFocusEvent) -> None:
        self._by_keys = event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason)
        self.update()

    @property
    def wanted_keys(self) -> tuple[Qt.Key, ...]:
        """Keys that no shortcut takes while something is steered."""
        keys = Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down
        return keys if self.keys_taken is not None else ()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self._by_keys = False
        self.left()
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Ctrl and arrows turn the view, plus and minus move it nearer and farther."""
        key = Qt.Key(event.key())
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if self.keys_taken is not None and not control and (event.isAutoRepeat() or self.keys_taken(key, True)):
            return
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

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        """Keys that steer are let go."""
        if self.keys_taken is None or event.isAutoRepeat() or not self.keys_taken(Qt.Key(event.key()), False):
            super().keyReleaseEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.camera = self.camera.zoomed(0.9988 ** event.angleDelta().y())
        self.refresh()


def _pointer(event: QMouseEvent) -> Pointer:
    held = event.modifiers()
    return Pointer(
        event.position(),
        bool(held & Qt.KeyboardModifier.ShiftModifier),
        bool(held & Qt.KeyboardModifier.ControlModifier),
    )
