"""Bodies, shapes, joints, limits and springs in glTF, by the open extensions ``KHR_implicit_shapes`` and ``KHR_physics_rigid_bodies``, out and in.

What they cannot hold (elliptical cones, densities, air, tone, soft and breaking limits) stands in ``extras.artuline`` beside the nearest value that they have, so
that our own reader gets the same setup again to the last bit.
"""

import math
from typing import Any, Protocol

import numpy as np
from pydantic import ValidationError

from artuline.core.errors import why_not
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.edit import Names
from artuline.core.scene.model import Body, Figure, Joint, Shape
from artuline.core.setup.materials import body_mass
from artuline.formats.checked import Part
from artuline.formats.joint_kinds import HALF_TURN, Drive, drives_of, joint_of, ranges_of
from artuline.formats.migrations import with_force

SHAPES, BODIES = "KHR_implicit_shapes", "KHR_physics_rigid_bodies"
OURS = "artuline"
NEARLY = 1e-9  # file units from its bone's origin at which a joint is there
HELPER = "helper"  # in the extras of nodes that only place a shape or a joint
#: From a capsule along x, as ours is, to one along y.
UPRIGHT = rotation.align(np.array([0.0, 1.0, 0.0]), np.array([1.0, 0.0, 0.0]))
MOST_HULL = 64


class Buffer(Protocol):
    """What takes arrays for accessors."""

    def add(self, a: np.ndarray, *, target: int | None = None, bounds: bool = False) -> int:
        """The number of the accessor."""


class Written:
    """What the extensions have at the root, while figures are added."""

    def __init__(self) -> None:
        self.shapes: list[dict[str, Any]] = []
        self.materials: list[dict[str, Any]] = []
        self.joints: list[dict[str, Any]] = []

    def add(
        self,
        figure: Figure,
        first: int,
        unit: float,
        nodes: list[dict[str, Any]],
        meshes: list[dict[str, Any]],
        buffer: Buffer,
    ) -> None:
        """Add a figure's bodies and joints; ``first``: number of its first bone's node; ``unit``: metres of the file's unit."""
        p, q = rigid(rest_matrices(figure.changed(unit=1.0, position=(0.0, 0.0, 0.0), turn=0.0)))
        bone = {b.id: figure.bone_index[b.bone] for b in figure.bodies}

        def put(parent: int, node: dict[str, Any]) -> int:
            nodes.append(node | {"extras": {OURS: node.get("extras", {}).get(OURS, {}) | {HELPER: True}}})
            nodes[first + parent].setdefault("children", []).append(len(nodes) - 1)
            return len(nodes) - 1

        for body in figure.bodies:
            b = bone[body.id]
            motion: dict[str, Any] = {"isKinematic": figure.stays}
            mass = body_mass(body)
            if mass > 0.0:
                motion["mass"] = mass
            self.materials.append(
                {"staticFriction": body.friction, "dynamicFriction": body.friction, "restitution": body.restitution}
            )
            nodes[first + b].setdefault("extensions", {})[BODIES] = {"motion": motion}
            nodes[first + b].setdefault("extras", {})[OURS] = {
                "body": body.model_dump(mode="json", exclude_defaults=True)
            }
            for k, s in enumerate(body.shapes):
                turn, geometry = self._geometry(s, unit, meshes, buffer)
                node = {
                    "name": f"{body.bone} shape {k + 1}", "translation": [x / unit for x in s.position], "rotation": turn.tolist(),
                    "extensions": {BODIES: {"collider": {"geometry": geometry, "physicsMaterial": len(self.materials) - 1}}},
                }  # fmt: skip
                put(b, node)
        loops = set(figure.loops)
        for j in (*figure.joints, *figure.loops):
            child, parent = bone[j.child], bone[j.parent]
            point = np.array(j.point) / unit
            at = rotation.rotate(rotation.conjugate(q[parent]), p[child] + rotation.rotate(q[child], point) - p[parent])
            name = figure.bones[child].name
            there = put(
                parent, {"name": f"{name} joint seat", "translation": at.tolist(), "rotation": list(j.parent_frame)}
            )
            self.joints.append(joint_words(j))
            here = {
                "name": f"{name} joint", "rotation": list(j.frame), **({"translation": point.tolist()} if point.any() else {}),
                "extensions": {BODIES: {"joint": {"connectedNode": there, "joint": len(self.joints) - 1, "enableCollision": False}}},
                "extras": {OURS: {"loop" if j in loops else "joint": j.model_dump(mode="json", exclude_defaults=True)}},
            }  # fmt: skip
            put(child, here)

    def _geometry(
        self, s: Shape, unit: float, meshes: list[dict[str, Any]], buffer: Buffer
    ) -> tuple[Array, dict[str, Any]]:
        turn = np.array(s.rotation)
        if s.kind == "hull":
            points = (np.array(s.points) / unit).astype("<f4")
            meshes.append(
                {
                    "name": "hull",
                    "primitives": [
                        {"attributes": {"POSITION": buffer.add(points, target=34962, bounds=True)}, "mode": 0}
                    ],
                }
            )
            return turn, {"mesh": len(meshes) - 1, "convexHull": True}
        if s.kind == "capsule":
            turn = rotation.normalize(rotation.multiply(turn, UPRIGHT))
            words: dict[str, Any] = {
                "height": 2.0 * s.half_length / unit,
                "radiusBottom": s.radius / unit,
                "radiusTop": s.radius / unit,
            }
        elif s.kind == "sphere":
            words = {"radius": s.radius / unit}
        else:
            words = {"size": [2.0 * x / unit for x in s.half]}
        self.shapes.append({"type": s.kind, s.kind: words})
        return turn, {"shape": len(self.shapes) - 1}

    def root(self) -> dict[str, Any]:
        """The ``extensions`` and ``extensionsUsed`` of the file; empty if nothing was added."""
        if not self.materials:
            return {}
        bodies = {"physicsMaterials": self.materials} | ({"physicsJoints": self.joints} if self.joints else {})
        found: dict[str, Any] = {BODIES: bodies} | ({SHAPES: {"shapes": self.shapes}} if self.shapes else {})
        return {"extensionsUsed": sorted(found), "extensions": found}


