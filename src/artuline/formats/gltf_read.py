"""glTF 2.0 in: a figure with bones, mesh, skin weights and clips."""

import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from artuline.core.geometry import rotation, transforms
from artuline.core.motion.clip import Channel, Clip
from artuline.core.motion.skeleton import rest_matrices, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.edit import fresh_id
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Bone, ClipRef, Figure, Material
from artuline.core.setup.units import likely_unit, unit_name
from artuline.formats.gltf_container import Container, open_container

COMMON_RATES = (12, 15, 24, 25, 30, 48, 50, 60, 90, 100, 120)


@dataclass(frozen=True)
class Imported:
    """A figure from a file, and what the user should know about it, a line each."""

    figure: Figure
    notes: tuple[str, ...]


def read_figure(path: Path | str, assets: AssetStore) -> Imported:
    """Read a .glb or .gltf file into a figure; its arrays go to ``assets``.

    Raises ArtulineError with file, place and remedy if the file cannot be used; then nothing was added.
    """
    path = Path(path)
    reader = _Reader(open_container(path))
    figure, mesh, clips = reader.read()
    refs = []
    for name, clip, rate, loop in clips:
        duration = float(clip.key_times()[-1])
        refs.append(ClipRef(name=name, asset=assets.add(clip.to_arrays()), duration=duration, rate=rate, loop=loop))
    asset = assets.add(mesh.to_arrays()) if mesh is not None else None
    figure = figure.changed(clips=tuple(refs), clip=refs[0].name if refs else None, asset=asset)
    size = figure_size(figure, mesh)
    unit = likely_unit(size)
    if unit != 1.0:
        reader.notes.append(f"The figure measures {size:.4g} file units; read as {unit_name(unit)}.")
    return Imported(figure.changed(unit=unit), tuple(reader.notes))


def figure_size(figure: Figure, mesh: Mesh | None) -> float:
    """Longest side in file units of the rest pose's bounding box, by mesh or else by bones."""
    matrices = rest_matrices(figure.changed(unit=1.0, position=(0, 0, 0), turn=0.0))
    points = mesh.skin(matrices) if mesh is not None else matrices[:, :3, 3]
    return float(np.ptp(points, axis=0).max()) if len(points) else 0.0


