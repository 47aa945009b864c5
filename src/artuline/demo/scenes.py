"""Demo scenes, made from the shipped figures. Everything in them is made up."""

import math
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, MotionKey, Obstacle, Scene, Shape
from artuline.core.setup.materials import balance, usual_mass
from artuline.core.setup.ragdoll import add_bodies, set_up
from artuline.formats.gltf_read import read_figure

DATA = Path(__file__).parent / "data"


@dataclass(frozen=True)
class Demo:
    """A demo scene: its name, what it shows, and how it is made."""

    name: str
    about: str
    make: Callable[[AssetStore], Scene]


_fitted: dict[str, Figure] = {}


def ready_figure(name: str, assets: AssetStore, more: tuple[str, ...] = ()) -> Figure:
    """A shipped figure with bodies (besides those that carry much skin, on the bones ``more``) and joints, and with the
    mass that is usual for its size. Fitted once.
    """
    figure = read_figure(DATA / f"{name}.glb", assets).figure
    key = f"{name} {more}"
    if key not in _fitted:
        made = set_up(figure, assets)
        if more:
            made = add_bodies(made, assets, set(more))
        total, _ = usual_mass(made, assets)
        _fitted[key] = made.changed(bodies=balance(made, total)[0])
    made = _fitted[key]
    return figure.changed(bodies=made.bodies, joints=made.joints, pairs_off=made.pairs_off)


def goat(assets: AssetStore) -> Scene:
    """The ship's goat trots along the deck; ears, tail and beard follow by themselves."""
    springy = ("ear_l", "ear_r", "tail", "beard")
    figure = ready_figure("goat", assets, (*(f"ear_{s}" for s in "lr"), "tail_tip", "beard_tip")).changed(clip="trot")
    clips = tuple(c.changed(loop=True) if c.name == "trot" else c for c in figure.clips)
    figure = figure.changed(clips=clips, position=(0.0, 0.0, -1.2))
    scene = Scene(name="goat", rate=24.0, start=0, end=84, figures=(figure,))
    for bone in springy:
        scene = edit.hand_over(scene, figure.id, bone, 0, 84, ramp_in=0, ramp_out=0, tone=0.3)
    return scene


def boom(assets: AssetStore) -> Scene:
    """The deckhand crosses the deck, the swinging cargo boom strikes, the body falls against a bollard."""
    figure = ready_figure("deckhand", assets).changed(clip="crossing")
    hinge = np.array([0.95, 1.27, -0.10])
    swing = []
    for frame, angle in (
        (0, 56),
        (26, 52),
        (40, 22),
        (50, -13),
        (57, -36),
        (66, -48),
        (84, -39),
        (106, -45),
        (130, -43),
    ):
        q = rotation.from_rotation_vector(np.array([0.0, math.radians(angle), 0.0]))
        reach = rotation.rotate(q, np.array([0.0, 0.0, 1.45]))
        swing.append(MotionKey(frame=frame, position=tuple(hinge + reach), rotation=tuple(q)))
    arm = Obstacle(
        id="boom", name="boom", shape=Shape(kind="box", half=(0.075, 0.085, 1.45)), keys=tuple(swing),
        color=(0.30, 0.17, 0.075), friction=0.4,
    )  # fmt: skip
    bollards = []
    for n, (x, z) in enumerate(((-1.30, 2.45), (-1.30, 3.15))):
        post = Shape(
            kind="capsule",
            radius=0.115,
            half_length=0.26,
            rotation=(0.0, 0.0, math.sqrt(0.5), math.sqrt(0.5)),
        )
        bollards.append(
            Obstacle(id=f"bollard {n + 1}", name=f"bollard {n + 1}", shape=post, friction=0.7, color=(0.035, 0.04, 0.045),
                     keys=(MotionKey(frame=0, position=(x, 0.26, z)),))
        )  # fmt: skip
    mast = Obstacle(
        id="mast", name="mast", friction=0.5, color=(0.45, 0.45, 0.42),
        shape=Shape(kind="capsule", radius=0.10, half_length=1.5, rotation=(0.0, 0.0, math.sqrt(0.5), math.sqrt(0.5))),
        keys=(MotionKey(frame=0, position=tuple(hinge * [1, 0, 1] + [0, 1.42, 0])),),
    )  # fmt: skip
    scene = Scene(name="boom", rate=24.0, start=0, end=168, figures=(figure,), obstacles=(arm, mast, *bollards))
    return edit.hand_over(scene, figure.id, None, 49, 156, ramp_in=0, ramp_out=28, tone=0.06)


DEMOS: dict[str, Demo] = {
    d.name: d
    for d in (
        Demo(
            "boom",
            "The deckhand crosses the deck, the cargo boom strikes, and the body falls against a bollard",
            boom,
        ),
        Demo("goat", "The ship's goat trots, and its ears, tail and beard follow by themselves", goat),
    )
}


def demo_scene(name: str, assets: AssetStore) -> Scene:
    """The demo scene of that name. Raises ArtulineError if there is none."""
    if name not in DEMOS:
        raise ArtulineError(f"there is no demo scene {name!r}", remedy=f"Choose one of: {', '.join(DEMOS)}.")
    return DEMOS[name].make(assets)
