"""The document: a tree of frozen models, and the store of its large arrays."""

from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import (
    Body,
    Bone,
    ClipRef,
    Figure,
    Ground,
    Group,
    Joint,
    Key,
    Lane,
    Layer,
    Material,
    MotionKey,
    Obstacle,
    Scene,
    Shape,
    TakeRef,
)

__all__ = [
    "AssetStore",
    "Body",
    "Bone",
    "ClipRef",
    "Figure",
    "Ground",
    "Group",
    "Joint",
    "Key",
    "Lane",
    "Layer",
    "Material",
    "MotionKey",
    "Obstacle",
    "Scene",
    "Shape",
    "TakeRef",
]
