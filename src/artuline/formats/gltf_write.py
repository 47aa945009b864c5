"""glTF 2.0 out: a figure's skeleton, mesh and animations as one .glb file."""

import hashlib
import json
import struct
from pathlib import Path
from typing import Any

import numpy as np

from artuline.core.bake.delivery import Delivered, Delivery
from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel
from artuline.core.motion.clip import Clip
from artuline.core.motion.skeleton import skeleton_of
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure
from artuline.formats.files import write_whole
from artuline.formats.format import Fate, Format
from artuline.formats.gltf_physics import Written
from artuline.formats.gltf_read import PLACEMENT

TRACK = "track"  # the node that carries a figure whose place is keyed
_TYPES = {1: "SCALAR", 3: "VEC3", 4: "VEC4", 16: "MAT4"}
_COMPONENTS = {"<f4": 5126, "<u4": 5125, "<u2": 5123}


class _Buffer:
    """Collects arrays into one binary block with views and accessors."""

    def __init__(self) -> None:
        self.data = bytearray()
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []
        self._known: dict[tuple[object, ...], int] = {}

    def add(self, a: np.ndarray, *, target: int | None = None, bounds: bool = False) -> int:
        """The number of the accessor of an array: what is the same, as the mesh of many figures, is written once."""
        a = np.ascontiguousarray(a)
        key = hashlib.sha256(a.tobytes()).digest(), a.dtype.str, a.shape, target, bounds
        if key not in self._known:
            self._known[key] = self._add(a, target, bounds)
        return self._known[key]

    def _add(self, a: np.ndarray, target: int | None, bounds: bool) -> int:
        self.data += b"\0" * (-len(self.data) % 4)
        view: dict[str, Any] = {"buffer": 0, "byteOffset": len(self.data), "byteLength": a.nbytes}
        if target is not None:
            view["target"] = target
        self.data += a.tobytes()
        self.views.append(view)
        width = 1 if a.ndim == 1 else a.shape[1]
        accessor: dict[str, Any] = {
            "bufferView": len(self.views) - 1,
            "componentType": _COMPONENTS[a.dtype.str],
            "count": len(a),
            "type": _TYPES[width],
        }
        if bounds:
            flat = a.reshape(len(a), width)
            accessor["min"] = flat.min(axis=0).tolist()
            accessor["max"] = flat.max(axis=0).tolist()
        self.accessors.append(accessor)
        return len(self.accessors) - 1


