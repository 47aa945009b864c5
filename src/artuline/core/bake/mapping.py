"""Where the motion of every body goes when a take becomes keys."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.goals import Led, led
from artuline.core.motion.keyed import load_clip
from artuline.core.motion.skeleton import Pose, rigid, skeleton_of
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Layer, Limb, Scene
from artuline.core.setup.materials import body_mass, centre_of_mass

Onto = Literal["bone", "goal", "direction", "above", "nothing"]


@dataclass(frozen=True)
class Way:
    """Where a body's motion goes: onto its bone, onto the goal or the direction of a limb, onto the nearest bone above that takes keys, or onto nothing. ``curves``:
    the name of those that carry it; ``why``: what cannot be reached, and the reason, empty if all can.
    """

    body: str
    bone: str
    onto: Onto
    curves: str = ""
    why: str = ""


def ways(figure: Figure, goals: bool = True) -> tuple[Way, ...]:
    """Where the motion of each body of a figure goes. ``goals``: whether its limbs are led by goals."""
    elsewhere = dict(figure.elsewhere)
    led_ = {x.end for x in figure.goals if goals and can_lead(figure, x.bones)}
    found = []
    for body in figure.bodies:
        bone, limb = body.bone, figure.limb_at(body.bone)
        if bone in elsewhere:
            above = nearest_above(figure, bone)
            if elsewhere[bone] == "nothing":
                found.append(Way(body.id, bone, "nothing", "", _lost(figure, bone)))
            elif above is None:
                found.append(Way(body.id, bone, "above", "", "no bone above it takes keys: its motion is lost"))
            else:
                found.append(Way(body.id, bone, "above", above, f"what {above} cannot follow by turning is lost"))
        elif limb is not None and limb.end in led_ and bone == limb.end:
            found.append(Way(body.id, bone, "goal", limb.goal))
        elif limb is not None and limb.end in led_ and bone == limb.upper:
            found.append(Way(body.id, bone, "direction", limb.direction))
        else:
            why = ""
            if limb is not None and goals and limb.end not in led_:
                other = next(b for b in limb.bones if b in elsewhere)
                why = f"no goal leads it: {other} of its limb is baked elsewhere"
            found.append(Way(body.id, bone, "bone", bone, why))
    return tuple(found)


def _lost(figure: Figure, bone: str) -> str:
    carried = [b.bone for b in figure.bodies if bone in figure.above(b.bone) and b.bone not in dict(figure.elsewhere)]
    return f"{carried[0]} hangs on it and goes where its keys leave it" if carried else "it stays on the keys below"


def can_lead(figure: Figure, bones: Collection[str]) -> bool:
    """Whether all bones of a limb take keys."""
    return not set(bones) & {b for b, _ in figure.elsewhere}


def nearest_above(figure: Figure, bone: str) -> str | None:
    """The nearest bone above one that has a body and takes keys; None if there is none."""
    taken = {b for b, _ in figure.elsewhere}
    return next((a for a in figure.above(bone) if a in figure.body_of and a not in taken), None)


def led_limbs(
    figure: Figure, names: Sequence[str], moved: np.ndarray, bones: Collection[str] | None
) -> tuple[Led, ...]:
    """The limbs that a bake leads by goals: those of which physics moves a bone, moved (B,), and whose end is among ``bones``, if any are chosen."""
    found = []
    for limb in figure.goals:
        mine = [names.index(b) for b in limb.bones]
        if can_lead(figure, limb.bones) and moved[mine].any() and (bones is None or limb.end in bones):
            found.append(led(figure, limb))
    return tuple(found)


def carried_above(figure: Figure, pose: Pose, keyed: Pose) -> Pose:
    """A pose (F, B) in which bones that are baked elsewhere stand in their parents as they are keyed, and the nearest bones above that take keys are turned so that
    what they carry is as near to where it was as one turn brings it: least squares over the masses (Wahba 1965, A Least Squares Estimate of Satellite Attitude;
    Markley 1988 for the solution by singular values).
    """
    if not figure.elsewhere:
        return pose
    skeleton, index, made = skeleton_of(figure), figure.bone_index, pose.copy()
    for bone, _ in figure.elsewhere:
        for path in ("translation", "rotation", "scale"):
            getattr(made, path)[:, index[bone]] = getattr(keyed, path)[:, index[bone]]
    carried: dict[str, list[str]] = {}
    for bone, onto in figure.elsewhere:
        above = nearest_above(figure, bone)
        if onto == "above" and above is not None and bone in figure.body_of:
            carried.setdefault(above, []).append(bone)
    true_p, true_q = rigid(skeleton.global_matrices(pose))
    for above in sorted(carried, key=lambda b: index[b]):
        a = index[above]
        p, q = rigid(skeleton.global_matrices(made))
        turn = np.zeros((len(p), 3, 3))
        for bone in [above, *carried[above]]:
            mass, places = _places(figure, bone)
            b = index[bone]
            was = true_p[:, b, None] + rotation.rotate(true_q[:, b, None], places) - true_p[:, a, None]
            now = p[:, b, None] + rotation.rotate(q[:, b, None], places) - p[:, a, None]
            turn += mass * np.einsum("fni,fnj->fij", was, now)
        u, _, vt = np.linalg.svd(turn)
        u[:, :, 2] *= np.sign(np.linalg.det(u @ vt))[:, None]
        new = rotation.multiply(rotation.from_matrix(u @ vt), q[:, a])
        up = skeleton.parents[a]
        over = q[:, up] if up >= 0 else np.broadcast_to(rotation.IDENTITY, new.shape)
        made.rotation[:, a] = rotation.normalize(rotation.multiply(rotation.conjugate(over), new))
    return made


def _places(figure: Figure, bone: str) -> tuple[float, Array]:
    """The mass of a bone's body, and its centre with three places around it (4, 3) in the bone's frame (file units)."""
    body = figure.body_of[bone]
    alone = figure.changed(bodies=(body,), joints=(), groups=(), pairs_off=())
    zero, one = np.zeros((len(figure.bones), 3)), np.tile(rotation.IDENTITY, (len(figure.bones), 1))
    centre = centre_of_mass(alone, zero, one) / figure.unit
    size = max(float(np.linalg.norm(centre)), 1e-3)
    return max(body_mass(body), 1e-9), np.array([centre, *(centre + 0.5 * size * np.eye(3))])


def led_by(assets: AssetStore, figure: Figure, limb: Limb) -> list[Layer]:
    """The layers of a figure that have keys of a limb."""
    return [x for x in figure.layers if any(c.bone in limb.curves for c in load_clip(assets, x.asset).channels)]


def without_limb(scene: Scene, assets: AssetStore, figure_id: str, end: str) -> Scene:
    """The scene in which no goal leads the limb of an end. Raises ArtulineError while a layer has keys of it, which would be lost."""
    figure = scene.figure(figure_id)
    limb = next((x for x in figure.goals if x.end == end), None)
    if limb is None:
        raise ArtulineError(f"{figure.name} has no limb to {end}")
    layers = led_by(assets, figure, limb)
    if layers:
        raise ArtulineError(
            f"the layer {layers[0].name} has keys of {limb.goal}",
            remedy="Remove that layer first, or bake it again without goals.",
        )
    return edit.figure(scene, figure_id, goals=tuple(x for x in figure.goals if x.end != end))
