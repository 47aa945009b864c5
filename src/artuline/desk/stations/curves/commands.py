"""What Curves does: bakes takes to keys on a layer, and works on layers."""

from pathlib import Path
from typing import Literal

from PySide6.QtWidgets import QFileDialog

from artuline.core.bake.bake import Baked, BakeWish, Worst
from artuline.core.bake.delivery import bake_figures, several, with_baked
from artuline.core.bake.layer_keys import alone, stacked
from artuline.core.run.plausible import Doubt, doubts
from artuline.core.scene import edit
from artuline.core.scene.model import Scene
from artuline.desk.desk import Desk
from artuline.desk.stations.curves.editor.editing import Editing
from artuline.desk.stations.curves.editor.sources import LANES, LaneSource
from artuline.formats.coming_back import SUFFIXES, bring_back
from artuline.formats.obj_sequence import write_sequence

RAMP = 4  # frames in which a bake of a part of a take comes in and goes out
BEST = "best"


class Commands:
    """Bakes, and what was last baked."""

    def __init__(self, desk: Desk, station: str, editing: Editing):
        self.desk, self.session, self._station, self.editing = desk, desk.session, station, editing
        self.bounds = {"degrees": 1.0, "millimetres": 10.0}
        self.range: tuple[int, int] | None = None
        self.step, self.only_chosen, self.adds = 1, False, False
        self.goals, self.between, self.shared = True, True, False
        #: By figure, what its last bake came to.
        self.baked: dict[str, Baked] = {}
        #: Whether the take is shown, or the keys that were baked from it.
        self.shows_take = True
        self._last_doubts: list[Doubt] | None = None
        self.session.leaving.connect(self._leave)
        self._take = self.session.scene.take
        self.session.scene_changed.connect(self._changed)

    def _leave(self) -> None:
        self.baked.clear()
        self.range = None
        self._last_doubts = None

    def _changed(self) -> None:
        """Another take is shown itself first."""
        if self.session.scene.take != self._take:
            self._take, self.shows_take = self.session.scene.take, True

    def show_layers(self, on: bool) -> None:
        """Show the baked keys instead of the take."""
        self.shows_take = not on
        self.desk.stage.refresh()

    def wish(self) -> BakeWish:
        """How the panel says that a take is to be baked."""
        chosen = self.session.chosen() if self.only_chosen else frozenset()
        first, last = self.range or (None, None)
        return BakeWish(
            self.bounds["degrees"], self.bounds["millimetres"], chosen or None, first, last, self.step, RAMP, self.goals, self.between, self.shared
        )  # fmt: skip

    def set_bound(self, which: str, value: float) -> None:
        """Another error; keys that were baked are fitted anew at once, unless they were edited since."""
        self.bounds[which] = value
        f, ref = self.session.figure(), self.session.scene.active_take()
        layer = self.editing.layer()
        if (
            f is not None
            and ref is not None
            and f.id in self.baked
            and layer is not None
            and layer.of == ref.id
            and not layer.baked
            and not self.desk.jobs.busy
        ):
            self.bake()

    def set_range(self, first: int, last: int) -> None:
        """Which frames are baked."""
        s = self.session.scene
        self.range = None if (first, last) == (s.start, s.end) else (first, last)

    def needs_lanes(self) -> str:
        """Why no lanes can be edited; empty if they can."""
        found = any(isinstance(x, LaneSource) for _, x in self.editing.sources())
        return "" if found else "key a lane or a place first."

    def edit_lanes(self) -> None:
        """Show the lanes and the place of the present figure as curves."""
        self.editing.set_source(LANES)
        self.desk.go(self._station)

    def bake(self) -> None:
        """Fit keys to the take in the background and put them on a layer."""
        f, take, ref = self.session.figure(), self.session.take(), self.session.scene.active_take()
        if f is None or take is None or ref is None:
            self.desk.fault("There is no take to bake: run the scene first.")
            return
        scene, assets, wish = self.session.scene, self.session.assets, self.wish()
        mode: Literal["replace", "add"] = "add" if self.adds else "replace"
        which = several(scene, f.id, self.desk.which) if wish.bones is None else [f.id]

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            return bake_figures(scene, assets, take, which, wish, progress, cancelled)

        def then(found: dict[str, Baked]) -> None:
            self.shows_take = False
            heard = {(g.id, x.id) for g in self.session.scene.figures for x in g.layers if not x.muted}
            if self.session.edit("Bake the take", lambda s: with_baked(s, assets, ref, found, mode)):
                self.baked |= found
                muted = [
                    x.name for g in self.session.scene.figures for x in g.layers if x.muted and (g.id, x.id) in heard
                ]
                if muted:
                    self.desk.tell(f"{', '.join(muted)}, edited by hand, was kept and muted below the new keys.")
                # of who keeps to his keys there is nothing to bake
                for layer in self.session.scene.figure(f.id).layers:
                    if layer.of == ref.id:
                        self.editing.set_layer(layer.id)
            self.desk.go(self._station)

        self.desk.start("Fitting keys", work, then)

    def show_worst(self, worst: Worst) -> None:
        """Go to where a bake is farthest from its take."""
        f = self.session.figure()
        if f is not None:
            self.session.select(f.id, frozenset({worst.bone}))
        self.session.set_frame(worst.frame)

    def doubts(self) -> list[Doubt] | None:
        """Where the present figure's keys are not plausible, by its take; None while that is not known. Empty where there are no keys."""
        f, layer, scene = self.session.figure(), self.editing.layer(), self.session.scene
        if f is None or layer is None or not f.bodies:
            return []
        take, assets = self.session.take(), self.session.assets
        key = "doubts", f, scene.take, scene.start, scene.end, scene.rate, scene.ground, scene.gravity
        found = self.desk.later.get(key, lambda: doubts(scene, assets, f.id, take), self._last_doubts)
        if found is not None:
            self._last_doubts = found
        return found  # type: ignore[no-any-return]

    def show_doubt(self, doubt: Doubt) -> None:
        """Go to the worst frame of a doubt."""
        f = self.session.figure()
        if f is not None and doubt.place in f.bone_index:
            self.session.select(f.id, frozenset({doubt.place}))
        self.session.set_frame(doubt.frame)
        self.desk.tell(doubt.text[0].upper() + doubt.text[1:] + f", frame {doubt.frame}.")

    def change_layer(self, words: str, figure: str, layer: str, **values: object) -> None:
        """Change what a layer says of itself."""
        self.session.edit(
            words,
            lambda s: edit.figure(
                s, figure, layers=edit.replace(s.figure(figure).layers, layer, lambda x: x.changed(**values))
            ),
        )

    def stack(self, figure: str, layer: str, up: bool) -> None:
        """Move a layer above or below its neighbour."""
        self.session.edit("Move a layer", lambda s: stacked(s, figure, layer, up))

    def solo(self, figure: str, layer: str) -> None:
        """Mute all other layers, or unmute them again."""
        self.session.edit("Only this layer", lambda s: alone(s, figure, layer))

    def set_order(self, figure: str, bones: frozenset[str], order: str) -> None:
        """Choose in which order the curves of bones show their rotations; the best one for none of them."""
        chosen = None if order == BEST else order

        def change(s: Scene) -> Scene:
            made = tuple(b.changed(order=chosen) if b.name in bones else b for b in s.figure(figure).bones)
            return edit.figure(s, figure, bones=made)

        self.session.edit("Order of rotation", change)

    def ask_back(self) -> None:
        """Choose a file, and bring its keys back as a layer."""
        kinds = " ".join(f"*{x}" for x in SUFFIXES)
        name, _ = QFileDialog.getOpenFileName(self.desk.stage.window(), "Bring keys back", "", f"Keys ({kinds})")
        if name:
            self.bring_back(Path(name))

    def bring_back(self, path: Path) -> bool:
        """Put the keys of a file onto the present figure, as its topmost layer. False, and a message, if that fails."""
        f, assets = self.session.figure(), self.session.assets
        if f is None:
            return False
        left: list[str] = []

        def change(s: Scene) -> Scene:
            made, missing = bring_back(s, assets, f.id, path)
            left[:] = missing
            return made

        self.shows_take = False
        if not self.session.edit(f"Bring back {path.name}", change):
            return False
        words = f" Not there: {', '.join(left)}." if left else ""
        self.desk.tell(f"The keys of {path.name} are a layer of {f.name}.{words}")
        return True

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
