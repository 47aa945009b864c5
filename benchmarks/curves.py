"""The bake and the editor of keys: how few keys, how near, how sharp, how fast."""

import time

import numpy as np

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure, moved
from artuline.core.bake.fitter import Fitter
from artuline.core.bake.from_keys import limbs_from_keys
from artuline.core.bake.hermite import Wish, fit
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.skeleton import Pose, Skeleton, skeleton_of, under
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.setup.limbs import propose_limbs
from artuline.demo.scenes import DEMOS, demo_scene

LEVELS = ((0.25, 1.0), (0.5, 2.0), (1.0, 4.0), (2.0, 8.0))


def each_demo():
    for name in DEMOS:
        assets = AssetStore()
        scene = demo_scene(name, assets)
        take = run(scene, assets)
        which = [f for f in scene.cast if moved(take, f.id) and f.made is None]
        for f in which[:1]:
            yield name, scene, assets, take, f


def bakes():
    """Every demo scene: keys a channel, against one a frame, errors reached on the frames and between them."""
    for name, scene, assets, take, f in each_demo():
        for degrees, millimetres in LEVELS:
            for held in (True, False):
                b = bake_figure(scene, assets, f, take, BakeWish(degrees, millimetres, between=held))
                worst = max(b.millimetres.values())
                whole = b.share * b.frames / (scene.end - scene.start + 1)
                text = f"{np.mean(list(b.keys.values())):.1f} keys, {100 * b.share:.0f} % ({100 * whole:.0f} %); {b.degrees:.2f} deg, {worst:.2f} mm; between {b.between:.2f}"
                yield (
                    f"{name} at {degrees} deg, {millimetres} mm{'' if held else ', free between frames'}",
                    text,
                    "within",
                    b.degrees <= degrees and worst <= millimetres,
                )


def goals():
    """Every demo scene with limbs: what is baked onto goals against the take, at every frame, as the layer plays."""
    for name, scene, assets, take, f in each_demo():
        limbs = propose_limbs(f, assets)
        if not limbs:
            continue
        scene = edit.figure(scene, f.id, goals=limbs)
        f = scene.figure(f.id)
        baked = bake_figure(scene, assets, f, take, BakeWish(1.0, 2.0))
        made = add_layer(scene, assets, f.id, baked, "baked")
        frames = np.arange(baked.start, baked.end + 1.0)
        rows, pose = [take.row(int(k)) for k in frames], take.poses[f.id]
        root = root_at(scene, assets, f, frames)
        want = under(
            skeleton_of(f),
            Pose(pose.translation[rows], pose.rotation[rows], pose.scale[rows]),
            take.root(f)[rows],
            root,
        )
        got = keyed_pose(made, assets, made.figure(f.id), frames)
        which = [f.bone_index[b] for x in limbs if any(n[0] == x.goal for n in baked.keys) for b in x.bones]
        if not which:
            # physics moves no limb: what its keys are, on goals
            made = add_layer(scene, assets, f.id, limbs_from_keys(scene, assets, f, BakeWish(1.0, 2.0)), "limbs")
            got, want = (keyed_pose(s, assets, s.figure(f.id), frames) for s in (made, scene))
            which = [f.bone_index[b] for x in limbs for b in x.bones]
        angle = np.degrees(rotation.angle_between(got.rotation[:, which], want.rotation[:, which]).max())
        a, b = (skeleton_of(f).global_matrices(x, root)[:, which, :3, 3] for x in (got, want))
        off = 1000.0 * np.linalg.norm(a - b, axis=2).max()
        yield (
            f"{name}: {len(which) // 3} limbs of {f.id}",
            f"{angle:.2f} deg, {off:.2f} mm",
            "1 deg, 2 mm",
            angle <= 1.0 and off <= 2.0,
        )


