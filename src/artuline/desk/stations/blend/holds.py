"""Holds: what a chosen body would take hold of, what it holds, and the marks of both on the stage."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from artuline.core.geometry.rotation import Array
from artuline.core.scene import edit
from artuline.core.scene.model import Body, BodyRef, Figure, Link, LinkEnd, Scene
from artuline.core.setup.within_reach import Near, middle_of, near_bodies, near_one, place_of, reach_of
from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.model.drag import Change, Drag, Pointer
from artuline.desk.stage.handles import GRAB
from artuline.desk.stage.overlay import halo
from artuline.desk.stage.tools import View
from artuline.view.picking import pick

WORLD = "the world"
OFFERED = 2.0  # times its reach within which other bodies are offered to a hold
MOST_OFFERED = 8


class Holds:
    """Edits of what holds what."""

    def __init__(self, desk: Desk):
        self.desk, self.session, self.stage = desk, desk.session, desk.stage

    def hold_selected(self) -> None:
        """Pin the chosen bodies where they are, from this frame on, to another figure that is within reach, or to the world."""
        f, bones = self.session.figure(), self.session.chosen()
        if f is None or not bones:
            return
        frame = float(round(self.session.frame))
        taken = {x.id for x in self.session.scene.links}
        made = []
        for body in (b for b in f.bodies if b.bone in bones):
            name = edit.fresh_id(f"hold {body.id}", taken)
            taken.add(name)
            near = self.near(f, body)
            b = LinkEnd(figure=near[0].body.figure, body=near[0].body.body) if near else None
            a = LinkEnd(figure=f.id, body=body.id, point=tuple(middle_of(body)))
            made.append(Link(id=name, name=name, kind="pin", a=a, b=b, start=frame))
        if made and self.session.edit("Hold", lambda s: edit.scene(s, links=(*s.links, *made))):
            self.desk.tell(" ".join(self._words(f, x) for x in made))
        elif not made:
            self.desk.fault(f"No body is on {', '.join(sorted(bones)[:3])}: fit one first, then it can be held.")

    def _words(self, f: Figure, link: Link) -> str:
        """What a hold holds, in words."""
        mine = next(b.bone for b in f.bodies if b.id == link.a.body)
        if link.b is None:
            return (
                f"{mine} is held in the world from frame {link.start:g} on: nothing else is within {100 * reach_of(f):.0f} cm. "
                "Drag its mark onto what it should hold."
            )
        other = self.session.scene.words(BodyRef(link.b.figure, link.b.body))
        return f"{mine} holds {other} from frame {link.start:g} on; the two pass through each other."

    def near(self, f: Figure, body: Body, most: float = 1.0) -> list[Near]:
        """The bodies of other figures within a figure's reach (times ``most``) of one of its bodies now, the nearest first."""
        s, matrices = self.session, [x.matrices for x in self.stage.states()]
        if len(matrices) != len(s.scene.figures):
            return []
        place = place_of(
            s.scene, matrices, LinkEnd(figure=f.id, body=body.id, point=tuple(float(v) for v in middle_of(body)))
        )
        return near_bodies(s.scene, s.assets, matrices, f.id, place, most * reach_of(f))

    def remove(self, link: str) -> None:
        """Let go for good."""
        self.session.edit("Remove a link", lambda s: edit.without_link(s, link))

    def offered(self, link: Link) -> dict[str, LinkEnd | None]:
        """What a link may hold, by its words: the world, what it holds, and what is near now."""
        s = self.session.scene
        f = s.figure(link.a.figure)
        body = next(b for b in f.bodies if b.id == link.a.body)
        found: dict[str, LinkEnd | None] = {WORLD: None}
        for ref in [x.body for x in self.near(f, body, OFFERED)][:MOST_OFFERED]:
            found[s.words(ref)] = LinkEnd(figure=ref.figure, body=ref.body)
        if link.b is not None:
            found[self.words_of(link)] = link.b
        return found

    def words_of(self, link: Link) -> str:
        """What a link holds."""
        return self.session.scene.words(BodyRef(link.b.figure, link.b.body)) if link.b is not None else WORLD

    def hold_at(self, link: Link, end: LinkEnd | None) -> None:
        """Let a link hold something else."""
        self.session.edit("Change what is held", lambda s: held_at(s, link.id, end))


def held_at(scene: Scene, link: str, end: LinkEnd | None) -> Scene:
    """A scene in which a link holds something else; where that cannot be, as a weld to the very same body, it raises."""
    return edit.scene(scene, links=edit.replace(scene.links, link, lambda x: x.changed(b=end)))


