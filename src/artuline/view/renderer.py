"""Draws a draw list into an image, with OpenGL 3.3 and no window."""

from pathlib import Path

import moderngl
import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.polyhedron import hull_of
from artuline.core.geometry.rotation import Array
from artuline.core.scene.coarse import coarser
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Shape
from artuline.view.camera import Camera
from artuline.view.drawlist import DrawList, SkinPicture, Solid
from artuline.view.palette import DAY, Palette, rgb

LIGHT = np.array([0.42, 0.86, 0.38]) / np.linalg.norm([0.42, 0.86, 0.38])
# a figure that is seen lower than so many pixels (negative, so that they rise) is drawn with cells of a share of its size
PIXELS, CELLS = (-150.0, -70.0), (1.0 / 90.0, 1.0 / 42.0)
LEAST_TRIANGLES = 4000  # below which nothing is saved
MOST_MESHES = 160  # that are kept ready to be drawn
HEAVY = 30_000  # triangles
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
        #: How coarse each skin of the picture is drawn.
        self._far: dict[int, int] = {}
        #: Whether pictures come too slowly for what moves: then without outlines.
        self.hurried = False
        self._meshes: dict[str, tuple[moderngl.VertexArray, int]] = {}
        self._splits: list[tuple[np.ndarray, np.ndarray, int, tuple[np.ndarray, np.ndarray]]] = []
        self._round = self._upload(_capsule_mesh())
        self._cube = self._upload(_cube_mesh())
        self._targets: dict[tuple[int, int], tuple[moderngl.Framebuffer, moderngl.Framebuffer]] = {}

    @property
    def software(self) -> bool:
        """Whether the drawing is done by the processor."""
        name = str(self.ctx.info["GL_RENDERER"]).lower()
        return "llvmpipe" in name or "softpipe" in name

    def release(self) -> None:
        """Give the context back."""
        self.ctx.release()

    def _program(self, vertex: str, fragment: str) -> moderngl.Program:
        return self.ctx.program((_SHADERS / vertex).read_text(), (_SHADERS / fragment).read_text())

    def _upload(self, mesh: tuple[np.ndarray, np.ndarray]) -> tuple[moderngl.Buffer, moderngl.Buffer]:
        return self.ctx.buffer(mesh[0].astype("f4").tobytes()), self.ctx.buffer(mesh[1].astype("i4").tobytes())

    def _target(self, width: int, height: int) -> tuple[moderngl.Framebuffer, moderngl.Framebuffer]:
        size = (width, height)
        if size not in self._targets:
            for old in self._targets.values():
                for f in old:
                    f.release()
            self._targets.clear()
            color = self.ctx.texture(size, 4)
            main = self.ctx.framebuffer([color], self.ctx.depth_renderbuffer(size))
            half = (max(width // 2, 1), max(height // 2, 1))
            shadow = self.ctx.framebuffer([self.ctx.texture(half, 1)])
            self._targets[size] = main, shadow
        return self._targets[size]

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
            "u_ink": rgb(self.palette.ink if self.palette.name == "day" else "#0E1418"),
            "u_pixel": (2.0 / width, 2.0 / height),
            "u_ground": scene.ground if scene.ground is not None else 0.0,
        }
        for program in (self._skin, self._solid, self._ground, self._line):
            _set(program, shared)
        self._far = {id(s): _level(s, camera, height) for s in scene.skins}
        if scene.ground is not None:
            self._draw_shadow(scene, shadow)
        main.use()
        self.ctx.viewport = (0, 0, width, height)
        main.clear(depth=1.0)
        if not bare:
            self._draw_back(scene, camera, shadow, width, height)
        self.ctx.enable_only(moderngl.DEPTH_TEST | moderngl.CULL_FACE)
        self.ctx.depth_func = "<"
        opaque = [s for s in scene.skins if s.flat is None and s.alpha >= 1.0]
        for skin in opaque:
            self._draw_skin(skin, flatten=0.0, mask=0.0)
        self._draw_solids([s for s in scene.solids if not s.glass], glass=False)
        if opaque and not self.hurried:
            self.ctx.cull_face = "front"
            for skin in opaque:
                if not self._heavy(skin):
                    self._draw_skin(skin, flatten=0.0, mask=0.0, outline=1.1)
            self.ctx.cull_face = "back"
        self.ctx.enable(moderngl.BLEND)
        glasses = [s for s in scene.solids if s.glass]
        seen_through = any(s.alpha < 1.0 for s in scene.skins)
        if seen_through:
            # shapes inside a see-through skin come first, or its depth would hide them
            self._draw_solids(glasses, glass=True)
        for skin in scene.skins:
            if skin not in opaque:
                if skin.flat is not None:
                    # an echo lies behind what stands in the same place
                    self.ctx.polygon_offset = 2.0, 4.0
                main.color_mask = (False, False, False, False)
                self._draw_skin(skin, flatten=0.0, mask=0.0)
                main.color_mask = (True, True, True, True)
                self.ctx.depth_func = "<="
                self._draw_skin(skin, flatten=0.0, mask=0.0)
                self.ctx.depth_func = "<"
                self.ctx.polygon_offset = 0.0, 0.0
        self._draw_lines(scene, over=False)
        if not seen_through:
            self._draw_solids(glasses, glass=True)
        self.ctx.disable(moderngl.DEPTH_TEST)
        self._draw_lines(scene, over=True)
        data = np.frombuffer(main.read(components=4), np.uint8).reshape(height, width, 4)
        return data[::-1].copy()

    def _heavy(self, skin: SkinPicture) -> bool:
        """Whether a skin whose weights are painted is drawn without its outline and shadow, so that the processor keeps pace."""
        return skin.levels > 0.0 and self.software and len(skin.mesh.triangles) > HEAVY

    def _draw_shadow(self, scene: DrawList, shadow: moderngl.Framebuffer) -> None:
        shadow.use()
        self.ctx.viewport = (0, 0, *shadow.size)
        shadow.clear(0.0, 0.0, 0.0, 0.0)
        self.ctx.enable_only(moderngl.NOTHING)
        for skin in scene.skins:
            if skin.flat is None and not self._heavy(skin):
                self._draw_skin(skin, flatten=1.0, mask=1.0)
        self._draw_solids([s for s in scene.solids if not s.glass], glass=False, flatten=1.0)

    def _draw_back(self, scene: DrawList, camera: Camera, shadow: moderngl.Framebuffer, w: int, h: int) -> None:
        p = self.palette
        self.ctx.enable_only(moderngl.NOTHING)
        _set(self._sky, {"u_top": rgb(p.stage_top), "u_bottom": rgb(p.stage_bottom)})
        self._sky_vao.render(moderngl.TRIANGLE_STRIP)
        if scene.ground is None:
            return
        self.ctx.enable_only(moderngl.BLEND)
        shadow.color_attachments[0].use(0)  # type: ignore[union-attr]
        _set(
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

    # figures

    def _mesh(self, skin: SkinPicture) -> moderngl.VertexArray:
        level = self._far.get(id(skin), 0)
        key = f"{skin.key} {level}"
        if key not in self._meshes:
            if len(self._meshes) > MOST_MESHES:
                self._meshes.clear()
            mesh = skin.mesh if level == 0 else coarser(skin.mesh, CELLS[level - 1])
            vertices, indices = _skin_vertices(mesh, skin.colors, self._split(mesh, len(skin.colors)))
            vbo = self.ctx.buffer(vertices.astype("f4").tobytes())
            ibo = self.ctx.buffer(indices.astype("i4").tobytes())
            names = ("in_position", "in_normal", "in_color", "in_slots", "in_weights")
            vao = self.ctx.vertex_array(self._skin, [(vbo, "3f 3f 3f 4f 4f", *names)], ibo)
            self._meshes[key] = (vao, len(indices))
        return self._meshes[key][0]

    def _split(self, mesh: Mesh, materials: int) -> tuple[np.ndarray, np.ndarray]:
        """Vertices by material and the index of every corner; kept while only weights change."""
        for triangles, material, count, found in self._splits:
            if (
                count == materials
                and np.array_equal(triangles, mesh.triangles)
                and np.array_equal(material, mesh.material)
            ):
                return found
        found = np.unique(mesh.triangles.astype(np.int64) * materials + mesh.material[:, None], return_inverse=True)
        self._splits = [(mesh.triangles, mesh.material, materials, found), *self._splits[:3]]
        return found

    def _draw_skin(self, skin: SkinPicture, *, flatten: float, mask: float, outline: float = 0.0) -> None:
        mesh = skin.mesh
        rows = np.concatenate([mesh.palette(skin.matrices)[:, :3, :], skin.tint[mesh.palette_bone][:, None, :]], axis=1)
        texture = self.ctx.texture((4 * len(rows), 1), 4, rows.astype("f4").tobytes(), dtype="f4")
        texture.filter = (moderngl.NEAREST, moderngl.NEAREST)
        texture.use(1)
        ink = rgb(self.palette.ink if self.palette.name == "day" else "#0E1418")
        flat = (*ink, 1.0) if outline else (skin.flat or (0.0, 0.0, 0.0, 0.0))
        _set(
            self._skin,
            {
                "u_palette": 1,
                "u_extrude": outline,
                "u_flatten": flatten,
                "u_mask": mask,
                "u_levels": 0.0 if outline else skin.levels,
                "u_flat": flat if not mask else (0.0, 0.0, 0.0, 0.0),
                "u_alpha": skin.alpha,
            },
        )
        # a skin in the mirror has its triangles the other way round
        self.ctx.front_face = "cw" if np.linalg.det(skin.matrices[0, :3, :3]) < 0.0 else "ccw"
        self._mesh(skin).render()
        self.ctx.front_face = "ccw"
        texture.release()

    def _draw_solids(self, solids: list[Solid], *, glass: bool, flatten: float = 0.0) -> None:
        _set(self._solid, {"u_glass": float(glass), "u_flatten": flatten, "u_mask": flatten})
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
        rows = np.concatenate(
            [np.column_stack([s.reshape(-1, 6), np.tile([*c, w], (len(s), 1))]) for s, c, w in chosen]
        )
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


def _level(skin: SkinPicture, camera: Camera, height: int) -> int:
    """How coarse a skin may be, 0: not at all, by how many pixels high it is seen."""
    if skin.levels > 0.0 or len(skin.mesh.triangles) < LEAST_TRIANGLES:
        return 0
    places = skin.matrices[:, :3, 3]
    size, middle = float(np.ptp(places, axis=0).max()), places.mean(axis=0)
    away = max(float(np.linalg.norm(camera.eye() - middle)), 1e-6)
    pixels = size / (2.0 * away * np.tan(0.5 * camera.fov)) * height
    return int(np.searchsorted(np.array(PIXELS), -pixels))


def _set(program: moderngl.Program, values: dict[str, object]) -> None:
    for name, value in values.items():
        if name in program:
            uniform = program[name]
            if isinstance(value, bytes):
                uniform.write(value)  # type: ignore[union-attr]
            else:
                uniform.value = value  # type: ignore[union-attr]


def _skin_vertices(mesh: Mesh, colors: Array, split: tuple[np.ndarray, np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
    """Vertices split by material, with the four strongest weights; and the index of every corner."""
    pairs, indices = split
    v, m = pairs // len(colors), pairs % len(colors)
    slots, weights = mesh.slots[v], mesh.weights[v]
    order = np.argsort(-weights, axis=1)[:, :4]
    slots, weights = np.take_along_axis(slots, order, 1), np.take_along_axis(weights, order, 1)
    slots = np.pad(slots, ((0, 0), (0, 4 - slots.shape[1])))
    weights = np.pad(weights, ((0, 0), (0, 4 - weights.shape[1])))
    weights = weights / weights.sum(axis=1, keepdims=True)
    return np.column_stack([mesh.positions[v], mesh.normals[v], colors[m], slots, weights]), indices.reshape(-1)


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
