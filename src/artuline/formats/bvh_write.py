"""BVH out: a skeleton at rest with its motion on every frame; the pose of all zeros is the rest pose."""

from pathlib import Path

import numpy as np

from artuline.core.bake.delivery import Delivered, Delivery
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.euler import Order, best_order, to_angles
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import placement, rest_matrices, rigid, skeleton_of
from artuline.core.scene.model import Figure
from artuline.formats.bvh_names import POSITIONS, ROTATIONS, SUFFIX
from artuline.formats.files import write_whole
from artuline.formats.format import Fate, Format

CENTIMETRES = 100.0  # in a metre: what most readers of the format expect
TIP = 0.05  # m: an end site beyond a last bone whose length nothing tells


def write_bvh(path: Path, delivery: Delivery) -> list[Path]:
    """Write every figure's motion, each into a file of its own: in centimetres, y upwards. The files that were written.

    Scales, meshes and names of animations are lost; rotations keep eight digits.
    """
    written = []
    many = len(delivery.figures) > 1
    for d in delivery.figures:
        target = path.with_name(f"{path.stem} {d.figure.name}{path.suffix}") if many else path
        text = bvh_text(d, delivery.rate)
        write_whole(target, lambda p, text=text: p.write_text(text, encoding="utf-8"))  # type: ignore[misc]
        written.append(target)
    return written


def bvh_text(d: Delivered, rate: float) -> str:
    """A figure's first animation as the text of a file."""
    f = d.figure
    places, turns, frames = world_motion(d, rate)
    skeleton, rest = skeleton_of(f), rest_matrices(f)
    p0, q0 = rigid(rest)
    parents = skeleton.parents
    # turned as the world is at rest, so that nothing turns where all is zero
    turned = rotation.multiply(turns, rotation.conjugate(q0))
    local, offsets = np.empty_like(turned), np.empty((len(f.bones), 3))
    shift = np.zeros((frames, len(f.bones), 3))
    for b, up in enumerate(parents):
        if up < 0:
            local[:, b], offsets[b], shift[:, b] = turned[:, b], p0[b], places[:, b]
            continue
        back = rotation.conjugate(turned[:, up])
        local[:, b] = rotation.multiply(back, turned[:, b])
        offsets[b] = p0[b] - p0[up]
        shift[:, b] = rotation.rotate(back, places[:, b] - places[:, up])
    orders: list[Order] = [x.order or best_order(rotation.make_continuous(local[:, b])) for b, x in enumerate(f.bones)]
    # a bone that is moved has channels of its own
    slides = [up < 0 or bool(np.abs(shift[:, b] - offsets[b]).max() > 1e-6) for b, up in enumerate(parents)]
    columns: list[Array] = []
    lines = ["HIERARCHY"]
    children: list[list[int]] = [[b for b, up in enumerate(parents) if up == k] for k in range(len(parents))]

    def put(b: int, depth: int) -> None:
        tab = "\t" * depth
        lines.append(f"{tab}{'ROOT' if parents[b] < 0 else 'JOINT'} {_word(f.bones[b].name)}")
        lines.append(tab + "{")
        lines.append(f"{tab}\tOFFSET {_numbers(CENTIMETRES * offsets[b])}")
        names = [*(POSITIONS if slides[b] else ()), *(ROTATIONS["xyz".index(a)] for a in orders[b])]
        lines.append(f"{tab}\tCHANNELS {len(names)} {' '.join(names)}")
        if slides[b]:
            columns.append(CENTIMETRES * shift[:, b])
        angles = np.degrees(to_angles(rotation.make_continuous(local[:, b]), orders[b]))
        columns.append(angles[:, ["xyz".index(a) for a in orders[b]]])
        for c in children[b]:
            put(c, depth + 1)
        if not children[b]:
            lines.extend(
                [
                    f"{tab}\tEnd Site",
                    tab + "\t{",
                    f"{tab}\t\tOFFSET {_numbers(CENTIMETRES * _tip(f, b, p0))}",
                    tab + "\t}",
                ]
            )
        lines.append(tab + "}")

    for b, up in enumerate(parents):
        if up < 0:
            put(b, 0)
    table = np.concatenate(columns, axis=1)
    lines += ["MOTION", f"Frames: {frames}", f"Frame Time: {1.0 / rate:.10g}"]
    lines += [_numbers(row) for row in table]
    return "\n".join(lines) + "\n"


def world_motion(d: Delivered, rate: float) -> tuple[Array, Array, int]:
    """Places (F, B, 3) in metres and rotations (F, B, 4) of a delivered figure's bones in the world on every frame of its first animation, and how many frames."""
    f, clip = d.figure, next(iter(d.clips.values()))
    last = max((float(c.times[-1]) for c in clip.channels), default=0.0)
    if d.root is not None:
        last = max(last, float(d.root[0][-1]))
    frames = round(last * rate) + 1
    times = np.arange(frames) / rate
    root = None
    if d.root is not None:
        at, p, q = d.root
        i = np.clip(np.searchsorted(at, times + 1e-9, side="right") - 1, 0, len(at) - 1)
        root = np.stack([transforms.compose(p[k], q[k], np.full(3, f.unit)) for k in i])
    skeleton = skeleton_of(f)
    m = skeleton.global_matrices(clip.sample(skeleton, times), rest_root(f, frames) if root is None else root)
    p, q = rigid(m)
    return p, rotation.make_continuous(q), frames


def rest_root(f: Figure, frames: int) -> Array:
    """Where a figure stands, on every frame (F, 4, 4)."""
    return np.repeat(placement(f)[None], frames, axis=0)


def _tip(f: Figure, b: int, p0: Array) -> Array:
    """Where a last bone ends, from its origin (3,): as far as its body reaches, else as its parent was."""
    up = f.bones[b].parent
    way = p0[b] - p0[f.bone_index[up]] if up is not None else np.array([0.0, TIP, 0.0])
    length = float(np.linalg.norm(way))
    return way * min(1.0, 2.0 * TIP / length) if length > 1e-9 else np.array([0.0, TIP, 0.0])


def _word(name: str) -> str:
    """A name without spaces, at which readers of the format part words."""
    return "_".join(name.split()) or "bone"


def _numbers(values: Array) -> str:
    return " ".join(f"{v:.8f}".rstrip("0").rstrip(".") if abs(v) > 5e-9 else "0" for v in values.tolist())


FORMAT = Format(
    "BVH",
    (SUFFIX,),
    write=write_bvh,
    fate=Fate(
        ("skeleton at rest", "places and turns of every bone, on whole frames"),
        ("curves between the frames: straight", "lengths of the last bones"),
        ("mesh, skin and materials", "scales", "keys and their slopes", "more than one figure in a file"),
    ),
)