class HoldTool:
    """A mark on what a chosen body would take hold of, and one on every hold, that is dragged onto what it should hold."""

    def __init__(self, holds: Holds):
        self._holds, self._session = holds, holds.session

    def marks(self, view: View) -> list[tuple[Link, Array, Array]]:
        """The holds that act at this frame, with the place (3,) of each, and of what it holds."""
        s = self._session
        if view.live or not view.show.forces or len(view.states) != len(s.scene.figures):
            return []
        matrices, found = [x.matrices for x in view.states], []
        for link in s.scene.links:
            if not link.acts(s.frame) or link.kind == "tie":
                continue
            place = place_of(s.scene, matrices, link.a)
            other = place
            if link.b is not None:
                index = next(i for i, f in enumerate(s.scene.figures) if f.id == link.b.figure)
                figure = s.scene.figures[index]
                body = next(b for b in figure.bodies if b.id == link.b.body)
                near = near_one(s.assets, figure, matrices[index], body, place)
                other = near.place if near is not None else place
            found.append((link, place, other))
        return found

    def _offer(self, view: View) -> tuple[Array, Near] | None:
        """Where the chosen body is, and what it would hold."""
        s, f, bones = self._session, self._session.figure(), self._session.chosen()
        if (
            view.live
            or not view.show.forces
            or f is None
            or len(bones) != 1
            or len(view.states) != len(s.scene.figures)
        ):
            return None
        body = f.body_of.get(next(iter(bones)))
        if body is None or any(x.acts(s.frame) and (x.a.figure, x.a.body) == (f.id, body.id) for x in s.scene.links):
            return None
        matrices = [x.matrices for x in view.states]
        end = LinkEnd(figure=f.id, body=body.id, point=tuple(float(v) for v in middle_of(body)))
        place = place_of(s.scene, matrices, end)
        near = near_bodies(s.scene, s.assets, matrices, f.id, place, reach_of(f))
        return (place, near[0]) if near else None

    def paint(self, p: QPainter, view: View, hot: str) -> None:
        """A square on every hold with a line to what it holds; a hollow one with its name where one would be."""
        ink = theme.color("ink")
        offer = self._offer(view)
        if offer is not None:
            place, near = offer
            at = view.screen(np.stack([place, near.place]))
            if (at[:, 2] > 0).all():
                p.setPen(QPen(ink, 1.4, Qt.PenStyle.DotLine))
                p.drawLine(QPointF(*at[0, :2]), QPointF(*at[1, :2]))
                p.setPen(QPen(ink, 1.4))
                p.setBrush(Qt.BrushStyle.NoBrush)
                p.drawPolygon(_square(QPointF(*at[1, :2])))
                halo(p, QPointF(*at[1, :2]) + QPointF(9.0, 4.0), f"Hold: {self._session.scene.words(near.body)}")
        for link, place, other in self.marks(view):
            at = view.screen(np.stack([place, other]))
            if not (at[:, 2] > 0).all():
                continue
            p.setPen(QPen(ink, 1.6))
            p.drawLine(QPointF(*at[0, :2]), QPointF(*at[1, :2]))
            p.setBrush(theme.color("ink" if link.id == hot else "raised"))
            p.drawPolygon(_square(QPointF(*at[0, :2])))
            if link.id == hot:
                halo(p, QPointF(*at[0, :2]) + QPointF(9.0, 4.0), f"{link.a.body} holds {self._holds.words_of(link)}")

    def hit(self, at: QPointF, view: View) -> str:
        """The hold whose mark is under a point."""
        for link, place, _ in self.marks(view):
            x, y, depth = view.screen(place[None])[0]
            if depth > 0 and (QPointF(x, y) - at).manhattanLength() < GRAB:
                return link.id
        return ""

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take the mark of a hold in hand: it snaps to what is under the mouse, or near it."""
        s = self._session
        link, place, _ = next(x for x in self.marks(view) if x[0].id == handle)
        scene, figure = s.scene, s.scene.figure(link.a.figure)
        across, matrices = view.across(place, at), [x.matrices for x in view.states]

        def change(pointer: Pointer) -> Change:
            hit = pick(scene, s.assets, view.states, *view.ray(pointer.at))
            end = None
            if hit is not None and hit[0] != figure.id:
                body = scene.figure(hit[0]).carrier(hit[1])
                end = LinkEnd(figure=hit[0], body=body.id) if body is not None else None
            if end is None:
                near = near_bodies(scene, s.assets, matrices, figure.id, across(pointer.at), 0.5 * reach_of(figure))
                end = LinkEnd(figure=near[0].body.figure, body=near[0].body.body) if near else None
            return lambda x: held_at(x, handle, end)

        return Drag(f"{link.a.body}: what it holds", change)


def _square(at: QPointF) -> QPolygonF:
    """A square on its corner about a point."""
    return QPolygonF([at + QPointF(x, y) for x, y in ((0.0, -6.0), (6.0, 0.0), (0.0, 6.0), (-6.0, 0.0))])
