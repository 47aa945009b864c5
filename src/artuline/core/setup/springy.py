"""Flesh that wobbles: a body for an added bone, held by springs in place and in angle, tuned by what it is made of."""

import math
from dataclasses import dataclass

from artuline.core.errors import ArtulineError
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Group, Lane, Scene, Spring
from artuline.core.setup.added import added_bone
from artuline.core.setup.ragdoll import add_bodies

FELT = 0.15  # share of gravity that flesh feels at first: its skin was modelled as it hangs


@dataclass(frozen=True)
class FleshKind:
    """What flesh is made of: density (kg/m^3), frequency (Hz) and damping ratio of its wobble, how far it gives way (m) and turns (radians), and where that comes from."""

    name: str
    density: float
    frequency: float
    ratio: float
    reach: float
    swing: float
    source: str


KINDS = (
    FleshKind("flesh", 985.0, 6.0, 0.25, 0.03, math.radians(12.0), "the abdomen resonates at 4 to 8 Hz: Griffin 1990, Handbook of Human Vibration"),
    FleshKind("muscle", 1060.0, 14.0, 0.3, 0.015, math.radians(8.0), "soft tissue of the leg after a step, 10 to 50 Hz: Wakeling & Nigg 2001, J. Applied Physiology 90"),
    FleshKind("fat", 900.0, 4.0, 0.15, 0.05, math.radians(18.0), "the lower end of the abdomen's resonance: Griffin 1990"),
    FleshKind("leather", 860.0, 2.5, 0.1, 0.02, math.radians(35.0), "loss factor 0.2: Ashby 2011, Materials Selection in Mechanical Design; a bag swings like a pendulum of 4 cm"),
    FleshKind("rubber", 1200.0, 8.0, 0.05, 0.03, math.radians(20.0), "loss factor 0.1 of natural rubber: Ashby 2011"),
)  # fmt: skip


def kind_of(name: str) -> FleshKind:
    """A kind by its name. Raises ArtulineError if there is none."""
    found = next((k for k in KINDS if k.name == name), None)
    if found is None:
        raise ArtulineError(
            f"there is no flesh of {name!r}", remedy=f"It is one of: {', '.join(k.name for k in KINDS)}."
        )
    return found


def made_springy(scene: Scene, assets: AssetStore, figure_id: str, bone: str, kind: FleshKind) -> Scene:
    """The scene in which an added bone has a body, fitted to its skin, that springs back in place and in angle, all the time.

    Raises ArtulineError if it carries too little skin, or hangs on no body.
    """
    figure = scene.figure(figure_id)
    added = added_bone(figure, bone)
    if figure.carrier(str(added.parent)) is None:
        raise ArtulineError(
            f"{bone} hangs on {added.parent}, which no body carries", remedy="Fit bodies to the figure first."
        )
    if bone not in figure.body_of:
        figure = add_bodies(figure, assets, {bone})
    body = figure.body_of[bone]
    figure = figure.changed(
        bodies=tuple(b.changed(density=kind.density, mass=None) if b.id == body.id else b for b in figure.bodies),
        bones=tuple(
            b.changed(flesh=b.flesh.changed(kind=kind.name)) if b.name == bone and b.flesh else b for b in figure.bones
        ),
    )
    figure = tuned(figure, bone, kind.frequency, kind.ratio, kind.reach, kind.swing)
    group = next((g for g in figure.groups if g.bones == (bone,)), None)
    spring = Spring(frequency=kind.frequency, ratio=kind.ratio, gravity=FELT)
    if group is None:
        group = Group(
            id=edit.fresh_id("group", {g.id for g in figure.groups}), name=bone, bones=(bone,),
            handover=Lane(rest=1.0), spring=spring,
        )  # fmt: skip
        figure = figure.changed(groups=(*figure.groups, group))
    else:
        figure = figure.changed(groups=edit.replace(figure.groups, group.id, lambda g: g.changed(spring=spring)))
    return edit.scene(scene, figures=tuple(figure if f.id == figure_id else f for f in scene.figures))


def tuned(figure: Figure, bone: str, frequency: float, ratio: float, reach: float, swing: float) -> Figure:
    """The figure with the joint of a springy bone's body giving way by ``reach`` (m) and ``swing`` (radians) to all sides, pulled back at ``frequency`` (Hz) with ``ratio``."""
    body = figure.body_of[bone]
    way, turn = (-reach, reach), (-swing, swing)

    def change(j):  # type: ignore[no-untyped-def]
        if j.child != body.id:
            return j
        return j.changed(
            kind="axes", axes=(way, way, way, turn, turn, turn), spring_frequency=frequency, spring_ratio=ratio, damping=0.0,
            limit_frequency=3.0 * frequency, limit_ratio=0.5,
        )  # fmt: skip

    groups = tuple(
        g.changed(spring=g.spring.changed(frequency=frequency, ratio=ratio)) if g.bones == (bone,) and g.spring else g
        for g in figure.groups
    )
    return figure.changed(joints=tuple(change(j) for j in figure.joints), groups=groups)


def wobble_scene(scene: Scene, figure_id: str, clip: str, most: float = 3.0) -> Scene:
    """The scene in which physics moves nothing but the added bones of a figure, all the time, under one of its clips: twice over, ``most`` seconds at most."""
    figure = scene.figure(figure_id)
    ref = next(c for c in figure.clips if c.name == clip)
    groups = tuple(
        g.changed(handover=Lane(rest=1.0), muted=False) if added_only(figure, g) else g.changed(muted=True, solo=False)
        for g in figure.groups
    )
    looping = tuple(c.changed(loop=True) if c.name == clip else c for c in figure.clips)
    alone = figure.changed(clip=clip, clips=looping, clip_start=0.0, groups=groups, layers=(), mounts=())
    seconds = min(max(2.0 * ref.duration, 1.0), most)
    obstacles = tuple(f for f in scene.figures if f.stays and not f.mounts)
    return Scene(
        name=scene.name, rate=scene.rate, start=0, end=round(seconds * scene.rate), substeps=scene.substeps, gravity=scene.gravity,
        ground=scene.ground, figures=(alone, *obstacles), warm_up=round(0.5 * scene.rate),
    )  # fmt: skip


def added_only(figure: Figure, group: Group) -> bool:
    """Whether a group is about added bones alone."""
    return bool(group.bones) and all(figure.bones[figure.bone_index[b]].flesh is not None for b in group.bones)
