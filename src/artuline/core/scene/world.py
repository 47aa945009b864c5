"""What is around the figures: the ground, links, pushes and gusts; and how bodies and joints are referred to."""

from typing import Literal, NamedTuple

from pydantic import model_validator

from artuline.core.scene.values import ZERO, Id, Model, NonNegative, Positive, Share, Vec3


class BodyRef(NamedTuple):
    """A body by what never changes: its figure's id and its own."""

    figure: str
    body: str


class JointRef(NamedTuple):
    """A joint by its figure's id and its own; a link of the scene has no figure."""

    figure: str | None
    joint: str


class LinkEnd(Model):
    """What a link holds on to: a body of a figure, at a point in its frame (m)."""

    figure: Id
    body: Id
    point: Vec3 = ZERO


class Link(Model):
    """Ties bodies together outside of the joints' trees; ``b`` None is the world.

    A tie keeps the distance of the two points between ``lengths`` (m; the last None: no upper end), softly at
    ``frequency`` (Hz) above 0. A pin holds the point of ``a`` where it is on ``b`` when the link begins, a weld
    its rotation too, so that both grip without a jump; a pin with a ``frequency`` gives way softly. Acts from frame ``start`` on until ``stop``; None: always.
    What is held together (all but ties of some length) does not touch, nor does either end touch what is joined to the other.
    """

    id: Id
    name: Id
    kind: Literal["tie", "weld", "pin"] = "pin"
    a: LinkEnd
    b: LinkEnd | None = None
    lengths: tuple[NonNegative, NonNegative | None] = (0.0, None)
    frequency: NonNegative = 0.0
    start: float | None = None
    stop: float | None = None

    @property
    def holds_together(self) -> bool:
        """Whether its ends are at one place, so that they would push each other away."""
        return self.b is not None and (self.kind != "tie" or self.lengths[1] == 0.0)

    def acts(self, frame: float) -> bool:
        """Whether the link holds in the frame that begins here."""
        return (self.start is None or frame >= self.start) and (self.stop is None or frame < self.stop)

    @model_validator(mode="after")
    def _ordered(self) -> "Link":
        low, high = self.lengths
        if high is not None and low > high:
            raise ValueError(f"the lengths of {self.name!r} must run from short to long")
        return self


class Ground(Model):
    """A level plane at a height (m)."""

    height: float = 0.0
    friction: NonNegative = 0.7
    restitution: Share = 0.1


class Gusts(Model):
    """Gusts of the wind: its speed varies by ``strength`` (share of it) about ``rate`` times a second, by chance from ``seed``."""

    strength: NonNegative = 0.0
    rate: Positive = 0.5
    seed: NonNegative = 0


class Push(Model):
    """A push on a body from frame ``start`` on, spread over ``frames``: impulse (N s) at a point of the body (m, its
    bone's frame), and an impulse of rotation (N m s); both along the world's axes. ``scatter``: share of the impulse's strength by which
    it varies, in strength and direction, by chance from ``seed``.
    """

    id: Id
    figure: Id
    body: Id
    start: float
    frames: Positive = 1.0
    impulse: Vec3 = ZERO
    turn: Vec3 = ZERO
    point: Vec3 = ZERO
    scatter: NonNegative = 0.0
    seed: NonNegative = 0