class _Document:
    """A file while figures are added to it; ``metres``: its unit is the metre, so that several figures agree, else that of the figure."""

    def __init__(self, metres: bool):
        self.metres = metres
        self.buffer = _Buffer()
        self.nodes: list[dict[str, Any]] = []
        self.roots: list[int] = []
        self.more: dict[str, list[Any]] = {"materials": [], "meshes": [], "skins": []}
        self.channels: dict[str, list[tuple[Channel, int]]] = {}
        self.physics = Written()

    def add(self, x: Delivered) -> None:
        """Add a figure. If it is moved or turned in the scene, a node above its roots carries that, or keys where it moves."""
        figure, first = x.figure, len(self.nodes)
        self.nodes += _nodes(figure, first)
        roots = [first + i for i, b in enumerate(figure.bones) if b.parent is None]
        names = {n: first + i for i, n in enumerate(skeleton_of(figure).names)}
        above, roots = self._carried(x, roots)
        carrier = roots[0] if above else -1
        if x.mesh is not None:
            stuff: dict[int, int] = {}
            for k in np.unique(x.mesh.material).tolist():
                m, stuff[k] = figure.materials[k], len(self.more["materials"])
                look = {"baseColorFactor": [*m.color, 1.0], "metallicFactor": 0.0}
                self.more["materials"].append({"name": m.name, "pbrMetallicRoughness": look})
            for skin in np.unique(x.mesh.palette_skin):
                _write_skin(self, roots, x.mesh, int(skin), first, stuff)
        if x.physics:
            self.physics.add(figure, first, figure.unit, self.nodes, self.more["meshes"], self.buffer)
        self.roots += roots
        # in one file all figures move together, in one animation
        for name, clip in x.clips.items():
            key = next(iter(self.channels), name) if self.metres else name
            into = self.channels.setdefault(key, [])
            into += [(c, names[c.bone]) for c in clip.channels] + [(c, carrier) for c in above]

    def _carried(self, x: Delivered, roots: list[int]) -> tuple[list[Channel], list[int]]:
        """The keys of the node that carries a figure, and what the file has topmost of it: that node, if it needs one."""
        figure, unit = x.figure, 1.0 if self.metres else x.figure.unit
        size = {"scale": [figure.unit] * 3} if self.metres and figure.unit != 1.0 else {}
        if x.root is not None:
            times, places, turns = x.root
            name = next(k for n in range(len(figure.bones) + 1) if (k := TRACK + "_" * n) not in figure.bone_index)
            node = {
                "name": name,
                "translation": (places[0] / unit).tolist(),
                "rotation": turns[0].tolist(),
                "children": roots,
            }
            self.nodes.append(node | size)
            keys = [
                Channel(name, "translation", "LINEAR", times, places / unit),
                Channel(name, "rotation", "LINEAR", times, turns),
            ]
            return keys, [len(self.nodes) - 1]
        if figure.position != (0.0, 0.0, 0.0) or figure.turn != 0.0 or size:
            q = rotation.from_rotation_vector(np.array([0.0, figure.turn, 0.0]))
            extras = {} if self.metres else {"extras": {"artuline": {PLACEMENT: True}}}
            place = [c / unit for c in figure.position]
            self.nodes.append(
                {"name": PLACEMENT, "translation": place, "rotation": q.tolist(), "children": roots} | size | extras
            )
            return [], [len(self.nodes) - 1]
        return [], roots

    def write(self, path: Path) -> None:
        """Write it, whole or not at all."""
        document: dict[str, Any] = {"asset": {"version": "2.0", "generator": "Artuline"}, "scene": 0}
        document |= {name: found for name, found in self.more.items() if found} | self.physics.root()
        animations = [_animation(self.buffer, name, channels) for name, channels in self.channels.items()]
        if animations:
            document["animations"] = animations
        document |= {"scenes": [{"nodes": self.roots}], "nodes": self.nodes}
        document |= {"bufferViews": self.buffer.views, "accessors": self.buffer.accessors}
        document["buffers"] = [{"byteLength": len(self.buffer.data)}]
        data = _pack(document, bytes(self.buffer.data))
        write_whole(path, lambda p: _write(p, data))


def write_figure(
    path: Path | str,
    figure: Figure,
    mesh: Mesh | None,
    clips: dict[str, Clip],
    root: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None,
) -> None:
    """Write a figure as .glb, with the given clips as its animations, in the figure's own file unit.

    ``root``: its places (m) and rotations over seconds, if it moves.
    """
    made = _Document(metres=False)
    made.add(Delivered(figure, mesh, clips, root))
    made.write(Path(path))


def _write(path: Path, data: bytes) -> None:
    path.write_bytes(data)


