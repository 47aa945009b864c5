"""The window's commands of Cast, Bodies and Joints, apart from the window itself."""

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from artuline.core.checks.finding import Finding
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.run.measures import shown_places
from artuline.core.run.prepare import ensure_kernels
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.model import Body, Figure, Joint, Scene, Shape
from artuline.core.setup.concave import hull_groups, with_hull_groups
from artuline.core.setup.joints import clip_rotations
from artuline.core.setup.limits import joint_trace
from artuline.core.setup.materials import balance, body_mass, usual_mass
from artuline.core.setup.measure import BodyFit, measure
from artuline.core.setup.mirror import mirror_bodies, mirror_joints, mirror_pairs
from artuline.core.setup.patch_fit import FitChoice
from artuline.core.setup.placing import beside
from artuline.core.setup.ragdoll import (
    add_bodies,
    body_overlaps,
    fit_again,
    remove_bodies,
    set_up,
)
from artuline.core.setup.skin import LEAST_SHARE, cached_skin
from artuline.desk import theme
from artuline.desk.dialogs import BalanceDialog
from artuline.desk.later import Later
from artuline.formats.importing import choose_clip
from artuline.view.drawlist import Rgba
from artuline.view.palette import rgb
from artuline.view.stage import Marks

if TYPE_CHECKING:
    from artuline.desk.details import Details
    from artuline.desk.jobs import Jobs
    from artuline.desk.session import Session
    from artuline.desk.stage import Stage
    from artuline.desk.strip import Strip

HULL_GROUP = "hull group"
#: Parts of a figure from which its bodies are fitted
FITTED_FROM = ("bones", "asset", "unit", "bodies", "joints", "pairs_off", "self_collision", "mirror")
BUSY = "Something is still running: cancel it first."


@dataclass
class FitOptions:
    """How shapes are fitted: kind, share of the skin that a capsule's radius leaves inside, least share of the skin of a body."""

    kind: str = "best"
    radius: float = 0.45
    smallest: float = LEAST_SHARE


