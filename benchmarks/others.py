"""Exports as other readers see them: every bone of every figure in the world, on frames and on quarters of frames, against the layers that were exported.

    python -m benchmarks.others [SCENE FILES WITH A TAKE] [--wish DEGREES,MM]

Without files: all demo scenes, run anew. Each is baked, saved, opened and exported as glTF, USD and BVH, and seen by an evaluation of glTF's formulas of
its own, by USD's library, and by a library of BVH. Stops with exit code 1 where one is more than 0.01 mm or 0.01 degrees off.
"""

import sys
import tempfile
from pathlib import Path

import bvhio
import numpy as np
import pygltflib
from pxr import Usd, UsdGeom, UsdSkel
from pyglm import glm

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure, moved
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.run.record import keep_take, run
from artuline.core.run.take import Take
from artuline.core.scene.assets import AssetStore
from artuline.demo.scenes import DEMOS, demo_scene
from artuline.formats.deliver import deliver
from artuline.formats.scene_file import load_scene, save_scene

MOST_MM, MOST_DEGREES = 0.01, 0.01


class GlTF:
    """Nodes over time, by the formulas of the standard alone."""

    def __init__(self, path: Path):
        self.doc = pygltflib.GLTF2().load(str(path))
        self.blob = self.doc.binary_blob()
        d = self.doc
        self.parents = {c: i for i, n in enumerate(d.nodes) for c in n.children or ()}
        self.curves: dict[tuple[int, str], tuple[str, np.ndarray, np.ndarray]] = {}
        if d.animations:
            a = d.animations[0]
            for c in a.channels:
                s = a.samplers[c.sampler]
                values = self._array(s.output)
                if s.interpolation == "CUBICSPLINE":
                    values = values.reshape(-1, 3, values.shape[1])
                self.curves[c.target.node, c.target.path] = s.interpolation, self._array(s.input)[:, 0], values

    def _array(self, index):
        a = self.doc.accessors[index]
        view = self.doc.bufferViews[a.bufferView]
        width = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}[a.type]
        start = (view.byteOffset or 0) + (a.byteOffset or 0)
        return np.frombuffer(self.blob, "<f4", a.count * width, start).reshape(-1, width).astype(float)

    def _sample(self, key, otherwise, t):
        if key not in self.curves:
            return np.tile(np.array(otherwise, float), (len(t), 1))
        kind, times, values = self.curves[key]
        at = np.clip(t, times[0], times[-1])
        k = np.clip(np.searchsorted(times, at + 1e-6, side="right") - 1, 0, max(len(times) - 2, 0))
        if len(times) == 1:
            return np.tile(values[0, 1] if kind == "CUBICSPLINE" else values[0], (len(t), 1))
        long = times[k + 1] - times[k]
        u = np.clip((at - times[k]) / long, 0.0, 1.0)[:, None]
        long = long[:, None]
        if kind == "CUBICSPLINE":
            a, b = values[k], values[k + 1]
            return (
                (2 * u**3 - 3 * u**2 + 1) * a[:, 1]
                + long * (u**3 - 2 * u**2 + u) * a[:, 2]
                + (3 * u**2 - 2 * u**3) * b[:, 1]
                + long * (u**3 - u**2) * b[:, 0]
            )
        if kind == "STEP":
            return np.where(u >= 1.0, values[k + 1], values[k])
        a, b = values[k], values[k + 1]
        if key[1] != "rotation":
            return a + u * (b - a)
        c = (a * b).sum(axis=1, keepdims=True)
        b, c = np.where(c < 0, -b, b), np.abs(c)
        angle = np.arccos(np.clip(c, -1, 1))
        s = np.where(angle > 1e-6, np.sin(angle), 1.0)
        return np.where(angle > 1e-6, (np.sin((1 - u) * angle) * a + np.sin(u * angle) * b) / s, a + u * (b - a))

    def world(self, t):
        """World matrices by the names of nodes, (T, 4, 4) each."""
        known: dict[int, np.ndarray] = {}

        def go(i):
            if i not in known:
                n = self.doc.nodes[i]
                m = np.zeros((len(t), 4, 4))
                if n.matrix is not None:
                    m[:] = np.array(n.matrix).reshape(4, 4).T
                else:
                    q = self._sample((i, "rotation"), n.rotation or (0, 0, 0, 1), t)
                    q = q / np.linalg.norm(q, axis=1, keepdims=True)
                    m[:, :3, :3] = turns(q) * self._sample((i, "scale"), n.scale or (1, 1, 1), t)[:, None, :]
                    m[:, :3, 3] = self._sample((i, "translation"), n.translation or (0, 0, 0), t)
                    m[:, 3, 3] = 1.0
                known[i] = go(self.parents[i]) @ m if i in self.parents else m
            return known[i]

        return {n.name: go(i) for i, n in enumerate(self.doc.nodes)}


def turns(q):
    x, y, z, w = q.T
    return np.stack([
        1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w), 2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w),
        2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y),
    ], axis=1).reshape(-1, 3, 3)  # fmt: skip


def of_gltf(path: Path, seconds):
    return GlTF(path).world(seconds), 1.0


