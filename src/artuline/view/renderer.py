"""Draws a draw list into an image, with OpenGL 3.3 and no window."""

from pathlib import Path

import moderngl
import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.geometry.rotation import Array
from artuline.core.scene.model import Shape
from artuline.view.camera import Camera
from artuline.view.drawlist import DrawList, Solid
from artuline.view.palette import DAY, Palette, rgb
from artuline.view.skins import Batch, Skins
from artuline.view.uniforms import set_values

LIGHT = np.array([0.42, 0.86, 0.38]) / np.linalg.norm([0.42, 0.86, 0.38])
_SHADERS = Path(__file__).parent / "shaders"


class Renderer:
    """Owns an OpenGL context and what was uploaded to it; ``draw`` returns a picture."""

    def __init__(self, palette: Palette = DAY):
        """Raises ArtulineError if no OpenGL is to be had."""
        try:
            self.ctx = moderngl.create_context(standalone=True, backend="egl", require=330)  # type: ignore[arg-type]
        except Exception as error:  # moderngl raises bare Exception
            raise ArtulineError(
                f"no OpenGL 3.3 is available ({error})", remedy="Install libegl1 and libgl1-mesa-dri."
            ) from error
        self.palette = palette
        ctx = self.ctx
        self._skin = self._program("skin.vert", "surface.frag")
        self._solid = self._program("solid.vert", "solid.frag")
        self._ground = self._program("ground.vert", "ground.frag")
        self._sky = self._program("sky.vert", "sky.frag")
        self._line = self._program("line.vert", "line.frag")
        square = ctx.buffer(np.array([-1, -1, 1, -1, -1, 1, 1, 1], "f4").tobytes())
        self._ground_vao = ctx.vertex_array(self._ground, [(square, "2f", "in_position")])
        self._sky_vao = ctx.vertex_array(self._sky, [(square, "2f", "in_position")])
        self._strip = ctx.buffer(np.array([0, -1, 1, -1, 0, 1, 1, 1], "f4").tobytes())
        self._skins = Skins(ctx, self._skin, self.software)
        #: Whether pictures come too slowly for what moves: then without outlines.
        self.hurried = False
        self._round = self._upload(_capsule_mesh())
        self._cube = self._upload(_cube_mesh())
        self._targets: dict[tuple[int, int], tuple[moderngl.Framebuffer, moderngl.Framebuffer]] = {}

    @property
    def software(self) -> bool:
        """Whether the drawing is done by the processor."""
        name = str(self.ctx.info["GL_RENDERER"]).lower()
        return "llvmpipe" in name or "softpipe" in name

    def release(self) -> None:
        """Give the context back, with all that was made in it."""
        self.forget()
        self.ctx.release()

    def _program(self, vertex: str, fragment: str) -> moderngl.Program:
        return self.ctx.program((_SHADERS / vertex).read_text(), (_SHADERS / fragment).read_text())

    def _upload(self, mesh: tuple[np.ndarray, np.ndarray]) -> tuple[moderngl.Buffer, moderngl.Buffer]:
        return self.ctx.buffer(mesh[0].astype("f4").tobytes()), self.ctx.buffer(mesh[1].astype("i4").tobytes())

    def _target(self, width: int, height: int) -> tuple[moderngl.Framebuffer, moderngl.Framebuffer]:
        size = (width, height)
        if size not in self._targets:
            self._release_targets()
            color = self.ctx.texture(size, 4)
            main = self.ctx.framebuffer([color], self.ctx.depth_renderbuffer(size))
            half = (max(width // 2, 1), max(height // 2, 1))
            shadow = self.ctx.framebuffer([self.ctx.texture(half, 1)])
            self._targets[size] = main, shadow
        return self._targets[size]

    def _release_targets(self) -> None:
        """Give back what pictures of the size before were drawn into: a framebuffer does not take its textures along."""
        for targets in self._targets.values():
            for f in targets:
                for made in (
                    f,
                    *f.color_attachments,
                    *([f.depth_attachment] if f.depth_attachment is not None else []),
                ):
                    made.release()
        self._targets.clear()

    def forget(self) -> None:
        """Give back all that was uploaded of meshes: another document is shown from now on."""
        with self.ctx:
            self._skins.forget()
            self._release_targets()

    def draw(self, scene: DrawList, camera: Camera, width: int, height: int, bare: bool = False) -> np.ndarray:
        """The picture as (height, width, 4) uint8, top row first; ``bare``: without what is behind all, transparent there."""
        with self.ctx:
            return self._draw(scene, camera, width, height, bare)

    def _draw(self, scene: DrawList, camera: Camera, width: int, height: int, bare: bool) -> np.ndarray:
        main, shadow = self._target(width, height)
        vp = camera.projection(width / height) @ camera.view()
        shared = {
            "u_view_projection": vp.T.astype("f4").tobytes(),
            "u_eye": tuple(camera.eye()),
            "u_light": tuple(LIGHT),
            "u_ink": rgb(self._ink),
            "u_pixel": (2.0 / width, 2.0 / height),
            "u_ground": scene.ground if scene.ground is not None else 0.0,
        }
        for program in (self._skin, self._solid, self._ground, self._line):
            set_values(program, shared)
        skins = self._skins.batches(scene.skins, camera, height)
        if scene.ground is not None:
            self._draw_shadow(scene, skins, shadow)
        main.use()
        self.ctx.viewport = (0, 0, width, height)
        main.clear(depth=1.0)
        if not bare:
            self._draw_back(scene, camera, shadow, width, height)
        self._draw_figures(scene, skins, main)
        self._skins.release(skins)
        self.ctx.disable(moderngl.DEPTH_TEST)
        self._draw_lines(scene, over=True)
        data = np.frombuffer(main.read(components=4), np.uint8).reshape(height, width, 4)
        return data[::-1].copy()

    @property
    def _ink(self) -> str:
        return self.palette.ink if self.palette.name == "day" else "#0E1418"

    def _draw_figures(self, scene: DrawList, skins: list[Batch], main: moderngl.Framebuffer) -> None:
        """Skins, shapes and the lines among them: what hides the rest first."""
        self.ctx.enable_only(moderngl.DEPTH_TEST | moderngl.CULL_FACE)
        self.ctx.depth_func = "<"
        opaque = [b for b in skins if b.opaque]
        for batch in opaque:
            self._skins.draw(batch, self._ink)
        self._draw_solids([s for s in scene.solids if not s.glass], glass=False)
        if opaque and not self.hurried:
            self.ctx.cull_face = "front"
            for batch in opaque:
                if not batch.heavy:
                    self._skins.draw(batch, self._ink, outline=1.1)
            self.ctx.cull_face = "back"
        self.ctx.enable(moderngl.BLEND)
        glasses = [s for s in scene.solids if s.glass]
        seen_through = any(s.alpha < 1.0 for s in scene.skins)
        if seen_through:
            # shapes inside a see-through skin come first, or its depth would hide them
            self._draw_solids(glasses, glass=True)
        for batch in skins:
            if not batch.opaque:
                if batch.picture.flat is not None:
                    # an echo lies behind what stands in the same place
                    self.ctx.polygon_offset = 2.0, 4.0
                main.color_mask = (False, False, False, False)
                self._skins.draw(batch, self._ink)
                main.color_mask = (True, True, True, True)
                self.ctx.depth_func = "<="
                self._skins.draw(batch, self._ink)
                self.ctx.depth_func = "<"
                self.ctx.polygon_offset = 0.0, 0.0
        self._draw_lines(scene, over=False)
        if not seen_through:
            self._draw_solids(glasses, glass=True)

    def _draw_shadow(self, scene: DrawList, skins: list[Batch], shadow: moderngl.Framebuffer) -> None:
        shadow.use()
        self.ctx.viewport = (0, 0, *shadow.size)
        shadow.clear(0.0, 0.0, 0.0, 0.0)
        self.ctx.enable_only(moderngl.NOTHING)
        for batch in skins:
            if batch.picture.flat is None and not batch.heavy:
                self._skins.draw(batch, self._ink, flatten=1.0)
        self._draw_solids([s for s in scene.solids if not s.glass], glass=False, flatten=1.0)

    def _draw_back(self, scene: DrawList, camera: Camera, shadow: moderngl.Framebuffer, w: int, h: int) -> None:
        p = self.palette
        self.ctx.enable_only(moderngl.NOTHING)
        set_values(self._sky, {"u_top": rgb(p.stage_top), "u_bottom": rgb(p.stage_bottom)})
        self._sky_vao.render(moderngl.TRIANGLE_STRIP)
        if scene.ground is None:
            return
        self.ctx.enable_only(moderngl.BLEND)
        shadow.color_attachments[0].use(0)  # type: ignore[union-attr]
        set_values(
            self._ground,
            {
                "u_color": rgb(p.ground),
                "u_grid": rgb(p.grid),
                "u_center": camera.target,
                "u_reach": float(np.clip(camera.distance * 4.0, 8.0, 58.0)),
                "u_size": (float(w), float(h)),
                "u_shadow": 0,
                "u_below": 1.0 if camera.eye()[1] > scene.ground else 0.35,
            },
        )
        self._ground_vao.render(moderngl.TRIANGLE_STRIP)

    def _draw_solids(self, solids: list[Solid], *, glass: bool, flatten: float = 0.0) -> None:
        set_values(self._solid, {"u_glass": float(glass), "u_flatten": flatten, "u_mask": flatten})
        for kinds, (vbo, ibo) in ((("capsule", "sphere"), self._round), (("box",), self._cube)):
            mine = [s for s in solids if s.shape.kind in kinds and s.triangles is None]
            if not mine:
                continue
            rows = np.array([np.concatenate([_matrix(s)[:3].ravel(), _size(s.shape), s.color]) for s in mine])
            instances = self.ctx.buffer(rows.astype("f4").tobytes())
            names = ("in_m0", "in_m1", "in_m2", "in_size", "in_color")
            vao = self.ctx.vertex_array(
                self._solid,
                [(vbo, "3f 4f", "in_normal", "in_corner"), (instances, "4f 4f 4f 4f 4f/i", *names)],
                ibo,
            )
            vao.render(instances=len(mine))
            vao.release()
            instances.release()
        for s in solids:
            triangles = _triangles_of(s)
            if triangles is not None:
                self._draw_faceted(s, triangles)

    def _draw_faceted(self, s: Solid, triangles: Array) -> None:
        """A solid of flat triangles (T, 3, 3) in its frame."""
        normals = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
        normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
        corners = triangles.reshape(-1, 3)
        rows = np.column_stack([np.repeat(normals, 3, axis=0), corners, np.ones(len(corners))])
        vertices = self.ctx.buffer(rows.astype("f4").tobytes())
        row = np.concatenate([_matrix(s)[:3].ravel(), np.ones(4), s.color])
        instance = self.ctx.buffer(row.astype("f4").tobytes())
        names = ("in_m0", "in_m1", "in_m2", "in_size", "in_color")
        vao = self.ctx.vertex_array(
            self._solid,
            [(vertices, "3f 4f", "in_normal", "in_corner"), (instance, "4f 4f 4f 4f 4f/i", *names)],
        )
        vao.render(instances=1)
        for made in (vao, vertices, instance):
            made.release()

    def _draw_lines(self, scene: DrawList, *, over: bool) -> None:
        chosen = [(s, c, w) for s, c, w, o in scene.lines if o == over]
        if not chosen:
            return
        counts = [len(s) for s, _, _ in chosen]
        rows = np.empty((sum(counts), 11))
        rows[:, :6] = np.concatenate([s.reshape(-1, 6) for s, _, _ in chosen])
        rows[:, 6:] = np.repeat([[*c, w] for _, c, w in chosen], counts, axis=0)
        instances = self.ctx.buffer(rows.astype("f4").tobytes())
        vao = self.ctx.vertex_array(
            self._line,
            [
                (self._strip, "2f", "in_corner"),
                (instances, "3f 3f 4f 1f/i", "in_a", "in_b", "in_color", "in_width"),
            ],
        )
        self.ctx.disable(moderngl.CULL_FACE)
        vao.render(moderngl.TRIANGLE_STRIP, instances=len(rows))
        self.ctx.enable(moderngl.CULL_FACE)
        vao.release()
        instances.release()


def _matrix(s: Solid) -> Array:
    q = rotation.multiply(s.rotation, np.array(s.shape.rotation))
    p = s.position + rotation.rotate(s.rotation, np.array(s.shape.position))
    return transforms.compose(p, q, np.ones(3))


def _triangles_of(s: Solid) -> Array | None:
    if s.triangles is not None:
        return s.triangles
    if s.shape.kind != "hull":
        return None
    hull = hull_of(s.shape.points)
    return hull.vertices[hull.triangles]


def _size(shape: Shape) -> Array:
    if shape.kind == "box":
        return np.array([*shape.half, 0.0])
    return np.array([shape.radius, shape.half_length if shape.kind == "capsule" else 0.0, 0.0, 0.0])


def _capsule_mesh(rings: int = 12, around: int = 24) -> tuple[np.ndarray, np.ndarray]:
    """A unit sphere about x, split at its equator so that it stretches into a capsule."""
    angles = np.linspace(0.0, np.pi, rings + 1)
    angles = np.sort(np.concatenate([angles, [0.5 * np.pi]]))
    turn = np.linspace(0.0, 2 * np.pi, around + 1)
    a, t = np.meshgrid(angles, turn, indexing="ij")
    normal = np.stack([np.cos(a), np.sin(a) * np.cos(t), np.sin(a) * np.sin(t)], -1)
    side = np.where(np.arange(len(angles)) <= rings // 2, 1.0, -1.0)[:, None] * np.ones_like(a)
    corner = np.stack([side, np.zeros_like(a), np.zeros_like(a), np.zeros_like(a)], -1)
    vertices = np.concatenate([normal, corner], -1).reshape(-1, 7)
    i = np.arange(len(angles) - 1)[:, None] * (around + 1) + np.arange(around)[None]
    quads = np.stack([i, i + around + 1, i + around + 2, i, i + around + 2, i + 1], -1)
    return vertices, quads.reshape(-1)


def _cube_mesh() -> tuple[np.ndarray, np.ndarray]:
    """A cube with corners at +-1 and flat faces."""
    vertices: list[list[float]] = []
    indices: list[int] = []
    for axis in range(3):
        for sign in (1.0, -1.0):
            n = np.zeros(3)
            n[axis] = sign
            u, v = np.eye(3)[(axis + 1) % 3], np.eye(3)[(axis + 2) % 3]
            start = len(vertices)
            for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
                vertices.append([*n, *(n + a * u + b * v), 1.0])
            quad = [0, 1, 2, 0, 2, 3] if sign > 0 else [0, 2, 1, 0, 3, 2]
            indices += [start + k for k in quad]
    return np.array(vertices), np.array(indices)
