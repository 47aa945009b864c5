"""What the mouse holds on the stage: handles of shapes, of posed bones, of obstacles and of pushes."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QPainter, QPen

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, obstacle_motion
from artuline.core.motion.poses import key_pose, reached, turned
from artuline.core.motion.skeleton import Pose, rigid
from artuline.core.scene import edit
from artuline.core.scene.model import Body, Figure, MotionKey, Obstacle, Push, Scene, Shape
from artuline.desk import theme
from artuline.desk.handles import GRAB, BoneHandles, Held, ShapeHandles
from artuline.desk.stage_marks import StageMarks
from artuline.view.stage import PUSH_FRAMES, PUSH_SECONDS, Show, push_arrow


class StageTools(StageMarks):
    """The part of the stage that has things in hand."""

    show_: Show
    _hover: str
    _held: Held | None = None
    _pose_held: tuple[str, QPointF, BoneHandles, Pose] | None = None
    _obstacle_held: tuple[Held, ShapeHandles] | None = None
    _push_held: tuple[Push, QPointF, Array] | None = None
    active_shape: Callable[[], int] = staticmethod(lambda: 0)
    shape_edit: Callable[[Scene, str, str], Scene] = staticmethod(lambda s, figure, body: s)

    def paint_tools(self, painter: QPainter) -> None:
        """Draw all handles that there are."""
        handles = self.handles()
        if handles is not None:
            handles.paint(painter, self._held.name if self._held else self._hover)
        rings = self.bone_handles()
        if rings is not None:
            rings.paint(painter, self._pose_held[0] if self._pose_held else self._hover)
        around = self.obstacle_handles()
        if around is not None:
            around.paint(painter, self._obstacle_held[0].name if self._obstacle_held else self._hover)
        painter.setPen(QPen(theme.color("ink"), 1.6))
        painter.setBrush(theme.color("raised"))
        for _, tail, _ in self.push_handles():
            painter.drawEllipse(tail, 5.0, 5.0)

    def take_tool(self, at: QPointF) -> str:
        """Take what handle is under a point of the widget; returns the mode of the mouse, empty for none."""
        rings, figure = self.bone_handles(), self.session.figure()
        ring = rings.hit(at) if rings is not None else ""
        if rings is not None and ring and figure is not None:
            now = np.array([float(round(self.session.frame))])
            pose = keyed_pose(self.session.scene, self.session.assets, figure, now, layers=False)
            self._pose_held = ring, at, rings, pose
            return "pose"
        around, o = self.obstacle_handles(), self._obstacle_in_hand()
        name = around.hit(at) if around is not None else ""
        if around is not None and name and o is not None:
            self._obstacle_held = Held(name, at, o.shape), around
            return "obstacle"
        for push, tail, way in self.push_handles():
            if (tail - at).manhattanLength() < GRAB:
                self._push_held = push, at, way
                return "push"
        handles, found = self.handles(), self._shape_in_hand()
        name = handles.hit(at) if handles is not None else ""
        if name and found is not None:
            self._held = Held(name, at, found[2])
            return "handle"
        return ""

    def move_tool(self, mode: str, at: QPointF, final: bool) -> None:
        """Move what is held to a point of the widget."""
        put = {
            "pose": self._put_pose,
            "obstacle": self._put_obstacle,
            "push": self._put_push,
            "handle": self._put_shape,
        }
        put[mode](at, final)

    def drop_tool(self) -> None:
        """Hold nothing any more."""
        self._held = self._pose_held = self._obstacle_held = self._push_held = None

    def hover_tool(self, at: QPointF) -> str:
        """The handle under a point of the widget."""
        for handles in (self.handles(), self.bone_handles(), self.obstacle_handles()):
            if handles is not None:
                return handles.hit(at)
        return ""

    # obstacles and pushes

    #: The obstacle in hand, by its id.
    obstacle: str | None = None

    def _obstacle_in_hand(self) -> Obstacle | None:
        if self.station != "Blend" or self.tryout is not None:
            return None
        return next((o for o in self.session.scene.obstacles if o.id == self.obstacle), None)

    def obstacle_handles(self) -> ShapeHandles | None:
        """The handles of the chosen obstacle; those that move and turn it key its place at the present frame."""
        o = self._obstacle_in_hand()
        if o is None or o.shape.kind == "mesh":
            return None
        p, q = obstacle_motion(o, np.array([float(round(self.session.frame))]))
        return ShapeHandles(o.shape, p[0], q[0], self.camera, self.width(), self.height())

    def _put_obstacle(self, at: QPointF, final: bool) -> None:
        o = self._obstacle_in_hand()
        if o is None or self._obstacle_held is None:
            return
        held, start = self._obstacle_held
        old, new = held.shape, start.moved(held, at)
        frame, place, turn = float(round(self.session.frame)), start.place, start.turn
        kind = held.name.partition(" ")[0]
        if kind in ("move", "along"):
            place = place + rotation.rotate(turn, np.array(new.position) - old.position)
        elif kind == "turn":
            turn = rotation.multiply(
                rotation.multiply(turn, np.array(new.rotation)), rotation.conjugate(np.array(old.rotation))
            )
            place = start.centre - rotation.rotate(turn, np.array(old.position))
        key = MotionKey(frame=frame, position=tuple(place), rotation=tuple(turn))
        which = o.id

        def change(s: Scene) -> Scene:
            if kind in ("move", "along", "turn"):
                return edit.place_obstacle(s, which, key)
            return edit.obstacle(s, which, shape=new)

        if final:
            self.session.edit(f"{o.name}: {held.name}", change)
        else:
            self.session.preview(change)

    def push_handles(self) -> list[tuple[Push, QPointF, Array]]:
        """The pushes about the present frame, with the tail of their arrow on the widget and its way (3,), m."""
        if self.station != "Blend" or self.tryout is not None or not self.show_.forces:
            return []
        found = []
        for push in self.session.scene.pushes:
            if abs(self.session.frame - push.start) > PUSH_FRAMES:
                continue
            arrow = push_arrow(self.session.scene, self._states, push)
            if arrow is not None:
                tail = arrow[0] - PUSH_SECONDS * arrow[1]
                x, y, depth = self.camera.project(tail[None], self.width(), self.height())[0]
                if depth > 0:
                    found.append((push, QPointF(x, y), PUSH_SECONDS * arrow[1]))
        return found

    def _put_push(self, at: QPointF, final: bool) -> None:
        if self._push_held is None:
            return
        push, start, way = self._push_held
        arrow = push_arrow(self.session.scene, self._states, push)
        if arrow is None:
            return
        place, _, mass = arrow
        right, up, _ = self.camera.axes()
        ends = self.camera.project(np.stack([place, place + right]), self.width(), self.height())
        pixel = 1.0 / max(abs(float(ends[1, 0] - ends[0, 0])), 1e-6)
        delta = at - start
        new = way - (right * delta.x() - up * delta.y()) * pixel
        impulse = tuple(float(v) for v in np.round(new / PUSH_SECONDS * mass, 3))

        def change(s: Scene) -> Scene:
            return edit.scene(s, pushes=edit.replace(s.pushes, push.id, lambda x: x.changed(impulse=impulse)))

        if final:
            self.session.edit(f"Push {push.body}", change)
        else:
            self.session.preview(change)

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
