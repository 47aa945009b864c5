"""Compile every kernel once, so that the cache holds them: the two halves of the solver side by side."""

import functools
import gc
import operator
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numba
import numpy as np

from artuline.core.bake.hermite import Wish, fit
from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry.winding import inside, winding_numbers
from artuline.core.physics import (
    collide,
    contacts,
    crowds,
    curves,
    drives,
    graph,
    islands,
    joint_solve,
    joints,
    missed,
    motion,
    outcome,
    parts,
    skins,
    substep,
)
from artuline.core.physics.world import BodySpec, JointSpec, World
from artuline.core.scene.model import Shape

READY = "ready"
KEPT = 30  # days that kernels are kept which nobody uses
USUAL_SECONDS = 60  # that compiling takes
_PREPARE = "from artuline.core.run.prepare import prepare_kernels; prepare_kernels()"
# all but those with rules of their own for equal constants
_OPERATORS = {f for f in vars(operator).values() if callable(f)} - {operator.eq, operator.ne}
_OTHERS = (
    "import gc; gc.disable(); from artuline.core.run import prepare; prepare.ask_plain_rules_first();"
    "prepare.compile_contacts(); print(flush=True); prepare.compile_others()"
)


@functools.cache
def ask_plain_rules_first() -> None:
    """Let Numba try its own rules for numbers and for items of arrays before those for lists, texts and whole arrays.

    A fifth of the time to compile goes into rules that do not fit. What is found stays the same: rules for one
    target are asked before general ones, and these are the general ones over again, for this target.
    """
    from numba.core.typing.arraydecl import GetItemBuffer, SetItemBuffer
    from numba.core.typing.templates import ConcreteTemplate, builtin_registry, infer_global

    for value, kind in list(builtin_registry.globals):
        for rule in getattr(kind, "templates", ()):
            if value in _OPERATORS and issubclass(rule, (ConcreteTemplate, GetItemBuffer, SetItemBuffer)):
                infer_global(value)(type(rule.__name__, (rule,), {"metadata": {"target": "cpu"}}))


def _small_world() -> World:
    ball = Shape(kind="sphere", radius=0.1)
    bodies = [BodySpec((ball,), position=np.array([0.0, 1.0 + i, 0.0])) for i in range(2)]
    return World(bodies, [JointSpec(0, 1, follow=True)], plane=(0.0, 0.5, 0.0))


def _apart() -> World:
    """Two that hang together, and one by itself: islands."""
    ball = Shape(kind="sphere", radius=0.1)
    bodies = [BodySpec((ball,), position=np.array([0.0, 1.0 + i, 0.0])) for i in range(3)]
    return World(bodies, [JointSpec(0, 1, follow=True)], plane=(0.0, 0.5, 0.0))


def _compile(kernel: Any, *arguments: Any) -> None:
    kernel.compile(tuple(numba.typeof(a) for a in arguments))


def _arranged(w: World) -> tuple[Any, ...]:
    cells, part_of, up, listed, mine, near, starts, counters, _ = w.parts
    return counters, cells, part_of, up, listed, mine, near, starts


def compile_contacts() -> None:
    """The half of the kernels that has to do with contacts."""
    w = _small_world()
    b, s, p, c, m, k = w.bodies, w.shapes, w.pairs, w.contacts, w.memory, w.counters
    collide.find_near(b, s, p, w.spare, w.slots, w.apart, k, w.row, 0.1)
    contacts.prepare_contacts(b, s, p, c, m, k, 0.1, 1.0)
    contacts.add_contacts(b, w.blocks, c, k, w.scratch)
    contacts.contact_forces(b, c, k, True)
    contacts.update_contacts(b, c, k, True, True, True, False, 1.0)
    contacts.set_back_contacts(b, c, k, 0.1)
    curves.bend_contacts(b, c, k, 0.1, False)
    contacts.damped_step(b, c, k, w.elimination)
    contacts.remember(p, c, m, k, 0, 0.1)
    parts.find_parts(b, s, p, c, w.parts[8], k, *_arranged(w))
    skins.bound_skins(b, s, w.hulls, np.zeros((2, 2, 3)), np.zeros((2, 2, 4)), np.ones((2, 1), bool), 0.1)
    collide.find_contacts(b, s, p, w.parts[5][:0], c, k, w.hulls, w.parts[1], -1, 0.1)


