"""A thousand random ragdolls: ``python -m benchmarks.fuzz [count] [first seed]``."""

import sys

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.scene.model import Shape
from benchmarks.scenes import FRAME

APART = 5e-3  # metres
GAIN = 0.02  # of the energy that there is, more than which must not be gained


def random_ragdoll(seed):
    """2 to 40 bodies on a random tree: masses over four decades, random limits, poses, velocities and shapes."""
    random = np.random.default_rng(seed)
    count = int(random.integers(2, 41))
    bodies, joints, parents = [], [], []
    for i in range(count):
        kind = random.choice(["capsule", "box", "sphere"])
        size = random.uniform(0.04, 0.15)
        if kind == "box":
            half = tuple(size * random.uniform(0.4, 1.0, 3))
            shape = Shape(kind="box", half=half)
            if seed % 3 == 2:
                corners = [(x * half[0], y * half[1], z * half[2]) for x in (-1, 1) for y in (-1, 1) for z in (-1, 0.5)]
                shape = Shape(kind="hull", points=(*corners, (0.0, 0.0, 1.2 * half[2])))
        elif kind == "sphere":
            shape = Shape(kind="sphere", radius=size)
        else:
            shape = Shape(kind="capsule", radius=0.4 * size, half_length=size)
        spec = BodySpec(
            (shape,), mass=float(10.0 ** random.uniform(-2, 2)), rotation=rotation.normalize(random.normal(size=4)),
            friction=float(random.uniform(0, 1)), restitution=float(random.uniform(0, 0.5)),
        )  # fmt: skip
        up = int(random.integers(max(0, i - 6), i)) if i else -1
        anchor = random.normal(size=3)
        anchor *= 1.5 * size / np.linalg.norm(anchor)
        if i:
            away = random.normal(size=3)
            place = bodies[up].position + 0.15 * away / np.linalg.norm(away)
            spec.position = place - rotation.rotate(spec.rotation, anchor)
            kind = random.choice(["ball", "ball", "hinge", "fixed", "slide"])
            limits = (*random.uniform(0.05, 2.0, 2), -random.uniform(0, 1.5), random.uniform(0, 1.5))
            if random.random() < 0.2:
                limits = None
            joints.append(
                JointSpec(
                    up, i, str(kind), anchor=anchor, frame_c=rotation.normalize(random.normal(size=4)), limits=limits,
                    axes=((-0.1, 0.1),), damping=float(random.choice([0.0, 2.5])),
                    frequency=float(random.choice([0.0, 0.0, 3.0])), target=rotation.IDENTITY,
                    friction=float(random.choice([0.0, 0.0, 0.3, 3.0])),
                )
            )  # fmt: skip
        else:
            spec.position = np.array([0.0, 2.0, 0.0])
        spec.velocity = random.normal(size=3)
        spec.spin = 2.0 * random.normal(size=3)
        bodies.append(spec)
        parents.append(up)
    world = World(bodies, joints, plane=(-1.0, 0.6, 0.1))
    # what overlaps at the start does not collide, as in a figure's setup
    off = {(a, b) for a, b, _ in world.overlaps()}
    return World(bodies, joints, plane=(-1.0, 0.6, 0.1), off=off)


def stored(world):
    """Energy in the drives, joules."""
    j, b = world.joints, world.bodies
    rows = np.flatnonzero(j["frequency"] > 0.0)
    total = 0.0
    for k in rows:
        q = rotation.multiply(b["q"][j["child"][k]], j["frame_c"][k])
        p = j["frame_p"][k] if j["parent"][k] < 0 else rotation.multiply(b["q"][j["parent"][k]], j["frame_p"][k])
        away = rotation.multiply(rotation.multiply(rotation.conjugate(p), q), rotation.conjugate(j["target1"][k]))
        e = rotation.to_rotation_vector(away)
        total += 0.5 * (2.0 * np.pi * j["frequency"][k]) ** 2 * float(e @ j["effective"][k] @ e)
    return total


def watch(world, seconds=5.0):
    """Step a world and say what went wrong, in words; empty if nothing did."""
    b = world.bodies
    top = world.energy() + b["mass"].sum() * 9.81 * 1.0
    start = last = top
    for n in range(round(seconds / FRAME)):
        world.step(FRAME, 10)
        if not (np.isfinite(b["x"]).all() and np.isfinite(b["v"]).all() and np.isfinite(b["w"]).all()):
            return f"not a number at frame {n + 1}"
        apart = world.joints["separation"].max(initial=0.0)
        if n > 2 and apart > APART:
            return f"a joint {1000 * apart:.1f} mm apart at frame {n + 1}"
        world.reset_report()
        energy = world.energy() + stored(world) + b["mass"].sum() * 9.81 * 1.0
        if n > 2 and energy > top + GAIN * abs(start):
            return f"energy rose from {top:.1f} to {energy:.1f} J at frame {n + 1}"
        # a hit that comes up to a surface at the end of a frame bounces in the next
        top, last = (min(top, max(energy, last)) if n > 2 else energy), energy
        if np.abs(b["v"]).max() > 200.0:
            return f"a speed of {np.abs(b['v']).max():.0f} m/s at frame {n + 1}"
    return ""


def main():
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    first = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    faults = 0
    for seed in range(first, first + count):
        fault = watch(random_ragdoll(seed))
        if fault:
            faults += 1
            print(f"seed {seed}: {fault}", flush=True)
    print(f"{count} random ragdolls, {faults} with a fault")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
