"""The outlines of the clusters of the chosen soft part on the stage."""

import colorsys

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from scipy.spatial import ConvexHull, QhullError

from artuline.core.geometry import rotation
from artuline.core.motion.skeleton import rigid
from artuline.desk.model.drag import Drag
from artuline.desk.stage.tools import View
from artuline.desk.stations.flesh.soft.commands import SoftCommands

TURN = 0.381966  # of the circle of hues: neighbours in the list are far apart


def hue(k: int) -> tuple[float, float, float]:
    """The colour of a cluster, RGB 0..1."""
    return colorsys.hls_to_rgb((0.03 + TURN * k) % 1.0, 0.55 + 0.1 * (k % 3 - 1), 0.5)


class ClusterTool:
    """Nothing to take in hand: what the clusters are is seen."""

    def __init__(self, commands: SoftCommands):
        self._c = commands

    def paint(self, p: QPainter, view: View, hot: str) -> None:
        """An outline around every cluster in its colour, and its middle."""
        f, part = self._c.session.figure(), self._c.part()
        if f is None or part is None or view.live:
            return
        at = next((i for i, x in enumerate(self._c.session.scene.figures) if x.id == f.id), None)
        if at is None or at >= len(view.states) or len(view.states[at].matrices) != len(f.bones):
            return
        places, turns = rigid(view.states[at].matrices)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for k, (name, corners) in enumerate(self._c.outlines(f, part)):
            b = f.bone_index[name]
            seen = view.screen(places[b] + rotation.rotate(turns[b], corners))
            if seen[:, 2].min() <= 0.0:
                continue
            try:
                rim = seen[ConvexHull(seen[:, :2]).vertices]
            except QhullError:
                continue
            p.setPen(QPen(QColor.fromRgbF(*(0.6 * x for x in hue(k))), 1.2))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawPolygon(QPolygonF([QPointF(x, y) for x, y, _ in rim]))

    def hit(self, at: QPointF, view: View) -> str:
        """Nothing."""
        return ""

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Never called: there is no handle."""
        return Drag("", lambda pointer: lambda s: s)
