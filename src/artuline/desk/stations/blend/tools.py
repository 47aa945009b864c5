"""What Blend holds on the stage: posed bones, the obstacle in hand, and the arrows of pushes."""

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QPainter, QPen

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.places import places_at
from artuline.core.motion.poses import key_pose, reached, turned
from artuline.core.motion.skeleton import rigid
from artuline.core.scene import edit
from artuline.core.scene.model import Body, Figure, MotionKey, Push, Scene
from artuline.desk import theme
from artuline.desk.model.drag import Change, Drag, Pointer
from artuline.desk.model.session import Session
from artuline.desk.stage.handles import GRAB, BoneHandles, Handled, Held, ShapeHandles
from artuline.desk.stage.tools import View
from artuline.desk.stations.blend.commands import Commands
from artuline.view.stage import PUSH_FRAMES, PUSH_SECONDS, push_arrow


class PoseTool(Handled):
    """Turns the chosen bone of the keys, or pulls it by its origin where a limb can follow."""

    def __init__(self, commands: Commands):
        self._commands, self._session = commands, commands.session

    def handles(self, view: View) -> BoneHandles | None:
        """The handles of the chosen bone while the keys are being posed."""
        s, figure = self._session, self._session.figure()
        if not self._commands.posing or view.live or figure is None or len(s.selection.bones) != 1:
            return None
        index = next(i for i, f in enumerate(s.scene.figures) if f.id == figure.id)
        if index >= len(view.states):
            return None
        p, q = rigid(view.states[index].matrices)
        b = figure.bone_index[next(iter(s.selection.bones))]
        up = figure.bones[b].parent
        limb = up is not None and figure.bones[figure.bone_index[up]].parent is not None
        size = 0.05 * float(np.ptp(p, axis=0).max())
        return BoneHandles(p[b], q[b], size, view.camera, *view.size, limb)

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take a handle in hand."""
        s, handles, figure = self._session, self.handles(view), self._session.figure()
        assert handles is not None and figure is not None
        frame, assets, bone = round(s.frame), s.assets, next(iter(s.selection.bones))
        pose = keyed_pose(s.scene, assets, figure, np.array([float(frame)]), layers=False)
        root = root_at(s.scene, assets, figure, np.array([float(frame)]))[0]

        def change(pointer: Pointer) -> Change:
            if handle == "move":
                new, bones = reached(figure, root, pose, bone, handles.goal_of(at, pointer.at)), _limb(figure, bone)
            else:
                new, bones = turned(figure, root, pose, bone, handles.turn_of(handle, at, pointer.at)), {bone}
            return lambda sc: key_pose(sc, assets, figure.id, frame, new, bones)

        return Drag(f"Pose {bone}", change)


def _limb(figure: Figure, bone: str) -> set[str]:
    up = figure.bones[figure.bone_index[bone]].parent or bone
    return {bone, up, figure.bones[figure.bone_index[up]].parent or up}


class ObstacleTool(Handled):
    """Moves and turns the obstacle in hand, which keys its place at the present frame, and sizes it."""

    def __init__(self, session: Session):
        self._session = session

    def _in_hand(self) -> tuple[Figure, Body] | None:
        f, chosen = self._session.obstacle(), self._session.selection.bones
        return next(((f, b) for b in f.bodies if b.bone in chosen), None) if f is not None else None

    def handles(self, view: View) -> ShapeHandles | None:
        """The handles of the obstacle in hand."""
        found = self._in_hand()
        if (
            found is None
            or view.live
            or not found[0].track.frames
            or not found[1].shapes
            or found[1].shapes[0].kind == "mesh"
        ):
            return None
        p, q = places_at(found[0].track, np.array([float(round(self._session.frame))]))
        return ShapeHandles(found[1].shapes[0], p[0], q[0], view.camera, *view.size)

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take a handle in hand."""
        found, start = self._in_hand(), self.handles(view)
        assert found is not None and start is not None
        f, body = found
        held, frame = Held(handle, at, body.shapes[0]), float(round(self._session.frame))
        kind = handle.partition(" ")[0]

        def change(pointer: Pointer) -> Change:
            new = start.moved(held, pointer.at)
            if kind not in ("move", "along", "turn"):
                return lambda s: edit.bodies(s, f.id, {body.id}, lambda b: b.changed(shapes=(new, *b.shapes[1:])))
            key = MotionKey(frame=frame, **_placed(start, held, kind, new.position, new.rotation))
            return lambda s: edit.place(s, f.id, key)

        return Drag(f"{f.name}: {handle}", change)


def _placed(start: ShapeHandles, held: Held, kind: str, position: Sequence[float], turned: Sequence[float]) -> dict:  # type: ignore[type-arg]
    """Position and rotation of an obstacle whose shape was moved to a place, or turned."""
    old, place, turn = held.shape, start.place, start.turn
    if kind == "turn":
        turn = rotation.multiply(rotation.multiply(turn, np.array(turned)), rotation.conjugate(np.array(old.rotation)))
        place = start.centre - rotation.rotate(turn, np.array(old.position))
    else:
        place = place + rotation.rotate(turn, np.array(position) - old.position)
    return {"position": tuple(place), "rotation": tuple(turn)}


class PushTool:
    """Pulls the tails of the pushes about the present frame."""

    def __init__(self, session: Session):
        self._session = session

    def arrows(self, view: View) -> list[tuple[Push, QPointF, Array]]:
        """The pushes that are seen, with the tail of their arrow on the widget and its way (3,), m."""
        if view.live or not view.show.forces:
            return []
        s, found = self._session, []
        for push in s.scene.pushes:
            arrow = push_arrow(s.scene, list(view.states), push) if abs(s.frame - push.start) <= PUSH_FRAMES else None
            if arrow is not None:
                x, y, depth = view.screen((arrow[0] - PUSH_SECONDS * arrow[1])[None])[0]
                if depth > 0:
                    found.append((push, QPointF(x, y), PUSH_SECONDS * arrow[1]))
        return found

    def paint(self, p: QPainter, view: View, hot: str) -> None:
        """A disc at every tail."""
        p.setPen(QPen(theme.color("ink"), 1.6))
        for push, tail, _ in self.arrows(view):
            p.setBrush(theme.color("ink" if push.id == hot else "raised"))
            p.drawEllipse(tail, 5.0, 5.0)

    def hit(self, at: QPointF, view: View) -> str:
        """The push whose tail is under a point."""
        return next((push.id for push, tail, _ in self.arrows(view) if (tail - at).manhattanLength() < GRAB), "")

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take the tail of a push in hand."""
        push, _, way = next(x for x in self.arrows(view) if x[0].id == handle)
        arrow = push_arrow(self._session.scene, list(view.states), push)
        assert arrow is not None
        place, _, mass = arrow
        right, up, _ = view.camera.axes()
        ends = view.screen(np.stack([place, place + right]))
        pixel = 1.0 / max(abs(float(ends[1, 0] - ends[0, 0])), 1e-6)

        def change(pointer: Pointer) -> Change:
            delta = pointer.at - at
            new = way - (right * delta.x() - up * delta.y()) * pixel
            impulse = tuple(float(v) for v in np.round(new / PUSH_SECONDS * mass, 3))

            def put(s: Scene) -> Scene:
                return edit.scene(s, pushes=edit.replace(s.pushes, handle, lambda x: x.changed(impulse=impulse)))

            return put

        return Drag(f"Push {push.body}", change)