class _Reader:
    def __init__(self, container: Container):
        self.c = container
        self.notes: list[str] = []
        self.order: list[int] = []
        self.bone_of_node: dict[int, int] = {}

    def read(self) -> tuple[Figure, Mesh | None, list[tuple[str, Clip, float, bool]]]:
        if not self.c.items("nodes"):
            raise self.c.fail("the file has no nodes", "Export a skinned figure.")
        bones = self._bones()
        mesh, materials = self._mesh(bones)
        deforming = set()
        if mesh is not None:
            deforming = {int(b) for b, s in zip(mesh.palette_bone, mesh.palette_skin) if s >= 0}
        if not deforming:
            raise self.c.fail(
                "the file has no skinned mesh, so there is no skeleton to work on",
                "Export the mesh together with its skin (joints and weights).",
            )
        bones = [b.model_copy(update={"deforms": i in deforming}) for i, b in enumerate(bones)]
        stem = self.c.path.stem
        try:
            figure = Figure(id=stem, name=stem, source=self.c.path.name, bones=tuple(bones), materials=tuple(materials))
        except ValidationError as error:
            raise self.c.fail(f"the skeleton cannot be used ({error.errors()[0]['msg']})") from error
        clips = self._clips(figure)
        if not clips:
            self.notes.append("The file has no animation: the figure stands in its rest pose.")
        return figure, mesh, clips

    # nodes

    def _bones(self) -> list[Bone]:
        nodes = self.c.items("nodes")
        parent = self._parents(nodes)
        children: dict[int, list[int]] = {}
        roots = []
        for i in range(len(nodes)):
            if i in parent:
                children.setdefault(parent[i], []).append(i)
            else:
                roots.append(i)
        stack = roots[::-1]
        while stack:
            i = stack.pop()
            self.order.append(i)
            stack.extend(reversed(children.get(i, [])))
        if len(self.order) != len(nodes):
            missing = sorted(set(range(len(nodes))) - set(self.order))
            raise self.c.fail(f"nodes[{missing[0]}] is its own ancestor")
        self.bone_of_node = {n: i for i, n in enumerate(self.order)}
        names: dict[int, str] = {}
        taken: set[str] = set()
        for i in self.order:
            given = nodes[i].get("name")
            wanted = given if isinstance(given, str) and given.strip() else f"node {i}"
            names[i] = fresh_id(wanted, taken)
            if names[i] != wanted:
                self.notes.append(f"The bone name {wanted!r} appears more than once; one is now {names[i]!r}.")
            taken.add(names[i])
        bones = []
        for i in self.order:
            t, q, s = self._local(nodes[i], i)
            up = names[parent[i]] if i in parent else None
            bones.append(Bone(name=names[i], parent=up, translation=t, rotation=q, scale=s))
        return bones

    def _parents(self, nodes: list[dict[str, Any]]) -> dict[int, int]:
        parent: dict[int, int] = {}
        for i, node in enumerate(nodes):
            for child in node.get("children", []):
                self.c.item("nodes", child, f"nodes[{i}].children")
                if child in parent:
                    raise self.c.fail(f"nodes[{child}] has two parents, nodes[{parent[child]}] and nodes[{i}]")
                parent[child] = i
        return parent

    def _local(self, node: dict[str, Any], i: int) -> tuple[Any, Any, Any]:
        where = f"nodes[{i}]"
        if "matrix" in node:
            m = self._floats(node["matrix"], 16, f"{where}.matrix").reshape(4, 4).T
            t, q, s = transforms.decompose(m)
            if np.abs(transforms.compose(t, q, s) - m).max() > 1e-3 * max(1.0, float(np.abs(m).max())):
                self.notes.append(f"The node {node.get('name', i)!r} is sheared; the shear is left out.")
        else:
            t = self._floats(node.get("translation", (0, 0, 0)), 3, f"{where}.translation")
            q = self._floats(node.get("rotation", (0, 0, 0, 1)), 4, f"{where}.rotation")
            s = self._floats(node.get("scale", (1, 1, 1)), 3, f"{where}.scale")
            if not 0.5 < np.linalg.norm(q) < 2.0:
                raise self.c.fail(f"{where}.rotation is not a unit quaternion")
            q = rotation.normalize(q)
        return tuple(map(float, t)), tuple(map(float, q)), tuple(map(float, s))

    def _floats(self, value: Any, n: int, where: str) -> np.ndarray:
        try:
            a = np.array(value, float)
        except (TypeError, ValueError):
            a = np.zeros(0)
        if a.shape != (n,) or not np.isfinite(a).all():
            raise self.c.fail(f"{where} must be {n} numbers")
        return a

    # mesh

    def _mesh(self, bones: list[Bone]) -> tuple[Mesh | None, list[Material]]:
        materials = [self._material(m, i) for i, m in enumerate(self.c.items("materials"))]
        materials.append(Material(name="plain"))
        parts: list[dict[str, np.ndarray]] = []
        palette: list[tuple[int, np.ndarray, int]] = []
        starts: dict[int, int] = {}
        for n in self.order:
            node = self.c.items("nodes")[n]
            if "mesh" not in node:
                continue
            if "skin" in node:
                skin = node["skin"]
                if skin not in starts:
                    self.c.item("skins", skin, f"nodes[{n}].skin")
                    starts[skin] = len(palette)
                    palette += [(j, bind, skin) for j, bind in self._skin(skin)]
                start, size = starts[skin], sum(1 for p in palette if p[2] == skin)
            else:
                start, size = len(palette), 0
                palette.append((self.bone_of_node[n], np.eye(4), -1 - n))
            mesh = self.c.item("meshes", node["mesh"], f"nodes[{n}].mesh")
            for p, primitive in enumerate(mesh.get("primitives", [])):
                where = f"meshes[{node['mesh']}].primitives[{p}]"
                part = self._primitive(primitive, where, start, size, len(materials) - 1)
                if part is not None:
                    parts.append(part)
        if not parts:
            return None, materials
        width = max(p["slots"].shape[1] for p in parts)
        for part in parts:
            extra = width - part["slots"].shape[1]
            part["weights"] = np.pad(part["weights"], ((0, 0), (0, extra)))
            part["slots"] = np.pad(part["slots"], ((0, 0), (0, extra)))
        offsets = np.cumsum([0] + [len(p["positions"]) for p in parts[:-1]])
        mesh_ = Mesh(
            positions=np.concatenate([p["positions"] for p in parts]).astype(np.float32),
            normals=np.concatenate([p["normals"] for p in parts]).astype(np.float32),
            triangles=np.concatenate([p["triangles"] + o for p, o in zip(parts, offsets)]).astype(np.int32),
            material=np.concatenate([p["material"] for p in parts]).astype(np.int32),
            slots=np.concatenate([p["slots"] for p in parts]).astype(np.int32),
            weights=np.concatenate([p["weights"] for p in parts]).astype(np.float32),
            palette_bone=np.array([p[0] for p in palette], np.int32),
            palette_bind=np.array([p[1] for p in palette], np.float64),
            palette_skin=np.array([p[2] for p in palette], np.int32),
        )
        return mesh_, materials

    def _material(self, m: dict[str, Any], i: int) -> Material:
        surface = m.get("pbrMetallicRoughness", {})
        color = surface.get("baseColorFactor", (0.6, 0.6, 0.6, 1.0)) if isinstance(surface, dict) else ()
        rgb = self._floats(list(color)[:3], 3, f"materials[{i}].baseColorFactor")
        return Material(name=str(m.get("name", "")), color=tuple(map(float, rgb)))

    def _skin(self, index: int) -> list[tuple[int, np.ndarray]]:
        skin = self.c.items("skins")[index]
        where = f"skins[{index}]"
        joints = skin.get("joints", [])
        if not isinstance(joints, list) or not joints:
            raise self.c.fail(f"{where} has no joints")
        for j in joints:
            self.c.item("nodes", j, f"{where}.joints")
        binds = np.repeat(np.eye(4)[None], len(joints), axis=0)
        if "inverseBindMatrices" in skin:
            raw = self.c.accessor(skin["inverseBindMatrices"], f"{where}.inverseBindMatrices", ("MAT4",))
            if len(raw) < len(joints):
                raise self.c.fail(f"{where} has {len(joints)} joints but {len(raw)} inverse bind matrices")
            binds = raw[: len(joints)].astype(np.float64).reshape(-1, 4, 4).transpose(0, 2, 1)
        return [(self.bone_of_node[j], binds[k]) for k, j in enumerate(joints)]

    def _primitive(
        self, primitive: dict[str, Any], where: str, start: int, size: int, plain: int
    ) -> dict[str, np.ndarray] | None:
        mode = primitive.get("mode", 4)
        if mode != 4:
            self.notes.append(f"{where} is not made of triangles (mode {mode}); it is left out.")
            return None
        if "targets" in primitive:
            self.notes.append(f"{where} has morph targets; they are left out.")
        attributes = primitive.get("attributes", {})
        if "POSITION" not in attributes:
            self.notes.append(f"{where} has no positions; it is left out.")
            return None
        positions = self.c.accessor(attributes["POSITION"], f"{where}.POSITION", ("VEC3",)).astype(float)
        n = len(positions)
        if "indices" in primitive:
            indices = self.c.accessor(primitive["indices"], f"{where}.indices", ("SCALAR",)).astype(np.int64)
        else:
            indices = np.arange(n)
        if len(indices) % 3:
            raise self.c.fail(f"{where} has {len(indices)} indices, which is not a multiple of 3")
        if len(indices) and int(indices.max()) >= n:
            raise self.c.fail(f"{where}.indices points at vertex {int(indices.max())} of {n}")
        triangles = indices.reshape(-1, 3)
        if "NORMAL" in attributes:
            normals = self.c.accessor(attributes["NORMAL"], f"{where}.NORMAL", ("VEC3",)).astype(float)
        else:
            normals = vertex_normals(positions, triangles)
        slots, weights = self._weights(attributes, where, n, start, size)
        if len(normals) != n:
            raise self.c.fail(f"{where}.NORMAL has {len(normals)} elements for {n} positions")
        material = primitive.get("material", plain)
        if "material" in primitive:
            self.c.item("materials", material, where)
        return {
            "positions": positions,
            "normals": normals,
            "triangles": triangles,
            "material": np.full(len(triangles), material),
            "slots": slots,
            "weights": weights,
        }

    def _weights(
        self, attributes: dict[str, Any], where: str, n: int, start: int, size: int
    ) -> tuple[np.ndarray, np.ndarray]:
        if size == 0:
            return np.full((n, 1), start), np.ones((n, 1))
        slots, weights = [], []
        k = 0
        while f"JOINTS_{k}" in attributes and f"WEIGHTS_{k}" in attributes:
            slots.append(self.c.accessor(attributes[f"JOINTS_{k}"], f"{where}.JOINTS_{k}", ("VEC4",)).astype(np.int64))
            w = self.c.accessor(attributes[f"WEIGHTS_{k}"], f"{where}.WEIGHTS_{k}", ("VEC4",))
            if w.dtype.kind in "iu":
                # a writer that forgot the normalised flag: weights are shares in any case
                w = w / np.iinfo(w.dtype).max
            weights.append(w.astype(float))
            k += 1
        if not slots:
            raise self.c.fail(f"{where} has a skin but no joints and weights (JOINTS_0, WEIGHTS_0)")
        s, w = np.concatenate(slots, axis=1), np.concatenate(weights, axis=1)
        if len(s) != n or len(w) != n:
            raise self.c.fail(f"{where} has {len(s)} joints and {len(w)} weights for {n} positions")
        s = np.where(w > 0, s, 0)
        if int(s.max()) >= size:
            raise self.c.fail(f"{where}.JOINTS points at joint {int(s.max())} of {size}")
        total = w.sum(axis=1, keepdims=True)
        if (total <= 1e-6).any():
            self.notes.append(
                f"{where}: {int((total <= 1e-6).sum())} vertices have no weight; they follow the first joint."
            )
            w[total[:, 0] <= 1e-6, 0] = 1.0
            total = w.sum(axis=1, keepdims=True)
        return s + start, w / total

    # clips

    def _clips(self, figure: Figure) -> list[tuple[str, Clip, float, bool]]:
        found = []
        taken: set[str] = set()
        for a, animation in enumerate(self.c.items("animations")):
            name = fresh_id(str(animation.get("name") or f"clip {a + 1}"), taken)
            taken.add(name)
            channels = self._channels(animation, a, figure)
            if not channels:
                self.notes.append(f"The clip {name!r} moves no bone; it is left out.")
                continue
            clip = Clip(tuple(channels))
            found.append((name, clip, clip_rate(clip), _loops(clip, figure)))
        return found

    def _channels(self, animation: dict[str, Any], a: int, figure: Figure) -> list[Channel]:
        channels = []
        samplers = animation.get("samplers", [])
        for k, channel in enumerate(animation.get("channels", [])):
            where = f"animations[{a}].channels[{k}]"
            target = channel.get("target", {})
            path = target.get("path")
            if "node" not in target:
                continue
            self.c.item("nodes", target["node"], where)
            if path not in ("translation", "rotation", "scale"):
                self.notes.append(f"{where} moves {path!r}, which is left out.")
                continue
            s = channel.get("sampler")
            if not isinstance(s, int) or not 0 <= s < len(samplers):
                raise self.c.fail(f"{where} refers to sampler {s!r} of {len(samplers)}")
            bone = figure.bones[self.bone_of_node[target["node"]]].name
            channels.append(self._sampler(samplers[s], f"animations[{a}].samplers[{s}]", bone, path))
        return channels

    def _sampler(self, sampler: dict[str, Any], where: str, bone: str, path: Any) -> Channel:
        kind = sampler.get("interpolation", "LINEAR")
        if kind not in ("LINEAR", "STEP", "CUBICSPLINE"):
            raise self.c.fail(f"{where} has an unknown interpolation {kind!r}")
        times = self.c.accessor(sampler.get("input"), f"{where}.input", ("SCALAR",)).astype(float)
        if (np.diff(times) <= 0).any() or times[0] < 0:
            raise self.c.fail(f"{where}.input: the key times do not run forward from zero")
        wanted = "VEC4" if path == "rotation" else "VEC3"
        values = self.c.accessor(sampler.get("output"), f"{where}.output", (wanted,)).astype(float)
        per_key = 3 if kind == "CUBICSPLINE" else 1
        if len(values) != per_key * len(times):
            raise self.c.fail(f"{where} has {len(values)} values for {len(times)} keys")
        if kind == "CUBICSPLINE":
            values = values.reshape(len(times), 3, -1)
        elif path == "rotation":
            values = rotation.normalize(values)
        return Channel(bone, path, kind, times, values)


