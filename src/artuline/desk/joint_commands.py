"""The window's commands of Joints and of setups, apart from the window itself."""

import math
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtWidgets import QFileDialog

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Joint, Link, LinkEnd, Scene
from artuline.core.setup.limits import propose_limits
from artuline.core.setup.mirror import mirror_joints
from artuline.core.setup.ragdoll import join, swap_parent, turn_frame
from artuline.core.setup.setups import Setup, put_links, put_setup, take_setup
from artuline.desk.dialogs import LimitsDialog, SetupDialog
from artuline.formats.setup_file import load_setup, save_setup

if TYPE_CHECKING:
    from artuline.desk.session import Session
    from artuline.desk.stage import Stage
    from artuline.desk.strip import Strip


class JointCommands:
    """Mixed into the window, whose parts it uses."""

    session: "Session"
    stage: "Stage"
    strip: "Strip"
    both_sides: bool
    copied_joint: Joint | None

    if TYPE_CHECKING:
        # of SetupCommands
        def motion(self, f: Figure) -> Array: ...
        def mirrored_joints(self, s: Scene, figure: str, ids: set[str]) -> Scene: ...
        def _bones(self) -> set[str]: ...
        def _ids(self, f: Figure) -> set[str]: ...

    # Joints

    def limits_from(self, source: str, ids: set[str]) -> None:
        """Propose ranges for some joints and take them at once."""
        f = self.session.figure()
        if f is None:
            return
        motion = self.motion(f)

        def change(s: Scene) -> Scene:
            done = edit.joints(s, f.id, ids, lambda j: propose_limits(f, j, motion, source))
            return self.mirrored_joints(done, f.id, ids)

        self.session.edit(f"Limits from {source}", change)

    def ask_limits(self) -> None:
        """Show proposals for all joints, before and after; take all, some or none."""
        f = self.session.figure()
        if f is None or not f.joints:
            return
        dialog = LimitsDialog(self.stage.window(), f, self.motion(f))
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
                self.stage.sweep(f.id, joint.id)

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
            return mirror_joints(g, ids) if self.both_sides else g

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
            self.copied_joint = found
            self.strip.tell(f"Copied the joint of {found.child}")

    def paste_joint(self) -> None:
        """Give the chosen joints the copied kind, ranges and feel; their frames stay."""
        f, source = self.session.figure(), self.copied_joint
        if f is None or source is None:
            self.strip.tell("Copy a joint first.", fault=True)
            return
        ids = self._ids(f)
        kept = {"id", "parent", "child", "frame", "parent_frame"}
        values = {n: getattr(source, n) for n in type(source).model_fields if n not in kept}

        def change(s: Scene) -> Scene:
            return self.mirrored_joints(edit.joints(s, f.id, ids, lambda j: j.changed(**values)), f.id, ids)

        self.session.edit("Paste the joint", change)

    def add_link(self, kind: str) -> None:
        """Tie, weld or pin the two chosen bodies; one alone is held in the world."""
        f = self.session.figure()
        if f is None:
            return
        p, q = rigid(rest_matrices(f))
        chosen = [b for b in f.bodies if b.bone in self._bones()]
        if not 1 <= len(chosen) <= 2:
            self.strip.tell("Select two bodies, or one to hold it in the world.", fault=True)
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
        self.session.edit(f"Add a {kind}", lambda s: edit.scene(s, links=(*s.links, made)))

    def remove_link(self, link: str) -> None:
        """Take a tie, weld or pin away."""
        self.session.edit("Remove a link", lambda s: edit.scene(s, links=tuple(x for x in s.links if x.id != link)))

    # setups

    def ask_save_setup(self) -> None:
        """Choose a file and write the present figure's setup."""
        f = self.session.figure()
        if f is None:
            return
        name, _ = QFileDialog.getSaveFileName(
            self.stage.window(), "Save the setup", f"{f.name}.artuset", "Setups (*.artuset)"
        )
        if name:
            self.save_setup(Path(name))

    def save_setup(self, path: Path) -> bool:
        """Write the present figure's setup. False, and a message, if that fails."""
        f = self.session.figure()
        if f is None:
            return False
        try:
            target = path if path.suffix else path.with_suffix(".artuset")
            save_setup(target, take_setup(self.session.scene, f))
        except ArtulineError as error:
            self.strip.tell(str(error), fault=True)
            return False
        self.strip.tell(f"Saved {target.name}")
        return True

    def ask_setup(self) -> None:
        """Choose a setup and put it onto the present figure by a table of bones."""
        f = self.session.figure()
        if f is None:
            return
        dialog = SetupDialog(self, f)  # type: ignore[arg-type]
        if dialog.exec():
            setup = dialog.setup()
            if setup is not None:
                self.put_setup(setup, dialog.mapping())

    def load_setup(self, path: Path) -> Setup | None:
        """Read a setup file; None, and a message, if it cannot be used."""
        try:
            return load_setup(path)
        except ArtulineError as error:
            self.strip.tell(str(error), fault=True)
            return None

    def put_setup(self, setup: Setup, mapping: dict[str, str]) -> bool:
        """Put a setup onto the present figure."""
        f = self.session.figure()
        if f is None:
            return False

        def change(s: Scene) -> Scene:
            kept = tuple(x for x in s.links if f.id not in (x.a.figure, x.b.figure if x.b else None))
            done = edit.ragdoll(edit.scene(s, links=kept), put_setup(setup, s.figure(f.id), mapping))
            return edit.scene(done, links=(*kept, *put_links(setup, f, mapping, {x.id for x in kept})))

        if not self.session.edit(f"Put the setup {setup.name}", change):
            return False
        made = self.session.scene.figure(f.id)
        self.strip.tell(f"{len(made.bodies)} bodies and {len(made.joints)} joints from {setup.name}")
        return True
