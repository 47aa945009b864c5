"""What a check finds."""

from collections.abc import Callable
from dataclasses import dataclass

from artuline.core.scene.model import Figure, Scene

Fix = Callable[[Scene], Scene]
#: work(figure, progress(done, total), cancelled()) -> the figure with other bodies and joints
Work = Callable[[Figure, Callable[[int, int], None], Callable[[], bool]], Figure]


@dataclass(frozen=True)
class Finding:
    """A problem. ``weight``: 3 stops the work, 2 spoils the motion, 1 is worth a look.

    ``figure`` and ``bone`` say where; ``frame`` when. ``fix`` mends it, ``fix_label`` is its button, ``more`` are other ways. Where mending takes long, it is
    ``work`` instead: a job on the figure, with progress and cancel.
    """

    weight: int
    text: str
    figure: str | None = None
    bone: str | None = None
    frame: int | None = None
    fix_label: str = ""
    fix: Fix | None = None
    more: tuple[tuple[str, Fix], ...] = ()
    work: Work | None = None
