"""A setup: bodies, joints, links and filters of a figure, apart from it, to be put onto another."""

import numpy as np
from pydantic import Field, ValidationError, model_validator

from artuline.core.errors import ArtulineError, why_not
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.model import Body, Figure, Joint, Link, Model, Quat, Scene, Shape, Vec3
from artuline.core.setup.names import propose_mapping

SETUP_VERSION = 2


class SetupBone(Model):
    """A bone of the figure that a setup was made on: rest pose in the world (m), and where its limb goes on."""

    name: str
    parent: str | None = None
    position: Vec3
    rotation: Quat
    toward: Vec3


class Setup(Model):
    """Everything that a ragdoll adds to a figure. ``height``: of the figure it was made on, m; ``ground``: its lowest point."""

    version: int = SETUP_VERSION
    name: str = "setup"
    height: float = Field(gt=0.0)
    ground: float = 0.0
    bones: tuple[SetupBone, ...]
    bodies: tuple[Body, ...]
    joints: tuple[Joint, ...] = ()
    pairs_off: tuple[tuple[str, str], ...] = ()
    self_collision: bool = True
    links: tuple[Link, ...] = ()

    @model_validator(mode="after")
    def _whole(self) -> "Setup":
        known, ids = {b.name for b in self.bones}, {b.id for b in self.bodies}
        for body in self.bodies:
            if body.bone not in known:
                raise ValueError(f"body {body.id!r} is on a bone {body.bone!r} that the setup does not have")
        for j in self.joints:
            if not {j.parent, j.child} <= ids:
                raise ValueError(f"joint {j.id!r} joins a body that the setup does not have")
        above = {j.child: j.parent for j in self.joints}
        for j in self.joints:
            seen, up = {j.child}, j.parent
            while up in above and up not in seen:
                seen.add(up)
                up = above[up]
            if up in seen:
                raise ValueError(f"joint {j.id!r} hangs on itself")
        return self


def _rest(figure: Figure) -> tuple[Array, Array, float, float]:
    """Rest positions and rotations, height and lowest point of the bones that matter."""
    p, q = rigid(rest_matrices(figure))
    mine = p[[i for i, b in enumerate(figure.bones) if b.deforms] or slice(None)]
    size = float(np.ptp(mine, axis=0).max())
    return p, q, max(size, 1e-6), float(mine[:, 1].min())


def _toward(figure: Figure, p: Array, q: Array, bone: str) -> Array:
    """Where a bone's limb goes on: the middle of its child bones, else along its parent's direction to it."""
    i = figure.bone_index[bone]
    below = [k for k, b in enumerate(figure.bones) if b.parent == bone and np.linalg.norm(p[k] - p[i]) > 1e-6]
    if below:
        return np.asarray(p[below].mean(axis=0) - p[i])
    up = figure.bones[i].parent
    return np.asarray(
        p[i] - p[figure.bone_index[up]] if up is not None else rotation.rotate(q[i], np.array([1.0, 0, 0]))
    )


def take_setup(scene: Scene, figure: Figure, name: str = "") -> Setup:
    """The setup of a figure. Raises ArtulineError if it has no bodies."""
    if not figure.bodies:
        raise ArtulineError(f"{figure.name!r} has no bodies", remedy="Fit bodies first.")
    # soft parts are made by their recipes, for the skin that they have
    soft = {c for s in figure.softs for c in s.clusters}
    mine = {b.id for b in figure.bodies if b.bone not in soft}
    figure = figure.changed(
        bodies=tuple(b for b in figure.bodies if b.id in mine), loops=(),
        joints=tuple(j for j in figure.joints if {j.parent, j.child} <= mine),
        pairs_off=tuple(x for x in figure.pairs_off if set(x) <= mine),
    )  # fmt: skip
    p, q, height, ground = _rest(figure)
    bones = []
    for body in figure.bodies:
        i = figure.bone_index[body.bone]
        bones.append(
            SetupBone(
                name=body.bone, parent=figure.bones[i].parent, position=tuple(p[i]), rotation=tuple(q[i]),
                toward=tuple(_toward(figure, p, q, body.bone)),
            )
        )  # fmt: skip
    links = [x for x in scene.links if x.a.figure == figure.id and (x.b is None or x.b.figure == figure.id)]
    return Setup(
        name=name or figure.name, height=height, ground=ground, bones=tuple(bones), bodies=figure.bodies,
        joints=figure.joints, pairs_off=figure.pairs_off, self_collision=figure.self_collision, links=tuple(links),
    )  # fmt: skip


def setup_mapping(setup: Setup, figure: Figure) -> dict[str, tuple[str, str]]:
    """A bone of the figure for each of the setup's that has one, and why; see ``propose_mapping``.

    The setup of a chain goes onto the figure's longest unbranched row of bones, evenly.
    """
    if _is_chain(setup):
        row = _longest_row(figure)
        count = min(len(row), len(setup.bones))
        if count > 1:
            steps = np.round(np.linspace(0, len(row) - 1, count)).astype(int)
            return {b.name: (row[k], "same place in the chain") for b, k in zip(setup.bones, steps)}
    p, _, height, ground = _rest(figure)
    names = [b.name for b in setup.bones]
    places = (np.array([b.position for b in setup.bones]) - [0.0, setup.ground, 0.0]) / setup.height
    others = [b.name for b in figure.bones if b.deforms] or [b.name for b in figure.bones]
    other_places = (p[[figure.bone_index[n] for n in others]] - [0.0, ground, 0.0]) / height
    for x in (places, other_places):
        x[:, [0, 2]] -= x[:, [0, 2]].mean(axis=0)
    return propose_mapping(names, places, others, other_places)