def vertex_normals(positions: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Area-weighted vertex normals (V, 3)."""
    a, b, c = (positions[triangles[:, k]] for k in range(3))
    face = np.cross(b - a, c - a)
    out = np.zeros_like(positions)
    for k in range(3):
        np.add.at(out, triangles[:, k], face)
    length = np.linalg.norm(out, axis=1, keepdims=True)
    return np.where(length > 0, out / np.where(length > 0, length, 1.0), [0.0, 1.0, 0.0])


def clip_rate(clip: Clip) -> float:
    """The frame rate on whose frames the keys lie: the lowest common rate that fits, else 24."""
    times = clip.key_times()
    if len(times) < 3:
        return 24.0
    for rate in (24, 30, 25, *COMMON_RATES):
        off = np.abs(times * rate - np.round(times * rate))
        if off.max() < 0.02 and np.median(np.diff(times)) * rate < 12:
            return float(rate)
    guess = 1.0 / float(np.median(np.diff(times)))
    return float(min(max(round(guess), 1), 1000)) if math.isfinite(guess) else 24.0


def _loops(clip: Clip, figure: Figure) -> bool:
    """Whether every rotation ends where it began, to one degree."""
    end = float(clip.key_times()[-1])
    if end < 0.3:
        return False
    pose = clip.sample(skeleton_of(figure), np.array([0.0, end]))
    return bool(rotation.angle_between(pose.rotation[0], pose.rotation[1]).max() < math.radians(1.0))
