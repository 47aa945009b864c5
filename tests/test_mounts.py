"""Figures that ride on others: where their keys put them, what physics holds, how they swing, are passed on and let go."""

import json

import numpy as np
import pytest
from benchmarks.seams import figure_of
from pydantic import ValidationError
from scipy.integrate import solve_ivp

from artuline.core.bake.bake import BakeWish
from artuline.core.bake.delivery import bake_take, company, delivery
from artuline.core.bake.merged import Rests
from artuline.core.checks.checks import check
from artuline.core.geometry import rotation, transforms
from artuline.core.motion.keyed import keyed_matrices, root_at
from artuline.core.motion.places import places_at
from artuline.core.motion.skeleton import skeleton_of
from artuline.core.run.build import build
from artuline.core.run.record import keep_take, run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import (
    Body,
    Bone,
    Figure,
    Group,
    Joint,
    Lane,
    MotionKey,
    Mount,
    Scene,
    Shape,
    Strand,
    StrandPoint,
    obstacle,
)
from artuline.core.setup.grip import swinging
from artuline.core.setup.strand import add_strand
from artuline.demo import things
from artuline.formats.deliver import deliver
from artuline.formats.gltf_read import read_figure
from artuline.formats.scene_file import load_scene, save_scene

HINGE = (0.0, 0.0, 0.0, 1.0)  # its axis is x
PAIL = Shape(kind="box", half=(0.12, 0.14, 0.12), position=(0.0, -0.24, 0.0))
BAIL = Shape(kind="capsule", radius=0.01, half_length=0.06)


def hand(path, name="hand", frames=96, rate=24.0):
    """A small block that is moved along a path: places (3,) by seconds."""
    keys = tuple(MotionKey(frame=f, position=tuple(path(f / rate))) for f in range(-2, frames + 3))
    return obstacle(name, Shape(kind="sphere", radius=0.02), keys)


def pail(*mounts, mass=6.0, damping=0.0, place=(0.0, 0.0, 0.0), body=True, bail=None):
    """A bail, and a pail that hangs from it by a hinge about x, 0.1 m below its grip."""
    bones = (
        Bone(name="bail", deforms=True),
        Bone(name="pail", parent="bail", translation=(0.0, -0.1, 0.0), deforms=True),
    )
    bodies = (
        Body(id="bail", bone="bail", shapes=(BAIL,), mass=0.2),
        Body(id="pail", bone="pail", shapes=(PAIL,), mass=mass),
    )
    joint = Joint(id="pail", parent="bail", child="pail", kind="hinge", frame=HINGE, parent_frame=HINGE, limited=False,
                  damping=damping)  # fmt: skip
    groups = [Group(id="g", name="below", start_bone="pail", handover=Lane(rest=1.0))] if body else []
    groups += [Group(id="b", name="bail", bones=("bail",), handover=bail)] if bail is not None else []
    return Figure(id="p", name="pail", bones=bones, bodies=bodies, joints=(joint,), mounts=mounts, position=place,
                  groups=tuple(groups))  # fmt: skip


def mount(name="m", figure="hand", **more):
    return Mount(id=name, part="bail", figure=figure, bone=figure, **more)


def still(place):
    return lambda t: np.array(place, float)


def shown(scene, take, figure="p"):
    f = scene.figure(figure)
    return skeleton_of(f).global_matrices(take.poses[figure], take.root(f))


