"""What Cast does: places figures, removes them, chooses clips."""

from pathlib import Path

from PySide6.QtWidgets import QFileDialog

from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Scene
from artuline.core.setup.placing import beside
from artuline.core.setup.tilt import tipped
from artuline.desk.desk import Desk
from artuline.desk.stations.cast.many import Many
from artuline.formats import gltf_read
from artuline.formats.bvh_names import SUFFIX
from artuline.formats.bvh_read import Onto, put_motion
from artuline.formats.importing import choose_clip, follow_clip


class Commands:
    """Edits of the scene's figures."""

    def __init__(self, desk: Desk):
        self.desk, self.session, self.stage = desk, desk.session, desk.stage
        self.many = Many()

    def place_again(self) -> None:
        """Add the present figure once more, a step aside."""
        f = self.session.figure()
        if f is None:
            return
        taken = {x.id for x in self.session.scene.figures}
        name = edit.fresh_id(f.id, taken)
        twin = f.changed(id=name, name=name)
        twin = twin.changed(position=beside(self.session.scene, self.session.assets, twin))
        self.session.edit(f"Place {f.name} again", lambda s: edit.scene(s, figures=(*s.figures, twin)))
        self.session.select(name, frozenset())
        self.stage.frame_selection()

    def tip(self) -> None:
        """Tip the present figure by a quarter turn, with all its motion."""
        f, assets = self.session.figure(), self.session.assets
        if f is not None and self.session.edit(f"Tip {f.name} by a quarter turn", lambda s: tipped(s, assets, f.id)):
            self.stage.frame_selection()

    def ask_motion(self) -> None:
        """Choose a file of motion, and put it onto the present figure."""
        name, _ = QFileDialog.getOpenFileName(
            self.stage.window(),
            "Motion from a file",
            "",
            f"Motion ({' '.join(f'*{x}' for x in (SUFFIX, *gltf_read.FORMAT.suffixes))})",
        )
        if name:
            self.put_motion(Path(name))

    def put_motion(self, path: Path) -> bool:
        """Put the motion of a file onto the present figure as its clip, by the names of bones. False, and a message, if that fails."""
        f, assets = self.session.figure(), self.session.assets
        if f is None:
            return False
        if path.suffix.lower() in gltf_read.FORMAT.suffixes:
            return self._put_clips(f, path)
        done: list[Onto] = []

        def change(s: Scene) -> Scene:
            onto = put_motion(s, assets, f.id, path)
            done.append(onto)
            return follow_clip(onto.scene, onto.scene.figure(f.id)) if len(onto.scene.cast) == 1 else onto.scene

        if not self.session.edit(f"Motion of {path.name}", change):
            return False
        left = f" Left out: {', '.join(done[-1].left[:6])}." if done[-1].left else ""
        self.desk.tell(f"{len(done[-1].mapped)} bones of {f.name} move as in {path.name}.{left}")
        return True

    def _put_clips(self, f: Figure, path: Path) -> bool:
        """Put the clips of a glTF of the same skeleton besides those that a figure has."""
        made: list[Figure] = []

        def change(s: Scene) -> Scene:
            made.append(gltf_read.read_clips(path, self.session.assets, s.figure(f.id)))
            return edit.figure(s, f.id, clips=made[-1].clips)

        if not self.session.edit(f"Clips of {path.name}", change):
            return False
        new = [c.name for c in made[-1].clips[len(f.clips) :]]
        self.desk.tell(f"{f.name} has {len(new)} more clip{'s' * (len(new) > 1)}: {', '.join(new[:6])}.")
        return True

    def remove_figure(self) -> None:
        """Take the present figure out of the scene, with what is tied to it."""
        f = self.session.figure()
        if f is None:
            return

        self.session.edit(f"Remove {f.name}", lambda s: edit.without_figure(s, f.id))

    def set_clip_rate(self, figure: str, clip: str, rate: float) -> None:
        """Another number of frames a second for a clip: its keys stay when they are, the scene follows its only figure."""

        def change(s: Scene) -> Scene:
            f = s.figure(figure)
            clips = tuple(c.changed(rate=rate) if c.name == clip else c for c in f.clips)
            return choose_clip(edit.figure(s, figure, clips=clips), figure, f.clip)

        if self.session.edit("Set the clip's frames", change):
            self.desk.tell(f"The scene runs at {self.session.scene.rate:.6g} frames a second.")

    def choose_clip(self, figure: str, clip: str | None) -> None:
        """Play another clip; says what follows from it."""
        before = self.session.scene
        if not self.session.edit("Choose a clip", lambda s: choose_clip(s, figure, clip)):
            return
        s = self.session.scene
        ref = s.figure(figure).active_clip()
        if (s.rate, s.start, s.end) != (before.rate, before.start, before.end):
            self.desk.tell(f"The scene now runs from frame {s.start} to {s.end} at {s.rate:g} per second, as the clip.")
        elif ref is not None and abs(ref.rate - s.rate) > 0.01:
            self.desk.tell(f"The clip's {ref.rate:g} frames per second are resampled to the scene's {s.rate:g}.")
