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
from artuline.core.scene.model import Scene
from artuline.core.setup.anatomy import segment_of

QUIET_SLIDE = 0.01  # metres above the ground that a sole may be and still stand


@dataclass(frozen=True)
class Measure:
    """A measure of a take: its worst value, in ``unit``, the frame and the body or joint where; ``help``: what usually makes it better."""

    name: str
    value: float
    unit: str
    frame: int
    where: str
    help: str

    @property
    def text(self) -> str:
        """Value and unit."""
        digits = 0 if abs(self.value) >= 100 else (1 if abs(self.value) >= 1 else 2)
        return f"{self.value:.{digits}f} {self.unit}".replace(" °", "°")


def speeds(take: Take, rate: float) -> Array:
    """Speed of every body (F, n), m/s; at a frame, of the way since the one before."""
    v = np.linalg.norm(np.diff(take.position, axis=0), axis=-1) * rate
    return np.concatenate([v[:1], v]) if len(v) else np.zeros(take.position.shape[:2])


def jitter(take: Take, rate: float) -> Array:
    """Shaking of every body (F, n), degrees: how far its rotation is from the mean of the frames around it, where it moves to and fro."""
    q = rotation.make_continuous(take.rotation)
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


def foot_slide(scene: Scene, take: Take) -> tuple[float, int, str]:
    """How far a standing foot slides while the figure returns to its keys, m, with the frame and the bone; 0 where none does."""
    worst = (0.0, int(take.frames[0]), "")
    for f in scene.figures:
        if f.id not in take.poses:
            continue
        matrices = skeleton_of(f).global_matrices(take.poses[f.id], placement(f))
        p, q = rigid(matrices)
        index = {name: i for i, name in enumerate(take.names)}
        for body in f.bodies:
            if segment_of(body.bone) != "foot" or body.id not in index:
                continue
            h = take.handover[:, index[body.id]]
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
                        worst = run_, int(take.frames[back[k]]), body.bone
                else:
                    run_ = 0.0
    return worst


def worst_moments(scene: Scene, take: Take) -> list[Measure]:
    """The worst of each kind, the most serious first."""
    found = []
    rows = (
        (
            "Pressed in",
            take.penetration,
            take.names,
            1000.0,
            "mm",
            2.0,
            "More substeps, or a softer ramp out.",
        ),
        (
            "Beyond a limit",
            take.excess,
            take.joint_names,
            57.29578,
            "°",
            3.0,
            "Widen the range, or lower the tone.",
        ),
        ("Joint apart", take.separation, take.joint_names, 1000.0, "mm", 0.5, "More substeps."),
        ("Shaking", jitter(take, scene.rate), take.names, 1.0, "°", 1.5, "A little calm, or less tone."),
        ("Fastest", speeds(take, scene.rate), take.names, 1.0, "m/s", 12.0, "A slower obstacle, or some drag."),
    )
    for name, values, names, scale, unit, bad, words in rows:
        if not values.size or not len(names):
            continue
        values = values[:, : len(names)]
        i, k = np.unravel_index(int(values.argmax()), values.shape)
        value = scale * float(values[i, k])
        found.append((value / bad, Measure(name, value, unit, int(take.frames[i]), names[k], words)))
    slide, frame, bone = foot_slide(scene, take)
    found.append(
        (1000.0 * slide / 30.0, Measure("Foot slides", 1000.0 * slide, "mm", frame, bone, "A longer ramp out."))
    )
    return [m for _, m in sorted(found, key=lambda x: -x[0])]


def summary(scene: Scene, assets: AssetStore, take: Take) -> dict[str, float]:
    """A take as a row of numbers: the worst of each kind, and how far the pose is from the keys on average."""
    row = {m.name: m.value for m in worst_moments(scene, take)}
    free = (take.handover > 0.0).any(axis=1)
    away = away_from_keys(scene, assets, take)
    row["From the keys"] = float(away[free].mean()) if free.any() else 0.0
    return row


UNITS = {"Pressed in": "mm", "Beyond a limit": "°", "Joint apart": "mm", "Shaking": "°", "Fastest": "m/s", "Foot slides": "mm",
         "From the keys": "°"}  # fmt: skip