@pytest.mark.parametrize("rate, substeps", [(24.0, 10), (24.0, 4), (60.0, 10)])
@pytest.mark.parametrize("mass", [6.0, 0.5])
def test_a_pail_swings_under_a_moving_hand_as_the_compound_pendulum_does(rate, substeps, mass):
    frames = round(4 * rate)

    def path(t):
        return np.array([0.0, 1.5, 0.12 * np.sin(2 * np.pi * 0.7 * t)])

    holder = hand(path, frames=frames, rate=rate)
    scene = Scene(figures=(holder, pail(mount(), mass=mass)), rate=rate, end=frames, substeps=substeps, ground=None)
    take = run(scene, AssetStore())
    q = take.rotation[:, take.column("p", "pail")]
    angle = rotation.to_rotation_vector(q)[:, 0]
    lever, inertia = 0.24, mass * ((0.14**2 + 0.12**2) / 3.0 + 0.24**2)  # of a box, by Steiner's theorem
    track = holder.track

    step = 1e-3
    fine = np.arange(0.0, 4.0 + step, step)
    z = places_at(track, fine * rate)[0][:, 2]
    pull = np.zeros(len(fine))
    pull[1:-1] = np.diff(z, 2) / step**2
    pull[0] = pull[1]

    def pivot(t):
        return np.interp(t, fine, pull)

    def swing(t, y):
        # the pail hangs along -y and turns about x: its centre is at z = -lever sin, y = -lever cos
        return y[1], -(mass * lever / inertia) * (9.81 * np.sin(y[0]) - pivot(t) * np.cos(y[0]))

    t = take.frames / rate
    exact = solve_ivp(swing, (0.0, t[-1]), (angle[0], 0.0), t_eval=t, rtol=1e-9, atol=1e-10, max_step=2e-3)
    assert np.abs(exact.y[0]).max() > 0.3
    assert np.abs(angle - exact.y[0]).max() < 0.01 * np.abs(exact.y[0]).max()
    assert take.separation.max() < 5e-5 and take.excess.max() < 1e-4


def heap(*figures, frames=48, **more):
    return Scene(figures=figures, end=frames, **({"ground": None} | more))


def test_a_mount_puts_its_part_where_it_says_on_the_keys_of_the_bone(boom):
    """Whatever the unit of the figure and the bone of it that is held; before, its own place; afterwards where it was left."""
    scene, assets = boom
    turn = rotation.from_rotation_vector(np.array([0.3, -0.4, 0.9]))
    held = Mount(id="m", part="pail", figure="deckhand", bone="hand_l", position=(0.1, 0.02, 0.0), rotation=tuple(turn),
                 start=10, stop=30.5)  # fmt: skip
    for unit in (1.0, 0.01):
        f = pail(held, place=(4.0, 1.0, 0.0)).changed(unit=unit, groups=())
        made = edit.add_figure(scene, f)
        frames = np.array([9.0, 10.0, 20.25, 30.4999, 30.5, 60.0])
        mine = keyed_matrices(made, assets, f, frames)[:, 1]
        its = keyed_matrices(made, assets, scene.figures[0], frames)[:, scene.figures[0].bone_index["hand_l"]]
        p, q, _ = transforms.decompose(its)
        at = transforms.compose(p, q, np.ones_like(p)) @ transforms.compose(np.array(held.position), turn, np.ones(3))
        got = transforms.compose(*transforms.decompose(mine)[:2], np.ones_like(p))
        np.testing.assert_allclose(got[1:4], at[1:4], atol=1e-9)
        np.testing.assert_allclose(mine[0, :3, 3], [4.0, 1.0 - 0.1 * unit, 0.0], atol=1e-12)
        np.testing.assert_allclose(got[4:], np.stack([at[3]] * 2), atol=1e-4)
    assert scene.figures[0] is edit.without_figure(made, "p").figures[0]


def test_mounts_cannot_go_round_in_a_ring_or_to_nothing():
    a = pail(mount(figure="hand"))
    with pytest.raises(ValidationError, match="hand"):
        heap(a)
    with pytest.raises(ValidationError, match="ride on itself"):
        heap(pail(Mount(id="m", part="bail", figure="p", bone="pail")))
    with pytest.raises(ValidationError, match="after it begins"):
        mount(start=4, stop=4)
    both = heap(hand(still((0, 1, 0))), a)
    assert not edit.without_figure(both, "hand").figure("p").mounts


