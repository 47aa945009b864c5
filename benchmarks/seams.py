"""Scenes at random, of two to six features that meet: nothing stands still, jumps, costs too much, gains energy from nowhere, or depends on the order of its figures."""

import sys
import tempfile
from pathlib import Path

import numpy as np
from tests import foreign

from artuline.core.checks.takes import check_take
from artuline.core.errors import ArtulineError
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import (
    Body,
    Bone,
    Figure,
    Flesh,
    Gusts,
    Joint,
    Lane,
    Link,
    LinkEnd,
    MotionKey,
    Mount,
    Push,
    Rule,
    Scene,
    Shape,
    Soft,
    Spring,
    Strand,
    StrandPoint,
    Track,
    obstacle,
)
from artuline.core.setup.added import grown
from artuline.core.setup.ragdoll import set_up
from artuline.core.setup.soft import add_soft, mask
from artuline.core.setup.springy import kind_of, made_springy
from artuline.core.setup.strand import add_strand
from artuline.demo.soft import bare_float
from artuline.formats.importing import add_figure
from benchmarks.contradictions import tried
from benchmarks.lanes import lane

END = 60
SUBSTEPS = (2, 10, 40)
COST = 10.0  # times the median of its scene that a frame may cost
WRITERS = (foreign.write_centimetre_walker, foreign.write_crawler, foreign.write_walker)


def figure_of(kind, _made={}):  # noqa: B006
    """A scene with one stranger's figure that is set up, and its data; made once."""
    if kind not in _made:
        with tempfile.TemporaryDirectory() as folder:
            path, assets = Path(folder) / "figure.glb", AssetStore()
            WRITERS[kind](path)
            scene, f, _ = add_figure(Scene(), assets, path)
        _made[kind] = edit.map_figure(scene, f.id, lambda x: set_up(x, assets)).changed(start=0, end=END), assets
    return _made[kind]


def body_at(scene, rng):
    f = scene.figures[0]
    return f, f.bodies[int(rng.integers(len(f.bodies)))]


def groups(scene, assets, rng):
    f = scene.figures[0]
    for start in (None, str(rng.choice([b.bone for b in f.bodies]))):
        scene = edit.hand_over(scene, f.id, start, 10, 20)
        last = next(g for g in scene.figures[0].groups if g.begins_at(start))
        scene = edit.group(scene, f.id, last.id, handover=lane(rng), tone=Lane(rest=float(rng.choice([0.0, 0.2, 1.0]))))
    return scene


def limp(scene, assets, rng):
    return edit.hand_over(scene, scene.figures[0].id, None, float(rng.integers(2, 20)), END + 20.0, 0.0, 0.0)


def springy(scene, assets, rng):
    f, body = body_at(scene, rng)
    spring = Spring(
        frequency=float(rng.uniform(1.0, 8.0)), ratio=float(rng.uniform(0.05, 1.0)), gravity=float(rng.integers(2))
    )
    return edit.springy(scene, f.id, body.bone, spring)


def thing(scene, assets, rng):
    """A ball, a box or a stick that falls near by."""
    r = float(rng.uniform(0.03, 0.2))
    shape = (
        Shape(kind="sphere", radius=r), Shape(kind="box", half=(r, 0.5 * r, 2.0 * r)),
        Shape(kind="capsule", radius=0.3 * r, half_length=2.0 * r),
    )[int(rng.integers(3))]  # fmt: skip
    name = edit.fresh_id("crate", {f.id for f in scene.figures})
    place = tuple(float(v) for v in rng.uniform((-0.6, 1.2, -0.6), (0.6, 3.0, 0.6)))
    made = obstacle(name, shape, (MotionKey(frame=0, position=place),))
    scene = edit.add_figure(scene, made)
    scene = edit.bodies(scene, name, {made.bodies[0].id}, lambda b: b.changed(density=float(rng.uniform(100, 3000))))
    return edit.hand_over(scene, name, None, 0.0, END + 20.0, 0.0, 0.0)


