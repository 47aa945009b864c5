"""Gravity, wind with gusts, pushes and first velocities of a scene over time."""

import numpy as np
from numpy import i0

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.physics.world import World
from artuline.core.scene.model import Push, Scene

WAVES = 8  # sine waves that gusts are made of


def gravity_at(scene: Scene, frames: Array) -> Array:
    """Gravity at frames (F,): (F, 3), m/s^2."""
    return scene.gravity_lane.value(frames, scene.gravity)


def wind_at(scene: Scene, frames: Array) -> Array:
    """Wind at frames (F,), with its gusts: (F, 3), m/s."""
    steady = scene.wind_lane.value(frames, scene.wind)
    gusts = scene.gusts
    if gusts.strength == 0.0:
        return steady
    random = np.random.default_rng(int(gusts.seed))
    # about an octave around the rate, so that no two gusts are alike; together of unit mean square
    rates = gusts.rate * np.exp2(random.uniform(-1.0, 1.0, WAVES))
    if scene.cycle and scene.end > scene.start:
        # whole waves in a round
        rounds = (scene.end - scene.start) / scene.rate
        rates = np.maximum(np.round(rates * rounds), 1.0) / rounds
    phases = random.uniform(0.0, 2.0 * np.pi, WAVES)
    waves = np.sin(2.0 * np.pi * rates * (np.asarray(frames) / scene.rate)[:, None] + phases)
    swell = np.sqrt(2.0 / WAVES) * waves.sum(axis=1)
    # never against the wind, of mean 1 however strong: the exponential of the waves, whose mean is that of each (Bessel's I0) times the others'
    spread = np.sqrt(np.log(1.0 + gusts.strength**2))
    mean = i0(spread * np.sqrt(2.0 / WAVES)) ** WAVES
    return steady * (np.exp(spread * swell) / mean)[:, None]


def scattered(push: Push) -> Array:
    """The impulse (3,) of a push, N s, with what chance adds: the same for the same seed."""
    impulse = np.array(push.impulse)
    if push.scatter == 0.0:
        return impulse
    chance = np.random.default_rng(int(push.seed)).standard_normal(3)
    # of unit mean square length
    return impulse + push.scatter * float(np.linalg.norm(impulse)) * chance / np.sqrt(3.0)


def set_pushes(
    world: World, pushes: list[tuple[int, Push]], frame: float, rate: float, substeps: int, lift: Array | None = None
) -> None:
    """Set the forces of the frame that begins now; pushes by the index of their body in the world; ``lift`` (n, 3): m/s^2 on every body."""
    b = world.bodies
    b["push"], b["lever"] = 0.0, 0.0
    if lift is not None:
        b["push"][:, :3] = b["mass"][:, None] * lift
    for i, push in pushes:
        share = min(frame + 1.0, push.start + push.frames) - max(frame, push.start)
        if share <= 0.0:
            continue
        strength = share / push.frames * rate
        if b["last"][i] == 0.0:
            # a body that has just been handed over is kicked for half of its first substep only
            strength *= substeps / (substeps - 0.5)
        force = scattered(push) * strength
        p, q = world.outer_pose(i)
        arm = p + rotation.rotate(q, np.array(push.point)) - b["x"][i]
        b["push"][i, :3] += force
        b["push"][i, 3:] += np.array(push.turn) * strength
        b["lever"][i] += np.outer(rotation.rotate(rotation.conjugate(b["q"][i]), arm), force)


def add_velocity(bodies: np.ndarray, which: np.ndarray, velocity: Array, spin: Array) -> None:
    """Add a velocity, and a spin about their common centre of mass, to some bodies (indices)."""
    mass = bodies["mass"][which]
    centre = mass @ bodies["x"][which] / mass.sum()
    bodies["v"][which] += velocity + np.cross(spin, bodies["x"][which] - centre)
    bodies["w"][which] += spin
