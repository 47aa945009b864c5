"""The recipe of a strand: a rope, cable, tail or string of beads along a line."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from artuline.core.scene.values import Model, NonNegative, Positive, Share, Vec3

#: Parts that a strand may have.
MOST_PARTS = 1000


class StrandPoint(Model):
    """A point that a strand runs through (m, in the world at the recipe's frame), and what holds it there: nothing, the world, or
    a ``bone`` of a ``figure``; from frame ``start`` on until ``stop`` (None: always).
    """

    position: Vec3
    hold: Literal["free", "pinned", "mounted"] = "free"
    figure: str = ""
    bone: str = ""
    start: float | None = None
    stop: float | None = None

    @model_validator(mode="after")
    def _held(self) -> "StrandPoint":
        if self.hold == "mounted" and not (self.figure and self.bone):
            raise ValueError("a point that is mounted needs a figure and a bone")
        if self.start is not None and self.stop is not None and self.stop <= self.start:
            raise ValueError("a hold must end after it begins")
        return self


class Strand(Model):
    """What a strand is made from.

    ``kind`` says how it looks and how its ends are held: those of cables and tails keep their direction. It runs through its ``points``, in a curve or
    straight between them, round again to the first if ``closed``, divided into ``count`` parts; longer than the line by the share ``slack``.
    ``radius`` (m) is drawn, ``reach`` (m) touches. ``weight``: kg per metre. ``bend`` and ``twist`` (Hz): how often a second a metre of it would swing,
    straight, held at one end and without gravity, were it as firm as that against bending; ``ratio`` is the damping ratio of that. ``stretch`` (Hz, 0: it
    does not): how often a metre would swing lengthwise, held at one end. It pulls back to being straight, or to the line as it was drawn (``rest``).
    ``hangs``: it begins as it hangs by what holds it. ``air``, 1/s: what the air takes of its speed. ``rolling``: how flat it lies, as a share of its radius, which keeps it from rolling. ``frame``: when it was drawn.
    """

    kind: Literal["rope", "cable", "tail", "beads"] = "rope"
    points: Annotated[tuple[StrandPoint, ...], Field(min_length=2, max_length=200)]
    closed: bool = False
    curved: bool = True
    count: Annotated[int, Field(ge=2, le=MOST_PARTS)] = 40
    slack: Annotated[float, Field(ge=0.0, le=4.0)] = 0.0
    radius: Positive = 0.012
    reach: Positive = 0.012
    weight: Positive = 0.2
    bend: NonNegative = 0.05
    twist: NonNegative = 0.05
    ratio: NonNegative = 0.5
    stretch: NonNegative = 0.0
    rest: Literal["straight", "drawn"] = "straight"
    hangs: bool = False
    friction: NonNegative = 0.5
    rolling: Share = 0.0
    air: NonNegative = 0.3
    color: Vec3 = (0.55, 0.42, 0.24)
    frame: float = 0.0

    @property
    def firm(self) -> bool:
        """Whether what holds it holds its direction too."""
        return self.kind in ("cable", "tail")

    @model_validator(mode="after")
    def _closes(self) -> "Strand":
        if self.closed and (len(self.points) < 3 or self.count < 4):
            raise ValueError("a closed strand needs three points and four parts or more")
        return self
