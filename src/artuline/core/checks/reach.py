"""What kinematics can tell before a run: strands, ties and holds whose ends come farther apart than what is between them reaches."""

from collections import defaultdict
from dataclasses import dataclass
from itertools import combinations

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array
from scipy.sparse.csgraph import connected_components, dijkstra

from artuline.core.checks.finding import Finding, Fix
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.physics.state import FREE, LIMITED, TIE
from artuline.core.run.build import Built, build
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Link, Mount, Scene
from artuline.core.setup.strand import remade

MOST_FRAMES = 400  # at which it is looked; of longer scenes not every frame
LEAST = 0.002  # m that may be missing
SHARE = 1e-3  # of the reach, the same
TOUCH = 1e-9  # m: length of an edge between two anchors at one place, since 0 is none
ELASTIC = 6.0  # Hz of a metre of a strand that is let give
SPARE = 1.002  # times what is missing that a strand is made longer by


@dataclass(frozen=True)
class Short:
    """What is too short: the rows of the bodies on the way (free), its reach, m, and the worst frame with how far apart, m, the two ends are
    then: (joint, side) of the world, side 0 being the child's.
    """

    bodies: tuple[int, ...]
    reach: float
    frame: int
    apart: float
    ends: tuple[tuple[int, int], tuple[int, int]]

    @property
    def missing(self) -> float:
        """By how much it is too short, m."""
        return self.apart - self.reach


def check_reach(scene: Scene, assets: AssetStore) -> list[Finding]:
    """What is asked to be in two places at once, by how much, from which frame on, with a fix."""
    if scene.end <= scene.start or not any(f.bodies and not f.stays for f in scene.figures):
        return []
    if not (scene.links or any(f.mounts for f in scene.figures)):
        return []
    built = build(scene, assets)
    return [_finding(built, s) for s in shortages(built)]


