"""Every check has a scene that raises it; its fix, where there is one, clears it."""

import math

import pytest

from artuline.core.checks.checks import check
from artuline.core.checks.takes import check_take
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import (
    Body,
    Bone,
    Joint,
    Link,
    LinkEnd,
    MotionKey,
    Scene,
    Shape,
    Strand,
    StrandPoint,
    obstacle,
)
from artuline.core.setup.materials import balance
from artuline.core.setup.ragdoll import set_up
from artuline.core.setup.strand import add_strand


@pytest.fixture(scope="module")
def sound(deckhand):
    """A scene with nothing wrong."""
    figure, assets = deckhand
    figure = set_up(figure, assets).changed(clip="walk")
    figure = figure.changed(bodies=balance(figure, 75.0)[0])
    scene = Scene(figures=(figure,), start=0, end=60)
    return edit.hand_over(scene, figure.id, None, 10, 40), assets


def texts(scene, assets):
    return [f.text for f in check(scene, assets)]


def test_a_sound_scene_raises_nothing(sound):
    assert texts(*sound) == []


def bare(s):
    return edit.figure(s, "deckhand", bodies=(), joints=(), pairs_off=())


def without_joint(s):
    f = s.figures[0]
    return edit.figure(s, f.id, joints=tuple(j for j in f.joints if j.child != "thigh_l"))


def no_range(s):
    values = {"swing_y": 0.0, "swing_z": 0.0, "twist": (0.0, 0.0)}
    return edit.joints(s, "deckhand", {"head"}, lambda j: j.changed(**values))


def tight(s):
    return edit.joints(s, "deckhand", {"shin_l"}, lambda j: j.changed(twist=(math.radians(0.0), math.radians(1.0))))


def swollen(s):
    def grow(b):
        return b.changed(shapes=(b.shapes[0].changed(radius=0.45, kind="sphere"),))

    return edit.bodies(s, "deckhand", {"hand_l"}, grow)


def moved(s):
    def away(b):
        return b.changed(shapes=(b.shapes[0].changed(position=(0.0, 0.6, 0.0)),))

    return edit.bodies(s, "deckhand", {"head"}, away)


def gap(s):
    f = s.figures[0]
    bodies = tuple(b for b in f.bodies if b.id != "forearm_l")
    kept = tuple(j for j in f.joints if "forearm_l" not in (j.parent, j.child))
    elbow = f.joint_of["hand_l"].changed(parent="upper_arm_l")
    pairs = tuple(p for p in f.pairs_off if "forearm_l" not in p)
    return edit.figure(s, f.id, bodies=bodies, joints=(*kept, elbow), pairs_off=pairs)


def scaled(*scale):
    def spoil(s):
        f = s.figures[0]
        bones = tuple(b.changed(scale=scale) if b.name == "thumb_l" else b for b in f.bones)
        return edit.figure(s, f.id, bones=bones)

    return spoil


def crowded(s):
    """Many small bodies on helper bones of no skin."""
    f = s.figures[0]
    hand = f.body_of["hand_l"]
    bones = [Bone(name=f"bead {i}", parent="hand_l", translation=(0.002 * i, 0.0, 0.0)) for i in range(40)]
    ball = Shape(kind="sphere", radius=0.005, position=hand.shapes[0].position)
    bodies = [Body(id=b.name, bone=b.name, shapes=(ball,), mass=0.2, apart="beads") for b in bones]
    joints = [Joint(id=b.id, parent="hand_l", child=b.id) for b in bodies]
    return edit.figure(s, f.id, bones=(*f.bones, *bones), bodies=(*f.bodies, *bodies), joints=(*f.joints, *joints),
                       self_collision=False)  # fmt: skip


def held(s):
    link = Link(id="k", name="knot", kind="pin", a=LinkEnd(figure="deckhand", body="head"))
    return s.changed(links=(link,))


def lopsided(s):
    return edit.bodies(s, "deckhand", {"shin_l"}, lambda b: b.changed(shapes=(b.shapes[0].changed(radius=0.12),)))


def rest_beyond(s):
    s = edit.figure(s, "deckhand", groups=(), clip=None)
    s = edit.hand_over(s, "deckhand", "thigh_l", 10, 40)
    return edit.joints(s, "deckhand", {"upper_arm_r"}, lambda j: j.changed(twist=(1.0, 1.2)))


