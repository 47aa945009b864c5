"""What a take is like, in units that people know: per frame for plots, and as the worst of each kind."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.run.planting import lowest
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import BodyRef, Scene
from artuline.core.setup.anatomy import segment_of

Mask = NDArray[np.bool_]
QUIET_SLIDE = 0.01  # metres above the ground that a sole may be and still stand


@dataclass(frozen=True)
class Measure:
    """A measure of a take: its worst value, in ``unit``, the frame and the body where (None: it is gone), with a readable
    name of the body or joint (``place``); ``help``: what usually makes it better.
    """

    name: str
    value: float
    unit: str
    frame: int
    where: BodyRef | None
    place: str
    help: str

    @property
    def text(self) -> str:
        """Value and unit."""
        digits = 0 if abs(self.value) >= 100 else (1 if abs(self.value) >= 1 else 2)
        return f"{self.value:.{digits}f} {self.unit}".replace(" °", "°")


def shown_places(scene: Scene, take: Take) -> tuple[Array, Array]:
    """Where every body of a take is shown: (F, n, 3), (F, n, 4). Before and after physics that is on its keys, not where the
    simulation was; of figures that have changed since, what was recorded.
    """
    p, q = take.position.copy(), take.rotation.copy()
    for f in scene.figures:
        pose = take.poses.get(f.id)
        if pose is None or pose.rotation.shape[1] != len(f.bones):
            continue
        columns = [(c, f.bone_index[b.bone]) for b in f.bodies if (c := take.column(f.id, b.id)) is not None]
        if columns:
            at, bones = (list(x) for x in zip(*columns))
            p[:, at], q[:, at] = rigid(skeleton_of(f).global_matrices(pose, take.root(f))[:, bones])
    return p, q


def speeds(positions: Array, rate: float) -> Array:
    """Speed (F, n), m/s, of places (F, n, 3); at a frame, of the way since the one before."""
    v = np.linalg.norm(np.diff(positions, axis=0), axis=-1) * rate
    return np.concatenate([v[:1], v]) if len(v) else np.zeros(positions.shape[:2])


def jitter(rotations: Array) -> Array:
    """Shaking (F, n), degrees, of rotations (F, n, 4): how far each is from the mean of the frames around it, where it moves to and fro."""
    q = rotation.make_continuous(rotations)
    if len(q) < 5:
        return np.zeros(q.shape[:2])
    around = rotation.normalize((q[:-2] + q[2:]) / 2.0)
    off = np.degrees(rotation.angle_between(q[1:-1], around))
    steps = np.diff(q, axis=0)
    turns = np.einsum("fij,fij->fi", steps[:-1], steps[1:]) < 0.0
    found = np.zeros(q.shape[:2])
    # to and fro twice in a row: a bounce is none
    both = turns.copy()
    both[1:] &= turns[:-1]
    found[1:-1] = np.where(both, off, 0.0)
    return found


def away_from_keys(scene: Scene, assets: AssetStore, take: Take) -> Array:
    """Mean angle of the figures' joints from their keys (F,), degrees: how far the pose is from what was keyed."""
    total, count = np.zeros(len(take.frames)), 0
    for f in scene.figures:
        if f.id not in take.poses or not f.joints:
            continue
        keyed = keyed_pose(scene, assets, f, take.frames.astype(float), layers=False)
        bone = {b.id: f.bone_index[b.bone] for b in f.bodies}
        for j in f.joints:
            b = bone[j.child]
            total += np.degrees(rotation.angle_between(keyed.rotation[:, b], take.poses[f.id].rotation[:, b]))
            count += 1
    return total / max(count, 1)


def foot_slide(scene: Scene, take: Take) -> tuple[float, int, BodyRef | None]:
    """How far a standing foot slides while the figure returns to its keys, m, with the frame and the body; 0 where none does."""
    worst: tuple[float, int, BodyRef | None] = (0.0, int(take.frames[0]), None)
    for f in scene.figures:
        if f.id not in take.poses:
            continue
        matrices = skeleton_of(f).global_matrices(take.poses[f.id], take.root(f))
        p, q = rigid(matrices)
        for body in f.bodies:
            column = take.column(f.id, body.id)
            if segment_of(body.bone) != "foot" or column is None:
                continue
            h = take.handover[:, column]
            back = np.flatnonzero((h > 0.0) & (h < 1.0) & (np.arange(len(h)) > int(np.argmax(h >= 1.0))))
            if len(back) < 2:
                continue
            place = p[back, f.bone_index[body.bone]]
            low = lowest(body, *(x[back, f.bone_index[body.bone]] for x in (p, q)))
            stands = low < (scene.ground.height if scene.ground is not None else low.min()) + QUIET_SLIDE
            run_ = 0.0
            for k in range(1, len(back)):
                if stands[k] and stands[k - 1]:
                    run_ += float(np.linalg.norm((place[k] - place[k - 1])[[0, 2]]))
                    if run_ > worst[0]:
                        worst = run_, int(take.frames[back[k]]), BodyRef(f.id, body.id)
                else:
                    run_ = 0.0
    return worst


