"""Compile every kernel once, so that the cache holds them."""

import numpy as np

from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.scene.model import Shape


def compile_kernels() -> None:
    """Step a small world that uses the solver's one entry point, and ask it for overlaps."""
    ball = Shape(kind="sphere", radius=0.1)
    world = World(
        [BodySpec((ball,), position=np.array([0.0, 1.0 + i, 0.0])) for i in range(2)],
        [JointSpec(0, 1, follow=True)],
        plane=(0.0, 0.5, 0.0),
    )
    world.step(1.0 / 24.0, 2)
    world.overlaps()
