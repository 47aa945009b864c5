"""What went wrong in a take, by how bad it is."""

import numpy as np

from artuline.core.checks.finding import Finding
from artuline.core.run.take import Take
from artuline.core.scene.model import Scene


def check_take(scene: Scene, take: Take) -> list[Finding]:
    """The worst moments of a take: penetration, joints apart, limits passed."""
    found = []
    for values, names, unit, scale, least, words in (
        (take.penetration, take.names, "mm", 1000.0, 0.01, "is pressed {} into something"),
        (take.separation, take.joint_names, "mm", 1000.0, 0.002, "comes {} apart at its joint"),
        (
            take.excess,
            take.joint_names,
            "°",
            float(np.degrees(1.0)),
            float(np.radians(3.0)),
            "is {} beyond its limits",
        ),
    ):
        if not values.size:
            continue
        for k in np.flatnonzero(values.max(axis=0) > least):
            frame = int(take.frames[int(values[:, k].argmax())])
            amount = f"{scale * values[:, k].max():.0f} {unit}".replace(" °", "°")
            found.append(Finding(1, f"{names[k]} {words.format(amount)} at frame {frame}.", None, names[k], frame))
    return found
