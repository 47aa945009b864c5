"""Ready recipes of strands, where their points come from, and many that are released one after the other."""

from typing import Any

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.skeleton import rigid
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Group, Key, Lane, Scene, Strand, StrandPoint
from artuline.core.scene.strand import MOST_PARTS
from artuline.core.setup.lines import length_of, line_through
from artuline.core.setup.strand import add_strand, remade

#: What is ready, in words, and the fields that differ; ``spacing`` is a part's length in radii.
READY: dict[str, tuple[str, dict[str, Any]]] = {
    "rope": ("Laid rope: limp, heavy for its size", {"radius": 0.011, "weight": 0.35, "bend": 0.06, "twist": 0.06, "ratio": 0.6, "rolling": 0.3}),
    "cable": ("Wire or hose: springs back, leaves where it is held straight on",
              {"radius": 0.009, "weight": 0.4, "bend": 0.5, "twist": 0.5, "ratio": 0.25, "rolling": 0.1}),
    "tail": ("A tail or plait: thinner to its end, keeps the shape that it was drawn in",
             {"radius": 0.025, "weight": 0.6, "ratio": 0.3, "rest": "drawn", "rolling": 0.3}),
    "beads": ("Balls on a string", {"radius": 0.022, "weight": 0.25, "bend": 0.0, "twist": 0.0, "ratio": 0.5}),
}  # fmt: skip
SPACING = {"rope": 4.0, "cable": 4.0, "tail": 2.5, "beads": 2.15}  # radii that a part is long at first
TAIL = 1.6  # Hz of a new tail as a whole
MOST_READY = 120  # parts of a new strand
SECONDS = 7e-6  # that a part takes in a substep, about
COLORS = ((0.62, 0.25, 0.13), (0.80, 0.62, 0.20), (0.17, 0.38, 0.40), (0.66, 0.60, 0.50))  # by turns


def ready(kind: str, points: tuple[StrandPoint, ...], frame: float = 0.0, **values: Any) -> Strand:
    """A ready recipe through points, divided as suits its thickness and length. Raises ArtulineError for a kind that there is not."""
    if kind not in READY:
        raise ArtulineError(f"there is no strand of the kind {kind!r}", remedy=f"Choose one of: {', '.join(READY)}.")
    fields = {**READY[kind][1], **values}
    line = line_through(
        np.array([p.position for p in points]), closed=fields.get("closed", False), curved=fields.get("curved", True)
    )
    length = length_of(line) * (1.0 + fields.get("slack", 0.0))
    count = int(np.clip(round(length / (SPACING[kind] * fields["radius"])), 4, MOST_READY))
    if kind == "tail" and "bend" not in fields:
        # as a whole, whatever its length
        fields |= {"bend": TAIL * length**2, "twist": 1.5 * TAIL * length**2}
    fields.setdefault("count", count)
    fields.setdefault("reach", fields["radius"])
    return Strand(kind=kind, points=points, frame=frame, **fields)


def ring_around(
    scene: Scene, assets: AssetStore, figure: Figure, bone: str, frame: float, gap: float
) -> tuple[StrandPoint, ...]:
    """Eight points in a ring around what a bone carries, a gap (m) from its skin, across the bone at its middle. Raises ArtulineError where there is no skin."""
    if figure.asset is None:
        raise ArtulineError(f"{figure.name} has no skin", remedy="Draw the ring by clicking its points.")
    matrices = keyed_matrices(scene, assets, figure, np.array([frame]))[0]
    mesh = assets.decoded(figure.asset, Mesh.from_arrays)
    weights = mesh.bone_weights(len(figure.bones))
    b = figure.bone_index[bone]
    p, _ = rigid(matrices)
    below = [figure.bone_index[x.name] for x in figure.bones if x.parent == bone]
    mine = mesh.skin(matrices)[weights[:, b] > 0.5]
    if not len(mine):
        raise ArtulineError(f"{bone} carries no skin", remedy="Choose a bone with skin around it.")
    end = p[below].mean(axis=0) if below else 2.0 * mine.mean(axis=0) - p[b]
    way = (end - p[b]) / max(float(np.linalg.norm(end - p[b])), 1e-9)
    at = (mine - p[b]) @ way
    half = 0.5 * float(np.linalg.norm(end - p[b]))
    middle = p[b] + half * way
    near = mine[np.abs(at - half) < max(0.35 * half, 0.02)]
    across = rotation.rotate(rotation.align(np.array([0.0, 1.0, 0.0]), way), np.eye(3)[[0, 2]])
    found = []
    for t in 2.0 * np.pi * np.arange(8) / 8.0:
        out = np.cos(t) * across[0] + np.sin(t) * across[1]
        side = (near if len(near) >= 8 else mine) - middle
        reach = float(max((side @ out).max(), 0.01))
        found.append(StrandPoint(position=tuple(middle + (reach + gap) * out)))
    return tuple(found)


