"""Feet of a figure that is steered: one that stands stays where it is while the body goes on over it, and steps anew where that leads too far."""

from dataclasses import dataclass, field

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.gaits import Foot, feet_of
from artuline.core.motion.limbs import bent
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.run.shown import smooth_step
from artuline.core.scene.model import Figure

TOUCH = 0.008  # m above its lowest point to which a sole counts as touching
BACK = (0.08, 0.8)  # the part of its way through the air in which a foot comes back to its keys
EVEN = 22.0  # 1/s, twice over: how fast a sole comes to the ground, and the hips down to where their legs reach
FULL = 0.998  # share of its length to which a leg opens
LOWER = 0.14  # of a leg's length by which the hips go down at most for that
#: How far (of a leg's length) and how much turned (radians) a foot may stand from where its keys have it, while it goes, and at rest.
FAR, TURNED = (0.42, 0.05), (0.9, 0.25)
STEP = 0.26  # s of a step that is made for that
CLEAR = 0.035  # of a leg's length that a sole is above the ground at least, half way through the air
LIFT = (0.22, 0.07)  # share of such a step's length, and at most of a leg's length, that the foot is lifted


@dataclass
class _Foot:
    foot: Foot
    names: tuple[int, int, int]
    length: float
    stands: bool = False
    #: From its keys to where it is shown: a turn about Y and a way (3,), as they act at the ankle.
    turn: float = 0.0
    way: Array = field(default_factory=lambda: np.zeros(3))
    rise: float = 0.0
    rising: float = 0.0
    #: Where its keys had its sole, its ankle and its heading a step ago.
    sole: Array | None = None
    ankle: Array = field(default_factory=lambda: np.zeros(3))
    facing: Array = field(default_factory=lambda: np.array([0.0, 0.0, 0.0, 1.0]))
    #: Seconds since it began a step of its own, or how much of its way through the air its keys have done; and from where.
    step: float = -1.0
    flown: float = 0.0
    start: tuple[float, Array] = field(default_factory=lambda: (0.0, np.zeros(3)))


