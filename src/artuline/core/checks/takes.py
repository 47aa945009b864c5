"""What went wrong in a take, by how bad it is."""

import numpy as np

from artuline.core.checks.finding import Finding
from artuline.core.run.take import Take
from artuline.core.scene.model import Scene

DEGREES = float(np.degrees(1.0))


def check_take(scene: Scene, take: Take) -> list[Finding]:
    """The worst moments of a take: penetration, joints apart, limits passed."""
    found = []
    if take.held:
        count = len(take.held)
        text = f"The solver stood still in {count} {'frame' if count == 1 else 'frames'}, first at frame {take.held[0]}: too much was asked of its joints."
        found.append(Finding(2, text, None, None, take.held[0]))
    joints = [scene.body_of_joint(ref) for ref in take.joints]
    for values, names, bodies, unit, scale, least, words in (
        (take.penetration, take.bodies, take.bodies, "mm", 1000.0, 0.01, "is pressed {} into something"),
        (take.separation, take.joints, joints, "mm", 1000.0, 0.002, "comes {} apart at its joint"),
        (take.excess, take.joints, joints, "°", DEGREES, np.radians(3.0), "is {} beyond its limits"),
    ):
        if not values.size:
            continue
        for k in np.flatnonzero(values.max(axis=0) > least):
            frame = int(take.frames[int(values[:, k].argmax())])
            amount = f"{scale * values[:, k].max():.0f} {unit}".replace(" °", "°")
            text = f"{scene.words(names[k])} {words.format(amount)} at frame {frame}."
            ref = bodies[k]
            figure = next((f for f in scene.figures if ref is not None and f.id == ref.figure), None)
            body = next((b for b in figure.bodies if b.id == ref.body), None) if figure is not None and ref else None
            bone = body.bone if body is not None else None
            found.append(Finding(1, text, figure.id if figure else None, bone, frame))
    return found
