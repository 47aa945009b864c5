"""Scenes that ask for what cannot be: what a frame costs, what is missing and where, what is said before and after, and how soon all is well again."""

import time

import numpy as np

from artuline.core.checks.reach import check_reach
from artuline.core.checks.takes import check_take
from artuline.core.geometry import rotation
from artuline.core.physics.state import FACTORED
from artuline.core.run import record
from artuline.core.run.record import run
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import (
    Body,
    Bone,
    Figure,
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
from artuline.core.scene.values import UPRIGHT
from artuline.core.setup.strand import add_strand
from benchmarks.loads import load

APART, BACK = 30, 60  # frames at which the holders are farthest apart, and at one again
GENTLE, OVER = 20, 50


def block(id_, place, away=None):
    """A keyed block that stands, goes away and comes back."""
    way = [(0, place), (GENTLE, place), (APART, away or place), (OVER, away or place), (BACK, place), (90, place)]
    keys = tuple(MotionKey(frame=f, position=tuple(p)) for f, p in way)
    return obstacle(id_, Shape(kind="box", half=(0.05, 0.05, 0.05)), keys)


def _shaped(figure, shape):
    return figure.changed(bodies=(figure.bodies[0].changed(shapes=(shape,)),))


def strand(share, kind, unit=1.0):
    """A strand of 2 m (times ``unit``) whose holders go ``share`` of its length too far apart."""
    assets, scene = AssetStore(), Scene(ground=None, end=90)
    left, right = (-unit, 2.0, 0.0), (0.95 * unit, 2.0, 0.0)
    scene = edit.add_figure(scene, block("starboard", left))
    scene = edit.add_figure(scene, block("port", right, (unit * (1.0 + 2.0 * share), 2.0, 0.0)))
    points = tuple(
        StrandPoint(position=p, hold="mounted", figure=n, bone=n) for p, n in ((left, "starboard"), (right, "port"))
    )
    recipe = Strand(points=points, kind=kind, count=30, slack=2.0 / 1.95 - 1.0, hangs=True)
    scene, _ = add_strand(scene, assets, recipe)
    return scene, assets


def _between(share, thing, links):
    assets, scene = AssetStore(), Scene(ground=None, end=90)
    scene = edit.add_figure(scene, block("starboard", (-0.5, 2.0, 0.0)))
    scene = edit.add_figure(scene, block("port", (0.5, 2.0, 0.0), (0.5 + share, 2.0, 0.0)))
    return edit.scene(edit.add_figure(scene, thing), links=links), assets


def plank(share, kind):
    """A plank held at both ends."""
    thing = _shaped(load("plank", 5.0, (0.0, 2.0, 0.0)), Shape(kind="box", half=(0.5, 0.03, 0.1)))
    links = tuple(
        Link(id=n, name=n, kind=kind, a=LinkEnd(figure="plank", body="plank", point=(x, 0.0, 0.0)), b=LinkEnd(figure=n, body=n))
        for n, x in (("starboard", -0.5), ("port", 0.5))
    )  # fmt: skip
    return _between(share, thing, links)


def ties(share):
    """A ball between two ties of half a metre."""
    links = tuple(
        Link(id=n, name=n, kind="tie", lengths=(0.0, 0.5), a=LinkEnd(figure="ball", body="ball"), b=LinkEnd(figure=n, body=n))
        for n in ("starboard", "port")
    )  # fmt: skip
    return _between(share, load("ball", 5.0, (0.0, 2.0, 0.0)), links)


def jammed(share):
    """A post between two plates of which one comes down on it."""
    assets, scene = AssetStore(), Scene(ground=None, end=90)
    for n, y, to in (("deck", 1.0, 1.0), ("hatch", 1.5, 1.42 - 0.38 * share)):
        plate = _shaped(block(n, (0.0, y, 0.0), (0.0, to, 0.0)), Shape(kind="box", half=(0.5, 0.05, 0.5)))
        scene = edit.add_figure(scene, plate)
    post = _shaped(load("post", 5.0, (0.0, 1.25, 0.0)), Shape(kind="box", half=(0.05, 0.19, 0.05)))
    return edit.add_figure(scene, post), assets


def limit(share, kind):
    """A bar on a post, of which a keyed boom turns as much too far for its limit."""
    assets, scene, out = AssetStore(), Scene(ground=None, end=90), np.radians(30.0)
    bones = (Bone(name="post", deforms=True), Bone(name="bar", parent="post", deforms=True))
    capsule = Shape(kind="capsule", radius=0.03, half_length=0.2, position=(0.23, 0.0, 0.0))
    bodies = (
        Body(id="post", bone="post", shapes=(Shape(kind="sphere", radius=0.02),)),
        Body(id="bar", bone="bar", shapes=(capsule,)),
    )
    across = tuple(float(v) for v in rotation.align([1.0, 0, 0], [0, 0, 1.0])) if kind == "hinge" else UPRIGHT
    joint = Joint(id="bar", parent="post", child="bar", kind=kind, frame=across, parent_frame=across,
                  twist=(-out, out), swing_y=out, swing_z=out)  # fmt: skip
    scene = edit.add_figure(scene, Figure(id="gallows", name="gallows", bones=bones, bodies=bodies, joints=(joint,)))
    x = 0.3
    y = -x * np.tan(out) + 0.03 / np.cos(out) + 0.05 + 0.05 * np.tan(out)
    scene = edit.add_figure(scene, block("boom", (x, y + 0.3, 0.0), (x, y - 0.4 * share, 0.0)))
    return edit.hand_over(scene, "gallows", "bar", 0, 900, 0, 0), assets


CASES = {
    f"{name}, {100 * share:.0f} %": (make, (share, *more))
    for share in (0.01, 0.05, 0.2)
    for name, make, more in (
        ("rope", strand, ("rope",)), ("cable", strand, ("cable",)), ("plank pinned", plank, ("pin",)),
        ("plank welded", plank, ("weld",)), ("ties", ties, ()), ("post jammed", jammed, ()),
        ("limit of a hinge", limit, ("hinge",)), ("limit of a ball", limit, ("ball",)),
    )
}  # fmt: skip


def tried(scene, assets, energy=None):
    """The take, and of each of its frames the factorisations, which are what it costs the solver, and the seconds of the processor. ``energy``: a list
    to which that of the free bodies is added, J.
    """
    costs, seconds, keep = [], [], record._Record.keep

    def counted(self, row):
        keep(self, row)
        costs.append(int(self.built.world.counters[FACTORED]))
        seconds.append(time.process_time())
        if energy is not None:
            energy.append(self.built.world.energy())

    record._Record.keep = counted
    try:
        return run(scene, assets), np.diff(costs), np.diff(seconds)
    finally:
        record._Record.keep = keep


def contradictions():
    for name, (make, more) in CASES.items():
        scene, assets = make(*more)
        said = check_reach(scene, assets)
        take, costs, _ = tried(scene, assets)
        ratio = costs.max() / np.median(costs)
        gap = 1e3 * take.separation.max(axis=1, initial=0.0)
        yield (
            name,
            f"{ratio:.1f} times the median; stood still {len(take.held)}; {gap.max():.0f} mm apart, {gap[BACK + 3]:.2f} three frames after; "
            f"{take.kinetic.sum(axis=1).max():.1f} J; before: {said[0].text if said else '-'}; after: {check_take(scene, take)[0].text if check_take(scene, take) else '-'}",
            "10; 0",
            ratio <= 10.0 and not take.held,
        )


MEASUREMENTS = {"contradictions": contradictions}