def compile_joints() -> None:
    """The other half."""
    w = _small_world()
    b, j, order, cells, listed = w.bodies, w.joints, w.elimination, w.parts[0], w.parts[3]
    joint_solve.add_joints(b, w.blocks, j, w.scratch, 0.1)
    joints.prepare_joints(b, j, 0.1)
    motion.world_inertia(b)
    motion.free_velocities(b, w.gravity, w.wind, 0.1)
    drives.effective_inertia(b, j, w.coupled, w.scratch)
    drives.prepare_drives(b, j, 0.1, 0.1)
    graph.arrange(b, j, w.contacts, w.coupled, 0, cells, listed, order.copy(), order, 0, True)
    motion.drift(b, w.lanes, 0.1)
    joints.residuals(b, j, 0.1, False, False, True)
    drives.add_bodies(b, w.blocks, 0.1)
    drives.add_tugs(b, w.tugs, w.scratch, 0.1)
    drives.tug_forces(b, w.tugs, 0.1)
    graph.factor(b, w.blocks, order)
    drives.body_forces(b, 0.1, 0.1)
    joint_solve.joint_forces(b, j, 0.1)
    graph.solve(b, w.blocks, order)
    joint_solve.joint_impulses(b, j)
    drives.update_friction(b, j)
    joint_solve.set_back_joints(b, j, 0.1)
    joints.limit_excess(b, j, 0)
    # parts of a substep that cannot be called from here
    c, k = w.contacts, w.counters
    crowds.choose_swept(b, c, k, 0.1)
    crowds.sweep(b, c, k, 0.1)
    _compile(outcome.accept, b, j, w.pairs, c, w.memory, k, cells, listed, order, listed, 0, 0.1, True)
    _compile(outcome.set_back, b, w.blocks, j, c, k, cells, listed, order, 0.1)
    _compile(outcome.gains, b, j, c, k, cells, listed, order, False, False)
    _compile(substep.pattern_of, b, j, c, k, cells, listed)


def _compile_islands() -> None:
    """What runs islands apart, and finds those that came to meet."""
    w = _apart()
    w.step(1.0 / 24.0, 2)
    n = len(w.bodies)
    whole, yes, places, boxes = np.zeros(n, np.int64), np.zeros(n, bool), np.zeros((n, 2, 3)), np.zeros((n, 6))
    _compile(
        islands.find_awake, w.bodies, w.joints, w.tugs, whole, np.zeros((n, 2), np.int64), places, np.zeros((n, 2, 4)), np.zeros((n, 1), bool),
        np.zeros((n, 1, 2)), np.zeros((len(w.joints), 1)), yes,
    )  # fmt: skip
    _compile(missed.sweep_boxes, w.bodies, whole, places, places, whole, boxes)
    _compile(
        missed.find_missed, w.bodies, w.apart, whole, boxes, whole, yes, places, places, whole, whole, np.zeros((n, 2), np.int64)
    )  # fmt: skip


def compile_others() -> None:
    """What does not belong to the solver: the fit of keys, and what is inside of a skin."""
    fit(np.tile([0.0, 0.0, 0.0, 1.0], (3, 1)), Wish(1.0, turning=True))
    winding_numbers(np.zeros((1, 3)), np.eye(3), np.arange(3)[None])
    inside(np.ones((1, 3)), np.eye(3), np.arange(3)[None])


def _compile_all() -> None:
    """The two halves side by side if there are two cores, then what joins them beside all else."""
    other = None
    if (os.cpu_count() or 1) > 1:
        other = subprocess.Popen([sys.executable, "-c", _OTHERS], stdout=subprocess.PIPE)
    ask_plain_rules_first()
    # what is made while compiling is kept: looking for garbage finds none
    gc.disable()
    try:
        compile_joints()
        if other is not None and other.stdout is not None:
            # it says when its half of the solver is done
            other.stdout.readline()
        _small_world().step(1.0 / 24.0, 2)
        _compile_islands()
        if other is not None:
            other.communicate()
        compile_others()
    finally:
        gc.enable()


def _ready_mark() -> Path:
    return Path(numba.config.CACHE_DIR) / READY  # type: ignore[attr-defined]


def kernels_ready() -> bool:
    """Whether all kernels are in the cache."""
    return _ready_mark().exists()


def prepare_kernels() -> None:
    """Compile what is not in the cache yet, and step a small world once."""
    ready = _ready_mark()
    if not ready.exists():
        _compile_all()
    world = _small_world()
    world.step(1.0 / 24.0, 2)
    world.overlaps()
    ready.parent.mkdir(parents=True, exist_ok=True)
    ready.touch()
    for mark in ready.parent.parent.glob(f"kernels-*/{READY}"):
        if time.time() - mark.stat().st_mtime > KEPT * 86400.0:
            shutil.rmtree(mark.parent, ignore_errors=True)


def ensure_kernels(
    progress: Callable[[int, int], None] = lambda done, total: None, cancelled: Callable[[], bool] = lambda: False
) -> None:
    """See to it that all kernels are in the cache, compiled by a process of its own: one that compiles them itself would run other bits
    than one that loads them. ``progress(seconds, about how many in all)``. Raises CancelledError on request, ArtulineError if it fails.
    """
    if kernels_ready():
        return
    began = time.monotonic()
    child = subprocess.Popen([sys.executable, "-c", _PREPARE], stderr=subprocess.PIPE)
    try:
        while child.poll() is None:
            if cancelled():
                raise CancelledError
            progress(min(int(time.monotonic() - began), USUAL_SECONDS - 1), USUAL_SECONDS)
            time.sleep(0.1)
    finally:
        if child.poll() is None:
            child.kill()
            child.wait()
    if child.returncode != 0 or not kernels_ready():
        last = (child.stderr.read() if child.stderr else b"").decode(errors="replace").strip().splitlines()[-1:]
        words = f" ({last[0][:200]})" if last else ""
        raise ArtulineError(f"the solver could not be compiled{words}", remedy="Try: artuline prepare")
