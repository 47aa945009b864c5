"""Where a figure rides on a bone of another one."""

from typing import Literal

from pydantic import model_validator

from artuline.core.scene.values import UPRIGHT, ZERO, Id, Model, Quat, Vec3


class Mount(Model):
    """A part of a figure (one of its bones) rides on a ``bone`` of another ``figure``, at ``position`` (m) and ``rotation`` in its frame.

    ``hold``: fixed, or free to swing about ``point`` (m, in the part's frame). From frame ``start`` on until ``stop``; None: always.
    Under physics it holds what is there when it begins, so that nothing jumps. ``reach``: a bone of that figure, the end of a limb,
    whose keys are bent so that it comes to the part: to ``reach_position`` (m) and ``reach_rotation`` in the part's frame. ``collides``: whether the two touch each other.
    """

    id: Id
    part: Id
    figure: Id
    bone: Id
    position: Vec3 = ZERO
    rotation: Quat = UPRIGHT
    point: Vec3 = ZERO
    hold: Literal["fixed", "swings"] = "fixed"
    start: float | None = None
    stop: float | None = None
    reach: str | None = None
    reach_position: Vec3 = ZERO
    reach_rotation: Quat = UPRIGHT
    collides: bool = False

    def acts(self, frame: float) -> bool:
        """Whether it holds in the frame that begins here."""
        return (self.start is None or frame >= self.start) and (self.stop is None or frame < self.stop)

    @model_validator(mode="after")
    def _forward(self) -> "Mount":
        if self.start is not None and self.stop is not None and self.stop <= self.start:
            raise ValueError("a mount must end after it begins")
        return self
