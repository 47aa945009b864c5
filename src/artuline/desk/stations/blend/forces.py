"""What Blend does to the world: gravity, wind and obstacles over time."""

from pathlib import Path
from typing import Literal

import numpy as np
from PySide6.QtWidgets import QFileDialog

from artuline.core.errors import ArtulineError
from artuline.core.geometry.rotation import Array
from artuline.core.motion.places import places_at
from artuline.core.run.forces import gravity_at
from artuline.core.scene import edit
from artuline.core.scene.model import MotionKey, Scene, Shape, VectorLane, obstacle
from artuline.desk.desk import Desk
from artuline.formats.all import suffixes
from artuline.formats.mesh_read import read_shape


class Forces:
    """Edits of forces and obstacles."""

    def __init__(self, desk: Desk):
        self.desk, self.session, self.stage = desk, desk.session, desk.stage

    # forces

    def key_gravity(self) -> None:
        """Key gravity's present strength and direction at the present frame."""
        frame = float(round(self.session.frame))
        value = tuple(float(v) for v in gravity_at(self.session.scene, np.array([frame]))[0])
        self.session.edit(
            "Key gravity",
            lambda s: edit.scene(s, gravity_lane=edit.vector_at(s.gravity_lane, frame, value)),  # type: ignore[arg-type]
        )

    def unkey_gravity(self) -> None:
        """Take all keys of gravity away."""
        self.session.edit("Unkey gravity", lambda s: edit.scene(s, gravity_lane=VectorLane()))

    def key_wind(self) -> None:
        """Key the wind's present strength and direction at the present frame."""
        frame = float(round(self.session.frame))
        scene = self.session.scene
        value = tuple(float(v) for v in scene.wind_lane.value(np.array([frame]), scene.wind)[0])
        self.session.edit(
            "Key the wind",
            lambda s: edit.scene(s, wind_lane=edit.vector_at(s.wind_lane, frame, value)),  # type: ignore[arg-type]
        )

    def unkey_wind(self) -> None:
        """Take all keys of the wind away."""
        self.session.edit("Unkey the wind", lambda s: edit.scene(s, wind_lane=VectorLane()))

    # obstacles

    def add_obstacle(self, kind: str) -> None:
        """A box or a ball in front of the present figure."""
        shape = Shape(kind="box", half=(0.25, 0.25, 0.25)) if kind == "box" else Shape(kind="sphere", radius=0.2)
        place = np.array(self.stage.camera.target) + 0.8 * self.stage.camera.axes()[0]
        self._put_in("ball" if kind == "sphere" else kind, shape, place)

    def ask_obstacle(self) -> None:
        """Choose a file with a mesh, and make an obstacle of it."""
        kinds = " ".join(f"*{k}" for k in suffixes("read_mesh"))
        filters = f"A mesh as its convex hull ({kinds});;A mesh as it is, hollow ({kinds})"
        name, chosen = QFileDialog.getOpenFileName(self.stage.window(), "An obstacle from a file", "", filters)
        if name:
            self.obstacle_from(Path(name), "mesh" if "as it is" in chosen else "hull")

    def obstacle_from(self, path: Path, kind: Literal["hull", "mesh"]) -> None:
        """Make an obstacle of a mesh in a file."""
        try:
            shape, middle = read_shape(path, self.session.assets, kind)
        except ArtulineError as error:
            self.desk.fault(str(error))
            return
        self._put_in(path.stem, shape, middle)

    def _put_in(self, stem: str, shape: Shape, place: Array) -> None:
        name = edit.fresh_id(stem or "obstacle", {f.id for f in self.session.scene.figures})
        key = MotionKey(frame=float(self.session.scene.start), position=tuple(float(v) for v in np.round(place, 3)))
        made = obstacle(name, shape, (key,))
        self.session.edit(f"Add {name}", lambda s: edit.add_figure(s, made))
        self.take_obstacle(name)

    def take_obstacle(self, figure: str) -> None:
        """Take an obstacle in hand."""
        self.session.select(figure, frozenset(b.bone for b in self.session.scene.figure(figure).bodies))

    def remove_obstacle(self, figure: str) -> None:
        """Take an obstacle away, with what refers to it."""
        self.session.edit("Remove an obstacle", lambda s: edit.without_figure(s, figure))

    def key_obstacle(self, figure: str) -> None:
        """Key an obstacle's present place at the present frame."""
        frame = float(round(self.session.frame))
        o = self.session.scene.figure(figure)
        p, q = places_at(o.track, np.array([frame]))
        key = MotionKey(frame=frame, position=tuple(p[0]), rotation=tuple(q[0]))
        self.session.edit(f"Key {o.name}", lambda s: edit.motion_key(s, figure, key))

    def arrive_at_speed(self, figure: str) -> None:
        """Let an obstacle come to its key nearest to this frame at the mean speed of its way there, and fly on for a few frames.

        A last key, or one where it turns, is otherwise approached ever more slowly.
        """
        o = self.session.scene.figure(figure)
        frames = o.track.frames
        near = min(range(len(frames)), key=lambda i: abs(frames[i] - self.session.frame))
        if near == 0:
            self.desk.fault("Go to the key at which it should arrive: the first one has no way before it.")
            return
        there = frames[near]
        (from_, to), (_, turned) = places_at(o.track, np.array(frames[near - 1 : near + 1]))
        span = there - frames[near - 1]
        step = (to - from_) / span
        ahead = min(3.0, (frames[near + 1] - there) / 2.0) if near + 1 < len(frames) else 3.0

        def on_the_way(by: float) -> MotionKey:
            return MotionKey(frame=there + by, position=tuple(to + step * by), rotation=tuple(turned))

        before, after = on_the_way(-min(3.0, span / 2)), on_the_way(ahead)

        def change(s: Scene) -> Scene:
            return edit.motion_key(edit.motion_key(s, figure, before), figure, after)

        self.session.edit("Arrive at speed", change)
        speed = float(np.linalg.norm(step)) * self.session.scene.rate
        self.desk.tell(f"{o.name} arrives at {speed:.1f} m/s and flies on for {ahead:g} frames.")
