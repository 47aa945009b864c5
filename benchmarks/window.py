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
        window.tryout._timer.stop()
        took, simulated = [], 0.0
        last = time.perf_counter()
        for _ in range(180):
            window.tryout._tick()
            app.processEvents()
            now = time.perf_counter()
            took.append(1000 * (now - last))
            last = now
        simulated = window.stage.tryout.time
        took = np.array(took[20:])
        real = simulated / (took.sum() / 1000 + 1e-9)
        text = f"{np.median(took):.1f} ms, 95 % within {np.percentile(took, 95):.1f} ms"
        yield f"tryout of {name}: a frame of the window", text, "shown", True
        yield f"tryout of {name}: simulated time", f"{real:.2f} x real time", "about 1", real > 0.9
        window.tryout.stop()
        window.session.stack.setClean()
        window.close()


MEASUREMENTS = {"tryout": tryout}
