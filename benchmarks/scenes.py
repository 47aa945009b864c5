"""Worlds that the measurements and the tests share."""

import functools

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.run.build import build
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene, Shape
from artuline.core.setup.ragdoll import set_up
from artuline.demo.figures import DATA
from artuline.formats.gltf_read import read_figure

FRAME = 1.0 / 24.0
X = np.array([1.0, 0.0, 0.0])


def rod(length, mass, radius=None, **more):
    """A thin rod along x with its middle at the origin of its frame."""
    inertia = mass * length**2 / 12.0
    thin = mass * (radius or 0.02 * length) ** 2 / 2.0
    return BodySpec(mass=mass, inertia=np.array([thin, inertia, inertia]), **more)


def pendulum(length=0.5, degrees=60.0, kind="ball"):
    """A rod that hangs from the world by one end, turned up from straight down."""
    angle = np.radians(degrees) - np.pi / 2
    q = rotation.from_rotation_vector(np.array([0.0, 0.0, angle]))
    centre = rotation.rotate(q, X * length / 2)
    frame = rotation.align(X, np.array([0.0, 0.0, 1.0]))
    joint = JointSpec(-1, 0, kind, anchor=-X * length / 2, frame_c=frame, frame_p=rotation.multiply(q, frame))
    return World([rod(length, 1.0, position=centre, rotation=q)], [joint], contacts=False)


def chain(links, ratio, length=0.1, kind="ball"):
    """Links of 0.1 m released level from the world, with a ball ``ratio`` times a link's mass at the tip."""
    bodies, joints = [], []
    for i in range(links):
        bodies.append(rod(length, 0.1, position=X * length * (i + 0.5)))
        joints.append(JointSpec(i - 1, i, kind, anchor=-X * length / 2))
    radius = 0.04
    tip = BodySpec((Shape(kind="sphere", radius=radius),), mass=0.1 * ratio, position=X * (links * length + radius))
    bodies.append(tip)
    joints.append(JointSpec(links - 1, links, kind, anchor=-X * radius))
    return World(bodies, joints, contacts=False)


def stretch(world, links, length=0.1):
    """How much longer than its links the chain is, as a share, taken along the links."""
    p, q = world.poses()
    a = p[:links] - rotation.rotate(q[:links], X * length / 2)
    b = p[:links] + rotation.rotate(q[:links], X * length / 2)
    gaps = np.linalg.norm(a[1:] - b[:-1], axis=1).sum() + np.linalg.norm(a[0])
    return gaps / (links * length)


@functools.cache
def _deckhand():
    assets = AssetStore()
    return set_up(read_figure(DATA / "deckhand.glb", assets).figure, assets), assets


def deckhand(height=2.0, **changes):
    """The deckhand let go in his rest pose above the ground."""
    figure, assets = _deckhand()
    world = build(Scene(figures=(figure.changed(**changes),)), assets).world
    world.bodies["x"][:, 1] += height
    world.bodies["free"] = True
    return world, figure, assets


def slope(degrees, friction, speed=0.0):
    """A box on a keyed slab that is tilted."""
    q = rotation.from_rotation_vector(np.array([0.0, 0.0, np.radians(degrees)]))
    up = rotation.rotate(q, np.array([0.0, 1.0, 0.0]))
    along = rotation.rotate(q, -X)
    slab = BodySpec((Shape(kind="box", half=(10, 0.5, 10)),), rotation=q, friction=friction, free=False)
    box = BodySpec(
        (Shape(kind="box", half=(0.2, 0.1, 0.15)),), position=0.6 * up, rotation=q, friction=friction,
        velocity=along * speed,
    )  # fmt: skip
    return World([slab, box]), along


def loops(count=10, beads=60, radius=0.02):
    """Closed loops of beads around a post, and falling over it."""
    ball = Shape(kind="sphere", radius=0.9 * radius)
    upright = (0.0, 0.0, float(np.sqrt(0.5)), float(np.sqrt(0.5)))
    post = Shape(kind="capsule", radius=0.12, half_length=0.6, rotation=upright)
    bodies, joints = [], []
    for n in range(count):
        around = 2 * np.pi * np.arange(beads) / beads
        big = beads * radius / np.pi
        middle = np.array([0.06 * n - 0.25, 1.3 + 0.12 * n, 0.02 * n])
        first = len(bodies)
        for t in around:
            place = middle + big * np.array([np.cos(t), 0.0, np.sin(t)])
            turned = rotation.from_rotation_vector(np.array([0.0, -t - np.pi / 2, 0.0]))
            bodies.append(BodySpec((ball,), position=place, rotation=turned, friction=0.3, group=n))
        for i in range(1, beads):
            joints.append(JointSpec(first + i - 1, first + i, anchor=-X * radius, damping=1.0))
        joints.append(JointSpec(first, first + beads - 1, "pin", anchor=X * radius))
    bodies.append(BodySpec((post,), position=np.array([0.0, 0.6, 0.0]), friction=0.3, free=False))
    return World(bodies, joints, plane=(0.0, 0.5, 0.0))
