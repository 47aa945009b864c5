"""What Flesh does with soft parts: makes them of a piece of skin, divides them anew, tunes, copies and removes them."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF

from artuline.core.errors import ArtulineError
from artuline.core.geometry.rotation import Array
from artuline.core.run.prepare import ensure_kernels
from artuline.core.run.softness import Softness, softness
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Scene, Soft
from artuline.core.setup.added import entry_of, inside
from artuline.core.setup.soft import (
    add_soft,
    copied_soft,
    division_of,
    edits_by_hand,
    lost_edits,
    mask,
    remade_soft,
    removed_soft,
    swings,
    whole_soft,
)
from artuline.core.setup.soft_skin import facing_the_rest, region_of_bones, region_piece, skinned
from artuline.core.setup.weights import entry_weights
from artuline.desk.desk import Desk
from artuline.desk.stage.tools import View

USUAL, WITHIN = 16, 0.03  # clusters; metres from the rest of the skin at which a piece is attached to it
GIVES = 0.35  # of what hangs on a figure, which may fall on it
HALF = 0.5  # of a vertex that an added bone carries: from there on it is in the piece


class SoftCommands:
    """``picking``: what the next click or frame on the stage is for: a "piece", a "box", a "root", or nothing."""

    def __init__(self, desk: Desk):
        self.desk, self.session = desk, desk.session
        self.picking = ""
        self._fared: tuple[object, Softness] | None = None

    def part(self) -> Soft | None:
        """The soft part of which a cluster is chosen."""
        f, chosen = self.session.figure(), self.session.chosen()
        if f is None or not chosen:
            return None
        found = {f.soft_of(b) for b in chosen}
        return found.pop() if len(found) == 1 else None

    def why_no_part(self) -> str:
        """Why what needs a soft part cannot be done now."""
        return self.desk.needs("figure")() or ("" if self.part() is not None else "choose a soft part first.")

    def choose(self, f: Figure, soft: Soft) -> None:
        """Take a soft part in hand."""
        self.session.select(f.id, frozenset(soft.clusters))

    def pick(self, what: str) -> None:
        """Let the next click or frame say which skin; again: leave it."""
        self.picking = "" if self.picking == what else what
        words = {
            "piece": "Click a piece of skin that nothing joins to the rest.",
            "box": "Draw a frame around the skin that is to be soft.",
            "root": "Draw a frame around where it is attached.",
        }
        if self.picking:
            self.desk.tell(words[self.picking])
        self.desk.refill.emit(False)

    def leave(self) -> None:
        """Nothing is picked any more."""
        self.picking = ""

    # made

    def whole(self) -> None:
        """Make the whole skin of the figure soft."""
        f = self.session.figure()
        if f is not None and f.asset is not None:
            count = len(self.session.assets[f.asset]["positions"])
            self._make(f, np.ones(count, bool), None)

    def of_bones(self) -> None:
        """Make the skin of the chosen bones soft; of an added bone, what it carries of it."""
        f, assets, chosen = self.session.figure(), self.session.assets, self.session.chosen()
        if f is None or not chosen:
            return
        added = [b for b in chosen if f.bones[f.bone_index[b]].flesh is not None]
        if added:
            mesh = self._mesh(f)
            on = np.sum([entry_weights(mesh, entry_of(f, mesh, b)) for b in added], axis=0) > HALF
        else:
            on = region_of_bones(f, assets, chosen)
        self._make(f, on, None)

    def why_no_bones(self) -> str:
        """Why there is no skin of chosen bones."""
        return self.desk.needs("selection")()

    def clicked(self, at: QPointF, view: View) -> bool:
        """Take the piece under a click."""
        f = self.session.figure()
        if self.picking != "piece" or f is None:
            return False
        origin, way = view.ray(at)
        try:
            place, _ = inside(f, self.session.assets, origin, way / np.linalg.norm(way))
        except ArtulineError as error:
            self.desk.fault(str(error))
            return True
        on = region_piece(f, self.session.assets, place)
        self._make(f, on, WITHIN)
        return True

    def framed(self, box: QRectF, view: View) -> bool:
        """Take what a frame holds, as the skin that is soft, or as where it is attached."""
        f, part, assets = self.session.figure(), self.part(), self.session.assets
        if self.picking not in ("box", "root") or f is None:
            return False
        seen = view.screen(skinned(f, assets).points)
        on = (seen[:, 2] > 0.0) & (seen[:, 0] >= box.left()) & (seen[:, 0] <= box.right())
        on &= (seen[:, 1] >= box.top()) & (seen[:, 1] <= box.bottom())
        if self.picking == "box":
            self._make(f, on, WITHIN)
        elif part is not None:
            self.leave()
            root = on & np.asarray(assets[part.region]["on"], bool)
            if root.any():
                self.change("Attach it", root=mask(assets, root))
            else:
                self.desk.fault("None of its skin is in that frame.")
        return True

    def _mesh(self, f: Figure):  # type: ignore[no-untyped-def]
        from artuline.core.scene.mesh import Mesh

        return self.session.assets.decoded(str(f.asset), Mesh.from_arrays)

    def _make(self, f: Figure, on: np.ndarray, within: float | None) -> None:
        assets, scene = self.session.assets, self.session.scene
        self.leave()
        if not on.any():
            self.desk.fault("There is no skin in that.")
            return
        taken = {s.id for s in f.softs} | set(f.curve_names)
        name = edit.fresh_id("soft", taken)
        hung = bool(f.bodies) and not on.all()

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            ensure_kernels(progress, cancelled)
            root = facing_the_rest(f, assets, on, within) if within is not None and hung else None
            bone = f.bones[int(np.bincount(skinned(f, assets).bone[on]).argmax())].name
            soft = Soft(
                id=name, region=mask(assets, on), root=mask(assets, root) if root is not None else None, bone=bone, count=USUAL,
                gives=GIVES if hung else 1.0, gravity=0.5 if hung else 1.0,
            )  # fmt: skip
            make = whole_soft if on.all() else add_soft
            return make(scene, assets, f.id, soft).figure(f.id)

        self._put("Make a soft part", f, work, name)

    def _put(self, words: str, f: Figure, work, name: str) -> None:  # type: ignore[no-untyped-def]
        """Do long work on a figure beside the window and make it an edit."""

        def then(made: Figure) -> None:
            if next((x for x in self.session.scene.figures if x.id == f.id), None) is not f:
                self.desk.fault(f"{f.name} was edited meanwhile: do it again.")
                return
            if self.session.edit(
                words, lambda s: edit.pruned(s, figures=edit.replace(s.figures, f.id, lambda _: made))
            ):
                soft = next((s for s in made.softs if s.id == name), None)
                if soft is not None:
                    self.choose(made, soft)
                    self.desk.tell(f"{name}: {soft.count} clusters")

        self.desk.start(words, work, then)

    # changed

    def tuned(self, s: Scene, figure: str, id_: str, **values: object) -> Scene:
        """The scene with other numbers of a soft part, which stays divided as it is."""
        part = next(x for x in s.figure(figure).softs if x.id == id_)
        return remade_soft(s, self.session.assets, figure, id_, part.changed(**values))

    def change(self, words: str, **values: object) -> None:
        """Divide the chosen part anew, beside the window; edits by hand that go are named."""
        f, part, assets, scene = self.session.figure(), self.part(), self.session.assets, self.session.scene
        if f is None or part is None or all(getattr(part, n) == v for n, v in values.items()):
            return
        lost = lost_edits(f, assets, part.id, part.changed(**values))

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            return remade_soft(scene, assets, f.id, part.id, part.changed(**values)).figure(f.id)

        self._put(words, f, work, part.id)
        if lost:
            self.desk.tell(
                f"Edited by hand before, and made anew: {', '.join(lost[:4])}{' …' if len(lost) > 4 else ''}"
            )

    def copy(self) -> None:
        """Make the chosen part on the other side too."""
        f, part, assets, scene = self.session.figure(), self.part(), self.session.assets, self.session.scene
        if f is None or part is None:
            return
        made: list[str] = []

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            copied, name = copied_soft(scene, assets, f.id, part.id)
            made.append(name)
            return copied.figure(f.id)

        self._put(f"Copy {part.id} to the other side", f, work, part.id)

    def remove(self) -> None:
        """Take the chosen part away."""
        f, part, assets = self.session.figure(), self.part(), self.session.assets
        if f is not None and part is not None:
            self.session.edit(f"Remove {part.id}", lambda s: removed_soft(s, assets, f.id, part.id))

    # read

    def size(self, f: Figure, part: Soft) -> float:
        """How large its clusters are, m."""
        return float(np.mean(division_of(f, self.session.assets, part).cells.volumes) ** (1.0 / 3.0))

    def volume(self, f: Figure, part: Soft) -> float:
        """Its volume, m^3."""
        return float(division_of(f, self.session.assets, part).cells.volumes.sum())

    def swings(self, f: Figure, part: Soft) -> tuple[float, float]:
        """Its lowest two frequencies, Hz."""
        return swings(f, self.session.assets, part)

    def by_hand(self, f: Figure, part: Soft) -> int:
        """How many of its bodies and joints were edited by hand."""
        return len(edits_by_hand(f, self.session.assets, part.id))

    def fared(self, f: Figure, part: Soft) -> Softness | None:
        """How it fared in the take that is shown; None without one."""
        take, ref = self.session.take(), self.session.scene.active_take()
        if take is None or ref is None or f.id not in take.poses or len(take.poses[f.id].rotation[0]) != len(f.bones):
            return None
        key = ref.id, ref.asset, f.asset, part
        if self._fared is None or self._fared[0] != key:
            self._fared = key, softness(f, self.session.assets, take, part)
        return self._fared[1]

    def outlines(self, f: Figure, part: Soft) -> list[tuple[str, Array]]:
        """The corners (N, 3) of the hull of every cluster, in its bone's frame, m."""
        found = []
        for name in part.clusters:
            body = f.body_of.get(name)
            if body is not None and body.shapes:
                s = body.shapes[0]
                ball = np.concatenate([np.eye(3), -np.eye(3)]) * s.radius
                found.append((name, np.array(s.position) + (np.array(s.points) if s.points else ball)))
        return found
