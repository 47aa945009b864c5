"""Rules by which figures are handed over to physics while a scene runs."""

from typing import Literal

from artuline.core.scene.values import ZERO, Id, Model, NonNegative, Positive, Share, Vec3


class Rule(Model):
    """Hands a ``figure``, and every one that is like it, over to physics for good, each with its own momentum, from frame ``frame`` on: ``touched`` by what it did not
    stand on, ``left`` by all that it stood on, being ``inside`` a box (``middle`` and ``size``, m), at that ``frame``, or a ``share`` of them by ``chance`` (from ``seed``), within ``over`` frames.

    ``tone``: how firmly they hold their pose then.
    """

    id: Id
    name: Id
    figure: Id
    when: Literal["touched", "left", "inside", "frame", "chance"] = "touched"
    frame: float = 0.0
    over: NonNegative = 24.0
    share: Share = 0.5
    seed: NonNegative = 1
    middle: Vec3 = ZERO
    size: tuple[Positive, Positive, Positive] = (2.0, 2.0, 2.0)
    tone: Share = 0.06
    muted: bool = False