def of_usd(path: Path, seconds):
    stage = Usd.Stage.Open(str(path))
    skel = next(UsdSkel.Skeleton(p) for p in stage.Traverse() if p.IsA(UsdSkel.Skeleton))
    cache = UsdSkel.Cache()
    cache.Populate(UsdSkel.Root.Find(skel.GetPrim()), Usd.PrimDefaultPredicate)
    query = cache.GetSkelQuery(skel)
    names = list(skel.GetJointNamesAttr().Get() or []) or [
        str(j).rsplit("/", 1)[-1] for j in skel.GetJointsAttr().Get()
    ]
    found = []
    for t in seconds * stage.GetTimeCodesPerSecond():
        carried = np.array(UsdGeom.Xformable(skel.GetPrim()).ComputeLocalToWorldTransform(t)).T
        found.append(carried @ np.array(query.ComputeJointSkelTransforms(t)).transpose(0, 2, 1))
    m = np.array(found)
    return {str(n): m[:, i] for i, n in enumerate(names)}, UsdGeom.GetStageMetersPerUnit(stage)


def of_bvh(path: Path, seconds, rate):
    root = bvhio.readAsHierarchy(str(path))
    found: dict[str, list[np.ndarray]] = {}
    for f in np.round(seconds * rate).astype(int):
        root.loadPose(int(f))
        for j, _, _ in root.layout():
            m = np.eye(4)
            m[:3, 3] = list(glm.vec3(j.PositionWorld))
            found.setdefault(j.Name, []).append(m)
    return {n: np.array(x) for n, x in found.items()}, 0.01


def angle(a, b):
    """Degrees between the directions of two rows of matrices, whatever their sizes."""
    a, b = (x[..., :3, :3] / np.maximum(np.linalg.norm(x[..., :3, :3], axis=-2, keepdims=True), 1e-12) for x in (a, b))
    return np.degrees(np.linalg.norm(a - b, axis=-2).max())


def compared(scene, assets, figure, folder: Path) -> dict[str, tuple[float, float]]:
    """By the ending of an export: mm and degrees that a bone is off at most."""
    start, end = scene.start, scene.end
    found = {}
    for ending in (".glb", ".usdc", ".bvh"):
        out = folder / f"out{ending}"
        deliver(out, scene, assets, [figure.id])
        steps = 1 if ending == ".bvh" else 4
        frames = start + np.arange((end - start) * steps + 1) / steps
        seconds = (frames - start) / scene.rate
        true = keyed_matrices(scene, assets, figure, frames)
        seen, unit = (
            of_bvh(out, seconds, scene.rate)
            if ending == ".bvh"
            else (of_gltf if ending == ".glb" else of_usd)(out, seconds)
        )
        unit = figure.unit if ending == ".glb" else unit
        mm = degrees = 0.0
        count = 0
        for i, b in enumerate(figure.bones):
            name = b.name if b.name in seen else b.name.replace(" ", "_")
            if name not in seen:
                continue
            count += 1
            m = seen[name]
            n = min(len(m), len(true))
            mm = max(mm, 1000 * float(np.linalg.norm(unit * m[:n, :3, 3] - true[:n, i, :3, 3], axis=1).max()))
            if ending != ".bvh":
                degrees = max(degrees, float(angle(m[:n], true[:n, i])))
        assert count >= 0.9 * len(figure.bones), (ending, count, len(figure.bones))
        found[ending] = mm, degrees
    return found


def main() -> None:
    wish = BakeWish()
    names = [x for x in sys.argv[1:] if not x.startswith("--")]
    bad = 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for which in names or DEMOS:
            assets = AssetStore()
            if which in DEMOS:
                scene = demo_scene(which, assets)
                scene = keep_take(scene, assets, run(scene, assets), scene.settings_fingerprint())
            else:
                scene = load_scene(which, assets)
            ref = scene.active_take()
            take = Take.from_arrays(assets[ref.asset])
            for f in scene.cast:
                if moved(take, f.id):
                    scene = add_layer(
                        scene, assets, f.id, bake_figure(scene, assets, f, take, wish), "baked", of=ref.id
                    )
            save_scene(folder / "a.artuline", scene, assets, replace=True)
            again = AssetStore()
            back = load_scene(folder / "a.artuline", again)
            save_scene(folder / "b.artuline", back, again, replace=True)
            same = (folder / "a.artuline").read_bytes() == (folder / "b.artuline").read_bytes()
            worst: dict[str, tuple[float, float]] = {}
            for f in back.cast[:4]:
                for ending, off in compared(back, again, f, folder).items():
                    worst[ending] = tuple(np.maximum(worst.get(ending, (0.0, 0.0)), off))
            out = any(mm > MOST_MM or deg > MOST_DEGREES for mm, deg in worst.values()) or not same
            bad += out
            print(
                Path(which).stem,
                "same bytes" if same else "OTHER BYTES",
                *(f"{e} {mm:.5f} mm {d:.5f} deg" for e, (mm, d) in worst.items()),
                "OFF" if out else "",
                flush=True,
            )
    sys.exit(bool(bad))


if __name__ == "__main__":
    main()
