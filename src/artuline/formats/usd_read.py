"""USD in: the first skinned skeleton of a file, with its meshes and its animation."""

from pathlib import Path
from typing import Any

import numpy as np

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.edit import Names
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Bone, ClipRef, Figure, Material
from artuline.core.setup.sticks import stick_mesh
from artuline.core.setup.units import unit_name
from artuline.formats.checked import Cancelled
from artuline.formats.files import read_plain
from artuline.formats.format import Format, Imported
from artuline.formats.usd_bodies import read_bodies
from artuline.formats.usd_write import SUFFIXES

MOST_BYTES = 2 * 2**30
MOST_JOINTS, MOST_FRAMES, MOST_VERTICES = 2000, 100_000, 20_000_000
REMEDY = "Export the file again with its skeleton, or choose another one."
MOST_COLORS = 200


def read_figure(path: Path | str, assets: AssetStore, cancelled: Cancelled = lambda: False) -> Imported:
    """A figure with its clip. Raises ArtulineError with file and remedy, CancelledError on request; then nothing was added."""
    path = Path(path)
    # whether it is there, a plain file and not too large; the library opens it by its name, for what it refers to
    read_plain(path, MOST_BYTES)
    reader = _Reader(path, cancelled)
    try:
        figure, mesh, clip = reader.read()
    except (ArtulineError, CancelledError):
        raise
    except Exception as error:
        raise reader.fail(f"the file cannot be read ({type(error).__name__})") from error
    refs: tuple[ClipRef, ...] = ()
    if clip is not None:
        duration = float(clip.key_times()[-1])
        refs = (
            ClipRef(name=path.stem or "move", asset=assets.add(clip.to_arrays()), duration=duration, rate=reader.rate),
        )
    asset = assets.add(mesh.to_arrays()) if mesh is not None else None
    return Imported(figure.changed(asset=asset, clips=refs, clip=refs[0].name if refs else None), tuple(reader.notes))