class Looked:
    """A take as it is looked at: what of it is shown, and where physics moves it."""

    def __init__(self, scene: Scene, take: Take):
        self.scene, self.take = scene, take

    @cached_property
    def places(self) -> tuple[Array, Array]:
        """Where every body is shown: (F, n, 3), (F, n, 4)."""
        return shown_places(self.scene, self.take)

    @cached_property
    def live(self) -> Mask:
        """Where physics moves a body (F, n)."""
        return self.take.handover > 0.0

    @cached_property
    def moved(self) -> Mask:
        """Where it did at the frame before, too."""
        return self.live & np.concatenate([self.live[:1], self.live[:-1]])

    @cached_property
    def turning(self) -> Mask:
        """Where it does before and after, too."""
        found = np.zeros_like(self.live)
        found[1:-1] = self.live[:-2] & self.live[1:-1] & self.live[2:]
        return found

    @cached_property
    def bodies_of_joints(self) -> list[BodyRef | None]:
        """The body of every joint of the take; None where it is gone."""
        return [self.scene.body_of_joint(ref) for ref in self.take.joints]

    @cached_property
    def held(self) -> Mask:
        """Where physics moves the body of a joint (F, m); everywhere for what is gone."""
        found = np.ones((len(self.take.frames), len(self.take.joints)), bool)
        for k, ref in enumerate(self.bodies_of_joints):
            column = self.take.column(*ref) if ref is not None else None
            if column is not None:
                found[:, k] = self.live[:, column]
        return found


@dataclass(frozen=True)
class Kind:
    """A row of the table of measures.

    ``name``: of the plot; ``words``: as a worst moment, empty if it is none. ``table``: its values (F, n) of bodies, or (F, m) with
    ``joints``; ``judged``: where they count as a moment; ``worst``: for what is no table, value, frame and body. ``serious``: the value
    from which on it spoils a take; by their share of it kinds are ranked. ``help``: what usually makes it better. ``total``: bodies are
    summed up, not the most of them taken. ``seen_in``: the plot that shows it.
    """

    name: str
    unit: str
    table: Callable[[Looked], Array] | None = None
    words: str = ""
    serious: float = np.inf
    help: str = ""
    joints: bool = False
    judged: Callable[[Looked], Mask] | None = None
    worst: Callable[[Looked], tuple[float, int, BodyRef | None]] | None = None
    plotted: bool = True
    total: bool = False
    seen_in: str = ""


def _slide(x: Looked) -> tuple[float, int, BodyRef | None]:
    value, frame, where = foot_slide(x.scene, x.take)
    return 1000.0 * value, frame, where


def knocks(scene: Scene, take: Take) -> tuple[float, int, BodyRef | None]:
    """How often in a second what is held touches anything anew, with the frame of the hardest touch and the body; 0 where nothing is held."""
    worst: tuple[float, int, BodyRef | None] = (0.0, int(take.frames[0]), None)
    for f in (f for f in scene.figures if f.mounts):
        held = np.array([any(m.acts(float(x)) for m in f.mounts) for x in take.frames])
        for body in f.bodies:
            column = take.column(f.id, body.id)
            if column is None or held.sum() < 2:
                continue
            touch = (take.contact[:, column] > 0.0) & held
            often = float((touch[1:] & ~touch[:-1]).sum()) * scene.rate / float(held.sum())
            if often > worst[0]:
                worst = often, int(take.frames[int(np.argmax(take.contact[:, column] * held))]), BodyRef(f.id, body.id)
    return worst


