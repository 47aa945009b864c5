"""Edits at random after a run: whatever is added, taken away, renamed or turned, the take that was made before stays to be seen, in every station.

python -m benchmarks "edits after a run"
"""

import contextlib
import io
import os
import sys
import tempfile

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.scene import edit
from artuline.core.scene.model import Link, LinkEnd, MotionKey, Shape, Strand, StrandPoint, obstacle
from artuline.core.setup.added import grown, removed
from artuline.core.setup.ragdoll import add_bodies, remove_bodies
from artuline.core.setup.strand import add_strand, remade

STATIONS = ("Cast", "Bodies", "Joints", "Props", "Strands", "Flesh", "Blend", "Takes", "Curves")


def _figure(s, rng):
    found = [f for f in s.figures if f.asset and f.made is None and len(f.bodies) > 1]
    if not found:
        raise ArtulineError("no figure is left")
    return found[int(rng.integers(len(found)))]


def bone(s, assets, rng):
    f = _figure(s, rng)
    body = f.bodies[int(rng.integers(len(f.bodies)))].bone
    middle = rest_matrices(f)[f.bone_index[body], :3, 3]
    name = edit.fresh_id("pad", {b.name for b in f.bones})
    return grown(s, assets, f.id, name, middle, middle + np.array([0.0, -0.05, 0.2]), parent=body)


def no_bone(s, assets, rng):
    found = [(f.id, b.name) for f in s.figures for b in f.bones if b.flesh is not None]
    return removed(s, assets, *found[int(rng.integers(len(found)))]) if found else bone(s, assets, rng)


def no_body(s, assets, rng):
    f = _figure(s, rng)
    gone = {f.bodies[int(rng.integers(1, len(f.bodies)))].id}
    return edit.ragdoll(s, remove_bodies(f, assets, gone))


def body(s, assets, rng):
    f = _figure(s, rng)
    bare = [b.name for b in f.bones if b.name not in f.body_of and b.deforms]
    if not bare:
        return no_body(s, assets, rng)
    return edit.ragdoll(s, add_bodies(f, assets, {bare[int(rng.integers(len(bare)))]}))


def strand(s, assets, rng):
    for f in s.figures:
        if f.made is not None:
            return remade(s, assets, f.id, f.made.changed(count=int(rng.integers(5, 40))))
    points = (StrandPoint(position=(0.0, 2.0, 0.0), hold="pinned"), StrandPoint(position=(0.5, 1.0, 0.0)))
    return add_strand(
        s, assets, Strand(points=points, kind="rope", count=int(rng.integers(5, 20)), slack=0.1, hangs=True)
    )[0]


def no_figure(s, assets, rng):
    return edit.without_figure(s, s.figures[int(rng.integers(len(s.figures)))].id) if len(s.figures) > 1 else s


def crate(s, assets, rng):
    name = edit.fresh_id("crate", {f.id for f in s.figures})
    return edit.add_figure(s, obstacle(name, Shape(kind="box", half=(0.1, 0.1, 0.1)), (MotionKey(frame=0),)))


def copy(s, assets, rng):
    f = _figure(s, rng)
    name = edit.fresh_id("mate", {x.id for x in s.figures})
    return edit.add_figure(s, f.changed(id=name, name=name, position=(1.5, 0.0, 0.0), mounts=(), groups=()))


def span(s, assets, rng):
    return edit.scene(s, start=int(rng.integers(-5, 10)), end=int(rng.integers(20, 80)))


def rate(s, assets, rng):
    return edit.scene(s, rate=float(rng.choice([12, 24, 60])))


def place(s, assets, rng):
    values = {
        "turn": float(rng.normal()),
        "position": tuple(rng.normal(size=3)),
        "unit": float(rng.choice([0.5, 1.0, 2.0])),
    }
    return edit.figure(s, _figure(s, rng).id, **values)


def group(s, assets, rng):
    f = _figure(s, rng)
    return edit.hand_over(s, f.id, str(rng.choice([b.bone for b in f.bodies])), 5, 20)


def order(s, assets, rng):
    return edit.scene(s, figures=tuple(s.figures[k] for k in rng.permutation(len(s.figures))))


def link(s, assets, rng):
    f = _figure(s, rng)
    name = edit.fresh_id("hold", {x.id for x in s.links})
    made = Link(id=name, name=name, a=LinkEnd(figure=f.id, body=f.bodies[int(rng.integers(len(f.bodies)))].id))
    return edit.scene(s, links=(*s.links, made))


EDITS = (bone, no_bone, no_body, body, strand, no_figure, crate, copy, span, rate, place, group, order, link)


def trial(window, seed, count, wait):
    """Faults, in words, of ``count`` edits in a window whose scene has a take; ``wait()`` lets it draw. One in six is an undo."""
    rng, s, faults = np.random.default_rng((8, seed)), window.session, []
    took, said = sys.excepthook, io.StringIO()
    sys.excepthook = lambda kind, error, trace: faults.append(f"{what}: {kind.__name__} {error}")
    try:
        for k in range(count):
            choice = EDITS[int(rng.integers(len(EDITS)))]
            what = f"{k} {choice.__name__}"
            if rng.random() < 1.0 / 6.0:
                s.stack.undo()
            else:
                with contextlib.suppress(ArtulineError):
                    made = choice(s.scene, s.assets, rng)
                    s.edit(choice.__name__, lambda _, made=made: made)
            window.set_station(STATIONS[int(rng.integers(len(STATIONS)))])
            figures = [f for f in s.scene.figures if f.bones]
            if figures:
                f = figures[int(rng.integers(len(figures)))]
                s.select(f.id, frozenset({f.bones[int(rng.integers(len(f.bones)))].name}))
            s.set_frame(int(rng.integers(s.scene.start, s.scene.end + 1)))
            with contextlib.redirect_stderr(said):
                wait()
                window.grab()
                if rng.random() < 0.3:
                    window.details.open_all()
                    wait()
                    window.grab()
            # what raises while it is painted is printed, not raised
            if "Traceback" in said.getvalue():
                faults.append(f"{what}: {said.getvalue().strip().splitlines()[-1]}")
                said.truncate(0)
            take = s.take()
            for f in s.scene.figures:
                if take is not None and f.id in take.poses and take.poses[f.id].rotation.shape[1] != len(f.bones):
                    faults.append(f"{what}: the take of {f.id} has other bones than it")
    finally:
        sys.excepthook = took
    return faults


def edits_after(count=340):
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp()
    from PySide6.QtWidgets import QApplication

    from artuline.core.run.record import keep_take, run
    from artuline.core.scene.assets import AssetStore
    from artuline.demo.scenes import demo_scene
    from artuline.desk.application import make_application
    from artuline.desk.window import Window

    app = make_application()
    for seed, name in enumerate(("boom", "mooring", "vest")):
        assets = AssetStore()
        scene = edit.scene(demo_scene(name, assets), end=24)
        scene = keep_take(scene, assets, run(scene, assets), scene.settings_fingerprint())
        window = Window()
        window.resize(1280, 800)
        window.show()
        window.session.new(scene, assets)
        faults = trial(window, seed, count, QApplication.processEvents)
        for text in faults[:5]:
            print(f"      {name}: {text}", file=sys.stderr)
        yield f"{name}, {count} edits at random after a run: faults", str(len(faults)), "0", not faults
        window.session.stack.setClean()
        window.close()
    del app


MEASUREMENTS = {"edits after a run": edits_after}
