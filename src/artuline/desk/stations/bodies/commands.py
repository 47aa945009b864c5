"""What Bodies does: fits shapes, edits them, carries them over, spreads masses."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene import edit
from artuline.core.scene.model import Body, Figure, Shape
from artuline.core.setup.concave import hull_groups, with_hull_groups
from artuline.core.setup.coverage import LEAST_SHARE, left_out
from artuline.core.setup.materials import balance, body_mass, usual_mass
from artuline.core.setup.measure import BodyFit, measure
from artuline.core.setup.mirror import mirror_bodies
from artuline.core.setup.overlaps import body_overlaps
from artuline.core.setup.patch_fit import FitChoice
from artuline.core.setup.ragdoll import fit_again, remove_bodies, set_up
from artuline.core.setup.skin import Skin, cached_skin
from artuline.desk.bare_bones import give_bodies, left_out_words
from artuline.desk.desk import Desk
from artuline.desk.figure_jobs import figure_job
from artuline.desk.stations.bodies.balance import BalanceDialog

HULL_GROUP = "hull group"


@dataclass
class FitOptions:
    """How shapes are fitted: kind, share of the skin that a capsule's radius leaves inside, least share of the skin of a body."""

    kind: str = "best"
    radius: float = 0.45
    smallest: float = LEAST_SHARE


