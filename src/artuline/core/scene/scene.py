"""The whole document."""

import hashlib
from functools import cached_property
from typing import Annotated, Any

from pydantic import Field, model_validator

from artuline.core.errors import MissingError
from artuline.core.scene.figure import Figure, Layer
from artuline.core.scene.lanes import VectorLane
from artuline.core.scene.rule import Rule
from artuline.core.scene.values import MOST_FRAME, ZERO, Id, Model, Rate, Vec3, known, unique
from artuline.core.scene.world import BodyRef, Ground, Gusts, JointRef, Link, LinkEnd, Push

FORMAT_VERSION = 6


class TakeRef(Model):
    """A recorded simulation; ``settings`` is the fingerprint of the scene that made it, ``scene`` the asset with its text.
    ``steered``: of one that was steered, the asset with what was done, and all that it needs besides.
    """

    id: Id
    name: Id
    asset: Id
    settings: str
    start: int
    end: int
    scene: str | None = None
    steered: tuple[str, ...] = ()


class Scene(Model):
    """The whole document. ``rate`` in frames per second; ``start`` and ``end`` are frames, inclusive.

    ``gravity`` in m/s^2, ``wind`` in m/s, both over time where their lanes have keys. ``warm_up``: frames simulated
    before the first with its keyed pose held, or with the keys before it playing (``warm_up_plays``). The air resists in scenes
    with wind, and bodies with a drag coefficient of their own. ``cycle``: the range goes round, so that a take ends as it begins. ``pairs_off``: bodies of
    different figures that do not collide.
    """

    version: int = FORMAT_VERSION
    name: str = "Untitled"
    rate: Rate = 24.0
    start: Annotated[int, Field(ge=-MOST_FRAME, le=MOST_FRAME)] = 0
    end: Annotated[int, Field(ge=-MOST_FRAME, le=MOST_FRAME)] = 100
    substeps: Annotated[int, Field(ge=1, le=1000)] = 10
    gravity: Vec3 = (0.0, -9.81, 0.0)
    gravity_lane: VectorLane = VectorLane()
    wind: Vec3 = ZERO
    wind_lane: VectorLane = VectorLane()
    gusts: Gusts = Gusts()
    rules: tuple[Rule, ...] = ()
    pushes: tuple[Push, ...] = ()
    pairs_off: tuple[tuple[LinkEnd, LinkEnd], ...] = ()
    ground: Ground | None = Ground()
    warm_up: Annotated[int, Field(ge=0, le=10000)] = 0
    warm_up_plays: bool = False
    cycle: bool = False
    figures: tuple[Figure, ...] = ()
    links: tuple[Link, ...] = ()
    takes: tuple[TakeRef, ...] = ()
    take: str | None = None

    @model_validator(mode="after")
    def _consistent(self) -> "Scene":
        unique("the scene", (f.id for f in self.figures), "figure")
        unique("the scene", (t.id for t in self.takes), "take")
        unique("the scene", (x.id for x in self.links), "link")
        bodies = {(f.id, b.id) for f in self.figures for b in f.bodies}
        unique("the scene", (p.id for p in self.pushes), "push")
        for push in self.pushes:
            if (push.figure, push.body) not in bodies:
                raise ValueError(f"push {push.id!r} refers to the body {push.body!r}, which does not exist")
        for a, b in self.pairs_off:
            if not {(a.figure, a.body), (b.figure, b.body)} <= bodies:
                raise ValueError(
                    f"a pair that does not collide refers to a body that does not exist: {a.body!r}, {b.body!r}"
                )
        for link in self.links:
            for end in (link.a, link.b):
                if end is not None and (end.figure, end.body) not in bodies:
                    raise ValueError(f"link {link.name!r} refers to the body {end.body!r}, which does not exist")
        self._mounted()
        unique("the scene", (r.id for r in self.rules), "rule")
        for rule in self.rules:
            known(rule.figure, {f.id for f in self.figures}, f"rule {rule.name!r}", "figure")
        if self.take is not None:
            known(self.take, {t.id for t in self.takes}, "the scene", "take")
        return self

    def _mounted(self) -> None:
        """Raises ValueError for mounts on what is not there, and for a ring of them."""
        by_id = {f.id: f for f in self.figures}
        for f in self.figures:
            for m in f.mounts:
                known(m.figure, by_id, f"mount {m.id!r} of {f.name!r}", "figure")
                for bone in (m.bone, *([m.reach] if m.reach is not None else [])):
                    known(bone, by_id[m.figure].bone_index, f"mount {m.id!r} of {f.name!r}", "bone")
                if m.reach is not None and m.bone in by_id[m.figure].limb_of(m.reach):
                    raise ValueError(f"{m.reach!r} cannot reach for what rides on its own limb")
        for f in self.figures:
            if f.like is not None:
                known(
                    f.like,
                    {x.id for x in self.figures if x.like is None},
                    f"figure {f.name!r}",
                    "figure that it is like",
                )
            if f.steering is not None and f.steering.follows is not None:
                known(f.steering.follows, {x.id for x in self.figures}, f"how figure {f.name!r} goes", "figure")
        self.in_order  # noqa: B018 - raises for a ring

    @cached_property
    def in_order(self) -> tuple[Figure, ...]:
        """The figures, each after those that it rides on."""
        by_id, done, found = {f.id: f for f in self.figures}, set(), []

        def add(f: Figure, above: tuple[str, ...]) -> None:
            if f.id in above:
                raise ValueError(f"{f.name!r} would ride on itself: take one of the mounts away")
            if f.id not in done:
                for m in f.mounts:
                    add(by_id[m.figure], (*above, f.id))
                done.add(f.id)
                found.append(f)

        for f in self.figures:
            add(f, ())
        return tuple(found)

    def ruled(self, figure: Figure) -> bool:
        """Whether a rule may hand a figure over."""
        return any(r.figure in (figure.id, figure.like) for r in self.rules if not r.muted)

    def figure(self, id_: str) -> Figure:
        """The figure with this id; MissingError if there is none."""
        for f in self.figures:
            if f.id == id_:
                return f
        raise MissingError(f"the figure {id_!r} is not in the scene any more")

    @cached_property
    def cast(self) -> tuple[Figure, ...]:
        """The figures that physics may move."""
        return tuple(f for f in self.figures if not f.stays)

    @cached_property
    def obstacles(self) -> tuple[Figure, ...]:
        """The figures that stand in the way of others."""
        return tuple(f for f in self.figures if f.obstacle)

    @property
    def not_followed(self) -> tuple[tuple[Figure, Layer], ...]:
        """Baked layers that are seen and that physics does not follow: a run goes by the keys below them."""
        return tuple(
            (f, x)
            for f in self.figures
            for x in f.layers
            if x.kind == "baked" and not x.muted and x.weight > 0.0 and not x.leads
        )

    def words(self, ref: BodyRef | JointRef) -> str:
        """A readable name of a body, joint or link; with the figure's where there are several. For people only."""
        owner = next((f for f in self.figures if f.id == ref.figure), None)
        if owner is None:
            return next((x.name for x in self.links if x.id == ref[1]), ref[1])
        if owner.obstacle:
            return owner.name
        return f"{owner.name}: {ref[1]}" if len(self.cast) > 1 else ref[1]

    def body_of_joint(self, ref: JointRef) -> BodyRef | None:
        """The body that a joint holds, or that a link begins at; None where it is gone."""
        if ref.figure is None:
            link = next((x for x in self.links if x.id == ref.joint), None)
            return BodyRef(link.a.figure, link.a.body) if link is not None else None
        owner = next((f for f in self.figures if f.id == ref.figure), None)
        joint = next((j for j in owner.joints if j.id == ref.joint), None) if owner is not None else None
        mount = next((m for m in owner.mounts if m.id == ref.joint), None) if owner is not None else None
        body = owner.body_of.get(mount.part) if owner is not None and mount is not None else None
        found = joint.child if joint is not None else body.id if body is not None else None
        return BodyRef(ref.figure, found) if found is not None else None

    def active_take(self) -> TakeRef | None:
        """The take that is shown, or None."""
        return next((t for t in self.takes if t.id == self.take), None)

    def assets(self) -> set[str]:
        """Hashes of every asset the scene needs."""
        found = {t.asset for t in self.takes} | {t.scene for t in self.takes if t.scene is not None}
        found |= {x for t in self.takes for x in t.steered}
        for f in self.figures:
            found |= {c.asset for c in f.clips} | {layer.asset for layer in f.layers}
            found |= {x.baked for x in f.layers if x.baked is not None}
            found |= {x for x in (f.asset, f.plain) if x}
            found |= {x for s in f.softs for x in (s.region, s.root) if x}
            found |= f.solids
        return found

    def settings_fingerprint(self) -> str:
        """Hash of everything that changes the simulated motion, and of nothing else. What is at its default is left out, so that
        a new field makes no old take out of date.
        """
        return self._fingerprint

    @cached_property
    def _fingerprint(self) -> str:
        quiet: tuple[str, ...] = (
            "name", "source", "materials", "asset", "layers", "mirror", "prop", "made", "goals", "elsewhere", "plain", "softs", "influences", "steering", "like", "size",
        )  # fmt: skip
        quiet_figure: dict[str, Any] = {**dict.fromkeys(quiet, True), "bones": {"__all__": {"order", "flesh"}}}
        text = self.model_dump_json(
            exclude_defaults=True,
            exclude={
                "version": True,
                "name": True,
                "takes": True,
                "take": True,
                "figures": {"__all__": quiet_figure},
                "links": {"__all__": {"name"}},
                "rules": {"__all__": {"name"}},
            },
        )
        text += "".join(x.model_dump_json(exclude_defaults=True) for f in self.figures for x in f.layers if x.steers)
        text += "".join(
            x.model_dump_json() for f in self.figures if any(y.steers and y.kind == "baked" for y in f.layers) for x in f.goals
        )  # fmt: skip
        # strands lie on it
        text += "".join(f.asset for f in self.figures if f.skin and f.asset is not None)
        return hashlib.sha256(text.encode()).hexdigest()[:32]
