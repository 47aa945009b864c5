"""Which bodies overlap at rest."""

import numpy as np

from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.physics.world import BodySpec, World
from artuline.core.scene.model import Figure


def resting_overlaps(figure: Figure, near: float = 0.0) -> tuple[tuple[str, str, float], ...]:
    """Pairs of bodies, not joined to each other nor kept apart by a word, whose shapes overlap in the rest pose, or come nearer than ``near`` (m); depth in metres."""
    p, q = rigid(rest_matrices(figure))
    specs, words = [], [b.apart for b in figure.bodies]
    for body in figure.bodies:
        b = figure.bone_index[body.bone]
        shapes = tuple(s.changed(margin=s.margin + 0.5 * near) for s in body.shapes) if near else body.shapes
        apart = words.index(body.apart) if body.apart else -1
        specs.append(BodySpec(shapes, mass=1.0, inertia=np.ones(3), position=p[b], rotation=q[b], group=apart))
    index = {b.id: i for i, b in enumerate(figure.bodies)}
    joined = {(index[j.parent], index[j.child]) for j in (*figure.joints, *figure.loops)}
    depths: dict[tuple[int, int], float] = {}
    for a, b, gap in World(specs, off=joined).overlaps():
        key = (min(a, b), max(a, b))
        depths[key] = max(depths.get(key, 0.0), -gap)
    return tuple((figure.bodies[a].id, figure.bodies[b].id, d) for (a, b), d in sorted(depths.items()) if d > 0.0)


def body_overlaps(figure: Figure) -> dict[str, float]:
    """Deepest overlap at rest of every body with one that it would collide with, m."""
    off = {frozenset(p) for p in figure.pairs_off}
    deepest: dict[str, float] = {}
    for a, b, depth in resting_overlaps(figure):
        if frozenset((a, b)) not in off:
            for end in (a, b):
                deepest[end] = max(deepest.get(end, 0.0), depth)
    return deepest
