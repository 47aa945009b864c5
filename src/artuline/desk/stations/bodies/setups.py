"""Setups: bodies, joints and links of a figure in a file of their own, and put onto another figure."""

from pathlib import Path

from PySide6.QtWidgets import QFileDialog

from artuline.core.errors import ArtulineError
from artuline.core.scene import edit
from artuline.core.scene.model import Scene
from artuline.core.setup.setups import Setup, put_links, put_setup, take_setup
from artuline.core.setup.soft import around_softs
from artuline.desk.desk import Desk
from artuline.desk.stations.bodies.setup_dialog import SetupDialog
from artuline.formats.setup_file import load_setup, save_setup


class Setups:
    """Writes and puts on setups of the present figure."""

    def __init__(self, desk: Desk):
        self.desk, self.session, self.stage = desk, desk.session, desk.stage

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
            self.desk.fault(str(error))
            return False
        self.desk.tell(f"Saved {target.name}")
        return True

    def ask_setup(self) -> None:
        """Choose a setup and put it onto the present figure by a table of bones."""
        f = self.session.figure()
        if f is None:
            return
        dialog = SetupDialog(self.stage.window(), f, self.load_setup)
        if dialog.exec():
            setup = dialog.setup()
            if setup is not None:
                self.put_setup(setup, dialog.mapping())

    def load_setup(self, path: Path) -> Setup | None:
        """Read a setup file; None, and a message, if it cannot be used."""
        try:
            return load_setup(path)
        except ArtulineError as error:
            self.desk.fault(str(error))
            return None

    def put_setup(self, setup: Setup, mapping: dict[str, str]) -> bool:
        """Put a setup onto the present figure."""
        f = self.session.figure()
        if f is None:
            return False

        def change(s: Scene) -> Scene:
            kept = tuple(x for x in s.links if f.id not in (x.a.figure, x.b.figure if x.b else None))
            done = edit.ragdoll(
                edit.scene(s, links=kept),
                around_softs(s.figure(f.id), self.session.assets, lambda x: put_setup(setup, x, mapping)),
            )
            return edit.scene(done, links=(*kept, *put_links(setup, f, mapping, {x.id for x in kept})))

        if not self.session.edit(f"Put the setup {setup.name}", change):
            return False
        made = self.session.scene.figure(f.id)
        self.desk.tell(f"{len(made.bodies)} bodies and {len(made.joints)} joints from {setup.name}")
        return True