@pytest.mark.parametrize("hold", ["fixed", "swings"])
def test_what_is_taken_up_passed_on_and_let_go_never_jumps_and_keeps_its_momentum(hold):
    """A pail that falls is taken by one hand, passed to another that moves another way, and thrown."""

    def one(t):
        return np.array([1.5 * t, 1.0 + 0.1 * np.sin(3.0 * t), 0.0])

    def two(t):
        return np.array([1.5 * t + 0.05, 1.0 + 0.1 * np.sin(3.0 * t), 0.1 * t])

    rate, frames = 240.0, (40, 240, 400)
    first, second = hand(one, frames=600, rate=rate), hand(two, "other", frames=600, rate=rate)
    a, b, c = (float(f) for f in frames)
    held = mount("a", start=a, stop=b, hold=hold), mount("b", figure="other", start=b, stop=c, hold=hold)
    free = pail(*held, place=(0.05, 1.1, 0.02), bail=Lane(rest=1.0), damping=0.3)
    scene = heap(first, second, free, frames=560, rate=rate, substeps=4)
    take = run(scene, AssetStore())
    rows = [take.column("p", x) for x in ("bail", "pail")]
    p, q = take.position[:, rows], take.rotation[:, rows]
    np.testing.assert_allclose(shown(scene, take)[:, :2, :3, 3], p, atol=1e-9)
    # as it was at the moment of the grip, so it is held: place, and where it is fixed its rotation
    for start, stop, path in ((40, 240, one), (240, 400, two)):
        at = np.array([p[f, 0] - path(f / rate) for f in range(start, stop + 1)])
        assert np.linalg.norm(at - at[0], axis=1).max() < 1e-4
        if hold == "fixed":
            assert np.degrees(rotation.angle_between(q[start : stop + 1, 0], q[start, 0]).max()) < 0.1
    # let go: the centre of mass flies a parabola that begins with the speed it had
    mass = np.array([0.2, 6.0])[:, None]
    centre = (mass * np.stack([p[:, 0], p[:, 1] + rotation.rotate(q[:, 1], np.array(PAIL.position))], 1)).sum(1) / 6.2
    flight = centre[400:]
    t = np.arange(len(flight)) / rate
    speed = (flight[1] - flight[0]) * rate + [0.0, 0.5 * 9.81 / rate, 0.0]
    expected = flight[0] + t[:, None] * speed + 0.5 * t[:, None] ** 2 * np.array([0.0, -9.81, 0.0])
    np.testing.assert_allclose(flight, expected, atol=1e-4)
    before = (3.0 * centre[400] - 4.0 * centre[399] + centre[398]) * rate / 2.0
    assert np.linalg.norm(speed - before) < 0.005 * np.linalg.norm(before)


def test_the_hand_that_goes_limp_takes_the_pail_with_it(boom):
    """The deckhand is struck with a pail in the left hand: until then on its keys, then by physics, held all the way."""
    scene, assets = boom
    f = scene.figures[0]
    grip = Mount(id="grip", part="bail", figure=f.id, bone="hand_l", position=(0.08, 0.0, 0.0))
    made = edit.add_figure(scene, pail(grip, damping=0.5))
    take = run(made, assets)
    bail, its = (take.column(*x) for x in (("p", "bail"), (f.id, "hand_l")))
    np.testing.assert_array_equal(take.handover[:, bail], take.handover[:, its])
    relative = rotation.rotate(
        rotation.conjugate(take.rotation[:, its]), take.position[:, bail] - take.position[:, its]
    )
    assert np.abs(relative - [0.08, 0.0, 0.0]).max() < 2e-3
    assert take.separation.max() < 1e-3
    # what is shown stays in the hand, on the way back to the keys too, and the pail hangs from its bail
    world, body = shown(made, take), shown(made, take, f.id)[:, f.bone_index["hand_l"]]
    p, q, _ = transforms.decompose(body)
    at = rotation.rotate(rotation.conjugate(q), world[:, 0, :3, 3] - p)
    assert np.abs(at - [0.08, 0.0, 0.0]).max() < 2e-3
    # off by itself: the hand, the bodies next to it; on: the legs
    from artuline.core.run.build import build

    apart = build(made, assets).world.apart
    assert apart is not None
    baked, results = bake_take(keep_take(made, assets, take, made.settings_fingerprint()), assets, BakeWish(1.0, 10.0))
    assert "p" in results and results["p"].degrees <= 1.0
    out = delivery(baked, assets, ["p"]).figures[0]
    frames = baked.start + out.root[0] * baked.rate
    np.testing.assert_allclose(out.root[1], root_at(baked, assets, baked.figure("p"), frames)[:, :3, 3], atol=1e-12)
    assert set(take.frames) <= set(np.round(frames, 9))


