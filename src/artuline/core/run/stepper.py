"""Stepping a world that was built from a scene, frame by frame: the same for recorded takes and for the live tryout."""

from itertools import pairwise
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.run.build import (
    Built,
    calm_rate,
    return_frequency,
    steady_damping,
    steady_frequency,
    tone_frequency,
)
from artuline.core.run.carried import carried_frequency
from artuline.core.run.forces import add_velocity, gravity_at, set_pushes, wind_at
from artuline.core.run.leading import Leading
from artuline.core.run.leaps import leaps


class Course(Protocol):
    """What steers a world over some frames, ``rate`` a second, of ``k`` substeps; rows of keyed motion begin ``lead`` substeps before.

    x (L + F k + 1, n, 3), r (..., n, 4): keyed places. Of every substep: free, goal, calm (F k, n); drive (F k, m); gravity and wind
    (F k, 3). ``ends`` (F, n): free at the end of each frame. ``left`` (L + F k + 1, n): of what is led to its place in the world
    while a physical body hangs on it, how much of the way there is left; None: nothing is. ``leaps`` (L + F k + 1, n): what is elsewhere than
    a substep before, without having been on the way. ``first``: its first frame. ``pushes``: whether the scene's pushes act.
    """

    first: float
    rate: float
    k: int
    lead: int
    x: Array
    r: Array
    free: NDArray[np.bool_]
    ends: NDArray[np.bool_]
    left: Array | None
    leaps: NDArray[np.bool_] | None
    goal: Array
    calm: Array
    drive: Array
    gravity: Array
    wind: Array
    pushes: bool


