"""Scenes to steer in, and what is measured of them; shared by tests and benchmarks."""

from dataclasses import dataclass

import numpy as np

from artuline.core.motion.gaits import feet_of
from artuline.core.run.steered import Steered
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Ground, Scene, Steering, StrandPoint
from artuline.core.setup.gait_proposal import propose_steering
from artuline.core.setup.grip import mounted
from artuline.core.setup.strand import add_strand
from artuline.core.setup.strand_kinds import ready
from artuline.demo import things
from artuline.demo.figures import ready_figure, with_clips
from artuline.demo.scenes import demo_scene

TOUCHES = 0.003  # m above the ground up to which a sole stands on it


def deckhand_scene(**values):
    assets = AssetStore()
    figure = with_clips(ready_figure("deckhand", assets), assets, "deckhand_steered").changed(clip="stand", **values)
    return Scene(name="s", rate=24.0, start=0, end=48, figures=(figure,), ground=Ground()), assets, "deckhand"


def goat_scene():
    assets = AssetStore()
    figure = ready_figure("goat", assets).changed(clip="look")
    return Scene(name="s", rate=24.0, start=0, end=48, figures=(figure,), ground=Ground()), assets, "goat"


def led_scene():
    """The deckhand with a limp arm and a pail, and a mate on a line who goes after him: as the demo scene, and sooner ready."""
    scene, assets, _ = deckhand_scene()
    (man,) = scene.figures
    mate = man.changed(
        id="mate", name="mate", position=(0.9, 0.0, -1.2), steering=Steering(follows="deckhand", distance=1.4)
    )
    man = man.changed(steering=propose_steering(man, assets))
    scene = scene.changed(figures=(man, things.pail(assets), mate))
    scene = edit.hand_over(scene, "deckhand", "upper_arm_r", -100, 1000, 0, 0, tone=0.42)
    scene = mounted(scene, assets, "pail", "deckhand", "hand_r", 0.0)
    points = [StrandPoint(position=(0.57, 0.95, 0.0), hold="mounted", figure="deckhand", bone="hand_l"), StrandPoint(position=(0.8, 0.02, -0.4)),
              StrandPoint(position=(0.9, 1.0, -1.05), hold="mounted", figure="mate", bone="hips")]  # fmt: skip
    made = ready("rope", tuple(points), count=24, radius=0.008, weight=0.12)
    return add_strand(scene, assets, made, "lead")[0], assets


def steer_scene():
    assets = AssetStore()
    return demo_scene("steer", assets), assets


@dataclass
class Slides:
    """Of all feet, in a step: the farthest and on average that a sole slides while it touches the ground, and its lowest place, m."""

    worst: float
    mean: float
    lowest: float


def slides(scene, assets, id_, speed, seconds=6.0, before=4.0):
    """A figure that goes straight on at a speed."""
    made = Steered(scene, assets, 0.0, {id_: None})
    made.steer(id_, speed, 0.0)
    soles, feet = [], feet_of(scene.figure(id_))
    for step in range(round((before + seconds) / made.step_time)):
        made.step()
        if step * made.step_time >= before:
            m = made.matrices()[0]
            soles.append([f.sole(m) for f in feet])
    rates = made.pilots[id_].paces.mix(speed)[2] * seconds
    worst, mean, lowest = 0.0, [], 0.0
    for k in range(len(feet)):
        s = np.array([row[k] for row in soles])
        way = np.linalg.norm(np.diff(s, axis=0)[..., [0, 2]], axis=-1)
        down = (s[1:, :, 1] < TOUCHES) & (s[:-1, :, 1] < TOUCHES)
        # a foot that rolls has one point that stays
        still = np.where(down, way, np.inf).min(axis=1)
        slid = float(still[np.isfinite(still)].sum()) / max(rates, 1.0)
        worst, lowest = max(worst, slid), min(lowest, float(s[..., 1].min()))
        mean.append(slid)
    return Slides(worst, float(np.mean(mean)), lowest)


class Seen:
    """The bones of a steered figure as they are shown, step by step."""

    def __init__(self, steered: Steered, id_: str):
        self.steered, self.id = steered, id_
        self._k = next(k for k, p in enumerate(steered.built.parts) if p.figure.id == id_)
        self._feet = feet_of(steered.scene.figure(id_))
        self._place = self._velocity = None
        self.lowest = 0.0

    def go(self, seconds, speed, turn=0.0):
        """Go on; the largest change of any bone's velocity from one step to the next, m/s."""
        s, worst = self.steered, 0.0
        s.steer(self.id, speed, turn)
        self.lowest = 0.0
        for _ in range(max(round(seconds / s.step_time), 1)):
            s.step()
            m = s.matrices()[self._k]
            place = m[:, :3, 3]
            self.lowest = min(self.lowest, *(float(f.sole(m)[:, 1].min()) for f in self._feet))
            if self._place is not None:
                velocity = (place - self._place) / s.step_time
                if self._velocity is not None:
                    worst = max(worst, float(np.linalg.norm(velocity - self._velocity, axis=1).max()))
                self._velocity = velocity
            self._place = place.copy()
        return worst

    def mirror(self):
        """Into the mirror: what was seen so far goes with it."""
        s, pilot = self.steered, self.steered.pilots[self.id]
        root = pilot.root()
        root[:3, :3] /= pilot.figure.unit
        across = root @ np.diag([-1.0, 1.0, 1.0, 1.0]) @ np.linalg.inv(root)
        s.mirror(self.id)
        self._place = self._place @ across[:3, :3].T + across[:3, 3]
        self._velocity = self._velocity @ across[:3, :3].T
