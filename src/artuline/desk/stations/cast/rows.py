"""The timeline's row of keys: those of the clip, and those of the layers above it."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter

from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import load_clip
from artuline.core.scene.assets import Arrays
from artuline.core.scene.model import Figure, Layer
from artuline.desk import theme
from artuline.desk.model.frame_scale import FrameScale
from artuline.desk.model.session import Session
from artuline.desk.timeline.rows import Still, paint_label


def _key_times(arrays: Arrays) -> Array:
    """All key times of a clip's data, seconds."""
    return Clip.from_arrays(arrays).key_times()


class KeysRow(Still):
    """Keys of the present figure."""

    def __init__(self, session: Session):
        self.session = session

    def paint(self, p: QPainter, box: QRectF, scale: FrameScale, hot: str) -> None:
        """Discs for the clip's keys, lozenges on a band for a layer's."""
        figure = self.session.figure()
        clip = figure.active_clip() if figure else None
        paint_label(p, box.top(), box.height(), f"Keys: {clip.name}" if clip else "Keys")
        p.setPen(theme.color("rule"))
        p.drawLine(box.bottomLeft(), box.bottomRight())
        if figure is None or clip is None:
            return
        s, y = self.session.scene, box.center().y()
        times = self.session.assets.decoded(clip.asset, _key_times) * s.rate
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.color("teal"))
        for x in scale.seen(times, figure.clip_start, clip.duration * s.rate if clip.loop else 0.0):
            p.drawEllipse(QPointF(float(x), y), 1.7, 1.7)
        for layer in figure.layers:
            self._layer(p, y, scale, figure, layer)

    def _layer(self, p: QPainter, y: float, scale: FrameScale, figure: Figure, layer: Layer) -> None:
        s = self.session.scene
        p.setBrush(theme.color("brass", 0.35))
        a, b = scale.x(max(layer.start, s.start)), scale.x(min(layer.end, s.end))
        if b <= a:
            return
        p.drawRoundedRect(QRectF(a, y - 7, b - a, 14), 3, 3)
        channels = load_clip(self.session.assets, layer.asset).channels
        if not channels:
            return
        p.setBrush(theme.color("brass"))
        top = min(channels, key=lambda c: figure.bone_index[c.bone])
        chosen = self.session.selection.of(figure.id)
        shown = next((c for c in channels if c.bone in chosen), top)
        for at in scale.seen(shown.times * s.rate):
            x = float(at)
            p.drawPolygon([QPointF(x, y - 4), QPointF(x + 4, y), QPointF(x, y + 4), QPointF(x - 4, y)])