def _is_chain(setup: Setup) -> bool:
    parents = [j.parent for j in setup.joints]
    return len(setup.bodies) > 2 and len(parents) == len(setup.bodies) - 1 and len(set(parents)) == len(parents)


def _longest_row(figure: Figure) -> list[str]:
    """The longest row of bones, each the only child of the one before."""
    children: dict[str | None, list[str]] = {}
    for b in figure.bones:
        if b.deforms:
            children.setdefault(b.parent, []).append(b.name)
    best: list[str] = []
    for b in figure.bones:
        if b.deforms:
            row = [b.name]
            while len(children.get(row[-1], [])) == 1:
                row.append(children[row[-1]][0])
            best = row if len(row) > len(best) else best
    return best


def put_setup(setup: Setup, figure: Figure, mapping: dict[str, str]) -> Figure:
    """The figure with the setup's bodies and joints on the bones of ``mapping``, scaled to it.

    Shapes and joint frames are turned with their bones' directions and scaled by the bones' lengths. Joints whose parent is left out hang on the
    next body above. Raises ArtulineError if nothing is mapped, two bones go to one, or what is scaled cannot be.
    """
    try:
        return _put_setup(setup, figure, mapping)
    except ValidationError as error:
        remedy = "Look at the figure's unit, or choose another setup."
        raise ArtulineError(f"the setup does not fit {figure.name!r} ({why_not(error)})", remedy=remedy) from error


def _put_setup(setup: Setup, figure: Figure, mapping: dict[str, str]) -> Figure:
    used = [m for b, m in mapping.items() if m]
    if not used:
        raise ArtulineError(f"no bone of {figure.name!r} is mapped", remedy="Choose a bone for at least one body.")
    twice = {m for m in used if used.count(m) > 1}
    if twice:
        raise ArtulineError(
            f"the bone {sorted(twice)[0]!r} is mapped twice", remedy="Choose another bone for one of them."
        )
    p, q, height, _ = _rest(figure)
    bones = {b.name: b for b in setup.bones}
    by_id = {b.id: b for b in setup.bodies}
    align: dict[str, Array] = {}
    bodies: dict[str, Body] = {}
    for body in setup.bodies:
        target = mapping.get(body.bone)
        if not target:
            continue
        source, i = bones[body.bone], figure.bone_index[target]
        mine, theirs = np.array(source.toward), _toward(figure, p, q, target)
        long, other = float(np.linalg.norm(mine)), float(np.linalg.norm(theirs))
        whole = height / setup.height
        known = min(long, other) > 1e-6
        scale = float(np.clip(other / long, 0.5 * whole, 2.0 * whole)) if known else whole
        turn = rotation.align(mine / long, theirs / other) if known else rotation.IDENTITY
        # from the source bone's frame to the target's
        align[body.id] = rotation.multiply(rotation.conjugate(q[i]), rotation.multiply(turn, np.array(source.rotation)))
        shapes = tuple(_carried(s, align[body.id], scale) for s in body.shapes)
        mass = body.mass * scale**3 if body.mass is not None else None
        bodies[body.id] = body.changed(id=target, bone=target, shapes=shapes, mass=mass)
    joints = []
    above = {j.child: j.parent for j in setup.joints}
    for j in setup.joints:
        if j.child not in bodies:
            continue
        up = j.parent
        while up not in bodies and up in above:
            up = above[up]
        if up not in bodies:
            continue
        parent_frame = j.parent_frame
        if up != j.parent:
            # what it hung on is left out: the rest pose is the middle of its range
            a, b = np.array(bones[by_id[up].bone].rotation), np.array(bones[by_id[j.child].bone].rotation)
            parent_frame = tuple(rotation.multiply(rotation.conjugate(a), rotation.multiply(b, np.array(j.frame))))
        joints.append(
            j.changed(
                id=bodies[j.child].id, parent=bodies[up].id, child=bodies[j.child].id,
                frame=tuple(rotation.multiply(align[j.child], np.array(j.frame))),
                parent_frame=tuple(rotation.multiply(align[up], np.array(parent_frame))),
            )
        )  # fmt: skip
    pairs = tuple((bodies[a].id, bodies[b].id) for a, b in setup.pairs_off if a in bodies and b in bodies)
    ordered = sorted(bodies.values(), key=lambda x: figure.bone_index[x.bone])
    return figure.changed(
        bodies=tuple(ordered), joints=tuple(joints), pairs_off=pairs, self_collision=setup.self_collision
    )


def _carried(shape: Shape, turn: Array, scale: float) -> Shape:
    return shape.changed(
        position=tuple(scale * rotation.rotate(turn, np.array(shape.position))),
        rotation=tuple(rotation.multiply(turn, np.array(shape.rotation))),
        radius=scale * shape.radius,
        half_length=scale * shape.half_length,
        half=tuple(scale * h for h in shape.half),
        points=tuple(tuple(scale * c for c in v) for v in shape.points),
        margin=scale * shape.margin,
    )


def put_links(setup: Setup, figure: Figure, mapping: dict[str, str], taken: set[str]) -> tuple[Link, ...]:
    """The setup's links on the figure's bodies; those with an end left out are left out."""
    bone_of = {b.id: b.bone for b in setup.bodies}
    made = []
    for link in setup.links:
        ends = [e for e in (link.a, link.b) if e is not None]
        targets = [mapping.get(bone_of.get(e.body, "")) for e in ends]
        if not all(targets):
            continue
        name, n = link.id, 2
        while name in taken:
            name, n = f"{link.id} {n}", n + 1
        taken.add(name)
        new = [e.changed(figure=figure.id, body=t) for e, t in zip(ends, targets)]
        made.append(link.changed(id=name, a=new[0], b=new[1] if len(new) > 1 else None))
    return tuple(made)
