"""What will go wrong, said before it does: in plain words, at the thing itself, with the fix if there is one."""

from functools import partial

import numpy as np

from artuline.core.checks.bodies import check_bodies
from artuline.core.checks.cycle import check_cycle
from artuline.core.checks.finding import Finding, Fix
from artuline.core.checks.inside import check_inside
from artuline.core.checks.joints import check_joints
from artuline.core.checks.lanes import check_ruled, check_tone
from artuline.core.checks.mounts import check_mounts
from artuline.core.checks.reach import check_reach
from artuline.core.checks.strands import check_strand
from artuline.core.checks.weights import check_weights
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.run.build import group_of
from artuline.core.run.take_now import changed_bones
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Ground, Group, Scene
from artuline.core.setup.ragdoll import set_up, set_up_in_scene
from artuline.core.setup.units import likely_unit, unit_name


def check(scene: Scene, assets: AssetStore) -> list[Finding]:
    """All problems of a scene, the worst first."""
    found: list[Finding] = []
    if not scene.cast:
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
        # what is never let go may still ride, and jump where that ends
        found += check_mounts(scene, f, assets) if f.stays else _figure(scene, f, assets)
    found += _links(scene)
    found += check_reach(scene, assets)
    found += check_inside(scene, assets)
    found += check_cycle(scene, assets)
    take = scene.active_take()
    if take is not None and take.settings != scene.settings_fingerprint():
        text = f"{take.name} was made with other settings than the scene has now. Run again."
        others = changed_bones(scene, assets, take) if take.asset in assets else []
        if others:
            text = f"{', '.join(others)} had other bones when {take.name} was made: those that came since are at rest in it. Run again."
        found.append(Finding(1, text))
    return sorted(found, key=lambda x: -x.weight)


def _figure(scene: Scene, f: Figure, assets: AssetStore) -> list[Finding]:
    found = _size(f, assets) if f.made is None else []
    clip = f.active_clip()
    if clip is not None and abs(clip.rate - scene.rate) > 0.01:
        text = f"The clip {clip.name!r} has {clip.rate:g} frames per second, the scene {scene.rate:g}; it is resampled."
        rate = clip.rate
        found.append(
            Finding(1, text, f.id, fix_label=f"Use {rate:g} per second", fix=lambda s: edit.scene(s, rate=rate))
        )
    if not f.bodies:
        alone = not any(x.id != f.id and any(_acts(g) for g in x.groups if not g.muted) for x in scene.figures)
        text = "so physics cannot move it" if alone else "so what physics moves goes through it"
        found.append(
            Finding(
                3 if alone else 1, f"{f.name} has no bodies, {text}.", f.id, fix_label="Fit bodies and joints",
                fix=lambda s: set_up_in_scene(s, f.id, assets),
                work=lambda g, p, c: set_up(g, assets, progress=p, cancelled=c),
            )
        )  # fmt: skip
        return found
    found += _lanes(scene, f)
    found += check_ruled(f, assets)
    found += check_mounts(scene, f, assets)
    if f.made is not None:
        return found + check_strand(scene, f, assets)
    found += check_weights(f, assets)
    found += check_bodies(f, assets)
    found += check_joints(scene, f, assets)
    return found


def _size(f: Figure, assets: AssetStore) -> list[Finding]:
    if f.obstacle and f.asset is None:
        return []  # its shape was made in metres
    points = Mesh.from_arrays(assets[f.asset]).skin(rest_matrices(f)) if f.asset else rest_matrices(f)[:, :3, 3]
    size = float(np.ptp(points, axis=0).max())
    if (0.15 <= size <= 8.0) or (f.prop and size <= 8.0):
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
    live = [g for g in f.groups if not g.muted and _acts(g)]
    if not live:
        if any(scene.ruled(x) or any(_acts(g) for g in x.groups if not g.muted) for x in scene.figures):
            return []  # others are, or a rule hands over
        return [
            Finding(
                2, f"{f.name} is never handed over to physics: a run would only repeat its keys.", f.id,
                fix_label="Hand over the middle",
                fix=lambda s: edit.hand_over(s, f.id, None, *edit.usual_interval(s)),
            )
        ]  # fmt: skip
    found = []
    held = bool(f.mounts) or any(f.id in (x.a.figure, x.b.figure if x.b else "") for x in scene.links)
    for g in live:
        frames = [k.frame for k in g.handover.keys if k.value > 0]
        if frames and (max(frames) < scene.start or min(frames) > scene.end):
            found.append(Finding(2, f"The handover of {g.name!r} lies outside of the scene's range.", f.id))
        elif scene.ground is None and not held and g.begins_at(None) and not any(_is_floor(o) for o in scene.obstacles):
            found.append(
                Finding(
                    2, f"{f.name} is handed over whole and there is no ground: it will fall without end.", f.id,
                    fix_label="Add a ground", fix=_add_ground,
                )
            )  # fmt: skip
    return found + check_tone(scene, f) + _in_the_air(scene, f)


def _in_the_air(scene: Scene, f: Figure) -> list[Finding]:
    """Groups that hold a physical body in the world while they are on their keys."""
    found = []
    frames = np.arange(scene.start, scene.end + 1, dtype=float)
    bone_of = {b.id: b.bone for b in f.bodies}
    for g in (g for g in f.groups if g.in_world and not g.muted):
        kept = g.acting(scene.rate).value(frames) <= 0.0
        for j in f.joints:
            mine, other = (group_of(f, bone_of[x]) for x in (j.child, j.parent))
            if mine is not g or other is None or other is g:
                continue
            held = np.flatnonzero(kept & (other.acting(scene.rate).value(frames) > 0.0))
            if len(held):
                text = f"{bone_of[j.child]} holds {bone_of[j.parent]} in the air from frame {frames[held[0]]:g} on: it is on its keys in the world while that is physical."
                fix = partial(edit.group, figure_id=f.id, group_id=g.id, in_world=False)
                found.append(
                    Finding(
                        1,
                        text,
                        f.id,
                        bone_of[j.child],
                        fix_label="Let it be carried",
                        fix=fix,
                        frame=int(frames[held[0]]),
                    )
                )
                break
    return found


def _acts(g: Group) -> bool:
    """Whether a group ever hands over."""
    return any(k.value > 0 for k in g.handover.keys) or (not g.handover.keys and g.handover.rest > 0.0)


def _is_floor(o: Figure) -> bool:
    """Whether an obstacle is wide enough to stop what falls: a mesh, or a box of a metre each way."""
    return any(s.kind == "mesh" or sorted(s.half)[1] >= 0.5 for b in o.bodies for s in b.shapes)


def _add_ground(s: Scene) -> Scene:
    return edit.scene(s, ground=Ground())


def _links(scene: Scene) -> list[Finding]:
    found = []
    for link in scene.links:
        if link.kind != "tie" and link.b is None and link.start is None and link.stop is None:
            figure = next((f for f in scene.figures if f.id == link.a.figure), None)
            if figure is not None and figure.made is not None:
                continue  # where its recipe has it held
            bone = next((b.bone for b in figure.bodies if b.id == link.a.body), None) if figure else None
            found.append(
                Finding(
                    1, f"{link.name} holds {link.a.body} in the world for good, so it never falls.",
                    link.a.figure, bone, fix_label="Take it away",
                    fix=_without_link(link.id),
                )
            )  # fmt: skip
    return found


def _without_link(link: str) -> Fix:
    return lambda s: edit.scene(s, links=tuple(x for x in s.links if x.id != link))