def shortages(built: Built) -> list[Short]:
    """What is too short for the keys of what holds it, the worst of everything that hangs together, the worst first.

    From a place that is keyed to another, along bodies and what joins them, it is no farther than the shortest way (Dijkstra 1959): anchors on a body stay
    as far apart as they are, joints, pins and welds add nothing, ties their length.
    """
    scene = built.scene
    step = max(1, -(-(scene.end - scene.start) // MOST_FRAMES))
    frames = np.arange(scene.start, scene.end + 1, step, dtype=float)
    handover, _ = built.lanes(frames)
    free = (handover > 0.0) | (built.carriage.carriers(handover, frames) > 0.0)
    if not free.any():
        return []
    x, q = built.world.inner(*built.keyed(frames))
    on = _acting(built, frames, free)
    anchors = _anchors(built, frames, x, q, free)
    # what is free and acts changes a few times only
    states = np.concatenate([free, on], axis=1)
    found: dict[frozenset[int], Short] = {}
    _, which = np.unique(states, axis=0, return_inverse=True)
    for k in np.unique(which):
        at = np.flatnonzero(which == k)
        for short in _of_state(built, frames[at], x[at], q[at], free[at[0]], on[at[0]], anchors):
            key = frozenset(short.bodies) or frozenset({-1 - short.ends[0][0]})
            old = next((o for o in found if o & key), None)
            if old is None or found[old].missing < short.missing:
                if old is not None:
                    del found[old]
                found[key] = short
    return sorted(found.values(), key=lambda s: -s.missing)


def _acting(built: Built, frames: Array, free: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which joints of the world hold at frames (F, m); what grips goes along with two ends that are on their keys."""
    j, ends = built.world.joints, np.column_stack([free, np.zeros(len(frames), bool)])
    count, own = len(built.world.joints), len(built.joints)
    on = np.ones((len(frames), count), bool)
    held: list[Link | Mount] = [*built.scene.links, *(r.mount for r in built.rides if r.held)]
    for k, x in enumerate(held, own):
        on[:, k] = [x.acts(f) for f in frames]
        if not (isinstance(x, Link) and x.kind == "tie"):
            on[:, k] &= ends[:, j["child"][k]] | ends[:, j["parent"][k]]
    return on


def _anchors(built: Built, frames: Array, x: Array, q: Array, free: NDArray[np.bool_]) -> Array:
    """Where each joint of the world takes hold of its child and its parent (m, 2, 3), in their frames; links as they grip when they begin, or when the first of
    their ends is handed over after that.
    """
    j, own = built.world.joints, len(built.joints)
    found = np.stack([j["anchor_c"], j["anchor_p"]], axis=1)
    held = [(h, h.kind != "tie") for h in built.scene.links] + [(r.mount, True) for r in built.rides if r.held]
    for k, (h, grips) in enumerate(held, own):
        if grips:
            at = int(
                np.clip(np.searchsorted(frames, h.start if h.start is not None else frames[0]), 0, len(frames) - 1)
            )
            c, p = int(j["child"][k]), int(j["parent"][k])
            loose = free[at:, c] | (free[at:, p] if p >= 0 else False)
            at += int(loose.argmax()) if loose.any() else 0
            place = x[at, c] + rotation.rotate(q[at, c], found[k, 0])
            if p >= 0:
                place = rotation.rotate(rotation.conjugate(q[at, p]), place - x[at, p])
            found[k, 1] = place
    return found


def _edge(row: np.void) -> float:
    """How far a joint lets its two anchors apart, m."""
    if row["kind"] == TIE:
        return np.inf if row["limit_frequency"] > 0.0 else float(row["high"][0])
    if (row["mode"][:3] == FREE).any() or row["spring_frequency"] > 0.0:
        return np.inf
    reach = [max(abs(row["low"][a]), abs(row["high"][a])) for a in range(3) if row["mode"][a] == LIMITED]
    return float(np.linalg.norm(reach)) if reach else 0.0


def _of_state(
    built: Built, frames: Array, x: Array, q: Array, free: NDArray[np.bool_], on: NDArray[np.bool_], anchors: Array
) -> list[Short]:
    """``shortages`` at frames at which the same is free (n,) and holds (m,)."""
    rows = built.world.joints
    ends = np.stack([rows["child"], rows["parent"]], axis=1)
    loose = np.where(ends >= 0, free[ends], False)
    live = on & loose.any(axis=1)
    # links between two that are keyed hold nothing, but are seen to be apart
    live[len(built.joints) :] |= on[len(built.joints) :]
    of_body: dict[int, list[int]] = defaultdict(list)
    a: list[int] = []
    b: list[int] = []
    length: list[float] = []
    for k in np.flatnonzero(live).tolist():
        edge = _edge(rows[k])
        if edge < 1e8:
            a.append(2 * k)
            b.append(2 * k + 1)
            length.append(max(edge, TOUCH))
        for side in (0, 1):
            if loose[k, side]:
                of_body[int(ends[k, side])].append(2 * k + side)
    for mine in of_body.values():
        for i, j in combinations(mine, 2):
            a.append(i)
            b.append(j)
            length.append(max(float(np.linalg.norm(anchors[i // 2, i % 2] - anchors[j // 2, j % 2])), TOUCH))
    count = 2 * len(rows)
    graph = csr_array((length, (a, b)), shape=(count, count))
    _, part = connected_components(graph, directed=False)
    keyed = np.flatnonzero(np.repeat(live, 2) & ~loose.ravel())
    found = []
    for p in np.unique(part[keyed]):
        sources = keyed[part[keyed] == p]
        # one that is held several times at one place of a keyed body is no loop
        if len(sources) > 1:
            short = _worst(frames, x, q, graph, sources, ends, anchors)
            if short is not None:
                found.append(short)
    return found


def _worst(
    frames: Array,
    x: Array,
    q: Array,
    graph: csr_array,
    sources: NDArray[np.int64],
    ends: NDArray[np.int64],
    anchors: Array,
) -> Short | None:
    """The pair of keyed anchors that comes farthest beyond what is between it; None if none does."""
    far, before = dijkstra(graph, directed=False, indices=sources, return_predecessors=True)
    places = []
    for s in sources:
        body, anchor = int(ends[s // 2, s % 2]), anchors[s // 2, s % 2]
        places.append(
            x[:, body] + rotation.rotate(q[:, body], anchor) if body >= 0 else np.broadcast_to(anchor, (len(x), 3))
        )
    best: Short | None = None
    for i, j in combinations(range(len(sources)), 2):
        reach = float(far[i, sources[j]])
        apart = np.linalg.norm(places[i] - places[j], axis=1)
        at = int(apart.argmax())
        if not np.isfinite(reach) or apart[at] - reach < max(LEAST, SHARE * reach):
            continue
        if best is None or apart[at] - reach > best.missing:
            way, node = [], int(sources[j])
            while node != sources[i] and node >= 0:
                way.append(node)
                node = int(before[i, node])
            middle = [int(ends[n // 2, n % 2]) for n in way if n not in sources]
            two = tuple((int(s // 2), int(s % 2)) for s in (sources[i], sources[j]))
            best = Short(tuple(dict.fromkeys(middle)), reach, int(frames[at]), float(apart[at]), two)  # type: ignore[arg-type]
    return best


def _finding(built: Built, s: Short) -> Finding:
    scene, refs = built.scene, built.body_refs
    owners = [refs[b].figure for b in s.bodies]
    who = max(dict.fromkeys(owners), key=owners.count) if owners else None
    joint = built.joint_refs[s.ends[0][0]]
    what = scene.figure(who).name if who is not None else scene.words(joint)
    rows = built.world.joints
    holders = []
    for k, side in s.ends:
        body = int(rows["child" if side == 0 else "parent"][k])
        holders.append(scene.words(refs[body]) if body >= 0 else "the world")
    between = f"{what} between them reaches" if s.bodies else f"{what} lets them"
    text = (
        f"{holders[0]} and {holders[1]} come {s.apart:.3f} m apart at frame {s.frame}, {1000 * s.missing:.0f} mm more than {between}: "
        "what is missing would be shared."
    )
    label, fix, more = _fixes(scene, built.assets, scene.figure(who) if who is not None else None, s, joint.joint)
    bone = None
    if s.bodies and who is not None:
        ref = refs[s.bodies[0]]
        bone = next((b.bone for b in scene.figure(ref.figure).bodies if b.id == ref.body), None)
    return Finding(2, text, who, bone, s.frame, fix_label=label, fix=fix, more=more)


def _fixes(
    scene: Scene, assets: AssetStore, figure: Figure | None, s: Short, joint: str
) -> tuple[str, Fix | None, tuple[tuple[str, Fix], ...]]:
    """What mends it: words and edit, and others."""
    made = figure.made if figure is not None else None
    if figure is not None and made is not None:
        name = figure.id
        slack = (1.0 + made.slack) * s.apart / s.reach * SPARE - 1.0
        give = ("Let it give", lambda x: remade(x, assets, name, made.changed(stretch=ELASTIC)))
        if slack > 4.0:
            return *give, ()
        longer = f"Give it {100 * (slack - made.slack):.1f} % slack"
        return longer, lambda x: remade(x, assets, name, made.changed(slack=slack)), (give,)
    link: Link | None = next((x for x in scene.links if x.id == joint), None)
    if link is None:
        return "", None, ()

    def changed(**values: object) -> Fix:
        return lambda x: edit.scene(x, links=edit.replace(x.links, joint, lambda k: k.changed(**values)))

    go = (f"Let go at frame {s.frame}", changed(stop=float(s.frame)))
    if link.kind == "tie" and link.lengths[1]:
        long = link.lengths[1] + SPARE * s.missing
        return f"Make it {long:.3f} m long", changed(lengths=(link.lengths[0], long)), (go,)
    return *go, ()