CASES = {
    "no figure": (lambda s: Scene(), "no figure", False),
    "empty range": (lambda s: s.changed(end=0), "empty", True),
    "no bodies": (bare, "no bodies", True),
    "in centimetres": (lambda s: edit.figure(s, "deckhand", unit=0.01), "tall", True),
    "other rate": (lambda s: s.changed(rate=30.0), "resampled", True),
    "never handed over": (lambda s: edit.figure(s, "deckhand", groups=()), "never handed over", True),
    "outside": (lambda s: edit.hand_over(s, "deckhand", None, 100, 140), "outside", False),
    "no ground": (lambda s: s.changed(ground=None), "without end", True),
    "no shape": (
        lambda s: edit.bodies(s, "deckhand", {"head"}, lambda b: b.changed(shapes=(), mass=4.0)), "no shape", True,
    ),
    "beside its skin": (moved, "outside of its skin", True),
    "loose": (without_joint, "hangs on nothing", True),
    "mass ratio": (
        lambda s: edit.bodies(s, "deckhand", {"hand_l"}, lambda b: b.changed(mass=0.01)), "times in mass", True,
    ),
    "too heavy": (
        lambda s: edit.figure(s, "deckhand", bodies=balance(s.figures[0], 200.0)[0]), "weighs about", True,
    ),
    "no range of a joint": (no_range, "zero range", True),
    "keys beyond limits": (tight, "beyond its limits at", True),
    "rest beyond limits": (rest_beyond, "The rest pose of", True),
    "overlap": (swollen, "overlap", True),
    "gap": (gap, "has no body, though", True),
    "mirrored bone": (scaled(-1.0, 1.0, 1.0), "mirrored", False),
    "stretched bone": (scaled(1.0, 1.3, 1.0), "stretched", False),
    "crowded": (crowded, "hard to control", True),
    "held in the world": (held, "for good", True),
    "sides": (lopsided, "not the same on both sides", True),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_a_fault_is_found_and_its_fix_clears_it(sound, name):
    scene, assets = sound
    spoil, words, fixable = CASES[name]
    spoiled = spoil(scene)
    found = [f for f in check(spoiled, assets) if words in f.text]
    assert found, texts(spoiled, assets)
    assert (found[0].fix is not None) == fixable
    if fixable:
        for _ in range(14):
            left = [f for f in check(spoiled, assets) if words in f.text]
            if not left:
                break
            spoiled = left[0].fix(spoiled)
        assert not [t for t in texts(spoiled, assets) if words in t]


def test_the_worst_comes_first(sound):
    scene, assets = sound
    weights = [f.weight for f in check(bare(scene).changed(rate=30.0), assets)]
    assert weights == sorted(weights, reverse=True) and len(weights) >= 2


def test_an_old_take_is_told(boom_run):
    scene, assets, _ = boom_run
    assert not any("other settings" in t for t in texts(scene, assets))
    assert any("other settings" in t for t in texts(scene.changed(substeps=12), assets))


def test_the_worst_moments_of_a_take_are_found(boom_run):
    from dataclasses import replace

    scene, _, take = boom_run
    deep = take.penetration.copy()
    deep[60, 3] = 0.05
    apart = take.separation.copy()
    apart[61, 2] = 0.02
    found = check_take(scene, replace(take, penetration=deep, separation=apart))
    words = {f.frame: f.text for f in found}
    assert "50 mm" in words[60] and take.bodies[3].body in words[60]
    assert "20 mm" in words[61] and take.joints[2].joint in words[61]


@pytest.mark.parametrize("size", [0.2, 0.5])
def test_what_begins_inside_of_another_is_said_and_can_be_let_pass(size):
    crate, points = Shape(kind="box", half=(size, size, size)), ((0.0, 3.0 * size, 0.0), (0.0, -3.0 * size, 0.0))
    scene = edit.add_figure(Scene(end=40, ground=None), obstacle("crate", crate, (MotionKey(frame=0),)))
    line = tuple(StrandPoint(position=p, hold="pinned") for p in points)
    scene, _ = add_strand(scene, AssetStore(), Strand(points=line, count=24))
    found = [x for x in check(scene, AssetStore()) if "inside of crate" in x.text]
    # all parts of it that are within, and how deep the deepest is: its middle goes through the crate's
    assert len(found) == 1 and found[0].fix_label == "Let them pass through"
    deep = float(found[0].text.split(" mm inside")[0].split()[-1])
    assert deep == pytest.approx(1000.0 * size, rel=0.12)
    mended = found[0].fix(scene)
    assert not [x for x in check(mended, AssetStore()) if "inside of crate" in x.text]
    # what lies on its surface is not in it
    aside = obstacle("crate", crate, (MotionKey(frame=0, position=(1.02 * size, 0.0, 0.0)),))
    scene = edit.add_figure(edit.scene(scene, figures=tuple(f for f in scene.figures if f.id != "crate")), aside)
    assert not [x for x in check(scene, AssetStore()) if "inside of crate" in x.text]


def test_a_figure_without_bodies_is_said_by_what_that_does(boom):
    scene, assets = boom
    f = scene.figures[0]
    bare = f.changed(id="mate", name="mate", bodies=(), joints=(), pairs_off=(), groups=())
    beside = [
        x for x in check(edit.scene(scene, figures=(*scene.figures, bare)), assets) if "mate has no bodies" in x.text
    ]
    assert len(beside) == 1 and beside[0].weight == 1 and "goes through it" in beside[0].text
    alone = [x for x in check(Scene(figures=(bare,)), assets) if "mate has no bodies" in x.text]
    assert alone[0].weight == 3 and "cannot move it" in alone[0].text
    # either way the same mends it
    for found in (beside[0], alone[0]):
        made = found.work(bare, lambda d, t: None, lambda: False)
        assert made.bodies