class Stepper:
    """Lets go, takes back, holds, pushes and steps. ``free`` (n,): which bodies were free at the end of the last frame."""

    def __init__(self, built: Built):
        self.built = built
        self.free = np.zeros(built.count, bool)
        #: Figures that have been free; they get a velocity of their own only once.
        self.started: set[int] = set()
        self._leading = Leading()

    def step(self, course: Course, frame: int) -> None:
        """Advance by one frame of a course."""
        a, b = frame * course.k, (frame + 1) * course.k
        built, world = self.built, self.built.world
        self._leading.follow(course)
        built.end_links(course.first + frame)
        self._take_back(course, a, course.free[a])
        built.set_present(course.first + frame, self._leaping(course, a, b))
        built.set_links(course.first + frame, self.free)
        light = (built.weight < 1.0).any()
        lift = (built.weight[:, None] - 1.0) * course.gravity[a] if light else None
        set_pushes(world, built.pushes if course.pushes else [], course.first + frame, course.rate, course.k, lift)
        self._start(course.free[a])
        # what comes back within the frame is taken back there
        cuts = [
            a,
            *(np.flatnonzero((course.free[a : b - 1] & ~course.free[a + 1 : b]).any(axis=1)) + a + 1).tolist(),
            b,
        ]
        for k, (first, last) in enumerate(pairwise(cuts)):
            if k:
                self._take_back(course, first, course.free[first])
            self._advance(course, first, last)
        # what is on its keys by the next frame is seen there in this one's end
        if (self.free & ~course.ends[frame]).any():
            built.end_links(course.first + frame + 1)
            self._take_back(course, b, course.ends[frame])

    def _advance(self, course: Course, first: int, last: int) -> None:
        """Over substeps in which nothing comes back to its keys."""
        world = self.built.world
        x, r, free = course.x[course.lead :], course.r[course.lead :], course.free[first:last]
        self.free = free[-1]
        if not free.any():
            world.bodies["x"], world.bodies["q"] = x[last], r[last]
            world.bodies["free"] = False
            return
        world.step_keyed(
            (last - first) / (course.rate * course.k), x[first : last + 1], r[first : last + 1], free, course.goal[first:last],
            course.drive[first:last], calm=course.calm[first:last], gravity=course.gravity[first:last], wind=course.wind[first:last],
            follow=self._follow(course, first),
        )  # fmt: skip

    def _follow(self, course: Course, at: int) -> NDArray[np.bool_]:
        """Which joints take their place on the parent from the keys (m,): not those of what is led, which is not on them."""
        world = self.built.world
        if course.left is None:
            return world.follow
        led = np.append(self._leading.now(course, at), False)
        return np.asarray(world.follow & ~led[world.joints["parent"]] & ~led[world.joints["child"]])

    def _take_back(self, course: Course, at: int, free: NDArray[np.bool_]) -> None:
        """Put all that is not ``free`` (n,) any more on its keys at a substep, with what hangs freely on it."""
        x, r = course.x[course.lead :], course.r[course.lead :]
        bodies, back = self.built.world.bodies, self.free & ~free
        led = self._leading.now(course, at) & ~self.free
        if course.left is not None:
            self._leading.begin(course, at, np.flatnonzero(back & (course.left[at + course.lead] > 0.0)), bodies)
        moved = self._bring_along(back, led, x[at], r[at])
        self._leading.begin(course, at, np.flatnonzero(moved & led), bodies)
        self.free = self.free & free
        start_keyed(bodies, ~self.free, course.x, course.r, 1.0 / (course.rate * course.k), at + course.lead)
        if course.leaps is not None:
            # what was not on the way has no speed of it
            row = at + course.lead
            leapt = ~self.free & course.leaps[max(row - 1, 0) : row + 1].any(axis=0)
            for name in ("v", "w", "chord", "keyed"):
                bodies[name][leapt] = 0

    def _leaping(self, course: Course, first: int, last: int) -> NDArray[np.bool_] | None:
        """What leaps within some substeps (n,): it touches nothing on its way."""
        if course.leaps is None:
            return None
        return np.asarray(course.leaps[course.lead + first + 1 : course.lead + last + 1].any(axis=0))

    def _bring_along(self, back: NDArray[np.bool_], led: NDArray[np.bool_], x: Array, r: Array) -> NDArray[np.bool_]:
        """Move what hangs freely, or is ``led`` (n,), on bodies that are ``back`` (n,) on their keys x (n, 3), r (n, 4) from now on with them: what is shown has come
        there softly, and the last bit from where they were would tear at it. What the world holds too stays. Returns what moved (n,).
        """
        world, seen = self.built.world, back.copy()
        seen |= ~self.free & ~led
        elsewhere = np.zeros(len(back), bool)
        moved = np.zeros(len(back), bool)
        b, joints = world.bodies, world.joints[world.joints["on"]]
        ends = np.stack([joints["parent"], joints["child"]], axis=1)
        elsewhere[ends[ends[:, 0] < 0, 1]] = True
        ends = ends[(ends >= 0).all(axis=1)]
        for i in np.flatnonzero(back):
            found, held = [int(i)], False
            for at in found:
                beside = ends[(ends == at).any(axis=1)].ravel()
                held = held or bool(elsewhere[beside].any())
                new = sorted({int(k) for k in beside if not seen[k]})
                seen[new] = True
                found += new
            if len(found) > 1 and not held:
                turn = rotation.multiply(r[i], rotation.conjugate(b["q"][i]))
                away = found[1:]
                moved[away] = True
                b["x"][away] = x[i] + rotation.rotate(turn, b["x"][away] - b["x"][i])
                b["q"][away] = rotation.multiply(turn, b["q"][away])
        return moved

    def _start(self, free: NDArray[np.bool_]) -> None:
        """Give figures that are handed over for the first time their own velocity and spin."""
        for k, part in enumerate(self.built.parts):
            mine = part.rows[free[part.rows]]
            if k not in self.started and len(mine):
                self.started.add(k)
                f = part.figure
                add_velocity(self.built.world.bodies, mine, np.array(f.velocity), np.array(f.spin))


