"""Figures that are steered over the ground while everything physical on them goes on: the live side of a take."""

from collections.abc import Callable, Mapping

import numpy as np
from numpy.typing import NDArray

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.gaits import feet_of
from artuline.core.motion.keyed import root_at
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.run.build import (
    Part,
    calm_rate,
    require_bodies,
    return_frequency,
    steady_damping,
    steady_frequency,
    tone_frequency,
)
from artuline.core.run.carried import carried_frequency
from artuline.core.run.exchange import Mirror, carry, rows_between
from artuline.core.run.forces import gravity_at, wind_at
from artuline.core.run.key_path import KeyPath
from artuline.core.run.leashes import between_two, hold_back, leashes
from artuline.core.run.live import LiveWorld, noted
from artuline.core.run.pilot import PASSAGE, UNAIDED, Pilot, Wish
from artuline.core.run.rules import Rules
from artuline.core.run.shown import shown_pose, smooth_step
from artuline.core.run.small_step import Limp, SmallStep, bone_shares, live_matrices
from artuline.core.run.stepper import Stepper, start_keyed
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import BodyRef, Figure, Push, Scene
from artuline.core.scene.steering import Steering
from artuline.core.setup.gait_proposal import propose_steering
from artuline.core.setup.reflected import carried_along, reflected_scene, side_axis

STEPS = 24.0  # a second at least, in whole parts of a frame
LIMP_TONE = 0.07  # of what was knocked over
ARRIVING = 0.3  # s in which what comes back to its keys makes up for what is missing
TOUCHES = 0.6  # handed over by so much, what comes back to its keys still touches something
STILL = (0.12, 0.5)  # m/s, and s for which what lies moves slower before it gets up
LONGEST = 8.0  # s that it lies at most
LIMB_LIMP = 1.0  # s for which a limb that is pushed is limp
LIMB_RETURNS = 0.4  # s in which a limb comes back


