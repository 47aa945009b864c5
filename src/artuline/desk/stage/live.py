"""What happens on the stage by itself: a tryout with the mouse that tugs and pushes it, and the frame that a run has come to."""

from collections.abc import Callable

import numpy as np

from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import root_at
from artuline.core.motion.skeleton import Pose, skeleton_of
from artuline.core.run.live import LiveWorld
from artuline.core.scene.model import Scene
from artuline.desk.model.session import Session
from artuline.view.camera import Camera
from artuline.view.drawlist import DrawList
from artuline.view.palette import Palette, rgb
from artuline.view.stage import FigureState, Show, figure_states

PUSH = 2.0  # m/s that a push in the tryout gives


class Live:
    """The tryout that runs, if one does."""

    def __init__(self) -> None:
        self.tryout: LiveWorld | None = None
        self.paused = False
        #: What is said on the stage while it runs.
        self.words: Callable[[], str] = lambda: ""
        self._plane: tuple[Array, Array] | None = None

    @property
    def moves(self) -> bool:
        """Whether it goes on by itself."""
        return self.tryout is not None and not self.paused

    def states(self) -> list[FigureState]:
        """How the figures stand in it."""
        if self.tryout is None:
            return []
        live = self.tryout
        return [FigureState(m, h, k) for m, h, k in zip(live.matrices(), live.handovers(), live.keyed_matrices())]

    def press(self, scene: Scene, hit: tuple[str, str, Array], camera: Camera, push: bool) -> str:
        """Push the body under the mouse away from the view, or take it by the point that was hit: "pushed", "tug", or nothing."""
        if self.tryout is None:
            return ""
        index = next(i for i, f in enumerate(scene.figures) if f.id == hit[0])
        figure, bone = scene.figures[index], hit[1]
        if figure.stays:
            return ""
        while bone not in figure.body_of:
            up = figure.bones[figure.bone_index[bone]].parent
            if up is None:
                return ""
            bone = up
        if push:
            self.tryout.push(index, frozenset({bone}), -PUSH * camera.axes()[2])
            return "pushed"
        if not self.tryout.tug(index, bone, hit[2]):
            return ""
        self._plane = hit[2], camera.axes()[2]
        return "tug"

    def move(self, origin: Array, direction: Array) -> None:
        """Pull what is tugged to where a ray (3,), (3,) meets the plane through the point that was hit."""
        if self.tryout is None or self._plane is None:
            return
        through, normal = self._plane
        along = float(direction @ normal)
        if abs(along) > 1e-6:
            self.tryout.move_tug(origin + direction * float((through - origin) @ normal) / along)

    def release(self) -> None:
        """Let go of what is tugged."""
        self._plane = None
        if self.tryout is not None:
            self.tryout.let_go()

    def draw(self, out: DrawList, palette: Palette) -> None:
        """Add what it touches, and the line of a tug."""
        if self.tryout is None:
            return
        for touch in self.tryout.touches():
            for axis in np.eye(3):
                out.add_line(touch + 0.018 * np.stack([-axis, axis]), (*rgb(palette.crimson), 1.0), 2.6)
        line = self.tryout.tug_line()
        if line is not None:
            out.add_line(line, (*rgb(palette.ink), 1.0), 2.0)


def running_states(session: Session, show: Show, frame: int, poses: dict[str, Pose]) -> list[FigureState]:
    """How the figures stand in the frame that has just been simulated."""
    scene, assets = session.scene, session.assets
    states = figure_states(scene, assets, frame, None, show)
    for f, state in zip(scene.figures, states):
        if f.id in poses and len(poses[f.id].rotation[0]) == len(f.bones):
            root = root_at(scene, assets, f, np.array([float(frame)]))[0]
            state.matrices = skeleton_of(f).global_matrices(poses[f.id].frame(0), root)
    return states
