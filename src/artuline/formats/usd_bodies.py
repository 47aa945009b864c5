"""Rigid bodies, collision shapes, joints and their springs from USD, by its physics schema."""

import math
import re
from typing import Any

import numpy as np
from pydantic import ValidationError

from artuline.core.errors import why_not
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.scene.body import AxisRange
from artuline.core.scene.model import Body, Figure, Joint, Shape
from artuline.formats.joint_kinds import LOCKED, Drive, joint_of
from artuline.formats.usd_write import AXES

MOST_HULL = 64
MOST_BODIES = 2000
NEAR = 0.05  # share of the skeleton's size within which a body belongs to the bone that begins there
FAR = 1e9


def read_bodies(stage: Any, figure: Figure, skeleton: Any, notes: list[str]) -> Figure:
    """The figure with the rigid bodies of a file, each on the bone that is called like it, else on the one that begins where it is. ``figure``: with the bones as
    they are in the frame of the prim ``skeleton``; ``notes``: what is left out.
    """
    from pxr import UsdPhysics

    prims = [p for p in stage.Traverse() if p.HasAPI(UsdPhysics.RigidBodyAPI)][:MOST_BODIES]
    if not prims:
        return figure
    reader = _Bodies(figure, skeleton, notes)
    for prim in prims:
        reader.body(prim)
    for prim in stage.Traverse():
        if prim.IsA(UsdPhysics.Joint):
            reader.joint(prim)
    try:
        return figure.changed(bodies=tuple(reader.bodies.values()), joints=tuple(reader.joints.values()))
    except (ValidationError, ValueError) as error:
        notes.append(f"The file's bodies and joints cannot be used ({why_not(error)}); they are left out.")
        return figure


