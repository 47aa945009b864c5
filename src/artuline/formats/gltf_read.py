"""glTF 2.0 in: a figure with bones, mesh, skin weights and clips."""

import math
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from artuline.core.errors import ArtulineError, CancelledError, why_not
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.curve import Channel
from artuline.core.motion.clip import Clip
from artuline.core.motion.frame_grid import on_frames
from artuline.core.motion.skeleton import rest_matrices, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.edit import Names
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Bone, ClipRef, Figure, Material
from artuline.core.setup.sticks import STICKS, stick_mesh
from artuline.core.setup.units import likely_unit, unit_name
from artuline.formats.checked import Cancelled, Part, reading, sound
from artuline.formats.format import Format, Imported, Parts
from artuline.formats.gltf_container import Container, open_container
from artuline.formats.gltf_mesh import Primitive, Surfaces, read_nodes
from artuline.formats.gltf_physics import Read

PLACEMENT = "placement"  # in the extras of a node that only says where the figure stood in our scene
REMEDY = "Export the file again, or choose another one."
MOST_BESIDES = 5  # remarks that an error carries


def read_figure(path: Path | str, assets: AssetStore, cancelled: Cancelled = lambda: False) -> Imported:
    """Read a .glb or .gltf file into a figure; its arrays go to ``assets``.

    Raises ArtulineError with file, place and remedy if the file cannot be used, CancelledError on request; then nothing was added.
    """
    path = Path(path)
    with reading(path, REMEDY):
        reader = _Reader(open_container(path), cancelled)
        try:
            figure, mesh, clips = reader.read()
            size = figure_size(figure, mesh)
            unit = likely_unit(size)
            figure = reader.setup(figure, unit)
        except CancelledError:
            raise
        except ArtulineError as error:
            # what is left out by then may be why
            besides = f" Besides: {' '.join(reader.notes[:MOST_BESIDES])}" if reader.notes else ""
            raise ArtulineError(error.problem, place=error.place, remedy=error.remedy + besides) from error
    refs = []
    for name, clip, rate, loop in clips:
        duration = float(clip.key_times()[-1])
        refs.append(ClipRef(name=name, asset=assets.add(clip.to_arrays()), duration=duration, rate=rate, loop=loop))
    asset = assets.add(mesh.to_arrays()) if mesh is not None else None
    figure = figure.changed(clips=tuple(refs), clip=refs[0].name if refs else None, asset=asset)
    if unit != 1.0:
        reader.notes.append(f"The figure measures {size:.4g} file units; read as {unit_name(unit)}.")
    x, y, z = (unit * c for c in reader.place)
    with reading(path, REMEDY):
        figure = sound(figure.changed(unit=unit, position=(x, y, z), turn=reader.turn), assets, path, REMEDY)
    return Imported(figure, tuple(reader.notes))


def read_clips(path: Path | str, assets: AssetStore, figure: Figure) -> Figure:
    """A figure with the clips of a .glb or .gltf file of the same skeleton, with or without a mesh, besides its own: bones by their names.

    Raises ArtulineError if the file has no clip, or if its bones are not those of the figure; then nothing was added.
    """
    path = Path(path)
    with reading(path, REMEDY):
        reader = _Reader(open_container(path), lambda: False)
        bones = tuple(reader.bones())
        stand_in = Figure(id="of", name="of", bones=bones)
        clips = reader.clips(stand_in)
        if not clips:
            raise reader.c.fail("the file has no animation", "Choose a file with one.")
        other = "Choose a file that was made for the same skeleton."
        moved = {c.bone for _, clip, _, _ in clips for c in clip.channels}
        if not moved & figure.bone_index.keys():
            raise reader.c.fail(f"none of its bones is called like one of {figure.name}", other)
        for name in sorted(moved & figure.bone_index.keys()):
            mine, theirs = figure.bones[figure.bone_index[name]], stand_in.bones[stand_in.bone_index[name]]
            long = float(np.linalg.norm(mine.translation))
            if np.linalg.norm(np.subtract(mine.translation, theirs.translation)) > 0.1 * long + 1e-6:
                raise reader.c.fail(f"its bone {name!r} is of another length than that of {figure.name}", other)
    taken, refs = Names(c.name for c in figure.clips), list(figure.clips)
    for name, clip, rate, loop in clips:
        kept = Clip(tuple(c for c in clip.channels if c.bone in figure.bone_index))
        if kept.channels:
            asset = assets.add(kept.to_arrays())
            refs.append(
                ClipRef(name=taken.fresh(name), asset=asset, duration=float(kept.key_times()[-1]), rate=rate, loop=loop)
            )
    return figure.changed(clips=tuple(refs))


