"""What Curves does: bakes takes to keys on a layer."""

from pathlib import Path

from PySide6.QtWidgets import QFileDialog

from artuline.core.bake.bake import add_layer, bake_figure, moved
from artuline.core.bake.delivery import company
from artuline.core.scene import edit
from artuline.core.scene.model import Scene
from artuline.desk.desk import Desk
from artuline.formats.obj_sequence import write_sequence


class Commands:
    """Bakes, and what was last baked."""

    def __init__(self, desk: Desk, station: str):
        self.desk, self.session, self._station = desk, desk.session, station
        self.bounds = {"degrees": 1.0, "millimetres": 10.0}
        #: By figure, what its last bake came to.
        self.baked: dict[str, str] = {}
        #: Whether the take is shown, or the keys that were baked from it.
        self.shows_take = True
        self.session.leaving.connect(self.baked.clear)
        self._take = self.session.scene.take
        self.session.scene_changed.connect(self._changed)

    def _changed(self) -> None:
        """Another take is shown itself first."""
        if self.session.scene.take != self._take:
            self._take, self.shows_take = self.session.scene.take, True

    def show_layers(self, on: bool) -> None:
        """Show the baked keys instead of the take."""
        self.shows_take = not on
        self.desk.stage.refresh()

    def bake(self) -> None:
        """Fit keys to the take in the background and put them on a layer."""
        f, take, ref = self.session.figure(), self.session.take(), self.session.scene.active_take()
        if f is None or take is None or ref is None:
            self.desk.fault("There is no take to bake: run the scene first.")
            return
        scene, assets, bounds = self.session.scene, self.session.assets, dict(self.bounds)

        def work(progress, cancelled):
            # what physics moves of all that is held together; if it is nothing, the reason is that of the figure itself
            which = [x for x in company(scene, f.id) if moved(take, x)] or [f.id]
            found = {}
            for x in which:
                figure = scene.figure(x)
                found[x] = bake_figure(
                    scene, assets, figure, take, bounds["degrees"], bounds["millimetres"], progress, cancelled
                )
            return found

        def then(found) -> None:
            def change(s: Scene) -> Scene:
                for figure, baked in found.items():
                    s = add_layer(s, assets, figure, baked, f"{ref.name} baked", ref.id)
                return s

            self.shows_take = False
            if self.session.edit("Bake the take", change):
                self.baked |= {k: b.summary()[0].upper() + b.summary()[1:] + "." for k, b in found.items()}
            self.desk.go(self._station)

        self.desk.start("Fitting keys", work, then)

    def ask_frames(self) -> None:
        """Choose a name, and write the geometry of every frame."""
        name, _ = QFileDialog.getSaveFileName(
            self.desk.stage.window(), "Write every frame as a mesh", "", "OBJ files (*.obj)"
        )
        if name:
            path = Path(name)
            self.write_frames(path if path.suffix else path.with_suffix(".obj"))

    def write_frames(self, path: Path) -> None:
        """Write the geometry of every frame as a sequence of files, beside the window."""
        scene, assets = self.session.scene, self.session.assets
        self.desk.start(
            "Writing frames",
            lambda p, c: write_sequence(path, scene, assets, None, p, c),
            lambda done: self.desk.tell(f"{len(done)} files are written, {done[0].name} first."),
        )

    def remove_layer(self, figure: str, layer: str) -> None:
        """Remove a layer."""
        self.session.edit(
            "Remove a layer",
            lambda s: edit.figure(s, figure, layers=tuple(x for x in s.figure(figure).layers if x.id != layer)),
        )