class Footing:
    """The feet of one figure, step by step. ``ground``: height of what they stand on, m."""

    def __init__(self, figure: Figure, ground: float):
        self.figure, self.ground = figure, ground
        self._skeleton = skeleton_of(figure)
        self._parents = np.array(self._skeleton.parents)
        rest = self._skeleton.global_matrices(self._skeleton.rest, np.diag([figure.unit] * 3 + [1.0]))[:, :3, 3]
        self._feet = []
        for foot in feet_of(figure):
            a, b, c = foot.bones
            length = float(np.linalg.norm(rest[b] - rest[a]) + np.linalg.norm(rest[c] - rest[b]))
            self._feet.append(_Foot(foot, foot.bones, length))
        self.leg = float(np.mean([f.length for f in self._feet])) if self._feet else 1.0
        self._drop, self._dropping = 0.0, 0.0

    def forget(self) -> None:
        """Begin anew where the keys have the feet."""
        fresh = Footing(self.figure, self.ground)
        self._feet, self._drop, self._dropping = fresh._feet, 0.0, 0.0

    def reflect(self, figure: Figure, across: Array) -> None:
        """The same for the mirror image of the figure: everything kept in the world goes through a reflection (4, 4)."""
        m, fresh = across[:3, :3], Footing(figure, self.ground)
        self.figure, self._skeleton = figure, fresh._skeleton
        for f, new in zip(self._feet, fresh._feet):
            f.foot, f.turn, f.way = new.foot, -f.turn, m @ f.way
            f.start = -f.start[0], m @ f.start[1]
            f.sole = None

    def settle(self, h: float, root: Array, pose: Pose, swings: Array, still: bool) -> tuple[Pose, Array]:
        """A pose (B,) under a root (4, 4) with its feet where they stand, after a time h; ``swings`` (feet,): how much of
        its way through the air each has done by its keys, 0 while it stands. Also the root, which goes down where legs would not reach.
        """
        if not self._feet:
            return pose, root
        matrices = self._skeleton.global_matrices(pose, root)
        p, q = rigid(matrices)
        goals = [
            self._goal(f, h, f.foot.sole(matrices), p[f.names[2]], q[f.names[2]], float(swings[k]), still)
            for k, f in enumerate(self._feet)
        ]
        need = max((self._short(f, p, place) for f, (place, _) in zip(self._feet, goals) if f.stands), default=0.0)
        self._drop, self._dropping = _approach(self._drop, self._dropping, need, EVEN, h)
        if self._drop > 1e-6:
            root = root.copy()
            root[1, 3] -= self._drop
            p[:, 1] -= self._drop
        places, facings = (np.array(x) for x in zip(*goals))
        return Pose(pose.translation, self._led(p, q, pose.rotation.copy(), places, facings), pose.scale), root

    def _goal(
        self, f: _Foot, h: float, sole: Array, ankle: Array, facing: Array, swing: float, still: bool
    ) -> tuple[Array, Array]:
        """Where a foot goes and how it faces."""
        low, keyed = float(sole[:, 1].min()) - self.ground, swing == 0.0
        if f.sole is None:
            f.sole, f.ankle, f.facing = sole, ankle, facing
            f.stands = f.stands or keyed
        self._begin_step(f, keyed, still)
        if f.step >= 0.0:
            f.step += h
            t = min(f.step / STEP, 1.0)
            left, far = 1.0 - float(smooth_step(np.array(t))), float(np.linalg.norm(f.start[1]))
            f.turn, f.way = f.start[0] * left, f.start[1] * left
            lift = min(LIFT[0] * far + 0.03 * abs(f.start[0]), LIFT[1] * f.length) * np.sin(np.pi * t)
            f.stands = False
            if t >= 1.0:
                f.step = -1.0
                f.stands = keyed
        elif keyed:
            self._keep(f, sole, ankle, facing)
            f.stands, lift = True, 0.0
        else:
            if f.stands:
                f.start, f.flown = (f.turn, f.way.copy()), 0.0
            f.flown = max(f.flown, swing)
            left = 1.0 - float(smooth_step(np.clip(np.array((f.flown - BACK[0]) / (BACK[1] - BACK[0])), 0.0, 1.0)))
            f.turn, f.way = f.start[0] * left, f.start[1] * left
            f.stands, lift = False, max(CLEAR * f.length * float(np.sin(np.pi * swing)) - max(low, 0.0), 0.0)
        f.sole, f.ankle, f.facing = sole, ankle, facing
        # the sole comes to the ground where it stands, and never goes below it
        wanted = -low if f.stands else max(-low, 0.0)
        f.rise, f.rising = _approach(f.rise, f.rising, wanted, EVEN, h)
        rise = max(f.rise, -low) if not f.stands else f.rise
        place = ankle + f.way + np.array([0.0, rise + lift, 0.0])
        return place, rotation.multiply(_about(f.turn), facing)

    def _keep(self, f: _Foot, sole: Array, ankle: Array, facing: Array) -> None:
        """Let the point of a standing foot that touches stay: what its keys move it by is taken back."""
        assert f.sole is not None
        # of its sole, what is on the ground, softly, so that it may roll
        weight = np.exp(-(sole[:, 1] - sole[:, 1].min()) / TOUCH)
        weight /= weight.sum()
        before, after = weight @ f.sole, weight @ sole
        held = f.ankle + f.way + rotation.rotate(_about(f.turn), before - f.ankle)
        f.turn = _wrapped(f.turn - _heading(rotation.multiply(facing, rotation.conjugate(f.facing))))
        f.way = (held - ankle - rotation.rotate(_about(f.turn), after - ankle)) * [1.0, 0.0, 1.0]

    def _begin_step(self, f: _Foot, keyed: bool, still: bool) -> None:
        """A foot that stands too far from its keys steps to where they have it, if all others stand or keys have it move on."""
        if f.step >= 0.0 or not keyed or any(o.step >= 0.0 for o in self._feet):
            return
        far = float(np.linalg.norm(f.way)) > FAR[still] * f.length or abs(f.turn) > TURNED[still]
        worse = max(self._feet, key=lambda o: float(np.linalg.norm(o.way)) / o.length + 0.3 * abs(o.turn))
        if far and (worse is f or not still):
            f.step, f.start = 0.0, (f.turn, f.way.copy())

    def _short(self, f: _Foot, p: Array, place: Array) -> float:
        """By how much the hips have to go down for a leg to reach a place; p (B, 3): places of bones."""
        a, b, c = (p[i] for i in f.names)
        full = FULL * float(np.linalg.norm(b - a) + np.linalg.norm(c - b))
        way = place - a
        across = float(np.hypot(way[0], way[2]))
        if float(np.linalg.norm(way)) <= full:
            return 0.0
        most = LOWER * f.length
        return min(-float(way[1]) - np.sqrt(full**2 - across**2), most) if across < full else most

    def _led(self, p: Array, q: Array, turns: Array, places: Array, facings: Array) -> Array:
        """Bend all legs to their feet's places (N, 3) and facings (N, 4); p (B, 3), q (B, 4): of bones; turns (B, 4): in place."""
        a, b, c = np.array([f.names for f in self._feet]).T
        up, middle = self._parents[a], self._parents[b]
        above = np.where((up >= 0)[:, None], q[up], rotation.IDENTITY)
        # what is between the two goes with the upper one
        stiff = rotation.multiply(rotation.conjugate(q[a]), q[middle])
        along = rotation.rotate(rotation.conjugate(np.stack([q[a], q[b]], 1)), np.stack([p[b] - p[a], p[c] - p[b]], 1))
        new = bent(above, p[a], along, np.stack([turns[a], rotation.multiply(stiff, turns[b])], 1), places)
        turns[a], turns[b] = new[:, 0], rotation.multiply(rotation.conjugate(stiff), new[:, 1])
        lower = rotation.multiply(rotation.multiply(above, new[:, 0]), new[:, 1])
        turns[c] = rotation.normalize(rotation.multiply(rotation.conjugate(lower), facings))
        return turns

    def places(self) -> list[tuple[bool, Array]]:
        """Whether each foot stands, and its way from its keys (3,), m."""
        return [(f.stands, f.way) for f in self._feet]


def _about(angle: float) -> Array:
    return np.array([0.0, np.sin(0.5 * angle), 0.0, np.cos(0.5 * angle)])


def _heading(q: Array) -> float:
    """The turn about Y of a rotation that is mostly one."""
    return float(2.0 * np.arctan2(q[1], q[3]))


def _wrapped(angle: float) -> float:
    return float((angle + np.pi) % (2.0 * np.pi) - np.pi)


def _approach(value, speed, goal, rate: float, h: float):  # type: ignore[no-untyped-def]
    """A value and its speed after a time h on the way to a goal, critically damped: exact at any h."""
    away = value - goal
    slope = speed + rate * away
    decay = np.exp(-rate * h)
    return goal + (away + slope * h) * decay, (speed - rate * slope * h) * decay
