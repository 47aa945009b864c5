"""The handles of the shape in hand."""

from PySide6.QtCore import QPointF

from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rigid
from artuline.core.scene import edit
from artuline.core.scene.model import Body, Figure, Scene, Shape
from artuline.desk.desk import Desk
from artuline.desk.model.drag import Change, Drag, Pointer
from artuline.desk.stage.handles import Handled, Held, ShapeHandles
from artuline.desk.stage.tools import View
from artuline.desk.stations.bodies.commands import Commands


class ShapeTool(Handled):
    """Moves, turns and sizes one shape of the chosen body."""

    def __init__(self, desk: Desk, commands: Commands):
        self._desk, self._commands = desk, commands

    def _in_hand(self, view: View) -> tuple[Figure, Body, int, Array, Array] | None:
        """Figure, body, which shape, and place (3,) and rotation (4,) of the bone."""
        s = self._desk.session
        figure = s.figure()
        if figure is None or len(s.selection.bones) != 1 or view.live:
            return None
        body = figure.body_of.get(next(iter(s.selection.bones)))
        if body is None or not body.shapes:
            return None
        index = next(i for i, f in enumerate(s.scene.figures) if f.id == figure.id)
        if index >= len(view.states):
            return None
        p, q = rigid(view.states[index].matrices)
        b = figure.bone_index[body.bone]
        return figure, body, min(self._commands.active_shape, len(body.shapes) - 1), p[b], q[b]

    def handles(self, view: View) -> ShapeHandles | None:
        """The handles of the chosen shape, if there is one."""
        found = self._in_hand(view)
        if found is None:
            return None
        _, body, k, place, turn = found
        return ShapeHandles(body.shapes[k], place, turn, view.camera, *view.size)

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take a handle in hand."""
        found, start = self._in_hand(view), self.handles(view)
        assert found is not None and start is not None
        figure, body, k, _, _ = found
        held = Held(handle, at, body.shapes[k])

        def change(pointer: Pointer) -> Change:
            shape = start.moved(held, pointer.at)
            return lambda s: self._desk.sides.bodies(_with_shape(s, figure.id, body.id, k, shape), figure.id, {body.id})

        return Drag(f"Shape of {body.bone}: {handle}", change)


def _with_shape(s: Scene, figure: str, body: str, k: int, shape: Shape) -> Scene:
    def put(b: Body) -> Body:
        return b.changed(shapes=(*b.shapes[:k], shape, *b.shapes[k + 1 :]), by_hand=True)

    return edit.bodies(s, figure, {body}, put)