def hits():
    """Speed of the striking limb's body just before and after the hardest hit, in the bake and in the take."""
    for name, scene, assets, take, f in each_demo():
        mine = [k for k, ref in enumerate(take.bodies) if ref.figure == f.id]
        free = (take.handover[:, mine] >= 1.0).all(axis=1)
        force = np.where(free[:, None], take.contact[:, mine], 0.0)
        if force.max(initial=0.0) <= 0.0:
            continue
        at, which = np.unravel_index(int(np.argmax(force)), force.shape)
        bone = f.bone_index[next(b.bone for b in f.bodies if b.id == take.bodies[mine[which]].body)]
        baked = add_layer(scene, assets, f.id, bake_figure(scene, assets, f, take, BakeWish(0.5, 2.0)), "baked")
        frames = take.frames[max(at - 2, 0) : at + 3].astype(float)

        skeleton = skeleton_of(f)
        rows = [take.row(int(k)) for k in frames]
        pose = take.poses[f.id]
        then = _speeds(
            scene.rate,
            bone,
            skeleton.global_matrices(
                Pose(pose.translation[rows], pose.rotation[rows], pose.scale[rows]), take.root(f)[rows]
            ),
        )
        now = _speeds(
            scene.rate,
            bone,
            skeleton.global_matrices(
                keyed_pose(baked, assets, baked.figure(f.id), frames), root_at(baked, assets, f, frames)
            ),
        )
        ends = [0, -1]
        off = max(abs(now[k] - then[k]) / max(then[k], 0.1) for k in ends)
        yield (
            f"{name}: {f.bones[bone].name} before and after",
            f"{then[0]:.2f}, {then[-1]:.2f} m/s; off {100 * off:.1f} %",
            "10 %",
            off < 0.1,
        )


def _speeds(rate, bone, matrices):
    return np.linalg.norm(np.diff(matrices[:, bone, :3, 3], axis=0), axis=1) * rate


def random_signals():
    """500 smooth and cornered signals and ways of rotations."""
    worst, flips, random = 0.0, 0, np.random.default_rng(7)
    for k in range(500):
        frames, turning = int(random.integers(3, 240)), k % 2 == 1
        t = np.linspace(0, 1, frames)[:, None]
        signal = sum(
            random.normal(size=3) * np.sin(2 * np.pi * n * t + random.uniform(0, 6, 3)) / n**2 for n in range(1, 7)
        )
        corners = frozenset(random.integers(1, max(frames - 1, 2), int(random.integers(0, 5))).tolist())
        for c in corners:
            signal[c:] += np.arange(frames - c)[:, None] * random.normal(size=3) * 0.05
        bound = float(random.choice([0.002, 0.01, 0.05]))
        samples = (
            rotation.make_continuous(rotation.from_rotation_vector(signal * random.choice([1.0, 5.0])))
            if turning
            else signal
        )
        keys = fit(samples, Wish(bound, turning, corners))
        curve = keys.evaluate(frames)
        if turning:
            flips += int((np.sum(rotation.normalize(curve) * samples, axis=1) < 0.0).any())
            error = rotation.angle_between(rotation.normalize(curve), samples).max()
        else:
            error = np.linalg.norm(curve - samples, axis=1).max()
        worst = max(worst, error / bound)
    yield "worst error against its bound; flips", f"{worst:.4f}; {flips}", "1; 0", worst <= 1.0 + 1e-9 and flips == 0


def fit_speed():
    """30 bones, 240 frames: motion of a limb's kind, within 0.5 degrees and 2 mm."""
    random, bones, frames = np.random.default_rng(3), 30, 240
    parents = [-1, *((k - 1) if k % 6 else 0 for k in range(1, bones))]
    t = np.arange(frames)[:, None] / 24.0
    turns = np.zeros((frames, bones, 4))
    for b in range(bones):
        way = (
            sum(
                random.normal(size=3) * np.sin(2 * np.pi * n * 0.4 * t + random.uniform(0, 6, 3)) / n**2
                for n in range(1, 5)
            )
            * 0.4
        )
        turns[:, b] = rotation.make_continuous(rotation.from_rotation_vector(way))
    rest = Pose(
        np.tile([0.0, 0.15, 0.0], (1, bones, 1)), np.tile([0.0, 0.0, 0.0, 1.0], (1, bones, 1)), np.ones((1, bones, 3))
    )
    skeleton = Skeleton(
        tuple(f"b{k}" for k in range(bones)), tuple(parents), rest.frame(0) if rest.rotation.ndim == 3 else rest
    )
    pose = Pose(np.repeat(rest.translation, frames, axis=0), turns, np.repeat(rest.scale, frames, axis=0))
    root = np.repeat(np.eye(4)[None], frames, axis=0)
    points = [(k, np.zeros(3)) for k in range(bones) if k not in parents]
    for millimetres, words in ((1e6, "0.5 degrees"), (2.0, "0.5 degrees and 2 mm")):
        best = np.inf
        for _ in range(3):
            began = time.perf_counter()
            fitter = Fitter(skeleton, root, pose, list(range(bones)), [], np.zeros(0, int), points)
            fitter.fit_all(0.5, millimetres, lambda n: None, lambda: False)
            best = min(best, time.perf_counter() - began)
        count = np.mean([len(k.rows) for k in fitter.keys.values()])
        yield f"30 bones, 240 frames within {words}: {count:.1f} keys a bone", f"{best:.2f} s", "0.3 s", best < 0.3