def joint_words(j: Joint) -> dict[str, Any]:
    """A joint's limits and springs as the extension has them: what no limit names is free."""
    ranges = ranges_of(j)
    linear, angular = ranges[:3], ranges[3:]
    limits = []
    soft = {}
    if j.limit_frequency > 0.0:
        # of a unit mass: what it is tuned for is not known to the file
        turn = 2.0 * math.pi * j.limit_frequency
        soft = {"stiffness": turn**2, "damping": 2.0 * j.limit_ratio * turn}
    for kind, ranges in (("linearAxes", linear), ("angularAxes", angular)):
        locked = [k for k, r in enumerate(ranges) if r == (0.0, 0.0)]
        if locked:
            limits.append({kind: locked, "min": 0.0, "max": 0.0})
        limits += [
            {kind: [k], "min": r[0], "max": r[1]} | soft
            for k, r in enumerate(ranges)
            if r is not None and r != (0.0, 0.0)
        ]
    drives = [
        {
            "type": "linear" if d.axis < 3 else "angular", "mode": "acceleration", "axis": d.axis % 3, "positionTarget": 0.0, "velocityTarget": 0.0,
            "stiffness": d.stiffness, "damping": d.damping,
        }
        for d in drives_of(j)
    ]  # fmt: skip
    return {"limits": limits} | ({"drives": drives} if drives else {})


