"""How smoothly the tryout runs in the window, software rendering, at 1280x800."""

import os
import time

import numpy as np


def tryout():
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from artuline.core.scene.assets import AssetStore
    from artuline.demo.scenes import demo_scene
    from artuline.desk.application import make_application
    from artuline.desk.window import Window

    app = make_application()
    for name in ("boom", "goat"):
        window = Window()
        window.resize(1280, 800)
        window.show()
        app.processEvents()
        assets = AssetStore()
        window.session.new(demo_scene(name, assets), assets)
        window.stage.frame_selection()
        window.set_station("Blend")
        window.session.set_frame(20)
        window.tryout.toggle()
        window.tryout.clock.stop()
        took, simulated = [], 0.0
        last = time.perf_counter()
        for _ in range(180):
            window.tryout.tick()
            app.processEvents()
            now = time.perf_counter()
            took.append(1000 * (now - last))
            last = now
        simulated = window.stage.live.tryout.time
        took = np.array(took[20:])
        real = simulated / (took.sum() / 1000 + 1e-9)
        text = f"{np.median(took):.1f} ms, 95 % within {np.percentile(took, 95):.1f} ms"
        yield f"tryout of {name}: a frame of the window", text, "shown", True
        yield f"tryout of {name}: simulated time", f"{real:.2f} x real time", "about 1", real > 0.9
        window.tryout.stop()
        window.session.stack.setClean()
        window.close()


def bracket():
    """Nine runs of 120 frames against one, and how long the window is kept waiting meanwhile."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from artuline.core.run.bracket import Span, run_bracket
    from artuline.core.run.record import run
    from artuline.core.scene.assets import AssetStore
    from artuline.demo.scenes import demo_scene
    from artuline.desk.application import make_application
    from artuline.desk.window import Window

    app = make_application()
    assets = AssetStore()
    scene = demo_scene("boom", assets).changed(end=120)
    run(scene, assets)
    began = time.perf_counter()
    run(scene, assets)
    one = time.perf_counter() - began
    span = Span("figures[deckhand].groups[group].tone", 0.0, 1.0, 9)
    list(run_bracket(scene, assets, [Span("substeps", 1, 2, 2)]))  # the processes start once
    began = time.perf_counter()
    list(run_bracket(scene, assets, [span]))
    nine = time.perf_counter() - began
    yield "bracket of 9 runs of 120 frames", f"{nine:.1f} s, {nine / one:.1f} x one run", "below 9 x", nine / one < 9
    window = Window()
    window.resize(1280, 800)
    window.show()
    window.session.new(scene, assets)
    window.set_station("Takes")
    window.room("Takes").brackets.choose("tone: whole figure")
    settled = time.perf_counter() + 1.5
    while time.perf_counter() < settled:
        app.processEvents()
    window.room("Takes").brackets.run()
    longest, last = 0.0, time.perf_counter()
    while window.desk.jobs.busy:
        app.processEvents()
        now = time.perf_counter()
        longest, last = max(longest, now - last), now
        time.sleep(0.001)
    yield "longest wait of the window meanwhile", f"{1000 * longest:.0f} ms", "below 50 ms", longest < 0.05
    window.session.stack.setClean()
    window.close()


def scrub():
    """A random frame of a take of 1,000 frames."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from artuline.core.run.record import keep_take, run
    from artuline.core.scene.assets import AssetStore
    from artuline.demo.scenes import demo_scene
    from artuline.desk.application import make_application
    from artuline.desk.window import Window

    app = make_application()
    assets = AssetStore()
    scene = demo_scene("boom", assets).changed(end=1000)
    take = run(scene, assets)
    size = sum(a.nbytes for a in take.to_arrays().values())
    yield (
        "memory per body and frame",
        f"{size / take.position.shape[0] / take.position.shape[1]:.0f} bytes",
        "shown",
        True,
    )
    window = Window()
    window.resize(1280, 800)
    window.show()
    window.session.new(keep_take(scene, assets, take, scene.settings_fingerprint()), assets)
    window.set_station("Takes")
    window.stage.frame_selection()
    app.processEvents()
    took = []
    for frame in np.random.default_rng(1).integers(0, 1000, 40):
        began = time.perf_counter()
        window.session.set_frame(float(frame))
        window.stage.repaint()
        took.append(time.perf_counter() - began)
    text = f"{1000 * np.median(took):.0f} ms, {1000 * max(took):.0f} at most"
    yield "a random frame of 1,000 until it is drawn", text, "one redraw", True
    window.session.stack.setClean()
    window.close()


def figures():
    """Many figures in a scene: a redraw without the drawing itself, a pick, an edit and an undo, against two figures."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QPointF

    from artuline.core.scene import edit
    from artuline.core.scene.assets import AssetStore
    from artuline.demo.scenes import demo_scene
    from artuline.desk.application import make_application
    from artuline.desk.window import Window

    app = make_application()
    first: dict[str, float] = {}
    for count in (2, 20, 50):
        window = Window()
        window.resize(1280, 800)
        window.show()
        assets = AssetStore()
        scene = demo_scene("boom", assets)
        one = scene.figures[0]
        crowd = tuple(
            one.changed(id=f"f{i}", name=f"f{i}", position=(1.2 * (i % 8), 0.0, 1.2 * (i // 8))) for i in range(count)
        )
        window.session.new(scene.changed(figures=crowd, links=(), pushes=(), pairs_off=()), assets)
        window.set_station("Blend")
        window.stage.frame_selection()
        app.processEvents()

        def redraw(k, window=window):
            window.session.frame = float(k)
            window.stage.draw_lists()

        def pick(k, window=window):
            window.stage.pick_at(QPointF(200.0 + 40.0 * k, 200.0 + 30.0 * k))

        def move(k, window=window):
            window.session.edit("Move", lambda s: edit.figure(s, "f1", position=(0.1 * k, 0.0, 0.0)))

        def undo(k, window=window):
            window.session.stack.undo()

        for what, act in (("redraw", redraw), ("pick", pick), ("edit", move), ("undo", undo)):
            took = []
            for k in range(1, 8):
                began = time.perf_counter()
                act(k)
                took.append(time.perf_counter() - began)
            now = float(np.median(took))
            first.setdefault(what, now)
            # linear growth, with room for what does not depend on the number
            ok = now < 1.5 * first[what] * count / 2
            yield f"{count} figures, {what}", f"{1000 * now:.1f} ms", "linear", ok
        window.session.stack.setClean()
        window.close()


MEASUREMENTS = {"tryout": tryout, "bracket": bracket, "scrub": scrub, "figures": figures}
