"""Figures that are steered: feet at every speed, changes, getting up, the mirror, twenty minutes by chance, and pictures a second in the window."""

import ctypes
import os
import tempfile
import time
from pathlib import Path

import numpy as np
from tests.steering import Seen, deckhand_scene, goat_scene, slides, steer_scene

from artuline.core.run.directed import trunk_of
from artuline.core.run.kept import Watcher
from artuline.core.run.steered import Steered

MINUTES = 20.0


def steer_feet():
    """How far a foot slides in a step while it stands, at every speed from the slowest to the fastest, of a man and a goat."""
    for scene, assets, id_ in (deckhand_scene(), goat_scene()):
        made = Steered(scene, assets, 0.0, {id_: None})
        fastest = made.pilots[id_].paces.fastest
        for speed in np.linspace(0.05, 1.0, 12) * fastest:
            found = slides(scene, assets, id_, float(speed))
            words = f"{1e3 * found.worst:.1f} ({1e3 * found.mean:.1f}); {1e3 * found.lowest:.0f}"
            yield f"{id_} at {speed:.2f} m/s", words, "worst (mean) mm a step; sole lowest mm", found.worst < 0.012


def steer_changes():
    """The largest change of any bone's velocity from one step to the next, at changes of what it does, against that of its steady gaits."""
    scene, assets, id_ = deckhand_scene()
    made = Steered(scene, assets, 0.0, {id_: None})
    slow, fast = made.pilots[id_].paces.moving[0].speed, made.pilots[id_].paces.fastest
    track = Seen(made, id_)
    track.go(3.0, slow)
    walking = track.go(3.0, slow)
    track.go(2.0, fast)
    running = track.go(3.0, fast)
    yield "steady walk, run", f"{walking:.1f}, {running:.1f}", "m/s, for comparison", True
    for words, speed, turn, act in (
        ("run to walk", slow, 0.0, None), ("walk to stand", 0.0, 0.0, None), ("stand to run", fast, 0.0, None), ("turn while running", fast, 1.0, None),
        ("run to stand", 0.0, 0.0, None), ("turn on the spot", 0.0, 1.0, None), ("about at rest", 0.0, 0.0, "about"), ("stand to walk", slow, 0.0, None),
        ("about while walking", slow, 0.0, "about"), ("mirrored while walking", slow, 0.0, "mirror"), ("mirrored while turning", slow, -1.0, "mirror"),
    ):  # fmt: skip
        if act == "about":
            made.turn_about(id_)
        if act == "mirror":
            track.mirror()
        jump = track.go(2.0, speed, turn)
        yield words, f"{jump:.1f}", "not above a steady run", jump < 1.15 * running


def steer_rise():
    """Knocked over in eight directions: what is shown on the way up jumps by no more than in a walk, and soles go no deeper than ..."""
    scene, assets, id_ = deckhand_scene()
    for k in range(8):
        made = Steered(scene, assets, 0.0, {id_: None})
        track = Seen(made, id_)
        track.go(1.0, 0.0)
        angle = 0.25 * np.pi * k
        made.knock(id_, trunk_of(scene.figure(id_)), 160.0 * np.array([np.sin(angle), 0.1, np.cos(angle)]))
        while made.lies(id_) or not made.rises(id_):
            track.go(made.step_time, 0.0)
        since, jump, low = made.time, 0.0, 0.0
        while made.rises(id_):
            jump = max(jump, track.go(made.step_time, 0.0))
            low = min(low, track.lowest)
        jump = max(jump, track.go(1.0, 0.0))
        words = f"{jump:.1f} m/s; {-1e3 * low:.0f} mm; {since:.1f}, {made.time:.1f} s"
        yield (
            f"hit towards {45 * k} degrees",
            words,
            "jump; soles below ground; begins, ends",
            jump < 3.0 and low > -0.03,
        )


