"""Keyed motion: the curves of the bones of a figure."""

import json
from collections.abc import Collection
from dataclasses import dataclass
from functools import cached_property
from typing import Literal, get_args

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry.curve import Channel, Interpolation, sample_together
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import Pose, Skeleton
from artuline.core.scene.arrays import Checked
from artuline.core.scene.assets import Arrays

Path = Literal["translation", "rotation", "scale"]


@dataclass(frozen=True, eq=False)
class Clip:
    """Curves for some bones."""

    channels: tuple[Channel, ...]

    def sample(self, skeleton: Skeleton, times: Array) -> Pose:
        """Local transforms at times (F,) seconds; bones without curves keep their rest pose."""
        times = np.atleast_1d(np.asarray(times, float))
        pose = skeleton.rest_over(len(times))
        self.apply(skeleton, times, pose)
        return pose

    def apply(self, skeleton: Skeleton, times: Array, pose: Pose) -> None:
        """Write the curves' values over a pose with a leading frame axis."""
        index = {n: i for i, n in enumerate(skeleton.names)}
        for bones, path, interpolation, keys, values, holds in self._bundles:
            getattr(pose, path)[:, [index[b] for b in bones]] = sample_together(
                path, interpolation, keys, values, times, holds
            )

    @cached_property
    def _bundles(self) -> list[tuple[list[str], str, Interpolation, Array, Array, np.ndarray | None]]:
        """Curves of one kind with the same keys, side by side: bones, path, interpolation, keys, values, and which keys hold."""
        found: dict[tuple[str, Interpolation, bytes], list[Channel]] = {}
        for c in self.channels:
            held = b"" if c.holds is None else c.holds.tobytes()
            found.setdefault((c.path, c.interpolation, np.asarray(c.times, float).tobytes() + held), []).append(c)
        return [
            (
                [c.bone for c in same],
                path,
                how,
                same[0].times,
                np.stack([c.values for c in same], axis=-2),
                same[0].holds,
            )
            for (path, how, _), same in found.items()
        ]

    def key_times(self) -> Array:
        """All distinct key times, seconds."""
        return np.unique(np.concatenate([c.times for c in self.channels])) if self.channels else np.zeros(0)

    def to_arrays(self) -> dict[str, np.ndarray]:
        """As named arrays for the asset store."""
        table = [[c.bone, c.path, c.interpolation] for c in self.channels]
        arrays: dict[str, np.ndarray] = {"channels": np.frombuffer(json.dumps(table).encode(), np.uint8)}
        for i, c in enumerate(self.channels):
            arrays[f"{i}.times"] = np.asarray(c.times, np.float64)
            arrays[f"{i}.values"] = np.asarray(c.values, np.float64)
            if c.holds is not None:
                arrays[f"{i}.holds"] = np.asarray(c.holds, np.uint8)
        return arrays

    @staticmethod
    def check(arrays: Arrays, bones: Collection[str], what: str) -> None:
        """Raises ArtulineError unless arrays make a clip that moves these bones."""
        c = Checked(arrays, what)
        try:
            table = json.loads(bytes(c.take("channels", (None,), "i", low=0, high=255).astype(np.uint8)))
        except (ValueError, RecursionError) as error:
            raise c.fail("its table of channels cannot be read") from error
        if not isinstance(table, list) or not all(
            isinstance(row, list) and len(row) == 3 and all(isinstance(x, str) for x in row) for row in table
        ):
            raise c.fail("its table of channels is not one")
        for i, (bone, path, interpolation) in enumerate(table):
            if bone not in bones:
                raise c.fail(f"it moves the bone {bone!r}, which does not exist")
            if path not in get_args(Path) or interpolation not in get_args(Interpolation):
                raise c.fail(f"channel {i} has an unknown kind")
            times = c.take(f"{i}.times", (None,))
            width = 4 if path == "rotation" else 3
            shape: tuple[int, ...] = (len(times), 3, width) if interpolation == "CUBICSPLINE" else (len(times), width)
            values = c.take(f"{i}.values", shape)
            if not len(times) or (np.diff(times) <= 0.0).any():
                raise c.fail(f"the key times of channel {i} do not run forward")
            if f"{i}.holds" in arrays:
                c.take(f"{i}.holds", (len(times),), "i", low=0, high=1)
            at_keys = values[:, 1] if values.ndim == 3 else values
            if path == "rotation" and (np.linalg.norm(at_keys, axis=1) < 1e-9).any():
                raise c.fail(f"channel {i} has a rotation of no length")

    @staticmethod
    def from_arrays(arrays: Arrays) -> "Clip":
        """The inverse of ``to_arrays``. Raises ArtulineError."""
        try:
            table = json.loads(bytes(arrays["channels"]))
            channels = []
            for i, (bone, path, interpolation) in enumerate(table):
                holds = np.asarray(arrays[f"{i}.holds"], bool) if f"{i}.holds" in arrays else None
                channels.append(Channel(bone, path, interpolation, arrays[f"{i}.times"], arrays[f"{i}.values"], holds))
            return Clip(tuple(channels))
        except (KeyError, ValueError, TypeError) as error:
            raise ArtulineError("a clip's data is damaged") from error
