"""Opening, saving and delivering files, and leaving a document."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QFileDialog

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene
from artuline.demo.scenes import demo_scene
from artuline.desk import theme
from artuline.desk.deliver_dialog import DeliverDialog, Wish
from artuline.desk.desk import Desk
from artuline.desk.model.actions import Action
from artuline.desk.recover import RecoverDialog
from artuline.desk.widgets.ask import ask
from artuline.formats import recovery
from artuline.formats.all import filters, named, read_figure, suffixes
from artuline.formats.deliver import deliver
from artuline.formats.format import Imported
from artuline.formats.importing import put_figure
from artuline.formats.obj_sequence import write_sequence
from artuline.formats.salvage import Salvaged, salvage_scene
from artuline.formats.scene_file import ChangedError, TooLargeError, load_scene
from artuline.formats.thing_read import read_thing
from artuline.view.movies import SUFFIXES, MovieWish, write_movie

MOST_LOST = 12  # things that a question names


@dataclass(frozen=True)
class Large:
    """A scene that unfolds to so many bytes."""

    needed: int


@dataclass(frozen=True)
class Damaged:
    """A scene that cannot be opened as it is, and what can be."""

    error: ArtulineError
    salvaged: Salvaged


class Files:
    """The document's way in and out."""

    def __init__(self, desk: Desk):
        self.desk, self.session, self.jobs, self.stage, self.memory = (
            desk, desk.session, desk.jobs, desk.stage, desk.memory,
        )  # fmt: skip
        self._to_open: list[Path] = []
        self.jobs.ended.connect(lambda: QTimer.singleShot(0, desk, self.open_next))

    def actions(self) -> Sequence[Action]:
        """What can be done with files."""
        m = "&Scene"
        return (
            Action("new", "New", self.new_scene, "Ctrl+N", "file-outline", m, "Starts with an empty scene"),
            Action("open", "Open…", self.ask_open, "Ctrl+O", "folder-open-outline", m, "Opens a scene, or adds a figure"),
            Action("recent", "The last one", self.open_last, "Ctrl+Shift+O", "history", f"{m}/Recent files",
                   "Opens the file that was open last", lambda: "" if self.memory.recent() else "nothing was opened yet."),
            Action("figure", "Add a figure…", self.ask_figure, "Ctrl+I", "human", m,
                   "Adds a figure from a file (.glb, .gltf, .usd, .bvh)"),
            Action("recover", "Recover unsaved work…", self.ask_recover, "", "backup-restore", m,
                   "Shows what windows that ended badly have left behind"),
            Action("save", "Save", self.save, "Ctrl+S", "content-save-outline", m, "Saves the scene to its file", line=True),
            Action("save as", "Save as…", self.ask_save, "Ctrl+Shift+S", "", m, "Saves the scene to another file"),
            Action("export", "Export…", self.ask_export, "Ctrl+E", "export-variant", m,
                   "Writes the present figure with its keys and baked layers, or a movie", self.desk.needs("figure")),
        )  # fmt: skip

    # leaving a document

    def may_leave(self) -> bool:
        """Ask about work that would be lost, if there is any: changes that are not saved, and a job that still runs. False to stay."""
        running, unsaved = self.jobs.words, self.session.unsaved
        if not (running or unsaved):
            return True
        words = ["The scene has changes that are not saved."] if unsaved else []
        words += [f"“{running}” still runs and would be stopped."] if running else []
        answers = [("save", "Save"), ("leave", "Leave without saving")] if unsaved else [("leave", "Stop it and leave")]
        answer = ask(self.stage.window(), "leave", " ".join(words), answers, "Stay")
        return self.save() if answer == "save" else answer == "leave"

    def show_document(
        self, scene: Scene, assets: AssetStore, path: Path | None = None, *, changed: bool = False
    ) -> None:
        """Take another document in hand; ``changed``: it is not saved anywhere."""
        self.session.new(scene, assets, path, changed=changed)
        station = "Takes" if scene.take else ("Blend" if scene.figures else "Cast")
        self.desk.go(station)
        self.stage.frame_selection()

    def _fetch(self, words: str, work) -> bool:  # type: ignore[no-untyped-def]
        """Leave the document, then make another one beside the window: ``work(assets, cancelled) -> scene``."""
        if not self.may_leave():
            return False
        self.jobs.abandon()
        assets, before = AssetStore(), self.session.scene

        def then(scene: Scene) -> None:
            # what was done while it was made is asked about too
            if self.session.scene is before or self.may_leave():
                self.show_document(scene, assets)

        return self.jobs.start(words, lambda p, c: work(assets, c), then)

    # files

    def new_scene(self) -> None:
        """Start with an empty scene."""
        if self.may_leave():
            self.session.new(Scene(), AssetStore())
            self.desk.go("Cast")

    def open_demo(self, name: str) -> None:
        """Open a demo scene."""
        self._fetch("Preparing the demo", lambda assets, c: demo_scene(name, assets))

    def ask_recover(self) -> None:
        """Show work that was left behind, to open it or drop it."""
        found = recovery.left_behind()
        if not found:
            self.desk.tell("No unsaved work was left behind.")
            return
        dialog = RecoverDialog(self.stage.window(), found)
        if dialog.exec() and dialog.chosen() is not None:
            self.recover(dialog.chosen())  # type: ignore[arg-type]

    def recover(self, left: recovery.Left) -> None:
        """Open work that was left behind."""
        if not self.may_leave():
            return
        try:
            self.session.recover(left)
            self.desk.go("Blend" if self.session.scene.figures else "Cast")
            self.stage.frame_selection()
            self.desk.tell(f"Recovered {left.words}. Save it to keep it.")
        except ArtulineError as error:
            self.desk.fault(str(error))

    def _choose(self, title: str, kind: str, filters: str) -> Path | None:
        name, _ = QFileDialog.getOpenFileName(self.stage.window(), title, self.memory.folder(kind), filters)
        if name:
            self.memory.keep_file(kind, Path(name), recent=False)
        return Path(name) if name else None

    def ask_open(self) -> None:
        """Choose a scene file and open it."""
        path = self._choose(
            "Open a scene",
            "scene",
            f"Scenes (*.artuline);;{filters('read_figure', 'Figures')};;{filters('read_mesh', 'Meshes')}",
        )
        if path is not None:
            self.open_path(path)

    def ask_figure(self) -> None:
        """Choose a figure file and add it."""
        path = self._choose(
            "Open a figure", "figure", f"{filters('read_figure', 'Figures')};;{filters('read_mesh', 'Meshes')}"
        )
        if path is not None:
            self.open_path(path)

    def open_last(self) -> None:
        """Open the file that was open last."""
        recent = self.memory.recent()
        if recent:
            self.open_path(recent[0])

    def open_path(self, path: Path) -> bool:
        """Begin to read a scene, or a figure that is added to the scene. False if that is not possible now."""
        suffix = path.suffix.lower()
        mesh = suffix in suffixes("read_mesh") and suffix not in suffixes("read_figure")
        if not mesh and suffix not in suffixes("read_figure"):
            return self._open_scene(path)
        staged = AssetStore()

        def then(imported: Imported) -> None:
            self.session.assets.take_over(staged)
            self.add_imported(imported)
            self.memory.keep_file("figure", path)

        # a mesh alone is a thing of rigid parts
        read = (lambda p, c: read_thing(path, staged)) if mesh else (lambda p, c: read_figure(path, staged, c))
        if self.jobs.start(f"Reading {path.name}", read, then):
            return True
        self.desk.fault("Something is still running: cancel it first.")
        return False

    def _open_scene(self, path: Path, most: int | None = None) -> bool:
        """Leave the document, then read a scene; where that is not possible as it is, ask what is to be done."""
        if not self.may_leave():
            return False
        self.jobs.abandon()
        before = self.session.scene

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            assets = AssetStore()
            try:
                return load_scene(path, assets, cancelled, most), assets
            except TooLargeError as error:
                return Large(error.needed)
            except CancelledError:
                raise
            except ArtulineError as error:
                try:
                    return Damaged(error, salvage_scene(path, most))
                except ArtulineError:
                    raise error from None

        def then(found: tuple[Scene, AssetStore] | Large | Damaged) -> None:
            # what was done while it was read is asked about too
            if self.session.scene is not before and not self.may_leave():
                return
            if isinstance(found, Large):
                self._ask_large(path, found)
            elif isinstance(found, Damaged):
                self._ask_damaged(path, found)
            else:
                self.show_document(*found, path)
                self.memory.keep_file("scene", path)

        return self.jobs.start(f"Opening {path.name}", work, then)

    def _ask_large(self, path: Path, found: Large) -> None:
        words = (
            f"The data of “{path.name}” unfolds to {found.needed / 2**20:.0f} MB, more than a scene usually has. "
            "Open it if you know where it comes from."
        )
        if ask(self.stage.window(), "large", words, [("open", "Open it")], "Cancel"):
            self._open_scene(path, found.needed)

    def _ask_damaged(self, path: Path, found: Damaged) -> None:
        """Offer what can be saved of a file; it is opened without a name, so that the file stays as it is."""
        lost = [*found.salvaged.lost[:MOST_LOST], *(["and more"] if len(found.salvaged.lost) > MOST_LOST else [])]
        missing = "\n".join(f"• {x}" for x in lost) or "• nothing that it needs"
        words = f"“{path.name}” cannot be opened as it is: {found.error.problem}.\n\nThe rest can be. Left out would be:\n{missing}"
        if ask(self.stage.window(), "damaged", words, [("open", "Open the rest")], "Cancel"):
            self.show_document(found.salvaged.scene, found.salvaged.assets, changed=True)
            self.desk.tell(f"This is what could be read of {path.name}. Save it under a name of its own.")

    def add_imported(self, imported: Imported) -> None:
        """Put a figure that was read into the scene, select and frame it, and say what is worth knowing."""
        added: list[tuple[Figure, tuple[str, ...]]] = []

        def change(s: Scene) -> Scene:
            made = put_figure(s, self.session.assets, imported)
            added.append((made.figure, made.notes))
            return made.scene

        if self.session.edit(f"Add {imported.figure.name}", change):
            figure, notes = added[-1]
            self.session.select(figure.id, frozenset())
            self.desk.go("Cast")
            self.stage.frame_selection()
            if notes:
                self.desk.tell(" ".join(notes))

    def open_all(self, paths: list[Path]) -> None:
        """Open several files one after the other: figures are added, of scenes the first is opened."""
        known = {*suffixes("read_figure"), *suffixes("read_mesh")}
        scenes = [p for p in paths if p.suffix.lower() not in known]
        self._to_open = scenes[:1] + [p for p in paths if p not in scenes]
        self.open_next()

    def open_next(self) -> None:
        """Go on with files that wait for the one before."""
        while self._to_open and not self.jobs.busy:
            if not self.open_path(self._to_open.pop(0)):
                self._to_open.clear()

    def save(self) -> bool:
        """Save to the file the scene came from, or ask."""
        if self.session.path is None:
            return self.ask_save()
        return self.save_to(self.session.path)

    def ask_save(self) -> bool:
        """Choose a file and save."""
        folder = self.memory.folder("scene")
        suggested = str(self.session.path or Path(folder) / f"{self.session.scene.name}.artuline")
        name, _ = QFileDialog.getSaveFileName(self.stage.window(), "Save the scene", suggested, "Scenes (*.artuline)")
        if not name:
            return False
        path = Path(name)
        return self.save_to(path if path.suffix else path.with_suffix(".artuline"))

    def save_to(self, path: Path, *, replace: bool = False) -> bool:
        """Save to a file; where someone else has changed it, ask whose work is to be kept."""
        try:
            self.session.save(path, replace=replace)
        except ChangedError:
            return self._ask_changed(path)
        except ArtulineError as error:
            self.desk.fault(str(error))
            return False
        self.memory.keep_file("scene", path)
        self.desk.tell(f"Saved {path.name}")
        return True

    def _ask_changed(self, path: Path) -> bool:
        """What becomes of two versions of one file. True if this one is saved."""
        both = fresh_path(path)
        words = (
            f"“{path.name}” was changed by another window or program since it was opened here.\n\n"
            f"Keeping both saves this scene as “{both.name}”."
        )
        answers = [("both", "Keep both"), ("replace", "Replace theirs"), ("theirs", "Open theirs")]
        answer = ask(self.stage.window(), "changed", words, answers, "Cancel")
        if answer == "theirs":
            self._open_scene(path)
        if answer not in ("both", "replace"):
            return False
        return self.save_to(both if answer == "both" else path, replace=answer == "replace")

    def ask_export(self) -> None:
        """Choose a format and a file, and write the figure with its baked motion, or the stage as a movie."""
        f = self.session.figure()
        if f is None:
            self.desk.fault("There is no figure to export.")
            return
        dialog = self.dialog = DeliverDialog(self.stage.window(), self.desk, f)
        dialog.accepted.connect(lambda: self.deliver(dialog.wish))
        dialog.open()

    def deliver(self, wish: Wish | None) -> None:
        """Write what was chosen, beside the window."""
        if wish is None:
            return
        path = wish.path
        if path.suffix in SUFFIXES:
            self.write_movie(path, wish.movie)
        elif path.suffix == ".obj":
            scene, assets = self.session.scene, self.session.assets
            self.desk.start(
                "Writing frames", lambda p, c: write_sequence(path, scene, assets, None, p, c), self._written
            )
        else:
            self.desk.together, self.desk.rests = wish.together, wish.rests
            scene, assets = self.session.scene, self.session.assets
            together = wish.together and len(wish.figures) > 1

            def work(progress, cancelled):  # type: ignore[no-untyped-def]
                def told(done: int, total: int) -> None:
                    progress(done, total)
                    if cancelled():
                        raise CancelledError

                return deliver(named(path), scene, assets, list(wish.figures), together, wish.rests, wish.physics, told)

            self.desk.start("Exporting", work, lambda files: self._exported(wish.figures, files))

    def write_movie(self, path: Path, wish: MovieWish) -> bool:
        """Write what the stage shows, through its camera, as a movie beside the window. False if something else is running."""
        scene, assets, stage = self.session.scene, self.session.assets, self.stage
        take, show, camera, colors = stage.take(), stage.show_, stage.camera, theme.palette()
        return self.desk.start(
            "Writing the movie",
            lambda p, c: write_movie(path, scene, assets, take, show, wish, camera, colors, p, c),
            self._written,
        )

    def _written(self, files: list[Path]) -> None:
        more = f" and {len(files) - 1} more" if len(files) > 1 else ""
        self.desk.tell(f"Saved {files[0].name}{more}")

    def _exported(self, figures: Sequence[str], files: list[Path]) -> None:
        """Say what was written, and of which nothing was baked."""
        scene = self.session.scene
        kept = [scene.figure(x) for x in figures if any(x == f.id for f in scene.figures)]
        bare = [
            f.name
            for f in kept
            if f.bodies and not any(x.kind == "baked" and not x.muted and x.weight > 0.0 for x in f.layers)
        ]
        who = kept[0].name if len(figures) == 1 else f"{len(figures)} figures"
        where = files[0].name + (f" and {len(files) - 1} files beside it" if len(files) > 1 else "")
        words = ""
        if bare:
            words = (
                ": its keys only, since nothing is baked on it"
                if len(figures) == 1
                else f"; keys only of {', '.join(bare[:3])}"
            )
            words += f" and {len(bare) - 3} more" if len(bare) > 3 else ""
        self.desk.tell(f"Exported {who} as {where}{words}")


def fresh_path(path: Path) -> Path:
    """A path beside one at which nothing lies: its name with the first free number."""
    number = 2
    while (made := path.with_name(f"{path.stem} {number}{path.suffix}")).exists():
        number += 1
    return made
