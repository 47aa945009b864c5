"""Draws skins: those of one mesh in one call, each with its own matrices, tints and colours out of one texture."""

from dataclasses import dataclass

import moderngl
import numpy as np

from artuline.core.geometry.rotation import Array
from artuline.core.scene.coarse import coarser
from artuline.core.scene.mesh import Mesh
from artuline.view.camera import Camera
from artuline.view.drawlist import Rgba, SkinPicture
from artuline.view.palette import rgb
from artuline.view.uniforms import set_values

# a figure that is seen lower than so many pixels (negative, so that they rise) is drawn with cells of a share of its size: about two pixels
PIXELS, CELLS = (-190.0, -130.0, -75.0, -48.0), (1.0 / 90.0, 1.0 / 60.0, 1.0 / 36.0, 1.0 / 24.0)
LEAST_TRIANGLES = 4000  # below which nothing is saved
MOST_MESHES = 160  # that are kept ready to be drawn
HEAVY = 30_000  # triangles
MOST_TOGETHER = 8192  # skins in one call: the rows of a texture


@dataclass(frozen=True, eq=False)
class Batch:
    """Skins that one call draws; ``picture``: the first of them, for what they have in common; ``turned``: seen in a mirror; ``heavy``: drawn without outline and shadow."""

    picture: SkinPicture
    count: int
    vertices: moderngl.VertexArray
    shadow: moderngl.VertexArray
    texture: moderngl.Texture
    materials: int
    turned: bool
    heavy: bool

    @property
    def opaque(self) -> bool:
        """Whether nothing is seen through it."""
        return self.picture.flat is None and self.picture.alpha >= 1.0


