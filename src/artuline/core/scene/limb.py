"""Limbs that are led by a goal: two bones and an end."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from artuline.core.scene.values import Id, Model

Unit = Annotated[float, Field(ge=-1.0, le=1.0)]

#: Where the motion of a bone's body goes when it does not go onto the bone itself.
Elsewhere = Literal["above", "nothing"]


class Limb(Model):
    """A limb whose end is led to a goal while a layer has keys of it, and whose middle looks towards a place.

    ``upper`` and ``lower``: the bones that bend; ``end``: the hand, foot or the like, below them. ``axis``: about which the limb bends, from straight to bent, in
    the frame of the upper bone (without unit). Its curves are in the figure's own frame: ``goal`` has a place and a turn, ``direction`` a place.
    """

    end: Id
    upper: Id
    lower: Id
    axis: tuple[Unit, Unit, Unit]

    @property
    def id(self) -> str:
        """What it is found by: its end."""
        return self.end

    @property
    def goal(self) -> str:
        """The name of the curves that its end follows."""
        return f"{self.end} goal"

    @property
    def direction(self) -> str:
        """The name of the curves that its middle looks at."""
        return f"{self.end} direction"

    @property
    def curves(self) -> tuple[str, str]:
        """The names of its curves."""
        return self.goal, self.direction

    @property
    def bones(self) -> tuple[str, str, str]:
        """Its bones, from the body outwards."""
        return self.upper, self.lower, self.end

    @model_validator(mode="after")
    def _bends(self) -> "Limb":
        if sum(x * x for x in self.axis) < 0.25:
            raise ValueError(f"the limb of {self.end!r} has no axis to bend about")
        return self
