"""Speed, as ratios measured in one run."""

import os
import subprocess
import sys
import tempfile
import time

import numpy as np

from benchmarks.scenes import FRAME, deckhand, loops


def best(work, times=3):
    """Least time of several runs, seconds; ``work`` makes what it measures and returns the measured part."""
    return min(_clock(work()) for _ in range(times))


def _clock(step):
    began = time.perf_counter()
    step()
    return time.perf_counter() - began


def ready_drop(seconds, height=2.0):
    def make():
        world, _, _ = deckhand(height)

        def go():
            for _ in range(round(seconds / FRAME)):
                world.step(FRAME, 10)

        make.world = world
        return go

    return make


def crowd():
    world = loops()
    seconds = 2.0
    world.step(FRAME, 10)
    began = time.perf_counter()
    for _ in range(round(seconds / FRAME)):
        world.step(FRAME, 10)
    took = time.perf_counter() - began
    apart = 1000 * world.joints["separation"].max()
    ratio = seconds / took
    yield "600 bodies, ten closed loops, 10 substeps", f"{ratio:.2f} x real time", "above 1", ratio > 1.0
    yield "their worst joint separation", f"{apart:.2f} mm", "shown", True


def substep():
    make = ready_drop(4.0)
    seconds = best(make)
    counters = make.world.counters
    cost = 1e6 * seconds / (4.0 / FRAME * 10)
    yield "deckhand, drop of 4 s: cost of a substep", f"{cost:.0f} us", "shown", True
    yield (
        "factors and solves in a substep",
        f"{counters[3] / counters[1]:.2f} {counters[4] / counters[1]:.2f}",
        "shown",
        True,
    )


def against_mujoco():
    try:
        import mujoco
    except ImportError:
        yield "MuJoCo is not installed: pip install -e '.[bench]'", "-", "a quarter", False
        return
    from benchmarks.outside import mjcf

    world, figure, _ = deckhand()
    model = mujoco.MjModel.from_xml_string(mjcf(figure, 2.0))

    def theirs(height):
        def make():
            data = mujoco.MjData(model)
            data.qpos[1] += height - 2.0

            def go():
                for _ in range(2000):
                    mujoco.mj_step(model, data)

            return go

        return make

    world.step(FRAME, 10)
    # by turns, so that a busy machine slows both alike; falls from several heights, for some are harder than others
    a, b = 0.0, 0.0
    for height in np.linspace(1.9, 2.1, 7):
        pairs = [(_clock(ready_drop(4.0, height)()), _clock(theirs(height)())) for _ in range(3)]
        a, b = a + min(p[0] for p in pairs) / 7, b + min(p[1] for p in pairs) / 7
    text = f"{a / b:.2f} ({250 * a:.1f} : {250 * b:.1f} ms)"
    yield "cost per simulated second against MuJoCo, 2 ms", text, "at most 0.25", a / b <= 0.25


def compiling():
    code = (
        "import time; t = time.perf_counter()\n"
        "from artuline.core.run.prepare import prepare_kernels\n"
        "prepare_kernels(); print(time.perf_counter() - t)"
    )
    with tempfile.TemporaryDirectory() as folder:
        env = os.environ | {"XDG_CACHE_HOME": folder}
        for name in ("NUMBA_CACHE_DIR", "PYTHONDONTWRITEBYTECODE"):
            env.pop(name, None)
        times = [
            float(
                subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True).stdout
            )
            for _ in range(2)
        ]
    yield "cold compile of all kernels", f"{times[0]:.1f} s", "below 60 s", times[0] < 60
    yield "warm start", f"{times[1]:.2f} s", "below 2 s", times[1] < 2


def many():
    """Nine runs of one shot against one run."""
    one = best(ready_drop(2.0))
    nine = sum(_clock(ready_drop(2.0)()) for _ in range(9))
    yield "nine variations of a 2 s drop", f"{nine:.2f} s ({nine / one:.1f} runs)", "seconds", nine < 10
    assert np.isfinite(one)


MEASUREMENTS = {
    "crowd": crowd,
    "substep": substep,
    "mujoco": against_mujoco,
    "compile": compiling,
    "variations": many,
}
