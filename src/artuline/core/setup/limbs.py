"""Which bones are limbs that goals can lead, and about which axis each bends."""

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import load_clip
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.limb import Limb
from artuline.core.scene.model import Figure
from artuline.core.setup.anatomy import segment_of
from artuline.core.setup.mirror import mirror_pairs

ENDS = ("hand", "foot")
BEGINNINGS = {"hand": ("upper arm",), "foot": ("thigh", "upper arm")}
LEAST = np.sin(np.radians(4.0))  # of bend that tells the axis
SAMPLES = 48  # of a clip


def propose_limbs(figure: Figure, assets: AssetStore) -> tuple[Limb, ...]:
    """The limbs of a figure: to hands and feet by their names; where there are none, the chains of three bodies or more on both sides."""
    ends = [b.name for b in figure.bones if segment_of(b.name) in ENDS]
    tops = [e for e in ends if not any(segment_of(a) == segment_of(e) for a in figure.above(e))]
    found: list[Limb] = []
    taken: set[str] = set()
    for end in tops or _chains(figure):
        above = figure.above(end)
        if len(above) < 2:
            continue
        first = next((a for a in above[1:] if segment_of(a) in BEGINNINGS.get(segment_of(end) or "", ())), above[1])
        mine = {end, *above[: above.index(first) + 1]}
        if not mine & taken:
            taken |= mine
            found.append(limb_of(figure, assets, first, above[0], end))
    return tuple(found)


def _chains(figure: Figure) -> list[str]:
    """The third bones of chains of bodies that do not branch and have a counterpart on the other side."""
    pairs, found = mirror_pairs(figure), []
    children: dict[str, list[str]] = {}
    bone = {b.id: b.bone for b in figure.bodies}
    for j in figure.joints:
        children.setdefault(bone[j.parent], []).append(bone[j.child])
    for first in figure.limbs():
        chain = [first]
        while len(below := children.get(chain[-1], [])) == 1:
            chain.append(below[0])
        if len(chain) >= 3 and pairs.get(first, first) != first and chain[0] in figure.above(chain[2]):
            found.append(chain[2])
    return found


def limb_of(figure: Figure, assets: AssetStore, upper: str, lower: str, end: str) -> Limb:
    """A limb of three bones, with the axis that it bends about in the rest pose and in its clips. Raises ArtulineError if they are none."""
    if upper not in figure.above(lower) or lower not in figure.above(end):
        raise ArtulineError(
            f"{upper}, {lower} and {end} are no limb: each has to hang on the one before",
            remedy="Choose a hand or a foot, or three bones from the body outwards.",
        )
    ways = [figure.bone_index[b] for b in (upper, lower, end)]
    skeleton = skeleton_of(figure)
    rest = skeleton.global_matrices(skeleton.rest)[None]
    bends = _bends(rest, ways)
    total = bends.sum(axis=0)
    for ref in figure.clips if np.linalg.norm(total) < LEAST else ():
        pose = load_clip(assets, ref.asset).sample(skeleton, np.linspace(0.0, ref.duration, SAMPLES))
        total = total + _bends(skeleton.global_matrices(pose), ways).sum(axis=0)
    p, q = rigid(rest[0, ways])
    along = rotation.rotate(rotation.conjugate(q[0]), p[1] - p[0])
    length = float(np.linalg.norm(along))
    if min(length, float(np.linalg.norm(p[2] - p[1]))) < 1e-9:
        raise ArtulineError(f"the limb from {upper} to {end} has a bone of no length", remedy="Choose other bones.")
    along = along / length
    total = total - (total @ along) * along
    if np.linalg.norm(total) < LEAST:
        # straight in all that is known: across, about the axis of the frame that is farthest from along
        total = np.eye(3)[int(np.argmin(np.abs(along)))]
        total = total - (total @ along) * along
    x, y, z = total / np.linalg.norm(total)
    return Limb(upper=upper, lower=lower, end=end, axis=(float(x), float(y), float(z)))


def _bends(matrices: Array, limb: list[int]) -> Array:
    """Axes (F, 3) that a limb is bent about at matrices (F, B, 4, 4), in the frame of its upper bone, as long as the sine of the bend."""
    p, q = rigid(matrices[:, limb])
    u, v = p[:, 1] - p[:, 0], p[:, 2] - p[:, 1]
    size = np.linalg.norm(u, axis=1) * np.linalg.norm(v, axis=1)
    side = np.cross(u, v) / np.maximum(size, 1e-12)[:, None]
    return np.asarray(rotation.rotate(rotation.conjugate(q[:, 0]), side))
