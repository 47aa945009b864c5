"""Groups of bodies that are handed over to physics together."""

from typing import Literal

from artuline.core.scene.lanes import Lane, falling_softly
from artuline.core.scene.values import Id, Model, NonNegative, Positive, Share

SHORTEST_RETURN = 0.125  # s from wholly physical to the keys; in less it would be seen to jump
SHORTEST_LEAD = 0.5  # s of what takes a physical body along to its place in the world


class Spring(Model):
    """Makes a group springy: its joints swing about their keys at ``frequency`` (Hz) with a damping ``ratio``, whatever its tone is.

    ``shown``: share of the swing that is shown; ``gravity``: share of gravity that its bodies feel; ``collides``: whether they touch anything.
    """

    frequency: Positive = 3.0
    ratio: NonNegative = 0.2
    shown: Share = 1.0
    gravity: Share = 0.0
    collides: bool = False


class Group(Model):
    """A set of bodies handed over together: those on ``bones``, else ``start_bone`` and all below it, or the whole figure if None.

    ``handover``: 0 on the keys, 1 physics. ``tone``: how firmly the pose is held against the parent; ``steadiness``: how firmly
    the keyed place in the world; ``calm``: damping against the keyed motion. ``solo``: other groups that are not solo are off.
    ``in_world``: where it is on its keys below a body that is physical, it is held there in the world, and holds that body; else it keeps its keyed pose against
    what carries it.
    A handover that falls faster than within ``SHORTEST_RETURN`` begins to fall earlier (``acting``): it is on its keys by the same frame.
    ``returns``: what it comes back to when its handover falls from 1: its keys, the pose that it had then, or another clip of the figure
    (``clip``) that starts there, where the body is. ``planted``: a foot that stands on the way back stays there until it steps.
    """

    id: Id
    name: Id
    start_bone: str | None = None
    bones: tuple[str, ...] = ()
    handover: Lane = Lane()
    tone: Lane = Lane()
    steadiness: Lane = Lane()
    calm: Lane = Lane()
    muted: bool = False
    solo: bool = False
    spring: Spring | None = None
    returns: Literal["keys", "pose", "clip"] = "keys"
    clip: str | None = None
    planted: bool = True
    in_world: bool = False

    def acting(self, rate: float) -> Lane:
        """The handover as it acts at ``rate`` frames a second: nothing comes back to its keys in less than ``SHORTEST_RETURN``, or
        ``SHORTEST_LEAD`` if it is held in the world.
        """
        return falling_softly(self.handover, self.shortest_return * rate)

    @property
    def shortest_return(self) -> float:
        """Seconds that it takes at least from wholly physical to its keys."""
        return SHORTEST_LEAD if self.in_world else SHORTEST_RETURN

    def begins_at(self, bone: str | None) -> bool:
        """Whether it is about a bone and all below it, or about the whole figure (None); not about bones that were chosen."""
        return not self.bones and self.start_bone == bone
