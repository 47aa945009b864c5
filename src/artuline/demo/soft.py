"""Demo scenes of soft parts: a life vest, and an inflatable fender without a skeleton. Everything in them is made up."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Ground, Material, MotionKey, Push, Scene, Shape, Soft, Track, obstacle
from artuline.core.setup.soft import add_soft, copied_soft, mask
from artuline.core.setup.soft_skin import facing_the_rest, region_piece, skinned
from artuline.core.setup.surfaces import revolved
from artuline.demo.figures import ready_figure
from artuline.demo.flesh import pad, worn
from artuline.demo.things import assembled

CHAMBER, SIZE = np.array([0.088, 1.255, 0.18]), np.array([0.078, 0.15, 0.062])  # of the vest: middle and half of it, m
SEAM = 1.20  # above which they are sewn on, m
ORANGE = Material(name="vest", color=(0.78, 0.19, 0.02))
RUBBER, BAND = (0.72, 0.70, 0.62), (0.05, 0.07, 0.11)
HALF, RADIUS = 0.36, 0.19  # of the fender, without its ends, m


def vest(assets: AssetStore) -> Scene:
    """The deckhand stumbles and falls on his life vest, two soft chambers of which one was made and copied."""
    figure = with_vest(ready_figure("deckhand", assets), assets).changed(clip="crossing")
    scene = Scene(name="vest", rate=24.0, start=0, end=96, figures=(figure,), ground=Ground(), warm_up=12, substeps=16)
    left = region_piece(figure, assets, CHAMBER + np.array([0.0, 0.0, SIZE[2]]))
    root = facing_the_rest(figure, assets, left, 0.03)
    if root is not None:
        # sewn on by its upper half, so that it swings
        root &= skinned(figure, assets).points[:, 1] > SEAM
    soft = Soft(
        id="vest_l", region=mask(assets, left), root=None if root is None else mask(assets, root), bone="chest", count=14, fall=0.1,
        stretch=3.0, ratio=0.1, density=120.0, keeps=0.1, gives=0.35, gravity=0.5,
    )  # fmt: skip
    scene, _ = copied_soft(add_soft(scene, assets, figure.id, soft), assets, figure.id, "vest_l")
    # the chambers are in the hands of physics all the time, he is from 36 on
    scene = edit.hand_over(scene, figure.id, None, 36, 400, 0, 0, tone=0.3)
    shove = Push(
        id="stumble",
        figure=figure.id,
        body="chest",
        start=36.0,
        frames=3.0,
        impulse=(0.0, 0.0, 60.0),
        point=(0.0, 0.12, 0.0),
    )
    return edit.scene(scene, pushes=(shove,))


def with_vest(figure: Figure, assets: AssetStore) -> Figure:
    """The figure with two chambers of a life vest on its chest, pieces of skin that nothing joins to the coat."""
    for k in range(2):
        points, faces = pad(CHAMBER, SIZE, 0.5)
        if k:
            # the same as in a mirror, vertex by vertex
            points, faces = points * np.array([-1.0, 1.0, 1.0]), faces[:, ::-1]
        figure = worn(figure, assets, points, faces, "chest", ORANGE)
    return figure


def bare_float(assets: AssetStore, name: str = "float") -> Figure:
    """An inflatable fender: a skin with one bone, which no body carries."""
    turn = np.linspace(-0.5 * np.pi, 0.5 * np.pi, 15)
    ends = [(RADIUS * np.cos(a), HALF * np.sign(np.sin(a)) + 0.75 * RADIUS * np.sin(a)) for a in turn if abs(a) > 1e-9]
    low, high = ends[: len(ends) // 2], ends[len(ends) // 2 :]
    sides = [(RADIUS, y) for y in np.linspace(-HALF, HALF, 19)]
    profile = [(max(float(r), 0.0), float(y)) for r, y in (*low, *sides, *high)]
    profile[0], profile[-1] = (0.0, profile[0][1]), (0.0, profile[-1][1])
    return assembled(name, assets, [("float", 0, revolved(profile, 36))], (Material(name="rubber", color=RUBBER),))


def jelly(assets: AssetStore) -> Scene:
    """An inflatable fender without a skeleton is dropped between hull and quay, which come together and part."""
    lying = tuple(rotation.from_rotation_vector(np.array([0.0, 0.0, 0.5 * np.pi - 0.12])))
    figure = bare_float(assets).changed(track=Track.of([MotionKey(frame=0, position=(0.5, 1.0, 0.0), rotation=lying)]))
    quay = obstacle(
        "quay", Shape(kind="box", half=(0.42, 0.32, 0.3)), (MotionKey(frame=0, position=(0.0, 0.32, -0.5)),), color=(0.36, 0.34, 0.31), friction=0.7
    )  # fmt: skip
    way = tuple(
        MotionKey(frame=f, position=(0.0, 0.36, z))
        for f, z in ((0, 0.23), (34, 0.23), (56, 0.15), (66, 0.15), (84, 0.27), (110, 0.27))
    )
    hull = obstacle("hull", Shape(kind="box", half=(0.42, 0.36, 0.06)), way, color=(0.10, 0.18, 0.26), friction=0.5)
    scene = Scene(name="jelly", rate=24.0, start=0, end=110, substeps=16, figures=(figure, quay, hull), ground=Ground())
    whole = np.ones(len(assets[str(figure.asset)]["positions"]), bool)
    soft = Soft(
        id="soft", region=mask(assets, whole), bone=figure.bones[0].name, count=40, stretch=1.6, ratio=0.12, density=60.0, keeps=0.05, gives=1.0
    )  # fmt: skip
    return add_soft(scene, assets, figure.id, soft)