class _Bodies:
    def __init__(self, figure: Figure, prim: Any, notes: list[str]):
        from pxr import Usd, UsdGeom

        world = UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(Usd.TimeCode.EarliestTime())
        self.back = np.linalg.pinv(np.array(world, float).T)  # from the world to the skeleton
        self.figure, self.notes, self.unit = figure, notes, figure.unit
        skeleton = skeleton_of(figure)
        self.rest = skeleton.global_matrices(skeleton.rest)
        self.size = max(float(np.ptp(self.rest[:, :3, 3], axis=0).max()), 1e-9)
        self.called = {re.sub(r"\W", "_", b.name, flags=re.ASCII): b.name for b in figure.bones}
        self.bodies: dict[str, Body] = {}
        self.joints: dict[str, Joint] = {}
        self.of: dict[str, str] = {}  # bodies by the paths of their prims
        self.frame: dict[str, Array] = {}  # where a prim is in the frame of its bone

    def _place(self, prim: Any) -> Array | None:
        """Where a prim is (4, 4) in the frame of the skeleton; None if it cannot be used."""
        from pxr import Usd, UsdGeom

        early = Usd.TimeCode.EarliestTime()
        m = self.back @ np.array(UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(early), float).T
        good = np.isfinite(m).all() and np.abs(m).max() < FAR and abs(np.linalg.det(m[:3, :3])) > 1e-18
        return m if good else None

    def _bone(self, name: str, place: Array) -> str | None:
        if name in self.called:
            return self.called[name]
        gaps = np.linalg.norm(self.rest[:, :3, 3] - place[:3, 3], axis=1)
        i = int(np.argmin(gaps))
        return self.figure.bones[i].name if gaps[i] < NEAR * self.size else None

    def body(self, prim: Any) -> None:
        """Take a body with its shapes."""
        from pxr import UsdPhysics

        place = self._place(prim)
        bone = self._bone(prim.GetName(), place) if place is not None else None
        if place is None or bone is None or bone in self.bodies:
            self.notes.append(f"The body {prim.GetName()!r} is on no bone of its own; it is left out.")
            return
        own = self.rest[self.figure.bone_index[bone]]
        shapes: list[Shape] = []
        surface: dict[str, float] = {}
        for child in (prim, *_below(prim)):
            if child.HasAPI(UsdPhysics.CollisionAPI):
                shape = self._shape(child, own)
                if shape is None:
                    self.notes.append(f"The shape {child.GetName()!r} of {bone} is of a kind that is not read.")
                else:
                    shapes.append(shape)
                    surface = surface or _surface(child)
        mass = _number(UsdPhysics.MassAPI(prim).GetMassAttr().Get()) if prim.HasAPI(UsdPhysics.MassAPI) else 0.0
        self.bodies[bone] = Body(
            id=bone, bone=bone, shapes=tuple(shapes), mass=mass if 0.0 < mass < FAR else None, **surface
        )
        self.of[str(prim.GetPath())] = bone
        self.frame[str(prim.GetPath())] = np.linalg.inv(own) @ place

    def _shape(self, prim: Any, bone: Array) -> Shape | None:
        from pxr import Usd, UsdGeom

        place = self._place(prim)
        if place is None:
            return None
        p, q, size = transforms.decompose(np.linalg.inv(bone) @ place)
        at: dict[str, Any] = {"position": tuple(self.unit * p), "rotation": tuple(q)}
        early, large = Usd.TimeCode.EarliestTime(), self.unit * float(np.abs(size).max())
        if prim.IsA(UsdGeom.Sphere):
            radius = large * _number(UsdGeom.Sphere(prim).GetRadiusAttr().Get(early))
            return Shape(kind="sphere", radius=radius, **at) if 0.0 < radius < FAR else None
        if prim.IsA(UsdGeom.Cube):
            half = 0.5 * self.unit * np.abs(size) * _number(UsdGeom.Cube(prim).GetSizeAttr().Get(early))
            return Shape(kind="box", half=tuple(half), **at) if 0.0 < half.min() <= half.max() < FAR else None
        if prim.IsA(UsdGeom.Capsule) or prim.IsA(UsdGeom.Cylinder):
            round_ = UsdGeom.Capsule(prim) if prim.IsA(UsdGeom.Capsule) else UsdGeom.Cylinder(prim)
            radius, height = (
                large * _number(round_.GetRadiusAttr().Get(early)),
                large * _number(round_.GetHeightAttr().Get(early)),
            )
            if prim.IsA(UsdGeom.Cylinder):
                self.notes.append(f"The cylinder {prim.GetName()!r} is read as a capsule of the same size.")
                height = max(height - 2.0 * radius, 0.0)
            along = {"X": [1.0, 0, 0], "Y": [0, 1.0, 0], "Z": [0, 0, 1.0]}.get(
                str(round_.GetAxisAttr().Get(early)), [0, 0, 1.0]
            )
            at["rotation"] = tuple(rotation.normalize(rotation.multiply(q, rotation.align([1.0, 0.0, 0.0], along))))
            good = 0.0 < radius < FAR and 0.0 <= height < FAR
            return Shape(kind="capsule", radius=radius, half_length=0.5 * height, **at) if good else None
        if prim.IsA(UsdGeom.Mesh):
            points = np.array(UsdGeom.Mesh(prim).GetPointsAttr().Get(early) or [], float).reshape(-1, 3)
            points = np.unique(np.round(points * size * self.unit, 9), axis=0)
            if (
                4 <= len(points) <= MOST_HULL
                and np.isfinite(points).all()
                and np.linalg.matrix_rank(points - points[0], 1e-9) == 3
            ):
                return Shape(kind="hull", points=tuple(map(tuple, points.tolist())), **at)
        return None

    def joint(self, prim: Any) -> None:
        """Take a joint between two of the bodies."""
        from pxr import UsdPhysics

        made = UsdPhysics.Joint(prim)
        ends = [[str(t) for t in rel.GetTargets()] for rel in (made.GetBody0Rel(), made.GetBody1Rel())]
        if any(len(e) != 1 or e[0] not in self.of for e in ends):
            self.notes.append(f"The joint {prim.GetPath()} joins nothing that can be joined; it is left out.")
            return
        (parent, child), paths = (self.of[e[0]] for e in ends), [e[0] for e in ends]
        places = [
            np.array(a.Get() or (0.0, 0.0, 0.0), float) for a in (made.GetLocalPos0Attr(), made.GetLocalPos1Attr())
        ]
        turns = (_quat(made.GetLocalRot0Attr().Get()), _quat(made.GetLocalRot1Attr().Get()))
        seats = [rotation.multiply(rigid(self.frame[p])[1], t) for p, t in zip(paths, turns)]
        point = self.unit * transforms.apply(self.frame[paths[1]], places[1][None])[0]
        if parent in self.figure.below(child):
            (parent, child), seats = (child, parent), seats[::-1]
            point = self.unit * transforms.apply(self.frame[paths[0]], places[0][None])[0]
        if parent == child or child in self.joints:
            self.notes.append(f"The joint {prim.GetPath()} joins what is joined already; it is left out.")
            return
        common = {
            "id": child, "parent": parent, "child": child, "frame": tuple(seats[1]), "parent_frame": tuple(seats[0]), "damping": 0.0
        }  # fmt: skip
        if np.isfinite(point).all() and np.linalg.norm(point) > 1e-6:
            common["point"] = tuple(point)
        self.joints[child] = joint_of(self._ranges(prim), self._drives(prim), common)

    def _ranges(self, prim: Any) -> list[AxisRange]:
        from pxr import UsdPhysics

        ranges: list[AxisRange] = [None] * 6
        if prim.IsA(UsdPhysics.FixedJoint):
            return [LOCKED] * 6
        axis = {"X": 0, "Y": 1, "Z": 2}
        plain = next(
            (
                k
                for k in (UsdPhysics.RevoluteJoint, UsdPhysics.PrismaticJoint, UsdPhysics.SphericalJoint)
                if prim.IsA(k)
            ),
            None,
        )
        if plain is not None:
            ranges = [LOCKED] * 6
            said = plain(prim)
            a = axis.get(str(said.GetAxisAttr().Get()), 0)
            if plain is UsdPhysics.SphericalJoint:
                ranges[3:] = [None] * 3
                cone = (said.GetConeAngle0LimitAttr().Get(), said.GetConeAngle1LimitAttr().Get())
                for k, angle in zip([x for x in range(3) if x != a], cone):
                    if angle is not None and 0.0 <= angle <= 170.0:
                        ranges[3 + k] = (-math.radians(angle), math.radians(angle))
            else:
                turning = plain is UsdPhysics.RevoluteJoint
                low, high = (_number(x.Get(), None) for x in (said.GetLowerLimitAttr(), said.GetUpperLimitAttr()))
                ranges[a + 3 * turning] = _range(low, high, turning, self.unit)
        for k, name in enumerate(AXES):
            if prim.HasAPI(UsdPhysics.LimitAPI, name):
                api = UsdPhysics.LimitAPI(prim, name)
                ranges[k] = _range(
                    _number(api.GetLowAttr().Get(), None), _number(api.GetHighAttr().Get(), None), k >= 3, self.unit
                )
        return ranges

    def _drives(self, prim: Any) -> list[Drive]:
        from pxr import UsdPhysics

        found = []
        for k, name in enumerate(AXES):
            if prim.HasAPI(UsdPhysics.DriveAPI, name):
                api = UsdPhysics.DriveAPI(prim, name)
                stiffness, damping = _number(api.GetStiffnessAttr().Get()), _number(api.GetDampingAttr().Get())
                per = 1.0 if k < 3 else 180.0 / math.pi
                if api.GetTypeAttr().Get() == UsdPhysics.Tokens.acceleration and 0.0 < stiffness < FAR:
                    found.append(Drive(k, stiffness * per, max(damping, 0.0) * per))
                elif stiffness > 0.0:
                    self.notes.append(f"The drive {name} of {prim.GetPath()} is one of a force, which is not read.")
        return found