def read_parts(path: Path) -> Parts:
    """The meshes of a .glb or .gltf file at rest, a part for every node that carries one. Raises ArtulineError if there are none."""
    with reading(path, REMEDY):
        reader = _Reader(open_container(path), lambda: False)
        bones = reader.bones()
        mesh, materials = reader.mesh()
        if mesh is None:
            raise reader.c.fail("the file has no mesh", "Choose a file with one.")
        figure = Figure(id="parts", name="parts", bones=tuple(bones))
        matrices = rest_matrices(figure)
        strongest = mesh.slots[np.arange(len(mesh.positions)), mesh.weights.argmax(axis=1)]
        owner = mesh.palette_bone[strongest][mesh.triangles[:, 0]]
        carrying = np.unique(owner)
        names = [bones[b].name for b in carrying]
        return Parts(mesh.skin(matrices), mesh.triangles.astype(np.int64), np.searchsorted(carrying, owner), names,
                     tuple(materials), mesh.material.astype(np.int64))  # fmt: skip


def figure_size(figure: Figure, mesh: Mesh | None) -> float:
    """Longest side in file units of the rest pose's bounding box, by mesh or else by bones."""
    matrices = rest_matrices(figure.changed(unit=1.0, position=(0, 0, 0), turn=0.0))
    points = mesh.skin(matrices) if mesh is not None else matrices[:, :3, 3]
    return float(np.ptp(points, axis=0).max()) if len(points) else 0.0


