"""Bones that were added to a skeleton, for flesh that it does not have."""

from typing import Literal

from artuline.core.scene.values import Model, Positive, Share, Vec3


class Flesh(Model):
    """What an added bone carries of the skin: how far it reaches, and how that falls off.

    ``end``: where the bone ends, in its own frame (file units). ``radius``: m, along the skin from where the bone points (``surface``) or through the volume from the bone
    (``volume``); ``strength``: share of the skin at its middle. ``painted``: its weights were painted since. ``kind``: of what it is made.
    """

    end: Vec3
    radius: Positive
    by: Literal["surface", "volume"] = "volume"
    profile: Literal["smooth", "dome", "linear"] = "smooth"
    strength: Share = 1.0
    painted: bool = False
    kind: str = ""