class Steered(LiveWorld):
    """Some figures of a scene on their feet, led by wishes; whatever a group hands over at its frame is physical, all else is on its keys, which go on."""

    def __init__(self, scene: Scene, assets: AssetStore, frame: float, figures: Mapping[str, Steering | None]):
        """``figures``: those that are steered, by id, with how they go; None: as proposed. The first is led by wishes; one that follows another
        goes by itself. Raises ArtulineError if one has no clip to go with.
        """
        require_bodies(scene)
        #: Small steps in a frame, and substeps in a step.
        self.per_frame = max(1, int(np.ceil(STEPS / scene.rate - 1e-9)))
        self.substeps = max(1, int(np.ceil(scene.substeps / self.per_frame)))
        self.step_time = 1.0 / (scene.rate * self.per_frame)
        self.mirrored: frozenset[str] = frozenset()
        self.steered, self._hushed = frozenset(figures), set[str]()
        super().__init__(scene, assets, frame)
        self.journal = []
        #: The scene with which it began, and what was asked of its figures; what is called after every whole frame.
        self.began, self.began_with = scene, dict(figures)
        self.after: Callable[[], None] = lambda: None
        self.wishes: dict[str, Wish] = {}
        self._limp: dict[str, Limp] = {}
        self._pushes: list[tuple[int, Push]] = []
        now = np.array([float(frame)])
        self._gravity = gravity_at(scene, now)[0]
        self.pilots: dict[str, Pilot] = {}
        self.steerings: dict[str, Steering] = {}
        #: How they go by the scene, and the scene as it is in the document: what is mirrored here is not there.
        self.asked, self.drawn_scene = dict(figures), scene
        #: The scene by which figures are mirrored in it.
        self._reflected: dict[frozenset[str], Scene] = {frozenset(): scene}
        for id_, steering in figures.items():
            self.steerings[id_], self.pilots[id_] = self._pilot(scene, id_, steering)
        self._place()
        self.built.set_links(frame)

    def _pilot(self, scene: Scene, id_: str, steering: Steering | None) -> tuple[Steering, Pilot]:
        """How a figure goes, and its pilot where it stands in the scene."""
        f, how = scene.figure(id_), steering
        if how is None or not how.gaits:
            made = propose_steering(f, self.assets)
            how = made if how is None else made.changed(follows=how.follows, distance=how.distance)
        root = root_at(scene, self.assets, f, np.array([float(self.frame)]))[0]
        ground = scene.ground.height if scene.ground is not None else float(root[1, 3])
        return how, Pilot(f, self.assets, how, root, ground)

    def _apart(self, scene: Scene) -> list[tuple[BodyRef, BodyRef]]:
        """Feet do not touch strands: a line that a foot on its keys presses to the ground has nowhere to go. Nor has one
        between two that is wound about who is steered, so that it goes through them.
        """
        off, held = list[tuple[BodyRef, BodyRef]](), between_two(scene)
        for id_ in sorted(self.steered):
            f = scene.figure(id_)
            feet = {n for x in feet_of(f) for n in f.below(f.bones[x.bones[2]].name) & f.body_of.keys()}
            for strand in (s for s in scene.figures if s.made is not None):
                mine = sorted(f.body_of if strand.id in held else feet)
                ends = [BodyRef(id_, f.body_of[name].id) for name in mine]
                off += [(a, BodyRef(strand.id, b.id)) for a in ends for b in strand.bodies]
        return off

    def _hush(self, id_: str, on: bool) -> None:
        """Let a figure touch nothing, or what it did: on its way up it would press what lies under it, and that has nowhere to go either."""
        built = self.built
        rows = next(p.rows for p in built.parts if p.figure.id == id_)
        built.world.set_silent(np.isin(built.world.shapes["body"], rows) & ~built.ghosts, on)
        (self._hushed.add if on else self._hushed.discard)(id_)

    # what leads

    def pose(self, figure: Figure, frames: Array) -> Pose | None:
        """The pose (F, B) of a figure that is steered."""
        pilot = self.pilots.get(figure.id)
        if pilot is None:
            return None
        return Pose(
            *(
                np.repeat(x[None], len(frames), axis=0)
                for x in (pilot.pose.translation, pilot.pose.rotation, pilot.pose.scale)
            )
        )

    def root(self, figure: Figure, frames: Array) -> Array | None:
        """Its root (F, 4, 4)."""
        pilot = self.pilots.get(figure.id)
        return None if pilot is None else np.repeat(pilot.shown_root[None], len(frames), axis=0)

    def _place(self) -> None:
        """Put everything on its keys, at rest."""
        built, world = self.built, self.built.world
        built.lead = self
        self._leashes = leashes(built)
        world.gravity[:], world.wind[:] = self._gravity, wind_at(self.scene, np.array([float(self.frame)]))[0]
        self._wind = world.wind.copy()
        at = np.array([float(self.frame)])
        (self._handover, tone), (steadiness, calm) = built.lanes(at), built.firmness(at)
        mass, carried = world.bodies["mass"], built.carried()
        self._tone, self._steady = tone[0], steady_frequency(steadiness[0], mass, carried)
        self._calm = calm_rate(calm[0]) + steady_damping(self._steady, mass, carried)
        self._own = np.array([j.tone for _, j in built.joints])
        self._keyed = np.zeros((built.count, 3)), np.tile([0.0, 0.0, 0.0, 1.0], (built.count, 1))
        self._share = np.zeros(built.count)
        self._matrices: list[Array | None] = [None] * len(built.parts)
        x, r = self._keys(set(range(len(built.parts))))
        self._path = KeyPath(x, r, self.substeps)
        start_keyed(
            world.bodies, np.ones(len(world.bodies), bool), np.repeat(x[None], 3, 0), np.repeat(r[None], 3, 0), 1.0, 2
        )
        #: What came to its keys lately: rows, when, and what was missing then (k, 3), (k, 3).
        self._arriving: list[tuple[NDArray[np.int64], float, Array, Array]] = []
        self._stepper = Stepper(built)
        self._stepper.started = set(range(len(built.parts)))
        self.rules = Rules(built, self.steered)
        self._share = self._shares()
        self._stepper.free = self.free()
        built.set_present(self.frame)

    @property
    def now(self) -> float:
        """The frame of the scene at which its other keys are."""
        return self.frame + self.steps_done / self.per_frame

    def _keys(self, which: set[int] | None = None) -> tuple[Array, Array]:
        """Keyed poses of all bodies' principal axes now: (n, 3), (n, 4). Of figures that do not move by their keys, or that physics has for good, as they were."""
        if which is None:
            which = {k for k, part in enumerate(self.built.parts) if self._led(part)}
        parts = [(self.built.parts[k], self._of_keys(k, True)) for k in sorted(which) if len(self.built.parts[k].rows)]
        x, r = self._keyed[0].copy(), self._keyed[1].copy()
        if parts:
            world, rows = self.built.world, np.concatenate([part.rows for part, _ in parts])
            at = rigid(np.concatenate([m[part.bones] for part, m in parts]))
            x[rows], r[rows] = transforms.rigid_multiply(at[0], at[1], world.local_p[rows], world.local_q[rows])
        self._keyed = x, r
        return x, r

    def _of_keys(self, k: int, anew: bool = False) -> Array:
        """World bone matrices (B, 4, 4) of a figure on its keys, as they were found last, or ``anew``."""
        if anew or self._matrices[k] is None:
            part, now = self.built.parts[k], np.array([self.now])
            root = root_at(self.scene, self.assets, part.figure, now, self.built.pose, self)
            self._matrices[k] = skeleton_of(part.figure).global_matrices(self.built.pose(part.figure, now), root)[0]
        found = self._matrices[k]
        assert found is not None
        return found

    def _led(self, part: Part) -> bool:
        """Whether the keys of a figure matter and change."""
        f, rows = part.figure, part.rows
        if f.id in self.pilots:
            return True
        moves = f.clip is not None or len(f.track.frames) > 1 or bool(f.mounts) or any(x.steers for x in f.layers)
        return moves and not (len(rows) and (self._share[rows] >= 1.0).all() and not self._steady[rows].any())

    def _shares(self) -> Array:
        """How much every body is handed over (n,)."""
        if not self._limp and not self.rules.given:
            return self._handover[0].copy()
        share = self._handover.copy()
        for k in self.rules.given:
            share[0, self.built.parts[k].rows] = 1.0
        for limp in self._limp.values():
            share[0, limp.rows] = np.maximum(share[0, limp.rows], limp.share)
        return self.built.riding_along(share, np.array([float(self.frame)]))[0]

    @property
    def share(self) -> Array:
        """How much every body is handed over now (n,)."""
        return self._share

    def free(self) -> NDArray[np.bool_]:
        """Which bodies physics moves now (n,)."""
        return np.asarray((self._share > 0.0) | (self._carriers(self._share) > 0.0))

    def _carriers(self, share: Array) -> Array:
        """How physical that is what each body hangs on now (n,), for a handover (n,)."""
        return self.built.carriage.carriers(share[None], np.array([float(self.frame)]))[0]

    def tugged(self, figure: int) -> NDArray[np.bool_]:
        """The free bodies of a figure: others are not lifted with it."""
        mine = np.zeros(self.built.count, bool)
        mine[self.built.parts[figure].rows] = True
        return mine & self.free() if (mine & self.free()).any() else mine

    # what is done to it

    @noted
    def steer(self, figure: str, speed: float, turn: float) -> None:
        """What is wished for from now on: m/s, and a turn from -1 (to the right) to 1."""
        self.wishes[figure] = Wish(speed, turn)

    @noted
    def turn_about(self, figure: str) -> None:
        """Make for the other way."""
        if figure not in self._limp:
            self.pilots[figure].turn_about()

    @noted
    def knock(self, figure: str, bone: str, impulse: Array) -> None:
        """Hit the body that carries a bone with an impulse (3,), N s: the figure goes limp, lies, and gets up once it lies still."""
        f = self.scene.figure(figure)
        part = next(p for p in self.built.parts if p.figure.id == figure)
        body = f.carrier(bone)
        if body is None or not len(part.rows):
            raise ArtulineError(f"{f.name} has no body on {bone} to hit", remedy="Fit bodies first.")
        for key in [k for k, v in self._limp.items() if np.isin(v.rows, part.rows).any()]:
            del self._limp[key]
        if figure in self._hushed:
            # one that was on its way up falls onto what is there
            self._hush(figure, False)
        self._limp[figure] = Limp(part.rows, None, PASSAGE, whole=self.built.parts.index(part))
        self.pilots[figure].halt()
        self._hit(part.row(body), figure, body.id, impulse)

    @noted
    def knock_limb(self, figure: str, bone: str, impulse: Array, seconds: float) -> None:
        """Hit the body that carries a bone with an impulse (3,), N s: it and all below it are limp for a time."""
        f = self.scene.figure(figure)
        part = next(p for p in self.built.parts if p.figure.id == figure)
        body = f.carrier(bone)
        if body is None or figure in self._limp or figure in self._hushed:
            return
        rows = part.on(f.below(body.bone))
        self._limp[f"{figure} {body.bone}"] = Limp(rows, seconds, LIMB_RETURNS)
        self._hit(part.row(body), figure, body.id, impulse)

    def push(self, figure: int | None, bones: frozenset[str], velocity: Array) -> None:
        """Add a velocity (3,), m/s, to the free bodies on these bones, or to all; a limb of a steered figure on its keys goes limp with it."""
        if figure is not None and bones and not len(self.chosen(figure, bones)):
            part = self.built.parts[figure]
            rows = part.on(bones)
            if part.figure.id in self.pilots and len(rows):
                bone = part.bodies[int(np.flatnonzero(part.rows == rows[0])[0])].bone
                mass = float(self.built.world.bodies["mass"][part.on(part.figure.below(bone))].sum())
                self.knock_limb(part.figure.id, bone, mass * np.asarray(velocity, float), LIMB_LIMP)
            return
        super().push(figure, bones, velocity)

    def _hit(self, row: int, figure: str, body: str, impulse: Array) -> None:
        made = Push(
            id="hit", figure=figure, body=body, impulse=tuple(np.asarray(impulse, float)), start=self.frame, frames=1
        )
        self._pushes.append((row, made))

    def change(self, scene: Scene) -> None:
        """Go on with other values of the scene: what is there in both keeps its place and its speed. Raises ArtulineError, and then all is as it was."""
        require_bodies(scene)
        missing = [id_ for id_ in self.pilots if id_ not in {f.id for f in scene.figures}]
        if missing:
            raise ArtulineError(f"{missing[0]} is steered, and is gone", remedy="End the steering first.")
        steerings = {f.id: f.steering for f in scene.figures if f.id in self.pilots}
        if any(steerings[id_] != self.asked[id_] for id_ in self.pilots):
            made = {id_: self._pilot(scene, id_, steerings[id_]) for id_ in self.pilots}
            for id_, (how, pilot) in made.items():
                pilot.take_over(self.pilots[id_])
                self.steerings[id_], self.pilots[id_] = how, pilot
            self.asked = steerings
        if self.journal is not None:
            self.journal.append((self.steps_done, "change", (scene,)))
        self.drawn_scene = scene
        self._reflected = {frozenset(): scene}
        shown = scene
        for id_ in sorted(self.mirrored):
            shown = reflected_scene(shown, self.assets, id_)
        self._reflected[self.mirrored] = shown
        self._exchange(shown, None)

    @noted
    def mirror(self, figure: str) -> None:
        """Turn a figure, and what rides on it alone, into its mirror image about the upright plane that it faces along."""
        pilot, axis = self.pilots[figure], side_axis(self.scene.figure(figure))
        signs = np.diag([-1.0, 1.0, 1.0, 1.0] if axis == 0 else [1.0, 1.0, -1.0, 1.0])
        rigid_root = pilot.root()
        rigid_root[:3, :3] /= pilot.figure.unit
        across = rigid_root @ signs @ np.linalg.inv(rigid_root)
        which = carried_along(self.scene, figure)
        self.mirrored = self.mirrored ^ {figure}
        if self.mirrored not in self._reflected:
            self._reflected[self.mirrored] = reflected_scene(self.scene, self.assets, figure)
        shown = self._reflected[self.mirrored]
        for id_ in sorted(which & self.pilots.keys()):
            self.pilots[id_].reflect(shown.figure(id_), self.assets, self.steerings[id_], across)
        self._exchange(shown, Mirror(across, axis, which))

    def flips(self, figure: str) -> bool:
        """Whether a figure is shown as its mirror image."""
        return sum(figure in carried_along(self.scene, id_) for id_ in self.mirrored) % 2 == 1

    def _exchange(self, scene: Scene, mirror: Mirror | None) -> None:
        old, gravity, ground = self.built, self.built.world.gravity.copy(), self._has_ground
        new = self._built(scene)
        self.scene, self.built = scene, new
        speed, stepper, rules = self._path.speed, self._stepper, self.rules
        self._place()
        a, b = rows_between(old, new)
        carry(old, new, mirror)
        rows = dict(zip(a.tolist(), b.tolist()))
        self.rules.go_on(rules, rows)
        for limp in self._limp.values():
            limp.rows = np.array([rows[r] for r in limp.rows.tolist() if r in rows], np.int64)
        moved = tuple(np.zeros((new.count, 3)) for _ in speed)
        for k, (to, of) in enumerate(zip(moved, speed)):
            to[b] = of[a]
            if mirror is not None:
                mine = np.concatenate([p.rows for p in new.parts if p.figure.id in mirror.figures])
                to[mine] = mirror.spins(to[mine]) if k else mirror.ways(to[mine])
        # what the keys did before, as far as their speed tells
        self._path.resume(np.arange(new.count), *self._keyed, *moved)
        self._share = self._shares()
        self._stepper.free = self.free()
        self._stepper.started = stepper.started
        new.set_links(self.frame)
        for id_ in sorted(self._hushed):
            self._hush(id_, True)
        new.world.gravity[:] = gravity
        if not ground:
            self.set_ground.__wrapped__(self, False)  # type: ignore[attr-defined]

    def lies(self, figure: str) -> bool:
        """Whether a figure was knocked over and is not on its way up."""
        limp = self._limp.get(figure)
        return limp is not None and limp.back < 0.0

    def rises(self, figure: str) -> bool:
        """Whether it is on its way up."""
        return self.pilots[figure].rising

    # time

    def step(self) -> None:
        """One small step."""
        h, built, world = self.step_time, self.built, self.built.world
        self._follow()
        for id_, pilot in self.pilots.items():
            if not self.lies(id_):
                wish = self.wishes.get(id_, Wish()) if id_ not in self._limp else Wish()
                pilot.steps(h, wish)
        self._recover(h)
        for id_ in sorted(self._hushed):
            if not self.pilots[id_].rising and id_ not in self._limp:
                self._hush(id_, False)
        if self.rules and self.steps_done % self.per_frame == 0:
            self.rules.look(self.now)
        self.steps_done += 1
        share = self._shares()
        x, r = self._keys()
        if hold_back(self._leashes, self.pilots, built, share, x, r):
            x, r = self._keys()
        x, r = self._with_arriving(x, r)
        course = self._course(x, r, share)
        if self.steps_done % self.per_frame == 1 or self.per_frame == 1:
            world.reset_report()
        built.pushes, kept = self._pushes, built.pushes
        self._stepper.step(course, 0)
        built.pushes, self._pushes = kept, []
        self._share = share
        self.time += h
        if self.steps_done % self.per_frame == 0:
            self.after()

    def _follow(self) -> None:
        """Wishes of those that go after another."""
        for id_, how in self.steerings.items():
            if how.follows is not None:
                ahead = self.pilots.get(how.follows)
                pace = ahead.speed if ahead is not None and how.follows not in self._limp else 0.0
                self.wishes[id_] = self.pilots[id_].after(self.whereabouts(how.follows), pace, how.distance)

    def whereabouts(self, figure: str) -> Array:
        """Where a figure is now (3,), level."""
        if figure in self.pilots and figure not in self._limp:
            return self.pilots[figure].place
        k = next(k for k, p in enumerate(self.built.parts) if p.figure.id == figure)
        rows = self.built.parts[k].rows
        if len(rows):
            return np.asarray(self.built.world.bodies["x"][rows[0]].copy())
        return np.asarray(root_at(self.scene, self.assets, self.scene.figure(figure), np.array([self.now]))[0, :3, 3])

    def _recover(self, h: float) -> None:
        """What is limp comes back when its time is over, or lies until it is still and gets up."""
        v = self.built.world.bodies["v"]
        for key, limp in list(self._limp.items()):
            limp.passed += h
            if limp.back >= 0.0:
                limp.back += h
                if (
                    limp.whole is not None
                    and limp.share < TOUCHES
                    and key not in self._hushed
                    and self.pilots[key].rising
                ):
                    # what it lies on and its own limbs do not keep it from where its keys are in the end
                    self._hush(key, True)
                if limp.back >= limp.ramp:
                    del self._limp[key]
                    self._arrive(limp.rows)
            elif limp.whole is None:
                assert limp.left is not None
                if limp.passed >= limp.left:
                    limp.back = 0.0
            else:
                slow = float(np.linalg.norm(v[limp.rows], axis=1).max()) < STILL[0]
                limp.still = limp.still + h if slow else 0.0
                if limp.still >= STILL[1] or limp.passed > LONGEST:
                    pilot = self.pilots[key]
                    pilot.get_up(self._lying(limp.whole))
                    pilot.steps(0.0, Wish())
                    # the pose that it lies in is where it begins
                    x, r = self._keys()
                    still = np.zeros((len(limp.rows), 3))
                    self._path.resume(limp.rows, x[limp.rows], r[limp.rows], still, still)
                    limp.back, limp.ramp = 0.0, PASSAGE if pilot.rises else UNAIDED

    def _arrive(self, rows: NDArray[np.int64]) -> None:
        """Bodies (rows) are on their keys from now on: from where physics had them, and as fast, they come to these within a time, so that nothing
        that hangs on them is torn.
        """
        rows = rows[self._shares()[rows] <= 0.0]
        bodies, h = self.built.world.bodies[rows], self.step_time
        x, r = (a[rows] for a in self._keyed)
        off = bodies["x"] - x, rotation.to_rotation_vector(rotation.multiply(bodies["q"], rotation.conjugate(r)))
        self._arriving.append((rows, self.time, *off))
        self._path.resume(rows, bodies["x"], bodies["q"], h * bodies["v"], h * bodies["w"])

    def _with_arriving(self, x: Array, r: Array) -> tuple[Array, Array]:
        """Keyed poses (n, 3), (n, 4) of bodies, with what is still missing of those that have just come to them."""
        self._arriving = [a for a in self._arriving if self.time - a[1] < ARRIVING]
        if not self._arriving:
            return x, r
        x, r = x.copy(), r.copy()
        for rows, since, off, turn in self._arriving:
            left = 1.0 - float(smooth_step(np.array((self.time + self.step_time - since) / ARRIVING).clip(0.0, 1.0)))
            x[rows] += left * off
            r[rows] = rotation.multiply(rotation.from_rotation_vector(left * turn), r[rows])
        return x, r

    def _lying(self, figure: int) -> Pose:
        """The local pose (B,) of a figure that physics has, under its root."""
        part = self.built.parts[figure]
        p, q = self.built.world.poses()
        pilot = self.pilots[part.figure.id]
        keyed = Pose(*(v[None] for v in (pilot.pose.translation, pilot.pose.rotation, pilot.pose.scale)))
        ones = np.ones((1, len(part.rows)))
        return shown_pose(
            part.figure, pilot.root()[None], keyed, part.bones, p[None, part.rows], q[None, part.rows], ones
        ).frame(0)

    def _course(self, x: Array, r: Array, share: Array) -> SmallStep:
        """From the last keyed poses to x (n, 3), r (n, 4), at every substep, without a jump in their velocity."""
        k, built, world = self.substeps, self.built, self.built.world
        rows_x, rows_r = self._path.onward(x, r)
        tone = self._tone
        if self._limp or self.rules.given:
            tone = tone.copy()
            for figure, given in self.rules.given.items():
                mine = built.parts[figure].rows
                tone[mine] = np.maximum(tone[mine], given.rule.tone)
            for limp in self._limp.values():
                tone[limp.rows] = np.maximum(tone[limp.rows], LIMP_TONE)
        carrier = self._carriers(share)
        goal = np.maximum(return_frequency(np.maximum(share, carrier)), self._steady)
        for limp in self._limp.values():
            goal[limp.rows] = np.maximum(goal[limp.rows], limp.goal)
        own, child = self._own, world.joints["child"][: len(self._own)]
        drive = np.zeros(len(world.joints))
        drive[: len(own)] = np.maximum(
            np.where(built.springs > 0.0, built.springs, tone_frequency(tone[child] * own)),
            carried_frequency(share[child], carrier[child]),
        )
        return SmallStep(
            first=float(self.frame), rate=1.0 / self.step_time, k=k, lead=2, x=rows_x, r=rows_r,
            free=np.repeat(((share > 0.0) | (carrier > 0.0))[None], k, 0), goal=np.repeat(goal[None], k, 0),
            calm=np.repeat(self._calm[None], k, 0), drive=np.repeat(drive[None], k, 0),
            gravity=np.repeat(world.gravity[None], k, 0), wind=np.repeat(self._wind[None], k, 0), pushes=bool(self._pushes),
        )  # fmt: skip

    # what is shown

    def handovers(self) -> list[Array]:
        """How much each bone of every figure is shown as physics moves it (B,): as the body that carries it."""
        return [bone_shares(part, self._share) for part in self.built.parts]

    def keyed_matrices(self) -> list[Array]:
        """World bone matrices (B, 4, 4) of every figure on its keys."""
        return [self._as_drawn(k, self._of_keys(k)) for k in range(len(self.built.parts))]

    def poses(self) -> list[tuple[Pose, Array]]:
        """The shown local pose (1, B) of every figure now, and the root (1, 4, 4) that it is under."""
        return [self._shown(k) for k in range(len(self.built.parts))]

    def matrices(self) -> list[Array]:
        """World bone matrices (B, 4, 4) of every figure now; of one that is mirrored they are for the skin and the shapes of the document."""
        return [self._as_drawn(k, m) for k, m in enumerate(self._matrices_now())]

    def _as_drawn(self, k: int, m: Array) -> Array:
        """Matrices (B, 4, 4) of a figure for what belongs to it unmirrored."""
        f = self.built.parts[k].figure
        if not self.mirrored or not self.flips(f.id):
            return m
        axis = next(
            side_axis(self.scene.figure(id_)) for id_ in self.mirrored if f.id in carried_along(self.scene, id_)
        )
        return m * np.array([-1.0, 1.0, 1.0, 1.0] if axis == 0 else [1.0, 1.0, -1.0, 1.0])

    def _matrices_now(self) -> list[Array]:
        keyed = [self._of_keys(k) for k in range(len(self.built.parts))]
        return live_matrices(self.built, self._share, keyed, self._shown)

    def _shown(self, k: int) -> tuple[Pose, Array]:
        """The shown local pose (1, B) of a figure now, by its index, and the root (1, 4, 4) that it is under."""
        part, now = self.built.parts[k], np.array([self.now])
        root = root_at(self.scene, self.assets, part.figure, now, self.built.pose, self)
        pose, rows = self.built.pose(part.figure, now), part.rows
        if len(rows) and self._share[rows].any():
            p, q = self.built.world.poses()
            pose = shown_pose(
                part.figure, root, pose, part.bones, p[None, rows], q[None, rows], self._share[None, rows], self.built.shown[rows]
            )  # fmt: skip
        return pose, root