class Read:
    """Takes bodies and joints from the nodes of a file; ``notes``: what the user should know."""

    def __init__(self, nodes: list[Part], root: Part, notes: list[str]):
        self.nodes, self.notes = nodes, notes
        extensions = root.part("extensions")
        self.shapes = extensions.part(SHAPES).parts("shapes")
        self.materials = extensions.part(BODIES).parts("physicsMaterials")
        self.joints = extensions.part(BODIES).parts("physicsJoints")

    def of(self, node: int) -> Part:
        """What the extension says of a node; empty if nothing."""
        return self.nodes[node].part("extensions").part(BODIES)

    def helpers(self) -> set[int]:
        """Nodes that only place a shape or a joint."""
        found = {i for i, n in enumerate(self.nodes) if n.part("extras").part(OURS).value.get(HELPER) is True}
        named = {
            self.of(i).part("joint").index("connectedNode", self.nodes, "nodes")
            for i in range(len(self.nodes))
            if "joint" in self.of(i)
        }
        for i, n in enumerate(self.nodes):
            mine = self.of(i)
            bare = "mesh" not in n and "skin" not in n and not n.value.get("children")
            if bare and "motion" not in mine and ("collider" in mine or "joint" in mine or i in named):
                found.add(i)
        return found

    def setup(self, figure: Figure, bone_of: dict[int, int], parent: dict[int, int], unit: float, hull: Any) -> Figure:
        """The figure with the file's bodies and joints; bone_of: bones by node; hull(mesh): the points of a mesh (N, 3)."""
        bodies, of_node = [], {}
        names = Names()
        for i in sorted(bone_of):
            if "motion" not in self.of(i):
                continue
            bone = figure.bones[bone_of[i]].name
            own = self.nodes[i].part("extras").part(OURS).value.get("body")
            body = self._ours(Body, own, i) if isinstance(own, dict) else None
            if body is None or body.bone != bone:
                body = self._body(i, bone, names.fresh(bone), parent, unit, hull)
            of_node[i] = body.id
            bodies.append(body)
        joints: list[Joint] = []
        loops: list[Joint] = []
        taken: set[str] = set()
        for i in range(len(self.nodes)):
            if "joint" not in self.of(i):
                continue
            said = self.of(i).part("joint")
            there = said.index("connectedNode", self.nodes, "nodes")
            child, other = self._carrier(i, of_node, parent), self._carrier(there, of_node, parent)
            closes = self.nodes[i].part("extras").part(OURS).value.get("loop")
            ring = self._ours(Joint, with_force(closes), i) if isinstance(closes, dict) else None
            if ring is not None and (ring.child, ring.parent) == (child, other):
                loops.append(ring)
                continue
            if child is None or other is None or child == other or child in taken:
                self.notes.append(f"{said.where} joins nothing that can be joined; it is left out.")
                continue
            own = self.nodes[i].part("extras").part(OURS).value.get("joint")
            joint = self._ours(Joint, with_force(own), i) if isinstance(own, dict) else None
            if joint is None or joint.child != child or joint.parent != other:
                joint = self._joint(said, child, other, i, there, parent, of_node, unit)
            taken.add(child)
            joints.append(joint)
        try:
            return figure.changed(bodies=tuple(bodies), joints=tuple(joints), loops=tuple(loops))
        except (ValidationError, ValueError) as error:
            self.notes.append(f"The file's bodies and joints cannot be used ({why_not(error)}); they are left out.")
            return figure

    def _ours(self, kind: Any, value: dict[str, Any], node: int) -> Any:
        try:
            return kind.model_validate(value)
        except ValidationError as error:
            self.notes.append(f"nodes[{node}] has values of ours that cannot be used ({why_not(error)}).")
            return None

    def _carrier(self, node: int, of_node: dict[int, str], parent: dict[int, int]) -> str | None:
        """The body that a node belongs to."""
        at: int | None = node
        while at is not None and at not in of_node:
            at = parent.get(at)
        return of_node[at] if at is not None else None

    def _place(self, node: int, top: int, parent: dict[int, int]) -> tuple[Array, Array]:
        """Where a node is in the frame of one above it."""
        p, q = np.zeros(3), rotation.IDENTITY.copy()
        while node != top:
            n = self.nodes[node]
            t, r = (
                n.floats("translation", 3, (0.0, 0.0, 0.0)),
                rotation.normalize(n.floats("rotation", 4, (0.0, 0.0, 0.0, 1.0))),
            )
            p, q = transforms.rigid_multiply(t, r, p, q)
            node = parent[node]
        return p, rotation.normalize(q)

    def _body(self, node: int, bone: str, name: str, parent: dict[int, int], unit: float, hull: Any) -> Body:
        motion = self.of(node).part("motion")
        shapes, surface = [], None
        for i in range(len(self.nodes)):
            if "collider" not in self.of(i) or self._motion_above(i, parent) != node:
                continue
            collider = self.of(i).part("collider")
            shape = self._shape(collider.part("geometry"), *self._place(i, node, parent), unit, hull)
            if shape is None:
                self.notes.append(f"{collider.where} is of a kind that is not read; it is left out.")
                continue
            shapes.append(shape)
            if "physicsMaterial" in collider:
                surface = self.materials[collider.index("physicsMaterial", self.materials, "physicsMaterials")]
        mass = _number(motion, "mass")
        values: dict[str, Any] = {"id": name, "bone": bone, "shapes": tuple(shapes)}
        if mass is not None and mass > 0.0:
            values["mass"] = mass
        if surface is not None:
            values["friction"] = max(_number(surface, "dynamicFriction") or 0.0, 0.0)
            values["restitution"] = min(max(_number(surface, "restitution") or 0.0, 0.0), 1.0)
        return Body(**values)

    def _motion_above(self, node: int, parent: dict[int, int]) -> int | None:
        at: int | None = node
        while at is not None and "motion" not in self.of(at):
            at = parent.get(at)
        return at

    def _shape(self, geometry: Part, p: Array, q: Array, unit: float, hull: Any) -> Shape | None:
        place: dict[str, Any] = {"position": tuple(unit * p), "rotation": tuple(q)}
        if "shape" not in geometry:
            points = hull(geometry) if "mesh" in geometry else None
            if points is None or not 4 <= len(points) <= MOST_HULL:
                return None
            return Shape(kind="hull", points=tuple(map(tuple, (unit * points).tolist())), **place)
        shape = self.shapes[geometry.index("shape", self.shapes, "shapes")]
        kind = shape.text("type")
        words = shape.part(kind) if kind in ("sphere", "box", "capsule", "cylinder") else None
        if words is None:
            return None
        if kind == "sphere":
            radius = _number(words, "radius") or 0.5
            return Shape(kind="sphere", radius=unit * radius, **place) if radius > 0.0 else None
        if kind == "box":
            half = 0.5 * unit * words.floats("size", 3, (1.0, 1.0, 1.0))
            return Shape(kind="box", half=tuple(half), **place) if half.min() > 0.0 else None
        radius = max(_number(words, "radiusBottom") or 0.0, _number(words, "radiusTop") or 0.0)
        height = _number(words, "height") or 0.0
        if radius <= 0.0 or height < 0.0:
            return None
        if kind == "cylinder":
            self.notes.append(f"{words.where} is read as a capsule of the same size.")
            height = max(height - 2.0 * radius, 0.0)
        place["rotation"] = tuple(rotation.normalize(rotation.multiply(q, rotation.conjugate(UPRIGHT))))
        return Shape(kind="capsule", radius=unit * radius, half_length=0.5 * unit * height, **place)

    def _joint(
        self,
        said: Part,
        child: str,
        other: str,
        here: int,
        there: int,
        parent: dict[int, int],
        of_node: dict[int, str],
        unit: float,
    ) -> Joint:
        node_of = {b: n for n, b in of_node.items()}
        point, frame = self._place(here, node_of[child], parent)
        seat = self._place(there, node_of[other], parent)[1]
        ranges: list[tuple[float, float] | None] = [None] * 6
        for limit in self.joints[said.index("joint", self.joints, "physicsJoints")].parts("limits"):
            low, high = _number(limit, "min"), _number(limit, "max")
            for key, offset in (("linearAxes", 0), ("angularAxes", 3)):
                for axis in limit.indices(key, [0, 0, 0], "axes") if key in limit else ():
                    span = (-math.inf if low is None else low, math.inf if high is None else high)
                    whole = offset == 3 and span[1] - span[0] >= 2.0 * HALF_TURN - 1e-6
                    ranges[offset + axis] = (
                        None if whole or not all(map(math.isfinite, span)) or span[0] > span[1] else span
                    )
        common: dict[str, Any] = {
            "id": child, "parent": other, "child": child, "frame": tuple(frame), "parent_frame": tuple(seat), "damping": 0.0
        }  # fmt: skip
        if np.linalg.norm(point) > NEARLY:
            common["point"] = tuple(unit * point)
        drives = []
        for d in self.joints[said.index("joint", self.joints, "physicsJoints")].parts("drives"):
            stiffness, axis = _number(d, "stiffness") or 0.0, int(_number(d, "axis") or 0)
            if d.value.get("mode") == "acceleration" and stiffness > 0.0 and 0 <= axis < 3:
                drives.append(
                    Drive(
                        axis + 3 * (d.value.get("type") == "angular"), stiffness, max(_number(d, "damping") or 0.0, 0.0)
                    )
                )
            elif stiffness > 0.0:
                self.notes.append(f"{d.where} is a drive of a force, which is not read.")
        return joint_of(ranges, drives, common)


def _number(part: Part, key: str) -> float | None:
    """A finite number of a part, None if it has none. Raises for what is no number."""
    if key not in part:
        return None
    value = part.value[key]
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not abs(value) < 1e12:
        raise part.fail(f"has a {key} that is no number")
    return float(value)