def redraws():
    """5,000 keys on 200 curves in the real window: redraws a second while panning, zooming and dragging."""
    from PySide6.QtWidgets import QApplication

    from artuline.core.geometry.curve import Channel
    from artuline.core.motion.clip import Clip
    from artuline.core.motion.keys import moved as moved_keys
    from artuline.core.scene.model import Bone, Figure, Layer, Scene
    from artuline.desk.application import make_application
    from artuline.desk.window import Window

    app = QApplication.instance() or make_application()
    assets, random = AssetStore(), np.random.default_rng(1)
    bones = tuple(Bone(name=f"b{i}", parent=f"b{i - 1}" if i % 8 else None, translation=(0, 0.1, 0)) for i in range(67))
    channels = []
    for b in bones:
        t = np.sort(random.choice(240, 25, replace=False)) / 24.0
        q = rotation.make_continuous(
            rotation.from_rotation_vector(np.cumsum(random.normal(size=(25, 3)) * 0.15, axis=0))
        )
        channels.append(Channel(b.name, "rotation", "CUBICSPLINE", t, np.stack([q * 0, q, q * 0], axis=1)))
    layer = Layer(id="l", name="l", asset=assets.add(Clip(tuple(channels)).to_arrays()), start=0, end=240)
    window = Window()
    window.resize(1280, 800)
    window.show()
    window.session.new(Scene(figures=(Figure(id="f", name="f", bones=bones, layers=(layer,)),), end=240), assets)
    window.set_station("Curves")
    app.processEvents()
    canvas, editing = window.station.pane.canvas, window.station.editing
    (x0, x1), (y0, y1) = canvas.box.viewRange()
    name = ("b3", "rotation")
    picked = np.zeros((25, 3), bool)
    picked[10, 1] = True

    def pan(k):
        canvas.box.setRange(xRange=(x0 + 0.3 * k, x1 + 0.3 * k), yRange=(y0, y1), padding=0.0)

    def zoom(k):
        canvas.zoom(1.01 if k < 30 else 0.99, 1.01 if k < 30 else 0.99, 100.0, 0.0)

    def drag(k):
        made, picks = editing.made(lambda c, p: moved_keys(c, p, 0.0, 0.5 * k), {name: picked}, before)
        editing.picked = picks
        window.session.preview(editing.change(made))

    drawn, paint = [0], canvas.paintEvent

    def counted(event):
        drawn[0] += 1
        paint(event)

    canvas.paintEvent = counted
    for words, do in (("pan", pan), ("zoom", zoom), ("drag", drag)):
        if do is drag:
            editing.pick({name: picked})
            before = {name: editing.channels()[name]}
            canvas._hold_lines(frozenset(before))
        for stage in ("with", "without") if do is drag else ("with",):
            window.stage.setUpdatesEnabled(stage == "with")
            app.processEvents()
            drawn[0], began = 0, time.perf_counter()
            for k in range(60):
                do(k)
                app.processEvents()
            # as many as were really drawn, which are not more than there were moves
            rate = min(drawn[0], 60) / (time.perf_counter() - began)
            yield f"{words}, {len(canvas.points()[4])} keys, {stage} the stage", f"{rate:.0f} a second", "30", rate > 30
    window.session.stack.setClean()
    window.close()


MEASUREMENTS = {
    "bakes": bakes,
    "limbs on goals": goals,
    "struck": hits,
    "signals": random_signals,
    "fit speed": fit_speed,
    "redraws": redraws,
}