class SetupCommands:
    """Mixed into the window, whose parts it uses."""

    session: "Session"
    jobs: "Jobs"
    stage: "Stage"
    strip: "Strip"
    details: "Details"

    if TYPE_CHECKING:
        # of the window
        def set_station(self, name: str) -> None: ...

    def _begin_setup(self) -> None:
        self.both_sides = True
        self.active_shape = 0
        self.fit_options = FitOptions()
        self.copied_body: Body | None = None
        self.copied_joint: Joint | None = None
        self.later = Later()
        self._usual: dict[object, tuple[float, str]] = {}
        self._motion: dict[object, Array] = {}
        self._traces: dict[object, Array] = {}

    # what is shown

    def fits(self, f: Figure) -> list[BodyFit]:
        """How the bodies lie in the skin, the worst first; empty while it is being measured."""
        if f.asset is None or not f.bodies:
            return []
        key = ("fits", f.asset, f.unit, f.position, f.turn, f.bones, f.bodies, f.pairs_off)
        assets = self.session.assets
        found: list[BodyFit] | None = self.later.get(
            key, lambda: measure(f, cached_skin(f, assets), body_overlaps(f)), []
        )
        return found or []

    def usual_mass(self, f: Figure) -> tuple[float, str]:
        """What a figure of this size would weigh, and by what it is judged."""
        key = (f.asset, f.unit, f.bones)
        if key not in self._usual:
            self._usual[key] = usual_mass(f, self.session.assets)
        return self._usual[key]

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
            found = self.later.get(("trace", key), lambda: joint_trace(f, joint, self.motion(f)))
            if found is None:
                return np.zeros((0, 4))
            if len(self._traces) > 64:
                self._traces.clear()
            self._traces[key] = found
        return self._traces[key]

    def make_marks(self) -> Marks:
        """Colours, traces and pairs that the stage draws now."""
        show, palette = self.stage.show_, theme.palette()
        marks = Marks()
        self.stage.legend = None
        live = self.stage.tryout is not None
        if show.shapes and show.mass and not live:
            self._mass_colors(marks)
        elif show.shapes and show.fit and not live:
            teal, brass, crimson = (rgb(c) for c in (palette.teal, palette.brass, palette.crimson))
            for f in self.session.scene.figures:
                for fit in self.fits(f):
                    color = crimson if fit.grade > 0.5 else (brass if fit.grade > 0.25 else teal)
                    marks.shape_colors[f.id, fit.body] = (*color, 0.94)
            words = ((palette.teal, "follows the skin"), (palette.brass, "fair"), (palette.crimson, "look at it"))
            self.stage.legend = "Fit", words
        selection = self.session.selection
        if show.limits and selection.bones:
            for f in self.session.scene.figures:
                if f.id == selection.figure:
                    bone = {b.id: b.bone for b in f.bodies}
                    for j in f.joints:
                        if bone[j.child] in selection.bones:
                            marks.traces[f.id, j.id] = self.trace(f.id, j)
        if self.stage.station in ("Takes", "Curves") and not live:
            self._trails(marks)
        if show.mirror:
            marks.pairs = {f.id: mirror_pairs(f) for f in self.session.scene.figures}
        return marks

    def _trails(self, marks: Marks) -> None:
        """The ways of the chosen bodies in the take, and in the one that it is compared with."""
        take, selection = self.session.take(), self.session.selection
        f = self.session.figure()
        if take is None or f is None or not selection.bones:
            return
        palette = theme.palette()
        other: Take | None = self.other_take()  # type: ignore[attr-defined]
        for shown, color in ((take, palette.vermilion), (other, palette.faint)):
            if shown is None:
                continue
            places, _ = shown_places(self.session.scene, shown)
            for b in f.bodies:
                column = shown.column(f.id, b.id)
                if b.bone in selection.bones and column is not None:
                    marks.trails.append((places[:, column], (*rgb(color), 0.9)))

    def _mass_colors(self, marks: Marks) -> None:
        marks.centres = True
        palette = theme.palette()
        masses = {(f.id, b.id): body_mass(b) for f in self.session.scene.figures for b in f.bodies}
        known = [m for m in masses.values() if m > 0.0]
        if not known:
            return
        low, high = math.log(min(known)), math.log(max(known) * 1.0001)
        light, heavy = np.array(rgb(palette.raised)), np.array(rgb(palette.ink))

        def shade(share: float) -> Rgba:
            r, g, b = light + (heavy - light) * (0.12 + 0.78 * share)
            return float(r), float(g), float(b), 0.94

        for key, mass in masses.items():
            marks.shape_colors[key] = shade((math.log(max(mass, min(known))) - low) / (high - low))
        entries = []
        for share in (1.0, 0.66, 0.33, 0.0):
            r, g, b, _ = shade(share)
            code = "#" + "".join(f"{round(255 * c):02x}" for c in (r, g, b))
            entries.append((code, f"{math.exp(low + share * (high - low)):.2g} kg"))
        self.stage.legend = "Mass", tuple(entries)

    # both sides

    def set_both_sides(self, on: bool) -> None:
        """Whether edits of bodies and joints go to the other side as well."""
        self.both_sides = on

    def mirrored(self, s: Scene, figure: str, ids: set[str]) -> Scene:
        """The scene with bodies carried over to the other side, if that is wanted."""
        return edit.map_figure(s, figure, lambda f: mirror_bodies(f, ids)) if self.both_sides else s

    def mirrored_joints(self, s: Scene, figure: str, ids: set[str]) -> Scene:
        """The same for joints."""
        return edit.map_figure(s, figure, lambda f: mirror_joints(f, ids)) if self.both_sides else s

    # Cast

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

    def remove_figure(self) -> None:
        """Take the present figure out of the scene, with what is tied to it."""
        f = self.session.figure()
        if f is None:
            return

        self.session.edit(f"Remove {f.name}", lambda s: edit.without_figure(s, f.id))

    def choose_clip(self, figure: str, clip: str | None) -> None:
        """Play another clip; says what follows from it."""
        before = self.session.scene
        if not self.session.edit("Choose a clip", lambda s: choose_clip(s, figure, clip)):
            return
        s = self.session.scene
        ref = s.figure(figure).active_clip()
        if (s.rate, s.start, s.end) != (before.rate, before.start, before.end):
            self.strip.tell(
                f"The scene now runs from frame {s.start} to {s.end} at {s.rate:g} per second, as the clip."
            )
        elif ref is not None and abs(ref.rate - s.rate) > 0.01:
            self.strip.tell(f"The clip's {ref.rate:g} frames per second are resampled to the scene's {s.rate:g}.")

    # Bodies

    def choice(self) -> FitChoice:
        """The kind and size of shapes that are fitted."""
        kind = self.fit_options.kind
        return FitChoice("best" if kind == HULL_GROUP else kind, self.fit_options.radius)

    def set_fit_option(self, name: str, value: object) -> None:
        """Change how shapes are fitted from now on."""
        setattr(self.fit_options, name, value)

    def _figure_job(self, words: str, work, tell: str = "", figure: str | None = None, station: str = "") -> None:  # type: ignore[no-untyped-def]
        """Run ``work(figure, progress, cancelled) -> figure`` beside the window and make its bodies and joints an edit. What was edited
        on that figure meanwhile is not overwritten: then the result is dropped, and said so.
        """
        f = self.session.figure() if figure is None else self.session.scene.figure(figure)
        if f is None:
            self.strip.tell("Open a figure first.", fault=True)
            return

        def then(made: Figure) -> None:
            now = next((x for x in self.session.scene.figures if x.id == f.id), None)
            if now is None:
                self.strip.tell(f"{f.name} is not there any more: the fit was dropped.", fault=True)
                return
            if any(getattr(now, n) != getattr(f, n) for n in FITTED_FROM):
                self.strip.tell(f"{f.name} was edited meanwhile: the fit was dropped. Fit it again.", fault=True)
                return
            if self.session.edit(words, lambda s: edit.ragdoll(s, made)):
                if station:
                    self.set_station(station)
                self.strip.tell(tell or f"{len(made.bodies)} bodies and {len(made.joints)} joints on {made.name}")

        def prepared(progress, cancelled) -> Figure:  # type: ignore[no-untyped-def]
            # shapes that overlap are found by the solver
            ensure_kernels(progress, cancelled)
            made: Figure = work(f, progress, cancelled)
            return made

        if not self.jobs.start(words, prepared, then):
            self.strip.tell(BUSY, fault=True)

    def mend(self, finding: Finding) -> None:
        """Mend what a check has found, where that takes long."""
        if finding.work is not None and finding.figure is not None:
            self._figure_job(finding.fix_label, finding.work, figure=finding.figure)

    def set_up(self) -> None:
        """Fit bodies and joints to the present figure."""
        assets, choice, least = self.session.assets, self.choice(), self.fit_options.smallest
        group = self.fit_options.kind == HULL_GROUP

        def work(f: Figure, progress, cancelled) -> Figure:  # type: ignore[no-untyped-def]
            made = set_up(f, assets, choice=choice, least_share=least, progress=progress, cancelled=cancelled)
            if group:
                shapes = hull_groups(made, assets, set(made.body_of), progress, cancelled)
                made = made.changed(bodies=with_hull_groups(made.bodies, shapes))
            # what was shaped by hand stays
            mine = {b.bone: b for b in f.bodies if b.by_hand}
            return made.changed(bodies=tuple(mine.get(b.bone, b) for b in made.bodies)) if mine else made

        self._figure_job("Fit bodies and joints", work, station="Bodies" if self.stage.station == "Cast" else "")

    def _bones(self) -> set[str]:
        f = self.session.figure()
        return set(self.session.selection.bones) if f is not None and self.session.selection.figure == f.id else set()

    def _ids(self, f: Figure) -> set[str]:
        bones = self._bones()
        return {b.id for b in f.bodies if b.bone in bones}

    def _with_twins(self, f: Figure, bones: set[str]) -> set[str]:
        pairs = mirror_pairs(f)
        return bones | {pairs[b] for b in bones if b in pairs} if self.both_sides else bones

    def add_bodies(self) -> None:
        """Give the chosen bones bodies."""
        assets, choice = self.session.assets, self.choice()
        bones = self._bones()
        self._figure_job(
            "Add bodies",
            lambda f, p, c: add_bodies(f, assets, self._with_twins(f, bones - set(f.body_of)), choice, p, c),
        )

    def remove_bodies(self) -> None:
        """Take the chosen bodies away."""
        assets, bones = self.session.assets, self._bones()

        def work(f: Figure, progress, cancelled) -> Figure:  # type: ignore[no-untyped-def]
            gone = {b.id for b in f.bodies if b.bone in self._with_twins(f, bones)}
            return remove_bodies(f, assets, gone)

        self._figure_job("Remove bodies", work)

    def fit_selected(self) -> None:
        """Fit the shapes of the chosen bodies again, with the kind that is set."""
        assets, choice, bones = self.session.assets, self.choice(), self._bones()
        group = self.fit_options.kind == HULL_GROUP

        def work(f: Figure, progress, cancelled) -> Figure:  # type: ignore[no-untyped-def]
            wanted = {b for b in self._with_twins(f, bones) if b in f.body_of}
            if group:
                shapes = hull_groups(f, assets, wanted, progress, cancelled)
                return f.changed(bodies=with_hull_groups(f.bodies, shapes))
            return fit_again(f, assets, wanted, choice, False, progress, cancelled)

        self._figure_job("Fit again", work, "Fitted again")

    def _edit_bodies(self, words: str, change) -> None:  # type: ignore[no-untyped-def]
        f = self.session.figure()
        if f is None:
            return
        ids = self._ids(f)
        if ids:
            self.session.edit(words, lambda s: self.mirrored(edit.bodies(s, f.id, ids, change), f.id, ids))

    def add_shape(self) -> None:
        """Another shape for the chosen bodies, beside the first."""

        def more(b: Body) -> Body:
            first = b.shapes[0] if b.shapes else Shape(kind="sphere", radius=0.05)
            x, y, z = first.position
            step = max(first.radius, *first.half, 0.02)
            new = Shape(kind="sphere", radius=0.7 * step, position=(x, y + step, z))
            return b.changed(shapes=(*b.shapes, new), by_hand=True)

        self._edit_bodies("Add a shape", more)
        f = self.session.figure()
        if f is not None:
            self.active_shape = max((len(b.shapes) for b in f.bodies if b.bone in self._bones()), default=1) - 1
        self.details.rebuild()
        self.stage.refresh()

    def choose_shape(self, index: int) -> None:
        """Which shape of the body has the handles."""
        self.active_shape = index
        self.details.rebuild()
        self.stage.refresh()

    def remove_shape(self) -> None:
        """Take the shape in hand away."""
        k = self.active_shape

        def less(b: Body) -> Body:
            return b.changed(shapes=(*b.shapes[:k], *b.shapes[k + 1 :]), by_hand=True) if k < len(b.shapes) else b

        self.active_shape = 0
        self._edit_bodies("Remove a shape", less)

    def grow_shapes(self, share: float) -> None:
        """Scale all shapes of the chosen bodies about their middles."""

        def grow(b: Body) -> Body:
            shapes = tuple(
                s.changed(
                    radius=s.radius * share,
                    half_length=s.half_length * share,
                    half=tuple(h * share for h in s.half),
                    points=tuple(tuple(c * share for c in p) for p in s.points),
                )
                for s in b.shapes
            )
            return b.changed(shapes=shapes, by_hand=True)

        self._edit_bodies("Scale the shapes", grow)

    def snap_shape(self) -> None:
        """Lay the shape in hand along its bone: from the bone's origin to its child's."""
        f = self.session.figure()
        if f is None:
            return
        p, q = rigid(rest_matrices(f))

        def snap(b: Body) -> Body:
            i = f.bone_index[b.bone]
            below = [k for k, x in enumerate(f.bones) if x.parent == b.bone and x.deforms]
            if not below or not b.shapes:
                return b
            end = rotation.rotate(rotation.conjugate(q[i]), p[below].mean(axis=0) - p[i])
            length = float(np.linalg.norm(end))
            if length < 1e-6:
                return b
            k = min(self.active_shape, len(b.shapes) - 1)
            turn = rotation.align(np.array([1.0, 0.0, 0.0]), end / length)
            shape = b.shapes[k].changed(position=tuple(0.5 * end), rotation=tuple(turn))
            if shape.kind == "capsule":
                shape = shape.changed(half_length=max(0.5 * length - shape.radius, 1e-3))
            return b.changed(shapes=(*b.shapes[:k], shape, *b.shapes[k + 1 :]), by_hand=True)

        self._edit_bodies("Lay the shape along the bone", snap)

    def centre_shape(self) -> None:
        """Put the shape in hand into the middle of its bone's skin."""
        f = self.session.figure()
        if f is None or f.asset is None:
            return
        skin = cached_skin(f, self.session.assets)
        owner = skin.mesh.bone_weights(len(f.bones)).argmax(axis=1)
        p, q = rigid(rest_matrices(f))

        def centre(b: Body) -> Body:
            i = f.bone_index[b.bone]
            mine = skin.points[(owner == i) & skin.exposed]
            if not len(mine) or not b.shapes:
                return b
            middle = 0.5 * (mine.min(axis=0) + mine.max(axis=0))
            k = min(self.active_shape, len(b.shapes) - 1)
            place = rotation.rotate(rotation.conjugate(q[i]), middle - p[i])
            shape = b.shapes[k].changed(position=tuple(place))
            return b.changed(shapes=(*b.shapes[:k], shape, *b.shapes[k + 1 :]), by_hand=True)

        self._edit_bodies("Put the shape into the skin", centre)

    def copy_body(self) -> None:
        """Remember the first chosen body's shapes and values."""
        f = self.session.figure()
        chosen = [b for b in f.bodies if b.bone in self._bones()] if f is not None else []
        if chosen:
            self.copied_body = chosen[0]
            self.strip.tell(f"Copied {chosen[0].bone}")

    def paste_values(self) -> None:
        """Give the chosen bodies the copied density or mass, friction, bounce and drag."""
        source = self.copied_body
        if source is None:
            self.strip.tell("Copy a body first.", fault=True)
            return
        fields = ("density", "mass", "friction", "restitution", "drag", "spin_drag")
        values = {n: getattr(source, n) for n in fields}
        self._edit_bodies("Paste values", lambda b: b.changed(**values))

    def paste_shape(self) -> None:
        """Give the chosen bodies the copied shapes."""
        source = self.copied_body
        if source is None:
            self.strip.tell("Copy a body first.", fault=True)
            return
        self._edit_bodies("Paste shape", lambda b: b.changed(shapes=source.shapes, by_hand=True))

    def mirror_selected(self) -> None:
        """Carry what is chosen over to the other side."""
        f = self.session.figure()
        if f is not None:
            ids = self._ids(f)
            self.session.edit("To the other side", lambda s: edit.map_figure(s, f.id, lambda g: mirror_bodies(g, ids)))

    def ask_balance(self) -> None:
        """Choose a total mass and spread it."""
        f = self.session.figure()
        if f is None or not f.bodies:
            return
        usual, what = self.usual_mass(f)
        dialog = BalanceDialog(self.stage.window(), sum(body_mass(b) for b in f.bodies), usual, what)
        if dialog.exec():
            self.balance(dialog.total())

    def balance(self, total: float) -> None:
        """Spread a total mass over the bodies of the present figure."""
        f = self.session.figure()
        if f is None:
            return
        bodies, how = balance(f, total)
        if self.session.edit("Balance the masses", lambda s: edit.figure(s, f.id, bodies=bodies)):
            self.strip.tell(f"{total:.1f} kg spread {how}")
