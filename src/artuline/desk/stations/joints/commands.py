"""What Joints does: limits, frames, what hangs on what; ties, welds and pins."""

import math

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Joint, Link, LinkEnd, Scene
from artuline.core.setup.joints import clip_rotations
from artuline.core.setup.limits import joint_trace, propose_limits
from artuline.core.setup.mirror import mirror_joints
from artuline.core.setup.ragdoll import join, swap_parent, turn_frame
from artuline.desk.desk import Desk
from artuline.desk.stations.joints.limits import LimitsDialog
from artuline.desk.stations.joints.sweep import Sweep


class Commands:
    """Edits of the joints that are chosen, and what their clips do."""

    def __init__(self, desk: Desk):
        self.desk, self.session = desk, desk.session
        self.sweeping = Sweep(desk)
        self.copied: Joint | None = None
        self._motion: dict[object, Array] = {}
        self._traces: dict[object, Array] = {}

    def _ids(self, f: Figure) -> set[str]:
        bones = self.session.chosen()
        return {b.id for b in f.bodies if b.bone in bones}

    def motion(self, f: Figure) -> Array:
        """World rotations of the bones over all clips; kept."""
        key = (f.clips, f.bones)
        if key not in self._motion:
            self._motion = {key: clip_rotations(f, self.session.assets)}
        return self._motion[key]

    def trace(self, figure_id: str, joint: Joint) -> Array:
        """The clips' own motion of a joint: swings, twist and excess (N, 4); empty while it is being found."""
        f = self.session.scene.figure(figure_id)
        key = (f.clips, f.bones, joint)
        if key not in self._traces:
            found = self.desk.later.get(("trace", key), lambda: joint_trace(f, joint, self.motion(f)))
            if found is None:
                return np.zeros((0, 4))
            if len(self._traces) > 64:
                self._traces.clear()
            self._traces[key] = found
        return self._traces[key]

    def limits_from(self, source: str, ids: set[str]) -> None:
        """Propose ranges for some joints and take them at once."""
        f = self.session.figure()
        if f is None:
            return
        motion = self.motion(f)

        def change(s: Scene) -> Scene:
            done = edit.joints(s, f.id, ids, lambda j: propose_limits(f, j, motion, source))
            return self.desk.sides.joints(done, f.id, ids)

        self.session.edit(f"Limits from {source}", change)

    def ask_limits(self) -> None:
        """Show proposals for all joints, before and after; take all, some or none."""
        f = self.session.figure()
        if f is None or not f.joints:
            return
        dialog = LimitsDialog(self.desk.stage.window(), f, self.motion(f))
        if dialog.exec():
            taken = dialog.taken()
            self.session.edit("Take proposed limits", lambda s: edit.joints(s, f.id, set(taken), lambda j: taken[j.id]))

    def sweep(self) -> None:
        """Move the first chosen joint through its range on the stage."""
        f = self.session.figure()
        if f is not None:
            ids = self._ids(f)
            joint = next((j for j in f.joints if j.child in ids), None)
            if joint is not None:
                self.sweeping.begin(f.id, joint.id)

    def hang_on(self, child: str, parent: str) -> None:
        """Hang a body on another one."""
        f = self.session.figure()
        if f is not None:
            self.session.edit(
                "Hang on another body", lambda s: edit.map_figure(s, f.id, lambda g: swap_parent(g, child, parent))
            )

    def join_to(self, child: str, parent: str) -> None:
        """Give a body that has no joint one, to another body."""
        f = self.session.figure()
        if f is not None:
            self.session.edit(
                "Join to another body", lambda s: edit.map_figure(s, f.id, lambda g: join(g, child, parent))
            )

    def _turn_joints(self, words: str, turn: Array) -> None:
        f = self.session.figure()
        if f is None:
            return
        ids = self._ids(f)

        def change(g: Figure) -> Figure:
            for child in ids:
                if child in g.joint_of:
                    g = turn_frame(g, child, tuple(turn))
            return mirror_joints(g, ids) if self.desk.sides.both else g

        self.session.edit(words, lambda s: edit.map_figure(s, f.id, change))

    def turn_joint(self, degrees: float) -> None:
        """Turn the frames of the chosen joints about the bone (a hinge: its range); 180 degrees flips the twist's zero."""
        self._turn_joints("Turn the frame", rotation.from_rotation_vector(np.array([math.radians(degrees), 0.0, 0.0])))

    def cycle_joint(self) -> None:
        """Make the next axis of the frame the joint's own: x becomes y, y becomes z."""
        third = 2.0 * math.pi / 3.0 / math.sqrt(3.0)
        self._turn_joints("Next axis", rotation.from_rotation_vector(np.full(3, third)))

    def copy_joint(self) -> None:
        """Remember the first chosen joint's kind, ranges and feel."""
        f = self.session.figure()
        ids = self._ids(f) if f is not None else set()
        found = next((j for j in f.joints if j.child in ids), None) if f is not None else None
        if found is not None:
            self.copied = found
            self.desk.tell(f"Copied the joint of {found.child}")

    def paste_joint(self) -> None:
        """Give the chosen joints the copied kind, ranges and feel; their frames stay."""
        f, source = self.session.figure(), self.copied
        if f is None or source is None:
            self.desk.fault("Copy a joint first.")
            return
        ids = self._ids(f)
        kept = {"id", "parent", "child", "frame", "parent_frame"}
        values = {n: getattr(source, n) for n in type(source).model_fields if n not in kept}

        def change(s: Scene) -> Scene:
            return self.desk.sides.joints(edit.joints(s, f.id, ids, lambda j: j.changed(**values)), f.id, ids)

        self.session.edit("Paste the joint", change)

    def add_link(self, kind: str) -> None:
        """Tie, weld or pin the two chosen bodies; one alone is held in the world."""
        f = self.session.figure()
        if f is None:
            return
        p, q = rigid(rest_matrices(f))
        chosen = [b for b in f.bodies if b.bone in self.session.chosen()]
        if not 1 <= len(chosen) <= 2:
            self.desk.fault("Select two bodies, or one to hold it in the world.")
            return
        middles = []
        for b in chosen:
            i = f.bone_index[b.bone]
            middles.append(np.mean([s.position for s in b.shapes], axis=0) if b.shapes else np.zeros(3))
            middles[-1] = p[i] + rotation.rotate(q[i], middles[-1])
        ends = [LinkEnd(figure=f.id, body=b.id) for b in chosen]
        if kind == "tie":
            ends = [
                e.changed(
                    point=tuple(
                        rotation.rotate(rotation.conjugate(q[f.bone_index[b.bone]]), m - p[f.bone_index[b.bone]])
                    )
                )
                for e, b, m in zip(ends, chosen, middles)
            ]
        length = float(np.linalg.norm(middles[0] - middles[-1]))
        name = edit.fresh_id(kind, {x.id for x in self.session.scene.links})
        made = Link(id=name, name=name, kind=kind, a=ends[0], b=ends[1] if len(ends) > 1 else None,
                    lengths=(0.0, max(length, 1e-3)) if kind == "tie" else (0.0, None))  # fmt: skip
        both = self.desk.sides.links(self.session.scene, f.id, made)
        if self.session.edit(f"Add a {kind}", lambda s: edit.scene(s, links=(*s.links, *both))):
            self.desk.tell(" and ".join(f"{x.a.body} – {x.b.body if x.b else 'the world'}" for x in both) + f": {kind}")

    def remove_link(self, link: str) -> None:
        """Take a tie, weld or pin away."""
        self.session.edit("Remove a link", lambda s: edit.without_link(s, link))