def test_a_heavy_pail_pulls_an_arm_down_and_stretches_nothing():
    """40 kg on an arm of 4 kg: the less tone, the lower the hand; at tone 1 the keys hold."""
    bones = (
        Bone(name="trunk", translation=(0.0, 1.5, 0.0)),
        Bone(name="upper", parent="trunk", translation=(0.2, 0.0, 0.0)),
        Bone(name="lower", parent="upper", translation=(0.3, 0.0, 0.0)),
    )
    rod = Shape(kind="capsule", radius=0.04, half_length=0.11, position=(0.15, 0.0, 0.0))
    bodies = (
        Body(id="trunk", bone="trunk", shapes=(Shape(kind="sphere", radius=0.1),), mass=20.0),
        *(Body(id=b, bone=b, shapes=(rod,), mass=2.0) for b in ("upper", "lower")),
    )
    joints = tuple(Joint(id=c, parent=p, child=c, limited=False) for p, c in (("trunk", "upper"), ("upper", "lower")))
    held = Mount(id="m", part="bail", figure="arm", bone="lower", position=(0.3, 0.0, 0.0))
    sag = []
    for tone in (0.3, 0.6, 1.0):
        group = Group(id="g", name="g", start_bone="upper", handover=Lane(rest=1.0), tone=Lane(rest=tone))
        arm = Figure(id="arm", name="arm", bones=bones, bodies=bodies, joints=joints, groups=(group,))
        take = run(heap(arm, pail(held, mass=40.0, damping=2.0), frames=120), AssetStore())
        hand_y = take.position[-1, take.column("p", "bail"), 1]
        sag.append(1000.0 * (1.5 - hand_y))
        assert take.separation.max() < 5e-5, (tone, take.separation.max())
        assert np.abs(np.diff(take.position[-12:, take.column("p", "bail"), 1])).max() < 2e-3
    assert sag[0] > sag[1] > sag[2] and sag[2] < 5.0 and sag[0] > 50.0


def test_a_hand_reaches_for_what_is_carried_at_the_hip(boom):
    scene, assets = boom
    f = scene.figures[0]
    turn = tuple(rotation.from_rotation_vector(np.array([0.1, 0.2, -0.3])))
    carried = Mount(id="hip", part="bail", figure=f.id, bone="hips", position=(-0.05, 0.3, 0.15), reach="hand_l",
                    reach_position=(0.0, 0.05, 0.02), reach_rotation=turn)  # fmt: skip
    made = edit.add_figure(scene, pail(carried))
    frames = np.linspace(0.0, 60.0, 25)
    its = keyed_matrices(made, assets, f, frames)
    bail = keyed_matrices(made, assets, made.figure("p"), frames)[:, 0]
    goal = bail @ transforms.compose(np.array(carried.reach_position), np.array(turn), np.ones(3))
    reached = np.linalg.norm(its[:, f.bone_index["hand_l"], :3, 3] - goal[:, :3, 3], axis=1)
    assert reached.max() < 1e-6
    np.testing.assert_allclose(its[:, f.bone_index["hand_l"], :3, :3], goal[:, :3, :3], atol=1e-6)
    with pytest.raises(ValidationError, match="own limb"):
        edit.add_figure(scene, pail(carried.changed(bone="forearm_l")))


def test_mounts_and_the_takes_of_what_rides_are_saved(tmp_path):
    scene = heap(hand(lambda t: np.array([t, 1.0, 0.0])), pail(mount(position=(0.0, 0.1, 0.0))), frames=8)
    assets = AssetStore()
    take = run(scene, assets)
    scene = keep_take(scene, assets, take, scene.settings_fingerprint())
    save_scene(tmp_path / "s.artuline", scene, assets)
    again = AssetStore()
    loaded = load_scene(tmp_path / "s.artuline", again)
    assert loaded == scene
    from artuline.core.run.take import Take

    kept = Take.from_arrays(again[loaded.takes[0].asset])
    np.testing.assert_array_equal(kept.root(loaded.figure("p")), take.roots["p"])
    assert kept.joints[-1] == ("p", "m")


