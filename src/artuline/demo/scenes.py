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
from artuline.core.scene.model import MotionKey, Obstacle, Scene, Shape
from artuline.core.setup.ragdoll import set_up
from artuline.formats.gltf_read import read_figure

DATA = Path(__file__).parent / "data"


@dataclass(frozen=True)
class Demo:
    """A demo scene: its name, what it shows, and how it is made."""

    name: str
    about: str
    make: Callable[[AssetStore], Scene]


def boom(assets: AssetStore) -> Scene:
    """The deckhand crosses the deck, the swinging cargo boom strikes, the body falls against a bollard."""
    figure = read_figure(DATA / "deckhand.glb", assets).figure
    figure = set_up(figure, assets).changed(clip="crossing")
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
    )
}


def demo_scene(name: str, assets: AssetStore) -> Scene:
    """The demo scene of that name. Raises ArtulineError if there is none."""
    if name not in DEMOS:
        raise ArtulineError(f"there is no demo scene {name!r}", remedy=f"Choose one of: {', '.join(DEMOS)}.")
    return DEMOS[name].make(assets)