class _Reader:
    def __init__(self, path: Path, cancelled: Cancelled):
        self.path, self._cancelled, self.notes, self.rate = path, cancelled, list[str](), 24.0

    def fail(self, what: str) -> ArtulineError:
        return ArtulineError(what, place=str(self.path), remedy=REMEDY)

    def read(self) -> tuple[Figure, Mesh | None, Clip | None]:
        from pxr import Tf, Usd, UsdGeom, UsdSkel

        try:
            stage = Usd.Stage.Open(str(self.path))
        except Tf.ErrorException as error:
            raise self.fail("the file is no USD that can be read") from error
        if not stage:
            raise self.fail("the file is no USD that can be read")
        self.rate = min(max(float(stage.GetTimeCodesPerSecond()), 0.1), 1000.0)
        skeletons = [UsdSkel.Skeleton(p) for p in stage.Traverse() if p.IsA(UsdSkel.Skeleton)]
        if not skeletons:
            raise self.fail("the file has no skeleton")
        if len(skeletons) > 1:
            self.notes.append(f"The file has {len(skeletons)} skeletons; the first one is read.")
        skel = skeletons[0]
        cache = UsdSkel.Cache()
        root = UsdSkel.Root.Find(skel.GetPrim())
        if root:
            cache.Populate(root, Usd.PrimDefaultPredicate)
        query = cache.GetSkelQuery(skel)
        bones = self._bones(skel, query, UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z)
        unit = float(UsdGeom.GetStageMetersPerUnit(stage))
        unit = unit if 1e-6 < unit < 1e6 else 1.0
        if unit != 1.0:
            self.notes.append(f"The file's unit: {unit_name(unit)}.")
        stem = self.path.stem or "figure"
        figure = Figure(id=stem, name=stem, source=self.path.name, bones=bones, unit=unit)
        figure, mesh = self._skin(stage, cache, root, skel, figure)
        figure = read_bodies(stage, figure, self.z_up, self.notes)
        figure = self._placed(figure, root, unit)
        return figure, mesh, self._clip(query, figure, stage)

    def _bones(self, skel: Any, query: Any, z_up: bool) -> tuple[Bone, ...]:
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
        self.z_up = z_up
        if z_up:
            self.notes.append("z is upwards in the file: it is set up.")
        names, made = Names(), list[Bone]()
        for i, joint in enumerate(joints):
            name = names.fresh(
                str(called[i] if len(called) == len(joints) and called[i] else str(joint).rsplit("/", 1)[-1])
            )
            t, q, s = self._local(matrices[i][None], i)
            made.append(
                Bone(name=name, parent=made[self.parents[i]].name if self.parents[i] >= 0 else None, translation=tuple(t[0]), rotation=tuple(q[0]),
                     scale=tuple(s[0]), deforms=True)
            )  # fmt: skip
        return tuple(made)

    def _local(self, m: Array, joint: int) -> tuple[Array, Array, Array]:
        """Local transforms (F, 4, 4) of a joint as places, turns and scales, set up where z is upwards."""
        if self.z_up and self.parents[joint] < 0:
            up = np.eye(4)
            up[:3, :3] = rotation.to_matrix(rotation.from_rotation_vector(np.array([-0.5 * np.pi, 0.0, 0.0])))
            m = up @ m
        parts = [transforms.decompose(x) for x in m]
        return (
            np.array([p[0] for p in parts]),
            rotation.normalize(np.array([p[1] for p in parts])),
            np.array([p[2] for p in parts]),
        )

    def _placed(self, figure: Figure, root: Any, unit: float) -> Figure:
        """Where the file has the skeleton, if it only stands and is turned about the upright."""
        from pxr import Usd, UsdGeom

        if not root:
            return figure
        m = np.array(
            UsdGeom.Xformable(root.GetPrim()).ComputeLocalToWorldTransform(Usd.TimeCode.EarliestTime()), float
        ).T
        if not np.isfinite(m).all() or abs(np.linalg.det(m[:3, :3])) < 1e-12:
            return figure
        t, q, s = transforms.decompose(m)
        if self.z_up:
            t = np.array([t[0], t[2], -t[1]])
            return figure.changed(position=tuple(unit * t), unit=unit * float(s[0]))
        turn = 2.0 * float(np.arctan2(q[1], q[3]))
        return figure.changed(position=tuple(unit * t), turn=turn, unit=unit * float(s[0]))

    def _skin(self, stage: Any, cache: Any, root: Any, skel: Any, figure: Figure) -> tuple[Figure, Mesh | None]:
        from pxr import Usd, UsdGeom

        parts = []
        for binding in cache.ComputeSkelBindings(root, Usd.PrimDefaultPredicate) if root else ():
            if binding.GetSkeleton().GetPath() == skel.GetPath():
                parts += [
                    t for t in binding.GetSkinningTargets() if t.GetPrim().IsA(UsdGeom.Mesh) and t.HasJointInfluences()
                ]
        found = [x for x in (self._part(t, len(figure.bones)) for t in parts) if x is not None]
        if not found:
            self.notes.append("The file has no skin: sticks stand for it.")
            return figure.changed(materials=(Material(name="sticks", color=(0.55, 0.47, 0.34)),)), stick_mesh(figure)
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

        if self._cancelled():
            raise CancelledError
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

    def _clip(self, query: Any, figure: Figure, stage: Any) -> Clip | None:
        animation = query.GetAnimQuery()
        times = np.unique(np.round(animation.GetJointTransformTimeSamples(), 6)) if animation else np.zeros(0)
        if not len(times):
            self.notes.append("The file has no animation: the figure stands in its rest pose.")
            return None
        if len(times) > MOST_FRAMES:
            raise self.fail(f"its animation has {len(times)} frames, {MOST_FRAMES} at most")
        found = []
        for t in times.tolist():
            if self._cancelled():
                raise CancelledError
            found.append(np.array(query.ComputeJointLocalTransforms(t), float).reshape(-1, 4, 4).transpose(0, 2, 1))
        matrices = np.array(found)
        if not np.isfinite(matrices).all() or (np.abs(np.linalg.det(matrices[..., :3, :3])) < 1e-12).any():
            raise self.fail("its animation has transforms that cannot be used")
        seconds = (times - times[0]) / self.rate
        channels = []
        for i, bone in enumerate(figure.bones):
            t, q, s = self._local(matrices[:, i], i)
            if np.abs(t - bone.translation).max() > 1e-6 * (1.0 + np.abs(t).max()):
                channels.append(Channel(bone.name, "translation", "LINEAR", seconds, t))
            channels.append(Channel(bone.name, "rotation", "LINEAR", seconds, rotation.make_continuous(q)))
            if np.abs(s - bone.scale).max() > 1e-3:
                channels.append(Channel(bone.name, "scale", "LINEAR", seconds, s))
        return Clip(tuple(channels))


FORMAT = Format("USD", SUFFIXES, read_figure=read_figure)