def steer_random():
    """Twenty minutes of steering by chance with hits, pushes and mirrors: numbers, memory, and where everything is."""
    scene, assets = steer_scene()
    made = Steered(scene, assets, 0.0, {f.id: f.steering for f in scene.figures if f.steering is not None})
    Watcher(made)
    chance, sizes, worst, steps, began = (
        np.random.default_rng(7),
        [],
        0.0,
        round(MINUTES * 60.0 / made.step_time),
        time.perf_counter(),
    )
    low, far, fine, halvings, flips, hits = 0.0, 0.0, True, 0, 0, 0
    for step in range(steps):
        if step % 24 == 0:
            made.steer(
                "deckhand", float(chance.choice([0.0, 0.6, 1.4, 2.6])), float(chance.choice([-1.0, 0.0, 0.0, 1.0]))
            )
            what = chance.random()
            if what < 0.04:
                hits += 1
                made.knock("deckhand", "chest", chance.normal(0.0, 120.0, 3) * [1.0, 0.3, 1.0])
            elif what < 0.10:
                made.knock_limb(
                    "deckhand", str(chance.choice(["forearm_l", "thigh_r", "head"])), chance.normal(0.0, 4.0, 3), 1.0
                )
            elif what < 0.16:
                flips += 1
                made.mirror("deckhand")
            elif what < 0.22:
                made.push(None, frozenset(), chance.normal(0.0, 1.5, 3))
            elif what < 0.26:
                made.turn_about("deckhand")
        made.step()
        if step % 240 == 0:
            p, _ = made.built.world.poses()
            fine = fine and bool(np.isfinite(p).all())
            low = min(low, float(p[:, 1].min()))
            middle = made.whereabouts("deckhand")
            # the lead holds goat and pail to him, and nothing else has to be near
            mine = np.concatenate(
                [q.rows for q in made.built.parts if q.figure.id in ("deckhand", "goat", "pail", "lead")]
            )
            far = max(far, float(np.linalg.norm((p[mine] - middle)[:, [0, 2]], axis=1).max()))
            worst = max(worst, float(made.built.world.joints["separation"].max()))
        if step % (steps // 10) == 0:
            sizes.append((_memory(), _in_use()))
    took = time.perf_counter() - began
    del halvings
    yield "numbers", "fine" if fine else "lost", "fine", fine
    yield f"{hits} hits, {flips} mirrors", f"{took / (60.0 * MINUTES):.2f}", "of real time", True
    yield (
        "lowest of any body; farthest of his, goat's, pail's",
        f"{low:.2f}; {far:.1f} m",
        "above -0.1; near",
        low > -0.1 and far < 6.0,
    )
    yield "joint separation", f"{1e3 * worst:.1f} mm", "shown", True
    (first, first_used), (last, last_used) = sizes[1], sizes[-1]
    yield "memory after 2 minutes, at the end", f"{first:.0f}, {last:.0f} MB", "shown", True
    # what was freed in between is given back on request
    yield "of it in use", f"{first_used:.0f}, {last_used:.0f} MB", "no growth", last_used < first_used + 15.0


def _in_use():
    ctypes.CDLL("libc.so.6").malloc_trim(0)
    return _memory()


def _memory():
    with open(f"/proc/{os.getpid()}/statm") as file:
        return int(file.read().split()[1]) * 4096 / 2**20


def gangway_costs():
    """The crowd on the gangway: how long a run takes, what it and its file need, and how long one picture of 30 and of 100 takes to draw."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from artuline.core.run.record import keep_take, run
    from artuline.core.scene.assets import AssetStore
    from artuline.core.setup.many import Pattern, set_many
    from artuline.demo.scenes import demo_scene
    from artuline.desk.application import make_application
    from artuline.desk.window import Window
    from artuline.formats.scene_file import save_scene

    assets = AssetStore()
    scene = demo_scene("gangway", assets)
    run(scene.changed(end=4), assets)
    began, before = time.perf_counter(), _memory()
    take = run(scene, assets)
    took = time.perf_counter() - began
    seconds = (scene.end - scene.start) / scene.rate
    yield "run, of real time", f"{took / seconds:.2f}", "shown", True
    yield "more memory with the take", f"{_memory() - before:.0f} MB", "shown", True
    yield "handed over, of 30", f"{len(take.given)}", "30", len(take.given) == 30
    speed = float(np.linalg.norm(take.position[-1] - take.position[-2], axis=1).max() * scene.rate)
    yield (
        "worst penetration, separation; speed at the end",
        f"{1e3 * take.penetration.max():.0f}, {1e3 * take.separation.max():.2f} mm; {speed:.2f} m/s",
        "shown",
        True,
    )
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "g.artuline"
        save_scene(path, scene, assets)
        bare = path.stat().st_size / 2**20
        save_scene(path, keep_take(scene, assets, take, scene.settings_fingerprint()), assets)
        yield "file without and with the take", f"{bare:.2f}, {path.stat().st_size / 2**20:.1f} MB", "shown", True
    app = make_application()
    window = Window()
    window.resize(1280, 800)
    window.show()
    for count in (30, 100):
        crowd = (
            scene
            if count == 30
            else set_many(
                scene.changed(rules=()), "deckhand", Pattern(how="scattered", count=70, around=(14.0, 14.0), apart=0.7)
            )
        )
        window.session.new(crowd, assets)
        window.stage.frame_selection()
        app.processEvents()
        times = []
        for _ in range(7):
            window.stage._draw(1.0)
            times.append(window.stage.drawn_in)
        yield f"a picture of {count}, ms", f"{1e3 * np.median(times):.0f}", "shown", True
    window.session.stack.setClean()
    window.close()


def steer_frames():
    """The demo scene steered at 1280x800: time from picture to picture while it walks, and pictures from a key to what it does."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import Qt
    from PySide6.QtTest import QTest

    from artuline.desk.application import make_application
    from artuline.desk.window import Window

    app = make_application()
    window = Window()
    window.resize(1280, 800)
    window.show()
    scene, assets = steer_scene()
    window.session.new(scene, assets)
    window.session.select("deckhand", frozenset())
    window.stage.frame_selection()
    window.desk.act("steer")
    live = window.tryout.steering.steered
    seen = []
    window.stage.drawn.connect(lambda: seen.append((time.perf_counter(), live.pilots["deckhand"].speed)))

    def wait(seconds):
        end = time.perf_counter() + seconds
        while time.perf_counter() < end:
            app.processEvents()

    wait(2.0)
    pressed = time.perf_counter()
    QTest.keyPress(window.stage, Qt.Key.Key_Up)
    wait(8.0)
    after = [speed for at, speed in seen if at > pressed]
    shown = next(k for k, speed in enumerate(after) if speed > 0.0) + 1
    gaps = 1e3 * np.diff([at for at, _ in seen])
    window.tryout.stop()
    window.session.stack.setClean()
    window.close()
    yield "from picture to picture", f"{np.median(gaps):.0f}, {np.percentile(gaps, 95):.0f} ms", "median, 95 %", True
    yield "simulated of real time", f"{live.time / 10.0:.2f}", "1", True
    yield "pictures from a key to its effect", f"{shown}", "shown", True


MEASUREMENTS = {
    "steer feet": steer_feet,
    "steer changes": steer_changes,
    "steer rise": steer_rise,
    "steer random": steer_random,
    "steer frames": steer_frames,
    "gangway": gangway_costs,
}