def _below(prim: Any) -> list[Any]:
    """All prims below one, but for what belongs to another body."""
    from pxr import UsdPhysics

    found = []
    for child in prim.GetChildren():
        if not child.HasAPI(UsdPhysics.RigidBodyAPI):
            found += [child, *_below(child)]
    return found


def _surface(prim: Any) -> dict[str, float]:
    """Friction and restitution of what a shape is bound to; empty if nothing."""
    from pxr import UsdPhysics, UsdShade

    material = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial("physics")[0]
    if not material or not material.GetPrim().HasAPI(UsdPhysics.MaterialAPI):
        return {}
    api = UsdPhysics.MaterialAPI(material.GetPrim())
    friction, bounce = _number(api.GetDynamicFrictionAttr().Get()), _number(api.GetRestitutionAttr().Get())
    return {"friction": min(max(friction, 0.0), FAR), "restitution": min(max(bounce, 0.0), 1.0)}


def _range(low: float | None, high: float | None, turning: bool, unit: float) -> AxisRange:
    """A range of the file as ours: where the lower end is above the upper one the axis is locked, what reaches nowhere is free."""
    if low is not None and high is not None and low > high:
        return LOCKED
    if low is None or high is None or not (math.isfinite(low) and math.isfinite(high)) or max(-low, high) >= FAR:
        return None
    scale = math.pi / 180.0 if turning else unit
    low, high = low * scale, high * scale
    return None if turning and high - low >= 2.0 * math.pi - 1e-6 else (low, high)


def _number(value: Any, otherwise: float | None = 0.0) -> Any:
    """A number of a file; what is none, or not finite, otherwise."""
    return float(value) if isinstance(value, (int, float)) and math.isfinite(value) else otherwise


def _quat(value: Any) -> Array:
    if value is None:
        return rotation.IDENTITY.copy()
    q = np.array([*value.GetImaginary(), value.GetReal()], float)
    return rotation.normalize(q) if np.isfinite(q).all() and np.linalg.norm(q) > 1e-6 else rotation.IDENTITY.copy()
