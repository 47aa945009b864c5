"""What Flesh holds on the stage: where an added bone begins, ends and how far it reaches; and the brush that paints its weights."""

import math

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen

from artuline.core.geometry import rays
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure
from artuline.core.setup.added import ends_of
from artuline.core.setup.mirror import mirror_plane
from artuline.core.setup.weights import fallen_off, smoothed_share
from artuline.desk import theme
from artuline.desk.model.drag import Change, Drag, Pointer
from artuline.desk.stage import overlay
from artuline.desk.stage.tools import View
from artuline.desk.stations.flesh.commands import Commands

GRAB = 10.0  # pixels
LEAST = 0.002  # m


class BoneTool:
    """Three handles of the chosen added bone: start, end, reach."""

    def __init__(self, commands: Commands):
        self._c = commands

    def _places(self, view: View) -> tuple[Figure, str, dict[str, Array]] | None:
        bone, f = self._c.bone(), self._c.session.figure()
        if bone is None or f is None or bone.flesh is None or view.live or self._c.brush or self._c.played:
            return None
        start, end = ends_of(f, bone.name)
        right = view.camera.axes()[0]
        return f, bone.name, {"start": start, "end": end, "reach": end + bone.flesh.radius * right}

    def paint(self, p: QPainter, view: View, hot: str) -> None:
        """The bone, the circle of its reach, and the handles."""
        found = self._places(view)
        if found is None:
            return
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(theme.font(theme.SMALL))
        _, name, places = found
        spots = {n: view.screen(x[None])[0] for n, x in places.items()}
        if min(s[2] for s in spots.values()) <= 0.0:
            return
        at = {n: QPointF(s[0], s[1]) for n, s in spots.items()}
        p.setPen(QPen(theme.color("brass"), 2.2))
        p.drawLine(at["start"], at["end"])
        wide = math.hypot(at["reach"].x() - at["end"].x(), at["reach"].y() - at["end"].y())
        p.setPen(QPen(theme.color("brass"), 1.2))
        p.setBrush(theme.color("brass", 0.0))
        p.drawEllipse(at["end"], wide, wide)
        self._range(p, view, found[0], name, places["start"])
        for n, spot in at.items():
            p.setPen(QPen(theme.color("ink"), 2.0 if hot == n else 1.2))
            p.setBrush(theme.color("ink" if hot == n else "raised"))
            if n == "start":
                p.drawRect(int(spot.x()) - 5, int(spot.y()) - 5, 10, 10)
            else:
                p.drawEllipse(spot, 5.5, 5.5)
            if hot == n:
                words = {"start": f"{name}: moves it", "end": f"{name}: its end", "reach": "how far it reaches"}[n]
                overlay.halo(p, spot + QPointF(11, 4), words)

    def _range(self, p: QPainter, view: View, f: Figure, name: str, start: Array) -> None:
        """How far a springy bone gives way: three circles about where it rests."""
        body = f.body_of.get(name)
        joint = f.joint_of.get(body.id) if body is not None else None
        if joint is None or joint.kind != "axes" or joint.axes[0] is None:
            return
        p.setPen(QPen(theme.color("vermilion"), 1.2, Qt.PenStyle.DashLine))
        t = np.linspace(0.0, 2.0 * np.pi, 33)
        for k in range(3):
            ring = np.zeros((len(t), 3))
            ring[:, (k + 1) % 3], ring[:, (k + 2) % 3] = np.cos(t), np.sin(t)
            seen = view.screen(start + joint.axes[0][1] * ring)
            if seen[:, 2].min() > 0.0:
                p.drawPolyline([QPointF(x, y) for x, y, _ in seen])

    def hit(self, at: QPointF, view: View) -> str:
        """The handle under the mouse."""
        found = self._places(view)
        if found is None:
            return ""
        best, name = GRAB, ""
        for n, x in found[2].items():
            sx, sy, depth = view.screen(x[None])[0]
            gap = math.hypot(sx - at.x(), sy - at.y())
            if depth > 0.0 and gap < best:
                best, name = gap, n
        return name

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take a handle in hand: the weights follow."""
        found = self._places(view)
        assert found is not None
        f, name, places = found
        across = view.across(places[handle], at)

        def change(pointer: Pointer) -> Change:
            place = across(pointer.at)
            if handle == "reach":
                radius = max(float(np.linalg.norm(place - places["end"])), LEAST)
                return lambda s: self._c.reach(s, f.id, name, radius=radius)
            moved: Change = self._c.moved(
                f.id, name, place if handle == "start" else None, place if handle == "end" else None
            )
            return moved

        return Drag(f"{name}: {handle}", change)


class BrushTool:
    """The round brush, while one is in hand: a stroke is one edit."""

    def __init__(self, commands: Commands):
        self._c = commands
        self._at: QPointF | None = None
        self._known: tuple[object, Array, Array, Array, Array] | None = None
        self._last: tuple[object, Array | None] = None, None

    def _skin(self, f: Figure) -> tuple[Mesh, Array, Array]:
        """The mesh, its points at rest (V, 3) and the corners of its triangles (T, 3, 3); weights do not move them."""
        mesh = self._c.session.assets.decoded(str(f.asset), Mesh.from_arrays)
        key = f.plain, f.unit, f.position, f.turn
        if self._known is None or self._known[0] != key:
            plain = self._c.session.assets.decoded(str(f.plain), Mesh.from_arrays)
            points = plain.skin(rest_matrices(f)[: int(plain.palette_bone.max()) + 1])
            corners = points[mesh.triangles]
            middle = corners.mean(axis=1)
            wide = np.linalg.norm(corners - middle[:, None], axis=2).max(axis=1)
            self._known = key, points, corners, middle, wide
        return mesh, self._known[1], self._known[2]

    def _under(self, f: Figure, at: QPointF, view: View) -> Array | None:
        _, _, corners = self._skin(f)
        assert self._known is not None
        key = self._known[0], at.x(), at.y(), view.camera, view.size
        if self._last[0] != key:
            origin, way = view.ray(at)
            way = way / np.linalg.norm(way)
            # only what the ray passes at all
            to = self._known[3] - origin
            near = np.flatnonzero(np.einsum("ij,ij->i", to, to) - (to @ way) ** 2 <= self._known[4] ** 2)
            hit = rays.triangles(origin, way, corners[near]) if len(near) else None
            self._last = key, origin + hit[0] * way if hit is not None else None
        return self._last[1]

    def paint(self, p: QPainter, view: View, hot: str) -> None:
        """The circle that the brush covers."""
        c, f = self._c, self._c.session.figure()
        if not c.brush or c.bone() is None or f is None or self._at is None or view.live:
            return
        place = self._under(f, self._at, view)
        if place is None:
            return
        spots = view.screen(np.array([place, place + c.radius * view.camera.axes()[0]]))
        wide = float(np.hypot(*(spots[1, :2] - spots[0, :2])))
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setBrush(theme.color("brass", 0.0))
        p.setPen(QPen(theme.color("ink"), 1.6))
        p.drawEllipse(QPointF(spots[0, 0], spots[0, 1]), wide, wide)

    def hit(self, at: QPointF, view: View) -> str:
        """The skin under the brush."""
        c, f = self._c, self._c.session.figure()
        self._at = QPointF(at)
        if not c.brush or c.bone() is None or f is None or view.live:
            return ""
        return f"{at.x():.0f} {at.y():.0f}" if self._under(f, at, view) is not None else ""

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Begin a stroke."""
        c, f, bone = self._c, self._c.session.figure(), self._c.bone()
        assert f is not None and bone is not None
        mesh, points, _ = self._skin(f)
        twin = c.twin(f, bone.name)
        shares = {n: c.shares(f, n) for n in (bone.name, twin) if n is not None}
        plane = mirror_plane(f)

        def dab(share: Array, place: Array) -> Array:
            amount = c.strength * fallen_off(np.linalg.norm(points - place, axis=1), c.radius, "smooth")
            if c.brush == "smooth":
                return smoothed_share(share, mesh.edges, amount)
            goal = {"add": 1.0, "take": 0.0}.get(c.brush, c.value)
            return np.asarray(share + amount * (goal - share))

        def change(pointer: Pointer) -> Change:
            self._at = QPointF(pointer.at)
            place = self._under(f, pointer.at, view)
            if place is not None:
                across = plane.points(place)
                shares[bone.name] = dab(shares[bone.name], place)
                if twin is not None:
                    shares[twin] = dab(shares[twin], across)
                elif c.both and 2.0 * abs(plane.side(place)) > 0.5 * c.radius:
                    shares[bone.name] = dab(shares[bone.name], across)
            made: Change = c.painted(f.id, dict(shares))
            return made

        return Drag(f"Paint {bone.name}", change)
