"""A recorded simulation: what was shown on every frame, and what to know about it."""

import json
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry.rotation import Array
from artuline.core.motion.places import own_root
from artuline.core.motion.skeleton import Pose
from artuline.core.scene.arrays import Checked
from artuline.core.scene.assets import Arrays
from artuline.core.scene.model import BodyRef, Figure, JointRef

UNKNOWN = -2  # what a body was pressed into, where nothing is known of it


@dataclass(frozen=True, eq=False)
class Take:
    """F frames of n bodies and m joints.

    frames (F,); position (F, n, 3), rotation (F, n, 4) of the bodies' frames; handover (F, n); contact (F, n)
    normal impulse in N s; touch (F, n, 3) place of the hardest contact, where there is one; penetration (F, n) m, and into (F, n) which body, -1 the ground, ``UNKNOWN``
    where nothing was noted; separation (F, m) m; excess (F, m) radians beyond a limit; used (F, m) share of the limits in use;
    kinetic (F, n) energy in J.
    poses: by figure id, the shown local pose (F, B). bodies, joints: which they are (links of the scene and mounts are joints
    too). roots: by figure id, what the poses of a figure that rides on another are under (F, 4, 4).
    substeps: asked for and done, after halving. held: the frames in which the solver stood still for a part of a substep, since
    its joints could not be closed. given: whom rules handed over: figure, frame, rule, and what touched it. cycle: of a closed loop, how many
    rounds there were, and by how many degrees and mm the last two differ.
    """

    frames: np.ndarray
    position: Array
    rotation: Array
    handover: Array
    contact: Array
    touch: Array
    penetration: Array
    into: np.ndarray
    separation: Array
    excess: Array
    used: Array
    kinetic: Array
    poses: dict[str, Pose]
    bodies: tuple[BodyRef, ...]
    joints: tuple[JointRef, ...]
    substeps: tuple[int, int]
    held: tuple[int, ...] = ()
    given: tuple[tuple[str, int, str, str], ...] = ()
    roots: dict[str, Array] = field(default_factory=dict)
    cycle: tuple[int, float, float] | None = None

    def column(self, figure: str | None, body: str) -> int | None:
        """The place of a body among those of the take; None if it is not in it."""
        return self._columns.get(BodyRef(figure, body)) if figure is not None else None

    @cached_property
    def _columns(self) -> dict[BodyRef, int]:
        return {ref: i for i, ref in enumerate(self.bodies)}

    def root(self, figure: Figure, row: int | None = None) -> Array:
        """What a figure's poses are under: matrices (F, 4, 4), or (4, 4) at a row. Its own place, but for what rode on another one."""
        rows = slice(None) if row is None else slice(row, row + 1)
        kept = self.roots.get(figure.id)
        found = kept[rows] if kept is not None else own_root(figure, self.frames[rows].astype(float))
        return found if row is None else found[0]

    def row(self, frame: float) -> int:
        """The row of the nearest recorded frame."""
        return int(np.clip(round(frame - float(self.frames[0])), 0, len(self.frames) - 1))

    def to_arrays(self) -> dict[str, np.ndarray]:
        """As named arrays for the asset store."""
        about = {
            "figures": list(self.poses),
            "bodies": self.bodies,
            "joints": self.joints,
            "substeps": self.substeps,
            "held": self.held,
            "given": self.given,
            "cycle": self.cycle,
        }
        arrays: dict[str, np.ndarray] = {"about": np.frombuffer(json.dumps(about).encode(), np.uint8)}
        for name in (*_PLAIN, "into"):
            arrays[name] = getattr(self, name)
        for i, pose in enumerate(self.poses.values()):
            for part in ("translation", "rotation", "scale"):
                arrays[f"pose.{i}.{part}"] = getattr(pose, part)
        for i, name in enumerate(self.poses):
            if name in self.roots:
                arrays[f"root.{i}"] = self.roots[name]
        return arrays

    @staticmethod
    def check(arrays: Arrays, what: str) -> None:
        """Raises ArtulineError unless arrays make a take."""
        c = Checked(arrays, what)
        try:
            about = json.loads(bytes(c.take("about", (None,), "i", low=0, high=255).astype(np.uint8)))
            figures, bodies, joints = about["figures"], about["bodies"], about["joints"]
            asked, done = about["substeps"]
            good = all(isinstance(x, str) for x in figures) and isinstance(asked, int) and isinstance(done, int)
            good = good and all(isinstance(x, int) for x in about.get("held", ()))
            rounds, *open_ = about.get("cycle") or (1, 0.0, 0.0)
            good = good and isinstance(rounds, int) and rounds > 0 and len(open_) == 2
            good = good and all(isinstance(x, (int, float)) and x >= 0.0 for x in open_)
            for figure, at, rule, by in about.get("given", ()):
                good = good and all(isinstance(x, str) for x in (figure, rule, by)) and isinstance(at, int)
            for figure, name in (*bodies, *joints):
                good = good and (figure is None or isinstance(figure, str)) and isinstance(name, str)
        except (ValueError, KeyError, TypeError, RecursionError) as error:
            raise c.fail("what it says of itself cannot be read") from error
        if not good:
            raise c.fail("what it says of itself is not what a take says")
        c.lengths |= {"n": len(bodies)}
        frames = c.take("frames", ("F",), "i")
        if not len(frames) or (np.diff(frames) != 1).any():
            raise c.fail("its frames do not follow each other")
        for name, shape in _SHAPES.items():
            c.take(name, shape)
        if "into" in arrays:
            c.take("into", ("F", "n"), "i", low=UNKNOWN, high=len(bodies) - 1)
        if len(joints) > arrays["separation"].shape[1]:
            raise c.fail("it names more joints than it holds")
        for i in range(len(figures)):
            c.take(f"pose.{i}.translation", ("F", f"B{i}", 3))
            c.take(f"pose.{i}.rotation", ("F", f"B{i}", 4))
            c.take(f"pose.{i}.scale", ("F", f"B{i}", 3))
            if f"root.{i}" in arrays:
                c.take(f"root.{i}", ("F", 4, 4))

    @staticmethod
    def from_arrays(arrays: Arrays) -> "Take":
        """The inverse of ``to_arrays``."""
        try:
            about = json.loads(bytes(arrays["about"]))
            poses = {
                name: Pose(*(arrays[f"pose.{i}.{part}"] for part in ("translation", "rotation", "scale")))
                for i, name in enumerate(about["figures"])
            }
            return Take(
                **{name: arrays[name] for name in _PLAIN},
                into=arrays["into"] if "into" in arrays else np.full(arrays["penetration"].shape, UNKNOWN, np.int32),
                poses=poses,
                bodies=tuple(BodyRef(*x) for x in about["bodies"]),
                joints=tuple(JointRef(*x) for x in about["joints"]),
                substeps=tuple(about["substeps"]),
                held=tuple(about.get("held", ())),
                given=tuple((str(f), int(at), str(r), str(by)) for f, at, r, by in about.get("given", ())),
                cycle=(int(c[0]), float(c[1]), float(c[2])) if (c := about.get("cycle")) else None,
                roots={n: arrays[f"root.{i}"] for i, n in enumerate(about["figures"]) if f"root.{i}" in arrays},
            )
        except (KeyError, ValueError, TypeError) as error:
            raise ArtulineError("a take's data is damaged") from error


_SHAPES: dict[str, tuple[str | int, ...]] = {
    "position": ("F", "n", 3),
    "rotation": ("F", "n", 4),
    "handover": ("F", "n"),
    "contact": ("F", "n"),
    "touch": ("F", "n", 3),
    "penetration": ("F", "n"),
    "separation": ("F", "m"),
    "excess": ("F", "m"),
    "used": ("F", "m"),
    "kinetic": ("F", "n"),
}
_PLAIN = ("frames", *_SHAPES)