class Skins:
    """What was uploaded of meshes, and how they are drawn."""

    def __init__(self, ctx: moderngl.Context, program: moderngl.Program, software: bool):
        self.ctx, self.program, self.software = ctx, program, software
        #: Vertex arrays with their buffers, those that were seen last behind the others.
        self._meshes: dict[tuple[str, int], tuple[moderngl.VertexArray, moderngl.Buffer, moderngl.Buffer]] = {}
        self._splits: list[tuple[np.ndarray, np.ndarray, tuple[np.ndarray, np.ndarray]]] = []

    def batches(self, skins: list[SkinPicture], camera: Camera, height: int) -> list[Batch]:
        """Skins of a picture so many pixels high, brought together; ``release`` takes them."""
        groups: dict[tuple[str, tuple[int, int], bool, float, Rgba | None, float], list[SkinPicture]] = {}
        for s in skins:
            # a skin in the mirror has its triangles the other way round
            turned = bool(np.linalg.det(s.matrices[0, :3, :3]) < 0.0)
            groups.setdefault((s.key, levels(s, camera, height), turned, s.alpha, s.flat, s.levels), []).append(s)
        found = []
        for (_, coarse, turned, *_), same in groups.items():
            for k in range(0, len(same), MOST_TOGETHER):
                found.append(self._batch(same[k : k + MOST_TOGETHER], coarse, turned))
        return found

    def _batch(self, same: list[SkinPicture], coarse: tuple[int, int], turned: bool) -> Batch:
        first = same[0]
        mesh = first.mesh
        matrices = mesh.palette(np.stack([s.matrices for s in same]))[:, :, :3, :]
        tints = np.stack([s.tint for s in same])[:, mesh.palette_bone]
        slots, colors = len(mesh.palette_bone), max(len(s.colors) for s in same)
        rows = np.zeros((len(same), 4 * slots + colors, 4), "f4")
        own = rows[:, : 4 * slots].reshape(len(same), slots, 4, 4)
        own[:, :, :3], own[:, :, 3] = matrices, tints
        for row, s in zip(rows[:, 4 * slots :], same):
            row[: len(s.colors), :3] = s.colors
        texture = self.ctx.texture((rows.shape[1], len(same)), 4, rows.tobytes(), dtype="f4")
        texture.filter = (moderngl.NEAREST, moderngl.NEAREST)
        # whose weights are painted is drawn so that the processor keeps pace
        heavy = first.levels > 0.0 and self.software and len(mesh.triangles) > HEAVY
        seen, shadow = (self._mesh(first.key, mesh, x) for x in coarse)
        return Batch(first, len(same), seen, shadow, texture, 4 * slots, turned, heavy)

    def release(self, batches: list[Batch]) -> None:
        """Give back what a picture needed."""
        for b in batches:
            b.texture.release()
        self.forget(MOST_MESHES)

    def draw(self, batch: Batch, ink: str, *, flatten: float = 0.0, outline: float = 0.0) -> None:
        """Draw into what is in use: as it is seen, ``flatten``ed onto the ground as its shadow, or as its ``outline`` in ink."""
        batch.texture.use(1)
        picture = batch.picture
        flat = (*rgb(ink), 1.0) if outline else (picture.flat or (0.0, 0.0, 0.0, 0.0))
        set_values(
            self.program,
            {
                "u_palette": 1,
                "u_materials": batch.materials,
                "u_extrude": outline,
                "u_flatten": flatten,
                "u_mask": flatten,
                "u_levels": 0.0 if outline else picture.levels,
                "u_flat": flat if not flatten else (0.0, 0.0, 0.0, 0.0),
                "u_alpha": picture.alpha,
            },
        )
        self.ctx.front_face = "cw" if batch.turned else "ccw"
        (batch.shadow if flatten else batch.vertices).render(instances=batch.count)
        self.ctx.front_face = "ccw"

    def _mesh(self, key: str, mesh: Mesh, coarse: int) -> moderngl.VertexArray:
        known = self._meshes.pop((key, coarse), None)
        if known is None:
            made = mesh if coarse == 0 else coarser(mesh, CELLS[coarse - 1])
            vertices, indices = _vertices(made, self._split(made))
            buffers = self.ctx.buffer(vertices.astype("f4").tobytes()), self.ctx.buffer(indices.astype("i4").tobytes())
            names = ("in_position", "in_normal", "in_material", "in_slots", "in_weights")
            content = [(buffers[0], "3f 3f 1f 4f 4f", *names)]
            known = self.ctx.vertex_array(self.program, content, buffers[1]), *buffers
        self._meshes[key, coarse] = known
        return known[0]

    def forget(self, most: int = 0) -> None:
        """Give back all but so many meshes, those that were not seen for longest first."""
        while len(self._meshes) > most:
            for made in self._meshes.pop(next(iter(self._meshes))):
                made.release()
        if not most:
            self._splits = []

    def _split(self, mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
        """Vertices by material and the index of every corner; kept while only weights change."""
        for triangles, material, found in self._splits:
            if np.array_equal(triangles, mesh.triangles) and np.array_equal(material, mesh.material):
                return found
        count = int(mesh.material.max(initial=0)) + 1
        found = np.unique(mesh.triangles.astype(np.int64) * count + mesh.material[:, None], return_inverse=True)
        self._splits = [(mesh.triangles, mesh.material, found), *self._splits[:3]]
        return found


def levels(skin: SkinPicture, camera: Camera, height: int) -> tuple[int, int]:
    """How coarse a skin may be, 0: not at all, by how many pixels high it is seen; and its shadow, whose picture has half of them."""
    if skin.levels > 0.0 or len(skin.mesh.triangles) < LEAST_TRIANGLES:
        return 0, 0
    places = skin.matrices[:, :3, 3]
    size, middle = float(np.ptp(places, axis=0).max()), places.mean(axis=0)
    away = max(float(np.linalg.norm(camera.eye() - middle)), 1e-6)
    pixels = size / (2.0 * away * np.tan(0.5 * camera.fov)) * height
    seen, shadow = np.searchsorted(np.array(PIXELS), [-pixels, -0.5 * pixels])
    return int(seen), int(shadow)


def _vertices(mesh: Mesh, split: tuple[np.ndarray, np.ndarray]) -> tuple[Array, np.ndarray]:
    """Vertices split by material, with the four strongest weights; and the index of every corner."""
    pairs, indices = split
    count = int(mesh.material.max(initial=0)) + 1
    v, m = pairs // count, pairs % count
    slots, weights = mesh.slots[v], mesh.weights[v]
    order = np.argsort(-weights, axis=1)[:, :4]
    slots, weights = np.take_along_axis(slots, order, 1), np.take_along_axis(weights, order, 1)
    slots = np.pad(slots, ((0, 0), (0, 4 - slots.shape[1])))
    weights = np.pad(weights, ((0, 0), (0, 4 - weights.shape[1])))
    weights = weights / weights.sum(axis=1, keepdims=True)
    return np.column_stack([mesh.positions[v], mesh.normals[v], m, slots, weights]), indices.reshape(-1)
