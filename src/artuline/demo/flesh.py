"""Demo scene of flesh and a satchel. Everything in it is made up."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Flesh, Ground, Material, MotionKey, Scene, Shape, Track, obstacle
from artuline.core.setup.added import grown
from artuline.core.setup.springy import kind_of, made_springy
from artuline.demo.figures import ready_figure

SLOPE = np.radians(8.0)  # of the gangway
PACE = 0.62  # of the walk's duration: he runs
FRAMES = 84
BAG = np.array([0.205, 0.93, 0.03])  # the middle of the satchel, m
HALF = np.array([0.055, 0.115, 0.135])  # half of its size
ROUND, TALL = 48, 24  # steps of its surface


def belly(assets: AssetStore) -> Scene:
    """The deckhand runs down the gangway; belly and satchel follow."""
    figure = with_satchel(ready_figure("deckhand", assets), assets)
    clips = tuple(
        c.changed(loop=True, duration=PACE * c.duration, asset=_faster(assets, c.asset, PACE))
        if c.name == "walk"
        else c
        for c in figure.clips
    )
    figure = figure.changed(clips=clips, clip="walk")
    way = np.linspace(0.0, 7.5, 6)
    figure = figure.changed(
        track=Track.of(
            MotionKey(frame=float(FRAMES * k / 5), position=(0.0, 1.3 - float(d) * np.tan(SLOPE), 0.0))
            for k, d in enumerate(way)
        )
    )
    q = tuple(rotation.from_rotation_vector(np.array([SLOPE, 0.0, 0.0])))
    plank = obstacle(
        "gangway", Shape(kind="box", half=(0.55, 0.05, 4.6)),
        (MotionKey(frame=0, position=(0.0, 1.3 - 3.6 * float(np.tan(SLOPE)) - 0.075, 3.6), rotation=q),), color=(0.42, 0.33, 0.22),
    )  # fmt: skip
    scene = Scene(
        name="belly",
        rate=24.0,
        start=0,
        end=FRAMES,
        figures=(figure, plank),
        ground=Ground(),
        warm_up=24,
        warm_up_plays=True,
    )
    return fleshed(scene, assets, figure.id)


def fleshed(scene: Scene, assets: AssetStore, id_: str) -> Scene:
    """The scene with a springy belly and satchel for the deckhand who wears one."""
    at, drop = np.array(scene.figure(id_).position), np.array([0.0, 0.11, 0.0])
    scene = grown(
        scene,
        assets,
        id_,
        "belly",
        at + np.array([0.0, 1.06, 0.06]),
        at + np.array([0.0, 1.04, 0.17]),
        Flesh(end=(0, 0, 0), radius=0.21),
        parent="hips",
    )
    # along the surface: all of the satchel, and nothing of the coat
    scene = grown(
        scene, assets, id_, "satchel", at + BAG + drop, at + BAG - drop,
        Flesh(end=(0, 0, 0), radius=3.0, by="surface", profile="dome"), parent="hips",
    )  # fmt: skip
    scene = made_springy(scene, assets, id_, "belly", kind_of("fat"))
    return made_springy(scene, assets, id_, "satchel", kind_of("leather"))


def _faster(assets: AssetStore, clip: str, share: float) -> str:
    """A clip that takes a share of its time."""
    arrays = dict(assets[clip])
    for name in arrays:
        if name.endswith(".times"):
            arrays[name] = share * arrays[name]
    return assets.add(arrays)


def with_satchel(figure: Figure, assets: AssetStore) -> Figure:
    """The figure with a leather satchel at its left hip: a part of its mesh that nothing joins to the coat, carried by the hips."""
    points, faces = pad(BAG, HALF, 0.32)
    # a flap over its upper half, thicker towards the belt
    points[:, 0] += np.where(
        points[:, 0] > BAG[0], 0.018 * np.clip((points[:, 1] - BAG[1]) / HALF[1] + 0.25, 0.0, 1.0), 0.0
    )
    return worn(figure, assets, points, faces, "hips", Material(name="leather", color=(0.16, 0.075, 0.03)))


def pad(middle: np.ndarray, half: np.ndarray, power: float) -> tuple[np.ndarray, np.ndarray]:
    """A closed surface between a box (power 0) and an ellipsoid (1): vertices (V, 3) and triangles."""
    u, v = np.meshgrid(
        np.linspace(-np.pi, np.pi, ROUND, endpoint=False), np.linspace(-0.5 * np.pi, 0.5 * np.pi, TALL), indexing="ij"
    )

    def raised(x: np.ndarray) -> np.ndarray:
        return np.sign(x) * np.abs(x) ** power

    points = middle + half * np.stack(
        [raised(np.cos(v)) * raised(np.cos(u)), raised(np.sin(v)), raised(np.cos(v)) * raised(np.sin(u))], axis=-1
    )
    i, j = np.meshgrid(np.arange(ROUND), np.arange(TALL - 1), indexing="ij")
    a, b = i * TALL + j, (i + 1) % ROUND * TALL + j
    faces = np.concatenate([np.stack([a, a + 1, b], -1), np.stack([b, a + 1, b + 1], -1)]).reshape(-1, 3)
    return points.reshape(-1, 3), faces


def worn(
    figure: Figure, assets: AssetStore, points: np.ndarray, faces: np.ndarray, bone: str, material: Material
) -> Figure:
    """The figure, as it is at the origin, with one more piece of skin (V, 3), m, that a bone carries."""
    mesh = Mesh.from_arrays(assets[str(figure.asset)])
    entry = int(np.flatnonzero(mesh.palette_bone == figure.bone_index[bone])[0])
    # into the space in which that skin was bound
    back = np.linalg.inv(
        rest_matrices(figure.changed(position=(0.0, 0.0, 0.0), turn=0.0, track=Track()))[figure.bone_index[bone]]
        @ mesh.palette_bind[entry]
    )
    bound = points @ back[:3, :3].T + back[:3, 3]
    normals = np.zeros_like(bound)
    corners = bound[faces]
    n = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    if float(np.sum(n * (corners.mean(axis=1) - bound.mean(axis=0)))) < 0.0:
        faces, n = faces[:, ::-1], -n
    for k in range(3):
        np.add.at(normals, faces[:, k], n)
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
    count, width = len(points), mesh.slots.shape[1]
    slots, weights = np.zeros((count, width), np.int32), np.zeros((count, width), np.float32)
    slots[:, 0], weights[:, 0] = entry, 1.0
    made = Mesh(
        np.concatenate([mesh.positions, bound.astype(np.float32)]), np.concatenate([mesh.normals, normals.astype(np.float32)]),
        np.concatenate([mesh.triangles, (faces + len(mesh.positions)).astype(np.int32)]),
        np.concatenate([mesh.material, np.full(len(faces), len(figure.materials), np.int32)]),
        np.concatenate([mesh.slots, slots]), np.concatenate([mesh.weights, weights]), mesh.palette_bone, mesh.palette_bind, mesh.palette_skin,
    )  # fmt: skip
    return figure.changed(asset=assets.add(made.to_arrays()), materials=(*figure.materials, material))
