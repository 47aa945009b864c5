"""Where keys stop being plausible: flight that leaves its parabola, what slides on the ground, what is pressed in, and joints beyond their limits."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.run.build import Built, build
from artuline.core.run.forces import gravity_at
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene
from artuline.core.setup.joints import keyed_limit_excess

Kind = Literal["flight", "slide", "pressed", "limit"]
NEAR = 0.012  # m: what is closer touches
LEAST_FLIGHT = 4  # frames
SIDES = 1  # frames at each end of a flight that are left out: it takes off and lands between two of them
#: What of each kind is too much: m off the parabola; m a second along what it touches; m deeper; degrees beyond.
MOST: dict[Kind, float] = {"flight": 0.02, "slide": 0.10, "pressed": 0.005, "limit": 2.0}
WORDS: dict[Kind, tuple[str, str, float]] = {
    "flight": ("leaves its flight by", "cm", 100.0),
    "slide": ("slides at", "cm/s", 100.0),
    "pressed": ("is pressed in by", "mm", 1000.0),
    "limit": ("is beyond its limits by", "°", 1.0),
}


@dataclass(frozen=True)
class Doubt:
    """A stretch of frames in which something is not plausible: of what kind, from where to where, the worst frame, by how much (m, m/s or degrees), and of what body or bone."""

    kind: Kind
    start: int
    end: int
    frame: int
    amount: float
    place: str

    @property
    def text(self) -> str:
        """In words."""
        words, unit, scale = WORDS[self.kind]
        value = f"{self.amount * scale:.0f}" if self.amount * scale >= 10 else f"{self.amount * scale:.1f}"
        return f"{self.place} {words} {value}{'' if unit == '°' else ' '}{unit}"


@dataclass(frozen=True, eq=False)
class Looked:
    """What was found on frames (F,): touching (F, n) and how deep (F, n) every body of the world is, how fast it slides on the ground (F, n) m/s,
    and the places of the figure's centre of mass (F, 3).
    """

    touching: np.ndarray
    depth: Array
    slide: Array
    middle: Array


def doubts(
    scene: Scene,
    assets: AssetStore,
    figure_id: str,
    take: Take | None = None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[Doubt]:
    """Where the keys of a figure with all its layers are not plausible over the scene's range, the most serious first.

    What they did before they were edited, or, of keys that came from elsewhere, what the ``take`` did, is no fault of theirs: only what leaves its
    flight, slides, is pressed or bent further counts. Keys as they were baked are within the error that was asked for.
    """
    figure = scene.figure(figure_id)
    heard = [x for x in figure.layers if not x.muted and x.kind == "baked"]
    edited = any(x.baked for x in heard)
    if not figure.bodies or not heard or not (edited or any(x.of is None for x in heard)):
        return []
    led = figure.changed(layers=tuple(x.changed(leads=not x.muted) for x in figure.layers))
    scene = scene.changed(figures=tuple(led if f.id == figure_id else f for f in scene.figures))
    frames = np.arange(scene.start, scene.end + 1, dtype=float)
    built = build(scene, assets)
    rows = next(p.rows for p in built.parts if p.figure.id == figure_id)
    keyed = _look(built, rows, *built.keyed(frames), scene.rate, cancelled)
    if edited:
        older = led.changed(layers=tuple(x.changed(asset=x.baked or x.asset) for x in led.layers))
        built = build(scene.changed(figures=tuple(older if f.id == figure_id else f for f in scene.figures)), assets)
        before: Looked | None = _look(built, rows, *built.keyed(frames), scene.rate, cancelled)
        past: Array | None = _excess(scene, assets, older, frames)
    else:
        before = _of_take(built, rows, take, figure, frames, scene, cancelled) if take is not None else None
        past = _excess_of(take, figure, frames) if take is not None else None
    names = [b.bone for p in built.parts if p.figure.id == figure_id for b in p.bodies]
    found = _flights(scene, keyed, before, frames, figure.name)
    for kind, now, then in (
        ("slide", keyed.slide, before.slide if before else None), ("pressed", keyed.depth, before.depth if before else None)
    ):  # fmt: skip
        more = now if then is None else now - then
        found += _stretches(kind, more, now, frames, names)  # type: ignore[arg-type]
    excess = _excess(scene, assets, led, frames)
    joints = [next(b.bone for b in figure.bodies if b.id == j.child) for j in figure.joints]
    found += _stretches("limit", excess if past is None else excess - past, excess, frames, joints)
    return sorted(found, key=lambda d: -d.amount / MOST[d.kind])


def _look(built: Built, rows: np.ndarray, x: Array, q: Array, rate: float, cancelled: Callable[[], bool]) -> Looked:
    """Pose the world on every frame and ask it what touches."""
    world, count = built.world, len(x)
    n = len(rows)
    touching, depth, slide = np.zeros((count, n), bool), np.zeros((count, n)), np.zeros((count, n))
    mass = world.bodies["mass"][rows]
    local = np.array(world.local_p)[rows]
    at = x[:, rows] + rotation.rotate(q[:, rows], local)
    middle = (at * mass[:, None]).sum(axis=1) / mass.sum()
    row_of = {int(r): i for i, r in enumerate(rows)}
    body = world.shapes["body"]
    for f in range(count):
        if cancelled():
            break
        world.bodies["x"], world.bodies["q"] = world.inner(x[f], q[f])
        near = world.contacts_now(NEAR)
        before, after = max(f - 1, 0), min(f + 1, count - 1)
        for c in near:
            a, b = (int(body[s]) for s in c["shapes"])
            mine = [row_of[k] for k in (a, b) if k in row_of]
            gap = float(c["gap"])
            for i in mine:
                depth[f, i] = max(depth[f, i], -gap)
            if len(mine) == 1 and gap < NEAR:
                i = mine[0]
                other = b if a in row_of else a
                touching[f, i] = True
                if after > before and other < 0:
                    # the point of the body that touches, a frame before and after
                    point = rotation.rotate(rotation.conjugate(q[f, rows[i]]), c["point"] - x[f, rows[i]])
                    ends = [x[k, rows[i]] + rotation.rotate(q[k, rows[i]], point) for k in (before, after)]
                    way = (ends[1] - ends[0]) * rate / (after - before)
                    way = way - c["normal"] * (way @ c["normal"])
                    speed = float(np.linalg.norm(way))
                    slide[f, i] = speed if slide[f, i] == 0.0 else min(slide[f, i], speed)
    # what touches for a moment only does not stand there
    stays = touching.copy()
    stays[1:-1] &= touching[:-2] & touching[2:]
    return Looked(touching, depth, np.where(stays, slide, 0.0), middle)


def _of_take(
    built: Built,
    rows: np.ndarray,
    take: Take,
    figure: Figure,
    frames: Array,
    scene: Scene,
    cancelled: Callable[[], bool],
) -> Looked | None:
    """The same of a take, on the frames that it has; nothing where it has none."""
    if figure.id not in take.poses:
        return None
    x, q = built.keyed(frames)
    for i, f in enumerate(frames):
        if take.frames[0] <= f <= take.frames[-1]:
            k = take.row(int(f))
            for part in built.parts:
                if part.figure.id in take.poses and len(part.rows):
                    m = skeleton_of(part.figure).global_matrices(
                        take.poses[part.figure.id].frame(k), take.root(part.figure, k)
                    )
                    x[i, part.rows], q[i, part.rows] = rigid(m[part.bones])
    return _look(built, rows, x, q, scene.rate, cancelled)


def _flights(scene: Scene, seen: Looked, before: Looked | None, frames: Array, name: str) -> list[Doubt]:
    """Flights, in which nothing touches, whose centre of mass leaves the parabola that gravity and its own speed make."""
    found = []
    flying = np.concatenate([[False], ~seen.touching.any(axis=1), [False]])
    edges = np.flatnonzero(np.diff(flying.astype(int)))
    for first, end in zip(edges[::2], edges[1::2]):
        rows = np.arange(first + SIDES, end - SIDES)
        if len(rows) < LEAST_FLIGHT:
            continue
        off = _off_parabola(scene, seen.middle[rows], frames[rows])
        if before is not None and before.touching[rows].any(axis=1).mean() < 0.2:
            # on the way back to its keys a figure rises by itself
            off = off - _off_parabola(scene, before.middle[rows], frames[rows])
        worst = int(np.argmax(off))
        if off[worst] > MOST["flight"]:
            at = frames[rows]
            found.append(Doubt("flight", int(at[0]), int(at[-1]), int(at[worst]), float(off[worst]), name))
    return found


def _off_parabola(scene: Scene, path: Array, frames: Array) -> Array:
    """How far places (F, 3) at frames (F,) are from the free flight that is nearest to them (F,), m."""
    t = (frames - frames[0]) / scene.rate
    line = np.stack([np.ones_like(t), t], axis=1)
    path = path - 0.5 * gravity_at(scene, np.array([frames.mean()]))[0] * (t**2)[:, None]
    return np.asarray(np.linalg.norm(path - line @ np.linalg.lstsq(line, path, rcond=None)[0], axis=1))


def _stretches(kind: Kind, more: Array, amount: Array, frames: Array, names: list[str]) -> list[Doubt]:
    """Stretches of frames in which ``more`` (F, n) is too much, with the worst of ``amount``."""
    found = []
    for i, name in enumerate(names):
        bad = np.concatenate([[False], more[:, i] > MOST[kind], [False]])
        edges = np.flatnonzero(np.diff(bad.astype(int)))
        for first, end in zip(edges[::2], edges[1::2]):
            worst = first + int(np.argmax(more[first:end, i]))
            found.append(
                Doubt(kind, int(frames[first]), int(frames[end - 1]), int(frames[worst]), float(amount[worst, i]), name)
            )
    return found


def _excess(scene: Scene, assets: AssetStore, figure: Figure, frames: Array) -> Array:
    """How far every joint is beyond its limits (F, m), degrees."""
    pose = keyed_pose(scene, assets, figure, frames)
    q = rigid(skeleton_of(figure).global_matrices(pose, root_at(scene, assets, figure, frames)))[1]
    if not figure.joints:
        return np.zeros((len(frames), 0))
    return np.degrees(np.stack([keyed_limit_excess(figure, j, q) for j in figure.joints], axis=1))


def _excess_of(take: Take, figure: Figure, frames: Array) -> Array | None:
    if figure.id not in take.poses or not figure.joints:
        return None
    q = rigid(skeleton_of(figure).global_matrices(take.poses[figure.id], take.root(figure)))[1]
    of_take = np.degrees(np.stack([keyed_limit_excess(figure, j, q) for j in figure.joints], axis=1))
    found = np.zeros((len(frames), len(figure.joints)))
    inside = (frames >= take.frames[0]) & (frames <= take.frames[-1])
    found[inside] = of_take[[take.row(int(f)) for f in frames[inside]]]
    return found
