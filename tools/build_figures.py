"""Builds the figures in src/artuline/demo/data from code. Needs the project's extra ``tools``."""

from pathlib import Path

import deckhand_body
import deckhand_moves
import deckhand_rises
import goat_body
import goat_moves
import numpy as np
from field import mesh_of, weights_of

from artuline.core.geometry import rotation
from artuline.core.motion.clip import Channel, Clip
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.coarse import coarser
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Bone, Figure, Material
from artuline.formats.gltf_read import read_figure
from artuline.formats.gltf_write import write_figure

DATA = Path(__file__).parent.parent / "src/artuline/demo/data"
FIGURES = {"deckhand": (deckhand_body, deckhand_moves), "goat": (goat_body, goat_moves)}


def build(name, body, moves):
    out = DATA / f"{name}.glb"
    bones = body.skeleton()
    names = list(bones)
    place = {b: np.array(p) for b, (_, p) in bones.items()}
    made = [
        Bone(name=b, parent=up, translation=tuple(place[b] - (place[up] if up else 0)), deforms=True)
        for b, (up, _) in bones.items()
    ]
    columns = {k: [] for k in ("positions", "normals", "triangles", "material", "slots", "weights")}
    count, last = 0, None
    for material, parts, triangles, cell, cuts in body.groups():
        if _other_side(parts) and last is not None:
            # the left side's surface, mirrored: both sides are the same to the bit
            v, n, f = last[0] * [-1, 1, 1], last[1] * [-1, 1, 1], last[2][:, ::-1]
        else:
            # fine parts are joined less softly
            v, n, f = mesh_of(parts, cell, triangles, k=min(0.012, 0.9 * cell), cuts=cuts)
        last = v, n, f
        fine = cell < 0.006
        slots, weights = weights_of(parts, names, v, f, soft=0.006 if fine else 0.022, rounds=4 if fine else 10)
        columns["positions"].append(v)
        columns["normals"].append(n)
        columns["triangles"].append(f + count)
        columns["material"].append(np.full(len(f), material))
        columns["slots"].append(slots)
        columns["weights"].append(weights)
        count += len(v)
    bind = np.tile(np.eye(4), (len(names), 1, 1))
    bind[:, :3, 3] = [-place[b] for b in names]
    types = {"triangles": np.int32, "material": np.int32, "slots": np.int32}
    arrays = {k: np.concatenate(c).astype(types.get(k, np.float32)) for k, c in columns.items()}
    mesh = Mesh(**arrays, palette_bone=np.arange(len(names), dtype=np.int32), palette_bind=bind,
                palette_skin=np.zeros(len(names), np.int32))  # fmt: skip
    materials = tuple(Material(name=n, color=c) for n, c in body.MATERIALS)
    figure = Figure(id=name, name=name, bones=tuple(made), materials=materials)
    clips = {clip: clip_of(*make(bones)) for clip, make in moves.CLIPS.items()}
    write_figure(out, figure, mesh, clips)
    print(f"{out.name}: {len(mesh.positions)} vertices, {len(mesh.triangles)} triangles, {out.stat().st_size} bytes")


def _other_side(parts):
    """Whether volumes are the right side's, which come after the left's."""
    first = parts[0].a if hasattr(parts[0], "a") else parts[0].c
    return first[0] < -0.01 and (parts[0].bone.endswith("_r") or all(_x(p) < 0.0 for p in parts))


def _x(part):
    return part.a[0] if hasattr(part, "a") else part.c[0]


def clip_of(frames, rotations, hips):
    """Curves with the keys that straight lines between them do not already give."""
    times = frames / deckhand_moves.RATE
    channels = [Channel("hips", "translation", "LINEAR", times, hips)]
    for bone, q in rotations.items():
        q = rotation.make_continuous(q)
        if rotation.angle_between(q, q[:1]).max() < 1e-4:
            continue
        channels.append(Channel(bone, "rotation", "LINEAR", times, q))
    return Clip(tuple(channels))


def build_moves(name, figure, body, moves):
    """More clips for a figure, in a file of their own with a coarse skin, by which other programs know the skeleton."""
    assets, bones = AssetStore(), body.skeleton()
    made = read_figure(DATA / f"{figure}.glb", assets).figure
    mesh = coarser(Mesh.from_arrays(assets[made.asset]), 1 / 9)
    out = DATA / f"{name}.glb"
    write_figure(out, made, mesh, {clip: clip_of(*make(bones)) for clip, make in moves.CLIPS.items()})
    print(f"{out.name}: {len(mesh.triangles)} triangles, {out.stat().st_size} bytes")


if __name__ == "__main__":
    for name, (body, moves) in FIGURES.items():
        build(name, body, moves)
    build_moves("deckhand_steered", "deckhand", deckhand_body, deckhand_rises)
