"""What Props holds on the stage: the pin of a hinge, and the grip of a hand."""

import numpy as np
from PySide6.QtCore import QPointF

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rigid
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Joint, Mount, Scene
from artuline.core.setup.hinge import with_hinge
from artuline.core.setup.parts import own_matrices
from artuline.desk.model.drag import Change, Drag, Pointer
from artuline.desk.stage.handles import BoneHandles, Handled
from artuline.desk.stage.tools import View
from artuline.desk.stations.props.commands import Commands


def _placed(c: Commands, view: View, figure: Figure) -> tuple[Array, Array] | None:
    """Places (B, 3) and rotations (B, 4) of a figure's bones on the stage."""
    index = next((i for i, f in enumerate(c.session.scene.figures) if f.id == figure.id), -1)
    if not 0 <= index < len(view.states) or len(view.states[index].matrices) != len(figure.bones):
        return None
    return rigid(view.states[index].matrices)


class PinTool(Handled):
    """Moves and turns the pin of the chosen part's hinge."""

    def __init__(self, commands: Commands):
        self._c = commands

    def _in_hand(self, view: View) -> tuple[Figure, Joint, Array, Array] | None:
        f, joint = self._c.thing(), self._c.joint()
        if f is None or joint is None or view.live:
            return None
        placed = _placed(self._c, view, f)
        if placed is None:
            return None
        b = f.bone_index[next(x.bone for x in f.bodies if x.id == joint.child)]
        return f, joint, placed[0][b], placed[1][b]

    def handles(self, view: View) -> BoneHandles | None:
        """The handles of the pin."""
        found = self._in_hand(view)
        if found is None:
            return None
        f, joint, p, q = found
        facing = rotation.multiply(q, np.array(joint.frame))
        return BoneHandles(p, facing, 0.25 * self._c.size(f), view.camera, *view.size, True)

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take a handle in hand."""
        found, handles = self._in_hand(view), self.handles(view)
        assert found is not None and handles is not None
        f, joint, p, q = found
        assets = self._c.session.assets
        bone = {b.id: b.bone for b in f.bodies}
        child, parent = bone[joint.child], bone[joint.parent]
        rest_p, rest_q = rigid(own_matrices(f)[f.bone_index[child]])
        facing = rotation.multiply(q, np.array(joint.frame))

        def change(pointer: Pointer) -> Change:
            pivot, axis = p, rotation.rotate(facing, np.array([1.0, 0.0, 0.0]))
            if handle == "move":
                pivot = handles.goal_of(at, pointer.at)
            else:
                axis = rotation.rotate(handles.turn_of(handle, at, pointer.at), axis)
            # as the part stands now, so it is at rest
            back = rotation.conjugate(q)
            local_p = rest_p + rotation.rotate(rest_q, rotation.rotate(back, pivot - p))
            local_axis = rotation.rotate(rest_q, rotation.rotate(back, axis))

            def put(s: Scene) -> Scene:
                made = with_hinge(s.figure(f.id), assets, child, parent, local_p, local_axis)
                return edit.scene(s, figures=edit.replace(s.figures, f.id, lambda _: made))

            return put

        return Drag(f"Pin of {child}", change)


class GripTool(Handled):
    """Moves and turns the held part in the hand."""

    def __init__(self, commands: Commands):
        self._c = commands

    def _in_hand(self, view: View) -> tuple[Figure, Mount, Array, Array] | None:
        f, mount = self._c.thing(), self._c.mount()
        if f is None or mount is None or view.live or self._c.joint() is not None:
            return None
        if self._c.session.selection.figure != f.id:
            return None
        placed = _placed(self._c, view, self._c.session.scene.figure(mount.figure))
        if placed is None:
            return None
        b = self._c.session.scene.figure(mount.figure).bone_index[mount.bone]
        return f, mount, placed[0][b], placed[1][b]

    def handles(self, view: View) -> BoneHandles | None:
        """The handles of the grip, where the held point is on the keys of the hand."""
        found = self._in_hand(view)
        if found is None:
            return None
        f, mount, p, q = found
        _, turn = transforms.rigid_multiply(p, q, np.array(mount.position), np.array(mount.rotation))
        at = p + rotation.rotate(q, np.array(mount.position)) + rotation.rotate(turn, np.array(mount.point))
        return BoneHandles(at, turn, 0.2 * self._c.size(f), view.camera, *view.size, True)

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take a handle in hand."""
        found, handles = self._in_hand(view), self.handles(view)
        assert found is not None and handles is not None
        f, mount, p, q = found
        grip, arm = handles.place, np.array(mount.point)
        facing = rotation.multiply(q, np.array(mount.rotation))

        def change(pointer: Pointer) -> Change:
            place, turn = grip, facing
            if handle == "move":
                place = handles.goal_of(at, pointer.at)
            else:
                turn = rotation.multiply(handles.turn_of(handle, at, pointer.at), facing)
            position, rest = transforms.rigid_relative(p, q, place - rotation.rotate(turn, arm), turn)
            return lambda s: self._c.change_mount(s, f.id, mount.id, position=tuple(position), rotation=tuple(rest))

        return Drag(f"Grip of {f.name}", change)