class _Reader:
    def __init__(self, container: Container, cancelled: Cancelled):
        self.c, self._cancelled = container, cancelled
        self.notes: list[str] = []
        self.order: list[int] = []
        self.bone_of_node: dict[int, int] = {}
        self.place, self.turn = (0.0, 0.0, 0.0), 0.0
        self.nodes = container.items("nodes")
        self.physics = Read(self.nodes, container.root, self.notes)

    def _tick(self) -> None:
        if self._cancelled():
            raise CancelledError

    def read(self) -> tuple[Figure, Mesh | None, list[tuple[str, Clip, float, bool]]]:
        if not self.nodes:
            raise self.c.fail("the file has no nodes", "Export a skinned figure.")
        bones = self.bones()
        self._tick()
        mesh, materials = self.mesh()
        deforming = self._deforming(mesh)
        bones = [b.model_copy(update={"deforms": i in deforming}) for i, b in enumerate(bones)]
        stem = self.c.path.stem or "figure"
        try:
            figure = Figure(id=stem, name=stem, source=self.c.path.name, bones=tuple(bones), materials=tuple(materials))
        except ValidationError as error:
            raise self.c.fail(f"the skeleton cannot be used ({why_not(error)})") from error
        if mesh is None:
            mesh = stick_mesh(figure)
            figure = figure.changed(materials=(Material(name="sticks", color=STICKS),))
            self.notes.append("The file has no mesh that can be used: sticks stand for the skin.")
        clips = self.clips(figure)
        if not clips:
            self.notes.append("The file has no animation: the figure stands in its rest pose.")
        if len(self.notes) > 40:
            self.notes[40:] = [f"And {len(self.notes) - 40} more remarks."]
        return figure, mesh, clips

    def _deforming(self, mesh: Mesh | None) -> set[int]:
        """The bones that carry a skin, or would: of a file without any mesh all that are joints of a skin, or that are moved."""
        worn = {
            node.index("skin", self.c.items("skins"), "skins")
            for node in self.nodes
            if "skin" in node and "mesh" in node
        }
        for i, skin in enumerate(self.c.items("skins")):
            if i not in worn:
                self.notes.append(f"No mesh wears the skin {skin.text('name') or i!r}; it is left out.")
        found = {int(b) for b, s in zip(mesh.palette_bone, mesh.palette_skin) if s >= 0} if mesh is not None else set()
        joints = {j for skin in self.c.items("skins") for j in skin.indices("joints", self.nodes, "nodes")}
        found = found or {self.bone_of_node[j] for j in joints if j in self.bone_of_node}
        if not found and mesh is not None:
            raise self.c.fail(
                "it has meshes but no skin on them (joints and weights), so there is no skeleton to work on",
                "Bring it in under Props as a thing of rigid parts, or export it with its skin.",
            )
        return found or set(range(len(self.order)))

    def setup(self, figure: Figure, unit: float) -> Figure:
        """The figure with the bodies and joints that the file has."""
        if not any("motion" in self.physics.of(n) for n in self.bone_of_node):
            return figure

        def hull(geometry: Part) -> Any:
            mesh = self.c.item("meshes", geometry, "mesh")
            found = [
                self.c.accessor(p.part("attributes"), "POSITION", ("VEC3",)).astype(float)
                for p in mesh.parts("primitives")
            ]
            return np.unique(np.concatenate(found), axis=0) if found else None

        made = self.physics.setup(figure, self.bone_of_node, self._parents(), unit, hull)
        self.notes.append(f"It brings {len(made.bodies)} bodies and {len(made.joints)} joints.")
        return made

    # nodes

    def bones(self) -> list[Bone]:
        """Every node as a bone, parents first."""
        nodes = self.nodes
        parent = self._parents()
        children: dict[int, list[int]] = {}
        roots = []
        for i in range(len(nodes)):
            if i in parent:
                children.setdefault(parent[i], []).append(i)
            else:
                roots.append(i)
        seen = 0
        idle = self._idle(children) | self.physics.helpers()
        stack = roots[::-1]
        while stack:
            i = stack.pop()
            seen += 1
            if i not in idle:
                self.order.append(i)
            stack.extend(reversed(children.get(i, [])))
        if seen != len(nodes):
            missing = sorted(set(range(len(nodes))) - set(self.order) - idle)
            raise self.c.fail(f"nodes[{missing[0] if missing else 0}] is its own ancestor")
        self.bone_of_node = {n: i for i, n in enumerate(self.order)}
        names: dict[int, str] = {}
        taken = Names()
        repeated: dict[str, int] = {}
        for i in self.order:
            wanted = (nodes[i].text("name").strip() and nodes[i].text("name")) or f"node {i}"
            names[i] = taken.fresh(wanted)
            if names[i] != wanted:
                repeated[wanted] = repeated.get(wanted, 0) + 1
        for wanted, count in list(repeated.items())[:8]:
            self.notes.append(f"The bone name {wanted!r} appears {count + 1} times; the others got a number.")
        bones = []
        for i in self.order:
            up = parent.get(i)
            if up is None and self._is_placement(nodes[i]):
                continue
            t, q, s = self._local(nodes[i])
            bones.append(
                Bone(
                    name=names[i],
                    parent=names[up] if up in self.bone_of_node else None,
                    translation=t,
                    rotation=q,
                    scale=s,
                )
            )
        if len(bones) < len(self.order):
            self._take_placement()
            placed = {names[i] for i in self.order} - {b.name for b in bones}
            bones = [b.changed(parent=None) if b.parent in placed else b for b in bones]
            self.order = [i for i in self.order if names[i] not in placed]
            self.bone_of_node = {n: i for i, n in enumerate(self.order)}
        return bones

    def _is_placement(self, node: Part) -> bool:
        return node.part("extras").part("artuline").value.get(PLACEMENT) is True if "extras" in node else False

    def _take_placement(self) -> None:
        """Where our own export says that the figure stood."""
        node = next(n for n in self.nodes if self._is_placement(n))
        t, q, _ = self._local(node)
        self.place, self.turn = t, 2.0 * math.atan2(q[1], q[3])

    def _idle(self, children: dict[int, list[int]]) -> set[int]:
        """Nodes that only carry a skinned mesh: the standard ignores their place, so they are no bones."""
        joints = {j for skin in self.c.items("skins") for j in skin.indices("joints", self.nodes, "nodes")}
        moved = set()
        for animation in self.c.items("animations"):
            for channel in animation.parts("channels"):
                target = channel.part("target")
                if "node" in target:
                    moved.add(target.index("node", self.nodes, "nodes"))
        return {
            i for i, node in enumerate(self.nodes)
            if "mesh" in node and "skin" in node and i not in joints and i not in moved and not children.get(i)
        }  # fmt: skip

    def _parents(self) -> dict[int, int]:
        parent: dict[int, int] = {}
        for i, node in enumerate(self.nodes):
            for child in node.indices("children", self.nodes, "nodes"):
                if child in parent:
                    raise self.c.fail(f"nodes[{child}] has two parents, nodes[{parent[child]}] and nodes[{i}]")
                parent[child] = i
        return parent

    def _local(self, node: Part) -> tuple[Any, Any, Any]:
        if "matrix" in node:
            m = node.floats("matrix", 16, ()).reshape(4, 4).T
            t, q, s = transforms.decompose(m)
            if np.abs(transforms.compose(t, q, s) - m).max() > 1e-3 * max(1.0, float(np.abs(m).max())):
                self.notes.append(f"The node {node.text('name') or node.where!r} is sheared; the shear is left out.")
        else:
            t = node.floats("translation", 3, (0.0, 0.0, 0.0))
            q = node.floats("rotation", 4, (0.0, 0.0, 0.0, 1.0))
            s = node.floats("scale", 3, (1.0, 1.0, 1.0))
            if not 0.5 < np.linalg.norm(q) < 2.0:
                raise node.fail("has a rotation that is not a unit quaternion")
            q = rotation.normalize(q)
        if max(np.abs(t).max(), np.abs(s).max()) > 1e9:
            raise node.fail("lies too far away or is scaled too much")
        return tuple(map(float, t)), tuple(map(float, q)), tuple(map(float, s))

    # mesh

    def mesh(self) -> tuple[Mesh | None, list[Material]]:
        """All surfaces as one mesh, and its materials."""
        materials = [self._material(m) for m in self.c.items("materials")]
        materials.append(Material(name="plain"))
        surfaces = Surfaces(self.c, self.notes)
        parts: list[Primitive] = []
        palette: list[tuple[int, np.ndarray, int]] = []
        starts: dict[int, tuple[int, int]] = {}
        for n, node in enumerate(self.nodes):
            if "mesh" not in node:
                continue
            self._tick()
            if "skin" in node:
                skin = node.index("skin", self.c.items("skins"), "skins")
                if skin not in starts:
                    entries = self._skin(self.c.items("skins")[skin])
                    starts[skin] = len(palette), len(entries)
                    palette += [(j, bind, skin) for j, bind in entries]
                start, size = starts[skin]
            elif n in self.bone_of_node:
                start, size = len(palette), 0
                palette.append((self.bone_of_node[n], np.eye(4), -1 - n))
            else:
                continue
            for primitive in self.c.item("meshes", node, "mesh").parts("primitives"):
                part = surfaces.primitive(primitive, start, size, len(materials) - 1)
                if part is not None and len(part.triangles):
                    parts.append(part)
        if not parts:
            return None, materials
        width = max(p.slots.shape[1] for p in parts)

        def wide(a: np.ndarray) -> np.ndarray:
            return np.pad(a, ((0, 0), (0, width - a.shape[1])))

        offsets = np.cumsum([0] + [len(p.positions) for p in parts[:-1]])
        mesh_ = Mesh(
            positions=np.concatenate([p.positions for p in parts]).astype(np.float32),
            normals=np.concatenate([p.normals for p in parts]).astype(np.float32),
            triangles=np.concatenate([p.triangles + o for p, o in zip(parts, offsets)]).astype(np.int32),
            material=np.concatenate([np.full(len(p.triangles), p.material) for p in parts]).astype(np.int32),
            slots=np.concatenate([wide(p.slots) for p in parts]).astype(np.int32),
            weights=np.concatenate([wide(p.weights) for p in parts]).astype(np.float32),
            palette_bone=np.array([p[0] for p in palette], np.int32),
            palette_bind=np.array([p[1] for p in palette], np.float64),
            palette_skin=np.array([p[2] for p in palette], np.int32),
        )
        return mesh_, materials

    def _material(self, m: Part) -> Material:
        surface = m.part("pbrMetallicRoughness")
        color = np.clip(surface.floats("baseColorFactor", 4, (0.6, 0.6, 0.6, 1.0)), 0.0, 1.0)
        return Material(name=m.text("name"), color=tuple(map(float, color[:3])))

    def _skin(self, skin: Part) -> list[tuple[int, np.ndarray]]:
        joints = skin.indices("joints", self.nodes, "nodes")
        if not joints:
            raise skin.fail("has no joints")
        binds = np.repeat(np.eye(4)[None], len(joints), axis=0)
        if "inverseBindMatrices" in skin:
            raw = self.c.accessor(skin, "inverseBindMatrices", ("MAT4",))
            if len(raw) < len(joints):
                raise skin.fail(f"has {len(joints)} joints but {len(raw)} inverse bind matrices")
            binds = raw[: len(joints)].astype(np.float64).reshape(-1, 4, 4).transpose(0, 2, 1)
        if any(j not in self.bone_of_node for j in joints):
            raise skin.fail("has a joint that is no bone")
        return [(self.bone_of_node[j], binds[k]) for k, j in enumerate(joints)]

    # clips

    def clips(self, figure: Figure) -> list[tuple[str, Clip, float, bool]]:
        found = []
        taken = Names()
        for a, animation in enumerate(self.c.items("animations")):
            self._tick()
            name = taken.fresh(animation.text("name").strip() or f"clip {a + 1}")
            channels = self._channels(animation, figure)
            if not channels:
                self.notes.append(f"The clip {name!r} moves no bone; it is left out.")
                continue
            clip, rate, words = on_frames(Clip(tuple(channels)))
            if words:
                self.notes.append(f"The clip {name!r}: {words}.")
            found.append((name, clip, rate, _loops(clip, figure)))
        return found

    def _channels(self, animation: Part, figure: Figure) -> list[Channel]:
        channels: dict[tuple[str, str], Channel] = {}
        samplers = animation.parts("samplers")
        for channel in animation.parts("channels"):
            target = channel.part("target")
            path = target.text("path")
            if "node" not in target:
                continue
            node = target.index("node", self.nodes, "nodes")
            if path not in ("translation", "rotation", "scale"):
                self.notes.append(f"{channel.where} moves {path[:40]!r}, which is left out.")
                continue
            sampler = samplers[channel.index("sampler", samplers, "samplers")]
            if node not in self.bone_of_node:
                self.notes.append(f"{channel.where} moves what is no bone; it is left out.")
                continue
            bone = figure.bones[self.bone_of_node[node]].name
            if (bone, path) in channels:
                raise channel.fail(f"moves the {path} of {bone!r} a second time")
            channels[bone, path] = self._sampler(sampler, bone, path)
        return list(channels.values())

    def _sampler(self, sampler: Part, bone: str, path: Any) -> Channel:
        where = sampler.where
        kind = sampler.text("interpolation", "LINEAR")
        if kind not in ("LINEAR", "STEP", "CUBICSPLINE"):
            raise sampler.fail(f"has an unknown interpolation {kind[:40]!r}")
        times = self.c.accessor(sampler, "input", ("SCALAR",)).astype(float)
        if (np.diff(times) <= 0).any() or times[0] < 0 or times[-1] > 1e6:
            raise self.c.fail(f"{where}.input: the key times do not run forward from zero")
        wanted = "VEC4" if path == "rotation" else "VEC3"
        values = self.c.accessor(sampler, "output", (wanted,)).astype(float)
        per_key = 3 if kind == "CUBICSPLINE" else 1
        if len(values) != per_key * len(times):
            raise self.c.fail(f"{where} has {len(values)} values for {len(times)} keys")
        if np.abs(values).max() > 1e12:
            raise self.c.fail(f"{where} has values beyond all measure")
        if kind == "CUBICSPLINE":
            values = values.reshape(len(times), 3, -1)
        unit = values[:, 1] if kind == "CUBICSPLINE" else values
        if path == "rotation" and (np.linalg.norm(unit, axis=1) < 1e-6).any():
            raise self.c.fail(f"{where} has a rotation of no length")
        if kind != "CUBICSPLINE" and path == "rotation":
            values = rotation.normalize(values)
        return Channel(bone, path, kind, times, values)  # type: ignore[arg-type]


def _loops(clip: Clip, figure: Figure) -> bool:
    """Whether every rotation ends where it began, to one degree."""
    end = float(clip.key_times()[-1])
    if end < 0.3:
        return False
    pose = clip.sample(skeleton_of(figure), np.array([0.0, end]))
    return bool(rotation.angle_between(pose.rotation[0], pose.rotation[1]).max() < math.radians(1.0))


FORMAT = Format("glTF", (".glb", ".gltf"), read_figure=read_figure, read_mesh=read_nodes, read_parts=read_parts)