def nodes_at(document, blob, animation, seconds):
    """World matrices of all nodes at a time, read by nothing of this project: names may repeat, so by number."""
    nodes = document["nodes"]

    def data(k):
        a = document["accessors"][k]
        v = document["bufferViews"][a["bufferView"]]
        width = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}[a["type"]]
        return np.frombuffer(blob, "<f4", a["count"] * width, v["byteOffset"]).reshape(-1, width).astype(float)

    local = [{"translation": np.array(n.get("translation", (0, 0, 0.0))), "rotation": np.array(n.get("rotation", (0, 0, 0, 1.0))),
              "scale": np.array(n.get("scale", (1.0, 1, 1)))} for n in nodes]  # fmt: skip
    for c in animation["channels"]:
        sampler = animation["samplers"][c["sampler"]]
        t, v = data(sampler["input"])[:, 0], data(sampler["output"])
        path, out = c["target"]["path"], local[c["target"]["node"]]
        i = int(np.clip(np.searchsorted(t, seconds, side="right") - 1, 0, len(t) - 2))
        h, u = t[i + 1] - t[i], np.clip((seconds - t[i]) / (t[i + 1] - t[i]), 0.0, 1.0)
        if sampler["interpolation"] == "CUBICSPLINE":
            a, b = v[3 * i : 3 * i + 3], v[3 * i + 3 : 3 * i + 6]
            value = ((2 * u**3 - 3 * u**2 + 1) * a[1] + h * (u**3 - 2 * u**2 + u) * a[2] + (3 * u**2 - 2 * u**3) * b[1]
                     + h * (u**3 - u**2) * b[0])  # fmt: skip
        else:
            b = v[i + 1] * (np.sign(v[i] @ v[i + 1]) or 1.0 if path == "rotation" else 1.0)
            value = (1 - u) * v[i] + u * b
        out[path] = value / np.linalg.norm(value) if path == "rotation" else value
    matrices = [transforms.compose(x["translation"], x["rotation"], x["scale"]) for x in local]
    world = {}

    def place(k, above):
        world[k] = above @ matrices[k]
        for child in nodes[k].get("children", ()):
            place(child, world[k])

    for k in document["scenes"][0]["nodes"]:
        place(k, np.eye(4))
    return world


@pytest.mark.parametrize("together", [True, False])
def test_a_pail_leaves_with_its_hand_as_it_was_shown(tmp_path, boom, together):
    """In one file or each in its own; every part at every frame, by another reader of the format; at rest after the end."""
    scene, assets = boom
    f = scene.figures[0]
    grip = Mount(
        id="grip", part="bail", figure=f.id, bone="hand_l", position=(0.06, 0.02, 0.0), rotation=(0.0, 0.6, 0.0, 0.8)
    )
    made = edit.scene(edit.add_figure(scene, things.pail(assets).changed(mounts=(grip,))), end=120)
    made = swinging(made, "pail", "bail", "handle")
    take = run(made, assets)
    kept = keep_take(made, assets, take, made.settings_fingerprint())
    baked, _ = bake_take(kept, assets, BakeWish(0.004, 0.004))
    assert company(made, f.id) == [f.id, "pail"] and company(made, "pail") == ["pail", f.id]
    assert company(made, "boom") == ["boom"]
    written = deliver(tmp_path / "out.glb", baked, assets, [f.id, "pail"], together, Rests(after=True))
    assert len(written) == (1 if together else 2)
    raw = written[-1].read_bytes()
    length = int.from_bytes(raw[12:16], "little")
    document, blob = json.loads(raw[20 : 20 + length]), raw[28 + length :]
    assert len(document["animations"]) == 1
    number = {n: max(k for k, x in enumerate(document["nodes"]) if x["name"] == n) for n in ("bail", "pail")}
    want = shown(kept, take, "pail")
    for frame in range(121):
        world = nodes_at(document, blob, document["animations"][0], frame / 24.0)
        for b, name in enumerate(("bail", "pail")):
            assert np.linalg.norm(world[number[name]][:3, 3] - want[frame, b, :3, 3]) < 1e-5
    # one frame later it is straight again, whatever it did
    world = nodes_at(document, blob, document["animations"][0], 121 / 24.0)
    turn = rotation.angle_between(*(transforms.decompose(world[number[n]])[1] for n in ("bail", "pail")))
    assert np.degrees(turn) < 0.01
    if together:
        assert len(document["skins"]) == 2 and max(document["skins"][1]["joints"]) == max(number.values())
    back = read_figure(written[-1], AssetStore()).figure
    assert {"bail", "pail"} <= set(back.bone_index) and back.clips


