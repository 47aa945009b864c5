"""The window's commands that open, save and deliver files, apart from the window itself."""

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QFileDialog, QMessageBox

from artuline.core.errors import ArtulineError
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.demo.scenes import demo_scene
from artuline.formats.deliver import write_baked
from artuline.formats.importing import add_figure

if TYPE_CHECKING:
    from artuline.desk.jobs import Jobs
    from artuline.desk.session import Session
    from artuline.desk.stage import Stage
    from artuline.desk.strip import Strip


class FileCommands:
    """Mixed into the window, whose parts it uses."""

    session: "Session"
    jobs: "Jobs"
    stage: "Stage"
    strip: "Strip"

    if TYPE_CHECKING:
        # of the window
        def set_station(self, name: str) -> None: ...

    # files

    def new_scene(self) -> None:
        """Start with an empty scene."""
        if self._may_leave():
            self.session.new(Scene(), AssetStore())
            self.set_station("Cast")

    def open_demo(self, name: str) -> None:
        """Open a demo scene."""
        assets = AssetStore()

        def then(scene) -> None:
            self.session.new(scene, assets)
            self.set_station("Blend")
            self.stage.frame_selection()

        self.jobs.start("Preparing the demo", lambda p, c: demo_scene(name, assets), then)

    def recover(self) -> None:
        """Open the autosaved work."""
        try:
            self.session.recover()
        except ArtulineError as error:
            self.strip.tell(str(error), fault=True)

    def ask_open(self) -> None:
        """Choose a scene file and open it."""
        if self._may_leave():
            name, _ = QFileDialog.getOpenFileName(
                self.stage.window(), "Open a scene", "", "Scenes (*.artuline);;Figures (*.glb *.gltf)"
            )
            if name:
                self.open_path(Path(name))

    def ask_figure(self) -> None:
        """Choose a figure file and add it."""
        name, _ = QFileDialog.getOpenFileName(self.stage.window(), "Open a figure", "", "Figures (*.glb *.gltf)")
        if name:
            self.open_path(Path(name))

    def open_path(self, path: Path) -> bool:
        """Open a scene, or add a figure. False, and a message, if it cannot be used."""
        try:
            if path.suffix.lower() in (".glb", ".gltf"):
                before = len(self.session.scene.figures)
                scene, figure, notes = add_figure(self.session.scene, self.session.assets, path)
                self.session.edit(f"Add {figure.name}", lambda s: scene)
                self.session.select(figure.id, frozenset())
                if before == 0:
                    self.set_station("Cast")
                    self.stage.frame_selection()
                if notes:
                    self.strip.tell(" ".join(notes))
            else:
                self.session.open(path)
                self.set_station("Takes" if self.session.scene.take else "Blend")
                self.stage.frame_selection()
            return True
        except ArtulineError as error:
            self.strip.tell(str(error), fault=True)
            return False

    def save(self) -> bool:
        """Save to the file the scene came from, or ask."""
        if self.session.path is None:
            return self.ask_save()
        return self._save_to(self.session.path)

    def ask_save(self) -> bool:
        """Choose a file and save."""
        suggested = str(self.session.path or f"{self.session.scene.name}.artuline")
        name, _ = QFileDialog.getSaveFileName(self.stage.window(), "Save the scene", suggested, "Scenes (*.artuline)")
        if not name:
            return False
        path = Path(name)
        return self._save_to(path if path.suffix else path.with_suffix(".artuline"))

    def _save_to(self, path: Path) -> bool:
        try:
            self.session.save(path)
        except ArtulineError as error:
            self.strip.tell(str(error), fault=True)
            return False
        self.strip.tell(f"Saved {path.name}")
        return True

    def ask_export(self) -> None:
        """Choose a file and write the figure with its baked motion."""
        f = self.session.figure()
        if f is None:
            self.strip.tell("There is no figure to export.", fault=True)
            return
        name, _ = QFileDialog.getSaveFileName(
            self.stage.window(), "Export", f"{f.name} {f.clip or ''}".strip() + ".glb", "glTF (*.glb)"
        )
        if name:
            self.export_to(Path(name))

    def export_to(self, path: Path) -> bool:
        """Write the present figure with clip and layers merged. False, and a message, if that fails."""
        f = self.session.figure()
        if f is None:
            return False
        try:
            target = path if path.suffix.lower() == ".glb" else path.with_suffix(".glb")
            write_baked(target, self.session.scene, self.session.assets, f)
        except ArtulineError as error:
            self.strip.tell(str(error), fault=True)
            return False
        self.strip.tell(f"Exported {target.name}")
        return True

    def _may_leave(self) -> bool:
        if self.session.stack.isClean() or not self.session.scene.figures:
            return True
        box = QMessageBox(self.stage.window())
        box.setWindowTitle("Artuline")
        box.setText("The scene has changes that are not saved.")
        save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Leave without saving", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Stay", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if box.clickedButton() is save:
            return self.save()
        return box.clickedButton() is drop