def sweeper(scene, assets, rng):
    """A keyed bar that goes to and fro."""
    name = edit.fresh_id("boom", {f.id for f in scene.figures})
    y, z = rng.uniform(0.3, 1.5), rng.uniform(-0.5, 0.5)
    keys = tuple(
        MotionKey(frame=f, position=(float(1.5 * np.cos(2 * np.pi * f / END)), float(y), float(z)))
        for f in range(0, END + 1, 10)
    )
    return edit.add_figure(scene, obstacle(name, Shape(kind="capsule", radius=0.06, half_length=0.6), keys))


def hold(scene, assets, rng):
    """A body held in the world, or tied to another thing."""
    f, body = body_at(scene, rng)
    others = [x for x in scene.figures if x.id != f.id and x.bodies]
    name = edit.fresh_id("hold", {x.id for x in scene.links})
    end, kind = None, str(rng.choice(["pin", "weld"]))
    more = {}
    if others and rng.random() < 0.7:
        o = others[int(rng.integers(len(others)))]
        end = LinkEnd(figure=o.id, body=o.bodies[0].id)
        kind = str(rng.choice(["pin", "weld", "tie"]))
        more = {"lengths": (0.0, float(rng.uniform(0.5, 3.0)))} if kind == "tie" else {}
    start = float(rng.integers(0, 30))
    stop = None if rng.random() < 0.5 else start + float(rng.integers(5, 30))
    link = Link(
        id=name, name=name, kind=kind, a=LinkEnd(figure=f.id, body=body.id), b=end, start=start, stop=stop, **more
    )
    return edit.scene(scene, links=(*scene.links, link))


def rides(scene, assets, rng):
    """A thing that rides on a bone."""
    f, body = body_at(scene, rng)
    name = edit.fresh_id("lamp", {x.id for x in scene.figures})
    mount = Mount(
        id="m", part=name, figure=f.id, bone=body.bone, position=(0.0, 0.02, 0.1), hold=str(rng.choice(["fixed", "swings"])),
        stop=None if rng.random() < 0.5 else float(rng.integers(10, 50)),
    )  # fmt: skip
    made = obstacle(name, Shape(kind="box", half=(0.04, 0.08, 0.05)), (MotionKey(frame=0),))
    scene = edit.add_figure(scene, made.changed(mounts=(mount,)))
    if rng.random() < 0.6:
        scene = edit.hand_over(scene, name, None, 0.0, END + 20.0, 0.0, 0.0)
    return scene


def rope(scene, assets, rng):
    """A rope from the world to a bone, or loose over the scene."""
    f, body = body_at(scene, rng)
    a = tuple(float(v) for v in rng.uniform((-0.5, 2.0, -0.5), (0.5, 3.0, 0.5)))
    hold_b = {"hold": "mounted", "figure": f.id, "bone": body.bone} if rng.random() < 0.6 else {}
    b = tuple(float(v) for v in rng.uniform((-0.4, 0.5, -0.4), (0.4, 1.5, 0.4)))
    points = (StrandPoint(position=a, hold="pinned"), StrandPoint(position=b, **hold_b))
    strand = Strand(
        points=points, kind=str(rng.choice(["rope", "cable"])), count=int(rng.integers(10, 30)), slack=0.15, hangs=True
    )
    return add_strand(scene, assets, strand)[0]


def blow(scene, assets, rng):
    f, body = body_at(scene, rng)
    push = Push(
        id=edit.fresh_id("push", {p.id for p in scene.pushes}), figure=f.id, body=body.id, start=float(rng.integers(2, 50)),
        frames=float(rng.integers(1, 4)), impulse=tuple(float(v) for v in rng.normal(0.0, 20.0, 3)),
    )  # fmt: skip
    return scene.changed(pushes=(*scene.pushes, push))


def wind(scene, assets, rng):
    w = tuple(float(v) for v in rng.normal(0.0, 5.0, 3) * (1.0, 0.2, 1.0))
    return scene.changed(wind=w, gusts=Gusts(strength=float(rng.uniform(0.0, 2.0)), rate=1.0))


def touched(scene, assets, rng):
    f = scene.figures[0]
    return scene.changed(rules=(Rule(id="r", name="r", figure=f.id, when="touched"),))


