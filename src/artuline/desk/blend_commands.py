"""The window's commands of Blend, apart from the window itself."""

from pathlib import Path
from typing import TYPE_CHECKING, Literal

import numpy as np
from PySide6.QtWidgets import QFileDialog

from artuline.core.errors import ArtulineError
from artuline.core.geometry import distance, rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import obstacle_motion
from artuline.core.motion.poses import unkey_pose
from artuline.core.motion.rhythm import rhythm
from artuline.core.motion.skeleton import rigid
from artuline.core.run.forces import gravity_at
from artuline.core.scene import edit
from artuline.core.scene.model import (
    Figure,
    Group,
    Lane,
    Link,
    LinkEnd,
    MotionKey,
    Obstacle,
    Push,
    Scene,
    Shape,
    Spring,
    VectorLane,
)
from artuline.formats.mesh_read import KINDS, read_shape

if TYPE_CHECKING:
    from artuline.desk.later import Later
    from artuline.desk.session import Session
    from artuline.desk.stage import Stage
    from artuline.desk.strip import Strip
    from artuline.desk.timeline import Timeline

REACH = 0.15  # metres from which something is held
PUSH_SPEED = 2.0  # m/s that a new push gives its body alone


class BlendCommands:
    """Mixed into the window, whose parts it uses."""

    session: "Session"
    stage: "Stage"
    strip: "Strip"
    timeline: "Timeline"
    later: "Later"

    def _begin_blend(self) -> None:
        self._rhythms: dict[object, float | None] = {}

    def _present(self) -> tuple[Figure, frozenset[str]] | None:
        f = self.session.figure()
        if f is None:
            return None
        chosen = self.session.selection
        return f, chosen.bones if chosen.figure == f.id else frozenset()

    # poses

    def set_posing(self, on: bool) -> None:
        """Show the keys and pose them by handles, or show the take again."""
        self.stage.posing = on
        self.stage.refresh()

    def unkey_pose(self) -> None:
        """Take the pose at the present frame away."""
        f = self.session.figure()
        if f is not None:
            assets, frame = self.session.assets, round(self.session.frame)
            self.session.edit("Remove a pose", lambda s: unkey_pose(s, assets, f.id, frame))

    # groups

    def limp_selected(self) -> None:
        """Hand over just the chosen bones, over the middle of the range."""
        found = self._present()
        if found is None or not found[1]:
            return
        f, bones = found
        s = self.session.scene
        third = (s.end - s.start) // 3
        lane = edit.interval_lane(s.start + third, s.end - third // 2, 0.0, min(12.0, third / 3))
        name = edit.fresh_id("group", {g.id for g in f.groups})
        group = Group(id=name, name=f"{len(bones)} bones", bones=tuple(sorted(bones)), handover=lane)
        self.session.edit("Hand over these bones", lambda sc: edit.figure(sc, f.id, groups=(*f.groups, group)))

    def make_springy(self) -> None:
        """Let the chosen bones and all below swing about their keys through the whole range."""
        found = self._present()
        if found is None or not found[1]:
            return
        f, bones = found
        s = self.session.scene

        def change(sc: Scene) -> Scene:
            for bone in sorted(bones, key=lambda b: f.bone_index[b]):
                if bone in f.body_of:
                    sc = edit.hand_over(sc, f.id, bone, s.start, s.end, 0.0, 0.0)
                    made = next(g for g in sc.figure(f.id).groups if g.start_bone == bone)
                    sc = edit.group(sc, f.id, made.id, spring=Spring())
            return sc

        self.session.edit("Make springy", change)

    def rhythm_of(self, f: Figure, g: Group) -> float | None:
        """The rhythm, Hz, in which the keys shake a springy group; None if they do not."""
        bone = g.start_bone or next(iter(g.bones), None)
        if bone is None:
            return None
        s = self.session.scene
        known = (f.clip, f.clip_start, f.layers, bone, s.start, s.end, s.rate)
        if known not in self._rhythms:
            assets = self.session.assets
            # beside the window; 0 stands for none, since nothing at all means that it is not known yet
            found = self.later.get(("rhythm", *known), lambda: rhythm(s, assets, f, bone) or 0.0)
            if found is None:
                return None
            self._rhythms[known] = found or None
        return self._rhythms[known]

    def key_lane(self, figure: str, group: str, name: str) -> None:
        """Key a lane's present value at the present frame, and show that lane."""
        g = next(g for g in self.session.scene.figure(figure).groups if g.id == group)
        lane: Lane = getattr(g, name)
        frame = float(round(self.session.frame))
        new = edit.keyed_lane(lane, frame, float(lane.value(frame)))
        self.timeline.show_lane(figure, group, name)
        self.session.edit(f"Key {name}", lambda s: edit.group(s, figure, group, **{name: new}))

    def copy_lanes(self, figure: str, group: str, other: str) -> None:
        """Give another group, by its name, the lanes of a group."""
        f = self.session.scene.figure(figure)
        source = next(g for g in f.groups if g.id == group)
        target = next(g for g in f.groups if g.name == other and g.id != group)
        lanes = {n: getattr(source, n) for n in ("handover", "tone", "steadiness", "calm")}
        self.session.edit("Copy lanes", lambda s: edit.group(s, figure, target.id, **lanes))

    def begin_group_at(self, figure: str, group: str, bone: str) -> None:
        """Let a group begin at another bone."""
        self.session.edit(
            "Change where it begins",
            lambda s: edit.group(s, figure, group, start_bone=bone, name=f"from {bone} down"),
        )

    # holding on, pushes

    def hold_selected(self) -> None:
        """Pin the chosen bodies where they are, from this frame on, to an obstacle or another figure that they touch, or to the world."""
        found = self._present()
        if found is None or not found[1]:
            return
        f, bones = found
        frame = float(round(self.session.frame))
        taken = {x.id for x in self.session.scene.links}
        made = []
        for body in (b for b in f.bodies if b.bone in bones):
            name = edit.fresh_id(f"hold {body.id}", taken)
            taken.add(name)
            point = np.mean([s.position for s in body.shapes], axis=0) if body.shapes else np.zeros(3)
            end = self._nearest(f, body.bone)
            a = LinkEnd(figure=f.id, body=body.id, point=tuple(point))
            made.append(Link(id=name, name=name, kind="pin", a=a, b=end, start=frame))
        if made:
            self.session.edit("Hold", lambda s: edit.scene(s, links=(*s.links, *made)))

    def _nearest(self, f: Figure, bone: str) -> LinkEnd | None:
        """The obstacle, or the body of another figure, that a bone is within a hand's breadth of at the present frame."""
        s, frame = self.session.scene, np.array([self.session.frame])
        states = self.stage.states()
        index = next(i for i, x in enumerate(s.figures) if x.id == f.id)
        place = states[index].matrices[f.bone_index[bone], :3, 3]
        near: list[tuple[float, LinkEnd]] = []

        def gap(shape: Shape, p: Array, q: Array) -> float:
            return float(distance.shape(rotation.rotate(rotation.conjugate(q), place - p)[None], shape)[0])

        for o in s.obstacles:
            if o.shape.kind != "mesh":
                p, q = obstacle_motion(o, frame)
                near.append((gap(o.shape, p[0], q[0]), LinkEnd(body=o.id)))
        for other, state in zip(s.figures, states):
            p, q = rigid(state.matrices)
            for body in other.bodies if other.id != f.id else ():
                b = other.bone_index[body.bone]
                near += [(gap(shape, p[b], q[b]), LinkEnd(figure=other.id, body=body.id)) for shape in body.shapes]
        best = min(near, key=lambda x: x[0], default=None)
        return best[1] if best is not None and best[0] < REACH else None

    def add_push(self) -> None:
        """Push the first chosen body at this frame in the direction of the view."""
        found = self._present()
        if found is None:
            return
        f, bones = found
        body = next((b for b in f.bodies if b.bone in bones), None)
        if body is None:
            self.strip.tell("Select a body to push.", fault=True)
            return
        from artuline.core.setup.materials import body_mass

        away = -self.stage.camera.axes()[2] * np.array([1.0, 0.0, 1.0])
        impulse = PUSH_SPEED * body_mass(body) * away / max(float(np.linalg.norm(away)), 1e-9)
        point = np.mean([s.position for s in body.shapes], axis=0) if body.shapes else np.zeros(3)
        name = edit.fresh_id("push", {p.id for p in self.session.scene.pushes})
        made = Push(id=name, figure=f.id, body=body.id, start=float(round(self.session.frame)), frames=2.0,
                    impulse=tuple(np.round(impulse, 3)), point=tuple(point))  # fmt: skip
        self.session.edit(f"Push {body.id}", lambda s: edit.scene(s, pushes=(*s.pushes, made)))

    def remove_push(self, push: str) -> None:
        """Take a push away."""
        self.session.edit("Remove a push", lambda s: edit.scene(s, pushes=tuple(p for p in s.pushes if p.id != push)))

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
        kinds = " ".join(f"*{k}" for k in KINDS)
        filters = f"A mesh as its convex hull ({kinds});;A mesh as it is, hollow ({kinds})"
        name, chosen = QFileDialog.getOpenFileName(self.stage.window(), "An obstacle from a file", "", filters)
        if name:
            self.obstacle_from(Path(name), "mesh" if "as it is" in chosen else "hull")

    def obstacle_from(self, path: Path, kind: Literal["hull", "mesh"]) -> None:
        """Make an obstacle of a mesh in a file."""
        try:
            shape, middle = read_shape(path, self.session.assets, kind)
        except ArtulineError as error:
            self.strip.tell(str(error), fault=True)
            return
        self._put_in(path.stem, shape, middle)

    def _put_in(self, stem: str, shape: Shape, place: Array) -> None:
        name = edit.fresh_id(stem or "obstacle", {o.id for o in self.session.scene.obstacles})
        key = MotionKey(frame=float(self.session.scene.start), position=tuple(float(v) for v in np.round(place, 3)))
        made = Obstacle(id=name, name=name, shape=shape, keys=(key,))
        self.session.edit(f"Add {name}", lambda s: edit.add_obstacle(s, made))
        self.stage.obstacle = name
        self.stage.obstacle_chosen.emit()

    def remove_obstacle(self, obstacle: str) -> None:
        """Take an obstacle away, with what refers to it."""
        self.session.edit("Remove an obstacle", lambda s: edit.without_obstacle(s, obstacle))

    def key_obstacle(self, obstacle: str) -> None:
        """Key an obstacle's present place at the present frame."""
        frame = float(round(self.session.frame))
        o = next(o for o in self.session.scene.obstacles if o.id == obstacle)
        p, q = obstacle_motion(o, np.array([frame]))
        key = MotionKey(frame=frame, position=tuple(p[0]), rotation=tuple(q[0]))
        self.session.edit(f"Key {o.name}", lambda s: edit.motion_key(s, obstacle, key))

    def arrive_at_speed(self, obstacle: str) -> None:
        """Let an obstacle come to its key nearest to this frame at the mean speed of its way there, and fly on for a few frames.

        A last key, or one where it turns, is otherwise approached ever more slowly.
        """
        o = next(o for o in self.session.scene.obstacles if o.id == obstacle)
        near = min(range(len(o.keys)), key=lambda i: abs(o.keys[i].frame - self.session.frame))
        if near == 0:
            self.strip.tell("Go to the key at which it should arrive: the first one has no way before it.", fault=True)
            return
        a, b = o.keys[near - 1], o.keys[near]
        span = b.frame - a.frame
        step = (np.array(b.position) - a.position) / span
        ahead = min(3.0, (o.keys[near + 1].frame - b.frame) / 2.0) if near + 1 < len(o.keys) else 3.0
        before = MotionKey(
            frame=b.frame - min(3.0, span / 2),
            position=tuple(np.array(b.position) - step * min(3.0, span / 2)),
            rotation=b.rotation,
        )
        after = MotionKey(
            frame=b.frame + ahead, position=tuple(np.array(b.position) + step * ahead), rotation=b.rotation
        )

        def change(s: Scene) -> Scene:
            return edit.motion_key(edit.motion_key(s, obstacle, before), obstacle, after)

        self.session.edit("Arrive at speed", change)
        speed = float(np.linalg.norm(step)) * self.session.scene.rate
        self.strip.tell(f"{o.name} arrives at {speed:.1f} m/s and flies on for {ahead:g} frames.")
