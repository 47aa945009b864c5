"""A world that goes on by itself, nothing recorded: what a tryout and a steered figure have in common."""

import math
import time
from abc import ABC, abstractmethod
from collections.abc import Callable
from functools import wraps
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.physics.state import PLANE
from artuline.core.run.build import Built, build
from artuline.core.run.forces import add_velocity
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import BodyRef, Ground, Scene

TUG_FREQUENCY = 2.5

F = TypeVar("F", bound=Callable[..., Any])


def noted(method: F) -> F:
    """What is done to a live world from outside is written down, so that it can be done again at the same step."""

    @wraps(method)
    def done(self: "LiveWorld", *args: Any) -> Any:
        if self.journal is not None:
            self.journal.append((self.steps_done, method.__name__, args))
        return method(self, *args)

    return done  # type: ignore[return-value]


class LiveWorld(ABC):
    """A scene's world with a ground that can be switched, gravity that can be turned, and a body that can be tugged."""

    #: Seconds of one small step.
    step_time: float

    def __init__(self, scene: Scene, assets: AssetStore, frame: float):
        self.scene, self.assets, self.frame = scene, assets, frame
        #: What was done from outside: the step before which, the name of a method, and what it was given; None: it is not kept.
        self.journal: list[tuple[int, str, tuple[Any, ...]]] | None = None
        self.steps_done = 0
        self.time = 0.0
        self._left = 0.0
        self._has_ground = True
        self.built = self._built(scene)

    def _built(self, scene: Scene) -> Built:
        # a ground to be switched on, where the scene has none
        whole = scene if scene.ground is not None else edit.scene(scene, ground=Ground())
        return build(whole, self.assets, self._apart(scene))

    def _apart(self, scene: Scene) -> list[tuple[BodyRef, BodyRef]]:
        """Pairs of bodies that do not touch each other here."""
        return []

    @abstractmethod
    def free(self) -> NDArray[np.bool_]:
        """Which bodies physics moves now (n,)."""

    @abstractmethod
    def step(self) -> None:
        """One small step."""

    def advance(self, seconds: float, most: float = math.inf) -> None:
        """Advance by a time, in whole small steps; the rest is kept for the next call.

        ``most``: seconds of work after which what is left is dropped: what is too much for this machine runs slower,
        and the caller is not kept.
        """
        self._left += min(seconds, 0.25)
        end = time.perf_counter() + most
        while self._left >= self.step_time:
            self._left -= self.step_time
            self.step()
            if time.perf_counter() > end:
                self._left = 0.0

    @noted
    def set_gravity(self, on: bool, tilt: float = 0.0, heading: float = 0.0) -> None:
        """Gravity of the scene, or none; tilted from straight down (radians) towards a heading about Y."""
        strength = float(np.linalg.norm(self._gravity))
        if strength == 0.0:
            strength = 9.81
        down = np.array([np.sin(tilt) * np.sin(heading), -np.cos(tilt), np.sin(tilt) * np.cos(heading)])
        self.built.world.gravity[:] = 0.0 if not on else (self._gravity if tilt == 0.0 else strength * down)

    _gravity: Array

    @noted
    def set_ground(self, on: bool) -> None:
        """The scene's ground (or one at the lowest obstacle or at 0 if it has none), or no ground."""
        self._has_ground = on
        world = self.built.world
        world.set_silent(world.shapes["kind"] == PLANE, not on)

    def chosen(self, figure: int | None, bones: frozenset[str]) -> NDArray[np.int64]:
        """Free bodies on bones of a figure; all free bodies for none."""
        free = self.free()
        if not bones:
            return np.flatnonzero(free)
        mine = self.built.parts[figure].on(bones) if figure is not None else np.zeros(0, np.int64)
        return np.asarray(mine[free[mine]])

    @noted
    def push(self, figure: int | None, bones: frozenset[str], velocity: Array) -> None:
        """Add a velocity (3,), m/s, to the free bodies on these bones, or to all."""
        which = self.chosen(figure, bones)
        if len(which):
            add_velocity(self.built.world.bodies, which, np.asarray(velocity, float), np.zeros(3))

    @noted
    def spin(self, figure: int | None, bones: frozenset[str], rate: float) -> None:
        """Add a spin about the upright axis through their centre of mass, rad/s, to the free bodies on these bones, or to all."""
        which = self.chosen(figure, bones)
        if len(which):
            add_velocity(self.built.world.bodies, which, np.zeros(3), np.array([0.0, rate, 0.0]))

    @noted
    def tug(self, figure: int, bone: str, place: Array) -> bool:
        """Take hold of a body at a place in the world (3,). False if the bone carries no body, or one on its keys."""
        found = self.built.parts[figure].on({bone})
        if not len(found) or not self.free()[found[0]]:
            return False
        place = np.asarray(place, float)
        b, t = self.built.world.bodies[found[0]], self.built.world.tugs[0]
        t["body"] = found[0]
        t["point"] = rotation.rotate(rotation.conjugate(b["q"]), place - b["x"])
        t["goal"] = place
        t["frequency"] = TUG_FREQUENCY
        t["mass"] = 0.6 * float(self.built.world.bodies["mass"][self.tugged(figure)].sum())
        return True

    def tugged(self, figure: int) -> NDArray[np.bool_]:
        """The bodies (n,) for whose mass a tug at a figure is tuned."""
        return self.free()

    @noted
    def move_tug(self, place: Array) -> None:
        """Where the held point is pulled to."""
        self.built.world.tugs[0]["goal"] = place

    @noted
    def let_go(self) -> None:
        """End the tug."""
        self.built.world.tugs[0]["body"] = -1

    def tug_line(self) -> Array | None:
        """From the held point to where it is pulled (2, 3); None without a tug."""
        t = self.built.world.tugs[0]
        if t["body"] < 0:
            return None
        b = self.built.world.bodies[t["body"]]
        return np.stack([b["x"] + rotation.rotate(b["q"], t["point"]), t["goal"]])

    def touches(self) -> Array:
        """Places where something touches now (N, 3)."""
        b = self.built.world.bodies
        return np.array(b["touch"][b["strongest"] > 0.0])

    @abstractmethod
    def matrices(self) -> list[Array]:
        """World bone matrices (B, 4, 4) of every figure now."""

    @abstractmethod
    def handovers(self) -> list[Array]:
        """How much each bone of every figure is shown as physics moves it (B,)."""

    @abstractmethod
    def keyed_matrices(self) -> list[Array]:
        """World bone matrices (B, 4, 4) of every figure on its keys."""
