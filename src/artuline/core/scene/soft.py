"""The recipe of a soft part: a piece of a figure's skin whose volume is divided into clusters."""

from typing import Annotated, Literal

from pydantic import Field

from artuline.core.scene.values import Id, Model, NonNegative, Positive, Share

#: Clusters that a soft part may have.
MOST_CLUSTERS = 120
#: Share of its volume that one which is squashed flat loses in any case: what is added up is right for small changes of shape.
LEAST_LOSS = 0.05


class Soft(Model):
    """What a soft part is made from. ``id`` names its clusters, which are bones of the figure, ``count`` of them.

    ``region``: the asset with the vertices that it takes from the skin, ``on`` (V,) true or false; ``root``: with those at which it is attached, None: where it was cut
    from the rest, and not at all where there is no rest. ``bone``: what it hangs on. ``fall``: m along the skin from where it is attached over which it comes to move
    by itself. ``stretch`` (Hz): how often a second a metre of it would swing lengthwise, held at one end; ``ratio``: the damping ratio of that. ``bend``, ``twist`` (Hz):
    how often a metre of it would swing as firm against bending, and turning, as it is made beyond what follows from its stretching. ``density`` kg/m^3. ``keeps``: the share of its volume that
    it loses at most under three times its weight. ``gives``: the share of the way to its neighbours by which a cluster moves at most, 1: there is no end to it. ``gravity``: share that it feels: a skin is modelled as it hangs. ``mirrored``: divided as its mirror image would be.
    """

    id: Id
    region: Id
    root: str | None = None
    bone: str
    count: Annotated[int, Field(ge=1, le=MOST_CLUSTERS)] = 12
    fall: NonNegative = 0.06
    stretch: Positive = 4.0
    bend: NonNegative = 0.0
    twist: NonNegative = 0.0
    ratio: NonNegative = 0.1
    density: Positive = 400.0
    friction: NonNegative = 0.6
    keeps: Annotated[float, Field(ge=LEAST_LOSS, le=1.0)] = 0.1
    gives: Annotated[float, Field(gt=0.0, le=1.0)] = 0.5
    gravity: Share = 1.0
    shape: Literal["hull", "sphere"] = "hull"
    mirrored: bool = False

    @property
    def clusters(self) -> tuple[str, ...]:
        """The names of its bones."""
        return tuple(f"{self.id}_{k + 1}" for k in range(self.count))
