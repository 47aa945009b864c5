"""Strands against closed forms and against what is seen: how they hang, swing, pull, lie on skins and stay linked."""

import hashlib
import time

import numpy as np
from scipy.linalg import eigh_tridiagonal
from scipy.optimize import brentq
from scipy.signal import savgol_filter

from artuline.core.geometry import rotation, transforms
from artuline.core.geometry.winding import winding_numbers
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.physics import island_runs
from artuline.core.physics.world import BodySpec, World
from artuline.core.run.build import build, skin_of
from artuline.core.run.record import run
from artuline.core.run.stepper import Chunk, Stepper
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import MotionKey, Push, Scene, Shape, Strand, StrandPoint, obstacle
from artuline.core.setup.laid import laid, signed_distance
from artuline.core.setup.strand import add_strand, course_of
from artuline.core.setup.strand_kinds import ready
from artuline.demo.figures import ready_figure
from artuline.demo.scenes import demo_scene

G = 9.81


def pinned(*places):
    return tuple(StrandPoint(position=p, hold="pinned") for p in places)


def rope(points, **values):
    fields = {"bend": 0.0, "twist": 0.0, "air": 0.0} | values
    return Strand(kind=fields.pop("kind", "rope"), points=points, **fields)


def scene_of(strand, **values):
    assets = AssetStore()
    scene, id_ = add_strand(Scene(**({"ground": None} | values)), assets, strand)
    return scene, assets, id_


def catenary(span, length):
    """The parameter of a chain's curve between two places at one height, and its sag (m)."""
    a = brentq(lambda a: 2.0 * a * np.sinh(0.5 * span / a) - length, 0.05 * span, 100.0 * span)
    return a, a * (np.cosh(0.5 * span / a) - 1.0)


def sideways_period(a, length, n=4000):
    """Seconds of the slowest small swing of a hanging chain across its plane: z_tt = d/ds (g a sqrt(1 + (s/a)^2) z_s), by fine differences."""
    ds = length / n
    s = (np.arange(n) + 0.5) * ds - 0.5 * length
    pull = G * a * np.sqrt(1.0 + (s / a) ** 2) / ds**2
    w = eigh_tridiagonal(pull[:-1] + pull[1:], -pull[1:-1], select="i", select_range=(0, 0))[0][0]
    return 2.0 * np.pi / np.sqrt(w)


def upward(z, rate):
    """Mean time between the moments at which a signal passes zero upwards, s."""
    k = np.flatnonzero((z[:-1] < 0.0) & (z[1:] >= 0.0))
    at = (k - z[k] / (z[k + 1] - z[k])) / rate
    return float(np.diff(at).mean())


