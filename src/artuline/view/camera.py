"""An orbiting camera: where it looks, its matrices, and rays through pixels."""

from dataclasses import dataclass, replace

import numpy as np

from artuline.core.geometry.rotation import Array

NEAR, FAR = 0.02, 400.0
UP = np.array([0.0, 1.0, 0.0])


@dataclass(frozen=True)
class Camera:
    """Looks at ``target`` (m) from ``distance`` (m); yaw and pitch in radians, vertical field of view."""

    target: tuple[float, float, float] = (0.0, 0.9, 0.0)
    yaw: float = 0.65
    pitch: float = 0.22
    distance: float = 4.2
    fov: float = 0.60

    def direction(self) -> Array:
        """Unit vector from the target to the eye."""
        c = np.cos(self.pitch)
        return np.array([c * np.sin(self.yaw), np.sin(self.pitch), c * np.cos(self.yaw)])

    def eye(self) -> Array:
        """Where the camera is."""
        return np.array(self.target) + self.distance * self.direction()

    def moved(self, way: Array) -> "Camera":
        """The same view from another place: moved by (3,), m."""
        x, y, z = (float(a + b) for a, b in zip(self.target, way))
        return replace(self, target=(x, y, z))

    def axes(self) -> tuple[Array, Array, Array]:
        """Right, up and backward unit vectors."""
        back = self.direction()
        right = np.cross(UP, back)
        right /= np.linalg.norm(right)
        return right, np.cross(back, right), back

    def view(self) -> Array:
        """World to camera, 4x4."""
        m = np.eye(4)
        m[:3, :3] = np.stack(self.axes())
        m[:3, 3] = -m[:3, :3] @ self.eye()
        return m

    def projection(self, aspect: float) -> Array:
        """Camera to clip space, 4x4."""
        f = 1.0 / np.tan(0.5 * self.fov)
        m = np.zeros((4, 4))
        m[0, 0], m[1, 1] = f / aspect, f
        m[2, 2] = (FAR + NEAR) / (NEAR - FAR)
        m[2, 3] = 2.0 * FAR * NEAR / (NEAR - FAR)
        m[3, 2] = -1.0
        return m

    def project(self, points: Array, width: float, height: float) -> Array:
        """World points (N, 3) -> pixels and depth (N, 3); depth is negative behind the eye."""
        m = self.projection(width / height) @ self.view()
        h = np.concatenate([points, np.ones((len(points), 1))], axis=1) @ m.T
        w = np.where(np.abs(h[:, 3:]) < 1e-9, 1e-9, h[:, 3:])
        ndc = h[:, :2] / w
        return np.column_stack([(ndc[:, 0] + 1) * 0.5 * width, (1 - ndc[:, 1]) * 0.5 * height, h[:, 3]])

    def ray(self, x: float, y: float, width: float, height: float) -> tuple[Array, Array]:
        """Origin and unit direction of the ray through a pixel."""
        t = np.tan(0.5 * self.fov)
        right, up, back = self.axes()
        d = right * ((2 * x / width - 1) * t * width / height) + up * ((1 - 2 * y / height) * t) - back
        return self.eye(), d / np.linalg.norm(d)

    def orbited(self, dx: float, dy: float) -> "Camera":
        """Turned by radians; the pitch stops short of the poles."""
        return replace(self, yaw=self.yaw + dx, pitch=float(np.clip(self.pitch + dy, -1.45, 1.5)))

    def panned(self, dx: float, dy: float) -> "Camera":
        """Moved sideways and up by shares of the view's height."""
        right, up, _ = self.axes()
        size = 2.0 * self.distance * np.tan(0.5 * self.fov)
        return replace(self, target=tuple(np.array(self.target) + size * (dx * right + dy * up)))

    def zoomed(self, factor: float) -> "Camera":
        """Nearer (below 1) or farther."""
        return replace(self, distance=float(np.clip(self.distance * factor, 0.1, 200.0)))

    def framed(self, points: Array) -> "Camera":
        """Moved so that points (N, 3) fill the view."""
        lo, hi = points.min(axis=0), points.max(axis=0)
        radius = max(0.5 * float(np.linalg.norm(hi - lo)), 0.1)
        distance = 1.12 * radius / np.sin(0.5 * self.fov)
        return replace(self, target=tuple(0.5 * (lo + hi)), distance=float(distance))
