"""What Blend does: hands groups of bodies over to physics and back, poses and pushes."""

import numpy as np

from artuline.core.motion.poses import key_pose, unkey_pose
from artuline.core.motion.rhythm import rhythm
from artuline.core.run.tryout import Tryout
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Group, Lane, Push, Scene, Spring
from artuline.core.setup.materials import body_mass
from artuline.core.setup.within_reach import middle_of
from artuline.desk.desk import Desk
from artuline.desk.stations.blend.forces import Forces
from artuline.desk.stations.blend.holds import Holds
from artuline.desk.stations.blend.rows import Lanes

PUSH_SPEED = 2.0  # m/s that a new push gives its body alone


class Commands:
    """Edits of groups and of what pushes."""

    def __init__(self, desk: Desk, lanes: Lanes):
        self.desk, self.session, self.stage = desk, desk.session, desk.stage
        self.lanes, self.forces, self.holds = lanes, Forces(desk), Holds(desk)
        #: Whether the keys are shown, with handles to pose them.
        self.posing = False
        self._rhythms: dict[object, float | None] = {}

    def _present(self) -> tuple[Figure, frozenset[str]] | None:
        f = self.session.figure()
        if f is None:
            return None
        chosen = self.session.selection
        return f, chosen.bones if chosen.figure == f.id else frozenset()

    def let_go(self, figure: str) -> None:
        """Hand a figure over in the middle of the range."""
        self._limp(self.session.scene.figure(figure), None)

    def limp(self, bone: str | None) -> None:
        """Hand a bone and all below it, or the whole figure, over in the middle of the range."""
        f = self.session.figure()
        if f is not None:
            self._limp(f, bone)

    def _limp(self, f: Figure, bone: str | None) -> None:
        s = self.session.scene
        if bone is not None and not f.below(bone) & f.body_of.keys():
            self.desk.fault(f"No body is on {bone} or below it: fit one first (Bodies), then it can go limp.")
            return
        live = [g for g in f.groups if any(k.value > 0 for k in g.handover.keys)]
        if live:
            frames = [k.frame for k in live[-1].handover.keys]
            start, end = frames[0], frames[-1]
        else:
            start, end = edit.usual_interval(s)
        ramp = edit.usual_ramp(start, end)
        done = self.session.edit(
            f"Limp from {bone} down" if bone else "Hand over the whole figure",
            lambda sc: edit.hand_over(sc, f.id, bone, start, end, 0.0, ramp),
        )
        if done and not start < self.session.frame < end - ramp:
            self.session.set_frame(round(start) + 1)
        if done:
            bare = bone is not None and bone not in f.body_of
            first = next(
                (b.name for b in f.bones if b.name in f.body_of and bone is not None and b.name in f.below(bone)), ""
            )
            what = (
                f"{bone} has no body of its own, so physics moves what is below it, from {first} on"
                if bare
                else "Physics"
            )
            self.desk.tell(f"{what} from frame {start:g} to {end:g}. Next: run it (F5), or try it on the spot (T).")

    # poses

    def take_pose(self) -> None:
        """Key the pose that the tryout has come to, on the layer of poses, at the present frame."""
        live = self.stage.live.tryout
        if not isinstance(live, Tryout):
            self.desk.fault("Start a tryout first: its pose becomes the key.")
            return
        assets, frame = self.session.assets, round(self.session.frame)
        poses = {f.id: p for f, p in zip(live.scene.figures, live.local_poses()) if f.bodies}

        def change(s: Scene) -> Scene:
            for figure, pose in poses.items():
                s = key_pose(s, assets, figure, frame, pose)
            return s

        if self.session.edit("Take the pose as a key", change):
            self.desk.tell(f"Keyed the pose at frame {frame}, with twelve frames in and out; it steers physics too.")

    # groups

    def remove_group(self, figure: str, group: str) -> None:
        """Remove a group: its bones stay on their keys."""
        self.session.edit(
            "Remove a group",
            lambda s: edit.figure(s, figure, groups=tuple(g for g in s.figure(figure).groups if g.id != group)),
        )

    def set_posing(self, on: bool) -> None:
        """Show the keys and pose them by handles, or show the take again."""
        self.posing = on
        self.stage.refresh()

    def unkey_pose(self) -> None:
        """Take the pose at the present frame away."""
        f = self.session.figure()
        if f is not None:
            assets, frame = self.session.assets, round(self.session.frame)
            self.session.edit("Remove a pose", lambda s: unkey_pose(s, assets, f.id, frame))

    def limp_selected(self) -> None:
        """Hand over just the chosen bones, over the middle of the range."""
        found = self._present()
        if found is None or not found[1]:
            return
        f, bones = found
        bare = sorted(bones - f.body_of.keys())
        if len(bare) == len(bones):
            self.desk.fault(f"No body is on {', '.join(bare[:3])}: give one first, then it can go limp.")
            return
        s = self.session.scene
        start, end = edit.usual_interval(s)
        lane = edit.interval_lane(start, end, 0.0, edit.usual_ramp(start, end))
        name = edit.fresh_id("group", {g.id for g in f.groups})
        group = Group(
            id=name,
            name="1 bone" if len(bones) == 1 else f"{len(bones)} bones",
            bones=tuple(sorted(bones)),
            handover=lane,
        )
        done = self.session.edit("Hand over these bones", lambda sc: edit.figure(sc, f.id, groups=(*f.groups, group)))
        if done and bare:
            self.desk.tell(
                f"{', '.join(bare[:3])} {'has' if len(bare) == 1 else 'have'} no body: carried by what is above."
            )

    def make_springy(self) -> None:
        """Let the chosen bones and all below swing about their keys through the whole range."""
        found = self._present()
        if found is None or not found[1]:
            return
        f, bones = found

        def change(sc: Scene) -> Scene:
            for bone in sorted(bones, key=lambda b: f.bone_index[b]):
                if bone in f.body_of:
                    sc = edit.springy(sc, f.id, bone, Spring())
            return sc

        bare = sorted(b for b in bones if b not in f.body_of)
        if len(bare) == len(bones):
            self.desk.fault(f"No body is on {', '.join(bare[:3])}: fit one first (Bodies), then it can be springy.")
        elif self.session.edit("Make springy", change) and bare:
            self.desk.tell(f"No body is on {', '.join(bare[:3])}: left as it was.")

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
            found = self.desk.later.get(("rhythm", *known), lambda: rhythm(s, assets, f, bone) or 0.0)
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
        self.lanes.show(figure, group, name)
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
        self.session.edit("Change where it begins", lambda s: edit.begin_group(s, figure, group, bone))

    # pushes

    def add_push(self) -> None:
        """Push the first chosen body at this frame in the direction of the view."""
        found = self._present()
        if found is None:
            return
        f, bones = found
        body = next((b for b in f.bodies if b.bone in bones), None)
        if body is None:
            self.desk.fault("Select a body to push.")
            return
        away = -self.stage.camera.axes()[2] * np.array([1.0, 0.0, 1.0])
        impulse = PUSH_SPEED * body_mass(body) * away / max(float(np.linalg.norm(away)), 1e-9)
        name = edit.fresh_id("push", {p.id for p in self.session.scene.pushes})
        made = Push(id=name, figure=f.id, body=body.id, start=float(round(self.session.frame)), frames=2.0,
                    impulse=tuple(np.round(impulse, 3)), point=tuple(middle_of(body)))  # fmt: skip
        self.session.edit(f"Push {body.id}", lambda s: edit.scene(s, pushes=(*s.pushes, made)))

    def remove_push(self, push: str) -> None:
        """Take a push away."""
        self.session.edit("Remove a push", lambda s: edit.scene(s, pushes=tuple(p for p in s.pushes if p.id != push)))
