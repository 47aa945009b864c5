"""Builds src/artuline/demo/data/deckhand.glb from code. Needs the project's extra ``tools``."""

from pathlib import Path

import numpy as np
from deckhand_body import MATERIALS, groups, skeleton
from deckhand_moves import CLIPS, RATE
from field import mesh_of, weights_of

from artuline.core.geometry import rotation
from artuline.core.motion.clip import Channel, Clip
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Bone, Figure, Material
from artuline.formats.gltf_write import write_figure

OUT = Path(__file__).parent.parent / "src/artuline/demo/data/deckhand.glb"


def main():
    bones = skeleton()
    names = list(bones)
    place = {b: np.array(p) for b, (_, p) in bones.items()}
    made = [
        Bone(name=b, parent=up, translation=tuple(place[b] - (place[up] if up else 0)), deforms=True)
        for b, (up, _) in bones.items()
    ]
    columns = {k: [] for k in ("positions", "normals", "triangles", "material", "slots", "weights")}
    count, last = 0, None
    for material, parts, triangles, cell, cuts in groups():
        if parts[0].bone.endswith("_r") and last is not None:
            # the left side's surface, mirrored: both sides are the same to the bit
            v, n, f = last[0] * [-1, 1, 1], last[1] * [-1, 1, 1], last[2][:, ::-1]
        else:
            v, n, f = mesh_of(parts, cell, triangles, cuts=cuts)
        last = v, n, f
        slots, weights = weights_of(parts, names, v)
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
    materials = tuple(Material(name=n, color=c) for n, c in MATERIALS)
    figure = Figure(id="deckhand", name="deckhand", bones=tuple(made), materials=materials)
    clips = {name: clip_of(*make(bones)) for name, make in CLIPS.items()}
    write_figure(OUT, figure, mesh, clips)
    print(f"{OUT.name}: {len(mesh.positions)} vertices, {len(mesh.triangles)} triangles, {OUT.stat().st_size} bytes")


def clip_of(frames, rotations, hips):
    """Curves with the keys that straight lines between them do not already give."""
    times = frames / RATE
    channels = [Channel("hips", "translation", "LINEAR", times, hips)]
    for bone, q in rotations.items():
        q = rotation.make_continuous(q)
        if rotation.angle_between(q, q[:1]).max() < 1e-4:
            continue
        channels.append(Channel(bone, "rotation", "LINEAR", times, q))
    return Clip(tuple(channels))


if __name__ == "__main__":
    main()