#: Everything that is measured, once: worst moments, plots, brackets and the command line are made of it.
KINDS = (
    Kind("height", "m", lambda x: x.places[0][..., 1]),
    Kind("speed", "m/s", lambda x: speeds(x.places[0], x.scene.rate)),
    Kind("contact", "N s", lambda x: x.take.contact),
    Kind("penetration", "mm", lambda x: 1000.0 * x.take.penetration, "Pressed in", 2.0,
         "More substeps, or a softer ramp out.", judged=lambda x: x.live),
    Kind("limit used", "%", lambda x: 100.0 * x.take.used, joints=True),
    Kind("limit excess", "°", lambda x: np.degrees(x.take.excess), "Beyond a limit", 3.0, "Widen the range, or lower the tone.",
         joints=True, judged=lambda x: x.held, plotted=False, seen_in="limit used"),
    Kind("separation", "mm", lambda x: 1000.0 * x.take.separation, "Joint apart", 0.5, "See what holds both ends: it is said before a run.",
         joints=True, judged=lambda x: x.held, plotted=False),
    Kind("shaking", "°", lambda x: jitter(x.places[1]), "Shaking", 1.5, "A little calm, or less tone.", judged=lambda x: x.turning),
    Kind("fastest", "m/s", lambda x: speeds(x.places[0], x.scene.rate), "Fastest", 12.0, "A slower obstacle, or some drag.",
         judged=lambda x: x.moved, plotted=False, seen_in="speed"),
    Kind("energy", "J", lambda x: x.take.kinetic, total=True),
    Kind("slide", "mm", None, "Foot slides", 30.0, "A longer ramp out.", worst=_slide, plotted=False, seen_in="height"),
    Kind("knocks", "a second", None, "Knocks", 2.0, "A narrower hinge, or a turned wrist.",
         worst=lambda x: knocks(x.scene, x.take), plotted=False, seen_in="contact"),
)  # fmt: skip
JUDGED = {k.words: k for k in KINDS if k.words}
PLOTS = {k.name: k for k in KINDS if k.plotted}
FINE = 0.5  # share of what is serious below which nobody needs to look
AWAY = "From the keys"
#: Units of a bracket's measures.
UNITS = {words: k.unit for words, k in JUDGED.items()} | {AWAY: "°"}


def plot_of(words: str) -> str | None:
    """The plot that shows a worst moment; None if none does."""
    kind = JUDGED[words]
    return kind.seen_in or (kind.name if kind.plotted else None)


def curve(scene: Scene, take: Take, quantity: str, ref: BodyRef | None) -> Array:
    """A quantity of ``PLOTS`` over the frames (F,), of a body as it is shown, else the most of all bodies or their sum."""
    kind, x = PLOTS[quantity], Looked(scene, take)
    assert kind.table is not None
    values = kind.table(x)
    if kind.joints:
        own = [k for k, j in enumerate(take.joints) if ref is not None and j.figure and x.bodies_of_joints[k] == ref]
        at = own[0] if own else None
    else:
        at = take.column(*ref) if ref is not None else None
    if at is not None:
        return np.asarray(values[:, at])
    return np.asarray(values.sum(axis=1) if kind.total else values.max(axis=1, initial=0.0))


def measure_take(scene: Scene, take: Take) -> list[Measure]:
    """The worst of each kind in what is shown, in the order of the table. What is on its keys is not measured."""
    x = Looked(scene, take)
    return [_worst(kind, x) for kind in JUDGED.values()]


def _worst(kind: Kind, x: Looked) -> Measure:
    scene, take = x.scene, x.take
    if kind.worst is not None:
        value, frame, where = kind.worst(x)
        return Measure(kind.words, value, kind.unit, frame, where, scene.words(where) if where else "", kind.help)
    assert kind.table is not None and kind.judged is not None
    table = np.where(kind.judged(x), kind.table(x), 0.0)
    if not table.size:
        return Measure(kind.words, 0.0, kind.unit, int(take.frames[0]), None, "", kind.help)
    i, k = (int(n) for n in np.unravel_index(int(table.argmax()), table.shape))
    where = x.bodies_of_joints[k] if kind.joints else take.bodies[k]
    place = scene.words(take.joints[k] if kind.joints else take.bodies[k])
    return Measure(kind.words, float(table[i, k]), kind.unit, int(take.frames[i]), where, place, kind.help)


def worst_moments(scene: Scene, take: Take) -> list[Measure]:
    """The worst of each kind that needs a look, the most serious first; empty for a take that is fine."""

    def share(m: Measure) -> float:
        return m.value / JUDGED[m.name].serious

    return sorted((m for m in measure_take(scene, take) if share(m) >= FINE), key=lambda m: -share(m))


def summary(scene: Scene, assets: AssetStore, take: Take) -> dict[str, float]:
    """A take as a row of numbers: the worst of each kind, and how far the pose is from the keys on average."""
    row = {m.name: m.value for m in measure_take(scene, take)}
    free = (take.handover > 0.0).any(axis=1)
    away = away_from_keys(scene, assets, take)
    row[AWAY] = float(away[free].mean()) if free.any() else 0.0
    return row
