"""What Curves holds on the stage: the way of the chosen bone, with its keys as dots that are dragged in space."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen

from artuline.core.bake.path_keys import movers, path, path_frames, placed
from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Figure
from artuline.desk import theme
from artuline.desk.model.drag import Change, Drag, Pointer
from artuline.desk.stage import overlay
from artuline.desk.stage.tools import View
from artuline.desk.stations.curves.commands import Commands

GRAB = 9.0  # pixels


class PathTool:
    """While keys are shown and one bone is chosen."""

    def __init__(self, commands: Commands):
        self._c, self._e = commands, commands.editing
        self._known: tuple[object, Array, Array, Array] | None = None

    def _path(self, view: View) -> tuple[Figure, str, Array, Array, Array] | None:
        """Figure, bone, frames of its keys, its places there, and its way frame by frame; None where there is nothing to hold."""
        f, chosen, layer = self._e.figure(), self._c.session.chosen(), self._e.layer()
        if f is None or layer is None or not self._e.on_layer() or len(chosen) != 1 or self._c.shows_take or view.live:
            return None
        if layer.muted or layer.weight < 1.0 or layer.mode != "replace":
            return None
        bone = next(iter(chosen))
        channels, scene, assets = self._e.channels(), self._c.session.scene, self._c.session.assets
        names = movers(f, bone, channels)
        if not names:
            return None
        key = f, bone, scene.rate, scene.start, scene.end
        if self._known is None or self._known[0] != key:
            frames = path_frames(channels, names, scene.rate)
            frames = frames[(frames >= scene.start) & (frames <= scene.end)]
            every = np.arange(max(layer.start, scene.start), min(layer.end, scene.end) + 1.0)
            self._known = key, frames, path(scene, assets, f, bone, frames), path(scene, assets, f, bone, every)
        return f, bone, *self._known[1:]

    def paint(self, p: QPainter, view: View, hot: str) -> None:
        """The way, and a dot at every key; the present one is filled."""
        found = self._path(view)
        if found is None:
            return
        _, _, frames, dots, way = found
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(theme.font(theme.SMALL))
        if len(way) > 1:
            line = view.screen(way)
            p.setPen(QPen(theme.color("teal"), 1.6))
            p.drawPolyline([QPointF(x, y) for x, y, depth in line if depth > 0.0])
        now = self._c.session.frame
        for k, (x, y, depth) in enumerate(view.screen(dots)) if len(dots) else ():
            if depth <= 0.0:
                continue
            here, strong = abs(frames[k] - now) < 0.5, hot == str(k)
            p.setPen(QPen(theme.color("ink"), 2.2 if strong or here else 1.2))
            p.setBrush(theme.color("teal" if here else "raised"))
            size = 5.5 if strong or here else 3.5
            p.drawEllipse(QPointF(x, y), size, size)
            if strong:
                overlay.halo(p, QPointF(x + 10, y + 4), f"frame {frames[k]:g}")
        p.setBrush(Qt.BrushStyle.NoBrush)

    def hit(self, at: QPointF, view: View) -> str:
        """The number of the dot under the mouse."""
        found = self._path(view)
        if found is None or not len(found[3]):
            return ""
        seen = view.screen(found[3])
        gaps = np.where(seen[:, 2] > 0.0, np.hypot(seen[:, 0] - at.x(), seen[:, 1] - at.y()), np.inf)
        best = int(np.argmin(gaps))
        return str(best) if gaps[best] < GRAB else ""

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take a dot in hand, to be moved across the view; the present frame goes to it."""
        found = self._path(view)
        assert found is not None
        f, bone, frames, dots, _ = found
        k, session, layer = int(handle), self._c.session, self._e.layer()
        assert layer is not None
        frame, start, channels, scene = float(frames[k]), dots[k], dict(self._e.channels()), session.scene
        session.set_frame(frame)
        across = view.across(start, at)

        def change(pointer: Pointer) -> Change:
            made = placed(scene, session.assets, f, bone, channels, frame, across(pointer.at))
            return self._e.change(made) or (lambda s: s)

        return Drag(f"Move {bone} at frame {frame:g}", change)
