"""Work that is killed in its midst: what was to be written is whole or as it was, what was kept is found again.

    python -m benchmarks.kills [TIMES]

A process saves, keeps unsaved work, bakes, exports or runs and saves, over and over; it is killed at a random moment. Then its file has to open,
and to be one of the two that were written in turn. Stops with exit code 1 where one is not.
"""

import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.scene.assets import AssetStore
from artuline.formats import recovery
from artuline.formats.gltf_read import read_figure
from artuline.formats.scene_file import load_scene

WORKER = """
import sys
from pathlib import Path
from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.run.record import keep_take, run
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.demo.scenes import demo_scene
from artuline.formats.deliver import deliver
from artuline.formats.recovery import Recovery
from artuline.formats.scene_file import save_scene

what, folder = sys.argv[1], Path(sys.argv[2])
assets = AssetStore()
scene = demo_scene("boom", assets).changed(end=80)
take = run(scene, assets)
kept = keep_take(scene, assets, take, scene.settings_fingerprint())
figure = kept.figures[0]
recover = Recovery()
print("ready", flush=True)
turn = 0
while True:
    turn += 1
    now = kept.changed(name="even" if turn % 2 == 0 else "odd")
    if what == "save":
        save_scene(folder / "a.artuline", now, assets, replace=True)
    elif what == "autosave":
        recover.keep(now, assets, None)
    elif what == "bake":
        baked = bake_figure(now, assets, figure, take, BakeWish(1.0 + turn % 2, 10.0))
        save_scene(folder / "a.artuline", add_layer(now, assets, figure.id, baked, "baked", of=now.take), assets, replace=True)
    elif what == "export":
        deliver(folder / "a.glb", now, assets, [figure.id])
    else:
        again = run(now.changed(end=70), assets)
        save_scene(folder / "a.artuline", keep_take(now, assets, again, ""), assets, replace=True)
"""
KINDS = ("save", "autosave", "bake", "export", "run")


def whole(what: str, folder: Path) -> str:
    """What is wrong with what a killed process left; empty if nothing is."""
    try:
        if what == "export":
            if (folder / "a.glb").exists():
                read_figure(folder / "a.glb", AssetStore())
            return ""
        if what == "autosave":
            found = recovery.left_behind()
            for left in found:
                scene, lost = recovery.recover(left, AssetStore())
                if lost or scene.name not in ("even", "odd"):
                    return f"recovered {scene.name} without {lost}"
                recovery.remove(left.file)
            return ""
        if (folder / "a.artuline").exists() and load_scene(folder / "a.artuline", AssetStore()).name not in (
            "even",
            "odd",
        ):
            return "another scene"
    except ArtulineError as error:
        return str(error)
    return ""


def main() -> None:
    times = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    random, bad, there = np.random.default_rng(5), 0, 0
    with tempfile.TemporaryDirectory() as name:
        os.environ["XDG_STATE_HOME"] = f"{name}/state"
        for k in range(times):
            what, folder = KINDS[k % len(KINDS)], Path(name)
            child = subprocess.Popen([sys.executable, "-c", WORKER, what, name], stdout=subprocess.PIPE, text=True)
            assert child.stdout is not None
            child.stdout.readline()
            time.sleep(float(random.uniform(0.0, 0.6)))
            child.send_signal(signal.SIGKILL)
            child.wait()
            said = whole(what, folder)
            there += bool(list(folder.glob("a.*")) or what == "autosave")
            left = [p for p in folder.iterdir() if ".part" in p.name]
            if said or len(left) > 1 + len(KINDS):
                bad += 1
                print(f"{what} {k}: {said} {left}", flush=True)
    print(f"{times - bad} of {times} whole or as before ({there} had something to be looked at)")
    sys.exit(bool(bad))


if __name__ == "__main__":
    main()