def along_bones(
    scene: Scene, assets: AssetStore, figure: Figure, bones: list[str], frame: float
) -> tuple[StrandPoint, ...]:
    """Points along a chain of bones, the first held by what is above it. Raises ArtulineError for fewer than two."""
    if len(bones) < 2:
        raise ArtulineError(
            "a strand along bones needs two of them or more", remedy="Choose more bones, one below the other."
        )
    p, _ = rigid(keyed_matrices(scene, assets, figure, np.array([frame]))[0])
    order = sorted(bones, key=lambda n: figure.bone_index[n])
    up = figure.bones[figure.bone_index[order[0]]].parent or order[0]
    first = StrandPoint(position=tuple(p[figure.bone_index[order[0]]]), hold="mounted", figure=figure.id, bone=up)
    return (first, *(StrandPoint(position=tuple(p[figure.bone_index[n]])) for n in order[1:]))


def nearest_bone(scene: Scene, assets: AssetStore, at: Array, frame: float, but: str = "") -> tuple[str, str] | None:
    """The figure and bone nearest to a place (3,): by the line from every bone to those below it. ``but``: a figure that does not count."""
    best: tuple[float, str, str] | None = None
    for f in scene.figures:
        if f.id == but or f.made is not None:
            continue
        p, _ = rigid(keyed_matrices(scene, assets, f, np.array([frame]))[0])
        for i, b in enumerate(f.bones):
            if f.carrier(b.name) is None:
                continue
            ends = [p[f.bone_index[x.name]] for x in f.bones if x.parent == b.name] or [p[i]]
            for end in ends:
                d = end - p[i]
                t = float(np.clip((at - p[i]) @ d / max(float(d @ d), 1e-18), 0.0, 1.0))
                gap = float(np.linalg.norm(at - p[i] - t * d))
                if best is None or gap < best[0] - 1e-9:
                    best = gap, f.id, b.name
    return best[1:] if best is not None else None


def released(
    scene: Scene,
    assets: AssetStore,
    figure_id: str,
    count: int,
    start: float,
    every: float,
    scatter: float = 0.0,
    seed: int = 0,
) -> Scene:
    """The scene with a strand ``count`` times, the first let go at frame ``start`` and each of the others ``every`` frames later, where it was drawn:
    what held it lets it go then. ``scatter``: metres by which each is moved, and radians that it is turned about the upright, at most, by chance from ``seed``.

    Raises ArtulineError for what cannot be, or for more parts than a scene may have.
    """
    first = scene.figure(figure_id)
    strand = first.made
    if strand is None:
        raise ArtulineError(f"{first.name} is no strand", remedy="Choose a rope, cable, tail or beads.")
    if not (count >= 1 and every >= 1.0):
        raise ArtulineError(
            f"{count} strands every {every:g} frames", remedy="Release one or more, a frame or more apart."
        )
    if count * strand.count > 4 * MOST_PARTS:
        raise ArtulineError(
            f"{count} strands of {strand.count} parts are too many",
            remedy=f"Release {4 * MOST_PARTS // strand.count} at most.",
        )
    chance = np.random.default_rng(seed)
    points = np.array([p.position for p in strand.points])
    middle = points.mean(axis=0)
    for k in range(count):
        at = start + k * every
        away = scatter * chance.uniform(-1.0, 1.0, 3) * [1.0, 0.3, 1.0]
        turn = rotation.from_rotation_vector(
            np.array([0.0, chance.uniform(-1.0, 1.0) * min(scatter * 4.0, np.pi), 0.0])
        )
        moved = middle + rotation.rotate(turn, points - middle) + away
        new = strand.changed(
            points=tuple(
                p.changed(position=tuple(x), stop=at if p.hold != "free" else None, start=None)
                for p, x in zip(strand.points, moved, strict=True)
            ),
            color=COLORS[k % len(COLORS)] if count > 1 else strand.color,
        )
        if k == 0:
            scene, id_ = remade(scene, assets, figure_id, new), figure_id
        else:
            scene, id_ = add_strand(scene, assets, new, first.name)
        lane = Lane(keys=(Key(frame=at - 1e-3, value=0.0), Key(frame=at, value=1.0)))
        scene = edit.figure(
            scene,
            id_,
            enters=at if at > scene.start else None,
            groups=(Group(id="loose", name="released", handover=lane),),
        )
    return scene


def about_seconds(scene: Scene) -> float:
    """How long a run of the scene takes, about, s."""
    parts = sum(len(f.bodies) for f in scene.cast)
    return SECONDS * parts * (scene.end - scene.start + scene.warm_up) * scene.substeps
