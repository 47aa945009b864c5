"""What Strands does: draws, makes anew, holds, hangs and releases ropes, cables, tails and beads."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QMessageBox

from artuline.core.checks.strands import on_skin
from artuline.core.geometry.rotation import Array
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Scene, Strand, StrandPoint
from artuline.core.setup import strand as strands
from artuline.core.setup.strand_kinds import READY, along_bones, nearest_bone, ready, released, ring_around
from artuline.desk.desk import Desk
from artuline.desk.stage.tools import View
from artuline.view.picking import surface_at

Hit = tuple[str, str, Array]
#: The points that were clicked so far, and what each was clicked on.
Drawn = list[tuple[Array, tuple[str, str] | None]]
RING_GAP = 1.3  # radii that a ring lies off the skin


class Commands:
    """Edits of strands."""

    def __init__(self, desk: Desk):
        self.desk, self.session, self.stage = desk, desk.session, desk.stage
        self.kind = "rope"
        #: What is being drawn; None while nothing is.
        self.drawn: Drawn | None = None
        #: The point in hand, of the strand in hand.
        self.point = -1
        #: How many are released, from which frame on, how many frames apart, how far scattered, and by which seed.
        self.release = [10.0, 0.0, 12.0, 0.1, 1.0]
        self._last = ""

    # what is in hand

    def all(self) -> list[Figure]:
        """All strands of the scene."""
        return [f for f in self.session.scene.figures if f.made is not None]

    def figure(self) -> Figure | None:
        """The strand in hand: the chosen one, else the one that was."""
        found = self.all()
        for wanted in (self.session.selection.figure, self._last):
            f = next((f for f in found if f.id == wanted), None)
            if f is not None:
                if f.id != self._last:
                    self._last, self.point = f.id, -1
                return f
        return None

    def strand(self) -> Strand | None:
        """Its recipe."""
        f = self.figure()
        return f.made if f is not None else None

    def take(self, figure: str, point: int = -1) -> None:
        """Take a strand in hand, or one of its points."""
        self._last, self.point = figure, point
        self.session.select(figure, frozenset())
        self.desk.refill.emit(False)
        self.stage.refresh()

    def chosen_bone(self) -> tuple[str, str] | None:
        """The one bone of another figure that is chosen."""
        s = self.session.selection
        f = next((x for x in self.session.scene.figures if x.id == s.figure and x.made is None), None)
        return (f.id, next(iter(s.bones))) if f is not None and len(s.bones) == 1 else None

    def frame(self) -> float:
        """The present frame."""
        return float(round(self.session.frame))

    # drawing

    def _changed(self) -> None:
        """What is drawn is another: show that, and what can be done with it."""
        self.desk.refill.emit(False)
        self.desk.actions.refresh()
        self.stage.refresh()

    def begin(self) -> None:
        """Begin to draw a strand by clicking its points."""
        self.desk.go("Strands")
        self.drawn = []
        self.desk.tell("Click where it runs: on a figure, a thing, an obstacle, or in space. Return ends it.")
        self._changed()
        self.stage.setFocus()

    def why_no_end(self) -> str:
        """Why what is drawn cannot be ended."""
        if self.drawn is None:
            return "begin to draw a strand first."
        return "" if len(self.drawn) > 1 else "click two points or more."

    def cancel(self) -> None:
        """Give up what is drawn."""
        self.drawn = None
        self._changed()

    def take_back(self) -> None:
        """Take the last point that was clicked away."""
        if self.drawn:
            self.drawn.pop()
            self._changed()

    def click(self, at: QPointF, view: View, hit: Hit | None) -> bool:
        """Add a point to what is drawn. False if nothing is."""
        if self.drawn is None:
            return False
        self.drawn.append(self._place(at, view, hit))
        self._changed()
        return True

    def _place(self, at: QPointF, view: View, hit: Hit | None) -> tuple[Array, tuple[str, str] | None]:
        """Where a click is, and on what: on the skin, else on a body, else on the ground, else as far away as the point before."""
        origin, way = view.ray(at)
        if hit is not None:
            scene = self.session.scene
            index = next(i for i, f in enumerate(scene.figures) if f.id == hit[0])
            skin = surface_at(scene.figures[index], self.session.assets, view.states[index], origin, way)
            place = origin + skin * way if skin is not None else np.asarray(hit[2])
            # on top of it, not in it
            return place - 1.2 * self._radius() * way, (hit[0], hit[1])
        ground = self.session.scene.ground
        if ground is not None and way[1] < -1e-3:
            t = (ground.height + self._radius() - origin[1]) / way[1]
            if 0.0 < t < 60.0 and not self.drawn:
                return origin + t * way, None
        through = self.drawn[-1][0] if self.drawn else view.camera.target
        toward = view.camera.axes()[2]
        t = float((np.asarray(through) - origin) @ toward / (way @ toward))
        place = origin + max(t, 0.1) * way
        if ground is not None:
            place[1] = max(place[1], ground.height + self._radius())
        return place, None

    def _radius(self) -> float:
        return float(READY[self.kind][1]["radius"])

    def end(self, closed: bool = False) -> None:
        """Make a strand of the points that were clicked: its ends are held by what they were clicked on."""
        why = self.why_no_end()
        if why:
            self.desk.fault(f"Not now: {why}")
            return
        assert self.drawn is not None
        last = len(self.drawn) - 1
        tail = self.kind == "tail"
        points = tuple(
            strands.point_at(p, on if k == 0 or (k == last and not tail) else None)
            for k, (p, on) in enumerate(self.drawn)
        )
        if self._add(points, closed=closed):
            self.drawn = None
        self._changed()

    def _add(self, points: tuple[StrandPoint, ...], about: str = "", **values: object) -> bool:
        made = [""]

        on = (
            {about}
            | {p.figure for p in points if p.hold == "mounted"}
            | {o[0] for _, o in self.drawn or () if o is not None}
        )

        def change(s: Scene) -> Scene:
            recipe = ready(self.kind, points, self.frame(), **values)
            recipe = ready(self.kind, on_skin(s, self.session.assets, recipe).points, self.frame(), **values)
            new, made[0] = strands.add_strand(s, self.session.assets, recipe)
            # what it was drawn on is touched as one sees it
            for f in self.skins():
                if f.id in on and f.bodies and not f.skin:
                    new = edit.figure(new, f.id, skin=True)
            return new

        if not self.session.edit(f"Draw a {self.kind}", change):
            return False
        self.desk.go("Strands")
        self.take(made[0])
        f = self.session.scene.figure(made[0])
        held = sum(p.hold != "free" for p in points)
        self.desk.tell(
            f"{f.name}: {len(f.bones)} parts, held at {held} point{'' if held == 1 else 's'}. Next: run it (F5), or let go (T)."
        )
        return True

    def ring(self) -> None:
        """A closed strand around the chosen bone."""
        found = self.chosen_bone()
        if found is None:
            self.desk.fault(f"First {self.why_no_bone()}")
            return
        scene = self.session.scene
        gap = RING_GAP * self._radius()
        try:
            points = ring_around(scene, self.session.assets, scene.figure(found[0]), found[1], self.frame(), gap)
        except ValueError as error:
            self.desk.fault(str(error))
            return
        self._add(points, found[0], closed=True)

    def why_no_bone(self) -> str:
        """Why no ring can be made."""
        return "" if self.chosen_bone() is not None else "click the bone that it goes around."

    def along(self) -> None:
        """A strand along the chosen bones, its first part on the bone above."""
        s = self.session.selection
        f = next((x for x in self.session.scene.figures if x.id == s.figure), None)
        if f is None or f.made is not None or len(s.bones) < 2:
            self.desk.fault(f"First {self.why_no_chain()}")
            return
        try:
            points = along_bones(self.session.scene, self.session.assets, f, sorted(s.bones), self.frame())
        except ValueError as error:
            self.desk.fault(str(error))
            return
        self._add(points)

    def why_no_chain(self) -> str:
        """Why none can be made along bones."""
        s = self.session.selection
        return "" if s.figure is not None and len(s.bones) > 1 else "choose two bones or more that it runs along."

    # the recipe

    def remade(self, s: Scene, figure: str, **values: object) -> Scene:
        """The scene with a strand made anew."""
        recipe = s.figure(figure).made
        assert recipe is not None
        return strands.remade(s, self.session.assets, figure, recipe.changed(**values))

    def change(self, words: str, **values: object) -> None:
        """Make the strand in hand anew, unless edits by hand would go that are wanted."""
        f = self.figure()
        if f is None or f.made is None:
            return
        try:
            lost = strands.lost_edits(self.session.scene, f.id, f.made.changed(**values))
        except ValueError:
            lost = []
        if lost and not self._give_up(lost):
            self.desk.refill.emit(False)
            return
        self.session.edit(words, lambda s: self.remade(s, f.id, **values))

    def _give_up(self, lost: list[str]) -> bool:
        """Ask whether edits by hand may go with their parts."""
        names = ", ".join(lost[:4]) + (f" and {len(lost) - 4} more" if len(lost) > 4 else "")
        return QMessageBox.question(
            self.stage.window(), "Changed by hand", f"{names} was changed by hand, and goes with parts that are no longer there.\n\nMake it anew?",
        ) == QMessageBox.StandardButton.Yes  # fmt: skip

    def change_point(self, k: int, words: str = "Hold a point", **values: object) -> None:
        """Change a point of the strand in hand."""
        recipe = self.strand()
        if recipe is not None:
            points = tuple(p.changed(**values) if i == k else p for i, p in enumerate(recipe.points))
            self.change(words, points=points)

    def hold(self, k: int, how: str) -> None:
        """Hold a point by nothing, by the world, or by the nearest bone."""
        recipe, f = self.strand(), self.figure()
        if recipe is None or f is None:
            return
        if how in ("free", "pinned"):
            self.change_point(k, hold=how, figure="", bone="")
            return
        at = np.array(recipe.points[k].position)
        found = nearest_bone(self.session.scene, self.session.assets, at, recipe.frame, f.id)
        if found is None:
            self.desk.fault("There is no figure with bodies that could hold it: fit bodies to one first.")
            return
        self.change_point(k, hold="mounted", figure=found[0], bone=found[1])

    def hold_by_chosen(self) -> None:
        """Let the chosen bone hold the point in hand."""
        found = self.chosen_bone()
        if found is not None and self.point >= 0:
            self.change_point(self.point, hold="mounted", figure=found[0], bone=found[1])

    def remove_point(self) -> None:
        """Take the point in hand out of the recipe."""
        recipe = self.strand()
        if recipe is None or not 0 <= self.point < len(recipe.points):
            return
        if len(recipe.points) <= 2 + recipe.closed:
            self.desk.fault("It needs the points that are left.")
            return
        k, self.point = self.point, -1
        self.change("Remove a point", points=tuple(p for i, p in enumerate(recipe.points) if i != k))

    def add_point(self) -> None:
        """A point more, behind the one in hand."""
        recipe = self.strand()
        if recipe is None:
            return
        k = max(self.point, 0)
        n = (k + 1) % len(recipe.points)
        if n == 0 and not recipe.closed:
            k, n = k - 1, k
        a, b = (np.array(recipe.points[i].position) for i in (k, n))
        new = StrandPoint(position=tuple(0.5 * (a + b)))
        self.point = k + 1
        self.change("Add a point", points=(*recipe.points[: k + 1], new, *recipe.points[k + 1 :]))

    def go_to_drawn(self) -> None:
        """Go to the frame at which the strand in hand was drawn."""
        recipe = self.strand()
        if recipe is not None:
            self.session.set_frame(recipe.frame)

    def remove(self) -> None:
        """Take the strand in hand away."""
        f = self.figure()
        if f is not None:
            self.session.edit(f"Remove {f.name}", lambda s: edit.without_figure(s, f.id))

    def release_now(self) -> None:
        """Release the strand in hand many times."""
        f = self.figure()
        if f is None:
            return
        count, start, every, scatter, seed = self.release
        if self.session.edit(
            f"Release {count:.0f} of {f.name}",
            lambda s: released(s, self.session.assets, f.id, int(count), start, every, scatter, int(seed)),
        ):
            self.desk.tell(f"{count:.0f} strands, from frame {start:g} on. Next: run it (F5).")

    # skins

    def skins(self) -> list[Figure]:
        """The figures that have a skin which strands could touch."""
        return [f for f in self.session.scene.cast if f.asset is not None and f.made is None and not f.prop]

    def set_skin(self, figure: str, on: bool) -> None:
        """Let strands touch a figure's skin as it deforms, or the shapes of its bodies."""
        self.session.edit("Touch the skin" if on else "Touch the bodies", lambda s: edit.figure(s, figure, skin=on))

    def preview(self, **values: object) -> Callable[[Scene], Scene]:
        """The strand in hand made anew, as an edit."""
        f = self.figure()
        assert f is not None
        return lambda s: self.remade(s, f.id, **values)
