"""Goals on the stage: moved and turned by their handles, and where the middle of a limb looks."""

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QPainter, QPen, QPolygonF

from artuline.core.bake.path_keys import LedNow, goal_keyed, led_now
from artuline.core.geometry import rotation
from artuline.core.scene.model import Figure
from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.model.drag import Change, Drag, Pointer
from artuline.desk.stage import overlay
from artuline.desk.stage.handles import BoneHandles
from artuline.desk.stage.tools import View
from artuline.desk.stations.curves.editor.editing import Editing

GRAB, SIZE = 9.0, 5.5  # pixels


class GoalTool:
    """While keys are shown that lead limbs. Handles: "goal", "look", and "turn x" and so on of the chosen one, each with the limb's end."""

    def __init__(self, desk: Desk, editing: Editing, shows_keys: Callable[[], bool]):
        self._desk, self._e, self._shows = desk, editing, shows_keys
        self._known: tuple[object, list[LedNow]] | None = None

    def _now(self, view: View) -> tuple[Figure, list[LedNow]] | None:
        f, layer, s = self._e.figure(), self._e.layer(), self._desk.session
        if f is None or layer is None or not self._e.on_layer() or not f.goals or not self._shows() or view.live:
            return None
        if layer.muted or layer.weight < 1.0 or layer.mode != "replace" or not layer.start <= s.frame <= layer.end:
            return None
        key = f, s.frame, s.scene.rate
        if self._known is None or self._known[0] != key:
            self._known = key, led_now(s.scene, s.assets, f, self._e.channels(), s.frame)
        return (f, self._known[1]) if self._known[1] else None

    def _rings(self, led: LedNow, view: View) -> BoneHandles:
        return BoneHandles(led.goal, led.turn, 0.0, view.camera, *view.size, False)

    def _chosen(self, led: LedNow) -> bool:
        return self._desk.session.chosen() == frozenset({led.limb.end})

    def paint(self, p: QPainter, view: View, hot: str) -> None:
        """A square at every goal, a diamond where every middle looks, with a line to it."""
        found = self._now(view)
        if found is None:
            return
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(theme.font(theme.SMALL))
        for led in found[1]:
            spots = view.screen(np.array([led.goal, led.middle, led.direction]))
            if spots[:, 2].min() <= 0.0:
                continue
            goal, middle, look = (QPointF(x, y) for x, y, _ in spots)
            p.setPen(QPen(theme.color("teal"), 1.0))
            p.drawLine(middle, look)
            if self._chosen(led):
                name, _, end = hot.partition(":")
                self._rings(led, view).paint(p, name if end == led.limb.end and name.startswith("turn") else "")
            for handle, at, corners in (("goal", goal, _square(goal)), ("look", look, _diamond(look))):
                strong = hot == f"{handle}:{led.limb.end}"
                p.setPen(QPen(theme.color("ink"), 2.0 if strong else 1.2))
                p.setBrush(theme.color("teal" if strong or (handle == "goal" and self._chosen(led)) else "raised"))
                p.drawPolygon(corners)
                if strong:
                    overlay.halo(p, at + QPointF(11, 4), led.limb.goal if handle == "goal" else led.limb.direction)

    def hit(self, at: QPointF, view: View) -> str:
        """The goal, the direction or the ring under the mouse, with the end of its limb."""
        found = self._now(view)
        if found is None:
            return ""
        for led in found[1]:
            spots = view.screen(np.array([led.goal, led.direction]))
            gaps = np.where(spots[:, 2] > 0.0, np.hypot(spots[:, 0] - at.x(), spots[:, 1] - at.y()), np.inf)
            if gaps.min() < GRAB:
                return f"{('goal', 'look')[int(np.argmin(gaps))]}:{led.limb.end}"
            if self._chosen(led):
                ring = self._rings(led, view).hit(at)
                if ring:
                    return f"{ring}:{led.limb.end}"
        return ""

    def press(self, handle: str, at: QPointF, view: View) -> Drag:
        """Take a goal in hand: a key at the present frame follows."""
        found = self._now(view)
        assert found is not None
        kind, _, end = handle.partition(":")
        f, led = found[0], next(x for x in found[1] if x.limb.end == end)
        session, channels = self._desk.session, dict(self._e.channels())
        frame, scene = float(session.frame), session.scene
        keyed = partial(goal_keyed, scene, session.assets, f, channels)
        limb = led.limb
        if kind.startswith("turn"):
            rings = self._rings(led, view)

            def turned(pointer: Pointer) -> Change:
                new = rotation.multiply(rings.turn_of(kind, at, pointer.at), led.turn)
                return self._e.change(keyed((limb.goal, "rotation"), frame, new)) or (lambda s: s)

            return Drag(f"Turn the {limb.goal}", turned)
        name = limb.goal if kind == "goal" else limb.direction
        across = view.across(led.goal if kind == "goal" else led.direction, at)

        def moved(pointer: Pointer) -> Change:
            return self._e.change(keyed((name, "translation"), frame, across(pointer.at))) or (lambda s: s)

        return Drag(f"Move the {name}", moved)


def _square(at: QPointF) -> QPolygonF:
    return QPolygonF([at + QPointF(x * SIZE, y * SIZE) for x, y in ((-1, -1), (1, -1), (1, 1), (-1, 1))])


def _diamond(at: QPointF) -> QPolygonF:
    return QPolygonF([at + QPointF(x * SIZE * 1.3, y * SIZE * 1.3) for x, y in ((0, -1), (1, 0), (0, 1), (-1, 0))])
