"""Demo scenes, made from the shipped figures. Everything in them is made up."""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import (
    Figure,
    Ground,
    Link,
    LinkEnd,
    MotionKey,
    Scene,
    Shape,
    Spring,
    VectorKey,
    VectorLane,
    obstacle,
)
from artuline.demo import flesh, live, many, props, soft, strands
from artuline.demo.figures import ready_figure


@dataclass(frozen=True)
class Demo:
    """A demo scene: its name, what it shows, and how it is made."""

    name: str
    about: str
    make: Callable[[AssetStore], Scene]


def goat(assets: AssetStore) -> Scene:
    """The ship's goat trots along the deck; ears, tail and beard follow by themselves."""
    springy = ("ear_l", "ear_r", "tail", "beard")
    figure = ready_figure("goat", assets).changed(clip="trot")
    clips = tuple(c.changed(loop=True) if c.name == "trot" else c for c in figure.clips)
    figure = figure.changed(clips=clips, position=(0.0, 0.0, -1.2))
    scene = Scene(name="goat", rate=24.0, start=0, end=84, figures=(figure,))
    for bone in springy:
        scene = edit.hand_over(scene, figure.id, bone, 0, 84, ramp_in=0, ramp_out=0)
    for group in scene.figures[0].groups:
        scene = edit.group(scene, figure.id, group.id, spring=Spring(frequency=2.6, ratio=0.18, gravity=0.15))
    return edit.scene(scene, warm_up=24, warm_up_plays=True)


def numb(assets: AssetStore) -> Scene:
    """The deckhand walks, one arm limp from the elbow; a second group lets all of the arm go when it is not muted."""
    figure = ready_figure("deckhand", assets).changed(clip="walk", position=(0.0, 0.0, -2.4))
    clips = tuple(c.changed(loop=True) if c.name == "walk" else c for c in figure.clips)
    scene = Scene(name="numb", rate=24.0, start=0, end=96, figures=(figure.changed(clips=clips),))
    scene = edit.hand_over(scene, figure.id, "upper_arm_l", 12, 96, 0, 0)
    scene = edit.group(scene, figure.id, "group", muted=True)
    return edit.hand_over(scene, figure.id, "forearm_l", 12, 96, 0, 0)


def yard(assets: AssetStore) -> Scene:
    """The deckhand hangs from a yard that swings, by both hands, and lets go with one after the other."""
    figure = ready_figure("deckhand", assets).changed(clip=None, position=(0.0, 1.5, 0.0))
    keys = []
    for frame, angle in ((0, 0), (24, 10), (48, -12), (72, 9), (96, 0), (132, 0)):
        q = rotation.from_rotation_vector(np.array([math.radians(angle), 0.0, 0.0]))
        keys.append(
            MotionKey(
                frame=frame, position=(0.0, 2.5, 0.3 + 0.55 * math.sin(math.radians(2 * angle))), rotation=tuple(q)
            )
        )
    spar = Shape(kind="capsule", radius=0.045, half_length=1.1)
    beam = obstacle("yard", spar, tuple(keys), color=(0.30, 0.17, 0.075), friction=0.8)
    links = []
    for side, s, stop in (("l", 1.0, 60.0), ("r", -1.0, 96.0)):
        hand = LinkEnd(figure=figure.id, body=f"hand_{side}", point=_middle(figure, f"hand_{side}"))
        hold = Link(id=f"hold {side}", name=f"hold {side}", kind="tie", a=hand,
                    b=LinkEnd(figure="yard", body="yard", point=(s * 0.42, 0.0, 0.0)), lengths=(0.0, 0.06), start=0, stop=stop)  # fmt: skip
        links.append(hold)
    scene = Scene(name="yard", rate=24.0, start=0, end=132, figures=(figure, beam), links=tuple(links), warm_up=48)
    pairs = [
        (LinkEnd(figure="yard", body="yard"), LinkEnd(figure=figure.id, body=b.id))
        for b in figure.bodies
        if "arm" in b.id or "hand" in b.id
    ]
    scene = edit.scene(scene, pairs_off=tuple(pairs))
    return edit.hand_over(scene, figure.id, None, 0, 400, 0, 0, tone=0.12)


def _middle(figure: Figure, body: str) -> tuple[float, float, float]:
    """The middle of a body's first shape, in its bone's frame."""
    return figure.body_of[body].shapes[0].position


