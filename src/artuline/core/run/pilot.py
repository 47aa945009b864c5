"""Where a steered figure goes, and its keyed pose there: from what is wished for to a root and a pose, step by step."""

from dataclasses import dataclass

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.gaits import Stride, forward_of, stride_of
from artuline.core.motion.paces import Paces, between, sampled
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.run.footing import Footing
from artuline.core.run.shown import smooth_step
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure
from artuline.core.scene.steering import Steering
from artuline.core.setup.reflected import side_axis, turned

GAINS, STOPS = 2.2, 3.2  # m/s^2
SOFTLY = 7.0  # 1/s: how fast it comes to a speed in the end
TURNS = (2.4, 1.5)  # radians a second, at rest and at its fastest
TURN_SOFTLY = 9.0  # 1/s: how fast it begins and ends to turn
ABOUT = 3.6  # radians a second at most while it turns about
SLOW_ABOUT = 0.35  # share of its speed that is left meanwhile
NEAR, EAGER = 0.25, 1.4  # m within which who follows stands, and 1/s by which it makes up for what is missing
PASSAGE = 0.7  # s in which it comes from how it lies into a clip that gets up
UNAIDED = 1.8  # s in which it comes up without one
INTO = 0.45  # s in which such a clip passes into how it stands


#: Paces, what it gets up with, and which way it faces at rest (radians).
Known = tuple[Paces, tuple[Stride, ...], float]


@dataclass(frozen=True)
class Wish:
    """What is wished for now: a speed in m/s, and a turn from -1 (to the right) to 1 (to the left)."""

    speed: float = 0.0
    turn: float = 0.0


@dataclass(frozen=True, eq=False)
class _Rise:
    """On the way up: from a pose (B,) under the root, with a clip or none; ``time`` since it began."""

    pose: Pose
    clip: Stride | None
    passage: float