class Chunk:
    """Keyed motion and lanes of some frames at every substep; ``held``: of the first frame only, standing still;
    ``lanes_at``: the frame before which lanes are as they are there.
    """

    def __init__(self, built: Built, first: int, frames: int, held: bool = False, lanes_at: int | None = None):
        scene = built.scene
        self.built, self.k = built, scene.substeps
        # with two substeps before, for the velocity of what is let go; nothing is known of what was before a scene
        self.lead = 2 if first > scene.start else 0
        times = first + np.arange(-self.lead, frames * self.k + 1) / self.k * (0.0 if held else 1.0)
        self.p, self.q = built.keyed(times)
        self.q = rotation.make_continuous(self.q)
        self.x, self.r = built.world.inner(self.p, self.q)
        self._times = times if lanes_at is None else np.maximum(times, lanes_at)
        times = times[self.lead :]
        middle = times[:-1] + (0.0 if held else 0.5 / self.k)
        if lanes_at is not None:
            middle = np.maximum(middle, lanes_at)
        self.handover, self.tone = built.lanes(middle)
        self._middle, self._ends = middle, self._times[self.lead + self.k :: self.k]
        self._end_handover, _ = built.lanes(self._ends)
        steadiness, calm = built.firmness(middle)
        mass, carried = built.world.bodies["mass"], built.carried()
        steady = steady_frequency(steadiness, mass, carried)
        self._steady = steady
        self.calm = calm_rate(calm) + steady_damping(steady, mass, carried)
        self._own = np.array([j.tone for _, j in built.joints])
        self._child = built.world.joints["child"][: len(self._own)]
        self._arrange()
        self.leaps = leaps(built, self._times, self.x)
        self._let_go_where_held()
        self.first: float = first
        self.rate = scene.rate
        # a substep begins with the kick of the time around its start
        self.gravity, self.wind = gravity_at(scene, times[:-1]), wind_at(scene, times[:-1])
        self.pushes = True

    def _arrange(self) -> None:
        """Find what is free, and what drives it to its keys: in the world as far as what carries it is on its keys too, else against that."""
        carrier = self.built.carriage.carriers(self.handover, self._middle)
        self.free = (self.handover > 0.0) | (carrier > 0.0)
        self.ends = (self._end_handover > 0.0) | (self.built.carriage.carriers(self._end_handover, self._ends) > 0.0)
        self.left = self._ways_left()
        if self.left is not None:
            self.free &= self.left[self.lead : -1] == 0.0
        self.goal = np.maximum(return_frequency(np.maximum(self.handover, carrier)), self._steady)
        own = np.where(
            self.built.springs > 0.0, self.built.springs, tone_frequency(self.tone[:, self._child] * self._own)
        )
        against = carried_frequency(self.handover[:, self._child], carrier[:, self._child])
        self.drive = np.zeros((len(self.handover), len(self.built.world.joints)))
        self.drive[:, : len(self._own)] = np.maximum(own, against)

    def _let_go_where_held(self) -> None:
        """What is handed over as a mount ends goes on from where that had it, not from where its own keys would have it then."""
        if self.leaps is None:
            return
        free = np.concatenate([self.free, self.ends[-1:]])
        for i, body in np.argwhere(self.leaps).tolist():
            if i >= self.lead and free[i - self.lead, body]:
                self.leaps[i, body] = False
                x, r = self.x[:, body], self.r[:, body]
                # two rows more, since the velocity is that of the rows on both sides
                for k in range(i, min(i + 4, len(x))):
                    last = max(k - 2, 0)
                    x[k] = 2.0 * x[k - 1] - x[last]
                    r[k] = rotation.multiply(rotation.multiply(r[k - 1], rotation.conjugate(r[last])), r[k - 1])
        if not self.leaps.any():
            self.leaps = None

    def _ways_left(self) -> Array | None:
        """How much is left of the way of what comes back to its place in the world: a physical body that hangs on it is led there too."""
        in_world = self.built.carriage.in_world
        if not in_world.any():
            return None
        times = self._times
        now, next_ = self.built.lanes(times)[0], self.built.lanes(times + 0.1 / self.k)[0]
        return np.where(in_world & (next_ < now), now, 0.0)

    def give(self, rows: NDArray[np.int64], frame: int, tone: float) -> None:
        """Hand bodies over from a frame of the chunk on, with a tone at least."""
        a = max(frame, 0) * self.k
        self.handover[a:, rows] = 1.0
        self.handover[a:] = self.built.riding_along(self.handover[a:].copy(), self._middle[a:])
        self._end_handover[max(frame, 0) :, rows] = 1.0
        self._end_handover[max(frame, 0) :] = self.built.riding_along(
            self._end_handover[max(frame, 0) :].copy(), self._ends[max(frame, 0) :]
        )
        self.tone[a:, rows] = np.maximum(self.tone[a:, rows], tone)
        self._arrange()


