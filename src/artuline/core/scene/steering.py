"""How a figure goes when it is steered."""

from artuline.core.scene.values import Id, Model, NonNegative, Positive


class Gait(Model):
    """A ``clip`` of a figure, and the speed in m/s at which it goes with it; 0: it stands."""

    clip: Id
    speed: NonNegative


class Steering(Model):
    """The clips with which a figure goes, and those with which it gets up from the ground.

    ``gaits``: at least one; between two of neighbouring speeds it goes with a mixture. ``follows``: the figure after which it goes by itself,
    at a ``distance`` in m.
    """

    gaits: tuple[Gait, ...] = ()
    rises: tuple[Id, ...] = ()
    follows: Id | None = None
    distance: Positive = 1.6