class Pilot:
    """A figure that is steered. ``place`` (3,) m: where its file has its origin; ``heading``: radians about Y, 0 along Z; ``speed`` m/s."""

    def __init__(self, figure: Figure, assets: AssetStore, steering: Steering, root: Array, ground: float):
        """Raises ArtulineError if it has no clip to go with."""
        self._known: list[tuple[Figure, Steering, Known]] = []
        self._learn(figure, assets, steering)
        self.footing = Footing(figure, ground)
        self.place, turn = rigid(root)
        self.heading = float(2.0 * np.arctan2(turn[1], turn[3])) + self._ahead
        self.speed = self._gain = self.turning = self.phase = self.time = 0.0
        self._goal: float | None = None
        self._rise: _Rise | None = None
        self._since = 0.0
        #: A level direction (3,) in which something draws it, and from 0 to 1 how taut that is.
        self.drawn: tuple[Array, float] = (np.zeros(3), 0.0)
        self.steps(0.0, Wish())

    def _learn(self, figure: Figure, assets: AssetStore, steering: Steering) -> None:
        """The clips that it goes with: of the figures that it was and is mirrored to and fro, what it knows already."""
        known = next((k for f, how, k in self._known if f is figure and how is steering), None)
        if known is None:
            known = self._found(figure, assets, steering)
            self._known = [(figure, steering, known), *self._known[:1]]
        self.paces, self.rises, self._ahead = known
        self.figure = figure

    @staticmethod
    def _found(figure: Figure, assets: AssetStore, steering: Steering) -> Known:
        """What is to be known of its clips. Raises ArtulineError if none goes."""
        refs = {c.name: c for c in figure.clips}
        gaits = [g for g in steering.gaits if g.clip in refs]
        rises = [r for r in steering.rises if r in refs]
        strides = {name: stride_of(figure, assets, refs[name]) for name in {*(g.clip for g in gaits), *rises}}
        paces = Paces([strides[g.clip] for g in gaits], [g.speed for g in gaits])
        if not paces.moving:
            raise ArtulineError(
                f"{figure.name} has no clip to go with", remedy="Give one a speed in the list of its gaits, in Cast."
            )
        ahead = forward_of(figure)
        return paces, tuple(strides[r] for r in sorted(rises)), float(np.arctan2(ahead[0], ahead[2]))

    @property
    def rising(self) -> bool:
        """Whether it is on the way up."""
        return self._rise is not None

    def turn_about(self) -> None:
        """Make for the other way."""
        self._goal = (self._goal if self._goal is not None else self.heading) + np.pi

    def halt(self) -> None:
        """Stop at once: physics has it."""
        self.speed = self._gain = self.turning = 0.0
        self._goal = None
        self._rise = None

    def steps(self, h: float, wish: Wish) -> tuple[Pose, Array]:
        """A time h later: its keyed pose (B,) and its root (4, 4)."""
        self.time += h
        if self._rise is not None:
            found = self._up(h)
        else:
            self._go(h, wish)
            pose, swings = self.paces.pose(self.speed, self.phase, self.time)
            found = self.footing.settle(max(h, 1e-6), self.root(), pose, swings, bool(self.speed <= 0.0))
        self.pose, self.shown_root = found
        return found

    def _go(self, h: float, wish: Wish) -> None:
        speed = min(max(wish.speed, 0.0), self.paces.fastest)
        ahead = np.array([np.sin(self.heading), 0.0, np.cos(self.heading)])
        speed *= 1.0 - self.drawn[1] * max(-float(ahead @ self.drawn[0]), 0.0)
        fast = self.speed / max(self.paces.fastest, 1e-9)
        most = TURNS[0] + fast * (TURNS[1] - TURNS[0])
        turn = float(np.clip(wish.turn, -1.0, 1.0)) * most
        if self._goal is not None:
            left = self._goal - self.heading
            if abs(left) < 0.02 or wish.turn:
                self._goal = None
            else:
                turn = float(np.clip(4.0 * left, -ABOUT, ABOUT))
                speed *= SLOW_ABOUT
        self.turning += (turn - self.turning) * (1.0 - np.exp(-TURN_SOFTLY * h))
        wanted = float(np.clip(SOFTLY * (speed - self.speed), -STOPS, GAINS))
        self._gain += (wanted - self._gain) * (1.0 - np.exp(-2.5 * SOFTLY * h))
        before = self.speed
        self.speed = max(self.speed + self._gain * h, 0.0)
        if speed == 0.0 and self.speed < 0.02:
            self.speed = self._gain = 0.0
        self.heading += 0.5 * self.turning * h
        way = 0.5 * (before + self.speed) * h
        self.place = self.place + way * np.array([np.sin(self.heading), 0.0, np.cos(self.heading)])
        self.heading += 0.5 * self.turning * h
        self.phase += self.paces.mix(0.5 * (before + self.speed))[2] * h

    def root(self) -> Array:
        """Where its file's origin is, with its unit (4, 4), before its hips go down."""
        turn = np.array(
            [0.0, np.sin(0.5 * (self.heading - self._ahead)), 0.0, np.cos(0.5 * (self.heading - self._ahead))]
        )
        return transforms.compose(self.place, turn, np.full(3, self.figure.unit))

    def get_up(self, pose: Pose) -> None:
        """From a pose (B,), under its root, in which it lies, with the clip that begins most like it."""
        skeleton, root = skeleton_of(self.figure), self.root()
        lies = skeleton.global_matrices(pose, root)
        options: list[Stride | None] = [*self.rises] or [None]
        found = min(((*self._fit(clip, lies), clip) for clip in options), key=lambda x: x[0])
        _, turn, move, clip = found
        # its root goes to where the clip begins with what lies there; the pose stays where it is
        self.heading += turn
        self.place = rotation.rotate(_upright(turn), self.place) + move
        new = self.root()
        local = pose.copy()
        for b, up in enumerate(skeleton.parents):
            if up < 0:
                m = np.linalg.inv(new) @ lies[b]
                local.translation[b], local.rotation[b] = rigid(m)
        self.speed = self._gain = self.turning = 0.0
        self._goal, self._since = None, 0.0
        self._rise = _Rise(local, clip, PASSAGE if clip is not None else UNAIDED)
        self.footing.forget()

    def _fit(self, clip: Stride | None, lies: Array) -> tuple[float, float, Array]:
        """How far a clip's beginning is from how it lies (B, 4, 4) (radians, on average), and the turn and level move (3,) that bring it there."""
        skeleton, root = skeleton_of(self.figure), self.root()
        begins = sampled(clip, 0.0) if clip is not None else self.paces.pose(0.0, 0.0, 0.0)[0]
        there = skeleton.global_matrices(begins, root)
        bodies = sorted(self.figure.bone_index[b.bone] for b in self.figure.bodies) or [0]
        (p, q), (p0, q0) = rigid(lies[bodies]), rigid(there[bodies])
        turn = _best(rotation.multiply(q, rotation.conjugate(q0)))
        off = rotation.angle_between(q, rotation.multiply(_upright(turn), q0))
        move = (p[0] - rotation.rotate(_upright(turn), p0[0])) * [1.0, 0.0, 1.0]
        return float(off.mean()), turn, move

    def _up(self, h: float) -> tuple[Pose, Array]:
        """On the way up."""
        rise = self._rise
        assert rise is not None
        self._since += h
        end = rise.clip.duration if rise.clip is not None else 0.0
        share = float(smooth_step(np.clip(np.array(self._since / rise.passage), 0.0, 1.0)))
        stand, swings = self.paces.pose(0.0, self.phase, self.time)
        goal = stand
        if rise.clip is not None:
            at = float(np.clip((self._since - rise.passage) / max(end, 1e-6), 0.0, 1.0))
            over = float(smooth_step(np.clip(np.array((self._since - rise.passage - end + INTO) / INTO), 0.0, 1.0)))
            goal = between(sampled(rise.clip, at), stand, over)
            i = min(int(at * (len(rise.clip.stands) - 1)), len(rise.clip.stands) - 1)
            swings = rise.clip.swing[i] if over < 0.5 else swings
        pose = between(rise.pose, goal, share)
        if self._since < rise.passage:
            # feet lie as they do, and are not led through the ground
            swings = np.full(len(swings), 1e-6)
        elif self._since >= rise.passage + end:
            self._rise = None
            pose, swings = self.paces.pose(0.0, self.phase, self.time)
        return self.footing.settle(max(h, 1e-6), self.root(), pose, swings, self._rise is None)

    def after(self, leader: Array, pace: float, distance: float) -> Wish:
        """What to wish for to stay behind somebody at a place (3,), who goes at a pace (m/s), at a distance (m)."""
        way = (leader - self.place) * [1.0, 0.0, 1.0]
        far = float(np.linalg.norm(way))
        off = (np.arctan2(way[0], way[2]) - self.heading + np.pi) % (2.0 * np.pi) - np.pi
        turn = float(np.clip(1.6 * off, -1.0, 1.0)) if far > 0.2 and abs(off) > 0.1 else 0.0
        missing = far - distance
        near = NEAR if self.speed == 0.0 else -NEAR
        speed = max((pace + EAGER * missing) * max(np.cos(off), 0.0), 0.0) if missing > near else 0.0
        return Wish(speed, turn)

    def pulled(self, far: float) -> None:
        """Be drawn by a distance, m, to where something draws it."""
        self.place = self.place + far * self.drawn[0]
        self.shown_root = self.shown_root.copy()
        self.shown_root[:3, 3] += far * self.drawn[0]

    def reflect(self, figure: Figure, assets: AssetStore, steering: Steering, across: Array) -> None:
        """Be the mirror image of the figure: all that is kept in the world goes through a reflection (4, 4) of the plane that it faces along."""
        clip = self._rise.clip.clip if self._rise is not None and self._rise.clip is not None else None
        self._learn(figure, assets, steering)
        self.turning = -self.turning
        self.footing.reflect(figure, across)
        if self._rise is not None:
            pose, axis = self._rise.pose, side_axis(figure)
            signs = np.array([1.0, 1.0, -1.0] if axis == 2 else [-1.0, 1.0, 1.0])
            self._rise = _Rise(
                Pose(pose.translation * signs, turned(axis, pose.rotation), pose.scale),
                next((r for r in self.rises if r.clip == clip), None), self._rise.passage,
            )  # fmt: skip
        self.steps(0.0, Wish(self.speed))

    def take_over(self, other: "Pilot") -> None:
        """Go on where another one is."""
        self.place, self.heading, self.speed, self._gain = other.place, other.heading, other.speed, other._gain
        self.turning, self.phase, self.time, self._goal = other.turning, other.phase, other.time, other._goal
        self.steps(0.0, Wish(self.speed))


def _upright(angle: float) -> Array:
    return np.array([0.0, np.sin(0.5 * angle), 0.0, np.cos(0.5 * angle)])


def _best(q: Array) -> float:
    """The turn about Y that is nearest to some rotations (n, 4): it maximises the sum of squared cosines of the half angles that are left."""
    # (y sin + w cos)^2 summed is a quadratic form of (sin, cos) of half the angle
    yy, yw, ww = (q[:, 1] ** 2).sum(), (q[:, 1] * q[:, 3]).sum(), (q[:, 3] ** 2).sum()
    values, vectors = np.linalg.eigh(np.array([[yy, yw], [yw, ww]]))
    s, c = vectors[:, int(np.argmax(values))]
    return float(2.0 * np.arctan2(s, c))
