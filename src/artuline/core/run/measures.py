"""What a take is like, in units that people know: per frame for plots, and as the worst of each kind."""

from dataclasses import dataclass

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose
from artuline.core.motion.skeleton import placement, rigid, skeleton_of
from artuline.core.run.planting import lowest
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import BodyRef, Scene
from artuline.core.setup.anatomy import segment_of

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
    simulation was; of obstacles, and of figures that have changed since, what was recorded.
    """
    p, q = take.position.copy(), take.rotation.copy()
    for f in scene.figures:
        pose = take.poses.get(f.id)
        if pose is None or pose.rotation.shape[1] != len(f.bones):
            continue
        columns = [(c, f.bone_index[b.bone]) for b in f.bodies if (c := take.column(f.id, b.id)) is not None]
        if columns:
            at, bones = (list(x) for x in zip(*columns))
            p[:, at], q[:, at] = rigid(skeleton_of(f).global_matrices(pose, placement(f))[:, bones])
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
        matrices = skeleton_of(f).global_matrices(take.poses[f.id], placement(f))
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


@dataclass(frozen=True)
class Kind:
    """A kind of measure: ``serious`` is the value, in ``unit``, from which on it spoils a take; by their share of it kinds are ranked."""

    name: str
    unit: str
    serious: float
    help: str


KINDS = (
    Kind("Pressed in", "mm", 2.0, "More substeps, or a softer ramp out."),
    Kind("Beyond a limit", "°", 3.0, "Widen the range, or lower the tone."),
    Kind("Joint apart", "mm", 0.5, "More substeps."),
    Kind("Shaking", "°", 1.5, "A little calm, or less tone."),
    Kind("Fastest", "m/s", 12.0, "A slower obstacle, or some drag."),
    Kind("Foot slides", "mm", 30.0, "A longer ramp out."),
)
FINE = 0.5  # share of what is serious below which nobody needs to look
AWAY = "From the keys"
UNITS = {k.name: k.unit for k in KINDS} | {AWAY: "°"}


def measure_take(scene: Scene, take: Take) -> list[Measure]:
    """The worst of each kind in what is shown, in the order of ``KINDS``. What is on its keys is not measured."""
    p, q = shown_places(scene, take)
    live = take.handover > 0.0
    turning = np.zeros_like(live)
    turning[1:-1] = live[:-2] & live[1:-1] & live[2:]
    moved = live & np.concatenate([live[:1], live[:-1]])
    joints = [scene.body_of_joint(ref) for ref in take.joints]
    held = np.ones((len(take.frames), len(joints)), bool)
    for k, ref in enumerate(joints):
        column = take.column(*ref) if ref is not None else None
        if column is not None:
            held[:, k] = live[:, column]
    values = (
        np.where(live, 1000.0 * take.penetration, 0.0),
        np.where(held, np.degrees(take.excess), 0.0),
        np.where(held, 1000.0 * take.separation, 0.0),
        np.where(turning, jitter(q), 0.0),
        np.where(moved, speeds(p, scene.rate), 0.0),
    )
    found = []
    for kind, table in zip(KINDS, values):
        of_joints = kind.name in ("Beyond a limit", "Joint apart")
        if not table.size:
            found.append(Measure(kind.name, 0.0, kind.unit, int(take.frames[0]), None, "", kind.help))
            continue
        i, k = (int(x) for x in np.unravel_index(int(table.argmax()), table.shape))
        where = joints[k] if of_joints else take.bodies[k]
        place = scene.words(take.joints[k] if of_joints else take.bodies[k])
        found.append(Measure(kind.name, float(table[i, k]), kind.unit, int(take.frames[i]), where, place, kind.help))
    slide, frame, foot = foot_slide(scene, take)
    last = KINDS[-1]
    found.append(
        Measure(last.name, 1000.0 * slide, last.unit, frame, foot, scene.words(foot) if foot else "", last.help)
    )
    return found


def worst_moments(scene: Scene, take: Take) -> list[Measure]:
    """The worst of each kind that needs a look, the most serious first; empty for a take that is fine."""
    serious = {k.name: k.serious for k in KINDS}
    found = [m for m in measure_take(scene, take) if m.value >= FINE * serious[m.name]]
    return sorted(found, key=lambda m: -m.value / serious[m.name])


def summary(scene: Scene, assets: AssetStore, take: Take) -> dict[str, float]:
    """A take as a row of numbers: the worst of each kind, and how far the pose is from the keys on average."""
    row = {m.name: m.value for m in measure_take(scene, take)}
    free = (take.handover > 0.0).any(axis=1)
    away = away_from_keys(scene, assets, take)
    row[AWAY] = float(away[free].mean()) if free.any() else 0.0
    return row