class Standing:
    """One frame in which the keys stand still where they are, x (n, 3), r (n, 4), and drives (m,) hold what is free (n,)."""

    def __init__(
        self, built: Built, first: float, rate: float, k: int, x: Array, r: Array, free: NDArray[np.bool_], drive: Array
    ):
        self.first, self.rate, self.k, self.lead = first, rate, k, 2
        self.left: Array | None = None
        self.leaps: NDArray[np.bool_] | None = None
        self.x, self.r = np.repeat(x[None], k + 3, 0), np.repeat(r[None], k + 3, 0)
        self.free, self.drive, self.ends = np.repeat(free[None], k, 0), np.repeat(drive[None], k, 0), free[None]
        self.goal = self.calm = np.zeros((k, built.count))
        self.gravity = np.repeat(built.world.gravity[None], k, 0)
        self.wind = np.repeat(built.world.wind[None], k, 0)
        self.pushes = False


def start_keyed(bodies: np.ndarray, keyed: np.ndarray, x: Array, q: Array, h: float, row: int) -> None:
    """Put keyed bodies on their keys x (F, n, 3), q (F, n, 4), a time h apart, at a row, with what is known of their motion before.

    With no two rows before it they get the velocity of this moment, so that those let go now start with it.
    """
    bodies["x"][keyed], bodies["q"][keyed] = x[row][keyed], q[row][keyed]
    bodies["last"][keyed] = 0.0
    if row < 2:
        v, w = velocity_at(x, q, h, row)
        bodies["v"][keyed], bodies["w"][keyed], bodies["keyed"][keyed] = v[keyed], w[keyed], 0
        return
    v, w = _chords(x[row - 2 : row + 1], q[row - 2 : row + 1], h)
    bodies["chord"][keyed, :3], bodies["chord"][keyed, 3:] = v[0][keyed], w[0][keyed]
    bodies["v"][keyed], bodies["w"][keyed], bodies["keyed"][keyed] = v[1][keyed], w[1][keyed], 2


def _chords(x: Array, q: Array, h: float) -> tuple[Array, Array]:
    """Mean velocities and spins (F - 1, n, 3) between poses a time h apart."""
    return np.diff(x, axis=0) / h, rotation.to_rotation_vector(rotation.multiply(q[1:], rotation.conjugate(q[:-1]))) / h


def velocity_at(x: Array, q: Array, h: float, row: int) -> tuple[Array, Array]:
    """Velocity and spin (n, 3) of keyed poses at a row: of the parabola through it and two rows beside it, as far as there are."""
    first = min(max(row - 1, 0), max(len(x) - 3, 0))
    v, w = _chords(x[first : first + 3], q[first : first + 3], h)
    if len(v) == 1:
        return v[0], w[0]
    k = row - first - 0.5
    return v[0] + k * (v[1] - v[0]), w[0] + k * (w[1] - w[0])
