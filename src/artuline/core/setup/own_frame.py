"""A figure's setup is made where it came from, so that it is the same wherever the figure stands and is turned to."""

from collections.abc import Callable
from functools import wraps
from typing import Concatenate, ParamSpec

from artuline.core.scene.model import Figure

P = ParamSpec("P")


def in_own_frame(change: Callable[Concatenate[Figure, P], Figure]) -> Callable[Concatenate[Figure, P], Figure]:
    """``change(figure, ...) -> figure``, done while the figure stands at the origin and is not turned: what is fitted along axes, and told apart by sizes along
    them, does not depend on its place in the scene.
    """

    @wraps(change)
    def made(figure: Figure, /, *args: P.args, **more: P.kwargs) -> Figure:
        here = figure.changed(position=(0.0, 0.0, 0.0), turn=0.0)
        return change(here, *args, **more).changed(position=figure.position, turn=figure.turn)

    return made
