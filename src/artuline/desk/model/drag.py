"""What is in hand while the mouse is held, on the stage and in the timeline."""

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QPointF

from artuline.core.scene.model import Scene

Change = Callable[[Scene], Scene]


@dataclass(frozen=True)
class Pointer:
    """Where the mouse is, in pixels of the widget, and the keys that are held with it."""

    at: QPointF
    shift: bool = False
    control: bool = False


@dataclass(frozen=True)
class Drag:
    """Something in hand: ``change(pointer)`` is previewed on every move, and is one edit called ``words`` when it is let go."""

    words: str
    change: Callable[[Pointer], Change]