def _pack(document: dict[str, Any], binary: bytes) -> bytes:
    text = json.dumps(document, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    total = 12 + 8 + len(text) + 8 + len(binary)
    head = struct.pack("<4sII", b"glTF", 2, total) + struct.pack("<II", len(text), 0x4E4F534A)
    return head + text + struct.pack("<II", len(binary), 0x004E4942) + binary


def _nodes(figure: Figure, first: int) -> list[dict[str, Any]]:
    index = figure.bone_index
    nodes: list[dict[str, Any]] = []
    for b in figure.bones:
        node: dict[str, Any] = {
            "name": b.name,
            "translation": list(b.translation),
            "rotation": list(b.rotation),
        }
        if b.scale != (1.0, 1.0, 1.0):
            node["scale"] = list(b.scale)
        nodes.append(node)
        if b.parent is not None:
            nodes[index[b.parent]].setdefault("children", []).append(first + len(nodes) - 1)
    return nodes


def _write_skin(made: _Document, roots: list[int], mesh: Mesh, skin: int, first: int, stuff: dict[int, int]) -> None:
    """Add a skin with its mesh; ``first``: number of the figure's first node, ``stuff``: numbers of its materials in the file."""
    buffer = made.buffer
    entries = np.flatnonzero(mesh.palette_skin == skin)
    local = np.full(len(mesh.palette_bone), 0, np.int64)
    local[entries] = np.arange(len(entries))
    used = np.isin(mesh.slots[:, 0], entries)
    faces = np.flatnonzero(used[mesh.triangles[:, 0]])
    if not len(faces):
        return
    primitives = []
    for material in np.unique(mesh.material[faces]):
        chosen = mesh.triangles[faces[mesh.material[faces] == material]]
        vertices, triangles = np.unique(chosen, return_inverse=True)
        attributes = {
            "POSITION": buffer.add(mesh.positions[vertices].astype("<f4"), target=34962, bounds=True),
            "NORMAL": buffer.add(mesh.normals[vertices].astype("<f4"), target=34962),
        }
        weights, slots = mesh.weights[vertices], local[mesh.slots[vertices]]
        slots = np.where(weights > 0, slots, 0)
        extra = -weights.shape[1] % 4
        weights, slots = np.pad(weights, ((0, 0), (0, extra))), np.pad(slots, ((0, 0), (0, extra)))
        for k in range(weights.shape[1] // 4):
            four = slice(4 * k, 4 * k + 4)
            attributes[f"JOINTS_{k}"] = buffer.add(slots[:, four].astype("<u2"), target=34962)
            attributes[f"WEIGHTS_{k}"] = buffer.add(weights[:, four].astype("<f4"), target=34962)
        indices = buffer.add(triangles.reshape(-1).astype("<u4"), target=34963)
        primitives.append({"attributes": attributes, "indices": indices, "material": stuff[int(material)], "mode": 4})
    binds = mesh.palette_bind[entries].transpose(0, 2, 1).reshape(-1, 16).astype("<f4")
    joints = (first + mesh.palette_bone[entries]).tolist()
    made.more["skins"].append({"joints": joints, "inverseBindMatrices": buffer.add(binds)})
    made.more["meshes"].append({"primitives": primitives})
    number = len(made.more["meshes"])
    made.nodes.append({"name": f"mesh {number}", "mesh": number - 1, "skin": len(made.more["skins"]) - 1})
    roots.append(len(made.nodes) - 1)


def _animation(buffer: _Buffer, name: str, moved: list[tuple[Channel, int]]) -> dict[str, Any]:
    channels, samplers = [], []
    for c, node in moved:
        times = buffer.add(c.times.astype("<f4"), bounds=True)
        values = buffer.add(c.values.reshape(-1, c.values.shape[-1]).astype("<f4"))
        samplers.append({"input": times, "output": values, "interpolation": c.interpolation})
        channels.append({"sampler": len(samplers) - 1, "target": {"node": node, "path": c.path}})
    return {"name": name, "channels": channels, "samplers": samplers}


def write(path: Path, delivery: Delivery) -> list[Path]:
    """Write figures as .glb: all into one file, or each into its own, the first to the path, others beside it with their names added.

    Raises ArtulineError.
    """
    if delivery.together:
        made = _Document(metres=True)
        for x in delivery.figures:
            made.add(x)
        made.write(path)
        return [path]
    written = []
    for i, x in enumerate(delivery.figures):
        written.append(path if i == 0 else path.with_name(f"{path.stem} {x.figure.name}{path.suffix}"))
        made = _Document(metres=False)
        made.add(x)
        made.write(written[-1])
    return written


FORMAT = Format(
    "glTF, one file",
    (".glb",),
    write=write,
    fate=Fate(
        (
            "skeleton, mesh, skin and materials",
            "clip and layers as one animation, with its own cubic keys where one layer rules",
            "props and obstacles as nodes",
        ),
        ("the clip, and layers above layers: a key on every frame", "numbers in single precision"),
        ("takes, handovers and lanes", "layers for themselves", "bodies and joints, unless they are asked for"),
    ),
)
