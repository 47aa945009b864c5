"""Compile every kernel once, so that the cache holds them: the two halves of the solver side by side."""

import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import numba
import numpy as np

from artuline.core.physics import collide, contacts, drives, graph, joints, motion, substep
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.scene.model import Shape

READY = "ready"
_CONTACTS = "from artuline.core.run.prepare import compile_contacts; compile_contacts()"


def _small_world() -> World:
    ball = Shape(kind="sphere", radius=0.1)
    bodies = [BodySpec((ball,), position=np.array([0.0, 1.0 + i, 0.0])) for i in range(2)]
    return World(bodies, [JointSpec(0, 1, follow=True)], plane=(0.0, 0.5, 0.0))


def _compile(kernel: Any, *arguments: Any) -> None:
    kernel.compile(tuple(numba.typeof(a) for a in arguments))


def compile_contacts() -> None:
    """The half of the kernels that has to do with contacts."""
    w = _small_world()
    b, s, p, n, c, m, k = w.bodies, w.shapes, w.pairs, w.near, w.contacts, w.memory, w.counters
    collide.find_near(b, s, p, n, k, w.row, w.table, 0.1)
    collide.find_contacts(b, s, p, n, c, k, w.hulls, 0.1)
    contacts.prepare_contacts(b, s, p, c, m, k, 0.1)
    contacts.add_contacts(b, w.blocks, c, k, w.scratch)
    contacts.contact_forces(b, c, k, True)
    contacts.update_contacts(b, c, k, True, True, True)
    contacts.set_back_contacts(b, c, k, 0.1)
    contacts.remember(p, c, m, k, 0.1)
    contacts.choose_swept(b, c, k, 0.1)
    contacts.sweep(b, c, k, 0.1)


def compile_joints() -> None:
    """The other half."""
    w = _small_world()
    b, j, order = w.bodies, w.joints, w.elimination
    motion.world_inertia(b)
    motion.free_velocities(b, w.gravity, w.wind, 0.1)
    joints.prepare_joints(b, j, 0.1)
    drives.effective_inertia(b, j, w.coupled, w.scratch)
    drives.prepare_drives(b, j, 0.1, 0.1)
    graph.arrange(b, j, w.contacts, w.coupled, 0, order, True)
    motion.drift(b, w.lanes, 0.1)
    joints.residuals(b, j, 0.1, False, False, True)
    drives.add_bodies(b, w.blocks, 0.1)
    drives.add_tugs(b, w.tugs, w.scratch, 0.1)
    drives.tug_forces(b, w.tugs, 0.1)
    joints.add_joints(b, w.blocks, j, w.scratch)
    graph.factor(b, w.blocks, order)
    drives.body_forces(b, 0.1, 0.1)
    joints.joint_forces(b, j)
    graph.solve(b, w.blocks, order)
    joints.joint_impulses(b, j)
    joints.set_back_joints(b, j, 0.1)
    joints.limit_excess(b, j, 0)
    # parts of a substep that cannot be called from here
    c, k = w.contacts, w.counters
    _compile(substep.accept, b, j, w.pairs, w.near, c, w.memory, k, 0.1, True)
    _compile(substep.set_back, b, w.blocks, j, c, k, order, 0.1)
    _compile(substep.gains, b, j, c, k)
    _compile(substep.pattern_of, b, j, c, k)


def prepare_kernels() -> None:
    """Compile what is not in the cache yet, on two cores, and step a small world once."""
    folder = Path(numba.config.CACHE_DIR)  # type: ignore[attr-defined]
    other = None
    if not (folder / READY).exists() and (os.cpu_count() or 1) > 1:
        other = subprocess.Popen([sys.executable, "-c", _CONTACTS])
        compile_joints()
    if other is not None:
        other.wait()
    world = _small_world()
    world.step(1.0 / 24.0, 2)
    world.overlaps()
    folder.mkdir(parents=True, exist_ok=True)
    (folder / READY).touch()