@pytest.mark.parametrize("kind, limb, other", [(0, "Right Elbow", "Left Calf"), (1, "LeftLimb0B", "RightLimb1B")])
@pytest.mark.parametrize("substeps", [2, 10])
def test_what_leaps_to_its_own_keys_hits_nothing_and_drags_nothing_along(kind, limb, other, substeps):
    scene, assets = figure_of(kind)
    holder = scene.figures[0]
    shape = Shape(kind="box", half=(0.05, 0.08, 0.04))
    lamp = obstacle("lamp", shape, (MotionKey(frame=0, position=(0.0, -3.0, 0.0)),))
    lamp = lamp.changed(
        mounts=(Mount(id="m", part="lamp", figure=holder.id, bone=limb, position=(0.0, 0.1, 0.0), stop=20.0),)
    )
    points = (
        StrandPoint(position=(0.3, 2.5, 0.2), hold="pinned"),
        StrandPoint(position=(0.2, 1.0, 0.1), hold="mounted", figure=holder.id, bone=other),
    )
    scene = edit.hand_over(edit.add_figure(scene, lamp), holder.id, None, 8, 60, 0.0, 0.0)
    scene, _ = add_strand(scene, assets, Strand(points=points, count=16, slack=0.3, hangs=True))
    scene = scene.changed(ground=None, end=30, substeps=substeps)
    built = build(scene, assets)
    row = built.parts[1].rows[0]
    assert built.world.bodies["mass"][row] == pytest.approx(
        scene.figure("lamp").bodies[0].density * 8 * 0.05 * 0.08 * 0.04
    )
    take = run(scene, assets)
    lamp, hand = take.column("lamp", "lamp"), take.column(holder.id, holder.body_of[limb].id)
    # it rides, on its keys and limp, until it is let go, and is below everything then
    apart = np.linalg.norm(take.position[:20, lamp] - take.position[:20, hand], axis=1)
    assert np.ptp(apart) < 1e-3 and np.allclose(take.position[20:, lamp], (0.0, -3.0, 0.0))
    rest = np.delete(take.position, lamp, axis=1)
    steps = np.linalg.norm(np.diff(rest, axis=0), axis=2).max(axis=1)
    assert steps[17:24].max() < 1.6 * steps[14:18].max() + 0.02
    pin = [k for k, j in enumerate(take.joints) if j.figure is None]
    assert take.separation[:, pin].max() < 0.01


@pytest.mark.parametrize("kind, bone", [(0, "Left Elbow"), (1, "LeftLimb0B")])
def test_what_would_jump_to_its_own_keys_when_it_is_let_go_is_said_and_mended(kind, bone):
    scene, assets = figure_of(kind)
    holder = scene.figures[0]
    thing = obstacle(
        "float", Shape(kind="box", half=(0.05, 0.08, 0.04)), (MotionKey(frame=0, position=(2.0, 0.5, 1.0)),)
    )
    thing = thing.changed(
        mounts=(
            Mount(id="m", part="float", figure=holder.id, bone=bone, position=(0.0, 0.1, 0.0), start=0.0, stop=20.0),
        )
    )
    scene = edit.add_figure(scene, thing).changed(end=40)

    def leap(s):
        take = run(s, assets) if any(g.handover.rest or g.handover.keys for f in s.figures for g in f.groups) else None
        x = keyed_matrices(s, assets, s.figure("float"), np.arange(0.0, 41.0))[:, 0, :3, 3]
        if take is not None:
            x = take.position[:, take.column("float", "float")]
        return np.linalg.norm(np.diff(x, axis=0), axis=1)[17:23].max()

    assert leap(scene) > 0.5
    found = next(x for x in check(scene, assets) if "let go at frame 20" in x.text)
    assert "jumps" in found.text and found.fix_label == "Key it where it is let go"
    for fix in (found.fix, found.more[0][1]):
        mended = fix(scene)
        assert leap(mended) < 0.1
        assert not any("let go at frame 20" in x.text for x in check(mended, assets))
