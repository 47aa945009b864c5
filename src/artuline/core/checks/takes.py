"""What went wrong in a take, by how bad it is."""

import numpy as np

from artuline.core.checks.finding import Finding
from artuline.core.run.cycle import agree
from artuline.core.run.take import UNKNOWN, Take
from artuline.core.scene.model import BodyRef, JointRef, Scene

DEGREES = float(np.degrees(1.0))
AT_LIMIT = 0.99  # share of a limit from which on it is what stops


def _other_end(scene: Scene, ref: JointRef) -> str:
    """What a joint, link or mount joins its body to, in words; empty where that is gone."""
    if ref.figure is None:
        link = next((x for x in scene.links if x.id == ref.joint), None)
        if link is None:
            return ""
        return scene.words(BodyRef(link.b.figure, link.b.body)) if link.b is not None else "the world"
    owner = next((f for f in scene.figures if f.id == ref.figure), None)
    joint = next((j for j in owner.joints if j.id == ref.joint), None) if owner is not None else None
    if owner is not None and joint is not None:
        return scene.words(BodyRef(owner.id, joint.parent))
    mount = next((m for m in owner.mounts if m.id == ref.joint), None) if owner is not None else None
    holder = next((f for f in scene.figures if mount is not None and f.id == mount.figure), None)
    carrier = holder.carrier(mount.bone) if holder is not None and mount is not None else None
    if holder is None or mount is None:
        return ""
    return scene.words(BodyRef(holder.id, carrier.id)) if carrier is not None else holder.name


def _pressed_into(scene: Scene, take: Take, k: int, least: float) -> tuple[str, str]:
    """What a body of a take is pressed into at its worst, and what does not let it give way: what is on its other side while it is pressed
    by more than ``least``, or a limit; in words.
    """

    def words(other: int) -> str:
        return "the ground" if other == -1 else "something" if other < 0 else scene.words(take.bodies[other])

    deep = take.penetration[:, k]
    row = int(deep.argmax())
    first, last = row, row
    while first > 0 and deep[first - 1] > least:
        first -= 1
    while last < len(deep) - 1 and deep[last + 1] > least:
        last += 1
    sides = [o for o in dict.fromkeys(take.into[first : last + 1, k].tolist()) if o not in (UNKNOWN, take.into[row, k])]
    found = [words(int(take.into[row, k])), *(words(o) for o in sides)]
    if len(found) > 1:
        return found[0], f", between {found[0]} and {found[1]}"
    ref = take.bodies[k]
    figure = next((f for f in scene.figures if f.id == ref.figure), None)
    at_limit = {r.joint for j, r in enumerate(take.joints) if r.figure == ref.figure and take.used[row, j] >= AT_LIMIT}
    chain, body = [], ref.body
    while figure is not None and body in figure.joint_of:
        joint = figure.joint_of[body]
        chain += [joint.id] if joint.id in at_limit else []
        body = joint.parent
    return found[0], f", against the limit of {scene.words(JointRef(ref.figure, chain[0]))}" if chain else ""


def check_take(scene: Scene, take: Take) -> list[Finding]:
    """The worst moments of a take: penetration, joints apart, limits passed."""
    found = []
    if take.held:
        count = len(take.held)
        text = f"The solver stood still in {count} {'frame' if count == 1 else 'frames'}, first at frame {take.held[0]}: too much was asked of its joints."
        found.append(Finding(2, text, None, None, take.held[0]))
    if take.cycle is not None and not agree(*take.cycle[1:]):
        rounds, turned, off = take.cycle
        text = f"The loop does not close: after {rounds} rounds the last two still differ by {turned:.1f}° and {off:.0f} mm. More calm or damping lets it settle."
        found.append(Finding(2, text))
    joints = [scene.body_of_joint(ref) for ref in take.joints]
    for values, names, bodies, unit, scale, least, words in (
        (take.penetration, take.bodies, take.bodies, "mm", 1000.0, 0.01, "is pressed {} into {}"),
        (take.separation, take.joints, joints, "mm", 1000.0, 0.002, "comes {} apart at its joint"),
        (take.excess, take.joints, joints, "°", DEGREES, np.radians(3.0), "is {} beyond its limits"),
    ):
        if not values.size:
            continue
        for k in np.flatnonzero(values.max(axis=0) > least):
            frame = int(take.frames[int(values[:, k].argmax())])
            amount = f"{scale * values[:, k].max():.0f} {unit}".replace(" °", "°")
            ref = bodies[k]
            other = _other_end(scene, take.joints[k]) if values is take.separation else ""
            if other and ref is not None:
                text = f"{scene.words(ref)} and {other} are {amount} apart at frame {frame} ({scene.words(names[k])}): what holds them asks for more than there is."
            else:
                into, against = _pressed_into(scene, take, int(k), least) if values is take.penetration else ("", "")
                text = f"{scene.words(names[k])} {words.format(amount, into)} at frame {frame}{against}."
            figure = next((f for f in scene.figures if ref is not None and f.id == ref.figure), None)
            body = next((b for b in figure.bodies if b.id == ref.body), None) if figure is not None and ref else None
            bone = body.bone if body is not None else None
            found.append(Finding(1, text, figure.id if figure else None, bone, frame))
    return found
