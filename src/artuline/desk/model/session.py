"""What is open: the scene with its history, the selection, the present frame, and the files."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QUndoCommand, QUndoStack

from artuline.core.checks.data import check_data
from artuline.core.errors import ArtulineError, why_not
from artuline.core.run.take import Take
from artuline.core.run.take_now import take_in
from artuline.core.scene.alike import followed
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene, TakeRef
from artuline.core.scene.selection import Selection
from artuline.formats import recovery
from artuline.formats.held import Held
from artuline.formats.scene_file import load_scene, save_scene

AUTOSAVE_SECONDS = 45


class _Change(QUndoCommand):
    def __init__(self, session: "Session", label: str, before: Scene, after: Scene):
        super().__init__(label)
        self._session, self._before, self._after = session, before, after

    def redo(self) -> None:
        self._session._put(self._after)

    def undo(self) -> None:
        self._session._put(self._before)


class Session(QObject):
    """Every edit goes through ``edit``; undo is a list of scenes."""

    scene_changed = Signal()
    #: The scene is another one for now, while something is dragged.
    previewed = Signal()
    selection_changed = Signal()
    frame_changed = Signal()
    file_changed = Signal()
    #: The document is left for another one.
    leaving = Signal()
    failed = Signal(str)
    told = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.scene = Scene()
        self.assets = AssetStore()
        self.selection = Selection()
        self.frame = 0.0
        self.path: Path | None = None
        self.stack = QUndoStack(self)
        self.stack.cleanChanged.connect(self.file_changed)
        self._preview: Scene | None = None
        self._autosaved: Scene | None = None
        self._recovery = recovery.Recovery()
        self._held = Held()
        #: Data that previews have added and that no scene needs.
        self._trial: set[str] = set()
        #: A small picture of what is seen (PNG), kept with unsaved work.
        self.picture: Callable[[], bytes | None] = lambda: None
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.autosave)
        self._timer.start(AUTOSAVE_SECONDS * 1000)

    # editing

    def edit(self, label: str, change: Callable[[Scene], Scene]) -> bool:
        """Replace the scene by ``change(scene)``; undoable. False, and a message, if that is not possible."""
        before = self._preview_base()
        try:
            after = followed(before, change(before))
            # what could not be opened again is never done
            check_data(after, self.assets, before)
        except ArtulineError as error:
            self._drop_preview()
            self.failed.emit(str(error))
            return False
        except ValueError as error:
            self._drop_preview()
            self.failed.emit(f"{label} is not possible: {why_not(error)}")
            return False
        self._preview = None
        self._clear_trial(after)
        self._trial = set()
        if after == before:
            self._put(before)
            return True
        self.stack.push(_Change(self, label, before, after))
        return True

    def preview(self, change: Callable[[Scene], Scene]) -> None:
        """Show ``change(scene)`` while something is being dragged; ``edit`` or ``cancel_preview`` ends it."""
        base = self._preview_base()
        before = set(self.assets)
        try:
            changed = followed(base, change(base))
        except (ArtulineError, ValueError):
            return
        finally:
            self._trial |= set(self.assets) - before
        self._preview = base
        self.scene = changed
        self._clear_trial(changed)
        self.previewed.emit()

    def cancel_preview(self) -> None:
        """Back to the scene before the preview."""
        self._drop_preview()

    def _drop_preview(self) -> None:
        if self._preview is not None:
            base, self._preview = self._preview, None
            self._clear_trial(base)
            self._put(base)

    def _clear_trial(self, scene: Scene) -> None:
        """Forget what earlier previews added, but for what a scene needs."""
        needed = scene.assets()
        self.assets.discard(self._trial - needed)
        self._trial &= needed

    def _preview_base(self) -> Scene:
        return self._preview if self._preview is not None else self.scene

    def _put(self, scene: Scene) -> None:
        self._preview = None
        self.scene = scene
        self.selection = self.selection.within(scene)
        self.scene_changed.emit()

    # looking

    def figure(self) -> Figure | None:
        """Of the figures that physics may move the one that the selection is in, else the first."""
        for f in self.scene.cast:
            if f.id == self.selection.figure:
                return f
        return next(iter(self.scene.cast), None)

    def obstacle(self) -> Figure | None:
        """The obstacle that is in hand."""
        return next((f for f in self.scene.obstacles if f.id == self.selection.figure), None)

    def chosen(self) -> frozenset[str]:
        """The chosen bones of the present figure."""
        f = self.figure()
        return self.selection.of(f.id) if f is not None else frozenset()

    def select(self, figure: str | None, bones: frozenset[str]) -> None:
        """Choose bones of a figure."""
        selection = Selection(figure, bones)
        if selection != self.selection:
            self.selection = selection
            self.selection_changed.emit()

    def set_frame(self, frame: float) -> None:
        """Go to a frame inside the range."""
        frame = min(max(frame, self.scene.start), self.scene.end)
        if frame != self.frame:
            self.frame = frame
            self.frame_changed.emit()

    def take(self) -> Take | None:
        """The take that is shown."""
        return self.take_of(self.scene.active_take())

    def take_of(self, ref: TakeRef | None) -> Take | None:
        """A take of the scene, with the bones that there are now."""
        return take_in(self.scene, self.assets, ref) if ref is not None else None

    # files

    def new(self, scene: Scene, assets: AssetStore, path: Path | None = None, *, changed: bool = False) -> None:
        """Start over with a scene; unsaved work of the one before is given up."""
        self.leaving.emit()
        self._recovery.forget()
        self.stack.clear()
        self._preview = None
        self._trial = set()
        self.assets, self.path = assets, path
        free = self._held.take(path)
        self.selection = Selection()
        self.frame = float(scene.start)
        self._autosaved = None if changed else scene
        self._put(scene)
        if changed:
            self.stack.resetClean()
        else:
            self.stack.setClean()
        self.selection_changed.emit()
        self.frame_changed.emit()
        self.file_changed.emit()
        if path is not None and not free:
            self.told.emit(f"Another window has {path.name} open: whoever saves second is asked what to keep.")

    def open(self, path: Path) -> None:
        """Open a scene file. Raises ArtulineError; then nothing changes."""
        assets = AssetStore()
        self.new(load_scene(path, assets), assets, path)

    def save(self, path: Path, *, replace: bool = False) -> None:
        """Save to a file. Raises ArtulineError; ChangedError if someone else changed the file that is open, unless ``replace``."""
        save_scene(path, self._preview_base(), self.assets, replace=replace)
        if path != self.path:
            self._held.take(path)
        self.path = path
        self.stack.setClean()
        self._recovery.forget()
        self.file_changed.emit()

    @property
    def unsaved(self) -> bool:
        """Whether there is work that only this program holds."""
        return not self.stack.isClean() and self.scene != Scene()

    def autosave(self) -> None:
        """Keep unsaved work in the state folder, if there is any since the last time."""
        scene = self._preview_base()
        if self.stack.isClean() or scene is self._autosaved or not scene.figures:
            return
        try:
            self._recovery.keep(scene, self.assets, self.path, self.picture())
            self._autosaved = scene
        except ArtulineError as error:
            self.failed.emit(str(error))

    def remove_autosave(self) -> None:
        """Forget kept work, after a tidy end."""
        self._recovery.forget()
        self._held.release()

    def recover(self, left: recovery.Left) -> None:
        """Open work that was left behind. Raises ArtulineError."""
        assets = AssetStore()
        scene, lost = recovery.recover(left, assets)
        self.new(scene, assets, Path(left.source) if left.source else None, changed=True)
        self.autosave()
        recovery.remove(left.file)
        if lost:
            self.failed.emit(f"Some of it was damaged and is missing: {'; '.join(lost)}.")
