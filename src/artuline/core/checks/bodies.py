"""Bodies: shapes that are missing, overlap, lie beside their skin; masses; bones that are left out; sides that differ."""

from typing import Any

import numpy as np

from artuline.core.checks.finding import Finding, Fix, Work
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Body, Figure, Shape
from artuline.core.setup.coverage import LEAST_SHARE
from artuline.core.setup.hierarchy import tree_parents
from artuline.core.setup.materials import FEW, balance, body_mass, uneven, unlikely, usual_mass
from artuline.core.setup.mirror import mirror_bodies, sides_differ
from artuline.core.setup.overlaps import resting_overlaps
from artuline.core.setup.ragdoll import add_bodies, fit_again, remove_bodies, with_bodies
from artuline.core.setup.skin import Skin, cached_skin

BESIDE = 0.04  # share of the figure's size that a shape's middle may lie outside of its skin
MANY = 40  # bodies, above which small ones are counted
SMALL = 0.02  # share of the figure's size: bodies below are small
UNEVEN = 1.02


def check_bodies(f: Figure, assets: AssetStore) -> list[Finding]:
    """Everything about a figure's bodies."""
    surface = cached_skin(f, assets) if f.asset is not None else None
    found = [
        *_shapes(f, assets, surface),
        *_loose(f, assets),
        *_masses(f, assets),
        *_overlaps(f),
        *_scales(f),
    ]
    if surface is not None:
        found += _gaps(f, assets, surface)
        found += _many(f, assets, surface)
    return found + _sides(f)


def _on(f: Figure, change) -> Fix:  # type: ignore[no-untyped-def]
    return lambda s: edit.map_figure(s, f.id, change)


def _long(f: Figure, work: Work) -> dict[str, Any]:
    """What a finding needs whose mending takes long: the work as a job, and at once."""
    return {"work": work, "fix": _on(f, lambda g: work(g, lambda done, total: None, lambda: False))}


def _refit(assets: AssetStore, bone: str) -> Work:
    return lambda g, p, c: fit_again(g, assets, {bone}, keep_by_hand=False, progress=p, cancelled=c)


def _fit_new(assets: AssetStore, bone: str) -> Work:
    return lambda g, p, c: add_bodies(g, assets, {bone}, progress=p, cancelled=c)


def _shapes(f: Figure, assets: AssetStore, surface: Skin | None) -> list[Finding]:
    found = []
    p, q = rigid(rest_matrices(f))
    for b in f.bodies:
        again = _long(f, _refit(assets, b.bone))
        if not b.shapes:
            text = f"The body on {b.bone} has no shape: it collides with nothing."
            label = "Fit a shape" if surface is not None else ""
            found.append(Finding(2, text, f.id, b.bone, fix_label=label, **(again if label else {})))
            continue
        if surface is None:
            continue
        i = f.bone_index[b.bone]
        # a hull lies right if its corners do: around something hollow its middle is outside
        places = [_in_bone(s, np.array(s.points)) if s.kind == "hull" else np.array([s.position]) for s in b.shapes]
        placed = [p[i] + rotation.rotate(q[i], x) for x in places]
        far = [(float(np.median(surface.outside(x))), x) for x in placed]
        out = max(d for d, _ in far)
        # the nearest vertex says little where the skin is coarse: what seems far out is looked at exactly
        if any(d > BESIDE * surface.height and not surface.holds(x).all() for d, x in far):
            text = f"A shape of {b.bone} lies {100 * out:.0f} cm outside of its skin."
            found.append(Finding(2, text, f.id, b.bone, fix_label="Fit it again", **again))
    return found


def _in_bone(shape: Shape, points: Array) -> Array:
    """Points (N, 3) of a shape in the frame of its bone."""
    return np.array(shape.position) + rotation.rotate(np.array(shape.rotation), points)


def _loose(f: Figure, assets: AssetStore) -> list[Finding]:
    """Bodies that hang on nothing, as one finding: one action mends them all."""
    joined = {j.child for j in f.joints}
    holds = {j.parent for j in f.joints}
    roots = [b for b in f.bodies if b.id not in joined]
    if len(roots) < 2:
        return []
    # the topmost one is that which holds others, else the first
    top = next((b for b in roots if b.id in holds), roots[0])
    loose = [b for b in roots if b is not top]
    if len(loose) == 1:
        text = f"The body on {loose[0].bone} hangs on nothing: no joint joins it to the rest of {f.name}."
    else:
        text = f"{len(loose)} bodies of {f.name} hang on nothing, {loose[0].bone} first: they would fall apart."
    label = "Join it" if len(loose) == 1 else "Join them"
    joinable = f.asset is not None or bool(set(tree_parents(f, f.bodies)) & {b.id for b in loose})
    fix = _on(f, lambda g: with_bodies(g, assets, g.bodies)) if joinable else None
    return [Finding(2, text, f.id, loose[0].bone, fix_label=label if joinable else "", fix=fix)]


