"""A range that goes round: whole rounds are simulated until two agree, and the take ends as it begins."""

from dataclasses import dataclass

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.skeleton import rest_matrices, skeleton_of
from artuline.core.run.build import Built
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene

AGREE, AGREE_MM = 0.1, 1.0  # degrees and mm by which two rounds that agree differ at most
MOST_ROUNDS = 40
TURNED = 0.5  # degrees by which the keys of a round may end otherwise than they began
OFF = 0.01  # share of a figure's size, for its places
LANES = 1e-3  # by which a lane may


def agree(degrees: float, millimetres: float) -> bool:
    """Whether two rounds that differ by so much at most are one."""
    return degrees <= AGREE and millimetres <= AGREE_MM


@dataclass(frozen=True)
class Open:
    """Why a range is no round: what differs at its ends. ``figure``: the one whose clip plays on past the range; None: something else."""

    text: str
    figure: str | None = None
    bone: str | None = None


def travel_of(scene: Scene, assets: AssetStore, figure: Figure) -> Array:
    """How far (3,) the keys take a figure's topmost bone in the range, m; 0 for what comes back to where it was."""
    at = _tops(scene, assets, figure)
    way = at[1] - at[0]
    size = np.ptp(rest_matrices(figure)[:, :3, 3], axis=0).max() if len(figure.bones) > 1 else 1.0
    return np.asarray(way if np.linalg.norm(way) > OFF * size else np.zeros(3))


def _tops(scene: Scene, assets: AssetStore, figure: Figure) -> Array:
    """Where the keys have the topmost bone at both ends of the range, (2, 3)."""
    ends = np.array([scene.start, scene.end], float)
    pose = keyed_pose(scene, assets, figure, ends, layers=False)
    return np.asarray(skeleton_of(figure).global_matrices(pose, root_at(scene, assets, figure, ends))[:, 0, :3, 3])


def opened(scene: Scene, assets: AssetStore) -> list[Open]:
    """What keeps the range of a scene from being a round, by kinematics alone."""
    ends = np.array([scene.start, scene.end], float)
    found = []
    for f in scene.figures:
        if f.stays:
            # what is never let go is no part of the loop, but what it strikes or carries is
            ends_at = root_at(scene, assets, f, ends)[:, :3, 3] if len(f.track.frames) > 1 else np.zeros((2, 3))
            if np.linalg.norm(ends_at[1] - ends_at[0]) > OFF:
                found.append(
                    Open(f"{f.name} ends {np.linalg.norm(ends_at[1] - ends_at[0]):.2f} m from where it begins", f.id)
                )
            continue
        pose = keyed_pose(scene, assets, f, ends, layers=False)
        off = np.degrees(rotation.angle_between(pose.rotation[0], pose.rotation[1]))
        k = int(off.argmax())
        if off[k] > TURNED:
            text = f"{f.name}: the keys of {f.bones[k].name} end {off[k]:.1f}° from where they begin"
            found.append(Open(text, f.id, f.bones[k].name))
        for g in f.groups:
            for name in ("handover", "tone", "steadiness", "calm"):
                a, b = getattr(g, name).value(ends)
                if abs(a - b) > LANES:
                    found.append(Open(f"{f.name}, {g.name}: {name} ends at {b:.2f} and begins at {a:.2f}", f.id))
    for name, lane, rest in (("gravity", scene.gravity_lane, scene.gravity), ("wind", scene.wind_lane, scene.wind)):
        if np.abs(np.diff(lane.value(ends, rest), axis=0)).max() > LANES:
            found.append(Open(f"the {name} ends otherwise than it begins"))
    if scene.rules:
        found.append(Open(f"the rule {scene.rules[0].name} hands over for good"))
    return found


def require_round(scene: Scene, assets: AssetStore) -> None:
    """Raises ArtulineError where the range of a scene that is to go round does not end as it begins."""
    found = opened(scene, assets)
    if found:
        raise ArtulineError(
            f"the range from frame {scene.start} to {scene.end} is no closed loop: {found[0].text}",
            remedy="Let the range be whole rounds of clips that loop, with lanes that end as they begin; or take Closed loop off (Blend, World).",
        )


def _together(scene: Scene) -> list[set[str]]:
    """Figures that hang on each other: by mounts, links, and the points of strands."""
    sets = [{f.id} for f in scene.figures]
    pairs = [(f.id, m.figure) for f in scene.figures for m in f.mounts]
    pairs += [(x.a.figure, x.b.figure) for x in scene.links if x.b is not None]
    for a, b in pairs:
        one, two = (next(s for s in sets if x in s) for x in (a, b))
        if one is not two:
            one |= two
            sets.remove(two)
    return sets


def travels(built: Built) -> Array:
    """How far each body of a world goes on in a round, (n, 3), m: as what it hangs on. Raises ArtulineError for what hangs on two that part."""
    scene, found = built.scene, np.zeros((built.count, 3))
    ways = {f.id: np.zeros(3) if f.stays else travel_of(scene, built.assets, f) for f in scene.figures}
    for group in _together(scene):
        moving = [x for x in sorted(group) if np.any(ways[x])]
        for x in moving[1:]:
            if np.linalg.norm(ways[x] - ways[moving[0]]) > OFF:
                one, two = scene.figure(moving[0]).name, scene.figure(x).name
                raise ArtulineError(
                    f"{one} and {two} hang on each other and part in every round",
                    remedy="Let both go equally far, or take Closed loop off (Blend, World).",
                )
        for part in built.parts:
            if moving and part.figure.id in group:
                found[part.rows] = ways[moving[0]]
    return found


def apart(before: tuple[Array, Array], now: tuple[Array, Array]) -> tuple[float, float]:
    """By how much two rounds differ at most: degrees, and mm; places (F, n, 3) and rotations (F, n, 4) of each."""
    turned = rotation.angle_between(before[1], now[1]).max(initial=0.0)
    off = np.linalg.norm(before[0] - now[0], axis=-1).max(initial=0.0)
    return float(np.degrees(turned)), float(1000.0 * off)


def close(p: Array, q: Array, way: Array, free: np.ndarray) -> None:
    """Let a round end as it begins: what it is open by is spread over all of it. p (F, n, 3), q (F, n, 4); way (n, 3); free (n,): of these bodies."""
    share = np.linspace(0.0, 1.0, len(p))[:, None, None]
    p[:, free] += share * (p[0] + way - p[-1])[None, free]
    off = rotation.to_rotation_vector(rotation.multiply(q[0], rotation.conjugate(q[-1])))[None, free]
    q[:, free] = rotation.multiply(rotation.from_rotation_vector(share * off), q[:, free])
