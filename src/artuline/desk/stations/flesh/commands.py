"""What Flesh does: adds bones, changes how they reach, paints their weights, makes them springy, looks at them under clips."""

import numpy as np
from PySide6.QtCore import QPointF, QTimer

from artuline.core.geometry.rotation import Array
from artuline.core.run.prepare import ensure_kernels
from artuline.core.run.record import run
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Bone, Figure, Flesh, Scene
from artuline.core.setup.added import entry_of, evened, grown, influenced, inside, regrown, removed, renamed, twin_of
from artuline.core.setup.mirror import mirror_plane
from artuline.core.setup.springy import KINDS, kind_of, made_springy, tuned, wobble_scene
from artuline.core.setup.weights import entry_weights
from artuline.desk.desk import Desk
from artuline.desk.stage.tools import View

BRUSHES = ("add", "take", "smooth", "value")


class Commands:
    """``adding``: whether the next click on the skin adds a bone; ``brush``: the brush in hand, empty for none; ``both``: on both sides alike."""

    def __init__(self, desk: Desk):
        self.desk, self.session = desk, desk.session
        self.adding, self.both, self.brush = False, True, ""
        self.radius, self.strength, self.value = 0.06, 0.3, 1.0
        self.kind = KINDS[0].name
        #: The clips that the wobble plays under, with their takes; which plays, and its row.
        self.played: list[tuple[str, Take]] = []
        self._at = 0, 0
        self._of: Figure | None = None
        self.session.scene_changed.connect(self._edited)
        self._clock = QTimer(desk.stage)
        self._clock.timeout.connect(self._tick)
        self.session.leaving.connect(self._leave)
        self.session.selection_changed.connect(self._chosen)

    def _leave(self) -> None:
        self.adding, self.brush = False, ""
        self.stop()

    def _chosen(self) -> None:
        if self.bone() is None:
            self.brush = ""

    # what is in hand

    def bone(self) -> Bone | None:
        """The added bone that is chosen."""
        f, chosen = self.session.figure(), self.session.chosen()
        if f is None or len(chosen) != 1:
            return None
        bone = f.bones[f.bone_index[next(iter(chosen))]]
        return bone if bone.flesh is not None else None

    def twin(self, f: Figure, bone: str) -> str | None:
        """The added bone on the other side, if what is done goes there too."""
        return twin_of(f, bone) if self.both else None

    def why_no_bone(self) -> str:
        """Why what needs an added bone cannot be done now."""
        return self.desk.needs("figure")() or ("" if self.bone() is not None else "choose an added bone first.")

    # bones

    def begin(self) -> None:
        """Let the next click on the skin add a bone; again: leave it."""
        self.adding, self.brush = not self.adding, ""
        if self.adding:
            self.desk.tell("Click the skin where flesh should move.")
        self.desk.refill.emit(False)

    def click(self, at: QPointF, view: View) -> bool:
        """Add a bone where the skin was clicked. False if none is to be added."""
        f, assets = self.session.figure(), self.session.assets
        if not self.adding or f is None:
            return False
        origin, way = view.ray(at)
        name = edit.fresh_id("flesh", set(f.curve_names))

        def change(s: Scene) -> Scene:
            now = s.figure(f.id)
            skin, middle = inside(now, assets, origin, way / np.linalg.norm(way))
            # it ends under the skin that was clicked
            return grown(s, assets, f.id, name, middle, middle + 0.85 * (skin - middle), both=self.both)

        if self.session.edit("Add a bone", change):
            self.adding = False
            new = next(b.name for b in self.session.scene.figure(f.id).bones if b.name not in f.bone_index)
            self.session.select(f.id, frozenset({new}))
        return True

    def moved(self, figure: str, bone: str, start: Array | None, end: Array | None):  # type: ignore[no-untyped-def]
        """The change that moves a bone's beginning or end, m, and its twin's alike."""
        assets = self.session.assets
        both = [bone, *filter(None, [self.twin(self.session.scene.figure(figure), bone)])]

        def change(s: Scene) -> Scene:
            for k, name in enumerate(both):
                ends = [self._across(s.figure(figure), x) if k and x is not None else x for x in (start, end)]
                s = regrown(s, assets, figure, name, start=ends[0], end=ends[1])
            return evened(s, assets, figure, tuple(both)) if len(both) > 1 else s

        return change

    def _across(self, f: Figure, place: Array) -> Array:
        return mirror_plane(f).points(np.array(place))

    def reach(self, s: Scene, figure: str, bone: str, **values: object) -> Scene:
        """The scene with an added bone that reaches otherwise, and its twin too."""
        f = s.figure(figure)
        for name in (bone, self.twin(f, bone)):
            if name is not None:
                flesh = s.figure(figure).bones[f.bone_index[name]].flesh
                assert isinstance(flesh, Flesh)
                s = regrown(s, self.session.assets, figure, name, flesh=flesh.changed(**values))
        twin = self.twin(f, bone)
        return evened(s, self.session.assets, figure, (bone, twin)) if twin is not None else s

    def rename(self, name: str) -> None:
        """Call the chosen bone otherwise."""
        f, bone, assets = self.session.figure(), self.bone(), self.session.assets
        if f is None or bone is None or name == bone.name:
            return
        if self.session.edit(f"Name {name}", lambda s: renamed(s, assets, f.id, bone.name, name.strip())):
            self.session.select(f.id, frozenset({name.strip()}))

    def remove(self) -> None:
        """Remove the chosen bone, and its twin."""
        f, bone, assets = self.session.figure(), self.bone(), self.session.assets
        if f is None or bone is None:
            return
        both = [bone.name, *filter(None, [self.twin(f, bone.name)])]

        def change(s: Scene) -> Scene:
            for name in both:
                s = removed(s, assets, f.id, name)
            return s

        self.session.edit(f"Remove {bone.name}", change)

    def influences(self, most: int) -> None:
        """Let a vertex have at most four or eight bones."""
        f, assets = self.session.figure(), self.session.assets
        if f is not None and f.influences != most:
            self.session.edit(
                f"At most {most} bones a vertex", lambda s: influenced(s, assets, f.id, 8 if most == 8 else 4)
            )

    # painting

    def take_brush(self, brush: str) -> None:
        """Take a brush in hand, or lay it down again."""
        self.brush, self.adding = ("" if self.brush == brush else brush), False
        self.desk.refill.emit(False)
        self.desk.stage.refresh()

    def shares(self, f: Figure, bone: str) -> Array:
        """What an added bone has of every vertex (V,)."""
        mesh = self.session.assets.decoded(str(f.asset), Mesh.from_arrays)
        return entry_weights(mesh, entry_of(f, mesh, bone))

    def painted(self, figure: str, shares: dict[str, Array]):  # type: ignore[no-untyped-def]
        """The change that gives bones shares of the vertices."""
        assets = self.session.assets

        def change(s: Scene) -> Scene:
            for name, share in shares.items():
                s = regrown(s, assets, figure, name, share=share)
            return s

        return change

    # wobble

    def make_springy(self) -> None:
        """Give the chosen bone a body that springs back, and its twin."""
        f, bone, assets, kind = self.session.figure(), self.bone(), self.session.assets, kind_of(self.kind)
        if f is None or bone is None:
            return
        both = [bone.name, *filter(None, [self.twin(f, bone.name)])]

        def change(s: Scene) -> Scene:
            for name in both:
                s = made_springy(s, assets, f.id, name, kind)
            return s

        if self.session.edit(f"Make {bone.name} springy", change):
            self.desk.tell(f"{bone.name} wobbles like {kind.name}. Look at it under a clip.")

    def tune(
        self, s: Scene, figure: str, bone: str, frequency: float, ratio: float, reach: float, swing: float
    ) -> Scene:
        """The scene with the springs of a bone, and of its twin, set anew."""
        f = s.figure(figure)
        for name in (bone, self.twin(f, bone)):
            if name is not None and name in f.body_of:
                f = tuned(f, name, frequency, ratio, reach, swing)
        return edit.scene(s, figures=tuple(f if x.id == figure else x for x in s.figures))

    def heavy(self, s: Scene, figure: str, bone: str, gravity: float) -> Scene:
        """The scene in which the flesh of a bone, and of its twin, feels a share of gravity."""
        f = s.figure(figure)
        names = {bone, self.twin(f, bone)}
        groups = tuple(
            g.changed(spring=g.spring.changed(gravity=gravity))
            if g.spring is not None and len(g.bones) == 1 and g.bones[0] in names
            else g
            for g in f.groups
        )
        return edit.figure(s, figure, groups=groups)

    # under clips

    def look(self, clips: tuple[str, ...]) -> None:
        """Simulate the wobble alone under some clips, beside the window, and play them one after the other."""
        f, scene, assets = self.session.figure(), self.session.scene, self.session.assets
        if f is None:
            return
        self.stop()

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            ensure_kernels(progress, cancelled)
            found = []
            for k, clip in enumerate(clips):
                progress(k, len(clips))
                alone = wobble_scene(scene, f.id, clip)
                found.append((clip, run(alone, assets, cancelled=cancelled)))
            return found

        def then(found: list[tuple[str, Take]]) -> None:
            if self._now(f.id) != f:
                self.look(clips)  # it was changed meanwhile
                return
            self.played, self._at, self._of = found, (0, 0), f
            self._clock.start(round(1000.0 / self.session.scene.rate))
            self.desk.refill.emit(False)

        self.desk.start("Wobbling", work, then)

    def _now(self, figure: str) -> Figure | None:
        return next((x for x in self.session.scene.figures if x.id == figure), None)

    def _edited(self) -> None:
        """What plays is by the numbers that are shown: it is made anew when they change."""
        if not self.played or self._of is None:
            return
        now = self._now(self._of.id)
        if now != self._of:
            clips = tuple(clip for clip, _ in self.played)
            self.stop()
            if now is not None and set(clips) <= {c.name for c in now.clips}:
                self.look(clips)

    def _tick(self) -> None:
        k, row = self._at
        _, take = self.played[k]
        poses = {name: pose.rows(slice(row, row + 1)) for name, pose in take.poses.items()}
        self.desk.stage.show_running((int(take.frames[row]), poses))
        row += 1
        if row >= len(take.frames):
            k, row = (k + 1) % len(self.played), 0
        if k != self._at[0]:
            self._at = k, row
            self.desk.refill.emit(False)
        self._at = k, row

    @property
    def playing(self) -> str:
        """The clip under which the wobble plays; empty for none."""
        return self.played[self._at[0]][0] if self.played else ""

    def stop(self) -> None:
        """Show the figure as it was made again."""
        if self.played:
            self._clock.stop()
            self.played, self._at = [], (0, 0)
            self.desk.stage.show_running(None)
            self.desk.refill.emit(False)
