"""What begins inside of something else: it comes out by itself, but is not where it was put, and touches nothing properly until then."""

from collections import defaultdict

import numpy as np

from artuline.core.checks.finding import Finding, Fix
from artuline.core.run.build import Built, build
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import BodyRef, Scene
from artuline.core.setup.passing import let_pass

NAMED = 2  # bodies that are named; more are counted


def check_inside(scene: Scene, assets: AssetStore) -> list[Finding]:
    """Bodies of one figure that are more than half inside of another's at the first frame, where either is let go."""
    if scene.warm_up > 0 or scene.end <= scene.start or len(scene.figures) < 2:
        return []
    if not any(f.bodies and not f.stays for f in scene.figures):
        return []
    built = build(scene, assets)
    found: dict[tuple[int, int], dict[int, float]] = defaultdict(dict)
    for a, b, depth in _buried(built):
        # the one that there is more of is what the others are in
        one, other = _owner(built, a), _owner(built, b)
        if one != other:
            inner, outer = (a, b) if built.world.bodies["reach"][a] <= built.world.bodies["reach"][b] else (b, a)
            mine = found[_owner(built, inner), outer]
            mine[inner] = max(mine.get(inner, 0.0), depth)
    return [_finding(built, k, outer, inner) for (k, outer), inner in found.items()]


def _owner(built: Built, row: int) -> int:
    return next(k for k, p in enumerate(built.parts) if row in p.rows)


def _buried(built: Built) -> list[tuple[int, int, float]]:
    """Pairs of bodies of which one is more than half inside of the other, and by how much (m), posed as they are, where one may be let go."""
    world, loose, scene = built.world, built.loose, built.scene
    handover, _ = built.lanes(np.linspace(scene.start, scene.end, 40))
    free = (handover > 0.0).any(axis=0) & loose
    away = np.zeros(built.count, bool)
    for p in built.parts:
        # what enters later is not there yet, what a rule lets go may be any of it
        away[p.rows] = p.figure.enters is not None
        free[p.rows] |= scene.ruled(p.figure)
    x, q = world.inner(*built.keyed(np.array([float(scene.start)])))
    world.bodies["x"], world.bodies["q"] = x[0], q[0]
    shapes, found = world.shapes, []
    for c in world.contacts_now(free=np.ones(built.count, bool)):
        s, t = c["shapes"]
        a, b = int(shapes["body"][s]), int(shapes["body"][t])
        if a < 0 or b < 0 or away[a] or away[b] or not (free[a] or free[b]):
            continue
        if c["gap"] < -min(shapes["thin"][s], shapes["thin"][t]):
            found.append((a, b, -float(c["gap"])))
    return found


def _finding(built: Built, figure: int, outer: int, inner: dict[int, float]) -> Finding:
    scene, refs = built.scene, built.body_refs
    rows = sorted(inner, key=lambda r: -inner[r])
    names = " and ".join(scene.words(refs[r]) for r in rows[:NAMED])
    more = f" and {len(rows) - NAMED} more" if len(rows) > NAMED else ""
    begin = "begins" if len(rows) == 1 else "begin"
    text = f"{names}{more} {begin} {1e3 * inner[rows[0]]:.0f} mm inside of {scene.words(refs[outer])}: what begins there is moved out by itself."
    part = built.parts[figure]
    body = part.bodies[part.rows.tolist().index(rows[0])]
    return Finding(
        2, text, part.figure.id, body.bone, scene.start, fix_label="Let them pass through",
        fix=_pass([(refs[r], refs[outer]) for r in rows]),
    )  # fmt: skip


def _pass(pairs: list[tuple[BodyRef, BodyRef]]) -> Fix:
    return lambda s: let_pass(s, pairs)
