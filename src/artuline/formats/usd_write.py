"""USD out: skinned figures with skeleton animation, by the schema UsdSkel, and their bodies by UsdPhysics."""

import errno
import re
from pathlib import Path
from typing import Any

import numpy as np

from artuline.core.bake.delivery import Delivered, Delivery
from artuline.core.bake.merged import PARTS, quarters
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.skeleton import Pose, rest_matrices, rigid, skeleton_of
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Joint
from artuline.core.setup.materials import body_mass
from artuline.formats.files import write_whole
from artuline.formats.format import Fate, Format
from artuline.formats.joint_kinds import LOCKED, drives_of, ranges_of

SUFFIXES = (".usda", ".usdc", ".usd")
STILL = 1e-9  # by which numbers may change in a quarter of a frame in which nothing moves
AXES = ("transX", "transY", "transZ", "rotX", "rotY", "rotZ")


def write_usd(path: Path, delivery: Delivery) -> list[Path]:
    """Write figures into one file: in metres if they are several, else in the figure's unit; y upwards. The file that was written."""
    from pxr import Gf, Tf, Usd, UsdGeom

    stage = Usd.Stage.CreateInMemory()
    several = len(delivery.figures) > 1
    unit = 1.0 if several else delivery.figures[0].figure.unit
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, unit)
    stage.SetTimeCodesPerSecond(delivery.rate)
    stage.SetFramesPerSecond(delivery.rate)
    world = UsdGeom.Xform.Define(stage, "/World")
    stage.SetDefaultPrim(world.GetPrim())
    last, taken = 0.0, set[str]()
    for x in delivery.figures:
        name = token(x.figure.name, taken)
        last = max(last, _Figure(stage, f"/World/{name}", x, delivery.rate, unit, Gf).write())
    stage.SetStartTimeCode(0.0)
    stage.SetEndTimeCode(last)

    def write(target: Path) -> None:
        try:
            done = stage.GetRootLayer().Export(str(target))
        except Tf.ErrorException as error:
            raise OSError(errno.EIO, "the library could not write it") from error
        if not done:
            raise OSError(errno.EIO, "the library could not write it")

    write_whole(path, write)
    return [path]


def token(name: str, taken: set[str]) -> str:
    """A name as the format has them: letters, figures and underscores, no figure first; another one if it is taken."""
    plain = re.sub(r"\W", "_", name, flags=re.ASCII) or "bone"
    plain = f"_{plain}" if plain[0].isdigit() else plain
    found, n = plain, 2
    while found in taken:
        found, n = f"{plain}_{n}", n + 1
    taken.add(found)
    return found


