"""USD in: the first skinned skeleton of a file, with its meshes and its animation."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.frame_grid import RATES, on_frames
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.edit import Names
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Bone, ClipRef, Figure, Material
from artuline.core.setup.sticks import STICKS, stick_mesh
from artuline.core.setup.units import unit_name
from artuline.formats.apart import read_apart
from artuline.formats.checked import Cancelled, sound
from artuline.formats.files import read_plain
from artuline.formats.format import Format, Imported
from artuline.formats.usd_bodies import read_bodies
from artuline.formats.usd_open import open_stage
from artuline.formats.usd_place import Placed, chain_of, place, split
from artuline.formats.usd_write import SUFFIXES

MOST_BYTES = 2 * 2**30
MOST_JOINTS, MOST_FRAMES, MOST_VERTICES = 2000, 100_000, 20_000_000
REMEDY = "Export the file again with its skeleton, or choose another one."
MOST_COLORS, MOST_NOTES = 200, 40


def read_figure(path: Path | str, assets: AssetStore, cancelled: Cancelled = lambda: False) -> Imported:
    """A figure with its clip, read in a process of its own. Raises ArtulineError with file and remedy, CancelledError on request; then nothing was added."""
    path = Path(path)
    # whether it is there, a plain file and not too large; the library opens it by its name, for what it refers to
    read_plain(path, MOST_BYTES)
    imported, made = read_apart(read_here, path, cancelled)
    for key, arrays in made.items():
        assets.put(key, arrays)
    return imported  # type: ignore[no-any-return]


def read_here(path: Path) -> tuple[Imported, dict[str, dict[str, np.ndarray]]]:
    """A figure with its clip, and the arrays that it needs by their hashes. Raises ArtulineError with file and remedy."""
    assets, reader = AssetStore(), _Reader(path)
    try:
        figure, mesh, clip = reader.read()
    except ArtulineError:
        raise
    except Exception as error:
        raise reader.fail(f"the file cannot be read ({type(error).__name__})") from error
    refs: tuple[ClipRef, ...] = ()
    if clip is not None:
        duration = float(clip.key_times()[-1])
        name = path.stem or "move"
        refs = (ClipRef(name=name, asset=assets.add(clip.to_arrays()), duration=duration, rate=reader.rate),)
    asset = assets.add(mesh.to_arrays()) if mesh is not None else None
    figure = figure.changed(asset=asset, clips=refs, clip=refs[0].name if refs else None)
    figure = sound(figure, assets, path, REMEDY)
    return Imported(figure, tuple(reader.notes[:MOST_NOTES])), {key: dict(assets[key]) for key in assets}


class _Reader:
    def __init__(self, path: Path):
        self.path, self.notes, self.rate = path, list[str](), 24.0

    def fail(self, what: str) -> ArtulineError:
        return ArtulineError(what, place=str(self.path), remedy=REMEDY)

    def read(self) -> tuple[Figure, Mesh | None, Clip | None]:
        from pxr import Usd, UsdGeom, UsdSkel

        stage = open_stage(self.path, self.fail)
        # time codes are not frames: how many pass in a second is one thing, how many pictures are shown another
        self.codes = min(max(float(stage.GetTimeCodesPerSecond()), 0.1), 100_000.0)
        stated = float(stage.GetFramesPerSecond()) if stage.GetRootLayer().HasFramesPerSecond() else 0.0
        self.stated = stated if 0.1 <= stated <= 1000.0 else None
        self.likely = self.codes if RATES[0] - 0.1 <= self.codes <= RATES[-1] else None
        inside = Usd.TraverseInstanceProxies()
        prims = list(Usd.PrimRange.Stage(stage, inside))
        skeletons = [UsdSkel.Skeleton(p) for p in prims if p.IsA(UsdSkel.Skeleton)]
        if not skeletons:
            raise self.fail("the file has no skeleton")
        if len(skeletons) > 1:
            self.notes.append(f"The file has {len(skeletons)} skeletons; the first one is read.")
        skel = skeletons[0]
        cache = UsdSkel.Cache()
        root = UsdSkel.Root.Find(skel.GetPrim())
        if root:
            cache.Populate(root, inside)
        query = cache.GetSkelQuery(skel)
        self.z_up = UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z
        if self.z_up:
            self.notes.append("z is upwards in the file: it is set up.")
        bones = self._bones(skel, query)
        unit = float(UsdGeom.GetStageMetersPerUnit(stage))
        unit = unit if 1e-6 < unit < 1e6 else 1.0
        if unit != 1.0:
            self.notes.append(f"The file's unit: {unit_name(unit)}.")
        try:
            chain = chain_of(
                stage, skel.GetPrim(), self.codes / (self.stated or self.likely or 24.0), self.z_up, MOST_FRAMES
            )
        except ValueError as error:
            raise self.fail(str(error)) from error
        stem = self.path.stem or "figure"
        figure = Figure(
            id=stem, name=stem, source=self.path.name, bones=bones, unit=unit * (chain.size if chain.even else 1.0)
        )
        figure, mesh = self._skin(cache, root, skel, figure)
        if chain.even:
            figure = read_bodies(stage, figure, skel.GetPrim(), self.notes)
        self._say_left_out(prims, mesh)
        tops = [i for i, up in enumerate(self.parents) if up < 0]
        placed = place(figure.changed(unit=unit), chain, str(skel.GetPrim().GetName()), tops)
        self.notes += placed.notes
        if mesh is not None and placed.bone is not None:
            # the bone above all others is the first
            mesh = replace(mesh, palette_bone=mesh.palette_bone + np.int32(1))
        return placed.figure, mesh, self._clip(query, placed, stage)

    def _say_left_out(self, prims: list[Any], mesh: Mesh | None) -> None:
        """Say what the file has besides its first skeleton and the skins of it."""
        from pxr import UsdGeom, UsdSkel

        meshes = sum(p.IsA(UsdGeom.Mesh) for p in prims)
        if meshes > self.skinned:
            self.notes.append(
                f"{meshes - self.skinned} of {meshes} meshes are no skin of this skeleton; they are left out."
            )
        if any(p.IsA(UsdSkel.BlendShape) for p in prims):
            self.notes.append("It has blend shapes; they are left out.")
        if any(p.IsA(UsdGeom.PointInstancer) for p in prims):
            self.notes.append("It has things placed by points; they are left out.")

    def _bones(self, skel: Any, query: Any) -> tuple[Bone, ...]:
        joints = list(skel.GetJointsAttr().Get() or [])
        if not 0 < len(joints) <= MOST_JOINTS or not query:
            raise self.fail(f"its skeleton has {len(joints)} joints that can be used")
        called = list(skel.GetJointNamesAttr().Get() or [])
        topology = query.GetTopology()
        self.parents = [topology.GetParent(i) for i in range(len(joints))]
        if any(up >= i for i, up in enumerate(self.parents)):
            raise self.fail("its joints do not come after their parents")
        rest = skel.GetRestTransformsAttr().Get()
        matrices = (
            np.array(rest, float).reshape(-1, 4, 4).transpose(0, 2, 1) if rest and len(rest) == len(joints) else None
        )
        binds = skel.GetBindTransformsAttr().Get()
        self.binds = (
            np.array(binds, float).reshape(-1, 4, 4).transpose(0, 2, 1) if binds and len(binds) == len(joints) else None
        )
        if matrices is None:
            if self.binds is None:
                raise self.fail("its skeleton has neither rest nor bind transforms")
            pairs = zip(self.binds, self.parents)
            matrices = np.array([m if up < 0 else np.linalg.inv(self.binds[up]) @ m for m, up in pairs])
        if (
            not np.isfinite(matrices).all()
            or np.abs(matrices).max() > 1e9
            or (np.abs(np.linalg.det(matrices[:, :3, :3])) < 1e-12).any()
        ):
            raise self.fail("its skeleton's transforms cannot be used")
        names, made = Names(), list[Bone]()
        for i, joint in enumerate(joints):
            name = names.fresh(
                str(called[i] if len(called) == len(joints) and called[i] else str(joint).rsplit("/", 1)[-1])
            )
            t, q, s = split(matrices[i][None])
            made.append(
                Bone(name=name, parent=made[self.parents[i]].name if self.parents[i] >= 0 else None, translation=tuple(t[0]), rotation=tuple(q[0]),
                     scale=tuple(s[0]), deforms=True)
            )  # fmt: skip
        return tuple(made)

    def _skin(self, cache: Any, root: Any, skel: Any, figure: Figure) -> tuple[Figure, Mesh | None]:
        from pxr import Usd, UsdGeom

        parts = []
        for binding in cache.ComputeSkelBindings(root, Usd.TraverseInstanceProxies()) if root else ():
            if binding.GetSkeleton().GetPath() == skel.GetPath():
                parts += [
                    t for t in binding.GetSkinningTargets() if t.GetPrim().IsA(UsdGeom.Mesh) and t.HasJointInfluences()
                ]
        found = [x for x in (self._part(t, len(figure.bones)) for t in parts) if x is not None]
        self.skinned = len(found)
        if not found:
            self.notes.append("The file has no skin: sticks stand for it.")
            return figure.changed(materials=(Material(name="sticks", color=STICKS),)), stick_mesh(figure)
        width = max(p[3].shape[1] for p in found)
        first = np.cumsum([0, *(len(p[0]) for p in found)])
        colors, material = np.unique(np.concatenate([p[5] for p in found]), axis=0, return_inverse=True)
        if len(colors) > MOST_COLORS:
            colors, material = colors.mean(axis=0, keepdims=True), np.zeros(len(material), int)
        pad = [np.pad(p[k], ((0, 0), (0, width - p[k].shape[1]))) for k in (3, 4) for p in found]
        n = len(found)
        binds = (
            self.binds if self.binds is not None else np.linalg.inv(np.eye(4)[None].repeat(len(figure.bones), axis=0))
        )
        mesh = Mesh(
            positions=np.concatenate([p[0] for p in found]).astype(np.float32), normals=np.concatenate([p[1] for p in found]).astype(np.float32),
            triangles=np.concatenate([p[2] + f for p, f in zip(found, first)]).astype(np.int32), material=material.reshape(-1).astype(np.int32),
            slots=np.concatenate(pad[:n]).astype(np.int32), weights=np.concatenate(pad[n:]).astype(np.float32),
            palette_bone=np.arange(len(figure.bones), dtype=np.int32), palette_bind=np.linalg.inv(binds), palette_skin=np.zeros(len(figure.bones), np.int32),
        )  # fmt: skip
        return figure.changed(
            materials=tuple(Material(name=f"color {k + 1}", color=tuple(map(float, c))) for k, c in enumerate(colors))
        ), mesh

    def _part(self, target: Any, bones: int) -> tuple[Array, ...] | None:
        """Positions, normals, triangles, bones, weights of a mesh, and the colour of every triangle; None where it cannot be used."""
        from pxr import Usd, UsdGeom

        mesh = UsdGeom.Mesh(target.GetPrim())
        name, early = mesh.GetPrim().GetName(), Usd.TimeCode.EarliestTime()
        points = np.array(mesh.GetPointsAttr().Get(early) or [], float).reshape(-1, 3)
        counts, corners = (
            np.array(a.Get(early) or [], int) for a in (mesh.GetFaceVertexCountsAttr(), mesh.GetFaceVertexIndicesAttr())
        )
        if (
            not 0 < len(points) <= MOST_VERTICES
            or counts.sum() != len(corners)
            or (counts < 0).any()
            or not np.isfinite(points).all()
        ):
            self.notes.append(f"The mesh {name!r} cannot be used; it is left out.")
            return None
        if len(corners) and not 0 <= corners.min() <= corners.max() < len(points):
            raise self.fail(f"the mesh {name!r} refers to points that it does not have")
        starts = np.cumsum(counts) - counts
        fans = [
            np.stack([np.full(c - 2, s), s + np.arange(1, c - 1), s + np.arange(2, c)], axis=1)
            for s, c in zip(starts, counts)
            if c > 2
        ]
        owner = np.repeat(np.arange(len(counts)), np.maximum(counts - 2, 0))
        if not fans:
            return None
        triangles = corners[np.concatenate(fans)]
        if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
            triangles = triangles[:, ::-1]
        influences = target.ComputeVaryingJointInfluences(len(points))
        width = target.GetNumInfluencesPerComponent()
        which, weights = (np.array(x).reshape(len(points), width) for x in influences)
        mapper = target.GetJointMapper()
        if mapper is not None and not mapper.IsIdentity():
            order = mapper.Remap(list(range(len(target.GetJointOrder() or range(bones)))))
            which = np.array(order)[which] if order is not None and len(order) > which.max() else which
        if which.min(initial=0) < 0 or which.max(initial=0) >= bones or not np.isfinite(weights).all():
            raise self.fail(f"the mesh {name!r} is bound to joints that there are not")
        weights = np.maximum(weights, 0.0)
        weights /= np.maximum(weights.sum(axis=1, keepdims=True), 1e-12)
        m = np.array(target.GetGeomBindTransform(), float).T
        points = points @ m[:3, :3].T + m[:3, 3]
        color = np.tile([0.6, 0.6, 0.6], (len(counts), 1))
        shown = mesh.GetDisplayColorPrimvar()
        given = np.array(shown.Get(early) or [], float).reshape(-1, 3) if shown else np.zeros((0, 3))
        if len(given) == len(counts):
            color = given
        elif len(given) == 1:
            color = np.tile(given, (len(counts), 1))
        face = np.cross(
            points[triangles[:, 1]] - points[triangles[:, 0]], points[triangles[:, 2]] - points[triangles[:, 0]]
        )
        normals = np.zeros_like(points)
        for k in range(3):
            np.add.at(normals, triangles[:, k], face)
        normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
        return points, normals, triangles, which, weights, np.clip(np.round(color[owner], 5), 0.0, 1.0)

    def _clip(self, query: Any, placed: Placed, stage: Any) -> Clip | None:
        from pxr import Usd

        animation = query.GetAnimQuery()
        samples = animation.GetJointTransformTimeSamples() if animation else []
        times = np.unique(np.round([*samples, *placed.chain.codes], 6))
        if len(times) < 2 and not len(samples):
            self.notes.append("The file has no animation: the figure stands in its rest pose.")
            return None
        if len(times) > MOST_FRAMES:
            raise self.fail(f"its animation has {len(times)} frames, {MOST_FRAMES} at most")
        matrices = np.array(
            [
                np.array(query.ComputeJointLocalTransforms(t), float).reshape(-1, 4, 4).transpose(0, 2, 1)
                for t in times.tolist()
            ]
        )
        if not np.isfinite(matrices).all() or (np.abs(np.linalg.det(matrices[..., :3, :3])) < 1e-12).any():
            raise self.fail("its animation has transforms that cannot be used")
        how: Any = "STEP" if stage.GetInterpolationType() == Usd.InterpolationTypeHeld else "LINEAR"
        seconds, carried = (times - times[0]) / self.codes, placed.carried
        channels = []

        def add(bone: Bone, t: Array, q: Array, s: Array) -> None:
            if np.abs(t - bone.translation).max() > 1e-6 * (1.0 + np.abs(t).max()):
                channels.append(Channel(bone.name, "translation", how, seconds, t))
            channels.append(Channel(bone.name, "rotation", how, seconds, q))
            if np.abs(s - bone.scale).max() > 1e-3:
                channels.append(Channel(bone.name, "scale", how, seconds, s))

        bones = placed.figure.bones
        moves = placed.moves(times)
        if moves is not None:
            add(bones[0], *moves)
        for i, bone in enumerate(bones[len(bones) - len(self.parents) :]):
            m = matrices[:, i]
            add(bone, *split(carried @ m if self.parents[i] < 0 else m))
        clip, self.rate, words = on_frames(Clip(tuple(channels)), self.stated, self.likely)
        if words:
            self.notes.append(f"Of its motion: {words}.")
        return clip


FORMAT = Format("USD", SUFFIXES, read_figure=read_figure)