def hinged(scene, assets, rng):
    """A box with a lid on a hinge, a slide or a ball joint, that falls near by; its joint may break."""
    r = float(rng.uniform(0.04, 0.15))
    name = edit.fresh_id("chest", {f.id for f in scene.figures})
    place = tuple(float(v) for v in rng.uniform((-0.5, 0.6, -0.5), (0.5, 2.5, 0.5)))
    bones = (
        Bone(name="box", translation=place, deforms=True),
        Bone(name="lid", parent="box", translation=(r, r, 0.0), deforms=True),
    )
    bodies = (
        Body(id="box", bone="box", shapes=(Shape(kind="box", half=(r, 0.8 * r, r)),)),
        Body(id="lid", bone="lid", shapes=(Shape(kind="box", half=(r, 0.1 * r, r), position=(-r, 0.0, 0.0)),)),
    )
    kind = str(rng.choice(["hinge", "slide", "ball"]))
    joint = Joint(
        id="lid", parent="box", child="lid", kind=kind, friction=float(rng.choice([0.0, 0.1])), bounce=float(rng.choice([0.0, 0.5])),
        break_force=float(rng.choice([0.0, 200.0])), limit_frequency=float(rng.choice([0.0, 3.0])),
    )  # fmt: skip
    scene = edit.add_figure(scene, Figure(id=name, name=name, bones=bones, bodies=bodies, joints=(joint,), prop=True))
    return edit.hand_over(scene, name, None, 0.0, END + 20.0, 0.0, 0.0)


def soft(scene, assets, rng):
    """A soft thing that falls near by."""
    name = edit.fresh_id("float", {f.id for f in scene.figures})
    place = tuple(float(v) for v in rng.uniform((-0.4, 1.0, -0.4), (0.4, 2.0, 0.4)))
    made = bare_float(assets, name).changed(track=Track.of([MotionKey(frame=0, position=place)]))
    scene = edit.add_figure(scene, made)
    whole = np.ones(len(assets[str(made.asset)]["positions"]), bool)
    recipe = Soft(
        id="soft", region=mask(assets, whole), bone=made.bones[0].name, count=int(rng.integers(12, 40)), density=60.0,
        stretch=float(rng.uniform(1.5, 6.0)), ratio=0.2, keeps=float(rng.choice([0.0, 0.05])),
    )  # fmt: skip
    return add_soft(scene, assets, name, recipe)


def flesh(scene, assets, rng):
    """Springy flesh on a body of the figure."""
    f, body = body_at(scene, rng)
    middle = rest_matrices(f)[f.bone_index[body.bone], :3, 3]
    name = edit.fresh_id("pad", {b.name for b in f.bones})
    tip = middle + np.array([0.0, -0.05, 0.05])
    scene = grown(scene, assets, f.id, name, middle, tip, Flesh(end=(0, 0, 0), radius=0.15), parent=body.bone)
    return made_springy(scene, assets, f.id, name, kind_of(str(rng.choice(["fat", "leather"]))))


def skinned(scene, assets, rng):
    """Strands lie on the figure's skin, not on its shapes."""
    return edit.figure(scene, scene.figures[0].id, skin=True)


FEATURES = (groups, limp, springy, thing, sweeper, hold, rides, rope, blow, wind, touched)
MORE = (hinged, soft, flesh, skinned)
PASSIVE = (thing, hold, rope, hinged, skinned)


def scene_at(seed, more=False):
    """A scene of two to six features, its data, and their names; with ``more``, soft parts, flesh, skins and hinges come before them."""
    rng = np.random.default_rng((31, seed))
    scene, assets = figure_of(int(rng.integers(len(WRITERS))))
    chosen = rng.choice(len(FEATURES), int(rng.integers(2, 7)), replace=False)
    # what others hold on to comes first
    features = [FEATURES[k] for k in sorted(chosen.tolist(), key=lambda k: FEATURES[k] in (hold, rides, rope))]
    if more:
        features = [MORE[k] for k in rng.choice(len(MORE), int(rng.integers(1, 3)), replace=False)] + features[:4]
    return _made(scene, assets, rng, features)