class _Figure:
    """A figure below a path of the stage."""

    def __init__(self, stage: Any, path: str, x: Delivered, rate: float, unit: float, gf: Any):
        self.stage, self.path, self.x, self.rate, self.unit, self.gf = stage, path, x, rate, unit, gf
        f = x.figure
        taken = set[str]()
        plain = [token(b.name, taken) for b in f.bones]
        self.joints: list[str] = []
        for i, b in enumerate(f.bones):
            self.joints.append(plain[i] if b.parent is None else f"{self.joints[f.bone_index[b.parent]]}/{plain[i]}")
        self.plain = plain
        self.skeleton = skeleton_of(f)
        #: At rest in the figure's own frame and unit.
        self.rest = rest_matrices(f.changed(unit=1.0, position=(0.0, 0.0, 0.0), turn=0.0))

    def write(self) -> float:
        """The last frame."""
        from pxr import UsdSkel, Vt

        f, path = self.x.figure, self.path
        root = UsdSkel.Root.Define(self.stage, path)
        clip = next(iter(self.x.clips.values()))
        end = max((float(c.times[-1]) for c in clip.channels), default=0.0)
        if self.x.root is not None:
            end = max(end, float(self.x.root[0][-1]))
        frames = np.arange(round(end * self.rate) + 1.0)
        self._place(root, frames)
        skel = UsdSkel.Skeleton.Define(self.stage, f"{path}/skeleton")
        skel.CreateJointsAttr(self.joints)
        skel.CreateJointNamesAttr([b.name for b in f.bones])
        self._fold(clip)
        rest = self._folded(self.skeleton.rest)
        local = [self._matrix(t, q, s) for t, q, s in zip(rest.translation, rest.rotation, rest.scale)]
        skel.CreateRestTransformsAttr(Vt.Matrix4dArray(local))
        skel.CreateBindTransformsAttr(Vt.Matrix4dArray([self.gf.Matrix4d(m.T.tolist()) for m in self._binds()]))
        animation = UsdSkel.Animation.Define(self.stage, f"{path}/skeleton/animation")
        animation.CreateJointsAttr(self.joints)
        # the format goes straight from sample to sample, and its library finds the way between two turns in single precision, by an arc cosine: a
        # hundredth of a degree for slow ones. So there are samples on quarters of all frames in which anything moves
        fine = quarters(0.0, float(frames[-1]))
        pose = clip.sample(self.skeleton, fine / self.rate)
        q = rotation.make_continuous(pose.rotation)
        kept = np.ones(len(fine), bool)
        for k in range(1, PARTS):
            kept[k::PARTS] = False
            for x in (q, pose.translation, pose.scale):
                kept[k::PARTS] |= np.abs(x[k::PARTS] - x[:-1:PARTS]).max(axis=(1, 2)) > STILL
        pose = self._folded(Pose(pose.translation[kept], pose.rotation[kept], pose.scale[kept]))
        q, fine = q[kept], fine[kept]
        attributes = animation.CreateTranslationsAttr(), animation.CreateRotationsAttr(), animation.CreateScalesAttr()
        for k, frame in enumerate(fine.tolist()):
            attributes[0].Set(Vt.Vec3fArray.FromNumpy(pose.translation[k].astype(np.float32)), frame)
            attributes[1].Set(
                Vt.QuatfArray([self.gf.Quatf(float(w), float(a), float(b), float(c)) for a, b, c, w in q[k]]), frame
            )
            attributes[2].Set(Vt.Vec3hArray([self.gf.Vec3h(*map(float, s)) for s in pose.scale[k]]), frame)
        binding = UsdSkel.BindingAPI.Apply(skel.GetPrim())
        binding.CreateAnimationSourceRel().SetTargets([animation.GetPath()])
        if self.x.mesh is not None:
            self._mesh(self.x.mesh, skel)
        if self.x.physics:
            self._bodies()
        return float(frames[-1])

    def _fold(self, clip: Clip) -> None:
        """Find the scales that are left out of the bones and put into the lengths below them, since the format keeps scales with three digits only: those that are even
        and stay, as of a skeleton below a node that is scaled.
        """
        bones, index = self.x.figure.bones, self.x.figure.bone_index
        moving = {c.bone for c in clip.channels if c.path == "scale"}
        self.own, self.carried = np.ones(len(bones)), np.ones(len(bones))
        for i, b in enumerate(bones):
            x, y, z = b.scale
            if x == y == z > 0.0 and b.name not in moving and float(np.float16(x)) != x:
                self.own[i] = x
            self.carried[i] = self.own[i] * (self.carried[index[b.parent]] if b.parent is not None else 1.0)
        self.above = np.array([self.carried[index[b.parent]] if b.parent is not None else 1.0 for b in bones])

    def _folded(self, pose: Pose) -> Pose:
        return Pose(pose.translation * self.above[:, None], pose.rotation, pose.scale / self.own[:, None])

    def _matrix(self, t: Array, q: Array, s: Array) -> Any:
        m = np.eye(4)
        m[:3, :3] = rotation.to_matrix(q) * s
        m[:3, 3] = t
        return self.gf.Matrix4d(m.T.tolist())

    def _place(self, root: Any, frames: Array) -> None:
        """Where the figure stands, over time if it moves."""
        from pxr import UsdGeom

        gf, f = self.gf, self.x.figure
        # the library finds the way between two turns as precisely as they are kept
        move, turn = root.AddTranslateOp(), root.AddOrientOp(UsdGeom.XformOp.PrecisionDouble)
        size = f.unit / self.unit
        if size != 1.0:
            root.AddScaleOp(UsdGeom.XformOp.PrecisionDouble).Set(gf.Vec3d(size, size, size))
        if self.x.root is None:
            q = rotation.from_rotation_vector(np.array([0.0, f.turn, 0.0]))
            move.Set(gf.Vec3d(*(c / self.unit for c in f.position)))
            turn.Set(gf.Quatd(float(q[3]), *map(float, q[:3])))
            return
        times, places, turns = self.x.root
        for t, p, q in zip(times, places, turns):
            frame = round(float(t) * self.rate, 6)
            move.Set(gf.Vec3d(*(p / self.unit).tolist()), frame)
            turn.Set(gf.Quatd(float(q[3]), *map(float, q[:3])), frame)

    def _binds(self) -> Array:
        """Where the bones were when the skin was bound to them (B, 4, 4)."""
        found = np.array(self.rest)
        if self.x.mesh is not None:
            for b, m in reversed(list(zip(self.x.mesh.palette_bone, self.x.mesh.palette_bind))):
                found[b] = np.linalg.inv(m)
        found[:, :3, :3] /= self.carried[:, None, None]
        return found

    def _mesh(self, mesh: Mesh, skel: Any) -> None:
        from pxr import UsdGeom, UsdSkel, Vt

        made = UsdGeom.Mesh.Define(self.stage, f"{self.path}/skin")
        made.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(mesh.positions, np.float32)))
        made.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(mesh.triangles), 3, np.int32)))
        made.CreateFaceVertexIndicesAttr(
            Vt.IntArray.FromNumpy(np.ascontiguousarray(mesh.triangles.reshape(-1), np.int32))
        )
        made.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(mesh.normals, np.float32)))
        made.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
        made.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        made.CreateExtentAttr(UsdGeom.PointBased.ComputeExtent(made.GetPointsAttr().Get()))
        colors = np.array([m.color for m in self.x.figure.materials] or [(0.6, 0.6, 0.6)], np.float32)[mesh.material]
        shown = made.CreateDisplayColorPrimvar(UsdGeom.Tokens.uniform)
        shown.Set(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(colors)))
        api = UsdSkel.BindingAPI.Apply(made.GetPrim())
        width = mesh.slots.shape[1]
        bones = np.where(mesh.weights > 0.0, mesh.palette_bone[mesh.slots], 0)
        api.CreateJointIndicesPrimvar(False, width).Set(
            Vt.IntArray.FromNumpy(np.ascontiguousarray(bones.reshape(-1), np.int32))
        )
        api.CreateJointWeightsPrimvar(False, width).Set(
            Vt.FloatArray.FromNumpy(np.ascontiguousarray(mesh.weights.reshape(-1), np.float32))
        )
        api.CreateGeomBindTransformAttr(self.gf.Matrix4d(1.0))
        api.CreateSkeletonRel().SetTargets([skel.GetPath()])

    def _bodies(self) -> None:
        """Bodies and joints at rest, beside the skeleton: its joints are no prims that could be moved."""
        from pxr import Sdf, UsdGeom, UsdPhysics

        f, gf, unit = self.x.figure, self.gf, self.x.figure.unit
        p, q = rigid(self.rest)
        UsdGeom.Scope.Define(self.stage, f"{self.path}/bodies")
        where: dict[str, str] = {}
        for body in f.bodies:
            b = f.bone_index[body.bone]
            path = where[body.id] = f"{self.path}/bodies/{self.plain[b]}"
            prim = UsdGeom.Xform.Define(self.stage, path)
            _set(prim, gf, p[b], q[b])
            UsdPhysics.RigidBodyAPI.Apply(prim.GetPrim())
            if f.stays:
                UsdPhysics.RigidBodyAPI(prim.GetPrim()).CreateKinematicEnabledAttr(True)
            mass = body_mass(body)
            if mass > 0.0:
                UsdPhysics.MassAPI.Apply(prim.GetPrim()).CreateMassAttr(mass)
            for k, s in enumerate(body.shapes):
                at, turn = np.array(s.position) / unit, np.array(s.rotation)
                shape = self._shape(f"{path}/shape_{k + 1}", s, unit)
                _set(shape, gf, at, turn, tuple(2.0 * x / unit for x in s.half) if s.kind == "box" else None)
                UsdPhysics.CollisionAPI.Apply(shape.GetPrim())
                shape.CreatePurposeAttr(UsdGeom.Tokens.guide)
                if s.kind == "hull":
                    UsdPhysics.MeshCollisionAPI.Apply(shape.GetPrim()).CreateApproximationAttr(
                        UsdPhysics.Tokens.convexHull
                    )
        for j in f.joints:
            self._joint(j, where, p, q, Sdf, UsdPhysics)

    def _shape(self, path: str, s: Any, unit: float) -> Any:
        from pxr import UsdGeom, Vt

        if s.kind == "sphere":
            made = UsdGeom.Sphere.Define(self.stage, path)
            made.CreateRadiusAttr(s.radius / unit)
        elif s.kind == "capsule":
            made = UsdGeom.Capsule.Define(self.stage, path)
            made.CreateAxisAttr(UsdGeom.Tokens.x)
            made.CreateRadiusAttr(s.radius / unit)
            made.CreateHeightAttr(2.0 * s.half_length / unit)
        elif s.kind == "box":
            made = UsdGeom.Cube.Define(self.stage, path)
            made.CreateSizeAttr(1.0)
        else:
            from scipy.spatial import ConvexHull

            points = np.array(s.points) / unit
            faces = ConvexHull(points).simplices
            made = UsdGeom.Mesh.Define(self.stage, path)
            made.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points.astype(np.float32)))
            made.CreateFaceVertexCountsAttr([3] * len(faces))
            made.CreateFaceVertexIndicesAttr(faces.reshape(-1).tolist())
            made.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        made.CreateExtentAttr(UsdGeom.Boundable.ComputeExtentFromPlugins(made, 0.0))
        return made

    def _joint(self, j: Joint, where: dict[str, str], p: Array, q: Array, sdf: Any, physics: Any) -> None:
        f, gf = self.x.figure, self.gf
        bone = {b.id: f.bone_index[b.bone] for b in f.bodies}
        child, parent = bone[j.child], bone[j.parent]
        made = physics.Joint.Define(self.stage, f"{where[j.child]}/joint")
        made.CreateBody0Rel().SetTargets([sdf.Path(where[j.parent])])
        made.CreateBody1Rel().SetTargets([sdf.Path(where[j.child])])
        point = np.array(j.point) / f.unit
        seat = rotation.rotate(rotation.conjugate(q[parent]), p[child] + rotation.rotate(q[child], point) - p[parent])
        made.CreateLocalPos0Attr(gf.Vec3f(*map(float, seat)))
        made.CreateLocalRot0Attr(gf.Quatf(j.parent_frame[3], *j.parent_frame[:3]))
        made.CreateLocalPos1Attr(gf.Vec3f(*map(float, point)))
        made.CreateLocalRot1Attr(gf.Quatf(j.frame[3], *j.frame[:3]))
        made.CreateCollisionEnabledAttr(False)
        for axis, r in enumerate(ranges_of(j)):
            if r is not None:
                scale = 1.0 / f.unit if axis < 3 else 180.0 / np.pi
                # a lower limit above the upper one locks the axis
                low, high = (1.0, -1.0) if r == LOCKED else (r[0] * scale, r[1] * scale)
                api = physics.LimitAPI.Apply(made.GetPrim(), AXES[axis])
                api.CreateLowAttr(low)
                api.CreateHighAttr(high)
        for d in drives_of(j):
            # of an acceleration: per unit of what it moves; turns are in degrees
            per = 1.0 if d.axis < 3 else np.pi / 180.0
            drive = physics.DriveAPI.Apply(made.GetPrim(), AXES[d.axis])
            drive.CreateTypeAttr(physics.Tokens.acceleration)
            drive.CreateTargetPositionAttr(0.0)
            drive.CreateStiffnessAttr(d.stiffness * per)
            drive.CreateDampingAttr(d.damping * per)


def _set(prim: Any, gf: Any, p: Array, q: Array, size: tuple[float, ...] | None = None) -> None:
    prim.AddTranslateOp().Set(gf.Vec3d(*map(float, p)))
    prim.AddOrientOp().Set(gf.Quatf(float(q[3]), *map(float, q[:3])))
    if size is not None:
        prim.AddScaleOp().Set(gf.Vec3f(*size))


FORMAT = Format(
    "USD",
    SUFFIXES,
    write=write_usd,
    fate=Fate(
        (
            "skeleton, skin and its colours",
            "places and turns of every bone, on whole frames",
            "bodies, shapes, joints, limits and springs, if asked for",
        ),
        ("curves between the frames: straight", "numbers in single precision, scales in half"),
        ("keys and their slopes", "materials but for their colours", "soft limits, tone, takes and lanes"),
    ),
)
