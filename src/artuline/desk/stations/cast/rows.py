"""The timeline's row of keys: those of the clip, of the layers above it, and of the place of what is keyed as a whole."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import load_clip
from artuline.core.scene import edit
from artuline.core.scene.assets import Arrays
from artuline.core.scene.model import ClipRef, Figure, Layer, Scene
from artuline.desk import theme
from artuline.desk.model.drag import Change, Drag, Pointer
from artuline.desk.model.frame_scale import FrameScale
from artuline.desk.model.session import Session
from artuline.desk.timeline.rows import Edit, Still, paint_label

GRIP = 7.0  # pixels around a key at which it is taken


def _key_times(arrays: Arrays) -> Array:
    """All key times of a clip's data, seconds."""
    return Clip.from_arrays(arrays).key_times()


class KeysRow(Still):
    """Keys of the obstacle in hand, else of the present figure. Those of its place can be moved and taken away."""

    def __init__(self, session: Session):
        self.session = session

    def paint(self, p: QPainter, box: QRectF, scale: FrameScale, hot: str) -> None:
        """Discs for the clip's keys, lozenges on a band for a layer's, triangles for those of its place."""
        figure = self._figure()
        clip = figure.active_clip() if figure else None
        whose = clip.name if clip else (figure.name if figure and figure.track.frames else "")
        paint_label(p, box.top(), box.height(), f"Keys: {whose}" if whose else "Keys")
        p.setPen(theme.color("rule"))
        p.drawLine(box.bottomLeft(), box.bottomRight())
        if figure is None:
            return
        if clip is not None:
            self._clip(p, box, scale, figure, clip)
        for layer in figure.layers:
            self._layer(p, box.center().y(), scale, figure, layer)
        self._track(p, box.center().y(), scale, figure.track.frames, hot)

    def _figure(self) -> Figure | None:
        return self.session.obstacle() or self.session.figure()

    def _clip(self, p: QPainter, box: QRectF, scale: FrameScale, figure: Figure, clip: ClipRef) -> None:
        s, y = self.session.scene, box.center().y()
        times = self.session.assets.decoded(clip.asset, _key_times) * s.rate
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.color("teal"))
        for x in scale.seen(times, figure.clip_start, clip.duration * s.rate if clip.loop else 0.0):
            p.drawEllipse(QPointF(float(x), y), 1.7, 1.7)

    @staticmethod
    def _track(p: QPainter, y: float, scale: FrameScale, frames: tuple[float, ...], hot: str) -> None:
        p.setPen(QPen(theme.color("ink"), 1.2))
        for i, frame in enumerate(frames):
            p.setBrush(theme.color("ink" if hot == str(i) else "raised"))
            x = scale.x(frame)
            p.drawPolygon([QPointF(x - 5, y + 5), QPointF(x, y - 5), QPointF(x + 5, y + 5)])

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
        about, place = figure.curve_names, list(figure.curve_names)
        top = min(channels, key=lambda c: place.index(c.bone))
        chosen = self.session.selection.of(figure.id)
        shown = next((c for c in channels if about[c.bone] in chosen), top)
        for at in scale.seen(shown.times * s.rate):
            x = float(at)
            p.drawPolygon([QPointF(x, y - 4), QPointF(x + 4, y), QPointF(x, y + 4), QPointF(x - 4, y)])

    # the mouse

    def hit(self, at: QPointF, box: QRectF, scale: FrameScale) -> str:
        """The number of the place's key under the mouse."""
        figure = self._figure()
        near = [(abs(scale.x(f) - at.x()), i) for i, f in enumerate(figure.track.frames if figure else ())]
        best = min(near, default=(GRIP + 1.0, 0))
        return str(best[1]) if best[0] <= GRIP else ""

    def press(self, at: QPointF, box: QRectF, scale: FrameScale) -> Drag | None:
        """Take a key of the place in hand: it moves in time, between its neighbours."""
        figure, handle = self._figure(), self.hit(at, box, scale)
        if figure is None or not handle:
            return None
        i, track, which = int(handle), figure.track, figure.id
        frames = track.frames
        low = frames[i - 1] + 1.0 if i > 0 else float("-inf")
        high = frames[i + 1] - 1.0 if i + 1 < len(frames) else float("inf")

        def change(pointer: Pointer) -> Change:
            frame = min(max(float(round(scale.frame(pointer.at.x()))), low), high)
            moved = track.moved(frames[i], frame)
            return lambda s: edit.figure(s, which, track=moved)

        return Drag(f"Move a key of {figure.name}", change)

    def press_right(self, at: QPointF, box: QRectF, scale: FrameScale) -> Edit | None:
        """Take the key under the mouse away; the last one stays."""
        figure, handle = self._figure(), self.hit(at, box, scale)
        if figure is None or not handle or len(figure.track.frames) < 2:
            return None
        which = figure.id
        left = figure.track.without(figure.track.frames[int(handle)])

        def change(s: Scene) -> Scene:
            return edit.figure(s, which, track=left)

        return Edit(f"Remove a key of {figure.name}", change)