def heel(assets: AssetStore) -> Scene:
    """Gravity alone animates an unkeyed deckhand who lies on a deck that heels to one side and to the other."""
    turned = 1.5 * math.pi
    figure = ready_figure("deckhand", assets).changed(clip=None, position=(0.0, 0.06, 0.0), turn=turned)
    wall = Shape(kind="box", half=(0.06, 0.35, 2.6))
    rails = tuple(
        obstacle(f"rail {n}", wall, (MotionKey(frame=0, position=(s * 1.9, 0.35, 0.0)),), color=(0.62, 0.62, 0.58))
        for n, s in ((1, 1.0), (2, -1.0))
    )  # fmt: skip
    lean = []
    for frame, degrees in ((0, 0), (30, 0), (60, 26), (110, -28), (160, 22), (200, 0)):
        a = math.radians(degrees)
        lean.append(VectorKey(frame=frame, value=(9.81 * math.sin(a), -9.81 * math.cos(a), 0.0)))
    scene = Scene(name="heel", rate=24.0, start=0, end=200, figures=(figure, *rails),
                  gravity_lane=VectorLane(keys=tuple(lean)), ground=Ground(friction=0.25))  # fmt: skip
    return edit.hand_over(scene, figure.id, None, 0, 400, 0, 0, tone=0.05)


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
    spar = Shape(kind="box", half=(0.075, 0.085, 1.45))
    arm = obstacle("boom", spar, tuple(swing), color=(0.30, 0.17, 0.075), friction=0.4)
    bollards = []
    for n, (x, z) in enumerate(((-1.30, 2.45), (-1.30, 3.15))):
        post = Shape(
            kind="capsule",
            radius=0.115,
            half_length=0.26,
            rotation=(0.0, 0.0, math.sqrt(0.5), math.sqrt(0.5)),
        )
        bollards.append(
            obstacle(f"bollard {n + 1}", post, (MotionKey(frame=0, position=(x, 0.26, z)),),
                     color=(0.035, 0.04, 0.045), friction=0.7)
        )  # fmt: skip
    mast = obstacle(
        "mast", Shape(kind="capsule", radius=0.10, half_length=1.5, rotation=(0.0, 0.0, math.sqrt(0.5), math.sqrt(0.5))),
        (MotionKey(frame=0, position=tuple(hinge * [1, 0, 1] + [0, 1.42, 0])),), color=(0.45, 0.45, 0.42), friction=0.5,
    )  # fmt: skip
    scene = Scene(name="boom", rate=24.0, start=0, end=168, figures=(figure, arm, mast, *bollards))
    return edit.hand_over(scene, figure.id, None, 49, 156, ramp_in=0, ramp_out=28, tone=0.06)


DEMOS: dict[str, Demo] = {
    d.name: d
    for d in (
        Demo(
            "boom",
            "The deckhand crosses the deck, the cargo boom strikes, and the body falls against a bollard",
            boom,
        ),
        Demo("numb", "The deckhand walks with an arm that is limp from the elbow down; two groups to compare", numb),
        Demo("yard", "The deckhand hangs from a yard that swings, and lets go with one hand after the other", yard),
        Demo("heel", "Gravity alone animates the deckhand on a deck that heels", heel),
        Demo("pail", "The deckhand carries a full pail across the deck; three ways to carry it", props.pail),
        Demo("pass", "One deckhand hands a pail to another, who sets it down; then a block strikes", props.passed),
        Demo("fender", "A fender is swung by its lanyard and thrown over the side", props.fender),
        Demo(
            "mooring",
            "The deckhand walks with a mooring line over the shoulder, past the cleat that it is made fast to",
            strands.mooring,
        ),
        Demo("floats", "Ten strings of cork floats drop over a bollard, and over a deckhand who turns", strands.floats),
        Demo("collar", "The goat with a bell on a collar, and a lead that drags on deck", strands.collar),
        Demo("belly", "The deckhand runs down the gangway, and belly and satchel follow", flesh.belly),
        Demo("vest", "The deckhand stumbles and falls on his life vest, two soft chambers", soft.vest),
        Demo("jelly", "An inflatable fender without a skeleton is dropped between hull and quay", soft.jelly),
        Demo("steer", "Steer the deckhand about, with pail, belly and satchel, and the goat on its lead", live.steer),
        Demo("gangway", "Thirty passengers on a gangway that is pulled away: handed over by a rule", many.gangway),
        Demo("goat", "The ship's goat trots, and its ears, tail and beard follow by themselves", goat),
    )
}


def demo_scene(name: str, assets: AssetStore) -> Scene:
    """The demo scene of that name. Raises ArtulineError if there is none."""
    if name not in DEMOS:
        raise ArtulineError(f"there is no demo scene {name!r}", remedy=f"Choose one of: {', '.join(DEMOS)}.")
    return DEMOS[name].make(assets)
