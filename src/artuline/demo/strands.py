"""Demo scenes of lines, floats and a collar. Everything in them is made up."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.skeleton import rigid
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Ground, Group, Lane, MotionKey, Mount, Scene, Shape, StrandPoint, Track, obstacle
from artuline.core.setup.laid import laid
from artuline.core.setup.strand import add_strand
from artuline.core.setup.strand_kinds import ready, released, ring_around
from artuline.demo import things
from artuline.demo.figures import ready_figure
from artuline.demo.props import deckhand, posed

UP = (0.0, 0.0, float(np.sqrt(0.5)), float(np.sqrt(0.5)))


def _at(*places: tuple[float, float, float]) -> tuple[StrandPoint, ...]:
    return tuple(StrandPoint(position=p) for p in places)


def _on(figure: str, bone: str, place: object) -> StrandPoint:
    return StrandPoint(position=tuple(np.asarray(place, float)), hold="mounted", figure=figure, bone=bone)


def mooring(assets: AssetStore) -> Scene:
    """The deckhand walks with a mooring line over the shoulder, past the cleat that it is made fast to."""
    figure = deckhand(assets, "walk", skin=True)
    cleat = obstacle("cleat", Shape(kind="box", half=(0.05, 0.06, 0.16)), (MotionKey(frame=0, position=(-0.36, 0.06, 7.0)),),
                     color=(0.05, 0.055, 0.06))  # fmt: skip
    scene = Scene(name="mooring", rate=24.0, start=0, end=240, figures=(figure, cleat), warm_up=48,
                  ground=Ground(friction=0.03))  # fmt: skip
    for frame in (0, 240):
        x = keyed_matrices(scene, assets, scene.figure("deckhand"), np.array([float(frame)]))[0]
        z = float(x[scene.figure("deckhand").bone_index["chest"], 2, 3])
        hands = {"hand_r": (-0.06, 1.17, z + 0.33), "hand_l": (0.09, 1.02, z + 0.36)}
        scene = posed(scene, assets, "deckhand", frame, hands)
    now = scene.figure("deckhand")
    p, _ = rigid(keyed_matrices(scene, assets, now, np.array([0.0]))[0])
    palm = {s: 0.5 * (p[now.bone_index[f"hand_{s}"]] + p[now.bone_index[f"fingers_{s}"]]) for s in "lr"}
    # along the way that he goes, past the cleat and on from it
    ahead = [(-0.36 - 0.04 * (k % 2), 0.012, 0.5 + 0.8 * k) for k in range(8)]
    line = (
        _on("deckhand", "hand_l", palm["l"]), _on("deckhand", "hand_r", palm["r"]),
        *_at((-0.085, 1.46, 0.05), (-0.09, 1.40, -0.10), (-0.12, 1.1, -0.24), (-0.16, 0.5, -0.42), (-0.24, 0.012, -0.5), (-0.36, 0.012, -0.2),
             *ahead), _on("cleat", "cleat", (-0.36, 0.13, 6.85)),
    )  # fmt: skip
    line = laid(scene, assets, line, 0.0, 0.013, apart=0.0)
    # gripped, so that it does not turn in the hands and roll off
    made = ready(
        "cable",
        line,
        count=210,
        radius=0.011,
        weight=0.22,
        friction=1.2,
        rolling=0.3,
        bend=0.03,
        twist=0.8,
        ratio=0.4,
        color=(0.62, 0.50, 0.28),
    )
    return add_strand(scene, assets, made, "line")[0]


def _ring(middle: tuple[float, float, float], radius: float) -> tuple[StrandPoint, ...]:
    angle = 2.0 * np.pi * np.arange(8) / 8.0
    return _at(*(tuple(np.array(middle) + radius * np.array([np.cos(a), 0.0, np.sin(a)])) for a in angle))


def floats(assets: AssetStore) -> Scene:
    """Ten strings of cork floats drop one after the other: over a bollard, and over the shoulders of a deckhand who turns."""
    turned = tuple(rotation.from_rotation_vector(np.array([0.0, a, 0.0])) for a in (0.0, 1.4, -1.0))
    keys = tuple(
        MotionKey(frame=f, position=(0.95, 0.0, 0.0), rotation=tuple(q))
        for f, q in zip((0, 70, 150), turned, strict=True)
    )
    figure = deckhand(assets, "stand", skin=True, track=Track.of(keys))
    post = obstacle("bollard", Shape(kind="capsule", radius=0.14, half_length=0.32, rotation=UP),
                    (MotionKey(frame=0, position=(-0.6, 0.38, 0.0)),), color=(0.06, 0.065, 0.07), friction=0.4)  # fmt: skip
    scene = Scene(name="floats", rate=24.0, start=0, end=216, figures=(figure, post))
    beads = {"closed": True, "count": 60, "radius": 0.022, "weight": 0.3, "friction": 0.4, "air": 0.2}
    scene, over_post = add_strand(scene, assets, ready("beads", _ring((-0.6, 1.5, 0.0), 0.452), **beads), "floats")
    scene = released(scene, assets, over_post, 7, 0.0, 14.0, 0.09, 3)
    scene, on_him = add_strand(scene, assets, ready("beads", _ring((0.95, 2.1, 0.0), 0.452), **beads), "string")
    return released(scene, assets, on_him, 3, 8.0, 30.0, 0.05, 5)


def collar(assets: AssetStore) -> Scene:
    """The ship's goat trots with a collar, a bell that hangs from it, and a lead that drags on deck."""
    figure = ready_figure("goat", assets).changed(clip="trot", skin=True)
    clips = tuple(c.changed(loop=True) if c.name == "trot" else c for c in figure.clips)
    figure = figure.changed(clips=clips, position=(0.0, 0.0, -1.2))
    scene = Scene(name="collar", rate=24.0, start=0, end=120, figures=(figure,), warm_up=48)
    points = ring_around(scene, assets, figure, "neck", 0.0, 0.016)
    points = laid(scene, assets, points, 0.0, 0.012, closed=True)
    scene, ring = add_strand(
        scene, assets, ready("cable", points, closed=True, radius=0.009, weight=0.35, bend=0.7, twist=0.7, ratio=0.6, rest="drawn", count=28,
                             color=(0.45, 0.09, 0.07)), "collar",
    )  # fmt: skip
    made = scene.figure(ring)
    p, q = rigid(keyed_matrices(scene, assets, made, np.array([0.0]))[0])
    low = int(np.argmin(p[:, 1]))
    bell = things.bell(assets)
    # below the lowest part of the collar, turning about its top
    hang = rotation.conjugate(q[low])
    mount = Mount(
        id="loop", part="bell", figure=ring, bone=made.bones[low].name, hold="swings", point=(0.0, things.BELL_TOP, 0.0), rotation=tuple(hang),
        position=tuple(rotation.rotate(hang, np.array([0.0, -0.012 - things.BELL_TOP, 0.0]))),
    )  # fmt: skip
    scene = edit.add_figure(
        scene, bell.changed(mounts=(mount,), groups=(Group(id="swings", name="the bell", handover=Lane(rest=1.0)),))
    )
    side = int(np.argmax(p[:, 0]))
    start = p[side]
    away = _at(*(tuple(start + np.array(d)) for d in ((0.12, -0.25, -0.1), (0.18, -0.60, -0.3))), (start[0] + 0.2, 0.012, start[2] - 0.6),
               (start[0] + 0.3, 0.012, start[2] - 1.2), (start[0] + 0.1, 0.012, start[2] - 1.6))  # fmt: skip
    lead = (_on(ring, made.bones[side].name, start + np.array([0.012, 0.0, 0.0])), *away)
    lead = laid(scene, assets, lead, 0.0, 0.01)
    return add_strand(scene, assets, ready("rope", lead, radius=0.007, weight=0.12, color=(0.62, 0.50, 0.28)), "lead")[
        0
    ]
