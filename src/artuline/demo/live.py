"""Demo scene to steer about in. Everything in it is made up."""

import numpy as np

from artuline.core.motion.keyed import keyed_matrices
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Ground, MotionKey, Scene, Shape, Spring, StrandPoint, obstacle
from artuline.core.setup.gait_proposal import propose_steering
from artuline.core.setup.grip import mounted
from artuline.core.setup.strand import add_strand
from artuline.core.setup.strand_kinds import ready
from artuline.demo import things
from artuline.demo.figures import ready_figure, with_clips
from artuline.demo.flesh import fleshed, with_satchel

UP = (0.0, 0.0, float(np.sqrt(0.5)), float(np.sqrt(0.5)))


def steer(assets: AssetStore) -> Scene:
    """The deckhand on deck with pail, belly and satchel, and the goat on its lead that goes after him."""
    man = with_clips(with_satchel(ready_figure("deckhand", assets), assets), assets, "deckhand_steered")
    man = man.changed(clip="stand", position=(0.0, 0.0, -1.0))
    man = man.changed(steering=propose_steering(man, assets))
    goat = ready_figure("goat", assets)
    goat = goat.changed(clip="look", position=(0.9, 0.0, -2.2))
    goat = goat.changed(steering=propose_steering(goat, assets).changed(follows="deckhand", distance=1.4))
    posts = tuple(
        obstacle(f"bollard {n}", Shape(kind="capsule", radius=0.115, half_length=0.26, rotation=UP),
                 (MotionKey(frame=0, position=(x, 0.26, z)),), color=(0.035, 0.04, 0.045), friction=0.7)
        for n, (x, z) in enumerate(((-2.4, 1.2), (-2.4, 1.9), (2.8, 2.6)), 1)
    )  # fmt: skip
    scene = Scene(
        name="steer",
        rate=24.0,
        start=0,
        end=240,
        figures=(man, goat, things.pail(assets), *posts),
        warm_up=24,
        ground=Ground(),
    )
    scene = fleshed(scene, assets, "deckhand")
    for bone in ("ear_l", "ear_r", "tail", "beard"):
        scene = edit.hand_over(scene, "goat", bone, 0, 1000, ramp_in=0, ramp_out=0)
    for group in scene.figure("goat").groups:
        scene = edit.group(scene, "goat", group.id, spring=Spring(frequency=2.6, ratio=0.18, gravity=0.15))
    scene = edit.hand_over(scene, "deckhand", "upper_arm_r", -100, 1000, 0, 0, tone=0.42)
    scene = mounted(scene, assets, "pail", "deckhand", "hand_r", 0.0)
    return _lead(scene, assets)


def _lead(scene: Scene, assets: AssetStore) -> Scene:
    """The scene with a lead from the deckhand's left hand to the goat's neck."""

    def place(figure: str, bone: str, off: tuple[float, float, float]) -> StrandPoint:
        f = scene.figure(figure)
        at = keyed_matrices(scene, assets, f, np.array([0.0]))[0][f.bone_index[bone], :3, 3] + np.array(off)
        return StrandPoint(position=tuple(at), hold="mounted", figure=figure, bone=bone)

    hand, neck = place("deckhand", "hand_l", (0.0, -0.07, 0.02)), place("goat", "neck", (0.0, 0.0, 0.10))
    # long enough to lie on deck while the goat stands by, drawn so that it nowhere dips below it
    a, b = np.array(hand.position), np.array(neck.position)
    way = ((0.12, 0.45, 0.10), (0.28, 0.10, 0.22), (0.5, 0.03, 0.35), (0.72, 0.10, 0.22), (0.88, 0.35, 0.10))
    side = np.array([b[2] - a[2], 0.0, a[0] - b[0]]) / max(float(np.hypot(b[0] - a[0], b[2] - a[2])), 1e-9)
    low = [a + t * (b - a) + off * side for t, _, off in way]
    points = [StrandPoint(position=(float(p[0]), y, float(p[2]))) for p, (_, y, _) in zip(low, way)]
    made = ready("rope", (hand, *points, neck), count=30, radius=0.008, weight=0.12, color=(0.62, 0.50, 0.28))
    return add_strand(scene, assets, made, "lead")[0]
