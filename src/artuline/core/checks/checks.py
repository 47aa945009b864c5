"""What will go wrong, said before it does: in plain words, at the thing itself, with the fix if there is one."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose
from artuline.core.motion.skeleton import placement, rest_matrices, rigid, skeleton_of
from artuline.core.physics.world import shape_mass
from artuline.core.run.build import group_of
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Body, Figure, Ground, Scene
from artuline.core.setup.joints import keyed_limit_excess
from artuline.core.setup.ragdoll import resting_overlaps, set_up_in_scene
from artuline.core.setup.units import likely_unit, unit_name

Fix = Callable[[Scene], Scene]
MOST_RATIO = 10.0


@dataclass(frozen=True)
class Finding:
    """A problem. ``weight``: 3 stops the work, 2 spoils the motion, 1 is worth a look.

    ``figure`` and ``bone`` say where; ``frame`` when. ``fix`` mends it, ``fix_label`` is its button.
    """

    weight: int
    text: str
    figure: str | None = None
    bone: str | None = None
    frame: int | None = None
    fix_label: str = ""
    fix: Fix | None = None


def check(scene: Scene, assets: AssetStore) -> list[Finding]:
    """All problems of a scene, the worst first."""
    found: list[Finding] = []
    if not scene.figures:
        found.append(Finding(3, "The scene has no figure. Open a skinned figure (.glb, .gltf) in Cast."))
    if scene.end <= scene.start:
        found.append(
            Finding(
                3,
                f"The range from frame {scene.start} to {scene.end} is empty.",
                fix_label="Use 100 frames",
                fix=lambda s: edit.scene(s, end=s.start + 100),
            )
        )
    for f in scene.figures:
        found += _figure(scene, f, assets)
    take = scene.active_take()
    if take is not None and take.settings != scene.settings_fingerprint():
        found.append(Finding(1, f"{take.name} was made with other settings than the scene has now. Run again."))
    return sorted(found, key=lambda x: -x.weight)


def _figure(scene: Scene, f: Figure, assets: AssetStore) -> list[Finding]:
    found = _size(f, assets)
    clip = f.active_clip()
    if clip is not None and abs(clip.rate - scene.rate) > 0.01:
        text = f"The clip {clip.name!r} has {clip.rate:g} frames per second, the scene {scene.rate:g}; it is resampled."
        rate = clip.rate
        found.append(
            Finding(1, text, f.id, fix_label=f"Use {rate:g} per second", fix=lambda s: edit.scene(s, rate=rate))
        )
    if not f.bodies:
        found.append(
            Finding(
                3, f"{f.name} has no bodies, so physics cannot move it.", f.id, fix_label="Fit bodies and joints",
                fix=lambda s: set_up_in_scene(s, f.id, assets),
            )
        )  # fmt: skip
        return found
    found += _lanes(scene, f)
    found += _bodies(f)
    found += _limits(scene, f, assets)
    return found


def _size(f: Figure, assets: AssetStore) -> list[Finding]:
    points = Mesh.from_arrays(assets[f.asset]).skin(rest_matrices(f)) if f.asset else rest_matrices(f)[:, :3, 3]
    size = float(np.ptp(points, axis=0).max())
    if 0.15 <= size <= 8.0:
        return []
    unit = likely_unit(size / f.unit)
    fix = None if unit == f.unit else (lambda s: edit.figure(s, f.id, unit=unit))
    return [
        Finding(
            2, f"{f.name} is {size:.4g} m tall, so it will seem to fall in slow motion or too fast.", f.id,
            fix_label=f"Read it as {unit_name(unit)}" if fix else "", fix=fix,
        )
    ]  # fmt: skip


def _lanes(scene: Scene, f: Figure) -> list[Finding]:
    live = [g for g in f.groups if not g.muted and any(k.value > 0 for k in g.handover.keys)]
    if not live:
        third = (scene.end - scene.start) // 3
        return [
            Finding(
                2, f"{f.name} is never handed over to physics: a run would only repeat its keys.", f.id,
                fix_label="Hand over the middle third",
                fix=lambda s: edit.hand_over(s, f.id, None, s.start + third, s.end - third),
            )
        ]  # fmt: skip
    found = []
    for g in live:
        frames = [k.frame for k in g.handover.keys if k.value > 0]
        if max(frames) < scene.start or min(frames) > scene.end:
            found.append(Finding(2, f"The handover of {g.name!r} lies outside of the scene's range.", f.id))
        elif scene.ground is None and g.start_bone is None:
            found.append(
                Finding(
                    2, f"{f.name} is handed over whole and there is no ground: it will fall without end.", f.id,
                    fix_label="Add a ground", fix=_add_ground,
                )
            )  # fmt: skip
    return found


def _add_ground(s: Scene) -> Scene:
    return edit.scene(s, ground=Ground())


def body_mass(body: Body) -> float:
    """Mass of a body, kg; 0 if it has neither a shape nor a mass."""
    if body.mass is not None:
        return body.mass
    return sum(shape_mass(s)[0] for s in body.shapes) * body.density


def _bodies(f: Figure) -> list[Finding]:
    found = []
    for b in f.bodies:
        if not b.shapes:
            found.append(Finding(2, f"The body on {b.bone} has no shape: it collides with nothing.", f.id, b.bone))
    by_id = {b.id: b for b in f.bodies}
    joined = {j.child for j in f.joints}
    roots = [b for b in f.bodies if b.id not in joined]
    for b in roots[1:]:
        found.append(
            Finding(
                2,
                f"The body on {b.bone} hangs on nothing: no joint joins it to the rest of {f.name}.",
                f.id,
                b.bone,
            )
        )
    for j in f.joints:
        above, below = body_mass(by_id[j.parent]), body_mass(by_id[j.child])
        if min(above, below) > 0 and max(above, below) / min(above, below) > MOST_RATIO:
            text = f"{by_id[j.child].bone} ({below:.2g} kg) and {by_id[j.parent].bone} ({above:.2g} kg) differ more than ten times in mass."
            found.append(Finding(1, text, f.id, by_id[j.child].bone))
        idle = j.limited and j.kind == "ball" and max(j.swing_y, j.swing_z, j.twist[1] - j.twist[0]) < 1e-3
        if idle:
            found.append(
                Finding(
                    2,
                    f"The joint at {by_id[j.child].bone} has limits of zero range.",
                    f.id,
                    by_id[j.child].bone,
                )
            )
    off = {frozenset(p) for p in f.pairs_off}
    for a_, b_, depth in resting_overlaps(f):
        if frozenset((a_, b_)) not in off:
            text = f"{a_} and {b_} overlap by {1000 * depth:.0f} mm at rest and would push each other away."
            found.append(
                Finding(
                    2,
                    text,
                    f.id,
                    by_id[b_].bone,
                    fix_label="Let them pass through",
                    fix=_pair_off(f.id, a_, b_),
                )
            )
    return found


def _pair_off(figure: str, a: str, b: str) -> Fix:
    return lambda s: edit.figure(s, figure, pairs_off=(*s.figure(figure).pairs_off, (a, b)))


def _limits(scene: Scene, f: Figure, assets: AssetStore) -> list[Finding]:
    frames = np.arange(scene.start, max(scene.end, scene.start) + 1, dtype=float)[:2000]
    pose = keyed_pose(scene, assets, f, frames, layers=False)
    q = rigid(skeleton_of(f).global_matrices(pose, placement(f)))[1]
    by_id = {b.id: b for b in f.bodies}
    found = []
    for j in f.joints:
        excess: Array = np.degrees(keyed_limit_excess(f, j, q))
        if excess.max(initial=0.0) > 1.0 and group_of(f, by_id[j.child].bone) is not None:
            at = int(frames[int(excess.argmax())])
            text = f"The keys take {by_id[j.child].bone} {excess.max():.0f}° beyond its limits at frame {at}."
            found.append(Finding(2, text, f.id, by_id[j.child].bone, at))
    return found


def check_take(scene: Scene, take: Take) -> list[Finding]:
    """The worst moments of a take: penetration, joints apart, limits passed."""
    found = []
    for values, names, unit, scale, least, words in (
        (take.penetration, take.names, "mm", 1000.0, 0.01, "is pressed {} into something"),
        (take.separation, take.joint_names, "mm", 1000.0, 0.002, "comes {} apart at its joint"),
        (
            take.excess,
            take.joint_names,
            "°",
            float(np.degrees(1.0)),
            float(np.radians(3.0)),
            "is {} beyond its limits",
        ),
    ):
        if not values.size:
            continue
        for k in np.flatnonzero(values.max(axis=0) > least):
            frame = int(take.frames[int(values[:, k].argmax())])
            amount = f"{scale * values[:, k].max():.0f} {unit}".replace(" °", "°")
            found.append(Finding(1, f"{names[k]} {words.format(amount)} at frame {frame}.", None, names[k], frame))
    return found
