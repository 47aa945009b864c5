"""A recorded simulation: what was shown on every frame, and what to know about it."""

import json
from dataclasses import dataclass

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import Pose
from artuline.core.scene.assets import Arrays


@dataclass(frozen=True, eq=False)
class Take:
    """F frames of n bodies (figures' first, then obstacles) and m joints.

    frames (F,); position (F, n, 3), rotation (F, n, 4) of the bodies' frames; handover (F, n); contact (F, n)
    normal impulse in N s; touch (F, n, 3) place of the hardest contact, where there is one; penetration (F, n) m; separation (F, m) m; excess (F, m) radians beyond a limit; used (F, m) share of the limits in use;
    kinetic (F, n) energy in J.
    poses: by figure id, the shown local pose (F, B). names, joint_names: of bodies and joints.
    substeps: asked for and done, after halving.
    """

    frames: np.ndarray
    position: Array
    rotation: Array
    handover: Array
    contact: Array
    touch: Array
    penetration: Array
    separation: Array
    excess: Array
    used: Array
    kinetic: Array
    poses: dict[str, Pose]
    names: tuple[str, ...]
    joint_names: tuple[str, ...]
    substeps: tuple[int, int]

    def row(self, frame: float) -> int:
        """The row of the nearest recorded frame."""
        return int(np.clip(round(frame - float(self.frames[0])), 0, len(self.frames) - 1))

    def to_arrays(self) -> dict[str, np.ndarray]:
        """As named arrays for the asset store."""
        about = {
            "figures": list(self.poses),
            "names": self.names,
            "joints": self.joint_names,
            "substeps": self.substeps,
        }
        arrays: dict[str, np.ndarray] = {"about": np.frombuffer(json.dumps(about).encode(), np.uint8)}
        for name in _PLAIN:
            arrays[name] = getattr(self, name)
        for i, pose in enumerate(self.poses.values()):
            for part in ("translation", "rotation", "scale"):
                arrays[f"pose.{i}.{part}"] = getattr(pose, part)
        return arrays

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
                poses=poses,
                names=tuple(about["names"]),
                joint_names=tuple(about["joints"]),
                substeps=tuple(about["substeps"]),
            )
        except (KeyError, ValueError) as error:
            raise ArtulineError(f"a take's data is damaged ({error})") from error


_PLAIN = (
    "frames",
    "position",
    "rotation",
    "handover",
    "contact",
    "touch",
    "penetration",
    "separation",
    "excess",
    "used",
    "kinetic",
)