class Commands:
    """Edits of the bodies that are chosen, and what is remembered between them."""

    def __init__(self, desk: Desk):
        self.desk, self.session, self.stage = desk, desk.session, desk.stage
        self.active_shape = 0
        self.fit_options = FitOptions()
        self.copied: Body | None = None
        self._usual: dict[object, tuple[float, str]] = {}
        self.session.selection_changed.connect(self._first_shape)

    def _first_shape(self) -> None:
        self.active_shape = 0

    def fits(self, f: Figure) -> list[BodyFit]:
        """How the bodies lie in the skin, the worst first; empty while it is being measured."""
        if f.asset is None or not f.bodies:
            return []
        key = ("fits", f.asset, f.unit, f.position, f.turn, f.bones, f.bodies, f.pairs_off)
        assets = self.session.assets
        found: list[BodyFit] | None = self.desk.later.get(
            key, lambda: measure(f, cached_skin(f, assets), body_overlaps(f)), []
        )
        return found or []

    def usual_mass(self, f: Figure) -> tuple[float, str]:
        """What a figure of this size would weigh, and by what it is judged."""
        key = (f.asset, f.unit, f.bones)
        if key not in self._usual:
            self._usual[key] = usual_mass(f, self.session.assets)
        return self._usual[key]

    # fitting

    def choice(self) -> FitChoice:
        """The kind and size of shapes that are fitted."""
        kind = self.fit_options.kind
        return FitChoice("best" if kind == HULL_GROUP else kind, self.fit_options.radius)

    def set_fit_option(self, name: str, value: object) -> None:
        """Change how shapes are fitted from now on."""
        setattr(self.fit_options, name, value)

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

        def said(made: Figure) -> str:
            words = f"{len(made.bodies)} bodies and {len(made.joints)} joints on {made.name}."
            found = left_out(made, cached_skin(made, assets).share)
            return f"{words} {left_out_words(found)}" if found else words

        figure_job(self.desk, "Fit bodies and joints", work, said, station="Bodies")

    def _bones(self) -> set[str]:
        return set(self.session.chosen())

    def _ids(self, f: Figure) -> set[str]:
        bones = self._bones()
        return {b.id for b in f.bodies if b.bone in bones}

    def add_bodies(self) -> None:
        """Give the chosen bones bodies."""
        give_bodies(self.desk, self._bones(), self.choice())

    def remove_bodies(self) -> None:
        """Take the chosen bodies away."""
        assets, bones = self.session.assets, self._bones()

        def work(f: Figure, progress, cancelled) -> Figure:  # type: ignore[no-untyped-def]
            gone = {b.id for b in f.bodies if b.bone in self.desk.sides.bones(f, bones)}
            return remove_bodies(f, assets, gone)

        figure_job(self.desk, "Remove bodies", work)

    def fit_selected(self) -> None:
        """Fit the shapes of the chosen bodies again, with the kind that is set."""
        assets, choice, bones = self.session.assets, self.choice(), self._bones()
        group = self.fit_options.kind == HULL_GROUP

        def work(f: Figure, progress, cancelled) -> Figure:  # type: ignore[no-untyped-def]
            wanted = {b for b in self.desk.sides.bones(f, bones) if b in f.body_of}
            if group:
                shapes = hull_groups(f, assets, wanted, progress, cancelled)
                return f.changed(bodies=with_hull_groups(f.bodies, shapes))
            return fit_again(f, assets, wanted, choice, False, progress, cancelled)

        figure_job(self.desk, "Fit again", work, "Fitted again")

    def _edit_bodies(self, words: str, change: Callable[[Body], Body]) -> None:
        f = self.session.figure()
        if f is None:
            return
        ids = self._ids(f)
        if ids:
            self.session.edit(words, lambda s: self.desk.sides.bodies(edit.bodies(s, f.id, ids, change), f.id, ids))

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
        self.desk.refill.emit(False)
        self.stage.refresh()

    def choose_shape(self, index: int) -> None:
        """Which shape of the body has the handles."""
        self.active_shape = index
        self.desk.refill.emit(False)
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
        assets, bones, k, both = self.session.assets, self._bones(), self.active_shape, self.desk.sides.both

        def work(f: Figure, progress, cancelled) -> Figure:  # type: ignore[no-untyped-def]
            if f.asset is None:
                return f
            made = f.changed(
                bodies=tuple(_centred(f, b, cached_skin(f, assets), k) if b.bone in bones else b for b in f.bodies)
            )
            return mirror_bodies(made, {b.id for b in f.bodies if b.bone in bones}) if both else made

        figure_job(self.desk, "Put the shape into the skin", work, "Put into the middle of its skin")

    def copy_body(self) -> None:
        """Remember the first chosen body's shapes and values."""
        f = self.session.figure()
        chosen = [b for b in f.bodies if b.bone in self._bones()] if f is not None else []
        if chosen:
            self.copied = chosen[0]
            self.desk.tell(f"Copied {chosen[0].bone}")

    def paste_values(self) -> None:
        """Give the chosen bodies the copied density or mass, friction, bounce and drag."""
        source = self.copied
        if source is None:
            self.desk.fault("Copy a body first.")
            return
        fields = ("density", "mass", "friction", "rolling", "restitution", "drag", "spin_drag", "drag_coefficient")
        values = {n: getattr(source, n) for n in fields}
        self._edit_bodies("Paste values", lambda b: b.changed(**values))

    def paste_shape(self) -> None:
        """Give the chosen bodies the copied shapes."""
        source = self.copied
        if source is None:
            self.desk.fault("Copy a body first.")
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
            self.desk.tell(f"{total:.1f} kg spread {how}")


def _centred(f: Figure, body: Body, skin: Skin, k: int) -> Body:
    """A body with one of its shapes in the middle of its bone's skin."""
    i = f.bone_index[body.bone]
    owner = skin.mesh.bone_weights(len(f.bones)).argmax(axis=1)
    mine = skin.points[(owner == i) & skin.exposed]
    if not len(mine) or not body.shapes:
        return body
    p, q = rigid(rest_matrices(f))
    middle = 0.5 * (mine.min(axis=0) + mine.max(axis=0))
    k = min(k, len(body.shapes) - 1)
    place = rotation.rotate(rotation.conjugate(q[i]), middle - p[i])
    shape = body.shapes[k].changed(position=tuple(place))
    return body.changed(shapes=(*body.shapes[:k], shape, *body.shapes[k + 1 :]), by_hand=True)