def _masses(f: Figure, assets: AssetStore) -> list[Finding]:
    by_id = {b.id: b for b in f.bodies}
    # a bail is light beside its pail: that is no mistake in a thing
    worst = uneven(f) if not f.prop else None
    total = sum(body_mass(b) for b in f.bodies)
    if worst is not None:
        ratio, j = worst
        above, below = by_id[j.parent], by_id[j.child]
        text = (
            f"{below.bone} ({body_mass(below):.2g} kg) and {above.bone} ({body_mass(above):.2g} kg) "
            f"differ {ratio:.0f} times in mass."
        )
        fix = _on(f, lambda g: g.changed(bodies=balance(g, total)[0]))
        return [Finding(1, text, f.id, below.bone, fix_label="Balance the masses", fix=fix)]
    usual, what = _usual(f, assets)
    if unlikely(total, usual) and len(f.bodies) > FEW:
        text = f"{f.name} weighs {total:.0f} kg; {what} weighs about {usual:.0f} kg."
        fix = _on(f, lambda g: g.changed(bodies=balance(g, usual)[0]))
        return [Finding(1, text, f.id, fix_label=f"Balance to {usual:.0f} kg", fix=fix)]
    return []


_usuals: dict[object, tuple[float, str]] = {}


def _usual(f: Figure, assets: AssetStore) -> tuple[float, str]:
    key = (f.asset, f.unit, f.bones)
    if key not in _usuals:
        _usuals[key] = usual_mass(f, assets)
    return _usuals[key]


def _overlaps(f: Figure) -> list[Finding]:
    bone = {b.id: b.bone for b in f.bodies}
    off = {frozenset(p) for p in f.pairs_off}
    found = []
    for a, b, depth in resting_overlaps(f):
        if frozenset((a, b)) not in off:
            text = f"{a} and {b} overlap by {1000 * depth:.0f} mm at rest and would push each other away."
            fix = _on(f, lambda g, a=a, b=b: g.changed(pairs_off=(*g.pairs_off, (a, b))))
            found.append(Finding(2, text, f.id, bone[b], fix_label="Let them pass through", fix=fix))
    return found


def _scales(f: Figure) -> list[Finding]:
    found = []
    for b in f.bones:
        s = np.array(b.scale)
        if (s < 0.0).any():
            text = f"The bone {b.name} is mirrored (its scale is {s[0]:g}, {s[1]:g}, {s[2]:g}); its limits may point the other way."
            found.append(Finding(1, text, f.id, b.name))
        elif s.max() > UNEVEN * s.min():
            text = f"The bone {b.name} is stretched ({s[0]:g}, {s[1]:g}, {s[2]:g}); its shape keeps its form when it turns, its skin does not."
            found.append(Finding(1, text, f.id, b.name))
    return found


def _gaps(f: Figure, assets: AssetStore, surface: Skin) -> list[Finding]:
    """Bones with much skin and no body between two that have one."""
    found: list[Finding] = []
    for body in f.bodies:
        between = []
        up = f.bones[f.bone_index[body.bone]].parent
        while up is not None and up not in f.body_of:
            between.append(up)
            up = f.bones[f.bone_index[up]].parent
        if up is None:
            continue
        for name in between:
            if surface.share[f.bone_index[name]] > 2.0 * LEAST_SHARE and not any(x.bone == name for x in found):
                text = f"{name} has no body, though it lies between {up} and {body.bone} and carries skin."
                give = _long(f, _fit_new(assets, name))
                found.append(Finding(1, text, f.id, name, fix_label="Give it a body", **give))
    return found


def _many(f: Figure, assets: AssetStore, surface: Skin) -> list[Finding]:
    if len(f.bodies) <= MANY:
        return []
    small = {b.id for b in f.bodies if b.shapes and _extent(b) < SMALL * surface.height}
    if len(small) < len(f.bodies) // 3:
        return []
    text = f"{f.name} has {len(f.bodies)} bodies, {len(small)} of them smaller than a fiftieth of it: hard to control and slow."
    return [
        Finding(
            1, text, f.id, fix_label=f"Leave {len(small)} out", fix=_on(f, lambda g: remove_bodies(g, assets, small))
        )
    ]


def _extent(b: Body) -> float:
    return max(max(s.radius, *s.half, *(np.ptp(s.points, axis=0) / 2 if s.points else (0.0,))) for s in b.shapes)


def _sides(f: Figure) -> list[Finding]:
    found = []
    for a, b in sides_differ(f)[:1]:
        bone = f.bodies[[x.id for x in f.bodies].index(a)].bone
        text = f"{a} and {b} are not the same on both sides."
        found.append(
            Finding(1, text, f.id, bone, fix_label=f"Copy from {a}", fix=_on(f, lambda g, a=a: mirror_bodies(g, {a})))
        )
    return found