def closed_at(seed):
    """A scene in which nothing acts but gravity: all falls or hangs from the first frame on, and what is keyed stands; its data, and names."""
    rng = np.random.default_rng((32, seed))
    scene, assets = figure_of(int(rng.integers(len(WRITERS))))
    features = [PASSIVE[k] for k in rng.choice(len(PASSIVE), int(rng.integers(1, 4)), replace=False)]
    scene, assets, names = _made(scene, assets, rng, sorted(features, key=lambda x: x in (hold, rope)))
    # a tie that begins too short pulls, which is work
    links = tuple(x.changed(kind="pin", lengths=(0.0, None)) if x.kind == "tie" else x for x in scene.links)
    scene = edit.scene(scene, links=links)
    return edit.hand_over(scene, scene.figures[0].id, None, 0.0, END + 20.0, 0.0, 0.0), assets, names


def _made(scene, assets, rng, features):
    names = []
    for feature in features:
        try:
            scene = feature(scene, assets, rng)
            names.append(feature.__name__)
        except (ArtulineError, ValueError) as error:
            names.append(f"({feature.__name__}: {str(error)[:60]})")
    return scene, assets, names


def gained(scene, assets):
    """The most by which the energy of a closed scene is ever above the least that it was before, as a share of all that is turned over, and at which frame."""
    energy = []
    tried(scene, assets, energy)
    level = np.array(energy)
    rise = level[1:] - np.minimum.accumulate(level[1:])
    turned = max(float(np.ptp(level)), 1.0)
    return float(rise.max()) / turned, int(rise.argmax()) + 1


def faults_of(scene, assets):
    """What is wrong with a run of a scene, in words."""
    take, costs, seconds = tried(scene, assets)
    found = [x.text for x in check_take(scene, take) if "something" in x.text]
    if take.held:
        found.append(f"stood still at {take.held[:3]}, {len(take.held)} frames")
    # where little is free for most of the time, an ordinary frame is one factorisation a substep; what is all the solver's is not all that a frame takes
    median = max(float(np.median(costs[costs > 0])) if (costs > 0).any() else 0.0, float(scene.substeps))
    dear = (costs > COST * median) & (seconds > COST * np.median(seconds))
    if dear.any():
        worst = int(np.where(dear, costs, 0).argmax())
        found.append(
            f"frame {worst + 1} cost {costs[worst] / median:.0f} medians, {seconds[worst] / np.median(seconds):.0f} of the time"
        )
    speed = np.linalg.norm(np.diff(take.position, axis=0), axis=2) * scene.rate
    if speed.max(initial=0.0) > 60.0:
        k = np.unravel_index(speed.argmax(), speed.shape)
        found.append(f"{speed.max():.0f} m/s at frame {k[0] + 1} of {take.bodies[k[1]]}")
    return found


def seams(first=0, count=200):
    """Rows: how many runs of random scenes went wrong, and which."""
    for substeps in SUBSTEPS:
        bad = []
        for seed in range(first, first + count):
            scene, assets, names = scene_at(seed)
            found = faults_of(scene.changed(substeps=substeps), assets)
            if found:
                bad.append(seed)
                print(
                    f"      seed {seed}, {substeps} substeps, {', '.join(names)}: {'; '.join(found)}",
                    file=sys.stderr,
                    flush=True,
                )
        yield f"{count} scenes of 2 to 6 features, {substeps} substeps: wrong", str(len(bad)), "0", not bad


def energies(first=0, count=100):
    """Rows: the energy that scenes gain in which nothing acts but gravity, as a share of what is turned over."""
    for substeps in SUBSTEPS:
        most, bad = 0.0, []
        for seed in range(first, first + count):
            scene, assets, names = closed_at(seed)
            share, frame = gained(scene.changed(substeps=substeps), assets)
            most = max(most, share)
            if share > 0.01:
                bad.append(seed)
                print(
                    f"      seed {seed}, {substeps} substeps, {', '.join(names)}: {100 * share:.1f} % at frame {frame}",
                    file=sys.stderr,
                    flush=True,
                )
        yield (
            f"{count} closed scenes, {substeps} substeps: largest gain of energy",
            f"{100 * most:.2f} %, {len(bad)} over",
            "1 %",
            not bad,
        )


MEASUREMENTS = {"seams": seams, "energy in seams": energies}
