"""How well shapes follow the skin, as figures."""

from dataclasses import dataclass

import numpy as np

from artuline.core.geometry import distance, rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.model import Body, Figure
from artuline.core.setup.patch_fit import NEAR_SKIN
from artuline.core.setup.skin import Skin, SkinParts, divide_among, surface_points


@dataclass(frozen=True)
class BodyFit:
    """How a body's shapes lie in the skin of their bone.

    ``inside``: share of the skin's area that lies in a shape or right above it (``NEAR_SKIN``); ``proud``: how far the
    shapes stand out of the skin, m (95th percentile of their surface); ``overlap``: deepest overlap with another
    body that is not joined to it, m. ``grade``: 0 good to 1 bad, by which they are listed.
    """

    body: str
    inside: float
    proud: float
    overlap: float
    grade: float


def body_distance(body: Body, points: Array) -> Array:
    """Signed distance (N,) of points (N, 3), in the bone's frame, from the nearest shape of a body."""
    if not body.shapes:
        return np.full(len(points), np.inf)
    return np.min([distance.shape(points, s) for s in body.shapes], axis=0)


def measure(figure: Figure, skin: Skin, overlaps: dict[str, float]) -> list[BodyFit]:
    """The fit of every body with a shape, the worst first. ``overlaps``: deepest overlap of each body, m."""
    parts: SkinParts = divide_among(figure, skin.mesh, skin.points, {b.bone for b in figure.bodies})
    p, q = rigid(rest_matrices(figure))
    found = []
    for body in figure.bodies:
        if not body.shapes:
            continue
        b = figure.bone_index[body.bone]
        mine = (parts.owner == b) & skin.exposed
        inside = 0.0
        if mine.any():
            local = rotation.rotate(rotation.conjugate(q[b]), parts.points[mine] - p[b])
            held = body_distance(body, local) < NEAR_SKIN * skin.height
            inside = float(parts.area[mine][held].sum() / max(parts.area[mine].sum(), 1e-30))
        surface = np.concatenate([surface_points(s) for s in body.shapes])
        if len(body.shapes) > 1:
            # not what lies inside of another shape of the body
            surface = surface[body_distance(body, surface) > -1e-3]
        out = skin.outside(p[b] + rotation.rotate(q[b], surface)) if len(surface) else np.zeros(1)
        proud = max(float(np.percentile(out, 95.0)), 0.0)
        overlap = overlaps.get(body.id, 0.0)
        grade = (1.0 - inside) + 8.0 * proud / skin.height + 2.0 * overlap / skin.height
        found.append(BodyFit(body.id, inside, proud, overlap, float(min(grade, 1.0))))
    return sorted(found, key=lambda f: -f.grade)
