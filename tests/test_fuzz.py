"""Random ragdolls: whatever they are, they fall, stay together, keep their numbers and gain no energy."""

import numpy as np
import pytest
from benchmarks.fuzz import FRAME, random_ragdoll, watch

#: 362: a light body squeezed between heavy ones was turned too far when it was set back
KNOWN = (362,)


@pytest.mark.parametrize("seed", [*range(24), *KNOWN])
def test_a_random_ragdoll_stays_together_and_calm(seed):
    fault = watch(random_ragdoll(seed), seconds=1.5)
    assert not fault, fault


def test_the_watch_sees_a_fault():
    world = random_ragdoll(3)
    world.bodies["v"][0] = np.nan
    assert "not a number" in watch(world, seconds=0.1)


def test_a_figure_that_folds_up_is_not_pressed_into_itself():
    """Whichever of its bodies touch each other: of so few the contacts are solved together. (Swept, as those of a crowd, they let 70 g through by 10 cm.)"""
    world = random_ragdoll(60582)
    for _ in range(30):
        world.step(FRAME, 10)
        assert world.bodies["penetration"].max() < 2e-3