def hanging():
    for count in (30, 60, 120):
        sags, periods, ends = [], [], []
        for rate, substeps in ((24, 4), (24, 10), (60, 10)):
            strand = rope(pinned((0.0, 3.0, 0.0), (2.0, 3.0, 0.0)), count=count, slack=0.2, hangs=True)
            scene, assets, id_ = scene_of(strand, end=4 * rate, rate=rate, substeps=substeps)
            length = course_of(strand).length
            a, sag = catenary(2.0, length)
            take = run(edit.figure(scene, id_, velocity=(0.0, 0.0, 0.05)), assets)
            periods.append(upward(take.position[:, count // 2, 2], rate) / sideways_period(a, length) - 1.0)
            built = build(
                edit.bodies(scene, id_, set(take_ids(scene, id_)), lambda b: b.changed(drag=3.0, spin_drag=3.0)), assets
            )
            stepper = Stepper(built)
            for frame in range(0, 6 * rate, 16):
                chunk = Chunk(built, frame, 16)
                for k in range(16):
                    stepper.step(chunk, k)
            sags.append((3.0 - built.world.poses()[0][:, 1].min()) / sag - 1.0)
            load = built.world.joints["load"][-2:] * rate
            weight = strand.weight * G
            wanted = np.array([weight * a, 0.5 * weight * length])
            ends.append(max(np.abs(np.abs(x[:2]) / wanted - 1.0).max() for x in load))
        for what, values, bound in (
            ("sag", sags, 0.01),
            ("forces at its ends", ends, 0.01),
            ("period of its first swing", periods, 0.02),
        ):
            worst = max(values, key=abs)
            yield (
                f"{count} parts, worst of three step lengths: {what}",
                f"{100 * worst:+.2f} %",
                f"{100 * bound:.0f} %",
                abs(worst) < bound,
            )
    strand = rope(pinned((0.0, 3.0, 0.0), (2.0, 3.0, 0.0)), count=60, slack=0.2, bend=0.06, twist=0.06, air=0.3)
    scene, assets, id_ = scene_of(strand, end=24 * 60)
    take = run(edit.figure(scene, id_, velocity=(0.0, 0.0, 1.0)), assets)
    speed = np.linalg.norm(np.diff(take.position, axis=0), axis=2).max(axis=1) * 24.0
    still = float((np.flatnonzero(speed > 0.005).max(initial=0) + 1) / 24.0)
    yield "60 parts that set off at 1 m/s: below 5 mm/s after", f"{still:.1f} s", "shown", True


def take_ids(scene, id_):
    return [b.id for b in scene.figure(id_).bodies]


def bending():
    wanted = 3.516**2 / 8.0 / (2.0 * np.pi * 2.0) ** 2
    for count in (20, 40, 80):
        rates, sags = [], []
        for substeps in (4, 10, 20):
            points = (*pinned((0.0, 3.0, 0.0)), StrandPoint(position=(1.0, 3.0, 0.0)))
            strand = rope(points, kind="cable", count=count, bend=2.0, twist=2.0, ratio=0.02, radius=0.004, reach=0.004)
            scene, assets, id_ = scene_of(strand, end=144, substeps=substeps, gravity=(0.0, 0.0, 0.0))
            take = run(edit.figure(scene, id_, velocity=(0.0, 0.0, 0.05)), assets)
            rates.append(upward(take.position[24:, -1, 2], 24))
            heavy = edit.scene(scene, gravity=(0.0, -1.0, 0.0), end=240)
            heavy = edit.bodies(heavy, id_, set(take_ids(scene, id_)), lambda b: b.changed(drag=3.0))
            take = run(heavy, assets)
            tip = take.position[-1, -1] + rotation.rotate(take.rotation[-1, -1], np.array([1.0 / count, 0.0, 0.0]))
            sags.append((3.0 - tip[1]) / wanted - 1.0)
        off = max((1.0 / r / 2.0 - 1.0 for r in rates), key=abs)
        yield f"{count} parts, held at one end: frequency of bending", f"{100 * off:+.2f} %", "3 %", abs(off) < 0.03
        sag = max(sags, key=abs)
        yield f"{count} parts: sag of its tip", f"{100 * sag:+.2f} %", "3 %", abs(sag) < 0.03
        spread = max(sags) - min(sags)
        yield f"{count} parts: sag, from 4 to 20 substeps", f"{100 * spread:.3f} %", "0.1 %", spread < 1e-3


def long_line():
    """20 m of line over a post, with a weight at its end."""
    points = (
        *pinned((-1.2, 20.3, 0.0)),
        *(
            StrandPoint(position=p)
            for p in (
                (-0.4, 20.18, 0.0),
                (0.0, 20.13, 0.0),
                (0.092, 20.092, 0.0),
                (0.13, 20.0, 0.0),
                (0.13, 19.6, 0.0),
                (0.13, 1.2, 0.0),
            )
        ),
    )
    strand = rope(points, count=200, radius=0.012, reach=0.012, weight=0.3, bend=0.06, twist=0.06, air=0.3, ratio=0.6)
    post = obstacle("post", Shape(kind="capsule", radius=0.1, half_length=1.0, rotation=(0.0, -np.sqrt(0.5), 0.0, np.sqrt(0.5))),
                    (MotionKey(frame=0, position=(0.0, 20.0, 0.0)),))  # fmt: skip
    scene, assets, id_ = scene_of(strand, end=360)
    scene = edit.add_figure(scene, post)
    last = scene.figure(id_).bodies[-1].id
    scene = edit.bodies(scene, id_, {last}, lambda b: b.changed(mass=20.0))
    take = run(scene, assets)
    rows = [k for k, b in enumerate(take.bodies) if b.figure == id_]
    p, q = take.position[:, rows], take.rotation[:, rows]
    tip = p[:, -1] + rotation.rotate(q[:, -1], np.array([course_of(strand).length / 200, 0.0, 0.0]))
    length = np.linalg.norm(np.diff(np.concatenate([p, tip[:, None]], axis=1), axis=1), axis=2).sum(axis=1)
    stretch = float(np.abs(length / course_of(strand).length - 1.0).max())
    yield "20 m, 200 parts, 20 kg: stretch, worst of 360 frames", f"{100 * stretch:.5f} %", "0.5 %", stretch < 0.005
    late = float(np.abs(p[-48:] - savgol_filter(p[-48:], 9, 4, axis=0)).max())
    yield "jitter at 13 to 15 s: against the smooth way", f"{1e3 * late:.4f} mm", "0.1 mm", late < 1e-4
    middles = p + rotation.rotate(q, np.array([0.5 * length[0] / 200, 0.0, 0.0]))
    near = np.hypot(middles[..., 0], middles[..., 1] - 20.0).min()
    yield "nearest any part's middle comes to the post's axis", f"{1e3 * near:.2f} mm", "above 111 mm", near > 0.111


def under_skin(scene, take, assets, figure, strand, frames):
    """Signed distances (F, N) of the middles of a strand's parts from a figure's skin at frames."""
    f, s = scene.figure(figure), scene.figure(strand)
    rows = [k for k, b in enumerate(take.bodies) if b.figure == strand]
    middle = np.array([s.body_of[take.bodies[k].body].shapes[0].position for k in rows])
    mesh = assets.decoded(f.asset, Mesh.from_arrays)
    found = []
    for frame in frames:
        i = take.row(frame)
        at = take.position[i, rows] + rotation.rotate(take.rotation[i, rows], middle)
        skin = mesh.skin(keyed_matrices(scene, assets, f, np.array([float(frame)]))[0])
        near = ((at > skin.min(axis=0) - 0.03) & (at < skin.max(axis=0) + 0.03)).all(axis=1)
        gaps = np.full(len(rows), np.inf)
        if near.any():
            gaps[near] = signed_distance(at[near], skin, mesh.triangles)[0]
        found.append(gaps)
    return np.array(found)


def mooring():
    assets = AssetStore()
    scene = demo_scene("mooring", assets)
    began = time.perf_counter()
    take = run(scene, assets)
    cost = (time.perf_counter() - began) / ((scene.end - scene.start + scene.warm_up) / scene.rate)
    gaps = under_skin(scene, take, assets, "deckhand", "line", range(scene.start, scene.end + 1))
    line = scene.figure("line")
    # those beside a hand that holds them are in the hand
    held = [line.bone_index[m.part] for m in line.mounts if m.figure == "deckhand"]
    loose = np.array([k for k in range(len(line.bones)) if min(abs(k - h) for h in held) > 2])
    under = int((gaps[:, loose] < 0.0).any(axis=1).sum())
    yield "240 frames of walk: with a part's middle under the skin", f"{under}", "0", under == 0
    deep = 1e3 * float((line.made.reach - gaps[:, loose]).max())
    yield "deepest below its radius", f"{deep:.2f} mm", "1 mm", deep < 1.0
    slip, parts = slid(scene, take, assets, "line", 48)
    fine = edit.scene(scene, substeps=40)
    same, _ = slid(fine, run(fine, assets), assets, "line", 48)
    yield (
        f"pulled over the shoulder in 8 s, {parts} parts; with 40 substeps",
        f"{1e3 * slip:.0f}, {1e3 * same:.0f} mm",
        "the same",
        abs(slip - same) < 0.2 * same,
    )
    slip, parts = slid(*lies_on_shoulder("walk")[:3], "rope", 24)
    yield f"hanging over it by itself, 9 s of walk: slides, {parts} parts", f"{1e3 * slip:.1f} mm", "", True
    slip, parts = slid(*lies_on_shoulder("stand")[:3], "rope", 24)
    yield (
        f"at rest on the shoulder of who stands and shifts his weight, 9 s: slides, {parts} parts",
        f"{1e3 * slip:.1f} mm",
        "5 mm",
        parts > 0 and slip < 0.005,
    )
    yield "cost against real time, two cores", f"{cost:.2f}", "", True


def slid(scene, take, assets, strand, first, step=1):
    """How far the parts of a strand that lie on top of the deckhand's skin at a frame slide against it until the end: the sum of their ways along the
    triangles that they touch, less how these move; the most of all parts that lie on it throughout, m, and how many these are.
    """
    f, line = scene.figure("deckhand"), scene.figure(strand)
    mesh = assets.decoded(f.asset, Mesh.from_arrays)
    rows = [k for k, b in enumerate(take.bodies) if b.figure == strand]
    middle = np.array([b.shapes[0].position for b in line.bodies])
    lies, total, before, last = None, np.zeros((len(rows), 3)), None, None
    for frame in range(first, scene.end + 1, step):
        i = take.row(frame)
        at = take.position[i, rows] + rotation.rotate(take.rotation[i, rows], middle)
        skin = mesh.skin(keyed_matrices(scene, assets, f, np.array([float(frame)]))[0])
        if before is not None:
            old, corners, shares, normal = before
            moved = np.einsum("nk,nkd->nd", shares, skin[corners])
            way = (at - old) - (moved - np.einsum("nk,nkd->nd", shares, last[corners]))
            total += way - normal * (way * normal).sum(axis=1, keepdims=True)
        gap, place, which = signed_distance(at, skin, mesh.triangles)
        here = gap < 1.35 * line.made.reach
        lies = here if lies is None else lies & here
        corners = mesh.triangles[which]
        a, b, c = (skin[corners[:, k]] for k in range(3))
        normal = np.cross(b - a, c - a)
        normal /= np.linalg.norm(normal, axis=1, keepdims=True)
        lies &= normal[:, 1] > 0.5
        shares = np.linalg.solve(np.stack([a, b, c], axis=2) + 0.0, place[:, :, None])[:, :, 0]
        before, last = (at, corners, shares / shares.sum(axis=1, keepdims=True), normal), skin
    return float(np.linalg.norm(total[lies], axis=1).max(initial=0.0)), int(lies.sum())


def lies_on_shoulder(clip="walk"):
    """A line over the shoulder of the deckhand, its ends hanging."""
    assets = AssetStore()
    figure = ready_figure("deckhand", assets)
    figure = figure.changed(clip=clip, skin=True, clips=tuple(c.changed(loop=True) for c in figure.clips))
    scene = Scene(figures=(figure,), end=240, warm_up=48)
    m = keyed_matrices(scene, assets, figure, np.array([0.0]))[0]
    at = 0.55 * m[figure.bone_index["neck"], :3, 3] + 0.45 * m[figure.bone_index["upper_arm_l"], :3, 3]
    points = tuple(
        StrandPoint(position=tuple(at + np.array(o)))
        for o in ((0, -0.35, 0.3), (0, 0.05, 0.14), (0, 0.11, 0), (0, 0.05, -0.14), (0, -0.35, -0.3))
    )
    points = laid(scene, assets, points, 0.0, 0.012)
    strand = ready("rope", points, radius=0.011, friction=1.0, bend=0.02, twist=0.3, count=30)
    scene, id_ = add_strand(scene, assets, strand)
    return scene, run(scene, assets), assets, id_


def linking(a, b):
    """Linking number of two closed polygons (N, 3), (M, 3) (Klenin & Langowski 2000, method 1a)."""
    p, q = np.roll(a, -1, axis=0), np.roll(b, -1, axis=0)
    r13, r14 = b[None] - a[:, None], q[None] - a[:, None]
    r23, r24 = b[None] - p[:, None], q[None] - p[:, None]
    r12, r34 = (p - a)[:, None], (q - b)[None]

    def unit(v):
        return v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), 1e-30)

    n = [unit(np.cross(x, y)) for x, y in ((r13, r14), (r14, r24), (r24, r23), (r23, r13))]
    angle = sum(np.arcsin(np.clip((n[k] * n[(k + 1) % 4]).sum(axis=-1), -1.0, 1.0)) for k in range(4))
    return float((angle * np.sign((np.cross(r34, r12) * r13).sum(axis=-1))).sum() / (4.0 * np.pi))


def floats():
    assets = AssetStore()
    scene = demo_scene("floats", assets)
    costs, takes = [], []
    for threads in (1, 2):
        island_runs.threads = threads
        began = time.perf_counter()
        takes.append(run(scene, assets))
        costs.append((time.perf_counter() - began) / ((scene.end - scene.start) / scene.rate))
    same = all(hashlib.sha256(a.tobytes()).digest() == hashlib.sha256(b.tobytes()).digest()
               for a, b in ((takes[0].position, takes[1].position), (takes[0].rotation, takes[1].rotation)))  # fmt: skip
    take, radius = takes[0], 0.022
    loose = [k for k, b in enumerate(take.bodies) if scene.figure(b.figure).made is not None]
    last = max(f.enters or 0.0 for f in scene.figures)
    for threads, cost in zip((1, 2), costs, strict=True):
        yield (
            f"ten strings of 60: cost against real time, {threads} core{'s' if threads > 1 else ''}",
            f"{cost:.2f}",
            "",
            True,
        )
    yield "same bits on one core and two", "yes" if same else "no", "yes", same
    after = take.row(min(int(last) + 72, scene.end))
    deep = take.penetration[after:, loose].max()
    yield "deepest, 3 s after the last", f"{1e3 * deep:.2f} mm", f"{250 * radius:.1f} mm", deep < 0.25 * radius
    speed = np.linalg.norm(np.diff(take.position[after - 1 :, loose], axis=0), axis=2).mean() * scene.rate
    yield "mean speed 3 s after the last", f"{1e3 * speed:.2f} mm/s", "5 mm/s", speed < 5e-3
    yield "two linked loops over a post: linking number", *stay_linked()
    for substeps in (10, 40):
        for force in (50.0, 200.0):
            linked, gained = pulled_apart(substeps, force)
            yield (
                f"two loose linked loops pulled apart by {force:g} N, {substeps} substeps",
                f"{'linked' if linked else 'through each other'}, {100 * gained:.1f} % of the work at most",
                "linked, 100 %",
                linked and gained < 1.0,
            )


def _linked_loops(scene, assets, **values):
    """Two closed loops through each other; the scene and their ids."""
    angle = 2.0 * np.pi * np.arange(8) / 8.0
    flat = [StrandPoint(position=(0.45 * np.cos(a), 1.4, 0.45 * np.sin(a))) for a in angle]
    upright = [StrandPoint(position=(0.45 + 0.45 * np.cos(a), 1.4 + 0.45 * np.sin(a), 0.02)) for a in angle]
    scene, a = add_strand(scene, assets, rope(tuple(flat), closed=True, radius=0.02, reach=0.02, weight=0.3, **values))
    scene, b = add_strand(
        scene, assets, rope(tuple(upright), closed=True, radius=0.02, reach=0.02, weight=0.3, **values)
    )
    return scene, a, b


def pulled_apart(substeps, force, frames=36, **values):
    """Two loose loops through each other, without gravity, pulled apart by a force at both: whether they stay linked, and the largest part
    of the work put in that their energy ever was.
    """
    assets = AssetStore()
    scene = Scene(end=frames, substeps=substeps, ground=None, gravity=(0.0, 0.0, 0.0))
    scene, a, b = _linked_loops(scene, assets, **({"count": 40, "air": 0.0, "bend": 0.0, "twist": 0.0} | values))
    pushes, ends, built = [], [], build(scene, assets)
    x = built.keyed(np.zeros(1))[0][0]
    for id_, way in ((a, -1.0), (b, 1.0)):
        part = next(p for p in built.parts if p.figure.id == id_)
        k = int(np.argmax(way * x[part.rows, 0]))
        ends.append((part.rows[k], way))
        impulse = (way * force * frames / scene.rate, 0.0, 0.0)
        pushes.append(Push(id=id_, figure=id_, body=part.bodies[k].id, start=0, frames=frames, impulse=impulse))
    take = run(edit.scene(scene, pushes=tuple(pushes)), assets)
    rows = [[k for k, x in enumerate(take.bodies) if x.figure == id_] for id_ in (a, b)]
    numbers = [linking(take.position[i, rows[0]], take.position[i, rows[1]]) for i in range(len(take.frames))]
    work = sum(way * force * (take.position[:, k, 0] - take.position[0, k, 0]) for k, way in ends)
    energy = take.kinetic.sum(axis=1)
    # a velocity is that of half a substep before or after, which counts as long as it has hardly begun
    return bool(np.abs(np.abs(numbers) - 1.0).max() < 0.1), float((energy[2:] / work[2:]).max())


def stay_linked():
    assets = AssetStore()
    scene, a, b = _linked_loops(Scene(end=144), assets, kind="beads", count=60, air=0.2)
    post = obstacle("post", Shape(kind="capsule", radius=0.12, half_length=0.4, rotation=(0.0, 0.0, np.sqrt(0.5), np.sqrt(0.5))),
                    (MotionKey(frame=0, position=(0.0, 0.4, 0.0)),))  # fmt: skip
    scene = edit.add_figure(scene, post)
    take = run(scene, assets)
    rows = {id_: [k for k, x in enumerate(take.bodies) if x.figure == id_] for id_ in (a, b)}
    found = {round(linking(take.position[i, rows[a]], take.position[i, rows[b]]), 3) for i in range(len(take.frames))}
    return (
        f"{', '.join(f'{x:.0f}' for x in sorted(found))}",
        "the same in 145 frames",
        len({round(x) for x in found}) == 1 and abs(next(iter(found))) > 0.9,
    )


def throw(figure, assets, clip, count, seed, speed=10.0, radius=0.012, rate=24, substeps=10, frames=5):
    """Throw beads at places all over a figure's skin, from everywhere: how many were inside of it in some frame, and how many were thrown."""
    f = figure.changed(clip=clip, skin=True, clips=tuple(c.changed(loop=True) for c in figure.clips))
    scene = Scene(figures=(f,), ground=None, gravity=(0.0, 0.0, 0.0), rate=rate)
    built = build(scene, assets)
    part, random = built.parts[0], np.random.default_rng(seed)
    start = random.uniform(0.0, 100.0)
    mesh = assets.decoded(f.asset, Mesh.from_arrays)

    def skin(at):
        return mesh.skin(keyed_matrices(scene, assets, f, np.array([at]))[0])

    chosen = mesh.triangles[random.integers(0, len(mesh.triangles), count)]
    goal = (skin(start + frames / 2)[chosen] * random.dirichlet((1, 1, 1), count)[:, :, None]).sum(axis=1)
    way = random.normal(size=(count, 3))
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    places = goal - 0.5 * frames / rate * speed * way
    outside = winding_numbers(places, skin(start), mesh.triangles) < 0.5
    p, q = rigid(rest_matrices(f))
    bodies = [BodySpec(b.shapes, density=b.density, mass=b.mass, free=False, position=p[i], rotation=q[i])
              for b, i in zip(part.bodies, part.bones, strict=True)]  # fmt: skip
    own, ball = len(bodies), Shape(kind="sphere", radius=radius)
    bodies += [
        BodySpec((ball,), mass=0.01, position=places[k], velocity=speed * way[k], drapes=True, group=0)
        for k in range(count)
    ]
    world = World(bodies, gravity=(0.0, 0.0, 0.0), skins=[skin_of(assets, part)])
    n, times = len(bodies), start + np.arange(frames * substeps + 1) / substeps
    x, r = np.zeros((len(times), n, 3)), np.tile([0.0, 0.0, 0.0, 1.0], (len(times), n, 1))
    keyed_p, keyed_q = built.keyed(times)
    x[:, :own], r[:, :own] = transforms.rigid_multiply(
        keyed_p[:, part.rows], rotation.make_continuous(keyed_q)[:, part.rows], world.local_p[:own], world.local_q[:own]
    )
    world.bodies["x"][:own], world.bodies["q"][:own] = x[0, :own], r[0, :own]
    free = np.zeros((substeps, n), bool)
    free[:, own:] = True
    inside = np.zeros(count, bool)
    for k in range(frames):
        rows = slice(k * substeps, (k + 1) * substeps + 1)
        world.step_keyed(1.0 / rate, x[rows], r[rows], free, np.zeros((substeps, n)), np.zeros((substeps, 0)))
        inside |= winding_numbers(world.bodies["x"][own:], skin(start + k + 1), mesh.triangles) > 0.5
    return int((inside & outside).sum()), int(outside.sum())


def throws(rounds=52, count=200):
    assets = AssetStore()
    figure = ready_figure("deckhand", assets)
    clips = [c.name for c in figure.clips]
    found = [throw(figure, assets, clips[k % len(clips)], count, k) for k in range(rounds)]
    through, thrown = (sum(x) for x in zip(*found, strict=True))
    yield f"{thrown} beads at 10 m/s at the deckhand: through", f"{through}", "0", through == 0


MEASUREMENTS = {
    "hanging": hanging,
    "bending": bending,
    "long line": long_line,
    "mooring": mooring,
    "floats": floats,
    "throws": throws,
}
